package policy

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

func list(id string, lines ...string) match.List {
	l := match.List{ID: id, Name: strings.ToUpper(id)}
	for _, line := range lines {
		l.Entries = append(l.Entries, pattern.MustParse(line))
	}
	return l
}

// told writes a decision on one line: the verdict, then every step with what it matched.
func told(d Decision) string {
	parts := []string{string(d.Verdict)}
	for i, s := range d.Steps {
		part := string(s.Outcome)
		if s.List != nil {
			part += fmt.Sprintf(" by %s %s", s.List.Name, s.Entry.Pattern)
		}
		if i == d.Decider {
			part += "*"
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, "; ")
}

func TestDecide(t *testing.T) {
	x := match.New([]match.List{
		list("betting", "oddsfield.example", "! help.oddsfield.example", "~host odds"),
		list("care", "dosage.example", "=help.oddsfield.example", "late.example [until 2026-11-23]"),
		list("unused", "dosage.example"),
	})
	p := Policy{Name: "Ward floor", Otherwise: Allow, Rules: []Rule{
		{Name: "Never", Lists: []string{"betting"}, Then: Block},
		{Name: "Care", Lists: []string{"missing", "care"}, Then: Allow},
		{Name: "Both", Lists: []string{"betting", "care"}, Then: Block},
	}}
	for url, want := range map[string]string{
		"oddsfield.example":      "block; decided by BETTING oddsfield.example*; not reached; not reached by BETTING oddsfield.example",
		"help.oddsfield.example": "allow; no match; decided by CARE =help.oddsfield.example*; not reached by CARE =help.oddsfield.example",
		"dosage.example":         "allow; no match; decided by CARE dosage.example*; not reached by CARE dosage.example",
		"late.example":           "allow; no match; decided by CARE late.example*; not reached by CARE late.example",
		"heron.example":          "allow; no match; no match; no match",
		"odds.test":              "block; decided by BETTING ~host odds*; not reached; not reached by BETTING ~host odds",
	} {
		d := Decide(x, p, weburl.MustParse(url), Class{}, pattern.Date{Year: 2026, Month: 11, Day: 23}, match.Full)
		assert.Equal(t, want, told(d), url)
	}
	d := Decide(x, p, weburl.MustParse("late.example"), Class{}, pattern.Date{Year: 2026, Month: 11, Day: 24}, match.Full)
	assert.Equal(t, "allow; no match; no match; no match", told(d), "the day after")
	assert.Equal(t, `No rule of the policy "Ward floor" matches; otherwise it says allow.`, d.Because(p))

	d = Decide(x, p, weburl.MustParse("oddsfield.example"), Class{}, pattern.Date{}, match.Full)
	assert.Equal(t, `The rule "Never" of the policy "Ward floor" says block, because the list "BETTING" has the entry oddsfield.example.`, d.Because(p))
	d = Decide(x, Policy{Name: "Empty", Otherwise: Block}, weburl.MustParse("dosage.example"), Class{}, pattern.Date{}, match.Full)
	assert.Equal(t, `The policy "Empty" has no rules; otherwise it says block.`, d.Because(Policy{Name: "Empty"}))
	assert.Len(t, d.Hits, 2, "lists that no rule names are told too")
}

// What cannot be told never decides.
func TestDecideAtLesserSights(t *testing.T) {
	x := match.New([]match.List{list("care", "dosage.example/tables"), list("drugs", "dosage.example", "! dosage.example/tables")})
	p := Policy{Name: "Ward floor", Otherwise: Allow, Rules: []Rule{
		{Name: "Care", Lists: []string{"care"}, Then: Allow}, {Name: "Drugs", Lists: []string{"care", "drugs"}, Then: Block},
	}}
	url := weburl.MustParse("dosage.example/tables")
	for sight, want := range map[match.Sight]string{
		match.Full:   "allow; decided by CARE dosage.example/tables*; not reached by CARE dosage.example/tables",
		match.Tunnel: "block; cannot tell by CARE dosage.example/tables; decided by DRUGS dosage.example*",
		match.Name:   "block; cannot tell by CARE dosage.example/tables; decided by DRUGS dosage.example*",
	} {
		assert.Equal(t, want, told(Decide(x, p, url, Class{}, pattern.Date{}, sight)), sight)
	}
}

// Rules ask for categories and families as they ask for lists: the first that matches decides, by whatever gave the category.
func TestDecideByCategory(t *testing.T) {
	taxonomy := classify.Taxonomy{
		Families:   []classify.Family{{Key: "play", Name: "Play"}},
		Categories: []classify.Category{{Key: "games", Family: "play", Name: "Games"}, {Key: "betting", Family: "play", Name: "Betting"}, {Key: "news", Name: "News"}},
	}
	sites := match.New([]match.List{list("games", "heron.example"), list("news", "heron.example/news", "gull.example")})
	x := match.New([]match.List{list("care", "heron.example/care"), list("ours", "gull.example/ours")})
	classifier := classify.New(classify.NewLocal(
		[]classify.Correction{{ID: 1, Pattern: pattern.MustParse("fixed.example").Pattern, Categories: []string{"betting"}}},
		[]classify.Own{{Key: "own", Lists: []string{"ours"}}},
		[]classify.Scorecard{{ID: "s", Name: "Odds", Category: "betting", Threshold: 5, Terms: []classify.Term{{Word: pattern.MustParse(`"odds"`).Pattern, Points: 5}}}},
	), []classify.Pack{{ID: "p", Name: "Harbour", Version: 7, Sites: sites}}, x)
	p := Policy{Name: "Ward floor", Otherwise: Allow, Rules: []Rule{
		{Name: "Care", Lists: []string{"care"}, Categories: []string{"own"}, Then: Allow}, {Name: "Play", Categories: []string{"play"}, Then: Block}, {Name: "News", Lists: []string{"care"}, Categories: []string{"news"}, Then: Block},
	}}
	decide := func(url string, sight match.Sight) Decision {
		u := weburl.MustParse(url)
		return Decide(x, p, u, Class{classifier.Explain(u, pattern.Date{}, sight), taxonomy}, pattern.Date{}, sight)
	}
	for url, want := range map[string]string{
		"heron.example/care":   `The rule "Care" of the policy "Ward floor" says allow, because the list "CARE" has the entry heron.example/care.`,
		"heron.example/play":   `The rule "Play" of the policy "Ward floor" says block, because it is Games: the pack "Harbour" has the entry heron.example.`,
		"heron.example/news/x": `The rule "News" of the policy "Ward floor" says block, because it is News: the pack "Harbour" has the entry heron.example/news.`,
		"fixed.example":        `The rule "Play" of the policy "Ward floor" says block, because it is Betting by our correction of fixed.example.`,
		"tern.example/odds":    `The rule "Play" of the policy "Ward floor" says block, because it is Betting by a scorecard.`,
		"gull.example/ours":    `The rule "Care" of the policy "Ward floor" says allow, because it is own: the list "OURS" has the entry gull.example/ours.`,
		"tern.example":         `No rule of the policy "Ward floor" matches; otherwise it says allow.`,
	} {
		assert.Equal(t, want, decide(url, match.Full).Because(p), url)
	}
	// At a lesser sight what covers for certain says what it is; a list of which it cannot be told does not stand in the way.
	d := decide("heron.example/news/x", match.Name)
	assert.Equal(t, "block", string(d.Verdict))
	assert.Equal(t, 1, d.Decider)
	assert.Equal(t, []Outcome{CannotTell, Decided, NotReached}, []Outcome{d.Steps[0].Outcome, d.Steps[1].Outcome, d.Steps[2].Outcome})
	assert.Equal(t, "Games", d.Steps[1].Category.Name)
}

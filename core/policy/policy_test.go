package policy

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

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
		d := Decide(x, p, weburl.MustParse(url), pattern.Date{Year: 2026, Month: 11, Day: 23}, match.Full)
		assert.Equal(t, want, told(d), url)
	}
	d := Decide(x, p, weburl.MustParse("late.example"), pattern.Date{Year: 2026, Month: 11, Day: 24}, match.Full)
	assert.Equal(t, "allow; no match; no match; no match", told(d), "the day after")
	assert.Equal(t, `No rule of the policy "Ward floor" matches; otherwise it says allow.`, d.Because(p))

	d = Decide(x, p, weburl.MustParse("oddsfield.example"), pattern.Date{}, match.Full)
	assert.Equal(t, `The rule "Never" of the policy "Ward floor" says block, because the list "BETTING" has the entry oddsfield.example.`, d.Because(p))
	d = Decide(x, Policy{Name: "Empty", Otherwise: Block}, weburl.MustParse("dosage.example"), pattern.Date{}, match.Full)
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
		assert.Equal(t, want, told(Decide(x, p, url, pattern.Date{}, sight)), sight)
	}
}

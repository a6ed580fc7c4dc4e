package classify

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/bench/rounds"
	"widelark/bench/traffic"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// pack builds a pack from lines like "heron.example wildlife news".
func pack(id string, version int64, lines ...string) Pack {
	b := match.NewBuilder(0)
	sets := map[string]int{}
	for i, line := range lines {
		entry, categories, _ := strings.Cut(line, " ")
		set := SetID(strings.Fields(categories))
		if _, ok := sets[set]; !ok {
			sets[set] = b.List(set, set)
		}
		b.Add(sets[set], int64(i), pattern.MustParse(entry))
	}
	return Pack{ID: id, Name: strings.ToUpper(id), Version: version, Sites: b.Build()}
}

func correction(id int64, entry string, categories ...string) Correction {
	return Correction{id, pattern.MustParse(entry).Pattern, categories}
}

func list(id string, lines ...string) match.List {
	l := match.List{ID: id, Name: strings.ToUpper(id)}
	for _, line := range lines {
		l.Entries = append(l.Entries, pattern.MustParse(line))
	}
	return l
}

func card(category string, threshold int, terms ...any) Scorecard {
	s := Scorecard{ID: category + "-card", Name: "Card for " + category, Category: category, Threshold: threshold}
	for i := 0; i < len(terms); i += 2 {
		s.Terms = append(s.Terms, Term{pattern.MustParse(`"` + terms[i].(string) + `"`).Pattern, terms[i+1].(int)})
	}
	return s
}

// setup holds the parts of a classifier.
type setup struct {
	Corrections []Correction
	Own         []Own
	Packs       []Pack
	Scorecards  []Scorecard
	Lists       *match.Index
}

func (s setup) classifier() *Classifier {
	return New(NewLocal(s.Corrections, s.Own, s.Scorecards), s.Packs, s.Lists)
}

func quillmere() setup {
	return setup{
		Corrections: []Correction{
			correction(1, "marrow-trust.test", "charity"), correction(2, "marrow-trust.test/shop", "shopping"), correction(3, `~ ^https://[a-z]+\.late\.example/`, "news"),
			correction(4, `~ late\.example/$`, "sport"),
		},
		Own: []Own{{"dosage", []string{"formulary"}, false}, {"watched", []string{"odd", "formulary"}, true}},
		Packs: []Pack{
			pack("main", 47, "marrow-trust.test adult", "heron.example wildlife", "heron.example/shop shopping", "=heron.example/shop/birds birds shopping",
				"dosage.example drugs", "*.co.test news", "=co.test hosting", "203.0.113.0/24 raw", "203.0.113.7 printers"),
			pack("second", 3, "heron.example games", "only-here.example games chat"),
		},
		Scorecards: []Scorecard{card("adult", 100, "breast", 60, "bare", 60, "cancer", -100), card("betting", 50, "odds", 50)},
		Lists: match.New([]match.List{
			list("formulary", "dosage.example", "! dosage.example/forum"), list("odd", "heron.example/odd"), list("plain", "heron.example"),
		}),
	}
}

// asText returns an answer as one line: the categories with their sources, then what was overruled, unclear and scored.
func asText(a Answer) string {
	categories := slices.Sorted(slices.Values(a.Categories))
	parts := []string{strings.Join(categories, "+") + " by " + string(a.By)}
	given := func(title string, all []Given) {
		for _, g := range all {
			parts = append(parts, fmt.Sprintf("%s %s %s %s%s", title, g.Source, g.Entry.Pattern, strings.Join(g.Categories, "+"), g.List.Name+g.PackName))
		}
	}
	given("given", a.Given)
	given("over", a.Overruled)
	given("unclear", a.Unclear)
	for _, s := range a.Scores {
		parts = append(parts, fmt.Sprintf("%s %d/%d %v", s.Category, s.Total, s.Threshold, s.Reached()))
	}
	return strings.Join(parts, "; ")
}

func TestExplain(t *testing.T) {
	c := quillmere().classifier()
	for _, row := range []struct {
		url   string
		sight weburl.Sight
		want  string
	}{
		{"www.marrow-trust.test/help", weburl.Full, "charity by correction; given correction marrow-trust.test charity; over catalogue marrow-trust.test adultMAIN"},
		{"marrow-trust.test/shop/mugs", weburl.Full, "shopping by correction; given correction marrow-trust.test/shop shopping; over correction marrow-trust.test charity; over catalogue marrow-trust.test adultMAIN"},
		{"marrow-trust.test/shop/mugs", weburl.Name, "charity by correction; given correction marrow-trust.test charity; over catalogue marrow-trust.test adultMAIN; unclear correction marrow-trust.test/shop shopping; unclear correction ~ late\\.example/$ sport; adult 0/100 false; betting 0/50 false"},
		{"www.late.example/", weburl.Full, "sport by correction; given correction ~ late\\.example/$ sport; over correction ~ ^https://[a-z]+\\.late\\.example/ news"},
		{"dosage.example/tables", weburl.Full, "dosage+watched by own category; given own category dosage.example dosageFORMULARY; given own category dosage.example watchedFORMULARY; over catalogue dosage.example drugsMAIN"},
		{"dosage.example/forum", weburl.Full, "drugs by catalogue; given catalogue dosage.example drugsMAIN"},
		{"heron.example", weburl.Full, "wildlife by catalogue; given catalogue heron.example wildlifeMAIN; over catalogue heron.example gamesSECOND"},
		{"heron.example/odd", weburl.Full, "watched+wildlife by catalogue; given catalogue heron.example wildlifeMAIN; given own category heron.example/odd watchedODD; over catalogue heron.example gamesSECOND"},
		{"heron.example/shop/birds", weburl.Full, "birds+shopping by catalogue; given catalogue =heron.example/shop/birds birds+shoppingMAIN; over catalogue heron.example/shop shoppingMAIN; over catalogue heron.example wildlifeMAIN; over catalogue heron.example gamesSECOND"},
		{"only-here.example", weburl.Full, "chat+games by catalogue; given catalogue only-here.example chat+gamesSECOND"},
		{"co.test", weburl.Full, "hosting by catalogue; given catalogue =co.test hostingMAIN"},
		{"a.co.test", weburl.Full, "news by catalogue; given catalogue *.co.test newsMAIN"},
		{"203.0.113.7", weburl.Full, "printers by catalogue; given catalogue 203.0.113.7 printersMAIN; over catalogue 203.0.113.0/24 rawMAIN"},
		{"shore.example/bare-odds", weburl.Full, "betting by scorecard; adult 60/100 false; betting 50/50 true"},
		{"shore.example/breast/bare", weburl.Full, "adult by scorecard; adult 120/100 true"},
		{"cancer.example/breast/bare", weburl.Full, "by ; adult 20/100 false"},
		{"cancer.example/breast/bare", weburl.Name, "by ; unclear correction ~ late\\.example/$ sport; adult -100/100 false; betting 0/50 false"},
		{"shore.example", weburl.Full, "by "},
	} {
		assert.Equal(t, row.want, strings.TrimPrefix(asText(c.Explain(weburl.MustParse(row.url), pattern.Date{}, row.sight)), " "), "%s at %s", row.url, row.sight)
	}
}

func TestText(t *testing.T) {
	s := card("adult", 100, "breast", 60, "bare*", 60, "breast cancer", -100, "größe", 5)
	for text, want := range map[string]int{
		"Screening for BREAST\ncancer saves lives": -40, "barely there": 60, "breasts and bears": 0, "Breast. Bare feet, breast": 120, "Die GRÖSSE": 0, "Größe": 5, "": 0,
	} {
		assert.Equal(t, want, s.Text(text).Total, text)
	}
}

// reference classifies in the words of the documentation, with a loop over everything and an index for each single entry.
type reference struct {
	setup
	packs map[string][]string // the lines of each
	lists []match.List
}

func covers(entry string, u weburl.URL, sight weburl.Sight) bool {
	for _, hit := range match.New([]match.List{{Entries: []pattern.Entry{pattern.MustParse(entry)}}}).Cover(u, pattern.Date{}, sight) {
		return hit.In() == match.Yes
	}
	return false
}

func (r reference) classify(u weburl.URL, sight weburl.Sight) []string {
	var said []string
	var by pattern.Pattern
	for _, c := range r.Corrections { // in the order of their ids
		if covers(c.Pattern.String(), u, sight) && (said == nil || pattern.MoreSpecific(c.Pattern, by) <= 0) {
			said, by = c.Categories, c.Pattern
		}
	}
	if said != nil {
		return sorted(said)
	}
	replaced := false
	for _, own := range r.Own {
		for _, l := range r.lists {
			hits := match.New([]match.List{l}).Cover(u, pattern.Date{}, sight)
			if slices.Contains(own.Lists, l.ID) && len(hits) > 0 && hits[0].In() == match.Yes {
				said, replaced = append(said, own.Key), replaced || !own.Adds
			}
		}
	}
	for i := 0; i < len(r.Packs) && !replaced; i++ {
		var categories []string
		for _, line := range r.packs[r.Packs[i].ID] {
			entry, rest, _ := strings.Cut(line, " ")
			p := pattern.MustParse(entry).Pattern
			if covers(entry, u, sight) && (categories == nil || pattern.MoreSpecific(p, by) < 0) {
				categories, by = strings.Fields(rest), p
			}
		}
		if categories != nil {
			said = append(said, categories...)
			break
		}
	}
	for _, card := range r.Scorecards {
		total := 0
		for _, term := range card.Terms {
			if covers(term.Word.String(), u, sight) {
				total += term.Points
			}
		}
		if total >= card.Threshold {
			said = append(said, card.Category)
		}
	}
	return sorted(said)
}

func sorted(keys []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(keys)))
}

func TestAgreesWithTheReference(t *testing.T) { rapid.Check(t, agrees) }

func FuzzClassify(f *testing.F) { f.Fuzz(rapid.MakeFuzz(agrees)) }

// agrees compares the classifier with the reference on random catalogues, corrections, lists and scorecards over few names, so that
// they meet.
func agrees(t *rapid.T) {
	hosts := []string{"a.example", "b.a.example", "c.b.a.example", "example", "b.example", "203.0.113.7"}
	paths := []string{"", "/x", "/x/y", "/z", "/odds", "/bare/x"}
	literal := rapid.Custom(func(t *rapid.T) string {
		host := rapid.SampledFrom(hosts).Draw(t, "host")
		if host[0] == '2' {
			return host + rapid.SampledFrom([]string{"", "/24", "/31"}).Draw(t, "bits")
		}
		return rapid.SampledFrom([]string{"", "=", "*."}).Draw(t, "scope") + host + rapid.SampledFrom(paths).Draw(t, "path")
	})
	entry := rapid.OneOf(literal, rapid.SampledFrom([]string{"~ odds", "*a*", `"bare"`, "b.*", "http://a.example", "a.example:8443", "a.example/*/y"}))
	keys := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"news", "games", "chat", "sport"}), 1, 2, rapid.ID)
	r := reference{packs: map[string][]string{}}
	for i := range rapid.IntRange(0, 3).Draw(t, "corrections") {
		r.Corrections = append(r.Corrections, correction(int64(i), entry.Draw(t, "entry"), keys.Draw(t, "keys")...))
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "packs") {
		id := fmt.Sprint("pack", i)
		for _, line := range rapid.SliceOfNDistinct(literal, 0, 5, func(line string) string { return pattern.MustParse(line).Key() }).Draw(t, "sites") {
			r.packs[id] = append(r.packs[id], line+" "+strings.Join(keys.Draw(t, "keys"), " "))
		}
		r.Packs = append(r.Packs, pack(id, 1, r.packs[id]...))
	}
	for i := range rapid.IntRange(0, 3).Draw(t, "lists") {
		lines := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string {
			return rapid.SampledFrom([]string{"", "", "! "}).Draw(t, "out") + entry.Draw(t, "entry")
		}), 1, 3).Draw(t, "lines")
		r.lists = append(r.lists, list(fmt.Sprint("list", i), lines...))
		if rapid.Bool().Draw(t, "used") {
			r.Own = append(r.Own, Own{fmt.Sprint("own", i), []string{fmt.Sprint("list", i), "list0"}, rapid.Bool().Draw(t, "adds")})
		}
	}
	r.Lists = match.New(r.lists)
	r.Scorecards = []Scorecard{card("adult", 10, "bare", 10, "x", -5, "odds", 5), card("betting", 3, "odds", 5, "a", -3)}
	c := r.classifier()
	var result Result
	for range 4 {
		u := weburl.MustParse(rapid.SampledFrom([]string{"https://", "http://"}).Draw(t, "scheme") + rapid.SampledFrom([]string{"", "www."}).Draw(t, "www") +
			rapid.SampledFrom(hosts[:5]).Draw(t, "host") + rapid.SampledFrom(paths).Draw(t, "path"))
		if rapid.Bool().Draw(t, "address") {
			u = weburl.MustParse(hosts[5])
		}
		sight := rapid.SampledFrom(weburl.Sights).Draw(t, "sight")
		want := r.classify(u, sight)
		c.Classify(&result, u, pattern.Date{}, sight)
		var got []string
		for _, n := range result.Categories {
			got = append(got, c.Key(n))
		}
		require.Equal(t, want, sorted(got), "%s at %s", u, sight)
		answer := c.Explain(u, pattern.Date{}, sight)
		require.Equal(t, want, sorted(answer.Categories))
		require.Equal(t, want == nil, answer.By == "")
		var given []string // what is told to count is what counts
		for _, g := range answer.Given {
			given = append(given, g.Categories...)
		}
		for _, s := range answer.Scores {
			if s.Reached() && answer.By != ByCorrection {
				given = append(given, s.Category)
			}
		}
		require.Equal(t, want, sorted(given))
	}
}

func TestClassifyAllocatesNothing(t *testing.T) {
	c := quillmere().classifier()
	var r Result
	for _, url := range []string{"www.marrow-trust.test/shop", "heron.example/shop/birds?x=1", "dosage.example/tables", "shore.example/bare/odds", "203.0.113.7"} {
		u := weburl.MustParse(url)
		assert.Zero(t, testing.AllocsPerRun(100, func() { c.Classify(&r, u, pattern.Date{}, weburl.Full) }), url)
	}
}

func TestTaxonomy(t *testing.T) {
	for key, want := range map[string]bool{"games": true, "web-2": true, "": false, "Games": false, "a--b": false, "-a": false, "unrated": false, strings.Repeat("a", 41): false} {
		assert.Equal(t, want, ValidKey(key), key)
	}
	one := Taxonomy{[]Family{{Key: "play", Name: "Play"}}, []Category{
		{Key: "games", Family: "play", Name: "Games", About: "To pass the time.", Keywords: []string{"puzzles"}}, {Key: "betting", Family: "play", Name: "Betting", About: "Games for money."},
	}}
	require.NoError(t, one.Check())
	two := Taxonomy{[]Family{{Key: "play", Name: "Leisure"}}, []Category{{Key: "games", Family: "play", Name: "Pastimes"}, {Key: "sport", Family: "play", Name: "Sport"}}}
	merged := Merge(one, two)
	assert.Len(t, merged.Families, 1)
	names := func(all []Category) (names []string) {
		for _, c := range all {
			names = append(names, c.Name)
		}
		return names
	}
	assert.Equal(t, []string{"Games", "Betting", "Sport"}, names(merged.Categories))
	assert.Equal(t, []string{"Games", "Betting"}, names(merged.Find("GAM")))
	assert.Equal(t, []string{"Games"}, names(merged.Find("puzz")))
	assert.Equal(t, []string{"Betting"}, names(merged.Find("money play")))
	assert.Empty(t, merged.Find("money puzzles"))
	for want, wrong := range map[string]Taxonomy{
		`families[0]: the key "P" is not made of a-z, 0-9 and single hyphens`: {Families: []Family{{Key: "P"}}},
		`categories[0]: "games" is in a family "play" that is not there`:      {Categories: two.Categories},
		`families[1]: the key "play" is there twice`:                          {Families: append(one.Families, two.Families...)},
	} {
		assert.EqualError(t, wrong.Check(), want)
	}
}

// A million sites in a pack, some of them pages, and lists with globs and expressions, compared with reading the URL and looking its
// host up in the pack.
func BenchmarkClassify(b *testing.B) {
	sites := match.NewBuilder(1_000_000)
	sets := make([]int, 80)
	for i := range sets {
		id := fmt.Sprint("category-", i)
		sets[i] = sites.List(id, id)
	}
	for i := range 1_000_000 {
		sites.AddNamed(sets[i%len(sets)], int64(i), traffic.Site(i), pattern.AndBelow, false)
	}
	catalogue := sites.Build()
	lists := match.New([]match.List{list("globs", traffic.Globs(10_000)...), list("regexes", traffic.Expressions(1_000)...)})
	c := setup{Packs: []Pack{{ID: "p", Sites: catalogue}}, Lists: lists, Own: []Own{{"mirrors", []string{"globs", "regexes"}, true}}}.classifier()
	texts := traffic.URLs(1<<16, 1_000_000)
	rounds.Measure(b, func(b *testing.B) {
		b.ReportAllocs()
		var r Result
		for i := 0; b.Loop(); i++ {
			u, _ := weburl.Parse(texts[i%len(texts)])
			c.Classify(&r, u, pattern.Date{}, weburl.Full)
		}
	}, func(b *testing.B) {
		var takes []match.Take
		for i := 0; b.Loop(); i++ {
			u, _ := weburl.Parse(texts[i%len(texts)])
			takes = catalogue.Takes(takes[:0], u, pattern.Date{}, weburl.Full, false)
		}
	})
}

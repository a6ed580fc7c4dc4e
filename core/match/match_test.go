package match

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

var today = pattern.Date{Year: 2026, Month: 11, Day: 23}

func entries(lines ...string) []pattern.Entry {
	all := make([]pattern.Entry, len(lines))
	for i, line := range lines {
		all[i] = pattern.MustParse(line)
	}
	return all
}

func TestCover(t *testing.T) {
	for _, row := range []struct {
		entry   string
		covered string // URLs, separated by blanks
		not     string
	}{
		{"heron.example", "heron.example http://www.heron.example:8080/x a.b.heron.example HERON.example.", "notheron.example heron.test example heron.example.test"},
		{"=heron.example", "heron.example https://heron.example/x", "www.heron.example"},
		{"*.heron.example", "www.heron.example a.b.heron.example", "heron.example xheron.example"},
		{"heron.*", "heron.example heron.co.uk www.heron.example heron.internal", "heron.com.heron2.example nheron.example heron co.uk heron.www.example"},
		{"=heron.*", "heron.example heron.co.uk", "www.heron.example"},
		{"*.heron.*", "www.heron.co.uk", "heron.co.uk heron.example"},
		{"www.heron.*", "www.heron.example a.www.heron.co.uk", "heron.example"},
		{"*.example", "heron.example a.b.example", "example heron.test"},
		{"heron.example/wards", "heron.example/wards www.heron.example/Wards/ heron.example/wards/map?x=1 heron.example//wards heron.example/x/../wards heron.example/%77ards", "heron.example heron.example/wardship heron.example/x/wards"},
		{"*.heron.example/wards", "www.heron.example/wards", "heron.example/wards"},
		{"heron.example/Ärzte", "heron.example/%C3%A4rzte/x heron.example/ÄRZTE", "heron.example/arzte"},
		{"müßig.example", "MÜßIG.example/x www.müßig.example", "müssig.example mußig.example"},
		{"~ heron\\.(example|test)/w", "heron.example/wards http://a.heron.test/W", "heron.example heron.example:8443/w"},
		{"~host ^heron", "heron.test heron2.example/x", "www.heron.example x.test/heron"},
		{"~path ^/wards\\?tab=[0-9]$", "heron.example/wards?tab=1", "heron.example/wards heron.example/x/wards?tab=1"},
		{"~host ^203\\.", "203.0.113.7 0xcb007107", "198.51.100.7"},
	} {
		x := New([]List{{ID: "l", Entries: entries(row.entry)}})
		for _, url := range strings.Fields(row.covered) {
			assert.Len(t, x.Cover(weburl.MustParse(url), today), 1, "%s covers %s", row.entry, url)
		}
		for _, url := range strings.Fields(row.not) {
			assert.Empty(t, x.Cover(weburl.MustParse(url), today), "%s does not cover %s", row.entry, url)
		}
	}
	var none Index
	assert.Empty(t, none.Cover(weburl.MustParse("heron.example"), today), "the zero index")
}

func TestHits(t *testing.T) {
	x := New([]List{
		{ID: "a", Entries: entries("~host heron", "heron.example", "www.heron.example/wards", "*.heron.example", "heron.example [off]", "www.heron.example [until 2026-11-22]")},
		{ID: "b", Entries: entries("heron.example", "! www.heron.example", "! =www.heron.example [off]")},
		{ID: "c", Entries: entries("bittern.example")},
	})
	hits := x.Cover(weburl.MustParse("www.heron.example/wards/map"), today)
	var told []string
	for _, hit := range hits {
		told = append(told, fmt.Sprint(hit.List.ID, hit.Covering, hit.CarveOuts, hit.In()))
	}
	assert.Equal(t, []string{"a[2 1 3 0] [] true", "b[0] [1] false"}, told, "the most specific first")
}

// covers decides one pattern by the words of the notation, without an index. It aims for readability: it is the
// reference that the index has to agree with.
func covers(p pattern.Pattern, u weburl.URL) bool {
	if p.Kind() == pattern.Regex {
		expr, target := p.Expr()
		text := map[pattern.Target]string{pattern.OnURL: u.String(), pattern.OnHost: u.Host(), pattern.OnPath: u.Target()}[target]
		return regexp.MustCompile("(?i)" + expr).MatchString(text)
	}
	if u.Addr().IsValid() {
		return false
	}
	name := p.Name()
	if p.EveryEnding() {
		_, suffix := weburl.SplitSuffix(u.Host())
		name += "." + suffix
	}
	isIt, isBelow := u.Host() == name, strings.HasSuffix(u.Host(), "."+name)
	inHost := map[pattern.Scope]bool{pattern.AndBelow: isIt || isBelow, pattern.Only: isIt, pattern.BelowOnly: isBelow}[p.Scope()]
	path, tree := strings.TrimSuffix(weburl.FoldPath(u.Path()), "/")+"/", p.FoldedPath()+"/"
	return inHost && strings.HasPrefix(path, tree)
}

// agree compares the index with the reference for every list.
func agree(t assert.TestingT, lists []List, u weburl.URL) {
	x := New(lists)
	found := map[string]Hit{}
	for _, hit := range x.Cover(u, today) {
		found[hit.List.ID] = hit
	}
	for _, list := range lists {
		var covering, carveOuts []int
		for i, e := range list.Entries {
			switch {
			case !e.InForce(today) || !covers(e.Pattern, u):
			case e.CarveOut:
				carveOuts = append(carveOuts, i)
			default:
				covering = append(covering, i)
			}
		}
		hit := found[list.ID]
		slices.Sort(hit.Covering)
		slices.Sort(hit.CarveOuts)
		assert.Equal(t, covering, hit.Covering, "%s in %v", u, list.Entries)
		assert.Equal(t, carveOuts, hit.CarveOuts, "%s in %v", u, list.Entries)
	}
}

// Names and paths are made of very few pieces, so that they collide.
func anyHost(t *rapid.T) string {
	return rapid.StringMatching(`([ab]\.){0,3}[ab]\.(a|example|co\.uk)`).Draw(t, "host")
}

func anyPath(t *rapid.T) string { return rapid.StringMatching(`(/[aAä]{1,2}){0,3}/?`).Draw(t, "path") }

func anyEntry(t *rapid.T) string {
	carveOut := rapid.SampledFrom([]string{"", "", "! "}).Draw(t, "carve-out")
	attribute := rapid.SampledFrom([]string{"", "", "", " [off]", " [until 2026-11-22]", " [until 2026-11-23]"}).Draw(t, "attribute")
	host, path := anyHost(t), anyPath(t)
	form := rapid.SampledFrom([]string{"%s%s", "%s%s", "*.%s%s", "=%[1]s", "%s.*%s", "=%[1]s.*", "*.%s.*%s", "~host %s$", "~path %[2]sa", "~ %s%s"}).Draw(t, "form")
	line := carveOut + fmt.Sprintf(form, host, path) + attribute
	if i := strings.Index(line, "%!"); i >= 0 { // the form did not need all pieces
		line = line[:i] + attribute
	}
	return line
}

func TestIndexAgreesWithReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lists := make([]List, rapid.IntRange(1, 4).Draw(t, "lists"))
		for i := range lists {
			lists[i] = List{ID: fmt.Sprint(i)}
			for range rapid.IntRange(0, 8).Draw(t, "entries") {
				lists[i].Entries = append(lists[i].Entries, pattern.MustParse(anyEntry(t)))
			}
		}
		for range 4 {
			agree(t, lists, weburl.MustParse(rapid.SampledFrom([]string{anyHost(t), "203.0.113.7"}).Draw(t, "at")+anyPath(t)))
		}
	})
}

func FuzzCover(f *testing.F) {
	f.Add("*.a.example\n! b.a.example/a", "c.b.a.example/a/b") // a carve-out at page level
	f.Add("a.*\n=a.*\n*.a.*", "b.a.co.uk")                     // a suffix of two labels
	f.Add("~ a\nä.example/ä", "Ä.example/%C3%84/x")            // Unicode on both sides
	f.Fuzz(func(t *testing.T, lines, url string) {
		u, err := weburl.Parse(url)
		if err != nil {
			return
		}
		var list List
		for line := range strings.SplitSeq(lines, "\n") {
			if entry, err := pattern.Parse(line); err == nil && entry.Pattern.IsValid() {
				list.Entries = append(list.Entries, entry)
			}
		}
		agree(t, []List{list}, u)
	})
}

// A lookup costs the labels of the host, not the entries: the same among a thousand and among a hundred thousand.
func BenchmarkCover(b *testing.B) {
	for _, size := range []int{1_000, 10_000, 100_000} {
		list := List{ID: "l", Entries: make([]pattern.Entry, size)}
		for i := range list.Entries {
			list.Entries[i] = pattern.MustParse(fmt.Sprintf("site-%d.example", i))
		}
		x := New([]List{list})
		urls := make([]weburl.URL, 4096)
		for i := range urls {
			urls[i] = weburl.MustParse(fmt.Sprintf("https://www.site-%d.example/a/b", i*7919%(2*size)))
		}
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				x.Cover(urls[i%len(urls)], today)
			}
		})
	}
}

func BenchmarkNew(b *testing.B) {
	list := List{ID: "l", Entries: make([]pattern.Entry, 100_000)}
	for i := range list.Entries {
		list.Entries[i] = pattern.MustParse(fmt.Sprintf("site-%d.example", i))
	}
	b.ReportAllocs()
	for b.Loop() {
		New([]List{list})
	}
}

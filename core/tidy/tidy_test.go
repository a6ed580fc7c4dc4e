package tidy

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

func parsed(text string) pattern.Pattern { return pattern.MustParse(text).Pattern }

func TestCovers(t *testing.T) {
	for _, row := range []struct{ a, covers, not string }{
		{"heron.example", "www.heron.example =heron.example *.heron.example heron.example/x =heron.example/x?q=1 http://heron.example heron.example:8443 a-*.heron.example", "notheron.example example heron.* *heron* ~heron"},
		{"=heron.example", "=heron.example/x", "heron.example www.heron.example *.heron.example"},
		{"*.heron.example", "www.heron.example =a.b.heron.example a-*.heron.example", "heron.example =heron.example"},
		{"heron.*", "=heron.example =heron.* www.heron.* =www.heron.co.uk", "heron.example =bittern.example"},
		{"*heron*", "heron.example =theron.test sheron-*.example *.heron*.x", "bittern.example *her*on.x"},
		{"*heron.example", "heron.example notheron.example www.heron.example", "heron.test"},
		{"=*heron.example", "=notheron.example", "notheron.example"},
		{"heron.example/wards", "heron.example/wards/map =www.heron.example/wards heron.example/wards/*/x heron.example/wards?q", "heron.example heron.example/wardship heron.example/*/wards"},
		{"=heron.example/wards", "=heron.example/wards?q", "heron.example/wards =heron.example/wards/map"},
		{"heron.example/*/map", "heron.example/a/map heron.example/a/map/1 =heron.example/a/map", "heron.example/map heron.example/**/map"},
		{"heron.example?q", "heron.example?q=a heron.example/x?r&q", "heron.example heron.example?r"},
		{"heron.example?q=*boat*", "heron.example?q=boats", "heron.example?q=*oat heron.example?q"},
		{"http://heron.example", "http://www.heron.example", "heron.example https://heron.example"},
		{"203.0.113.0/24", "203.0.113.7 203.0.113.128/25 203.0.113.7/wards", "203.0.114.1 0.0.0.0/0 heron.example"},
		{"*", `heron.example 203.0.113.7 "bet"`, ""},
		{"*/wards", "heron.example/wards 203.0.113.7/wards/x", "heron.example"},
		{`"bet*"`, `"betting" "bet" betting.example`, `"*bet" alphabet.example`},
		{`"*bet*"`, `"alphabet" "bet*"`, `"be*"`},
		{"~host ^heron", "=heron.example =heron2.test/x", "heron.example =bittern.example"},
	} {
		a := parsed(row.a)
		for _, b := range strings.Fields(row.covers) {
			assert.True(t, Covers(a, parsed(b)), "%s covers %s", row.a, b)
		}
		for _, b := range strings.Fields(strings.ReplaceAll(row.not, "~", "~host ")) {
			if b == "~host" {
				continue
			}
			assert.False(t, Covers(a, parsed(b)), "%s does not cover %s", row.a, b)
		}
		assert.True(t, Covers(a, a))
	}
}

func anyPattern(t *rapid.T, name string) pattern.Pattern {
	host := rapid.StringMatching(`([ab]\.){0,2}[ab]\.(a|co\.uk)`).Draw(t, name)
	path := rapid.StringMatching(`(/(\*|a|b|ab)){0,2}`).Draw(t, name+" path")
	return parsed(rapid.SampledFrom([]string{
		host + path, "=" + host + path, "*." + host + path, host + ".*" + path, "=" + host + ".*", "*" + host, "=*" + host + path, "*a*" + path,
		"http://" + host + path, host + ":81" + path, host + path + "?a", host + path + "?a=b", host + path + "?a=*b", "203.0.113.0/24", "203.0.113.7" + path,
		"*" + path, `"a"`, `"a*"`, `"*ab"`, "~host ^" + strings.ReplaceAll(host, ".", `\.`), "a-*." + host,
	}).Draw(t, name+" form"))
}

// What Covers says holds: whatever b covers, a covers. Each URL is made to be covered by b.
func TestCoversIsNeverTooMuch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := anyPattern(t, "a"), anyPattern(t, "b")
		if !Covers(a, b) {
			return
		}
		u, ok := Witness(b)
		if ok {
			assert.True(t, coversURL(a, u), "%s covers %s, so %s, too", a, b, u)
		}
		for range 10 {
			host := rapid.StringMatching(`([ab]\.){0,4}[ab]\.(a|co\.uk)`).Draw(t, "host")
			url := rapid.SampledFrom([]string{"https://", "http://"}).Draw(t, "scheme") + host + rapid.SampledFrom([]string{"", ":81"}).Draw(t, "port") +
				rapid.StringMatching(`(/(a|b|ab)){0,3}`).Draw(t, "path") + rapid.SampledFrom([]string{"", "?a", "?a=b", "?a=ab&b"}).Draw(t, "query")
			if u := weburl.MustParse(url); coversURL(b, u) {
				assert.True(t, coversURL(a, u), "%s covers %s, and that %s", a, b, url)
			}
		}
	})
}

func TestWitness(t *testing.T) {
	for _, entry := range []string{
		"heron.example", "*.heron.example", "*.*", "=heron.*", "shop-*.heron.example", "*möwe*", "heron.example/a%20b/*/**/c*d", "heron.example?q=*a+b*&r",
		"http://heron.example:8080/x", "203.0.113.0/24", "2001:db8::/32", "[2001:db8::7]:81/x", "*", "*:8443", `"bet*"`, `"fish boat"`, `"möwe"`,
		"~ heron", "~ ^https://heron\\.example/[0-9]+$", "~host ^(play|m)\\.heron\\.", "~path ^/wards\\?tab=[0-9]$", "~path \\.exe$", "~host ^[a-f]{4}\\.test$",
	} {
		u, ok := Witness(parsed(entry))
		assert.True(t, ok, "%s: %s", entry, u)
	}
	_, ok := Witness(parsed("~ ^ftp"))
	assert.False(t, ok, "nothing is covered")
}

func TestNearMisses(t *testing.T) {
	for entry, want := range map[string]string{
		"*bank.example":                "https://notbank.example/ -> bank.example",
		"*bank.example/x":              "", // the near miss is about the front page only where that is covered
		"*heron*":                      "https://unheronish.example/ -> ~host (^|[.-])heron([.-]|$); https://bystander.test.heron.example/ -> ",
		"*heron.example*":              "https://notheron.example.evil.test/ -> heron.example",
		"shop-*.heron.example":         `https://shop-x.bystander-y.heron.example/ -> ~host (^|\.)shop-[^.]*\.heron\.example$`,
		"heron.*":                      "https://heron.test/ -> ; https://x.heron.test/ -> =heron.*",
		`"bet"`:                        "",
		`"bet*"`:                       `https://witness.example/beter -> "bet"`,
		`"*bet*"`:                      `https://witness.example/beter -> "bet"; https://witness.example/unbet -> "bet"; https://witness.example/conbeting -> "bet"`,
		"~host ^heron.example$":        `https://heronxexample/ -> ~host ^heron\.example$`,
		`~host heron\.example$`:        `https://notheron.example/ -> ~host (^|\.)heron\.example$`,
		`~host (^|\.)heron\.example`:   `https://heron.example.evil.test/ -> ~host ((^|\.)heron\.example)$`,
		`~host (^|\.)heron\.example$`:  "",
		`~ heron\.example`:             `https://bystander.test/?from=heron.example -> ~host (^|\.)heron\.example$`,
		`~path ^/wards/[0-9]+$`:        "",
		`~host ^(play|m)\.reed\.test$`: "",
		`~host video.mirror\.test$`:    `https://videoxmirror.test/ -> ~host video\.mirror\.test$; https://notvideo.mirror.test/ -> ~host (^|\.)video\.mirror\.test$`,
		"heron.example":                "",
		"203.0.113.0/24":               "",
	} {
		var told []string
		for _, miss := range NearMisses(parsed(entry)) {
			told = append(told, miss.URL+" -> "+miss.Tighter)
			assert.NotEmpty(t, miss.Why)
		}
		assert.Equal(t, want, strings.Join(told, "; "), entry)
	}
}

func TestExamine(t *testing.T) {
	today := pattern.Date{Year: 2026, Month: 11, Day: 23}
	lists := []match.List{
		{ID: "betting", Name: "Betting", Entries: entries("heron.example", "www.heron.example", "heron.example/x", "! bittern.example", "=bittern.example", "ended.example [until 2026-11-22]",
			"crane.example [until 2026-12-01]", "www.crane.example", "http://egret.example", "http://egret.example:80", "off.example [off]", "=off.example", "# note", "~path ^/[0-9]+$")},
		{ID: "care", Name: "Care", Entries: entries("www.heron.example", "egret.example")},
	}
	x := &Examiner{Index: match.New(lists), Today: today, Opposed: func(list, other string) string {
		if list == "care" || other == "care" {
			return "the policy says block to one and allow to the other"
		}
		return ""
	}}
	var told []string
	for _, list := range lists {
		for i, e := range list.Entries {
			for _, f := range x.Examine(match.Ref{ID: list.ID, Name: list.Name}, match.Found{ID: int64(i), Entry: e}) {
				by := "-"
				if f.By != nil {
					by = f.By.Pattern.String()
					assert.True(t, coversURL(f.By.Pattern, weburl.MustParse(f.Shown)))
				}
				told = append(told, fmt.Sprintf("%s: %s %s by %s", list.ID, f.Entry.Pattern, f.Kind, by))
			}
		}
	}
	assert.Equal(t, []string{
		"betting: www.heron.example covered by heron.example", "betting: www.heron.example contradict by www.heron.example",
		"betting: heron.example/x covered by heron.example",
		"betting: =bittern.example undone by bittern.example", "betting: ended.example ended by -",
		"betting: http://egret.example contradict by egret.example",
		"betting: http://egret.example:80 covered by http://egret.example", "betting: http://egret.example:80 contradict by egret.example",
		"betting: ~path ^/[0-9]+$ costly by -",
		"care: www.heron.example contradict by www.heron.example",
	}, told)
}

func entries(lines ...string) []pattern.Entry {
	all := make([]pattern.Entry, len(lines))
	for i, line := range lines {
		all[i] = pattern.MustParse(line)
	}
	return all
}

// Taking out at once all that is absorbable leaves what a list covers as it was.
func TestAbsorbingChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list match.List
		for range rapid.IntRange(2, 8).Draw(t, "entries") {
			e := pattern.Entry{Pattern: anyPattern(t, "entry"), CarveOut: rapid.IntRange(0, 4).Draw(t, "carve-out") == 0}
			list.Entries = append(list.Entries, e)
		}
		before := match.New([]match.List{list})
		x := &Examiner{Index: before, Opposed: func(string, string) string { return "" }}
		var gone []int64
		for i, e := range list.Entries {
			for _, f := range x.Examine(match.Ref{}, match.Found{ID: int64(i), Entry: e}) {
				if f.Kind.Absorbable() {
					gone = append(gone, int64(i))
				}
			}
		}
		after := before.Without(gone...)
		for i := range list.Entries {
			u, ok := Witness(list.Entries[i].Pattern)
			require.True(t, ok || list.Entries[i].Pattern.Kind() == pattern.Regex)
			if ok {
				assert.Equal(t, before.Covered(u, pattern.Date{}), after.Covered(u, pattern.Date{}), "%s in %v without %v", u, list.Entries, gone)
			}
		}
	})
}

// Whatever is made up about a pattern holds.
func checkMisses(t assert.TestingT, p pattern.Pattern) {
	for _, miss := range NearMisses(p) {
		u := weburl.MustParse(miss.URL)
		assert.True(t, coversURL(p, u), "%s covers %s", p, miss.URL)
		if miss.Tighter != "" {
			assert.False(t, coversURL(parsed(miss.Tighter), u), "%s, tighter than %s, covers %s", miss.Tighter, p, miss.URL)
		}
	}
	if u, ok := Witness(p); ok {
		assert.True(t, coversURL(p, u), "%s covers %s", p, u)
	}
}

func TestNearMissesHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		checkMisses(t, anyPattern(t, "pattern"))
		expr := rapid.StringMatching(`\^?(\(\^\|\\\.\))?[ab]{1,3}(\.|\\\.|-)[ab]{1,3}(\\\.|\.)example\$?`).Draw(t, "expression")
		checkMisses(t, parsed(rapid.SampledFrom([]string{"~host ", "~ ", "~path "}).Draw(t, "on")+expr))
	})
}

func FuzzNearMisses(f *testing.F) {
	f.Add("*heron.example")           // no boundary before the name
	f.Add("~host heron.example")      // a bare dot, and no end
	f.Add(`~ (play|m)\.heron\.test/`) // a choice
	f.Add(`"*bet*"`)
	f.Add("shop-*.a*.heron.*/x?y=*")
	f.Fuzz(func(t *testing.T, line string) {
		e, err := pattern.Parse(line)
		if err != nil || !e.Pattern.IsValid() {
			return
		}
		checkMisses(t, e.Pattern)
		assert.True(t, Covers(e.Pattern, e.Pattern), line)
	})
}

package cover

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/test/patterntest"
)

func parsed(text string) pattern.Pattern { return pattern.MustParse(text).Pattern }

func TestOf(t *testing.T) {
	for _, row := range []struct{ a, covers, not string }{
		{"heron.example", "www.heron.example =heron.example *.heron.example heron.example/x =heron.example/x?q=1 http://heron.example heron.example:8443 a-*.heron.example", "notheron.example example heron.* *heron* ~heron"},
		{"=heron.example", "=heron.example/x", "heron.example www.heron.example *.heron.example"},
		{"*.heron.example", "www.heron.example =a.b.heron.example a-*.heron.example", "heron.example =heron.example"},
		{"heron.*", "=heron.example heron.example heron.co.uk/x =heron.* www.heron.* =www.heron.co.uk *.b-*.heron.test", "heron.x.test =bittern.example *heron.* *heron.example"},
		{"*heron*", "heron.example =theron.test sheron-*.example *.heron*.x", "bittern.example *her*on.x"},
		{"*heron.example", "heron.example notheron.example www.heron.example", "heron.test"},
		{"=*heron.example", "=notheron.example notheron.example heron.example", "heron.test"},
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
			assert.Equal(t, Yes, Of(a, parsed(b)).Answer, "%s covers %s", row.a, b)
		}
		for _, b := range strings.Fields(strings.ReplaceAll(row.not, "~", "~host ")) {
			if b == "~host" {
				continue
			}
			assert.NotEqual(t, Yes, Of(a, parsed(b)).Answer, "%s does not cover %s", row.a, b)
		}
		assert.Equal(t, Yes, Of(a, a).Answer)
	}
}

// urls are all URLs over a small alphabet, the reference for coverage: hosts of up to four labels, paths of up to two
// segments, with and without port and query.
var urls = func() (all []weburl.URL) {
	hosts := []string{"192.0.2.1", "192.0.2.129", "[2001:db8::1]"}
	labels := []string{"a", "b", "ab", "ba", "aab", "é", "xéa"}
	endings := []string{"a", "b", "co.uk", "é"}
	hosts = append(hosts, "a", "b", "uk", "co.uk", "b.uk", "a.blogspot.co.uk")
	for _, end := range endings {
		for _, x := range labels {
			hosts = append(hosts, x+"."+end)
			for _, y := range labels {
				hosts = append(hosts, y+"."+x+"."+end)
				if len(x)+len(y) == 2 {
					for _, z := range labels[:3] {
						hosts = append(hosts, z+"."+y+"."+x+"."+end)
					}
				}
			}
		}
	}
	paths := []string{"/"}
	segments := []string{"a", "b", "ab", "a-b", "é", "%C3%89"}
	for _, x := range segments {
		paths = append(paths, "/"+x, "/"+x+"/")
		for _, y := range segments {
			paths = append(paths, "/"+x+"/"+y)
		}
	}
	for i, host := range hosts {
		for j, path := range paths {
			for k, end := range []string{"", "?a", "?a=b", "?a=ab&b=a", "?a=%C3%A9"} {
				if k > 0 && (i+j)%3 != 0 {
					continue
				}
				all = append(all, weburl.MustParse("https://"+host+path+end))
			}
			if (i+j)%7 == 0 {
				all = append(all, weburl.MustParse("http://"+host+path), weburl.MustParse("https://"+host+":81"+path))
			}
		}
	}
	return all
}()

// Decided answers agree with trying every URL of the small alphabet, and only expressions are undecided.
func TestOfAgreesWithEnumeration(t *testing.T) {
	decided, pairs := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		a, b := patterntest.Any(t, "a"), patterntest.Any(t, "b")
		r := Of(a, b)
		pairs++
		if r.Answer != NotDecided {
			decided++
		}
		// Left open are expressions, globs in ASCII against globs beyond it, and words against paths that decoding may change.
		general := a.Kind() == pattern.Word && mayDecode.MatchString(b.FoldedPath()) || a.Kind() == pattern.Regex || b.Kind() == pattern.Regex || isRead(a) || isRead(b)
		ofA, ofB := match.New([]match.List{{Entries: []pattern.Entry{{Pattern: a}}}}), match.New([]match.List{{Entries: []pattern.Entry{{Pattern: b}}}})
		var shown weburl.URL
		for _, u := range urls {
			if ofB.Covered(u, pattern.Date{}) && !ofA.Covered(u, pattern.Date{}) {
				shown = u
				break
			}
		}
		switch r.Answer {
		case Yes:
			if shown.Host() != "" {
				t.Fatalf("%s is said to cover %s, and does not cover %s", a, b, shown)
			}
		case No:
			if !Covers(b, r.Shown) || Covers(a, r.Shown) {
				t.Fatalf("%s does not show that %s does not cover %s", r.Shown, a, b)
			}
		default:
			if !general {
				t.Fatalf("it is not decided whether %s covers %s; a URL that says no: %s", a, b, shown)
			}
		}
	})
	t.Logf("decided: %d of %d", decided, pairs)
}

func TestWitness(t *testing.T) {
	for _, entry := range []string{
		"heron.example", "*.heron.example", "*.*", "=heron.*", "shop-*.heron.example", "*möwe*", "heron.example/a%20b/*/**/c*d", "heron.example?q=*a+b*&r",
		"http://heron.example:8080/x", "203.0.113.0/24", "2001:db8::/32", "[2001:db8::7]:81/x", "*", "*:8443", `"bet*"`, `"fish boat"`, `"möwe"`,
		"~ heron", "~ ^https://heron\\.example/[0-9]+$", "~host ^(play|m)\\.heron\\.", "~path ^/wards\\?tab=[0-9]$", "~path \\.exe$", "~host ^[a-f]{4}\\.test$", "=heron.example/", "=*.heron.example/a",
	} {
		u, ok := Witness(parsed(entry))
		assert.True(t, ok, "%s: %s", entry, u)
	}
	_, ok := Witness(pattern.Pattern{})
	assert.False(t, ok, "nothing is covered")
}

// Answers worth reading one by one.
func TestRelations(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		a, b  string
		want  Answer
		shown string // of a no
	}{
		{"*.heron.example", "www.heron.example/map", Yes, ""},
		{"www.heron.example", "*.heron.example", No, "https://x.heron.example/"},
		{"heron.*", "heron.co.uk", Yes, ""},
		{"heron.*", "www.heron.test", Yes, ""},
		{"heron.*", "*heron.example", No, "https://xheron.example/"},
		{"heron.example", "heron.*", No, "https://heron.x/"},
		{"*heron*", "heron.*", Yes, ""},
		{"203.0.113.0/24", "203.0.113.64/26", Yes, ""},
		{"203.0.113.64/26", "203.0.113.0/24", No, "https://203.0.113.0/"},
		{"2001:db8::/32", "2001:db8:7::1", Yes, ""},
		{"heron.example", "203.0.113.7", No, "https://203.0.113.7/"},
		{"heron.example/wards", "heron.example/wards/*/map", Yes, ""},
		{"heron.example/*/map", "heron.example/**/map", No, "https://heron.example/map"},
		{"heron.example/**/map", "heron.example/*/map", Yes, ""},
		{"=heron.example/wards", "heron.example/wards", No, ""},
		{"heron.example?q=*boat*", "heron.example?q=boats&x=1", Yes, ""},
		{"heron.example?q=*boat*", "heron.example?q=*oat", No, ""},
		{"heron.example:81", "heron.example", No, ""},
		{"heron.example", "https://heron.example:8443", Yes, ""},
		{`"bet*"`, `"betting"`, Yes, ""},
		{`"bet"`, `"bet*"`, No, ""},
		{`"heron"`, "heron.example", Yes, ""},
		{`"heron"`, "*heron.example", No, "https://xheron.example/"},
		{`"map"`, "heron.example/*/map", Yes, ""},
		{`"boat"`, "heron.example?q=boat", Yes, ""},
		{"~host heron", "*heron*", Yes, ""},
		{"~host ^heron", "heron.example", No, "https://x.heron.example/"},
		{`~host (^|\.)heron\.example$`, "heron.example", Yes, ""},
		{"heron.example", `~host (^|\.)heron\.example$`, Yes, ""},
		{"heron.example", `~host heron\.example$`, No, "https://xheron.example/"},
		{"*/wards", "~path ^/wards/", Yes, ""},
		{"~path ^/wards", "heron.example/wards", Yes, ""},
		{"~ ^https?://[^/]*heron", "*heron*", Yes, ""},
		{"~host a+", "~host aa", Yes, ""},
		{"~host aa", "~host a+", No, "https://a/"},
		{`~host \bbet\b`, "bet.example", Yes, ""},
		{"~path x", "~host x", NotDecided, ""},
		{"*", "~ anything", Yes, ""},
		{"test", "*.*", No, ""},
		{"*.*", "*.example", Yes, ""},
		{"*.*", "*.uk", No, ""},
		{"*.*", "example", No, "https://example/"},
		{"*.*", "heron.*", Yes, ""},
		{"heron.*", "*.*", No, ""},
		{"amazonaws.*", "amazonaws.com", No, ""},
		{"heron.*", "heron.ck", No, ""},
		{"heron.example/b", "heron.example/é", No, "https://heron.example/%C3%A9"},
		{"heron.example/É", "heron.example/é/b", Yes, ""},
		{"gull.test", "*ö*", No, ""},
		{"*ö*", "möwe.example", Yes, ""},
		{"*ö*", "xn--mwe-tna.example", Yes, ""},
		{"*ö*", "*möwe*", Yes, ""},
		{"*w*", "*ö*", No, ""},
		{"*.example", "*ö*.example", Yes, ""},
		{"*mwe-*", "*möwe.example", NotDecided, ""},
		{"=heron.example/", "heron.example", No, ""},
		{"heron.example", "=heron.example/", Yes, ""},
		{"=heron.example/", "=heron.example/?q=1", Yes, ""},
		{"=*.heron.example/a", "=www.heron.example/a", Yes, ""},
		{"=*.heron.example/a", "*.heron.example/a", No, ""},
		{"*.heron.example/a", "=*.heron.example/a", Yes, ""},
		{"~path /%c3%a9(/|$|\\?)", "heron.example/é", No, "https://heron.example/%C3%89"},
		{"~path /%c3%(a9|89)(/|$|\\?)", "heron.example/é", Yes, ""},
		{"~path /%c3%a9", "heron.example/É", No, ""},
		{"~path /k", "heron.example/k", No, "https://heron.example/%E2%84%AA"},
		{"heron.example", `~host ^\[`, No, ""},
		{`"2fbet"`, "heron.example/*2fbet", NotDecided, ""},
		{`"a"`, "*a*/a/*b", Yes, ""},
		{`"tide"`, "heron.example/tide/*bc/*", Yes, ""},
		{`"b"`, "heron.example/*b", NotDecided, ""},
		{`"²a"`, "heron.example/²a", Yes, ""},
	} {
		r := Of(pattern.MustParse(c.a).Pattern, pattern.MustParse(c.b).Pattern)
		if c.want == NotDecided {
			assert.NotEqual(t, Yes, r.Answer, "%s and %s", c.a, c.b)
			continue
		}
		assert.Equal(t, c.want, r.Answer, "%s and %s", c.a, c.b)
		if c.shown != "" {
			assert.Equal(t, c.shown, r.Shown.String(), "%s and %s", c.a, c.b)
		}
	}
	assert.Equal(t, NotDecided, Of(pattern.Pattern{}, pattern.MustParse("heron.example").Pattern).Answer)
}

// For any two lines, no known URL refutes a Yes, and every No has its proof.
func FuzzOf(f *testing.F) {
	f.Add("*.heron.example", "www.heron.example/map") // a page of a host below
	f.Add("heron.*", "*heron.co.uk")                  // a suffix of two labels
	f.Add(`~host \bbet`, `"bet*"`)                    // an assertion, and a word
	f.Add("heron.example/**/a?q=*b*", "heron.example/a/a?q=b&q=c")
	f.Fuzz(func(t *testing.T, first, second string) {
		a, errA := pattern.Parse(first)
		b, errB := pattern.Parse(second)
		if errA != nil || errB != nil || !a.Pattern.IsValid() || !b.Pattern.IsValid() || len(first)+len(second) > 200 {
			return
		}
		r := Of(a.Pattern, b.Pattern)
		u, ok := Witness(b.Pattern)
		switch {
		case r.Answer == No:
			assert.True(t, Covers(b.Pattern, r.Shown) && !Covers(a.Pattern, r.Shown), "%s", r.Shown)
		case r.Answer == Yes && ok:
			assert.True(t, Covers(a.Pattern, u), "%s covers %s, and not %s", first, second, u)
		}
		assert.Equal(t, Yes, Of(a.Pattern, a.Pattern).Answer)
	})
}

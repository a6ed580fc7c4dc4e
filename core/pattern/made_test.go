package pattern_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Covering returns every pattern of its kinds that covers the URL.
func TestCoveringIsComplete(t *testing.T) {
	hosts := []string{"a.example", "b.a.example", "x.b.a.example", "xn--grn-hoa.example", "203.0.113.7", "2001:db8::7"}
	paths := []string{"", "/", "/x", "/X/y", "/x/y/z", "/%7Ex", "/a%20b/c", "/ü"}
	rapid.Check(t, func(t *rapid.T) {
		host, path := rapid.SampledFrom(hosts).Draw(t, "host"), rapid.SampledFrom(paths).Draw(t, "path")
		text := rapid.SampledFrom([]string{"", "=", "*."}).Draw(t, "scope") + host + path
		if strings.Contains(host, ":") || host[0] == '2' {
			text = host + rapid.SampledFrom([]string{"", "/8", "/24", "/31", "/32", "/64", "/128"}).Draw(t, "bits")
		}
		entry, err := pattern.Parse(text)
		if err != nil {
			return
		}
		asked := rapid.SampledFrom(hosts).Draw(t, "asked host")
		switch {
		case strings.Contains(asked, ":"):
			asked = "[" + asked + "]"
		case asked[0] != '2':
			asked = rapid.SampledFrom([]string{"", "www."}).Draw(t, "www") + asked
		}
		u := weburl.MustParse(asked + rapid.SampledFrom(append(paths, "/x/y/", "/x/y?q=1")).Draw(t, "asked path"))
		if match.New([]match.List{{Entries: []pattern.Entry{entry}}}).Covered(u, pattern.Date{}) {
			require.True(t, slices.IsSorted(pattern.Covering(u)))
			require.Contains(t, pattern.Covering(u), entry.Pattern.Key(), "%s covers %s", entry, u)
		}
	})
}

func TestMadeOfURLs(t *testing.T) {
	for url, want := range map[string]string{
		"https://www.heron.example/a/B/?q=1": "=www.heron.example www.heron.example *.www.heron.example =www.heron.example/a/B",
		"heron.example":                      "=heron.example heron.example *.heron.example =heron.example/",
		"https://203.0.113.7:8443/x":         "203.0.113.7 203.0.113.7 203.0.113.7 =203.0.113.7/x",
		"https://[2001:db8::7]/x":            "2001:db8::7 2001:db8::7 2001:db8::7 =[2001:db8::7]/x",
		"heron.example/a*":                   "=heron.example heron.example *.heron.example none",
	} {
		u := weburl.MustParse(url)
		var got []string
		for _, scope := range []pattern.Scope{pattern.Only, pattern.AndBelow, pattern.BelowOnly} {
			p, ok := pattern.OfHost(u, scope)
			require.True(t, ok, url)
			got = append(got, p.String())
		}
		page, ok := pattern.OfPage(u)
		if !ok {
			got = append(got, "none")
		} else {
			got = append(got, page.String())
		}
		assert.Equal(t, want, strings.Join(got, " "), url)
	}
}

// A pattern that CutScope splits equals the stored one.
func TestCutScope(t *testing.T) {
	for text, cut := range map[string]bool{
		"heron.example": true, "=heron.example": true, "*.heron.example": true,
		"=*.heron.example": true, "heron.*": false, "*bet*.example": false, "heron.example/x": false, "=heron.example/x": false, "203.0.113.7": false, `"bet"`: false, "~ bet": false, "*": false,
	} {
		p := pattern.MustParse(text).Pattern
		name, scope, ok := pattern.CutScope(p.Kind(), p.String())
		assert.Equal(t, cut, ok, text)
		if ok {
			assert.Equal(t, p, pattern.Named(name, scope), text)
		}
	}
}

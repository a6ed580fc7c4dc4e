package policy

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/core/weburl"
)

func TestSearched(t *testing.T) {
	config := ward()
	config.Engines = []Engine{{Name: "Deepwater", Entries: entries("deepwater.test"), Words: []string{"words", "für"}}, {Name: "Lark", Entries: entries("lark-search.example")}}
	s := New(config)
	for url, want := range map[string]string{
		"heron.example": "", "heron.example/?q=a+b": "a b", "heron.example/?x=1": "", "heron.example/?Q=1&search=%C3%BC": "1\nü", "heron.example/?q=": "", "heron.example/?q": "",
		"heron.example/?term=a&term=b": "a\nb", "heron.example/?qq=1": "", "heron.example/?%71=1": "1",
		"deepwater.test/s?words=a+b&q=c": "a b", "www.deepwater.test:8443/?Words=a": "a", "deepwater.test/?q=c": "", "deepwater.test/?f%C3%BCr=c": "c", "find.lark-search.example/?q=c": "c",
	} {
		assert.Equal(t, want, s.Searched(weburl.MustParse(url)), url)
	}
}

func TestSafeInWords(t *testing.T) {
	assert.Equal(t, "the parameter calm=1", Safe{ByParameter, "calm", "1"}.String())
	assert.Equal(t, "the header Filter: strict", Safe{ByHeader, "Filter", "strict"}.String())
	assert.Equal(t, "the host calm.heron.example", Safe{ByHost, "", "calm.heron.example"}.String())
	assert.Empty(t, Safe{}.String())
}

// Safe search is held where the table says how, and where the gate sees enough for that.
func TestSafeSearchHeld(t *testing.T) {
	config := ward()
	config.Engines = []Engine{
		{Name: "Lark", Entries: entries("lark.example"), Safe: Safe{ByParameter, "calm", "1"}},
		{Name: "Deepwater", Entries: entries("deepwater.test"), Safe: Safe{ByHeader, "Filter", "strict"}},
		{Name: "Skerry", Entries: entries("skerry.example"), Safe: Safe{ByHost, "", "calm.skerry.example"}},
		{Name: "Wild", Entries: entries("wild.example")},
	}
	s := New(config)
	for _, c := range []struct {
		gate Gate
		at   weburl.Sight
		held []string
	}{
		{Proxy, weburl.Full, []string{"lark.example", "deepwater.test", "skerry.example"}},
		{Proxy, weburl.Tunnel, []string{"skerry.example"}},
		{ICAP, weburl.Full, []string{"lark.example", "deepwater.test", "skerry.example"}},
		{ICAP, weburl.Tunnel, nil},
		{DNS, weburl.Name, []string{"skerry.example"}},
	} {
		var found []string
		for _, host := range []string{"lark.example", "deepwater.test", "skerry.example", "wild.example", "heron.example"} {
			held, not, safe := s.Held(Provisos{SafeSearch: true}, &Request{URL: weburl.MustParse(host), Gate: c.gate, Sight: c.at})
			assert.Equal(t, held.SafeSearch, !not.SafeSearch, host)
			assert.Equal(t, held.SafeSearch, safe != Safe{}, host)
			if held.SafeSearch {
				found = append(found, host)
			}
		}
		assert.Equal(t, c.held, found, "%s, %s", c.gate, c.at)
	}
	held, not, _ := s.Held(Provisos{}, &Request{URL: weburl.MustParse("lark.example"), Gate: Proxy, Sight: weburl.Full})
	assert.Equal(t, Provisos{}, held)
	assert.Equal(t, Provisos{}, not)
}

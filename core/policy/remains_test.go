package policy

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// What a policy with only chosen lists leaves open is said, as long as it is little; every URL of it really is open.
func TestRemains(t *testing.T) {
	config := ward()
	listed := func(entries ...string) func(c *Config) {
		return func(c *Config) {
			all := []match.List{{ID: "welcome", Name: "Welcome"}, {ID: "betting", Name: "Betting"}, {ID: "care", Name: "Care"}, {ID: "all", Name: "All"}}
			for _, text := range entries {
				all[0].Entries = append(all[0].Entries, pattern.MustParse(text))
			}
			c.Lists = match.New(all)
		}
	}
	many := func(n int) (entries []string) {
		for i := range n {
			entries = append(entries, fmt.Sprintf("site%02d.example", i))
		}
		return entries
	}
	at := time.Date(2026, 11, 24, 10, 0, 0, 0, zone)
	var standing []Stint
	request := Request{URL: weburl.MustParse("https://elsewhere.example/"), Group: "screens"}
	for name, c := range map[string]struct {
		change func(c *Config)
		want   []string
	}{
		"one site":           {listed("quillmere.internal"), []string{"https://quillmere.internal/"}},
		"pages and schemes":  {listed("quillmere.internal/menu", "http://radio.example", "=news.example"), []string{"https://news.example/", "https://quillmere.internal/menu", "http://radio.example/"}},
		"what names no site": {listed("quillmere.internal", "*.test", `"odds"`, "~host ^a", "10.0.0.0/8", "quillmere.internal/*/x", "heron.example?a=1", "heron.example:8443"), []string{"https://quillmere.internal/"}},
		"what is left out":   {listed("quillmere.internal", "! quillmere.internal/staff", "gone.example [until 2026-11-23]"), []string{"https://quillmere.internal/"}},
		"a dozen":            {listed(many(12)...), nil},
		"more":               {listed(many(13)...), nil},
		"very many":          {listed(many(match.MostFew + 1)...), nil},
		"none":               {listed(), nil},
		"blocked all the same": {func(c *Config) {
			listed("quillmere.internal", "snare.example")(c)
		}, []string{"https://quillmere.internal/"}},
		"a category, too": {func(c *Config) {
			listed("quillmere.internal")(c)
			c.Policies[2].Rules = append(c.Policies[2].Rules, Rule{If: Cond{Op: Is, Values: []string{"games"}}, Then: Allow})
		}, nil},
		"a stint": {func(c *Config) {
			listed("quillmere.internal", "dosage.example")(c)
			c.Policies[2].Otherwise = Allow
			standing = []Stint{{ID: "s", Group: "screens", Kind: OnlyThese, Lists: []string{"welcome"}, From: at.Add(-time.Hour), Until: at.Add(time.Hour)}}
		}, []string{"https://dosage.example/", "https://quillmere.internal/"}},
		"all is open": {func(c *Config) {
			listed("quillmere.internal")(c)
			c.Policies[2].Otherwise = Allow
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			config := config
			config.Policies = append([]Policy{}, config.Policies...)
			c.change(&config)
			var got []string
			var w Work
			s := New(config).With(Facts{Stints: standing})
			standing = nil
			for _, u := range s.Remains(&w, &request, at) {
				got = append(got, u.String())
			}
			if name == "a dozen" {
				assert.Len(t, got, 12)
				return
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// A policy can have blocked what its gate cannot hold, and the trace says what that is.
func TestUnheld(t *testing.T) {
	config := ward()
	config.Engines = []Engine{{Name: "Lark", Entries: entries("lark.example"), Safe: Safe{ByParameter, "calm", "1"}}}
	config.Policies = []Policy{{ID: "floor", Name: "Ward floor", Groups: []string{"nurses"}, Otherwise: Block, BlocksUnheld: true, Rules: []Rule{
		{Name: "Everything", Then: Allow, With: Provisos{SafeSearch: true, SizeCap: 20_000_000}, If: Cond{Op: None, Of: []Cond{{Op: InList, Values: []string{"welcome"}}}}},
		{Name: "Search", Then: Allow, With: Provisos{SafeSearch: true}},
	}}}
	config.Baseline = nil
	at := time.Date(2026, 11, 24, 10, 0, 0, 0, zone)
	var w Work
	for _, c := range []struct {
		url  string
		gate Gate
		at   weburl.Sight
		way  Way
		want Verdict
		says string
	}{
		{"heron.example", Proxy, weburl.Full, "", Allow, ""},
		{"heron.example", Proxy, weburl.Tunnel, "", Block, `The proxy gate cannot hold at most 20 MB in a connection that is not opened, and the policy "Ward floor" blocks what cannot be held: block.`},
		{"heron.example", DNS, weburl.Name, "", Allow, ""}, // the organisation's way goes on to the proxy gate
		{"heron.example", DNS, weburl.Name, ByDNS, Block, "The DNS gate cannot hold at most 20 MB by the name alone"},
		{"lark.example", DNS, weburl.Name, ByDNS, Block, "The DNS gate cannot hold safe search and at most 20 MB by the name alone"},
		{"lark.example", ICAP, weburl.Full, ByICAP, Allow, ""},
		{"quillmere.internal", DNS, weburl.Name, ByDNS, Allow, ""}, // no search engine
	} {
		e := New(config).Explain(&w, &Request{URL: weburl.MustParse(c.url), Person: "kay", Gate: c.gate, Sight: c.at, Way: c.way}, at)
		assert.Equal(t, c.want, e.Decision.Verdict, "%+v", c)
		assert.Contains(t, e.Because, c.says)
		if c.want == Block {
			assert.Equal(t, Decided, e.Steps[e.Decider].Outcome)
			assert.NotEqual(t, Provisos{}, e.Steps[e.Decider].Unheld)
			assert.Equal(t, Provisos{}, e.NotHeld, "nothing passes")
		}
	}
}

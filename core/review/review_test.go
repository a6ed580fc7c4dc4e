package review

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

var (
	zone = time.UTC
	now  = time.Date(2026, 11, 23, 10, 0, 0, 0, zone) // a Monday
)

func listOf(id string, lines ...string) (List, match.List) {
	m := match.List{ID: id, Name: id}
	var entries []match.Found
	for i, line := range lines {
		e := pattern.MustParse(line)
		entries, m.Entries = append(entries, match.Found{ID: int64(i + 1), Entry: e}), append(m.Entries, e)
	}
	return NewList(id, strings.ToUpper(id[:1])+id[1:], entries, pattern.DateOf(now), Tidied{}), m
}

func in(lists ...string) policy.Cond    { return policy.Cond{Op: policy.InList, Values: lists} }
func is(keys ...string) policy.Cond     { return policy.Cond{Op: policy.Is, Values: keys} }
func all(of ...policy.Cond) policy.Cond { return policy.Cond{Op: policy.All, Of: of} }
func anyOf(of ...policy.Cond) policy.Cond {
	return policy.Cond{Op: policy.Any, Of: of}
}
func none(of ...policy.Cond) policy.Cond { return policy.Cond{Op: policy.None, Of: of} }

func rule(name string, then policy.Verdict, cond policy.Cond) policy.Rule {
	return policy.Rule{Name: name, Then: then, If: cond}
}

var taxonomy = classify.Taxonomy{
	Families:   []classify.Family{{Key: "leisure", Name: "Leisure"}},
	Categories: []classify.Category{{Key: "games", Name: "Games", Family: "leisure"}, {Key: "video", Name: "Video", Family: "leisure"}, {Key: "news", Name: "News"}},
}

// town is a small configuration without findings.
func town() (policy.Config, []List) {
	wide, wideList := listOf("wide", "heron.example", "*tern*", "avocet.*")
	narrow, narrowList := listOf("narrow", "www.heron.example/map", "=bittern.example", "avocet.test")
	other, otherList := listOf("other", "knot.example")
	sites := match.NewBuilder(3)
	for i, key := range []string{"games", "video", "news"} {
		sites.AddNamed(sites.List(key, key), int64(i), key+"-site.example", pattern.AndBelow, false)
	}
	parse := func(text string) schedule.Schedule {
		s, err := schedule.Parse(text)
		if err != nil {
			panic(err)
		}
		return s
	}
	return policy.Config{
		Zone: zone, Taxonomy: taxonomy, Lists: match.New([]match.List{wideList, narrowList, otherList}), Combining: policy.Position, Way: policy.ByBoth,
		Packs:     []classify.Pack{{ID: "p", Name: "Pack", Sites: sites.Build()}},
		Schedules: []policy.Schedule{{ID: "office", Name: "Office hours", Schedule: parse("mon-fri 09:00-17:00"), Zone: zone}},
		Directory: directory.New([]directory.Person{{ID: "kay", Name: "Kay Moran"}, {ID: "ola", Name: "Ola Fenn"}},
			[]directory.Group{{ID: "nurses", Name: "Nurses", Persons: []string{"kay", "ola"}}, {ID: "night", Name: "Night", Persons: []string{"kay"}}}, nil),
		Policies: []policy.Policy{
			{ID: "ward", Name: "Ward", Groups: []string{"nurses"}, Otherwise: policy.Allow, Inspect: policy.Inspection{All: true}, Rules: []policy.Rule{rule("narrow", policy.Allow, in("narrow")), rule("wide", policy.Block, in("wide"))}},
			{ID: "late", Name: "Late", Groups: []string{"night"}, Otherwise: policy.Allow, Rules: []policy.Rule{{Name: "other", Then: policy.Block, If: in("other"), When: policy.When{Schedule: "office"}}}},
		},
	}, []List{wide, narrow, other}
}

func reviewed(config policy.Config, lists []List, change func(*Draft)) []Finding {
	d := Draft{Snapshot: policy.New(config), Lists: lists, Now: now, Named: map[string]bool{}, Seen: []weburl.URL{
		weburl.MustParse("https://games-site.example/"), weburl.MustParse("https://video-site.example/"), weburl.MustParse("https://news-site.example/"),
	}}
	if change != nil {
		change(&d)
	}
	return Of(d)
}

func TestFindings(t *testing.T) {
	t.Parallel()
	config, lists := town()
	found := reviewed(config, lists, nil)
	require.Empty(t, found)
	for _, c := range []struct {
		name   string
		change func(c *policy.Config, d *Draft)
		kind   Kind
		text   string
		shown  bool
		fix    string
	}{
		{"a wider rule above", func(c *policy.Config, _ *Draft) { slices.Reverse(c.Policies[0].Rules) }, NeverReached, `The rule "narrow" is never reached: "wide" above it takes all that it is for.`, true, `Move it above "wide".`},
		{"a family above its category", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = []policy.Rule{rule("leisure", policy.Block, is("leisure")), rule("games", policy.Watch, is("games"))}
		}, NeverReached, `The rule "games" is never reached: "leisure" above it`, true, `Move it above "leisure".`},
		{"two that take it together", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = []policy.Rule{rule("a", policy.Block, is("games")), rule("b", policy.Block, is("news")), rule("c", policy.Allow, is("news", "games"))}
		}, NeverReached, `The rule "c" is never reached: "b" and "a" above it take all`, true, ""},
		{"the same again", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = append(c.Policies[0].Rules, rule("wide again", policy.Block, all(in("wide"), is("news"))))
		}, NeverReached, `"wide again" is never reached`, true, "Switch it off: it says what those above it say already."},
		{"nothing but an else", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = []policy.Rule{rule("all", policy.Block, policy.Cond{}), rule("games", policy.Watch, none(is("news")))}
		}, NeverReached, `"games" is never reached`, false, ""},
		{"for gates that are off", func(c *policy.Config, _ *Draft) { c.Policies[0].Rules[0].At = []policy.Gate{policy.ICAP} }, NoEffect, `The rule "narrow" is for gates that no client meets.`, false, `Switch the rule "narrow" off.`},
		{"for a gate that sees too little", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = append(c.Policies[0].Rules, policy.Rule{Name: "no uploads", Then: policy.Block, At: []policy.Gate{policy.DNS}, If: all(in("other"), policy.Cond{Op: policy.Method, Values: []string{"POST"}})})
		}, NoEffect, `The rule "no uploads" asks for the method`, false, ""},
		{"an app that nothing names", func(c *policy.Config, _ *Draft) { c.Apps = []policy.AppDef{{Key: "sharebay", Name: "Sharebay"}} }, Unused, `No rule names the app "Sharebay".`, false, ""},
		{"a network that nothing names", func(c *policy.Config, _ *Draft) {
			c.Directory = directory.New(c.Directory.People, c.Directory.Groups, []directory.Network{{ID: "n", Name: "Library"}})
		}, Unused, `No group and no exception names the network "Library".`, false, ""},
		{"a group that holds two that are gone", func(_ *policy.Config, d *Draft) {
			at := object("group", "nurses", "Nurses")
			d.Gone = []Gone{{at, "holds", false}, {at, "is led by", true}, {at, "holds", false}}
		}, LeadsNowhere, `The group "Nurses" holds 2 groups that are gone.`, false, ""},
		{"a group without its lead", func(_ *policy.Config, d *Draft) {
			d.Gone = []Gone{{object("group", "nurses", "Nurses"), "is led by", true}}
		}, LeadsNowhere, `The group "Nurses" is led by a person who is gone.`, false, ""},
		{"against the baseline", func(c *policy.Config, _ *Draft) {
			c.Baseline = &policy.Policy{ID: "base", Name: "Baseline", Otherwise: policy.Allow, Rules: []policy.Rule{rule("never", policy.Block, in("narrow"))}}
		}, BaselineStands, "cannot loosen it", false, `Switch the rule "narrow" off.`},
		{"both ways", func(c *policy.Config, _ *Draft) {
			c.Policies[0].Rules = append([]policy.Rule{rule("but wide", policy.Allow, all(in("wide"), policy.Cond{Op: policy.Method, Values: []string{"GET"}}))}, c.Policies[0].Rules...)
		}, Opposed, `The policy "Ward" names the list "Wide" in "but wide" (allow) and in "wide" (block).`, false, ""},
		{"two policies", func(c *policy.Config, _ *Draft) {
			c.Combining = policy.Strictest
			c.Policies[0].Rules = append(c.Policies[0].Rules, rule("let", policy.Allow, in("other")))
		}, Between, `Kay Moran has the policies "Ward" and "Late", which disagree: "Ward" says block where "Late" says allow. Block counts.`, true, ""},
		{"without groups", func(c *policy.Config, _ *Draft) { c.Policies[1].Groups = nil }, NobodysPolicy, `No group has the policy "Late".`, false, "Delete it, or give it to a group."},
		{"without a policy", func(c *policy.Config, _ *Draft) { c.Policies[1].Groups = []string{"nurses"} }, NoPolicy, `No policy is for the group "Night".`, false, ""},
		{"named by nothing", func(c *policy.Config, _ *Draft) { c.Policies[1].Rules = nil }, Unused, `Nothing names the list "Other".`, false, "Delete it, or name it in a rule."},
		{"never", func(c *policy.Config, _ *Draft) { c.Schedules[0].Schedule = schedule.Schedule{} }, Never, `"Office hours" has no hours`, false, ""},
		{"over and done", func(c *policy.Config, _ *Draft) {
			c.Schedules[0].Schedule, _ = schedule.Parse("on 2026-01-01 09:00-10:00")
		}, Never, "does not come into force any more", false, ""},
		{"always", func(c *policy.Config, _ *Draft) { c.Schedules[0].Schedule, _ = schedule.Parse("mon-sun 00:00-24:00") }, Always, `"Office hours" is always in force.`, false, ""},
		{"inside out", func(c *policy.Config, _ *Draft) { c.Schedules[0].Schedule, _ = schedule.Parse("mon-fri 17:00-09:00") }, InsideOut, "mostly by night (240 h by night, 80 h by day in four weeks)", false, ""},
		{"a page that nobody sees", func(c *policy.Config, _ *Draft) {
			c.Exceptions = []policy.Exception{{ID: "e", Name: "map", Entries: []pattern.Entry{pattern.MustParse("heron.example/map")}, Then: policy.Allow, For: policy.Whom{Groups: []string{"night"}}}}
		}, NotSeen, `the policy "Late" opens no TLS connections`, true, ""},
		{"pages of a list", func(c *policy.Config, _ *Draft) { c.Policies[0].Inspect.All = false }, NotSeen, `The entry www.heron.example/map of "Narrow" is for a page, and the policy "Ward"`, true, ""},
		{"over", func(c *policy.Config, _ *Draft) {
			c.Exceptions = []policy.Exception{{ID: "e", Name: "derby", Then: policy.Allow, Until: now}}
		}, Over, `The exception "derby" ended on 23 November 2026.`, false, "Delete it."},
		{"soon", func(c *policy.Config, _ *Draft) {
			c.Exceptions = []policy.Exception{{ID: "e", Name: "derby", Then: policy.Allow, Until: now.AddDate(0, 0, 2)}}
		}, EndsSoon, `The exception "derby" ends on Wednesday 25 November 10:00.`, false, ""},
		{"no longer needed", func(_ *policy.Config, d *Draft) {
			d.Corrections = []Correction{{"c", "knot.example", true, "https://knot.example/"}, {"d", "ruff.example", false, ""}}
		}, NotNeeded, "The catalogue says of knot.example", true, "Take the correction back."},
		{"too wide", func(_ *policy.Config, d *Draft) {
			d.Lists[0].Tidied = Tidied{Superfluous: 1, First: "x", Message: "y.", TooWide: []Wide{{"*tern*", "https://eastern.test/", "Because.", "tern.*"}}}
		}, TooWide, "The entry *tern* of \"Wide\" also covers https://eastern.test/. Because.", true, "Write tern.* instead."},
	} {
		config, lists := town()
		found := reviewed(config, lists, func(d *Draft) {
			c.change(&config, d)
			d.Snapshot = policy.New(config)
		})
		i := slices.IndexFunc(found, func(f Finding) bool { return f.Kind == c.kind && strings.Contains(f.Text, c.text) })
		if !assert.GreaterOrEqual(t, i, 0, "%s: %v", c.name, found) {
			continue
		}
		f := found[i]
		assert.Equal(t, c.shown, f.Shown != "", c.name)
		if c.fix != "" && assert.NotNil(t, f.Fix, c.name) {
			assert.Equal(t, c.fix, f.Fix.Text, c.name)
		}
		assert.NotEmpty(t, f.Why, c.name)
		keys := map[string]bool{}
		for _, f := range found {
			assert.False(t, keys[f.Key], "%s: two findings with the key %s", c.name, f.Key)
			keys[f.Key] = true
		}
	}
}

// A rule that is reported as never reached decides no request; and no other rule can be left out of a policy in which it
// decides something.
func TestNeverReachedIsNever(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 9))
	config, lists := town()
	urls := []weburl.URL{}
	for _, text := range []string{"heron.example", "www.heron.example/map", "www.heron.example/map/x", "bittern.example", "x.bittern.example", "avocet.test", "avocet.example", "knot.example", "games-site.example", "video-site.example", "news-site.example", "10.1.2.3", "knot.example:81", "other.example"} {
		urls = append(urls, weburl.MustParse(text))
	}
	var cond func(depth int) policy.Cond
	cond = func(depth int) policy.Cond {
		switch n := random.IntN(9); {
		case n < 2 && depth > 0:
			return all(cond(depth-1), cond(depth-1))
		case n < 4 && depth > 0:
			return anyOf(cond(depth-1), cond(depth-1))
		case n == 4 && depth > 0:
			return none(cond(depth-1), cond(depth-1))
		case n == 5:
			return is([]string{"games", "video", "news", "leisure"}[random.IntN(4)], []string{"games", "news"}[random.IntN(2)])
		case n == 6:
			return policy.Cond{Op: policy.HasTrait, Values: []string{[]string{"unrated", "odd-port", "raw-address"}[random.IntN(3)]}}
		}
		return in([]string{"wide", "narrow", "other"}[random.IntN(3)])
	}
	never := 0
	for range 400 {
		p := &config.Policies[0]
		p.Rules = nil
		for i := range 2 + random.IntN(4) {
			r := rule(fmt.Sprint("rule ", i), policy.Verdicts[random.IntN(4)], cond(2))
			if random.IntN(4) == 0 {
				r.When = policy.When{Schedule: "office", Outside: random.IntN(2) == 0}
			}
			p.Rules = append(p.Rules, r)
		}
		s := policy.New(config)
		var w policy.Work
		decided := map[int32]weburl.URL{}
		for _, u := range urls {
			for _, at := range []time.Time{now, now.Add(12 * time.Hour)} {
				q := policy.Request{URL: u, Group: "nurses"}
				if d := s.Decide(&w, &q, at); d.Rule >= 0 && d.Rung == policy.AtPolicy {
					decided[d.Rule] = u
				}
			}
		}
		for _, f := range reviewed(config, lists, nil) {
			if f.Kind == NeverReached && f.At.ID == "ward" {
				never++
				u, wrong := decided[int32(f.At.Rule)]
				require.False(t, wrong, "%s, but it decides %s; %+v", f.Text, u, p.Rules)
			}
		}
	}
	assert.Greater(t, never, 100, "the draws have hardly any such rule")
}

func TestUnseenForNetworks(t *testing.T) {
	t.Parallel()
	config, lists := town()
	config.Directory = directory.New(nil, []directory.Group{{ID: "beds", Name: "Beds", Networks: []string{"n"}}}, []directory.Network{{ID: "n", Name: "Beds", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.40.0/22")}}})
	config.Policies[1].Groups = []string{"beds"}
	config.Exceptions = []policy.Exception{{ID: "e", Name: "map", Entries: []pattern.Entry{pattern.MustParse("heron.example/map")}, Then: policy.Allow, For: policy.Whom{Networks: []string{"n"}}}}
	found := reviewed(config, lists, nil)
	assert.True(t, slices.ContainsFunc(found, func(f Finding) bool { return f.Kind == NotSeen && f.At.Kind == "exception" }), "%v", found)
	reason := func(want string) {
		t.Helper()
		found := reviewed(config, lists, nil)
		assert.True(t, slices.ContainsFunc(found, func(f Finding) bool { return f.Kind == NotSeen && strings.Contains(f.Text, want) }), "%v", found)
	}
	config.Way = policy.ByDNS
	reason("clients meet the DNS gate alone")
	config.Way = policy.ByBoth
	for i := range config.Policies {
		config.Policies[i].Inspect.All = true
	}
	assert.False(t, slices.ContainsFunc(reviewed(config, lists, nil), func(f Finding) bool { return f.Kind == NotSeen }))
	for want, way := range map[string]policy.NetworkWay{
		"those whom it is for meet the DNS gate alone":               {Way: policy.ByDNS},
		"those whom it is for do not trust the authority":            {Distrusts: true},
		"the proxy that asks the ICAP gate opens no TLS connections": {Way: policy.ByICAP, SendsTunnel: true},
	} {
		config.NetworkWays = map[string]policy.NetworkWay{"n": way}
		reason(want)
	}
}

package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// house is a configuration with facts.
type house struct {
	Config
	Facts
}

// snapshot returns the snapshot with the facts, also after it has had other facts.
func (h house) snapshot() *Snapshot {
	return New(h.Config).With(Facts{Grants: []Exception{{ID: "gone", Entries: entries("*"), Then: Block, For: Whom{Everybody: true}}}}).With(h.Facts)
}

// furnished is one person in two groups at one address, for rows that fill in the ladder.
func furnished() house {
	return house{Config: Config{
		Zone: zone,
		Directory: directory.New([]directory.Person{{ID: "kay", Name: "Kay Moran"}},
			[]directory.Group{{ID: "nurses", Name: "Nurses", Persons: []string{"kay"}}, {ID: "night", Name: "Night", Persons: []string{"kay"}}},
			[]directory.Network{{ID: "wards", Name: "Wards", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.10.0/23")}}}),
		Lists: match.New([]match.List{{ID: "list", Name: "List", Entries: entries("heron.example")}, {ID: "pages", Name: "Pages", Entries: entries("heron.example/wards")}}),
	}}
}

func decide(config house, url string, r Request, at time.Time) string {
	var w Work
	r.URL = weburl.MustParse(url)
	if r.Person == "" {
		r.Person = "kay"
	}
	d := config.snapshot().Decide(&w, &r, at)
	return fmt.Sprintf("%s by %s", d.Verdict, d.Rung)
}

// The first rung from the top that applies decides.
func TestRungs(t *testing.T) {
	everything := entries("*")
	inList := Cond{Op: InList, Values: []string{"list"}}
	config := furnished()
	assert.Equal(t, "allow by fallback", decide(config, "heron.example", Request{}, monday), "nothing says anything")
	config.Fallback = &Policy{Name: "Fallback", Otherwise: Hold}
	assert.Equal(t, "hold by fallback", decide(config, "heron.example", Request{}, monday))
	config.Policies = []Policy{{ID: "floor", Name: "Floor", Groups: []string{"nurses"}, Otherwise: Watch, Rules: []Rule{{Name: "No", If: inList, Then: Block}}}}
	assert.Equal(t, "block by policy", decide(config, "heron.example", Request{}, monday))
	assert.Equal(t, "watch by policy", decide(config, "tern.example", Request{}, monday))
	assert.Equal(t, "hold by fallback", decide(config, "tern.example", Request{Person: "somebody else"}, monday))

	hour := func(h int) time.Time { return monday.Add(time.Duration(h) * time.Hour) }
	config.Stints = []Stint{{ID: "one", Group: "night", Kind: OnlyThese, Lists: []string{"list"}, From: monday, Until: hour(4), By: "Ivo"}}
	assert.Equal(t, "allow by stint", decide(config, "heron.example", Request{}, hour(1)))
	assert.Equal(t, "block by stint", decide(config, "tern.example", Request{}, hour(1)))
	assert.Equal(t, "watch by policy", decide(config, "tern.example", Request{}, hour(4)), "its end is outside")
	config.Stints = append(config.Stints, Stint{ID: "two", Group: "nurses", Kind: ButThese, Lists: []string{"pages"}, From: hour(1), Until: hour(3), By: "Ivo"})
	assert.Equal(t, "block by stint", decide(config, "heron.example/wards", Request{}, hour(2)), "the strictest of two stints")
	assert.Equal(t, "block by stint", decide(config, "tern.example", Request{}, hour(2)), "one of them says nothing of it")
	assert.Equal(t, "allow by stint", decide(config, "heron.example", Request{}, hour(2)))
	assert.Equal(t, "watch by policy", decide(config, "tern.example", Request{Group: "nurses", Person: "nobody"}, hour(2)), "what is in none of its lists goes on")
	assert.Equal(t, "block by policy", decide(config, "heron.example/wards", Request{Group: "nurses", Person: "nobody", Sight: weburl.Name}, hour(2)), "what cannot be told goes on, too")
	config.Stints[0].Entries = entries("tern.example/tides")
	assert.Equal(t, "allow by stint", decide(config, "tern.example/tides", Request{}, hour(2)), "entries of its own")
	assert.Equal(t, "block by stint", decide(config, "tern.example/sands", Request{}, hour(2)))
	config.Stints[0].Done = []string{"kay"}
	assert.Equal(t, "watch by policy", decide(config, "tern.example", Request{}, hour(2)), "it is over for her")
	assert.Equal(t, "block by stint", decide(config, "tern.example", Request{Person: "nobody", Group: "night"}, hour(2)), "and for nobody else")
	config.Stints[0].Done, config.Stints[0].Persons = nil, []string{"somebody"}
	assert.Equal(t, "watch by policy", decide(config, "tern.example", Request{}, hour(2)), "for some of the group alone")
	config.Stints[0].Persons = []string{"kay"}
	assert.Equal(t, "block by stint", decide(config, "tern.example", Request{}, hour(2)))
	assert.Equal(t, "hold by fallback", decide(config, "tern.example", Request{Person: "nobody", Group: "night"}, hour(2)))
	config.Stints[0].Persons, config.Stints[0].Entries = nil, nil
	config.Stints = append(config.Stints, Stint{ID: "three", Group: "nurses", Kind: Paused, From: hour(2), Until: hour(3), By: "Ivo"})
	assert.Equal(t, "block by stint", decide(config, "tern.example", Request{}, hour(2)))

	exception := func(then Verdict, whom Whom, lines ...string) Exception {
		return Exception{ID: fmt.Sprint("e", len(config.Exceptions)), Name: "E", Then: then, For: whom, Entries: entries(lines...)}
	}
	wards := netip.MustParseAddr("10.40.10.9")
	everybody, group, place, person := Whom{Everybody: true}, Whom{Groups: []string{"night"}}, Whom{Networks: []string{"wards"}}, Whom{Persons: []string{"kay"}}
	for _, step := range []struct {
		e    Exception
		addr netip.Addr
		want string
	}{
		{exception(Allow, everybody, "heron.example"), netip.Addr{}, "allow"},
		{exception(Block, everybody, "heron.example"), netip.Addr{}, "block"},  // between equals block
		{exception(Allow, everybody, "=heron.example"), netip.Addr{}, "allow"}, // more specific
		{exception(Block, group, "*.example"), netip.Addr{}, "block"},
		{exception(Allow, group, "heron.example"), netip.Addr{}, "allow"}, // closer, whatever it says
		{exception(Block, place, "*"), netip.Addr{}, "allow"},
		{exception(Block, place, "*"), wards, "block"},
		{exception(Allow, Whom{Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.10.9/32")}}, "heron.example"), wards, "allow"},
		{exception(Block, person, "heron.example"), wards, "block"},
	} {
		config.Exceptions = append(config.Exceptions, step.e)
		assert.Equal(t, step.want+" by exception", decide(config, "heron.example", Request{Addr: step.addr}, hour(2)), "%+v", step.e)
	}
	config.Unlocked = []Unlocked{{Entries: everything, Person: "kay", From: monday, Until: hour(3)}, {Entries: everything, Addr: wards, From: hour(3), Until: hour(4)}}
	assert.Equal(t, "allow by unlocked", decide(config, "heron.example", Request{}, hour(2)))
	assert.Equal(t, "block by exception", decide(config, "heron.example", Request{}, hour(3)))
	assert.Equal(t, "allow by unlocked", decide(config, "heron.example", Request{Addr: wards}, hour(3)))
	config.Baseline = &Policy{Name: "Baseline", Rules: []Rule{{Name: "Noted", If: inList, Then: Note}, {Name: "Never", If: inList, Then: Block}}}
	assert.Equal(t, "block by baseline", decide(config, "heron.example", Request{}, hour(2)))
	assert.Equal(t, "allow by unlocked", decide(config, "tern.example", Request{}, hour(2)), "the baseline has no otherwise")

	var w Work
	r := Request{URL: weburl.MustParse("heron.example"), Person: "kay"}
	e := config.snapshot().Explain(&w, &r, hour(2))
	require.Len(t, e.Notes, 1)
	assert.Equal(t, "Noted", e.Notes[0].Rule)
	r.URL = weburl.MustParse("tern.example")
	assert.Equal(t, "It is unlocked with a code, and that still runs: allow.", config.snapshot().Explain(&w, &r, hour(2)).Because)
	config.Unlocked, config.Exceptions = nil, nil
	assert.Equal(t, `Ivo has paused the web of the group "Nurses" until 03:00: block.`, config.snapshot().Explain(&w, &r, hour(2)).Because)
}

// The trace holds every rung down to the one that decides, also those on which nothing applies.
func TestRungsAreTold(t *testing.T) {
	asText := func(config house) string {
		var w Work
		r := Request{URL: weburl.MustParse("heron.example"), Person: "kay"}
		var rungs []string
		for _, step := range config.snapshot().Explain(&w, &r, monday).Steps {
			rungs = append(rungs, strings.TrimSpace(fmt.Sprintf("%s %s%s: %s %s", step.Rung, step.Policy, step.Rule, step.Outcome, step.Missing)))
		}
		return strings.Join(rungs, "; ")
	}
	config := furnished()
	config.Fallback = &Policy{Name: "Fallback", Otherwise: Hold}
	const above = "baseline : no match it has no rules; unlocked : no match nothing is unlocked for this; "
	assert.Equal(t, above+"exception : no match there are none; stint : no match none is in force for its groups; policy : no match no policy is for this request; fallback Fallback: decided", asText(config))
	config.Policies = []Policy{{ID: "floor", Name: "Floor", Groups: []string{"nurses"}, Otherwise: Watch}}
	config.Exceptions = []Exception{{ID: "e", Name: "E", Entries: entries("tern.example"), For: Whom{Everybody: true}, Then: Allow}}
	assert.Equal(t, above+"exception : no match the only one does not cover this URL; stint : no match none is in force for its groups; policy Floor: decided", asText(config))
	config.Exceptions = append(config.Exceptions, Exception{ID: "f", Name: "F", Entries: entries("heron.example"), For: Whom{Persons: []string{"ola"}}, Then: Allow})
	assert.Contains(t, asText(config), "; exception F: no match it is for others; stint ")
	config.Exceptions[1].For.Everybody = true
	assert.Equal(t, above+"exception F: decided", asText(config))
}

// A gate that cannot ask blocks what is held, and says so.
func TestHeldAtTheDNSGate(t *testing.T) {
	config := furnished()
	config.Fallback = &Policy{Name: "Fallback", Otherwise: Hold}
	assert.Equal(t, "block by fallback", decide(config, "heron.example", Request{Sight: weburl.Name}, monday), "a name is what the DNS gate sees")
	assert.Equal(t, "block by fallback", decide(config, "heron.example", Request{Gate: DNS}, monday))
	assert.Equal(t, "hold by fallback", decide(config, "heron.example", Request{Sight: weburl.Name, Gate: Proxy}, monday))
	var w Work
	r := Request{URL: weburl.MustParse("heron.example"), Sight: weburl.Name}
	s := config.snapshot()
	assert.Equal(t, "The fallback has no rules; otherwise it says hold. The DNS gate cannot ask, so it blocks.", s.Explain(&w, &r, monday).Because)
	assert.Equal(t, Block, s.Strip(&w, &r, monday, monday.Add(week))[0].Decision.Verdict)
}

// How policies are combined, with the provisos of those that say the same.
func TestCombining(t *testing.T) {
	config := furnished()
	says := func(id, group string, v Verdict, with Provisos) Policy {
		return Policy{ID: id, Name: id, Groups: []string{group}, Otherwise: Block, Rules: []Rule{{Name: "All", Then: v, With: with}}}
	}
	var w Work
	r := Request{URL: weburl.MustParse("heron.example"), Person: "kay"}
	for _, c := range []struct {
		combining Combining
		policies  []Policy
		want      string
	}{
		{Position, []Policy{says("a", "night", Hold, Provisos{}), says("b", "nurses", Block, Provisos{})}, "hold a "},
		{Position, []Policy{says("a", "nobody", Hold, Provisos{}), says("b", "nurses", Watch, Provisos{NoUploads: true})}, "watch b no uploads"},
		{Strictest, []Policy{says("a", "night", Allow, Provisos{SafeSearch: true}), says("b", "nurses", Hold, Provisos{})}, "hold b "},
		{Strictest, []Policy{says("a", "night", Watch, Provisos{SizeCap: 9_000_000}), says("b", "nurses", Allow, Provisos{}), says("c", "nurses", Watch, Provisos{SizeCap: 5_000_000, Quota: time.Hour})}, "watch a at most 5 MB and at most 1 h a day"},
		{Loosest, []Policy{says("a", "night", Hold, Provisos{}), says("b", "nurses", Watch, Provisos{SafeSearch: true}), says("c", "night", Watch, Provisos{SizeCap: 7})}, "watch b safe search and at most 7 bytes"},
		{Loosest, []Policy{says("a", "night", Block, Provisos{}), says("b", "nurses", Block, Provisos{})}, "block a "},
	} {
		config.Combining, config.Policies = c.combining, c.policies
		d := config.snapshot().Decide(&w, &r, monday)
		assert.Equal(t, c.want, fmt.Sprintf("%s %s %s", d.Verdict, c.policies[d.Policy].ID, d.Provisos), "%s %v", c.combining, c.policies)
	}
	assert.Equal(t, Provisos{true, true, 5, time.Hour}, Provisos{SafeSearch: true, SizeCap: 9}.Join(Provisos{NoUploads: true, SizeCap: 5, Quota: time.Hour}))
}

// What each condition asks, at each sight.
func TestConditions(t *testing.T) {
	config := furnished()
	config.Apps = []AppDef{{Key: "share", Name: "Share", Entries: entries("gull.test"), Activities: []Activity{{Key: "add", Name: "add", Methods: []string{"PUT"}, Entries: entries("gull.test/up")}}}}
	leaf := func(op Op, values ...string) Cond { return Cond{Op: op, Values: values} }
	for _, c := range []struct {
		cond Cond
		url  string
		want string // at full, tunnel and name
	}{
		{Cond{}, "tern.example", "yes yes yes"},
		{Cond{Op: Any}, "tern.example", "no no no"},
		{Cond{Op: None}, "tern.example", "yes yes yes"},
		{leaf(InList, "list"), "heron.example", "yes yes yes"},
		{leaf(InList, "pages"), "heron.example/wards", "yes ? ?"},
		{leaf(InList, "gone"), "heron.example", "no no no"},
		{leaf(App, "share"), "gull.test", "yes yes yes"},
		{leaf(App, "share/add"), "gull.test/up", "no ? ?"},
		{leaf(App, "share/add"), "tern.example", "no no no"},
		{leaf(HasTrait, "raw-address"), "203.0.113.7", "yes yes yes"},
		{leaf(HasTrait, "plain-http"), "http://tern.example", "yes no ?"},
		{leaf(HasTrait, "odd-port"), "https://tern.example:8443", "yes yes ?"},
		{leaf(HasTrait, "odd-port"), "http://tern.example", "no yes ?"}, // a tunnel to port 80
		{leaf(HasTrait, "user-info"), "https://kay@tern.example", "yes ? ?"},
		{leaf(HasTrait, "punycode"), "https://müßig.example", "yes yes yes"},
		{leaf(HasTrait, "unrated"), "tern.example", "yes yes yes"},
		{leaf(HasTrait, "no such"), "tern.example", "no no no"},
		{leaf(Method, "GET"), "tern.example", "yes ? ?"},
		{leaf(Method, "POST"), "tern.example", "no ? ?"},
		{leaf(File, "archives"), "tern.example/a.ZIP?x=1", "yes ? ?"},
		{leaf(File, ".tar.gz"), "tern.example/a.tar.gz", "yes ? ?"},
		{leaf(File, ".gz"), "tern.example/a.tar.gz", "yes ? ?"},
		{leaf(File, ".zip"), "tern.example/.zip", "no ? ?"},
		{leaf(File, ".zip"), "tern.example/a.zip/b", "no ? ?"},
		{leaf(File, "no such"), "tern.example/a.zip", "no ? ?"},
		{leaf(File, "archives"), "tern.example/a", "? ? ?"},
		{leaf(File, ".zip"), "tern.example/a", "no ? ?"},
		{leaf(Search, `"boat*"`), "tern.example/find?q=My+Boats", "yes ? ?"},
		{leaf(Search, `"boat"`), "tern.example/boat?q=x", "no ? ?"},
		{leaf(Search, `"big boat"`), "tern.example/?x=1&Query=a%20big%20boat", "yes ? ?"},
		{leaf(Points, "no such"), "tern.example", "no no no"},
		{Cond{Op: All, Of: []Cond{leaf(InList, "list"), leaf(InList, "pages")}}, "heron.example/wards", "yes ? ?"},
		{Cond{Op: All, Of: []Cond{leaf(InList, "gone"), leaf(InList, "pages")}}, "heron.example/wards", "no no no"},
		{Cond{Op: Any, Of: []Cond{leaf(InList, "list"), leaf(Method, "POST")}}, "heron.example", "yes yes yes"},
		{Cond{Op: Any, Of: []Cond{leaf(InList, "gone"), leaf(Method, "POST")}}, "heron.example", "no ? ?"},
		{Cond{Op: None, Of: []Cond{leaf(InList, "list"), leaf(Method, "POST")}}, "tern.example", "yes ? ?"},
		{Cond{Op: None, Of: []Cond{leaf(InList, "list"), leaf(Method, "POST")}}, "heron.example", "no no no"},
	} {
		config.Policies = []Policy{{ID: "p", Name: "P", Groups: []string{"nurses"}, Otherwise: Allow, Rules: []Rule{{Name: "R", If: c.cond, Then: Block}}}}
		s := config.snapshot()
		var got []string
		for _, sight := range []weburl.Sight{weburl.Full, weburl.Tunnel, weburl.Name} {
			var w Work
			r := Request{URL: weburl.MustParse(c.url), Person: "kay", Sight: sight}
			e := s.Explain(&w, &r, monday)
			step := e.Steps[slices.IndexFunc(e.Steps, func(step Step) bool { return step.Rule == "R" })]
			got = append(got, map[Outcome]string{Decided: "yes", NoMatch: "no", CannotTell: "?"}[step.Outcome])
			assert.Equal(t, e.Decision, s.Decide(&w, &r, monday))
			if step.Outcome == CannotTell {
				assert.NotEmpty(t, step.Missing)
			}
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%+v on %s", c.cond, c.url)
	}
}

// A clock answers as its schedule does, wherever it is asked next.
func TestClockAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom(append(times, "mon-sun 01:30-02:30", "sun 23:00-03:00; not on 2026-10-25")).Draw(t, "times")
		read, err := schedule.Parse(text)
		require.NoError(t, err)
		c := &clock{Schedule: Schedule{Schedule: read, Zone: zone}}
		for range 5 {
			at := time.Date(2026, 10, 20, 0, 0, 0, 0, zone).Add(time.Duration(rapid.IntRange(-500, 500).Draw(t, "at")) * 31 * time.Minute)
			require.Equal(t, read.At(at, zone), c.inForce(at), "%s at %s", text, at)
			next, ok := c.next(at)
			want, wanted := read.Next(at, zone)
			require.Equal(t, wanted, ok)
			if ok {
				require.True(t, next.Equal(want), "%s after %s: %s, not %s", text, at, next, want)
			}
		}
	})
}

// The narrowest forms of an exception are read back as they are, and cover the page.
func TestNarrowest(t *testing.T) {
	for url, want := range map[string]string{
		"https://www.heron.co.uk/wards/map?x=1": "this page =www.heron.co.uk/wards/map; this host =www.heron.co.uk; this site heron.co.uk",
		"heron.example":                         "this host =heron.example; this site heron.example", "http://203.0.113.7:8080/x": "this page =203.0.113.7/x; this address 203.0.113.7",
		"http://[2001:db8::1]/": "this address 2001:db8::1", "https://heron.example/a*b": "this host =heron.example; this site heron.example", "https://com/": "this host =com",
	} {
		u := weburl.MustParse(url)
		what, patterns := Narrowest(u, weburl.Full)
		var told []string
		for i, p := range patterns {
			told = append(told, what[i]+" "+p.String())
			x := match.New([]match.List{{ID: "x", Entries: []pattern.Entry{{Pattern: p}}}})
			assert.True(t, x.Covered(u, pattern.Date{}), "%s does not cover %s", p, url)
		}
		assert.Equal(t, want, strings.Join(told, "; "), url)
	}
	what, _ := Narrowest(weburl.MustParse("heron.example/wards"), weburl.Name)
	assert.Equal(t, []string{"this host", "this site"}, what, "a page cannot be told by its name")
}

// Every kind of files has endings that no other has, in the form in which they are compared, and a name for sentences.
func TestFileKinds(t *testing.T) {
	owner := map[string]string{}
	for _, kind := range FileKinds {
		assert.NotEmpty(t, kind.Name)
		for _, ending := range kind.Endings {
			assert.Equal(t, strings.ToLower(ending), ending)
			assert.True(t, strings.HasPrefix(ending, "."), ending)
			assert.Empty(t, owner[ending], "%s is in %s, too", ending, kind.Key)
			owner[ending] = kind.Key
			assert.True(t, hasEnding("/a/b"+strings.ToUpper(ending), endings(kind.Key)), ending)
		}
		assert.Equal(t, "Block what asks for "+kind.Name+".", Rule{Then: Block, If: Cond{Op: File, Values: []string{kind.Key}}}.Sentence(Names{}))
	}
	assert.Nil(t, endings("no such"))
}

// Every trait has its words, in sentences and in reasons.
func TestTraitsHaveWords(t *testing.T) {
	for _, trait := range Traits {
		assert.NotEmpty(t, traitClause[trait], trait)
		assert.NotEmpty(t, traitReason[trait], trait)
		assert.Equal(t, traitReason[trait], Reasons([]Evidence{{Op: HasTrait, Text: string(trait)}}))
	}
	assert.Len(t, traitClause, len(Traits))
	assert.Len(t, traitReason, len(Traits))
	assert.Len(t, Traits, firstCategory-firstTrait, "each has its row in an outline")
}

func TestVerdictsInOrder(t *testing.T) {
	for i, v := range Verdicts {
		assert.EqualValues(t, i, v.strictness(), v)
		assert.Equal(t, i < 2, v.Passes(), v)
	}
}

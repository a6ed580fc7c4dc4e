package policy

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// The policies in force for somebody are those that the definition gives.
func TestStandingAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		var w Work
		st := n.snapshot().Standing(&w, n.r, n.at)
		var groups, policies []string
		for _, g := range n.Directory.Groups {
			if n.belongs(g.ID) {
				groups = append(groups, g.ID)
			}
		}
		for _, p := range n.Policies {
			if slices.ContainsFunc(p.Groups, n.belongs) {
				policies = append(policies, p.ID)
			}
		}
		ids := func(refs []match.Ref) (all []string) {
			for _, r := range refs {
				all = append(all, r.ID)
			}
			return all
		}
		require.Equal(t, groups, ids(st.Groups))
		require.Equal(t, policies, ids(st.Policies))
		if network := n.network(); network == "" {
			require.Nil(t, st.Network)
		} else {
			require.Equal(t, network, st.Network.ID)
		}
		for _, e := range st.Exceptions {
			require.False(t, e.Off)
			require.True(t, e.Until.IsZero() || n.at.Before(e.Until))
		}
	})
}

// firstPolicy returns the first policy of a request, else the fallback.
func (n *naive) firstPolicy() *Policy {
	for i, p := range n.Policies {
		if slices.ContainsFunc(p.Groups, n.belongs) {
			return &n.Policies[i]
		}
	}
	return n.Fallback
}

// A journey goes on exactly while each gate, asked by itself, allows it.
func TestJourneyAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.drawWay(t)
		s := n.snapshot()
		var w Work
		j := s.Travel(&w, &n.r, n.at)
		way := n.way()
		require.Equal(t, way.Way, j.Way)
		seen := weburl.Tunnel
		if n.r.URL.Scheme() == "http" || way.Way == ByICAP && !way.SendsTunnel || way.Way != ByICAP && s.Inspects(&w, &n.r, n.at) {
			seen = weburl.Full
		}
		require.False(t, way.Distrusts && s.Inspects(&w, &n.r, n.at))
		var stops []string
		verdict, stoppedAt := Allow, Gate("")
		for _, gate := range map[Way][]Gate{ByDNS: {DNS}, ByProxy: {Proxy}, ByBoth: {DNS, Proxy}, ByICAP: {ICAP}, NoGate: nil}[way.Way] {
			sight := seen
			if gate == DNS {
				sight = weburl.Name
			}
			if gate == DNS && n.r.URL.Addr().IsValid() {
				continue
			}
			n.r.Gate, n.r.Sight = gate, sight
			v, _, _ := n.decide()
			stops = append(stops, fmt.Sprint(gate, sight, v))
			if verdict == Allow || !v.Passes() {
				verdict = v
			}
			if !v.Passes() {
				stoppedAt = gate
				break
			}
		}
		var told []string
		for _, stop := range j.Stops {
			told = append(told, fmt.Sprint(stop.Gate, stop.Sight, stop.Explanation.Decision.Verdict))
		}
		require.Equal(t, stops, told)
		require.Equal(t, verdict, j.Verdict)
		arrived := s.Arrive(&w, &n.r, n.at)
		require.Equal(t, verdict, arrived.Verdict)
		if len(j.Stops) > 0 {
			require.Equal(t, j.Decisive().Explanation.Decision, arrived)
		}
		switch {
		case len(stops) == 0:
			require.Equal(t, SeesUnbarred, j.Sees)
		case stoppedAt == DNS && n.firstPolicy().Names == PageOfRefused:
			require.Equal(t, SeesAddress, j.Sees)
		case stoppedAt == DNS:
			require.Equal(t, SeesNoName, j.Sees)
		case stoppedAt != "" && seen == weburl.Tunnel && (stoppedAt == ICAP || way.Distrusts || !n.firstPolicy().Inspect.Pages):
			require.Equal(t, SeesCut, j.Sees)
		case stoppedAt != "" && verdict == Hold:
			require.Equal(t, SeesHold, j.Sees)
		case stoppedAt != "":
			require.Equal(t, SeesBlocked, j.Sees)
		default:
			want := SeesPage
			for _, stop := range j.Stops {
				with := stop.Explanation.Decision.Provisos
				held := n.held(with, stop.Gate, stop.Sight)
				if held != (Provisos{}) {
					want = SeesBound
				}
				require.Equal(t, held, stop.Explanation.Held)
				require.Equal(t, with, held.Join(stop.Explanation.NotHeld))
				require.Equal(t, held != with, stop.Explanation.NotHeld != Provisos{})
				require.Equal(t, held.SafeSearch, stop.Explanation.Safe != Safe{})
			}
			require.Equal(t, want, j.Sees)
		}
	})
}

// drawJourney draws a configuration whose gates have different sights, and a request that passes them. Inspection sometimes depends on a
// day.
func drawJourney(t *rapid.T) (naive, *Snapshot) {
	n := drawNaive(t)
	n.drawWay(t)
	if rapid.Bool().Draw(t, "but") {
		for i := range n.Policies {
			n.Policies[i].Inspect = Inspection{All: true, ButLists: []string{"l1"}}
		}
	}
	return n, n.snapshot()
}

// The week of a journey gives at every moment the verdict of the journey, and its segments are maximal.
func TestTravelStripIsExact(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, s := drawJourney(t)
		var w Work
		strip := s.TravelStrip(&w, &n.r, monday, monday.Add(week))
		require.Equal(t, monday, strip[0].From)
		require.Equal(t, monday.Add(week), strip[len(strip)-1].To)
		for i, segment := range strip {
			if i > 0 {
				require.True(t, segment.From.Equal(strip[i-1].To))
				require.NotEqual(t, segment.Decision.Verdict, strip[i-1].Decision.Verdict)
			}
			j := s.Travel(&w, &n.r, segment.From)
			require.Equal(t, segment.Decision.Verdict, j.Verdict)
			if len(j.Stops) > 0 {
				require.Equal(t, segment.Decision, j.Decisive().Explanation.Decision)
			}
			require.Equal(t, segment.Decision.Verdict, s.Travel(&w, &n.r, segment.To.Add(-time.Second)).Verdict)
		}
		for range 10 {
			at := drawMoment(t, "at")
			i := slices.IndexFunc(strip, func(g Segment) bool { return at.Before(g.To) })
			require.Equal(t, strip[i].Decision.Verdict, s.Travel(&w, &n.r, at).Verdict, "%s at %s", n.r.URL, at)
		}
	})
}

// The next change of a journey is the first moment at which its verdict changes.
func TestTravelUntilIsFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, s := drawJourney(t)
		var w Work
		now := s.Travel(&w, &n.r, n.at).Verdict
		until, changes := s.TravelUntil(&w, &n.r, n.at)
		if changes {
			require.True(t, until.After(n.at))
			require.NotEqual(t, now, s.Travel(&w, &n.r, until).Verdict)
			require.Equal(t, now, s.Travel(&w, &n.r, until.Add(-time.Second)).Verdict)
		}
		for range 10 {
			at := n.at.Add(time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "minutes")) * time.Minute)
			if !changes || at.Before(until) {
				require.Equal(t, now, s.Travel(&w, &n.r, at).Verdict, "at %s, though it changes at %s (%v)", at, until, changes)
			}
		}
	})
}

// The plan of a group gives for a list the week of a page that only this list covers.
func TestPlanAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		// Each list has one host that no other has; no pack, scorecard or own category says anything.
		n.Packs, n.Local, n.Exceptions, n.Facts = nil, nil, nil, Facts{}
		for i := range n.lists {
			n.lists[i].Entries = []pattern.Entry{pattern.MustParse(fmt.Sprintf("only-l%d.invalid", i))}
		}
		n.Lists = match.New(n.lists)
		s := n.snapshot()
		var w Work
		group := rapid.SampledFrom([]string{"g0", "g1", "g2"}).Draw(t, "group")
		plan := s.Plan(&w, group, monday, monday.Add(week))
		strips := map[string][]Segment{}
		for _, row := range plan.Rows {
			if row.List != nil {
				strips[row.List.ID] = row.Strip
			}
		}
		for i, l := range n.lists {
			r := Request{URL: weburl.MustParse(fmt.Sprintf("https://only-l%d.invalid/", i)), Group: group}
			want := s.Strip(&w, &r, monday, monday.Add(week))
			got, told := strips[l.ID]
			if !told {
				got = plan.Else // it fares as everything else does
			}
			// A page in a list alone is unrated; so is everything else.
			require.True(t, sameVerdicts(want, got), "%s: %s, not %s", l.ID, shown(got), shown(want))
		}
	})
}

// The findings about loosening the baseline agree with asking one by one.
func TestLoosensAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.Baseline = &Policy{Name: "Baseline", Rules: []Rule{{Name: "B", If: Cond{Op: InList, Values: []string{"l0"}}, Then: rapid.SampledFrom([]Verdict{Allow, Block}).Draw(t, "baseline")}}}
		n.Policies = []Policy{{ID: "p", Name: "P", Groups: []string{"g0"}, Otherwise: Allow, Rules: drawRules(t, "policy0", []Verdict{Allow, Watch, Hold, Block, Note})}}
		var w Work
		places := map[int32]bool{}
		for _, c := range n.snapshot().Loosens(&w, "p", n.at) {
			places[c.Place] = true
		}
		var asks func(c Cond) bool
		asks = func(c Cond) bool {
			return c.Op == InList && slices.Contains(c.Values, "l0") || c.Op != None && slices.ContainsFunc(c.Of, asks)
		}
		for i, r := range n.Policies[0].Rules {
			want := n.Baseline.Rules[0].Then == Block && !r.Off && r.Then != Block && r.Then != Note && asks(r.If)
			require.Equal(t, want, places[int32(i)], "rule %d: %+v", i, r)
		}
	})
}

// Until is the first moment at which the verdict differs.
func TestUntilIsFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		s := n.snapshot()
		var w Work
		now := s.Decide(&w, &n.r, n.at).Verdict
		until, changes := s.Until(&w, &n.r, n.at)
		if changes {
			require.True(t, until.After(n.at))
			require.NotEqual(t, now, s.Decide(&w, &n.r, until).Verdict)
			require.Equal(t, now, s.Decide(&w, &n.r, until.Add(-time.Second)).Verdict)
		}
		for range 10 {
			at := n.at.Add(time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "minutes")) * time.Minute)
			if !changes || at.Before(until) {
				require.Equal(t, now, s.Decide(&w, &n.r, at).Verdict, "at %s, though it changes at %s (%v)", at, until, changes)
			}
		}
		if changes && until.Before(n.at.AddDate(0, 0, 20)) {
			return
		}
		// A year ahead, above all after clock changes, when schedules of several zones stand otherwise to each other.
		moments := []time.Time{n.at}
		for _, zone := range clocks {
			moments = slices.AppendSeq(moments, schedule.ClockChanges(n.at, n.at.AddDate(1, 0, 0), zone))
		}
		for range 100 {
			at := rapid.SampledFrom(moments).Draw(t, "after").Add(time.Duration(rapid.IntRange(0, 8*24*4).Draw(t, "quarters")) * 15 * time.Minute)
			if !changes || at.Before(until) {
				require.Equal(t, now, s.Decide(&w, &n.r, at).Verdict, "at %s, though it changes at %s (%v)", at, until, changes)
			}
		}
	})
}

// A chain blocks by the first of its names that the baseline, an exception or a policy's rule about such sites blocks, unless the name that was asked is allowed by an
// exception or a code.
func TestChainAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.r.Gate, n.r.Sight, n.r.NotTLS, n.r.TwoNames, n.r.Answer = DNS, weburl.Name, false, false, nil
		asked := n.r.URL
		for _, host := range draws(hosts, 3).Draw(t, "chain") {
			n.r.Chain = append(n.r.Chain, weburl.MustParse("https://"+host+"/"))
		}
		s := n.snapshot()
		verdict, rung, _ := n.decide()
		link := 0
		if (verdict == Allow || verdict == Watch) && rung != AtException && rung != AtUnlocked {
			for i, u := range n.r.Chain {
				n.r.URL = u
				v, at, _ := n.decide()
				if v == Allow || v == Watch {
					continue
				}
				_, _, _, by := n.ladder()
				about := at == AtException || (at == AtBaseline || at == AtPolicy) && by[0].ID != "" && asksWhat(by[0].If)
				if at == AtPolicy && n.unclear() {
					return // which of several policies is said to decide is told elsewhere
				}
				if about {
					verdict, link = v, i+1
					break
				}
			}
		}
		n.r.URL = asked
		var w Work
		d := s.Decide(&w, &n.r, n.at)
		require.Equal(t, []any{verdict, link}, []any{d.Verdict, int(d.Link)}, "%s, %v", asked, n.r.Chain)
		e := s.Explain(&w, &n.r, n.at)
		require.Equal(t, d, e.Decision)
		require.Equal(t, link > 0, strings.Contains(e.Because, asked.Host()+" leads to "))
	})
}

// unclear reports whether a request has several policies.
func (n *naive) unclear() bool {
	mine := 0
	for _, p := range n.Policies {
		if slices.ContainsFunc(p.Groups, n.belongs) {
			mine++
		}
	}
	return mine > 1
}

// asksWhat reports whether a condition asks for a list, a category or an app, or might.
func asksWhat(c Cond) bool {
	switch c.Op {
	case InList, Is, App:
		return true
	case None:
		return false
	}
	return slices.ContainsFunc(c.Of, asksWhat)
}

// Where everything below a name is said to be blocked, it is, whatever the name.
func TestBlocksBelow(t *testing.T) {
	told := 0
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.r.Gate, n.r.Sight, n.r.NotTLS, n.r.TwoNames, n.r.Answer = DNS, weburl.Name, false, false, nil
		n.r.URL = weburl.MustParse("https://" + rapid.SampledFrom([]string{"heron.example", "gull.test", "tern.example", "example", "www.heron.example"}).Draw(t, "name") + "/")
		s := n.snapshot()
		var w Work
		if s.Decide(&w, &n.r, n.at).Verdict.Passes() || !s.BlocksBelow(&w, &n.r, n.at) {
			return
		}
		told++
		host := n.r.URL.Host()
		for _, label := range []string{"www", "odds", "late-odds", "a.b", "xn--mwe-sla", "help", "heron", "up"} {
			n.r.URL = weburl.MustParse("https://" + label + "." + host + "/")
			require.False(t, s.Decide(&w, &n.r, n.at).Verdict.Passes(), "%s, below %s", n.r.URL, host)
		}
	})
	assert.Positive(t, told)
}

// What a pattern says of names below one that is blocked may be why those pass: it says something else of them, or something at all.
func TestWhatSitesAreOpensBelow(t *testing.T) {
	entries := func(texts ...string) (all []pattern.Entry) {
		for _, text := range texts {
			all = append(all, pattern.MustParse(text))
		}
		return all
	}
	pack := []classify.Pack{{ID: "p", Name: "Harbour", Version: 1, Sites: match.New([]match.List{{ID: "games", Entries: entries("heron.example")}})}}
	card := classify.NewLocal(nil, nil, []classify.Scorecard{{ID: "card", Category: "news", Threshold: 1, Terms: []classify.Term{{Word: pattern.MustParse(`"odds"`).Pattern, Points: 1}}}})
	correction := func(text string) *classify.Local {
		return classify.NewLocal([]classify.Correction{{ID: 1, Pattern: pattern.MustParse(text).Pattern, Categories: []string{"news"}}}, nil, nil)
	}
	own := func(adds bool) *classify.Local {
		return classify.NewLocal(nil, []classify.Own{{Key: "news", Lists: []string{"l"}, Adds: adds}}, nil)
	}
	games, unrated, address := Cond{Op: Is, Values: []string{"games"}}, Cond{Op: HasTrait, Values: []string{string(Unrated)}}, Cond{Op: HasTrait, Values: []string{string(RawAddress)}}
	for _, c := range []struct {
		what  string
		local *classify.Local
		word  string // of the list
		rules []Rule
		below bool
	}{
		{"nothing", nil, "", []Rule{{If: games, Then: Block}}, true},
		{"a list that says nothing", nil, `"odds"`, []Rule{{If: games, Then: Block}}, true},
		{"a category of our own instead", own(false), `"odds"`, []Rule{{If: games, Then: Block}}, false},
		{"a category of our own besides", own(true), `"odds"`, []Rule{{If: games, Then: Block}}, true},
		{"a category of our own that passes", own(true), `"odds"`, []Rule{{If: Cond{Op: Is, Values: []string{"news"}}, Then: Allow}, {If: games, Then: Block}}, false},
		{"a correction of something else", correction("gull.test"), "", []Rule{{If: games, Then: Block}}, true},
		{"a correction by a pattern", correction("*odds*.heron.example"), "", []Rule{{If: games, Then: Block}}, false},
		{"a scorecard besides", card, "", []Rule{{If: games, Then: Block}}, true},
		{"a scorecard, where what is unrated is blocked, too", card, "", []Rule{{If: unrated, Then: Block}, {If: games, Then: Block}}, false},
		{"a scorecard, where addresses are blocked, too", card, "", []Rule{{If: address, Then: Block}, {If: games, Then: Block}}, true},
	} {
		list := match.List{ID: "l", Name: "List"}
		if c.word != "" {
			list.Entries = entries(c.word)
		}
		s := New(Config{
			Zone: time.UTC, Way: ByBoth, Packs: pack, Local: c.local, Lists: match.New([]match.List{list}),
			Taxonomy: classify.Taxonomy{Categories: []classify.Category{{Key: "games", Name: "Games"}, {Key: "news", Name: "News"}}},
			Fallback: &Policy{Name: "Fallback", Rules: c.rules, Otherwise: Allow},
		})
		var w Work
		r := Request{URL: weburl.MustParse("https://heron.example/"), Gate: DNS, Sight: weburl.Name}
		require.Equal(t, Block, s.Decide(&w, &r, monday).Verdict, c.what)
		assert.Equal(t, c.below, s.BlocksBelow(&w, &r, monday), c.what)
	}
}

package policy

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/weburl"
)

// minutes returns minutes in a row from a moment on.
func minutes(from time.Time, n int) (all []int64) {
	for i := range n {
		all = append(all, from.Unix()/60+int64(i))
	}
	return all
}

// A quota is used up with the end of its last minute, until midnight; only then is the next verdict another one.
func TestQuota(t *testing.T) {
	config := ward()
	floor := config.Policies[0].Rules
	floor[0].ID, floor[1].ID = "breaks", "never"
	config.Fallback.Rules = []Rule{{ID: "visitors", Name: "A while", If: Cond{Op: Is, Values: []string{"play"}}, Then: Allow, With: Provisos{Quota: 90 * time.Second}}}
	var w Work
	ola := Request{URL: weburl.MustParse("puzzle.example"), Person: "ola"}
	s := New(config)
	with := func(used ...Used) *Snapshot { return s.With(Facts{Used: used}) }
	kayAt := netip.MustParseAddr("10.40.9.7")
	half := with(Used{Rule: "breaks", Person: "ola", Minutes: minutes(at(0, "00:35"), 20)}, Used{Rule: "breaks", Person: "ola", Minutes: minutes(at(0, "00:45"), 15)}, Used{Rule: "breaks", Person: "kay", Minutes: minutes(at(0, "00:30"), 44)})
	for _, c := range []struct {
		at   time.Time
		want Verdict
		used int
	}{
		{at(0, "00:40"), Watch, 5}, {at(0, "00:59"), Watch, 24}, {at(0, "12:45"), Watch, 25}, {at(1, "00:40"), Watch, 0},
	} {
		e := half.Explain(&w, &ola, c.at)
		assert.Equal(t, c.want, e.Decision.Verdict, c.at)
		assert.Equal(t, []Spent{{"Ward floor", "Games in breaks", c.used, 30}}, e.Spent, c.at)
	}

	full := with(Used{Rule: "breaks", Person: "ola", Minutes: append(minutes(at(0, "12:35"), 5), minutes(at(0, "00:35"), 25)...)})
	last := at(0, "12:39")
	for _, c := range []struct {
		at   time.Time
		want Verdict
	}{
		{at(-1, "12:45"), Watch}, {at(0, "00:45"), Watch}, {last, Watch}, {last.Add(59 * time.Second), Watch}, {last.Add(time.Minute), Block}, {at(0, "13:14"), Block}, {at(1, "00:45"), Watch},
	} {
		assert.Equal(t, c.want, full.Decide(&w, &ola, c.at).Verdict, c.at)
	}
	e := full.Explain(&w, &ola, at(0, "12:45"))
	assert.Equal(t, `The rule "Games in breaks" of the policy "Ward floor" allows 30 min a day, used up until midnight: block.`, e.Because)
	assert.Equal(t, at(1, "00:00"), e.Steps[e.Decider].UsedUp.In(zone))
	assert.Equal(t, "Games in breaks", e.Steps[e.Decider].Rule)
	var told []string
	for _, segment := range full.Strip(&w, &ola, at(0, "12:00"), at(1, "01:00")) {
		told = append(told, segment.From.In(zone).Format("15:04 ")+string(segment.Decision.Verdict))
	}
	assert.Equal(t, "12:00 block, 12:30 watch, 12:40 block, 00:30 watch", strings.Join(told, ", "))
	until, ok := full.Until(&w, &ola, at(0, "12:35"))
	assert.True(t, ok)
	assert.True(t, until.Equal(at(0, "12:40")), until)
	until, _ = full.Until(&w, &ola, at(0, "12:41"))
	assert.True(t, until.Equal(at(1, "00:30")), "when the next break begins: %s", until)
	spent, rules := full.Quotas(&w, &ola, at(0, "12:45"))
	assert.Equal(t, []Spent{{"Ward floor", "Games in breaks", 30, 30}}, spent)
	assert.Equal(t, []string{"breaks"}, rules)

	// Somebody else, another address and the DNS gate, which cannot count, are not concerned.
	visitor := Request{URL: ola.URL, Addr: kayAt, Gate: Proxy, Sight: weburl.Tunnel}
	shown := with(Used{Rule: "visitors", Addr: kayAt, Minutes: minutes(at(0, "09:00"), 2)}, Used{Rule: "visitors", Addr: netip.MustParseAddr("10.40.9.8"), Minutes: minutes(at(0, "10:00"), 1)})
	require.Equal(t, Block, shown.Decide(&w, &visitor, at(0, "10:00")).Verdict)
	assert.Equal(t, AtFallback, shown.Decide(&w, &visitor, at(0, "10:00")).Rung)
	visitor.Addr = netip.MustParseAddr("10.40.9.8")
	assert.Equal(t, Allow, shown.Decide(&w, &visitor, at(0, "10:05")).Verdict)
	visitor.Addr, visitor.Gate, visitor.Sight = kayAt, DNS, weburl.Name
	assert.Equal(t, Allow, shown.Decide(&w, &visitor, at(0, "10:00")).Verdict)
}

// Of several quotas, the one that is used up first blocks.
func TestJoinedQuotas(t *testing.T) {
	config := ward()
	config.Policies[0].Rules[0].ID = "breaks"
	config.Policies[1].Rules = []Rule{{ID: "nights", Name: "At night", If: Cond{Op: Is, Values: []string{"play"}}, Then: Watch, With: Provisos{Quota: time.Hour, NoUploads: true}}}
	kay := Request{URL: weburl.MustParse("puzzle.example"), Person: "kay"}
	var w Work
	s := New(config).With(Facts{Used: []Used{{Rule: "breaks", Person: "kay", Minutes: minutes(at(0, "00:31"), 20)}, {Rule: "nights", Person: "kay", Minutes: minutes(at(0, "06:00"), 60)}}})
	_, rules := s.Quotas(&w, &kay, at(0, "00:40"))
	assert.Equal(t, []string{"breaks", "nights"}, rules, "a minute counts for both")
	assert.Equal(t, Provisos{Quota: 30 * time.Minute, NoUploads: true}, s.Decide(&w, &kay, at(0, "00:40")).Provisos)
	e := s.Explain(&w, &kay, at(0, "12:40"))
	assert.Contains(t, e.Because, `The rule "At night" of the policy "Night ward" allows 1 h a day, used up until midnight: block.`)
	outweighed := 0
	for _, step := range e.Steps {
		if step.Outcome == Outweighed {
			outweighed++
		}
	}
	assert.Equal(t, 1, outweighed)
}

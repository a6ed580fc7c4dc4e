package gate

import (
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// A minute of a quota counts when something passes in it: at the beginning, and later only while bytes do. It is handed out once, and again if it is given back.
func TestSpending(t *testing.T) {
	rule := uuid.MustParse("00000000-0000-4000-8000-000000000001")
	now := noon
	g := New(policy.Proxy, "front", func() time.Time { return now }, &kept{})
	config := *ward(t, false).Snapshot.Config()
	config.Policies[0].Rules[0] = policy.Rule{ID: rule.String(), Name: "Games", If: policy.Cond{Op: policy.InList, Values: []string{"l"}}, Then: policy.Watch, With: policy.Provisos{Quota: 2 * time.Minute}}
	g.Take(&Edition{Snapshot: policy.New(config)})
	count := func(later time.Duration) map[Spender][]int64 {
		now = noon.Add(later)
		g.decideAgain()
		return g.TakeUsed()
	}
	m := noon.Unix() / 60
	ask := request("http://oddsfield.example/", "10.40.10.7", uuid.Nil)
	place := Spender{Rule: rule, Address: netip.MustParseAddr("10.40.10.7")}
	moved := int64(0)
	cut := 0
	g.Watch(g.Decide(ask), false, func() int64 { return moved }, func() { cut++ })
	g.Watch(g.Decide(request("http://oddsfield.example/other", "10.40.10.8", kay)), false, func() int64 { return 0 }, func() {})
	g.Watch(g.Decide(request("http://heron.example/", "10.40.10.7", uuid.Nil)), false, func() int64 { return moved }, func() {})
	assert.Equal(t, map[Spender][]int64{place: {m}, {Rule: rule, Person: kay}: {m}}, count(0), "a person's minutes are theirs at every address")
	moved++
	assert.Empty(t, count(30*time.Second), "the minute has counted")
	assert.Empty(t, count(time.Minute), "nothing passed")
	moved++
	taken := count(90 * time.Second)
	assert.Equal(t, map[Spender][]int64{place: {m + 1}}, taken)
	g.GiveBack(taken)
	moved++
	assert.ElementsMatch(t, []int64{m + 1, m + 2}, count(2 * time.Minute)[place])

	at := g.Edition().Snapshot.With(policy.Facts{Used: []policy.Used{{Rule: rule.String(), Addr: place.Address, Minutes: []int64{m, m + 1}}}})
	g.Take(&Edition{Snapshot: at})
	count(2 * time.Minute)
	assert.Equal(t, 1, cut, "the quota is used up")
	d := g.Decide(ask)
	assert.Equal(t, policy.Block, d.Verdict)
	assert.Contains(t, g.Explain(d).Because, "2 min a day, used up until midnight")

	// A tunnel whose bytes are not counted is cut when a quota begins to ask for that.
	free := New(policy.Proxy, "front", func() time.Time { return noon }, &kept{})
	free.Take(ward(t, false))
	tunnel, ended := request("https://oddsfield.example/", "10.40.10.9", uuid.Nil), 0
	tunnel.Sight = weburl.Tunnel
	free.Watch(free.Decide(tunnel), true, func() int64 { return 0 }, func() { ended++ })
	free.decideAgain()
	assert.Zero(t, ended)
	free.Take(&Edition{Snapshot: policy.New(config)})
	free.decideAgain()
	assert.Equal(t, 1, ended)
	free.Watch(free.Decide(tunnel), true, func() int64 { return 0 }, func() { ended++ })
	free.Take(&Edition{Snapshot: policy.New(config)})
	free.decideAgain()
	assert.Equal(t, 1, ended, "one that is counted stays through other editions")

	byName := ask
	byName.URL, byName.Sight = weburl.MustParse("oddsfield.example"), weburl.Name
	other := New(policy.DNS, "names", func() time.Time { return noon }, &kept{})
	other.Take(&Edition{Snapshot: at})
	other.Watch(other.Decide(byName), false, func() int64 { return 0 }, func() {})
	assert.Empty(t, other.TakeUsed(), "a name that is asked for is not used yet")
}

// Of what was unlocked and ends when it is not used, the minutes count in which it is; of what only ends, none.
func TestIdle(t *testing.T) {
	id := uuid.MustParse("00000000-0000-4000-8000-000000000009")
	now := noon
	g := New(policy.Proxy, "front", func() time.Time { return now }, &kept{})
	opened := policy.Unlocked{ID: id.String(), Entries: []pattern.Entry{pattern.MustParse("oddsfield.example")}, Addr: netip.MustParseAddr("10.40.10.7"), From: noon.Add(-time.Hour), Until: noon.Add(time.Hour)}
	g.Take(&Edition{Snapshot: ward(t, false).Snapshot.With(policy.Facts{Unlocked: []policy.Unlocked{opened}})})
	ask := request("https://oddsfield.example/", "10.40.10.7", uuid.Nil)
	ask.Sight = weburl.Tunnel
	moved, cut := int64(0), 0
	d := g.Decide(ask)
	require.True(t, g.Measures(d))
	g.Watch(d, true, func() int64 { return moved }, func() { cut++ })
	m := noon.Unix() / 60
	assert.Equal(t, map[Spender][]int64{{Rule: id}: {m}}, g.TakeUsed())
	now = now.Add(time.Minute)
	g.decideAgain()
	assert.Empty(t, g.TakeUsed(), "nothing passed")
	moved, now = 9, now.Add(time.Minute)
	g.decideAgain()
	assert.Equal(t, map[Spender][]int64{{Rule: id}: {m + 2}}, g.TakeUsed())

	opened.ID = ""
	g.Take(&Edition{Snapshot: ward(t, false).Snapshot.With(policy.Facts{Unlocked: []policy.Unlocked{opened}})})
	d = g.Decide(ask)
	assert.Equal(t, policy.AtUnlocked, d.Rung)
	assert.False(t, g.Measures(d))
	g.Watch(d, true, func() int64 { return 0 }, func() {})
	assert.Empty(t, g.TakeUsed())
	assert.Zero(t, cut)
}

package gate

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// kept is a recorder that keeps what it is given.
type kept struct {
	mu  sync.Mutex
	all []journal.Record
}

func (k *kept) Add(r journal.Record) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all = append(k.all, r)
}

var (
	kay  = uuid.MustParse("00000000-0000-4000-8000-000000000007")
	noon = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
)

// ward is a configuration in which nurses may not open oddsfield.example after one o'clock, and whose policy opens connections where opens says so.
func ward(t *testing.T, opens bool, blocked ...string) *Edition {
	t.Helper()
	afternoon, err := schedule.Parse("mon-sun 13:00-20:00")
	require.NoError(t, err)
	var entries []pattern.Entry
	for _, text := range blocked {
		entries = append(entries, pattern.MustParse(text))
	}
	config := policy.Config{
		Zone: time.UTC, Way: policy.ByProxy, Combining: policy.Position,
		Directory: directory.New([]directory.Person{{ID: kay.String(), Name: "Kay Moran"}}, []directory.Group{{ID: "g", Name: "Nurses", Persons: []string{kay.String()}, Networks: []string{"n"}}},
			[]directory.Network{{ID: "n", Name: "Wards", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.10.0/24")}}}),
		Lists:     match.New([]match.List{{ID: "l", Name: "Later", Entries: []pattern.Entry{pattern.MustParse("oddsfield.example")}}, {ID: "b", Name: "Blocked", Entries: entries}}),
		Schedules: []policy.Schedule{{ID: "s", Name: "Afternoon", Schedule: afternoon, Zone: time.UTC}},
		Policies: []policy.Policy{{ID: "p", Name: "Ward", Groups: []string{"g"}, Otherwise: policy.Allow, Inspect: policy.Inspection{All: opens}, Rules: []policy.Rule{
			{ID: "r1", Name: "Later", If: policy.Cond{Op: policy.InList, Values: []string{"l"}}, When: policy.When{Schedule: "s"}, Then: policy.Block},
			{ID: "r2", Name: "Never", If: policy.Cond{Op: policy.InList, Values: []string{"b"}}, Then: policy.Block},
		}}},
		Fallback: &policy.Policy{Name: "Fallback", Otherwise: policy.Hold},
	}
	return &Edition{Revision: 7, Since: noon, Snapshot: policy.New(config)}
}

func request(url, address string, person uuid.UUID) Request {
	return Request{Client: Client{netip.MustParseAddr(address), person, person != uuid.Nil}, URL: weburl.MustParse(url), Method: "GET", Sight: weburl.Full}
}

// A gate blocks until it has an edition, and then decides by it, for people and networks; it says why, and records it.
func TestDecide(t *testing.T) {
	now, records := noon, &kept{}
	g := New(policy.Proxy, "front", func() time.Time { return now }, records)
	first := g.Decide(request("http://heron.example/", "10.40.10.7", uuid.Nil))
	assert.Equal(t, policy.Block, first.Verdict)
	assert.Contains(t, g.Explain(first).Because, "no rules yet")
	assert.False(t, g.Opens(request("https://heron.example/", "10.40.10.7", uuid.Nil)))

	g.Take(ward(t, true, "tern.example"))
	for url, want := range map[string]policy.Verdict{"http://heron.example/": policy.Allow, "http://tern.example/": policy.Block, "http://oddsfield.example/": policy.Allow} {
		assert.Equal(t, want, g.Decide(request(url, "10.40.10.7", uuid.Nil)).Verdict, url)
		assert.Equal(t, want, g.Decide(request(url, "192.0.2.1", kay)).Verdict, url)
		assert.Equal(t, policy.Hold, g.Decide(request(url, "192.0.2.1", uuid.Nil)).Verdict, "the fallback")
	}
	d := g.Decide(request("http://tern.example/a", "192.0.2.1", kay))
	why := g.Explain(d)
	assert.Contains(t, why.Because, `because the list "Blocked" has the entry tern.example`)
	assert.Equal(t, "Ward: Never", why.Source)
	assert.Equal(t, []string{"Nurses"}, why.Groups)
	until, changes := g.Until(g.Decide(request("http://oddsfield.example/", "10.40.10.7", uuid.Nil)))
	assert.True(t, changes)
	assert.Equal(t, noon.Add(time.Hour), until.UTC())
	_, changes = g.Until(first)
	assert.False(t, changes)
	assert.Equal(t, []string{"Kay Moran", "Wards", ""}, []string{
		g.Called(Client{Address: netip.MustParseAddr("10.40.10.7"), Person: kay}), g.Called(Client{Address: netip.MustParseAddr("10.40.10.7")}), g.Called(Client{Address: netip.MustParseAddr("192.0.2.1")}),
	})

	g.Record(d, journal.Ending{Outcome: journal.Answered, Status: 403, Reference: "R"})
	r := records.all[0]
	assert.Equal(t, []any{kay, "http://tern.example/a", policy.Proxy, weburl.Full, policy.Block, "front", int64(7), "Ward: Never", journal.Answered, 403, "R"},
		[]any{r.Person, r.URL, r.Gate, r.Sight, r.Verdict, r.GateName, r.Revision, r.By, r.Outcome, r.Status, r.Reference})
	assert.Equal(t, Counts{Decided: 12, Refused: 7}, g.Counts())
	assert.Equal(t, int64(7), g.Report().Revision)
}

// What is under way is cut as soon as its verdict does not pass any more: with the time, with an edition, or with the opening of connections; and only then.
func TestWatch(t *testing.T) {
	var mu sync.Mutex
	now := noon
	clock := func() time.Time {
		mu.Lock()
		defer mu.Unlock()
		return now
	}
	g := New(policy.Proxy, "front", clock, &kept{})
	g.Take(ward(t, false))
	cut := map[string]int{}
	watch := func(name, url string, tunnel bool) func() bool {
		r := request(url, "10.40.10.7", uuid.Nil)
		if tunnel {
			r.Sight = weburl.Tunnel
		}
		return g.Watch(g.Decide(r), tunnel, func() int64 { return 0 }, func() { cut[name]++ })
	}
	odds, heron := watch("odds", "http://oddsfield.example/", false), watch("heron", "http://heron.example/", false)
	tern, tunnel := watch("tern", "http://tern.example/", false), watch("tunnel", "https://gull.example/", true)
	ended := watch("ended", "http://oddsfield.example/", false)
	assert.False(t, ended(), "it ended by itself")
	g.decideAgain()
	assert.Empty(t, cut)
	assert.EqualValues(t, 4, g.Counts().Running)

	mu.Lock()
	now = noon.Add(time.Hour)
	mu.Unlock()
	g.decideAgain()
	assert.Equal(t, map[string]int{"odds": 1}, cut, "the time turned it")
	g.Take(ward(t, false, "tern.example"))
	g.decideAgain()
	assert.Equal(t, map[string]int{"odds": 1, "tern": 1}, cut, "an edition turned it")
	g.Take(ward(t, true, "tern.example"))
	g.decideAgain()
	assert.Equal(t, map[string]int{"odds": 1, "tern": 1}, cut, "without an authority nothing is opened")
	g.CanOpen(true)
	g.decideAgain()
	g.decideAgain()
	assert.Equal(t, map[string]int{"odds": 1, "tern": 1, "tunnel": 1}, cut, "its connection would be opened now")
	assert.Equal(t, []bool{true, false, true, true}, []bool{odds(), heron(), tern(), tunnel()})
	assert.Equal(t, int64(3), g.Counts().Cut)
	assert.Zero(t, g.Counts().Running)
}

// Decisions, watches and editions go on side by side, and a gate that runs ends with its context.
func TestSideBySide(t *testing.T) {
	g := New(policy.Proxy, "front", time.Now, &kept{})
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		g.Run(ctx)
	}()
	var all sync.WaitGroup
	for hand := range 4 {
		all.Go(func() {
			for range 200 {
				if hand == 0 {
					g.Take(ward(t, true, "tern.example"))
					g.decideAgain()
					continue
				}
				d := g.Decide(request("http://heron.example/", "10.40.10.7", uuid.Nil))
				g.Watch(d, false, func() int64 { return 0 }, func() {})()
			}
		})
	}
	all.Wait()
	stop()
	<-ended
	assert.Zero(t, g.Counts().Running)
	assert.EqualValues(t, 600, g.Counts().Decided)
}

// The authority that signs is the one that began last.
func TestCurrent(t *testing.T) {
	all := []Authority{{ID: uuid.New(), From: noon.Add(time.Hour)}, {ID: uuid.New(), From: noon.Add(-time.Hour)}, {ID: uuid.New(), From: noon.Add(-2 * time.Hour)}}
	assert.Equal(t, all[1].ID, Current(all, noon).ID)
	assert.Equal(t, all[0].ID, Current(all, noon.Add(time.Hour)).ID)
	assert.Nil(t, Current(all, noon.Add(-3*time.Hour)))
	assert.Nil(t, Current(nil, noon))
}

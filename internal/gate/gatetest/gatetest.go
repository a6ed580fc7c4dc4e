// Package gatetest is what each protocol of a gate must pass: it does what the gate decides, for as long as something lasts, and every decision makes one record.
//
// From: a protocol's client, as a function.
// To: the outcome of a test.
package gatetest

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
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
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// Child is a protocol of a gate, ready to be asked.
type Child struct {
	// Ask asks for a URL as a client at an address, and reports whether it got what it asked for.
	Ask func(t *testing.T, from netip.Addr, url string) (passed bool)

	// Lasts begins a request for a URL that lasts for as long as it may, and returns what is closed when it was cut; nil for a protocol in which nothing lasts.
	Lasts func(t *testing.T, from netip.Addr, url string) (cut <-chan struct{})

	// Scheme is that of the URLs that are asked for: http or https.
	Scheme string
}

// The clients of the tests: addresses at loopback, as those of real clients.
var (
	Ward   = netip.MustParseAddr("127.0.10.7")
	Office = netip.MustParseAddr("127.0.30.7")
)

// Stand is a gate whose clock and records a test holds.
type Stand struct {
	Gate    *gate.Gate
	ahead   atomic.Int64
	records recorded
}

// recorded keeps records. It implements [gate.Recorder].
type recorded struct {
	mu  sync.Mutex
	all []journal.Record // guarded by mu
}

// Add implements [gate.Recorder].
func (r *recorded) Add(one journal.Record) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all = append(r.all, one)
}

// of returns the records of requests to a host.
func (r *recorded) of(host string) (found []journal.Record) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, one := range r.all {
		if u, err := weburl.Parse(one.URL); err == nil && u.Host() == host {
			found = append(found, one)
		}
	}
	return found
}

// noon is when the clock of a stand begins: a Sunday.
var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// NewStand returns a stand of a kind of gates.
func NewStand(t *testing.T, kind policy.Gate) *Stand {
	t.Helper()
	s := &Stand{}
	began := time.Now()
	s.Gate = gate.New(kind, "gatetest", func() time.Time { return noon.Add(time.Since(began)).Add(time.Duration(s.ahead.Load())) }, &s.records)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.Gate.Run(ctx)
	}()
	t.Cleanup(func() {
		stop()
		<-ended
	})
	return s
}

var ids = map[string]string{
	"kay": "11111111-0000-4000-8000-000000000001", "nurses": "11111111-0000-4000-8000-000000000002", "ward": "11111111-0000-4000-8000-000000000003",
	"policy": "11111111-0000-4000-8000-000000000004", "fallback": "11111111-0000-4000-8000-000000000005", "break": "11111111-0000-4000-8000-000000000006",
}

// rule returns the id of the rule for a verdict.
func rule(v policy.Verdict) string {
	return uuid.NewSHA1(uuid.Nil, []byte(v)).String()
}

// edition returns an edition: hosts of which the verdict is the first label, in a policy for the nurses, who are on the ward; for all others, everything is allowed.
func (s *Stand) edition(revision int64, change func(*policy.Config), facts policy.Facts) *gate.Edition {
	var lists []match.List
	ward := policy.Policy{ID: ids["policy"], Name: "Ward", Groups: []string{ids["nurses"]}, Otherwise: policy.Allow}
	for _, v := range []policy.Verdict{policy.Allow, policy.Watch, policy.Hold, policy.Block} {
		lists = append(lists, match.List{ID: "list " + string(v), Name: string(v), Entries: pattern.Keep(string(v) + ".example")})
		ward.Rules = append(ward.Rules, policy.Rule{ID: rule(v), Name: "Rule " + string(v), If: policy.Cond{Op: policy.InList, Values: []string{"list " + string(v)}}, Then: v})
	}
	pause, err := schedule.Parse("mon-sun 11:00-12:30")
	if err != nil {
		panic(err) // it is a constant
	}
	config := policy.Config{
		Directory: directory.New([]directory.Person{{ID: ids["kay"], Name: "Kay Moran"}}, []directory.Group{{ID: ids["nurses"], Name: "Nurses", Persons: []string{ids["kay"]}, Networks: []string{ids["ward"]}}},
			[]directory.Network{{ID: ids["ward"], Name: "Wards", Ranges: []netip.Prefix{netip.MustParsePrefix("127.0.10.0/24")}}}),
		Lists: match.New(lists), Zone: time.UTC, Way: policy.ByProxy, Policies: []policy.Policy{ward}, Fallback: &policy.Policy{ID: ids["fallback"], Name: "Fallback", Otherwise: policy.Allow},
		Schedules: []policy.Schedule{{ID: ids["break"], Name: "Break", Schedule: pause, Zone: time.UTC}},
	}
	if change != nil {
		change(&config)
	}
	return &gate.Edition{Revision: revision, Since: noon, Snapshot: policy.New(config).With(facts)}
}

// Run tests a protocol. begin makes it over the gate of a stand.
func Run(t *testing.T, kind policy.Gate, begin func(t *testing.T, s *Stand) Child) {
	stand := func(t *testing.T) (*Stand, Child, func(from netip.Addr, host string) bool) {
		s := NewStand(t, kind)
		c := begin(t, s)
		return s, c, func(from netip.Addr, host string) bool {
			t.Helper()
			return c.Ask(t, from, c.Scheme+"://"+host+"/")
		}
	}

	t.Run("nothing passes without rules", func(t *testing.T) {
		_, _, ask := stand(t)
		assert.False(t, ask(Ward, "allow.example"))
		s := NewStand(t, kind)
		s.Gate.OpenWithout = true
		c := begin(t, s)
		assert.True(t, c.Ask(t, Ward, c.Scheme+"://allow.example/"))
	})

	t.Run("what is decided is done, and recorded once", func(t *testing.T) {
		s, _, ask := stand(t)
		s.Gate.Take(s.edition(3, nil, policy.Facts{}))
		for _, v := range []policy.Verdict{policy.Allow, policy.Watch, policy.Hold, policy.Block} {
			host := string(v) + ".example"
			want := v
			if v == policy.Hold && kind == policy.DNS {
				want = policy.Block
			}
			assert.Equal(t, want.Passes(), ask(Ward, host), host)
			require.Eventually(t, func() bool { return len(s.records.of(host)) > 0 }, 10*time.Second, 5*time.Millisecond)
			all := s.records.of(host)
			require.Len(t, all, 1)
			r := all[0]
			assert.Equal(t, []any{want, kind, "gatetest", int64(3), Ward, policy.AtPolicy}, []any{r.Verdict, r.Gate, r.GateName, r.Revision, r.Address, r.Rung})
			assert.Equal(t, []string{ids["policy"], rule(v), ids["ward"], ids["nurses"]}, []string{r.Policy.String(), r.Rule.String(), r.Network.String(), r.Groups[0].String()})
			assert.Equal(t, host, r.Entry)
			q, ok := r.Request()
			require.True(t, ok)
			assert.Equal(t, r.Verdict, s.Gate.Edition().Snapshot.Decide(&policy.Work{}, &q, r.At).Verdict, "decided again as it was recorded")
		}
		assert.True(t, ask(Office, "block.example"), "for others, it is allowed")
	})

	t.Run("an edition counts at once, and presences do", func(t *testing.T) {
		s, _, ask := stand(t)
		s.Gate.Take(s.edition(1, nil, policy.Facts{}))
		assert.True(t, ask(Office, "block.example"))
		s.Gate.Take(s.edition(1, nil, policy.Facts{Presences: []policy.Presence{{Person: ids["kay"], Addr: Office, From: noon.Add(-time.Hour), Until: noon.Add(time.Hour)}}}))
		assert.False(t, ask(Office, "block.example"))
		require.Eventually(t, func() bool {
			return slices.ContainsFunc(s.records.of("block.example"), func(r journal.Record) bool { return r.Person.String() == ids["kay"] })
		}, 10*time.Second, 5*time.Millisecond)
		s.Gate.Take(s.edition(2, func(c *policy.Config) { c.Policies[0].Rules = nil }, policy.Facts{}))
		assert.True(t, ask(Ward, "block.example"))
	})

	t.Run("as much is recorded as the policy says", func(t *testing.T) {
		s, c, ask := stand(t)
		records := func(a policy.Amount) func(*policy.Config) {
			return func(c *policy.Config) { c.Policies[0].Records.Amount = a }
		}
		s.Gate.Take(s.edition(1, records(policy.Nothing), policy.Facts{}))
		assert.False(t, ask(Ward, "block.example"))
		s.Gate.Take(s.edition(2, records(policy.GroupOnly), policy.Facts{}))
		assert.True(t, c.Ask(t, Ward, c.Scheme+"://allow.example/private/page?name=kay"))
		require.Eventually(t, func() bool { return len(s.records.of("allow.example")) > 0 }, 10*time.Second, 5*time.Millisecond)
		assert.Empty(t, s.records.of("block.example"))
		assert.EqualValues(t, 1, s.Gate.Counts().Unrecorded)
		r := s.records.of("allow.example")[0]
		assert.Equal(t, c.Scheme+"://allow.example/", r.URL)
		assert.Equal(t, []any{uuid.Nil, netip.Addr{}, "", "", time.Duration(0), int64(0)}, []any{r.Person, r.Address, r.Method, r.Agent, r.Took, r.Size})
		assert.Equal(t, r.At.Truncate(time.Minute), r.At)
	})

	t.Run("rules hold while something lasts", func(t *testing.T) {
		s, c, _ := stand(t)
		if c.Lasts == nil {
			t.Skip("nothing lasts in this protocol")
		}
		inBreak := func(c *policy.Config) {
			c.Policies[0].Rules = append([]policy.Rule{{ID: rule("break"), Name: "In breaks", When: policy.When{Schedule: ids["break"]}, Then: policy.Allow}}, c.Policies[0].Rules...)
		}
		s.Gate.Take(s.edition(1, inBreak, policy.Facts{}))
		byTime := c.Lasts(t, Ward, c.Scheme+"://block.example/")
		goesOn := c.Lasts(t, Ward, c.Scheme+"://allow.example/")
		within := func(cut <-chan struct{}) {
			t.Helper()
			select {
			case <-cut:
			case <-time.After(20 * time.Second):
				t.Fatal("it goes on")
			}
		}
		s.ahead.Store(int64(31 * time.Minute)) // the break is over
		within(byTime)
		byEdition := c.Lasts(t, Ward, c.Scheme+"://watch.example/")
		s.Gate.Take(s.edition(2, func(c *policy.Config) { c.Policies[0].Rules[1].Then = policy.Block }, policy.Facts{}))
		within(byEdition)
		select {
		case <-goesOn:
			t.Fatal("what is allowed was cut")
		default:
		}
		for _, host := range []string{"block.example", "watch.example"} {
			require.Eventually(t, func() bool {
				all := s.records.of(host)
				return len(all) > 0 && all[len(all)-1].Outcome == journal.Cut
			}, 10*time.Second, 5*time.Millisecond)
		}
	})

	t.Run("editions change under load", func(t *testing.T) {
		s, c, _ := stand(t)
		s.Gate.Take(s.edition(1, nil, policy.Facts{}))
		stop := make(chan struct{})
		var swaps sync.WaitGroup
		swaps.Go(func() {
			for n := int64(2); ; n++ {
				select {
				case <-stop:
					return
				case <-time.After(time.Millisecond):
					s.Gate.Take(s.edition(n, nil, policy.Facts{}))
				}
			}
		})
		var asks sync.WaitGroup
		for worker := range 4 {
			asks.Go(func() {
				for n := range 25 {
					assert.True(t, c.Ask(t, Ward, fmt.Sprintf("%s://w%d-%d.allow.example/", c.Scheme, worker, n)))
					assert.False(t, c.Ask(t, Ward, fmt.Sprintf("%s://w%d-%d.block.example/", c.Scheme, worker, n)))
				}
			})
		}
		asks.Wait()
		close(stop)
		swaps.Wait()
		require.Eventually(t, func() bool {
			s.records.mu.Lock()
			defer s.records.mu.Unlock()
			return len(s.records.all) == 200
		}, 10*time.Second, 5*time.Millisecond, "one record for each")
	})
}

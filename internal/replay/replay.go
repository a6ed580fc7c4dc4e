// Package replay decides recorded requests again: under another state, or as if something were blocked.
//
// From: the journal, and states.
// To: what turned, for whom, and why.
package replay

import (
	"cmp"
	"context"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/hands"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/journal"
)

// Query chooses recorded requests, and which of those that turned are shown one by one.
type Query struct {
	From, To time.Time
	Host     string // only to this host and below; "" for all
	Person   string // only of this person, by id; "" for all
	By       string // only those that this decides now, as [Group.By] has it; "" for all
	Limit    int    // so many are shown one by one
}

// Replayed is the result of replaying recorded requests under two states.
type Replayed struct {
	Requests, People, Hosts           int
	Turned, TurnedPeople, TurnedHosts int
	Opened, Closed                    int // of those that turned: that pass now and did not, and the reverse
	Groups                            []Group
	Shown                             []Request // the first of those that turned
	Took                              time.Duration
}

// Group is requests that turn alike, for the same reason.
type Group struct {
	Before, After           policy.Verdict
	By                      string // what decides now: a rule, an exception, an otherwise
	WasBy                   string // what decided before
	Requests, People, Hosts int
	Top                     []HostCount
}

// HostCount is requests to one host.
type HostCount struct {
	Host     string
	Requests int
}

// Request is one recorded request that turned.
type Request struct {
	journal.Record
	Before, After policy.Verdict
	By            string
}

// turning is the key by which turned requests are grouped.
type turning struct {
	before, after policy.Verdict
	by, was       string
}

// tally is the counts of one goroutine.
type tally struct {
	requests, opened, closed int
	people, turnedPeople     map[uuid.UUID]bool
	hosts, turnedHosts       map[string]bool
	groups                   map[turning]*turned
	shown                    []Request
}

type turned struct {
	requests int
	people   map[uuid.UUID]bool
	hosts    map[string]int
}

func newTally() *tally {
	return &tally{people: map[uuid.UUID]bool{}, turnedPeople: map[uuid.UUID]bool{}, hosts: map[string]bool{}, turnedHosts: map[string]bool{}, groups: map[turning]*turned{}}
}

// Replayer replays the records of a journal. It is safe for concurrent use.
type Replayer struct {
	Journal journal.Reader
	Now     func() time.Time
}

// each distributes recorded requests in batches to as many goroutines as there are processors. work returns the function of one goroutine.
func (d *Replayer) each(ctx context.Context, from, to time.Time, work func() func([]journal.Record)) error {
	const size = 1024
	batches := make(chan []journal.Record, 4)
	var shared hands.Group
	for range runtime.GOMAXPROCS(0) {
		do := work()
		shared.Go(func() {
			for batch := range batches {
				do(batch)
			}
		})
	}
	batch := make([]journal.Record, 0, size)
	err := d.Journal.EachRecord(ctx, from, to, false, func(r journal.Record) error {
		if batch = append(batch, r); len(batch) == size {
			batches <- batch
			batch = make([]journal.Record, 0, size)
		}
		return nil
	})
	batches <- batch
	close(batches)
	shared.Wait()
	return err
}

// Replay decides recorded requests again, each at its own moment, under two states.
func (d *Replayer) Replay(ctx context.Context, before, after *edition.State, query Query) (Replayed, error) {
	begin := d.Now()
	var tallies []*tally
	err := d.each(ctx, query.From, query.To, func() func([]journal.Record) {
		t := newTally()
		tallies = append(tallies, t)
		var w policy.Work
		return func(batch []journal.Record) {
			for i := range batch {
				t.count(&w, before.Snapshot, after.Snapshot, &batch[i], query)
			}
		}
	})
	if err != nil {
		return Replayed{}, err
	}
	sum := newTally()
	for _, t := range tallies {
		sum.add(t)
	}
	r := sum.result(query.Limit)
	r.Took = d.Now().Sub(begin)
	return r, nil
}

func (t *tally) count(w *policy.Work, before, after *policy.Snapshot, r *journal.Record, query Query) {
	q, ok := r.Request()
	if !ok || query.Person != "" && q.Person != query.Person {
		return
	}
	host := q.URL.Host()
	if query.Host != "" && host != query.Host && !strings.HasSuffix(host, "."+query.Host) {
		return
	}
	t.requests++
	t.hosts[host] = true
	if r.Person != uuid.Nil {
		t.people[r.Person] = true
	}
	was := before.Decide(w, &q, r.At)
	is := after.Decide(w, &q, r.At)
	if was.Verdict == is.Verdict {
		return
	}
	k := turning{was.Verdict, is.Verdict, after.Source(is), before.Source(was)}
	if query.By != "" && k.by != query.By {
		return
	}
	if was.Verdict.Passes() != is.Verdict.Passes() {
		if is.Verdict.Passes() {
			t.opened++
		} else {
			t.closed++
		}
	}
	g := t.groups[k]
	if g == nil {
		g = &turned{people: map[uuid.UUID]bool{}, hosts: map[string]int{}}
		t.groups[k] = g
	}
	g.requests++
	g.hosts[host]++
	t.turnedHosts[host] = true
	if r.Person != uuid.Nil {
		g.people[r.Person], t.turnedPeople[r.Person] = true, true
	}
	if len(t.shown) < query.Limit {
		t.shown = append(t.shown, Request{*r, k.before, k.after, k.by})
	}
}

func union[K comparable](into, from map[K]bool) {
	for k := range from {
		into[k] = true
	}
}

func (t *tally) add(o *tally) {
	t.requests, t.opened, t.closed = t.requests+o.requests, t.opened+o.opened, t.closed+o.closed
	union(t.people, o.people)
	union(t.turnedPeople, o.turnedPeople)
	union(t.hosts, o.hosts)
	union(t.turnedHosts, o.turnedHosts)
	for k, g := range o.groups {
		if t.groups[k] == nil {
			t.groups[k] = &turned{people: map[uuid.UUID]bool{}, hosts: map[string]int{}}
		}
		t.groups[k].requests += g.requests
		union(t.groups[k].people, g.people)
		for host, n := range g.hosts {
			t.groups[k].hosts[host] += n
		}
	}
	t.shown = append(t.shown, o.shown...)
}

// topHosts is how many hosts of each group are named.
const topHosts = 10

func top(hosts map[string]int, most int) []HostCount {
	all := []HostCount{}
	for host, n := range hosts {
		all = append(all, HostCount{host, n})
	}
	slices.SortFunc(all, func(a, b HostCount) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Host, b.Host))
	})
	return all[:min(len(all), most)]
}

func (t *tally) result(limit int) Replayed {
	r := Replayed{
		Requests: t.requests, People: len(t.people), Hosts: len(t.hosts), TurnedPeople: len(t.turnedPeople), TurnedHosts: len(t.turnedHosts),
		Opened: t.opened, Closed: t.closed, Groups: []Group{}, Shown: t.shown,
	}
	for k, g := range t.groups {
		r.Turned += g.requests
		r.Groups = append(r.Groups, Group{k.before, k.after, k.by, k.was, g.requests, len(g.people), len(g.hosts), top(g.hosts, topHosts)})
	}
	slices.SortFunc(r.Groups, func(a, b Group) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.By, b.By), strings.Compare(a.WasBy, b.WasBy), strings.Compare(string(a.Before), string(b.Before)))
	})
	slices.SortStableFunc(r.Shown, func(a, b Request) int { return b.At.Compare(a.At) })
	r.Shown = r.Shown[:min(len(r.Shown), limit)]
	return r
}

// Affected is who would have been affected if something had been blocked.
type Affected struct {
	Requests, People, Hosts int
	Reached                 int // of those, so many pass as the draft is: they are what a block would take away
	All                     int // requests that were looked at
	Groups                  []AffectedGroup
	Top                     []HostCount
}

// AffectedGroup is what the members of one group asked for.
type AffectedGroup struct {
	Name             string // "" for those who are in none
	Requests, People int
	Hours            [24]int // by the hour of the day, where the organisation is
}

// affected is the counts of one goroutine for [Replayer.Affected].
type affected struct {
	all, requests, reached int
	people                 map[uuid.UUID]bool
	hosts                  map[string]int
	groups                 map[string]*AffectedGroup
	members                map[string]map[uuid.UUID]bool
}

// Affected finds the recorded requests of some categories or families, or covered by some entries: who would have been
// affected by blocking them, and when.
func (d *Replayer) Affected(ctx context.Context, h *edition.State, categories []string, entries []pattern.Entry, from, to time.Time) (Affected, error) {
	wanted := map[string]bool{}
	for _, c := range h.Snapshot.Config().Taxonomy.Categories {
		if slices.Contains(categories, c.Key) || slices.Contains(categories, c.Family) {
			wanted[c.Key] = true
		}
	}
	index := match.New([]match.List{{Entries: entries}})
	var counts []*affected
	err := d.each(ctx, from, to, func() func([]journal.Record) {
		a := &affected{people: map[uuid.UUID]bool{}, hosts: map[string]int{}, groups: map[string]*AffectedGroup{}, members: map[string]map[uuid.UUID]bool{}}
		counts = append(counts, a)
		var w policy.Work
		belongs := map[string][]match.Ref{}
		return func(batch []journal.Record) {
			for i := range batch {
				r := &batch[i]
				q, ok := r.Request()
				if !ok {
					continue
				}
				a.all++
				at := r.At.In(h.Zone)
				day := pattern.DateOf(at)
				hit := len(entries) > 0 && index.Covered(q.URL, day)
				if !hit && len(wanted) > 0 {
					hit = slices.ContainsFunc(h.Snapshot.Categories(&w, q.URL, day), func(key string) bool { return wanted[key] })
				}
				if !hit {
					continue
				}
				a.requests++
				a.hosts[q.URL.Host()]++
				if h.Snapshot.Decide(&w, &q, r.At).Verdict.Passes() {
					a.reached++
				}
				if r.Person != uuid.Nil {
					a.people[r.Person] = true
				}
				who := q.Person + " " + q.Addr.String()
				groups, known := belongs[who]
				if !known {
					groups = h.Snapshot.Standing(&w, policy.Request{Person: q.Person, Addr: q.Addr}, r.At).Groups
					belongs[who] = groups
				}
				if len(groups) == 0 {
					groups = []match.Ref{{}}
				}
				for _, g := range groups {
					if a.groups[g.Name] == nil {
						a.groups[g.Name], a.members[g.Name] = &AffectedGroup{Name: g.Name}, map[uuid.UUID]bool{}
					}
					a.groups[g.Name].Requests++
					a.groups[g.Name].Hours[at.Hour()]++
					if r.Person != uuid.Nil {
						a.members[g.Name][r.Person] = true
					}
				}
			}
		}
	})
	if err != nil {
		return Affected{}, err
	}
	sum := Affected{Groups: []AffectedGroup{}}
	people, hosts := map[uuid.UUID]bool{}, map[string]int{}
	groups, members := map[string]*AffectedGroup{}, map[string]map[uuid.UUID]bool{}
	for _, a := range counts {
		sum.All, sum.Requests, sum.Reached = sum.All+a.all, sum.Requests+a.requests, sum.Reached+a.reached
		union(people, a.people)
		for host, n := range a.hosts {
			hosts[host] += n
		}
		for name, g := range a.groups {
			if groups[name] == nil {
				groups[name], members[name] = &AffectedGroup{Name: name}, map[uuid.UUID]bool{}
			}
			groups[name].Requests += g.Requests
			for hour, n := range g.Hours {
				groups[name].Hours[hour] += n
			}
			union(members[name], a.members[name])
		}
	}
	for name, g := range groups {
		g.People = len(members[name])
		sum.Groups = append(sum.Groups, *g)
	}
	slices.SortFunc(sum.Groups, func(a, b AffectedGroup) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Name, b.Name))
	})
	sum.People, sum.Hosts, sum.Top = len(people), len(hosts), top(hosts, 2*topHosts)
	return sum, nil
}

// Package usage counts by days what the records say is used: rules, lists, entries, exceptions, categories.
//
// From: parts of the journal.
// To: counts that outlive the records.
package usage

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
)

// Kind is a kind of what is counted.
type Kind string

// The kinds.
const (
	Rule      Kind = "rule" // that decided, or was noted on the way
	List      Kind = "list"
	Entry     Kind = "entry" // of a list
	Exception Kind = "exception"
	Category  Kind = "category"  // that the requests had
	Scorecard Kind = "scorecard" // that gave its category
)

// Kinds lists every kind.
var Kinds = []Kind{Rule, List, Entry, Exception, Category, Scorecard}

// Key is something that is counted. An empty Entry of a list, and an empty ID of exceptions, stand for requests whose record does not say which it was.
type Key struct {
	Kind  Kind
	ID    string // of the object; the key of a category, also for scorecards
	Entry string // in the notation
}

// Count is how often something was used.
type Count struct {
	Requests int64
	Stopped  int64 // of them: held or blocked
	Last     time.Time
}

// Add adds a count.
func (c *Count) Add(o Count) {
	c.Requests += o.Requests
	c.Stopped += o.Stopped
	if o.Last.After(c.Last) {
		c.Last = o.Last
	}
}

// Counts is how often things were used.
type Counts map[Key]Count

// Add adds counts.
func (c Counts) Add(o Counts) {
	for key, n := range o {
		c.add(key, n)
	}
}

func (c Counts) add(key Key, n Count) {
	sum := c[key]
	sum.Add(n)
	c[key] = sum
}

// Of counts what the records of a segment say is used.
func Of(s *segment.Segment) (Counts, error) {
	all, err := s.Select(segment.And{})
	if err != nil {
		return nil, err
	}
	found := Counts{}
	each := func(add func(values []string, n Count), columns ...segment.Column) {
		if err != nil {
			return
		}
		var joint []segment.Joint
		joint, err = s.Together(all, columns...)
		for _, j := range joint {
			stopped := j.Requests[slices.Index(segment.Verdicts[:], policy.Hold)] + j.Requests[slices.Index(segment.Verdicts[:], policy.Block)]
			add(j.Values, Count{j.All(), stopped, j.Last})
		}
	}
	ids := func(kind Kind) func(values []string, n Count) {
		return func(values []string, n Count) {
			for _, id := range segment.UUIDs(values[0]) {
				found.add(Key{Kind: kind, ID: id.String()}, n)
			}
		}
	}
	each(ids(Rule), segment.Rule)
	each(ids(Rule), segment.Notes)
	each(func(values []string, n Count) {
		for _, id := range segment.UUIDs(values[0]) {
			found.add(Key{Kind: List, ID: id.String()}, n)
			found.add(Key{Entry, id.String(), values[1]}, n)
		}
	}, segment.List, segment.Entry)
	each(func(values []string, n Count) {
		if id := segment.UUIDs(values[0]); len(id) > 0 {
			found.add(Key{Kind: Exception, ID: id[0].String()}, n)
		} else if values[1] == string(policy.AtException) {
			found.add(Key{Kind: Exception}, n)
		}
	}, segment.Exception, segment.Rung)
	each(func(values []string, n Count) {
		for _, key := range segment.Several(values[0]) {
			found.add(Key{Kind: Category, ID: key}, n)
			if values[1] == string(classify.ByScorecard) {
				found.add(Key{Kind: Scorecard, ID: key}, n)
			}
		}
	}, segment.Categories, segment.Source)
	return found, err
}

// Day is the records of a day of which one amount is kept.
type Day struct {
	Amount policy.Amount
	Day    time.Time // in UTC
}

// State is what was counted of a day: all that had arrived up to a position.
type State struct {
	Position int64
	N        int64 // records
}

// Used is what is known of one thing that is counted.
type Used struct {
	Count
	Days []int64 // requests by day, from the first day that was asked for
}

// Store keeps counts.
type Store interface {
	// StaleDays returns days that have records which are not counted yet.
	StaleDays(ctx context.Context) ([]Day, error)
	// PartsOf returns the parts with the records of a day.
	PartsOf(ctx context.Context, d Day) ([]archive.Part, error)
	// SetUsage replaces the counts of a day, unless more of it was counted by somebody else meanwhile.
	SetUsage(ctx context.Context, d Day, counted State, counts Counts, by access.Actor) error
	// KeepUsage drops the counts of days before one.
	KeepUsage(ctx context.Context, before time.Time, by access.Actor) error

	// Usage returns the counts of things of one kind since a day, those that were used. entries narrows the entries of a list; nil for all. The time of the last use may be before that day.
	Usage(ctx context.Context, kind Kind, ids, entries []string, since time.Time) (map[Key]Used, error)
	// UsageSpan returns the first day that was counted, and the moment up to which everything that had arrived is counted; zero times where nothing was.
	UsageSpan(ctx context.Context) (since, until time.Time, err error)
	// Unmet returns what was in the draft before a moment, is in it unchanged, and was not used since.
	Unmet(ctx context.Context, since time.Time) (Unmet, error)
	// UnmetEntries returns the ids of entries of a list that were in it before a moment, are in it unchanged and in force, and were not used since, in the list's order. Carve-outs are not among
	// them: records do not say that one was met. There are none where some records do not say which entry decided.
	UnmetEntries(ctx context.Context, list uuid.UUID, since time.Time) ([]UnmetEntry, error)
}

// Unmet is what was not used.
type Unmet struct {
	Rules      []uuid.UUID
	Exceptions []uuid.UUID // none where some records do not say which one decided
}

// UnmetEntry is an entry that was not used.
type UnmetEntry struct {
	ID    int64
	Entry string
}

// Counter keeps the counts up to date. It must not be used concurrently.
type Counter struct {
	Store   Store
	Archive *archive.Archive

	known map[int64]Counts // by part: of days that still get records
}

// keep is how long counts are kept.
const keep = 400 * 24 * time.Hour

// Count counts days that have changed.
func (c *Counter) Count(ctx context.Context, now time.Time) error {
	days, err := c.Store.StaleDays(ctx)
	if err != nil {
		return err
	}
	seen := map[int64]Counts{}
	for _, d := range days {
		parts, err := c.Store.PartsOf(ctx, d)
		if err != nil {
			return err
		}
		var missing []archive.Part
		sum, state := Counts{}, State{}
		for _, p := range parts {
			state.Position, state.N = max(state.Position, p.Position), state.N+int64(p.N)
			if known, ok := c.known[p.ID]; ok {
				seen[p.ID] = known
				sum.Add(known)
			} else {
				missing = append(missing, p)
			}
		}
		lasts := now.Sub(d.Day) < 48*time.Hour
		err = c.Archive.EachPart(ctx, missing, func(p archive.Part, s *segment.Segment) error {
			counts, err := Of(s)
			if err == nil {
				sum.Add(counts)
				if lasts {
					seen[p.ID] = counts
				}
			}
			return err
		})
		if err == nil {
			err = c.Store.SetUsage(ctx, d, state, sum, access.Timetable)
		}
		if err != nil {
			return err
		}
	}
	if len(days) > 0 {
		c.known = seen
		return c.Store.KeepUsage(ctx, now.Add(-keep), access.Timetable)
	}
	return nil
}

// Sorted returns the keys of counts in an order that stays.
func (c Counts) Sorted() []Key {
	return slices.SortedFunc(maps.Keys(c), func(a, b Key) int {
		return slices.Compare([]string{string(a.Kind), a.ID, a.Entry}, []string{string(b.Kind), b.ID, b.Entry})
	})
}

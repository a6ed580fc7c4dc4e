// Package archive finds records: pages of them, counts, and all of a span.
//
// From: parts that a [Source] keeps, and filters of the package query.
// To: records and counts.
package archive

import (
	"cmp"
	"container/list"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/hands"
	"widelark/core/policy"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// ErrGone is returned where a part is read that is not kept any more: its day was dropped, or it was replaced long ago.
var ErrGone = errors.New("a part of the journal is gone")

// unreadable reports whether an error is one of a part alone, so that others are read on.
func unreadable(err error) bool {
	return errors.Is(err, ErrGone) || errors.Is(err, segment.ErrBroken)
}

// Part is a segment that is kept.
type Part struct {
	ID          int64
	Position    int64 // of the batch that came last
	Amount      policy.Amount
	Day         time.Time // in UTC
	N           int
	First, Last time.Time // of its records
}

// Source keeps parts. A part that was listed can be read for an hour, also if its records went into another one meanwhile.
type Source interface {
	// Parts returns the parts with records from one moment until before another, the one with the last record first.
	Parts(ctx context.Context, from, to time.Time) ([]Part, error)
	// PartsAfter returns the parts with the next batches after a position, so many at most; the position of the last of them; and the last position that there is.
	PartsAfter(ctx context.Context, position int64, batches int) (parts []Part, upTo, last int64, err error)
	// Arrivals calls arrived soon after records have come, and now and then, until the context ends.
	Arrivals(ctx context.Context, arrived func())
	// Heads returns the heads of parts, in their order; nil for those that are gone.
	Heads(ctx context.Context, parts []Part) ([][]byte, error)
	// Block returns a block of a part.
	Block(ctx context.Context, p Part, which segment.Block) ([]byte, error)
	// OpenRecords returns the records of requests that are under way.
	OpenRecords(ctx context.Context) ([]journal.Record, error)
	// RecordedSpan is that of [journal.Reader].
	RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error)
}

// Archive finds records. It keeps what it has read lately. It is safe for concurrent use.
type Archive struct {
	source Source
	most   int // bytes that are kept

	arrived sync.Mutex
	news    chan struct{} // guarded by arrived; closed when records have come

	closed chan struct{}
	close  func()

	mu    sync.Mutex
	known map[int64]*list.Element // guarded by mu; of *held
	used  list.List               // guarded by mu; the last used first
	bytes int                     // guarded by mu
}

// held is a segment that is kept, and how many bytes it took when it was used last.
type held struct {
	part    int64
	segment *segment.Segment
	bytes   int
}

// New returns an archive that keeps so many bytes of what it reads.
func New(source Source, most int) *Archive {
	a := &Archive{source: source, most: most, known: map[int64]*list.Element{}, news: make(chan struct{}), closed: make(chan struct{})}
	a.close = sync.OnceFunc(func() { close(a.closed) })
	return a
}

// Close ends the tails.
func (a *Archive) Close() { a.close() }

// blockPatience bounds the reading of a block: it is read for whoever asks next, too.
const blockPatience = 30 * time.Second

// segments returns the segments of parts; nil for those that cannot be read, and how many of them are broken.
func (a *Archive) segments(ctx context.Context, parts []Part) (found []*segment.Segment, broken int, err error) {
	found = make([]*segment.Segment, len(parts))
	var missing []Part
	var places []int
	a.mu.Lock()
	for i, p := range parts {
		if e := a.known[p.ID]; e != nil {
			a.used.MoveToFront(e)
			found[i] = e.Value.(*held).segment
		} else {
			missing, places = append(missing, p), append(places, i)
		}
	}
	a.mu.Unlock()
	if len(missing) == 0 {
		return found, 0, nil
	}
	heads, err := a.source.Heads(ctx, missing)
	if err != nil {
		return nil, 0, err
	}
	for i, head := range heads {
		if head == nil {
			continue
		}
		p := missing[i]
		s, err := segment.Open(head, func(which segment.Block) ([]byte, error) {
			ctx, stop := context.WithTimeout(context.Background(), blockPatience)
			defer stop()
			return a.source.Block(ctx, p, which)
		})
		if unreadable(err) {
			broken++
			continue
		}
		if err != nil {
			return nil, 0, fmt.Errorf("part %d of the journal: %w", p.ID, err)
		}
		found[places[i]] = s
		a.mu.Lock()
		if a.known[p.ID] == nil {
			a.known[p.ID] = a.used.PushFront(&held{part: p.ID, segment: s})
		}
		a.mu.Unlock()
	}
	return found, broken, nil
}

// settle counts what segments take now, and drops those that were used longest ago.
func (a *Archive) settle(parts []Part) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, p := range parts {
		if e := a.known[p.ID]; e != nil {
			h := e.Value.(*held)
			size := h.segment.Size()
			a.bytes += size - h.bytes
			h.bytes = size
		}
	}
	for a.bytes > a.most && a.used.Len() > 1 {
		h := a.used.Remove(a.used.Back()).(*held)
		delete(a.known, h.part)
		a.bytes -= h.bytes
	}
}

// together is how many parts are opened with one question.
const together = 64

// chosen is a segment with what a filter selects of it.
type chosen struct {
	Part
	*segment.Segment
	rows segment.Rows
	why  error // why there is no segment, where it was found out late
}

// choose selects in several segments at once. What cannot be read has no segment afterwards.
func choose(ctx context.Context, all []chosen, f segment.Filter) error {
	var shared hands.Group
	var next atomic.Int64
	failed := make([]error, runtime.GOMAXPROCS(0))
	for i := range failed {
		shared.Go(func() {
			for failed[i] == nil && ctx.Err() == nil {
				at := int(next.Add(1)) - 1
				if at >= len(all) {
					return
				}
				if all[at].Segment == nil {
					continue
				}
				if all[at].rows, failed[i] = all[at].Select(f); unreadable(failed[i]) {
					all[at].why, failed[i], all[at].Segment = failed[i], nil, nil
				}
			}
		})
	}
	shared.Wait()
	return errors.Join(errors.Join(failed...), ctx.Err())
}

// each calls each with the segments of a span and what a filter selects of them: those of requests under way, and then those that are kept, the one with the last record first, until it
// returns false. Parts that cannot be read are passed over; it returns how many of them are broken.
func (a *Archive) each(ctx context.Context, from, to time.Time, f segment.Filter, each func(c chosen) (more bool, err error)) (broken int, err error) {
	open, err := a.source.OpenRecords(ctx)
	if err != nil {
		return 0, err
	}
	byAmount := map[policy.Amount][]journal.Record{}
	for _, r := range open {
		byAmount[r.Amount] = append(byAmount[r.Amount], r)
	}
	for amount, all := range byAmount {
		for some := range slices.Chunk(all, segment.Most) {
			c := chosen{Part: Part{Amount: amount, N: len(some)}, Segment: segment.Of(some)}
			if c.rows, err = c.Select(f); err == nil {
				_, err = each(c)
			}
			if err != nil {
				return 0, err
			}
		}
	}
	parts, err := a.source.Parts(ctx, from, to)
	if err != nil {
		return 0, err
	}
	next := 4 // at first few: a page is soon full
	for len(parts) > 0 {
		some := parts[:min(next, len(parts))]
		parts, next = parts[len(some):], min(2*next, together)
		segments, bad, err := a.segments(ctx, some)
		if err != nil {
			return broken, err
		}
		broken += bad
		all := make([]chosen, len(some))
		for i := range all {
			all[i] = chosen{Part: some[i], Segment: segments[i]}
		}
		err = choose(ctx, all, f)
		more := err == nil
		for i := 0; i < len(all) && more; i++ {
			switch {
			case all[i].Segment != nil:
				more, err = each(all[i])
			case all[i].why != nil:
				err = all[i].why
			}
			if unreadable(err) {
				if errors.Is(err, segment.ErrBroken) {
					broken++
				}
				more, err = true, nil
			}
			if err == nil {
				err = ctx.Err()
			}
			more = more && err == nil
		}
		a.settle(some)
		if err != nil || !more {
			return broken, err
		}
	}
	return broken, nil
}

// Mark is a place between records, which are in the order of time and, at one moment, of their ids; the last first.
type Mark struct {
	At time.Time
	ID uuid.UUID
}

// after orders records and marks, the last first.
func (m Mark) after(r *journal.Record) int {
	return cmp.Or(m.At.Compare(r.At), slices.Compare(m.ID[:], r.ID[:]))
}

// Page is some of the records that a search finds, the last first.
type Page struct {
	Records []journal.Record
	Next    *Mark     // where the next page begins; nil where nothing is left
	Reached time.Time // everything from then on was looked at
	Looked  int       // records that were looked at
	Broken  int       // parts that cannot be read, and are left out
}

// Page returns the first records before a mark, which is nil for the end; limit at most. After patience it returns what it has by then, and a mark to go on from.
func (a *Archive) Page(ctx context.Context, from, to time.Time, f segment.Filter, before *Mark, limit int, patience time.Duration) (page Page, err error) {
	if before != nil && before.At.Before(to) {
		if to = before.At; before.ID != uuid.Nil { // others of its moment may come after it
			to = to.Add(time.Millisecond)
		}
	}
	begin := time.Now()
	page.Reached = from
	page.Broken, err = a.each(ctx, from, to, f, func(c chosen) (bool, error) {
		if c.ID != 0 && len(page.Records) >= limit && page.Records[limit-1].At.After(c.Last) {
			return false, nil
		}
		if reached := c.Last.Add(time.Millisecond); c.ID != 0 && time.Since(begin) > patience && reached.Before(to) && reached.After(from) {
			page.Reached = reached
			page.Records = slices.DeleteFunc(page.Records, func(r journal.Record) bool { return r.At.Before(reached) }) // others of their time were not looked at
			return false, nil
		}
		page.Looked += c.Segment.N
		if c.rows.None() {
			return true, nil
		}
		taken := 0
		var last time.Time
		err := c.Each(c.rows, true, func(r journal.Record, _ int64) bool {
			if taken >= limit && r.At.Before(last) {
				return false // all of one moment are taken: their order is that of their ids
			}
			if before == nil || before.after(&r) > 0 {
				r.Amount, last = c.Amount, r.At
				page.Records = append(page.Records, r)
				taken++
			}
			return true
		})
		slices.SortFunc(page.Records, func(a, b journal.Record) int { return Mark{b.At, b.ID}.after(&a) })
		if len(page.Records) > limit {
			page.Records = page.Records[:limit]
		}
		return true, err
	})
	switch {
	case err != nil:
	case len(page.Records) == limit:
		last := page.Records[limit-1]
		page.Next = &Mark{last.At, last.ID}
		page.Reached = last.At
	case page.Reached.After(from):
		page.Next = &Mark{At: page.Reached} // whose id comes before all
	}
	return page, err
}

// Record returns the record with an id. It reports false if there is none.
func (a *Archive) Record(ctx context.Context, id uuid.UUID) (r journal.Record, ok bool, err error) {
	spans := [][2]time.Time{{{}, FarAway}}
	if id.Version() == 7 { // its time is in it; group-only records keep theirs out
		seconds, nanos := id.Time().UnixTime()
		at := time.Unix(seconds, nanos)
		spans = [][2]time.Time{{at.Add(-2 * time.Second), at.Add(2 * time.Second)}}
	}
	for _, span := range spans {
		_, err = a.each(ctx, span[0], span[1], segment.ID(id), func(c chosen) (bool, error) {
			if c.rows.None() {
				return true, nil
			}
			return false, c.Each(c.rows, true, func(found journal.Record, _ int64) bool {
				r, ok = found, true
				r.Amount = c.Amount
				return false
			})
		})
	}
	return r, ok, err
}

// FarAway is after all records.
var FarAway = time.Date(2201, 1, 1, 0, 0, 0, 0, time.UTC)

// Summary is counts over what a search finds.
type Summary struct {
	Total    segment.Count
	Columns  map[segment.Column]map[string]*segment.Count
	Numbered []map[string]*segment.Count // by the numberings that were asked for
	Over     []segment.Count             // by the spans of time that were asked for
	Reached  time.Time                   // everything from then on was counted
	Broken   int                         // parts that cannot be read, and are left out
}

// By is what is counted by.
type By struct {
	Columns  []segment.Column     // their values
	Numbered []*segment.Numbering // their outcomes
	Over     []time.Time          // where spans of time begin
}

// summing is counts that one goroutine adds to.
type summing struct {
	Summary
	numbered []*segment.Numbered
}

// Summarize counts what a search finds. After patience it returns what it has by then.
func (a *Archive) Summarize(ctx context.Context, from, to time.Time, f segment.Filter, by By, patience time.Duration) (sum Summary, err error) {
	begins := make([]int64, len(by.Over))
	for i, at := range by.Over {
		begins[i] = at.UnixMilli()
	}
	sums := make([]*summing, runtime.GOMAXPROCS(0))
	for i := range sums {
		sums[i] = &summing{Summary: Summary{Columns: map[segment.Column]map[string]*segment.Count{}, Over: make([]segment.Count, len(by.Over))}}
		for _, c := range by.Columns {
			sums[i].Columns[c] = map[string]*segment.Count{}
		}
	}
	for _, n := range by.Numbered {
		for i, of := range n.Start(len(sums)) {
			sums[i].numbered = append(sums[i].numbered, of)
		}
	}
	jobs := make(chan chosen, together)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var shared hands.Group
	failed := make([]error, len(sums))
	for i := range sums {
		shared.Go(func() {
			for j := range jobs {
				if failed[i] == nil {
					if failed[i] = sums[i].add(j, by.Columns, begins); failed[i] != nil {
						stop()
					}
				}
			}
		})
	}
	begin, reached := time.Now(), from
	broken, err := a.each(ctx, from, to, f, func(c chosen) (bool, error) {
		if c.ID != 0 && time.Since(begin) > patience {
			reached = c.Last.Add(time.Millisecond)
			return false, nil
		}
		select {
		case jobs <- c:
		case <-ctx.Done():
			return false, ctx.Err()
		}
		return true, nil
	})
	close(jobs)
	shared.Wait()
	if failure := errors.Join(failed...); failure != nil {
		return sum, failure
	}
	if err != nil {
		return sum, err
	}
	first := sums[0]
	sum = first.Summary
	sum.Reached, sum.Broken = reached, broken
	for _, of := range sums[1:] {
		sum.Total.Add(of.Total)
		for i, n := range of.Over {
			sum.Over[i].Add(n)
		}
		for c, counts := range of.Columns {
			for value, n := range counts {
				if known := sum.Columns[c][value]; known != nil {
					known.Add(*n)
				} else {
					sum.Columns[c][value] = n
				}
			}
		}
		for i, n := range of.numbered {
			first.numbered[i].Join(n)
		}
	}
	for _, n := range first.numbered {
		sum.Numbered = append(sum.Numbered, n.Counts())
	}
	return sum, nil
}

func (sum *summing) add(of chosen, columns []segment.Column, over []int64) error {
	rows := of.rows
	if rows.None() {
		return nil
	}
	total := map[string]*segment.Count{}
	if err := of.Counts(segment.Verdict, rows, total); err != nil {
		return err
	}
	for _, n := range total {
		sum.Total.Add(*n)
	}
	for _, c := range columns {
		if err := of.Counts(c, rows, sum.Columns[c]); err != nil {
			return err
		}
	}
	for _, n := range sum.numbered {
		if err := n.Add(of.Segment, rows); err != nil {
			return err
		}
	}
	if len(over) > 0 {
		return of.Over(rows, over, sum.Over)
	}
	return nil
}

// Each calls each with the records that a search finds: the last part of the time first, and within a part the last record first. It needs the memory of a part. Where parts cannot be read, the error comes
// when all others were.
func (a *Archive) Each(ctx context.Context, from, to time.Time, f segment.Filter, each func(journal.Record) error) error {
	broken, err := a.each(ctx, from, to, f, func(c chosen) (bool, error) {
		if c.rows.None() {
			return true, nil
		}
		var failed error
		err := c.Each(c.rows, true, func(r journal.Record, _ int64) bool {
			r.Amount = c.Amount
			failed = each(r)
			return failed == nil
		})
		return true, errors.Join(err, failed)
	})
	if err == nil && broken > 0 {
		err = fmt.Errorf("%w: %d parts are left out", segment.ErrBroken, broken)
	}
	return err
}

// EachRecord implements [journal.Reader]. In order, it needs the memory of the parts that are of one time.
func (a *Archive) EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(journal.Record) error) error {
	parts, err := a.source.Parts(ctx, from, to)
	if err != nil {
		return err
	}
	parts = slices.DeleteFunc(parts, func(p Part) bool { return p.Amount != policy.Everything })
	slices.SortStableFunc(parts, func(a, b Part) int { return a.First.Compare(b.First) })
	between := segment.Between{Amount: segment.At, Spans: []segment.Span{{From: from.UnixMilli(), To: to.Add(time.Millisecond - 1).UnixMilli()}}}
	var held []journal.Record // in order, those that come before what was not read yet are still to be given out
	flush := func(until time.Time) error {
		slices.SortStableFunc(held, func(a, b journal.Record) int { return a.At.Compare(b.At) })
		n := 0
		for ; n < len(held) && held[n].At.Before(until); n++ {
			if err := each(held[n]); err != nil {
				return err
			}
		}
		held = append(held[:0], held[n:]...)
		return nil
	}
	for at := 0; at < len(parts); at += together {
		some := parts[at:min(at+together, len(parts))]
		segments, _, err := a.segments(ctx, some)
		if err != nil {
			return err
		}
		for i, s := range segments {
			if err := flush(some[i].First); err != nil {
				return err
			}
			if s == nil {
				continue
			}
			rows, err := s.Select(between)
			if unreadable(err) {
				continue
			}
			if err != nil {
				return err
			}
			var failed error
			err = s.EachRequest(rows, func(r *journal.Record) bool {
				if inOrder {
					held = append(held, *r)
				} else {
					failed = each(*r)
				}
				return failed == nil
			})
			if unreadable(err) {
				err = nil
			}
			if err := errors.Join(err, failed, ctx.Err()); err != nil {
				return err
			}
		}
		a.settle(some)
	}
	return flush(FarAway)
}

// EachPart calls each with parts and their segments, those that can be read.
func (a *Archive) EachPart(ctx context.Context, parts []Part, each func(Part, *segment.Segment) error) error {
	for some := range slices.Chunk(parts, together) {
		segments, _, err := a.segments(ctx, some)
		for i := 0; i < len(segments) && err == nil; i++ {
			if segments[i] == nil {
				continue
			}
			if err = each(some[i], segments[i]); unreadable(err) {
				err = nil
			}
			if err == nil {
				err = ctx.Err()
			}
		}
		a.settle(some)
		if err != nil {
			return err
		}
	}
	return nil
}

// RecordedSpan implements [journal.Reader].
func (a *Archive) RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error) {
	return a.source.RecordedSpan(ctx)
}

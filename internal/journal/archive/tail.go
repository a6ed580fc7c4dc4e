package archive

import (
	"cmp"
	"context"
	"math"
	"slices"

	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// Watch makes the tails go on when records come, until the context ends.
func (a *Archive) Watch(ctx context.Context) {
	a.source.Arrivals(ctx, func() {
		a.arrived.Lock()
		defer a.arrived.Unlock()
		close(a.news)
		a.news = make(chan struct{})
	})
}

// Newest is the position of a tail that begins with what comes next.
const Newest = math.MaxInt64

// Tail calls each with the records that a filter selects of those that come after a position, and with the position from which to go on. It calls each also where nothing was
// selected, so that the caller can say how far it is. It waits for more until the context ends, each fails, or the archive is closed. Positions are good for a day.
func (a *Archive) Tail(ctx context.Context, after int64, f segment.Filter, each func(records []journal.Record, position int64) error) error {
	if after == Newest {
		_, last, err := a.source.PartsAfter(ctx, Newest)
		if err != nil {
			return err
		}
		after = last
	}
	for {
		a.arrived.Lock()
		news := a.news
		a.arrived.Unlock()
		parts, last, err := a.source.PartsAfter(ctx, after)
		if err != nil {
			return err
		}
		segments, err := a.segments(ctx, parts)
		if err != nil {
			return err
		}
		var found []journal.Record
		for i, s := range segments {
			rows, err := s.Select(f)
			if err != nil {
				return err
			}
			err = s.Each(rows, false, func(r journal.Record, position int64) bool {
				if cmp.Or(position, parts[i].Position) > after {
					r.Amount = parts[i].Amount
					found = append(found, r)
				}
				return true
			})
			if err != nil {
				return err
			}
		}
		a.settle(parts)
		slices.SortStableFunc(found, func(a, b journal.Record) int { return a.At.Compare(b.At) })
		after = max(after, last)
		if err := each(found, after); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-a.closed:
			return nil
		case <-news:
		}
	}
}

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

// atOnce is how many batches a tail reads at once.
const atOnce = 256

// End returns the position of what came last.
func (a *Archive) End(ctx context.Context) (int64, error) {
	_, _, last, err := a.source.PartsAfter(ctx, Newest, 1)
	return last, err
}

// After returns the records that a filter selects of those that came after a position, in up to so many batches, in the order of time; the position from which to go on; and whether there are more.
// Positions are good for a day, and for as long as records are sent on from them.
func (a *Archive) After(ctx context.Context, after int64, f segment.Filter, batches int) (found []journal.Record, upTo int64, more bool, err error) {
	parts, upTo, last, err := a.source.PartsAfter(ctx, after, batches)
	if err != nil {
		return nil, after, false, err
	}
	for some := range slices.Chunk(parts, together) {
		segments, _, err := a.segments(ctx, some)
		if err != nil {
			return nil, after, false, err
		}
		for i, s := range segments {
			if s == nil {
				continue
			}
			rows, err := s.Select(f)
			if unreadable(err) {
				continue
			}
			if err != nil {
				return nil, after, false, err
			}
			err = s.Each(rows, false, func(r journal.Record, position int64) bool {
				if position = cmp.Or(position, some[i].Position); position > after && position <= upTo {
					r.Amount = some[i].Amount
					found = append(found, r)
				}
				return true
			})
			if err != nil && !unreadable(err) {
				return nil, after, false, err
			}
		}
		a.settle(some)
	}
	slices.SortStableFunc(found, func(a, b journal.Record) int { return a.At.Compare(b.At) })
	upTo = max(after, upTo)
	return found, upTo, upTo < last, nil
}

// Tail calls each with the records that a filter selects of those that come after a position, and with the position from which to go on. It calls each also where nothing was
// selected, so that the caller can say how far it is. It waits for more until the context ends, each fails, or the archive is closed. For positions, see [Archive.After].
func (a *Archive) Tail(ctx context.Context, after int64, f segment.Filter, each func(records []journal.Record, position int64) error) error {
	if after == Newest {
		var err error
		if after, err = a.End(ctx); err != nil {
			return err
		}
	}
	for {
		a.arrived.Lock()
		news := a.news
		a.arrived.Unlock()
		found, upTo, more, err := a.After(ctx, after, f, atOnce)
		if err != nil {
			return err
		}
		after = upTo
		if err := each(found, after); err != nil {
			return err
		}
		if more {
			continue
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

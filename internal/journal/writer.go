package journal

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
)

// Records are written together: as soon as there are mostTogether, and at least every together.
const (
	together     = 200 * time.Millisecond
	mostTogether = 2_000
)

// How long a writer waits for the store, and after the store has failed.
const (
	patience = 10 * time.Second
	pause    = time.Second
)

// Writer writes records in batches. It is safe for concurrent use.
type Writer struct {
	store Batches
	log   *slog.Logger
	queue chan Record

	dropped, written atomic.Int64
}

// NewWriter returns a writer that holds at most room records until they are written.
func NewWriter(store Batches, room int, log *slog.Logger) *Writer {
	return &Writer{store: store, log: log, queue: make(chan Record, room)}
}

// Add takes a record. It never waits: a record for which there is no room is dropped and counted.
func (w *Writer) Add(r Record) {
	select {
	case w.queue <- r:
	default:
		w.dropped.Add(1)
	}
}

// Dropped returns how many records found no room, or were refused by the store.
func (w *Writer) Dropped() int64 { return w.dropped.Load() }

// Written returns how many records were written.
func (w *Writer) Written() int64 { return w.written.Load() }

// Waiting returns how many records wait to be written.
func (w *Writer) Waiting() int { return len(w.queue) }

// Run writes records until the context ends, and then those that still wait, for five seconds at most. A batch that the store does not take is tried
// again; meanwhile further records wait as long as there is room.
func (w *Writer) Run(ctx context.Context) {
	tick := time.NewTicker(together)
	defer tick.Stop()
	batch := make([]Record, 0, mostTogether)
	for {
		select {
		case r := <-w.queue:
			if batch = append(batch, r); len(batch) < mostTogether {
				continue
			}
		case <-tick.C:
		case <-ctx.Done():
			last, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			for {
				batch = w.fill(batch)
				if len(batch) == 0 {
					return
				}
				if !w.write(last, batch) {
					w.dropped.Add(int64(len(batch) + len(w.queue)))
					return
				}
				batch = batch[:0]
			}
		}
		if len(batch) > 0 && w.write(ctx, batch) {
			batch = batch[:0]
		}
	}
}

// fill adds what waits to a batch.
func (w *Writer) fill(batch []Record) []Record {
	for len(batch) < mostTogether {
		select {
		case r := <-w.queue:
			batch = append(batch, r)
		default:
			return batch
		}
	}
	return batch
}

// write writes a batch, again and again until the store takes it or the context ends.
func (w *Writer) write(ctx context.Context, batch []Record) bool {
	id := uuid.New()
	for {
		try, stop := context.WithTimeout(ctx, patience)
		refused, err := w.store.AddBatch(try, id, batch)
		stop()
		if err == nil {
			w.written.Add(int64(len(batch) - refused))
			w.dropped.Add(int64(refused))
			return true
		}
		if ctx.Err() != nil {
			return false
		}
		w.log.WarnContext(ctx, "records of requests could not be written; it is tried again", "records", len(batch), "waiting", len(w.queue), "error", err)
		select {
		case <-ctx.Done():
			return false
		case <-time.After(pause):
		}
	}
}

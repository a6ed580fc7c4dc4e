package outpost

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/client"
	"widelark/internal/journal"
)

// spool keeps batches of records on the disk, in order, until the service has taken them. It is safe for concurrent use. Each batch is a file: its place, its id
// and the number of its records are in its name.
type spool struct {
	folder *Folder
	most   int64         // bytes
	pause  time.Duration // before it tries again at first
	log    *slog.Logger

	mu   sync.Mutex
	next uint64   // guarded by mu, as what follows
	wait []waiter // the oldest first
	size int64

	news                    chan struct{}
	taken, waiting, dropped atomic.Int64 // records
}

// waiter is a batch that waits.
type waiter struct {
	place   uint64
	id      uuid.UUID
	records int64
	bytes   int64
}

func (w waiter) name() string { return fmt.Sprintf("%020d.%s.%d", w.place, w.id, w.records) }

// openSpool finds what a process before has left.
func openSpool(folder *Folder, most int64, log *slog.Logger) (*spool, error) {
	s := &spool{folder: folder, most: most, pause: againFirst, log: log, news: make(chan struct{}, 1)}
	files, err := os.ReadDir(folder.path("spool"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		parts := strings.Split(file.Name(), ".")
		if len(parts) != 3 {
			_ = os.Remove(folder.path("spool", file.Name())) // of a batch that was never whole
			continue
		}
		place, err := strconv.ParseUint(parts[0], 10, 64)
		id, err2 := uuid.Parse(parts[1])
		records, err3 := strconv.ParseInt(parts[2], 10, 64)
		info, err4 := file.Info()
		if errors.Join(err, err2, err3, err4) != nil {
			continue
		}
		s.add(waiter{place, id, records, info.Size()})
	}
	slices.SortFunc(s.wait, func(a, b waiter) int { return int(int64(a.place) - int64(b.place)) })
	return s, nil
}

// add counts a batch that is on the disk. The caller holds mu, or is alone.
func (s *spool) add(w waiter) {
	s.wait = append(s.wait, w)
	s.size += w.bytes
	s.next = max(s.next, w.place+1)
	s.waiting.Add(w.records)
}

// AddBatch implements [journal.Batches]. What finds no room is dropped and counted.
func (s *spool) AddBatch(_ context.Context, id uuid.UUID, records []journal.Record) (refused int, err error) {
	packed, err := journal.PackLines(records)
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	w := waiter{s.next, id, int64(len(records)), int64(len(packed))}
	if s.size+w.bytes > s.most {
		s.dropped.Add(w.records)
		return 0, nil
	}
	if err := s.folder.put(packed, false, "spool", w.name()); err != nil {
		return 0, fmt.Errorf("records cannot be stored: %w", err)
	}
	s.add(w)
	select {
	case s.news <- struct{}{}:
	default:
	}
	return 0, nil
}

// first returns the oldest batch.
func (s *spool) first() (waiter, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.wait) == 0 {
		return waiter{}, false
	}
	return s.wait[0], true
}

// done removes the oldest batch.
func (s *spool) done(w waiter) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wait, s.size = s.wait[1:], s.size-w.bytes
	s.waiting.Add(-w.records)
	return os.Remove(s.folder.path("spool", w.name()))
}

// How long the spool waits before it tries again, at first and at most.
const (
	againFirst = 200 * time.Millisecond
	againMost  = 2 * time.Second
)

// run hands in what waits, the oldest first, until the context ends.
func (s *spool) run(ctx context.Context, handIn func(ctx context.Context, id uuid.UUID, packed []byte) error) {
	pause := s.pause
	for ctx.Err() == nil {
		w, ok := s.first()
		if !ok {
			select {
			case <-ctx.Done():
			case <-s.news:
			}
			continue
		}
		packed, err := os.ReadFile(s.folder.path("spool", w.name()))
		if err == nil {
			err = handIn(ctx, w.id, packed)
		}
		var problem *client.Problem
		switch {
		case err == nil:
			s.taken.Add(w.records)
			pause = s.pause
		case errors.Is(err, os.ErrNotExist), errors.As(err, &problem) && (problem.Status == 422 || problem.Status == 413):
			// It will never be taken, and must not stop what comes behind.
			s.dropped.Add(w.records)
			s.log.ErrorContext(ctx, "records cannot be handed in, and are dropped", "batch", w.name(), "error", err)
		default:
			if ctx.Err() == nil {
				s.log.DebugContext(ctx, "records wait: the service does not take them", "batch", w.name(), "error", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
			pause = min(2*pause, againMost)
			continue
		}
		if err := s.done(w); err != nil {
			s.log.WarnContext(ctx, "a batch of records that was handed in cannot be removed", "file", filepath.Base(w.name()), "error", err)
		}
	}
}

package journal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
)

// shaky is a store of batches that fails at times, before or after it has kept a batch.
type shaky struct {
	mu    sync.Mutex
	tries int
	kept  map[uuid.UUID]bool
	all   []Record
	fails func(try int) (before, after bool)
}

func (s *shaky) AddBatch(_ context.Context, id uuid.UUID, records []Record) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tries++
	before, after := s.fails(s.tries)
	if before {
		return 0, errors.New("away")
	}
	if !s.kept[id] {
		s.kept[id] = true
		s.all = append(s.all, records...)
	}
	if after {
		return 0, errors.New("the answer was lost")
	}
	return 0, nil
}

// Every record is written once, in order, however the store fails, also those that still wait at the end; what finds no room is counted.
func TestWriter(t *testing.T) {
	s := &shaky{kept: map[uuid.UUID]bool{}, fails: func(try int) (bool, bool) { return try == 1, try == 3 }}
	w := NewWriter(s, 10_000, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		w.Run(ctx)
	}()
	const n = 5_000
	for i := range n {
		w.Add(Record{URL: fmt.Sprint(i)})
		if i == n/2 {
			assert.Eventually(t, func() bool { return w.Written() > n/2 }, 20*time.Second, 10*time.Millisecond)
		}
	}
	stop()
	<-ended
	assert.EqualValues(t, n, w.Written())
	assert.Zero(t, w.Dropped())
	assert.Zero(t, w.Waiting())
	assert.Len(t, s.all, n)
	for i, r := range s.all {
		if !assert.Equal(t, fmt.Sprint(i), r.URL) {
			break
		}
	}
}

// A writer that is full drops and counts; one whose store stays away at the end counts what it loses.
func TestWriterDrops(t *testing.T) {
	s := &shaky{kept: map[uuid.UUID]bool{}, fails: func(int) (bool, bool) { return true, false }}
	w := NewWriter(s, 10, slog.New(slog.DiscardHandler))
	for range 25 {
		w.Add(Record{})
	}
	assert.EqualValues(t, 15, w.Dropped())
	assert.Equal(t, 10, w.Waiting())
	ctx, stop := context.WithCancel(t.Context())
	stop()
	w.Run(ctx)
	assert.EqualValues(t, 25, w.Dropped())
	assert.Zero(t, w.Written())
}

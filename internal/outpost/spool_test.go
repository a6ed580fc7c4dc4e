package outpost

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/journal"
)

func open(t *testing.T, dir string, most int64) *spool {
	t.Helper()
	folder, err := OpenFolder(dir)
	require.NoError(t, err)
	s, err := openSpool(folder, most, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.pause = time.Millisecond
	return s
}

func add(t *testing.T, s *spool, urls ...string) {
	t.Helper()
	records := make([]journal.Record, len(urls))
	for i, url := range urls {
		records[i] = journal.Record{URL: url, At: time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)}
	}
	_, err := s.AddBatch(t.Context(), uuid.New(), records)
	require.NoError(t, err)
}

// Batches arrive in order, each once, also those that a process before has left, however often the service is away before or after it has taken one; a batch that
// it will never take stops no other.
func TestSpool(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, 1<<20)
	var want []string
	for i := range 20 {
		url := fmt.Sprint("http://site-", i, ".example/")
		add(t, s, url)
		want = append(want, url)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "spool", ".new-1"), []byte("half"), 0o600))
	s = open(t, dir, 1<<20)
	require.EqualValues(t, 20, s.waiting.Load())
	require.NoError(t, s.folder.put([]byte("no records"), false, "spool", waiter{place: s.next, id: uuid.New(), records: 3}.name()))
	s.next++
	s = open(t, dir, 1<<20)
	add(t, s, "http://last.example/")
	want = append(want, "http://last.example/")

	var got []string
	taken := map[uuid.UUID]bool{}
	random := rand.New(rand.NewPCG(1, 2))
	ctx, stop := context.WithCancel(t.Context())
	s.run(ctx, func(_ context.Context, id uuid.UUID, packed []byte) error {
		if random.IntN(4) == 0 {
			return errors.New("away")
		}
		records, _, err := journal.ReadLines(bytes.NewReader(packed))
		if err != nil {
			return &client.Problem{Status: 422}
		}
		if !taken[id] { // as the service does
			taken[id] = true
			for _, r := range records {
				got = append(got, r.URL)
			}
		}
		if random.IntN(8) == 0 {
			return errors.New("the answer was lost")
		}
		if records[0].URL == "http://last.example/" {
			stop()
		}
		return nil
	})
	assert.Equal(t, want, got)
	assert.EqualValues(t, 21, s.taken.Load())
	assert.EqualValues(t, 3, s.dropped.Load())
	assert.Zero(t, s.waiting.Load())
	left, err := os.ReadDir(filepath.Join(dir, "spool"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What finds no room is dropped and counted; what waits already stays.
func TestSpoolIsBounded(t *testing.T) {
	s := open(t, t.TempDir(), 2000)
	for i := range 200 {
		add(t, s, fmt.Sprint("http://site-", i, ".example/"), "http://heron.example/")
	}
	assert.Positive(t, s.waiting.Load())
	assert.EqualValues(t, 400, s.waiting.Load()+s.dropped.Load())
	assert.LessOrEqual(t, s.size, int64(2000))
	var first atomic.Value
	ctx, stop := context.WithCancel(t.Context())
	s.run(ctx, func(_ context.Context, _ uuid.UUID, packed []byte) error {
		records, _, err := journal.ReadLines(bytes.NewReader(packed))
		first.Store(records[0].URL)
		stop()
		return err
	})
	assert.Equal(t, "http://site-0.example/", first.Load())
}

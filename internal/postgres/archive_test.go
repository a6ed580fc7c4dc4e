package postgres_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
)

// Pages, counts and spans are those of a plain loop over all records, however they came and were put together; and also where little of them is kept in memory.
func TestArchive(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	const seed = 7
	random := rand.New(rand.NewPCG(seed, seed))
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	var all []journal.Record
	for range 60 {
		var batch []journal.Record
		for range random.IntN(40) {
			r := journal.Record{
				ID: uuid.New(), At: now.Add(-time.Duration(random.IntN(5*3600)) * time.Second), URL: fmt.Sprintf("https://n%d.example/%d", random.IntN(9), random.IntN(3)), Verdict: segment.Verdicts[random.IntN(4)],
				Amount: policy.Everything, Ending: journal.Ending{Outcome: journal.Answered, Size: int64(random.IntN(99))},
			}
			switch random.IntN(8) {
			case 0:
				r.Amount, r.At = policy.GroupOnly, r.At.Truncate(time.Minute)
			case 1:
				r.Outcome = journal.Open
			}
			batch = append(batch, r)
		}
		_, err := store.AsGates().AddBatch(ctx, uuid.New(), batch)
		require.NoError(t, err)
		all = append(all, batch...)
		if random.IntN(10) == 0 {
			_, err := store.MergeParts(ctx, now.Add(-time.Hour), access.Timetable)
			require.NoError(t, err)
		}
	}
	slices.SortFunc(all, func(a, b journal.Record) int {
		if !a.At.Equal(b.At) {
			return b.At.Compare(a.At)
		}
		return slices.Compare(b.ID[:], a.ID[:])
	})
	filter := segment.And{segment.Has{Column: segment.Verdict, Match: func(v string) bool { return v == "block" || v == "hold" }}, segment.Text("n3.example/1")}
	small, large := archive.New(store.Records(), 10_000), archive.New(store.Records(), 100<<20)
	for _, a := range []*archive.Archive{small, large, large} {
		for _, f := range []segment.Filter{segment.And{}, filter} {
			from, to := now.Add(-4*time.Hour), now.Add(-10*time.Minute)
			f := segment.And{segment.Between{Amount: segment.At, Spans: []segment.Span{{From: from.UnixMilli(), To: to.UnixMilli()}}}, f}
			var want []journal.Record
			over, total := make([]segment.Count, 4), segment.Count{}
			for _, r := range all {
				if !r.At.Before(from) && r.At.Before(to) && (len(f[1].(segment.And)) == 0 || (r.Verdict == policy.Block || r.Verdict == policy.Hold) && r.URL == "https://n3.example/1") {
					want = append(want, r)
					v := slices.Index(segment.Verdicts[:], r.Verdict)
					for _, c := range []*segment.Count{&over[r.At.Sub(from)/time.Hour], &total} {
						c.Requests[v]++
						c.Bytes += r.Size
					}
				}
			}
			require.Greater(t, len(want), 3)
			for _, limit := range []int{1, 7, 10_000} {
				var got []journal.Record
				for mark, more := (*archive.Mark)(nil), true; more; {
					patience := time.Minute
					if limit == 7 {
						patience = 0 // each page ends at once, and the next goes on from there
					}
					page, err := a.Page(ctx, from, to, f, mark, limit, patience)
					require.NoError(t, err)
					got = append(got, page.Records...)
					mark, more = page.Next, page.Next != nil
					if limit == 1 && len(got) > 30 {
						break
					}
				}
				if limit == 1 {
					assert.Equal(t, want[:min(len(want), len(got))], got)
				} else {
					assert.Equal(t, want, got)
				}
			}
			sum, err := a.Summarize(ctx, from, to, f, archive.By{Columns: []segment.Column{segment.Origin}, Over: []time.Time{from, from.Add(time.Hour), from.Add(2 * time.Hour), from.Add(3 * time.Hour)}}, time.Minute)
			require.NoError(t, err)
			assert.Equal(t, total, sum.Total)
			assert.Equal(t, over, sum.Over)
			counted := int64(0)
			for _, n := range sum.Columns[segment.Origin] {
				counted += n.All()
			}
			assert.EqualValues(t, len(want), counted)
		}
		for _, r := range []journal.Record{all[0], all[len(all)/2]} {
			found, ok, err := a.Record(ctx, r.ID)
			require.NoError(t, err)
			assert.True(t, ok)
			assert.Equal(t, r, found)
		}
		_, ok, err := a.Record(ctx, uuid.New())
		require.NoError(t, err)
		assert.False(t, ok)
	}
}

// A tail that breaks off and goes on misses nothing and gets nothing twice, while batches come at once and parts are put together.
func TestTail(t *testing.T) {
	t.Parallel()
	store := open(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	a := archive.New(store.Records(), 10<<20)
	go a.Watch(ctx)
	const writers, batches, each = 4, 30, 5
	got := map[string]int{}
	done := make(chan struct{})
	begun := make(chan struct{})
	go func() {
		defer close(done)
		after, first := int64(archive.Newest), true
		for len(got) < writers*batches*each && ctx.Err() == nil {
			calls := 0
			_ = a.Tail(ctx, after, segment.And{}, func(records []journal.Record, position int64) error {
				if first {
					first = false
					close(begun)
				}
				for _, r := range records {
					got[r.URL]++
				}
				after = position
				if calls++; calls%3 == 0 || len(got) == writers*batches*each {
					return context.Canceled // the connection is lost
				}
				return nil
			})
		}
	}()
	<-begun
	now := time.Now()
	failed := make(chan error, writers+1)
	for w := range writers {
		go func() {
			var err error
			for n := range batches {
				var batch []journal.Record
				for i := range each {
					batch = append(batch, journal.Record{ID: uuid.New(), At: now, URL: fmt.Sprint(w, n, i), Verdict: policy.Allow})
				}
				if _, failure := store.AsGates().AddBatch(ctx, uuid.New(), batch); failure != nil {
					err = failure
				}
			}
			failed <- err
		}()
	}
	go func() {
		var err error
		for range 20 {
			if _, failure := store.MergeParts(ctx, now, access.Timetable); failure != nil {
				err = failure
			}
		}
		failed <- err
	}()
	for range writers + 1 {
		require.NoError(t, <-failed)
	}
	select {
	case <-done:
	case <-time.After(time.Minute):
		stop()
		<-done
	}
	assert.Len(t, got, writers*batches*each)
	for url, times := range got {
		assert.Equal(t, 1, times, url)
	}
	closing := make(chan error, 1)
	go func() {
		closing <- a.Tail(t.Context(), archive.Newest, segment.And{}, func([]journal.Record, int64) error { return nil })
	}()
	a.Close()
	require.NoError(t, <-closing)
}

// A part that cannot be read, or whose day is dropped while it is searched, is left out and told of; everything else is found, counted, followed and decided again.
func TestUnreadableParts(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	for hours := range 6 {
		var batch []journal.Record
		for n := range 10 {
			batch = append(batch, journal.Record{ID: uuid.New(), At: now.Add(-time.Duration(hours)*time.Hour - time.Duration(n)*time.Second), URL: fmt.Sprintf("https://n%d.example/", hours), Verdict: policy.Block, Amount: policy.Everything, Ending: journal.Ending{Outcome: journal.Answered}})
		}
		_, err := store.AsGates().AddBatch(ctx, uuid.New(), batch)
		require.NoError(t, err)
	}
	from := now.Add(-24 * time.Hour)
	filter := segment.And{segment.Text("example")} // reads the texts
	found := func(a *archive.Archive) (records, counted, broken int) {
		page, err := a.Page(ctx, from, now.Add(time.Hour), filter, nil, 100, time.Minute)
		require.NoError(t, err)
		sum, err := a.Summarize(ctx, from, now.Add(time.Hour), filter, archive.By{Columns: []segment.Column{segment.Origin}}, time.Minute)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, page.Broken, sum.Broken)
		return len(page.Records), int(sum.Total.All()), page.Broken
	}
	records, counted, broken := found(archive.New(store.Records(), 1<<20))
	assert.Equal(t, []int{60, 60, 0}, []int{records, counted, broken})
	for column, hour := range map[string]int{"head": 1, "keys": 2, "texts": 3, "ids": 4} {
		_, err := store.Pool().Exec(ctx, `update journal_parts set `+column+` = '\x0102' where last_at = $1`, now.Add(-time.Duration(hour)*time.Hour))
		require.NoError(t, err)
	}
	a := archive.New(store.Records(), 1<<20)
	records, counted, broken = found(a)
	assert.Equal(t, 20, records, "those of the hours 0 and 5")
	assert.Equal(t, 30, counted, "counts need no ids")
	assert.GreaterOrEqual(t, broken, 3)
	n := 0
	err := a.Each(ctx, from, now.Add(time.Hour), filter, func(journal.Record) error { n++; return nil })
	require.ErrorIs(t, err, segment.ErrBroken, "what is exported is not all of it")
	assert.Equal(t, 20, n)
	n = 0
	require.NoError(t, a.EachRecord(ctx, from, now.Add(time.Hour), true, func(journal.Record) error { n++; return nil }))
	assert.Equal(t, 30, n)
	after, _, more, err := a.After(ctx, 0, filter, 100)
	require.NoError(t, err)
	assert.False(t, more)
	assert.Len(t, after, 20)

	parts, err := store.Records().Parts(ctx, from, now.Add(time.Hour))
	require.NoError(t, err)
	_, err = store.KeepRecords(ctx, map[policy.Amount]time.Time{policy.Everything: now.AddDate(0, 0, 1)}, access.Timetable)
	require.NoError(t, err)
	heads, err := store.Records().Heads(ctx, parts)
	require.NoError(t, err)
	assert.Equal(t, make([][]byte, len(parts)), heads, "they are gone")
}

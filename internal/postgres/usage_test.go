package postgres_test

import (
	"math/rand/v2"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/usage"
	"widelark/internal/postgres"
)

// used is what a plain loop says is used by records.
func used(all []journal.Record) map[usage.Key]usage.Count {
	want := map[usage.Key]usage.Count{}
	for _, r := range all {
		n := usage.Count{Requests: 1, Last: r.At}
		if r.Verdict == policy.Hold || r.Verdict == policy.Block {
			n.Stopped = 1
		}
		add := func(kind usage.Kind, id, entry string) {
			sum := want[usage.Key{Kind: kind, ID: id, Entry: entry}]
			sum.Add(n)
			want[usage.Key{Kind: kind, ID: id, Entry: entry}] = sum
		}
		for _, id := range append(slices.Clone(r.Notes), r.Rule) {
			if id != uuid.Nil {
				add(usage.Rule, id.String(), "")
			}
		}
		if r.List != uuid.Nil {
			add(usage.List, r.List.String(), "")
			add(usage.Entry, r.List.String(), r.Entry)
		}
		switch {
		case r.Exception != uuid.Nil:
			add(usage.Exception, r.Exception.String(), "")
		case r.Rung == policy.AtException:
			add(usage.Exception, "", "")
		}
		for _, key := range r.Categories {
			add(usage.Category, key, "")
			if r.Source == classify.ByScorecard {
				add(usage.Scorecard, key, "")
			}
		}
	}
	return want
}

// usedOf returns all that is counted.
func usedOf(t *testing.T, store *postgres.Store, ids []string) map[usage.Key]usage.Count {
	got := map[usage.Key]usage.Count{}
	for _, kind := range usage.Kinds {
		found, err := store.Usage(t.Context(), kind, ids, nil, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		for key, n := range found {
			sum := int64(0)
			for _, day := range n.Days {
				sum += day
			}
			assert.Equal(t, n.Requests, sum, key)
			n.Last = n.Last.UTC()
			got[key] = n.Count
		}
	}
	return got
}

// What is counted is what a plain loop over the records counts: while records come from several gates, parts are put together, and several services count; with records that come late; and when the
// records have been dropped.
func TestUsage(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	ids, names := make([]uuid.UUID, 6), []string{"games", "video", ""}
	for i := range ids {
		ids[i] = uuid.New()
		names = append(names, ids[i].String())
	}
	var mu sync.Mutex
	var all []journal.Record // guarded by mu
	write := func(seed uint64, batches int, back time.Duration) {
		random := rand.New(rand.NewPCG(seed, seed))
		some := func() uuid.UUID { return append(ids, uuid.Nil, uuid.Nil)[random.IntN(len(ids)+2)] }
		for range batches {
			var batch []journal.Record
			for range 1 + random.IntN(40) {
				r := journal.Record{
					ID: uuid.New(), At: now.Add(-time.Duration(random.Int64N(int64(back)))).Truncate(time.Millisecond), URL: "https://n.example/", Verdict: policy.Verdicts[random.IntN(len(policy.Verdicts))],
					Rule: some(), List: some(), Exception: some(), Rung: policy.AtPolicy, Categories: [][]string{nil, {"games"}, {"games", "video"}}[random.IntN(3)],
					Amount: []policy.Amount{policy.Everything, policy.GroupOnly}[random.IntN(2)], Ending: journal.Ending{Outcome: journal.Answered},
				}
				if r.List != uuid.Nil && random.IntN(4) > 0 {
					r.Entry = "n" + strconv.Itoa(random.IntN(3)) + ".example"
				}
				if random.IntN(3) == 0 {
					r.Rung, r.Source, r.Notes = policy.AtException, classify.ByScorecard, []uuid.UUID{ids[0], ids[1]}
				}
				if r.Rule == ids[0] || r.Rule == ids[1] { // a rule that decides is not noted, too
					r.Notes = nil
				}
				batch = append(batch, r)
			}
			_, err := store.AsGates().AddBatch(ctx, uuid.New(), batch)
			require.NoError(t, err)
			mu.Lock()
			all = append(all, batch...)
			mu.Unlock()
		}
	}
	counter := func() *usage.Counter {
		return &usage.Counter{Store: store, Archive: archive.New(store.Records(), 1<<20)}
	}
	for round := range 3 {
		var group sync.WaitGroup
		for g := range 3 {
			group.Go(func() { write(uint64(10*round+g), 12, 60*time.Hour) })
		}
		for range 2 {
			group.Go(func() {
				c := counter()
				for range 6 {
					assert.NoError(t, c.Count(ctx, now))
				}
			})
		}
		group.Go(func() {
			for range 4 {
				_, err := store.MergeParts(ctx, now.Add(-time.Hour), access.Timetable)
				assert.NoError(t, err)
			}
		})
		group.Wait()
		require.NoError(t, counter().Count(ctx, now))
		assert.Equal(t, used(all), usedOf(t, store, names))
		stale, err := store.StaleDays(ctx)
		require.NoError(t, err)
		assert.Empty(t, stale)
	}
	since, until, err := store.UsageSpan(ctx)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-18", since.Format(time.DateOnly))
	assert.WithinDuration(t, time.Now(), until, time.Minute)

	gone, err := store.KeepRecords(ctx, map[policy.Amount]time.Time{policy.Everything: now, policy.GroupOnly: now}, access.Timetable)
	require.NoError(t, err)
	assert.Len(t, gone, 4, "two days of each amount")
	before := used(all)
	write(99, 1, 60*time.Hour) // of a day that has been dropped, too
	require.NoError(t, counter().Count(ctx, now))
	assert.Len(t, usedOf(t, store, names), len(before), "what was counted outlives the records")
	require.NoError(t, store.KeepUsage(ctx, now.AddDate(0, 0, 2), access.Timetable))
	assert.Empty(t, usedOf(t, store, names))
}

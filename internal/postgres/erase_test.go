package postgres_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/alert"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
	"widelark/internal/journal/usage"
	"widelark/internal/revision"
	"widelark/internal/watch"
)

// What is recorded of a person is gone when it was erased, also from parts that were replaced lately; everybody else's records stay, tails go on, and counts go on.
func TestEraseRecords(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	made, err := store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPerson, Name: "kay.moran", Body: &revision.PersonBody{FullName: "Kay Moran"}}}, access.Setup)
	require.NoError(t, err)
	kay, other, rule := made[0].ID, uuid.New(), uuid.New()
	random := rand.New(rand.NewPCG(5, 5))
	others := 0
	write := func(batches int) {
		for range batches {
			var batch []journal.Record
			for i := range 1 + random.IntN(9) {
				r := journal.Record{ID: uuid.New(), At: now.Add(-time.Duration(random.IntN(30*3600)) * time.Second), URL: "https://n.example/", Verdict: policy.Block, Rule: rule, Person: kay, Amount: policy.Everything, Ending: journal.Ending{Outcome: journal.Answered}}
				if random.IntN(3) > 0 {
					r.Person = []uuid.UUID{other, uuid.Nil}[random.IntN(2)]
					others++
				} else if i == 0 {
					r.Outcome = journal.Open
				}
				batch = append(batch, r)
			}
			_, err := store.AsGates().AddBatch(ctx, uuid.New(), batch)
			require.NoError(t, err)
		}
	}
	write(60)
	for more := true; more; {
		more, err = store.MergeParts(ctx, now, access.Timetable)
		require.NoError(t, err)
	}
	write(20)
	a := archive.New(store.Records(), 1<<20)
	end, err := a.End(ctx)
	require.NoError(t, err)
	counter := usage.Counter{Store: store, Archive: a}
	require.NoError(t, counter.Count(ctx, now))
	item, err := store.PutWatchItem(ctx, watch.Item{Kind: watch.Alert, Name: "Keeps trying", Body: []byte(`{}`)}, 0, access.Setup)
	require.NoError(t, err)
	_, err = store.MeetIncidents(ctx, item, []alert.Found{{Subject: "Kay Moran", Said: "Kay Moran: 50 requests."}, {Subject: "Moss Teal", Said: "Moss Teal: 50 requests."}}, now, time.Hour)
	require.NoError(t, err)

	_, err = store.EraseRecords(ctx, kay, true, "asked for", access.Setup)
	assert.ErrorContains(t, err, "Kay Moran is in the draft")
	_, err = store.EraseRecords(ctx, kay, false, "asked for", access.Timetable)
	assert.ErrorContains(t, err, "may not erase")
	_, err = store.EraseRecords(ctx, uuid.New(), false, "asked for", access.Setup)
	assert.ErrorIs(t, err, revision.ErrNotFound)

	n, err := store.EraseRecords(ctx, kay, false, "asked for", access.Setup)
	require.NoError(t, err)
	assert.Greater(t, n, int64(50))
	left := 0
	for _, from := range []*archive.Archive{a, archive.New(store.Records(), 1<<20)} {
		left = 0
		require.NoError(t, from.Each(ctx, time.Time{}, archive.FarAway, segment.And{}, func(r journal.Record) error {
			left++
			if r.Person == kay {
				return fmt.Errorf("a record of %s is left", r.At)
			}
			return nil
		}))
	}
	assert.Equal(t, others, left)
	rows, err := store.Pool().Query(ctx, `select head from journal_parts`) // also those that were replaced lately
	require.NoError(t, err)
	heads, err := pgx.CollectRows(rows, pgx.RowTo[[]byte])
	require.NoError(t, err)
	for _, head := range heads {
		part, err := segment.Open(head, nil)
		require.NoError(t, err)
		assert.False(t, part.HasValue(segment.Person, string(kay[:])))
	}
	incidents, err := store.Incidents(ctx, uuid.Nil, false, 10)
	require.NoError(t, err)
	require.Len(t, incidents, 1)
	assert.Equal(t, "Moss Teal", incidents[0].Subject)
	again, err := store.EraseRecords(ctx, kay, false, "asked for once more", access.Setup)
	require.NoError(t, err)
	assert.Zero(t, again)

	write(1) // comes to a day of which some were erased
	found, _, _, err := a.After(ctx, end, segment.And{}, 10)
	require.NoError(t, err)
	assert.NotEmpty(t, found, "a tail goes on")
	for _, r := range found {
		assert.WithinDuration(t, now, r.At, 31*time.Hour)
	}
	require.NoError(t, counter.Count(ctx, now))
	stale, err := store.StaleDays(ctx)
	require.NoError(t, err)
	assert.Empty(t, stale)

	_, err = store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPerson, ID: kay, Version: made[0].Version, Remove: true}}, access.Setup)
	require.NoError(t, err)
	_, err = store.EraseRecords(ctx, kay, true, "left", access.Setup)
	require.NoError(t, err)
	names, err := store.Names(ctx, []uuid.UUID{kay})
	require.NoError(t, err)
	assert.Equal(t, "erased-"+kay.String()[:8], names[kay])
}

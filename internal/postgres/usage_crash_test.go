package postgres_test

import (
	"context"
	"math/rand/v2"
	"path/filepath"
	"sync"
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
	"widelark/internal/journal/usage"
	"widelark/internal/postgres"
	"widelark/internal/postgres/cluster"
	"widelark/test/e2e/house"
)

// If the database is killed while records come, are put together and are counted, each acknowledged record is there once, and what is counted is what a plain loop counts.
func TestUsageWhileKilled(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(house.DataFolder(t, nil), "database")
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	rule := uuid.New()
	type batch struct {
		id      uuid.UUID
		records []journal.Record
	}
	var acknowledged []journal.Record
	var again []batch // that may be there or not
	const seed = 11
	random := rand.New(rand.NewPCG(seed, seed))
	for round := range 5 {
		db, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
		require.NoError(t, err)
		require.NoError(t, db.EnsureDatabase(t.Context(), "kept"))
		store, err := postgres.Open(t.Context(), db.URL("kept"))
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		var beside sync.WaitGroup
		beside.Go(func() {
			c := usage.Counter{Store: store, Archive: archive.New(store.Records(), 1<<20)}
			for ctx.Err() == nil {
				_ = c.Count(ctx, now) // it is tried again
			}
		})
		beside.Go(func() {
			for ctx.Err() == nil {
				_, _ = store.MergeParts(ctx, now, access.Timetable)
			}
		})
		add := func(b batch) bool {
			_, err := store.AsGates().AddBatch(ctx, b.id, b.records)
			if err == nil {
				acknowledged = append(acknowledged, b.records...)
			}
			return err == nil
		}
		var lost []batch
		for _, b := range again { // as gates hand in again what was not acknowledged
			if !add(b) {
				lost = append(lost, b)
			}
		}
		kill := time.AfterFunc(time.Duration(200+random.IntN(400))*time.Millisecond, func() {
			if round < 4 {
				db.Kill()
			}
		})
		for n := 0; len(lost) == 0 && n < 400; n++ {
			b := batch{id: uuid.New()}
			for range 1 + random.IntN(5) {
				b.records = append(b.records, journal.Record{ID: uuid.New(), At: now.Add(-time.Duration(random.IntN(7200)) * time.Second), URL: "https://n.example/", Verdict: policy.Block, Rung: policy.AtPolicy, Rule: rule, Amount: policy.Everything, Ending: journal.Ending{Outcome: journal.Answered}})
			}
			if !add(b) {
				lost = append(lost, b)
			}
		}
		again = lost
		if round == 4 {
			kill.Stop()
			stop()
			beside.Wait()
			require.Empty(t, again)
			require.NoError(t, (&usage.Counter{Store: store, Archive: archive.New(store.Records(), 1<<20)}).Count(t.Context(), now))
			found, err := store.Usage(t.Context(), usage.Rule, []string{rule.String()}, nil, now.AddDate(0, 0, -5))
			require.NoError(t, err)
			assert.Equal(t, used(acknowledged)[usage.Key{Kind: usage.Rule, ID: rule.String()}].Requests, found[usage.Key{Kind: usage.Rule, ID: rule.String()}].Requests)
			there := map[uuid.UUID]int{}
			require.NoError(t, archive.New(store.Records(), 1<<20).Each(t.Context(), time.Time{}, archive.FarAway, segment.And{}, func(r journal.Record) error {
				there[r.ID]++
				return nil
			}))
			assert.Len(t, there, len(acknowledged))
			for _, r := range acknowledged {
				assert.Equal(t, 1, there[r.ID])
			}
		}
		kill.Stop()
		stop()
		beside.Wait()
		store.Close()
		db.Kill()
	}
	assert.Greater(t, len(acknowledged), 100)
}

package postgres_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/standing"
)

// What was unlocked and is used moves its end on, until its last one; whatever is over, or has no such end, stays as it is.
func TestIdleEnd(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Now().Truncate(time.Minute)
	add := func(until, idle, ends time.Duration) uuid.UUID {
		made, err := store.AddPassage(ctx, standing.Passage{Rule: uuid.New(), Person: uuid.New(), Entries: pattern.Keep("heron.example"), Until: now.Add(until), Idle: idle, Ends: now.Add(ends)}, access.Recorder)
		require.NoError(t, err)
		return made.ID
	}
	use := func(id uuid.UUID, minutes ...int64) time.Time {
		for i := range minutes {
			minutes[i] += now.Unix() / 60
		}
		require.NoError(t, store.AddUsed(ctx, []standing.Used{{Rule: id, Minutes: minutes}}, access.Recorder))
		all, err := store.Passages(ctx, time.Time{})
		require.NoError(t, err)
		for _, p := range all {
			if p.ID == id {
				return p.Until
			}
		}
		return time.Time{}
	}
	version := func() int64 {
		v, err := store.FactsVersion(ctx)
		require.NoError(t, err)
		return v.Facts
	}
	idle := add(5*time.Minute, 5*time.Minute, time.Hour)
	before := version()
	assert.WithinDuration(t, now.Add(8*time.Minute), use(idle, 1, 2), 0, "five minutes from the end of the minute in which it was used")
	assert.Greater(t, version(), before, "gates learn of it")
	before = version()
	assert.WithinDuration(t, now.Add(8*time.Minute), use(idle, 0), 0, "an earlier minute that comes late changes nothing")
	assert.GreaterOrEqual(t, version(), before)
	assert.WithinDuration(t, now.Add(time.Hour), use(idle, 58), 0, "its last end stays")
	assert.WithinDuration(t, now.Add(5*time.Minute), use(add(5*time.Minute, 0, 0), 3), 0, "it has no such end")
	assert.WithinDuration(t, now.Add(-time.Minute), use(add(-time.Minute, 5*time.Minute, time.Hour), 0), 0, "it is over")
	used, err := store.Used(ctx, now.Add(-24*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, used, "these minutes count for no quota")
}

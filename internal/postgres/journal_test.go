package postgres_test

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/journal"
)

// Records live in days, by how much of a request is in them; a day whose time is over goes, and late records find their place again. The end of a request takes the
// place of its record as open, in whichever batches they come.
func TestJournalDays(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	begin := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	record := func(day int, amount policy.Amount, url string) journal.Record {
		return journal.Record{ID: uuid.New(), At: begin.AddDate(0, 0, day), Method: "GET", URL: url, Gate: policy.Proxy, Verdict: policy.Allow, Amount: amount}
	}
	urls := func() (all []string) {
		latest, err := store.LatestRecords(ctx, 100)
		require.NoError(t, err)
		for _, r := range latest {
			all = append(all, r.URL)
		}
		slices.Sort(all)
		return all
	}
	gates := store.AsGates()
	_, err := gates.AddBatch(ctx, uuid.New(), []journal.Record{record(0, "", "a"), record(0, policy.GroupOnly, "b"), record(1, policy.Everything, "c"), record(2, "", "d")})
	require.NoError(t, err)
	_, _, n, err := store.RecordedSpan(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 3, n, "those that can be decided again")
	dropped, err := store.KeepRecords(ctx, map[policy.Amount]time.Time{policy.Everything: begin.AddDate(0, 0, 1), policy.GroupOnly: begin.AddDate(0, 0, -10)}, access.Timetable)
	require.NoError(t, err)
	assert.Equal(t, []string{"journal_everything_20261120"}, dropped)
	assert.Equal(t, []string{"b", "c", "d"}, urls())
	_, err = gates.AddBatch(ctx, uuid.New(), []journal.Record{record(0, "", "late")})
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "c", "d", "late"}, urls())
	_, err = store.KeepRecords(ctx, nil, access.Recorder)
	require.Error(t, err)

	opened, together := record(2, "", "open"), record(2, "", "together")
	opened.Outcome, together.Outcome = journal.Open, journal.Open
	ends := func(r journal.Record) journal.Record {
		r.Outcome, r.Replaces = journal.Answered, true
		return r
	}
	_, err = gates.AddBatch(ctx, uuid.New(), []journal.Record{opened, together, ends(together)})
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "c", "d", "late", "open", "together"}, urls())
	id := uuid.New()
	for range 2 { // the batch comes twice
		_, err = gates.AddBatch(ctx, id, []journal.Record{ends(opened), record(0, policy.GroupOnly, "e")})
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"b", "c", "d", "e", "late", "open", "together"}, urls())
	latest, err := store.LatestRecords(ctx, 100)
	require.NoError(t, err)
	for _, r := range latest {
		assert.NotEqual(t, journal.Open, r.Outcome)
	}
}

// A record comes back as it was kept.
func TestRecordIsKept(t *testing.T) {
	t.Parallel()
	store := open(t)
	r := journal.Record{
		ID: uuid.New(), At: time.Date(2026, 11, 20, 12, 0, 0, 5e6, time.UTC), Person: uuid.New(), Address: netip.MustParseAddr("10.40.9.7"), Method: "POST", URL: "http://heron.example/x",
		Gate: policy.Proxy, Sight: weburl.Full, Verdict: policy.Allow, GateName: "proxy", Revision: 3, By: "Ward: Never", Provisos: "no uploads", NotHeld: "safe search", Traits: []policy.Trait{policy.TwoNames},
		Amount: policy.Everything, Catalogue: 7, Rung: policy.AtPolicy, Machine: uuid.New(), Network: uuid.New(), Groups: []uuid.UUID{uuid.New(), uuid.New()}, Categories: []string{"news"},
		Source: classify.ByCatalogue, Policy: uuid.New(), Rule: uuid.New(), Exception: uuid.New(), Stint: uuid.New(), List: uuid.New(), Entry: "heron.example", Notes: []uuid.UUID{uuid.New()},
		Words: "tide", Referrer: "tern.test", Agent: "test/1",
		Ending: journal.Ending{Outcome: journal.Cut, Status: 200, Media: "text/html", Size: 1 << 40, Took: 1500 * time.Millisecond, Detail: "cut", Reference: "ABC"},
	}
	require.NoError(t, store.AddRecords(t.Context(), []journal.Record{r}, access.Recorder))
	latest, err := store.LatestRecords(t.Context(), 1)
	require.NoError(t, err)
	latest[0].At = latest[0].At.UTC()
	assert.Equal(t, []journal.Record{r}, latest)
}

// Of many tries at once to enter a code, so many are let through, whichever services count them; the others have to wait.
func TestCountTry(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Now()
	var all sync.WaitGroup
	var let atomic.Int64
	for range 30 {
		all.Go(func() {
			may, err := store.CountTry(ctx, "kay", now, now.Add(-time.Minute), 5, access.Recorder)
			assert.NoError(t, err)
			if may {
				let.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 5, let.Load())
	may := func(who string, at time.Time) bool {
		may, err := store.CountTry(ctx, who, at, at.Add(-time.Minute), 5, access.Recorder)
		require.NoError(t, err)
		return may
	}
	assert.True(t, may("ola", now))
	assert.False(t, may("kay", now.Add(50*time.Second)))
	assert.True(t, may("kay", now.Add(61*time.Second)))
	require.NoError(t, store.ForgetTries(ctx, "kay", access.Recorder))
	assert.True(t, may("kay", now))
}

// A record that the database can never take does not keep the others out, wherever in a batch it stands.
func TestRefusedRecords(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	at := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	var batch []journal.Record
	bad := map[int]bool{0: true, 7: true, 8: true, 20: true}
	for i := range 21 {
		r := journal.Record{ID: uuid.New(), At: at, Method: "GET", URL: fmt.Sprint("https://heron.example/", i), Gate: policy.Proxy, Verdict: policy.Allow}
		if bad[i] {
			r.Detail = "a byte that no text has: \x00"
		}
		batch = append(batch, r)
	}
	id := uuid.New()
	for range 2 { // the second time, nothing happens
		refused, err := store.AsGates().AddBatch(ctx, id, batch)
		require.NoError(t, err)
		latest, err := store.LatestRecords(ctx, 100)
		require.NoError(t, err)
		assert.Len(t, latest, 17)
		if refused > 0 {
			assert.Equal(t, 4, refused)
		}
	}
}

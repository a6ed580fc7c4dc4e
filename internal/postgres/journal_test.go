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
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
	"widelark/internal/postgres"
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
		for _, r := range latest(t, store, 100) {
			all = append(all, r.URL)
		}
		slices.Sort(all)
		return all
	}
	gates := store.AsGates()
	_, err := gates.AddBatch(ctx, uuid.New(), []journal.Record{record(0, "", "a"), record(0, policy.GroupOnly, "b"), record(1, policy.Everything, "c"), record(2, "", "d")})
	require.NoError(t, err)
	_, _, n, err := archive.New(store.Records(), 1<<20).RecordedSpan(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 3, n, "those that can be decided again")
	dropped, err := store.KeepRecords(ctx, map[policy.Amount]time.Time{policy.Everything: begin.AddDate(0, 0, 1), policy.GroupOnly: begin.AddDate(0, 0, -10)}, access.Timetable)
	require.NoError(t, err)
	assert.Equal(t, []string{"journal_parts_everything_20261120"}, dropped)
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
	for _, r := range latest(t, store, 100) {
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
	assert.Equal(t, []journal.Record{r}, latest(t, store, 1))
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

// Records at moments that no clock shows are refused, and do not keep the others out.
func TestRefusedRecords(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	var batch []journal.Record
	for _, year := range []int{-4000, 1, 1999, 2026, 2026, 2201, 400_000} {
		batch = append(batch, journal.Record{ID: uuid.New(), At: time.Date(year, 11, 20, 12, 0, 0, 0, time.UTC), URL: "https://heron.example/", Words: "a byte that no text of the database has: \x00", Verdict: policy.Allow})
	}
	id := uuid.New()
	for range 2 { // the second time, nothing happens
		refused, err := store.AsGates().AddBatch(ctx, id, batch)
		require.NoError(t, err)
		assert.Equal(t, 5, refused)
		assert.Len(t, latest(t, store, 100), 2)
	}
}

// latest returns the last records, the last first.
func latest(t *testing.T, store *postgres.Store, limit int) []journal.Record {
	t.Helper()
	page, err := archive.New(store.Records(), 1<<20).Page(t.Context(), time.Time{}, archive.FarAway, segment.And{}, nil, limit, time.Minute)
	require.NoError(t, err)
	return page.Records
}

// Parts of an hour that is over are put together, and small ones of an hour that is not over; what a search finds stays the same, also where it began before.
func TestMergeParts(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)
	gates := store.AsGates()
	for i := range 60 {
		_, err := gates.AddBatch(ctx, uuid.New(), []journal.Record{
			{ID: uuid.New(), At: now.Add(-time.Duration(i*3) * time.Minute), URL: fmt.Sprintf("https://n%d.example/", i), Verdict: policy.Allow},
			{ID: uuid.New(), At: now.Add(-time.Duration(i*3) * time.Minute), URL: fmt.Sprintf("https://g%d.example/", i), Verdict: policy.Block, Amount: policy.GroupOnly},
		})
		require.NoError(t, err)
	}
	before, list := latest(t, store, 1000), func() []archive.Part {
		parts, err := store.Records().Parts(ctx, now.AddDate(-1, 0, 0), archive.FarAway)
		require.NoError(t, err)
		return parts
	}
	require.Len(t, before, 120)
	began := list()
	require.Len(t, began, 120)
	for more := true; more; {
		var err error
		more, err = store.MergeParts(ctx, now, access.Timetable)
		require.NoError(t, err)
	}
	parts := list()
	assert.Len(t, parts, 2*(11+3), "the eleven of the hour that is not over are too few")
	assert.Equal(t, before, latest(t, store, 1000))
	heads, err := store.Records().Heads(ctx, began)
	require.NoError(t, err)
	assert.NotContains(t, heads, []byte(nil), "they can still be read")
	after, upTo, last, err := store.Records().PartsAfter(ctx, 50, 4)
	require.NoError(t, err)
	assert.Equal(t, []int64{54, 60}, []int64{upTo, last})
	n := 0
	for _, p := range after {
		n += p.N
	}
	assert.Greater(t, n, 19, "parts with a batch after the fiftieth")
	for more := true; more; {
		more, err = store.MergeParts(ctx, now.Add(2*time.Hour), access.Timetable)
		require.NoError(t, err)
	}
	assert.Len(t, list(), 2*4)
	assert.Equal(t, before, latest(t, store, 1000))
	for more := true; more; {
		more, err = store.MergeParts(ctx, now.Add(12*time.Hour), access.Timetable)
		require.NoError(t, err)
	}
	assert.Len(t, list(), 2, "when the day is over")
	assert.Equal(t, before, latest(t, store, 1000))
	heads, err = store.Records().Heads(ctx, began)
	require.NoError(t, err)
	assert.Equal(t, make([][]byte, len(began)), heads, "they are gone")
	_, err = store.MergeParts(ctx, now, access.Recorder)
	require.Error(t, err)
}

// Records that an earlier version kept as rows are moved, each once.
func TestMoveRows(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	for _, part := range []string{"everything", "group"} {
		_, err := store.Pool().Exec(ctx, fmt.Sprintf(`create table old_%[1]s partition of journal_%[1]s for values from ('2026-11-20') to ('2026-11-22')`, part))
		require.NoError(t, err)
	}
	_, err := store.Pool().Exec(ctx, `insert into journal_rows (at, amount, request, gate, verdict, url, groups, words, took_ms)
		select '2026-11-20'::timestamptz + i * interval '1 minute', (array['everything', 'group'])[1 + i % 2], case when i % 3 = 0 then null else gen_random_uuid() end, 'proxy', 'block', 'https://n' || i || '.example/', '{00000000-0000-0000-0000-000000000007}', 'w', 5
		from generate_series(1, 2500) i`)
	require.NoError(t, err)
	for more, calls := true, 0; more; calls++ {
		more, err = store.MoveRows(ctx, access.Timetable)
		require.NoError(t, err)
		require.Less(t, calls, 5)
	}
	moved := latest(t, store, 10_000)
	require.Len(t, moved, 2500)
	assert.Equal(t, "https://n2500.example/", moved[0].URL)
	assert.Equal(t, []any{policy.Everything, uuid.UUID{15: 7}, "w", 5 * time.Millisecond}, []any{moved[0].Amount, moved[0].Groups[0], moved[0].Words, moved[0].Took})
	more, err := store.MoveRows(ctx, access.Timetable)
	require.NoError(t, err)
	assert.False(t, more)
}

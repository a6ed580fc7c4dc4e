package postgres_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/bench/traffic"
	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
	"widelark/internal/journal/tally"
	"widelark/internal/postgres"
	"widelark/internal/report"
	"widelark/internal/testkit/draft"
)

// How many records are searched, and over how many days. WIDELARK_BENCH_RECORDS asks for others.
const (
	searched     = 10_000_000
	searchedDays = 30
)

// month fills a store with a month of records, as gates hand them in, put together as the service does, and returns when it ends.
func month(b *testing.B, store *postgres.Store, count int) time.Time {
	b.Helper()
	const seed, sites, people = 5, 200_000, 3000
	end := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	per := count / (searchedDays * 24)
	var work sync.WaitGroup
	hours := make(chan int)
	for range 2 {
		work.Go(func() {
			for hour := range hours {
				random := rand.New(rand.NewPCG(seed, uint64(hour)))
				zipf := rand.NewZipf(random, 1.15, 3, sites-1)
				id := func(kind, n int) uuid.UUID { return uuid.UUID{byte(kind), 14: byte(n >> 8), 15: byte(n)} }
				begin := end.Add(-time.Duration(hour+1) * time.Hour)
				all := make([]journal.Record, per)
				for i := range all {
					at := begin.Add(time.Duration(random.Int64N(int64(time.Hour))))
					who, site := random.IntN(people), int(zipf.Uint64())
					r := journal.Record{
						ID: journal.NewID(at), At: at.Truncate(time.Millisecond), Person: id(1, who), Address: netip.AddrFrom4([4]byte{10, 40, byte(who >> 8), byte(who)}), Method: "GET",
						URL: fmt.Sprintf("https://%s/articles/%d/page-%d?from=%x", traffic.Site(site), random.IntN(5000), random.IntN(20), random.Uint32()), Gate: policy.Proxy, GateName: "front-1", Sight: weburl.Full, Verdict: policy.Allow,
						Rung: policy.AtPolicy, Network: id(2, who%40), Groups: []uuid.UUID{id(3, who%25), id(3, 30+who%7)}, Categories: []string{fmt.Sprint("category-", site%60)}, Source: classify.ByCatalogue, Policy: id(4, who%25),
						By: fmt.Sprint("Policy ", who%25, ": otherwise"), Revision: int64(100 - hour/24), Catalogue: 7, Agent: fmt.Sprint("Petrel/", who%30), Referrer: traffic.Site(int(zipf.Uint64())),
						Ending: journal.Ending{Outcome: journal.Answered, Status: 200, Media: "text/html", Size: random.Int64N(1 << 16), Took: time.Duration(random.IntN(2000)) * time.Millisecond},
					}
					if random.IntN(20) == 0 {
						r.Verdict, r.Rule, r.Status, r.Size, r.By = policy.Block, id(5, site%200), 403, 2000, fmt.Sprint("Policy ", who%25, ": Rule ", site%200)
					}
					all[i] = r
				}
				if _, err := store.AsGates().AddBatch(b.Context(), uuid.New(), all); err != nil {
					b.Error(err)
				}
			}
		})
	}
	for hour := range searchedDays * 24 {
		hours <- hour
	}
	close(hours)
	work.Wait()
	for more := true; more; {
		var err error
		more, err = store.MergeParts(b.Context(), end.AddDate(0, 0, 1), access.Timetable)
		require.NoError(b, err)
	}
	_, err := store.Pool().Exec(b.Context(), "delete from journal_parts where replaced_at is not null")
	require.NoError(b, err)
	_, err = store.Pool().Exec(b.Context(), "vacuum full journal_parts")
	require.NoError(b, err)
	_, err = store.Pool().Exec(b.Context(), "analyze journal_parts")
	require.NoError(b, err)
	return end
}

// Searches of ten million records over thirty days, warm, each compared with the time that it may take.
func BenchmarkSearch(b *testing.B) {
	count := searched
	if text := os.Getenv("WIDELARK_BENCH_RECORDS"); text != "" {
		var err error
		count, err = strconv.Atoi(text)
		require.NoError(b, err)
	}
	store := open(b)
	begun := time.Now()
	end := month(b, store, count)
	var size int64
	require.NoError(b, store.Pool().QueryRow(b.Context(), `select sum(pg_total_relation_size(c.oid)) from pg_class c where relname like 'journal\_%' and relkind = 'r'`).Scan(&size))
	b.Logf("%d records in %s; %d bytes a record on disk", count, time.Since(begun).Round(time.Second), size/int64(count))
	a := archive.New(store.Records(), 1<<30)
	oneDay, all := 24*time.Hour, searchedDays*24*time.Hour
	person := string(append([]byte{1}, make([]byte, 13)...)) + "\x05\x39"
	has := func(c segment.Column, value string) segment.Filter {
		return segment.Has{Column: c, Match: func(v string) bool { return v == value }}
	}
	page := func(span time.Duration, f segment.Filter) func() {
		return func() {
			_, err := a.Page(b.Context(), end.Add(-span), end, segment.And{segment.Between{Amount: segment.At, Spans: []segment.Span{{From: end.Add(-span).UnixMilli(), To: end.UnixMilli()}}}, f}, nil, 50, time.Minute)
			require.NoError(b, err)
		}
	}
	counts := func(span time.Duration, f segment.Filter, columns ...segment.Column) func() {
		return func() {
			from := end.Add(-span)
			sum, err := a.Summarize(b.Context(), from, end, segment.And{segment.Between{Amount: segment.At, Spans: []segment.Span{{From: from.UnixMilli(), To: end.UnixMilli()}}}, f}, archive.By{Columns: columns, Over: []time.Time{from, from.Add(span / 2)}}, time.Minute)
			require.NoError(b, err)
			require.NotZero(b, sum.Total.All())
		}
	}
	every := []segment.Column{segment.Verdict, segment.Origin, segment.Person, segment.Groups, segment.Categories, segment.Network, segment.Rule, segment.List, segment.Gate, segment.Method, segment.Status, segment.Agent}
	covers := query.Covering(pattern.MustParse("site-77*.example/articles/7*").Pattern)
	none := segment.And{}
	now := func() time.Time { return end }
	maker := &report.Maker{Tally: &tally.Counter{Archive: a, Editions: draft.Editions(b, store, time.UTC, now), Called: store, Zone: time.UTC, Now: now}, Zone: time.UTC, Now: now}
	section := func(keys ...string) func() {
		return func() {
			made, err := maker.Make(b.Context(), "A month", report.Asked{Span: report.Days30, Sections: keys, Top: 10})
			require.NoError(b, err)
			require.NotZero(b, made.Total.All()+int64(len(made.Sections[0].Rows)))
		}
	}
	for name, one := range map[string]struct {
		most time.Duration
		do   func()
	}{
		"ReportOver":       {500 * time.Millisecond, section("over")},
		"ReportBlocked":    {500 * time.Millisecond, section("blocked")},
		"ReportSites":      {500 * time.Millisecond, section("sites")},
		"ReportNew":        {500 * time.Millisecond, section("new")},
		"ReportPeople":     {500 * time.Millisecond, section("people")},
		"ReportCategories": {500 * time.Millisecond, section("categories")},
		"SearchPerson":     {100 * time.Millisecond, page(all, has(segment.Person, person))},
		"SearchRare":       {100 * time.Millisecond, page(all, segment.And{has(segment.Origin, "https://"+traffic.Site(190_001)), has(segment.Verdict, "block")})},
		"SearchRule":       {100 * time.Millisecond, page(all, has(segment.Rule, string(append([]byte{5}, make([]byte, 15)...))))},
		"SearchNothing":    {100 * time.Millisecond, page(all, has(segment.GateName, "none"))},
		"SearchDay":        {100 * time.Millisecond, page(oneDay, segment.Between{Amount: segment.Size, Spans: []segment.Span{{From: 1 << 40, To: 1 << 41}}})},
		"SearchText":       {time.Second, page(all, segment.Text("articles/99999"))},
		"SearchTextDay":    {100 * time.Millisecond, page(oneDay, segment.Text("articles/99999"))},
		"SearchCovers":     {4 * time.Second, counts(all, covers)},
		"SearchCoversDay":  {500 * time.Millisecond, counts(oneDay, covers)},
		"SearchCounts":     {time.Second, counts(all, none, every...)},
		"SearchCountsDay":  {150 * time.Millisecond, counts(oneDay, none, every...)},
		"SearchCountsSome": {time.Second, counts(all, has(segment.Verdict, "block"), every...)},
		"SearchChart":      {500 * time.Millisecond, counts(all, has(segment.Groups, string(append([]byte{3}, make([]byte, 15)...))+string(append([]byte{3}, make([]byte, 14)...))+"\x1e"), segment.Origin)},
	} {
		b.Run(name, func(b *testing.B) {
			one.do() // warm
			rounds.Values(b, func() float64 {
				begin := time.Now()
				one.do()
				return float64(time.Since(begin))
			}, func() float64 { return float64(one.most) })
		})
	}
}

// A tail while gates record five thousand decisions a second: how long after its decision the slowest record in a hundred is there, compared with the half second that it may take. Gates hand in what
// they have every so often, which counts.
func BenchmarkTail(b *testing.B) {
	const rate, handIn, seconds = 5000, 200 * time.Millisecond, 4
	store := open(b)
	ctx, stop := context.WithCancel(b.Context())
	defer stop()
	a := archive.New(store.Records(), 64<<20)
	go a.Watch(ctx)
	b.Run("TailSlowest", func(b *testing.B) {
		rounds.Values(b, func() float64 {
			const n = int(rate * handIn / time.Second)
			waits := make(chan time.Duration, rate*seconds)
			following, end := context.WithCancel(ctx)
			begun := make(chan struct{})
			var once sync.Once
			var tail sync.WaitGroup
			tail.Go(func() {
				_ = a.Tail(following, archive.Newest, segment.And{}, func(records []journal.Record, _ int64) error {
					once.Do(func() { close(begun) })
					for i := range records {
						waits <- time.Since(records[i].At)
					}
					return nil
				})
			})
			<-begun
			for range int(seconds * time.Second / handIn) {
				begin := time.Now()
				batch := make([]journal.Record, n)
				for i := range batch { // as if they had been decided since the last ones were handed in
					at := begin.Add(-handIn + time.Duration(i)*handIn/time.Duration(n))
					batch[i] = journal.Record{ID: journal.NewID(at), At: at.Truncate(time.Millisecond), URL: fmt.Sprintf("https://%s/%d", traffic.Site(i), i), Verdict: policy.Allow, Amount: policy.Everything, Ending: journal.Ending{Outcome: journal.Answered}}
				}
				_, err := store.AsGates().AddBatch(ctx, uuid.New(), batch)
				require.NoError(b, err)
				time.Sleep(max(0, handIn-time.Since(begin)))
			}
			all := make([]time.Duration, 0, rate*seconds)
			for len(all) < rate*seconds {
				all = append(all, <-waits)
			}
			end()
			tail.Wait()
			slices.Sort(all)
			return float64(all[len(all)*99/100])
		}, func() float64 { return float64(500 * time.Millisecond) })
	})
}

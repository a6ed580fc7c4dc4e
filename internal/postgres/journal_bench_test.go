package postgres_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// deaf keeps no records.
type deaf struct{}

func (deaf) Add(journal.Record) {}

// loaded decides and records on one core for as long as the returned func is not called.
func loaded(b *testing.B) (stop func()) {
	b.Helper()
	g := gate.New(policy.Proxy, "bench", time.Now, deaf{})
	g.Take(&gate.Edition{Revision: 1, Snapshot: policy.New(policy.Config{
		Zone: time.UTC, Way: policy.ByProxy, Lists: match.New([]match.List{{ID: "l", Name: "Blocked", Entries: []pattern.Entry{pattern.MustParse("oddsfield.example")}}}),
		Fallback: &policy.Policy{Name: "Fallback", Otherwise: policy.Allow, Rules: []policy.Rule{{Name: "Never", If: policy.Cond{Op: policy.InList, Values: []string{"l"}}, Then: policy.Block}}},
	})})
	ctx, cancel := context.WithCancel(b.Context())
	var work sync.WaitGroup
	work.Go(func() {
		u := weburl.MustParse("https://heron.example/wards")
		for ctx.Err() == nil {
			d := g.Decide(gate.Request{URL: u, Method: "GET", Sight: weburl.Full, Client: gate.Client{Address: netip.MustParseAddr("10.40.10.7")}})
			g.Record(d, journal.Ending{Outcome: journal.Answered, Status: 200})
		}
	})
	return func() {
		cancel()
		work.Wait()
	}
}

// Twenty thousand records into the journal beside a gate that decides all the time, compared with COPY of the same records as rows into a bare table with nothing beside it.
func BenchmarkJournal(b *testing.B) {
	store := open(b)
	at := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	records := make([]journal.Record, 20_000)
	fill := func() {
		for i := range records {
			records[i] = journal.Record{
				ID: uuid.New(), At: at.Add(time.Duration(i) * time.Millisecond), Method: "GET", URL: fmt.Sprintf("https://site-%d.example/wards/%d", i%500, i), Gate: policy.Proxy, GateName: "bench", Sight: weburl.Full,
				Verdict: policy.Allow, Person: uuid.New(), Address: netip.MustParseAddr("10.40.10.7"), Categories: []string{"news"}, Rung: policy.AtPolicy, Policy: uuid.New(), Rule: uuid.New(), By: "Ward floor: News",
				Revision: 7, Agent: "Mozilla/5.0",
				Ending: journal.Ending{Outcome: journal.Answered, Status: 200, Media: "text/html", Size: 4711, Took: 12 * time.Millisecond},
			}
		}
	}
	_, err := store.AsGates().AddBatch(b.Context(), uuid.New(), []journal.Record{{ID: uuid.New(), At: at, Gate: policy.Proxy, Verdict: policy.Allow}}) // makes the day
	require.NoError(b, err)
	columns := []string{"at", "request", "gate", "gate_name", "sight", "verdict", "method", "url", "person", "address", "categories", "rung", "policy", "rule", "by", "revision", "agent", "outcome", "status", "media", "size", "took_ms"}
	_, err = store.Pool().Exec(b.Context(), `create table bare (at timestamptz, request uuid, gate text, gate_name text, sight text, verdict text, method text, url text, person uuid, address inet, categories text[], rung text, policy uuid,
		rule uuid, by text, revision bigint, agent text, outcome text, status integer, media text, size bigint, took_ms bigint)`)
	require.NoError(b, err)
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			fill()
			stop := loaded(b)
			w := journal.NewWriter(store.AsGates(), len(records), slog.New(slog.DiscardHandler))
			for i := range records {
				w.Add(records[i])
			}
			ctx, end := context.WithCancel(b.Context())
			var writing sync.WaitGroup
			b.StartTimer()
			writing.Go(func() { w.Run(ctx) })
			for w.Written() < int64(len(records)) {
				time.Sleep(time.Millisecond)
			}
			b.StopTimer()
			end()
			writing.Wait()
			stop()
			b.StartTimer()
		}
	}, func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			fill()
			b.StartTimer()
			n, err := store.Pool().CopyFrom(b.Context(), pgx.Identifier{"bare"}, columns, pgx.CopyFromSlice(len(records), func(i int) ([]any, error) {
				r := &records[i]
				return []any{
					r.At, r.ID, string(r.Gate), r.GateName, string(r.Sight), string(r.Verdict), r.Method, r.URL, r.Person, r.Address, r.Categories, string(r.Rung), r.Policy, r.Rule, r.By, r.Revision, r.Agent, string(r.Outcome), r.Status,
					r.Media, r.Size, r.Took.Milliseconds(),
				}, nil
			}))
			require.NoError(b, err)
			require.EqualValues(b, len(records), n)
		}
	})
}

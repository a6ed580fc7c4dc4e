package replay_test

import (
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/replay"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// ward is a draft with people and a list that nurses may not open in office hours, and what replays it.
type ward struct {
	draft.Draft
	ids      map[string]uuid.UUID
	editions *edition.Editions
	replayer *replay.Replayer
}

func newWard(t testing.TB) ward {
	t.Helper()
	d := draft.New(t, server)
	return ward{d, d.Ward(t), draft.Editions(t, d.Store, time.UTC, time.Now), &replay.Replayer{Journal: archive.New(d.Store.Records(), 256<<20), Now: time.Now}}
}

// record records requests, one a minute from a moment on, of kay and of an unknown person.
func (w ward) record(t testing.TB, from time.Time, n int, kay uuid.UUID) []journal.Record {
	t.Helper()
	records := make([]journal.Record, n)
	for i := range records {
		records[i] = journal.Record{
			At: from.Add(time.Duration(i) * time.Minute), Method: "GET", Gate: policy.Proxy, Verdict: policy.Allow,
			URL: []string{"https://odds.example/", "https://www.slots.example/shop", "https://heron.example/"}[i%3],
		}
		if i%2 == 0 {
			records[i].Person = kay
		} else {
			records[i].Address = netip.AddrFrom4([4]byte{10, 40, 9, byte(i % 200)})
		}
	}
	require.NoError(t, w.Store.AddRecords(t.Context(), records, access.Setup))
	return records
}

// A replay agrees with deciding each request by itself on both states, for every kind of question.
func TestReplayAgreesWithDeciding(t *testing.T) {
	t.Parallel()
	w := newWard(t)
	from := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	records := w.record(t, from, 5000, w.ids["kay"])
	live, err := w.editions.On(t.Context(), "", "live")
	require.NoError(t, err)
	edited, err := w.editions.Draft(t.Context())
	require.NoError(t, err)
	decide := func(h *edition.State, r journal.Record) policy.Verdict {
		q := policy.Request{URL: weburl.MustParse(r.URL), Addr: r.Address}
		if r.Person != uuid.Nil {
			q.Person = r.Person.String()
		}
		return h.Snapshot.Decide(&policy.Work{}, &q, r.At).Verdict
	}
	turned, closed, ofSlots := 0, 0, 0
	for _, r := range records {
		was, is := decide(live, r), decide(edited, r)
		if was != is {
			turned++
			if !is.Passes() {
				closed++
			}
			if strings.Contains(r.URL, "slots") {
				ofSlots++
			}
		}
	}
	require.Greater(t, turned, 300)
	all, err := w.replayer.Replay(t.Context(), live, edited, replay.Query{From: from, To: from.AddDate(0, 0, 9), Limit: 10_000})
	require.NoError(t, err)
	assert.Equal(t, []int{5000, 1, 3, turned, closed, 0, turned}, []int{all.Requests, all.People, all.Hosts, all.Turned, all.Closed, all.Opened, len(all.Shown)})
	sum := 0
	for _, g := range all.Groups {
		sum += g.Requests
		some, err := w.replayer.Replay(t.Context(), live, edited, replay.Query{From: from, To: from.AddDate(0, 0, 9), By: g.By})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, some.Turned, g.Requests)
	}
	assert.Equal(t, turned, sum)
	slots, err := w.replayer.Replay(t.Context(), live, edited, replay.Query{From: from, To: from.AddDate(0, 0, 9), Host: "slots.example"})
	require.NoError(t, err)
	assert.Equal(t, ofSlots, slots.Turned)
	day, err := w.replayer.Replay(t.Context(), live, edited, replay.Query{From: from, To: from.AddDate(0, 0, 1)})
	require.NoError(t, err)
	assert.Equal(t, 24*60, day.Requests)

	affected, err := w.replayer.Affected(t.Context(), edited, nil, []pattern.Entry{pattern.MustParse("odds.example")}, from, from.AddDate(0, 0, 9))
	require.NoError(t, err)
	assert.Equal(t, []int{5000, 1667, 1, 1}, []int{affected.All, affected.Requests, affected.People, affected.Hosts})
	require.Len(t, affected.Groups, 2)
	hours := 0
	for _, g := range affected.Groups {
		for _, n := range g.Hours {
			hours += n
		}
	}
	assert.Equal(t, 1667, hours)
}

// Two hundred thousand recorded requests on two states, compared with deciding them once from memory.
func BenchmarkReplay(b *testing.B) {
	w := newWard(b)
	from := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	var records []journal.Record
	for i := range 10 {
		records = append(records, w.record(b, from.Add(time.Duration(i)*time.Second), 20_000, w.ids["kay"])...)
	}
	live, err := w.editions.On(b.Context(), "", "live")
	require.NoError(b, err)
	edited, err := w.editions.Draft(b.Context())
	require.NoError(b, err)
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			r, err := w.replayer.Replay(b.Context(), live, edited, replay.Query{From: from, To: from.AddDate(0, 1, 0)})
			require.NoError(b, err)
			require.Equal(b, len(records), r.Requests)
		}
		b.ReportMetric(float64(b.N*len(records))/b.Elapsed().Seconds(), "requests/s")
	}, func(b *testing.B) {
		var w policy.Work
		for b.Loop() {
			for i := range records {
				u, _ := weburl.Parse(records[i].URL)
				q := policy.Request{URL: u, Addr: records[i].Address, Person: records[i].Person.String()}
				edited.Snapshot.Decide(&w, &q, records[i].At)
			}
		}
	})
}

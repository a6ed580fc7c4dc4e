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
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/journal"
	"widelark/internal/postgres"
	"widelark/internal/replay"
	"widelark/internal/revision"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// house holds the parts of a service without the API.
type house struct {
	store    *postgres.Store
	editions *edition.Editions
	replayer *replay.Replayer
}

func newHouse(t testing.TB) house {
	t.Helper()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	cache := catalogue.NewCache(store, nil)
	require.NoError(t, cache.Load(t.Context()))
	editions := edition.New(store, cache, time.UTC, time.Now)
	return house{store, editions, &replay.Replayer{Journal: store, Now: time.Now}}
}

func (h house) list(t testing.TB, name string, lines ...string) revision.List {
	t.Helper()
	list, err := h.store.AddList(t.Context(), revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	list, _, err = revision.Import(t.Context(), h.store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	return list
}

func ptr[T any](v T) *T { return &v }

func (h house) change(t testing.TB, changes ...revision.ObjectChange) []revision.Object {
	t.Helper()
	for _, c := range changes {
		require.NoError(t, c.Body.Check())
	}
	made, err := h.store.Change(t.Context(), changes, access.Setup)
	require.NoError(t, err)
	return made
}

// ward is a house with people and a list that nurses may not open in office hours.
func ward(t testing.TB) (house, map[string]uuid.UUID) {
	t.Helper()
	h := newHouse(t)
	ids := map[string]uuid.UUID{}
	ids["Betting"] = h.list(t, "Betting", "odds.example", "slots.example/shop").ID
	office, err := h.store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: ptr("Office hours"), Zone: ptr("UTC"), Text: ptr("mon-fri 09:00-17:00")}, access.Setup)
	require.NoError(t, err)
	ids["Office hours"] = office.ID
	ids["Nurses"] = h.change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}})[0].ID
	ids["kay"] = h.change(t, revision.ObjectChange{Kind: revision.KindPerson, Name: "kay", Body: &revision.PersonBody{FullName: "Kay Moran", Groups: []revision.Ref{{ID: ids["Nurses"]}}}})[0].ID
	ids["Ward"] = h.change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "Ward", Body: &revision.PolicyBody{
		Groups: []revision.Ref{{ID: ids["Nurses"]}}, Otherwise: policy.Allow, Rules: []revision.RuleBody{
			{Name: "Not at work", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: ids["Betting"]}}}, When: &revision.WhenBody{Schedule: revision.Ref{ID: office.ID}}},
			{Name: "Safe", Then: policy.Allow, If: &revision.Condition{Lists: []revision.Ref{{ID: ids["Betting"]}}}, With: &revision.ProvisosBody{SafeSearch: true}},
		},
	}})[0].ID
	return h, ids
}

// record records requests, one a minute from a moment on, of kay and of an unknown person.
func (h house) record(t testing.TB, from time.Time, n int, kay uuid.UUID) []journal.Record {
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
	require.NoError(t, h.store.AddRecords(t.Context(), records, access.Setup))
	return records
}

// A replay agrees with deciding each request by itself on both states, for every kind of question.
func TestReplayAgreesWithDeciding(t *testing.T) {
	t.Parallel()
	h, ids := ward(t)
	from := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	records := h.record(t, from, 5000, ids["kay"])
	live, err := h.editions.On(t.Context(), "", "live")
	require.NoError(t, err)
	draft, err := h.editions.Draft(t.Context())
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
		was, is := decide(live, r), decide(draft, r)
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
	all, err := h.replayer.Replay(t.Context(), live, draft, replay.Query{From: from, To: from.AddDate(0, 0, 9), Limit: 10_000})
	require.NoError(t, err)
	assert.Equal(t, []int{5000, 1, 3, turned, closed, 0, turned}, []int{all.Requests, all.People, all.Hosts, all.Turned, all.Closed, all.Opened, len(all.Shown)})
	sum := 0
	for _, g := range all.Groups {
		sum += g.Requests
		some, err := h.replayer.Replay(t.Context(), live, draft, replay.Query{From: from, To: from.AddDate(0, 0, 9), By: g.By})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, some.Turned, g.Requests)
	}
	assert.Equal(t, turned, sum)
	slots, err := h.replayer.Replay(t.Context(), live, draft, replay.Query{From: from, To: from.AddDate(0, 0, 9), Host: "slots.example"})
	require.NoError(t, err)
	assert.Equal(t, ofSlots, slots.Turned)
	day, err := h.replayer.Replay(t.Context(), live, draft, replay.Query{From: from, To: from.AddDate(0, 0, 1)})
	require.NoError(t, err)
	assert.Equal(t, 24*60, day.Requests)

	affected, err := h.replayer.Affected(t.Context(), draft, nil, []pattern.Entry{pattern.MustParse("odds.example")}, from, from.AddDate(0, 0, 9))
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
	h, ids := ward(b)
	from := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	var records []journal.Record
	for i := range 10 {
		records = append(records, h.record(b, from.Add(time.Duration(i)*time.Second), 20_000, ids["kay"])...)
	}
	live, err := h.editions.On(b.Context(), "", "live")
	require.NoError(b, err)
	draft, err := h.editions.Draft(b.Context())
	require.NoError(b, err)
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			r, err := h.replayer.Replay(b.Context(), live, draft, replay.Query{From: from, To: from.AddDate(0, 1, 0)})
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
				draft.Snapshot.Decide(&w, &q, records[i].At)
			}
		}
	})
}

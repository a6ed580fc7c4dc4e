package upkeep_test

import (
	"fmt"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/tidy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/traffic"
	"widelark/internal/upkeep"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

type house struct {
	store    *postgres.Store
	desk     *edition.Editions
	examiner *upkeep.Examiner
}

func newHouse(t *testing.T) house {
	t.Helper()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	now := func() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }
	desk := edition.New(store, catalogue.NewCache(store, slog.New(slog.DiscardHandler)), time.UTC, now)
	return house{store, desk, upkeep.NewExaminer(store, &traffic.Source{SeenStore: store, Journal: archive.New(store.Records(), 1<<20), Now: time.Now}, desk)}
}

func (h house) list(t *testing.T, name string, lines ...string) revision.List {
	t.Helper()
	l, err := h.store.AddList(t.Context(), revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	l, _, err = revision.Import(t.Context(), h.store, l.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	return l
}

func asText(found upkeep.Findings) (lines []string) {
	for _, f := range found.Findings {
		lines = append(lines, fmt.Sprintf("%s: %s %s", f.Kind, f.Entry.Pattern, f.Message))
	}
	return lines
}

func TestExamine(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	never := h.list(t, "Never", "# note", "heron.example", "www.heron.example", "ended.example [until 2026-11-22]", "bittern.example/x", "crane.example")
	care := h.list(t, "Care", "bittern.example")
	other := h.list(t, "Other", "crane.example")
	in := func(ids ...uuid.UUID) *revision.Condition {
		c := &revision.Condition{}
		for _, id := range ids {
			c.Lists = append(c.Lists, revision.Ref{ID: id})
		}
		return c
	}
	body := &revision.PolicyBody{Otherwise: policy.Allow, Rules: []revision.RuleBody{{Name: "Care", If: in(care.ID), Then: policy.Allow}, {Name: "Never", If: in(never.ID, other.ID), Then: policy.Block}}}
	_, err := h.store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindPolicy, Name: "House policy", Body: body}}, access.Setup)
	require.NoError(t, err)

	found, err := h.examiner.Examine(t.Context(), never, nil, 100)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"covered: www.heron.example heron.example covers all of it.",
		"ended: ended.example Its last day was 2026-11-22; since then it does nothing.",
		`contradict: bittern.example/x bittern.example in "Care" covers all of it, and the policy "House policy" says block to this list and allow to that one.`,
		`elsewhere: crane.example crane.example in "Other" covers it, too.`,
	}, asText(found))
	assert.Equal(t, map[tidy.Kind]int{tidy.Covered: 1, tidy.Ended: 1, tidy.Contradict: 1, tidy.Elsewhere: 1}, found.Counts)
	assert.Len(t, found.Absorb, 2, "what is contradicted or elsewhere is not for the machine to take out")
	assert.Equal(t, never.Version, found.Version)

	some, err := h.examiner.Examine(t.Context(), never, []tidy.Kind{tidy.Ended, tidy.Covered}, 1)
	require.NoError(t, err)
	assert.Len(t, some.Findings, 1)
	assert.Equal(t, found.Counts, some.Counts, "all are counted")

	// What is absorbed leaves the list covering what it covered.
	ids := append(found.Absorb[tidy.Covered], found.Absorb[tidy.Ended]...)
	_, removed, err := h.store.RemoveEntries(t.Context(), never.ID, revision.Selection{IDs: ids}, revision.ChangeTidied, found.Version, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 2, removed)
	again, err := h.examiner.Examine(t.Context(), never, nil, 100)
	require.NoError(t, err)
	assert.Equal(t, map[tidy.Kind]int{tidy.Contradict: 1, tidy.Elsewhere: 1}, again.Counts)
	_, err = h.examiner.Examine(t.Context(), revision.List{ID: uuid.New()}, nil, 1)
	require.ErrorIs(t, err, revision.ErrNotFound)
}

func TestCatches(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	patterns := []pattern.Pattern{pattern.MustParse("*heron*").Pattern, pattern.MustParse("heron.example/wards").Pattern, pattern.MustParse(`"odds"`).Pattern, pattern.MustParse("203.0.113.0/24").Pattern}
	none, err := h.examiner.Catches(t.Context(), patterns, traffic.Days, 5)
	require.NoError(t, err)
	assert.Zero(t, none[0].Looked, "nothing was recorded")

	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	pages := []revision.SeenPage{
		{Host: "https://heron.example/wards?tab=1", Requests: 3, LastOn: day},
		{Host: "HERON.example/wards", Requests: 2, LastOn: day},
		{Host: "heron.example", Requests: 9, LastOn: day},
		{Host: "www.heron.example/odds/today", Requests: 1, LastOn: day},
		{Host: "theron.test", Requests: 4, LastOn: day},
		{Host: "203.0.113.7", Requests: 6, LastOn: day},
		{Host: "gopher://heron.example", Requests: 1, LastOn: day},
		{Host: "bittern.example", Requests: 0, LastOn: day},
	}
	kept, err := h.examiner.AddSeen(t.Context(), pages, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, 6, kept)
	caught, err := h.examiner.Catches(t.Context(), patterns, traffic.Days, 2)
	require.NoError(t, err)
	assert.Equal(t, []upkeep.Catch{
		{Hosts: 3, Requests: 19, Looked: 5, Top: caught[0].Top},
		{Hosts: 1, Requests: 5, Looked: 5, Top: caught[1].Top},
		{Hosts: 1, Requests: 1, Looked: 5, Top: caught[2].Top},
		{Hosts: 1, Requests: 6, Looked: 5, Top: caught[3].Top},
	}, caught)
	assert.Equal(t, []string{"heron.example", "theron.test"}, []string{caught[0].Top[0].Host, caught[0].Top[1].Host}, "the most asked for, no more than wanted")
	assert.Equal(t, "https://heron.example/", caught[0].Top[0].Shown, "the page that was asked for most")
	assert.Equal(t, "https://heron.example/wards", caught[1].Top[0].Shown)

	_, err = h.examiner.AddSeen(t.Context(), []revision.SeenPage{{Host: "new-heron.test", Requests: 50, LastOn: day}}, access.Setup)
	require.NoError(t, err)
	caught, err = h.examiner.Catches(t.Context(), patterns[:1], traffic.Days, 1)
	require.NoError(t, err)
	assert.Equal(t, "new-heron.test", caught[0].Top[0].Host, "what comes in counts at once")
}

func TestCompanions(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	portals := h.list(t, "Portals", "ferrow.example", "! cdn.ferrow.example")
	h.list(t, "Other", "keys.example")
	index, today, err := h.desk.Index(t.Context())
	require.NoError(t, err)
	for url, in := range map[string]bool{"www.ferrow.example": true, "cdn.ferrow.example": false, "keys.example": false} {
		assert.Equal(t, in, upkeep.Companion(index, today, portals.ID, weburl.MustParse(url)), url)
	}
	assert.Equal(t, "=static.example", upkeep.Suggested(weburl.MustParse("static.example"), weburl.MustParse("ferrow.example")).String())
	assert.Equal(t, "ferrow.example", upkeep.Suggested(weburl.MustParse("ferrow.example"), weburl.MustParse("www.ferrow.example")).String())
}

// What gates recorded is caught too, of as many days as are asked for; a URL's query does not count.
func TestCatchesOfTheJournal(t *testing.T) {
	h := newHouse(t)
	ctx, now := t.Context(), time.Now()
	var records []journal.Record
	for days := range 20 {
		for n := range 3 {
			records = append(records, journal.Record{At: now.AddDate(0, 0, -days), URL: fmt.Sprintf("https://oddsfield.example:8443/today?n=%d", n), Verdict: policy.Block})
		}
	}
	records = append(records, journal.Record{At: now, URL: "https://heron.example/", Verdict: policy.Allow}, journal.Record{At: now, URL: "https://heron.example/", Verdict: policy.Allow, Amount: policy.GroupOnly})
	require.NoError(t, h.store.AddRecords(ctx, records, access.Setup))
	patterns := []pattern.Pattern{pattern.MustParse("oddsfield.example/today").Pattern, pattern.MustParse("heron.example").Pattern}
	for days, want := range map[int]int64{1: 3 * 2, 7: 3 * 8, 30: 3 * 20} {
		caught, err := h.examiner.Catches(ctx, patterns, days, 5)
		require.NoError(t, err)
		assert.Equal(t, want, caught[0].Requests, "%d days", days)
		assert.Equal(t, "https://oddsfield.example/today", caught[0].Top[0].Shown)
		assert.EqualValues(t, 1, caught[1].Requests, "of groups alone, pages are not known")
	}
}

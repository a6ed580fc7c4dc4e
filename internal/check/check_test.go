package check_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/check"
	"widelark/internal/edition"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/upkeep"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// house holds the parts of a service without the API.
type house struct {
	store   *postgres.Store
	checker *check.Checker
}

func newHouse(t testing.TB) house {
	t.Helper()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	cache := catalogue.NewCache(store, nil)
	require.NoError(t, cache.Load(t.Context()))
	editions := edition.New(store, cache, time.UTC, time.Now)
	return house{store, &check.Checker{Store: store, Editions: editions, Lists: store, Categories: store, Traffic: upkeep.NewExaminer(store, store, editions), Publishing: store, Journal: store, Now: time.Now}}
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

// Each kind of expectation is checked, and differences are reported.
func TestExpectations(t *testing.T) {
	t.Parallel()
	h, ids := ward(t)
	kay, office := &revision.Ref{ID: ids["kay"]}, &revision.Ref{ID: ids["Office hours"]}
	url := []string{"odds.example", "www.odds.example/today"}
	for name, c := range map[string]struct {
		body revision.ExpectationBody
		why  string // "" where it holds
	}{
		"in":         {revision.ExpectationBody{URLs: url, Person: kay, Schedule: office, Verdict: policy.Block, Rule: "not at work"}, ""},
		"outside":    {revision.ExpectationBody{URLs: url, Person: kay, Schedule: office, Outside: true, Verdict: policy.Allow, With: &revision.ProvisosBody{SafeSearch: true}}, ""},
		"moment":     {revision.ExpectationBody{URLs: url, Group: &revision.Ref{ID: ids["Nurses"]}, At: "tue 10:00", Verdict: policy.Block}, ""},
		"verdict":    {revision.ExpectationBody{URLs: url, Person: kay, Schedule: office, Verdict: policy.Allow}, "block in place of allow"},
		"rule":       {revision.ExpectationBody{URLs: url, Person: kay, Schedule: office, Verdict: policy.Block, Rule: "Safe"}, `"Not at work" decides, not the rule "Safe"`},
		"otherwise":  {revision.ExpectationBody{URLs: []string{"heron.example"}, Person: kay, Verdict: policy.Allow, Rule: "Safe"}, `an otherwise decides, not the rule "Safe"`},
		"category":   {revision.ExpectationBody{URLs: url, Verdict: policy.Allow, Category: "betting"}, "it is unrated, not betting"},
		"provisos":   {revision.ExpectationBody{URLs: url, Person: kay, Schedule: office, Outside: true, Verdict: policy.Allow, With: &revision.ProvisosBody{MinutesADay: 30}}, "not with at most 30 min a day"},
		"somebody":   {revision.ExpectationBody{URLs: url, Address: "10.40.9.7", Verdict: policy.Allow}, ""},
		"lesser":     {revision.ExpectationBody{URLs: []string{"slots.example/shop"}, Person: kay, Schedule: office, Sight: "name", Verdict: policy.Allow}, ""},
		"switch off": {revision.ExpectationBody{URLs: url, Verdict: policy.Hold, Off: true}, "off"},
	} {
		h.change(t, revision.ObjectChange{Kind: revision.KindExpectation, Name: name, Body: &c.body})
		if c.why == "" {
			c.why = "holds"
		}
		report, err := h.checker.Report(t.Context())
		require.NoError(t, err)
		found := false
		for _, e := range report.Expected {
			if e.Name != name {
				continue
			}
			found = true
			assert.Empty(t, e.Broken, name)
			assert.Equal(t, c.why == "holds", e.Passed, name)
			for _, w := range e.Wrong {
				assert.Contains(t, w.Why, c.why, name)
				assert.NotEmpty(t, w.Because)
			}
		}
		assert.Equal(t, c.why != "off", found, name)
	}
	report, err := h.checker.Report(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 5, report.Failing())
	again, err := h.checker.Report(t.Context())
	require.NoError(t, err)
	assert.Same(t, report, again, "nothing was edited, so nothing is found out again")
}

// A plan is published once, when it is due, unless an expectation fails by then.
func TestPublishDue(t *testing.T) {
	t.Parallel()
	h, ids := ward(t)
	now := time.Now()
	plan := func(due time.Duration, note string) {
		at, err := h.store.DraftVersion(t.Context())
		require.NoError(t, err)
		_, err = h.store.Plan(t.Context(), revision.Planned{Due: now.Add(due), Version: at.Draft, Note: note}, access.Setup)
		require.NoError(t, err)
	}
	plan(-time.Minute, "due")
	plan(time.Hour, "later")
	h.change(t, revision.ObjectChange{Kind: revision.KindExpectation, Name: "broken", Body: &revision.ExpectationBody{URLs: []string{"odds.example"}, Person: &revision.Ref{ID: ids["kay"]}, Verdict: policy.Hold}})
	plan(-time.Second, "breaks")
	made, err := h.checker.PublishDue(t.Context())
	require.NoError(t, err)
	require.Len(t, made, 1)
	assert.Equal(t, "due", made[0].Note)
	made, err = h.checker.PublishDue(t.Context())
	require.NoError(t, err)
	assert.Empty(t, made)
	left, err := h.store.Planned(t.Context())
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "later", left[0].Note)
	events, err := h.store.Audit(t.Context(), audit.Query{Limit: 10, Text: "not published"})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Contains(t, events[0].Detail, "breaks: 1 of 1 expectations do not hold any more")
}

// The URLs that an edit turns are found from the edit alone, for each kind of object.
func TestTurns(t *testing.T) {
	t.Parallel()
	h, ids := ward(t)
	before, err := h.store.DraftVersion(t.Context())
	require.NoError(t, err)
	at := before.Draft
	turned := func() []string {
		a, err := h.checker.Editions.At(t.Context(), at)
		require.NoError(t, err)
		b, err := h.checker.Editions.Draft(t.Context())
		require.NoError(t, err)
		states, err := h.store.Changed(t.Context(), at, 0)
		require.NoError(t, err)
		found, err := h.checker.Turns(t.Context(), a, b, states)
		require.NoError(t, err)
		var told []string
		for _, one := range found.Turns {
			told = append(told, fmt.Sprintf("%s: %s to %s %s", strings.Join(one.Who, ", "), one.Before, one.After, one.Times))
		}
		at = b.DraftVersion
		return told
	}
	assert.Empty(t, turned())
	_, _, err = h.store.MergeEntries(t.Context(), ids["Betting"], revision.NewBatch(pattern.MustParse("raffle.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Nurses: allow to block mon-fri 09:00-17:00"}, turned())
	_, err = h.store.EditSchedule(t.Context(), ids["Office hours"], revision.ScheduleEdit{Text: ptr("mon-fri 09:00-18:00")}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Nurses: allow to block mon-fri 17:00-18:00"}, turned())
	h.change(t, revision.ObjectChange{Kind: revision.KindException, Name: "derby", Body: &revision.ExceptionBody{Entries: pattern.Keep("odds.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Persons: []revision.Ref{{ID: ids["kay"]}}}}})
	assert.Equal(t, []string{"Kay Moran: block to allow mon-fri 09:00-18:00"}, turned())
	h.change(t, revision.ObjectChange{Kind: revision.KindPerson, Name: "kay", ID: ids["kay"], Body: &revision.PersonBody{FullName: "Kay Moran", Groups: []revision.Ref{}}})
	assert.Equal(t, []string{"Kay Moran: block to allow mon-fri 09:00-18:00"}, turned(), "what her group may not, she may")
}

// Publishing a million entries, until the new live edition decides.
func BenchmarkPublish(b *testing.B) {
	h := newHouse(b)
	lines := make([]string, 1_000_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	list := h.list(b, "Large", lines...)
	_, err := h.checker.Editions.Draft(b.Context())
	require.NoError(b, err)
	b.ResetTimer()
	for i := 0; b.Loop(); i++ {
		_, _, err := h.store.MergeEntries(b.Context(), list.ID, revision.NewBatch(pattern.MustParse(fmt.Sprintf("new-%d.example", i))), revision.Merging{}, 0, access.Setup)
		require.NoError(b, err)
		now, err := h.store.DraftVersion(b.Context())
		require.NoError(b, err)
		_, err = h.store.Publish(b.Context(), revision.Publishing{Version: now.Draft, Note: "x"}, 0, access.Setup)
		require.NoError(b, err)
		live, err := h.checker.Editions.On(b.Context(), "", "live")
		require.NoError(b, err)
		require.Equal(b, now.Draft, live.DraftVersion)
	}
}

// An edit of a list of a million entries, until the review and the expectations are up to date.
func BenchmarkReview(b *testing.B) {
	for _, size := range []int{100_000, 1_000_000} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			h := newHouse(b)
			lines := make([]string, size)
			for i := range lines {
				lines[i] = fmt.Sprintf("site-%d.example", i*7919%size)
			}
			list := h.list(b, "Large", lines...)
			_, err := h.checker.Report(b.Context())
			require.NoError(b, err)
			b.ResetTimer()
			for i := 0; b.Loop(); i++ {
				_, _, err := h.store.MergeEntries(b.Context(), list.ID, revision.NewBatch(pattern.MustParse(fmt.Sprintf("new-%d.example", i))), revision.Merging{}, 0, access.Setup)
				require.NoError(b, err)
				_, err = h.checker.Report(b.Context())
				require.NoError(b, err)
			}
		})
	}
}

package check_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/check"
	"widelark/internal/journal/archive"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
	"widelark/internal/traffic"
	"widelark/internal/upkeep"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// checked is a draft, and what checks it.
type checked struct {
	draft.Draft
	checker *check.Checker
}

func newChecked(t testing.TB) checked {
	t.Helper()
	d := draft.New(t, server)
	editions := draft.Editions(t, d.Store, time.UTC, time.Now)
	records := archive.New(d.Store.Records(), 1<<20)
	return checked{d, &check.Checker{Store: d.Store, Editions: editions, Lists: d.Store, Categories: d.Store, Traffic: upkeep.NewExaminer(d.Store, &traffic.Source{SeenStore: d.Store, Journal: records, Now: time.Now}, editions), Publishing: d.Store, Journal: records, Usage: d.Store, Now: time.Now}}
}

// Each kind of expectation is checked, and differences are reported.
func TestExpectations(t *testing.T) {
	t.Parallel()
	h := newChecked(t)
	ids := h.Ward(t)
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
		h.Change(t, revision.ObjectChange{Kind: revision.KindExpectation, Name: name, Body: &c.body})
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
	h := newChecked(t)
	ids := h.Ward(t)
	now := time.Now()
	plan := func(due time.Duration, note string) {
		at, err := h.Store.DraftVersion(t.Context())
		require.NoError(t, err)
		_, err = h.Store.Plan(t.Context(), revision.Planned{Due: now.Add(due), Version: at.Draft, Note: note}, access.Setup)
		require.NoError(t, err)
	}
	plan(-time.Minute, "due")
	plan(time.Hour, "later")
	h.Change(t, revision.ObjectChange{Kind: revision.KindExpectation, Name: "broken", Body: &revision.ExpectationBody{URLs: []string{"odds.example"}, Person: &revision.Ref{ID: ids["kay"]}, Verdict: policy.Hold}})
	plan(-time.Second, "breaks")
	made, err := h.checker.PublishDue(t.Context())
	require.NoError(t, err)
	require.Len(t, made, 1)
	assert.Equal(t, "due", made[0].Note)
	made, err = h.checker.PublishDue(t.Context())
	require.NoError(t, err)
	assert.Empty(t, made)
	left, err := h.Store.Planned(t.Context())
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "later", left[0].Note)
	events, err := h.Store.Audit(t.Context(), audit.Query{Limit: 10, Text: "not published"})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Contains(t, events[0].Detail, "breaks: 1 of 1 expectations do not hold any more")
}

// The URLs that an edit turns are found from the edit alone, for each kind of object.
func TestTurns(t *testing.T) {
	t.Parallel()
	h := newChecked(t)
	ids := h.Ward(t)
	before, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	at := before.Draft
	turned := func() []string {
		a, err := h.checker.Editions.At(t.Context(), at)
		require.NoError(t, err)
		b, err := h.checker.Editions.Draft(t.Context())
		require.NoError(t, err)
		states, err := h.Store.Changed(t.Context(), at, 0)
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
	_, _, err = h.Store.MergeEntries(t.Context(), ids["Betting"], revision.NewBatch(pattern.MustParse("raffle.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Nurses: allow to block mon-fri 09:00-17:00"}, turned())
	_, err = h.Store.EditSchedule(t.Context(), ids["Office hours"], revision.ScheduleEdit{Text: new("mon-fri 09:00-18:00")}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Nurses: allow to block mon-fri 17:00-18:00"}, turned())
	h.Change(t, revision.ObjectChange{Kind: revision.KindException, Name: "derby", Body: &revision.ExceptionBody{Entries: pattern.Keep("odds.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Persons: []revision.Ref{{ID: ids["kay"]}}}}})
	assert.Equal(t, []string{"Kay Moran: block to allow mon-fri 09:00-18:00"}, turned())
	h.Change(t, revision.ObjectChange{Kind: revision.KindPerson, Name: "kay", ID: ids["kay"], Body: &revision.PersonBody{FullName: "Kay Moran", Groups: []revision.Ref{}}})
	assert.Equal(t, []string{"Kay Moran: block to allow mon-fri 09:00-18:00"}, turned(), "what her group may not, she may")
}

// Publishing a million entries, until the new live edition decides.
func BenchmarkPublish(b *testing.B) {
	h := newChecked(b)
	lines := make([]string, 1_000_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	list := h.List(b, "Large", lines...)
	_, err := h.checker.Editions.Draft(b.Context())
	require.NoError(b, err)
	b.ResetTimer()
	for i := 0; b.Loop(); i++ {
		_, _, err := h.Store.MergeEntries(b.Context(), list.ID, revision.NewBatch(pattern.MustParse(fmt.Sprintf("new-%d.example", i))), revision.Merging{}, 0, access.Setup)
		require.NoError(b, err)
		now, err := h.Store.DraftVersion(b.Context())
		require.NoError(b, err)
		_, err = h.Store.Publish(b.Context(), revision.Publishing{Version: now.Draft, Note: "x"}, 0, access.Setup)
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
			h := newChecked(b)
			lines := make([]string, size)
			for i := range lines {
				lines[i] = fmt.Sprintf("site-%d.example", i*7919%size)
			}
			list := h.List(b, "Large", lines...)
			_, err := h.checker.Report(b.Context())
			require.NoError(b, err)
			b.ResetTimer()
			for i := 0; b.Loop(); i++ {
				_, _, err := h.Store.MergeEntries(b.Context(), list.ID, revision.NewBatch(pattern.MustParse(fmt.Sprintf("new-%d.example", i))), revision.Merging{}, 0, access.Setup)
				require.NoError(b, err)
				_, err = h.checker.Report(b.Context())
				require.NoError(b, err)
			}
		})
	}
}

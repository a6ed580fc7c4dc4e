package trial_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/trial"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// house is a store with one list that the one policy blocks.
type house struct {
	store *postgres.Store
	list  revision.List
	url   string
}

func ptr[T any](v T) *T { return &v }

func newHouse(t *testing.T) house {
	t.Helper()
	h := house{url: server.Database(t)}
	var err error
	h.store, err = postgres.Open(t.Context(), h.url)
	require.NoError(t, err)
	t.Cleanup(h.store.Close)
	h.list, err = h.store.AddList(t.Context(), revision.ListEdit{Name: ptr("Betting")}, access.Setup)
	require.NoError(t, err)
	h.rule(t, revision.RuleBody{Name: "Never", If: &revision.Condition{Lists: []revision.Ref{{ID: h.list.ID}}}, Then: policy.Block})
	return h
}

// rule gives the fallback its rules.
func (h house) rule(t *testing.T, rules ...revision.RuleBody) {
	t.Helper()
	kept, err := h.store.Objects(t.Context(), revision.KindPolicy)
	require.NoError(t, err)
	for _, o := range kept {
		if o.Name == "Fallback" {
			body := &revision.PolicyBody{Role: revision.RoleFallback, Rules: rules, Otherwise: policy.Allow}
			_, err := h.store.Change(t.Context(), []revision.ObjectChange{{Kind: o.Kind, ID: o.ID, Name: o.Name, Body: body}}, access.Setup)
			require.NoError(t, err)
		}
	}
}

func (h house) add(t testing.TB, lines ...string) {
	t.Helper()
	_, _, err := revision.Import(t.Context(), h.store, h.list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
}

// ask tries a question on the draft as it is.
func ask(ctx context.Context, editions *edition.Editions, q trial.Question) (trial.Answers, error) {
	state, err := editions.Draft(ctx)
	if err != nil {
		return trial.Answers{}, err
	}
	return trial.Try(ctx, state, "", q)
}

func verdict(t testing.TB, d *edition.Editions, url string) policy.Verdict {
	t.Helper()
	answers, err := ask(t.Context(), d, trial.Question{URLs: []string{url}})
	require.NoError(t, err)
	return answers.Answers[0].Verdict
}

// Of two services on a database, an edit at one counts for the next trial at the other.
func TestEditsCountEverywhere(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	other, err := postgres.Open(t.Context(), h.url)
	require.NoError(t, err)
	defer other.Close()
	here, there := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now), edition.New(other, catalogue.NewCache(other, slog.New(slog.DiscardHandler)), time.UTC, time.Now)
	assert.Equal(t, policy.Allow, verdict(t, here, "heron.example"))
	assert.Equal(t, policy.Allow, verdict(t, there, "heron.example"))
	h.add(t, "heron.example")
	assert.Equal(t, policy.Block, verdict(t, here, "heron.example"))
	assert.Equal(t, policy.Block, verdict(t, there, "heron.example"))
	_, _, err = other.RemoveEntries(t.Context(), h.list.ID, revision.Selection{Keys: []string{"heron.example"}}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, policy.Allow, verdict(t, here, "heron.example"))
}

// An entry holds through the end of its last day where the organisation is, not where the service runs.
func TestDaysEndInTheZone(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example [until 2026-12-24]")
	zone, err := time.LoadLocation("Pacific/Auckland") // 13 hours before UTC in December
	require.NoError(t, err)
	for at, want := range map[string]policy.Verdict{
		"2026-12-24T10:59:59Z": policy.Block,
		"2026-12-24T11:00:00Z": policy.Allow,
	} {
		now, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		editions := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), zone, func() time.Time { return now })
		assert.Equal(t, want, verdict(t, editions, "heron.example"), at)
	}
}

// While several clients add entries one by one, no trial fails, no entry is lost, and each counts at once.
func TestTrialsGoOnDuringEdits(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	editions := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now)
	const hands, each = 4, 12
	var all sync.WaitGroup
	for hand := range hands {
		all.Go(func() {
			for i := range each {
				host := fmt.Sprintf("site-%d-%d.example", hand, i)
				_, _, err := h.store.MergeEntries(t.Context(), h.list.ID, revision.NewBatch(pattern.MustParse(host)), revision.Merging{}, 0, access.Setup)
				assert.NoError(t, err)
				answers, err := ask(t.Context(), editions, trial.Question{URLs: []string{host, "heron.example"}})
				if assert.NoError(t, err) {
					assert.Equal(t, policy.Block, answers.Answers[0].Verdict, host)
					assert.Equal(t, policy.Allow, answers.Answers[1].Verdict)
				}
			}
		})
	}
	all.Wait()
	list, err := h.store.List(t.Context(), h.list.ID)
	require.NoError(t, err)
	assert.EqualValues(t, hands*each, list.EntryCount)
}

// Large lists have indexes of their own, which stay while other lists change, and are dropped with their list.
func TestLargeLists(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	editions := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now)
	lines := make([]string, 6_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	h.add(t, lines...)
	also, err := h.store.AddList(t.Context(), revision.ListEdit{Name: ptr("Also")}, access.Setup)
	require.NoError(t, err)
	names := func(url string) (all []string) {
		answers, err := ask(t.Context(), editions, trial.Question{URLs: []string{url}})
		require.NoError(t, err)
		for _, hit := range answers.Answers[0].Explanation.Hits {
			all = append(all, hit.List.Name)
		}
		return all
	}
	assert.Equal(t, []string{"Betting"}, names("site-4711.example"))
	_, _, err = h.store.MergeEntries(t.Context(), also.ID, revision.NewBatch(pattern.MustParse("site-4711.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also", "Betting"}, names("site-4711.example"), "by name, wherever they stand")
	h.add(t, "new.example")
	assert.Equal(t, []string{"Betting"}, names("new.example"))
	renamed := "Odds"
	_, err = h.store.EditList(t.Context(), h.list.ID, revision.ListEdit{Name: &renamed}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also", "Odds"}, names("site-4711.example"))
	_, _, err = h.store.RemoveEntries(t.Context(), h.list.ID, revision.Selection{Keys: lines}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also"}, names("site-4711.example"))
	require.NoError(t, h.store.RemoveList(t.Context(), also.ID, 0, access.Setup))
	assert.Empty(t, names("site-4711.example"))
	assert.Equal(t, []string{"Odds"}, names("new.example"))
}

// After any edits, editions that followed them give the same answers as new ones that read everything.
func TestFollowingEditsIsReadingAnew(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	random := rand.New(rand.NewPCG(7, 8))
	lines := make([]string, 7_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	h.add(t, lines...)
	small, err := h.store.AddList(t.Context(), revision.ListEdit{Name: ptr("Small")}, access.Setup)
	require.NoError(t, err)
	lists := []uuid.UUID{h.list.ID, small.ID}
	follower := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now)
	hosts := func() (all []string) {
		for range 60 {
			all = append(all, fmt.Sprintf("www.site-%d.example/x", random.IntN(40)))
		}
		return all
	}
	some := func() revision.Selection {
		return revision.Selection{Keys: []string{fmt.Sprintf("site-%d.example", random.IntN(40)), fmt.Sprintf("! site-%d.example", random.IntN(40))}}
	}
	var past []int64
	for step := range 40 {
		list := lists[random.IntN(len(lists))]
		switch random.IntN(6) {
		case 0, 1:
			line := []string{"site-%d.example", "! site-%d.example", "site-%d.example/x [off]", "*te-%d.*", `"site-%d"`}[random.IntN(5)]
			_, _, err = h.store.MergeEntries(t.Context(), list, revision.NewBatch(pattern.MustParse(fmt.Sprintf(line, random.IntN(40)))), revision.Merging{}, 0, access.Setup)
		case 2:
			_, _, err = h.store.RemoveEntries(t.Context(), list, some(), revision.ChangeRemoved, 0, access.Setup)
		case 3:
			off := random.IntN(2) == 0
			_, _, err = h.store.EditEntries(t.Context(), list, some(), revision.EntryEdit{Off: &off}, 0, access.Setup)
		case 4:
			_, _, err = h.store.CopyEntries(t.Context(), list, other(lists, list), some(), random.IntN(2) == 0, 0, access.Setup)
		case 5:
			if len(past) > 0 {
				_, err = h.store.TakeBack(t.Context(), h.list.ID, past[random.IntN(len(past))], 0, access.Setup)
			}
		}
		require.NoError(t, err)
		now, err := h.store.List(t.Context(), h.list.ID)
		require.NoError(t, err)
		if history, err := h.store.History(t.Context(), h.list.ID, 0, 1); assert.NoError(t, err) && history[0].Version == now.Version {
			past = append(past, now.Version)
		}
		q := trial.Question{URLs: hosts()}
		followed, err := ask(t.Context(), follower, q)
		require.NoError(t, err)
		anew, err := ask(t.Context(), edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now), q)
		require.NoError(t, err)
		for i := range q.URLs {
			require.Equal(t, anew.Answers[i].Explanation, followed.Answers[i].Explanation, "step %d: %s", step, q.URLs[i])
		}
	}
}

func other(lists []uuid.UUID, list uuid.UUID) uuid.UUID {
	if lists[0] == list {
		return lists[1]
	}
	return lists[0]
}

func TestAnswers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "# note", "heron.example", "*.heron.example")
	_, err := h.store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindGroup, Name: "Everyone", Body: &revision.GroupBody{}}}, access.Setup)
	require.NoError(t, err)
	editions := edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, time.Now)
	answers, err := ask(t.Context(), editions, trial.Question{URLs: []string{"www.heron.example", "gopher://x"}, Circumstances: edition.Circumstances{Who: &edition.Who{Group: "everyone"}}})
	require.NoError(t, err)
	d := answers.Answers[0].Explanation
	entries, _, err := h.store.Entries(t.Context(), h.list.ID, revision.EntryQuery{Limit: 10})
	require.NoError(t, err)
	step := d.Steps[d.Decider]
	assert.Equal(t, entries[2].ID, step.Evidence[0].Entry.ID)
	assert.Equal(t, `"gopher:" is not a web address: only http and https are decided on`, answers.Answers[1].Problem)
	byID, err := ask(t.Context(), editions, trial.Question{URLs: []string{"x"}, Circumstances: edition.Circumstances{Who: &edition.Who{Group: answers.Asked.Who.Group.ID}}})
	require.NoError(t, err)
	assert.Equal(t, answers.Asked.Who, byID.Asked.Who)
	for field, c := range map[string]edition.Circumstances{
		"who.group": {Who: &edition.Who{Group: "Surgeons"}}, "who.person": {Who: &edition.Who{Person: "Nobody"}}, "who.address": {Who: &edition.Who{Address: "10.40"}}, "at": {At: "soon"},
	} {
		_, err = ask(t.Context(), editions, trial.Question{Circumstances: c})
		var wrong *revision.FieldError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, field, wrong.Field)
	}
}

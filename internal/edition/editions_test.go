package edition_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
	"widelark/internal/trial"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func atNoon() time.Time { return noon }

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
	h := draft.NewBlocked(t, server)
	other, err := postgres.Open(t.Context(), h.URL)
	require.NoError(t, err)
	defer other.Close()
	here, there := draft.Editions(t, h.Store, time.UTC, time.Now), draft.Editions(t, other, time.UTC, time.Now)
	assert.Equal(t, policy.Allow, verdict(t, here, "heron.example"))
	assert.Equal(t, policy.Allow, verdict(t, there, "heron.example"))
	h.Block(t, "heron.example")
	assert.Equal(t, policy.Block, verdict(t, here, "heron.example"))
	assert.Equal(t, policy.Block, verdict(t, there, "heron.example"))
	_, _, err = other.RemoveEntries(t.Context(), h.Betting.ID, revision.Selection{Keys: []string{"heron.example"}}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, policy.Allow, verdict(t, here, "heron.example"))
}

// An entry holds through the end of its last day where the organisation is, not where the service runs.
func TestDaysEndInTheZone(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example [until 2026-12-24]")
	zone, err := time.LoadLocation("Pacific/Auckland") // 13 hours before UTC in December
	require.NoError(t, err)
	for at, want := range map[string]policy.Verdict{
		"2026-12-24T10:59:59Z": policy.Block,
		"2026-12-24T11:00:00Z": policy.Allow,
	} {
		now, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		editions := draft.Editions(t, h.Store, zone, func() time.Time { return now })
		assert.Equal(t, want, verdict(t, editions, "heron.example"), at)
	}
}

// While several clients add entries one by one, no trial fails, no entry is lost, and each counts at once.
func TestTrialsGoOnDuringEdits(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	editions := draft.Editions(t, h.Store, time.UTC, time.Now)
	const hands, each = 4, 12
	var all sync.WaitGroup
	for hand := range hands {
		all.Go(func() {
			for i := range each {
				host := fmt.Sprintf("site-%d-%d.example", hand, i)
				_, _, err := h.Store.MergeEntries(t.Context(), h.Betting.ID, revision.NewBatch(pattern.MustParse(host)), revision.Merging{}, 0, access.Setup)
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
	list, err := h.Store.List(t.Context(), h.Betting.ID)
	require.NoError(t, err)
	assert.EqualValues(t, hands*each, list.EntryCount)
}

// Large lists have indexes of their own, which stay while other lists change, and are dropped with their list.
func TestLargeLists(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	editions := draft.Editions(t, h.Store, time.UTC, time.Now)
	lines := make([]string, 6_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	h.Block(t, lines...)
	also, err := h.Store.AddList(t.Context(), revision.ListEdit{Name: new("Also")}, access.Setup)
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
	_, _, err = h.Store.MergeEntries(t.Context(), also.ID, revision.NewBatch(pattern.MustParse("site-4711.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also", "Betting"}, names("site-4711.example"), "by name, wherever they stand")
	h.Block(t, "new.example")
	assert.Equal(t, []string{"Betting"}, names("new.example"))
	renamed := "Odds"
	_, err = h.Store.EditList(t.Context(), h.Betting.ID, revision.ListEdit{Name: &renamed}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also", "Odds"}, names("site-4711.example"))
	_, _, err = h.Store.RemoveEntries(t.Context(), h.Betting.ID, revision.Selection{Keys: lines}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"Also"}, names("site-4711.example"))
	require.NoError(t, h.Store.RemoveList(t.Context(), also.ID, 0, access.Setup))
	assert.Empty(t, names("site-4711.example"))
	assert.Equal(t, []string{"Odds"}, names("new.example"))
}

// After any edits, editions that followed them give the same answers as new ones that read everything, also elsewhere, where parts of them travel to.
func TestFollowingEditsIsReadingAnew(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	random := rand.New(rand.NewPCG(7, 8))
	lines := make([]string, 7_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	h.Block(t, lines...)
	small, err := h.Store.AddList(t.Context(), revision.ListEdit{Name: new("Small")}, access.Setup)
	require.NoError(t, err)
	lists := []uuid.UUID{h.Betting.ID, small.ID}
	follower, away := draft.Editions(t, h.Store, time.UTC, time.Now), newElsewhere()
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
			_, _, err = h.Store.MergeEntries(t.Context(), list, revision.NewBatch(pattern.MustParse(fmt.Sprintf(line, random.IntN(40)))), revision.Merging{}, 0, access.Setup)
		case 2:
			_, _, err = h.Store.RemoveEntries(t.Context(), list, some(), revision.ChangeRemoved, 0, access.Setup)
		case 3:
			off := random.IntN(2) == 0
			_, _, err = h.Store.EditEntries(t.Context(), list, some(), revision.EntryEdit{Off: &off}, 0, access.Setup)
		case 4:
			_, _, err = h.Store.CopyEntries(t.Context(), list, other(lists, list), some(), random.IntN(2) == 0, 0, access.Setup)
		case 5:
			if len(past) > 0 {
				_, err = h.Store.TakeBack(t.Context(), h.Betting.ID, past[random.IntN(len(past))], 0, access.Setup)
			}
		}
		require.NoError(t, err)
		now, err := h.Store.List(t.Context(), h.Betting.ID)
		require.NoError(t, err)
		if history, err := h.Store.History(t.Context(), h.Betting.ID, 0, 1); assert.NoError(t, err) && history[0].Version == now.Version {
			past = append(past, now.Version)
		}
		q := trial.Question{URLs: hosts()}
		followed, err := ask(t.Context(), follower, q)
		require.NoError(t, err)
		anew, err := ask(t.Context(), draft.Editions(t, h.Store, time.UTC, time.Now), q)
		require.NoError(t, err)
		travelled, err := trial.Try(t.Context(), away.state(t, h.Store), "", q)
		require.NoError(t, err)
		for i := range q.URLs {
			require.Equal(t, anew.Answers[i].Explanation, followed.Answers[i].Explanation, "step %d: %s", step, q.URLs[i])
			require.Equal(t, anew.Answers[i].Explanation, travelled.Answers[i].Explanation, "elsewhere, step %d: %s", step, q.URLs[i])
		}
	}
}

func other(lists []uuid.UUID, list uuid.UUID) uuid.UUID {
	if lists[0] == list {
		return lists[1]
	}
	return lists[0]
}

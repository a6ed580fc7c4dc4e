package changes

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/postgres/cluster"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// acknowledged holds everything that the service has acknowledged.
type acknowledged struct {
	mu        sync.Mutex
	edits     []int            // numbers of edits; -1 where an edit failed
	revisions map[int64]int64  // number to the version of the draft
	notes     map[int64]string // number to note
}

// tried returns how many edits were tried.
func (a *acknowledged) tried() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.edits)
}

// failing reports whether the last edit failed.
func (a *acknowledged) failing() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.edits[len(a.edits)-1] < 0
}

// work edits, publishes and rolls back until the context ends. Each edit adds two entries at once.
func (a *acknowledged) work(ctx context.Context, api *client.ClientWithResponses, list client.List, random *rand.Rand) {
	for n := len(a.edits); ctx.Err() == nil; n++ {
		lines := []string{fmt.Sprintf("one-%d.example", n), fmt.Sprintf("two-%d.example", n)}
		_, err := api.AddEntriesWithResponse(ctx, list.ID, nil, client.AddEntriesInputBody{Lines: lines})
		a.mu.Lock()
		if err == nil {
			a.edits = append(a.edits, n)
		} else {
			a.edits = append(a.edits, -1)
		}
		a.mu.Unlock()
		var made *client.Revision
		switch random.IntN(6) {
		case 0:
			if answer, err := api.PublishWithResponse(ctx, client.PublishInputBody{Note: fmt.Sprintf("after edit %d", n)}); err == nil {
				made = answer.JSON201.Revision
			}
		case 1:
			if answer, err := api.MakeLiveAgainWithResponse(ctx, 1, client.LiveAgainInputBody{Note: fmt.Sprintf("back after edit %d", n)}); err == nil {
				made = answer.JSON200
			}
		}
		if made != nil {
			a.mu.Lock()
			a.revisions[made.Number], a.notes[made.Number] = made.Version, made.Note
			a.mu.Unlock()
		}
	}
}

// If the service or its database is killed during edits, publishing and rollbacks, everything acknowledged is there afterwards, and nothing is incomplete.
func TestKilledWhilePublishing(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(house.DataFolder(t, nil), "database")
	start := func() *cluster.Cluster {
		db, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
		require.NoError(t, err)
		return db
	}
	db := start()
	defer func() { db.Kill() }()
	require.NoError(t, db.EnsureDatabase(t.Context(), "kept"))
	s := house.Server.ServeOn(t, db.URL("kept"))
	api := s.API(t)
	made, err := api.CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Suspects"})
	require.NoError(t, err)
	list := *made.JSON201
	a := &acknowledged{revisions: map[int64]int64{}, notes: map[int64]string{}}
	random := rand.New(rand.NewPCG(8, uint64(os.Getpid())))
	for round := range 6 {
		working, stop := context.WithCancel(t.Context())
		var hands sync.WaitGroup
		hands.Go(func() { a.work(working, api, list, random) })
		upTo := len(a.edits) + 5 + random.IntN(20)
		require.Eventually(t, func() bool { return a.tried() >= upTo }, testkit.Patience, testkit.Look)
		if round%2 == 0 {
			s.Kill()
		} else {
			db.Kill()
		}
		require.Eventually(t, a.failing, testkit.Patience, testkit.Look)
		stop()
		hands.Wait()
		if round%2 == 1 {
			s.Kill()
			db = start()
			s.Database = db.URL("kept")
		}
		s.Start(t)
		checkKept(t, s, api, list, a)
	}
	assert.Greater(t, len(a.edits), 30)
	assert.NotEmpty(t, a.revisions)
}

func checkKept(t *testing.T, s *testkit.Service, api *client.ClientWithResponses, list client.List, a *acknowledged) {
	t.Helper()
	exported := s.Run(t, "", "list", "export", list.Name).Done(t)
	there := map[string]bool{}
	for line := range strings.SplitSeq(exported, "\n") {
		there[strings.TrimSpace(line)] = true
	}
	for n, edit := range a.edits {
		one, two := there[fmt.Sprintf("one-%d.example", n)], there[fmt.Sprintf("two-%d.example", n)]
		assert.Equal(t, one, two, "edit %d is half there", n)
		if edit >= 0 {
			assert.True(t, one, "edit %d was acknowledged and is gone", n)
		}
	}
	limit := int64(500)
	answer, err := api.GetRevisionsWithResponse(t.Context(), &client.GetRevisionsParams{Limit: &limit})
	require.NoError(t, err)
	kept := map[int64]client.Revision{}
	for _, r := range answer.JSON200.Revisions {
		kept[r.Number] = r
	}
	assert.Len(t, kept, int(answer.JSON200.Revisions[0].Number), "numbers without gaps")
	for number, version := range a.revisions {
		assert.Equal(t, version, kept[number].Version, "revision %d", number)
		assert.Equal(t, a.notes[number], kept[number].Note)
	}
	// What is live decides: the list as it was at that version.
	live := answer.JSON200.Revisions[0]
	on, urls := "live", []string{}
	for n := range a.edits {
		urls = append(urls, fmt.Sprintf("one-%d.example", n))
	}
	trials, err := api.TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: urls, On: &on})
	require.NoError(t, err)
	assert.Equal(t, live.Version, trials.JSON200.DraftVersion)
	in := 0
	for _, trial := range trials.JSON200.Trials {
		if trial.Matches != nil {
			in += len(*trial.Matches)
		}
	}
	diff, err := api.GetEntryDiffWithResponse(t.Context(), list.ID, &client.GetEntryDiffParams{From: new("live"), To: new("draft"), Limit: new(int64(5000))})
	if live.Version > 1 && err == nil {
		assert.Equal(t, len(there)-2-len(diff.JSON200.Changes), 2*in, "live is what the draft was then")
	}
}

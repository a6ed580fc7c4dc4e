package edition_test

import (
	"context"
	"fmt"
	"math/rand/v2"
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
	"widelark/internal/revision"
	"widelark/internal/testkit/draft"
	"widelark/internal/trial"
)

// While edits go on, editions gives the same answers for all versions, in any order, as a new one that reads them anew.
func TestEarlierVersionsReadAsAnew(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	random := rand.New(rand.NewPCG(5, 12))
	editions := draft.Editions(t, h.Store, time.UTC, atNoon)
	also, err := h.Store.AddList(t.Context(), revision.ListEdit{Name: new("Also")}, access.Setup)
	require.NoError(t, err)
	large := make([]pattern.Entry, 6000) // compiled by itself
	for i := range large {
		large[i] = pattern.MustParse(fmt.Sprintf("large-%d.example", i))
	}
	_, _, err = h.Store.MergeEntries(t.Context(), also.ID, revision.NewBatch(large...), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	lists := []uuid.UUID{h.Betting.ID, also.ID}
	h.Fallback(t, revision.RuleBody{Name: "Never", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: lists[0]}}}},
		revision.RuleBody{Name: "Hold", Then: policy.Hold, If: &revision.Condition{Lists: []revision.Ref{{ID: lists[1]}}}})
	var urls []string
	for i := range 30 {
		urls = append(urls, fmt.Sprintf("site-%d.example", i))
	}
	urls = append(urls, "large-7.example", "large-5999.example")
	verdicts := func(d *edition.Editions, version int64) (all []policy.Verdict) {
		t.Helper()
		state, err := d.At(t.Context(), version)
		require.NoError(t, err)
		require.Equal(t, version, state.DraftVersion)
		answers, err := trial.Try(t.Context(), state, "", trial.Question{URLs: urls})
		require.NoError(t, err)
		for _, a := range answers.Answers {
			all = append(all, a.Verdict)
		}
		return all
	}
	was := map[int64][]policy.Verdict{}
	var versions []int64
	for i := range 50 {
		list := lists[random.IntN(2)]
		entry := pattern.MustParse(fmt.Sprintf("site-%d.example", random.IntN(30)))
		switch random.IntN(6) {
		case 0, 1, 2:
			_, _, err = h.Store.MergeEntries(t.Context(), list, revision.NewBatch(entry), revision.Merging{}, 0, access.Setup)
		case 3:
			_, _, err = h.Store.RemoveEntries(t.Context(), list, revision.Selection{Keys: []string{entry.Key()}}, revision.ChangeRemoved, 0, access.Setup)
		case 4:
			_, _, err = h.Store.EditEntries(t.Context(), list, revision.Selection{Keys: []string{entry.Key()}}, revision.EntryEdit{Off: new(i%2 == 0)}, 0, access.Setup)
		default:
			h.Fallback(t, revision.RuleBody{Name: "Never", Then: policy.Verdicts[random.IntN(4)], If: &revision.Condition{Lists: []revision.Ref{{ID: lists[random.IntN(2)]}}}})
		}
		require.NoError(t, err)
		now, err := h.Store.DraftVersion(t.Context())
		require.NoError(t, err)
		versions = append(versions, now.Draft)
		was[now.Draft] = verdicts(draft.Editions(t, h.Store, time.UTC, atNoon), now.Draft)
		for range 2 {
			version := versions[random.IntN(len(versions))]
			require.Equal(t, was[version], verdicts(editions, version), "version %d, asked for at %d", version, now.Draft)
		}
	}
	_, err = editions.At(t.Context(), 1_000_000)
	require.ErrorIs(t, err, revision.ErrNotFound)
}

// Publishing and rolling back change the live verdicts at once, at every service, while trials go on without an error.
func TestTrialsGoOnDuringPublishing(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	here, there := draft.Editions(t, h.Store, time.UTC, atNoon), draft.Editions(t, h.Store, time.UTC, atNoon)
	working, stop := context.WithCancel(t.Context())
	var hands sync.WaitGroup
	for _, d := range []*edition.Editions{here, there} {
		hands.Go(func() {
			for working.Err() == nil {
				for _, on := range []string{"live", "draft", "1"} {
					state, err := d.On(t.Context(), "on", on)
					if assert.NoError(t, err) {
						_, err = trial.Try(t.Context(), state, "", trial.Question{URLs: []string{"odds.example"}})
						assert.NoError(t, err)
					}
				}
			}
		})
	}
	liveSays := func(d *edition.Editions) policy.Verdict {
		t.Helper()
		state, err := d.On(t.Context(), "on", "live")
		require.NoError(t, err)
		answers, err := trial.Try(t.Context(), state, "", trial.Question{URLs: []string{"odds.example"}})
		require.NoError(t, err)
		assert.Equal(t, state.Revision, answers.Revision)
		return answers.Answers[0].Verdict
	}
	h.Block(t, "odds.example")
	for range 5 {
		now, err := h.Store.DraftVersion(t.Context())
		require.NoError(t, err)
		assert.Equal(t, policy.Allow, liveSays(here))
		_, err = h.Store.Publish(t.Context(), revision.Publishing{Version: now.Draft, Note: "block it"}, 0, access.Setup)
		require.NoError(t, err)
		assert.Equal(t, policy.Block, liveSays(here))
		assert.Equal(t, policy.Block, liveSays(there))
		_, err = h.Store.Publish(t.Context(), revision.Publishing{Version: 1, Note: "back", SameAs: 1}, 0, access.Setup)
		require.NoError(t, err)
		assert.Equal(t, policy.Allow, liveSays(there))
	}
	stop()
	hands.Wait()
	for on, want := range map[string]string{"yesterday": `on: "yesterday" is neither draft nor live nor the number of a revision`, "99": "on: there is no revision 99; the last one is 11"} {
		_, err := here.On(t.Context(), "on", on)
		assert.EqualError(t, err, want)
	}
}

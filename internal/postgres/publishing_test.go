package postgres_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/postgres"
	"widelark/internal/revision"
)

// lines returns entries as text.
type lines []string

func (l *lines) Named(_ int64, name string, scope pattern.Scope, carveOut bool) {
	*l = append(*l, fmt.Sprint(name, scope, carveOut))
}
func (l *lines) Entry(_ int64, e pattern.Entry) { *l = append(*l, e.String()) }

// whole returns everything in a version of the draft except for who made it and when.
func whole(t testing.TB, store *postgres.Store, version int64) (told []string) {
	t.Helper()
	tell := func(parts ...any) {
		text, err := json.Marshal(parts)
		require.NoError(t, err)
		told = append(told, string(text))
	}
	require.NoError(t, store.ReadDraft(t.Context(), version, func(r revision.DraftReader) error {
		draft, err := r.Draft(t.Context())
		require.NoError(t, err)
		for _, l := range draft.Lists {
			var entries lines
			require.NoError(t, r.Entries(t.Context(), l.ID, 0, &entries))
			slices.Sort(entries)
			tell("list", l.Name, entries)
		}
		local, err := r.Local(t.Context())
		require.NoError(t, err)
		for _, c := range local.Corrections {
			tell("correction", c.Entry.String(), c.Categories, c.Reason)
		}
		for _, c := range local.Own {
			tell("category", c.Key, c.Name, c.Lists)
		}
		for _, c := range local.Scorecards {
			tell("scorecard", c.Name, c.Terms, c.Threshold)
		}
		schedules, err := r.Schedules(t.Context())
		require.NoError(t, err)
		for _, s := range schedules {
			tell("schedule", s.Name, s.Text, s.Zone)
		}
		objects, gone, err := r.Objects(t.Context(), 0)
		require.NoError(t, err)
		assert.Empty(t, gone)
		for _, o := range objects {
			tell(o.Kind, o.Name, json.RawMessage(o.Body))
		}
		return nil
	}))
	slices.Sort(told)
	return told
}

// edits makes random edits of every kind.
type edits struct {
	t      testing.TB
	store  *postgres.Store
	random *rand.Rand
}

func (e edits) one() {
	ctx, by := e.t.Context(), []access.Actor{access.Setup, access.Subscription}[e.random.IntN(2)]
	name := fmt.Sprintf("Thing %d", e.random.IntN(6))
	lists, err := e.store.Lists(ctx, "", 100)
	require.NoError(e.t, err)
	pick := func() uuid.UUID { return lists[e.random.IntN(len(lists))].ID }
	site := func() pattern.Entry { return pattern.MustParse(fmt.Sprintf("site-%d.example", e.random.IntN(20))) }
	what := e.random.IntN(12)
	if len(lists) == 0 {
		what = 0
	}
	switch what { // what is refused, as a name that is taken, changes nothing: that is as good
	case 0:
		_, _ = e.store.AddList(ctx, revision.ListEdit{Name: &name}, by)
	case 1:
		_, _ = e.store.EditList(ctx, pick(), revision.ListEdit{Name: &name, Description: new("x")}, 0, by)
	case 2:
		_ = e.store.RemoveList(ctx, pick(), 0, by)
	case 3, 4:
		_, _, err = e.store.MergeEntries(ctx, pick(), revision.NewBatch(site(), site()), revision.Merging{Replace: what == 4}, 0, by)
		require.NoError(e.t, err)
	case 5:
		_, _, err = e.store.EditEntries(ctx, pick(), revision.Selection{Keys: []string{site().Key(), site().Key()}}, revision.EntryEdit{Off: new(e.random.IntN(2) == 0)}, 0, by)
		require.NoError(e.t, err)
	case 6:
		_, err = e.store.AddCorrections(ctx, []pattern.Pattern{site().Pattern}, []string{"news"}, fmt.Sprint("because ", e.random.IntN(3)), by)
		require.NoError(e.t, err)
	case 7:
		_, _ = e.store.AddOwnCategory(ctx, revision.OwnCategoryEdit{Name: &name, Lists: &[]uuid.UUID{pick()}}, by)
		_, _ = e.store.AddScorecard(ctx, revision.ScorecardEdit{Name: &name, Category: new("adult"), Threshold: new(5), Terms: &[]revision.Term{{Word: "x", Points: 3}}}, by)
	case 8:
		_, _ = e.store.AddSchedule(ctx, revision.ScheduleEdit{Name: &name, Zone: new("UTC"), Text: new("mon 09:00-10:00")}, by)
		found, err := e.store.Schedules(ctx)
		require.NoError(e.t, err)
		if len(found) > 0 {
			_, _ = e.store.EditSchedule(ctx, found[0].ID, revision.ScheduleEdit{Text: new(fmt.Sprintf("tue %02d:00-24:00", e.random.IntN(20)))}, 0, by)
		}
	case 9:
		found, err := e.store.OwnCategories(ctx)
		require.NoError(e.t, err)
		if len(found) > 0 {
			require.NoError(e.t, e.store.RemoveOwnCategory(ctx, found[0].ID, 0, by))
		}
	case 10:
		_, _ = e.store.Change(ctx, []revision.ObjectChange{group(name, fmt.Sprintf("10.40.%d.0/24", e.random.IntN(9)))}, by)
	default:
		groups, err := e.store.Objects(ctx, revision.KindGroup)
		require.NoError(e.t, err)
		change := revision.ObjectChange{Kind: revision.KindPolicy, Name: name, Body: &revision.PolicyBody{Groups: []revision.Ref{}, Rules: []revision.RuleBody{{Name: "x", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: pick()}}}}}, Otherwise: policy.Allow}}
		if len(groups) > 0 {
			change.Body.(*revision.PolicyBody).Groups = []revision.Ref{{ID: groups[0].ID}}
		}
		if found, _ := e.store.Objects(ctx, revision.KindPolicy); len(found) > 4 {
			change = revision.ObjectChange{Kind: revision.KindPolicy, ID: found[e.random.IntN(2)+2].ID, Remove: true}
		}
		_, _ = e.store.Change(ctx, []revision.ObjectChange{change}, by)
	}
}

// Every version reads as it was, whatever comes after it; a rollback restores it; and the difference between two versions is
// empty exactly if they are the same.
func TestVersionsStay(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	random := rand.New(rand.NewPCG(6, 1))
	e := edits{t, store, random}
	was := map[int64][]string{}
	look := func() int64 {
		now, err := store.DraftVersion(ctx)
		require.NoError(t, err)
		was[now.Draft] = whole(t, store, 0)
		return now.Draft
	}
	versions := []int64{look()}
	for i := range 150 {
		e.one()
		versions = append(versions, look())
		if i%15 == 14 {
			to := versions[random.IntN(len(versions))]
			require.NoError(t, store.Restore(ctx, to, 0, nil, access.Subscription))
			require.Equal(t, was[to], whole(t, store, 0), "taken back to %d", to)
			again, err := store.Changed(ctx, to, 0)
			require.NoError(t, err)
			require.Empty(t, again)
			versions = append(versions, look())
		}
	}
	for version, told := range was {
		require.Equal(t, told, whole(t, store, version), "version %d", version)
	}
	for range 60 {
		from, to := versions[random.IntN(len(versions))], versions[random.IntN(len(versions))]
		changed, err := store.Changed(ctx, from, to)
		require.NoError(t, err)
		if slices.Equal(was[from], was[to]) {
			for _, c := range changed { // a description is not told by whole, and a list may have come again under another id
				assert.True(t, c.Before == nil || c.After == nil || c.Entries == nil, "%d and %d: %v", from, to, c)
			}
			continue
		}
		assert.NotEmpty(t, changed, "%d to %d", from, to)
		for _, c := range changed {
			assert.NotEmpty(t, c.By, c.Name())
			if c.Kind != revision.KindList || c.Entries == nil {
				continue
			}
			found, err := store.EntryDifferences(ctx, c.ID, from, to, 0, 1000)
			require.NoError(t, err)
			counts := revision.EntryCounts{}
			for _, d := range found {
				switch {
				case d.Before == nil:
					counts.Added++
				case d.After == nil:
					counts.Removed++
				default:
					counts.Edited++
				}
			}
			assert.Equal(t, *c.Entries, counts)
		}
	}
}

func TestPublish(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "Betting", "odds.example")
	now, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 1, now.Live.Number, "a service begins with what it began with")
	assert.Less(t, now.Live.Version, now.Draft)

	first, err := store.Publish(ctx, revision.Publishing{Version: now.Draft, Note: "betting"}, 1, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 2, first.Number)
	_, err = store.Publish(ctx, revision.Publishing{Version: now.Draft, Note: "again"}, 1, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale, "somebody published meanwhile")
	_, err = store.Publish(ctx, revision.Publishing{Version: now.Draft + 1, Note: "from the future"}, 0, access.Setup)
	require.ErrorContains(t, err, "version: the draft has no version")
	back, err := store.Publish(ctx, revision.Publishing{Version: 1, Note: "no betting", SameAs: 1}, 2, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, []int64{3, 1}, []int64{back.Number, back.SameAs})
	now, err = store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, revision.Live{Number: 3, Version: 1}, now.Live)

	// Of many who publish at once on the same sight, one does.
	var published atomic.Int32
	var hands sync.WaitGroup
	for range 6 {
		hands.Go(func() {
			if _, err := store.Publish(ctx, revision.Publishing{Version: 2, Note: "race"}, 3, access.Setup); err == nil {
				published.Add(1)
			}
		})
	}
	hands.Wait()
	assert.EqualValues(t, 1, published.Load())

	// One object is taken back alone, and one that another depends on is refused.
	policies, err := store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPolicy, Name: "Ward", Body: &revision.PolicyBody{
		Rules: []revision.RuleBody{{Name: "x", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: list.ID}}}}}, Otherwise: policy.Allow,
	}}}, access.Setup)
	require.NoError(t, err)
	require.ErrorContains(t, store.Restore(ctx, 1, 0, []uuid.UUID{list.ID}, access.Setup), `the list "Betting" cannot be taken back alone: it is used by the policy "Ward"`)
	require.NoError(t, store.Restore(ctx, 1, 0, []uuid.UUID{policies[0].ID}, access.Setup))
	require.NoError(t, store.Restore(ctx, 1, 0, []uuid.UUID{list.ID}, access.Setup))
	require.ErrorIs(t, store.Restore(ctx, 1, 0, []uuid.UUID{list.ID}, access.Setup), revision.ErrNotFound, "nothing is left to take back")
	left, err := store.Changed(ctx, 1, 0)
	require.NoError(t, err)
	assert.Empty(t, left)
	gone, err := store.EntryDifferences(ctx, list.ID, list.Version, 0, 0, 10)
	require.NoError(t, err)
	require.Len(t, gone, 1, "a list that is gone keeps its entries for revisions")
	assert.Equal(t, "odds.example", gone[0].Before.String())
}

// The audit log holds who did what, in order, and nothing can be removed from it.
func TestAudit(t *testing.T) {
	t.Parallel()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	defer store.Close()
	ctx := t.Context()
	edda, rowan := person(t, store, "edda"), person(t, store, "rowan")
	list, err := store.AddList(ctx, revision.ListEdit{Name: new("Betting"), Description: new(""), Colour: new(""), Owner: new("")}, edda)
	require.NoError(t, err)
	_, _, err = store.MergeEntries(ctx, list.ID, revision.NewBatch(pattern.MustParse("odds.example")), revision.Merging{}, 0, edda)
	require.NoError(t, err)
	_, err = store.EditList(ctx, list.ID, revision.ListEdit{Name: new("Bets")}, 0, rowan)
	require.NoError(t, err)
	require.NoError(t, store.RemoveList(ctx, list.ID, 0, rowan))
	require.NoError(t, store.Restore(ctx, 3, 0, nil, edda))
	_, err = store.SetSource(ctx, revision.Source{ListID: list.ID, URL: "https://harbour.example/bets.txt", Every: time.Hour, Format: "lines", MaxBytes: 1000, MaxShrink: 50}, rowan)
	require.NoError(t, err)
	require.NoError(t, store.RemoveSource(ctx, list.ID, edda))
	_, err = store.Publish(ctx, revision.Publishing{Version: 3, Note: "first"}, 0, edda)
	require.NoError(t, err)
	session := uuid.New()
	require.NoError(t, store.AddSession(ctx, account.Session{ID: session}, rowan))
	token, err := store.AddToken(ctx, account.Token{Name: "nightly"}, []byte("x"), rowan)
	require.NoError(t, err)
	require.ErrorIs(t, store.RemoveToken(ctx, token.ID, edda), account.ErrUnknown, "somebody else's")
	require.NoError(t, store.RemoveToken(ctx, token.ID, rowan))
	require.NoError(t, store.EndSession(ctx, session, true, rowan))
	require.NoError(t, store.SetPassword(ctx, rowan.Account(), "x", uuid.Nil, false, rowan))
	require.NoError(t, store.SetPassword(ctx, rowan.Account(), "y", uuid.Nil, true, edda))
	planned, err := store.Plan(ctx, revision.Planned{Due: time.Now().Add(time.Hour), Version: 3, Note: "tonight"}, edda)
	require.NoError(t, err)
	require.NoError(t, store.Unplan(ctx, planned.ID, rowan))
	require.NoError(t, store.AcceptFinding(ctx, revision.Acceptance{Key: "unused Bets", Reason: "kept"}, edda))
	require.NoError(t, store.UnacceptFinding(ctx, "unused Bets", rowan))
	pack, err := store.AddPack(ctx, "Harbour", catalogue.Settings{Every: time.Hour, MaxBytes: 1000, MaxShrink: 50}, rowan)
	require.NoError(t, err)
	require.NoError(t, store.RemovePack(ctx, pack.ID, edda))
	require.NoError(t, store.Trust(ctx, catalogue.Key{Key: "k", Name: "Maker"}, edda))
	require.NoError(t, store.Distrust(ctx, "k", edda))
	_, err = store.PutRoles(ctx, rowan.Account(), []access.Held{{Role: access.Owner}}, edda)
	require.NoError(t, err)
	require.NoError(t, store.RemoveAccount(ctx, edda.Account(), rowan))

	events, err := store.Audit(ctx, audit.Query{Limit: 100})
	require.NoError(t, err)
	var told []string
	for _, e := range slices.Backward(events) {
		if e.By != "setup" {
			told = append(told, strings.Join(strings.Fields(strings.Join([]string{e.By, string(e.What), e.Kind, e.Name}, " ")), " "))
		}
	}
	assert.Equal(t, []string{
		"edda made list Betting", "edda entries added list Betting", "rowan changed list Bets", "rowan removed list Bets",
		"edda brought back list Betting", "edda entries taken back list Betting", "rowan source set list Betting", "edda source removed list Betting",
		"edda published revision 2", "rowan signed in", "rowan token made nightly", "rowan token taken back nightly", "rowan signed out",
		"rowan password changed", "edda password reset rowan", "edda planned", "rowan unplanned", "edda accepted unused Bets", "rowan no longer accepted unused Bets",
		"rowan pack added Harbour", "edda pack removed Harbour", "edda key trusted Maker", "edda key no longer trusted Maker",
		"edda roles put rowan", "rowan account removed edda",
	}, told)
	found, err := store.Audit(ctx, audit.Query{Limit: 100, Text: "betting", Kind: string(revision.KindList)})
	require.NoError(t, err)
	assert.Len(t, found, 6)

	conn, err := pgx.ConnectConfig(context.Background(), store.Pool().Config().ConnConfig)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, sql := range []string{"delete from audit", "update audit set by = 'x'", "truncate audit", "delete from revisions", "update revisions set note = 'x'"} {
		_, err := conn.Exec(ctx, sql)
		assert.ErrorContains(t, err, "never changed or taken out", sql)
	}
}

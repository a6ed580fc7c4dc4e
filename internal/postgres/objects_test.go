package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/revision"
)

func group(name string, ranges ...string) revision.ObjectChange {
	return revision.ObjectChange{Kind: revision.KindGroup, Name: name, Body: &revision.GroupBody{Ranges: ranges}}
}

// Of several edits of the same version one succeeds and the others are refused; of several objects with one name, one is created.
func TestObjectsAtOnce(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	made, err := store.Change(ctx, []revision.ObjectChange{group("Nurses")}, access.Setup)
	require.NoError(t, err)
	const hands = 8
	var kept, stale, taken, added atomic.Int32
	var all sync.WaitGroup
	for hand := range hands {
		all.Go(func() {
			edit := group("Nurses", fmt.Sprintf("10.40.%d.0/24", hand))
			edit.ID, edit.Version = made[0].ID, made[0].Version
			switch _, err := store.Change(ctx, []revision.ObjectChange{edit}, access.Setup); {
			case err == nil:
				kept.Add(1)
			case errors.Is(err, revision.ErrStale):
				stale.Add(1)
			}
			var field *revision.FieldError
			switch _, err := store.Change(ctx, []revision.ObjectChange{group("Doctors")}, access.Setup); {
			case err == nil:
				added.Add(1)
			case errors.As(err, &field):
				taken.Add(1)
			}
		})
	}
	all.Wait()
	assert.Equal(t, []int32{1, hands - 1, 1, hands - 1}, []int32{kept.Load(), stale.Load(), added.Load(), taken.Load()})
}

// An app, an activity, an own category or a scorecard cannot be removed while rules name it by its key.
func TestKeysInUse(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	app := func(name, key string, activities ...string) revision.ObjectChange {
		body := &revision.AppBody{Key: key, Hosts: pattern.Keep("sharebay.example")}
		for _, a := range activities {
			body.Activities = append(body.Activities, revision.ActivityBody{Key: a, Name: a})
		}
		return revision.ObjectChange{Kind: revision.KindApp, Name: name, Body: body}
	}
	own, err := store.AddOwnCategory(ctx, revision.OwnCategoryEdit{Name: new("Mirrors"), Description: new(""), Family: new(""), Adds: new(false), Lists: &[]uuid.UUID{}}, access.Setup)
	require.NoError(t, err)
	card, err := store.AddScorecard(ctx, revision.ScorecardEdit{Name: new("Odds"), Category: new("mirrors"), Threshold: new(5), Terms: &[]revision.Term{{Word: `"odds"`, Points: 5}}}, access.Setup)
	require.NoError(t, err)
	cond := revision.Condition{Any: []revision.Condition{{Apps: []string{"sharebay/upload"}}, {None: []revision.Condition{{Categories: []string{"mirrors"}}}}, {Score: &revision.ScoreBody{Scorecard: revision.Ref{ID: card.ID}}}}}
	made, err := store.Change(ctx, []revision.ObjectChange{app("Sharebay", "sharebay", "upload", "download"), {Kind: revision.KindPolicy, Name: "Floor", Body: &revision.PolicyBody{
		Rules: []revision.RuleBody{{Name: "R", Then: policy.Block, If: &cond}}, Otherwise: policy.Allow,
	}}}, access.Setup)
	require.NoError(t, err)
	change := func(changes ...revision.ObjectChange) error {
		_, err := store.Change(ctx, changes, access.Setup)
		return err
	}
	without := app("Sharebay", "sharebay", "download")
	without.ID = made[0].ID
	assert.ErrorContains(t, change(without), `sharebay/upload cannot go, the policy "Floor" asks for it`)
	gone := revision.ObjectChange{Kind: revision.KindApp, ID: made[0].ID, Name: "Sharebay", Remove: true}
	var used *revision.InUseError
	for _, err := range []error{change(gone), store.RemoveOwnCategory(ctx, own.ID, own.Version, access.Setup), store.RemoveScorecard(ctx, card.ID, card.Version, access.Setup)} {
		require.ErrorAs(t, err, &used)
		assert.Equal(t, []string{`the policy "Floor"`}, used.UsedBy)
	}
	for kind, id := range map[revision.Kind]uuid.UUID{revision.KindApp: made[0].ID, revision.KindCategory: own.ID, revision.KindScorecard: card.ID} {
		uses, err := store.Uses(ctx, kind, id)
		require.NoError(t, err)
		assert.Equal(t, []revision.ObjectUse{{Kind: revision.KindPolicy, ID: made[1].ID, Name: "Floor"}}, uses, kind)
	}
	renamed := app("Sharebay", "sharebay", "upload")
	renamed.ID = made[0].ID
	require.NoError(t, change(renamed), "nothing asks for downloads")
	require.NoError(t, change(gone, app("Bay", "sharebay", "upload")), "another app has come under the key")
	require.NoError(t, change(revision.ObjectChange{Kind: revision.KindPolicy, ID: made[1].ID, Name: "Floor", Remove: true}))
	require.NoError(t, store.RemoveOwnCategory(ctx, own.ID, own.Version, access.Setup))
	require.NoError(t, store.RemoveScorecard(ctx, card.ID, card.Version, access.Setup))
}

// Two concurrent edits that put groups into each other cannot close a ring.
func TestRingsAtOnce(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	made, err := store.Change(ctx, []revision.ObjectChange{group("A"), group("B")}, access.Setup)
	require.NoError(t, err)
	var all sync.WaitGroup
	var refused atomic.Int32
	for i := range made {
		all.Go(func() {
			edit := revision.ObjectChange{Kind: revision.KindGroup, ID: made[i].ID, Name: made[i].Name, Body: &revision.GroupBody{Groups: []revision.Ref{{ID: made[1-i].ID}}}}
			if _, err := store.Change(ctx, []revision.ObjectChange{edit}, access.Setup); err != nil {
				refused.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, refused.Load())
}

// After any changes of objects, every past state is stored once, the present refers to existing objects, and a reader that follows has the same
// state as one that starts anew.
func TestObjectsKeepTheirStates(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	random := rand.New(rand.NewPCG(5, 6))
	list := newList(t, store, "A")
	groups, policies := map[uuid.UUID]int64{}, map[uuid.UUID]int64{}
	pick := func(of map[uuid.UUID]int64) uuid.UUID {
		ids := make([]uuid.UUID, 0, len(of))
		for id := range of {
			ids = append(ids, id)
		}
		slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
		return ids[random.IntN(len(ids))]
	}
	followed := map[uuid.UUID]string{}
	since := int64(0)
	for step := range 80 {
		c := group(fmt.Sprint("Group ", step), fmt.Sprintf("10.40.%d.0/24", random.IntN(200)))
		of := groups
		if len(groups) > 1 && random.IntN(2) == 0 {
			rules := []revision.RuleBody{{Name: "R", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: list.ID}}}}}
			c = revision.ObjectChange{Kind: revision.KindPolicy, Name: fmt.Sprint("Policy ", step), Body: &revision.PolicyBody{Groups: []revision.Ref{{ID: pick(groups)}}, Rules: rules, Otherwise: policy.Allow}}
			of = policies
		}
		if len(of) > 2 && random.IntN(3) > 0 {
			c.ID = pick(of)
			c.Version, c.Remove = of[c.ID], random.IntN(4) == 0
		}
		made, err := store.Change(ctx, []revision.ObjectChange{c}, access.Setup)
		var used *revision.InUseError
		switch {
		case errors.As(err, &used):
			continue
		case err != nil:
			require.NoError(t, err)
		case c.Remove:
			delete(of, c.ID)
		default:
			of[made[0].ID] = made[0].Version
		}
		require.NoError(t, store.ReadDraft(ctx, 0, func(r revision.DraftReader) error {
			draft, err := r.Draft(ctx)
			require.NoError(t, err)
			changed, gone, err := r.Objects(ctx, since)
			require.NoError(t, err)
			for _, id := range gone {
				delete(followed, id)
			}
			for _, o := range changed {
				followed[o.ID] = o.Name + string(o.Body)
			}
			all, _, err := r.Objects(ctx, 0)
			require.NoError(t, err)
			anew := map[uuid.UUID]string{}
			for _, o := range all {
				anew[o.ID] = o.Name + string(o.Body)
			}
			require.Equal(t, anew, followed, "step %d", step)
			since = draft.Version
			return nil
		}))
	}
	count := func(query string) (n int) {
		require.NoError(t, store.Pool().QueryRow(context.Background(), query).Scan(&n))
		return n
	}
	assert.Zero(t, count(`select count(*) from objects where gone <= since`), "no state ends before it begins")
	assert.Zero(t, count(`select count(*) from objects a join objects b on a.id = b.id and a.since < b.since where a.gone is null or a.gone > b.since`), "no two at a time")
	assert.Zero(t, count(`select count(*) from object_refs r where not exists (select from objects o where o.id = r.object and o.gone is null)`), "only what is there refers")
	assert.Zero(t, count(`select count(*) from object_refs r where r.kind = 'group' and not exists (select from objects o where o.id = r.target and o.gone is null)`), "to what is there")
	assert.Greater(t, count(`select count(*) from objects where gone is not null`), 20, "the past is kept")
}

// A rule keeps its id through edits, moves, renames, rollbacks and files; a copy gets another id, in the same policy or another.
func TestRuleIDs(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	rules := func(id uuid.UUID) []revision.RuleBody {
		o, err := store.Object(ctx, revision.KindPolicy, id)
		require.NoError(t, err)
		body, err := revision.Decode[revision.PolicyBody](o)
		require.NoError(t, err)
		return body.Rules
	}
	ids := func(rules []revision.RuleBody) (all []uuid.UUID) {
		for _, r := range rules {
			all = append(all, r.ID)
		}
		return all
	}
	change := func(id uuid.UUID, name string, rules ...revision.RuleBody) uuid.UUID {
		made, err := store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPolicy, ID: id, Name: name, Body: &revision.PolicyBody{Otherwise: policy.Allow, Rules: slices.Clone(rules)}}}, access.Setup)
		require.NoError(t, err)
		return made[0].ID
	}
	ward := change(uuid.Nil, "Ward", revision.RuleBody{Name: "a", Then: policy.Block}, revision.RuleBody{Name: "b", Then: policy.Hold})
	first := rules(ward)
	a, b := first[0].ID, first[1].ID
	assert.NotEqual(t, a, b)
	assert.NotEqual(t, uuid.Nil, a)
	at, err := store.DraftVersion(ctx)
	require.NoError(t, err)

	moved := first[1]
	moved.Name, moved.Then = "bb", policy.Watch
	change(ward, "Ward", moved, first[0])
	assert.Equal(t, []uuid.UUID{b, a}, ids(rules(ward)))
	change(ward, "Ward", revision.RuleBody{Name: "A", Then: policy.Allow}, revision.RuleBody{Name: "c", Then: policy.Block}, revision.RuleBody{Name: "BB", Then: policy.Hold})
	now := rules(ward)
	assert.Equal(t, []uuid.UUID{a, b}, []uuid.UUID{now[0].ID, now[2].ID}, "without ids they go by their names")
	copied := change(uuid.Nil, "Copy", now...)
	for _, id := range ids(rules(copied)) {
		assert.NotContains(t, ids(now), id)
	}
	// A rule that moves into another policy is still the same.
	change(ward, "Ward", now[0], now[2])
	theirs := rules(copied)
	change(copied, "Copy", append(theirs, now[1])...)
	assert.Equal(t, now[1].ID, rules(copied)[3].ID)

	require.NoError(t, store.Restore(ctx, at.Draft, 0, []uuid.UUID{ward}, access.Setup))
	assert.Equal(t, []uuid.UUID{a, b}, ids(rules(ward)))

	o, err := store.Object(ctx, revision.KindPolicy, ward)
	require.NoError(t, err)
	body, err := revision.Encode(&revision.PolicyBody{Otherwise: policy.Allow, Rules: []revision.RuleBody{{Name: "new", Then: policy.Block}, {Name: "renamed", Then: policy.Hold}, {Name: "a", Then: policy.Watch}}})
	require.NoError(t, err)
	o.Body = body
	at, err = store.DraftVersion(ctx)
	require.NoError(t, err)
	require.NoError(t, store.Apply(ctx, revision.Target{Objects: []revision.Object{o}}, at.Draft, access.Setup))
	now = rules(ward)
	assert.Equal(t, []uuid.UUID{b, a}, []uuid.UUID{now[1].ID, now[2].ID})
	assert.NotContains(t, []uuid.UUID{a, b, uuid.Nil}, now[0].ID)
}

package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	"widelark/internal/account"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) {
	postgres.EmptyDatabase = func(t testing.TB) string { return server.EmptyDatabase(t) }
	os.Exit(testkit.RunWithServer(m, &server))
}

func open(t testing.TB) *postgres.Store {
	t.Helper()
	store, err := postgres.Open(context.Background(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

func newList(t testing.TB, store *postgres.Store, name string, lines ...string) revision.List {
	t.Helper()
	list, err := store.AddList(t.Context(), revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	if len(lines) > 0 {
		list, _, err = revision.Import(t.Context(), store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
		require.NoError(t, err)
	}
	return list
}

// written returns the lines of a list in order.
func written(t testing.TB, store *postgres.Store, id uuid.UUID) []string {
	t.Helper()
	var lines []string
	require.NoError(t, store.EachEntry(t.Context(), id, func(_ int64, e pattern.Entry) error {
		lines = append(lines, e.String())
		return nil
	}))
	return lines
}

func TestLists(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	betting := newList(t, store, "Betting")
	_, err := store.AddList(ctx, revision.ListEdit{Name: new("BETTING")}, access.Setup)
	var field *revision.FieldError
	require.ErrorAs(t, err, &field)
	assert.Equal(t, "name: the name is taken", field.Error())

	found, err := store.ListByName(ctx, "betting")
	require.NoError(t, err)
	assert.Equal(t, betting, found)
	renamed, err := store.EditList(ctx, betting.ID, revision.ListEdit{Name: new("Betting and lotteries")}, betting.Version, access.Subscription)
	require.NoError(t, err)
	assert.Equal(t, "Betting and lotteries", renamed.Name)
	assert.Equal(t, "subscription", renamed.UpdatedBy)
	assert.Greater(t, renamed.Version, betting.Version)

	_, err = store.EditList(ctx, betting.ID, revision.ListEdit{Name: new("x")}, betting.Version, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale, "an edit of what somebody else changed")
	require.ErrorIs(t, store.RemoveList(ctx, betting.ID, betting.Version, access.Setup), revision.ErrStale)
	_, err = store.EditList(ctx, uuid.New(), revision.ListEdit{}, 0, access.Setup)
	require.ErrorIs(t, err, revision.ErrNotFound)

	newList(t, store, "arcades")
	newList(t, store, "Zoos")
	var names []string
	for after := ""; ; {
		page, err := store.Lists(ctx, after, 2)
		require.NoError(t, err)
		for _, l := range page {
			names = append(names, l.Name)
			after = l.Name
		}
		if len(page) < 2 {
			break
		}
	}
	assert.Equal(t, []string{"arcades", "Betting and lotteries", "Zoos"}, names)
	require.NoError(t, store.RemoveList(ctx, betting.ID, renamed.Version, access.Setup))
	_, err = store.List(ctx, betting.ID)
	require.ErrorIs(t, err, revision.ErrNotFound)
	_, _, err = store.Entries(ctx, betting.ID, revision.EntryQuery{Limit: 1})
	require.ErrorIs(t, err, revision.ErrNotFound)
}

func TestMergeEntries(t *testing.T) {
	t.Parallel()
	store := open(t)
	list := newList(t, store, "Betting")
	merge := func(lines ...string) revision.Report {
		after, report, err := revision.Import(t.Context(), store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
		require.NoError(t, err)
		entries := written(t, store, list.ID)
		assert.EqualValues(t, len(entries), after.EntryCount+after.NoteCount, "the counts are kept right")
		return report
	}
	r := merge("# Betting", "a.example # first", "b.example", "A.example", "! a.example", "müßig.example", "# Betting", "a..example")
	assert.Equal(t, revision.Merged{Added: 4, Same: 1, Notes: 2}, r.Merged)
	assert.Equal(t, [6]int{8, 0, 2, 5, 0, 1}, [6]int{r.Lines, r.Blank, r.Notes, r.Good, r.Changed, r.Refused})
	assert.Equal(t, []string{"# Betting", "a.example # first", "b.example", "! a.example", "müßig.example", "# Betting"}, written(t, store, list.ID))

	r = merge("# Betting", "b.example [until 2026-12-24]", "a.example", "a.example # again", "c.example [off]", weburl.MustParse("müßig.example").Host())
	assert.Equal(t, revision.Merged{Added: 1, Updated: 2, Same: 2}, r.Merged)
	assert.Equal(t, []string{"# Betting", "a.example # again", "b.example [until 2026-12-24]", "! a.example", "müßig.example", "# Betting", "c.example [off]"}, written(t, store, list.ID))

	after, removed, err := store.RemoveEntries(t.Context(), list.ID, revision.Selection{Keys: []string{"a.example", "missing.example"}}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 1, removed)
	entries, total, err := store.Entries(t.Context(), list.ID, revision.EntryQuery{Limit: 100, Kind: pattern.Note})
	require.NoError(t, err)
	assert.EqualValues(t, 2, total)
	after, _, err = store.RemoveEntries(t.Context(), list.ID, revision.Selection{IDs: []int64{entries[0].ID}}, revision.ChangeRemoved, after.Version, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 1, after.NoteCount)
	_, _, err = store.RemoveEntries(t.Context(), list.ID, revision.Selection{}, revision.ChangeRemoved, after.Version-1, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	_, _, err = revision.Import(t.Context(), store, uuid.New(), strings.NewReader("a.example"), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.ErrorIs(t, err, revision.ErrNotFound)
}

func TestReplaceAndPreview(t *testing.T) {
	t.Parallel()
	store := open(t)
	list := newList(t, store, "Suspects", "# by hand", "a.example # mine", "b.example", "! c.example", "d.example")
	file := "# of November\nb.example # new note\na.example\ne.example\nd..example\n"
	load := func(text string, how revision.Merging) (revision.Report, error) {
		_, report, err := revision.Import(t.Context(), store, list.ID, strings.NewReader(text), pattern.Exact, how, 0, access.Subscription)
		return report, err
	}
	before := written(t, store, list.ID)
	version, err := store.DraftVersion(t.Context())
	require.NoError(t, err)
	for _, how := range []revision.Merging{{}, {Replace: true}} {
		preview, err := load(file, revision.Merging{Replace: how.Replace, Preview: true})
		require.NoError(t, err)
		assert.Equal(t, before, written(t, store, list.ID), "a preview keeps nothing")
		now, err := store.DraftVersion(t.Context())
		require.NoError(t, err)
		assert.Equal(t, version, now)
		want := revision.Merged{Added: 1, Updated: 1, Same: 1, Notes: 1}
		if how.Replace {
			want.Removed = 2
		}
		assert.Equal(t, want, preview.Merged)
	}
	done, err := load(file, revision.Merging{Replace: true})
	require.NoError(t, err)
	assert.Equal(t, revision.Merged{Added: 1, Updated: 1, Same: 1, Notes: 1, Removed: 2}, done.Merged, "as the preview said")
	assert.Equal(t, []string{"# by hand", "a.example # mine", "b.example # new note", "# of November", "e.example"}, written(t, store, list.ID))
	after, err := store.List(t.Context(), list.ID)
	require.NoError(t, err)
	assert.Equal(t, [2]int64{3, 2}, [2]int64{after.EntryCount, after.NoteCount})

	_, err = load("# nothing but a note\n", revision.Merging{Replace: true})
	require.ErrorContains(t, err, "would empty the list")
	again, err := load(file, revision.Merging{Replace: true})
	require.NoError(t, err)
	assert.Equal(t, revision.Merged{Same: 3}, again.Merged)
}

func TestEntriesPagesAndFilters(t *testing.T) {
	t.Parallel()
	store := open(t)
	lines := []string{"# 100% sure", "a_b.example # Wren", "axb.example", "*.wren.example", "~ WREN[0-9]"}
	for i := range 20 {
		lines = append(lines, fmt.Sprintf("n%d.example", i))
	}
	list := newList(t, store, "Mixed", lines...)
	var all []string
	for after := int64(0); ; {
		page, total, err := store.Entries(t.Context(), list.ID, revision.EntryQuery{After: after, Limit: 7})
		require.NoError(t, err)
		assert.EqualValues(t, 25, total)
		if len(page) == 0 {
			break
		}
		for _, e := range page {
			all = append(all, e.String())
			after = e.ID
		}
	}
	assert.Equal(t, lines, all)
	for text, want := range map[string]int64{"wren": 3, "a_b": 1, "100%": 1, `\`: 0, "": 25} {
		_, total, err := store.Entries(t.Context(), list.ID, revision.EntryQuery{Limit: 1, Text: text})
		require.NoError(t, err)
		assert.Equal(t, want, total, text)
	}
}

func TestObjects(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	a := newList(t, store, "A")
	change := func(changes ...revision.ObjectChange) []revision.Object {
		made, err := store.Change(ctx, changes, access.Setup)
		require.NoError(t, err)
		return made
	}
	refused := func(want string, changes ...revision.ObjectChange) {
		_, err := store.Change(ctx, changes, access.Setup)
		require.EqualError(t, err, want)
	}
	kept, err := store.Objects(ctx, revision.KindPolicy)
	require.NoError(t, err)
	require.Len(t, kept, 2, "a new service has a baseline and a fallback")
	group := func(name string, of ...uuid.UUID) revision.ObjectChange {
		body := &revision.GroupBody{Groups: []revision.Ref{}}
		for _, id := range of {
			body.Groups = append(body.Groups, revision.Ref{ID: id})
		}
		return revision.ObjectChange{Kind: revision.KindGroup, Name: name, Body: body}
	}
	nurses := change(group("Ward nurses"))[0]
	policyOf := func(list uuid.UUID) *revision.PolicyBody {
		return &revision.PolicyBody{Groups: []revision.Ref{{ID: nurses.ID}}, Otherwise: policy.Allow, Rules: []revision.RuleBody{
			{Name: "Never", Then: policy.Block, If: &revision.Condition{Any: []revision.Condition{{Lists: []revision.Ref{{ID: list}}}, {Categories: []string{"games"}}}}},
		}}
	}
	floor := change(revision.ObjectChange{Kind: revision.KindPolicy, Name: "Ward floor", Body: policyOf(a.ID)})[0]
	body, err := revision.Decode[revision.PolicyBody](floor)
	require.NoError(t, err)
	made := policyOf(a.ID)
	made.Rules[0].ID = body.Rules[0].ID // given by the store
	assert.Equal(t, *made, body)

	refused("name: the name is taken", group("ward NURSES"))
	refused("rules[0].if.any[0].lists[0]: there is no such list", revision.ObjectChange{Kind: revision.KindPolicy, Name: "Other", Body: policyOf(uuid.New())})
	refused("groups[0]: there is no such group", group("Clinical", a.ID))
	refused(revision.ErrNotFound.Error(), revision.ObjectChange{Kind: revision.KindGroup, ID: floor.ID, Name: "x", Body: group("x").Body})
	refused(revision.ErrStale.Error(), revision.ObjectChange{Kind: revision.KindGroup, ID: nurses.ID, Version: 1, Name: "x", Body: group("x").Body})
	refused(`it is used by the policy "Ward floor"`, revision.ObjectChange{Kind: revision.KindGroup, ID: nurses.ID, Remove: true})
	refused(`groups[0]: the group "Second": there is no such group`, group("First"), group("Second", uuid.New()))
	groups, err := store.Objects(ctx, revision.KindGroup)
	require.NoError(t, err)
	assert.Len(t, groups, 1, "all or none")

	// A ring of any length is refused, with its names.
	clinical := change(group("Clinical", nurses.ID))[0]
	ring := group("Ward nurses", clinical.ID)
	ring.ID = nurses.ID
	refused(`groups: groups may not hold each other in a ring: "Clinical" holds "Ward nurses" holds "Clinical"`, ring)

	used, err := store.List(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"Ward floor"}, used.UsedBy)
	var inUse *revision.InUseError
	require.ErrorAs(t, store.RemoveList(ctx, a.ID, 0, access.Setup), &inUse)
	assert.Equal(t, []string{`the policy "Ward floor"`}, inUse.UsedBy)
	names, err := store.Names(ctx, []uuid.UUID{a.ID, nurses.ID, uuid.New()})
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]string{a.ID: "A", nurses.ID: "Ward nurses"}, names)

	person := func(name string) revision.ObjectChange {
		return revision.ObjectChange{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{Groups: []revision.Ref{{ID: nurses.ID}}}}
	}
	people := change(person("kay"), person("ola"))
	members, err := store.Members(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]int{nurses.ID: 2, clinical.ID: 2}, members, "also through a group that holds theirs")

	// The draft's reader tells what came, changed and went since a version.
	since := people[1].Version
	change(revision.ObjectChange{Kind: revision.KindPerson, ID: people[0].ID, Remove: true})
	edited := person("ola.fenn")
	edited.ID = people[1].ID
	change(edited)
	require.NoError(t, store.ReadDraft(ctx, 0, func(r revision.DraftReader) error {
		changed, gone, err := r.Objects(ctx, since)
		require.NoError(t, err)
		require.Len(t, changed, 1)
		assert.Equal(t, "ola.fenn", changed[0].Name)
		assert.Equal(t, []uuid.UUID{people[0].ID}, gone)
		all, _, err := r.Objects(ctx, 0)
		assert.Len(t, all, 7, "baseline, fallback, settings, policy, two groups, one person")
		return err
	}))
	require.NoError(t, func() error {
		_, err := store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPolicy, ID: floor.ID, Remove: true}}, access.Setup)
		return err
	}())
	require.NoError(t, store.RemoveList(ctx, a.ID, 0, access.Setup), "what used it is gone")
}

// heard holds the calls of a sink.
type heard []string

func (h *heard) Named(_ int64, name string, scope pattern.Scope, carveOut bool) {
	*h = append(*h, "named "+pattern.Entry{Pattern: pattern.Named(name, scope), CarveOut: carveOut}.String())
}
func (h *heard) Entry(_ int64, e pattern.Entry) { *h = append(*h, e.String()) }

func TestReadDraft(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "A", "# note", "a.example", "! =b.example", "*.c.example", "d.example [off]", "möwe.example", "*.*", "*.e.*", "a.example/x")
	newList(t, store, "B", "z.example")
	since := list.Version
	_, removed, err := store.RemoveEntries(ctx, list.ID, revision.Selection{Keys: []string{"a.example", "! =b.example"}}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 2, removed)
	_, _, err = store.EditEntries(ctx, list.ID, revision.Selection{Keys: []string{"*.c.example"}}, revision.EntryEdit{Note: new("why")}, 0, access.Setup)
	require.NoError(t, err)
	require.NoError(t, store.ReadDraft(ctx, 0, func(r revision.DraftReader) error {
		draft, err := r.Draft(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"A", "B"}, []string{draft.Lists[0].Name, draft.Lists[1].Name})
		assert.EqualValues(t, 6, draft.Lists[0].EntryCount)
		var all, since1 heard
		require.NoError(t, r.Entries(ctx, list.ID, 0, &all))
		assert.ElementsMatch(t, heard{"*.c.example # why", "d.example [off]", "möwe.example", "*.*", "*.e.*", "a.example/x"}, all)
		require.NoError(t, r.Entries(ctx, list.ID, since, &since1))
		assert.Equal(t, heard{"*.c.example # why"}, since1)
		gone, err := r.Gone(ctx, list.ID, since)
		require.NoError(t, err)
		assert.Len(t, gone, 3, "two removed, one edited")
		return nil
	}))
}

func TestBulkEdits(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	from := newList(t, store, "From", "# note", "a.example", "b.example # old", "c.test", "d.test [off]")
	to := newList(t, store, "To", "a.example # mine", "z.example")
	entries, _, err := store.Entries(ctx, from.ID, revision.EntryQuery{Limit: 10})
	require.NoError(t, err)

	after, n, err := store.EditEntries(ctx, from.ID, revision.Selection{All: true, Text: ".test"}, revision.EntryEdit{Until: &pattern.Date{Year: 2026, Month: 12, Day: 24}, Off: new(true)}, from.Version, access.Subscription)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	assert.Equal(t, []string{"# note", "a.example", "b.example # old", "c.test [until 2026-12-24, off]", "d.test [until 2026-12-24, off]"}, written(t, store, from.ID))
	again, _, err := store.Entries(ctx, from.ID, revision.EntryQuery{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, entries[3].ID, again[3].ID, "an entry keeps its id")
	assert.Equal(t, "subscription", again[3].AddedBy)
	_, _, err = store.EditEntries(ctx, from.ID, revision.Selection{All: true}, revision.EntryEdit{Off: new(false)}, from.Version, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	_, n, err = store.EditEntries(ctx, from.ID, revision.Selection{All: true}, revision.EntryEdit{Until: &pattern.Date{}, Note: new("")}, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 3, n, "what is so already is not edited")

	_, merged, err := store.CopyEntries(ctx, from.ID, to.ID, revision.Selection{IDs: []int64{entries[1].ID, entries[2].ID}}, true, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, revision.Merged{Added: 1, Same: 1, Removed: 2}, merged)
	assert.Equal(t, []string{"a.example # mine", "z.example", "b.example"}, written(t, store, to.ID))
	assert.Equal(t, []string{"# note", "c.test [off]", "d.test [off]"}, written(t, store, from.ID))
	_, merged, err = store.CopyEntries(ctx, to.ID, from.ID, revision.Selection{All: true, Kind: pattern.Site, Text: "z."}, false, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, revision.Merged{Added: 1}, merged)
	_, _, err = store.CopyEntries(ctx, to.ID, uuid.New(), revision.Selection{All: true}, false, 0, access.Setup)
	require.ErrorIs(t, err, revision.ErrNotFound)
	_, n, err = store.RemoveEntries(ctx, from.ID, revision.Selection{}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.Zero(t, n, "an empty selection is nothing, not everything")

	history, err := store.History(ctx, from.ID, 0, 10)
	require.NoError(t, err)
	var told []string
	for _, c := range history {
		told = append(told, fmt.Sprint(c.By, " ", c.What, " ", c.Detail, " ", c.Added, c.Edited, c.Removed))
	}
	assert.Equal(t, []string{
		"setup removed  0 0 0", "setup added copied from To 1 0 0", "setup moved to To 0 0 2", "setup edited  0 3 0", "subscription edited  0 2 0", "setup added  5 0 0", "setup made  0 0 0",
	}, told)
	assert.Equal(t, after.Version, history[4].Version)
}

func TestRewrite(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "Betting", "# note", "a.example", "b.example # why", "c.example")
	ids := func() (all []int64) {
		entries, _, err := store.Entries(ctx, list.ID, revision.EntryQuery{Limit: 100})
		require.NoError(t, err)
		for _, e := range entries {
			all = append(all, e.ID)
		}
		return all
	}
	first := ids()
	for _, step := range []struct {
		lines []string
		want  revision.Merged
		stay  int // how many ids at the front stay
	}{
		{[]string{"# note", "a.example", "b.example # because", "c.example", "d.example"}, revision.Merged{Added: 1, Updated: 1, Same: 2}, 4},
		{[]string{"# note", "a.example", "new.example", "b.example # because", "d.example"}, revision.Merged{Added: 1, Same: 3, Removed: 1}, 2},
		{[]string{"d.example", "# note", "# another", "a.example"}, revision.Merged{Notes: 1, Same: 2, Removed: 2}, 0},
		{[]string{"d.example", "a.example"}, revision.Merged{Same: 2, Removed: 2}, 1},
		{nil, revision.Merged{Removed: 2}, 0},
		{[]string{"x.example"}, revision.Merged{Added: 1}, 0},
	} {
		var entries []pattern.Entry
		for _, line := range step.lines {
			entries = append(entries, pattern.MustParse(line))
		}
		after, merged, err := store.Rewrite(ctx, list.ID, entries, 0, access.Setup)
		require.NoError(t, err)
		assert.Equal(t, step.want, merged, step.lines)
		assert.Equal(t, step.lines, written(t, store, list.ID), step.lines)
		assert.EqualValues(t, len(step.lines), after.EntryCount+after.NoteCount)
		now := ids()
		assert.True(t, slices.Equal(first[:step.stay], now[:step.stay]), step.lines)
		first = now
	}
	_, _, err := store.Rewrite(ctx, list.ID, nil, list.Version, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	_, err = store.TakeBack(ctx, list.ID, list.Version, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []string{"# note", "a.example", "b.example # why", "c.example"}, written(t, store, list.ID))
}

func seen(host, path string, requests int64, day time.Time) revision.SeenPage {
	return revision.SeenPage{Host: host, Path: path, Requests: requests, LastOn: day}
}

func TestSeen(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	before, err := store.SeenVersion(ctx)
	require.NoError(t, err)
	for range 2 {
		require.NoError(t, store.AddSeen(ctx, []revision.SeenPage{
			seen("heron.example", "/", 3, day), seen("heron.example", "/x", 1, day.AddDate(0, 0, 1)), seen("a_b.test", "/", 1, day), seen("heron.example", "/", 1, day),
		}, access.Setup))
	}
	hosts, err := store.SeenHosts(ctx, "her", 5)
	require.NoError(t, err)
	assert.Equal(t, []revision.SeenPage{seen("heron.example", "/", 10, day.AddDate(0, 0, 1))}, hosts)
	n := 0
	require.NoError(t, store.EachSeen(ctx, func(revision.SeenPage) error { n++; return nil }))
	assert.Equal(t, 3, n)
	after, err := store.SeenVersion(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, before, after)
}

func TestCompareAndTakeBack(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	first := newList(t, store, "Betting", "# note", "a.example", "b.example", "c.example")
	_, _, err := store.RemoveEntries(ctx, first.ID, revision.Selection{Keys: []string{"a.example"}}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	second, _, err := store.EditEntries(ctx, first.ID, revision.Selection{Keys: []string{"b.example"}}, revision.EntryEdit{Note: new("why")}, 0, access.Setup)
	require.NoError(t, err)
	third, _, err := store.MergeEntries(ctx, first.ID, revision.NewBatch(pattern.MustParse("d.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	told := func(from, to int64) (lines []string) {
		found, total, err := store.Compare(ctx, first.ID, from, to, 0, 100)
		require.NoError(t, err)
		assert.Len(t, found, int(total))
		for _, d := range found {
			before, after := "-", "-"
			if d.Before != nil {
				before = d.Before.String()
			}
			if d.After != nil {
				after = d.After.String()
			}
			lines = append(lines, before+" -> "+after)
		}
		return lines
	}
	assert.Equal(t, []string{"a.example -> -", "b.example -> b.example # why", "- -> d.example"}, told(first.Version, third.Version))
	assert.Equal(t, []string{"d.example -> -"}, told(third.Version, second.Version), "the other way round")
	assert.Empty(t, told(second.Version, second.Version))

	back, err := store.TakeBack(ctx, first.ID, first.Version, third.Version, access.Subscription)
	require.NoError(t, err)
	assert.Equal(t, []string{"# note", "a.example", "b.example", "c.example"}, written(t, store, first.ID), "in their old places")
	assert.Equal(t, [2]int64{3, 1}, [2]int64{back.EntryCount, back.NoteCount})
	assert.Empty(t, told(first.Version, back.Version))
	_, err = store.TakeBack(ctx, first.ID, third.Version, back.Version, access.Subscription)
	require.NoError(t, err)
	assert.Equal(t, []string{"# note", "b.example # why", "c.example", "d.example"}, written(t, store, first.ID), "and forth again")
	_, err = store.TakeBack(ctx, first.ID, 1, 0, access.Subscription)
	require.ErrorContains(t, err, "no such version")
	_, err = store.TakeBack(ctx, first.ID, first.Version, third.Version, access.Subscription)
	require.ErrorIs(t, err, revision.ErrStale)
}

func TestAccounts(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	authenticator := account.NewAuthenticator(store, account.Cost{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}, nil)
	edda, err := authenticator.Add(ctx, account.Account{Name: "edda", FullName: "Edda Marsh"}, "correct-horse", access.Setup)
	require.NoError(t, err)
	for _, wrong := range [][2]string{{"", "correct-horse"}, {"two words", "correct-horse"}, {"rowan", "short"}} {
		_, err := authenticator.Add(ctx, account.Account{Name: wrong[0]}, wrong[1], access.Setup)
		require.Error(t, err, wrong)
	}
	_, err = authenticator.Add(ctx, account.Account{Name: "EDDA"}, "correct-horse", access.Setup)
	require.ErrorIs(t, err, account.ErrTaken)

	who, err := authenticator.SignIn(ctx, " Edda ", "correct-horse", "", "")
	require.NoError(t, err)
	assert.Equal(t, edda, who)
	for _, wrong := range [][2]string{{"edda", "Correct-horse"}, {"nobody", "correct-horse"}, {"edda", ""}} {
		_, err := authenticator.SignIn(ctx, wrong[0], wrong[1], "", "")
		require.ErrorIs(t, err, account.ErrRefused, wrong)
	}

	token, secret, err := authenticator.AddToken(ctx, account.Token{Name: "nightly"}, edda.Actor())
	require.NoError(t, err)
	who, err = authenticator.ByToken(ctx, secret)
	require.NoError(t, err)
	assert.Equal(t, token.ID, who.Token)
	who.Token = uuid.Nil
	assert.Equal(t, edda, who)
	kept, err := store.Tokens(ctx, edda.ID)
	require.NoError(t, err)
	assert.NotNil(t, kept[0].LastUsedAt)
	require.ErrorIs(t, store.RemoveToken(ctx, token.ID, person(t, store, "rowan")), account.ErrUnknown, "somebody else's token")
	require.NoError(t, store.RemoveToken(ctx, token.ID, edda.Actor()))
	for _, secret := range []string{secret, "wlark_x", "", "Basic x"} {
		_, err = authenticator.ByToken(ctx, secret)
		require.ErrorIs(t, err, account.ErrUnknown)
	}
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	_, err := postgres.Open(t.Context(), "postgres://127.0.0.1:1/none")
	require.ErrorContains(t, err, "the database at 127.0.0.1:1 does not answer")
	_, err = postgres.Open(t.Context(), "no url at all")
	require.ErrorContains(t, err, "the database URL cannot be read")
}

// A large file that is imported into an empty list gets a partition of its own, in which everything works as elsewhere.
func TestLargeListsHaveAPartOfTheirOwn(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	lines := make([]string, 60_000)
	for i := range lines {
		lines[i] = fmt.Sprintf("site-%d.example", i)
	}
	parts := func() (n int) {
		require.NoError(t, store.Pool().QueryRow(ctx, "select count(*) from pg_inherits where inhparent = 'entries'::regclass").Scan(&n))
		return n
	}
	assert.Equal(t, 1, parts())
	list := newList(t, store, "Large", append([]string{"# note"}, lines...)...)
	newList(t, store, "Small", "a.example")
	assert.Equal(t, 2, parts())
	assert.EqualValues(t, 60_000, list.EntryCount)

	_, again, err := revision.Import(ctx, store, list.ID, strings.NewReader(strings.Join(lines[:59_000], "\n")+"\nnew.example # why\n"), pattern.Exact, revision.Merging{Replace: true}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, revision.Merged{Added: 1, Same: 59_000, Removed: 1000}, again.Merged)
	_, removed, err := store.RemoveEntries(ctx, list.ID, revision.Selection{All: true, Text: "site-1"}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 11_111, removed)
	found, err := store.FindEntries(ctx, "site-58999", 0, 10)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	back, err := store.TakeBack(ctx, list.ID, list.Version, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 60_000, back.EntryCount)
	assert.Equal(t, append([]string{"# note"}, lines...), written(t, store, list.ID))

	// Emptied and filled again, its past stays where it is.
	_, _, err = store.RemoveEntries(ctx, list.ID, revision.Selection{All: true}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	_, refilled, err := revision.Import(ctx, store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 60_000, refilled.Added)
	require.NoError(t, store.RemoveList(ctx, list.ID, 0, access.Setup))
	assert.Equal(t, 2, parts(), "revisions have it")
}

// Importing a million lines into a new list, compared with COPY of the same rows into a bare table.
func BenchmarkImport(b *testing.B) {
	var text, rows strings.Builder
	const n = 1_000_000
	for i := range n {
		site := fmt.Sprintf("site-%d.example", i*7919%n)
		fmt.Fprintln(&text, site)
		fmt.Fprintf(&rows, "%s\t%d\t%d\tsite\tf\tf\t\\N\t%s\t\\N\t\n", uuid.Nil, i, 1, site)
	}
	store := open(b)
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			list := newList(b, store, uuid.NewString())
			_, _, err := revision.Import(b.Context(), store, list.ID, strings.NewReader(text.String()), pattern.Mending, revision.Merging{}, 0, access.Setup)
			require.NoError(b, err)
		}
	}, func(b *testing.B) {
		_, err := store.Pool().Exec(b.Context(), `create table if not exists bare (list_id uuid, id bigint, since bigint, kind text,
			carve_out boolean, off boolean, until date, pattern text, key text, note text)`)
		require.NoError(b, err)
		for b.Loop() {
			conn, err := store.Pool().Acquire(b.Context())
			require.NoError(b, err)
			_, err = conn.Conn().PgConn().CopyFrom(b.Context(), strings.NewReader(rows.String()), "copy bare from stdin")
			require.NoError(b, err)
			conn.Release()
		}
	})
}

// Two owners who revoke each other's role at once leave one owner.
func TestOneOwnerIsLeft(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	owner := []access.Held{{Role: access.Owner}}
	ids := map[string]uuid.UUID{}
	for i, name := range []string{"edda", "ivo", "rae"} {
		a := account.Account{Name: name, FullName: name}
		if i == 1 {
			a.Roles = owner
		}
		made, err := store.AddAccount(ctx, a, "hash", access.Setup)
		require.NoError(t, err)
		assert.Equal(t, i < 2, made.IsOwner(), "the first is one in any case")
		ids[name] = made.ID
	}
	_, err := store.PutRoles(ctx, uuid.New(), owner, access.Setup)
	require.ErrorIs(t, err, account.ErrUnknown)
	for range 20 {
		for _, name := range []string{"edda", "ivo"} {
			_, err := store.PutRoles(ctx, ids[name], owner, access.Setup)
			require.NoError(t, err)
		}
		var refused atomic.Int32
		var both sync.WaitGroup
		for _, name := range []string{"edda", "ivo"} {
			both.Go(func() {
				if _, err := store.PutRoles(ctx, ids[name], nil, access.Setup); errors.Is(err, account.ErrLastOwner) {
					refused.Add(1)
				}
			})
		}
		both.Wait()
		require.EqualValues(t, 1, refused.Load())
		all, err := store.Accounts(ctx)
		require.NoError(t, err)
		owners := 0
		for _, a := range all {
			if a.IsOwner() {
				owners++
			}
		}
		require.Equal(t, 1, owners)
	}
}

// Expired sessions are removed, the others are not.
func TestRemoveExpired(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	_, err := store.Pool().Exec(ctx, `insert into sessions (token, data, expiry) values ('over', '', now() - interval '1 second'), ('held', '', now() + interval '1 hour')`)
	require.NoError(t, err)
	require.NoError(t, store.RemoveExpired(ctx, access.Timetable))
	var left string
	require.NoError(t, store.Pool().QueryRow(ctx, `select string_agg(token, ' ') from sessions`).Scan(&left))
	assert.Equal(t, "held", left)
}

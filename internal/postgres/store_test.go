package postgres_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/account"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

func open(t testing.TB) *postgres.Store {
	t.Helper()
	store, err := postgres.Open(context.Background(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

func newList(t testing.TB, store *postgres.Store, name string, lines ...string) revision.List {
	t.Helper()
	list, err := store.AddList(t.Context(), name, "", "edda")
	require.NoError(t, err)
	if len(lines) > 0 {
		list, _, err = revision.Import(t.Context(), store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, "edda")
		require.NoError(t, err)
	}
	return list
}

// written returns the lines of a list in order.
func written(t testing.TB, store *postgres.Store, id uuid.UUID) []string {
	t.Helper()
	var lines []string
	require.NoError(t, store.EachEntry(t.Context(), id, func(e pattern.Entry) error {
		lines = append(lines, e.String())
		return nil
	}))
	return lines
}

func ptr[T any](v T) *T { return &v }

func TestLists(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	betting := newList(t, store, "Betting")
	_, err := store.AddList(ctx, "BETTING", "", "edda")
	var field *revision.FieldError
	require.ErrorAs(t, err, &field)
	assert.Equal(t, "name: the name is taken", field.Error())

	found, err := store.ListByName(ctx, "betting")
	require.NoError(t, err)
	assert.Equal(t, betting, found)
	renamed, err := store.EditList(ctx, betting.ID, revision.ListEdit{Name: ptr("Betting and lotteries")}, betting.Version, "rowan")
	require.NoError(t, err)
	assert.Equal(t, "Betting and lotteries", renamed.Name)
	assert.Equal(t, "rowan", renamed.UpdatedBy)
	assert.Greater(t, renamed.Version, betting.Version)

	_, err = store.EditList(ctx, betting.ID, revision.ListEdit{Name: ptr("x")}, betting.Version, "edda")
	require.ErrorIs(t, err, revision.ErrStale, "an edit of what somebody else changed")
	require.ErrorIs(t, store.RemoveList(ctx, betting.ID, betting.Version), revision.ErrStale)
	_, err = store.EditList(ctx, uuid.New(), revision.ListEdit{}, 0, "edda")
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
	require.NoError(t, store.RemoveList(ctx, betting.ID, renamed.Version))
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
		after, report, err := revision.Import(t.Context(), store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, "edda")
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

	after, removed, err := store.RemoveEntries(t.Context(), list.ID, revision.Removal{Keys: []string{"a.example", "missing.example"}}, 0, "edda")
	require.NoError(t, err)
	assert.EqualValues(t, 1, removed)
	entries, total, err := store.Entries(t.Context(), list.ID, revision.EntryQuery{Limit: 100, Kind: pattern.Note})
	require.NoError(t, err)
	assert.EqualValues(t, 2, total)
	after, _, err = store.RemoveEntries(t.Context(), list.ID, revision.Removal{IDs: []int64{entries[0].ID}}, after.Version, "edda")
	require.NoError(t, err)
	assert.EqualValues(t, 1, after.NoteCount)
	_, _, err = store.RemoveEntries(t.Context(), list.ID, revision.Removal{}, after.Version-1, "edda")
	require.ErrorIs(t, err, revision.ErrStale)
	_, _, err = revision.Import(t.Context(), store, uuid.New(), strings.NewReader("a.example"), pattern.Exact, revision.Merging{}, 0, "edda")
	require.ErrorIs(t, err, revision.ErrNotFound)
}

func TestReplaceAndPreview(t *testing.T) {
	t.Parallel()
	store := open(t)
	list := newList(t, store, "Suspects", "# by hand", "a.example # mine", "b.example", "! c.example", "d.example")
	file := "# of November\nb.example # new note\na.example\ne.example\nd..example\n"
	load := func(text string, how revision.Merging) (revision.Report, error) {
		_, report, err := revision.Import(t.Context(), store, list.ID, strings.NewReader(text), pattern.Exact, how, 0, "rowan")
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
			after = e.Position
		}
	}
	assert.Equal(t, lines, all)
	for text, want := range map[string]int64{"wren": 3, "a_b": 1, "100%": 1, `\`: 0, "": 25} {
		_, total, err := store.Entries(t.Context(), list.ID, revision.EntryQuery{Limit: 1, Text: text})
		require.NoError(t, err)
		assert.Equal(t, want, total, text)
	}
}

func TestPolicies(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	a, b := newList(t, store, "A"), newList(t, store, "B")
	found, err := store.Policies(ctx)
	require.NoError(t, err)
	require.Len(t, found, 1, "a new service has one")
	p := found[0]
	assert.Equal(t, []any{"House policy", "Everyone", policy.Allow, 0}, []any{p.Name, p.Group.Name, p.Otherwise, len(p.Rules)})

	edited, err := store.EditPolicy(ctx, p.ID, revision.PolicyEdit{Name: ptr("Ward floor"), Rules: &[]revision.RuleEdit{
		{Name: "Never", Lists: []uuid.UUID{b.ID, a.ID}, Verdict: policy.Block}, {Name: "Care", Lists: []uuid.UUID{a.ID}, Verdict: policy.Allow},
	}}, p.Version, "edda")
	require.NoError(t, err)
	assert.Equal(t, []revision.Rule{
		{Name: "Never", Lists: []revision.ListRef{{ID: b.ID, Name: "B"}, {ID: a.ID, Name: "A"}}, Verdict: policy.Block},
		{Name: "Care", Lists: []revision.ListRef{{ID: a.ID, Name: "A"}}, Verdict: policy.Allow},
	}, edited.Rules)
	_, err = store.EditPolicy(ctx, p.ID, revision.PolicyEdit{}, p.Version, "edda")
	require.ErrorIs(t, err, revision.ErrStale)
	_, err = store.EditPolicy(ctx, p.ID, revision.PolicyEdit{Rules: &[]revision.RuleEdit{{Name: "x", Lists: []uuid.UUID{a.ID, uuid.New()}, Verdict: policy.Block}}}, 0, "edda")
	require.EqualError(t, err, "rules[0].lists[1]: there is no such list")
	again, err := store.Policies(ctx)
	require.NoError(t, err)
	assert.Equal(t, edited, again[0], "a refused edit leaves everything as it was")

	used, err := store.List(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"Ward floor"}, used.UsedBy)
	var inUse *revision.InUseError
	require.ErrorAs(t, store.RemoveList(ctx, a.ID, 0), &inUse)
	assert.Len(t, inUse.UsedBy, 2)

	group, err := store.EditGroup(ctx, p.Group.ID, revision.GroupEdit{Name: ptr("Ward nurses")}, p.Group.Version, "edda")
	require.NoError(t, err)
	assert.Equal(t, "Ward nurses", group.Name)
}

func TestDraft(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	a, b := newList(t, store, "A", "# note", "a.example", "b.example [off]"), newList(t, store, "B", "c.example")
	draft, err := store.Draft(ctx, nil)
	require.NoError(t, err)
	version, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, version, draft.Version)
	require.Len(t, draft.Lists, 2)
	assert.Len(t, draft.Lists[0].Entries, 2, "notes are of no use to a trial")
	assert.Len(t, draft.Lists[0].IDs, 2)

	known := map[uuid.UUID]int64{a.ID: draft.Lists[0].Version, b.ID: draft.Lists[1].Version}
	_, err = store.EditList(ctx, b.ID, revision.ListEdit{Description: ptr("x")}, 0, "edda")
	require.NoError(t, err)
	draft, err = store.Draft(ctx, known)
	require.NoError(t, err)
	assert.Greater(t, draft.Version, version)
	assert.Nil(t, draft.Lists[0].Entries, "what the caller has is left out")
	assert.NotNil(t, draft.Lists[1].Entries)
}

func TestAccounts(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	door, err := account.NewDoor(store, account.Cost{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32})
	require.NoError(t, err)
	edda, err := door.Add(ctx, "edda", "Edda Marsh", "correct-horse")
	require.NoError(t, err)
	for _, wrong := range [][2]string{{"", "correct-horse"}, {"two words", "correct-horse"}, {"rowan", "short"}} {
		_, err := door.Add(ctx, wrong[0], "", wrong[1])
		require.Error(t, err, wrong)
	}
	_, err = door.Add(ctx, "EDDA", "", "correct-horse")
	require.ErrorIs(t, err, account.ErrTaken)

	who, err := door.SignIn(ctx, " Edda ", "correct-horse")
	require.NoError(t, err)
	assert.Equal(t, edda, who)
	for _, wrong := range [][2]string{{"edda", "Correct-horse"}, {"nobody", "correct-horse"}, {"edda", ""}} {
		_, err := door.SignIn(ctx, wrong[0], wrong[1])
		require.ErrorIs(t, err, account.ErrRefused, wrong)
	}

	token, secret, err := door.AddToken(ctx, edda.ID, "nightly")
	require.NoError(t, err)
	who, err = door.ByToken(ctx, secret)
	require.NoError(t, err)
	assert.Equal(t, edda, who)
	kept, err := store.Tokens(ctx, edda.ID)
	require.NoError(t, err)
	assert.NotNil(t, kept[0].LastUsedAt)
	require.ErrorIs(t, store.RemoveToken(ctx, uuid.New(), token.ID), account.ErrUnknown, "somebody else's token")
	require.NoError(t, store.RemoveToken(ctx, edda.ID, token.ID))
	for _, secret := range []string{secret, "wlark_x", "", "Basic x"} {
		_, err = door.ByToken(ctx, secret)
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

// Importing a hundred thousand lines, beside COPY of the same rows into a bare table.
func BenchmarkImport(b *testing.B) {
	var text strings.Builder
	rows := make([][]any, 100_000)
	for i := range rows {
		site := fmt.Sprintf("site-%d.example", i*7919%len(rows))
		rows[i] = []any{site}
		fmt.Fprintln(&text, site)
	}
	store := open(b)
	b.Run("ours", func(b *testing.B) {
		for b.Loop() {
			list := newList(b, store, uuid.NewString())
			_, _, err := revision.Import(b.Context(), store, list.ID, strings.NewReader(text.String()), pattern.Mending, revision.Merging{}, 0, "edda")
			require.NoError(b, err)
		}
	})
	b.Run("anchor", func(b *testing.B) {
		_, err := store.Pool().Exec(b.Context(), "create table if not exists bare (pattern text)")
		require.NoError(b, err)
		for b.Loop() {
			_, err := store.Pool().CopyFrom(b.Context(), pgx.Identifier{"bare"}, []string{"pattern"}, pgx.CopyFromRows(rows))
			require.NoError(b, err)
		}
	})
}

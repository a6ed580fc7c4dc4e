package standing_test

import (
	"context"
	"net/netip"
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
	"widelark/internal/audit"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/standing"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

var now = time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)

func TestCheck(t *testing.T) {
	t.Parallel()
	good := standing.GrantBody{Entries: pattern.Keep(" HERON.example/wards "), For: revision.WhomBody{Everybody: true}, Reason: " Asked for ", Until: now.Add(time.Hour)}
	require.NoError(t, good.Check(now))
	assert.Equal(t, []any{"heron.example/wards", "Asked for"}, []any{good.Entries[0].String(), good.Reason})
	assert.Equal(t, "heron.example/wards", good.Name())
	two := good
	two.Entries = pattern.Keep("a.example", "b.example")
	assert.Equal(t, "a.example and 1 more", two.Name())
	for want, change := range map[string]func(*standing.GrantBody){
		"entries: ":            func(b *standing.GrantBody) { b.Entries = nil },
		"entries[1]: ":         func(b *standing.GrantBody) { b.Entries = pattern.Keep("a.example", "~ (") },
		"no carve-outs":        func(b *standing.GrantBody) { b.Entries = pattern.Keep("! a.example") },
		"reason: ":             func(b *standing.GrantBody) { b.Reason = "" },
		"for: ":                func(b *standing.GrantBody) { b.For = revision.WhomBody{} },
		"for.addresses[0]: ":   func(b *standing.GrantBody) { b.For = revision.WhomBody{Addresses: []string{"10.40.0.0/99"}} },
		"a moment to come":     func(b *standing.GrantBody) { b.Until = now },
		"lasts at most 90 day": func(b *standing.GrantBody) { b.Until = now.Add(standing.Longest + time.Minute) },
	} {
		bad := good
		change(&bad)
		assert.ErrorContains(t, bad.Check(now), want)
	}
}

func open(t *testing.T) *postgres.Store {
	t.Helper()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

func grant(entry string, length time.Duration) standing.GrantBody {
	return standing.GrantBody{Entries: pattern.Keep(entry), For: revision.WhomBody{Everybody: true}, Reason: "Asked for", Until: time.Now().Add(length).UTC().Truncate(time.Second)}
}

// Facts stay the same value while nothing changes, and change in every service once something does.
func TestFacts(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	one, other := standing.NewSource(store, time.Now), standing.NewSource(store, time.Now)
	none, err := one.Facts(ctx)
	require.NoError(t, err)
	assert.True(t, none.IsEmpty())
	again, err := one.Facts(ctx)
	require.NoError(t, err)
	assert.Same(t, none, again)

	made, err := store.AddGrant(ctx, grant("heron.example", time.Hour), access.Setup)
	require.NoError(t, err)
	_, err = store.AddGrant(ctx, grant("tern.example", time.Hour), access.Setup)
	require.NoError(t, err)
	for _, source := range []*standing.Source{one, other} {
		facts, err := source.Facts(ctx)
		require.NoError(t, err)
		require.Len(t, facts.Grants, 2)
		assert.Equal(t, []any{made.ID.String(), "heron.example", made.MadeAt, made.Until}, []any{facts.Grants[1].ID, facts.Grants[1].Name, facts.Grants[1].From, facts.Grants[1].Until})
	}
	ended, err := store.EndGrant(ctx, made.ID, access.Setup)
	require.NoError(t, err)
	facts, err := other.Facts(ctx)
	require.NoError(t, err)
	assert.Len(t, facts.Grants, 2, "a trial of the moment before knows it")
	assert.Equal(t, *ended.EndedAt, facts.Grants[1].Until)
}

// Minutes that several gates count are united, are read anew while all other facts stay, and are forgotten after a while.
func TestMinutesUsed(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	now := time.Date(2026, 11, 24, 23, 59, 0, 0, time.UTC)
	source := standing.NewSource(store, func() time.Time { return now })
	_, err := store.AddGrant(ctx, grant("heron.example", time.Hour), access.Setup)
	require.NoError(t, err)
	before, err := source.Facts(ctx)
	require.NoError(t, err)
	rule, kay, m := uuid.New(), uuid.New(), now.Unix()/60
	address := netip.MustParseAddr("10.40.9.7")
	for _, used := range [][]standing.Used{
		{{Rule: rule, Person: kay, Minutes: []int64{m, m - 3}}, {Rule: rule, Address: address, Minutes: []int64{m}}},
		{{Rule: rule, Person: kay, Address: address, Minutes: []int64{m - 1, m, m + 1}}},
	} {
		require.NoError(t, store.AddUsed(ctx, used, access.Recorder))
	}
	facts, err := source.Facts(ctx)
	require.NoError(t, err)
	assert.NotSame(t, before, facts)
	assert.Equal(t, before.Grants, facts.Grants)
	assert.ElementsMatch(t, []policy.Used{
		{Rule: rule.String(), Person: kay.String(), Minutes: []int64{m - 3, m - 1, m}}, {Rule: rule.String(), Person: kay.String(), Minutes: []int64{m + 1}}, {Rule: rule.String(), Addr: address, Minutes: []int64{m}},
	}, facts.Used, "a row for each day in UTC")
	again, err := source.Facts(ctx)
	require.NoError(t, err)
	assert.Same(t, facts, again)

	later := now.Add(40 * 24 * time.Hour)
	require.NoError(t, store.AddUsed(ctx, []standing.Used{{Rule: rule, Person: kay, Minutes: []int64{later.Unix() / 60}}}, access.Recorder))
	left, err := store.Used(ctx, now.Add(-time.Hour))
	require.NoError(t, err)
	assert.Len(t, left, 1)
	now = later.Add(3 * 24 * time.Hour)
	old, err := standing.NewSource(store, func() time.Time { return now }).Facts(ctx)
	require.NoError(t, err)
	assert.Empty(t, old.Used)
	denied := &access.DeniedError{}
	assert.ErrorAs(t, store.AddUsed(ctx, nil, access.Account(uuid.New(), "nobody")), &denied)
}

// Readers during changes of grants get facts that were true at some moment, and afterwards the last ones.
func TestFactsWhileTheyChange(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	source := standing.NewSource(store, time.Now)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 20 {
				facts, err := source.Facts(ctx)
				if assert.NoError(t, err) {
					for _, g := range facts.Grants {
						assert.False(t, g.Until.Before(g.From))
					}
				}
			}
		})
	}
	for i := range 10 {
		g, err := store.AddGrant(ctx, grant("heron.example", time.Hour), access.Setup)
		require.NoError(t, err)
		if i%2 == 0 {
			_, err = store.EndGrant(ctx, g.ID, access.Setup)
			require.NoError(t, err)
		}
	}
	all.Wait()
	facts, err := source.Facts(ctx)
	require.NoError(t, err)
	assert.Len(t, facts.Grants, 10)
	left, err := store.Grants(ctx, time.Now())
	require.NoError(t, err)
	assert.Len(t, left, 5)
}

// A grant ends once, becomes an exception once, and the audit log holds both.
func TestEndAndKeep(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	made, err := store.AddGrant(ctx, grant("heron.example", time.Hour), access.Setup)
	require.NoError(t, err)
	before, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	ended, err := store.EndGrant(ctx, made.ID, access.Setup)
	require.NoError(t, err)
	version, err := store.FactsVersion(ctx)
	require.NoError(t, err)
	again, err := store.EndGrant(ctx, made.ID, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, ended.EndedAt, again.EndedAt)
	same, err := store.FactsVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, version, same, "nothing changed")
	_, err = store.EndGrant(ctx, uuid.New(), access.Setup)
	require.ErrorIs(t, err, revision.ErrNotFound)
	draft, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, draft, "grants are not edits of the draft")

	id, err := store.KeepGrant(ctx, made.ID, "Heron", access.Setup)
	require.NoError(t, err)
	o, err := store.Object(ctx, revision.KindException, id)
	require.NoError(t, err)
	body, err := revision.Decode[revision.ExceptionBody](o)
	require.NoError(t, err)
	assert.Equal(t, []any{"Heron", pattern.Keep("heron.example"), "Asked for", made.Until}, []any{o.Name, body.Entries, body.Reason, body.Until.UTC()})
	_, err = store.KeepGrant(ctx, made.ID, "Heron again", access.Setup)
	require.ErrorContains(t, err, "an exception was made of this grant already")

	events, err := store.Audit(ctx, audit.Query{Limit: 10, Kind: audit.KindGrant})
	require.NoError(t, err)
	var told []string
	for _, e := range events {
		told = append(told, strings.TrimSpace(string(e.What)+" "+e.Name+" "+e.Detail))
	}
	assert.Equal(t, []string{"grant kept heron.example Heron", "grant ended heron.example", "grant made heron.example Asked for"}, told)
}

// An unreadable grant in the database covers nothing and stops nothing.
func TestUnreadableGrant(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	made, err := store.AddGrant(ctx, grant("heron.example", time.Hour), access.Setup)
	require.NoError(t, err)
	_, err = store.AddGrant(ctx, grant("tern.example", time.Hour), access.Setup)
	require.NoError(t, err)
	_, err = store.Pool().Exec(context.WithoutCancel(ctx), `update grants set body = jsonb_set(body, '{entries}', '["~ ("]') where id = $1`, made.ID)
	require.NoError(t, err)
	facts, err := standing.NewSource(store, time.Now).Facts(ctx)
	require.NoError(t, err)
	assert.Empty(t, facts.Grants[1].Entries)
	assert.NotEmpty(t, facts.Grants[0].Entries)
}

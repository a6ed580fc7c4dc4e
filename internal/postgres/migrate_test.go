package postgres

import (
	"context"
	"io/fs"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// EmptyDatabase creates a database without tables on the server of the package's outer tests.
var EmptyDatabase func(t testing.TB) string

// olderDatabase returns the URL of a database at a version of the schema, filled by some SQL.
func olderDatabase(t *testing.T, version int64, fill string) string {
	t.Helper()
	ctx := t.Context()
	url := EmptyDatabase(t)
	pool, err := pgxpool.New(ctx, url)
	require.NoError(t, err)
	defer pool.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithGoMigrations(rekey))
	require.NoError(t, err)
	_, err = provider.UpTo(ctx, version)
	require.NoError(t, err)
	_, err = pool.Exec(ctx, fill)
	require.NoError(t, err)
	return url
}

// A database from before the history of entries is migrated with everything in it.
func TestEntriesGetAHistory(t *testing.T) {
	ctx := context.Background()
	url := olderDatabase(t, 3, `with l as (insert into lists (name, version, entry_count, note_count, updated_by) values ('Betting', 7, 3, 1, 'edda') returning id)
		insert into entries (list_id, position, kind, key, pattern, carve_out, until, off, note, added_by)
		select l.id, v.* from l, (values (4, 'site', 'xn--mwe-sna.example', 'möwe.example', false, null::date, false, '', 'edda'),
			(1, 'note', null, '', false, null, false, 'Betting', 'edda'), (2, 'host', '! =a.example', '=a.example', true, '2026-12-24', true, 'why', 'edda'),
			(3, 'site', 'b.example', 'b.example', false, null, false, '', 'edda')) v`)

	store, err := Open(ctx, url)
	require.NoError(t, err)
	defer store.Close()
	list, err := store.ListByName(ctx, "betting")
	require.NoError(t, err)
	var lines []string
	require.NoError(t, store.EachEntry(ctx, list.ID, func(_ int64, e pattern.Entry) error {
		lines = append(lines, e.String())
		return nil
	}))
	assert.Equal(t, []string{"# Betting", "! =a.example [until 2026-12-24, off] # why", "b.example", "möwe.example"}, lines)
	history, err := store.History(ctx, list.ID, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "earlier", history[0].What)
	assert.EqualValues(t, 7, history[0].Version)
}

// Policies from before objects had states keep their rules, lists and categories; unedited defaults are removed.
func TestPoliciesBecomeObjects(t *testing.T) {
	ctx := context.Background()
	for _, touched := range []bool{false, true} {
		fill := ""
		if touched {
			fill = `insert into lists (name, version, updated_by) values ('Betting', 2, 'edda'), ('Video', 3, 'edda');
				update groups set name = 'Ward nurses', version = 4, updated_by = 'edda';
				update policies set name = 'Ward floor', description = 'Wards', otherwise = 'block', version = 5, updated_by = 'edda';
				insert into rules (policy_id, position, name, verdict, categories) select id, v.* from policies, (values (0, 'Never', 'block', '{}'::text[]),
					(1, 'Dangers', 'block', '{dangers,adult}'), (2, 'Both', 'allow', '{news}')) v;
				insert into rule_lists (policy_id, rule, position, list_id) select p.id, 0, 0, l.id from policies p, lists l where l.name = 'Video';
				insert into rule_lists (policy_id, rule, position, list_id) select p.id, 0, 1, l.id from policies p, lists l where l.name = 'Betting';
				insert into rule_lists (policy_id, rule, position, list_id) select p.id, 2, 0, l.id from policies p, lists l where l.name = 'Betting';
				update draft set version = 5`
		}
		url := olderDatabase(t, 8, fill)

		store, err := Open(ctx, url)
		require.NoError(t, err)
		defer store.Close()
		kept, err := store.Objects(ctx, revision.KindPolicy)
		require.NoError(t, err)
		var names []string
		for _, o := range kept {
			names = append(names, o.Name)
		}
		groups, err := store.Objects(ctx, revision.KindGroup)
		require.NoError(t, err)
		if !touched {
			assert.Equal(t, []string{"Baseline", "Fallback"}, names)
			assert.Empty(t, groups)
			continue
		}
		assert.Equal(t, []string{"Baseline", "Fallback", "Ward floor"}, names)
		body, err := revision.Decode[revision.PolicyBody](kept[2])
		require.NoError(t, err)
		require.NoError(t, body.Check(), "it is as the service would keep it")
		assert.EqualValues(t, 5, kept[2].Version)
		assert.Equal(t, []any{"Wards", policy.Block, groups[0].ID}, []any{body.Description, body.Otherwise, body.Groups[0].ID})
		video, err := store.ListByName(ctx, "Video")
		require.NoError(t, err)
		betting, err := store.ListByName(ctx, "Betting")
		require.NoError(t, err)
		ids := map[uuid.UUID]bool{uuid.Nil: true}
		for i := range body.Rules {
			assert.False(t, ids[body.Rules[i].ID], "every rule has an id of its own")
			ids[body.Rules[i].ID], body.Rules[i].ID = true, uuid.Nil
		}
		assert.Equal(t, []revision.RuleBody{
			{Name: "Never", Then: policy.Block, If: &revision.Condition{Any: []revision.Condition{{Lists: []revision.Ref{{ID: video.ID}, {ID: betting.ID}}}}}},
			{Name: "Dangers", Then: policy.Block, If: &revision.Condition{Any: []revision.Condition{{Categories: []string{"dangers", "adult"}}}}},
			{Name: "Both", Then: policy.Allow, If: &revision.Condition{Any: []revision.Condition{{Lists: []revision.Ref{{ID: betting.ID}}}, {Categories: []string{"news"}}}}},
		}, body.Rules)
		assert.Equal(t, []string{"Ward floor"}, betting.UsedBy)
		settings, err := store.Objects(ctx, revision.KindSettings)
		require.NoError(t, err)
		set, err := revision.Decode[revision.SettingsBody](settings[0])
		require.NoError(t, err)
		assert.Equal(t, []revision.Ref{{ID: kept[2].ID}}, set.Order)
		_, err = store.Change(ctx, []revision.ObjectChange{{Kind: revision.KindPolicy, ID: kept[2].ID, Version: 5, Name: "Ward floor", Body: &body}}, access.Setup)
		require.NoError(t, err, "and can be edited")
	}
}

// The rules of all states get ids, the same for rules of the same name; nothing else about the states changes, and the audit log does not mention it.
func TestRulesOfOldStatesGetIDs(t *testing.T) {
	ctx := context.Background()
	url := olderDatabase(t, 12, `insert into objects (id, since, gone, kind, name, body, updated_by) values
		('00000000-0000-4000-8000-000000000001', 1, 2, 'policy', 'Ward', '{"groups": [], "otherwise": "allow", "rules": [{"name": "Never", "then": "block"}, {"name": "Later", "then": "hold"}]}', 'edda'),
		('00000000-0000-4000-8000-000000000001', 2, null, 'policy', 'Ward', '{"groups": [], "otherwise": "allow", "rules": [{"name": "LATER", "then": "watch"}, {"name": "Never", "then": "block"}, {"name": "Never", "then": "hold"}]}', 'edda'),
		('00000000-0000-4000-8000-000000000002', 1, 2, 'policy', 'Gone', '{"groups": [], "otherwise": "allow", "rules": [{"name": "Never", "then": "block"}, "broken"]}', 'edda')`)
	store, err := Open(ctx, url)
	require.NoError(t, err)
	defer store.Close()
	rows, err := store.pool.Query(ctx, `select body->'rules' from objects where updated_by = 'edda' order by id, since`)
	require.NoError(t, err)
	states, err := pgx.CollectRows(rows, pgx.RowTo[[]any])
	require.NoError(t, err)
	id := func(state, rule int) any { return states[state][rule].(map[string]any)["id"] }
	assert.Equal(t, id(0, 0), id(1, 1))
	assert.Equal(t, id(0, 1), id(1, 0))
	assert.Equal(t, "broken", states[2][1])
	seen := map[any]bool{nil: true}
	for _, one := range []any{id(0, 0), id(0, 1), id(1, 2), id(2, 0)} {
		assert.False(t, seen[one])
		seen[one] = true
	}
	assert.Equal(t, map[string]any{"id": id(1, 0), "name": "LATER", "then": "watch"}, states[1][0])
	var told int
	require.NoError(t, store.pool.QueryRow(ctx, `select count(*) from audit where name in ('Ward', 'Gone') and what <> 'made' and what <> 'changed'`).Scan(&told))
	assert.Zero(t, told)
}

// The configuration from before revisions becomes revision 1, with lists, schedules, categories and corrections, and can be compared with
// and restored.
func TestWhatWasThereBecomesARevision(t *testing.T) {
	ctx := context.Background()
	url := olderDatabase(t, 9, `update draft set version = 40, classified = 39;
		insert into lists (name, description, version, entry_count, updated_by) values ('Betting', 'odds', 38, 1, 'edda'), ('Video', '', 30, 0, 'rowan');
		insert into list_changes (list_id, version, by, what, added) select id, version, updated_by, 'earlier', entry_count from lists;
		insert into entries (list_id, id, since, kind, carve_out, off, pattern, note) select id, 1, 38, 'site', false, false, 'odds.example', '' from lists where name = 'Betting';
		insert into entries (list_id, id, since, kind, carve_out, off, pattern, key, note) select id, 2, 30, 'query', true, false, 'heron.example?Q=%7Ea', '! heron.example?q=%7ea', '' from lists where name = 'Video';
		insert into list_sources (list_id, url, every_min, format, max_bytes, max_shrink) select id, 'https://x.example', 60, 'text', 1000, 50 from lists where name = 'Video';
		insert into schedules (name, description, zone, text, version, updated_by) values ('Office hours', '', 'UTC', 'mon 09:00-10:00', 12, 'edda');
		insert into own_categories (key, name, description, family, adds, version, updated_by) values ('wards', 'Wards', '', '', true, 39, 'edda');
		insert into own_category_lists (category_id, position, list_id) select c.id, case l.name when 'Video' then 0 else 1 end, l.id from own_categories c, lists l;
		insert into scorecards (name, description, category, threshold, terms, off, version, updated_by) values ('Words', '', 'adult', 5, '[{"word": "x", "points": 3}]', false, 20, 'edda');
		insert into corrections (entry, key, categories, reason, by, version) values ('Heron.example', 'heron.example', '{news}', 'a paper', 'rowan', 21)`)

	store, err := Open(ctx, url)
	require.NoError(t, err)
	defer store.Close()
	now, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, revision.Now{Draft: 40, Catalogue: 1, Live: revision.Live{Number: 1, Version: 40}}, now)
	var key string
	require.NoError(t, store.pool.QueryRow(ctx, `select key from entries where kind = 'query'`).Scan(&key))
	assert.Equal(t, pattern.MustParse("! heron.example?q=~a").Key(), key, "escapes have one spelling")
	own, err := store.OwnCategories(ctx)
	require.NoError(t, err)
	require.Len(t, own[0].Lists, 2)
	assert.Equal(t, []string{"Video", "Betting"}, []string{own[0].Lists[0].Name, own[0].Lists[1].Name}, "in their order")
	none, err := store.Changed(ctx, 40, 0)
	require.NoError(t, err)
	assert.Empty(t, none)

	// Everything is edited, and taken back.
	betting, err := store.ListByName(ctx, "betting")
	require.NoError(t, err)
	name := "Bets"
	_, err = store.EditList(ctx, betting.ID, revision.ListEdit{Name: &name}, 0, access.Setup)
	require.NoError(t, err)
	_, _, err = store.RemoveEntries(ctx, betting.ID, revision.Selection{All: true}, revision.ChangeRemoved, 0, access.Setup)
	require.NoError(t, err)
	require.NoError(t, store.RemoveOwnCategory(ctx, own[0].ID, 0, access.Setup))
	video, err := store.ListByName(ctx, "Video")
	require.NoError(t, err)
	require.NoError(t, store.RemoveList(ctx, video.ID, 0, access.Setup))
	schedules, err := store.Schedules(ctx)
	require.NoError(t, err)
	require.NoError(t, store.RemoveSchedule(ctx, schedules[0].ID, 0, access.Setup))
	_, err = store.AddCorrections(ctx, []pattern.Pattern{pattern.MustParse("heron.example").Pattern}, []string{"games"}, "no, games", access.Setup)
	require.NoError(t, err)
	changed, err := store.Changed(ctx, 40, 0)
	require.NoError(t, err)
	kinds := map[revision.Kind]int{}
	for _, c := range changed {
		kinds[c.Kind]++
		assert.Equal(t, []string{"setup"}, c.By, c.Name())
	}
	assert.Equal(t, map[revision.Kind]int{revision.KindList: 2, revision.KindCategory: 1, revision.KindSchedule: 1, revision.KindCorrection: 1}, kinds)
	sources, err := store.Sources(ctx)
	require.NoError(t, err)
	assert.Empty(t, sources, "a list that is gone is not pulled")
	require.NoError(t, store.Restore(ctx, 40, 0, nil, access.Subscription))
	none, err = store.Changed(ctx, 40, 0)
	require.NoError(t, err)
	assert.Empty(t, none)
	back, err := store.List(ctx, betting.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"Betting", "odds", int64(1)}, []any{back.Name, back.Description, back.EntryCount})
	corrections, _, err := store.Corrections(ctx, "", 0, 10)
	require.NoError(t, err)
	assert.Equal(t, []any{"heron.example", "a paper", "rowan"}, []any{corrections[0].Entry.String(), corrections[0].Reason, corrections[0].By})
	sources, err = store.Sources(ctx)
	require.NoError(t, err)
	assert.Len(t, sources, 1, "what it was pulled from is there again")
	lists, err := store.Lists(ctx, "", 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"category Wards"}, lists[0].UsedBy)
}

// The gates that were switched on become the way of the organisation's clients.
func TestGatesBecomeAWay(t *testing.T) {
	for gates, want := range map[string]policy.Way{
		`["dns", "proxy"]`: policy.ByBoth, `["dns", "proxy", "icap"]`: policy.ByBoth, `["proxy"]`: policy.ByProxy, `["dns"]`: policy.ByDNS, `["icap"]`: policy.ByICAP, `[]`: policy.NoGate,
	} {
		url := olderDatabase(t, 17, `alter table objects disable trigger user;
			update objects set body = jsonb_set(body, '{gates}', '`+gates+`') where kind = 'settings';
			alter table objects enable trigger user`)
		store, err := Open(t.Context(), url)
		require.NoError(t, err)
		kept, err := store.Objects(t.Context(), revision.KindSettings)
		store.Close()
		require.NoError(t, err)
		body, err := revision.Decode[revision.SettingsBody](kept[0])
		require.NoError(t, err)
		assert.Equal(t, want, body.Way, gates)
		assert.NotContains(t, string(kept[0].Body), "gates")
	}
}

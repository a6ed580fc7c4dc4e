package postgres

import (
	"context"
	"io/fs"
	"testing"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
)

// EmptyDatabase makes a database without tables; the server belongs to the package's outer tests.
var EmptyDatabase func(t testing.TB) string

// A database of before entries had a history is brought up to date with all that is in it.
func TestEntriesGetAHistory(t *testing.T) {
	ctx := context.Background()
	url := EmptyDatabase(t)
	pool, err := pgxpool.New(ctx, url)
	require.NoError(t, err)
	defer pool.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	require.NoError(t, err)
	_, err = provider.UpTo(ctx, 3)
	require.NoError(t, err)
	_, err = pool.Exec(ctx, `with l as (insert into lists (name, version, entry_count, note_count, updated_by) values ('Betting', 7, 3, 1, 'edda') returning id)
		insert into entries (list_id, position, kind, key, pattern, carve_out, until, off, note, added_by)
		select l.id, v.* from l, (values (4, 'site', 'xn--mwe-sna.example', 'möwe.example', false, null::date, false, '', 'edda'),
			(1, 'note', null, '', false, null, false, 'Betting', 'edda'), (2, 'host', '! =a.example', '=a.example', true, '2026-12-24', true, 'why', 'edda'),
			(3, 'site', 'b.example', 'b.example', false, null, false, '', 'edda')) v`)
	require.NoError(t, err)

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

// Package postgres keeps everything that lasts in PostgreSQL. It is the only package with SQL in it.
//
// From: the store interfaces of the domain packages.
// To: tables, and errors in the domain's terms.
package postgres

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/catalogue"
	"widelark/internal/directories"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store implements the stores of the domain packages. It is safe for concurrent use; several services may share one
// database.
type Store struct {
	pool  *pgxpool.Pool
	pulse *pulse
	days  sync.Map // of day: parts of the journal that are there
}

var (
	_ account.Store  = (*Store)(nil)
	_ revision.Store = (*Store)(nil)

	_ revision.SeenStore   = (*Store)(nil)
	_ revision.SourceStore = (*Store)(nil)

	_ revision.CategoryStore = (*Store)(nil)
	_ revision.ScheduleStore = (*Store)(nil)
	_ revision.PublishStore  = (*Store)(nil)
	_ journal.Store          = (*Store)(nil)
	_ archive.Source         = source{}
	_ query.Names            = (*Store)(nil)
	_ catalogue.Store        = (*Store)(nil)
)

// opening is how long Open tries to reach a server that is busy or starting.
const opening = 30 * time.Second

// Open connects to a database and brings its tables up to date. It tries again for half a minute where the server takes connections and does not
// answer in time; a server that refuses connections is an error at once. The caller closes the store.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database URL cannot be read: %w", err)
	}
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	config.PingTimeout = time.Second // a server that hangs counts as lost; waiting for it would never end
	config.ConnConfig.RuntimeParams["timezone"] = "UTC"
	answered := &answers{}
	config.ConnConfig.Tracer = answered
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	end := time.Now().Add(opening)
	for {
		err := prepare(ctx, pool)
		switch {
		case err == nil:
			return &Store{pool: pool, pulse: newPulse(pool, answered)}, nil
		case !errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil || time.Now().After(end):
			pool.Close()
			return nil, err
		}
	}
}

// prepare asks the server for an answer, and brings the tables up to date.
func prepare(ctx context.Context, pool *pgxpool.Pool) error {
	if err := pool.Ping(ctx); err != nil {
		at := pool.Config().ConnConfig
		return fmt.Errorf("the database at %s:%d does not answer: %w", at.Host, at.Port, err)
	}
	if err := migrate(ctx, pool); err != nil {
		return fmt.Errorf("the database's tables could not be brought up to date: %w", err)
	}
	return nil
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker), goose.WithGoMigrations(rekey))
	if err != nil {
		return err
	}
	if _, err = provider.Up(ctx); err != nil {
		return err
	}
	return migrateQueue(ctx, pool)
}

// migrateQueue creates the tables of the job queue, by the library's own migrations.
func migrateQueue(ctx context.Context, pool *pgxpool.Pool) error {
	migrator, err := rivermigrate.New(riverpgxv5.New(pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock(8470)"); err != nil { // two services may start at once
		return err
	}
	_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	_, unlockErr := conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock(8470)")
	return errors.Join(err, unlockErr)
}

// Close closes all connections, after waiting for those in use.
func (s *Store) Close() {
	s.pulse.close()
	s.pool.Close()
}

// Pool returns the connection pool, for the session library, which manages its own table.
func (s *Store) Pool() *pgxpool.Pool { return s.pool }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	select {
	case <-s.Silent():
		return errors.New("the database is silent")
	default:
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return s.pool.Ping(ctx)
}

// edit runs do in a transaction that makes the next version of the draft, in the name of by. Edits are serialised: the draft's only
// row is locked meanwhile.
func (s *Store) edit(ctx context.Context, by access.Actor, do func(tx pgx.Tx, version int64) error) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var version int64
		var named string // by, for the triggers that keep states
		if err := begin(ctx, tx, by, access.Edit); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `with next as (update draft set version = version + 1 returning version)
			insert into edits (version, by) select version, $1 from next returning version, set_config('widelark.by', $1, true)`, by.Name()).Scan(&version, &named)
		if err != nil {
			return err
		}
		if err := do(tx, version); err != nil {
			return err
		}
		return guardEdits(ctx, tx, version-1, version, by)
	})
}

// lockVersion locks an object's row and checks that the caller saw its present version. Precondition: table is one of
// ours.
func lockVersion(ctx context.Context, tx pgx.Tx, table string, id any, seen int64) error {
	var version int64
	err := tx.QueryRow(ctx, "select version from "+table+" where id = $1 for update", id).Scan(&version)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return revision.ErrNotFound
	case err != nil:
		return err
	case seen != 0 && seen != version:
		return revision.ErrStale
	}
	return nil
}

// fieldOf maps unique indexes to the fields that they guard.
var fieldOf = map[string]string{
	"lists_name": "name", "objects_name": "name", "packs_name": "name", "watch_items_name": "name", "watch_items_own": "name",
	"own_categories_key": "name", "scorecards_name": "name", "directories_name": "name", "schedules_name": "name",
}

// ours converts PostgreSQL's errors into those of the domain.
func ours(err error) error {
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return revision.ErrNotFound
	case !errors.As(err, &pg):
		return err
	case pg.Code == "23505" && pg.ConstraintName == "accounts_name":
		return account.ErrTaken
	case pg.Code == "23505" && pg.ConstraintName == "directory_resources_name":
		return directories.ErrTaken
	case pg.Code == "23505" && fieldOf[pg.ConstraintName] != "":
		return &revision.FieldError{Field: fieldOf[pg.ConstraintName], Msg: "the name is taken"}
	case pg.Code == "53100": // disk_full
		return fmt.Errorf("%w: %s", revision.ErrDiskFull, pg.Message)
	case pg.Code == "22021", pg.Code == "22P05": // a NUL, the one character that PostgreSQL's texts cannot hold
		return &revision.FieldError{Msg: "a text in it holds a character that cannot be kept (NUL)"}
	}
	return err
}

// one collects the single row of a query, with PostgreSQL's errors converted into those of the domain.
func one[T any](rows pgx.Rows, err error, scan pgx.RowToFunc[T]) (T, error) {
	if err != nil {
		var none T
		return none, ours(err)
	}
	row, err := pgx.CollectExactlyOneRow(rows, scan)
	return row, ours(err)
}

// all collects every row of a query.
func all[T any](rows pgx.Rows, err error, scan pgx.RowToFunc[T]) ([]T, error) {
	if err != nil {
		return nil, ours(err)
	}
	found, err := pgx.CollectRows(rows, scan)
	return found, ours(err)
}

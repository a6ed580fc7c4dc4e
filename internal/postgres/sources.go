package postgres

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
)

const sourceColumns = `list_id, url, every_min, format, entry_field, max_bytes, max_shrink, paused, etag, modified, next_at,
	tried_at, pulled_at, result, told, bytes, added, removed, refused`

func scanSource(row pgx.CollectableRow) (s revision.Source, err error) {
	var minutes int
	err = row.Scan(&s.ListID, &s.URL, &minutes, &s.Format, &s.EntryField, &s.MaxBytes, &s.MaxShrink, &s.Paused, &s.ETag, &s.Modified, &s.NextAt,
		&s.TriedAt, &s.PulledAt, &s.Result, &s.Told, &s.Bytes, &s.Added, &s.Removed, &s.Refused)
	s.Every = time.Duration(minutes) * time.Minute
	return s, err
}

// Sources implements [revision.SourceStore].
func (s *Store) Sources(ctx context.Context) ([]revision.Source, error) {
	rows, err := s.pool.Query(ctx, `select `+sourceColumns+` from list_sources where list_id in (select id from lists) order by list_id`)
	return all(rows, err, scanSource)
}

// DueSources implements [revision.SourceStore].
func (s *Store) DueSources(ctx context.Context, at time.Time) ([]revision.Source, error) {
	rows, err := s.pool.Query(ctx, `select `+sourceColumns+` from list_sources where not paused and next_at <= $1 and list_id in (select id from lists) order by next_at`, at)
	return all(rows, err, scanSource)
}

// Source implements [revision.SourceStore].
func (s *Store) Source(ctx context.Context, list uuid.UUID) (revision.Source, error) {
	rows, err := s.pool.Query(ctx, `select `+sourceColumns+` from list_sources where list_id = $1 and list_id in (select id from lists)`, list)
	return one(rows, err, scanSource)
}

// SetSource implements [revision.SourceStore].
func (s *Store) SetSource(ctx context.Context, source revision.Source, by access.Actor) (set revision.Source, err error) {
	if err := s.exists(ctx, source.ListID); err != nil {
		return source, err
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := mayFill(ctx, tx, source.ListID, by); err != nil {
			return err
		}
		if set, err = setSource(ctx, tx, source); err != nil {
			return err
		}
		return noteSource(ctx, tx, source.ListID, audit.Event{By: by.Name(), What: audit.SourceSet, Detail: source.URL})
	})
	return set, ours(err)
}

func setSource(ctx context.Context, tx pgx.Tx, source revision.Source) (revision.Source, error) {
	rows, err := tx.Query(ctx, `insert into list_sources as o (list_id, url, every_min, format, entry_field, max_bytes, max_shrink, paused)
		values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (list_id) do update set url = $2, every_min = $3, format = $4, entry_field = $5, max_bytes = $6, max_shrink = $7, paused = $8,
			etag = case when (o.url, o.format, o.entry_field) = ($2, $4, $5) then o.etag else '' end,
			modified = case when (o.url, o.format, o.entry_field) = ($2, $4, $5) then o.modified else '' end,
			next_at = case when o.url = $2 then least(o.next_at, now() + make_interval(mins => $3)) else now() end
		returning `+sourceColumns, source.ListID, source.URL, int(source.Every.Minutes()), source.Format, source.EntryField, source.MaxBytes, source.MaxShrink, source.Paused)
	return one(rows, err, scanSource)
}

// RemoveSource implements [revision.SourceStore].
func (s *Store) RemoveSource(ctx context.Context, list uuid.UUID, by access.Actor) error {
	return ours(pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := mayFill(ctx, tx, list, by); err != nil {
			return err
		}
		gone, err := tx.Exec(ctx, `delete from list_sources where list_id = $1`, list)
		if err == nil && gone.RowsAffected() == 0 {
			return revision.ErrNotFound
		}
		if err != nil {
			return err
		}
		return noteSource(ctx, tx, list, audit.Event{By: by.Name(), What: audit.SourceRemoved})
	}))
}

// noteSource adds an event about a list's source to the audit log, with the list's name.
func noteSource(ctx context.Context, tx pgx.Tx, list uuid.UUID, e audit.Event) error {
	e.Kind, e.Object = string(revision.KindList), &list
	if err := tx.QueryRow(ctx, `select coalesce((select name from lists where id = $1), '')`, list).Scan(&e.Name); err != nil {
		return err
	}
	return note(ctx, tx, e)
}

// MayFill implements [revision.SourceStore].
func (s *Store) MayFill(ctx context.Context, list uuid.UUID, by access.Actor) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error { return mayFill(ctx, tx, list, by) })
}

// KeepPull implements [revision.SourceStore]. Where the source was changed or taken away meanwhile, nothing is kept.
func (s *Store) KeepPull(ctx context.Context, p revision.Source, by access.Actor) error {
	return s.as(ctx, by, access.Fill, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `update list_sources set etag = $3, modified = $4, next_at = $5, tried_at = $6, pulled_at = $7, result = $8, told = $9,
		bytes = $10, added = $11, removed = $12, refused = $13 where list_id = $1 and url = $2`,
			p.ListID, p.URL, p.ETag, p.Modified, p.NextAt, p.TriedAt, p.PulledAt, p.Result, p.Told, p.Bytes, p.Added, p.Removed, p.Refused)
		return err
	})
}

package postgres

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
)

// listColumns are the fields of revision.List, in a query whose list is l.
const listColumns = `l.id, l.name, l.description, l.colour, l.owner, l.for_stints, l.entry_count, l.note_count, l.version, l.created_at, l.updated_at,
	l.updated_by, array(select o.name from object_refs r join objects o on o.id = r.object and o.gone is null
			where r.target = l.id
		union select 'category ' || o.name from own_categories o where o.lists @> array[l.id]
		order by 1) as used_by`

var scanList = pgx.RowToStructByName[revision.List]

// Lists implements [revision.Store].
func (s *Store) Lists(ctx context.Context, after string, limit int) ([]revision.List, error) {
	rows, err := s.pool.Query(ctx, `select `+listColumns+` from lists l
		where lower(l.name) > lower($1) order by lower(l.name) limit $2`, after, limit)
	return all(rows, err, scanList)
}

// ListByName implements [revision.Store].
func (s *Store) ListByName(ctx context.Context, name string) (revision.List, error) {
	rows, err := s.pool.Query(ctx, `select `+listColumns+` from lists l where lower(l.name) = lower($1)`, name)
	return one(rows, err, scanList)
}

// List implements [revision.Store].
func (s *Store) List(ctx context.Context, id uuid.UUID) (revision.List, error) {
	return list(ctx, s.pool, id)
}

// querier is a pool or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

func list(ctx context.Context, q querier, id uuid.UUID) (revision.List, error) {
	rows, err := q.Query(ctx, `select `+listColumns+` from lists l where l.id = $1`, id)
	return one(rows, err, scanList)
}

// AddList implements [revision.Store].
func (s *Store) AddList(ctx context.Context, made revision.ListEdit, by access.Actor) (added revision.List, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		var id uuid.UUID
		err := tx.QueryRow(ctx, `insert into lists (name, description, colour, owner, for_stints, version, updated_by)
			values ($1, coalesce($2, ''), coalesce($3, ''), coalesce($4, ''), coalesce($5, false), $6, $7) returning id`,
			made.Name, made.Description, made.Colour, made.Owner, made.ForStints, version, by.Name()).Scan(&id)
		if err != nil {
			return err
		}
		if err := record(ctx, tx, id, revision.Change{Version: version, By: by.Name(), What: revision.ChangeMade}); err != nil {
			return err
		}
		added, err = list(ctx, tx, id)
		return err
	})
	return added, ours(err)
}

// EditList implements [revision.Store].
func (s *Store) EditList(ctx context.Context, id uuid.UUID, edit revision.ListEdit, seen int64, by access.Actor) (edited revision.List, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		before, err := list(ctx, tx, id)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update lists set name = coalesce($2, name), description = coalesce($3, description),
			colour = coalesce($4, colour), owner = coalesce($5, owner), for_stints = coalesce($6, for_stints), version = $7, updated_at = now(), updated_by = $8
			where id = $1`, id, edit.Name, edit.Description, edit.Colour, edit.Owner, edit.ForStints, version, by.Name())
		if err != nil {
			return err
		}
		if edited, err = list(ctx, tx, id); err != nil {
			return err
		}
		change := revision.Change{Version: version, By: by.Name(), What: revision.ChangeDescribed}
		if edited.Name != before.Name {
			change.Detail = fmt.Sprintf("renamed from %q", before.Name)
		}
		return record(ctx, tx, id, change)
	})
	return edited, ours(err)
}

// RemoveList implements [revision.Store]. Entries and history stay: revisions have them.
func (s *Store) RemoveList(ctx context.Context, id uuid.UUID, seen int64, by access.Actor) error {
	return ours(s.edit(ctx, by, func(tx pgx.Tx, _ int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select name from own_categories where lists @> array[$1::uuid] order by 1`, id)
		categories, err := all(rows, err, pgx.RowTo[string])
		if err != nil {
			return err
		}
		var users []string
		for _, name := range categories {
			users = append(users, fmt.Sprintf("the category %q", name))
		}
		if err := inUse(ctx, tx, revision.KindList, id, users...); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `delete from lists where id = $1`, id)
		return err
	}))
}

// exists distinguishes a missing list from an empty one.
func (s *Store) exists(ctx context.Context, id uuid.UUID) error {
	var found bool
	if err := s.pool.QueryRow(ctx, `select exists (select from lists where id = $1)`, id).Scan(&found); err != nil {
		return err
	}
	if !found {
		return revision.ErrNotFound
	}
	return nil
}

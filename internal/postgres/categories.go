package postgres

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// classify runs do in an edit of what is said about categories.
func (s *Store) classify(ctx context.Context, do func(tx pgx.Tx, version int64) error) error {
	return ours(s.edit(ctx, func(tx pgx.Tx, version int64) error {
		if _, err := tx.Exec(ctx, `update draft set classified = version`); err != nil {
			return err
		}
		return do(tx, version)
	}))
}

const correctionColumns = `id, entry, categories, reason, at, by`

func scanCorrection(row pgx.CollectableRow) (c revision.Correction, err error) {
	var entry string
	if err := row.Scan(&c.ID, &entry, &c.Categories, &c.Reason, &c.At, &c.By); err != nil {
		return c, err
	}
	read, err := pattern.Parse(entry)
	if err != nil {
		return c, fmt.Errorf("a kept correction cannot be read any more: %s: %w", entry, err)
	}
	c.Entry = read.Pattern
	return c, nil
}

// Corrections implements [revision.CategoryStore].
func (s *Store) Corrections(ctx context.Context, text string, after int64, limit int) (found []revision.Correction, total int64, err error) {
	const mention = `from corrections where ($1 = '' or entry ilike $1 or key ilike $1 or reason ilike $1 or array_to_string(categories, ' ') ilike $1)`
	like := containing(text)
	if err := s.pool.QueryRow(ctx, `select count(*) `+mention, like).Scan(&total); err != nil {
		return nil, 0, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select `+correctionColumns+` `+mention+` and id > $2 order by id limit $3`, like, after, limit)
	found, err = all(rows, err, scanCorrection)
	return found, total, err
}

// AddCorrections implements [revision.CategoryStore]. A correction that is there for an entry is replaced.
func (s *Store) AddCorrections(ctx context.Context, entries []pattern.Pattern, categories []string, reason, by string) (made []revision.Correction, err error) {
	err = s.classify(ctx, func(tx pgx.Tx, version int64) error {
		for _, entry := range entries {
			if _, err := tx.Exec(ctx, `delete from corrections where key = $1`, entry.Key()); err != nil {
				return err
			}
			rows, err := tx.Query(ctx, `insert into corrections (entry, key, categories, reason, by, version) values ($1, $2, $3, $4, $5, $6)
				returning `+correctionColumns, entry.String(), entry.Key(), categories, reason, by, version)
			one, err := one(rows, err, scanCorrection)
			if err != nil {
				return err
			}
			made = append(made, one)
		}
		return nil
	})
	return made, err
}

// RemoveCorrection implements [revision.CategoryStore].
func (s *Store) RemoveCorrection(ctx context.Context, id int64) error {
	return s.classify(ctx, func(tx pgx.Tx, _ int64) error {
		gone, err := tx.Exec(ctx, `delete from corrections where id = $1`, id)
		if err == nil && gone.RowsAffected() == 0 {
			return revision.ErrNotFound
		}
		return err
	})
}

// OwnCategories implements [revision.CategoryStore].
func (s *Store) OwnCategories(ctx context.Context) ([]revision.OwnCategory, error) {
	return ownCategories(ctx, s.pool)
}

func ownCategories(ctx context.Context, q querier) ([]revision.OwnCategory, error) {
	rows, err := q.Query(ctx, `select id, key, name, description, family, adds, version, updated_at, updated_by from own_categories order by lower(name)`)
	found, err := all(rows, err, func(row pgx.CollectableRow) (c revision.OwnCategory, err error) {
		c.Lists = []revision.ListRef{}
		err = row.Scan(&c.ID, &c.Key, &c.Name, &c.Description, &c.Family, &c.Adds, &c.Version, &c.UpdatedAt, &c.UpdatedBy)
		return c, err
	})
	if err != nil {
		return nil, err
	}
	at := map[uuid.UUID]*revision.OwnCategory{}
	for i := range found {
		at[found[i].ID] = &found[i]
	}
	rows, err = q.Query(ctx, `select r.category_id, l.id, l.name from own_category_lists r join lists l on l.id = r.list_id order by r.category_id, r.position`)
	if err != nil {
		return nil, ours(err)
	}
	var id uuid.UUID
	var list revision.ListRef
	_, err = pgx.ForEachRow(rows, []any{&id, &list.ID, &list.Name}, func() error {
		at[id].Lists = append(at[id].Lists, list)
		return nil
	})
	return found, ours(err)
}

func ownCategory(ctx context.Context, tx pgx.Tx, id uuid.UUID) (revision.OwnCategory, error) {
	found, err := ownCategories(ctx, tx)
	for _, c := range found {
		if c.ID == id {
			return c, nil
		}
	}
	if err == nil {
		err = revision.ErrNotFound
	}
	return revision.OwnCategory{}, err
}

// AddOwnCategory implements [revision.CategoryStore].
func (s *Store) AddOwnCategory(ctx context.Context, made revision.OwnCategoryEdit, by string) (added revision.OwnCategory, err error) {
	err = s.classify(ctx, func(tx pgx.Tx, version int64) error {
		var id uuid.UUID
		err := tx.QueryRow(ctx, `insert into own_categories (key, name, description, family, adds, version, updated_by)
			values ($1, $2, coalesce($3, ''), coalesce($4, ''), coalesce($5, false), $6, $7) returning id`,
			revision.KeyOf(*made.Name), made.Name, made.Description, made.Family, made.Adds, version, by).Scan(&id)
		if err == nil {
			err = replaceLists(ctx, tx, id, made.Lists)
		}
		if err == nil {
			added, err = ownCategory(ctx, tx, id)
		}
		return err
	})
	return added, err
}

// EditOwnCategory implements [revision.CategoryStore].
func (s *Store) EditOwnCategory(ctx context.Context, id uuid.UUID, edit revision.OwnCategoryEdit, seen int64, by string) (edited revision.OwnCategory, err error) {
	err = s.classify(ctx, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "own_categories", id, seen); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update own_categories set name = coalesce($2, name), description = coalesce($3, description), family = coalesce($4, family),
			adds = coalesce($5, adds), version = $6, updated_at = now(), updated_by = $7 where id = $1`,
			id, edit.Name, edit.Description, edit.Family, edit.Adds, version, by)
		if err == nil && edit.Lists != nil {
			if _, err = tx.Exec(ctx, `delete from own_category_lists where category_id = $1`, id); err == nil {
				err = replaceLists(ctx, tx, id, edit.Lists)
			}
		}
		if err == nil {
			edited, err = ownCategory(ctx, tx, id)
		}
		return err
	})
	return edited, err
}

func replaceLists(ctx context.Context, tx pgx.Tx, id uuid.UUID, lists *[]uuid.UUID) error {
	if lists == nil {
		return nil
	}
	for i, list := range *lists {
		kept, err := tx.Exec(ctx, `insert into own_category_lists (category_id, position, list_id) select $1, $2, id from lists where id = $3`, id, i, list)
		if err != nil {
			return err
		}
		if kept.RowsAffected() == 0 {
			return &revision.FieldError{Field: fmt.Sprintf("lists[%d]", i), Msg: "there is no such list"}
		}
	}
	return nil
}

// RemoveOwnCategory implements [revision.CategoryStore]. Corrections and scorecards may go on naming it.
func (s *Store) RemoveOwnCategory(ctx context.Context, id uuid.UUID, seen int64) error {
	return s.removeLocal(ctx, "own_categories", id, seen)
}

// removeLocal deletes a row of a table of what is said here.
func (s *Store) removeLocal(ctx context.Context, table string, id uuid.UUID, seen int64) error {
	return s.classify(ctx, func(tx pgx.Tx, _ int64) error {
		if err := lockVersion(ctx, tx, table, id, seen); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from `+table+` where id = $1`, id)
		return err
	})
}

const scorecardColumns = `id, name, description, category, threshold, terms, off, version, updated_at, updated_by`

var scanScorecard = pgx.RowToStructByPos[revision.Scorecard]

// Scorecards implements [revision.CategoryStore].
func (s *Store) Scorecards(ctx context.Context) ([]revision.Scorecard, error) {
	rows, err := s.pool.Query(ctx, `select `+scorecardColumns+` from scorecards order by lower(name)`)
	return all(rows, err, scanScorecard)
}

// AddScorecard implements [revision.CategoryStore].
func (s *Store) AddScorecard(ctx context.Context, made revision.ScorecardEdit, by string) (added revision.Scorecard, err error) {
	err = s.classify(ctx, func(tx pgx.Tx, version int64) error {
		rows, err := tx.Query(ctx, `insert into scorecards (name, description, category, threshold, terms, off, version, updated_by)
			values ($1, coalesce($2, ''), $3, $4, $5, coalesce($6, false), $7, $8) returning `+scorecardColumns,
			made.Name, made.Description, made.Category, made.Threshold, *made.Terms, made.Off, version, by)
		added, err = one(rows, err, scanScorecard)
		return err
	})
	return added, err
}

// EditScorecard implements [revision.CategoryStore].
func (s *Store) EditScorecard(ctx context.Context, id uuid.UUID, edit revision.ScorecardEdit, seen int64, by string) (edited revision.Scorecard, err error) {
	err = s.classify(ctx, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "scorecards", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `update scorecards set name = coalesce($2, name), description = coalesce($3, description), category = coalesce($4, category),
			threshold = coalesce($5, threshold), terms = coalesce($6, terms), off = coalesce($7, off), version = $8, updated_at = now(), updated_by = $9
			where id = $1 returning `+scorecardColumns, id, edit.Name, edit.Description, edit.Category, edit.Threshold, edit.Terms, edit.Off, version, by)
		edited, err = one(rows, err, scanScorecard)
		return err
	})
	return edited, err
}

// RemoveScorecard implements [revision.CategoryStore].
func (s *Store) RemoveScorecard(ctx context.Context, id uuid.UUID, seen int64) error {
	return s.removeLocal(ctx, "scorecards", id, seen)
}

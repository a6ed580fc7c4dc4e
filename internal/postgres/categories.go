package postgres

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/revision"
)

const correctionColumns = `id, uid, entry, categories, reason, at, by`

func scanCorrection(row pgx.CollectableRow) (c revision.Correction, err error) {
	var entry string
	if err := row.Scan(&c.ID, &c.UID, &entry, &c.Categories, &c.Reason, &c.At, &c.By); err != nil {
		return c, err
	}
	c.Entry = keptPattern(entry)
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
func (s *Store) AddCorrections(ctx context.Context, entries []pattern.Pattern, categories []string, reason string, by access.Actor) (made []revision.Correction, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		for _, entry := range entries {
			rows, err := tx.Query(ctx, `with before as (delete from corrections where key = $2 returning uid)
				insert into corrections (entry, key, categories, reason, by, version, at, uid)
				values ($1, $2, $3, $4, $5, $6, clock_timestamp(), coalesce((select uid from before), gen_random_uuid())) returning `+correctionColumns, entry.String(), entry.Key(), categories, reason, by.Name(), version)
			one, err := one(rows, err, scanCorrection)
			if err != nil {
				return err
			}
			made = append(made, one)
		}
		return nil
	})
	return made, ours(err)
}

// RemoveCorrection implements [revision.CategoryStore].
func (s *Store) RemoveCorrection(ctx context.Context, id int64, by access.Actor) error {
	return s.edit(ctx, by, func(tx pgx.Tx, _ int64) error {
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
	rows, err := q.Query(ctx, `select `+ownCategoryColumns+` from own_categories c order by lower(name)`)
	return all(rows, err, scanOwnCategory)
}

// ownCategoryColumns are those of a category c, its lists as pairs of id and name.
const ownCategoryColumns = `c.id, c.key, c.name, c.description, c.family, c.adds, c.version, c.updated_at, c.updated_by,
	c.lists, array(select coalesce(l.name, '') from unnest(c.lists) with ordinality u (id, place) left join lists l using (id) order by place)`

func scanOwnCategory(row pgx.CollectableRow) (c revision.OwnCategory, err error) {
	var ids []uuid.UUID
	var names []string
	err = row.Scan(&c.ID, &c.Key, &c.Name, &c.Description, &c.Family, &c.Adds, &c.Version, &c.UpdatedAt, &c.UpdatedBy, &ids, &names)
	c.Lists = make([]revision.ListRef, len(ids))
	for i, id := range ids {
		c.Lists[i] = revision.ListRef{ID: id, Name: names[i]}
	}
	return c, err
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
func (s *Store) AddOwnCategory(ctx context.Context, made revision.OwnCategoryEdit, by access.Actor) (added revision.OwnCategory, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		var id uuid.UUID
		err := tx.QueryRow(ctx, `insert into own_categories (key, name, description, family, adds, version, updated_by)
			values ($1, $2, coalesce($3, ''), coalesce($4, ''), coalesce($5, false), $6, $7) returning id`,
			revision.KeyOf(*made.Name), made.Name, made.Description, made.Family, made.Adds, version, by.Name()).Scan(&id)
		if err == nil {
			err = replaceLists(ctx, tx, id, made.Lists)
		}
		if err == nil {
			added, err = ownCategory(ctx, tx, id)
		}
		return err
	})
	return added, ours(err)
}

// EditOwnCategory implements [revision.CategoryStore].
func (s *Store) EditOwnCategory(ctx context.Context, id uuid.UUID, edit revision.OwnCategoryEdit, seen int64, by access.Actor) (edited revision.OwnCategory, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "own_categories", id, seen); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update own_categories set name = coalesce($2, name), description = coalesce($3, description), family = coalesce($4, family),
			adds = coalesce($5, adds), version = $6, updated_at = now(), updated_by = $7 where id = $1`,
			id, edit.Name, edit.Description, edit.Family, edit.Adds, version, by.Name())
		if err == nil && edit.Lists != nil {
			err = replaceLists(ctx, tx, id, edit.Lists)
		}
		if err == nil {
			edited, err = ownCategory(ctx, tx, id)
		}
		return err
	})
	return edited, ours(err)
}

func replaceLists(ctx context.Context, tx pgx.Tx, id uuid.UUID, lists *[]uuid.UUID) error {
	if lists == nil {
		return nil
	}
	for i, list := range *lists {
		there, err := tx.Exec(ctx, `select from lists where id = $1 for share`, list)
		if err != nil {
			return err
		}
		if there.RowsAffected() == 0 {
			return &revision.FieldError{Field: fmt.Sprintf("lists[%d]", i), Msg: "there is no such list"}
		}
	}
	_, err := tx.Exec(ctx, `update own_categories set lists = $2 where id = $1`, id, *lists)
	return err
}

// RemoveOwnCategory implements [revision.CategoryStore]. Corrections and scorecards may go on naming it.
func (s *Store) RemoveOwnCategory(ctx context.Context, id uuid.UUID, seen int64, by access.Actor) error {
	return s.removeLocal(ctx, revision.KindCategory, id, seen, by)
}

// removeLocal deletes a correction, a category of our own or a scorecard.
func (s *Store) removeLocal(ctx context.Context, kind revision.Kind, id uuid.UUID, seen int64, by access.Actor) error {
	table := tableOf[kind]
	return s.edit(ctx, by, func(tx pgx.Tx, _ int64) error {
		if err := lockVersion(ctx, tx, table, id, seen); err != nil {
			return err
		}
		if err := inUse(ctx, tx, kind, id); err != nil {
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
func (s *Store) AddScorecard(ctx context.Context, made revision.ScorecardEdit, by access.Actor) (added revision.Scorecard, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		rows, err := tx.Query(ctx, `insert into scorecards (name, description, category, threshold, terms, off, version, updated_by)
			values ($1, coalesce($2, ''), $3, $4, $5, coalesce($6, false), $7, $8) returning `+scorecardColumns,
			made.Name, made.Description, made.Category, made.Threshold, *made.Terms, made.Off, version, by.Name())
		added, err = one(rows, err, scanScorecard)
		return err
	})
	return added, ours(err)
}

// EditScorecard implements [revision.CategoryStore].
func (s *Store) EditScorecard(ctx context.Context, id uuid.UUID, edit revision.ScorecardEdit, seen int64, by access.Actor) (edited revision.Scorecard, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "scorecards", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `update scorecards set name = coalesce($2, name), description = coalesce($3, description), category = coalesce($4, category),
			threshold = coalesce($5, threshold), terms = coalesce($6, terms), off = coalesce($7, off), version = $8, updated_at = now(), updated_by = $9
			where id = $1 returning `+scorecardColumns, id, edit.Name, edit.Description, edit.Category, edit.Threshold, edit.Terms, edit.Off, version, by.Name())
		edited, err = one(rows, err, scanScorecard)
		return err
	})
	return edited, ours(err)
}

// RemoveScorecard implements [revision.CategoryStore].
func (s *Store) RemoveScorecard(ctx context.Context, id uuid.UUID, seen int64, by access.Actor) error {
	return s.removeLocal(ctx, revision.KindScorecard, id, seen, by)
}

package postgres

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
)

// History implements [revision.Store].
func (s *Store) History(ctx context.Context, id uuid.UUID, before int64, limit int) ([]revision.Change, error) {
	if err := s.exists(ctx, id); err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx, `select version, at, by, what, detail, added, edited, removed from list_changes
		where list_id = $1 and ($2::bigint = 0 or version < $2) and not exists (select from edits e where e.version = list_changes.version and e.aside) order by version desc limit $3`, id, before, limit)
	return all(rows, err, pgx.RowToStructByPos[revision.Change])
}

// at is the condition for entries that held at a version.
func at(version string) string {
	return `e.list_id = $1 and e.since <= ` + version + ` and (e.gone is null or e.gone > ` + version + `)`
}

// differing joins the entries that differ between two states: rows are distinguished by when they began. Only rows
// that began or ended between the two are read, so the cost of a comparison is that of its result.
var differing = `from (select e.* from entries e where ` + at("$2") + ` and e.gone is not null and e.gone <= greatest($2, $3)) a
	full join (select e.* from entries e where ` + at("$3") + ` and e.since > least($2, $3)) b on b.id = a.id
	where (a.pattern, a.carve_out, a.until, a.off, a.note) is distinct from (b.pattern, b.carve_out, b.until, b.off, b.note)`

// Compare implements [revision.Store]. Versions may be given in either order; later entries are after earlier ones.
func (s *Store) Compare(ctx context.Context, id uuid.UUID, from, to, after int64, limit int) (found []revision.Difference, total int64, err error) {
	if err := s.exists(ctx, id); err != nil {
		return nil, 0, err
	}
	swapped := from > to
	if swapped {
		from, to = to, from
	}
	if err := s.pool.QueryRow(ctx, `select count(*) `+differing, id, from, to).Scan(&total); err != nil {
		return nil, 0, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select coalesce(a.id, b.id), a.id is not null, b.id is not null,
		coalesce(a.pattern, ''), coalesce(a.carve_out, false), a.until, coalesce(a.off, false), coalesce(a.note, ''),
		coalesce(b.pattern, ''), coalesce(b.carve_out, false), b.until, coalesce(b.off, false), coalesce(b.note, '') `+differing+`
		and coalesce(a.id, b.id) > $4 order by 1 limit $5`, id, from, to, after, limit)
	found, err = all(rows, err, scanDifference)
	for i := range found {
		if swapped {
			found[i].Before, found[i].After = found[i].After, found[i].Before
		}
	}
	return found, total, err
}

// TakeBack implements [revision.Store].
func (s *Store) TakeBack(ctx context.Context, id uuid.UUID, to, seen int64, by access.Actor) (after revision.List, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		var known bool
		if err := tx.QueryRow(ctx, `select exists (select from list_changes where list_id = $1 and version = $2)`, id, to).Scan(&known); err != nil {
			return err
		}
		if !known {
			return &revision.FieldError{Field: "version", Msg: "the list has no such version; its history names them"}
		}
		entries, notes, change, err := takeBack(ctx, tx, id, to, version)
		if err != nil {
			return err
		}
		change.By, change.Detail = by.Name(), fmt.Sprintf("to version %d", to)
		after, err = settle(ctx, tx, id, entries, notes, change)
		return err
	})
	return after, ours(err)
}

// takeBack restores the entries of a list to a version. It returns the changes of the counts of entries and notes.
func takeBack(ctx context.Context, tx pgx.Tx, id uuid.UUID, to, version int64) (entries, notes int64, change revision.Change, err error) {
	// Entries added since are removed; entries removed since are added again, under their old ids.
	rows, err := tx.Query(ctx, `with closed as (
			update entries e set gone = $3 where e.list_id = $1 and e.gone is null and e.since > $2 returning e.kind)
		select count(*) filter (where kind <> 'note'), count(*) filter (where kind = 'note') from closed`, id, to, version)
	if err != nil {
		return 0, 0, change, err
	}
	entriesGone, notesGone, err := scanTwo(rows)
	if err != nil {
		return 0, 0, change, err
	}
	rows, err = tx.Query(ctx, `with again as (
			insert into entries (list_id, id, since, kind, carve_out, off, until, pattern, key, note)
			select list_id, id, $3, kind, carve_out, off, until, pattern, key, note from entries e
			where `+at("$2")+` and e.gone is not null returning kind)
		select count(*) filter (where kind <> 'note'), count(*) filter (where kind = 'note') from again`, id, to, version)
	if err != nil {
		return 0, 0, change, err
	}
	entriesAgain, notesAgain, err := scanTwo(rows)
	change = revision.Change{Version: version, What: revision.ChangeTakenBack, Added: entriesAgain + notesAgain, Removed: entriesGone + notesGone}
	return entriesAgain - entriesGone, notesAgain - notesGone, change, err
}

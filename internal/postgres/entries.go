package postgres

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// entryColumns are what a pattern.Entry is put together from, in the order that parts.entry scans.
const entryColumns = `pattern, carve_out, until, off, note`

// parts is an entry as the table keeps it.
type parts struct {
	pattern  string
	carveOut bool
	until    *time.Time
	off      bool
	note     string
}

func (p *parts) targets() []any { return []any{&p.pattern, &p.carveOut, &p.until, &p.off, &p.note} }

func (p *parts) entry() (pattern.Entry, error) {
	entry := pattern.Entry{CarveOut: p.carveOut, Off: p.off, Note: p.note}
	if p.until != nil {
		entry.Until = pattern.DateOf(*p.until)
	}
	if p.pattern == "" {
		return entry, nil
	}
	read, err := pattern.Parse(p.pattern)
	if err != nil {
		return entry, fmt.Errorf("a kept entry cannot be read any more: %s: %w", p.pattern, err)
	}
	entry.Pattern = read.Pattern
	return entry, nil
}

// Entries implements [revision.Store].
func (s *Store) Entries(ctx context.Context, id uuid.UUID, q revision.EntryQuery) ([]revision.Entry, int64, error) {
	if err := s.exists(ctx, id); err != nil {
		return nil, 0, err
	}
	where := `list_id = $1 and ($2 = '' or pattern ilike $2 or note ilike $2 or key ilike $2) and ($3 = '' or kind = $3)`
	like := containing(q.Text)
	var total int64
	if err := s.pool.QueryRow(ctx, `select count(*) from entries where `+where, id, like, q.Kind).Scan(&total); err != nil {
		return nil, 0, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select id, position, added_at, added_by, `+entryColumns+` from entries
		where `+where+` and position > $4 order by position limit $5`, id, like, q.Kind, q.After, q.Limit)
	entries, err := all(rows, err, func(row pgx.CollectableRow) (e revision.Entry, err error) {
		var p parts
		if err = row.Scan(append([]any{&e.ID, &e.Position, &e.AddedAt, &e.AddedBy}, p.targets()...)...); err == nil {
			e.Entry, err = p.entry()
		}
		return e, err
	})
	return entries, total, err
}

// containing makes a LIKE pattern for texts that hold another; "" for "".
func containing(text string) string {
	if text == "" {
		return ""
	}
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
}

// FindEntries implements [revision.Store]. It reads every entry: a second or so for a million.
func (s *Store) FindEntries(ctx context.Context, text string, after int64, limit int) ([]revision.FoundEntry, error) {
	rows, err := s.pool.Query(ctx, `select e.id, e.position, e.added_at, e.added_by, `+entryColumns+`, l.id, l.name
		from entries e join lists l on l.id = e.list_id
		where (e.pattern ilike $1 or e.note ilike $1 or e.key ilike $1) and e.id > $2 order by e.id limit $3`, containing(text), after, limit)
	return all(rows, err, func(row pgx.CollectableRow) (f revision.FoundEntry, err error) {
		var p parts
		to := append([]any{&f.ID, &f.Position, &f.AddedAt, &f.AddedBy}, p.targets()...)
		if err = row.Scan(append(to, &f.List.ID, &f.List.Name)...); err == nil {
			f.Entry.Entry, err = p.entry()
		}
		return f, err
	})
}

// EachEntry implements [revision.Store]. It streams, so a list of any size takes little memory.
func (s *Store) EachEntry(ctx context.Context, id uuid.UUID, each func(pattern.Entry) error) error {
	if err := s.exists(ctx, id); err != nil {
		return err
	}
	rows, err := s.pool.Query(ctx, `select `+entryColumns+` from entries where list_id = $1 order by position`, id)
	if err != nil {
		return err
	}
	var p parts
	_, err = pgx.ForEachRow(rows, p.targets(), func() error {
		entry, err := p.entry()
		if err != nil {
			return err
		}
		return each(entry)
	})
	return err
}

// What becomes of incoming entries, in terms of incoming i and the list's entries e. Each is a condition of its own, since an
// "or" between anti-joins would be looked up row by row.
const (
	newEntry = `i.key is not null and not exists (select from entries e where e.list_id = $1 and e.key = i.key)`
	newNote  = `i.key is null and not exists (select from entries e where e.list_id = $1 and e.key is null and e.note = i.note)`
	saysMore = `e.list_id = $1 and e.key = i.key
		and (i.note <> '' and i.note <> e.note or i.until <> e.until or i.until is not null and e.until is null or i.off and not e.off)`
	notGiven = `e.list_id = $1 and e.key is not null and not exists (select from incoming i where i.key = e.key)`
)

// MergeEntries implements [revision.Store]. The entries go by COPY into a table of the transaction, and from there in a few
// statements into the list, so a hundred thousand take about as long as the indexes need. Precondition: no key twice.
func (s *Store) MergeEntries(ctx context.Context, id uuid.UUID, entries []pattern.Entry, how revision.Merging, seen int64, by string) (after revision.List, merged revision.Merged, err error) {
	if how.Preview {
		err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
			if after, err = list(ctx, tx, id); err == nil {
				merged, err = countMerge(ctx, tx, id, entries, how)
			}
			return err
		})
	} else {
		err = s.edit(ctx, func(tx pgx.Tx, version int64) error {
			if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
				return err
			}
			if merged, err = merge(ctx, tx, id, entries, how, by); err == nil {
				after, err = settle(ctx, tx, id, merged.Added-merged.Removed, merged.Notes, int64(len(entries)), version, by)
			}
			return err
		})
	}
	merged.Same = -merged.Added - merged.Updated
	for _, entry := range entries {
		if entry.Kind() != pattern.Note {
			merged.Same++
		}
	}
	return after, merged, ours(err)
}

// countMerge tells what merge would do.
func countMerge(ctx context.Context, tx pgx.Tx, id uuid.UUID, entries []pattern.Entry, how revision.Merging) (m revision.Merged, err error) {
	if err := copyIncoming(ctx, tx, entries); err != nil {
		return m, err
	}
	err = tx.QueryRow(ctx, `select
		(select count(*) from incoming i where `+newEntry+`),
		(select count(*) from incoming i where `+newNote+`),
		(select count(*) from incoming i, entries e where `+saysMore+`),
		case when $2 then (select count(*) from entries e where `+notGiven+`) else 0 end`, id, how.Replace).
		Scan(&m.Added, &m.Notes, &m.Updated, &m.Removed)
	return m, err
}

func merge(ctx context.Context, tx pgx.Tx, id uuid.UUID, entries []pattern.Entry, how revision.Merging, by string) (m revision.Merged, err error) {
	if err := copyIncoming(ctx, tx, entries); err != nil {
		return m, err
	}
	if how.Replace {
		removed, err := tx.Exec(ctx, `delete from entries e where `+notGiven, id)
		if err != nil {
			return m, err
		}
		m.Removed = removed.RowsAffected()
	}
	updated, err := tx.Exec(ctx, `update entries e set
			note = case when i.note = '' then e.note else i.note end,
			until = coalesce(i.until, e.until),
			off = e.off or i.off
		from incoming i where `+saysMore, id)
	if err != nil {
		return m, err
	}
	m.Updated = updated.RowsAffected()
	rows, err := tx.Query(ctx, `with fresh as (
			select * from incoming i where `+newEntry+` union all select * from incoming i where `+newNote+`
		), added as (
			insert into entries (list_id, position, kind, key, pattern, carve_out, until, off, note, added_by)
			select l.id, l.next_position + i.ord, i.kind, i.key, i.pattern, i.carve_out, i.until, i.off, i.note, $2
			from fresh i cross join lists l where l.id = $1
			order by i.ord
			returning key)
		select count(key), count(*) - count(key) from added`, id, by)
	if err != nil {
		return m, err
	}
	m.Added, m.Notes, err = scanTwo(rows)
	return m, err
}

func scanTwo(rows pgx.Rows) (a, b int64, err error) {
	_, err = pgx.ForEachRow(rows, []any{&a, &b}, func() error { return nil })
	return a, b, err
}

func copyIncoming(ctx context.Context, tx pgx.Tx, entries []pattern.Entry) error {
	_, err := tx.Exec(ctx, `create temporary table incoming (
		ord bigint, kind text, key text, pattern text, carve_out boolean, until date, off boolean, note text) on commit drop`)
	if err != nil {
		return err
	}
	rows := pgx.CopyFromSlice(len(entries), func(i int) ([]any, error) {
		e := entries[i]
		var key *string
		if text := e.Key(); text != "" {
			key = &text
		}
		var until *time.Time
		if !e.Until.IsZero() {
			day := e.Until.Time()
			until = &day
		}
		return []any{int64(i), string(e.Kind()), key, e.Pattern.String(), e.CarveOut, until, e.Off, e.Note}, nil
	})
	columns := []string{"ord", "kind", "key", "pattern", "carve_out", "until", "off", "note"}
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, columns, rows); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `analyze incoming`) // else the planner takes it for empty and loops
	return err
}

// settle brings the list's row up to date after its entries changed.
func settle(ctx context.Context, tx pgx.Tx, id uuid.UUID, entries, notes, positions, version int64, by string) (revision.List, error) {
	_, err := tx.Exec(ctx, `update lists set entry_count = entry_count + $2, note_count = note_count + $3,
		next_position = next_position + $4, version = $5, updated_at = now(), updated_by = $6 where id = $1`,
		id, entries, notes, positions, version, by)
	if err != nil {
		return revision.List{}, err
	}
	return list(ctx, tx, id)
}

// RemoveEntries implements [revision.Store].
func (s *Store) RemoveEntries(ctx context.Context, id uuid.UUID, removal revision.Removal, seen int64, by string) (after revision.List, removed int64, err error) {
	err = s.edit(ctx, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `with gone as (
				delete from entries where list_id = $1 and (id = any($2) or key = any($3)) returning key)
			select count(key), count(*) - count(key) from gone`, id, removal.IDs, removal.Keys)
		if err != nil {
			return err
		}
		entries, notes, err := scanTwo(rows)
		if err != nil {
			return err
		}
		removed = entries + notes
		after, err = settle(ctx, tx, id, -entries, -notes, 0, version, by)
		return err
	})
	return after, removed, ours(err)
}

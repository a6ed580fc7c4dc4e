package postgres

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// Rewrite implements [revision.Store]. Lines that stay in their order keep their ids. Ids are places, so where something new
// stands before a line that was there, that line and those after it come again under new ids.
func (s *Store) Rewrite(ctx context.Context, id uuid.UUID, lines []pattern.Entry, seen int64, by access.Actor) (after revision.List, merged revision.Merged, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		before, err := list(ctx, tx, id)
		if err != nil {
			return err
		}
		if before.EntryCount+before.NoteCount > revision.MaxText {
			return &revision.FieldError{Msg: "the list is too long to be written anew as one text; edit it entry by entry, or import a file"}
		}
		after, merged, err = rewrite(ctx, tx, before, lines, version, by.Name())
		return err
	})
	return after, merged, ours(err)
}

// rewrite replaces the lines of a list.
func rewrite(ctx context.Context, tx pgx.Tx, before revision.List, lines []pattern.Entry, version int64, by string) (after revision.List, merged revision.Merged, err error) {
	id := before.ID
	rows, err := tx.Query(ctx, `select e.id, `+entryColumns+` from entries e where `+live+` order by e.id`, id)
	if err != nil {
		return after, merged, err
	}
	var old []kept
	var one kept
	var p parts
	if _, err = pgx.ForEachRow(rows, append([]any{&one.id}, p.targets()...), func() error {
		one.entry = p.entry()
		old = append(old, one)
		return nil
	}); err != nil {
		return after, merged, err
	}
	change := rewritten(old, lines)
	if _, err := tx.Exec(ctx, `update entries e set gone = $2 where `+live+` and e.id = any($3)`, id, version, change.closed); err != nil {
		return after, merged, err
	}
	var from int64
	if err := tx.QueryRow(ctx, `select setval('entry_ids', nextval('entry_ids') + $1)`, len(lines)).Scan(&from); err != nil {
		return after, merged, err
	}
	from -= int64(len(lines))
	batch := make([][]any, 0, len(change.added))
	for _, add := range change.added {
		e := add.entry
		place := add.id
		if place == 0 {
			from++
			place = from
		}
		batch = append(batch, row(id, place, version, e))
	}
	columns := []string{"list_id", "id", "since", "kind", "carve_out", "off", "until", "pattern", "key", "note"}
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"entries"}, columns, pgx.CopyFromRows(batch)); err != nil {
		return after, merged, err
	}
	merged = change.merged
	entries, notes := int64(0), int64(0)
	for _, e := range lines {
		if e.Kind() == pattern.Note {
			notes++
		} else {
			entries++
		}
	}
	after, err = settle(ctx, tx, id, entries-before.EntryCount, notes-before.NoteCount, revision.Change{
		Version: version, By: by, What: revision.ChangeEdited, Detail: "as text",
		Added: merged.Added + merged.Notes, Edited: merged.Updated, Removed: merged.Removed,
	})
	return after, merged, err
}

// row is an entry as the table keeps it.
func row(list uuid.UUID, id, version int64, e pattern.Entry) []any {
	var key *string
	if k := e.Key(); k != "" && k != e.Pattern.String() {
		key = &k
	}
	var until *time.Time
	if !e.Until.IsZero() {
		day := e.Until.Time()
		until = &day
	}
	return []any{list, id, version, string(e.Kind()), e.CarveOut, e.Off, until, e.Pattern.String(), key, e.Note}
}

// kept is an entry with its id; 0 if it has none yet.
type kept struct {
	id    int64
	entry pattern.Entry
}

// rewriting is the edits that turn one text into another.
type rewriting struct {
	closed []int64 // ids that go
	added  []kept  // what comes, in order; what keeps its id was closed before
	merged revision.Merged
}

func rewritten(old []kept, lines []pattern.Entry) (r rewriting) {
	key := func(e pattern.Entry) string {
		if k := e.Key(); k != "" {
			return k
		}
		return "# " + e.Note
	}
	was := map[string][]int{} // positions in old, by what makes entries the same
	for i, o := range old {
		was[key(o.entry)] = append(was[key(o.entry)], i)
	}
	last := -1
	moving := false // from here on every line comes again, since something new stands before it
	stays := make([]bool, len(old))
	type placed struct {
		entry pattern.Entry
		old   int // -1 for a new line
	}
	order := make([]placed, len(lines))
	for i, e := range lines {
		order[i] = placed{e, -1}
		if at := was[key(e)]; len(at) > 0 {
			order[i].old, was[key(e)] = at[0], at[1:]
		}
	}
	lastOld := -1
	for i, line := range order {
		if line.old >= 0 {
			lastOld = i // nothing after it needs a place before an old line
		}
	}
	for i, line := range order {
		switch {
		case line.old < 0:
			moving = moving || i < lastOld
			r.added = append(r.added, kept{0, line.entry})
			if line.entry.Kind() == pattern.Note {
				r.merged.Notes++
			} else {
				r.merged.Added++
			}
			continue
		case line.old < last:
			moving = true
		}
		o := old[line.old]
		same := o.entry == line.entry
		if !same {
			r.merged.Updated++
		} else if line.entry.Kind() != pattern.Note {
			r.merged.Same++
		}
		last = max(last, line.old)
		stays[line.old] = true
		switch {
		case moving:
			r.closed = append(r.closed, o.id)
			r.added = append(r.added, kept{0, line.entry})
		case !same:
			r.closed = append(r.closed, o.id)
			r.added = append(r.added, kept{o.id, line.entry})
		}
	}
	for i, o := range old {
		if !stays[i] {
			r.closed = append(r.closed, o.id)
			r.merged.Removed++
		}
	}
	return r
}

package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// entryColumns are what a pattern.Entry is put together from, in the order that parts.entry scans.
const entryColumns = `e.pattern, e.carve_out, e.until, e.off, e.note`

// parts is an entry as the table keeps it.
type parts struct {
	pattern  string
	carveOut bool
	until    *time.Time
	off      bool
	note     string
}

func (p *parts) targets() []any { return []any{&p.pattern, &p.carveOut, &p.until, &p.off, &p.note} }

// entry puts an entry together. A pattern that cannot be read comes back as [pattern.Unread].
func (p *parts) entry() pattern.Entry {
	entry := pattern.Entry{CarveOut: p.carveOut, Off: p.off, Note: p.note}
	if p.until != nil {
		entry.Until = pattern.DateOf(*p.until)
	}
	if p.pattern != "" {
		entry.Pattern = keptPattern(p.pattern)
	}
	return entry
}

// keptPattern reads a pattern as it is kept.
func keptPattern(text string) pattern.Pattern {
	read, err := pattern.Parse(text)
	if err != nil || !read.Pattern.IsValid() || read != (pattern.Entry{Pattern: read.Pattern}) {
		return pattern.Unread(text)
	}
	return read.Pattern
}

// matching is the condition for the entries e of a search: $2 is a LIKE pattern or "", $3 a kind or "".
const matching = `e.gone is null and ($2 = '' or e.pattern ilike $2 or e.note ilike $2 or e.key ilike $2) and ($3 = '' or e.kind = $3)`

// Entries implements [revision.Store].
func (s *Store) Entries(ctx context.Context, id uuid.UUID, q revision.EntryQuery) ([]revision.Entry, int64, error) {
	l, err := s.List(ctx, id)
	if err != nil {
		return nil, 0, err
	}
	like := containing(q.Text)
	total := l.EntryCount + l.NoteCount
	if like != "" || q.Kind != "" {
		if err := s.pool.QueryRow(ctx, `select count(*) from entries e where e.list_id = $1 and `+matching, id, like, q.Kind).Scan(&total); err != nil {
			return nil, 0, ours(err)
		}
	}
	rows, err := s.pool.Query(ctx, `select e.id, c.at, c.by, `+entryColumns+` from entries e
		join list_changes c on c.list_id = e.list_id and c.version = e.since
		where e.list_id = $1 and `+matching+` and e.id > $4 order by e.id limit $5`, id, like, q.Kind, q.After, q.Limit)
	entries, err := all(rows, err, func(row pgx.CollectableRow) (e revision.Entry, err error) {
		var p parts
		if err = row.Scan(append([]any{&e.ID, &e.AddedAt, &e.AddedBy}, p.targets()...)...); err == nil {
			e.Entry = p.entry()
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
	rows, err := s.pool.Query(ctx, `select e.id, c.at, c.by, `+entryColumns+`, l.id, l.name
		from entries e join lists l on l.id = e.list_id join list_changes c on c.list_id = e.list_id and c.version = e.since
		where e.gone is null and (e.pattern ilike $1 or e.note ilike $1 or e.key ilike $1) and e.id > $2 order by e.id limit $3`,
		containing(text), after, limit)
	return all(rows, err, func(row pgx.CollectableRow) (f revision.FoundEntry, err error) {
		var p parts
		to := append([]any{&f.ID, &f.AddedAt, &f.AddedBy}, p.targets()...)
		if err = row.Scan(append(to, &f.List.ID, &f.List.Name)...); err == nil {
			f.Entry.Entry = p.entry()
		}
		return f, err
	})
}

// KeptAs implements [revision.Store].
func (s *Store) KeptAs(ctx context.Context, id uuid.UUID, texts []string) (map[string][]int64, error) {
	patterns, carveOuts := make([]string, len(texts)), make([]bool, len(texts))
	for i, text := range texts {
		patterns[i], carveOuts[i] = pattern.CutCarveOut(text)
	}
	rows, err := s.pool.Query(ctx, `select t.text, e.id from unnest($2::text[], $3::text[], $4::bool[]) t(text, pattern, carve_out)
		join entries e on e.pattern = t.pattern and e.carve_out = t.carve_out where e.list_id = $1 and e.gone is null`, id, texts, patterns, carveOuts)
	found := map[string][]int64{}
	var text string
	var entry int64
	if err == nil {
		_, err = pgx.ForEachRow(rows, []any{&text, &entry}, func() error {
			found[text] = append(found[text], entry)
			return nil
		})
	}
	return found, ours(err)
}

// EachEntry implements [revision.Store]. It streams, so a list of any size takes little memory.
func (s *Store) EachEntry(ctx context.Context, id uuid.UUID, each func(id int64, entry pattern.Entry) error) error {
	if err := s.exists(ctx, id); err != nil {
		return err
	}
	rows, err := s.pool.Query(ctx, `select e.id, `+entryColumns+` from entries e where e.list_id = $1 and e.gone is null order by e.id`, id)
	if err != nil {
		return err
	}
	var at int64
	var p parts
	_, err = pgx.ForEachRow(rows, append([]any{&at}, p.targets()...), func() error {
		return each(at, p.entry())
	})
	return err
}

// What becomes of incoming entries, in terms of incoming i and the list's entries e. Each is a separate condition, because an
// "or" between anti-joins would be evaluated row by row.
const (
	live     = `e.list_id = $1 and e.gone is null`
	sameKey  = `hashtextextended(coalesce(e.key, e.pattern), 0) = hashtextextended(i.key, 0) and coalesce(e.key, e.pattern) = i.key`
	newEntry = `i.kind <> 'note' and not exists (select from entries e where ` + live + ` and ` + sameKey + `)`
	newNote  = `i.kind = 'note' and not exists (select from entries e where ` + live + ` and e.kind = 'note' and e.note = i.note)`
	saysMore = live + ` and e.kind <> 'note' and ` + sameKey + `
		and (i.note <> '' and i.note <> e.note or i.until <> e.until or i.until is not null and e.until is null or i.off and not e.off)`
	notGiven = live + ` and e.kind <> 'note' and not exists (select from incoming i where ` + sameKey + `)`
)

// MergeEntries implements [revision.Store]. Into an empty list the entries go by COPY; into another by COPY into a table of the
// transaction, and from there in a few statements into the list.
func (s *Store) MergeEntries(ctx context.Context, id uuid.UUID, batch *revision.Batch, how revision.Merging, seen int64, by access.Actor) (after revision.List, merged revision.Merged, err error) {
	if how.Preview {
		err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
			if after, err = list(ctx, tx, id); err == nil {
				merged, err = countMerge(ctx, tx, id, batch, how)
			}
			return err
		})
	} else {
		err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
			if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
				return err
			}
			if merged, err = merge(ctx, tx, id, batch, how, version); err != nil {
				return err
			}
			change := revision.Change{
				Version: version, By: by.Name(), What: how.What, Detail: how.Detail,
				Added: merged.Added + merged.Notes, Edited: merged.Updated, Removed: merged.Removed,
			}
			switch {
			case change.What != "":
			case how.Replace:
				change.What = revision.ChangeReplaced
			default:
				change.What = revision.ChangeAdded
			}
			after, err = settle(ctx, tx, id, merged.Added-merged.Removed, merged.Notes, change)
			return err
		})
	}
	merged.Same = int64(batch.Count) - merged.Added - merged.Updated
	return after, merged, ours(err)
}

// countMerge counts what merge would do.
func countMerge(ctx context.Context, tx pgx.Tx, id uuid.UUID, batch *revision.Batch, how revision.Merging) (m revision.Merged, err error) {
	if err := copyIncoming(ctx, tx, batch); err != nil {
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

func merge(ctx context.Context, tx pgx.Tx, id uuid.UUID, batch *revision.Batch, how revision.Merging, version int64) (m revision.Merged, err error) {
	var from int64
	var empty bool
	err = tx.QueryRow(ctx, `select setval('entry_ids', nextval('entry_ids') + $2), not exists (select from entries e where `+live+`)`,
		id, batch.Len()).Scan(&from, &empty)
	if err != nil {
		return m, err
	}
	from -= int64(batch.Len())
	if empty && !batch.HasAgain() {
		into, attach, err := intoPart(ctx, tx, id, batch.Len())
		if err != nil {
			return m, err
		}
		head := id.String() + "\t"
		tail := "\t" + strconv.FormatInt(version, 10) + "\t"
		err = copyRows(ctx, tx, `copy `+into+` (list_id, id, since, kind, carve_out, off, until, pattern, key, note) from stdin`, batch.Each, func(to []byte) []byte {
			from++
			return append(strconv.AppendInt(append(to, head...), from, 10), tail...)
		})
		if err == nil && attach != "" {
			_, err = tx.Exec(ctx, attach)
		}
		return revision.Merged{Added: int64(batch.Count), Notes: int64(batch.Len() - batch.Count)}, err
	}
	if err := copyIncoming(ctx, tx, batch); err != nil {
		return m, err
	}
	if how.Replace {
		removed, err := tx.Exec(ctx, `update entries e set gone = $2 where `+notGiven, id, version)
		if err != nil {
			return m, err
		}
		m.Removed = removed.RowsAffected()
	}
	updated, err := tx.Exec(ctx, `with more as (
			select e.*, i.note as new_note, i.until as new_until, i.off as new_off from incoming i, entries e where `+saysMore+`
		), closed as (
			update entries e set gone = $2 from more m where e.list_id = $1 and e.gone is null and e.id = m.id returning e.id)
		insert into entries (list_id, id, since, kind, carve_out, off, until, pattern, key, note)
		select m.list_id, m.id, $2, m.kind, m.carve_out, m.off or m.new_off, coalesce(m.new_until, m.until), m.pattern, m.key,
			case when m.new_note = '' then m.note else m.new_note end
		from more m join closed using (id)`, id, version)
	if err != nil {
		return m, err
	}
	m.Updated = updated.RowsAffected()
	rows, err := tx.Query(ctx, `with fresh as (
			select * from incoming i where `+newEntry+` union all select * from incoming i where `+newNote+`
		), added as (
			insert into entries (list_id, id, since, kind, carve_out, off, until, pattern, key, note)
			select $1, $3 + i.ord, $2, i.kind, i.carve_out, i.off, i.until, i.pattern, nullif(nullif(i.key, ''), i.pattern), i.note
			from fresh i order by i.ord
			returning kind)
		select count(*) filter (where kind <> 'note'), count(*) filter (where kind = 'note') from added`, id, version, from)
	if err != nil {
		return m, err
	}
	m.Added, m.Notes, err = scanTwo(rows)
	return m, err
}

// ownPart is the number of entries from which a list gets a partition of its own.
const ownPart = 50_000

// partOf returns the name of a large list's partition.
func partOf(id uuid.UUID) string { return "entries_" + strings.ReplaceAll(id.String(), "-", "") }

// intoPart returns the table into which so many entries of an empty list are copied and, if that is a new partition, the
// statements that index and attach it. A check constraint says that the partition holds only that list, so attaching needs no scan.
func intoPart(ctx context.Context, tx pgx.Tx, id uuid.UUID, entries int) (into, attach string, err error) {
	if entries < ownPart {
		return "entries", "", nil
	}
	name := partOf(id)
	var known, used bool
	err = tx.QueryRow(ctx, `select to_regclass($1) is not null, exists (select from entries where list_id = $2)`, name, id).Scan(&known, &used)
	if err != nil || known || used { // rows that are gone have to stay where they are
		return "entries", "", err
	}
	// The two partial indexes that are nearly empty in a new list exist before the rows: built afterwards, each would read all rows.
	_, err = tx.Exec(ctx, `create table `+name+` (like entries, constraint alone check (list_id = '`+id.String()+`'));
		create index on `+name+` (list_id, gone) where gone is not null;
		create index on `+name+` (list_id) where kind = 'note' and gone is null`)
	return name, `set local maintenance_work_mem = '128MB';
		create unique index on ` + name + ` (list_id, id) where gone is null;
		create index on ` + name + ` (hashtextextended(coalesce(key, pattern), 0)) where gone is null;
		create index on ` + name + ` using brin (since) with (pages_per_range = 32, autosummarize = on);
		analyze ` + name + `;
		alter table entries attach partition ` + name + ` for values in ('` + id.String() + `');
		alter table ` + name + ` drop constraint alone`, err
}

func scanTwo(rows pgx.Rows) (a, b int64, err error) {
	_, err = pgx.ForEachRow(rows, []any{&a, &b}, func() error { return nil })
	return a, b, err
}

// copyIncoming puts a batch into the table incoming, each entry once, with what later lines say about it.
func copyIncoming(ctx context.Context, tx pgx.Tx, batch *revision.Batch) error {
	_, err := tx.Exec(ctx, `create temporary table incoming (ord bigint, kind text, carve_out boolean, off boolean, until date,
		pattern text collate "C", key text collate "C", note text) on commit drop`)
	if err != nil {
		return err
	}
	ord := int64(0)
	numbered := func(to []byte) []byte {
		ord++
		return append(strconv.AppendInt(to, ord, 10), '\t')
	}
	const into = `copy incoming (ord, kind, carve_out, off, until, pattern, key, note) from stdin`
	if err := copyRows(ctx, tx, into, batch.Each, numbered); err != nil {
		return err
	}
	if batch.HasAgain() {
		if err := copyRows(ctx, tx, into, batch.EachAgain, numbered); err != nil {
			return err
		}
	}
	if _, err = tx.Exec(ctx, `update incoming set key = pattern where key is null and kind <> 'note'`); err != nil {
		return err
	}
	if batch.HasAgain() {
		_, err := tx.Exec(ctx, `create temporary table once on commit drop as
			select min(ord) as ord, (array_agg(kind order by ord))[1] as kind, bool_or(carve_out) as carve_out, bool_or(off) as off,
				(array_agg(until order by ord desc) filter (where until is not null))[1] as until,
				(array_agg(pattern order by ord))[1] as pattern, key,
				coalesce((array_agg(note order by ord desc) filter (where note <> ''))[1], '') as note
			from incoming where kind <> 'note' group by key;
			delete from incoming where kind <> 'note';
			insert into incoming (ord, kind, carve_out, off, until, pattern, key, note)
				select ord, kind, carve_out, off, until, pattern, key, note from once`)
		if err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, `analyze incoming`) // else the planner takes it for empty and loops
	return err
}

// copyRows sends rows in COPY's text format. head begins each row with what the table has before the kind.
func copyRows(ctx context.Context, tx pgx.Tx, into string, rows func(func(revision.Row) error) error, head func([]byte) []byte) error {
	return copyText(ctx, tx, into, func(out *bufio.Writer) error {
		var line []byte
		return rows(func(row revision.Row) error {
			line = head(line[:0])
			line = append(append(line, row.Kind...), '\t', boolean(row.CarveOut), '\t', boolean(row.Off), '\t')
			if row.Until.IsZero() {
				line = append(line, `\N`...)
			} else {
				line = append(line, row.Until.String()...)
			}
			line = appendText(append(line, '\t'), row.Pattern)
			line = append(line, '\t')
			if row.Key == "" {
				line = append(line, `\N`...)
			} else {
				line = appendText(line, row.Key)
			}
			line = append(appendText(append(line, '\t'), row.Note), '\n')
			_, err := out.Write(line)
			return err
		})
	})
}

// copyText sends COPY what write writes, while it is written. An error of write, which may also be a panic, is that of
// the copy.
func copyText(ctx context.Context, tx pgx.Tx, into string, write func(*bufio.Writer) error) error {
	r, w := io.Pipe()
	wrote := make(chan error, 1)
	go func() {
		err := fmt.Errorf("the rows for %s could not be written", into)
		defer func() {
			if cause := recover(); cause != nil {
				err = fmt.Errorf("%w: panic: %v\n%s", err, cause, debug.Stack())
			}
			wrote <- err
			_ = w.CloseWithError(err)
		}()
		out := bufio.NewWriterSize(w, 256<<10)
		if err = write(out); err == nil {
			err = out.Flush()
		}
	}()
	_, err := tx.Conn().PgConn().CopyFrom(ctx, r, into)
	_ = r.CloseWithError(io.ErrClosedPipe) // where COPY broke off, the writer must not wait
	if cause := <-wrote; cause != nil && !errors.Is(cause, io.ErrClosedPipe) {
		return cause // of which COPY only says that it was broken off
	}
	return err
}

func boolean(b bool) byte {
	if b {
		return 't'
	}
	return 'f'
}

// appendText escapes what has a meaning of its own in COPY's text format.
func appendText(to []byte, text string) []byte {
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '\\':
			to = append(to, '\\', '\\')
		case '\t':
			to = append(to, '\\', 't')
		case '\n':
			to = append(to, '\\', 'n')
		case '\r':
			to = append(to, '\\', 'r')
		default:
			to = append(to, c)
		}
	}
	return to
}

// settle updates the list's row after its entries changed, and records the change. entries and notes are the changes of the
// counts.
func settle(ctx context.Context, tx pgx.Tx, id uuid.UUID, entries, notes int64, change revision.Change) (revision.List, error) {
	_, err := tx.Exec(ctx, `update lists set entry_count = entry_count + $2, note_count = note_count + $3,
		version = $4, updated_at = now(), updated_by = $5 where id = $1`, id, entries, notes, change.Version, change.By)
	if err == nil {
		err = record(ctx, tx, id, change)
	}
	if err != nil {
		return revision.List{}, err
	}
	return list(ctx, tx, id)
}

// record adds a change to the list's history.
func record(ctx context.Context, tx pgx.Tx, id uuid.UUID, c revision.Change) error {
	_, err := tx.Exec(ctx, `insert into list_changes (list_id, version, by, what, detail, added, edited, removed)
		values ($1, $2, $3, $4, $5, $6, $7, $8)`, id, c.Version, c.By, c.What, c.Detail, c.Added, c.Edited, c.Removed)
	return err
}

// chosen is the condition for the entries e of a selection: see selected.
const chosen = matching + ` and e.list_id = $1 and ($4 or e.id = any($5) or coalesce(e.key, e.pattern) = any($6) and
	hashtextextended(coalesce(e.key, e.pattern), 0) = any(select hashtextextended(k, 0) from unnest($6::text[]) k))`

// selected returns the arguments of chosen.
func selected(id uuid.UUID, which revision.Selection) []any {
	return []any{id, containing(which.Text), which.Kind, which.All, which.IDs, which.Keys}
}

// RemoveEntries implements [revision.Store].
func (s *Store) RemoveEntries(ctx context.Context, id uuid.UUID, which revision.Selection, what string, seen int64, by access.Actor) (after revision.List, removed int64, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		after, removed, err = remove(ctx, tx, id, which, revision.Change{Version: version, By: by.Name(), What: what})
		return err
	})
	return after, removed, ours(err)
}

func remove(ctx context.Context, tx pgx.Tx, id uuid.UUID, which revision.Selection, change revision.Change) (revision.List, int64, error) {
	rows, err := tx.Query(ctx, `with closed as (update entries e set gone = $7 where `+chosen+` returning e.kind)
		select count(*) filter (where kind <> 'note'), count(*) filter (where kind = 'note') from closed`,
		append(selected(id, which), change.Version)...)
	if err != nil {
		return revision.List{}, 0, err
	}
	entries, notes, err := scanTwo(rows)
	if err != nil {
		return revision.List{}, 0, err
	}
	change.Removed = entries + notes
	after, err := settle(ctx, tx, id, -entries, -notes, change)
	return after, change.Removed, err
}

// EditEntries implements [revision.Store].
func (s *Store) EditEntries(ctx context.Context, id uuid.UUID, which revision.Selection, edit revision.EntryEdit, seen int64, by access.Actor) (after revision.List, edited int64, err error) {
	var until *time.Time
	if edit.Until != nil && !edit.Until.IsZero() {
		day := edit.Until.Time()
		until = &day
	}
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", id, seen); err != nil {
			return err
		}
		done, err := tx.Exec(ctx, `with before as (
				select e.*, coalesce($8, e.note) as new_note, case when $9 then $10::date else e.until end as new_until, coalesce($11, e.off) as new_off
				from entries e where `+chosen+` and e.kind <> 'note'
			), differing as (
				select * from before where (note, until, off) is distinct from (new_note, new_until, new_off)
			), closed as (
				update entries e set gone = $7 from differing d where e.list_id = $1 and e.gone is null and e.id = d.id returning e.id)
			insert into entries (list_id, id, since, kind, carve_out, off, until, pattern, key, note)
			select d.list_id, d.id, $7, d.kind, d.carve_out, d.new_off, d.new_until, d.pattern, d.key, d.new_note
			from differing d join closed using (id)`, append(selected(id, which), version, edit.Note, edit.Until != nil, until, edit.Off)...)
		if err != nil {
			return err
		}
		edited = done.RowsAffected()
		after, err = settle(ctx, tx, id, 0, 0, revision.Change{Version: version, By: by.Name(), What: revision.ChangeEdited, Edited: edited})
		return err
	})
	return after, edited, ours(err)
}

// CopyEntries implements [revision.Store]. What to has already stays as it is there, and goes from where it came all the same.
func (s *Store) CopyEntries(ctx context.Context, from, to uuid.UUID, which revision.Selection, move bool, seen int64, by access.Actor) (after revision.List, merged revision.Merged, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "lists", from, seen); err != nil {
			return err
		}
		source, err := list(ctx, tx, from)
		if err != nil {
			return err
		}
		if after, err = list(ctx, tx, to); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+entryColumns+` from entries e where `+chosen+` order by e.id`, selected(from, which)...)
		if err != nil {
			return err
		}
		var p parts
		batch := &revision.Batch{}
		_, err = pgx.ForEachRow(rows, p.targets(), func() error {
			_, err := batch.Add(p.entry())
			return err
		})
		if err != nil {
			return err
		}
		if merged, err = merge(ctx, tx, to, batch, revision.Merging{}, version); err != nil {
			return err
		}
		merged.Same = int64(batch.Count) - merged.Added - merged.Updated
		what, word := revision.ChangeAdded, "copied from "
		if move {
			what, word = revision.ChangeMoved, "from "
			change := revision.Change{Version: version, By: by.Name(), What: what, Detail: "to " + after.Name}
			if _, merged.Removed, err = remove(ctx, tx, from, which, change); err != nil {
				return err
			}
		}
		after, err = settle(ctx, tx, to, merged.Added, merged.Notes, revision.Change{
			Version: version, By: by.Name(), What: what, Detail: word + source.Name, Added: merged.Added + merged.Notes, Edited: merged.Updated,
		})
		return err
	})
	return after, merged, ours(err)
}

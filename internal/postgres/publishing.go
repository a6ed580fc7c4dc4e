package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
)

const revisionColumns = `number, version, at, by, note, coalesce(same_as, 0), forced, failed, asked`

var scanRevision = pgx.RowToStructByPos[revision.Revision]

// publishLock serialises publishing.
const publishLock = `select pg_advisory_xact_lock(8471)`

// Publish implements [revision.PublishStore].
func (s *Store) Publish(ctx context.Context, p revision.Publishing, live int64, by access.Actor) (made revision.Revision, err error) {
	if p.Draft {
		err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
			if made, err = publish(ctx, tx, p, live, by); err != nil {
				return err
			}
			return restore(ctx, tx, version, p.Version, nil, by.Name())
		})
		return made, ours(err)
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		made, err = publish(ctx, tx, p, live, by)
		return err
	})
	return made, ours(err)
}

func publish(ctx context.Context, tx pgx.Tx, p revision.Publishing, live int64, by access.Actor) (made revision.Revision, err error) {
	if err := begin(ctx, tx, by, access.Publish); err != nil {
		return made, err
	}
	if _, err := tx.Exec(ctx, publishLock); err != nil {
		return made, err
	}
	var last, draft, is int64
	if err := tx.QueryRow(ctx, `select number, version, (select version from draft) from revisions order by number desc limit 1`).Scan(&last, &is, &draft); err != nil {
		return made, err
	}
	switch {
	case live != 0 && live != last:
		return made, revision.ErrStale
	case p.Version < 1 || p.Version > draft:
		return made, &revision.FieldError{Field: "version", Msg: fmt.Sprintf("the draft has no version %d; it is at %d", p.Version, draft)}
	}
	back := p.SameAs != 0 || p.Version < is // taking back is no way round: what owners put live stays
	states, err := differences(ctx, tx, is, p.Version)
	if err != nil {
		return made, err
	}
	if err := guardPublishing(ctx, tx, states, is, p.Version, back, by); err != nil {
		return made, err
	}
	if !back {
		if err := secondLook(ctx, tx, states, by); err != nil {
			return made, err
		}
	}
	var same *int64
	what, detail := audit.Published, p.Note
	if p.SameAs != 0 {
		same, what, detail = &p.SameAs, audit.TakenBack, fmt.Sprintf("to revision %d: %s", p.SameAs, p.Note)
	}
	rows, err := tx.Query(ctx, `insert into revisions (number, version, by, note, same_as, forced, failed, asked) values ($1, $2, $3, $4, $5, $6, $7, $8)
		returning `+revisionColumns, last+1, p.Version, by.Name(), p.Note, same, p.Forced, p.Failed, p.Asked)
	if made, err = one(rows, err, scanRevision); err != nil {
		return made, err
	}
	if p.Forced != "" {
		detail += fmt.Sprintf(" (%d of %d expectations fail: %s)", p.Failed, p.Asked, p.Forced)
	}
	return made, note(ctx, tx, audit.Event{By: by.Name(), What: what, Name: fmt.Sprintf("revision %d", made.Number), Version: &p.Version, Detail: detail})
}

// PublishDue implements [revision.PublishStore].
func (s *Store) PublishDue(ctx context.Context, at time.Time, check func(revision.Planned) (revision.Publishing, error), by access.Actor) (made []revision.Revision, err error) {
	due, err := s.Planned(ctx)
	if err != nil {
		return nil, err
	}
	var failed error
	for _, plan := range due {
		if plan.Due.After(at) {
			break
		}
		p, err := check(plan)
		var refused *revision.NotDueError
		if err != nil && !errors.As(err, &refused) { // the plan stays, and those after it go on
			failed = errors.Join(failed, fmt.Errorf("what is planned for %s: %w", plan.Due.Format(time.RFC3339), err))
			continue
		}
		var published *revision.Revision
		err = s.as(ctx, by, access.Publish, func(tx pgx.Tx) (err error) {
			published, err = publishPlanned(ctx, tx, plan, p, refused)
			return err
		})
		if err != nil {
			return made, err
		}
		if published != nil {
			made = append(made, *published)
		}
	}
	return made, failed
}

// publishPlanned publishes what was planned, in the name and with the powers of its planner, or records why it is cancelled: refused
// says so, or the planner may no longer publish. It returns nil if nothing was published.
func publishPlanned(ctx context.Context, tx pgx.Tx, plan revision.Planned, p revision.Publishing, refused *revision.NotDueError) (*revision.Revision, error) {
	gone, err := tx.Exec(ctx, `delete from planned where id = $1`, plan.ID)
	if err != nil || gone.RowsAffected() == 0 { // another service was first
		return nil, err
	}
	planner, err := actorNamed(ctx, tx, plan.By)
	if err != nil {
		return nil, err
	}
	var why error = refused
	if refused == nil {
		var denied *access.DeniedError
		made, err := publish(ctx, tx, p, 0, planner)
		if err == nil {
			return &made, nil
		}
		if !errors.As(err, &denied) {
			return nil, err
		}
		why = denied
	}
	return nil, note(ctx, tx, audit.Event{By: plan.By, What: audit.NotPublished, Version: &plan.Version, Detail: plan.Note + ": " + why.Error()})
}

// Revisions implements [revision.PublishStore].
func (s *Store) Revisions(ctx context.Context, before int64, limit int) ([]revision.Revision, error) {
	rows, err := s.pool.Query(ctx, `select `+revisionColumns+` from revisions where $1::bigint = 0 or number < $1 order by number desc limit $2`, before, limit)
	return all(rows, err, scanRevision)
}

// Revision implements [revision.PublishStore].
func (s *Store) Revision(ctx context.Context, number int64) (revision.Revision, error) {
	rows, err := s.pool.Query(ctx, `select `+revisionColumns+` from revisions where number = $1`, number)
	return one(rows, err, scanRevision)
}

const plannedColumns = `id, due, version, by, note, forced, made_at`

var scanPlanned = pgx.RowToStructByPos[revision.Planned]

// Plan implements [revision.PublishStore].
func (s *Store) Plan(ctx context.Context, p revision.Planned, by access.Actor) (made revision.Planned, err error) {
	err = s.as(ctx, by, access.Publish, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `insert into planned (due, version, by, note, forced) values ($1, $2, $3, $4, $5) returning `+plannedColumns,
			p.Due, p.Version, by.Name(), p.Note, p.Forced)
		if made, err = one(rows, err, scanPlanned); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.Planned, Version: &p.Version, Detail: "for " + p.Due.UTC().Format(time.RFC3339) + ": " + p.Note})
	})
	return made, err
}

// Unplan implements [revision.PublishStore].
func (s *Store) Unplan(ctx context.Context, id uuid.UUID, by access.Actor) error {
	return s.as(ctx, by, access.Publish, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `delete from planned where id = $1 returning `+plannedColumns, id)
		gone, err := one(rows, err, scanPlanned)
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.Unplanned, Version: &gone.Version, Detail: gone.Note})
	})
}

// Planned implements [revision.PublishStore].
func (s *Store) Planned(ctx context.Context) ([]revision.Planned, error) {
	rows, err := s.pool.Query(ctx, `select `+plannedColumns+` from planned order by due`)
	return all(rows, err, scanPlanned)
}

// Changed implements [revision.PublishStore]. It looks at what began or ended between the two, so it costs as much as there is to show.
func (s *Store) Changed(ctx context.Context, from, to int64) (found []revision.ObjectState, err error) {
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		found, err = differences(ctx, tx, from, to)
		return err
	})
	return found, ours(err)
}

func differences(ctx context.Context, tx pgx.Tx, from, to int64) ([]revision.ObjectState, error) {
	if to == 0 {
		if err := tx.QueryRow(ctx, `select version from draft`).Scan(&to); err != nil {
			return nil, err
		}
	}
	low, high := min(from, to), max(from, to)
	state := func(alias string, at int64) string {
		return `(select * from objects ` + alias + ` where id in (select id from touched) and ` + held(alias, at) + `) ` + alias
	}
	rows, err := tx.Query(ctx, `with touched as (
			select id from objects where since > $1 and since <= $2 or gone > $1 and gone <= $2
			union select list_id from list_changes where version > $1 and version <= $2
		), hands as (
			select id, since as version from objects where since > $1 and since <= $2
			union select id, gone from objects where gone > $1 and gone <= $2
			union select list_id, version from list_changes where version > $1 and version <= $2
		)
		select coalesce(a.id, b.id), coalesce(b.kind, a.kind), a.id is not null, b.id is not null,
			coalesce(a.name, ''), coalesce(a.since, 0), coalesce(a.updated_at, now()), coalesce(a.updated_by, ''), coalesce(a.body, 'null'),
			coalesce(b.name, ''), coalesce(b.since, 0), coalesce(b.updated_at, now()), coalesce(b.updated_by, ''), coalesce(b.body, 'null'),
			(a.name, a.body) is distinct from (b.name, b.body),
			array(select by from (select version, by, at from hands h join edits e using (version) where h.id = coalesce(a.id, b.id) and not e.aside
				union all select version, by, at from carried c where c.object = coalesce(a.id, b.id) and c.version > $1 and c.version <= $2) who order by version, at),
			coalesce((select max(at) from (select e.at from hands h join edits e using (version) where h.id = coalesce(a.id, b.id) and not e.aside
				union all select c.at from carried c where c.object = coalesce(a.id, b.id) and c.version > $1 and c.version <= $2) when_), now())
		from `+state("a", from)+` full join `+state("b", to)+` on a.id = b.id
		where (a.name, a.body) is distinct from (b.name, b.body) or coalesce(b.kind, a.kind) = 'list'
		order by coalesce(b.kind, a.kind), lower(coalesce(b.name, a.name)), 1`, low, high)
	type pair struct {
		revision.ObjectState
		differ bool
	}
	pairs, err := all(rows, err, func(row pgx.CollectableRow) (p pair, err error) {
		var before, after revision.Object
		var was, is bool
		err = row.Scan(&p.ID, &p.Kind, &was, &is, &before.Name, &before.Version, &before.UpdatedAt, &before.UpdatedBy, &before.Body,
			&after.Name, &after.Version, &after.UpdatedAt, &after.UpdatedBy, &after.Body, &p.differ, &p.By, &p.At)
		before.ID, after.ID, before.Kind, after.Kind = p.ID, p.ID, p.Kind, p.Kind
		if was {
			p.Before = &before
		}
		if is {
			p.After = &after
		}
		var once []string
		for _, by := range p.By {
			if !slices.Contains(once, by) {
				once = append(once, by)
			}
		}
		p.By = once
		return p, err
	})
	if err != nil {
		return nil, err
	}
	var found []revision.ObjectState
	for _, p := range pairs {
		if p.Kind == revision.KindList {
			counts := revision.EntryCounts{}
			switch {
			case p.Before == nil:
				err = tx.QueryRow(ctx, `select count(*) from entries e where e.list_id = $1 and `+held("e", to), p.ID).Scan(&counts.Added)
			case p.After == nil:
				err = tx.QueryRow(ctx, `select count(*) from entries e where e.list_id = $1 and `+held("e", from), p.ID).Scan(&counts.Removed)
			default:
				err = tx.QueryRow(ctx, `select count(*) filter (where a.id is null), count(*) filter (where b.id is null),
					count(*) filter (where a.id is not null and b.id is not null) `+differingByKey(from, to), p.ID).Scan(&counts.Added, &counts.Removed, &counts.Edited)
			}
			if err != nil {
				return nil, err
			}
			if counts != (revision.EntryCounts{}) {
				p.Entries = &counts
			}
		}
		if p.differ || p.Entries != nil {
			found = append(found, p.ObjectState)
		}
	}
	return found, nil
}

// differingByKey joins the entries that differ between two states of a list. Entries are compared by what they say, so one
// that only moved is the same. $1 is the list.
func differingByKey(from, to int64) string {
	return `from (select e.* from entries e where e.list_id = $1 and ` + went("e", from, to) + `) a
		full join (select e.* from entries e where e.list_id = $1 and ` + came("e", from, to) + `) b
			on coalesce(b.key, b.pattern, '') = coalesce(a.key, a.pattern, '') and case when a.kind = 'note' or b.kind = 'note' then a.note = b.note and a.kind = b.kind else true end
		where (a.pattern, a.carve_out, a.until, a.off, a.note) is distinct from (b.pattern, b.carve_out, b.until, b.off, b.note)`
}

// EntryDifferences implements [revision.PublishStore].
func (s *Store) EntryDifferences(ctx context.Context, list uuid.UUID, from, to, after int64, limit int) (found []revision.Difference, err error) {
	if to == 0 {
		if err := s.pool.QueryRow(ctx, `select version from draft`).Scan(&to); err != nil {
			return nil, err
		}
	}
	of := differingByKey(from, to)
	var was, is bool
	err = s.pool.QueryRow(ctx, `select exists (select from objects o where id = $1 and `+held("o", from)+`), exists (select from objects o where id = $1 and `+held("o", to)+`)`,
		list).Scan(&was, &is)
	const nobody = `(select * from entries where false)`
	switch {
	case err != nil:
		return nil, err
	case !was && !is:
		return nil, revision.ErrNotFound
	case !was:
		of = `from ` + nobody + ` a full join (select e.* from entries e where e.list_id = $1 and ` + held("e", to) + `) b using (id) where true`
	case !is:
		of = `from (select e.* from entries e where e.list_id = $1 and ` + held("e", from) + `) a full join ` + nobody + ` b using (id) where true`
	}
	rows, err := s.pool.Query(ctx, `select coalesce(b.id, a.id), a.list_id is not null, b.list_id is not null,
		coalesce(a.pattern, ''), coalesce(a.carve_out, false), a.until, coalesce(a.off, false), coalesce(a.note, ''),
		coalesce(b.pattern, ''), coalesce(b.carve_out, false), b.until, coalesce(b.off, false), coalesce(b.note, '') `+of+`
		and coalesce(b.id, a.id) > $2 order by 1 limit $3`, list, after, limit)
	return all(rows, err, scanDifference)
}

func scanDifference(row pgx.CollectableRow) (d revision.Difference, err error) {
	var before, after parts
	var was, is bool
	if err = row.Scan(append(append([]any{&d.ID, &was, &is}, before.targets()...), after.targets()...)...); err != nil {
		return d, err
	}
	for _, side := range []struct {
		there bool
		parts parts
		entry **pattern.Entry
	}{{was, before, &d.Before}, {is, after, &d.After}} {
		if side.there {
			entry := side.parts.entry()
			*side.entry = &entry
		}
	}
	return d, nil
}

// Restore implements [revision.PublishStore].
func (s *Store) Restore(ctx context.Context, to, seen int64, only []uuid.UUID, by access.Actor) error {
	return ours(s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if seen != 0 && seen != version-1 {
			return revision.ErrStale
		}
		return restore(ctx, tx, version, to, only, by.Name())
	}))
}

// restore restores the draft, or only some of its objects, to a version.
func restore(ctx context.Context, tx pgx.Tx, version, to int64, only []uuid.UUID, by string) error {
	states, err := differences(ctx, tx, to, 0)
	if err != nil {
		return err
	}
	if len(only) > 0 {
		states = slices.DeleteFunc(states, func(s revision.ObjectState) bool { return !slices.Contains(only, s.ID) })
		if len(states) == 0 {
			return revision.ErrNotFound
		}
	}
	var set, gone []revision.Object
	for _, st := range states {
		switch {
		case st.Before == nil:
			gone = append(gone, *st.After)
		case st.After == nil || st.After.Name != st.Before.Name || !bytes.Equal(st.After.Body, st.Before.Body):
			set = append(set, *st.Before)
		}
	}
	if err := writeObjects(ctx, tx, set, gone, version, by); err != nil {
		return err
	}
	for _, st := range states {
		if st.Kind == revision.KindList && st.Before != nil {
			if err := restoreEntries(ctx, tx, st, to, version, by); err != nil {
				return err
			}
		}
	}
	return checkWritten(ctx, tx, set, gone, true)
}

// writeObjects writes objects of all kinds, and deletes others. [checkWritten] then checks their
// references.
func writeObjects(ctx context.Context, tx pgx.Tx, set, gone []revision.Object, version int64, by string) error {
	byTable := map[revision.Kind][]uuid.UUID{}
	var ids []uuid.UUID
	for _, o := range slices.Concat(set, gone) {
		if _, ok := tableOf[o.Kind]; ok {
			byTable[o.Kind] = append(byTable[o.Kind], o.ID)
		} else {
			ids = append(ids, o.ID)
		}
	}
	for kind, of := range byTable {
		id := "id"
		if kind == revision.KindCorrection {
			id = "uid"
		}
		if _, err := tx.Exec(ctx, `delete from `+tableOf[kind]+` where `+id+` = any($1)`, of); err != nil {
			return err
		}
	}
	for _, sql := range []string{
		`update objects set gone = $2 where id = any($1) and gone is null`,
		`delete from object_refs where object = any($1) and $2::bigint is not null`,
	} {
		if _, err := tx.Exec(ctx, sql, ids, version); err != nil {
			return err
		}
	}
	for _, o := range set {
		table, ok := tableOf[o.Kind]
		if !ok {
			if _, err := tx.Exec(ctx, `insert into objects (id, since, kind, name, body, updated_by) values ($1, $2, $3, $4, $5, $6)`, o.ID, version, o.Kind, o.Name, o.Body, by); err != nil {
				return inChange(2, revision.ObjectChange{Kind: o.Kind, Name: o.Name}, ours(err))
			}
			continue
		}
		more := `jsonb_build_object('created_at', now(), 'for_stints', false)` // states of before there were stints do not say it
		if o.Kind == revision.KindCorrection {
			more = `jsonb_build_object('at', now(), 'by', $3::text, 'id', nextval(pg_get_serial_sequence('corrections', 'id')))`
		}
		_, err := tx.Exec(ctx, `insert into `+table+` overriding system value select r.* from jsonb_populate_record(null::`+table+`, `+more+` || $1::jsonb ||
			jsonb_build_object('version', $2::bigint, 'updated_at', now(), 'updated_by', $3::text, 'entry_count', 0, 'note_count', 0)) r`, o.Body, version, by)
		if err != nil {
			return inChange(2, revision.ObjectChange{Kind: o.Kind, Name: o.Name}, ours(err))
		}
		if o.Kind == revision.KindList {
			if err := countEntries(ctx, tx, o.ID, version, by); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkWritten records what objects refer to, and refuses references to missing objects and the deletion of objects in use. For back, see [checkRefs].
func checkWritten(ctx context.Context, tx pgx.Tx, set, gone []revision.Object, back bool) error {
	for _, o := range set {
		if _, ok := tableOf[o.Kind]; ok {
			continue
		}
		body, err := o.Decoded()
		if err != nil {
			return err
		}
		if err := checkRefs(ctx, tx, o.ID, revision.ObjectChange{Kind: o.Kind, Body: body}, back); err != nil {
			return notAlone(o, err)
		}
	}
	for _, o := range gone {
		if err := mayGo(ctx, tx, o.Kind, o.ID); err != nil {
			return notAlone(o, err)
		}
	}
	return checkRings(ctx, tx)
}

// notAlone returns the error that an object cannot be restored without others.
func notAlone(o revision.Object, err error) error {
	return &revision.FieldError{Field: "objects", Msg: fmt.Sprintf("the %s %q cannot be taken back alone: %s; take that back, too", o.Kind, o.Name, err)}
}

func restoreEntries(ctx context.Context, tx pgx.Tx, st revision.ObjectState, to, version int64, by string) error {
	_, _, change, err := takeBack(ctx, tx, st.ID, to, version)
	if err != nil {
		return err
	}
	change.By = by
	if err := record(ctx, tx, st.ID, change); err != nil {
		return err
	}
	return countEntries(ctx, tx, st.ID, version, by)
}

// countEntries counts the entries of a list when the changes do not tell.
func countEntries(ctx context.Context, tx pgx.Tx, list uuid.UUID, version int64, by string) error {
	_, err := tx.Exec(ctx, `update lists set (entry_count, note_count) = (select count(*) filter (where kind <> 'note'), count(*) filter (where kind = 'note')
		from entries e where e.list_id = $1 and e.gone is null), version = $2, updated_at = now(), updated_by = $3 where id = $1`, list, version, by)
	return err
}

// AllObjects implements [revision.PublishStore].
func (s *Store) AllObjects(ctx context.Context) (found []revision.Object, version int64, err error) {
	err = pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `select version from draft`).Scan(&version); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+objectColumns+` from objects where gone is null order by kind, lower(name), id`)
		found, err = all(rows, err, scanObject)
		return err
	})
	return found, version, ours(err)
}

// Apply implements [revision.PublishStore].
func (s *Store) Apply(ctx context.Context, t revision.Target, seen int64, by access.Actor) error {
	return ours(s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if seen != version-1 {
			return revision.ErrStale
		}
		set, err := withRuleIDs(ctx, tx, t.Objects)
		if err != nil {
			return err
		}
		if err := writeObjects(ctx, tx, set, t.Remove, version, by.Name()); err != nil {
			return err
		}
		for id, lines := range t.Entries {
			if err := applyEntries(ctx, tx, id, lines, version, by.Name()); err != nil {
				return err
			}
		}
		for _, o := range t.Objects { // their history has to know of them, also where nothing was written into them
			if _, filled := t.Entries[o.ID]; o.Kind == revision.KindList && !filled {
				change := revision.Change{Version: version, By: by.Name(), What: revision.ChangeDescribed, Detail: "from files"}
				if err := record(ctx, tx, o.ID, change); err != nil {
					return err
				}
			}
		}
		return checkWritten(ctx, tx, t.Objects, t.Remove, false)
	}))
}

// withRuleIDs returns objects with ids for the rules of policies among them.
func withRuleIDs(ctx context.Context, tx pgx.Tx, set []revision.Object) ([]revision.Object, error) {
	set = slices.Clone(set)
	for i, o := range set {
		if o.Kind != revision.KindPolicy {
			continue
		}
		body, err := revision.Decode[revision.PolicyBody](o)
		if err == nil {
			err = identifyRules(ctx, tx, o.ID, &body)
		}
		if err == nil {
			set[i].Body, err = revision.Encode(&body)
		}
		if err != nil {
			return nil, err
		}
	}
	return set, nil
}

// applyEntries replaces the lines of a list. A list that is longer than people edit as text keeps its order where it has one.
func applyEntries(ctx context.Context, tx pgx.Tx, id uuid.UUID, lines []pattern.Entry, version int64, by string) error {
	before, err := list(ctx, tx, id)
	if err != nil {
		return err
	}
	if held := before.EntryCount + before.NoteCount; held > 0 && held <= revision.MaxText && len(lines) <= revision.MaxText {
		_, _, err := rewrite(ctx, tx, before, lines, version, by)
		return err
	}
	batch := revision.NewBatch()
	for _, e := range lines {
		if _, err := batch.Add(e); err != nil {
			return err
		}
	}
	merged, err := merge(ctx, tx, id, batch, revision.Merging{Replace: true}, version)
	if err != nil {
		return err
	}
	_, err = settle(ctx, tx, id, merged.Added-merged.Removed, merged.Notes, revision.Change{
		Version: version, By: by, What: revision.ChangeReplaced, Detail: "from files", Added: merged.Added + merged.Notes, Edited: merged.Updated, Removed: merged.Removed,
	})
	return err
}

// note adds an event to the audit log.
func note(ctx context.Context, q querier, e audit.Event) error {
	rows, err := q.Query(ctx, `insert into audit (by, what, kind, object, name, version, detail) values ($1, $2, $3, $4, $5, $6, $7)`,
		e.By, e.What, e.Kind, e.Object, e.Name, e.Version, e.Detail)
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	return ours(err)
}

// Note implements [audit.Log].
func (s *Store) Note(ctx context.Context, e audit.Event) error { return note(ctx, s.pool, e) }

// Audit implements [audit.Log].
func (s *Store) Audit(ctx context.Context, q audit.Query) ([]audit.Event, error) {
	rows, err := s.pool.Query(ctx, `select id, at, by, what, kind, object, name, version, detail from audit
		where ($1::bigint = 0 or id < $1) and ($3 = '' or what ilike $3 or name ilike $3 or detail ilike $3 or by ilike $3) and ($4 = '' or kind = $4)
			and ($5::uuid is null or object = $5) order by id desc limit $2`, q.Before, q.Limit, containing(q.Text), q.Kind, q.Object)
	return all(rows, err, pgx.RowToStructByPos[audit.Event])
}

// Acceptances implements [revision.PublishStore].
func (s *Store) Acceptances(ctx context.Context) ([]revision.Acceptance, error) {
	rows, err := s.pool.Query(ctx, `select key, reason, until, at, by from accepted_findings order by at`)
	return all(rows, err, pgx.RowToStructByPos[revision.Acceptance])
}

// AcceptFinding implements [revision.PublishStore].
func (s *Store) AcceptFinding(ctx context.Context, a revision.Acceptance, by access.Actor) error {
	return s.as(ctx, by, access.Accept, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `insert into accepted_findings (key, reason, until, by) values ($1, $2, $3, $4)
			on conflict (key) do update set reason = $2, until = $3, by = $4, at = now()`, a.Key, a.Reason, a.Until, by.Name())
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.FindingAccepted, Name: a.Key, Detail: a.Reason})
	})
}

// UnacceptFinding implements [revision.PublishStore].
func (s *Store) UnacceptFinding(ctx context.Context, key string, by access.Actor) error {
	return s.as(ctx, by, access.Accept, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from accepted_findings where key = $1`, key)
		if err == nil && gone.RowsAffected() == 0 {
			return revision.ErrNotFound
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.FindingUnaccepted, Name: key})
	})
}

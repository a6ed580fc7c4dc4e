package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/directories"
	"widelark/internal/revision"
)

const directoryColumns = `d.id, d.name, d.kind, d.url, d.base, d.bind, d.password, d.name_field, d.key_field, d.every_min, d.paused, d.max_shrink, d.hold, d.token_hash is not null,
	d.next_at, d.tried_at, d.synced_at, d.result, d.told, d.left_out, d.shadowed, d.held_why, d.before, d.in_force, d.held, d.latest`

// directoriesWhere reads directories with their states. where is a condition, and may include an order.
func directoriesWhere(ctx context.Context, q querier, where string, args ...any) ([]directories.Directory, error) {
	rows, err := q.Query(ctx, `select `+directoryColumns+` from directories d where `+where, args...)
	numbers := map[uuid.UUID][3]int64{}
	found, err := all(rows, err, func(row pgx.CollectableRow) (d directories.Directory, err error) {
		var minutes int
		var n [3]int64
		err = row.Scan(&d.ID, &d.Name, &d.Kind, &d.URL, &d.Base, &d.Bind, &d.Password, &d.NameField, &d.KeyField, &minutes, &d.Paused, &d.MaxShrink, &d.Hold, &d.HasToken,
			&d.NextAt, &d.TriedAt, &d.SyncedAt, &d.Result, &d.Told, &d.LeftOut, &d.Shadowed, &d.Why, &d.Before, &n[0], &n[1], &n[2])
		d.Every, d.HasPassword = time.Duration(minutes)*time.Minute, len(d.Password) > 0
		numbers[d.ID] = n
		return d, err
	})
	if err != nil {
		return nil, err
	}
	for i := range found {
		d := &found[i]
		for at, to := range []**directories.State{&d.InForce, &d.Waiting, &d.Latest} {
			number := numbers[d.ID][at]
			if number == 0 {
				continue
			}
			rows, err := q.Query(ctx, `select `+directoryStateColumns+` from directory_states where directory_id = $1 and number = $2`, d.ID, number)
			state, err := one(rows, err, pgx.RowToStructByPos[directories.State])
			if err != nil {
				return nil, err
			}
			*to = &state
		}
	}
	return found, nil
}

const directoryStateColumns = `number, people, groups, came, changed, went, arrived_at, by`

func directoryByID(ctx context.Context, q querier, id uuid.UUID) (directories.Directory, error) {
	found, err := directoriesWhere(ctx, q, `d.id = $1`, id)
	if err == nil && len(found) == 0 {
		err = revision.ErrNotFound
	}
	if err != nil {
		return directories.Directory{}, err
	}
	return found[0], nil
}

// Directories implements [directories.Store].
func (s *Store) Directories(ctx context.Context) ([]directories.Directory, error) {
	return directoriesWhere(ctx, s.pool, `true order by lower(d.name)`)
}

// Directory implements [directories.Store].
func (s *Store) Directory(ctx context.Context, id uuid.UUID) (directories.Directory, error) {
	return directoryByID(ctx, s.pool, id)
}

// DirectoryByToken implements [directories.Store].
func (s *Store) DirectoryByToken(ctx context.Context, hash []byte) (directories.Directory, error) {
	found, err := directoriesWhere(ctx, s.pool, `d.token_hash = $1`, hash)
	if err == nil && len(found) == 0 {
		err = directories.ErrToken
	}
	if err != nil {
		return directories.Directory{}, err
	}
	return found[0], nil
}

// DueDirectories implements [directories.Store].
func (s *Store) DueDirectories(ctx context.Context, at time.Time) ([]directories.Directory, error) {
	return directoriesWhere(ctx, s.pool, `(d.url <> '' or d.kind = 'scim') and not d.paused and d.next_at <= $1 order by d.next_at`, at)
}

// AddDirectory implements [directories.Store].
func (s *Store) AddDirectory(ctx context.Context, name string, c directories.Settings, by access.Actor) (added directories.Directory, err error) {
	err = s.as(ctx, by, access.EditDirectories, func(tx pgx.Tx) error {
		if err := c.Checked(); err != nil {
			return err
		}
		var count int
		if err := tx.QueryRow(ctx, `select count(*) from directories`).Scan(&count); err != nil {
			return err
		}
		if count >= directories.MaxDirectories {
			return &revision.FieldError{Field: "name", Msg: fmt.Sprintf("there are %d directories already, as many as there may be", count)}
		}
		var id uuid.UUID
		err := tx.QueryRow(ctx, `insert into directories (name, kind, url, base, bind, password, name_field, key_field, every_min, paused, max_shrink, hold)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) returning id`, name, c.Kind, c.URL, c.Base, c.Bind, c.Password, c.NameField, c.KeyField,
			int(c.Every.Minutes()), c.Paused, c.MaxShrink, c.Hold).Scan(&id)
		if err == nil {
			added, err = directoryByID(ctx, tx, id)
		}
		if err == nil {
			err = note(ctx, tx, audit.Event{By: by.Name(), What: audit.DirectoryAdded, Name: name, Detail: strings.TrimSpace(string(c.Kind) + " " + c.URL)})
		}
		return err
	})
	return added, err
}

// settleDirectory changes a directory whose row is locked.
func (s *Store) settleDirectory(ctx context.Context, id uuid.UUID, by access.Actor, do func(tx pgx.Tx, before *directories.Directory) error) (after directories.Directory, err error) {
	err = s.as(ctx, by, access.EditDirectories, func(tx pgx.Tx) error {
		before, err := lockDirectory(ctx, tx, id)
		if err == nil {
			err = do(tx, &before)
		}
		if err == nil {
			after, err = directoryByID(ctx, tx, id)
		}
		if errors.Is(err, revision.ErrNotFound) && before.ID != uuid.Nil { // removed
			err = nil
		}
		return err
	})
	return after, err
}

func lockDirectory(ctx context.Context, tx pgx.Tx, id uuid.UUID) (directories.Directory, error) {
	if _, err := tx.Exec(ctx, `select from directories where id = $1 for update`, id); err != nil {
		return directories.Directory{}, err
	}
	return directoryByID(ctx, tx, id)
}

// EditDirectory implements [directories.Store].
func (s *Store) EditDirectory(ctx context.Context, id uuid.UUID, e directories.Edit, by access.Actor) (directories.Directory, error) {
	return s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		c, name := before.Settings, before.Name
		set(&name, e.Name)
		set(&c.URL, e.URL)
		set(&c.Base, e.Base)
		set(&c.Bind, e.Bind)
		set(&c.Password, e.Password)
		set(&c.NameField, e.NameField)
		set(&c.KeyField, e.KeyField)
		set(&c.Every, e.Every)
		set(&c.Paused, e.Paused)
		set(&c.MaxShrink, e.MaxShrink)
		set(&c.Hold, e.Hold)
		if err := c.Checked(); err != nil {
			return err
		}
		// A password goes to the server that it was set for, and to no other.
		if (c.URL != before.URL || c.Bind != before.Bind) && e.Password == nil && len(c.Password) > 0 {
			return &revision.FieldError{Field: "password", Msg: "the password is for another server or name: give it again"}
		}
		if len(c.Password) == 0 {
			c.Password = nil
		}
		_, err := tx.Exec(ctx, `update directories set name = $2, url = $3, base = $4, bind = $5, password = $6, name_field = $7, key_field = $8, every_min = $9, paused = $10, max_shrink = $11, hold = $12,
			next_at = case when (url, base, bind) = ($3, $4, $5) then least(next_at, now() + make_interval(mins => $9)) else now() end where id = $1`,
			id, name, c.URL, c.Base, c.Bind, c.Password, c.NameField, c.KeyField, int(c.Every.Minutes()), c.Paused, c.MaxShrink, c.Hold)
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.DirectoryEdited, Name: name})
	})
}

// SetDirectoryToken implements [directories.Store].
func (s *Store) SetDirectoryToken(ctx context.Context, id uuid.UUID, hash []byte, by access.Actor) error {
	_, err := s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		if _, err := tx.Exec(ctx, `update directories set token_hash = $2 where id = $1`, id, hash); err != nil {
			return err
		}
		what := audit.DirectoryTokenMade
		if hash == nil {
			what = audit.DirectoryTokenEnded
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: what, Name: before.Name})
	})
	return err
}

// KeepDirectorySync implements [directories.Store].
func (s *Store) KeepDirectorySync(ctx context.Context, d directories.Directory, by access.Actor) error {
	return s.as(ctx, by, access.EditDirectories, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `update directories set next_at = $2, tried_at = $3, synced_at = $4, result = $5, told = $6, left_out = coalesce($7::text[], '{}') where id = $1`,
			d.ID, d.NextAt, d.TriedAt, d.SyncedAt, d.Result, d.Told, d.LeftOut)
		return err
	})
}

// itemsAt returns what a state of a directory says.
func itemsAt(ctx context.Context, q querier, id uuid.UUID, number int64) ([]directories.Item, error) {
	rows, err := q.Query(ctx, `select object, kind, name, body from directory_objects where directory_id = $1 and since <= $2 and (gone is null or gone > $2)`, id, number)
	return all(rows, err, func(row pgx.CollectableRow) (it directories.Item, err error) {
		if err = row.Scan(&it.ID, &it.Kind, &it.Name, &it.Body); err == nil {
			err = it.Canonical()
		}
		return it, err
	})
}

// TakeDirectory implements [directories.Store]. It is one transaction: whatever ends it leaves everything as it was.
func (s *Store) TakeDirectory(ctx context.Context, id uuid.UUID, items []directories.Item, how directories.Taking) (taken directories.Taken, err error) {
	err = s.as(ctx, how.By, access.EditDirectories, func(tx pgx.Tx) error {
		before, err := lockDirectory(ctx, tx, id)
		if err == nil {
			items, err = asAdopted(ctx, tx, id, items)
		}
		if err != nil {
			return err
		}
		taken, err = take(ctx, tx, &before, items, how)
		return err
	})
	return taken, err
}

func take(ctx context.Context, tx pgx.Tx, d *directories.Directory, items []directories.Item, how directories.Taking) (taken directories.Taken, err error) {
	var latest []directories.Item
	next := directories.State{Number: 1, By: how.By.Name()}
	if d.Latest != nil {
		next.Number = d.Latest.Number + 1
		if latest, err = itemsAt(ctx, tx, d.ID, d.Latest.Number); err != nil {
			return taken, err
		}
	}
	in := latest
	if d.InForce != nil && d.InForce.Number != d.Latest.Number {
		if in, err = itemsAt(ctx, tx, d.ID, d.InForce.Number); err != nil {
			return taken, err
		}
	}
	taken.Directory = *d
	differ := directories.Compare(latest, items)
	if len(differ) == 0 && !how.Preview {
		if d.InForce != nil { // somebody may have given a name up meanwhile
			err = place(ctx, tx, d, in)
		}
		return taken, err
	}
	for _, it := range items {
		if it.Kind == revision.KindPerson {
			next.People++
		} else {
			next.Groups++
		}
	}
	against := directories.Compare(in, items) // what it would do
	for _, one := range against {
		switch {
		case one.Before == nil:
			next.Came++
		case one.After == nil:
			next.Went++
		default:
			next.Changed++
		}
	}
	taken.Differences = against[:min(len(against), directories.Keep)]
	if taken.Why, err = whyItWaits(ctx, tx, d, in, items, against); err != nil {
		return taken, err
	}
	if how.Anyway {
		taken.Why = nil
	}
	if how.Preview {
		if len(against) > 0 {
			taken.State = &next
		}
		return taken, nil
	}
	if err := keepItems(ctx, tx, d.ID, next.Number, differ); err != nil {
		return taken, err
	}
	rows, err := tx.Query(ctx, `insert into directory_states (directory_id, number, people, groups, came, changed, went, by) values ($1, $2, $3, $4, $5, $6, $7, $8)
		returning `+directoryStateColumns, d.ID, next.Number, next.People, next.Groups, next.Came, next.Changed, next.Went, next.By)
	if next, err = one(rows, err, pgx.RowToStructByPos[directories.State]); err != nil {
		return taken, err
	}
	taken.State = &next
	if _, err := tx.Exec(ctx, `update directories set latest = $2 where id = $1`, d.ID, next.Number); err != nil {
		return taken, err
	}
	if len(taken.Why) > 0 {
		if _, err := tx.Exec(ctx, `update directories set held = $2, held_why = $3 where id = $1`, d.ID, next.Number, taken.Why); err != nil {
			return taken, err
		}
		err = directoryEvent(ctx, tx, d, how.By, directories.EventHeld, next.Number)
	} else {
		err = directoryInForce(ctx, tx, d, items, how.By, directories.EventInForce, next.Number)
	}
	if err == nil {
		taken.Directory, err = directoryByID(ctx, tx, d.ID)
	}
	return taken, err
}

// keepItems keeps what a state says otherwise than the one before it.
func keepItems(ctx context.Context, tx pgx.Tx, id uuid.UUID, number int64, differ []directories.Difference) error {
	var ended []uuid.UUID
	var began [][]any
	for _, one := range differ {
		if one.Before != nil {
			ended = append(ended, one.ID)
		}
		if one.After != nil {
			began = append(began, []any{id, one.ID, number, string(one.Kind), one.After.Name, json.RawMessage(one.After.Body)})
		}
	}
	if _, err := tx.Exec(ctx, `update directory_objects set gone = $3 where directory_id = $1 and object = any($2) and gone is null`, id, ended, number); err != nil {
		return err
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"directory_objects"}, []string{"directory_id", "object", "since", "kind", "name", "body"}, pgx.CopyFromRows(began))
	return err
}

// whyItWaits returns why a state of a directory may not take the place of another without anybody's leave, a clause each.
func whyItWaits(ctx context.Context, tx pgx.Tx, d *directories.Directory, before, after []directories.Item, differ []directories.Difference) (why []string, err error) {
	if d.InForce == nil {
		return nil, nil
	}
	if d.Hold {
		why = append(why, "every change of this directory waits")
	}
	went := 0
	for _, one := range differ {
		if one.After == nil && one.Kind == revision.KindPerson {
			went++
		}
	}
	if went*100 > d.InForce.People*d.MaxShrink {
		why = append(why, fmt.Sprintf("%d of %d people would go, more than %d per cent", went, d.InForce.People, d.MaxShrink))
	}
	full, err := directories.Populated(before)
	if err != nil {
		return nil, err
	}
	still, err := directories.Populated(after)
	if err != nil {
		return nil, err
	}
	there := map[uuid.UUID]bool{}
	for _, it := range after {
		there[it.ID] = true
	}
	for _, it := range before {
		what := ""
		switch {
		case it.Kind == revision.KindGroup && !there[it.ID]:
			what = "would go"
		case it.Kind == revision.KindGroup && full[it.ID] && !still[it.ID]:
			what = "would be empty"
		default:
			continue
		}
		users, err := namedBy(ctx, tx, it.ID)
		if err != nil {
			return nil, err
		}
		if len(users) > 0 {
			why = append(why, fmt.Sprintf("the group %q %s, and %s", it.Name, what, users.sentence()))
		}
	}
	return why, nil
}

// users are objects that name something.
type users []revision.ObjectUse

// sentence says who they are, as the end of a sentence.
func (u users) sentence() string {
	names := make([]string, 0, len(u))
	for i, one := range u {
		if i == 3 {
			names = append(names, fmt.Sprintf("%d more", len(u)-i))
			break
		}
		names = append(names, fmt.Sprintf("the %s %q", one.Kind, one.Name))
	}
	verb := " name it"
	if len(u) == 1 {
		verb = " names it"
	}
	return strings.Join(names, ", ") + verb
}

// namedBy returns what names a person or group in the draft or the revision that is live, but for other people and groups of directories.
func namedBy(ctx context.Context, tx pgx.Tx, id uuid.UUID) (users, error) {
	rows, err := tx.Query(ctx, `select distinct kind, id, name from (
			select o.kind, o.id, o.name from object_refs r join objects o on o.id = r.object and o.gone is null where r.target = $1 and o.directory is null
			union all select o.kind, o.id, o.name from objects o, (select version from revisions order by number desc limit 1) live
				where o.directory is null and o.since <= live.version and (o.gone is null or o.gone > live.version) and o.kind not in `+kindsOfTables+` and o.body::text like '%' || $1::text || '%'
		) named order by kind, name`, id)
	return all(rows, err, pgx.RowToStructByPos[revision.ObjectUse])
}

// directoryEvent records an event, with the directory and in the audit log.
func directoryEvent(ctx context.Context, tx pgx.Tx, d *directories.Directory, by access.Actor, what string, number int64) error {
	if _, err := tx.Exec(ctx, `insert into directory_events (directory_id, by, what, number) values ($1, $2, $3, $4)`, d.ID, by.Name(), what, number); err != nil {
		return err
	}
	var detail string
	err := tx.QueryRow(ctx, `select format('state %s: %s people, %s groups; %s came, %s changed, %s went', number, people, groups, came, changed, went)
		from directory_states where directory_id = $1 and number = $2`, d.ID, number).Scan(&detail)
	if err != nil {
		return err
	}
	return note(ctx, tx, audit.Event{By: by.Name(), What: auditedDirectory[what], Name: d.Name, Detail: detail})
}

// auditedDirectory are the names in the audit log of what happens to directories.
var auditedDirectory = map[string]audit.What{
	directories.EventInForce: audit.DirectoryInForce,
	directories.EventHeld:    audit.DirectoryHeld,
	directories.EventRefused: audit.DirectoryRefused,
	directories.EventUndone:  audit.DirectoryUndone,
}

// directoryInForce puts a state in force.
func directoryInForce(ctx context.Context, tx pgx.Tx, d *directories.Directory, items []directories.Item, by access.Actor, what string, number int64) error {
	last := int64(0)
	if d.InForce != nil {
		last = d.InForce.Number
	}
	_, err := tx.Exec(ctx, `update directories set in_force = $2, before = $3, held_why = case when held > $2 then held_why else '{}' end, held = case when held > $2 then held else 0 end where id = $1`, d.ID, number, last)
	if err == nil {
		err = place(ctx, tx, d, items)
	}
	if err == nil {
		err = directoryEvent(ctx, tx, d, by, what, number)
	}
	return err
}

// place makes the people and groups of a directory those of items, in all versions of the draft. People whose name somebody else has, who is edited in the draft or comes from another
// directory, stay away; groups get another name.
func place(ctx context.Context, tx pgx.Tx, d *directories.Directory, items []directories.Item) error {
	// The draft's row is locked first, as edits lock it. The audit log has one event for all.
	if _, err := tx.Exec(ctx, `with locked as (select from draft for update) select set_config('widelark.aside', 'on', true) from locked`); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, `select id, kind, name, body from objects where directory = $1 and gone is null`, d.ID)
	now, err := all(rows, err, func(row pgx.CollectableRow) (it directories.Item, err error) {
		if err = row.Scan(&it.ID, &it.Kind, &it.Name, &it.Body); err == nil {
			err = it.Canonical()
		}
		return it, err
	})
	if err != nil {
		return err
	}
	rows, err = tx.Query(ctx, `select distinct o.kind || ' ' || lower(o.name) from objects o, (select version from revisions order by number desc limit 1) live
		where o.kind in ('person', 'group') and o.directory is distinct from $1 and (o.gone is null or o.since <= live.version and o.gone > live.version)`, d.ID)
	others, err := all(rows, err, pgx.RowTo[string])
	if err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, name := range others {
		taken[name] = true
	}
	shadowed, wanted := []string{}, make([]directories.Item, 0, len(items))
	for _, it := range items {
		key := func() string { return string(it.Kind) + " " + strings.ToLower(it.Name) }
		if taken[key()] {
			if it.Kind == revision.KindPerson {
				shadowed = append(shadowed, it.Name)
				continue
			}
			it.Name = fmt.Sprintf("%.40s (%.30s)", it.Name, d.Name)
			for n := 2; taken[key()]; n++ {
				it.Name = fmt.Sprintf("%.40s (%.30s %d)", it.Name, d.Name, n)
			}
		}
		taken[key()] = true
		wanted = append(wanted, it)
	}
	slices.Sort(shadowed)
	if _, err := tx.Exec(ctx, `update directories set shadowed = $2 where id = $1`, d.ID, shadowed); err != nil {
		return err
	}
	return putItems(ctx, tx, d, directories.Compare(now, wanted))
}

// putItems changes people and groups of a directory.
func putItems(ctx context.Context, tx pgx.Tx, d *directories.Directory, differ []directories.Difference) error {
	if len(differ) == 0 {
		return nil
	}
	var touched, ids, from, to []uuid.UUID
	var kinds, names, bodies []string
	for _, one := range differ {
		if one.Before != nil {
			touched = append(touched, one.ID)
		}
		if one.After == nil {
			continue
		}
		ids, kinds, names, bodies = append(ids, one.ID), append(kinds, string(one.Kind)), append(names, one.After.Name), append(bodies, string(one.After.Body))
		groups, err := one.After.Groups()
		if err != nil {
			return err
		}
		for _, g := range groups {
			from, to = append(from, one.ID), append(to, g)
		}
	}
	// First all of them go, so that names can change hands.
	if _, err := tx.Exec(ctx, `update objects set gone = 0 where id = any($1) and directory = $2 and gone is null`, touched, d.ID); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `delete from object_refs where object = any($1)`, touched); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `insert into objects (id, since, kind, name, body, updated_by, directory)
		select id, 0, kind, name, body::jsonb, $5, $6 from unnest($1::uuid[], $2::text[], $3::text[], $4::text[]) f(id, kind, name, body)
		on conflict (id, since) do update set gone = null, name = excluded.name, body = excluded.body, updated_at = now()`, ids, kinds, names, bodies, d.Name, d.ID)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `insert into object_refs (object, kind, target) select distinct o, 'group', t from unnest($1::uuid[], $2::uuid[]) f(o, t) on conflict do nothing`, from, to)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `update draft set directories = directories + 1`)
	return err
}

// AcceptDirectory implements [directories.Store].
func (s *Store) AcceptDirectory(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (directories.Directory, error) {
	return s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		if before.Waiting == nil || before.Waiting.Number != number {
			return revision.ErrStale
		}
		return putDirectoryState(ctx, tx, before, by, directories.EventInForce, number)
	})
}

// putDirectoryState puts a state that is kept in force.
func putDirectoryState(ctx context.Context, tx pgx.Tx, d *directories.Directory, by access.Actor, what string, number int64) error {
	items, err := itemsAt(ctx, tx, d.ID, number)
	if err != nil {
		return err
	}
	return directoryInForce(ctx, tx, d, items, by, what, number)
}

// RefuseDirectory implements [directories.Store].
func (s *Store) RefuseDirectory(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (directories.Directory, error) {
	return s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		if before.Waiting == nil || before.Waiting.Number != number {
			return revision.ErrStale
		}
		if _, err := tx.Exec(ctx, `update directories set held = 0, held_why = '{}' where id = $1`, id); err != nil {
			return err
		}
		return directoryEvent(ctx, tx, before, by, directories.EventRefused, number)
	})
}

// UndoDirectory implements [directories.Store].
func (s *Store) UndoDirectory(ctx context.Context, id uuid.UUID, by access.Actor) (directories.Directory, error) {
	return s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		if before.Before == 0 {
			return &directories.RefusedError{Msg: "There is no state to go back to"}
		}
		return putDirectoryState(ctx, tx, before, by, directories.EventUndone, before.Before)
	})
}

// RemoveDirectory implements [directories.Store].
func (s *Store) RemoveDirectory(ctx context.Context, id uuid.UUID, anyway bool, by access.Actor) error {
	_, err := s.settleDirectory(ctx, id, by, func(tx pgx.Tx, before *directories.Directory) error {
		if before.InForce != nil && !anyway {
			items, err := itemsAt(ctx, tx, id, before.InForce.Number)
			if err != nil {
				return err
			}
			ids := make([]uuid.UUID, len(items))
			for i, it := range items {
				ids[i] = it.ID
			}
			rows, err := tx.Query(ctx, `select distinct target from object_refs r join objects o on o.id = r.object and o.gone is null where o.directory is null and target = any($1)`, ids)
			named, err := all(rows, err, pgx.RowTo[uuid.UUID])
			if err != nil {
				return err
			}
			for _, it := range items {
				if !slices.Contains(named, it.ID) {
					continue
				}
				found, err := namedBy(ctx, tx, it.ID)
				if err != nil {
					return err
				}
				return &directories.RefusedError{Msg: fmt.Sprintf("The %s %q is from this directory, and %s: take it out there first, or remove the directory anyway", it.Kind, it.Name, found.sentence())}
			}
		}
		if err := place(ctx, tx, before, nil); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from directories where id = $1`, id); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.DirectoryRemoved, Name: before.Name})
	})
	return err
}

// DirectoryStates implements [directories.Store].
func (s *Store) DirectoryStates(ctx context.Context, id uuid.UUID) ([]directories.State, error) {
	rows, err := s.pool.Query(ctx, `select `+directoryStateColumns+` from directory_states where directory_id = $1 order by number desc`, id)
	return all(rows, err, pgx.RowToStructByPos[directories.State])
}

// DirectoryEvents implements [directories.Store].
func (s *Store) DirectoryEvents(ctx context.Context, id uuid.UUID) ([]directories.Event, error) {
	rows, err := s.pool.Query(ctx, `select at, by, what, number from directory_events where directory_id = $1 order by id desc`, id)
	return all(rows, err, pgx.RowToStructByPos[directories.Event])
}

// DirectoryDifferences implements [directories.Store].
func (s *Store) DirectoryDifferences(ctx context.Context, id uuid.UUID, from, to int64) ([]directories.Difference, error) {
	before, err := itemsAt(ctx, s.pool, id, from)
	if err != nil {
		return nil, err
	}
	after, err := itemsAt(ctx, s.pool, id, to)
	if err != nil {
		return nil, err
	}
	return directories.Compare(before, after), nil
}

const resourceColumns = `id, kind, body, made_at, edited_at`

// Resources implements [directories.Resources].
func (s *Store) Resources(ctx context.Context, directory uuid.UUID, of directories.ResourceQuery) ([]directories.Resource, error) {
	sql := `select ` + resourceColumns + ` from directory_resources where directory_id = $1 and ($2 = '' or kind = $2)`
	args := []any{directory, of.Kind}
	switch of.Attribute {
	case "":
	case "userName": // as its index has it
		sql, args = sql+` and kind = 'User' and lower(body->>'userName') = lower($3)`, append(args, of.Value)
	default:
		sql, args = sql+` and lower(body->>$4::text) = lower($3)`, append(args, of.Value, of.Attribute)
	}
	rows, err := s.pool.Query(ctx, sql+` order by made_at, id`, args...)
	return all(rows, err, pgx.RowToStructByPos[directories.Resource])
}

// Resource implements [directories.Resources].
func (s *Store) Resource(ctx context.Context, directory, id uuid.UUID) (directories.Resource, error) {
	rows, err := s.pool.Query(ctx, `select `+resourceColumns+` from directory_resources where directory_id = $1 and id = $2`, directory, id)
	return one(rows, err, pgx.RowToStructByPos[directories.Resource])
}

// sent changes what programs have sent, and has the directory read soon.
func (s *Store) sent(ctx context.Context, directory uuid.UUID, by access.Actor, do func(tx pgx.Tx) error) error {
	return s.as(ctx, by, access.EditDirectories, func(tx pgx.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update directories set next_at = least(next_at, now()) where id = $1`, directory)
		return err
	})
}

// AddResource implements [directories.Resources].
func (s *Store) AddResource(ctx context.Context, directory uuid.UUID, r directories.Resource, by access.Actor) (added directories.Resource, err error) {
	err = s.sent(ctx, directory, by, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `insert into directory_resources (directory_id, id, kind, body) select $1, $2, $3, $4
			where (select count(*) from directory_resources where directory_id = $1) < $5 returning `+resourceColumns, directory, r.ID, r.Kind, json.RawMessage(r.Body), directories.MostResources)
		if added, err = one(rows, err, pgx.RowToStructByPos[directories.Resource]); errors.Is(err, revision.ErrNotFound) {
			err = &revision.FieldError{Msg: fmt.Sprintf("there are %d people and groups already, as many as there may be", directories.MostResources)}
		}
		return err
	})
	return added, err
}

// ChangeResource implements [directories.Resources].
func (s *Store) ChangeResource(ctx context.Context, directory, id uuid.UUID, change func(was []byte) ([]byte, error), by access.Actor) (changed directories.Resource, err error) {
	err = s.sent(ctx, directory, by, func(tx pgx.Tx) error {
		var was []byte
		err := tx.QueryRow(ctx, `select body from directory_resources where directory_id = $1 and id = $2 for update`, directory, id).Scan(&was)
		if err != nil {
			return err
		}
		body, err := change(was)
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `update directory_resources set body = $3, edited_at = now() where directory_id = $1 and id = $2 returning `+resourceColumns, directory, id, json.RawMessage(body))
		changed, err = one(rows, err, pgx.RowToStructByPos[directories.Resource])
		return err
	})
	return changed, err
}

// RemoveResource implements [directories.Resources].
func (s *Store) RemoveResource(ctx context.Context, directory, id uuid.UUID, by access.Actor) error {
	return s.sent(ctx, directory, by, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from directory_resources where directory_id = $1 and id = $2`, directory, id)
		if err == nil && gone.RowsAffected() == 0 {
			err = revision.ErrNotFound
		}
		return err
	})
}

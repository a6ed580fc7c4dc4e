package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/directory"
	"widelark/internal/access"
	"widelark/internal/revision"
)

const objectColumns = `id, name, since, updated_at, updated_by, kind, body, coalesce(directory, '00000000-0000-0000-0000-000000000000')`

func scanObject(row pgx.CollectableRow) (o revision.Object, err error) {
	err = row.Scan(&o.ID, &o.Name, &o.Version, &o.UpdatedAt, &o.UpdatedBy, &o.Kind, &o.Body, &o.Directory)
	return o, err
}

// Objects implements [revision.ObjectStore].
func (s *Store) Objects(ctx context.Context, kind revision.Kind) ([]revision.Object, error) {
	rows, err := s.pool.Query(ctx, `select `+objectColumns+` from objects where kind = $1 and gone is null order by lower(name)`, kind)
	return all(rows, err, scanObject)
}

// Object implements [revision.ObjectStore].
func (s *Store) Object(ctx context.Context, kind revision.Kind, id uuid.UUID) (revision.Object, error) {
	rows, err := s.pool.Query(ctx, `select `+objectColumns+` from objects where id = $1 and kind = $2 and gone is null`, id, kind)
	return one(rows, err, scanObject)
}

// Members implements [revision.ObjectStore].
func (s *Store) Members(ctx context.Context) (map[uuid.UUID]int, error) {
	rows, err := s.pool.Query(ctx, `with recursive of_groups as (select r.object, r.target from object_refs r join objects o on o.id = r.object and o.gone is null and o.kind = 'group' where r.kind = 'group'),
		holds as (select id as holder, id as held from objects where kind = 'group' and gone is null union select h.holder, g.target from holds h join of_groups g on g.object = h.held)
		select h.holder, count(distinct r.object) from holds h join object_refs r on r.target = h.held and r.kind = 'group'
		join objects o on o.id = r.object and o.gone is null and o.kind = 'person' group by 1`)
	if err != nil {
		return nil, ours(err)
	}
	members := map[uuid.UUID]int{}
	var id uuid.UUID
	var n int
	_, err = pgx.ForEachRow(rows, []any{&id, &n}, func() error {
		members[id] = n
		return nil
	})
	return members, ours(err)
}

// Names implements [revision.ObjectStore].
func (s *Store) Names(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error) {
	if len(ids) == 0 {
		return map[uuid.UUID]string{}, nil
	}
	rows, err := s.pool.Query(ctx, `select distinct on (id) id, coalesce(nullif(body->>'fullName', ''), name) from objects where id = any($1) order by id, gone is null desc, since desc`, ids)
	return namesByID(rows, err)
}

// namesByID reads rows of an id and a name.
func namesByID(rows pgx.Rows, err error) (map[uuid.UUID]string, error) {
	names := map[uuid.UUID]string{}
	if err != nil {
		return nil, ours(err)
	}
	var id uuid.UUID
	var name string
	_, err = pgx.ForEachRow(rows, []any{&id, &name}, func() error {
		names[id] = name
		return nil
	})
	return names, ours(err)
}

// Uses implements [revision.ObjectStore].
func (s *Store) Uses(ctx context.Context, kind revision.Kind, id uuid.UUID) ([]revision.ObjectUse, error) {
	return uses(ctx, s.pool, kind, id)
}

// The settings list every policy in order; that does not count as a use.
func uses(ctx context.Context, q querier, kind revision.Kind, id uuid.UUID) ([]revision.ObjectUse, error) {
	var byKey []revision.ObjectUse
	switch kind {
	case revision.KindApp:
		keys, err := appKeys(ctx, q, id)
		if err == nil {
			byKey, err = keyUses(ctx, q, true, keys)
		}
		if err != nil {
			return nil, err
		}
	case revision.KindCategory:
		rows, err := q.Query(ctx, `select key from own_categories where id = $1`, id)
		keys, err := all(rows, err, pgx.RowTo[string])
		if err == nil {
			byKey, err = keyUses(ctx, q, false, keys)
		}
		if err != nil {
			return nil, err
		}
	}
	rows, err := q.Query(ctx, `select o.kind, o.id, o.name from object_refs r join objects o on o.id = r.object and o.gone is null
		where r.target = $1 and r.kind = $2 and o.kind <> 'settings' order by o.kind desc, lower(o.name)`, id, kind)
	byID, err := all(rows, err, pgx.RowToStructByPos[revision.ObjectUse])
	return append(byKey, byID...), err
}

// inUse refuses to delete what objects refer to.
func inUse(ctx context.Context, tx pgx.Tx, kind revision.Kind, id uuid.UUID, others ...string) error {
	found, err := uses(ctx, tx, kind, id)
	if err != nil {
		return err
	}
	return usedBy(found, others...)
}

// usedBy returns the error for an object in use; nil if nothing uses it.
func usedBy(found []revision.ObjectUse, others ...string) error {
	const most = 5
	named := []string{}
	for i, use := range found {
		if i == most {
			named = append(named, fmt.Sprintf("%d more", len(found)-most))
			break
		}
		named = append(named, fmt.Sprintf("the %s %q", use.Kind, use.Name))
	}
	if named = append(named, others...); len(named) > 0 {
		return &revision.InUseError{UsedBy: named}
	}
	return nil
}

// Change implements [revision.ObjectStore].
func (s *Store) Change(ctx context.Context, changes []revision.ObjectChange, by access.Actor) (made []revision.Object, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		made = make([]revision.Object, len(changes))
		grouped := false
		var apps []string // the keys that there were before
		for i, c := range changes {
			if c.Kind == revision.KindApp && !c.New && !c.Remove {
				keys, err := appKeys(ctx, tx, c.ID)
				if err != nil {
					return err
				}
				apps = append(apps, keys...)
			}
			if err := changeObject(ctx, tx, version, c, by.Name(), &made[i]); err != nil {
				return inChange(len(changes), c, err)
			}
			grouped = grouped || c.Kind == revision.KindGroup
		}
		// Objects may refer to each other, so references are checked when all have been written.
		for i, c := range changes {
			if c.Remove {
				if err := mayGo(ctx, tx, c.Kind, c.ID); err != nil {
					return inChange(len(changes), c, err)
				}
				continue
			}
			if err := checkRefs(ctx, tx, made[i].ID, c, false); err != nil {
				return inChange(len(changes), c, err)
			}
		}
		if key, users, err := lostUses(ctx, tx, apps); err != nil {
			return err
		} else if len(users) > 0 {
			return &revision.FieldError{Field: "activities", Msg: fmt.Sprintf("%s cannot go, the policy %q asks for it; take it out there first", key, users[0].Name)}
		}
		if grouped {
			return checkRings(ctx, tx)
		}
		return nil
	})
	if err != nil {
		made = nil
	}
	return made, ours(err)
}

// inChange adds to an error which of several changes failed.
func inChange(of int, c revision.ObjectChange, err error) error {
	var field *revision.FieldError
	if of > 1 && errors.As(err, &field) {
		return &revision.FieldError{Field: field.Field, Msg: fmt.Sprintf("the %s %q: %s", c.Kind, c.Name, field.Msg)}
	}
	return err
}

func changeObject(ctx context.Context, tx pgx.Tx, version int64, c revision.ObjectChange, by string, made *revision.Object) error {
	switch {
	case c.ID == uuid.Nil:
		c.ID = uuid.New()
		if err := identifyRules(ctx, tx, c.ID, c.Body); err != nil {
			return err
		}
	case !c.New:
		var since int64
		var from string
		err := tx.QueryRow(ctx, `select since, coalesce(d.name, '') from objects o left join directories d on d.id = o.directory where o.id = $1 and o.kind = $2 and gone is null`, c.ID, c.Kind).Scan(&since, &from)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return revision.ErrNotFound
		case err != nil:
			return err
		case from != "":
			return &revision.FieldError{Field: "name", Msg: fmt.Sprintf("the %s is from the directory %q, and is edited there", c.Kind, from)}
		case c.Version != 0 && c.Version != since:
			return revision.ErrStale
		}
		if err := identifyRules(ctx, tx, c.ID, c.Body); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update objects set gone = $2 where id = $1 and gone is null`, c.ID, version); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from object_refs where object = $1`, c.ID); err != nil {
			return err
		}
	}
	if c.Remove {
		return nil
	}
	body, err := revision.Encode(c.Body)
	if err != nil {
		return err
	}
	rows, err := tx.Query(ctx, `insert into objects (id, since, kind, name, body, updated_by) values ($1, $2, $3, $4, $5, $6) returning `+objectColumns,
		c.ID, version, c.Kind, c.Name, body, by)
	*made, err = one(rows, err, scanObject)
	return err
}

// identifyRules gives every rule of a policy its id: the one that it had, unless another policy has it by now. Bodies of other
// kinds stay as they are.
func identifyRules(ctx context.Context, tx pgx.Tx, id uuid.UUID, body revision.Body) error {
	after, ok := body.(*revision.PolicyBody)
	if !ok || after == nil {
		return nil
	}
	rows, err := tx.Query(ctx, `select `+objectColumns+` from objects o where id = $1 and gone is null`, id)
	now, err := all(rows, err, scanObject)
	if err != nil {
		return err
	}
	var before revision.PolicyBody
	for _, o := range now {
		if before, err = revision.Decode[revision.PolicyBody](o); err != nil { // it cannot be read, so its rules are new
			before = revision.PolicyBody{}
		}
	}
	revision.KeepRuleIDs(before.Rules, after.Rules)
	given := make([]uuid.UUID, len(after.Rules))
	for i, r := range after.Rules {
		given[i] = r.ID
	}
	rows, err = tx.Query(ctx, `select distinct (rule->>'id')::uuid from objects, jsonb_array_elements(body->'rules') rule
		where kind = 'policy' and gone is null and id <> $1 and rule->>'id' = any($2::uuid[]::text[])`, id, given)
	others, err := all(rows, err, pgx.RowTo[uuid.UUID])
	if err != nil {
		return err
	}
	taken := map[uuid.UUID]bool{}
	for _, other := range others {
		taken[other] = true
	}
	revision.NewRuleIDs(after.Rules, taken)
	return nil
}

// tableOf maps the kinds with a table of their own for their present state to that table. Their states are also kept as objects, by triggers.
var tableOf = map[revision.Kind]string{
	revision.KindList: "lists", revision.KindSchedule: "schedules", revision.KindScorecard: "scorecards",
	revision.KindCategory: "own_categories", revision.KindCorrection: "corrections",
}

// kindsOfTables are the kinds in tableOf, for SQL.
const kindsOfTables = `('list', 'schedule', 'scorecard', 'category', 'correction')`

// checkRefs records what an object refers to, and refuses references to missing objects. back: an earlier state of the object comes back, which may name what has left its directory since.
func checkRefs(ctx context.Context, tx pgx.Tx, id uuid.UUID, c revision.ObjectChange, back bool) (err error) {
	asked := map[revision.Ref]bool{}
	c.Body.Refs(func(field string, kind revision.Kind, ref *revision.Ref) {
		key := revision.Ref{ID: ref.ID, Name: string(kind)}
		if err != nil || asked[key] {
			return
		}
		asked[key] = true
		there := `select from objects where id = $1 and kind = $2 and gone is null`
		if back {
			there = `select from objects where id = $1 and kind = $2 and (gone is null or directory is not null) limit 1`
		}
		if c.Kind == revision.KindPerson && !back {
			there += ` and directory is null` // who is in a directory's group, the directory says
		}
		if table, ok := tableOf[kind]; ok {
			there = `select from ` + table + ` where id = $1 and $2::text is not null for share`
		}
		tag, failed := tx.Exec(ctx, there, ref.ID, kind)
		switch {
		case failed != nil:
			err = failed
		case tag.RowsAffected() == 0 && c.Kind == revision.KindPerson && kind == revision.KindGroup:
			err = &revision.FieldError{Field: field, Msg: "there is no such group that people can be put into here: who is in a directory's group, the directory says"}
		case tag.RowsAffected() == 0:
			err = &revision.FieldError{Field: field, Msg: "there is no such " + string(kind)}
		default:
			_, err = tx.Exec(ctx, `insert into object_refs (object, kind, target) values ($1, $2, $3)`, id, kind, ref.ID)
		}
	})
	return err
}

// checkRings refuses groups that hold each other.
func checkRings(ctx context.Context, tx pgx.Tx) error {
	rows, err := tx.Query(ctx, `select `+objectColumns+` from objects where kind = 'group' and gone is null order by lower(name)`)
	found, err := all(rows, err, scanObject)
	if err != nil {
		return err
	}
	var groups []directory.Group
	names := map[string]string{}
	for _, o := range found {
		body, err := revision.Decode[revision.GroupBody](o)
		if err != nil {
			return err
		}
		g := directory.Group{ID: o.ID.String()}
		for _, ref := range body.Groups {
			g.Groups = append(g.Groups, ref.ID.String())
		}
		groups = append(groups, g)
		names[g.ID] = o.Name
	}
	ring := directory.Ring(groups)
	if ring == nil {
		return nil
	}
	said := fmt.Sprintf("%q", names[ring[0]])
	for i := range ring {
		said += fmt.Sprintf(" holds %q", names[ring[(i+1)%len(ring)]])
	}
	return &revision.FieldError{Field: "groups", Msg: "groups may not hold each other in a ring: " + said}
}

package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// stintColumns are the fields of a stint s; the last one is the entries of the group's own lists that it names.
const stintColumns = `s.id, s.body, s.from_at, s.by, s.done, s.ended_at, s.ended_by,
	coalesce((select jsonb_agg(e) from group_lists l, jsonb_array_elements(l.entries) e where s.body->'own' @> jsonb_build_array(jsonb_build_object('id', l.id))), '[]')`

func scanStint(row pgx.CollectableRow) (s standing.Stint, err error) {
	var body, entries []byte
	if err = row.Scan(&s.ID, &body, &s.From, &s.By, &s.Done, &s.EndedAt, &s.EndedBy, &entries); err == nil {
		err = errors.Join(json.Unmarshal(body, &s.StintBody), json.Unmarshal(entries, &s.Entries))
	}
	return s, err
}

func stintOf(ctx context.Context, q querier, id uuid.UUID) (standing.Stint, error) {
	rows, err := q.Query(ctx, `select `+stintColumns+` from stints s where id = $1`, id)
	return one(rows, err, scanStint)
}

// Stint implements [standing.Stints].
func (s *Store) Stint(ctx context.Context, id uuid.UUID) (standing.Stint, error) {
	return stintOf(ctx, s.pool, id)
}

// Stints implements [standing.Stints].
func (s *Store) Stints(ctx context.Context, endAfter time.Time) ([]standing.Stint, error) {
	rows, err := s.pool.Query(ctx, `select `+stintColumns+` from stints s where least(until, ended_at) > $1 order by from_at desc, id`, endAfter)
	return all(rows, err, scanStint)
}

// steer carries out an act on a group's stint or lists in a transaction, if the actor leads the group, and notifies every service. Of two at once, one waits.
func (s *Store) steer(ctx context.Context, by access.Actor, look func(tx pgx.Tx) (group uuid.UUID, err error), do func(tx pgx.Tx) error) error {
	return s.asFor(ctx, by, access.Steer, access.Object{Name: "this group"}, func(tx pgx.Tx) ([]subject, error) {
		group, err := look(tx)
		return []subject{{group: group}}, err
	}, func(tx pgx.Tx) error {
		if err := factsChanged(ctx, tx); err != nil {
			return err
		}
		return do(tx)
	})
}

// AddStint implements [standing.Stints].
func (s *Store) AddStint(ctx context.Context, b standing.StintBody, instead bool, by access.Actor) (made standing.Stint, err error) {
	err = s.steer(ctx, by, func(pgx.Tx) (uuid.UUID, error) { return b.Group.ID, nil }, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select `+stintColumns+` from stints s where grp = $1 and least(until, ended_at) > now()`, b.Group.ID)
		running, err := all(rows, err, scanStint)
		if err != nil {
			return err
		}
		for _, r := range running {
			if !instead {
				return &standing.RunningError{By: r.By, Until: r.End()}
			}
			if err := endStint(ctx, tx, r.ID, by); err != nil {
				return err
			}
		}
		if err := chosenLists(ctx, tx, &b); err != nil {
			return err
		}
		for _, refs := range [][]revision.Ref{b.Lists, b.Own, b.People, {b.Group}} {
			for i := range refs {
				refs[i].Name = ""
			}
		}
		b.Group.Name = ""
		body, err := json.Marshal(b)
		if err != nil {
			return err
		}
		var id uuid.UUID
		if err := tx.QueryRow(ctx, `insert into stints (grp, body, until, by) values ($1, $2, $3, $4) returning id`, b.Group.ID, body, b.Until, by.Name()).Scan(&id); err != nil {
			return err
		}
		if made, err = stintOf(ctx, tx, id); err != nil {
			return err
		}
		return noteStint(ctx, tx, made, by, audit.StintBegun, b.Kind.Says())
	})
	return made, err
}

// chosenLists refuses lists that the group's leads may not choose.
func chosenLists(ctx context.Context, tx pgx.Tx, b *standing.StintBody) error {
	for field, refs := range map[string][]revision.Ref{"lists": b.Lists, "own": b.Own} {
		for i, ref := range refs {
			query, of := `select exists (select from lists where id = $1 and for_stints)`, []any{ref.ID}
			if field == "own" {
				query, of = `select exists (select from group_lists where id = $1 and grp = $2)`, []any{ref.ID, b.Group.ID}
			}
			var may bool
			if err := tx.QueryRow(ctx, query, of...).Scan(&may); err != nil {
				return err
			}
			if !may {
				return standing.NotForStints(fmt.Sprintf("%s[%d]", field, i))
			}
		}
	}
	return nil
}

func noteStint(ctx context.Context, tx pgx.Tx, s standing.Stint, by access.Actor, what audit.What, detail string) error {
	var group string
	err := tx.QueryRow(ctx, `select name from objects where id = $1 order by since desc limit 1`, s.Group.ID).Scan(&group)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return err
	}
	return note(ctx, tx, audit.Event{By: by.Name(), What: what, Kind: string(revision.KindGroup), Object: &s.Group.ID, Name: group, Detail: detail})
}

func endStint(ctx context.Context, tx pgx.Tx, id uuid.UUID, by access.Actor) error {
	ended, err := tx.Exec(ctx, `update stints set ended_at = now(), ended_by = $2 where id = $1 and least(until, ended_at) > now()`, id, by.Name())
	if err != nil || ended.RowsAffected() == 0 {
		return err
	}
	s, err := stintOf(ctx, tx, id)
	if err != nil {
		return err
	}
	return noteStint(ctx, tx, s, by, audit.StintEnded, "of "+s.By)
}

// changeStint edits a stint, and returns it as it is then.
func (s *Store) changeStint(ctx context.Context, id uuid.UUID, by access.Actor, do func(tx pgx.Tx, before standing.Stint) error) (changed standing.Stint, err error) {
	var before standing.Stint
	err = s.steer(ctx, by, func(tx pgx.Tx) (_ uuid.UUID, err error) {
		before, err = stintOf(ctx, tx, id)
		return before.Group.ID, err
	}, func(tx pgx.Tx) error {
		if err := do(tx, before); err != nil {
			return err
		}
		changed, err = stintOf(ctx, tx, id)
		return err
	})
	return changed, err
}

// EndStint implements [standing.Stints].
func (s *Store) EndStint(ctx context.Context, id uuid.UUID, by access.Actor) (standing.Stint, error) {
	return s.changeStint(ctx, id, by, func(tx pgx.Tx, _ standing.Stint) error { return endStint(ctx, tx, id, by) })
}

// stintOver refuses an edit of a stint that is over.
var stintOver = &revision.FieldError{Msg: "the stint is over"}

// TakeOverStint implements [standing.Stints].
func (s *Store) TakeOverStint(ctx context.Context, id uuid.UUID, by access.Actor) (standing.Stint, error) {
	return s.changeStint(ctx, id, by, func(tx pgx.Tx, before standing.Stint) error {
		taken, err := tx.Exec(ctx, `update stints set by = $2 where id = $1 and least(until, ended_at) > now()`, id, by.Name())
		if err == nil && taken.RowsAffected() == 0 {
			return stintOver
		}
		if err != nil || before.By == by.Name() {
			return err
		}
		return noteStint(ctx, tx, before, by, audit.StintTakenOver, "from "+before.By)
	})
}

// SetDone implements [standing.Stints].
func (s *Store) SetDone(ctx context.Context, id, person uuid.UUID, done bool, by access.Actor) (standing.Stint, error) {
	return s.changeStint(ctx, id, by, func(tx pgx.Tx, before standing.Stint) error {
		set := `array_remove(done, $2)`
		if done {
			set = `array_append(array_remove(done, $2), $2)`
		}
		put, err := tx.Exec(ctx, `update stints set done = `+set+` where id = $1 and least(until, ended_at) > now()`, id, person)
		if err == nil && put.RowsAffected() == 0 {
			return stintOver
		}
		if err != nil {
			return err
		}
		var name string
		if err := tx.QueryRow(ctx, `select name from objects where id = $1 and kind = 'person' order by gone is null desc, since desc limit 1`, person).Scan(&name); errors.Is(err, pgx.ErrNoRows) {
			return &revision.FieldError{Field: "person", Msg: "there is no such person"}
		} else if err != nil {
			return err
		}
		return noteStint(ctx, tx, before, by, map[bool]audit.What{true: audit.StintDone, false: audit.StintAgain}[done], "for "+name)
	})
}

const ownColumns = `id, grp, name, entries, updated_at, updated_by`

func scanOwnList(row pgx.CollectableRow) (l standing.OwnList, err error) {
	var entries []byte
	if err = row.Scan(&l.ID, &l.Group, &l.Name, &entries, &l.UpdatedAt, &l.UpdatedBy); err == nil {
		err = json.Unmarshal(entries, &l.Entries)
	}
	return l, err
}

// OwnLists implements [standing.Stints].
func (s *Store) OwnLists(ctx context.Context) ([]standing.OwnList, error) {
	rows, err := s.pool.Query(ctx, `select `+ownColumns+` from group_lists order by lower(name), id`)
	return all(rows, err, scanOwnList)
}

// PutOwnList implements [standing.Stints].
func (s *Store) PutOwnList(ctx context.Context, l standing.OwnList, by access.Actor) (put standing.OwnList, err error) {
	err = s.steer(ctx, by, func(tx pgx.Tx) (uuid.UUID, error) {
		if l.ID != uuid.Nil {
			err := tx.QueryRow(ctx, `select grp from group_lists where id = $1`, l.ID).Scan(&l.Group)
			return l.Group, ours(err)
		}
		return l.Group, nil
	}, func(tx pgx.Tx) error {
		var others int
		var taken bool
		if err := tx.QueryRow(ctx, `select count(*), coalesce(bool_or(lower(name) = lower($2)), false) from group_lists where grp = $1 and id <> $3`, l.Group, l.Name, l.ID).Scan(&others, &taken); err != nil {
			return err
		}
		switch {
		case taken:
			return &revision.FieldError{Field: "name", Msg: "the group has a list of this name already"}
		case others >= standing.MostOwnLists:
			return &revision.FieldError{Field: "name", Msg: fmt.Sprintf("a group has at most %d lists of its own: take one away first", standing.MostOwnLists)}
		}
		entries, err := json.Marshal(append([]pattern.Entry{}, l.Entries...))
		if err != nil {
			return err
		}
		if l.ID == uuid.Nil {
			l.ID = uuid.New()
		}
		rows, err := tx.Query(ctx, `insert into group_lists (id, grp, name, entries, updated_by) values ($1, $2, $3, $4, $5)
			on conflict (id) do update set name = excluded.name, entries = excluded.entries, updated_at = now(), updated_by = excluded.updated_by returning `+ownColumns, l.ID, l.Group, l.Name, entries, by.Name())
		if put, err = one(rows, err, scanOwnList); err != nil {
			return err
		}
		return noteStint(ctx, tx, standing.Stint{StintBody: standing.StintBody{Group: revision.Ref{ID: l.Group}}}, by, audit.OwnListPut, l.Name)
	})
	return put, err
}

// RemoveOwnList implements [standing.Stints].
func (s *Store) RemoveOwnList(ctx context.Context, id uuid.UUID, by access.Actor) error {
	var group uuid.UUID
	return s.steer(ctx, by, func(tx pgx.Tx) (uuid.UUID, error) {
		err := tx.QueryRow(ctx, `select grp from group_lists where id = $1`, id).Scan(&group)
		return group, ours(err)
	}, func(tx pgx.Tx) error {
		var used bool
		if err := tx.QueryRow(ctx, `select exists (select from stints where least(until, ended_at) > now() and body->'own' @> jsonb_build_array(jsonb_build_object('id', $1::uuid)))`, id).Scan(&used); err != nil {
			return err
		}
		if used {
			return standing.ErrOwnInUse
		}
		var name string
		if err := tx.QueryRow(ctx, `delete from group_lists where id = $1 returning name`, id).Scan(&name); err != nil {
			return ours(err)
		}
		return noteStint(ctx, tx, standing.Stint{StintBody: standing.StintBody{Group: revision.Ref{ID: group}}}, by, audit.OwnListRemoved, name)
	})
}

package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

const grantColumns = `id, body, made_at, made_by, ended_at, ended_by, kept`

func scanGrant(row pgx.CollectableRow) (g standing.Grant, err error) {
	var body []byte
	if err = row.Scan(&g.ID, &body, &g.MadeAt, &g.MadeBy, &g.EndedAt, &g.EndedBy, &g.Kept); err == nil {
		err = json.Unmarshal(body, &g.GrantBody)
	}
	return g, err
}

// factsChanged notifies every service that facts changed.
func factsChanged(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `update facts set version = version + 1`)
	return err
}

// FactsVersion implements [standing.Store].
func (s *Store) FactsVersion(ctx context.Context) (v standing.Version, err error) {
	err = s.pool.QueryRow(ctx, `select version, used from facts`).Scan(&v.Facts, &v.Used)
	return v, ours(err)
}

// Grants implements [standing.Store].
func (s *Store) Grants(ctx context.Context, endAfter time.Time) ([]standing.Grant, error) {
	rows, err := s.pool.Query(ctx, `select `+grantColumns+` from grants where least(until, ended_at) > $1 order by made_at desc, id`, endAfter)
	return all(rows, err, scanGrant)
}

// Grant implements [standing.Store].
func (s *Store) Grant(ctx context.Context, id uuid.UUID) (standing.Grant, error) {
	rows, err := s.pool.Query(ctx, `select `+grantColumns+` from grants where id = $1`, id)
	return one(rows, err, scanGrant)
}

// AddGrant implements [standing.Store].
func (s *Store) AddGrant(ctx context.Context, b standing.GrantBody, by access.Actor) (made standing.Grant, err error) {
	err = s.asFor(ctx, by, access.Grant, grantObject(&b, time.Now()), known(subjectsOf(&b.For)...), func(tx pgx.Tx) error {
		made, err = addGrant(ctx, tx, b, by)
		return err
	})
	return made, err
}

func addGrant(ctx context.Context, tx pgx.Tx, b standing.GrantBody, by access.Actor) (made standing.Grant, err error) {
	body, err := encodeGrant(b)
	if err != nil {
		return made, err
	}
	rows, err := tx.Query(ctx, `insert into grants (body, made_by, until) values ($1, $2, $3) returning `+grantColumns, body, by.Name(), b.Until)
	if made, err = one(rows, err, scanGrant); err != nil {
		return made, err
	}
	if err := factsChanged(ctx, tx); err != nil {
		return made, err
	}
	return made, noteGrant(ctx, tx, made, by, audit.GrantMade, b.Reason)
}

// encodeGrant encodes a grant for storage: references by their ids alone.
func encodeGrant(b standing.GrantBody) ([]byte, error) {
	for _, refs := range [][]revision.Ref{b.For.Persons, b.For.Groups, b.For.Networks} {
		for i := range refs {
			refs[i].Name = ""
		}
	}
	return json.Marshal(b)
}

func noteGrant(ctx context.Context, tx pgx.Tx, g standing.Grant, by access.Actor, what audit.What, detail string) error {
	return note(ctx, tx, audit.Event{By: by.Name(), What: what, Kind: audit.KindGrant, Object: &g.ID, Name: g.Name(), Detail: detail})
}

// EndGrant implements [standing.Store].
func (s *Store) EndGrant(ctx context.Context, id uuid.UUID, by access.Actor) (ended standing.Grant, err error) {
	err = s.asFor(ctx, by, access.Grant, access.Object{Name: "this grant"}, func(tx pgx.Tx) ([]subject, error) {
		rows, err := tx.Query(ctx, `select `+grantColumns+` from grants where id = $1`, id)
		g, err := one(rows, err, scanGrant)
		return subjectsOf(&g.For), err
	}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `update grants set ended_at = now(), ended_by = $2 where id = $1 and least(until, ended_at) > now() returning `+grantColumns, id, by.Name())
		if ended, err = one(rows, err, scanGrant); errors.Is(err, revision.ErrNotFound) { // it is over, or was never there
			rows, err := tx.Query(ctx, `select `+grantColumns+` from grants where id = $1`, id)
			ended, err = one(rows, err, scanGrant)
			return err
		} else if err != nil {
			return err
		}
		if err := factsChanged(ctx, tx); err != nil {
			return err
		}
		return noteGrant(ctx, tx, ended, by, audit.GrantEnded, "")
	})
	return ended, err
}

// KeepGrant implements [standing.Store].
func (s *Store) KeepGrant(ctx context.Context, id uuid.UUID, name string, by access.Actor) (exception uuid.UUID, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		rows, err := tx.Query(ctx, `select `+grantColumns+` from grants where id = $1 for update`, id)
		g, err := one(rows, err, scanGrant)
		if err != nil {
			return err
		}
		if g.Kept != nil {
			return &revision.FieldError{Msg: "an exception was made of this grant already"}
		}
		change := revision.ObjectChange{Kind: revision.KindException, Name: name, Body: g.Exception()}
		var made revision.Object
		if err := changeObject(ctx, tx, version, change, by.Name(), &made); err != nil {
			return err
		}
		if err := checkRefs(ctx, tx, made.ID, change, false); err != nil {
			return err
		}
		exception = made.ID
		if _, err := tx.Exec(ctx, `update grants set kept = $2 where id = $1`, id, exception); err != nil {
			return err
		}
		return noteGrant(ctx, tx, g, by, audit.GrantKept, name)
	})
	return exception, ours(err)
}

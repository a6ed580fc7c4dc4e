package postgres

import (
	"context"
	"net/netip"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/standing"
)

const requestColumns = `id, person, address, url, verdict, by, reason, reference, made_at, state, answered_at, answered_by, answer, grant_id`

func scanRequest(row pgx.CollectableRow) (r standing.Request, err error) {
	var person *uuid.UUID
	var address *netip.Addr
	err = row.Scan(&r.ID, &person, &address, &r.URL, &r.Verdict, &r.By, &r.Reason, &r.Reference, &r.MadeAt, &r.State, &r.AnsweredAt, &r.AnsweredBy, &r.Answer, &r.Grant)
	if person != nil {
		r.Person = *person
	}
	if address != nil {
		r.Address = *address
	}
	return r, err
}

// AddRequest implements [standing.Requests].
func (s *Store) AddRequest(ctx context.Context, r standing.Request, by access.Actor) (made standing.Request, err error) {
	var person *uuid.UUID
	if r.Person != uuid.Nil {
		person = &r.Person
	}
	var address *netip.Addr
	if r.Address.IsValid() {
		address = &r.Address
	}
	err = s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into requests (person, address, url, verdict, by, reason, reference) values ($1, $2, $3, $4, $5, $6, $7) on conflict (reference) do nothing`,
			person, address, r.URL, string(r.Verdict), r.By, r.Reason, r.Reference); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+requestColumns+` from requests where reference = $1`, r.Reference)
		made, err = one(rows, err, scanRequest)
		return err
	})
	return made, err
}

// AnswerRequest implements [standing.Requests].
func (s *Store) AnswerRequest(ctx context.Context, id uuid.UUID, state standing.RequestState, answer string, grant *uuid.UUID, by access.Actor) (r standing.Request, err error) {
	err = s.as(ctx, by, access.Grant, func(tx pgx.Tx) error {
		changed, err := tx.Exec(ctx, `update requests set state = $2, answer = $3, grant_id = $4, answered_at = now(), answered_by = $5 where id = $1 and state = 'open'`,
			id, string(state), answer, grant, by.Name())
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+requestColumns+` from requests where id = $1`, id)
		if r, err = one(rows, err, scanRequest); err != nil || changed.RowsAffected() == 0 {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.RequestAnswered, Name: r.URL, Detail: string(state)})
	})
	return r, err
}

// Request implements [standing.Requests].
func (s *Store) Request(ctx context.Context, id uuid.UUID) (standing.Request, error) {
	rows, err := s.pool.Query(ctx, `select `+requestColumns+` from requests where id = $1`, id)
	return one(rows, err, scanRequest)
}

// RequestByReference implements [standing.Requests].
func (s *Store) RequestByReference(ctx context.Context, reference string) (standing.Request, error) {
	rows, err := s.pool.Query(ctx, `select `+requestColumns+` from requests where reference = $1`, reference)
	return one(rows, err, scanRequest)
}

// Requests implements [standing.Requests].
func (s *Store) Requests(ctx context.Context, openOnly bool, limit int) ([]standing.Request, error) {
	rows, err := s.pool.Query(ctx, `select `+requestColumns+` from requests where state = 'open' or not $1 order by state <> 'open', made_at desc, id limit $2`, openOnly, limit)
	return all(rows, err, scanRequest)
}

package postgres

import (
	"context"
	"net/netip"
	"time"

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

// RefuseRequest implements [standing.Requests].
func (s *Store) RefuseRequest(ctx context.Context, id uuid.UUID, answer string, by access.Actor) (standing.Request, error) {
	return s.answerRequest(ctx, id, standing.Refused, answer, nil, by)
}

// GrantRequest implements [standing.Requests].
func (s *Store) GrantRequest(ctx context.Context, id uuid.UUID, answer string, grant standing.GrantBody, by access.Actor) (standing.Request, error) {
	return s.answerRequest(ctx, id, standing.Granted, answer, &grant, by)
}

// answerRequest answers a request that is open, with a grant or without, and returns it as it is then.
func (s *Store) answerRequest(ctx context.Context, id uuid.UUID, state standing.RequestState, answer string, grant *standing.GrantBody, by access.Actor) (r standing.Request, err error) {
	about := access.Object{Name: "this request"}
	if grant != nil {
		about = grantObject(grant, time.Now())
	}
	err = s.asFor(ctx, by, access.Answer, about, func(tx pgx.Tx) ([]subject, error) {
		rows, err := tx.Query(ctx, `select `+requestColumns+` from requests where id = $1`, id)
		asked, err := one(rows, err, scanRequest)
		whom := []subject{{person: asked.Person, address: asked.Address}}
		if grant != nil {
			whom = append(whom, subjectsOf(&grant.For)...)
		}
		return whom, err
	}, func(tx pgx.Tx) error {
		changed, err := tx.Exec(ctx, `update requests set state = $2, answer = $3, answered_at = now(), answered_by = $4 where id = $1 and state = 'open'`,
			id, string(state), answer, by.Name())
		if err == nil && grant != nil && changed.RowsAffected() > 0 {
			var made standing.Grant
			if made, err = addGrant(ctx, tx, *grant, by); err == nil {
				_, err = tx.Exec(ctx, `update requests set grant_id = $2 where id = $1`, id, made.ID)
			}
		}
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

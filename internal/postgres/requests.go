package postgres

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
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
	return first(s.AnswerRequests(ctx, []uuid.UUID{id}, standing.Refused, answer, nil, by))
}

// GrantRequest implements [standing.Requests].
func (s *Store) GrantRequest(ctx context.Context, id uuid.UUID, answer string, grant standing.GrantBody, by access.Actor) (standing.Request, error) {
	return first(s.AnswerRequests(ctx, []uuid.UUID{id}, standing.Granted, answer, &grant, by))
}

// first returns the only element.
func first(all []standing.Request, err error) (standing.Request, error) {
	if err != nil {
		return standing.Request{}, err
	}
	return all[0], nil
}

// AnswerRequests implements [standing.Requests].
func (s *Store) AnswerRequests(ctx context.Context, ids []uuid.UUID, state standing.RequestState, answer string, grant *standing.GrantBody, by access.Actor) (answered []standing.Request, err error) {
	about := access.Object{Name: "this request"}
	if grant != nil {
		about = grantObject(grant, time.Now())
	}
	read := func(tx pgx.Tx, lock string) ([]standing.Request, error) {
		rows, err := tx.Query(ctx, `select `+requestColumns+` from requests where id = any($1) order by array_position($1, id) `+lock, ids)
		found, err := all(rows, err, scanRequest)
		if err == nil && len(found) < len(ids) {
			err = revision.ErrNotFound
		}
		return found, err
	}
	err = s.asFor(ctx, by, access.Answer, about, func(tx pgx.Tx) (whom []subject, err error) {
		asked, err := read(tx, "for update") // two who answer at once make one grant
		for _, r := range asked {
			whom = append(whom, subject{person: r.Person, address: r.Address})
		}
		if grant != nil {
			whom = append(whom, subjectsOf(&grant.For)...)
		}
		return whom, err
	}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `update requests set state = $2, answer = $3, answered_at = now(), answered_by = $4 where id = any($1) and state = 'open' returning id`,
			ids, string(state), answer, by.Name())
		changed, err := all(rows, err, pgx.RowTo[uuid.UUID])
		if err == nil && grant != nil && len(changed) > 0 {
			var made standing.Grant
			if made, err = addGrant(ctx, tx, *grant, by); err == nil {
				_, err = tx.Exec(ctx, `update requests set grant_id = $2 where id = any($1)`, changed, made.ID)
			}
		}
		if err != nil {
			return err
		}
		if answered, err = read(tx, ""); err != nil {
			return err
		}
		for _, r := range answered {
			if slices.Contains(changed, r.ID) {
				if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.RequestAnswered, Object: &r.ID, Name: r.URL, Detail: string(r.State)}); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return answered, err
}

// RequestTimes implements [standing.Requests].
func (s *Store) RequestTimes(ctx context.Context, since time.Time) (t standing.RequestTimes, err error) {
	var half, nine *float64
	err = s.pool.QueryRow(ctx, `select count(*) filter (where state = 'open'), min(made_at) filter (where state = 'open'),
		count(*) filter (where state = 'granted' and made_at >= $1), count(*) filter (where state = 'refused' and made_at >= $1),
		percentile_cont(0.5) within group (order by extract(epoch from answered_at - made_at)) filter (where answered_at is not null and made_at >= $1),
		percentile_cont(0.9) within group (order by extract(epoch from answered_at - made_at)) filter (where answered_at is not null and made_at >= $1)
		from requests`, since).Scan(&t.Open, &t.Oldest, &t.Granted, &t.Refused, &half, &nine)
	for to, seconds := range map[*time.Duration]*float64{&t.Half: half, &t.Nine: nine} {
		if seconds != nil {
			*to = time.Duration(*seconds * float64(time.Second))
		}
	}
	return t, ours(err)
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

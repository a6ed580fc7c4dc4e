package postgres

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/gate"
	"widelark/internal/revision"
)

const enrolledColumns = `id, name, kind, key, seal_key, enrolled_at, enrolled_by, retired_at is not null`

func scanEnrolled(row pgx.CollectableRow) (g gate.Enrolled, err error) {
	err = row.Scan(&g.ID, &g.Name, &g.Kind, &g.Key, &g.SealKey, &g.EnrolledAt, &g.EnrolledBy, &g.Retired)
	return g, err
}

// AddEnrolment keeps an enrolment until it is used, or too old. The error is [gate.ErrTaken] where a gate has its name.
func (s *Store) AddEnrolment(ctx context.Context, e gate.Enrolment, by access.Actor) (gate.Enrolment, error) {
	e.MadeBy = by.Name()
	err := s.as(ctx, by, access.Enrol, func(tx pgx.Tx) error {
		var taken bool
		if err := tx.QueryRow(ctx, `select exists (select from enrolled_gates where lower(name) = lower($1) and retired_at is null)
			or exists (select from gates where lower(name) = lower($1) and not elsewhere and seen_at > now() - interval '1 minute')`, e.Name).Scan(&taken); err != nil || taken {
			return errors.Join(err, map[bool]error{true: gate.ErrTaken}[taken])
		}
		if _, err := tx.Exec(ctx, `delete from enrolments where until < now() or lower(name) = lower($1)`, e.Name); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `insert into enrolments (hash, name, kind, until, made_by) values ($1, $2, $3, now() + $4, $5) returning made_at, until`,
			e.Hash, e.Name, string(e.Kind), gate.EnrolmentLasts, e.MadeBy).Scan(&e.MadeAt, &e.Until)
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.EnrolmentMade, Name: e.Name})
	})
	return e, err
}

// Enrol makes a gate elsewhere of an enrolment, which is used up. The error is [gate.ErrEnrolment] where there is none.
func (s *Store) Enrol(ctx context.Context, hash []byte, g gate.Enrolled) (made gate.Enrolled, err error) {
	err = s.as(ctx, access.Recorder, access.Obey, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `delete from enrolments where hash = $1 and until > now() returning name, kind, made_by`, hash).Scan(&g.Name, &g.Kind, &g.EnrolledBy)
		if errors.Is(err, pgx.ErrNoRows) {
			return gate.ErrEnrolment
		} else if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `insert into enrolled_gates (name, kind, key, seal_key, enrolled_by) values ($1, $2, $3, $4, $5) returning `+enrolledColumns,
			g.Name, string(g.Kind), []byte(g.Key), g.SealKey, g.EnrolledBy)
		if made, err = one(rows, err, scanEnrolled); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: g.EnrolledBy, What: audit.GateEnrolled, Name: g.Name})
	})
	return made, err
}

// Enrolled returns a gate elsewhere; [revision.ErrNotFound] where there never was one with this id.
func (s *Store) Enrolled(ctx context.Context, id uuid.UUID) (gate.Enrolled, error) {
	rows, err := s.pool.Query(ctx, `select `+enrolledColumns+` from enrolled_gates where id = $1`, id)
	return one(rows, err, scanEnrolled)
}

// AllEnrolled returns the gates elsewhere that are not retired, by name.
func (s *Store) AllEnrolled(ctx context.Context) ([]gate.Enrolled, error) {
	rows, err := s.pool.Query(ctx, `select `+enrolledColumns+` from enrolled_gates where retired_at is null order by name`)
	return all(rows, err, scanEnrolled)
}

// Retire ends a gate elsewhere: from now on, its keys are refused.
func (s *Store) Retire(ctx context.Context, name string, by access.Actor) error {
	return s.as(ctx, by, access.Enrol, func(tx pgx.Tx) error {
		done, err := tx.Exec(ctx, `update enrolled_gates set retired_at = now() where lower(name) = lower($1) and retired_at is null`, name)
		if err != nil {
			return err
		}
		if done.RowsAffected() == 0 {
			return revision.ErrNotFound
		}
		if _, err := tx.Exec(ctx, `delete from gates where lower(name) = lower($1) and elsewhere`, name); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.GateRetired, Name: name})
	})
}

// SigningKey returns the key that signs what gates elsewhere run. The first time, it keeps what is offered.
func (s *Store) SigningKey(ctx context.Context, offered func() (public, sealed []byte, err error)) (public, sealed []byte, err error) {
	err = s.pool.QueryRow(ctx, `select public, sealed from signing_key`).Scan(&public, &sealed)
	if !errors.Is(err, pgx.ErrNoRows) {
		return public, sealed, ours(err)
	}
	if public, sealed, err = offered(); err != nil {
		return nil, nil, err
	}
	if _, err = s.pool.Exec(ctx, `insert into signing_key (public, sealed) values ($1, $2) on conflict do nothing`, public, sealed); err != nil {
		return nil, nil, ours(err)
	}
	return public, sealed, ours(s.pool.QueryRow(ctx, `select public, sealed from signing_key`).Scan(&public, &sealed))
}

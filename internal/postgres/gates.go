package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/gate"
)

// PutReport keeps what a gate reports of itself.
func (s *Store) PutReport(ctx context.Context, r gate.Report, by access.Actor) error {
	refusals, err := json.Marshal(r.Refusals)
	if err != nil {
		return err
	}
	if r.Refusals == nil {
		refusals = []byte("[]")
	}
	zones, err := json.Marshal(append([]gate.Zone{}, r.Zones...))
	if err != nil {
		return err
	}
	var since *time.Time
	if !r.Since.IsZero() {
		since = &r.Since
	}
	return s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `insert into gates (name, kind, address, revision, since, began_at, decided, refused, cut, running, written, waiting, dropped, refusals,
				catalogue, elsewhere, edition, digest, clock_ms, trouble, unrecorded, zones)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22)
			on conflict (name) do update set kind = excluded.kind, address = excluded.address, revision = excluded.revision, since = excluded.since,
				began_at = excluded.began_at, seen_at = now(), decided = excluded.decided, refused = excluded.refused, cut = excluded.cut,
				running = excluded.running, written = excluded.written, waiting = excluded.waiting, dropped = excluded.dropped, refusals = excluded.refusals,
				catalogue = excluded.catalogue, elsewhere = excluded.elsewhere, edition = excluded.edition, digest = excluded.digest, clock_ms = excluded.clock_ms,
				trouble = excluded.trouble, unrecorded = excluded.unrecorded, zones = excluded.zones`,
			r.Name, string(r.Kind), r.Address, r.Revision, since, r.BeganAt, r.Decided, r.Refused, r.Cut, r.Running, r.Written, r.Waiting, r.Dropped, refusals,
			r.Catalogue, r.Elsewhere, r.Edition, r.Digest, r.Clock.Milliseconds(), r.Trouble, r.Unrecorded, zones)
		return err
	})
}

// GateReports implements [gate.Reports].
func (s *Store) GateReports(ctx context.Context) (all []gate.Report, now time.Time, err error) {
	if err := s.pool.QueryRow(ctx, `select now()`).Scan(&now); err != nil {
		return nil, now, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select name, kind, address, revision, since, began_at, seen_at, decided, refused, cut, running, written, waiting, dropped, refusals,
		catalogue, elsewhere, edition, digest, clock_ms, trouble, unrecorded, zones from gates order by name`)
	if err != nil {
		return nil, now, ours(err)
	}
	all, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r gate.Report, err error) {
		var since *time.Time
		var refusals, zones []byte
		var clock int64
		if err = row.Scan(&r.Name, &r.Kind, &r.Address, &r.Revision, &since, &r.BeganAt, &r.SeenAt, &r.Decided, &r.Refused, &r.Cut, &r.Running,
			&r.Written, &r.Waiting, &r.Dropped, &refusals, &r.Catalogue, &r.Elsewhere, &r.Edition, &r.Digest, &clock, &r.Trouble, &r.Unrecorded, &zones); err != nil {
			return r, err
		}
		r.Clock = time.Duration(clock) * time.Millisecond
		if since != nil {
			r.Since = *since
		}
		return r, errors.Join(json.Unmarshal(refusals, &r.Refusals), json.Unmarshal(zones, &r.Zones))
	})
	return all, now, ours(err)
}

// AddAuthority implements [gate.Reports].
func (s *Store) AddAuthority(ctx context.Context, a gate.Authority, by access.Actor) (gate.Authority, error) {
	a.MadeBy = by.Name()
	err := s.as(ctx, by, access.Authorities, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `insert into authorities (id, certificate, sealed_key, from_at, made_by) values ($1, $2, $3, $4, $5) returning made_at`,
			a.ID, a.Certificate, a.SealedKey, a.From, a.MadeBy).Scan(&a.MadeAt)
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.AuthorityMade, Name: a.ID.String(), Detail: "signs from " + a.From.UTC().Format(time.RFC3339)})
	})
	return a, err
}

// Authorities implements [gate.Reports].
func (s *Store) Authorities(ctx context.Context) ([]gate.Authority, error) {
	rows, err := s.pool.Query(ctx, `select id, certificate, sealed_key, from_at, made_at, made_by from authorities order by from_at desc`)
	return all(rows, err, func(row pgx.CollectableRow) (a gate.Authority, err error) {
		err = row.Scan(&a.ID, &a.Certificate, &a.SealedKey, &a.From, &a.MadeAt, &a.MadeBy)
		return a, err
	})
}

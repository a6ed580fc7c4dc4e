package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
)

const auditColumns = `a.id, a.at, a.by, a.what, a.kind, a.object, a.name, a.version, a.detail`

// How many events are sealed at once, and how far back of the last one that is sealed others may still become visible: ids are given out before a transaction ends.
const (
	sealedAtOnce = 1000
	sealedBehind = 10_000
)

// SealAudit seals events that are not sealed yet, and reports whether there may be more. An event that is an hour older than the last one that is sealed was put in by hand: no transaction takes
// so long. It stays without a seal, and a check finds it. key is the service's secret for it; nil for none. whole looks at all events, also those far back.
func (s *Store) SealAudit(ctx context.Context, key []byte, whole bool, by access.Actor) (more bool, err error) {
	err = s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(8472)`); err != nil { // several services may run
			return err
		}
		var n, last int64
		var seal []byte
		err := tx.QueryRow(ctx, `select n, seal, (select max(event) from audit_chain) from audit_chain order by n desc limit 1`).Scan(&n, &seal, &last)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		from := last - sealedBehind
		if whole {
			from = 0
		}
		rows, err := tx.Query(ctx, `select `+auditColumns+` from audit a where a.id > $1 and not exists (select from audit_chain c where c.event = a.id)
			and a.at > coalesce((select l.at from audit l where l.id = $3) - interval '1 hour', '-infinity') order by a.id limit $2`, from, sealedAtOnce, last)
		events, err := all(rows, err, pgx.RowToStructByPos[audit.Event])
		if err != nil {
			return err
		}
		batch := &pgx.Batch{}
		for i := range events {
			n++
			seal = audit.Seal(key, seal, n, &events[i])
			batch.Queue(`insert into audit_chain (n, event, seal, keyed) values ($1, $2, $3, $4)`, n, events[i].ID, seal, len(key) > 0)
		}
		more = len(events) == sealedAtOnce
		return tx.SendBatch(ctx, batch).Close()
	})
	return more, err
}

// EachSealed implements [audit.Log].
func (s *Store) EachSealed(ctx context.Context, sealed func(audit.Sealed), unsealed func(e audit.Event, now time.Time)) error {
	return ours(pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select c.n, c.event, c.seal, c.keyed, a.id is not null, coalesce(a.id, 0), coalesce(a.at, now()), coalesce(a.by, ''), coalesce(a.what, ''), coalesce(a.kind, ''), a.object,
			coalesce(a.name, ''), a.version, coalesce(a.detail, '') from audit_chain c left join audit a on a.id = c.event order by c.n`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var one audit.Sealed
			var e audit.Event
			var there bool
			if err := rows.Scan(&one.N, &one.ID, &one.Seal, &one.Keyed, &there, &e.ID, &e.At, &e.By, &e.What, &e.Kind, &e.Object, &e.Name, &e.Version, &e.Detail); err != nil {
				return err
			}
			if there {
				one.Event = &e
			}
			sealed(one)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		var now time.Time
		if err := tx.QueryRow(ctx, `select now()`).Scan(&now); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, `select `+auditColumns+` from audit a where not exists (select from audit_chain c where c.event = a.id) order by a.id`)
		if err != nil {
			return err
		}
		waiting, err := all(rows, err, pgx.RowToStructByPos[audit.Event])
		for _, e := range waiting {
			unsealed(e, now)
		}
		return err
	}))
}

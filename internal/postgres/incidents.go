package postgres

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/alert"
	"widelark/internal/audit"
	"widelark/internal/watch"
)

const incidentColumns = `id, item, name, subject, said, query, most, since, last_at, over_at, told_at, acknowledged_at, acknowledged_by, reason`

func scanIncident(row pgx.CollectableRow) (i alert.Incident, err error) {
	return i, row.Scan(&i.ID, &i.Alert, &i.Name, &i.Subject, &i.Said, &i.Query, &i.Most, &i.Since, &i.LastAt, &i.OverAt, &i.ToldAt, &i.AcknowledgedAt, &i.AcknowledgedBy, &i.Reason)
}

// MeetIncidents implements [alert.Store].
func (s *Store) MeetIncidents(ctx context.Context, item watch.Item, found []alert.Found, now time.Time, linger time.Duration) ([]alert.Incident, error) {
	q := s.within(ctx)
	for _, f := range found {
		rows, err := q.Query(ctx, `insert into incidents (item, name, subject, said, query, most, since, last_at) values ($1, $2, $3, $4, $5, $6, $7, $7)
			on conflict (item, subject) where over_at is null do update set last_at = excluded.last_at,
				said = case when excluded.most >= incidents.most then excluded.said else incidents.said end,
				query = case when excluded.most >= incidents.most then excluded.query else incidents.query end, most = greatest(incidents.most, excluded.most)`,
			item.ID, item.Name, f.Subject, f.Said, f.Query, f.Count, now)
		if err != nil {
			return nil, ours(err)
		}
		if rows.Close(); rows.Err() != nil {
			return nil, ours(rows.Err())
		}
	}
	rows, err := q.Query(ctx, `update incidents set over_at = $2 where item = $1 and over_at is null and last_at < $3`, item.ID, now, now.Add(-linger))
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	if err != nil {
		return nil, ours(err)
	}
	rows, err = q.Query(ctx, `select `+incidentColumns+` from incidents where item = $1 and over_at is null order by since, subject`, item.ID)
	return all(rows, err, scanIncident)
}

// Untold implements [alert.Store].
func (s *Store) Untold(ctx context.Context, of uuid.UUID) ([]alert.Incident, error) {
	rows, err := s.within(ctx).Query(ctx, `select `+incidentColumns+` from incidents where item = $1 and over_at is not null and told_at is null and acknowledged_at is null order by since, subject`, of)
	return all(rows, err, scanIncident)
}

// NoteTold implements [alert.Store].
func (s *Store) NoteTold(ctx context.Context, ids []uuid.UUID, now time.Time) error {
	rows, err := s.within(ctx).Query(ctx, `update incidents set told_at = $2 where id = any($1)`, ids, now)
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	return ours(err)
}

// Incidents implements [alert.Store].
func (s *Store) Incidents(ctx context.Context, of uuid.UUID, open bool, limit int) ([]alert.Incident, error) {
	rows, err := s.pool.Query(ctx, `select `+incidentColumns+` from incidents where ($1 = '00000000-0000-0000-0000-000000000000'::uuid or item = $1) and (not $2 or over_at is null and acknowledged_at is null)
		order by (over_at is null) desc, since desc, id limit $3`, of, open, limit)
	return all(rows, err, scanIncident)
}

// Acknowledge implements [alert.Store].
func (s *Store) Acknowledge(ctx context.Context, id uuid.UUID, reason string, by access.Actor) (seen alert.Incident, err error) {
	err = s.as(ctx, by, access.Watch, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `update incidents set acknowledged_at = coalesce(acknowledged_at, now()), acknowledged_by = case when acknowledged_at is null then $2 else acknowledged_by end,
			reason = case when acknowledged_at is null then $3 else reason end where id = $1 returning `+incidentColumns, id, by.Name(), reason)
		if seen, err = one(rows, err, scanIncident); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.Acknowledged, Kind: string(watch.Alert), Object: &seen.Alert, Name: seen.Name, Detail: seen.Said})
	})
	return seen, err
}

// KeepIncidents implements [alert.Store].
func (s *Store) KeepIncidents(ctx context.Context, before time.Time, by access.Actor) error {
	return s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from incidents where over_at < $1`, before); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from outbox where next_at is null and made_at < $1`, before)
		return err
	})
}

package postgres

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/standing"
)

// Used minutes stand in rows of a day in UTC: which day they count for depends on the organisation's zone, and is not the store's concern.
const (
	minutesADay = 24 * 60
	daysKept    = 31
)

// AddUsed implements [standing.Minutes].
func (s *Store) AddUsed(ctx context.Context, used []standing.Used, by access.Actor) error {
	return s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		batch, newest := &pgx.Batch{}, int64(0)
		batch.Queue(`update facts set used = used + 1`) // first, so that gates wait for each other here, and never for each other's rows
		for _, u := range used {
			if u.Person == uuid.Nil && !u.Address.IsValid() {
				for _, m := range u.Minutes { // the minute after which it was not used begins with the next one
					batch.Queue(`with longer as (
						update passages set until = least(ends_at, greatest(until, to_timestamp($2::bigint * 60) + make_interval(mins => idle_minutes))) where id = $1 and until > now() and idle_minutes > 0 and until < ends_at returning 1)
						update facts set version = version + 1 where exists (select from longer)`, u.Rule, m+1)
				}
				continue
			}
			days := map[int64][]int64{}
			for _, m := range u.Minutes {
				days[m/minutesADay], newest = append(days[m/minutesADay], m), max(newest, m)
			}
			var address *netip.Addr
			if u.Person == uuid.Nil && u.Address.IsValid() {
				address = &u.Address
			}
			for day, minutes := range days {
				batch.Queue(`insert into minutes_used as kept (rule, person, address, day, minutes) values ($1, $2, $3, $4, $5) on conflict (rule, person, address, day)
					do update set minutes = (select array_agg(distinct m order by m) from unnest(kept.minutes || excluded.minutes) m)`, u.Rule, orNull(u.Person), address, day, minutes)
			}
		}
		batch.Queue(`delete from minutes_used where day < $1`, newest/minutesADay-daysKept)
		return tx.SendBatch(ctx, batch).Close()
	})
}

// Used implements [standing.Minutes].
func (s *Store) Used(ctx context.Context, since time.Time) ([]standing.Used, error) {
	rows, err := s.pool.Query(ctx, `select rule, person, address, minutes from minutes_used where day >= $1`, since.Unix()/60/minutesADay)
	return all(rows, err, func(row pgx.CollectableRow) (u standing.Used, err error) {
		var person *uuid.UUID
		var address *netip.Addr
		if err = row.Scan(&u.Rule, &person, &address, &u.Minutes); err != nil {
			return u, err
		}
		if person != nil {
			u.Person = *person
		}
		if address != nil {
			u.Address = *address
		}
		return u, nil
	})
}

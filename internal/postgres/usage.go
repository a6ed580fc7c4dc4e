package postgres

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/usage"
)

// StaleDays implements [usage.Store]. A day with fewer records than were counted has been dropped: what comes to it later is not counted.
func (s *Store) StaleDays(ctx context.Context) ([]usage.Day, error) {
	rows, err := s.pool.Query(ctx, `select p.amount, p.day from (select amount, day, max(position) as position, sum(n) as n from journal_parts where replaced_at is null group by 1, 2) p
		left join usage_days u using (amount, day) where u.day is null or p.position > u.position and p.n >= u.n order by p.day`)
	return all(rows, err, pgx.RowToStructByPos[usage.Day])
}

// PartsOf implements [usage.Store].
func (s *Store) PartsOf(ctx context.Context, d usage.Day) ([]archive.Part, error) {
	rows, err := s.pool.Query(ctx, `select `+partColumns+` from journal_parts where replaced_at is null and amount = $1 and day = $2 order by part`, string(d.Amount), d.Day)
	return all(rows, err, scanPart)
}

// SetUsage implements [usage.Store].
func (s *Store) SetUsage(ctx context.Context, d usage.Day, counted usage.State, counts usage.Counts, by access.Actor) error {
	return s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		set, err := tx.Exec(ctx, `insert into usage_days (day, amount, position, n) values ($1, $2, $3, $4)
			on conflict (day, amount) do update set position = excluded.position, n = excluded.n, at = now() where usage_days.position < excluded.position`, d.Day, string(d.Amount), counted.Position, counted.N)
		if err != nil || set.RowsAffected() == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, `create temporary table usage_new (like usage) on commit drop`); err != nil {
			return err
		}
		keys := counts.Sorted()
		columns := []string{"kind", "object", "entry", "day", "amount", "requests", "stopped", "last_at"}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"usage_new"}, columns, pgx.CopyFromSlice(len(keys), func(i int) ([]any, error) {
			n := counts[keys[i]]
			return []any{string(keys[i].Kind), keys[i].ID, keys[i].Entry, d.Day, string(d.Amount), n.Requests, n.Stopped, n.Last}, nil
		})); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from usage u where day = $1 and amount = $2 and not exists (select from usage_new n where (n.kind, n.object, n.entry) = (u.kind, u.object, u.entry))`, d.Day, string(d.Amount)); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into usage select * from usage_new on conflict (kind, object, entry, day, amount) do update set requests = excluded.requests, stopped = excluded.stopped, last_at = excluded.last_at
			where (usage.requests, usage.stopped, usage.last_at) is distinct from (excluded.requests, excluded.stopped, excluded.last_at)`)
		return err
	})
}

// KeepUsage implements [usage.Store].
func (s *Store) KeepUsage(ctx context.Context, before time.Time, by access.Actor) error {
	return s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		for _, table := range []string{"usage", "usage_days"} {
			if _, err := tx.Exec(ctx, `delete from `+table+` where day < $1`, before.UTC()); err != nil {
				return err
			}
		}
		return nil
	})
}

// Usage implements [usage.Store].
func (s *Store) Usage(ctx context.Context, kind usage.Kind, ids, entries []string, since time.Time) (map[usage.Key]usage.Used, error) {
	from := since.UTC().Truncate(24 * time.Hour)
	rows, err := s.pool.Query(ctx, `select object, entry, (day - $4::date)::integer, sum(requests)::bigint, sum(stopped)::bigint, max(last_at) from usage
		where kind = $1 and object = any($2) and ($3::text[] is null or entry = any($3)) group by object, entry, day`, string(kind), ids, entries, from)
	if err != nil {
		return nil, ours(err)
	}
	found := map[usage.Key]usage.Used{}
	var key usage.Key
	var day int
	var n usage.Count
	_, err = pgx.ForEachRow(rows, []any{&key.ID, &key.Entry, &day, &n.Requests, &n.Stopped, &n.Last}, func() error {
		key.Kind = kind
		of := found[key]
		if day < 0 {
			n.Requests, n.Stopped = 0, 0 // only when it was used last is of interest
		} else {
			for len(of.Days) <= day {
				of.Days = append(of.Days, 0)
			}
			of.Days[day] += n.Requests
		}
		of.Add(n)
		found[key] = of
		return nil
	})
	return found, ours(err)
}

// UsageSpan implements [usage.Store].
func (s *Store) UsageSpan(ctx context.Context) (since, until time.Time, err error) {
	var first, last *time.Time
	if err = s.pool.QueryRow(ctx, `select min(day), max(at) from usage_days`).Scan(&first, &last); err == nil && first != nil {
		since, until = *first, *last
	}
	return since, until, ours(err)
}

// before is the version of the draft at a moment, $1.
const versionThen = `(select coalesce(max(version), -1) from edits where at <= $1)`

// Unmet implements [usage.Store].
func (s *Store) Unmet(ctx context.Context, since time.Time) (u usage.Unmet, err error) {
	const met = ` and not exists (select from usage u where u.kind = $2 and u.object = n.id::text and u.last_at >= $1) order by 1`
	rows, err := s.pool.Query(ctx, `select distinct n.id from (select (rule->>'id')::uuid as id from objects, jsonb_array_elements(coalesce(nullif(body->'rules', 'null'), '[]')) rule
		where kind = 'policy' and since <= `+versionThen+` and (gone is null or gone > `+versionThen+`) and rule->>'id' <> '') n where true`+met, since, string(usage.Rule))
	if u.Rules, err = all(rows, err, pgx.RowTo[uuid.UUID]); err != nil {
		return u, err
	}
	rows, err = s.pool.Query(ctx, `select n.id from objects n where kind = 'exception' and gone is null and since <= `+versionThen+`
		and not exists (select from usage where kind = $2 and object = '' and last_at >= $1)`+met, since, string(usage.Exception))
	u.Exceptions, err = all(rows, err, pgx.RowTo[uuid.UUID])
	return u, err
}

// UnmetEntries implements [usage.Store].
func (s *Store) UnmetEntries(ctx context.Context, list uuid.UUID, since time.Time) ([]usage.UnmetEntry, error) {
	rows, err := s.pool.Query(ctx, `select e.id, e.pattern from entries e where e.list_id = $2 and e.gone is null and not e.off and not e.carve_out and e.kind not in ('note', 'unreadable')
		and (e.until is null or e.until >= current_date) and e.since <= `+versionThen+`
		and not exists (select from usage u where u.kind = 'entry' and u.object = $2::text and u.entry in (e.pattern, '') and u.last_at >= $1) order by e.id`, since, list)
	return all(rows, err, pgx.RowToStructByPos[usage.UnmetEntry])
}

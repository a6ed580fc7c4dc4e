package postgres

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
)

// AddSeen implements [revision.SeenStore].
func (s *Store) AddSeen(ctx context.Context, pages []revision.SeenPage, by access.Actor) error {
	hosts, paths, requests, days := make([]string, len(pages)), make([]string, len(pages)), make([]int64, len(pages)), make([]time.Time, len(pages))
	for i, p := range pages {
		hosts[i], paths[i], requests[i], days[i] = p.Host, p.Path, p.Requests, p.LastOn
	}
	return s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `insert into seen as s (host, path, requests, last_on)
		select host, path, sum(requests), max(last_on) from unnest($1::text[], $2::text[], $3::bigint[], $4::date[]) i(host, path, requests, last_on)
		group by host, path order by host, path
		on conflict (host, path) do update set requests = s.requests + excluded.requests, last_on = greatest(s.last_on, excluded.last_on)`,
			hosts, paths, requests, days)
		return err
	})
}

// EachSeen implements [revision.SeenStore].
func (s *Store) EachSeen(ctx context.Context, each func(revision.SeenPage) error) error {
	rows, err := s.pool.Query(ctx, `select host, path, requests, last_on from seen`)
	if err != nil {
		return ours(err)
	}
	var p revision.SeenPage
	_, err = pgx.ForEachRow(rows, []any{&p.Host, &p.Path, &p.Requests, &p.LastOn}, func() error { return each(p) })
	return ours(err)
}

// SeenVersion implements [revision.SeenStore].
func (s *Store) SeenVersion(ctx context.Context) (version string, err error) {
	err = s.pool.QueryRow(ctx, `select count(*) || '/' || coalesce(sum(requests), 0) from seen`).Scan(&version)
	return version, ours(err)
}

// SeenHosts implements [revision.SeenStore]: the most asked for first.
func (s *Store) SeenHosts(ctx context.Context, text string, limit int) ([]revision.SeenPage, error) {
	rows, err := s.pool.Query(ctx, `select host, '/', sum(requests)::bigint, max(last_on) from seen where host like $1
		group by host order by 3 desc, 1 limit $2`, containing(text), limit)
	return all(rows, err, pgx.RowToStructByPos[revision.SeenPage])
}

package postgres

import (
	"context"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

const presenceColumns = `id, person, address, from_at, until, made_by, how`

func scanPresence(row pgx.CollectableRow) (p standing.Presence, err error) {
	err = row.Scan(&p.ID, &p.Person, &p.Address, &p.From, &p.Until, &p.MadeBy, &p.How)
	return p, err
}

// AddPresence implements [standing.Store].
func (s *Store) AddPresence(ctx context.Context, p standing.Presence, by access.Actor) (made standing.Presence, err error) {
	err = s.asFor(ctx, by, access.Presences, access.Object{Name: "this presence"}, known(subject{person: p.Person}), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update presences set until = now() where address = $1 and until > now()`, p.Address); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `insert into presences (person, address, until, made_by, how) values ($1, $2, $3, $4, $5) returning `+presenceColumns,
			p.Person, p.Address, p.Until, by.Name(), p.How)
		if made, err = one(rows, err, scanPresence); err != nil {
			return err
		}
		return factsChanged(ctx, tx)
	})
	return made, err
}

// EndPresence implements [standing.Store].
func (s *Store) EndPresence(ctx context.Context, at netip.Addr, by access.Actor) error {
	return s.asFor(ctx, by, access.Presences, access.Object{Name: "this presence"}, func(tx pgx.Tx) (there []subject, err error) {
		rows, err := tx.Query(ctx, `select `+presenceColumns+` from presences where address = $1 and until > now()`, at)
		found, err := all(rows, err, scanPresence)
		for _, p := range found {
			there = append(there, subject{person: p.Person})
		}
		return there, err
	}, func(tx pgx.Tx) error {
		ended, err := tx.Exec(ctx, `update presences set until = now() where address = $1 and until > now()`, at)
		if err == nil && ended.RowsAffected() == 0 {
			err = revision.ErrNotFound
		}
		if err != nil {
			return err
		}
		return factsChanged(ctx, tx)
	})
}

// Presences implements [standing.Store].
func (s *Store) Presences(ctx context.Context, endAfter time.Time) ([]standing.Presence, error) {
	rows, err := s.pool.Query(ctx, `select `+presenceColumns+` from presences where until > $1 order by from_at desc, id`, endAfter)
	return all(rows, err, scanPresence)
}

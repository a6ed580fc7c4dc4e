package postgres

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// DraftVersion returns the version that the draft has now.
func (s *Store) DraftVersion(ctx context.Context) (version int64, err error) {
	err = s.pool.QueryRow(ctx, `select version from draft`).Scan(&version)
	return version, err
}

// Draft returns the draft as it is at one moment. The entries of a list whose version the caller knows are left out.
func (s *Store) Draft(ctx context.Context, known map[uuid.UUID]int64) (draft revision.Draft, err error) {
	moment := pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}
	err = pgx.BeginTxFunc(ctx, s.pool, moment, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `select version from draft`).Scan(&draft.Version); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select id, name, version, entry_count from lists order by lower(name)`)
		var counts []int64
		draft.Lists, err = all(rows, err, func(row pgx.CollectableRow) (l revision.DraftList, err error) {
			var count int64
			err = row.Scan(&l.ID, &l.Name, &l.Version, &count)
			counts = append(counts, count)
			return l, err
		})
		if err != nil {
			return err
		}
		for i := range draft.Lists {
			l := &draft.Lists[i]
			if version, ok := known[l.ID]; ok && version == l.Version {
				continue
			}
			if err := fill(ctx, tx, l, int(counts[i])); err != nil {
				return err
			}
		}
		draft.Policies, err = policies(ctx, tx)
		return err
	})
	return draft, err
}

// fill reads the entries of a list; notes are of no use to a trial.
func fill(ctx context.Context, tx pgx.Tx, l *revision.DraftList, count int) error {
	l.Entries, l.IDs = make([]pattern.Entry, 0, count), make([]int64, 0, count)
	rows, err := tx.Query(ctx, `select id, `+entryColumns+` from entries
		where list_id = $1 and key is not null order by position`, l.ID)
	if err != nil {
		return err
	}
	var id int64
	var p parts
	_, err = pgx.ForEachRow(rows, append([]any{&id}, p.targets()...), func() error {
		entry, err := p.entry()
		l.Entries, l.IDs = append(l.Entries, entry), append(l.IDs, id)
		return err
	})
	return err
}

package postgres

import (
	"context"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// DraftVersion returns the versions that the draft and the catalogue have now.
func (s *Store) DraftVersion(ctx context.Context) (draft, catalogue int64, err error) {
	err = s.pool.QueryRow(ctx, `select d.version, c.version from draft d, catalogue c`).Scan(&draft, &catalogue)
	return draft, catalogue, err
}

// ReadDraft lets read look at the draft as it is at one moment.
func (s *Store) ReadDraft(ctx context.Context, read func(revision.DraftReader) error) error {
	moment := pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}
	return pgx.BeginTxFunc(ctx, s.pool, moment, func(tx pgx.Tx) error { return read(draftReader{tx}) })
}

// draftReader implements [revision.DraftReader].
type draftReader struct{ tx pgx.Tx }

func (r draftReader) Draft(ctx context.Context) (draft revision.Draft, err error) {
	if err := r.tx.QueryRow(ctx, `select d.version, d.classified, c.version from draft d, catalogue c`).Scan(&draft.Version, &draft.Classified, &draft.Catalogue); err != nil {
		return draft, err
	}
	rows, err := r.tx.Query(ctx, `select id, name, version, entry_count from lists order by lower(name)`)
	draft.Lists, err = all(rows, err, pgx.RowToStructByPos[revision.DraftList])
	return draft, err
}

func (r draftReader) Local(ctx context.Context) (local revision.Local, err error) {
	rows, err := r.tx.Query(ctx, `select `+correctionColumns+` from corrections order by id`)
	if local.Corrections, err = all(rows, err, scanCorrection); err != nil {
		return local, err
	}
	if local.Own, err = ownCategories(ctx, r.tx); err != nil {
		return local, err
	}
	rows, err = r.tx.Query(ctx, `select `+scorecardColumns+` from scorecards order by lower(name)`)
	local.Scorecards, err = all(rows, err, scanScorecard)
	return local, err
}

func (r draftReader) Entries(ctx context.Context, list uuid.UUID, since int64, sink revision.EntrySink) error {
	rows, err := r.tx.Query(ctx, `select e.id, e.kind, e.key is null or e.carve_out and e.key = '! ' || e.pattern, `+entryColumns+` from entries e
		where e.list_id = $1 and e.gone is null and e.kind <> 'note' and e.since > $2`, list, since)
	if err != nil {
		return err
	}
	var id int64
	var kind string
	var plain bool // the pattern is typed as it is compared
	var p parts
	_, err = pgx.ForEachRow(rows, append([]any{&id, &kind, &plain}, p.targets()...), func() error {
		if plain && !p.off && p.until == nil && p.note == "" {
			switch pattern.Kind(kind) {
			case pattern.Site:
				sink.Named(id, p.pattern, pattern.AndBelow, p.carveOut)
				return nil
			case pattern.Host:
				sink.Named(id, strings.TrimPrefix(p.pattern, "="), pattern.Only, p.carveOut)
				return nil
			case pattern.Below:
				if name := strings.TrimPrefix(p.pattern, "*."); !strings.Contains(name, "*") {
					sink.Named(id, name, pattern.BelowOnly, p.carveOut)
					return nil
				}
			}
		}
		entry, err := p.entry()
		if err == nil {
			sink.Entry(id, entry)
		}
		return err
	})
	return err
}

func (r draftReader) Gone(ctx context.Context, list uuid.UUID, since int64) ([]int64, error) {
	rows, err := r.tx.Query(ctx, `select distinct id from entries where list_id = $1 and gone > $2 and since <= $2 and kind <> 'note'`, list, since)
	return all(rows, err, pgx.RowTo[int64])
}

package postgres

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// DraftVersion returns the versions that the draft and the catalogue have now, and the revision that is live.
func (s *Store) DraftVersion(ctx context.Context) (now revision.Now, err error) {
	err = s.pool.QueryRow(ctx, `select d.version, c.version, d.directories, r.number, r.version from draft d, catalogue c,
		(select number, version from revisions order by number desc limit 1) r`).Scan(&now.Draft, &now.Catalogue, &now.Directories, &now.Live.Number, &now.Live.Version)
	return now, err
}

// ReadDraft calls read with a consistent view of the draft as it is now, or as it was at a version; 0 for now.
func (s *Store) ReadDraft(ctx context.Context, version int64, read func(revision.DraftReader) error) error {
	moment := pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}
	return pgx.BeginTxFunc(ctx, s.pool, moment, func(tx pgx.Tx) error { return read(draftReader{tx, version}) })
}

// draftReader implements [revision.DraftReader].
type draftReader struct {
	tx pgx.Tx
	at int64 // a version; 0 for what is now
}

// held is the condition for rows of a table, by its alias, that hold at a version; 0 for now.
func held(alias string, version int64) string {
	if version == 0 {
		return alias + ".gone is null"
	}
	return fmt.Sprintf("%[1]s.since <= %[2]d and (%[1]s.gone is null or %[1]s.gone > %[2]d)", alias, version)
}

// came is the condition for rows that hold at a version, 0 for now, and not at another. An index serves each case.
func came(alias string, from, to int64) string {
	if to == 0 || to >= from {
		return fmt.Sprintf("%s.since > %d and ", alias, from) + held(alias, to)
	}
	return fmt.Sprintf("%[1]s.gone > %[2]d and %[1]s.gone <= %[3]d and %[1]s.since <= %[2]d", alias, to, from)
}

// went is the condition for rows that held at a version and do not at another, 0 for now.
func went(alias string, from, to int64) string {
	if to == 0 {
		return fmt.Sprintf("%[1]s.gone > %[2]d and %[1]s.since <= %[2]d", alias, from)
	}
	return came(alias, to, from)
}

func (r draftReader) Draft(ctx context.Context) (draft revision.Draft, err error) {
	if err := r.tx.QueryRow(ctx, `select d.version, c.version, d.directories from draft d, catalogue c`).Scan(&draft.Version, &draft.Catalogue, &draft.Directories); err != nil {
		return draft, err
	}
	most := draft.Version
	if r.at != 0 {
		if r.at > draft.Version {
			return draft, revision.ErrNotFound
		}
		draft.Version, most = r.at, r.at
	}
	err = r.tx.QueryRow(ctx, `select coalesce(greatest(max(since) filter (where since <= $1), max(gone) filter (where gone <= $1)), 0)
		from objects where kind in ('correction', 'category', 'scorecard')`, most).Scan(&draft.Classified)
	if err != nil {
		return draft, err
	}
	lists := `select id, name, version, entry_count from lists order by lower(name)`
	if r.at != 0 {
		lists = fmt.Sprintf(`select o.id, o.name, c.version, c.entries from objects o cross join lateral
			(select max(c.version) as version, sum(c.added - c.removed)::bigint as entries from list_changes c where c.list_id = o.id and c.version <= %d) c
			where o.kind = 'list' and %s order by lower(o.name)`, r.at, held("o", r.at))
	}
	rows, err := r.tx.Query(ctx, lists)
	draft.Lists, err = all(rows, err, pgx.RowToStructByPos[revision.DraftList])
	return draft, err
}

// rowsOf reads the states of a kind that has a table of its own as rows of it. Columns are of an alias c; what every object has is of o.
func rowsOf[T any](ctx context.Context, r draftReader, kind revision.Kind, columns string, scan pgx.RowToFunc[T]) ([]T, error) {
	rows, err := r.tx.Query(ctx, `select `+columns+` from objects o, jsonb_populate_record(null::`+tableOf[kind]+`, o.body) c
		where o.kind = $1 and `+held("o", r.at)+` order by lower(o.name), o.id`, kind)
	return all(rows, err, scan)
}

func (r draftReader) Local(ctx context.Context) (local revision.Local, err error) {
	if local.Corrections, err = rowsOf(ctx, r, revision.KindCorrection, `c.id, c.uid, c.entry, c.categories, c.reason, c.at, c.by`, scanCorrection); err != nil {
		return local, err
	}
	if local.Own, err = rowsOf(ctx, r, revision.KindCategory, `c.id, c.key, c.name, c.description, c.family, c.adds, o.since, o.updated_at, o.updated_by,
		c.lists, array(select '' from unnest(c.lists))`, scanOwnCategory); err != nil {
		return local, err
	}
	local.Scorecards, err = rowsOf(ctx, r, revision.KindScorecard, `c.id, c.name, c.description, c.category, c.threshold, c.terms, c.off,
		o.since, o.updated_at, o.updated_by`, scanScorecard)
	return local, err
}

func (r draftReader) Schedules(ctx context.Context) ([]revision.Schedule, error) {
	return rowsOf(ctx, r, revision.KindSchedule, `c.id, c.name, c.description, c.zone, c.text, o.since, o.updated_at, o.updated_by`, scanSchedule)
}

func (r draftReader) Objects(ctx context.Context, from int64) (changed []revision.Object, gone []uuid.UUID, err error) {
	rows, err := r.tx.Query(ctx, `select `+objectColumns+` from objects o where kind not in `+kindsOfTables+` and (`+came("o", from, r.at)+` or directory is not null and gone is null and $1)`, from == 0)
	if changed, err = all(rows, err, scanObject); err != nil || from == 0 {
		return changed, nil, err
	}
	rows, err = r.tx.Query(ctx, `select id from objects o where kind not in `+kindsOfTables+` and `+went("o", from, r.at)+`
		and not exists (select from objects n where n.id = o.id and `+held("n", r.at)+`)`)
	gone, err = all(rows, err, pgx.RowTo[uuid.UUID])
	return changed, gone, err
}

func (r draftReader) Entries(ctx context.Context, list uuid.UUID, from int64, sink revision.EntrySink) error {
	return r.entries(ctx, sink, came("e", from, r.at), list)
}

func (r draftReader) EntriesBetween(ctx context.Context, list uuid.UUID, from, until int64, sink revision.EntrySink) error {
	between := ` and e.id >= $2 and e.id < $3`
	if r.at == 0 {
		return r.entries(ctx, sink, held("e", 0)+between, list, from, until)
	}
	// In two parts, as an index has what still holds, and another what does not.
	if err := r.entries(ctx, sink, fmt.Sprintf(`e.gone is null and e.since <= %d`, r.at)+between, list, from, until); err != nil {
		return err
	}
	return r.entries(ctx, sink, fmt.Sprintf(`e.gone > %[1]d and e.since <= %[1]d`, r.at)+between, list, from, until)
}

// entries passes the entries of a list, which is $1, for which a condition holds.
func (r draftReader) entries(ctx context.Context, sink revision.EntrySink, where string, arguments ...any) error {
	rows, err := r.tx.Query(ctx, `select e.id, e.kind, e.key, `+entryColumns+` from entries e where e.list_id = $1 and e.kind <> 'note' and `+where, arguments...)
	if err != nil {
		return err
	}
	var id int64
	var kind string
	var key *string // nil where the pattern is written as it is compared
	var p parts
	_, err = pgx.ForEachRow(rows, append([]any{&id, &kind, &key}, p.targets()...), func() error {
		if (key == nil || p.carveOut) && !p.off && p.until == nil && p.note == "" {
			name, scope, ok := pattern.CutScope(pattern.Kind(kind), p.pattern)
			if ok && (key == nil || *key == pattern.Entry{Pattern: pattern.Named(name, scope), CarveOut: true}.Key()) {
				sink.Named(id, name, scope, p.carveOut)
				return nil
			}
		}
		sink.Entry(id, p.entry())
		return nil
	})
	return err
}

func (r draftReader) Gone(ctx context.Context, list uuid.UUID, from int64) ([]int64, error) {
	rows, err := r.tx.Query(ctx, `select distinct id from entries e where list_id = $1 and kind <> 'note' and `+went("e", from, r.at), list)
	return all(rows, err, pgx.RowTo[int64])
}

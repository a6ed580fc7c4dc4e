package postgres

import (
	"bytes"
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
)

const partColumns = `part, position, amount, day, n, first_at, last_at`

func scanPart(row pgx.CollectableRow) (p archive.Part, err error) {
	return p, row.Scan(&p.ID, &p.Position, &p.Amount, &p.Day, &p.N, &p.First, &p.Last)
}

// source is the store as a source of records.
type source struct{ *Store }

// Records returns what archives read.
func (s *Store) Records() archive.Source { return source{s} }

// Parts implements [archive.Source].
func (s source) Parts(ctx context.Context, from, to time.Time) ([]archive.Part, error) {
	rows, err := s.pool.Query(ctx, `select `+partColumns+` from journal_parts
		where replaced_at is null and last_at >= $1 and first_at < $2 and day between ($1::timestamptz at time zone 'UTC')::date and ($2::timestamptz at time zone 'UTC')::date
		order by last_at desc, part desc`, from, to)
	return all(rows, err, scanPart)
}

// PartsAfter implements [archive.Source].
func (s source) PartsAfter(ctx context.Context, position int64, batches int) (parts []archive.Part, upTo, last int64, err error) {
	if err := s.pool.QueryRow(ctx, `select coalesce(max(position), 0), coalesce((select max(position) from (select distinct position from journal_arrivals where position > $1 order by position limit $2) next), $1)
		from journal_arrivals`, position, batches).Scan(&last, &upTo); err != nil || last <= position {
		return nil, position, last, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select `+partColumns+` from journal_parts where replaced_at is null and position > $1
		and day = any(array(select distinct day from journal_arrivals where position > $1 and position <= $2)) order by position, part`, position, upTo)
	parts, err = all(rows, err, scanPart)
	return parts, upTo, last, err
}

// Arrivals calls arrived after records have come, until the context ends; and every two seconds, as a notice is lost with its connection.
func (s source) Arrivals(ctx context.Context, arrived func()) {
	const anyway = 2 * time.Second
	for ctx.Err() == nil {
		conn, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig)
		if err == nil {
			_, err = conn.Exec(ctx, `listen journal`)
		}
		for err == nil {
			waiting, stop := context.WithTimeout(ctx, anyway)
			_, err = conn.WaitForNotification(waiting)
			if waiting.Err() != nil && ctx.Err() == nil {
				err = nil
			}
			stop()
			arrived()
		}
		if conn != nil {
			closing, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			_ = conn.Close(closing)
			stop()
		}
		select {
		case <-ctx.Done():
		case <-time.After(anyway):
			arrived()
		}
	}
}

// Heads implements [archive.Source].
func (s source) Heads(ctx context.Context, parts []archive.Part) ([][]byte, error) {
	ids, first, last := make([]int64, len(parts)), parts[0].Day, parts[0].Day
	for i, p := range parts {
		ids[i] = p.ID
		if p.Day.Before(first) {
			first = p.Day
		} else if p.Day.After(last) {
			last = p.Day
		}
	}
	rows, err := s.pool.Query(ctx, `select part, head from journal_parts where part = any($1) and day between $2 and $3`, ids, first, last)
	if err != nil {
		return nil, ours(err)
	}
	byID := map[int64][]byte{}
	var id int64
	var head []byte
	if _, err = pgx.ForEachRow(rows, []any{&id, &head}, func() error {
		byID[id] = bytes.Clone(head)
		return nil
	}); err != nil {
		return nil, ours(err)
	}
	heads := make([][]byte, len(parts))
	for i, id := range ids {
		heads[i] = byID[id]
	}
	return heads, nil
}

// Block implements [archive.Source].
func (s source) Block(ctx context.Context, p archive.Part, which segment.Block) (block []byte, err error) {
	column := [...]string{segment.Keys: "keys", segment.Texts: "texts", segment.IDs: "ids"}[which]
	rows, err := s.pool.Query(ctx, `select `+column+` from journal_parts where amount = $1 and day = $2 and part = $3`, string(p.Amount), p.Day, p.ID)
	found, err := all(rows, err, pgx.RowTo[[]byte])
	if err == nil && len(found) == 0 {
		err = archive.ErrGone
	}
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// OpenRecords implements [archive.Source].
func (s source) OpenRecords(ctx context.Context) (records []journal.Record, err error) {
	rows, err := s.pool.Query(ctx, `select record from journal_under_way`)
	packed, err := all(rows, err, pgx.RowTo[[]byte])
	if err != nil {
		return nil, err
	}
	for _, one := range packed {
		some, _, err := journal.ReadLines(bytes.NewReader(one))
		if err != nil {
			return nil, err
		}
		records = append(records, some...)
	}
	return records, nil
}

// RecordedSpan implements [archive.Source].
func (s source) RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error) {
	var first, last *time.Time
	if err = s.pool.QueryRow(ctx, `select min(first_at), max(last_at), coalesce(sum(n), 0) from journal_parts_everything where replaced_at is null`).Scan(&first, &last, &n); err == nil && first != nil {
		from, to = *first, *last
	}
	return from, to, n, ours(err)
}

// When parts are put together: those of an hour that is over into as few as there can be, and when the day is over those of its hours, too; small ones of an hour that is not over, as soon as there
// are several.
const (
	isOver     = 2 * time.Minute // after the end of an hour or a day
	severalOf  = 16              // parts of one size
	stillRead  = time.Hour       // searches that began before the parts were put together
	smallParts = 1024            // records; those of up to sixteen times as many are the next size
)

// MergeParts puts small parts together, and removes those whose records are in other ones. It reports whether there was anything to do, so that it is called again at once.
// Several services may call it.
func (s *Store) MergeParts(ctx context.Context, now time.Time, by access.Actor) (more bool, err error) {
	err = s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		var mine bool
		if err := tx.QueryRow(ctx, `select pg_try_advisory_xact_lock(hashtext('journal_merge'))`).Scan(&mine); err != nil || !mine {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from journal_parts where replaced_at < $1`, now.Add(-stillRead)); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from journal_batches where at < now() - interval '1 day'`); err != nil {
			return err
		}
		// Records that wait for being sent on are found by their arrivals.
		if _, err := tx.Exec(ctx, `delete from journal_arrivals where at < now() - interval '1 day' and (at < now() - interval '30 days' or position <= coalesce((select min(position) from forwarded), position))`); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+partColumns+` from journal_parts where replaced_at is null and n < $1 order by amount, first_at, part`, segment.Most/2)
		parts, err := all(rows, err, scanPart)
		if err != nil {
			return err
		}
		for _, some := range mergeable(parts, now) {
			if err := mergeRecords(ctx, tx, some, now); err != nil {
				return err
			}
			if more = true; ctx.Err() != nil {
				return ctx.Err()
			}
		}
		return nil
	})
	return more, err
}

// mergeable returns the groups of parts that are put together now. Precondition: the parts are in the order of amount and time.
func mergeable(parts []archive.Part, now time.Time) (groups [][]archive.Part) {
	for len(parts) > 0 {
		span := 24 * time.Hour
		if now.Sub(parts[0].First.Truncate(span)) <= span+isOver {
			span = time.Hour
		}
		begin := parts[0].First.Truncate(span)
		end := slices.IndexFunc(parts, func(p archive.Part) bool { return p.Amount != parts[0].Amount || !p.First.Truncate(span).Equal(begin) })
		if end < 0 {
			end = len(parts)
		}
		some := parts[:end]
		parts = parts[end:]
		over := now.Sub(begin) > span+isOver
		sizes := map[bool][]archive.Part{}
		for _, p := range some {
			small := !over && p.N < smallParts
			sizes[small] = append(sizes[small], p)
		}
		for _, of := range sizes {
			if over && len(of) > 1 || len(of) >= severalOf {
				n := 0
				for at, p := range of {
					if n += p.N; n > segment.Most {
						of = of[:at]
						break
					}
				}
				if len(of) > 1 {
					groups = append(groups, of)
				}
			}
		}
	}
	const atOnce = 20 // groups
	return groups[:min(len(groups), atOnce)]
}

// mergeRecords puts parts of a day together.
func mergeRecords(ctx context.Context, tx pgx.Tx, parts []archive.Part, now time.Time) error {
	var records []journal.Record
	var positions []int64
	ids, position := make([]int64, len(parts)), int64(0)
	for i, p := range parts {
		ids[i], position = p.ID, max(position, p.Position)
		var b segment.Blocks
		if err := tx.QueryRow(ctx, `select head, keys, texts, ids from journal_parts where amount = $1 and day = $2 and part = $3`, string(p.Amount), p.Day, p.ID).Scan(&b.Head, &b.Keys, &b.Texts, &b.IDs); err != nil {
			return err
		}
		err := b.Each(func(r journal.Record, of int64) {
			if of == 0 {
				of = p.Position
			}
			records, positions = append(records, r), append(positions, of)
		})
		if err != nil {
			return err
		}
	}
	p := recordsOf(parts[0].Amount, records, positions)
	if _, err := tx.Exec(ctx, `update journal_parts set replaced_at = $1 where part = any($2) and amount = $3 and day = $4`, now, ids, string(parts[0].Amount), parts[0].Day); err != nil {
		return err
	}
	return p.insert(ctx, tx, position)
}

// recordRows is the columns of the journal of before, in the order in which oldRecord reads them.
const recordRows = `at, amount, request, gate, gate_name, sight, verdict, method, url, person, machine, address, network, groups, categories, source,
	rung, policy, rule, exception, stint, list, entry, notes, by, provisos, not_held, traits, words, referrer, agent, revision, catalogue,
	outcome, status, media, size, took_ms, detail, reference`

func oldRecord(row pgx.CollectableRow) (r journal.Record, err error) {
	var address *netip.Addr
	var took int64
	ids := make([]pgtype.UUID, 9)
	err = row.Scan(&r.At, &r.Amount, &ids[0], &r.Gate, &r.GateName, &r.Sight, &r.Verdict, &r.Method, &r.URL, &ids[1], &ids[2], &address, &ids[3],
		&r.Groups, &r.Categories, &r.Source, &r.Rung, &ids[4], &ids[5], &ids[6], &ids[7], &ids[8], &r.Entry, &r.Notes, &r.By, &r.Provisos,
		&r.NotHeld, &r.Traits, &r.Words, &r.Referrer, &r.Agent, &r.Revision, &r.Catalogue, &r.Outcome, &r.Status, &r.Media, &r.Size, &took, &r.Detail, &r.Reference)
	for i, id := range []*uuid.UUID{&r.ID, &r.Person, &r.Machine, &r.Network, &r.Policy, &r.Rule, &r.Exception, &r.Stint, &r.List} {
		*id = ids[i].Bytes // zero where it is null
	}
	if address != nil {
		r.Address = *address
	}
	r.Took = time.Duration(took) * time.Millisecond
	return r, err
}

// MoveRows moves records that are kept as rows, as they were before, into parts: a batch with each call. It reports whether some are left.
func (s *Store) MoveRows(ctx context.Context, by access.Actor) (more bool, err error) {
	const most = 20_000
	var old *string
	if err := s.pool.QueryRow(ctx, `select to_regclass('journal_rows')::text`).Scan(&old); err != nil || old == nil {
		return false, ours(err)
	}
	var days []struct {
		Amount policy.Amount
		Day    time.Time
	}
	rows, err := s.pool.Query(ctx, `select distinct amount, (at at time zone 'UTC')::date from journal_rows`)
	days, err = all(rows, err, pgx.RowToStructByPos[struct {
		Amount policy.Amount
		Day    time.Time
	}])
	if err != nil {
		return false, err
	}
	for _, d := range days {
		if _, err := s.pool.Exec(ctx, `select journal_day($1, $2)`, string(d.Amount), d.Day); err != nil {
			return false, ours(err)
		}
	}
	err = s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table journal_rows in exclusive mode`); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `with taken as (select ctid, tableoid from journal_rows order by at limit $1)
			delete from journal_rows r using taken t where r.ctid = t.ctid and r.tableoid = t.tableoid returning `+strings.ReplaceAll(" "+recordRows, " at,", " r.at,"), most)
		records, err := all(rows, err, oldRecord)
		if err != nil {
			return err
		}
		if more = len(records) > 0; !more {
			_, err := tx.Exec(ctx, `drop table journal_rows`)
			return err
		}
		return batchOf(records).add(ctx, tx)
	})
	return more, err
}

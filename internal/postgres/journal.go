package postgres

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// AddRecords implements [journal.Store].
func (s *Store) AddRecords(ctx context.Context, records []journal.Record, by access.Actor) error {
	b := batchOf(records)
	return s.onDays(ctx, b, func() error {
		return s.as(ctx, by, access.Record, func(tx pgx.Tx) error { return b.add(ctx, tx) })
	})
}

// asGates takes what gates record.
type asGates struct{ *Store }

// AsGates returns what takes the records of gates.
func (s *Store) AsGates() journal.Batches { return asGates{s} }

// AddBatch implements [journal.Batches].
func (s asGates) AddBatch(ctx context.Context, id uuid.UUID, records []journal.Record) (refused int, err error) {
	b := batchOf(records)
	return b.refused, s.onDays(ctx, b, func() error {
		return s.as(ctx, access.Recorder, access.Record, func(tx pgx.Tx) error {
			added, err := tx.Exec(ctx, `insert into journal_batches (id) values ($1) on conflict do nothing`, id)
			if err != nil || added.RowsAffected() == 0 {
				return err
			}
			return b.add(ctx, tx)
		})
	})
}

// batch is records that are added together, ready to be written.
type batch struct {
	parts   []newPart
	opened  []journal.Record
	ended   []uuid.UUID
	refused int // at a moment that no clock shows
}

// newPart is the records of an hour, or some of them.
type newPart struct {
	day         day
	n           int
	first, last time.Time
	blocks      segment.Blocks
}

// day is a part of the journal.
type day struct {
	amount policy.Amount
	day    string // as 2026-11-29, in UTC
}

// The years of records. A gate whose clock is wrong must not make parts that are never dropped.
const (
	firstYear = 2000
	lastYear  = 2200
)

func batchOf(records []journal.Record) *batch {
	b := &batch{}
	last := map[uuid.UUID]int{} // where a request is in the batch as open and as ended, its end is
	for i := range records {
		if records[i].ID != uuid.Nil {
			last[records[i].ID] = i
		}
		if records[i].Replaces {
			b.ended = append(b.ended, records[i].ID)
		}
	}
	type hour struct {
		amount policy.Amount
		at     int64 // hours since 1970
	}
	hours := map[hour][]journal.Record{}
	for i := range records {
		r := records[i]
		switch {
		case r.At.Year() < firstYear || r.At.Year() > lastYear:
			b.refused++
			continue
		case r.ID == uuid.Nil: // recorded by something else than a gate
			r.ID = journal.NewID(r.At)
		case last[r.ID] != i:
			continue
		}
		r.Amount = cmp.Or(r.Amount, policy.Everything)
		if r.Outcome == journal.Open {
			b.opened = append(b.opened, r)
			continue
		}
		of := hour{r.Amount, r.At.Unix() / 3600}
		hours[of] = append(hours[of], r)
	}
	for of, all := range hours {
		for some := range slices.Chunk(all, segment.Most) {
			b.parts = append(b.parts, recordsOf(of.amount, some, nil))
		}
	}
	return b
}

// recordsOf makes a part of records of an hour.
func recordsOf(amount policy.Amount, records []journal.Record, positions []int64) newPart {
	p := newPart{n: len(records), blocks: segment.Write(records, positions), first: records[0].At, last: records[0].At}
	for i := range records {
		if at := records[i].At; at.Before(p.first) {
			p.first = at
		} else if at.After(p.last) {
			p.last = at
		}
	}
	p.day = day{amount, p.first.UTC().Format(time.DateOnly)}
	return p
}

// positionLock is held while a batch gets its position and until it is committed, so that positions grow in the order in which batches can be seen.
const positionLock = `select pg_advisory_xact_lock(hashtext('journal_positions'))`

// add writes a batch. It does what others wait for last.
func (b *batch) add(ctx context.Context, tx pgx.Tx) error {
	if len(b.ended) > 0 {
		if _, err := tx.Exec(ctx, `delete from journal_under_way where request = any($1)`, b.ended); err != nil {
			return err
		}
	}
	for i := range b.opened {
		record, err := journal.PackLines(b.opened[i : i+1])
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into journal_under_way (request, at, record) values ($1, $2, $3) on conflict (request) do update set record = excluded.record`, b.opened[i].ID, b.opened[i].At, record); err != nil {
			return err
		}
	}
	if len(b.parts) == 0 {
		return nil
	}
	if _, err := tx.Exec(ctx, positionLock); err != nil {
		return err
	}
	var position int64
	if err := tx.QueryRow(ctx, `select nextval('journal_positions')`).Scan(&position); err != nil {
		return err
	}
	for i := range b.parts {
		if err := b.parts[i].insert(ctx, tx, position); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into journal_arrivals (position, amount, day) values ($1, $2, $3) on conflict do nothing`, position, string(b.parts[i].day.amount), b.parts[i].day.day); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, `notify journal`)
	return err
}

func (p *newPart) insert(ctx context.Context, tx pgx.Tx, position int64) error {
	_, err := tx.Exec(ctx, `insert into journal_parts (amount, day, position, n, first_at, last_at, head, keys, texts, ids) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
		string(p.day.amount), p.day.day, position, p.n, p.first, p.last, p.blocks.Head, p.blocks.Keys, p.blocks.Texts, p.blocks.IDs)
	return err
}

// noPartition is the code of PostgreSQL for a row that no part of a table takes (check_violation).
const noPartition = "23514"

// onDays adds a batch with add, after it has made the days that its parts go to.
func (s *Store) onDays(ctx context.Context, b *batch, add func() error) error {
	for again := false; ; again = true {
		for i := range b.parts {
			d := b.parts[i].day
			if _, known := s.days.Load(d); known && !again {
				continue
			}
			if _, err := s.pool.Exec(ctx, `select journal_day($1, $2)`, string(d.amount), d.day); err != nil {
				return ours(err)
			}
			s.days.Store(d, true)
		}
		err := add()
		if missing, ok := errors.AsType[*pgconn.PgError](err); ok && missing.Code == noPartition && !again {
			continue // a day that was there has been dropped
		}
		return err
	}
}

// KeepRecords drops the parts of the journal whose days ended before a moment, by the amount that they hold.
func (s *Store) KeepRecords(ctx context.Context, from map[policy.Amount]time.Time, by access.Actor) (dropped []string, err error) {
	err = s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `set local lock_timeout = '5s'`); err != nil { // others must not wait for long behind this
			return err
		}
		for amount, moment := range from {
			rows, err := tx.Query(ctx, `select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid join pg_class p on p.oid = i.inhparent
				where p.relname = 'journal_parts_' || $1 and c.relname < 'journal_parts_' || $1 || '_' || $2 order by c.relname`, string(amount), moment.UTC().Format("20060102"))
			old, err := all(rows, err, pgx.RowTo[string])
			if err != nil {
				return err
			}
			for _, name := range old {
				if _, err := tx.Exec(ctx, `drop table `+pgx.Identifier{name}.Sanitize()); err != nil {
					return err
				}
			}
			dropped = append(dropped, old...)
		}
		if moment, ok := from[policy.Everything]; ok { // of gates that are gone
			_, err := tx.Exec(ctx, `delete from journal_under_way where at < $1`, moment)
			return err
		}
		return nil
	})
	return dropped, err
}

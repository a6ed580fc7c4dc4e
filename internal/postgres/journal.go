package postgres

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
)

// AddRecords implements [journal.Store].
func (s *Store) AddRecords(ctx context.Context, records []journal.Record, by access.Actor) error {
	return s.onDays(ctx, records, func() error {
		return s.as(ctx, by, access.Record, func(tx pgx.Tx) error { return addRecords(ctx, tx, records) })
	})
}

// asGates takes what gates record.
type asGates struct{ *Store }

// AsGates returns what takes the records of gates.
func (s *Store) AsGates() journal.Batches { return asGates{s} }

// AddBatch implements [journal.Batches].
func (s asGates) AddBatch(ctx context.Context, id uuid.UUID, records []journal.Record) (refused int, err error) {
	add := func(adding func(tx pgx.Tx) error) error {
		return s.onDays(ctx, records, func() error {
			return s.as(ctx, access.Recorder, access.Record, func(tx pgx.Tx) error {
				if _, err := tx.Exec(ctx, `delete from journal_batches where at < now() - interval '1 day'`); err != nil {
					return err
				}
				added, err := tx.Exec(ctx, `insert into journal_batches (id) values ($1) on conflict do nothing`, id)
				if err != nil || added.RowsAffected() == 0 {
					return err
				}
				return adding(tx)
			})
		})
	}
	var said error // by the database
	err = add(func(tx pgx.Tx) error {
		said = addRecords(ctx, tx, records)
		return said
	})
	if !refusesValues(said) {
		return 0, err
	}
	// One record must not keep the others out: those that the database refuses are found by halves.
	err = add(func(tx pgx.Tx) (err error) {
		refused, err = addSome(ctx, tx, records)
		return err
	})
	return refused, err
}

// refusesValues reports whether the database refuses what a row says, and would every time (data exceptions and violated constraints, classes 22 and 23).
func refusesValues(err error) bool {
	said, ok := errors.AsType[*pgconn.PgError](err)
	return ok && (strings.HasPrefix(said.Code, "22") || strings.HasPrefix(said.Code, "23"))
}

// addSome adds the records that the database takes, and returns how many it does not.
func addSome(ctx context.Context, tx pgx.Tx, records []journal.Record) (refused int, err error) {
	within, err := tx.Begin(ctx)
	if err != nil {
		return 0, err
	}
	if err = addRecords(ctx, within, records); err == nil {
		return 0, within.Commit(ctx)
	}
	if back := within.Rollback(ctx); back != nil || !refusesValues(err) {
		return 0, errors.Join(err, back)
	}
	if len(records) == 1 {
		return 1, nil
	}
	for _, half := range [][]journal.Record{records[:len(records)/2], records[len(records)/2:]} {
		n, err := addSome(ctx, tx, half)
		if err != nil {
			return 0, err
		}
		refused += n
	}
	return refused, nil
}

// day is a part of the journal.
type day struct {
	amount policy.Amount
	day    string // as 2026-11-29, in UTC
}

func amountOf(r *journal.Record) policy.Amount { return cmp.Or(r.Amount, policy.Everything) }

// noPartition is the code of PostgreSQL for a row that no part of a table takes (check_violation).
const noPartition = "23514"

// onDays adds records with add, after it has made the parts of the journal that they go to.
func (s *Store) onDays(ctx context.Context, records []journal.Record, add func() error) error {
	for again := false; ; again = true {
		for i := range records {
			d := day{amountOf(&records[i]), records[i].At.UTC().Format(time.DateOnly)}
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
			continue // a part that was there has been dropped
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
				where p.relname = 'journal_' || $1 and c.relname < 'journal_' || $1 || '_' || $2 order by c.relname`, string(amount), moment.UTC().Format("20060102"))
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
		return nil
	})
	return dropped, err
}

// recordColumns are the columns of the journal that records fill, in the order of rowOf.
var recordColumns = []string{
	"at", "amount", "request", "gate", "gate_name", "sight", "verdict", "method", "url", "person", "machine", "address", "network", "groups", "categories", "source",
	"rung", "policy", "rule", "exception", "stint", "list", "entry", "notes", "by", "provisos", "not_held", "traits", "words", "referrer", "agent", "revision", "catalogue",
	"outcome", "status", "media", "size", "took_ms", "detail", "reference",
}

func rowOf(r *journal.Record) []any {
	var address *netip.Addr
	if r.Address.IsValid() {
		address = &r.Address
	}
	return []any{
		r.At, string(amountOf(r)), orNull(r.ID), string(r.Gate), r.GateName, string(r.Sight), string(r.Verdict), r.Method, r.URL, orNull(r.Person), orNull(r.Machine), address, orNull(r.Network),
		r.Groups, r.Categories, string(r.Source), string(r.Rung), orNull(r.Policy), orNull(r.Rule), orNull(r.Exception), orNull(r.Stint), orNull(r.List), r.Entry, r.Notes, r.By, r.Provisos,
		r.NotHeld, textsOf(r.Traits), r.Words, r.Referrer, r.Agent, r.Revision, r.Catalogue, string(r.Outcome), r.Status, r.Media, r.Size, r.Took.Milliseconds(), r.Detail, r.Reference,
	}
}

func addRecords(ctx context.Context, tx pgx.Tx, records []journal.Record) error {
	last := map[uuid.UUID]int{} // where a request is in the batch as open and as ended, its end is
	var ended []uuid.UUID
	for i := range records {
		if records[i].ID != uuid.Nil {
			last[records[i].ID] = i
		}
		if records[i].Replaces {
			ended = append(ended, records[i].ID)
		}
	}
	if len(ended) > 0 {
		if _, err := tx.Exec(ctx, `delete from journal where outcome = 'open' and request = any($1)`, ended); err != nil {
			return err
		}
	}
	kept := make([]*journal.Record, 0, len(records))
	for i := range records {
		if records[i].ID == uuid.Nil || last[records[i].ID] == i {
			kept = append(kept, &records[i])
		}
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"journal"}, recordColumns, pgx.CopyFromSlice(len(kept), func(i int) ([]any, error) { return rowOf(kept[i]), nil }))
	return err
}

// textsOf returns texts for the database, which takes no null there.
func textsOf[T ~string](all []T) []string {
	texts := make([]string, len(all))
	for i, t := range all {
		texts[i] = string(t)
	}
	return texts
}

// EachRecord implements [journal.Store].
func (s *Store) EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(journal.Record) error) error {
	query := `select at, person, address, method, url, gate, sight, verdict from journal_everything where at >= $1 and at < $2`
	if inOrder {
		query += ` order by id`
	}
	rows, err := s.pool.Query(ctx, query, from, to)
	if err != nil {
		return ours(err)
	}
	var r journal.Record
	var person pgtype.UUID
	var address *netip.Addr
	var method, gate, sight, verdict pgtype.DriverBytes // of the connection: gone with the next row
	said := map[string]string{}                         // texts that come again and again, so that each is made once
	_, err = pgx.ForEachRow(rows, []any{&r.At, &person, &address, &method, &r.URL, &gate, &sight, &verdict}, func() error {
		r.Person, r.Address = person.Bytes, netip.Addr{} // no bytes where it is null
		if address != nil {
			r.Address = *address
		}
		recall(said, &r.Method, method)
		recall(said, &r.Gate, gate)
		recall(said, &r.Sight, sight)
		recall(said, &r.Verdict, verdict)
		return each(r)
	})
	return ours(err)
}

// recall converts bytes to a string, and returns the interned copy in said if there is one.
func recall[T ~string](said map[string]string, into *T, read []byte) {
	known, ok := said[string(read)]
	if !ok {
		known = string(read)
		said[known] = known
	}
	*into = T(known)
}

// LatestRecords implements [journal.Store].
func (s *Store) LatestRecords(ctx context.Context, limit int) ([]journal.Record, error) {
	rows, err := s.pool.Query(ctx, `select `+strings.Join(recordColumns, ", ")+` from journal order by id desc limit $1`, limit)
	return all(rows, err, scanRecord)
}

func scanRecord(row pgx.CollectableRow) (r journal.Record, err error) {
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

// RecordedSpan implements [journal.Store].
func (s *Store) RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error) {
	var first, last *time.Time
	if err = s.pool.QueryRow(ctx, `select min(at), max(at), count(*) from journal_everything`).Scan(&first, &last, &n); err == nil && first != nil {
		from, to = *first, *last
	}
	return from, to, n, ours(err)
}

package postgres

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"widelark/internal/access"
	"widelark/internal/journal"
)

// AddRecords implements [journal.Store].
func (s *Store) AddRecords(ctx context.Context, records []journal.Record, by access.Actor) error {
	return s.as(ctx, by, access.Record, func(tx pgx.Tx) error { return addRecords(ctx, tx, records) })
}

// asGates takes what gates record.
type asGates struct{ *Store }

// AsGates returns what takes the records of gates.
func (s *Store) AsGates() journal.Batches { return asGates{s} }

// AddBatch implements [journal.Batches].
func (s asGates) AddBatch(ctx context.Context, id uuid.UUID, records []journal.Record) error {
	return s.as(ctx, access.Recorder, access.Record, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from journal_batches where at < now() - interval '1 day'`); err != nil {
			return err
		}
		added, err := tx.Exec(ctx, `insert into journal_batches (id) values ($1) on conflict do nothing`, id)
		if err != nil || added.RowsAffected() == 0 {
			return err
		}
		return addRecords(ctx, tx, records)
	})
}

func addRecords(ctx context.Context, tx pgx.Tx, records []journal.Record) error {
	columns := []string{
		"at", "person", "address", "method", "url", "gate", "sight", "verdict", "gate_name", "revision", "by", "outcome", "status", "media", "size", "took_ms", "detail", "reference", "provisos", "not_held", "traits",
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"journal"}, columns, pgx.CopyFromSlice(len(records), func(i int) ([]any, error) {
		r := records[i]
		var person *uuid.UUID
		if r.Person != uuid.Nil {
			person = &r.Person
		}
		var address *netip.Addr
		if r.Address.IsValid() {
			address = &r.Address
		}
		return []any{
			r.At, person, address, r.Method, r.URL, string(r.Gate), string(r.Sight), string(r.Verdict),
			r.GateName, r.Revision, r.By, string(r.Outcome), r.Status, r.Media, r.Size, r.Took.Milliseconds(), r.Detail, r.Reference,
			r.Provisos, r.NotHeld, traitsOf(r),
		}, nil
	}))
	return err
}

// traitsOf returns the traits of a record for the database, which takes no null there.
func traitsOf(r journal.Record) []string {
	traits := make([]string, len(r.Traits))
	for i, t := range r.Traits {
		traits[i] = string(t)
	}
	return traits
}

// EachRecord implements [journal.Store].
func (s *Store) EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(journal.Record) error) error {
	query := `select at, person, address, method, url, gate, sight, verdict from journal where at >= $1 and at < $2`
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
	rows, err := s.pool.Query(ctx, `select at, coalesce(person, '00000000-0000-0000-0000-000000000000'), address, method, url, gate, sight, verdict,
		gate_name, revision, by, outcome, status, media, size, took_ms, detail, reference, provisos, not_held, traits from journal order by id desc limit $1`, limit)
	if err != nil {
		return nil, ours(err)
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (r journal.Record, err error) {
		var address *netip.Addr
		var took int64
		err = row.Scan(&r.At, &r.Person, &address, &r.Method, &r.URL, &r.Gate, &r.Sight, &r.Verdict,
			&r.GateName, &r.Revision, &r.By, &r.Outcome, &r.Status, &r.Media, &r.Size, &took, &r.Detail, &r.Reference, &r.Provisos, &r.NotHeld, &r.Traits)
		if address != nil {
			r.Address = *address
		}
		r.Took = time.Duration(took) * time.Millisecond
		return r, err
	})
	return all, ours(err)
}

// RecordedSpan implements [journal.Store].
func (s *Store) RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error) {
	var first, last *time.Time
	if err = s.pool.QueryRow(ctx, `select min(at), max(at), count(*) from journal`).Scan(&first, &last, &n); err == nil && first != nil {
		from, to = *first, *last
	}
	return from, to, n, ours(err)
}

package postgres

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/revision"
)

// AddRecorded implements [revision.JournalStore].
func (s *Store) AddRecorded(ctx context.Context, records []revision.Recorded) error {
	columns := []string{"at", "person", "address", "method", "url", "gate", "verdict"}
	_, err := s.pool.CopyFrom(ctx, pgx.Identifier{"journal"}, columns, pgx.CopyFromSlice(len(records), func(i int) ([]any, error) {
		r := records[i]
		var person *uuid.UUID
		if r.Person != uuid.Nil {
			person = &r.Person
		}
		var address *netip.Addr
		if r.Address.IsValid() {
			address = &r.Address
		}
		return []any{r.At, person, address, r.Method, r.URL, string(r.Gate), string(r.Verdict)}, nil
	}))
	return ours(err)
}

// EachRecorded implements [revision.JournalStore].
func (s *Store) EachRecorded(ctx context.Context, from, to time.Time, each func(revision.Recorded) error) error {
	rows, err := s.pool.Query(ctx, `select at, person, address, method, url, gate, verdict from journal where at >= $1 and at < $2`, from, to)
	if err != nil {
		return ours(err)
	}
	var r revision.Recorded
	var person *uuid.UUID
	var address *netip.Addr
	_, err = pgx.ForEachRow(rows, []any{&r.At, &person, &address, &r.Method, &r.URL, &r.Gate, &r.Verdict}, func() error {
		r.Person, r.Address = uuid.Nil, netip.Addr{}
		if person != nil {
			r.Person = *person
		}
		if address != nil {
			r.Address = *address
		}
		return each(r)
	})
	return ours(err)
}

// RecordedSpan implements [revision.JournalStore].
func (s *Store) RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error) {
	var first, last *time.Time
	if err = s.pool.QueryRow(ctx, `select min(at), max(at), count(*) from journal`).Scan(&first, &last, &n); err == nil && first != nil {
		from, to = *first, *last
	}
	return from, to, n, ours(err)
}

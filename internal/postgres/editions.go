package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/parcel"
	"widelark/internal/revision"
)

// editionsLock lets one service at a time add an edition.
const editionsLock = 0x6c61726b65646974

// SignedEdition returns an edition by its number; 0 for the last. The error is [revision.ErrNotFound] where it is not there.
func (s *Store) SignedEdition(ctx context.Context, number int64) (e parcel.Signed, err error) {
	err = s.pool.QueryRow(ctx, `select number, manifest, signature from editions where $1::bigint in (0, number) order by number desc limit 1`, number).Scan(&e.Number, &e.Manifest, &e.Signature)
	if errors.Is(err, pgx.ErrNoRows) {
		err = revision.ErrNotFound
	}
	return e, ours(err)
}

// SignedEditions returns all editions that are kept, the last first.
func (s *Store) SignedEditions(ctx context.Context) ([]parcel.Signed, error) {
	rows, err := s.pool.Query(ctx, `select number, manifest, signature from editions order by number desc`)
	return all(rows, err, pgx.RowToStructByPos[parcel.Signed])
}

// AddEdition adds an edition with its parts, which is made of the one with the number before and shares parts with that. Where the last edition is of the same
// revision, catalogue, directories and zone, it adds nothing and returns that one; where it is another one than before, the error is [revision.ErrStale].
func (s *Store) AddEdition(ctx context.Context, before int64, m parcel.Manifest, parts map[parcel.Digest][]byte, sign func(*parcel.Manifest) (parcel.Signed, error), by access.Actor) (e parcel.Signed, err error) {
	err = s.as(ctx, by, access.Obey, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, int64(editionsLock)); err != nil {
			return err
		}
		var last struct {
			revision, catalogue, directories int64
			zone                             string
		}
		err := tx.QueryRow(ctx, `select number, revision, catalogue, directories, zone, manifest, signature from editions order by number desc limit 1`).
			Scan(&e.Number, &last.revision, &last.catalogue, &last.directories, &last.zone, &e.Manifest, &e.Signature)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if err == nil && last.revision == m.Revision && last.catalogue == m.Catalogue && last.directories == m.Directories && last.zone == m.Zone {
			return nil
		}
		if e.Number != before {
			return revision.ErrStale
		}
		digests, packed := make([][]byte, 0, len(parts)), make([][]byte, 0, len(parts))
		for d, part := range parts {
			digests, packed = append(digests, d[:]), append(packed, part)
		}
		if _, err := tx.Exec(ctx, `insert into edition_parts (digest, packed) select * from unnest($1::bytea[], $2::bytea[]) on conflict do nothing`, digests, packed); err != nil {
			return err
		}
		m.Number = e.Number + 1
		if err := tx.QueryRow(ctx, `select now()`).Scan(&m.MadeAt); err != nil {
			return err
		}
		if e, err = sign(&m); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into editions (number, revision, catalogue, directories, zone, manifest, signature) values ($1, $2, $3, $4, $5, $6, $7)`,
			m.Number, m.Revision, m.Catalogue, m.Directories, m.Zone, e.Manifest, e.Signature)
		return err
	})
	return e, err
}

// Parts returns compressed parts by their digests. Those that are not there are left out.
func (s *Store) Parts(ctx context.Context, wanted []parcel.Digest) (map[parcel.Digest][]byte, error) {
	digests := make([][]byte, len(wanted))
	for i := range wanted {
		digests[i] = wanted[i][:]
	}
	rows, err := s.pool.Query(ctx, `select digest, packed from edition_parts where digest = any($1)`, digests)
	if err != nil {
		return nil, ours(err)
	}
	found := make(map[parcel.Digest][]byte, len(wanted))
	var digest, packed []byte
	_, err = pgx.ForEachRow(rows, []any{&digest, &packed}, func() error {
		found[parcel.Digest(digest)] = packed
		packed = nil
		return nil
	})
	return found, ours(err)
}

// KeepEditions removes editions before a number, and parts that are none of keep, which are those from that number on until last. Where there is a later
// edition by now, it removes nothing.
func (s *Store) KeepEditions(ctx context.Context, from, last int64, keep []parcel.Digest, by access.Actor) error {
	digests := make([][]byte, len(keep))
	for i := range keep {
		digests[i] = keep[i][:]
	}
	return s.as(ctx, by, access.Obey, func(tx pgx.Tx) error {
		// Under the lock, nobody adds an edition of parts that are about to go.
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, int64(editionsLock)); err != nil {
			return err
		}
		var later bool
		if err := tx.QueryRow(ctx, `select exists (select from editions where number > $1)`, last).Scan(&later); err != nil || later {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from editions where number < $1`, from); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from edition_parts p where not exists (select from unnest($1::bytea[]) k where k = p.digest)`, digests)
		return err
	})
}

// DatabaseTime returns the time by the clock of the database.
func (s *Store) DatabaseTime(ctx context.Context) (now time.Time, err error) {
	err = s.pool.QueryRow(ctx, `select clock_timestamp()`).Scan(&now)
	return now, ours(err)
}

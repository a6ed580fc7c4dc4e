package postgres

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/segment"
	"widelark/internal/revision"
)

// EraseRecords erases what is recorded of a person: records, open ones too; requests to the help desk; minutes, presences and ways past a hold; what alerts found of them, and messages about that. With
// names, what the person was called in past states, too, which needs that the person is in the draft no more. Revisions and the audit log stay whole. It returns how many records there were. Parts of
// the journal are made anew one after the other, each in a transaction: where it breaks off, it is begun again. Several services may call it.
func (s *Store) EraseRecords(ctx context.Context, person uuid.UUID, names bool, reason string, by access.Actor) (erased int64, err error) {
	var called string
	if err := s.as(ctx, by, access.Erase, func(tx pgx.Tx) error {
		var now bool
		rows, err := tx.Query(ctx, `select coalesce(nullif(body->>'fullName', ''), name), bool_or(gone is null) over () from objects where kind = 'person' and id = $1 order by gone is null desc, since desc limit 1`, person)
		if err != nil {
			return err
		}
		if _, err := pgx.CollectExactlyOneRow(rows, func(row pgx.CollectableRow) (struct{}, error) { return struct{}{}, row.Scan(&called, &now) }); err != nil {
			return err
		}
		if names && now {
			return &revision.FieldError{Field: "names", Msg: fmt.Sprintf("%s is in the draft: take the person out there and publish, and what they are called can be erased", called)}
		}
		return nil
	}); err != nil {
		return 0, err
	}
	parts, err := s.partsOf(ctx, person)
	if err != nil {
		return 0, err
	}
	for _, p := range parts {
		var n int64
		err := s.as(ctx, by, access.Erase, func(tx pgx.Tx) error {
			var err error
			n, err = erasePart(ctx, tx, p, person)
			return err
		})
		if err != nil {
			return erased, err
		}
		erased += n
	}
	return erased, s.as(ctx, by, access.Erase, func(tx pgx.Tx) error {
		opened, err := tx.Query(ctx, `select request, record from journal_under_way`)
		if err != nil {
			return err
		}
		type open struct {
			id     uuid.UUID
			record []byte
		}
		all, err := pgx.CollectRows(opened, func(row pgx.CollectableRow) (o open, err error) { return o, row.Scan(&o.id, &o.record) })
		if err != nil {
			return err
		}
		for _, o := range all {
			is, err := isOf(o.record, person)
			if err != nil {
				return err
			}
			if !is {
				continue
			}
			if _, err := tx.Exec(ctx, `delete from journal_under_way where request = $1`, o.id); err != nil {
				return err
			}
			erased++
		}
		for _, table := range []string{"requests", "presences", "passages", "minutes_used"} {
			if _, err := tx.Exec(ctx, `delete from `+table+` where person = $1`, person); err != nil {
				return err
			}
		}
		// What alerts found of a person has the name that the person had then.
		if _, err := tx.Exec(ctx, `with called as (select distinct name from (select name from objects where id = $1 union all select body->>'fullName' from objects where id = $1) n where name <> '')
			, gone as (delete from incidents where subject in (select name from called) returning item)
			update outbox set subject = 'erased', message = '', problem = '', next_at = null where about in (select item from gone)`, person); err != nil {
			return err
		}
		if names {
			if _, err := tx.Exec(ctx, `update objects set name = 'erased-' || left(id::text, 8), body = jsonb_set(jsonb_set(body, '{fullName}', '""'), '{mail}', '""') where id = $1`, person); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `delete from person_passwords where person = $1`, person); err != nil {
				return err
			}
			called = "erased-" + person.String()[:8]
		}
		if err := factsChanged(ctx, tx); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.RecordsErased, Kind: "person", Object: &person, Name: called, Detail: fmt.Sprintf("%d records: %s", erased, reason)})
	})
}

// isOf reports whether an open record is a person's.
func isOf(packed []byte, person uuid.UUID) (bool, error) {
	records, _, err := journal.ReadLines(bytes.NewReader(packed))
	return err == nil && len(records) > 0 && records[0].Person == person, err
}

// partsOf returns the parts with records of a person; those that were replaced lately, too.
func (s *Store) partsOf(ctx context.Context, person uuid.UUID) ([]archive.Part, error) {
	rows, err := s.pool.Query(ctx, `select `+partColumns+`, head from journal_parts where amount = 'everything' order by day, part`)
	if err != nil {
		return nil, ours(err)
	}
	defer rows.Close()
	var found []archive.Part
	var p archive.Part
	var head []byte
	for rows.Next() {
		if err := rows.Scan(&p.ID, &p.Position, &p.Amount, &p.Day, &p.N, &p.First, &p.Last, &head); err != nil {
			return nil, err
		}
		seg, err := segment.Open(head, nil)
		if err != nil {
			return nil, fmt.Errorf("part %d of the journal: %w", p.ID, err)
		}
		if seg.HasValue(segment.Person, string(person[:])) {
			found = append(found, p)
		}
	}
	return found, ours(rows.Err())
}

// erasePart makes a part anew without the records of a person.
func erasePart(ctx context.Context, tx pgx.Tx, p archive.Part, person uuid.UUID) (erased int64, err error) {
	if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtext('journal_merge'))`); err != nil { // it must not be put together with others meanwhile
		return 0, err
	}
	var b segment.Blocks
	var replaced *time.Time
	rows, err := tx.Query(ctx, `delete from journal_parts where amount = $1 and day = $2 and part = $3 returning head, keys, texts, ids, replaced_at`, string(p.Amount), p.Day, p.ID)
	if err != nil {
		return 0, err
	}
	there := false
	for rows.Next() {
		there = true
		if err := rows.Scan(&b.Head, &b.Keys, &b.Texts, &b.IDs, &replaced); err != nil {
			return 0, err
		}
	}
	if rows.Close(); rows.Err() != nil || !there || replaced != nil { // what replaced it is erased by itself
		return 0, rows.Err()
	}
	var kept []journal.Record
	var positions []int64
	if err := b.Each(func(r journal.Record, of int64) {
		if r.Person == person {
			erased++
			return
		}
		if of == 0 {
			of = p.Position
		}
		kept, positions = append(kept, r), append(positions, of)
	}); err != nil {
		return 0, err
	}
	if _, err := tx.Exec(ctx, `update usage_days set n = n - $3 where day = $1 and amount = $2`, p.Day, string(p.Amount), erased); err != nil {
		return 0, err
	}
	if len(kept) == 0 {
		return erased, nil
	}
	made := recordsOf(p.Amount, kept, positions)
	return erased, made.insert(ctx, tx, p.Position)
}

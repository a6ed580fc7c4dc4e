package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

const (
	passageColumns = `id, rule, code, person, address, entries, from_at, until, reference, idle_minutes, ends_at, categories`
	codeColumns    = `id, body, used, made_at, made_by, ended_at`
)

func scanPassage(row pgx.CollectableRow) (p standing.Passage, err error) {
	var rule, code, person *uuid.UUID
	var address *netip.Addr
	var entries []byte
	var idle *int
	var ends *time.Time
	if err = row.Scan(&p.ID, &rule, &code, &person, &address, &entries, &p.From, &p.Until, &p.Reference, &idle, &ends, &p.Categories); err != nil {
		return p, err
	}
	if idle != nil && ends != nil {
		p.Idle, p.Ends = time.Duration(*idle)*time.Minute, *ends
	}
	for to, from := range map[*uuid.UUID]*uuid.UUID{&p.Rule: rule, &p.Code: code, &p.Person: person} {
		if from != nil {
			*to = *from
		}
	}
	if address != nil {
		p.Address = *address
	}
	return p, json.Unmarshal(entries, &p.Entries)
}

func scanCode(row pgx.CollectableRow) (c standing.Code, err error) {
	var body []byte
	if err = row.Scan(&c.ID, &body, &c.Used, &c.MadeAt, &c.MadeBy, &c.EndedAt); err == nil {
		err = json.Unmarshal(body, &c.CodeBody)
	}
	return c, err
}

// orNull returns an id for the database; null for the zero id.
func orNull(id uuid.UUID) *uuid.UUID {
	if id == uuid.Nil {
		return nil
	}
	return &id
}

// addPassage adds a passage in a transaction. It is a person's or, where nobody is known, an address's.
func addPassage(ctx context.Context, tx pgx.Tx, p standing.Passage) (standing.Passage, error) {
	var address *netip.Addr
	if p.Person == uuid.Nil && p.Address.IsValid() {
		address = &p.Address
	}
	entries, err := json.Marshal(p.Entries)
	if err != nil {
		return p, err
	}
	var idle *int
	var ends *time.Time
	if p.Idle > 0 {
		minutes := int(p.Idle / time.Minute)
		idle, ends = &minutes, &p.Ends
	}
	rows, err := tx.Query(ctx, `insert into passages (rule, code, person, address, entries, until, reference, idle_minutes, ends_at, categories) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) returning `+passageColumns,
		orNull(p.Rule), orNull(p.Code), orNull(p.Person), address, entries, p.Until, p.Reference, idle, ends, append([]string{}, p.Categories...))
	if p, err = one(rows, err, scanPassage); err != nil {
		return p, err
	}
	return p, factsChanged(ctx, tx)
}

// AddPassage implements [standing.Passages].
func (s *Store) AddPassage(ctx context.Context, p standing.Passage, by access.Actor) (made standing.Passage, err error) {
	err = s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		made, err = addPassage(ctx, tx, p)
		return err
	})
	return made, err
}

// EndPassage implements [standing.Passages].
func (s *Store) EndPassage(ctx context.Context, id uuid.UUID, by access.Actor) error {
	return s.asFor(ctx, by, access.Codes, access.Object{Name: "what a code opened"}, func(tx pgx.Tx) ([]subject, error) {
		rows, err := tx.Query(ctx, `select `+passageColumns+` from passages where id = $1`, id)
		p, err := one(rows, err, scanPassage)
		return []subject{{person: p.Person, address: p.Address}}, err
	}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select `+passageColumns+` from passages where id = $1 for update`, id)
		p, err := one(rows, err, scanPassage)
		if err != nil {
			return err
		}
		if ended, err := tx.Exec(ctx, `update passages set until = now() where id = $1 and until > now()`, id); err != nil || ended.RowsAffected() == 0 {
			return err
		}
		if err := factsChanged(ctx, tx); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.PassageEnded, Object: &p.ID, Name: p.Name()})
	})
}

// Passages implements [standing.Passages].
func (s *Store) Passages(ctx context.Context, endAfter time.Time) ([]standing.Passage, error) {
	rows, err := s.pool.Query(ctx, `select `+passageColumns+` from passages where until > $1 order by from_at desc, id`, endAfter)
	return all(rows, err, scanPassage)
}

// AddCode implements [standing.Passages].
func (s *Store) AddCode(ctx context.Context, c standing.CodeBody, hash []byte, by access.Actor) (made standing.Code, err error) {
	body, err := json.Marshal(c)
	if err != nil {
		return made, err
	}
	about := access.Object{Name: "an unlock code", Reach: c.Reach(), Length: time.Duration(c.Minutes) * time.Minute}
	var whom []subject
	if c.For != nil {
		whom = subjectsOf(c.For)
	}
	err = s.asFor(ctx, by, access.Codes, about, known(whom...), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `insert into codes (hash, body, uses, until, made_by) values ($1, $2, $3, $4, $5) returning `+codeColumns, hash, body, c.Uses, c.Until, by.Name())
		if made, err = one(rows, err, scanCode); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.CodeMade, Object: &made.ID, Name: made.Name(), Detail: c.Reason})
	})
	return made, err
}

// EndCode implements [standing.Passages].
func (s *Store) EndCode(ctx context.Context, id uuid.UUID, by access.Actor) (c standing.Code, err error) {
	err = s.asFor(ctx, by, access.Codes, access.Object{Name: "this code"}, func(tx pgx.Tx) ([]subject, error) {
		rows, err := tx.Query(ctx, `select `+codeColumns+` from codes where id = $1`, id)
		made, err := one(rows, err, scanCode)
		if err != nil || made.For == nil {
			return nil, err
		}
		return subjectsOf(made.For), nil
	}, func(tx pgx.Tx) error {
		ended, err := tx.Exec(ctx, `update codes set ended_at = now() where id = $1 and ended_at is null and until > now()`, id)
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+codeColumns+` from codes where id = $1`, id)
		if c, err = one(rows, err, scanCode); err != nil || ended.RowsAffected() == 0 {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.CodeEnded, Object: &c.ID, Name: c.Name()})
	})
	return c, err
}

// Codes implements [standing.Passages].
func (s *Store) Codes(ctx context.Context, endAfter time.Time) ([]standing.Code, error) {
	rows, err := s.pool.Query(ctx, `select `+codeColumns+` from codes where least(until, ended_at) > $1 order by made_at desc, id`, endAfter)
	return all(rows, err, scanCode)
}

// UseCode implements [standing.Passages].
func (s *Store) UseCode(ctx context.Context, hash []byte, choose func(c standing.Code) (standing.Passage, error), by access.Actor) (made standing.Passage, err error) {
	err = s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `update codes set used = used + 1 where hash = $1 and used < uses and ended_at is null and until > now() returning `+codeColumns, hash)
		c, err := one(rows, err, scanCode)
		if errors.Is(err, revision.ErrNotFound) {
			return fmt.Errorf("%w: there is none like it, or its time is over", standing.ErrCode)
		}
		if err != nil {
			return err
		}
		p, err := choose(c)
		if err != nil {
			return err
		}
		p.Code = c.ID
		if made, err = addPassage(ctx, tx, p); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.CodeUsed, Object: &c.ID, Name: c.Name(), Detail: made.Name()})
	})
	return made, err
}

// CountTry implements [standing.Passages].
func (s *Store) CountTry(ctx context.Context, who string, at, since time.Time, most int, by access.Actor) (may bool, err error) {
	err = s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		// One try of somebody at a time, so that many at once are not let through together.
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtextextended($1, 0))`, "code "+who); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from code_tries where at <= $1`, since); err != nil {
			return err
		}
		var tries int
		if err := tx.QueryRow(ctx, `select count(*) from code_tries where who = $1`, who).Scan(&tries); err != nil || tries >= most {
			return err
		}
		may = true
		_, err := tx.Exec(ctx, `insert into code_tries (who, at) values ($1, $2)`, who, at)
		return err
	})
	return may, err
}

// ForgetTries implements [standing.Passages].
func (s *Store) ForgetTries(ctx context.Context, who string, by access.Actor) error {
	return s.as(ctx, by, access.Record, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `delete from code_tries where who = $1`, who)
		return err
	})
}

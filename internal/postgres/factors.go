package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
)

// Factors implements [account.FactorStore].
func (s *Store) Factors(ctx context.Context, owner uuid.UUID) (has account.Factors, err error) {
	if err := s.pool.QueryRow(ctx, `select exists (select from code_generators where account_id = $1 and confirmed)`, owner).Scan(&has.Codes); err != nil {
		return has, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select id, name, made_at, used_at, credential from passkeys where account_id = $1 order by made_at, id`, owner)
	has.Passkeys, err = all(rows, err, pgx.RowToStructByName[account.Passkey])
	return has, err
}

// PutGenerator implements [account.FactorStore].
func (s *Store) PutGenerator(ctx context.Context, sealed []byte, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		put, err := tx.Exec(ctx, `insert into code_generators (account_id, secret) values ($1, $2)
			on conflict (account_id) do update set secret = excluded.secret where not code_generators.confirmed`, by.Account(), sealed)
		if err == nil && put.RowsAffected() == 0 {
			return account.ErrTaken
		}
		return err
	})
}

// Generator implements [account.FactorStore].
func (s *Store) Generator(ctx context.Context, owner uuid.UUID) (sealed []byte, confirmed bool, err error) {
	err = s.pool.QueryRow(ctx, `select secret, confirmed from code_generators where account_id = $1`, owner).Scan(&sealed, &confirmed)
	return sealed, confirmed, unknown(ours(err))
}

// UseStep implements [account.FactorStore].
func (s *Store) UseStep(ctx context.Context, step int64, by access.Actor) (fresh bool, err error) {
	err = s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		var confirmed bool
		err := tx.QueryRow(ctx, `select confirmed from code_generators where account_id = $1 and last_step < $2 for update`, by.Account(), step).Scan(&confirmed)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err == nil {
			_, err = tx.Exec(ctx, `update code_generators set last_step = $2, confirmed = true where account_id = $1`, by.Account(), step)
		}
		if err != nil {
			return err
		}
		fresh = true
		if confirmed {
			return nil
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.CodesSet})
	})
	return fresh, err
}

// RemoveGenerator implements [account.FactorStore].
func (s *Store) RemoveGenerator(ctx context.Context, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from code_generators where account_id = $1`, by.Account())
		if err == nil && gone.RowsAffected() == 0 {
			return account.ErrUnknown
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.CodesRemoved})
	})
}

// AddPasskey implements [account.FactorStore].
func (s *Store) AddPasskey(ctx context.Context, p account.Passkey, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		made, err := tx.Exec(ctx, `insert into passkeys (id, account_id, name, credential) values ($1, $2, $3, $4) on conflict do nothing`, p.ID, by.Account(), p.Name, p.Credential)
		if err == nil && made.RowsAffected() == 0 {
			return account.ErrTaken
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.PasskeyAdded, Name: p.Name})
	})
}

// UsePasskey implements [account.FactorStore].
func (s *Store) UsePasskey(ctx context.Context, p account.Passkey, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		used, err := tx.Exec(ctx, `update passkeys set used_at = now(), credential = $3 where id = $1 and account_id = $2`, p.ID, by.Account(), p.Credential)
		if err == nil && used.RowsAffected() == 0 {
			return account.ErrUnknown
		}
		return err
	})
}

// RemovePasskey implements [account.FactorStore].
func (s *Store) RemovePasskey(ctx context.Context, id []byte, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		var name string
		if err := tx.QueryRow(ctx, `delete from passkeys where id = $1 and account_id = $2 returning name`, id, by.Account()).Scan(&name); err != nil {
			return unknown(ours(err))
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.PasskeyRemoved, Name: name})
	})
}

// Once implements [account.FactorStore].
func (s *Store) Once(ctx context.Context, hash []byte, until time.Time) error {
	kept, err := s.pool.Exec(ctx, `with over as (delete from used_once where until < now())
		insert into used_once (hash, until) values ($1, $2) on conflict do nothing`, hash, until)
	if err == nil && kept.RowsAffected() == 0 {
		return account.ErrRefused
	}
	return ours(err)
}

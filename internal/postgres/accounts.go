package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/account"
	"widelark/internal/revision"
)

// unknown turns "no rows" into the account package's word for it.
func unknown(err error) error {
	if errors.Is(err, revision.ErrNotFound) {
		return account.ErrUnknown
	}
	return err
}

// AddAccount implements [account.Store].
func (s *Store) AddAccount(ctx context.Context, a account.Account, hash string) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `insert into accounts (name, full_name, password_hash, owner) values ($1, $2, $3, $4 or not exists (select from accounts))
		returning `+accountColumns, a.Name, a.FullName, hash, a.Owner)
	return one(rows, err, pgx.RowToStructByName[account.Account])
}

const accountColumns = `id, name, full_name, owner`

// Accounts implements [account.Store].
func (s *Store) Accounts(ctx context.Context) ([]account.Account, error) {
	rows, err := s.pool.Query(ctx, `select `+accountColumns+` from accounts order by lower(name)`)
	return all(rows, err, pgx.RowToStructByName[account.Account])
}

// SetOwner implements [account.Store].
func (s *Store) SetOwner(ctx context.Context, name string, owner bool) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		// Two who take it from each other at once must not leave nobody.
		if _, err := tx.Exec(ctx, `select from accounts for update`); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `update accounts set owner = $2 where lower(name) = lower($1)`, name, owner)
		if err == nil && tag.RowsAffected() == 0 {
			err = account.ErrUnknown
		}
		if err != nil {
			return err
		}
		var left bool
		if err := tx.QueryRow(ctx, `select exists (select from accounts where owner)`).Scan(&left); err != nil {
			return err
		}
		if !left {
			return account.ErrLastOwner
		}
		return nil
	})
}

// RemoveAccount implements [account.Store].
func (s *Store) RemoveAccount(ctx context.Context, id uuid.UUID) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select from accounts for update`); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `delete from accounts where id = $1`, id)
		if err == nil && tag.RowsAffected() == 0 {
			err = account.ErrUnknown
		}
		if err != nil {
			return err
		}
		var left bool
		if err := tx.QueryRow(ctx, `select exists (select from accounts where owner)`).Scan(&left); err != nil {
			return err
		}
		if !left {
			return account.ErrLastOwner
		}
		return nil
	})
}

// SetPassword implements [account.Store].
func (s *Store) SetPassword(ctx context.Context, id uuid.UUID, hash string, except uuid.UUID, tokens bool) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update accounts set password_hash = $2 where id = $1`, id, hash)
		if err == nil && tag.RowsAffected() == 0 {
			err = account.ErrUnknown
		}
		if err == nil {
			_, err = tx.Exec(ctx, `delete from sign_ins where account_id = $1 and id <> $2`, id, except)
		}
		if err == nil && tokens {
			_, err = tx.Exec(ctx, `delete from tokens where account_id = $1`, id)
		}
		return err
	})
}

// stay is the longest that a session lasts; rows of older ones are dropped with the next sign-in.
const stay = `interval '12 hours'`

// AddSession implements [account.Store].
func (s *Store) AddSession(ctx context.Context, owner uuid.UUID, one account.Session) error {
	_, err := s.pool.Exec(ctx, `with over as (delete from sign_ins where made_at < now() - `+stay+`)
		insert into sign_ins (id, account_id, address, agent) values ($1, $2, $3, $4)`, one.ID, owner, one.Address, one.Agent)
	return err
}

// Sessions implements [account.Store].
func (s *Store) Sessions(ctx context.Context, owner uuid.UUID) ([]account.Session, error) {
	rows, err := s.pool.Query(ctx, `select id, made_at, seen_at, address, agent from sign_ins
		where account_id = $1 and made_at > now() - `+stay+` and seen_at > now() - interval '2 hours' order by seen_at desc, made_at desc`, owner)
	return all(rows, err, pgx.RowToStructByName[account.Session])
}

// EndSession implements [account.Store].
func (s *Store) EndSession(ctx context.Context, owner, session uuid.UUID) error {
	return s.removeOwn(ctx, "sign_ins", owner, session)
}

// RemoveExpired removes the data of browser sessions that have run out. They count for nothing before that, too.
func (s *Store) RemoveExpired(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `delete from sessions where expiry < now()`)
	return ours(err)
}

// removeOwn takes a row out of a table, where it is the owner's.
func (s *Store) removeOwn(ctx context.Context, table string, owner, id uuid.UUID) error {
	tag, err := s.pool.Exec(ctx, `delete from `+table+` where id = $1 and account_id = $2`, id, owner)
	if err == nil && tag.RowsAffected() == 0 {
		return account.ErrUnknown
	}
	return err
}

// AccountBySession implements [account.Store]. It notes when the session was seen, at most once a minute.
func (s *Store) AccountBySession(ctx context.Context, session uuid.UUID) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `
		with seen as (update sign_ins set seen_at = now() where id = $1 and seen_at < now() - interval '1 minute')
		select a.id, a.name, a.full_name, a.owner from sign_ins s join accounts a on a.id = s.account_id where s.id = $1`, session)
	found, err := one(rows, err, pgx.RowToStructByName[account.Account])
	return found, unknown(err)
}

// AccountByName implements [account.Store].
func (s *Store) AccountByName(ctx context.Context, name string) (account.Account, string, error) {
	rows, err := s.pool.Query(ctx, `select id, name, full_name, owner, password_hash from accounts
		where lower(name) = lower($1)`, name)
	var hash string
	found, err := one(rows, err, func(row pgx.CollectableRow) (a account.Account, err error) {
		err = row.Scan(&a.ID, &a.Name, &a.FullName, &a.Owner, &hash)
		return a, err
	})
	return found, hash, unknown(err)
}

// Account implements [account.Store].
func (s *Store) Account(ctx context.Context, id uuid.UUID) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `select `+accountColumns+` from accounts where id = $1`, id)
	found, err := one(rows, err, pgx.RowToStructByName[account.Account])
	return found, unknown(err)
}

// AddToken implements [account.Store].
func (s *Store) AddToken(ctx context.Context, owner uuid.UUID, name string, hash []byte, expires *time.Time) (account.Token, error) {
	rows, err := s.pool.Query(ctx, `insert into tokens (account_id, name, hash, expires_at) values ($1, $2, $3, $4)
		returning id, name, created_at, last_used_at, expires_at`, owner, name, hash, expires)
	return one(rows, err, pgx.RowToStructByName[account.Token])
}

// Tokens implements [account.Store].
func (s *Store) Tokens(ctx context.Context, owner uuid.UUID) ([]account.Token, error) {
	rows, err := s.pool.Query(ctx, `select id, name, created_at, last_used_at, expires_at from tokens
		where account_id = $1 order by created_at`, owner)
	return all(rows, err, pgx.RowToStructByName[account.Token])
}

// RemoveToken implements [account.Store].
func (s *Store) RemoveToken(ctx context.Context, owner, token uuid.UUID) error {
	return s.removeOwn(ctx, "tokens", owner, token)
}

// AccountByToken implements [account.Store]. It notes the use of the token, at most once a minute.
func (s *Store) AccountByToken(ctx context.Context, hash []byte) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `
		with used as (
			update tokens set last_used_at = now()
			where hash = $1 and (last_used_at is null or last_used_at < now() - interval '1 minute')
		)
		select a.id, a.name, a.full_name, a.owner from tokens t join accounts a on a.id = t.account_id
		where t.hash = $1 and (t.expires_at is null or t.expires_at > now())`, hash)
	found, err := one(rows, err, pgx.RowToStructByName[account.Account])
	return found, unknown(err)
}

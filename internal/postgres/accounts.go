package postgres

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
	"widelark/internal/revision"
)

// unknown turns "no rows" into [account.ErrUnknown].
func unknown(err error) error {
	if errors.Is(err, revision.ErrNotFound) {
		return account.ErrUnknown
	}
	return err
}

// AddAccount implements [account.Store].
func (s *Store) AddAccount(ctx context.Context, a account.Account, hash string, by access.Actor) (made account.Account, err error) {
	err = s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `insert into accounts (name, full_name, password_hash, roles) values ($1, $2, $3, case when exists (select from accounts) then $4::jsonb else $5::jsonb end)
			returning `+accountColumns, a.Name, a.FullName, hash, orNone(a.Roles), []access.Held{{Role: access.Owner}})
		if made, err = one(rows, err, scanAccount); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.AccountMade, Name: made.Name, Detail: access.Described(made.Roles)})
	})
	return made, err
}

const accountColumns = `accounts.id, accounts.name, accounts.full_name, accounts.roles, coalesce(accounts.issuer, ''),
	exists (select from code_generators g where g.account_id = accounts.id and g.confirmed) or exists (select from passkeys p where p.account_id = accounts.id)`

// scanned returns where the account's columns go.
func scanned(a *account.Account) []any {
	return []any{&a.ID, &a.Name, &a.FullName, &a.Roles, &a.Issuer, &a.Second}
}

func scanAccount(row pgx.CollectableRow) (a account.Account, err error) {
	err = row.Scan(scanned(&a)...)
	return a, err
}

// orNone returns roles that are stored as an empty list where there are none.
func orNone(roles []access.Held) []access.Held {
	if roles == nil {
		return []access.Held{}
	}
	return roles
}

// Accounts implements [account.Store].
func (s *Store) Accounts(ctx context.Context) ([]account.Account, error) {
	rows, err := s.pool.Query(ctx, `select `+accountColumns+` from accounts order by lower(name)`)
	return all(rows, err, scanAccount)
}

// PutRoles implements [account.Store].
func (s *Store) PutRoles(ctx context.Context, id uuid.UUID, roles []access.Held, by access.Actor) (put account.Account, err error) {
	for _, h := range roles {
		if err := h.Validate(); err != nil {
			return put, &account.WeakError{Msg: err.Error()}
		}
	}
	err = s.leaveAnOwner(ctx, by, func(tx pgx.Tx) error {
		var elsewhere bool
		if err := tx.QueryRow(ctx, `select issuer is not null from accounts where id = $1`, id).Scan(&elsewhere); err != nil {
			return unknown(ours(err))
		}
		if elsewhere {
			return account.ErrProvider
		}
		rows, err := tx.Query(ctx, `update accounts set roles = $2 where id = $1 returning `+accountColumns, id, orNone(roles))
		if put, err = one(rows, err, scanAccount); err != nil {
			return unknown(err)
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.RolesPut, Name: put.Name, Detail: access.Described(put.Roles)})
	})
	return put, err
}

// RemoveAccount implements [account.Store].
func (s *Store) RemoveAccount(ctx context.Context, id uuid.UUID, by access.Actor) error {
	return s.leaveAnOwner(ctx, by, func(tx pgx.Tx) error {
		var name string
		if err := tx.QueryRow(ctx, `delete from accounts where id = $1 returning name`, id).Scan(&name); err != nil {
			return unknown(ours(err))
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.AccountRemoved, Name: name})
	})
}

// leaveAnOwner edits accounts, and rolls back with [account.ErrLastOwner] if no owner is left.
func (s *Store) leaveAnOwner(ctx context.Context, by access.Actor, do func(tx pgx.Tx) error) error {
	return s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		// Two owners who remove each other at once must not leave none.
		if _, err := tx.Exec(ctx, `select from accounts for update`); err != nil {
			return err
		}
		if err := do(tx); err != nil {
			return err
		}
		var left bool
		// An owner with a password here, as the provider may be away.
		if err := tx.QueryRow(ctx, `select exists (select from accounts where issuer is null and roles @> '[{"role": "owner"}]')`).Scan(&left); err != nil {
			return err
		}
		if !left {
			return account.ErrLastOwner
		}
		return nil
	})
}

// SetPassword implements [account.Store].
func (s *Store) SetPassword(ctx context.Context, id uuid.UUID, hash string, except uuid.UUID, reset bool, by access.Actor) error {
	act, e := access.OwnAccount, audit.Event{By: by.Name(), What: audit.PasswordChanged}
	if reset || id != by.Account() {
		act, e.What = access.Accounts, audit.PasswordReset
	}
	return s.as(ctx, by, act, func(tx pgx.Tx) error {
		var name string
		if err := tx.QueryRow(ctx, `update accounts set password_hash = $2 where id = $1 returning name`, id, hash).Scan(&name); err != nil {
			return unknown(ours(err))
		}
		_, err := tx.Exec(ctx, `delete from sign_ins where account_id = $1 and id <> $2`, id, except)
		if err == nil && reset {
			e.Name = name
			for _, table := range []string{"tokens", "code_generators", "passkeys"} {
				if _, err = tx.Exec(ctx, `delete from `+table+` where account_id = $1`, id); err != nil {
					break
				}
			}
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, e)
	})
}

// stay is the longest lifetime of a session; rows of older ones are deleted at the next sign-in.
const stay = `interval '12 hours'`

// AddSession implements [account.Store].
func (s *Store) AddSession(ctx context.Context, one account.Session, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `with over as (delete from sign_ins where made_at < now() - `+stay+`)
			insert into sign_ins (id, account_id, address, agent) values ($1, $2, $3, $4)`, one.ID, by.Account(), one.Address, one.Agent)
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.SignedIn})
	})
}

// Sessions implements [account.Store].
func (s *Store) Sessions(ctx context.Context, owner uuid.UUID) ([]account.Session, error) {
	rows, err := s.pool.Query(ctx, `select id, made_at, seen_at, address, agent from sign_ins
		where account_id = $1 and made_at > now() - `+stay+` and seen_at > now() - interval '30 minutes' order by seen_at desc, made_at desc`, owner)
	return all(rows, err, pgx.RowToStructByName[account.Session])
}

// EndSession implements [account.Store].
func (s *Store) EndSession(ctx context.Context, session uuid.UUID, elsewhere bool, by access.Actor) error {
	e := audit.Event{By: by.Name(), What: audit.SignedOut}
	if elsewhere {
		e.Detail = "from elsewhere"
	}
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from sign_ins where id = $1 and account_id = $2`, session, by.Account())
		if err == nil && gone.RowsAffected() == 0 {
			return account.ErrUnknown
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, e)
	})
}

// RemoveExpired removes the data of expired browser sessions, which are ignored even before that.
func (s *Store) RemoveExpired(ctx context.Context, by access.Actor) error {
	return s.as(ctx, by, access.Expire, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `delete from sessions where expiry < now()`)
		return err
	})
}

// AccountBySession implements [account.Store]. It notes when the session was seen, at most once a minute.
func (s *Store) AccountBySession(ctx context.Context, session uuid.UUID) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `
		with seen as (update sign_ins set seen_at = now() where id = $1 and seen_at < now() - interval '1 minute')
		select `+accountColumns+` from sign_ins s join accounts on accounts.id = s.account_id where s.id = $1`, session)
	found, err := one(rows, err, scanAccount)
	return found, unknown(err)
}

// AccountByName implements [account.Store].
func (s *Store) AccountByName(ctx context.Context, name string) (account.Account, string, error) {
	rows, err := s.pool.Query(ctx, `select `+accountColumns+`, password_hash from accounts
		where lower(name) = lower($1)`, name)
	var hash string
	found, err := one(rows, err, func(row pgx.CollectableRow) (a account.Account, err error) {
		err = row.Scan(append(scanned(&a), &hash)...)
		return a, err
	})
	return found, hash, unknown(err)
}

// Account implements [account.Store].
func (s *Store) Account(ctx context.Context, id uuid.UUID) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `select `+accountColumns+` from accounts where id = $1`, id)
	found, err := one(rows, err, scanAccount)
	return found, unknown(err)
}

// AddToken implements [account.Store].
func (s *Store) AddToken(ctx context.Context, t account.Token, hash []byte, by access.Actor) (made account.Token, err error) {
	err = s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		if by.Token() != uuid.Nil { // a token makes none that may more than itself
			var bounds []access.Held
			if err := tx.QueryRow(ctx, `select roles from tokens where id = $1`, by.Token()).Scan(&bounds); err != nil {
				return err
			}
			switch {
			case bounds != nil && t.Roles != nil:
				t.Roles = orNone(access.Meet(bounds, t.Roles))
			case bounds != nil:
				t.Roles = bounds
			}
		}
		rows, err := tx.Query(ctx, `insert into tokens (account_id, name, hash, expires_at, roles) values ($1, $2, $3, $4, $5)
			returning `+tokenColumns, by.Account(), t.Name, hash, t.ExpiresAt, t.Roles)
		if made, err = one(rows, err, pgx.RowToStructByName[account.Token]); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.TokenMade, Name: t.Name, Detail: access.Described(t.Roles)})
	})
	return made, err
}

const tokenColumns = `id, name, created_at, last_used_at, expires_at, roles`

// Tokens implements [account.Store].
func (s *Store) Tokens(ctx context.Context, owner uuid.UUID) ([]account.Token, error) {
	rows, err := s.pool.Query(ctx, `select `+tokenColumns+` from tokens
		where account_id = $1 order by created_at`, owner)
	return all(rows, err, pgx.RowToStructByName[account.Token])
}

// RemoveToken implements [account.Store].
func (s *Store) RemoveToken(ctx context.Context, token uuid.UUID, by access.Actor) error {
	return s.as(ctx, by, access.OwnAccount, func(tx pgx.Tx) error {
		var name string
		if err := tx.QueryRow(ctx, `delete from tokens where id = $1 and account_id = $2 returning name`, token, by.Account()).Scan(&name); err != nil {
			return unknown(ours(err))
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.TokenTakenBack, Name: name})
	})
}

// vouched is for how long the tokens of an account work whose last sign-in the identity provider vouched for: the provider does not say when somebody has left.
const vouched = `interval '30 days'`

// AccountByToken implements [account.Store]. It notes the use of the token, at most once a minute.
func (s *Store) AccountByToken(ctx context.Context, hash []byte) (account.Account, error) {
	rows, err := s.pool.Query(ctx, `
		with used as (
			update tokens set last_used_at = now()
			where hash = $1 and (last_used_at is null or last_used_at < now() - interval '1 minute')
		)
		select `+accountColumns+`, t.id, t.roles from tokens t join accounts on accounts.id = t.account_id
		where t.hash = $1 and (t.expires_at is null or t.expires_at > now()) and (accounts.issuer is null or accounts.vouched_at > now() - `+vouched+`)`, hash)
	found, err := one(rows, err, func(row pgx.CollectableRow) (a account.Account, err error) {
		var bounds []access.Held
		err = row.Scan(append(scanned(&a), &a.Token, &bounds)...)
		if bounds != nil {
			a.Roles = access.Meet(a.Roles, bounds)
		}
		return a, err
	})
	return found, unknown(err)
}

// SetPersonPassword implements [account.PersonPasswords].
func (s *Store) SetPersonPassword(ctx context.Context, p account.Person, hash string, by access.Actor) error {
	return s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		what := audit.PersonPasswordSet
		var err error
		if hash == "" {
			what = audit.PersonPasswordRemoved
			_, err = tx.Exec(ctx, `delete from person_passwords where person = $1`, p.ID)
		} else {
			_, err = tx.Exec(ctx, `insert into person_passwords (person, hash, set_by) values ($1, $2, $3)
				on conflict (person) do update set hash = excluded.hash, set_at = now(), set_by = excluded.set_by`, p.ID, hash, by.Name())
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: what, Kind: string(revision.KindPerson), Object: &p.ID, Name: p.Name})
	})
}

// PersonPassword implements [account.PersonPasswords].
func (s *Store) PersonPassword(ctx context.Context, id uuid.UUID) (hash string, err error) {
	err = s.pool.QueryRow(ctx, `select hash from person_passwords where person = $1`, id).Scan(&hash)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", account.ErrUnknown
	}
	return hash, ours(err)
}

// SetPersonDNS implements [account.PersonPasswords].
func (s *Store) SetPersonDNS(ctx context.Context, p account.Person, hash []byte, by access.Actor) error {
	return s.as(ctx, by, access.Accounts, func(tx pgx.Tx) (err error) {
		what := audit.PersonDNSSet
		if hash == nil {
			what = audit.PersonDNSRemoved
			_, err = tx.Exec(ctx, `delete from person_dns where person = $1`, p.ID)
		} else {
			_, err = tx.Exec(ctx, `insert into person_dns (person, hash, set_by) values ($1, $2, $3)
				on conflict (person) do update set hash = excluded.hash, set_at = now(), set_by = excluded.set_by`, p.ID, hash, by.Name())
		}
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: what, Kind: string(revision.KindPerson), Object: &p.ID, Name: p.Name})
	})
}

// PersonByDNS implements [account.PersonPasswords].
func (s *Store) PersonByDNS(ctx context.Context, hash []byte) (id uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, `select person from person_dns where hash = $1`, hash).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return id, account.ErrUnknown
	}
	return id, ours(err)
}

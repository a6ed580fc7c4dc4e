package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
	"widelark/internal/revision"
)

// AccountOf implements [account.ProviderStore].
func (s *Store) AccountOf(ctx context.Context, who account.Identity, by access.Actor) (found account.Account, err error) {
	err = s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		if err := account.CheckName(who.Name); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+accountColumns+` from accounts where issuer = $1 and subject = $2 for update`, who.Issuer, who.Subject)
		before, err := one(rows, err, scanAccount)
		made := errors.Is(err, revision.ErrNotFound)
		if err != nil && !made {
			return err
		}
		rows, err = tx.Query(ctx, `insert into accounts (name, full_name, password_hash, issuer, subject, claimed, roles, vouched_at) values ($1, $2, '', $3, $4, $5, '[]', now())
			on conflict (issuer, subject) do update set name = excluded.name, full_name = excluded.full_name, claimed = excluded.claimed, vouched_at = now() returning `+accountColumns,
			who.Name, who.FullName, who.Issuer, who.Subject, append([]string{}, who.Groups...))
		if found, err = one(rows, err, scanAccount); err != nil {
			return err
		}
		if made {
			if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.AccountMade, Name: found.Name, Detail: "known to " + who.Issuer}); err != nil {
				return err
			}
		} else if before.Name != found.Name {
			if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.AccountRenamed, Name: found.Name, Detail: "was " + before.Name}); err != nil {
				return err
			}
		}
		if err := rolesByClaims(ctx, tx, by); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, `select `+accountColumns+` from accounts where id = $1`, found.ID)
		found, err = one(rows, err, scanAccount)
		return err
	})
	return found, err
}

// Claims implements [account.ProviderStore].
func (s *Store) Claims(ctx context.Context) ([]account.Claim, error) {
	rows, err := s.pool.Query(ctx, `select value, roles, updated_at, updated_by from claims order by value`)
	return all(rows, err, pgx.RowToStructByPos[account.Claim])
}

// byClaims is the roles of an account of the provider by the groups that it said last.
const byClaims = `coalesce((select jsonb_agg(r order by c.value) from claims c, jsonb_array_elements(c.roles) r where c.value = any(accounts.claimed)), '[]')`

// rolesByClaims gives all accounts of the provider the roles of their groups anew, and notes those that change.
func rolesByClaims(ctx context.Context, tx pgx.Tx, by access.Actor) error {
	rows, err := tx.Query(ctx, `update accounts set roles = `+byClaims+` where issuer is not null and roles <> `+byClaims+` returning `+accountColumns)
	changed, err := all(rows, err, scanAccount)
	for _, a := range changed {
		if err == nil {
			err = note(ctx, tx, audit.Event{By: by.Name(), What: audit.RolesPut, Name: a.Name, Detail: access.Described(a.Roles)})
		}
	}
	return err
}

// PutClaim implements [account.ProviderStore].
func (s *Store) PutClaim(ctx context.Context, c account.Claim, by access.Actor) (put account.Claim, err error) {
	for _, h := range c.Roles {
		if err := h.Validate(); err != nil {
			return put, &account.WeakError{Msg: err.Error()}
		}
	}
	err = s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `insert into claims (value, roles, updated_by) values ($1, $2, $3)
			on conflict (value) do update set roles = excluded.roles, updated_at = now(), updated_by = excluded.updated_by returning value, roles, updated_at, updated_by`, c.Value, orNone(c.Roles), by.Name())
		if put, err = one(rows, err, pgx.RowToStructByPos[account.Claim]); err != nil {
			return err
		}
		if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.ClaimPut, Name: put.Value, Detail: access.Described(put.Roles)}); err != nil {
			return err
		}
		return rolesByClaims(ctx, tx, by)
	})
	return put, err
}

// RemoveClaim implements [account.ProviderStore].
func (s *Store) RemoveClaim(ctx context.Context, value string, by access.Actor) error {
	return s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		gone, err := tx.Exec(ctx, `delete from claims where value = $1`, value)
		if err == nil && gone.RowsAffected() == 0 {
			return account.ErrUnknown
		}
		if err != nil {
			return err
		}
		if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.ClaimRemoved, Name: value}); err != nil {
			return err
		}
		return rolesByClaims(ctx, tx, by)
	})
}

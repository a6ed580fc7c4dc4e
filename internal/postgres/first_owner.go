package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
)

// AddFirstOwnerLink implements [account.Store].
func (s *Store) AddFirstOwnerLink(ctx context.Context, hash []byte, by access.Actor) (added bool, err error) {
	err = s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		kept, err := tx.Exec(ctx, `insert into first_owner_links (hash) select $1 where not exists (select from accounts)`, hash)
		added = kept.RowsAffected() > 0
		return err
	})
	return added, err
}

// HasAccounts implements [account.Store].
func (s *Store) HasAccounts(ctx context.Context) (has bool, err error) {
	err = s.pool.QueryRow(ctx, `select exists (select from accounts)`).Scan(&has)
	return has, ours(err)
}

// linkHolds is whether a link, $1, may be used: within a day, while there is no account.
const linkHolds = `exists (select from first_owner_links where hash = $1 and made_at > now() - interval '1 day') and not exists (select from accounts)`

// FirstOwnerLink implements [account.Store].
func (s *Store) FirstOwnerLink(ctx context.Context, hash []byte) error {
	var holds bool
	err := s.pool.QueryRow(ctx, `select `+linkHolds, hash).Scan(&holds)
	if err == nil && !holds {
		return account.ErrUnknown
	}
	return ours(err)
}

// AddFirstOwner implements [account.Store].
func (s *Store) AddFirstOwner(ctx context.Context, a account.Account, passwordHash string, hash []byte, by access.Actor) (made account.Account, err error) {
	err = s.as(ctx, by, access.Accounts, func(tx pgx.Tx) error {
		// Two who follow a link at once must not both become the first.
		if _, err := tx.Exec(ctx, `lock table accounts in exclusive mode`); err != nil {
			return err
		}
		var holds bool
		if err := tx.QueryRow(ctx, `select `+linkHolds, hash).Scan(&holds); err != nil {
			return err
		}
		if !holds {
			return account.ErrUnknown
		}
		rows, err := tx.Query(ctx, `with over as (delete from first_owner_links)
			insert into accounts (name, full_name, password_hash, roles) values ($1, $2, $3, $4) returning `+accountColumns, a.Name, a.FullName, passwordHash, []access.Held{{Role: access.Owner}})
		if made, err = one(rows, err, scanAccount); err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.AccountMade, Name: made.Name, Detail: access.Described(made.Roles)})
	})
	return made, err
}

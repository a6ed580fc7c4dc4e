package account

import (
	"context"
	"time"

	"widelark/internal/access"
)

// Identity is what the organisation's identity provider says of somebody who has signed in there.
type Identity struct {
	Issuer, Subject string // who it is: the same pair is never anybody else (OpenID Connect Core 1.0, section 2)
	Name            string // to sign in with
	FullName        string
	Groups          []string
}

// Claim is what accounts of the identity provider may do whom it puts in a group.
type Claim struct {
	Value     string // the group, as the provider calls it
	Roles     []access.Held
	UpdatedAt time.Time
	UpdatedBy string
}

// ProviderStore keeps the accounts that the identity provider knows, and what its groups may do.
type ProviderStore interface {
	// AccountOf returns the account of an identity, made or changed to what the identity says. It returns [ErrTaken] if an account of somebody else has the name, and a [*WeakError]
	// if the name cannot be one.
	AccountOf(ctx context.Context, who Identity, by access.Actor) (Account, error)

	Claims(ctx context.Context) ([]Claim, error) // by value
	PutClaim(ctx context.Context, c Claim, by access.Actor) (Claim, error)
	RemoveClaim(ctx context.Context, value string, by access.Actor) error
}

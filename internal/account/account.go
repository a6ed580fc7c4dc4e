// Package account says who may use Wide Lark: the people who sign in and the tokens of their programs.
//
// From: a name and a password, or a token.
// To: [Account].
package account

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/google/uuid"
)

// Account is somebody who may sign in.
type Account struct {
	ID       uuid.UUID
	Name     string
	FullName string
	Owner    bool // may edit the baseline
}

// Token lets a program act as an account. Its secret is shown once, when it is made, and kept only as a hash.
type Token struct {
	ID         uuid.UUID
	Name       string
	CreatedAt  time.Time
	LastUsedAt *time.Time // nil where it was never used; kept to the minute
}

// Store keeps accounts and tokens. The errors are [ErrUnknown] where there is no such thing, [ErrTaken] where a name is in
// use.
type Store interface {
	AddAccount(ctx context.Context, a Account, passwordHash string) (Account, error) // the first is an owner in any case
	Accounts(ctx context.Context) ([]Account, error)                                 // by name
	SetOwner(ctx context.Context, name string, owner bool) error                     // [ErrLastOwner] where nobody else is one
	AccountByName(ctx context.Context, name string) (Account, string, error)         // with the password's hash
	Account(ctx context.Context, id uuid.UUID) (Account, error)
	AddToken(ctx context.Context, account uuid.UUID, name string, hash []byte) (Token, error)
	Tokens(ctx context.Context, account uuid.UUID) ([]Token, error)
	RemoveToken(ctx context.Context, account, token uuid.UUID) error
	AccountByToken(ctx context.Context, hash []byte) (Account, error)
}

// What can go wrong, for callers that branch on it.
var (
	ErrUnknown = errors.New("there is no such account or token")
	ErrTaken   = errors.New("the name is taken")
	ErrRefused = errors.New("name and password do not belong together")

	ErrLastOwner = errors.New("nobody else is an owner")
)

// Cost is what one password check takes. The zero Cost is not valid; take [DefaultCost].
type Cost = argon2id.Params

// DefaultCost is the second recommended choice of RFC 9106, section 4: 64 MiB of memory; some 0.1 s on one core.
var DefaultCost = Cost{Memory: 64 << 10, Iterations: 3, Parallelism: 4, SaltLength: 16, KeyLength: 32}

// MinPassword is the shortest password, in characters (NIST SP 800-63B, section 5.1.1.2).
const MinPassword = 8

// Door checks who comes in. It is safe for concurrent use.
type Door struct {
	store  Store
	cost   Cost
	absent string        // a hash that nobody's password has, so that an unknown name takes as long as a known one
	room   chan struct{} // bounds the memory that password checks take together
}

// NewDoor returns a door on a store. At most two passwords are checked at a time, since each check takes cost.Memory.
func NewDoor(store Store, cost Cost) (*Door, error) {
	absent, err := argon2id.CreateHash(rand.Text(), &cost)
	if err != nil {
		return nil, fmt.Errorf("password hashing: %w", err)
	}
	return &Door{store: store, cost: cost, absent: absent, room: make(chan struct{}, 2)}, nil
}

// Add makes an account; its id is made. The error wraps [ErrTaken] where the name is in use.
func (d *Door) Add(ctx context.Context, a Account, password string) (Account, error) {
	if a.Name = strings.TrimSpace(a.Name); a.Name == "" || strings.ContainsAny(a.Name, " \t\n") {
		return Account{}, fmt.Errorf("%q cannot be a sign-in name: one word is wanted", a.Name)
	}
	if utf8.RuneCountInString(password) < MinPassword {
		return Account{}, fmt.Errorf("the password is shorter than %d characters", MinPassword)
	}
	hash, err := argon2id.CreateHash(password, &d.cost)
	if err != nil {
		return Account{}, err
	}
	return d.store.AddAccount(ctx, a, hash)
}

// SignIn returns the account that name and password belong to, else [ErrRefused].
func (d *Door) SignIn(ctx context.Context, name, password string) (Account, error) {
	account, hash, err := d.store.AccountByName(ctx, strings.TrimSpace(name))
	unknown := errors.Is(err, ErrUnknown)
	if err != nil && !unknown {
		return Account{}, err
	}
	if unknown {
		hash = d.absent
	}
	select {
	case d.room <- struct{}{}:
		defer func() { <-d.room }()
	case <-ctx.Done():
		return Account{}, ctx.Err()
	}
	same, err := argon2id.ComparePasswordAndHash(password, hash)
	switch {
	case err != nil:
		return Account{}, err
	case !same || unknown:
		return Account{}, ErrRefused
	}
	return account, nil
}

// tokenPrefix makes a token recognisable in a file that it should not be in.
const tokenPrefix = "wlark_"

// AddToken makes a token for a program of the account and returns its secret, which is not kept.
func (d *Door) AddToken(ctx context.Context, account uuid.UUID, name string) (Token, string, error) {
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails, by its documentation
	text := tokenPrefix + base64.RawURLEncoding.EncodeToString(secret)
	token, err := d.store.AddToken(ctx, account, name, tokenHash(text))
	return token, text, err
}

// ByToken returns the account of a token's secret, else [ErrUnknown].
func (d *Door) ByToken(ctx context.Context, secret string) (Account, error) {
	if !strings.HasPrefix(secret, tokenPrefix) {
		return Account{}, ErrUnknown
	}
	return d.store.AccountByToken(ctx, tokenHash(secret))
}

// tokenHash needs no salt and no slowness: a token is 256 bits of chance.
func tokenHash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

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
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/readable"
)

// Account is somebody who may sign in.
type Account struct {
	ID       uuid.UUID
	Name     string
	FullName string
	Owner    bool // may edit the baseline
}

// Actor returns the actor that the account is.
func (a Account) Actor() access.Actor { return access.Account(a.ID, a.Name) }

// Roles returns what the account may act as.
func (a Account) Roles() []access.Role {
	if a.Owner {
		return []access.Role{access.Owner}
	}
	return []access.Role{access.Member}
}

// Token lets a program act as an account. Its secret is shown once, when it is made, and kept only as a hash.
type Token struct {
	ID         uuid.UUID
	Name       string
	CreatedAt  time.Time
	LastUsedAt *time.Time // nil where it was never used; kept to the minute
	ExpiresAt  *time.Time // nil where it has no end
}

// Session is a person's stay from one sign-in on.
type Session struct {
	ID      uuid.UUID
	MadeAt  time.Time
	SeenAt  time.Time // to the minute
	Address string    // that it was made from
	Agent   string    // the program that it was made with, as that says itself
}

// Store keeps accounts and tokens. The errors are [ErrUnknown] where there is no such thing, [ErrTaken] where a name is in
// use, and an [*access.DeniedError] where the actor may not do something. Every change stands in the audit log.
type Store interface {
	AddAccount(ctx context.Context, a Account, passwordHash string, by access.Actor) (Account, error) // the first is an owner in any case
	Accounts(ctx context.Context) ([]Account, error)                                                  // by name
	SetOwner(ctx context.Context, name string, owner bool, by access.Actor) error                     // [ErrLastOwner] where nobody else is one
	AccountByName(ctx context.Context, name string) (Account, string, error)                          // with the password's hash
	Account(ctx context.Context, id uuid.UUID) (Account, error)
	RemoveAccount(ctx context.Context, id uuid.UUID, by access.Actor) error // [ErrLastOwner] where nobody else is an owner
	// SetPassword ends all sessions of the account but one. A reset takes its tokens back, too.
	SetPassword(ctx context.Context, id uuid.UUID, passwordHash string, except uuid.UUID, reset bool, by access.Actor) error
	AddSession(ctx context.Context, s Session, by access.Actor) error                         // for the actor's account
	Sessions(ctx context.Context, account uuid.UUID) ([]Session, error)                       // the last seen first
	EndSession(ctx context.Context, session uuid.UUID, elsewhere bool, by access.Actor) error // one of the actor's; elsewhere: not the one that asks
	AccountBySession(ctx context.Context, session uuid.UUID) (Account, error)

	AddToken(ctx context.Context, name string, hash []byte, expires *time.Time, by access.Actor) (Token, error) // for the actor's account
	Tokens(ctx context.Context, account uuid.UUID) ([]Token, error)
	RemoveToken(ctx context.Context, token uuid.UUID, by access.Actor) error // one of the actor's
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

// Authenticator checks who comes in. It is safe for concurrent use.
type Authenticator struct {
	store  Store
	cost   Cost
	absent func() (string, error) // a hash that nobody's password has, so that an unknown name takes as long as a known one
	room   chan struct{}          // bounds the memory that password checks take together
	queue  chan struct{}          // bounds how many wait for room
	tries  throttle
}

// mostWaiting is how many password checks may wait: what two at a time do in some seconds. More are sent away.
const mostWaiting = 30

// Hash makes the hash of a password, once it is one's turn.
func (d *Authenticator) Hash(ctx context.Context, name, password string) (hash string, err error) {
	if err := CheckPassword(name, password); err != nil {
		return "", err
	}
	err = d.inTurn(ctx, func() error {
		hash, err = argon2id.CreateHash(password, &d.cost)
		return err
	})
	return hash, err
}

// inTurn does something that takes the memory of a password check. It is a [*ThrottledError] where too many wait already.
func (d *Authenticator) inTurn(ctx context.Context, do func() error) error {
	select {
	case d.queue <- struct{}{}:
		defer func() { <-d.queue }()
	default:
		return &ThrottledError{After: time.Second}
	}
	select {
	case d.room <- struct{}{}:
		defer func() { <-d.room }()
	case <-ctx.Done():
		return ctx.Err()
	}
	return do()
}

// NewAuthenticator returns an authenticator on a store. At most two passwords are checked at a time, since each check takes cost.Memory.
func NewAuthenticator(store Store, cost Cost) *Authenticator {
	absent := sync.OnceValues(func() (string, error) { return argon2id.CreateHash(rand.Text(), &cost) })
	return &Authenticator{store: store, cost: cost, absent: absent, room: make(chan struct{}, 2), queue: make(chan struct{}, mostWaiting)}
}

// Add makes an account; its id is made. The error wraps [ErrTaken] where the name is in use.
func (d *Authenticator) Add(ctx context.Context, a Account, password string, by access.Actor) (Account, error) {
	if a.Name = strings.TrimSpace(a.Name); a.Name == "" || strings.ContainsFunc(a.Name, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) ||
		utf8.RuneCountInString(a.Name) > MaxName {
		return Account{}, &WeakError{fmt.Sprintf("%q cannot be a sign-in name: one word of at most %d characters is wanted", a.Name, MaxName)}
	}
	if err := readable.Check(a.Name); err != nil {
		return Account{}, &WeakError{fmt.Sprintf("%q cannot be a sign-in name: %s", a.Name, err)}
	}
	if _, reserved := access.Part(a.Name); reserved {
		return Account{}, &WeakError{fmt.Sprintf("%q cannot be a sign-in name: the service signs with it what it does by itself", a.Name)}
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return Account{}, err
	}
	return d.store.AddAccount(ctx, a, hash, by)
}

// SignIn returns the account that name and password belong to, else [ErrRefused], or a [*ThrottledError] where there were too many tries
// with the name, from the address, or at once.
func (d *Authenticator) SignIn(ctx context.Context, name, password, address string) (Account, error) {
	name = strings.TrimSpace(name)
	if wait := d.tries.wait(name, address, time.Now()); wait > 0 {
		return Account{}, &ThrottledError{After: wait}
	}
	absent, err := d.absent() // made by the first who signs in, whatever the name: its time tells nothing
	if err != nil {
		return Account{}, fmt.Errorf("password hashing: %w", err)
	}
	account, hash, err := d.store.AccountByName(ctx, name)
	unknown := errors.Is(err, ErrUnknown)
	if err != nil && !unknown {
		return Account{}, err
	}
	if unknown {
		hash = absent
	}
	same := false
	if err := d.inTurn(ctx, func() error {
		same, err = argon2id.ComparePasswordAndHash(password, hash)
		return err
	}); err != nil {
		return Account{}, err
	}
	if !same || unknown {
		d.tries.failed(name, address, time.Now())
		return Account{}, ErrRefused
	}
	d.tries.succeeded(name, address)
	return account, nil
}

// ChangePassword gives an account another password, once its present one is shown; all its sessions but one end. The errors are those of
// [Authenticator.SignIn] and a [*WeakError].
func (d *Authenticator) ChangePassword(ctx context.Context, a Account, present, password, address string, session uuid.UUID) error {
	if _, err := d.SignIn(ctx, a.Name, present, address); err != nil {
		return err
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return err
	}
	return d.store.SetPassword(ctx, a.ID, hash, session, false, a.Actor())
}

// ResetPassword gives an account another password, ends all its sessions and takes its tokens back: whoever had it has it no more.
func (d *Authenticator) ResetPassword(ctx context.Context, a Account, password string, by access.Actor) error {
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return err
	}
	return d.store.SetPassword(ctx, a.ID, hash, uuid.Nil, true, by)
}

// tokenPrefix makes a token recognisable in a file that it should not be in.
const tokenPrefix = "wlark_"

// AddToken makes a token for a program of the actor's account and returns its secret, which is not kept. expires is nil for one without end.
func (d *Authenticator) AddToken(ctx context.Context, name string, expires *time.Time, by access.Actor) (Token, string, error) {
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails, by its documentation
	text := tokenPrefix + base64.RawURLEncoding.EncodeToString(secret)
	token, err := d.store.AddToken(ctx, name, tokenHash(text), expires, by)
	return token, text, err
}

// ByToken returns the account of a token's secret, else [ErrUnknown].
func (d *Authenticator) ByToken(ctx context.Context, secret string) (Account, error) {
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

// Package account manages who may use Wide Lark: the people who sign in and the tokens of their programs.
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
	"runtime"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/google/uuid"
	"golang.org/x/crypto/argon2"

	"widelark/internal/access"
	"widelark/internal/readable"
	"widelark/internal/secret"
)

// Account is somebody who may sign in.
type Account struct {
	ID       uuid.UUID
	Name     string
	FullName string
	Roles    []access.Held // what it may do; by a token, no more than the token may
	Token    uuid.UUID     // by which a program was recognised; uuid.Nil for people
	Issuer   string        // the identity provider that knows the account; "" where its password is here
	Second   bool          // it has a second factor here
}

// Actor returns the actor of the account.
func (a Account) Actor() access.Actor { return access.Account(a.ID, a.Name).ByToken(a.Token) }

// IsOwner reports whether the account has the role of owners.
func (a Account) IsOwner() bool { return access.Has(a.Roles, access.Owner) }

// Token lets a program act as an account. Its secret is shown once, when it is made, and kept only as a hash.
type Token struct {
	ID         uuid.UUID
	Name       string
	CreatedAt  time.Time
	LastUsedAt *time.Time    // nil if it was never used; rounded to the minute
	ExpiresAt  *time.Time    // nil if it does not expire
	Roles      []access.Held // none of the account's beyond these; nil for all of them
}

// Session is a signed-in browser of a person.
type Session struct {
	ID      uuid.UUID
	MadeAt  time.Time
	SeenAt  time.Time // the last request, rounded to the minute
	Address string    // of the sign-in
	Agent   string    // the User-Agent of the sign-in
}

// Store keeps accounts and tokens. It returns [ErrUnknown] for an unknown account or token, [ErrTaken] for a name in use, and an
// [*access.DeniedError] if the actor may not do something. It notes every change in the audit log.
type Store interface {
	AddAccount(ctx context.Context, a Account, passwordHash string, by access.Actor) (Account, error)  // the first account always becomes an owner
	Accounts(ctx context.Context) ([]Account, error)                                                   // by name
	PutRoles(ctx context.Context, id uuid.UUID, roles []access.Held, by access.Actor) (Account, error) // [ErrLastOwner] if nobody else is an owner
	AccountByName(ctx context.Context, name string) (Account, string, error)                           // with the password's hash
	Account(ctx context.Context, id uuid.UUID) (Account, error)
	RemoveAccount(ctx context.Context, id uuid.UUID, by access.Actor) error // [ErrLastOwner] if nobody else is an owner
	// SetPassword ends all sessions of the account but one. A reset also removes its tokens.
	SetPassword(ctx context.Context, id uuid.UUID, passwordHash string, except uuid.UUID, reset bool, by access.Actor) error
	AddSession(ctx context.Context, s Session, by access.Actor) error                         // for the actor's account
	Sessions(ctx context.Context, account uuid.UUID) ([]Session, error)                       // the last seen first
	EndSession(ctx context.Context, session uuid.UUID, elsewhere bool, by access.Actor) error // one of the actor's; elsewhere: it is not the session of the request
	AccountBySession(ctx context.Context, session uuid.UUID) (Account, error)

	AddToken(ctx context.Context, t Token, hash []byte, by access.Actor) (Token, error) // for the actor's account
	Tokens(ctx context.Context, account uuid.UUID) ([]Token, error)
	RemoveToken(ctx context.Context, token uuid.UUID, by access.Actor) error // one of the actor's
	AccountByToken(ctx context.Context, hash []byte) (Account, error)

	FactorStore
	ProviderStore

	// AddFirstOwnerLink keeps the hash of a one-time link. It returns false, and keeps nothing, if there is an account.
	AddFirstOwnerLink(ctx context.Context, hash []byte, by access.Actor) (bool, error)

	// FirstOwnerLink returns nil if there is a link with the hash and still no account, and else [ErrUnknown].
	FirstOwnerLink(ctx context.Context, hash []byte) error

	// AddFirstOwner makes the first account, and removes all links. It returns [ErrUnknown] if there is no such link or an account already.
	AddFirstOwner(ctx context.Context, a Account, passwordHash string, hash []byte, by access.Actor) (Account, error)
	HasAccounts(ctx context.Context) (bool, error)
}

// Errors that callers branch on.
var (
	ErrUnknown = errors.New("there is no such account or token")
	ErrTaken   = errors.New("the name is taken")
	ErrRefused = errors.New("name and password do not belong together")

	ErrLastOwner = errors.New("nobody else is an owner")
	ErrProvider  = errors.New("the identity provider keeps the account")
)

// Cost is the time and memory that one password check takes. The zero Cost is not valid; use [DefaultCost].
type Cost = argon2id.Params

// DefaultCost is the second recommended option of RFC 9106, section 4: 64 MiB of memory, about 0.1 s on one core.
var DefaultCost = Cost{Memory: 64 << 10, Iterations: 3, Parallelism: 4, SaltLength: 16, KeyLength: 32}

// Authenticator checks passwords and tokens. It is safe for concurrent use.
type Authenticator struct {
	store  Store
	box    *secret.Box // seals the secrets of second factors; nil: none can be kept
	cost   Cost
	absent string        // a hash that belongs to no known password; checking it makes an unknown name take as long as a known one
	room   chan struct{} // bounds the password checks at a time, and so their memory and their share of the machine
	queue  chan struct{} // bounds the password checks that wait for room
	known  chan struct{} // the same, for addresses that somebody has signed in from
	tries  throttle
}

// The numbers of password checks that may wait: they are done in some seconds. Further ones are refused at once, so that a flood of tries costs next to nothing. Addresses from which somebody
// has signed in have places of their own: a flood from elsewhere does not lock them out.
const (
	mostWaiting      = 20
	mostKnownWaiting = 10
)

// Hash waits for its turn and returns the hash of a password. The errors are those of [CheckPassword] and a [*ThrottledError].
func (d *Authenticator) Hash(ctx context.Context, name, password string) (hash string, err error) {
	if err := CheckPassword(name, password); err != nil {
		return "", err
	}
	err = d.inTurn(ctx, d.known, func() error {
		hash, err = argon2id.CreateHash(password, &d.cost)
		return err
	})
	return hash, err
}

// inTurn waits in a queue for its turn and calls do, which takes the memory of a password check. It returns a [*ThrottledError] if too many wait already. While more than a few wait, the next
// turn begins after a pause as long as do took: a flood never takes more than half of the machine.
func (d *Authenticator) inTurn(ctx context.Context, queue chan struct{}, do func() error) error {
	select {
	case queue <- struct{}{}:
		defer func() { <-queue }()
	default:
		return &ThrottledError{After: time.Second}
	}
	select {
	case d.room <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	began := time.Now()
	defer func() { // also where do panics: nobody could sign in any more
		if len(queue) > cap(queue)/4 {
			time.AfterFunc(time.Since(began), func() { <-d.room })
		} else {
			<-d.room
		}
	}()
	return do()
}

// NewAuthenticator returns an authenticator on a store. It checks one password at a time for every four cores, and at most four, as a check takes cost.Memory and several cores.
// Second factors need box, which may be nil.
func NewAuthenticator(store Store, cost Cost, box *secret.Box) *Authenticator {
	return &Authenticator{store: store, box: box, cost: cost, absent: unmatched(cost), room: make(chan struct{}, min(4, max(1, runtime.NumCPU()/4))), queue: make(chan struct{}, mostWaiting), known: make(chan struct{}, mostKnownWaiting)}
}

// unmatched returns a hash of no known password: random bytes, so that it costs nothing to make, and as much to check as any other of that cost.
func unmatched(cost Cost) string {
	salt, key := make([]byte, cost.SaltLength), make([]byte, cost.KeyLength)
	_, _ = rand.Read(salt) // never fails
	_, _ = rand.Read(key)
	text := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, cost.Memory, cost.Iterations, cost.Parallelism, text(salt), text(key))
}

// CheckName returns a [*WeakError] if a text cannot be a sign-in name.
func CheckName(name string) error {
	if name == "" || strings.ContainsFunc(name, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) || utf8.RuneCountInString(name) > MaxName {
		return &WeakError{fmt.Sprintf("%q cannot be a sign-in name: one word of at most %d characters is wanted", name, MaxName)}
	}
	if err := readable.Check(name); err != nil {
		return &WeakError{fmt.Sprintf("%q cannot be a sign-in name: %s", name, err)}
	}
	if _, reserved := access.Part(name); reserved {
		return &WeakError{fmt.Sprintf("%q cannot be a sign-in name: the service signs with it what it does by itself", name)}
	}
	return nil
}

// Add creates an account with a new id. The error wraps [ErrTaken] if the name is in use.
func (d *Authenticator) Add(ctx context.Context, a Account, password string, by access.Actor) (Account, error) {
	a.Name = strings.TrimSpace(a.Name)
	if err := CheckName(a.Name); err != nil {
		return Account{}, err
	}
	for _, h := range a.Roles {
		if err := h.Validate(); err != nil {
			return Account{}, &WeakError{err.Error()}
		}
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return Account{}, err
	}
	return d.store.AddAccount(ctx, a, hash, by)
}

// SignIn returns the account of a name, its password and, where it has a second factor, a code of its app. It returns [ErrRefused] if name and password do
// not belong together, [ErrCodeWanted], [ErrPasskeyWanted] or [ErrWrongCode] if only a second factor is missing, and a [*ThrottledError] after too many tries with the name, from the
// address, or at once.
func (d *Authenticator) SignIn(ctx context.Context, name, password, code, address string) (Account, error) {
	a, err := d.byPassword(ctx, name, password, address)
	if err == nil {
		err = d.secondFactor(ctx, a, code, address)
	}
	if err != nil {
		return Account{}, err
	}
	return a, nil
}

// byPassword checks a name and a password alone.
func (d *Authenticator) byPassword(ctx context.Context, name, password, address string) (a Account, err error) {
	err = d.check(ctx, strings.TrimSpace(name), password, address, func(name string) (hash string, err error) {
		if a, hash, err = d.store.AccountByName(ctx, name); err == nil && a.Issuer != "" {
			err = ErrUnknown // it has no password
		}
		return hash, err
	})
	return a, err
}

// Person is somebody of the directory who signs in at gates.
type Person struct {
	ID   uuid.UUID
	Name string
}

// PersonPasswords keeps the passwords with which people of the directory sign in at gates.
type PersonPasswords interface {
	// SetPersonPassword stores the hash of a person's password; "" removes the password.
	SetPersonPassword(ctx context.Context, p Person, hash string, by access.Actor) error

	// PersonPassword returns the hash of a person's password, or [ErrUnknown].
	PersonPassword(ctx context.Context, id uuid.UUID) (hash string, err error)

	// SetPersonDNS stores the hash of the token by which a person is known at the DNS gate; nil removes it.
	SetPersonDNS(ctx context.Context, p Person, hash []byte, by access.Actor) error

	// PersonByDNS returns the person with the hash of a token, or [ErrUnknown].
	PersonByDNS(ctx context.Context, hash []byte) (uuid.UUID, error)
}

// SignInPerson checks the password of a person; the zero Person is somebody who is unknown. The errors are those of [Authenticator.SignIn].
func (d *Authenticator) SignInPerson(ctx context.Context, passwords PersonPasswords, p Person, name, password, address string) error {
	return d.check(ctx, "gate "+strings.TrimSpace(name), password, address, func(string) (string, error) {
		if p.ID == uuid.Nil {
			return "", ErrUnknown
		}
		return passwords.PersonPassword(ctx, p.ID)
	})
}

// SignInElsewhere checks a sign-in of a person by something else than a hash of ours, such as a directory, with the same patience for failed tries. The errors are those of
// [Authenticator.SignIn], and those of right.
func (d *Authenticator) SignInElsewhere(ctx context.Context, name, address string, right func(ctx context.Context) (bool, error)) error {
	name = "gate " + strings.TrimSpace(name)
	if wait := d.tries.wait(name, address, time.Now()); wait > 0 {
		return &ThrottledError{After: wait}
	}
	switch same, err := right(ctx); {
	case err != nil:
		return err
	case !same:
		d.tries.failed(name, address, time.Now())
		return ErrRefused
	}
	d.tries.succeeded(name, address)
	return nil
}

// check checks the password of a name, whose hash find returns.
func (d *Authenticator) check(ctx context.Context, name, password, address string, find func(name string) (string, error)) error {
	if wait := d.tries.wait(name, address, time.Now()); wait > 0 {
		return &ThrottledError{After: wait}
	}
	queue := d.queue
	if d.tries.isKnown(address) {
		queue = d.known
	}
	same, unknown := false, false
	if err := d.inTurn(ctx, queue, func() error { // in turn also what asks the database: most of a flood never gets there
		hash, err := find(name)
		if unknown = errors.Is(err, ErrUnknown); unknown {
			hash = d.absent
		} else if err != nil {
			return err
		}
		same, err = argon2id.ComparePasswordAndHash(password, hash)
		return err
	}); err != nil {
		return err
	}
	if !same || unknown {
		d.tries.failed(name, address, time.Now())
		return ErrRefused
	}
	d.tries.succeeded(name, address)
	return nil
}

// ChangePassword sets the password of an account whose present password is given, and ends all its sessions but one. The errors are those of
// [Authenticator.SignIn] and a [*WeakError].
func (d *Authenticator) ChangePassword(ctx context.Context, a Account, present, password, address string, session uuid.UUID) error {
	if _, err := d.byPassword(ctx, a.Name, present, address); err != nil {
		return err
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return err
	}
	return d.store.SetPassword(ctx, a.ID, hash, session, false, a.Actor())
}

// ResetPassword sets the password of an account, ends all its sessions, and removes its tokens and second factors: whoever had access no longer has it. It returns
// [ErrProvider] for an account that has no password here.
func (d *Authenticator) ResetPassword(ctx context.Context, a Account, password string, by access.Actor) error {
	if a.Issuer != "" {
		return ErrProvider
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return err
	}
	return d.store.SetPassword(ctx, a.ID, hash, uuid.Nil, true, by)
}

// tokenPrefix makes tokens recognisable in files that should not hold them.
const tokenPrefix = "wlark_"

// AddToken creates a token, of which name, end and roles are given, for a program of the actor's account, and returns its secret, which is not stored.
func (d *Authenticator) AddToken(ctx context.Context, t Token, by access.Actor) (Token, string, error) {
	for _, h := range t.Roles {
		if err := h.Validate(); err != nil {
			return Token{}, "", &WeakError{err.Error()}
		}
	}
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // documented never to fail
	text := tokenPrefix + base64.RawURLEncoding.EncodeToString(secret)
	token, err := d.store.AddToken(ctx, t, tokenHash(text), by)
	return token, text, err
}

// ByToken returns the account of a token's secret, or [ErrUnknown].
func (d *Authenticator) ByToken(ctx context.Context, secret string) (Account, error) {
	if !strings.HasPrefix(secret, tokenPrefix) {
		return Account{}, ErrUnknown
	}
	return d.store.AccountByToken(ctx, tokenHash(secret))
}

// tokenHash returns the hash of a secret. It needs no salt and need not be slow, as a secret is 256 random bits.
func tokenHash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// NewDNSToken returns a token by which a person is known at the DNS gate: 130 random bits.
func NewDNSToken() string { return strings.ToLower(rand.Text()) }

// HashDNSToken returns the hash of a token. It has too many random bits to be guessed from that.
func HashDNSToken(token string) []byte {
	hash := sha256.Sum256([]byte("dns\x00" + strings.ToLower(token)))
	return hash[:]
}

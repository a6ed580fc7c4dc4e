package account

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/secret"
)

// Passkey is a key with which an account signs in instead of its password (Web Authentication, Level 3). The browser's device keeps the private half, and asks who uses it.
type Passkey struct {
	ID         []byte
	Name       string
	MadeAt     time.Time
	UsedAt     *time.Time // nil if it was never used
	Credential webauthn.Credential
}

// ErrPasskey is the error of an answer that is not one to a challenge of ours.
var ErrPasskey = errors.New("the passkey's answer does not fit")

// Passkeys makes challenges for browsers, and checks what they answer. Challenges are kept by whoever asks, sealed. It is safe for concurrent use.
type Passkeys struct {
	Store Store
	Box   *secret.Box // seals challenges
	Name  string      // of the organisation, as browsers show it
}

// challengeEnd is how long somebody may take to answer.
const challengeEnd = 5 * time.Minute

// relyingParty returns the library's view of the address at which people reach the console.
func (p *Passkeys) relyingParty(origin string) (*webauthn.WebAuthn, error) {
	at, err := url.Parse(origin)
	if err != nil || at.Hostname() == "" {
		return nil, fmt.Errorf("%w: %q is no address of a console", ErrPasskey, origin)
	}
	if net.ParseIP(at.Hostname()) != nil {
		return nil, &WeakError{"passkeys belong to a name, not to an address: open the console by its name, as http://localhost in place of http://127.0.0.1"}
	}
	limit := webauthn.TimeoutConfig{Enforce: true, Timeout: challengeEnd, TimeoutUVD: challengeEnd}
	return webauthn.New(&webauthn.Config{
		RPID: at.Hostname(), RPDisplayName: p.Name, RPOrigins: []string{strings.TrimSuffix(origin, "/")},
		Timeouts: webauthn.TimeoutsConfig{Login: limit, Registration: limit},
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementRequired, RequireResidentKey: protocol.ResidentKeyRequired(), UserVerification: protocol.VerificationRequired,
		},
	})
}

// holder shows the library an account.
type holder struct {
	Account
	keys []Passkey
}

func (h holder) WebAuthnID() []byte          { return h.ID[:] }
func (h holder) WebAuthnName() string        { return h.Name }
func (h holder) WebAuthnDisplayName() string { return h.Name }
func (h holder) WebAuthnCredentials() (all []webauthn.Credential) {
	for _, k := range h.keys {
		all = append(all, k.Credential)
	}
	return all
}

const (
	addPurpose = "challenge for a new passkey"
	usePurpose = "challenge for a passkey"
)

func (p *Passkeys) seal(purpose string, session *webauthn.SessionData) ([]byte, error) {
	text, err := json.Marshal(session)
	return p.Box.Seal(purpose, text), err
}

func (p *Passkeys) open(purpose string, sealed []byte) (session webauthn.SessionData, err error) {
	text, err := p.Box.Open(purpose, sealed)
	if err == nil {
		err = json.Unmarshal(text, &session)
	}
	if err != nil {
		return session, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	return session, nil
}

// BeginAdding returns what the browser makes a passkey from, as JSON, and the sealed challenge. origin is the address at which the console is open.
func (p *Passkeys) BeginAdding(ctx context.Context, a Account, origin string) (options any, kept []byte, err error) {
	party, err := p.relyingParty(origin)
	if err != nil {
		return nil, nil, err
	}
	has, err := p.Store.Factors(ctx, a.ID)
	if err != nil {
		return nil, nil, err
	}
	who := holder{a, has.Passkeys}
	made, session, err := party.BeginRegistration(who, webauthn.WithExclusions(webauthn.Credentials(who.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return nil, nil, err
	}
	kept, err = p.seal(addPurpose, session)
	return made.Response, kept, err
}

// Add keeps the passkey that a browser has made.
func (p *Passkeys) Add(ctx context.Context, a Account, origin, name string, kept, answer []byte) error {
	party, err := p.relyingParty(origin)
	if err != nil {
		return err
	}
	session, err := p.open(addPurpose, kept)
	if err != nil {
		return err
	}
	read, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	made, err := party.CreateCredential(holder{Account: a}, session, read)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	return p.Store.AddPasskey(ctx, Passkey{ID: made.ID, Name: name, Credential: *made}, a.Actor())
}

// BeginSignIn returns what the browser asks its passkeys for, and the sealed challenge. It says nothing of who there is.
func (p *Passkeys) BeginSignIn(origin string) (options any, kept []byte, err error) {
	party, err := p.relyingParty(origin)
	if err != nil {
		return nil, nil, err
	}
	asked, session, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, nil, err
	}
	kept, err = p.seal(usePurpose, session)
	return asked.Response, kept, err
}

// SignIn returns the account whose passkey signed the challenge. Each challenge counts once.
func (p *Passkeys) SignIn(ctx context.Context, origin string, kept, answer []byte) (Account, error) {
	party, err := p.relyingParty(origin)
	if err != nil {
		return Account{}, err
	}
	session, err := p.open(usePurpose, kept)
	if err != nil {
		return Account{}, err
	}
	read, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return Account{}, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	var who holder
	used, err := party.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		id, err := uuid.FromBytes(handle)
		if err != nil {
			return nil, err
		}
		if who.Account, err = p.Store.Account(ctx, id); err != nil {
			return nil, err
		}
		has, err := p.Store.Factors(ctx, id)
		who.keys = has.Passkeys
		return who, err
	}, session, read)
	switch {
	case err != nil:
		return Account{}, fmt.Errorf("%w: %w", ErrPasskey, err)
	case used.Authenticator.CloneWarning: // Web Authentication, Level 3, section 7.2, step 22: somebody has copied it
		return Account{}, fmt.Errorf("%w: its counter went back", ErrPasskey)
	}
	once := sha256.Sum256([]byte(session.Challenge))
	if err := p.Store.Once(ctx, once[:], session.Expires); err != nil {
		return Account{}, err
	}
	return who.Account, p.Store.UsePasskey(ctx, Passkey{ID: used.ID, Credential: *used}, access.Account(who.ID, who.Name))
}

// RemovePasskey removes a passkey of an account; the password is wanted.
func (d *Authenticator) RemovePasskey(ctx context.Context, a Account, id []byte, password, address string) error {
	if err := d.Again(ctx, a, password, address); err != nil {
		return err
	}
	return d.store.RemovePasskey(ctx, id, a.Actor())
}

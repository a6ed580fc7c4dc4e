package account

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"widelark/internal/access"
)

// Factors is what an account can sign in with besides its password.
type Factors struct {
	Codes    bool      // of an app that makes a new one every half minute (RFC 6238)
	Passkeys []Passkey // the oldest first
}

// FactorStore keeps second factors.
type FactorStore interface {
	Factors(ctx context.Context, account uuid.UUID) (Factors, error)

	// PutGenerator keeps the sealed secret of an app that makes codes for the actor's account, not yet confirmed, in place of an unconfirmed one. It returns [ErrTaken] where there is a confirmed one.
	PutGenerator(ctx context.Context, sealed []byte, by access.Actor) error

	// Generator returns the sealed secret of an account's app, or [ErrUnknown].
	Generator(ctx context.Context, account uuid.UUID) (sealed []byte, confirmed bool, err error)

	// UseStep notes that the code of a time step was used, which confirms the app. It returns false if that code, or a later one, was used before.
	UseStep(ctx context.Context, step int64, by access.Actor) (bool, error)
	RemoveGenerator(ctx context.Context, by access.Actor) error

	AddPasskey(ctx context.Context, p Passkey, by access.Actor) error // [ErrTaken] where it is known
	UsePasskey(ctx context.Context, p Passkey, by access.Actor) error // keeps what the use changed
	RemovePasskey(ctx context.Context, id []byte, by access.Actor) error

	// Once notes that something is used, until it could not be used anyway. It returns [ErrRefused] if it was used before.
	Once(ctx context.Context, hash []byte, until time.Time) error
}

// Errors of a sign-in whose first factor is right.
var (
	ErrCodeWanted    = errors.New("a code of the account's app is wanted, too")
	ErrPasskeyWanted = errors.New("the account signs in with a passkey")
	ErrWrongCode     = errors.New("the code is wrong, or was used before")
	ErrNoSecret      = errors.New("the service has no secret to seal with")
)

// codePrefix begins what tries of codes are counted by; no sign-in name has a space.
const codePrefix = "code "

// purpose of the seal of the secret of an app.
const generatorPurpose = "codes of an account"

// step is the time that a code holds for (RFC 6238, section 4.1).
const step = 30 * time.Second

// generated is how apps make codes: what all of them know.
var generated = totp.ValidateOpts{Period: uint(step / time.Second), Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// Generator is what somebody gives to an app that makes codes, once.
type Generator struct {
	Secret  string // in base32
	URL     string // the same, as apps read it
	Picture string // the same, as a picture to be photographed: a data URL of a PNG
}

// BeginCodes makes the secret of an app for an account, which [Authenticator.ConfirmCodes] puts in force. The present password is wanted, and its errors are those of [Authenticator.SignIn].
func (d *Authenticator) BeginCodes(ctx context.Context, a Account, password, address, issuer string) (Generator, error) {
	if err := d.Again(ctx, a, password, address); err != nil {
		return Generator{}, err
	}
	if d.box == nil {
		return Generator{}, ErrNoSecret
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: a.Name, SecretSize: 20})
	if err != nil {
		return Generator{}, err
	}
	picture, err := key.Image(220, 220)
	if err != nil {
		return Generator{}, err
	}
	var file bytes.Buffer
	if err := png.Encode(&file, picture); err != nil {
		return Generator{}, err
	}
	sealed := d.box.Seal(generatorPurpose+a.ID.String(), []byte(key.Secret()))
	return Generator{key.Secret(), key.URL(), "data:image/png;base64," + base64.StdEncoding.EncodeToString(file.Bytes())}, d.store.PutGenerator(ctx, sealed, a.Actor())
}

// Again checks the password of somebody who is signed in, before what only they may do (OWASP ASVS 4.0.3, 3.7.1). It returns [ErrProvider] for an account without a password here; the other errors
// are those of [Authenticator.SignIn].
func (d *Authenticator) Again(ctx context.Context, a Account, password, address string) error {
	if a.Issuer != "" {
		return ErrProvider
	}
	_, err := d.byPassword(ctx, a.Name, password, address)
	return err
}

// ConfirmCodes puts the app in force, whose code shows that it has the secret.
func (d *Authenticator) ConfirmCodes(ctx context.Context, a Account, code, address string) error {
	return d.checkCode(ctx, a, code, address)
}

// RemoveCodes takes the app out of force; the password is wanted.
func (d *Authenticator) RemoveCodes(ctx context.Context, a Account, password, address string) error {
	if err := d.Again(ctx, a, password, address); err != nil {
		return err
	}
	return d.store.RemoveGenerator(ctx, a.Actor())
}

// secondFactor checks what an account wants besides its password.
func (d *Authenticator) secondFactor(ctx context.Context, a Account, code, address string) error {
	if !a.Second {
		return nil
	}
	has, err := d.store.Factors(ctx, a.ID)
	switch {
	case err != nil:
		return err
	case has.Codes && strings.TrimSpace(code) == "":
		return ErrCodeWanted
	case has.Codes:
		return d.checkCode(ctx, a, code, address)
	case len(has.Passkeys) > 0:
		return ErrPasskeyWanted
	}
	return nil
}

// checkCode returns nil if a code is of the present half minute, the one before or the one after (RFC 6238, section 6), and was not used before.
func (d *Authenticator) checkCode(ctx context.Context, a Account, code, address string) error {
	now := time.Now()
	name := codePrefix + a.Name
	if wait := d.tries.wait(name, address, now); wait > 0 {
		return &ThrottledError{After: wait}
	}
	if d.box == nil {
		return ErrNoSecret
	}
	sealed, _, err := d.store.Generator(ctx, a.ID)
	if err != nil {
		return err
	}
	key, err := d.box.Open(generatorPurpose+a.ID.String(), sealed)
	if err != nil {
		return fmt.Errorf("the secret of the app cannot be opened: %w", err)
	}
	code = strings.ReplaceAll(code, " ", "")
	for at := now.Add(-step); !at.After(now.Add(step)); at = at.Add(step) {
		right, err := totp.GenerateCodeCustom(string(key), at, generated)
		if err != nil {
			return err
		}
		if subtle.ConstantTimeCompare([]byte(right), []byte(code)) == 1 {
			fresh, err := d.store.UseStep(ctx, at.Unix()/int64(step/time.Second), a.Actor())
			if fresh {
				d.tries.succeeded(name, address)
			}
			if err != nil || fresh {
				return err
			}
		}
	}
	d.tries.failed(name, address, now)
	return ErrWrongCode
}

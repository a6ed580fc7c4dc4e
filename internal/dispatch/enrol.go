package dispatch

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/gate"
	"widelark/internal/parcel"
	"widelark/internal/revision"
)

// Offer makes a code with which one gate enrols, once.
func (d *Dispatch) Offer(ctx context.Context, name string, kind policy.Gate, by access.Actor) (code string, e gate.Enrolment, err error) {
	name, err = revision.CheckName("name", name)
	if err != nil {
		return "", e, err
	}
	key, err := d.key(ctx)
	if err != nil {
		return "", e, err
	}
	private := make([]byte, parcel.SecretBytes)
	_, _ = rand.Read(private) // it cannot fail
	e, err = d.Store.AddEnrolment(ctx, gate.Enrolment{Name: name, Kind: kind, Hash: hash(private)}, by)
	code = base32.StdEncoding.EncodeToString(append(private, parcel.Fingerprint(key.Public().(ed25519.PublicKey))...))
	var groups []string
	for ; len(code) > 0; code = code[4:] {
		groups = append(groups, code[:4])
	}
	return strings.Join(groups, "-"), e, err
}

func hash(private []byte) []byte {
	sum := sha256.Sum256(append([]byte("widelark enrolment\n"), private...))
	return sum[:]
}

// Enrol makes a gate elsewhere of whoever has a code, and returns it with the key that signs what it runs.
func (d *Dispatch) Enrol(ctx context.Context, code string, key ed25519.PublicKey, sealKey []byte) (gate.Enrolled, ed25519.PublicKey, error) {
	signs, err := d.key(ctx)
	if err != nil {
		return gate.Enrolled{}, nil, err
	}
	private, _, err := parcel.ReadCode(code)
	if err != nil {
		return gate.Enrolled{}, nil, gate.ErrEnrolment
	}
	if _, err := parcel.Seal(sealKey, "try", nil); err != nil || len(key) != ed25519.PublicKeySize {
		return gate.Enrolled{}, nil, &revision.FieldError{Field: "key", Msg: "the gate's keys are an Ed25519 and an X25519 public key, of 32 bytes each"}
	}
	made, err := d.Store.Enrol(ctx, hash(private), gate.Enrolled{Key: key, SealKey: sealKey})
	return made, signs.Public().(ed25519.PublicKey), err
}

// Authenticate returns the gate that signed a token (RFC 7519). The error is [gate.ErrRetired] where it is one no longer, and otherwise says nothing to whoever
// asks.
func (d *Dispatch) Authenticate(ctx context.Context, token string) (gate.Enrolled, error) {
	var found gate.Enrolled
	now, err := d.Store.DatabaseTime(ctx)
	if err != nil {
		return found, err
	}
	var missing error
	_, err = jwt.ParseWithClaims(token, &jwt.RegisteredClaims{}, func(t *jwt.Token) (any, error) {
		subject, err := t.Claims.GetSubject()
		if err != nil {
			return nil, err
		}
		id, err := uuid.Parse(subject)
		if err != nil {
			return nil, err
		}
		if found, missing = d.Store.Enrolled(ctx, id); missing != nil {
			return nil, missing
		}
		return found.Key, nil
	}, jwt.WithValidMethods([]string{jwt.SigningMethodEdDSA.Alg()}), jwt.WithAudience(parcel.Audience), jwt.WithExpirationRequired(), jwt.WithLeeway(10*time.Second),
		jwt.WithTimeFunc(func() time.Time { return now }))
	switch {
	case missing != nil && !errors.Is(missing, revision.ErrNotFound):
		return found, missing
	case err != nil:
		return gate.Enrolled{}, fmt.Errorf("a gate's token: %w", err)
	case found.Retired:
		return found, gate.ErrRetired
	}
	return found, nil
}

package parcel

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// SecretBytes is the length of the secret in a code for enrolling, and of the fingerprint of the service's key behind it, by which the gate knows the service.
const SecretBytes = 10

// Fingerprint returns what a code for enrolling holds of the key that signs editions.
func Fingerprint(key ed25519.PublicKey) []byte {
	sum := sha256.Sum256(key)
	return sum[:SecretBytes]
}

// ErrCode is the error of a text that is no code for enrolling.
var ErrCode = errors.New("it is no code for enrolling: that is 32 letters and digits in groups of four, as `widelark gate enrol` prints it")

// ReadCode reads a code for enrolling. Letter case, hyphens and blanks do not count.
func ReadCode(code string) (private, fingerprint []byte, err error) {
	code = strings.NewReplacer("-", "", " ", "").Replace(strings.ToUpper(strings.TrimSpace(code)))
	both, err := base32.StdEncoding.DecodeString(code)
	if err != nil || len(both) != 2*SecretBytes {
		return nil, nil, ErrCode
	}
	return both[:SecretBytes], both[SecretBytes:], nil
}

// Audience is for whom tokens of gates are.
const Audience = "widelark"

// tokenLasts is how long a token of a gate is good.
const tokenLasts = time.Minute

// Token returns a token (RFC 7519, RFC 8037) with which a gate says who it is.
func Token(id string, key ed25519.PrivateKey, now time.Time) (string, error) {
	return jwt.NewWithClaims(jwt.SigningMethodEdDSA, jwt.RegisteredClaims{
		Subject: id, Audience: jwt.ClaimStrings{Audience}, IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(tokenLasts)),
	}).SignedString(key)
}

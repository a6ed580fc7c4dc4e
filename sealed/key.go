package sealed

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
)

// KeyText returns a public key as 44 characters of base64, the form of manifests, settings and people.
func KeyText(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }

// ParseKey reads a public key as [KeyText] writes it.
func ParseKey(text string) (ed25519.PublicKey, error) {
	key, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("a public key is 44 characters of base64, as `widelark pack key` prints it")
	}
	return key, nil
}

// NewKey generates a private key, in PKCS #8 (RFC 5958) as PEM (RFC 7468).
func NewKey() ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// ReadKey reads a private key as [NewKey] writes it.
func ReadKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("no PEM file with a private key; `widelark pack key FILE` makes one")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the private key cannot be read: %w", err)
	}
	key, ok := parsed.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("the private key is not an ed25519 key")
	}
	return key, nil
}

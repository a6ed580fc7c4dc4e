// Package secret encrypts what the service must keep and nobody else may read, such as the private key of its authority.
//
// From: a file with the service's secret, which the database does not hold.
// To: sealed bytes, which the database holds.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// size is the length of the secret in bytes: a key of AES-256.
const size = 32

// ErrOther is the error of opening what was sealed with another secret, for another purpose, or was changed since.
var ErrOther = errors.New("it was sealed with another secret, or changed since")

// Box seals with one secret. It is safe for concurrent use.
type Box struct {
	aead cipher.AEAD
	key  []byte
}

// Load reads the secret from a file; if there is none, it creates the file with a new secret, which only its owner can read.
func Load(path string) (*Box, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key := make([]byte, size)
		_, _ = rand.Read(key) // it cannot fail
		text = []byte(base64.StdEncoding.EncodeToString(key) + "\n")
		file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, fmt.Errorf("the secret cannot be stored: %w", err)
		}
		_, err = file.Write(text)
		if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
			return nil, fmt.Errorf("the secret cannot be stored: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("the secret cannot be read: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != size {
		return nil, fmt.Errorf("%s does not hold a secret: %d bytes in base64 are wanted", path, size)
	}
	return newBox(key)
}

// Passing returns a box with a secret of its own, which nobody keeps: for what need not be opened after the process ends, or by another one.
func Passing() *Box {
	key := make([]byte, size)
	_, _ = rand.Read(key) // it cannot fail
	box, err := newBox(key)
	if err != nil {
		panic("bug: " + err.Error()) // the key has the right length
	}
	return box
}

func newBox(key []byte) (*Box, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return &Box{aead, key}, err
}

// Key returns a key for a purpose, made of the secret (HKDF, RFC 5869), which tells nothing of it nor of keys for other purposes.
func (b *Box) Key(purpose string) []byte {
	key, err := hkdf.Key(sha256.New, b.key, nil, purpose, size)
	if err != nil {
		panic("bug: " + err.Error()) // a key of this length can always be made
	}
	return key
}

// Seal encrypts bytes for a purpose, without which they cannot be opened.
func (b *Box) Seal(purpose string, plain []byte) []byte {
	return b.aead.Seal(nil, nil, plain, []byte(purpose))
}

// Open decrypts what was sealed for a purpose. Where that fails, the error is [ErrOther].
func (b *Box) Open(purpose string, sealed []byte) ([]byte, error) {
	plain, err := b.aead.Open(nil, nil, sealed, []byte(purpose))
	if err != nil {
		return nil, ErrOther
	}
	return plain, nil
}

package parcel

import (
	"crypto/ecdh"
	"crypto/hpke"
	"fmt"
)

// Seal encrypts bytes for one gate and a purpose, without which they cannot be opened: HPKE (RFC 9180) with X25519, HKDF-SHA256 and AES-256-GCM. key is the
// public key of the gate, 32 bytes.
func Seal(key []byte, purpose string, plain []byte) ([]byte, error) {
	point, err := ecdh.X25519().NewPublicKey(key)
	if err != nil {
		return nil, fmt.Errorf("the gate's key: %w", err)
	}
	public, err := hpke.NewDHKEMPublicKey(point)
	if err != nil {
		return nil, fmt.Errorf("the gate's key: %w", err)
	}
	return hpke.Seal(public, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(purpose), plain)
}

// Unseal decrypts what [Seal] made for the key and a purpose.
func Unseal(key *ecdh.PrivateKey, purpose string, sealed []byte) ([]byte, error) {
	private, err := hpke.NewDHKEMPrivateKey(key)
	if err != nil {
		return nil, err
	}
	return hpke.Open(private, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(purpose), sealed)
}

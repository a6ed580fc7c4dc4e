package account

import (
	"context"
	"crypto/rand"
	"encoding/base64"

	"widelark/internal/access"
)

// FirstOwnerSecret makes the secret of a one-time link with which somebody makes the first account, an owner's. It returns "" if there is an account already.
func (d *Authenticator) FirstOwnerSecret(ctx context.Context) (string, error) {
	random := make([]byte, 32)
	_, _ = rand.Read(random) // documented never to fail
	text := base64.RawURLEncoding.EncodeToString(random)
	added, err := d.store.AddFirstOwnerLink(ctx, tokenHash(text), access.Setup)
	if err != nil || !added {
		return "", err
	}
	return text, nil
}

// AddFirstOwner makes the first account. The errors are those of [Authenticator.Add], and [ErrUnknown] if the link is over or somebody was faster.
func (d *Authenticator) AddFirstOwner(ctx context.Context, secret string, a Account, password string) (Account, error) {
	if err := d.store.FirstOwnerLink(ctx, tokenHash(secret)); err != nil { // before the work of a hash
		return Account{}, err
	}
	if err := CheckName(a.Name); err != nil {
		return Account{}, err
	}
	hash, err := d.Hash(ctx, a.Name, password)
	if err != nil {
		return Account{}, err
	}
	return d.store.AddFirstOwner(ctx, a, hash, tokenHash(secret), access.Setup)
}

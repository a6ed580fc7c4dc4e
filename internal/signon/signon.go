// Package signon lets people sign in at the organisation's identity provider: OpenID Connect with the authorization code flow (OpenID Connect Core 1.0, section 3.1) and a proof key
// (RFC 7636).
//
// From: [Settings], and what the provider answers.
// To: [account.Identity].
package signon

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"widelark/internal/account"
	"widelark/internal/secret"
)

// Settings is what the provider and the service know of each other.
type Settings struct {
	Name      string // as the sign-in page calls the provider
	Issuer    string // its URL
	Client    string // the service's id there
	Secret    string // the service's secret there; "" for a public client
	Scopes    []string
	NameClaim string // whose value is the sign-in name; "" for preferred_username, else the part of the mail address before the @
	Groups    string // the claim whose values are groups
	Return    string // the console's page that the provider leads back to
}

// Path is the page of the console that a provider leads back to.
const Path = "/signed-in"

// ErrState is the error of an answer that does not belong to what was begun, or comes too late.
var ErrState = errors.New("the sign-in was not begun here, or too long ago")

// UnreachableError says that the provider does not answer as it should.
type UnreachableError struct{ Err error }

// Error returns the reason.
func (e *UnreachableError) Error() string {
	return "the identity provider does not answer: " + e.Err.Error()
}

// Unwrap returns the reason.
func (e *UnreachableError) Unwrap() error { return e.Err }

// RefusedError says why the provider, or what it said, lets nobody in.
type RefusedError struct{ Msg string }

// Error returns the reason.
func (e *RefusedError) Error() string { return e.Msg }

// Provider is an identity provider. It is asked for what it is when somebody first signs in, so that it may be away before. It is safe for concurrent use.
type Provider struct {
	settings Settings
	box      *secret.Box // seals what a browser keeps during a sign-in
	client   *http.Client
	now      func() time.Time

	mu    sync.Mutex
	known *oidc.Provider // nil until it has answered; guarded by mu
}

// New returns the provider of some settings. What a browser keeps is sealed with box.
func New(settings Settings, box *secret.Box, client *http.Client, now func() time.Time) *Provider {
	settings.Scopes = append([]string{oidc.ScopeOpenID}, settings.Scopes...)
	return &Provider{settings: settings, box: box, client: client, now: now}
}

// Name returns what the sign-in page calls the provider.
func (p *Provider) Name() string { return p.settings.Name }

// begun is a sign-in under way.
type begun struct {
	State, Nonce, Verifier string
	Until                  time.Time
}

// purpose of the seal of a sign-in under way.
const purpose = "sign-in at the identity provider"

// longest is how long somebody may take to sign in there.
const longest = 15 * time.Minute

// Begin returns the address at which somebody signs in, and what their browser keeps until then.
func (p *Provider) Begin(ctx context.Context) (address string, kept []byte, err error) {
	provider, err := p.provider(ctx)
	if err != nil {
		return "", nil, err
	}
	b := begun{rand.Text(), rand.Text(), oauth2.GenerateVerifier(), p.now().Add(longest)}
	text, err := json.Marshal(b)
	if err != nil {
		return "", nil, err
	}
	return p.config(provider).AuthCodeURL(b.State, oidc.Nonce(b.Nonce), oauth2.S256ChallengeOption(b.Verifier)), p.box.Seal(purpose, text), nil
}

// Finish returns who has signed in. code and state are what the provider gave to the browser; kept is what [Provider.Begin] returned. The errors are [ErrState], [*UnreachableError] and
// [*RefusedError].
func (p *Provider) Finish(ctx context.Context, code, state string, kept []byte) (account.Identity, error) {
	var b begun
	text, err := p.box.Open(purpose, kept)
	if err == nil {
		err = json.Unmarshal(text, &b)
	}
	if err != nil || b.State == "" || subtle.ConstantTimeCompare([]byte(b.State), []byte(state)) != 1 || p.now().After(b.Until) {
		return account.Identity{}, ErrState
	}
	provider, err := p.provider(ctx)
	if err != nil {
		return account.Identity{}, err
	}
	got, err := p.config(provider).Exchange(p.reaching(ctx), code, oauth2.VerifierOption(b.Verifier))
	if refused, ok := errors.AsType[*oauth2.RetrieveError](err); ok && refused.Response.StatusCode < 500 {
		return account.Identity{}, &RefusedError{fmt.Sprintf("the identity provider refuses the code: %s", cmp.Or(refused.ErrorCode, refused.Response.Status))}
	} else if err != nil {
		return account.Identity{}, &UnreachableError{err}
	}
	raw, _ := got.Extra("id_token").(string)
	id, err := provider.Verifier(&oidc.Config{ClientID: p.settings.Client, Now: p.now}).Verify(p.reaching(ctx), raw)
	if err != nil {
		return account.Identity{}, &RefusedError{"what the identity provider said cannot be trusted: " + err.Error()}
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(b.Nonce)) != 1 {
		return account.Identity{}, ErrState
	}
	return p.identity(id)
}

// identity reads the claims of a token that has been verified.
func (p *Provider) identity(id *oidc.IDToken) (account.Identity, error) {
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return account.Identity{}, &RefusedError{"the identity provider's claims cannot be read: " + err.Error()}
	}
	text := func(claim string) string {
		said, _ := claims[claim].(string)
		return strings.TrimSpace(said)
	}
	who := account.Identity{Issuer: id.Issuer, Subject: id.Subject, FullName: text("name"), Groups: texts(claims[p.settings.Groups])}
	if p.settings.NameClaim != "" {
		who.Name = text(p.settings.NameClaim)
	} else {
		local, _, _ := strings.Cut(text("email"), "@")
		who.Name = cmp.Or(text("preferred_username"), local)
	}
	if who.Name == "" {
		return account.Identity{}, &RefusedError{"the identity provider does not say a sign-in name: it has to be asked for the claim " + cmp.Or(p.settings.NameClaim, "preferred_username")}
	}
	return who, nil
}

// texts returns the texts of a claim that is one or several.
func texts(claim any) (all []string) {
	switch said := claim.(type) {
	case string:
		return []string{said}
	case []any:
		for _, one := range said {
			if text, ok := one.(string); ok {
				all = append(all, text)
			}
		}
	}
	return all
}

// reaching returns a context with which the libraries use the provider's client.
func (p *Provider) reaching(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, p.client)
}

// provider asks the provider what it is, once it answers.
func (p *Provider) provider(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	known := p.known
	p.mu.Unlock()
	if known != nil {
		return known, nil
	}
	// The library keeps the context for later requests of keys: it must outlive this one.
	found, err := oidc.NewProvider(p.reaching(context.WithoutCancel(ctx)), p.settings.Issuer)
	if err != nil {
		return nil, &UnreachableError{err}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.known = found
	return found, nil
}

func (p *Provider) config(provider *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: p.settings.Client, ClientSecret: p.settings.Secret, Endpoint: provider.Endpoint(), RedirectURL: p.settings.Return, Scopes: p.settings.Scopes}
}

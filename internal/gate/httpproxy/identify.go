package httpproxy

import (
	"crypto/sha256"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/gate"
)

// remembered is how long a sign-in at the proxy holds without its password being checked again: browsers send it with each request.
const remembered = 5 * time.Minute

// mostRemembered bounds how many sign-ins are remembered.
const mostRemembered = 10_000

// signIns remembers who signed in, by a digest of name and password. It is safe for concurrent use.
type signIns struct {
	mu  sync.Mutex
	key map[[32]byte]signedIn // guarded by mu
}

type signedIn struct {
	person uuid.UUID
	until  time.Time
}

func newSignIns() *signIns { return &signIns{key: map[[32]byte]signedIn{}} }

func (s *signIns) get(key [32]byte, now time.Time) (uuid.UUID, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known, ok := s.key[key]
	return known.person, ok && now.Before(known.until)
}

func (s *signIns) put(key [32]byte, person uuid.UUID, until time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.key) >= mostRemembered {
		clear(s.key)
	}
	s.key[key] = signedIn{person, until}
}

// identify says who asks. Where it reports false, it has asked for a sign-in.
func (p *Proxy) identify(w http.ResponseWriter, r *http.Request) (gate.Client, bool) {
	client := gate.Client{}
	if at, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		client.Address = at.Addr().Unmap()
	}
	header := r.Header.Get("Proxy-Authorization")
	r.Header.Del("Proxy-Authorization")
	if !r.URL.IsAbs() && r.Method != http.MethodConnect { // for the gate itself, which asks nobody to sign in
		if header != "" && p.Desk != nil {
			if person, ok, err := p.signIn(r, header); ok && err == nil {
				client.Person, client.SignedIn = person, true
			}
		}
		return client, true
	}
	if header != "" && p.Desk != nil {
		person, ok, err := p.signIn(r, header)
		switch {
		case err != nil:
			p.Log.WarnContext(r.Context(), "a sign-in at the proxy cannot be checked", "error", err)
			http.Error(w, "Your sign-in cannot be checked just now. Try again in a minute.", http.StatusServiceUnavailable)
			return client, false
		case !ok:
			return client, p.askSignIn(w)
		}
		client.Person, client.SignedIn = person, true
		return client, true
	}
	if person, ok := p.told(r, client.Address); ok {
		client.Person, client.SignedIn = person, true
		return client, true
	}
	if p.Desk != nil && p.signInAsked(client) {
		return client, p.askSignIn(w)
	}
	return client, true
}

// toldFor is how long a name that another proxy says is not looked up anew.
const toldFor = time.Minute

// told returns the person whom a trusted machine says to be the one who asks. What it says goes no further.
func (p *Proxy) told(r *http.Request, from netip.Addr) (uuid.UUID, bool) {
	name := strings.TrimSpace(r.Header.Get(p.Told.Header))
	if p.Desk == nil || name == "" || !slices.ContainsFunc(p.Told.From, func(r netip.Prefix) bool { return r.Contains(from) }) {
		return uuid.Nil, false
	}
	r.Header.Del(p.Told.Header)
	key, now := sha256.Sum256([]byte("told\x00"+strings.ToLower(name))), p.Gate.Now()
	if person, ok := p.remember.get(key, now); ok {
		return person, true
	}
	person, ok, err := p.Desk.Named(r.Context(), name)
	if err != nil || !ok {
		p.Log.WarnContext(r.Context(), "nobody has the name that another proxy says", "name", name, "from", from, "error", err)
		return uuid.Nil, false
	}
	p.remember.put(key, person, now.Add(toldFor))
	return person, true
}

// signInAsked reports whether clients of whom nothing but the address is known must sign in.
func (p *Proxy) signInAsked(client gate.Client) bool {
	e := p.Gate.Edition()
	if e == nil {
		return false
	}
	q := policy.Request{Addr: client.Address}
	switch e.Snapshot.WayOf(&q).SignIn {
	case policy.NeverSignIn:
		return false
	case policy.AlwaysSignIn:
		return true
	}
	return p.Gate.Known(client).Person == uuid.Nil
}

func (p *Proxy) askSignIn(w http.ResponseWriter) bool {
	w.Header().Set("Proxy-Authenticate", `Basic realm="`+p.Organisation+`", charset="UTF-8"`)
	http.Error(w, "Sign in at the proxy with your name and password.", http.StatusProxyAuthRequired)
	return false
}

// signIn checks a sign-in of the scheme Basic (RFC 7617).
func (p *Proxy) signIn(r *http.Request, header string) (uuid.UUID, bool, error) {
	basic := http.Request{Header: http.Header{"Authorization": {header}}}
	name, password, ok := basic.BasicAuth()
	if !ok {
		return uuid.Nil, false, nil
	}
	key, now := sha256.Sum256([]byte(strings.ToLower(name)+"\x00"+password)), p.Gate.Now()
	if person, ok := p.remember.get(key, now); ok {
		return person, true, nil
	}
	address := ""
	if at, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		address = at.Addr().Unmap().String()
	}
	person, ok, err := p.Desk.SignIn(r.Context(), name, password, address)
	if ok && err == nil {
		p.remember.put(key, person, now.Add(remembered))
	}
	return person, ok, err
}

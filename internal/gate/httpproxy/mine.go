package httpproxy

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/blockpage"
)

// mostShown is how many refusals somebody sees of their own.
const mostShown = 20

// mine answers one's own page: who one is to the gate, a form to sign in, which makes a presence, or to leave, and what was refused to one lately. It is the way
// out where a browser can show no page, as where a tunnel is refused.
func (p *Proxy) mine(w http.ResponseWriter, r *http.Request, client gate.Client) {
	ownPage(w.Header())
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	words := blockpage.In(r.Header.Get("Accept-Language"))
	page := blockpage.Mine{Words: words, Organisation: p.Organisation, Address: client.Address.String(), Token: p.tokenFor(client.Address), For: words.Span(gate.Stays)}
	if r.Method == http.MethodPost {
		if page.Problem = p.takeMine(r, client); page.Problem == "" {
			http.Redirect(w, r, "/", http.StatusSeeOther)
			return
		}
	}
	known := client
	if !known.SignedIn {
		known = p.Gate.Known(client)
	}
	page.Who = p.Gate.Called(known)
	page.Shared = p.Gate.Shared(client.Address)
	page.Leaves = known.Person != uuid.Nil && !known.SignedIn
	page.SignsIn = known.Person == uuid.Nil && !page.Shared
	for _, one := range p.lately.of(known, p.Gate.Now()) {
		page.Refused = append(page.Refused, blockpage.Lately{
			URL: one.URL.String(), Because: one.Because, Reference: one.reference, Held: one.Verdict == policy.Hold, At: one.At.In(p.Gate.Zone()).Format("15:04"),
		})
	}
	if page.Problem != "" {
		w.WriteHeader(http.StatusBadRequest)
	}
	_, _ = w.Write(page.HTML())
}

// takeMine takes a form of one's own page, and says what is wrong with it; "" if nothing is.
func (p *Proxy) takeMine(r *http.Request, client gate.Client) (problem string) {
	if !hmac.Equal([]byte(r.PostFormValue("token")), []byte(p.tokenFor(client.Address))) {
		return "This form is not from this page, or you are elsewhere by now. Try once more."
	}
	switch r.PostFormValue("act") {
	case "leave":
		if p.Desk.Leave(r.Context(), client.Address) != nil {
			return unreachable
		}
	case "sign in":
		if p.Gate.Shared(client.Address) {
			return "Many people share your address, so nobody can be known by it."
		}
		person, ok, err := p.Desk.SignIn(r.Context(), r.PostFormValue("name"), r.PostFormValue("password"), client.Address.String())
		if ok {
			_, err = p.Desk.Arrive(r.Context(), person, client.Address)
		}
		switch {
		case errors.Is(err, gate.ErrTries):
			return "Too many sign-ins failed. Wait a few minutes."
		case err != nil:
			return unreachable
		case !ok:
			return "Name and password do not belong together."
		}
		p.waitUntilKnown(r, client, person)
	default:
		return "This form is not from this page. Try once more."
	}
	return ""
}

// waitUntilKnown waits for the presence to arrive at this gate, as it does within two seconds, so that the page that follows knows of it.
func (p *Proxy) waitUntilKnown(r *http.Request, client gate.Client, person uuid.UUID) {
	for end := time.Now().Add(3 * time.Second); time.Now().Before(end) && p.Gate.Known(client).Person != person; {
		select {
		case <-r.Context().Done():
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// tokenFor returns what forms of one's own page send from an address.
func (p *Proxy) tokenFor(address netip.Addr) string {
	mac := hmac.New(sha256.New, p.secret)
	mac.Write([]byte(address.String()))
	return base32.StdEncoding.EncodeToString(mac.Sum(nil))[:26]
}

// ownPage sets the header fields of the gate's own pages.
func ownPage(header http.Header) {
	header.Set("Content-Type", "text/html; charset=utf-8")
	header.Set("Cache-Control", "no-store")
	header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	header.Set("Referrer-Policy", "no-referrer")
	header.Set("X-Content-Type-Options", "nosniff")
}

// refusalOf is a refusal with its reference.
type refusalOf struct {
	Refused
	reference string
}

// of returns what was refused to a client lately, the last first, each URL once.
func (l *lately) of(client gate.Client, now time.Time) (found []refusalOf) {
	l.mu.Lock()
	defer l.mu.Unlock()
	seen := map[string]bool{}
	for i := len(l.order) - 1; i >= 0 && len(found) < mostShown; i-- {
		d, reference := l.byRef[l.order[i]], l.order[i]
		mine := d.Address == client.Address && (d.Person == client.Person || d.Person == uuid.Nil) || d.Person != uuid.Nil && d.Person == client.Person
		url := d.URL.String()
		if !mine || seen[strings.TrimSuffix(url, "/")] || now.Sub(d.At) > refusedFor {
			continue
		}
		seen[strings.TrimSuffix(url, "/")] = true
		found = append(found, refusalOf{d, reference})
	}
	return found
}

package httpproxy

import (
	"context"
	"net/http"
	"strings"
	"sync"
	"time"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/blockpage"
)

// Asks takes requests for access, and says what became of them.
type Asks interface {
	// Ask hands in somebody's plea for what was refused.
	Ask(ctx context.Context, r Refused, reference, reason string) error

	// Asked says what became of the plea with a reference: its state, and the answer in words; false where there is none.
	Asked(ctx context.Context, reference string) (state, answer string, found bool, err error)
}

// Refused is a request that was refused, as the page about it says. It does not hold the edition, which would stay in memory with it.
type Refused struct {
	gate.Request
	Verdict          policy.Verdict
	By, Because, Who string
	At               time.Time
}

// How many refusals are remembered, and how long, so that people can ask about them.
const (
	mostRefused = 20_000
	refusedFor  = 2 * time.Hour
	mostReason  = 2000 // bytes
)

// lately remembers what was refused by the reference of the page that said so: whoever has the reference is the asker. It is safe for concurrent use.
type lately struct {
	mu    sync.Mutex
	byRef map[string]Refused // guarded by mu, as is order
	order []string
}

func (l *lately) add(reference string, d Refused) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byRef == nil {
		l.byRef = map[string]Refused{}
	}
	l.byRef[reference] = d
	l.order = append(l.order, reference)
	for len(l.order) > mostRefused || d.At.Sub(l.byRef[l.order[0]].At) > refusedFor {
		delete(l.byRef, l.order[0])
		l.order = l.order[1:]
	}
}

func (l *lately) get(reference string) (Refused, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	d, ok := l.byRef[reference]
	return d, ok
}

// ask answers the gate's own page about one refusal: what was refused, a form to ask for access and, once it is sent, what became of it. Reading the
// page changes nothing.
func (p *Proxy) ask(w http.ResponseWriter, r *http.Request) {
	header := w.Header()
	header.Set("Content-Type", "text/html; charset=utf-8")
	header.Set("Cache-Control", "no-store")
	header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	header.Set("X-Content-Type-Options", "nosniff")
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	reference := strings.ToUpper(strings.TrimSpace(r.FormValue("reference")))
	page := blockpage.Ask{Organisation: p.Organisation, Reference: reference}
	d, known := p.lately.get(reference)
	state, answer, found, err := p.Asks.Asked(r.Context(), reference)
	switch {
	case err != nil:
		page.Problem = "The service cannot be reached just now. Try again in a minute."
	case found:
		page.State, page.Answer = state, answer
	case !known:
		page.Problem = "This gate knows no refusal with this reference, or it is too long ago. Open the page once more, and ask from there."
	case r.Method == http.MethodPost:
		reason := strings.TrimSpace(r.PostFormValue("reason"))
		if len(reason) > mostReason {
			reason = strings.ToValidUTF8(reason[:mostReason], "")
		}
		if reason == "" {
			page.Problem = "Say what you need the page for."
			break
		}
		if err := p.Asks.Ask(r.Context(), d, reference, reason); err != nil {
			page.Problem = "The request could not be handed in. Try again in a minute."
			break
		}
		http.Redirect(w, r, "/ask?reference="+reference, http.StatusSeeOther)
		return
	}
	if known {
		page.URL, page.Who, page.Because = d.URL.String(), d.Who, d.Because
	}
	if page.Problem != "" {
		w.WriteHeader(http.StatusBadRequest)
	}
	_, _ = w.Write(page.HTML())
}

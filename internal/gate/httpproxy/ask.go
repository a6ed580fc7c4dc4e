package httpproxy

import (
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/blockpage"
)

// Refused is a request that was refused, as the page about it says. It does not hold the edition, which would stay in memory with it.
type Refused struct {
	gate.Request
	Verdict          policy.Verdict
	By, Because, Who string
	At               time.Time

	token string    // that only the gate's own page about the refusal knows, so that no page of a site can send its forms
	past  time.Time // until when its asker has come past it; zero where they have not
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
	d.token = rand.Text()
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

// passed keeps until when the asker of a refusal has come past it.
func (l *lately) passed(reference string, until time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if d, ok := l.byRef[reference]; ok {
		d.past = until
		l.byRef[reference] = d
	}
}

// ask answers the gate's own page about one refusal: what was refused and why; forms to acknowledge it, to enter a code and to ask for access; and what became
// of that. Reading the page changes nothing, and what is sent must come from it and from whoever was refused.
func (p *Proxy) ask(w http.ResponseWriter, r *http.Request, client gate.Client) {
	ownPage(w.Header())
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	reference := strings.ToUpper(strings.TrimSpace(r.FormValue("reference")))
	page := blockpage.Ask{Words: blockpage.In(r.Header.Get("Accept-Language")), Organisation: p.Organisation, Reference: reference}
	d, known := p.lately.get(reference)
	mine := known && d.Address == client.Address
	state, answer, found, err := p.Desk.Asked(r.Context(), reference)
	var holding gate.Holding
	holds := false
	if mine && d.Verdict == policy.Hold {
		holding, holds = p.Gate.Holds(d.Request)
	}
	blocked := false // and somebody with a code may open it
	if mine && d.Verdict == policy.Block {
		holding, blocked = p.Gate.Unlocks(d.Request)
	}
	if p.Gate.Now().Before(d.past) {
		page.Past, holds = page.Moment(d.past.In(p.Gate.Zone())), false
		blocked = false
	}
	switch {
	case err != nil:
		page.Problem = unreachable
	case !known && !found:
		page.Problem = "This gate knows no refusal with this reference, or it is too long ago. Open the page once more, and ask from there."
	case r.Method != http.MethodPost:
	case !mine || subtle.ConstantTimeCompare([]byte(r.PostFormValue("token")), []byte(d.token)) != 1:
		page.Problem = "This form is not from this page, or you are elsewhere by now. Open the page that you need once more, and go on from there."
	default:
		act := r.PostFormValue("act")
		switch {
		case act == "ask" && found:
		case act == "ask":
			page.Problem = p.takeRequest(r, d, reference)
		case !holds && (!blocked || act != "code"):
			page.Problem = "Nothing holds this page for you any more, or nobody can come past it. Open it once more."
		default:
			page.Problem = p.takePast(r, act, gate.Past{Request: d.Request, Holding: holding, Reference: reference})
		}
		if page.Problem == "" {
			http.Redirect(w, r, "/ask?reference="+reference, http.StatusSeeOther)
			return
		}
	}
	if found {
		page.State, page.Answer = state, answer
	}
	if known {
		page.URL, page.Who, page.Because = d.URL.String(), d.Who, d.Because
	}
	page.Shared = holding.Shared
	if mine {
		page.Token, page.Asks = d.token, !found
		page.Acknowledges, page.Codes = holds && holding.Left == policy.Acknowledging, holds && holding.Left == policy.ByCode
		page.HasCode = blocked && !found
		page.For = page.Span(holding.For)
	}
	if page.Problem != "" {
		w.WriteHeader(http.StatusBadRequest)
	}
	_, _ = w.Write(page.HTML())
}

const unreachable = "The service cannot be reached just now. Try again in a minute."

// takeRequest hands in a request for access, and says what is wrong with it; "" if nothing is.
func (p *Proxy) takeRequest(r *http.Request, d Refused, reference string) (problem string) {
	reason := strings.TrimSpace(r.PostFormValue("reason"))
	if len(reason) > mostReason {
		reason = strings.ToValidUTF8(reason[:mostReason], "")
	}
	if reason == "" {
		return "Say what you need the page for."
	}
	if p.Desk.Ask(r.Context(), gate.Plea{Request: d.Request, Verdict: d.Verdict, By: d.By, Reference: reference, Reason: reason}) != nil {
		return unreachable
	}
	return ""
}

// takePast lets the asker past a hold as its rule says, and says why not; "" if they are past it.
func (p *Proxy) takePast(r *http.Request, act string, past gate.Past) (problem string) {
	var until time.Time
	var err error
	switch {
	case act == "acknowledge" && past.Left == policy.Acknowledging:
		until, err = p.Desk.Acknowledge(r.Context(), past)
	case act == "code" && past.Left == policy.ByCode:
		until, err = p.Desk.Unlock(r.Context(), past, r.PostFormValue("code"))
	default:
		return "The rule says another way past this page."
	}
	switch {
	case errors.Is(err, gate.ErrNoCode):
		return "This code does not open this page. Look at it once more; it may also be used up, or its time may be over."
	case errors.Is(err, gate.ErrTooMany):
		return "Too many wrong codes were entered. Wait a quarter of an hour."
	case err != nil:
		return unreachable
	}
	p.lately.passed(past.Reference, until)
	return ""
}

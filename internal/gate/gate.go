// Package gate decides requests as they come in, by the edition in force, for any protocol. It keeps what is under way, decides it again as time and
// editions pass, and hands in what was decided for the record. Its children speak protocols and hold no policy.
//
// From: editions, and requests as a protocol sees them.
// To: decisions, and records.
package gate

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// Edition is what a gate decides by: a live revision, the catalogue and the standing facts beside it. It is immutable.
type Edition struct {
	Revision  int64
	Catalogue int64     // its version
	Since     time.Time // when the gate took it
	Snapshot  *policy.Snapshot
}

// Recorder takes records. Add must not wait.
type Recorder interface {
	Add(r journal.Record)
}

// Gate decides requests of one protocol. It is safe for concurrent use. Until it has an edition, it blocks everything, unless OpenWithout says otherwise.
type Gate struct {
	Kind    policy.Gate
	Name    string
	Now     func() time.Time
	Records Recorder

	OpenWithout bool // until there is an edition, everything is let through

	edition atomic.Pointer[Edition]
	works   sync.Pool // of *policy.Work

	mu      sync.Mutex
	running map[*Running]struct{}  // guarded by mu
	open    map[uuid.UUID]struct{} // guarded by mu: decisions that were recorded as open and have not ended

	spending spending
	quiet    atomic.Pointer[quiet]

	decided, refused, cut, unrecorded atomic.Int64
	began                             time.Time
	opens                             atomic.Bool
}

// New returns a gate. now is the clock.
func New(kind policy.Gate, name string, now func() time.Time, records Recorder) *Gate {
	return &Gate{
		Kind: kind, Name: name, Now: now, Records: records,
		works: sync.Pool{New: func() any { return &policy.Work{} }}, running: map[*Running]struct{}{}, open: map[uuid.UUID]struct{}{}, began: now(),
	}
}

// Client is who asks, as far as the gate knows.
type Client struct {
	Address  netip.Addr
	Person   uuid.UUID // the zero id where nobody is known
	SignedIn bool      // the person has signed in; otherwise the person is looked up by the address, with each decision anew
}

// Request is a request as the gate sees it.
type Request struct {
	Client
	URL    weburl.URL
	Method string
	Sight  weburl.Sight

	TwoNames, NotTLS bool // see [policy.Request]

	Chain []weburl.URL // where a name leads; see [policy.Request]

	Answer *Answer // takes what the site answers; nil where that changes nothing

	Referrer, Agent string // as the client says them; for the record alone
}

// Decision is the verdict on a request.
type Decision struct {
	policy.Decision
	ID      uuid.UUID // of its record; the zero id for a decision of which no record is made
	Request Request
	At      time.Time
	Edition *Edition // nil: the gate had none, and blocked
}

// Edition returns the edition in force; nil where there is none yet.
func (g *Gate) Edition() *Edition { return g.edition.Load() }

// Take puts an edition in force: from now on it decides, also on what is under way.
func (g *Gate) Take(e *Edition) { g.edition.Store(e) }

// question returns a request in the form of the core.
func (g *Gate) question(r *Request) policy.Request {
	q := policy.Request{URL: r.URL, Method: r.Method, Addr: r.Address, Sight: r.Sight, Gate: g.Kind, TwoNames: r.TwoNames, NotTLS: r.NotTLS, Chain: r.Chain}
	if r.Person != uuid.Nil {
		q.Person = r.Person.String()
	}
	if r.Answer != nil {
		q.Answer = r.Answer.known.Load()
	}
	return q
}

// Decide returns the verdict on a request now.
func (g *Gate) Decide(r Request) Decision {
	d := g.decide(r)
	d.ID = journal.NewID(d.At)
	g.decided.Add(1)
	if !d.Verdict.Passes() {
		g.refused.Add(1)
	}
	return d
}

func (g *Gate) decide(r Request) Decision {
	d := Decision{Request: r, At: g.Now(), Edition: g.edition.Load()}
	if d.Edition == nil {
		d.Decision = policy.Decision{Verdict: policy.Block, Policy: -1, Rule: -1, Granted: -1, Stint: -1}
		if g.OpenWithout {
			d.Verdict = policy.Allow
		}
		return d
	}
	d.Request.Client = present(d.Edition, r.Client, d.At)
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&d.Request)
	d.Decision = d.Edition.Snapshot.Decide(w, &q, d.At)
	return d
}

// present returns a client with the person who is at its address at a moment.
func present(e *Edition, c Client, at time.Time) Client {
	if c.SignedIn {
		return c
	}
	c.Person = uuid.Nil
	if person := e.Snapshot.PresentAt(c.Address, at); person != "" {
		c.Person, _ = uuid.Parse(person)
	}
	return c
}

// Holding is what holds a request, and how whoever asks comes past it.
type Holding struct {
	Rule   uuid.UUID // or, where it is the otherwise of a policy, the policy
	Left   policy.Leave
	For    time.Duration
	Shared bool          // nobody is known, and many clients stand behind the address: there is no way past it
	Entry  pattern.Entry // the narrowest for the URL that every gate on the way can tell
}

// Holds returns what holds a request now; false where nothing does any more, or there is no way past it.
func (g *Gate) Holds(r Request) (h Holding, holds bool) {
	d := g.decide(r)
	if d.Verdict != policy.Hold || d.Edition == nil {
		return h, false
	}
	var id string
	id, h.Left, h.For = d.Edition.Snapshot.HeldBy(d.Decision)
	rule, err := uuid.Parse(id)
	h.Rule = rule
	q := g.question(&d.Request)
	if r.SignedIn {
		q.Way = policy.ByProxy // whatever the network says
	}
	h.Entry, holds = d.Edition.Snapshot.Entry(&policy.Work{}, &q, d.At)
	if d.Request.Person == uuid.Nil && d.Edition.Snapshot.SharedAt(d.Request.Address) {
		h.Shared, holds = true, false
	}
	return h, holds && err == nil
}

// Unlocks reports whether a code could open a request that is blocked: not where the baseline decides, nor where many clients stand behind the address of somebody who is not known.
func (g *Gate) Unlocks(r Request) (h Holding, may bool) {
	d := g.decide(r)
	if d.Verdict != policy.Block || d.Edition == nil || d.Rung == policy.AtBaseline {
		return h, false
	}
	if d.Request.Person == uuid.Nil && d.Edition.Snapshot.SharedAt(d.Request.Address) {
		return h, false
	}
	q := g.question(&d.Request)
	if r.SignedIn {
		q.Way = policy.ByProxy // whatever the network says
	}
	h.Left = policy.ByCode
	h.Entry, may = d.Edition.Snapshot.Entry(&policy.Work{}, &q, d.At)
	return h, may
}

// Held returns what the gate can hold of what a request is bound to, and what it cannot; see [policy.Snapshot.Held].
func (g *Gate) Held(d Decision) (held, not policy.Provisos, safe policy.Safe) {
	if d.Edition == nil {
		return held, not, safe
	}
	q := g.question(&d.Request)
	return d.Edition.Snapshot.Held(d.Provisos, &q)
}

// Known returns a client with the person who is at its address now; one who has signed in stays.
func (g *Gate) Known(c Client) Client {
	if e := g.edition.Load(); e != nil {
		return present(e, c, g.Now())
	}
	return c
}

// Shared reports whether many clients stand behind an address, so that nobody is known by it.
func (g *Gate) Shared(at netip.Addr) bool {
	e := g.edition.Load()
	return e != nil && e.Snapshot.SharedAt(at)
}

// Sees returns what the gate sees of a request for a URL, as journeys have it; see [policy.Seen].
func (g *Gate) Sees(u weburl.URL, opened bool) weburl.Sight {
	sight, _ := policy.Seen(g.Kind, u, opened)
	return sight
}

// CanOpen says whether the gate has an authority to open connections with. At first, it has none.
func (g *Gate) CanOpen(can bool) { g.opens.Store(can) }

// Opens reports whether the TLS connection of a request is opened, so that the whole URL is seen.
func (g *Gate) Opens(r Request) bool {
	e := g.edition.Load()
	if e == nil || !g.opens.Load() {
		return false
	}
	now := g.Now()
	r.Client = present(e, r.Client, now)
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&r)
	return e.Snapshot.Inspects(w, &q, now)
}

// ShowsPages reports whether a tunnel that is refused is opened to show the page that says so.
func (g *Gate) ShowsPages(d Decision) bool {
	if d.Edition == nil || !g.opens.Load() || d.Verdict.Passes() {
		return false
	}
	q := g.question(&d.Request)
	return d.Edition.Snapshot.ShowsPages(&policy.Work{}, &q)
}

// Explanation is a decision in words.
type Explanation struct {
	Because string
	Source  string // in a few words: the policy and the rule, or the exception
	Groups  []string
	Classes []string
}

// Explain says why a request was decided as it was.
func (g *Gate) Explain(d Decision) Explanation {
	if d.Edition == nil {
		return Explanation{Because: "This gate has no rules yet. It lets nothing through until the service has given it some."}
	}
	w := &policy.Work{}
	q := g.question(&d.Request)
	why := d.Edition.Snapshot.Explain(w, &q, d.At)
	e := Explanation{Because: why.Because, Source: d.Edition.Snapshot.Source(d.Decision)}
	for _, group := range why.Groups {
		e.Groups = append(e.Groups, group.Name)
	}
	for _, c := range d.Edition.Snapshot.Config().Taxonomy.Categories {
		if slices.Contains(why.Class.Categories, c.Key) {
			e.Classes = append(e.Classes, c.Name)
		}
	}
	return e
}

// Until returns the next moment at which time alone changes the verdict of a decision; false where it never does. It takes a thousand times as long as
// the decision.
func (g *Gate) Until(d Decision) (time.Time, bool) {
	if d.Edition == nil {
		return time.Time{}, false
	}
	q := g.question(&d.Request)
	return d.Edition.Snapshot.Until(&policy.Work{}, &q, d.At)
}

// Running is a request that is under way.
type Running struct {
	decision Decision
	begin    time.Time
	tunnel   bool // it is a tunnel: whether its connection is opened is decided again, too
	moved    func() int64
	before   int64 // moved, when it was last looked at
	cut      func()
}

// Watch keeps an eye on a request that was let through: cut is called once, within two seconds, when its verdict no longer passes or, with a tunnel,
// when its connection would now be opened, would lead to another host, or has bytes to be counted that are not. moved returns how many bytes have passed so far;
// minutes in which some do count for quotas. The caller calls done when the request has ended by itself; done reports whether it was cut.
func (g *Gate) Watch(d Decision, tunnel bool, moved func() int64, cut func()) (done func() (wasCut bool)) {
	r := &Running{decision: d, begin: time.Now(), tunnel: tunnel, moved: moved, cut: cut}
	g.use(d)
	g.mu.Lock()
	g.running[r] = struct{}{}
	g.mu.Unlock()
	return func() bool {
		g.mu.Lock()
		defer g.mu.Unlock()
		_, still := g.running[r]
		delete(g.running, r)
		return !still
	}
}

// again is how often what is under way is decided again: a verdict that turned is carried out within two seconds.
const again = 500 * time.Millisecond

// Run decides what is under way again, until the context ends.
func (g *Gate) Run(ctx context.Context) {
	tick := time.NewTicker(again)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			g.decideAgain()
		}
	}
}

// decideAgain cuts what is under way and no longer passes.
func (g *Gate) decideAgain() {
	g.mu.Lock()
	all := make([]*Running, 0, len(g.running))
	for r := range g.running {
		all = append(all, r)
	}
	g.mu.Unlock()
	for _, r := range all {
		if d := g.decide(r.decision.Request); d.Verdict.Passes() && (!r.tunnel || !g.Opens(d.Request) && g.carriesAlike(d, r.decision)) {
			if moved := r.moved(); moved != r.before {
				r.before = moved
				g.use(d)
			}
			if r.decision.ID != uuid.Nil && time.Since(r.begin) > openAfter {
				g.recordOpen(r)
			}
			continue
		}
		g.mu.Lock()
		_, still := g.running[r]
		delete(g.running, r)
		g.mu.Unlock()
		if still {
			g.cut.Add(1)
			r.cut()
		}
	}
}

// Measures reports whether it matters if bytes pass after the beginning: for a quota, or for what was unlocked and ends when it is not used.
func (g *Gate) Measures(d Decision) bool {
	held, _, _ := g.Held(d)
	return held.Quota > 0 || d.Edition != nil && d.Edition.Snapshot.Idles(d.Decision) != ""
}

// carriesAlike reports whether a tunnel that was made under a decision is as it would be made now: it leads to the same host, and its bytes are counted if a
// quota asks for that.
func (g *Gate) carriesAlike(now, made Decision) bool {
	if now.Decision == made.Decision && now.Edition == made.Edition {
		return true
	}
	_, _, safe := g.Held(now)
	_, _, safeBefore := g.Held(made)
	return safe == safeBefore && (!g.Measures(now) || g.Measures(made))
}

// Counts is what a gate has done since it started.
type Counts struct {
	Decided, Refused, Cut, Running int64
	Unrecorded                     int64 // of which policies say that nothing is recorded
}

// Counts returns what the gate has done so far.
func (g *Gate) Counts() Counts {
	g.mu.Lock()
	defer g.mu.Unlock()
	return Counts{Decided: g.decided.Load(), Refused: g.refused.Load(), Cut: g.cut.Load(), Running: int64(len(g.running)), Unrecorded: g.unrecorded.Load()}
}

// Called returns how a client is called: the person's name, else the machine's or the network's; "" where neither is known.
func (g *Gate) Called(c Client) string {
	e := g.edition.Load()
	if e == nil {
		return ""
	}
	d := e.Snapshot.Config().Directory
	if c.Person != uuid.Nil {
		if n := d.Person(c.Person.String()); n >= 0 {
			return d.People[n].Name
		}
	}
	if m := d.MachineAt(c.Address); m.Name != "" {
		return m.Name
	}
	if c.Address.IsValid() {
		if n := d.NetworkOf(c.Address); n >= 0 {
			return d.Networks[n].Name
		}
	}
	return ""
}

// PageOf returns what the policies of a request say on the pages that it gets where it is refused.
func (g *Gate) PageOf(d Decision) policy.Page {
	if d.Edition == nil {
		return policy.Page{}
	}
	q := g.question(&d.Request)
	return d.Edition.Snapshot.PageOf(&policy.Work{}, &q)
}

// Remains returns what is open to whoever asked, where a refusal leaves only a few; see [policy.Snapshot.Remains].
func (g *Gate) Remains(d Decision) []weburl.URL {
	if d.Edition == nil || d.Verdict.Passes() {
		return nil
	}
	q := g.question(&d.Request)
	return d.Edition.Snapshot.Remains(&policy.Work{}, &q, d.At)
}

// Zone returns the organisation's zone, in which moments are said; UTC where the gate does not know it yet.
func (g *Gate) Zone() *time.Location {
	if e := g.edition.Load(); e != nil {
		return e.Snapshot.Config().Zone
	}
	return time.UTC
}

// Report returns what the gate says of itself, as far as it knows.
func (g *Gate) Report() Report {
	r := Report{Name: g.Name, Kind: g.Kind, BeganAt: g.began, Counts: g.Counts()}
	if e := g.edition.Load(); e != nil {
		r.Revision, r.Catalogue, r.Since = e.Revision, e.Catalogue, e.Since
	}
	return r
}

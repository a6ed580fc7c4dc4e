package gate

import (
	"net/netip"
	"net/url"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// openAfter is how long a request is under way before it is recorded as open.
const openAfter = 5 * time.Second

// Record hands in a decided request with what became of it, as much as its policies want of it.
func (g *Gate) Record(d Decision, end journal.Ending) {
	g.mu.Lock()
	_, opened := g.open[d.ID]
	delete(g.open, d.ID)
	g.mu.Unlock()
	r, wanted := g.record(d, end)
	if !wanted {
		g.unrecorded.Add(1)
		return
	}
	r.Replaces = opened
	g.Records.Add(r)
}

// recordOpen hands in a request that is still under way, once. Its end replaces that record.
func (g *Gate) recordOpen(r *Running) {
	g.mu.Lock()
	_, known := g.open[r.decision.ID]
	_, still := g.running[r]
	g.mu.Unlock()
	if known || !still {
		return
	}
	open, wanted := g.record(r.decision, journal.Ending{Outcome: journal.Open, Size: r.moved(), Took: time.Since(r.begin)})
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, still := g.running[r]; still && wanted { // else its end is recorded before
		g.open[r.decision.ID] = struct{}{}
		g.Records.Add(open)
	}
}

// record returns the record of a decision; false where its policies say that nothing is recorded.
func (g *Gate) record(d Decision, end journal.Ending) (journal.Record, bool) {
	r := journal.Record{
		ID: d.ID, At: d.At.Truncate(time.Millisecond), Person: d.Request.Person, Address: d.Request.Address, Method: d.Request.Method, URL: d.Request.URL.String(),
		Gate: g.Kind, Sight: d.Request.Sight, Verdict: d.Verdict, GateName: g.Name, Referrer: hostOf(d.Request.Referrer), Agent: clean(d.Request.Agent, mostAgent), Ending: end,
	}
	r.Media, r.Detail = clean(r.Media, mostSaid), clean(r.Detail, mostSaid)
	if d.Edition == nil {
		return r, true
	}
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&d.Request)
	said := d.Edition.Snapshot.Record(w, &q, d.At, d.Decision)
	if said.Amount == policy.Nothing {
		return r, false
	}
	return Describe(r, &d.Request.URL, d.Edition, said, d.Decision), true
}

// Describe returns a record with what an edition says of a decision, and without what is not to be recorded. Precondition: said.Amount is not [policy.Nothing].
func Describe(r journal.Record, u *weburl.URL, e *Edition, said policy.Recorded, d policy.Decision) journal.Record {
	r.Revision, r.Catalogue, r.By, r.Rung = e.Revision, e.Catalogue, e.Snapshot.Source(d), d.Rung
	r.Network, r.Machine, r.Groups, r.Categories, r.Source = idOf(said.Network), idOf(said.Machine), idsOf(said.Groups), said.Categories, said.Source
	r.Policy, r.Rule, r.Exception, r.Stint, r.List, r.Entry, r.Notes = idOf(said.Policy), idOf(said.Rule), idOf(said.Exception), idOf(said.Stint), idOf(said.List), said.Entry, idsOf(said.Notes)
	r.Traits, r.Words, r.Amount = said.Traits, clean(strings.ReplaceAll(said.Searched, "\n", " "), mostSaid), said.Amount
	if d.Verdict.Passes() && d.Provisos != (policy.Provisos{}) {
		r.Provisos, r.NotHeld = d.Provisos.String(), said.NotHeld.String()
	}
	if said.Amount == policy.GroupOnly {
		r = groupOnly(r, *u)
	}
	return r
}

// groupOnly returns a record without what could be about somebody in particular: the host, what the host is, what decided, the network and the groups are left,
// and the minute. Its id does not hold the time.
func groupOnly(r journal.Record, u weburl.URL) journal.Record {
	if r.Exception != uuid.Nil { // it may be for one person, and is often called by the page
		r.Exception, r.By = uuid.Nil, string(r.Rung)
	}
	return journal.Record{
		ID: uuid.NewSHA1(uuid.Nil, r.ID[:]), At: r.At.Truncate(time.Minute), URL: hostAlone(u), Gate: r.Gate, GateName: r.GateName, Sight: r.Sight, Verdict: r.Verdict, Amount: r.Amount,
		Revision: r.Revision, Catalogue: r.Catalogue, By: r.By, Rung: r.Rung, Network: r.Network, Groups: r.Groups, Categories: r.Categories, Source: r.Source,
		Policy: r.Policy, Rule: r.Rule, Exception: r.Exception, Stint: r.Stint, List: r.List, Notes: r.Notes, Provisos: r.Provisos, NotHeld: r.NotHeld,
		Ending: journal.Ending{Outcome: r.Outcome},
	}
}

// hostAlone returns a URL of the host, and nothing else of it.
func hostAlone(u weburl.URL) string { return u.Scheme() + "://" + u.Host() + "/" }

// idOf returns an id of the core as it is recorded; the zero id for none.
func idOf(id string) uuid.UUID {
	read, _ := uuid.Parse(id)
	return read
}

func idsOf(ids []string) []uuid.UUID {
	if len(ids) == 0 {
		return nil
	}
	read := make([]uuid.UUID, len(ids))
	for i, id := range ids {
		read[i] = idOf(id)
	}
	return read
}

// Bounds of what clients and sites say, in bytes.
const (
	mostAgent = 300
	mostHost  = 260
	mostSaid  = 2000
)

// clean returns a text of a client or a site without what cannot be shown, which the database would refuse in part and with it all records of the batch, and without
// its end where it is long.
func clean(text string, most int) string {
	text = strings.ToValidUTF8(text[:min(len(text), most)], "")
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, text)
}

// hostOf returns the host of what a client says that it comes from; "" where that is no URL.
func hostOf(referrer string) string {
	if referrer == "" {
		return ""
	}
	u, err := url.Parse(referrer)
	if err != nil {
		return ""
	}
	host := u.Hostname()
	if at, err := netip.ParseAddr(host); err == nil {
		host = at.String()
	}
	return clean(host, mostHost)
}

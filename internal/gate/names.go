package gate

import (
	"net/netip"
	"time"

	"widelark/core/policy"
	"widelark/core/weburl"
)

// Further decides a name again that leads on to other names; see [policy.Request]. The record is the same.
func (g *Gate) Further(d Decision, chain []weburl.URL) Decision {
	if len(chain) == 0 || d.Edition == nil {
		return d
	}
	d.Request.Chain = chain
	next := g.decide(d.Request)
	next.ID = d.ID
	if d.Verdict.Passes() && !next.Verdict.Passes() {
		g.refused.Add(1)
	}
	return next
}

// NameAnswer returns what the DNS gate answers for a name that is refused, and whether every name below it is refused, too.
func (g *Gate) NameAnswer(d Decision) (answer policy.NameAnswer, below bool) {
	if d.Edition == nil {
		return policy.RefusedName, false
	}
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&d.Request)
	answer = d.Edition.Snapshot.NameAnswer(w, &q)
	return answer, answer == policy.NoSuchName && d.Link == 0 && d.Edition.Snapshot.BlocksBelow(w, &q, d.At)
}

// Lasts returns how long nothing can change a decision but a new edition and a standing fact, if that is less than most.
func (g *Gate) Lasts(d Decision, most time.Duration) time.Duration {
	if d.Edition == nil {
		return most
	}
	if d.At.Add(most).Before(g.quietUntil(d)) {
		return most
	}
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&d.Request)
	for _, u := range append([]weburl.URL{q.URL}, q.Chain...) {
		q.URL = u
		most = min(most, d.Edition.Snapshot.Strip(w, &q, d.At, d.At.Add(most))[0].To.Sub(d.At))
	}
	return most
}

// quiet says until when time alone changes nothing of what an edition says.
type quiet struct {
	edition     *Edition
	from, until time.Time
}

// quietUntil returns a moment before which time alone changes no verdict. It is looked for once, until it has come.
func (g *Gate) quietUntil(d Decision) time.Time {
	k := g.quiet.Load()
	if k == nil || k.edition != d.Edition || d.At.Before(k.from) || !d.At.Before(k.until) {
		k = &quiet{d.Edition, d.At, d.Edition.Snapshot.Quiet(d.At)}
		g.quiet.Store(k)
	}
	return k.until
}

// InOnePlace reports whether all addresses of a range are in the same networks, groups and machines, so that one can stand for all.
func (g *Gate) InOnePlace(r netip.Prefix) bool {
	e := g.edition.Load()
	return e != nil && e.Snapshot.InOnePlace(r)
}

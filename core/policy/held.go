package policy

import (
	"slices"

	"widelark/core/weburl"
)

// Held returns what a gate can hold of what a request is bound to, and what it cannot. What it cannot hold leaves the verdict as it is, unless the policy says
// otherwise; see [Policy]. safe says what makes the answers of a search engine safe, where safe search is held.
func (s *Snapshot) Held(p Provisos, r *Request) (held, not Provisos, safe Safe) {
	if (p == Provisos{}) {
		return p, p, safe
	}
	not = p
	if p.SafeSearch {
		if e := s.EngineAt(r.URL); e != nil && e.Safe.holdable(r.Gate, r.Sight) {
			safe = e.Safe
			held.SafeSearch, not.SafeSearch = true, false
		}
	}
	if r.Gate != DNS && r.Sight == weburl.Full {
		held.NoUploads, held.SizeCap = p.NoUploads, p.SizeCap
		not.NoUploads, not.SizeCap = false, 0
	}
	if r.Gate != DNS && (r.Person != "" || !s.SharedAt(r.Addr)) {
		held.Quota, not.Quota = p.Quota, 0
	}
	return held, not, safe
}

// insist blocks what would pass if a policy wants its provisos held and the gate cannot hold them. Safe search is wanted at search engines alone. The DNS gate
// leaves what goes on to the proxy gate to that one. The first of several policies counts.
func (s *Snapshot) insist(w *Work, t *tracer, d *Decision) {
	if w.gate == DNS && slices.Contains(s.WayOf(w.asked).Way.Gates(), Proxy) {
		return
	}
	r := *w.asked
	r.Gate, r.Sight = w.gate, w.sight
	if w.person < 0 {
		r.Person = "" // nobody whom the configuration knows
	}
	for i := range w.insisted {
		b := &w.insisted[i]
		_, not, _ := s.Held(b.With, &r)
		if not.SafeSearch && s.EngineAt(r.URL) == nil {
			not.SafeSearch = false
		}
		if not == (Provisos{}) {
			continue
		}
		d.Verdict, d.Provisos, d.Policy, d.Rule = Block, Provisos{}, max(-1, b.policy), b.rule
		if t != nil {
			t.bound(b.policy).Unheld = not
		}
		return
	}
}

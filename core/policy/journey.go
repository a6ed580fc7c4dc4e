package policy

import (
	"time"

	"widelark/core/match"
)

// Sees is what a person sees in the end.
type Sees string

// What there is to see.
const (
	SeesPage     Sees = "the page"
	SeesBound    Sees = "the page, with provisos"
	SeesBlocked  Sees = "the block page"
	SeesHold     Sees = "the page that asks to unlock"
	SeesCut      Sees = "a connection error" // a tunnel that is cut without being opened
	SeesNoName   Sees = "a name that does not resolve"
	SeesUnbarred Sees = "the page; no gate is switched on"
)

// Stop is one gate on the way of a request.
type Stop struct {
	Gate        Gate
	Sight       match.Sight
	Explanation Explanation
	Opened      bool // a TLS connection that is opened, so that the whole URL is seen
}

// Journey is the way of a request through the gates that are switched on, up to the one that stops it.
type Journey struct {
	Stops   []Stop
	Verdict Verdict
	Sees    Sees
}

// Travel sends a request through the gates, in the order in which a browser meets them: the DNS gate sees the name; the proxy gate sees
// the tunnel or, where the connection is plain or opened, all; the ICAP gate sees all that the proxy gate does. A connection that is
// opened is decided on once, with everything in sight.
func (s *Snapshot) Travel(w *Work, r *Request, at time.Time) Journey {
	j := Journey{Verdict: Allow, Sees: SeesUnbarred}
	seen := match.Tunnel
	opened := false
	if r.URL.Scheme() == "http" {
		seen = match.Full
	} else if s.Inspects(w, r, at) {
		seen, opened = match.Full, true
	}
	for _, gate := range s.config.Gates {
		step := *r
		step.Gate, step.Sight = gate, seen
		switch {
		case gate == DNS && r.URL.Addr().IsValid(): // no name is asked for
			continue
		case gate == DNS:
			step.Sight = match.Name
		case gate == ICAP && seen != match.Full:
			continue
		}
		stop := Stop{Gate: gate, Sight: step.Sight, Explanation: s.Explain(w, &step, at), Opened: opened && gate != DNS}
		d := &stop.Explanation.Decision
		if gate == DNS && d.Verdict == Hold {
			d.Verdict = Block // it cannot ask
			stop.Explanation.Because += " The DNS gate cannot ask, so it blocks."
		}
		j.Stops = append(j.Stops, stop)
		if j.Verdict == Allow || !d.Verdict.Passes() {
			j.Verdict = d.Verdict
		}
		if !d.Verdict.Passes() {
			j.Sees = stopped(gate, step.Sight, d.Verdict)
			return j
		}
		switch {
		case d.Provisos != Provisos{}:
			j.Sees = SeesBound
		case j.Sees != SeesBound:
			j.Sees = SeesPage
		}
	}
	return j
}

// stopped says what a person sees whom a gate stops.
func stopped(gate Gate, sight match.Sight, v Verdict) Sees {
	switch {
	case gate == DNS:
		return SeesNoName
	case sight == match.Tunnel:
		return SeesCut
	case v == Hold:
		return SeesHold
	}
	return SeesBlocked
}

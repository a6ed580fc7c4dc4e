package policy

import (
	"slices"
	"time"

	"widelark/core/weburl"
)

// Sees is what a person sees at the end of a journey.
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
	Sight       weburl.Sight
	Explanation Explanation
	Opened      bool // a TLS connection that is opened, so that the whole URL is seen
}

// Journey is the path of a request through the gates that are switched on, up to the one that stops it.
type Journey struct {
	Stops   []Stop
	Verdict Verdict
	Sees    Sees
}

// Seen returns what a gate sees of a request for a URL, and false where the request does not come to the gate. It is the one place that says
// so: for journeys, for replays and for gates themselves. The DNS gate sees the name, if one is asked for; the proxy gate sees the tunnel or, where the
// connection is plain or opened, everything; the ICAP gate sees everything, and nothing of a connection that is not opened.
func Seen(gate Gate, u weburl.URL, opened bool) (weburl.Sight, bool) {
	whole := opened || u.Scheme() == "http"
	switch {
	case gate == DNS:
		return weburl.Name, !u.Addr().IsValid()
	case whole:
		return weburl.Full, true
	case gate == ICAP:
		return weburl.Full, false
	}
	return weburl.Tunnel, true
}

// way returns a request as each gate sees it that is on its way, in the order in which a browser meets them.
func (s *Snapshot) way(w *Work, r *Request, at time.Time) (way []Request, opened bool) {
	opened = r.URL.Scheme() != "http" && s.Inspects(w, r, at)
	for _, gate := range s.config.Gates {
		step := *r
		step.Gate = gate
		var comes bool
		if step.Sight, comes = Seen(gate, r.URL, opened); comes {
			way = append(way, step)
		}
	}
	return way, opened
}

// Travel sends a request through the gates that are switched on. A connection that is opened is decided on once, with everything in sight.
func (s *Snapshot) Travel(w *Work, r *Request, at time.Time) Journey {
	j := Journey{Verdict: Allow, Sees: SeesUnbarred}
	way, opened := s.way(w, r, at)
	var c course
	for i := range way {
		step := &way[i]
		stop := Stop{Gate: step.Gate, Sight: step.Sight, Explanation: s.Explain(w, step, at), Opened: opened && step.Gate != DNS}
		d := stop.Explanation.Decision
		j.Stops = append(j.Stops, stop)
		passes := c.meets(d.Verdict)
		if j.Verdict = c.verdict; !passes {
			j.Sees = stopped(step.Gate, step.Sight, d.Verdict)
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

// Arrive returns the decision on a request's journey, as [Snapshot.Travel] finds it, without explanations. If no gate is on the way, everything
// passes.
func (s *Snapshot) Arrive(w *Work, r *Request, at time.Time) Decision {
	way, _ := s.way(w, r, at)
	decision := open
	var c course
	for i := range way {
		d := s.Decide(w, &way[i], at)
		passes := c.meets(d.Verdict)
		if c.decisive == i {
			decision = d
		}
		if !passes {
			break
		}
	}
	return decision
}

// course follows a request from gate to gate. The zero course is at the beginning.
type course struct {
	gates    int     // met so far
	verdict  Verdict // on the whole: what stops it; else the first that flags it
	decisive int     // which gate says so, the last of several
}

// meets goes on to the next gate, and reports whether it lets the request pass.
func (c *course) meets(v Verdict) bool {
	if c.gates == 0 || c.verdict == Allow || !v.Passes() {
		c.verdict = v
	}
	if v == c.verdict {
		c.decisive = c.gates
	}
	c.gates++
	return v.Passes()
}

// Decisive returns the stop that decides the journey: the one that stops it, else the last one with the journey's verdict.
// Precondition: there are stops.
func (j *Journey) Decisive() *Stop {
	var c course
	for i := range j.Stops {
		c.meets(j.Stops[i].Explanation.Decision.Verdict)
	}
	return &j.Stops[c.decisive]
}

// open is the decision on a journey without gates.
var open = Decision{Verdict: Allow, Policy: -1, Rule: -1, Granted: -1, Stint: -1}

// TravelStrip is [Snapshot.Strip] for the verdicts on journeys.
func (s *Snapshot) TravelStrip(w *Work, r *Request, from, to time.Time) []Segment {
	var strip []Segment
	for from.Before(to) {
		way, opened := s.way(w, r, from)
		end := to
		for _, day := range s.openingDays(w, r, from, to) {
			if s.Inspects(w, r, day) != opened {
				end = day
				break
			}
		}
		strips := make([][]Segment, len(way))
		moments := []time.Time{from}
		for i := range way {
			strips[i] = s.Strip(w, &way[i], from, end)
			for _, segment := range strips[i][1:] {
				moments = append(moments, segment.From)
			}
		}
		slices.SortFunc(moments, time.Time.Compare)
		for _, at := range moments {
			d := open
			if i := together(strips, at); i >= 0 {
				d = s.Decide(w, &way[i], at) // its reason may differ from that at the beginning of its segment
			}
			strip = extend(strip, at, to, d)
		}
		from = end
	}
	return strip
}

// openingDays returns the days, in order, that begin between two moments and with which it may change whether a connection is opened: what is
// opened depends on lists and categories, whose entries end with a day.
func (s *Snapshot) openingDays(w *Work, r *Request, from, to time.Time) []time.Time {
	if r.URL.Scheme() != "https" {
		return nil
	}
	var days []time.Time
	for _, t := range s.tunnel(w, r, from).seen.Takes {
		if until := s.index.Until(t); !until.IsZero() {
			if day := s.dayAfter(until); day.After(from) && day.Before(to) {
				days = append(days, day)
			}
		}
	}
	slices.SortFunc(days, time.Time.Compare)
	return days
}

// together returns the gate that decides a journey at a moment; -1 if there is none.
func together(strips [][]Segment, at time.Time) int {
	var c course
	for _, strip := range strips {
		i := slices.IndexFunc(strip, func(g Segment) bool { return at.Before(g.To) })
		if !c.meets(strip[i].Decision.Verdict) {
			break
		}
	}
	if c.gates == 0 {
		return -1
	}
	return c.decisive
}

// TravelUntil is [Snapshot.Until] for the verdict on a journey.
func (s *Snapshot) TravelUntil(w *Work, r *Request, at time.Time) (time.Time, bool) {
	return s.firstChange(at, func(from, to time.Time) []Segment { return s.TravelStrip(w, r, from, to) }, func() (dates []int64) {
		way, _ := s.way(w, r, at)
		for i := range way {
			dates = s.datesOf(dates, w, &way[i], at)
		}
		return dates
	})
}

// stopped returns what a person sees when a gate stops a request.
func stopped(gate Gate, sight weburl.Sight, v Verdict) Sees {
	switch {
	case gate == DNS:
		return SeesNoName
	case sight == weburl.Tunnel:
		return SeesCut
	case v == Hold:
		return SeesHold
	}
	return SeesBlocked
}

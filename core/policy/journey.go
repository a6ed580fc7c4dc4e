package policy

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"widelark/core/directory"
	"widelark/core/weburl"
)

// Way says which gates the clients of a network meet, in order.
type Way string

// Ways that clients take. Browsers that are told of a proxy ask it instead of the DNS; where connections are redirected to the proxy gate, the name is
// asked for first.
const (
	NoGate  Way = "none"
	ByDNS   Way = "dns"
	ByProxy Way = "proxy"
	ByBoth  Way = "dns,proxy"
	ByICAP  Way = "icap" // another proxy asks the ICAP gate
)

// Ways lists every way.
var Ways = []Way{ByDNS, ByProxy, ByBoth, ByICAP, NoGate}

// ParseWay reads a way; blanks and letter case do not count. It returns false where the text is not one of [Ways].
func ParseWay(text string) (Way, bool) {
	w := Way(strings.ToLower(strings.ReplaceAll(text, " ", "")))
	return w, slices.Contains(Ways, w)
}

var gatesOf = map[Way][]Gate{ByDNS: {DNS}, ByProxy: {Proxy}, ByBoth: {DNS, Proxy}, ByICAP: {ICAP}}

// Gates returns the gates on the way, in order.
func (w Way) Gates() []Gate { return gatesOf[w] }

// GatesMet returns the gates that any client meets, in the order of [Gates].
func (c *Config) GatesMet() []Gate {
	met := map[Gate]bool{}
	add := func(way Way) {
		for _, gate := range way.Gates() {
			met[gate] = true
		}
	}
	add(c.Way)
	for _, n := range c.Directory.Networks {
		add(c.NetworkWays[n.ID].Way)
	}
	return slices.DeleteFunc(slices.Clone(Gates), func(g Gate) bool { return !met[g] })
}

// NetworkWay is how the clients of a network come to the gates.
type NetworkWay struct {
	Way         Way  // "": the organisation's
	SendsTunnel bool // on the way [ByICAP]: the proxy that asks does not open TLS connections, so it sends host and port alone
	Distrusts   bool // clients do not trust the authority of our gates, so no connection of theirs is opened
	SignIn      SignIn
}

// SignIn says which clients of a network sign in at the proxy gate.
type SignIn string

// Who signs in at the proxy gate.
const (
	UnknownSignIn SignIn = "" // whoever is not known otherwise
	NeverSignIn   SignIn = "never"
	AlwaysSignIn  SignIn = "always"
)

// Sees is what a person sees at the end of a journey.
type Sees string

// What there is to see.
const (
	SeesPage     Sees = "the page"
	SeesBound    Sees = "the page, with provisos"
	SeesBlocked  Sees = "the block page"
	SeesHold     Sees = "the page that asks to unlock"
	SeesCut      Sees = "a connection error" // a tunnel that is refused without being opened
	SeesNoName   Sees = "a name that does not resolve"
	SeesAddress  Sees = "the page's address" // the name leads to the block page
	SeesUnbarred Sees = "the page; no gate is on the way"
)

// Stop is one gate on the way of a request.
type Stop struct {
	Gate        Gate
	Sight       weburl.Sight
	Explanation Explanation
	Opened      bool // a TLS connection that is opened, so that the whole URL is seen
}

// Journey is the path of a request through the gates on its way, up to the one that stops it.
type Journey struct {
	Way     Way
	Stops   []Stop
	Verdict Verdict
	Sees    Sees
}

// Seen returns what a gate sees of a request for a URL, and false where the request does not come to the gate. It is the one place that says
// so: for journeys, for replays and for gates themselves. The DNS gate sees the name, if one is asked for; the proxy gate and the ICAP gate see everything
// where the connection is plain or opened, and the tunnel otherwise.
func Seen(gate Gate, u weburl.URL, opened bool) (weburl.Sight, bool) {
	switch {
	case gate == DNS:
		return weburl.Name, !u.Addr().IsValid()
	case opened || u.Scheme() == "http":
		return weburl.Full, true
	}
	return weburl.Tunnel, true
}

// WayOf returns how a request comes to the gates: as it says itself, else as the network of its address says, else as the networks of its group say
// where they agree, else as the organisation says.
func (s *Snapshot) WayOf(r *Request) NetworkWay {
	way := NetworkWay{}
	if r.Addr.IsValid() {
		if n := s.config.Directory.NetworkOf(r.Addr); n >= 0 {
			way = s.config.NetworkWays[s.config.Directory.Networks[n].ID]
		}
	} else if g := s.config.Directory.Group(r.Group); g >= 0 {
		way = s.wayOfMembers(&s.config.Directory.Groups[g])
	}
	way.Way = cmp.Or(r.Way, way.Way, s.config.Way, NoGate)
	return way
}

// wayOfMembers returns how the members of a group come to the gates where all of them are networks that agree; otherwise the zero NetworkWay.
func (s *Snapshot) wayOfMembers(g *directory.Group) (way NetworkWay) {
	if len(g.Persons)+len(g.Groups)+len(g.Ranges) > 0 {
		return way
	}
	for i, id := range g.Networks {
		of := s.config.NetworkWays[id]
		if i > 0 && of != way {
			return NetworkWay{}
		}
		way = of
	}
	return way
}

// policyOpens reports whether policies decide if the TLS connection of a request is opened on its way; if not, opened says whether it is.
func (way NetworkWay) policyOpens(r *Request) (opened, byPolicy bool) {
	switch {
	case r.URL.Scheme() == "http", way.Distrusts && way.Way != ByICAP:
		return false, false
	case way.Way == ByICAP:
		return !way.SendsTunnel, false
	}
	return false, true
}

// opensOnWay reports whether the TLS connection of a request is opened on its way.
func (s *Snapshot) opensOnWay(w *Work, r *Request, at time.Time) bool {
	opened, byPolicy := s.WayOf(r).policyOpens(r)
	return opened || byPolicy && s.opens(s.tunnel(w, r, at))
}

// way returns a request as each gate sees it that is on its way, in the order in which a browser meets them.
func (s *Snapshot) way(w *Work, r *Request, at time.Time) (way []Request, opened bool) {
	opened = s.opensOnWay(w, r, at)
	for _, gate := range s.WayOf(r).Way.Gates() {
		step := *r
		step.Gate = gate
		var comes bool
		if step.Sight, comes = Seen(gate, r.URL, opened); comes {
			way = append(way, step)
		}
	}
	return way, opened
}

// Travel sends a request through the gates on its way. A connection that is opened is decided on once, with everything in sight.
func (s *Snapshot) Travel(w *Work, r *Request, at time.Time) Journey {
	j := Journey{Way: s.WayOf(r).Way, Verdict: Allow, Sees: SeesUnbarred}
	way, opened := s.way(w, r, at)
	var c course
	for i := range way {
		step := &way[i]
		stop := Stop{Gate: step.Gate, Sight: step.Sight, Explanation: s.Explain(w, step, at), Opened: opened && step.Gate != DNS}
		d := stop.Explanation.Decision
		j.Stops = append(j.Stops, stop)
		passes := c.meets(d.Verdict)
		if j.Verdict = c.verdict; !passes {
			j.Sees = stopped(step.Gate, step.Sight, d.Verdict, step.Sight == weburl.Tunnel && s.ShowsPages(w, step))
			if step.Gate == DNS && s.NameAnswer(w, step) == PageOfRefused {
				j.Sees = SeesAddress
			}
			return j
		}
		switch {
		case stop.Explanation.Held != Provisos{}:
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
			if s.opensOnWay(w, r, day) != opened {
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
	if _, byPolicy := s.WayOf(r).policyOpens(r); !byPolicy {
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

// stopped returns what a person sees when a gate stops a request. shows says that a connection that is refused is opened to show the page.
func stopped(gate Gate, sight weburl.Sight, v Verdict, shows bool) Sees {
	switch {
	case gate == DNS:
		return SeesNoName
	case sight == weburl.Tunnel && !shows:
		return SeesCut
	case v == Hold:
		return SeesHold
	}
	return SeesBlocked
}

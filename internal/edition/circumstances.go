package edition

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/revision"
)

// Setting is how a request is seen, and by which state it is decided. The zero Setting sees everything of a GET, and asks the draft.
type Setting struct {
	Sight   weburl.Sight   `json:"sight,omitempty" enum:"name,tunnel,full" doc:"What can be seen of the request; left out, everything: the host; host and port of a connection that is not opened; everything"`
	Gate    policy.Gate    `json:"gate,omitempty" enum:"dns,proxy,icap" doc:"Left out: the gate that sees so much"`
	Method  string         `json:"method,omitempty" maxLength:"20" doc:"Left out: GET"`
	Journey bool           `json:"journey,omitempty" doc:"Through all gates on the asker's way; sight and gate say nothing then"`
	Way     policy.Way     `json:"way,omitempty" maxLength:"20" doc:"A journey on this way (dns, proxy, dns,proxy, icap or none) in place of the asker's"`
	Traits  []policy.Trait `json:"traits,omitempty" enum:"two-names,not-tls" doc:"What a gate learns once a connection stands: the client names two hosts on it; what it says through a tunnel is not TLS"`
	Answer  []string       `json:"answer,omitempty" enum:"archives,programs,documents,macros,pictures,sound,film,disks" doc:"The kinds of files that the site answers with; left out, there is no answer yet"`
	Chain   []string       `json:"chain,omitempty" maxItems:"16" doc:"Where the DNS says that the name leads, in order: the names of its aliases and services. It counts at the DNS gate"`
	On      string         `json:"on,omitempty" pattern:"^(draft|live|[0-9]+)$" doc:"draft, live, or the number of a revision; left out, the draft"`
}

// Circumstances are what a question holds besides its URLs: who asks, when, and how the request is seen. The zero Circumstances are
// an unknown asker, now.
type Circumstances struct {
	Who *Who   `json:"who,omitempty" doc:"Left out: somebody of whom nothing is known"`
	At  string `json:"at,omitempty" maxLength:"60" doc:"now, 12:30, tue 12:30, 2026-12-24 12:30 or a time as RFC 3339 has it; left out, now"`
	Setting
}

// Asked is circumstances with everything resolved: a request without its URL.
type Asked struct {
	Who     Asker
	At      time.Time
	Sight   weburl.Sight
	Gate    policy.Gate
	Method  string
	Journey bool
	Way     policy.Way // of a journey; "": the asker's

	TwoNames, NotTLS bool
	Answer           *policy.Answer
	Chain            []weburl.URL
}

// Ask resolves circumstances. An unknown name, or a moment that cannot be read, is a [*revision.FieldError] whose path begins with field.
// The caller chooses the state; On is not looked at.
func (s *State) Ask(field string, c Circumstances) (asked Asked, err error) {
	if c.Who != nil {
		if asked.Who, err = s.Find(field+"who", *c.Who); err != nil {
			return asked, err
		}
	}
	if c.Way != "" {
		way, ok := policy.ParseWay(string(c.Way))
		if !ok {
			return asked, &revision.FieldError{Field: field + "way", Msg: fmt.Sprintf("%q is not a way: there are dns, proxy, dns,proxy, icap and none", c.Way)}
		}
		c.Way = way
	}
	for i, name := range c.Chain {
		if _, err := weburl.Parse("https://" + name + "/"); err != nil {
			return asked, &revision.FieldError{Field: fmt.Sprintf("%schain[%d]", field, i), Msg: fmt.Sprintf("%q is not the name of a host: %v", name, err)}
		}
	}
	at, err := s.Moment(field+"at", c.At)
	return s.Present(asked.Who, at).When(at, c.Setting), err
}

// When returns the circumstances of an asker at a moment.
func (a Asker) When(at time.Time, by Setting) Asked {
	asked := Asked{
		Who: a, At: at, Sight: cmp.Or(by.Sight, weburl.Full), Gate: by.Gate, Method: strings.ToUpper(by.Method), Journey: by.Journey || by.Way != "", Way: by.Way,
		TwoNames: slices.Contains(by.Traits, policy.TwoNames), NotTLS: slices.Contains(by.Traits, policy.NotTLS),
	}
	if len(by.Answer) > 0 {
		asked.Answer = &policy.Answer{Kinds: by.Answer}
	}
	for _, name := range by.Chain {
		if u, err := weburl.Parse("https://" + name + "/"); err == nil { // it was looked at before
			asked.Chain = append(asked.Chain, u)
		}
	}
	return asked
}

// Request returns the request for a URL.
func (a Asked) Request(u weburl.URL) policy.Request {
	r := a.Who.Request()
	r.URL, r.Sight, r.Gate, r.Method, r.Way = u, a.Sight, a.Gate, a.Method, a.Way
	r.TwoNames, r.NotTLS, r.Answer, r.Chain = a.TwoNames, a.NotTLS, a.Answer, a.Chain
	return r
}

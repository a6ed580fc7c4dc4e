package revision

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// ExpectationBody is a saved trial with its expected outcome. Who asks is a person, an address, both, or an unnamed member of a group.
type ExpectationBody struct {
	Folder   string         `json:"folder,omitempty" maxLength:"80" doc:"Expectations of one folder are shown together"`
	URLs     []string       `json:"urls" minItems:"1" maxItems:"1000"`
	Person   *Ref           `json:"person,omitempty"`
	Group    *Ref           `json:"group,omitempty"`
	Address  string         `json:"address,omitempty" maxLength:"60"`
	At       string         `json:"at,omitempty" maxLength:"60" doc:"As the moment of a trial: tue 12:30 is the next such moment; left out, now"`
	Schedule *Ref           `json:"schedule,omitempty" doc:"In place of a moment: the next one at which the schedule is in force"`
	Outside  bool           `json:"outside,omitempty" doc:"The next moment at which the schedule is not in force"`
	Sight    weburl.Sight   `json:"sight,omitempty" enum:"name,tunnel,full" doc:"Left out: everything"`
	Method   string         `json:"method,omitempty" maxLength:"20" doc:"Left out: GET"`
	Verdict  policy.Verdict `json:"verdict" enum:"allow,watch,hold,block"`
	Category string         `json:"category,omitempty" maxLength:"40" doc:"The key of a category that each URL must have, too"`
	Rule     string         `json:"rule,omitempty" maxLength:"80" doc:"The name of the rule or exception that must decide, too"`
	With     *ProvisosBody  `json:"with,omitempty" doc:"What an allowed request must be bound to, too: exactly this"`
	Note     string         `json:"note,omitempty" maxLength:"2000" doc:"Why it must be so"`
	Off      bool           `json:"off,omitempty"`
}

// Check implements [Body].
func (b *ExpectationBody) Check() error {
	b.Folder, b.Note, b.Method = strings.TrimSpace(b.Folder), strings.TrimSpace(b.Note), strings.ToUpper(strings.TrimSpace(b.Method))
	if len(b.URLs) == 0 {
		return &FieldError{"urls", "an expectation is about one URL at least"}
	}
	for i, text := range b.URLs {
		var refused *weburl.Error
		if _, err := weburl.Parse(text); errors.As(err, &refused) {
			return &FieldError{fmt.Sprintf("urls[%d]", i), refused.Reason}
		}
		b.URLs[i] = strings.TrimSpace(text)
	}
	if b.Address = strings.TrimSpace(b.Address); b.Address != "" {
		addr, err := netip.ParseAddr(b.Address)
		if err != nil || addr.Zone() != "" {
			return &FieldError{"address", fmt.Sprintf("%q is not an address, as 10.40.9.7", b.Address)}
		}
		b.Address = addr.Unmap().String()
	}
	if _, err := schedule.ParseMoment(b.At, time.Unix(0, 0), time.UTC); err != nil {
		return &FieldError{"at", err.Error()}
	}
	b.At = strings.TrimSpace(b.At)
	switch {
	case b.Person != nil && b.Group != nil:
		return &FieldError{"group", "a person has groups of their own: name a person or a group"}
	case b.At != "" && b.Schedule != nil:
		return &FieldError{"schedule", "give a moment or a schedule, not both"}
	case b.Outside && b.Schedule == nil:
		return &FieldError{"outside", "outside what? Name a schedule"}
	case b.Sight != "" && !slices.Contains(weburl.Sights, b.Sight):
		return &FieldError{"sight", "there are name, tunnel and full"}
	case !slices.Contains(policy.Verdicts, b.Verdict):
		return &FieldError{"verdict", fmt.Sprintf("%q is not a verdict: there are allow, watch, hold and block", b.Verdict)}
	}
	return checkDescription(&b.Note)
}

// Refs implements [Body].
func (b *ExpectationBody) Refs(visit func(string, Kind, *Ref)) {
	for _, r := range []struct {
		field string
		kind  Kind
		ref   *Ref
	}{{"person", KindPerson, b.Person}, {"group", KindGroup, b.Group}, {"schedule", KindSchedule, b.Schedule}} {
		if r.ref != nil {
			visit(r.field, r.kind, r.ref)
		}
	}
}

// Sentence says what is expected. name says what a reference is called.
func (b *ExpectationBody) Sentence(name func(Ref) string) string {
	who := "somebody unknown"
	switch {
	case b.Person != nil:
		who = name(*b.Person)
	case b.Group != nil:
		who = "a member of " + name(*b.Group)
	case b.Address != "":
		who = b.Address
	}
	if b.Person != nil && b.Address != "" {
		who += " at " + b.Address
	}
	what := b.URLs[0]
	if more := len(b.URLs) - 1; more > 0 {
		what += fmt.Sprintf(" and %d more", more)
	}
	said := fmt.Sprintf("%s gets %s for %s", who, b.Verdict, what)
	switch {
	case b.Schedule != nil && b.Outside:
		said += ", outside " + name(*b.Schedule)
	case b.Schedule != nil:
		said += ", in " + name(*b.Schedule)
	case b.At != "":
		said += ", " + b.At
	}
	if b.Sight != "" && b.Sight != weburl.Full {
		said += ", at the sight " + string(b.Sight)
	}
	if b.Category != "" {
		said += ", as " + b.Category
	}
	if b.Rule != "" {
		said += fmt.Sprintf(", by the rule %q", b.Rule)
	}
	if b.With != nil {
		said += ", with " + b.With.Provisos().String()
	}
	return strings.ToUpper(said[:1]) + said[1:] + "."
}

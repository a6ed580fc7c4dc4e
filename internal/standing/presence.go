package standing

import (
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/revision"
)

// LongestPresence is the longest time that a presence may last.
const LongestPresence = 7 * 24 * time.Hour

// Presence is a person at an address, from the moment at which it is made, for some time. A new one at the address ends it.
type Presence struct {
	ID      uuid.UUID
	Person  uuid.UUID
	Address netip.Addr
	From    time.Time
	Until   time.Time
	MadeBy  string
	How     string // who knows it: a sign-in page, a controller of wireless access points
}

// Check puts a presence into the form in which it is kept, or says what is wrong with it as a [*revision.FieldError].
func (p *Presence) Check(now time.Time) error {
	p.Address, p.How = p.Address.Unmap(), strings.TrimSpace(p.How)
	switch {
	case !p.Address.IsValid() || p.Address.Zone() != "" || p.Address.IsUnspecified() || p.Address.IsMulticast():
		return &revision.FieldError{Field: "address", Msg: "a presence is at one address, as 10.40.9.7"}
	case !p.Until.After(now):
		return &revision.FieldError{Field: "until", Msg: "a presence ends after it begins: name a moment to come"}
	case p.Until.Sub(now) > LongestPresence:
		return &revision.FieldError{Field: "until", Msg: "a presence lasts at most seven days"}
	}
	return nil
}

// fact returns the presence as the core has it.
func (p *Presence) fact() policy.Presence {
	return policy.Presence{Person: p.Person.String(), Addr: p.Address, From: p.From, Until: p.Until}
}

package gate

import (
	"context"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
)

// Report is what a gate says of itself.
type Report struct {
	Name     string
	Kind     policy.Gate
	Address  string    // where clients reach it
	Revision int64     // that it runs; 0 for none
	Since    time.Time // when it took that; the zero time for none
	BeganAt  time.Time
	SeenAt   time.Time // when it last reported, by the clock of the database
	Counts
	Zones                     []Zone // that a DNS gate hands out
	Written, Waiting, Dropped int64  // records
	Catalogue                 int64  // the version of the catalogue that it runs

	// Of gates elsewhere alone:
	Elsewhere bool
	Edition   int64         // the number of what it runs; 0 for none
	Digest    string        // of what it runs: two gates that run the same have the same
	Clock     time.Duration // how far its clock is ahead of the database's
	Trouble   string        // what it could not do lately; "" for nothing
	Refusals  []Refusal
}

// Zone is a zone that a DNS gate hands out to other resolvers.
type Zone struct {
	Origin string      `json:"origin"`
	For    string      `json:"for" doc:"A group, or an address"`
	Serial int64       `json:"serial"`
	MadeAt time.Time   `json:"madeAt"`
	Names  int         `json:"names"`
	Takers []ZoneTaker `json:"takers" nullable:"false" doc:"Who took it, the last one last"`
}

// ZoneTaker is a resolver that took a zone.
type ZoneTaker struct {
	Address string    `json:"address"`
	Serial  int64     `json:"serial" doc:"Of what it took last"`
	At      time.Time `json:"at"`
	Millis  int64     `json:"millis" doc:"How long after the zone was made it had it, in milliseconds"`
}

// Refusal says that clients refused our certificate for a host.
type Refusal struct {
	Host    string    `json:"host"`
	Times   int       `json:"times"`
	Clients int       `json:"clients"`
	Last    time.Time `json:"last"`
}

// Authority is an authority of the gates as it is stored.
type Authority struct {
	ID          uuid.UUID
	Certificate []byte // DER
	SealedKey   []byte
	From        time.Time // from then on it is the one that signs
	MadeAt      time.Time
	MadeBy      string
}

// Purpose is what its key is sealed for.
func (a *Authority) Purpose() string { return "authority " + a.ID.String() }

// Current returns the authority that signs at a moment: of those that have begun, the one that began last. It returns nil where there is none.
func Current(all []Authority, at time.Time) *Authority {
	var found *Authority
	for i := range all {
		if a := &all[i]; !a.From.After(at) && (found == nil || a.From.After(found.From)) {
			found = a
		}
	}
	return found
}

// Trust returns the certificates that clients are to trust, in DER: that of the present authority, and of those to come.
func Trust(all []Authority, current *Authority) (certificates [][]byte) {
	for i := range all {
		if all[i].ID == current.ID || all[i].From.After(current.From) {
			certificates = append(certificates, all[i].Certificate)
		}
	}
	return certificates
}

// Silence is how long a gate may be silent before it counts as gone.
const Silence = 10 * time.Second

// Authorities keeps the authorities.
type Authorities interface {
	AddAuthority(ctx context.Context, a Authority, by access.Actor) (Authority, error)
	Authorities(ctx context.Context) ([]Authority, error) // the one that signs last first
}

// MostClock is how far the clock of a gate may be from the database's.
const MostClock = 2 * time.Second

// Reports keeps what gates report.
type Reports interface {
	Authorities
	GateReports(ctx context.Context) (all []Report, now time.Time, err error) // by name; now is the clock of the database
}

package gate

import (
	"context"
	"time"

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
	Written, Waiting, Dropped int64 // records
	Refusals                  []Refusal
}

// Refusal says that clients refused our certificate for a host.
type Refusal struct {
	Host    string    `json:"host"`
	Times   int       `json:"times"`
	Clients int       `json:"clients"`
	Last    time.Time `json:"last"`
}

// Silence is how long a gate may be silent before it counts as gone.
const Silence = 10 * time.Second

// Reports keeps what gates report.
type Reports interface {
	PutReport(ctx context.Context, r Report, by access.Actor) error
	GateReports(ctx context.Context) (all []Report, now time.Time, err error) // by name; now is the clock of the database
}

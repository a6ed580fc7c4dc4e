package revision

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
)

// Recorded is a request that was decided.
type Recorded struct {
	At      time.Time
	Person  uuid.UUID  // the zero id where nobody is known
	Address netip.Addr // not valid where it is not known
	Method  string
	URL     string // canonical
	Gate    policy.Gate
	Verdict policy.Verdict // that it got then
}

// JournalStore keeps recorded requests.
type JournalStore interface {
	AddRecorded(ctx context.Context, records []Recorded, by access.Actor) error

	// EachRecorded gives the requests from a moment until another to each: in the order in which they were kept, or, which takes a third
	// less time, in any.
	EachRecorded(ctx context.Context, from, to time.Time, inOrder bool, each func(Recorded) error) error

	// RecordedSpan returns from when until when requests were recorded, and how many; zero times where there are none.
	RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error)
}

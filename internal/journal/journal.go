// Package journal holds the records of decided requests.
//
// From: gates, and logs of other filters.
// To: [Record]s, which replays decide again.
package journal

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
)

// Record is a request that was decided.
type Record struct {
	At      time.Time
	Person  uuid.UUID  // the zero id where nobody is known
	Address netip.Addr // not valid where it is not known
	Method  string
	URL     string // canonical
	Gate    policy.Gate
	Sight   weburl.Sight   // that the gate had of it; "" where the record does not say
	Verdict policy.Verdict // that it got then
}

// Request returns the request as its gate saw it, to be decided again. It reports false if the URL cannot be read. If the record
// does not say what the gate saw, a proxy that saw a page is taken to have opened the connection.
func (r *Record) Request() (policy.Request, bool) {
	u, err := weburl.Parse(r.URL)
	q := policy.Request{URL: u, Addr: r.Address, Method: r.Method, Gate: r.Gate, Sight: r.Sight}
	if q.Sight == "" {
		q.Sight, _ = policy.Seen(r.Gate, u, u.Path() != "/" || u.Query() != "")
	}
	if r.Person != uuid.Nil {
		q.Person = r.Person.String()
	}
	return q, err == nil
}

// Store keeps records.
type Store interface {
	AddRecords(ctx context.Context, records []Record, by access.Actor) error

	// EachRecord calls each with the records from one moment until another: in the order in which they were kept or, in a third less
	// time, in any order.
	EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(Record) error) error

	// RecordedSpan returns the period and the number of recorded requests; zero times if there are none.
	RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error)
}

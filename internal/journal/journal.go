// Package journal says what was decided: the records of requests that gates wrote down.
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

// Request returns the request as its gate saw it: what has to be decided again. It reports false where the URL cannot be read. Where the record
// does not say what the gate saw, a proxy that saw a page must have opened the connection.
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

	// EachRecord gives the records from a moment until another to each: in the order in which they were kept, or, which takes a third less
	// time, in any.
	EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(Record) error) error

	// RecordedSpan returns from when until when requests were recorded, and how many; zero times where there are none.
	RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error)
}

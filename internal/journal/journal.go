// Package journal holds the records of decided requests.
//
// From: gates, and logs of other filters.
// To: [Record]s, which replays decide again.
package journal

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
)

// Record is a request that was decided. Gates elsewhere hand it in as JSON.
type Record struct {
	ID      uuid.UUID      `json:"id,omitzero"`
	At      time.Time      `json:"at"`
	Person  uuid.UUID      `json:"person,omitzero"`  // the zero id where nobody is known
	Address netip.Addr     `json:"address,omitzero"` // not valid where it is not known
	Method  string         `json:"method,omitempty"`
	URL     string         `json:"url,omitempty"` // canonical
	Gate    policy.Gate    `json:"gate"`
	Sight   weburl.Sight   `json:"sight,omitempty"` // that the gate had of it; "" where the record does not say
	Verdict policy.Verdict `json:"verdict"`         // that it got then

	GateName string         `json:"gateName,omitempty"` // "" where the record does not say, as what follows
	Revision int64          `json:"revision,omitempty"` // by which it was decided
	By       string         `json:"by,omitempty"`       // what decided, in a few words
	Provisos string         `json:"provisos,omitempty"` // what the request was bound to, in words
	NotHeld  string         `json:"notHeld,omitempty"`  // what of it the gate could not hold, in words
	Traits   []policy.Trait `json:"traits,omitempty"`

	Amount    policy.Amount `json:"amount,omitempty"`    // how much of it is here; "" for everything
	Catalogue int64         `json:"catalogue,omitempty"` // the version of the catalogue by which it was decided
	Rung      policy.Rung   `json:"rung,omitempty"`

	Machine    uuid.UUID       `json:"machine,omitzero"`
	Network    uuid.UUID       `json:"network,omitzero"`
	Groups     []uuid.UUID     `json:"groups,omitempty"`
	Categories []string        `json:"categories,omitempty"` // keys
	Source     classify.Source `json:"source,omitempty"`     // who said so

	// What decided.
	Policy    uuid.UUID   `json:"policy,omitzero"`
	Rule      uuid.UUID   `json:"rule,omitzero"`
	Exception uuid.UUID   `json:"exception,omitzero"` // or the grant
	Stint     uuid.UUID   `json:"stint,omitzero"`
	List      uuid.UUID   `json:"list,omitzero"`
	Entry     string      `json:"entry,omitempty"` // in the notation
	Notes     []uuid.UUID `json:"notes,omitempty"` // the `note` rules that were met

	Words    string `json:"words,omitempty"`    // that are searched for
	Referrer string `json:"referrer,omitempty"` // a host
	Agent    string `json:"agent,omitempty"`

	Replaces bool `json:"replaces,omitempty"` // it is the end of a request that was recorded as open
	Ending
}

// WithoutWho returns the record without who asked.
func (r Record) WithoutWho() Record {
	r.Person, r.Machine, r.Address = uuid.Nil, uuid.Nil, netip.Addr{}
	return r
}

// NewID returns an id of version 7 (RFC 9562). It is not secret, so it takes no random bytes of the system.
func NewID(at time.Time) (id uuid.UUID) {
	binary.BigEndian.PutUint64(id[:8], uint64(at.UnixMilli())<<16|0x7000|rand.Uint64()&0x0fff)
	binary.BigEndian.PutUint64(id[8:], 1<<63|rand.Uint64()>>2)
	return id
}

// Ending is what became of a request.
type Ending struct {
	Outcome Outcome       `json:"outcome,omitempty"`
	Status  int           `json:"status,omitempty"` // of the answer that the client got; 0 for none
	Media   string        `json:"media,omitempty"`  // the media type of the answer
	Size    int64         `json:"size,omitempty"`   // bytes of the answer's body or, in a tunnel, of both directions
	Took    time.Duration `json:"took,omitempty"`   // until its end, in nanoseconds
	Detail  string        `json:"detail,omitempty"` // why it failed

	Reference string `json:"reference,omitempty"` // by which the client and the record speak of the answer; "" for none
}

// Outcome says in a word what became of a request.
type Outcome string

// What becomes of requests.
const (
	Answered Outcome = "answered"
	Cut      Outcome = "cut"    // its verdict turned while it was under way
	Failed   Outcome = "failed" // it was let through, and could not be carried out
	Open     Outcome = "open"   // it is still under way
)

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

// Batches takes batches of records, each with an id: where a batch was added before, though its adding failed for the caller, nothing happens.
type Batches interface {
	// AddBatch adds records, and returns how many of them can never be added; the others are.
	AddBatch(ctx context.Context, id uuid.UUID, records []Record) (refused int, err error)
}

// Store keeps records.
type Store interface {
	AddRecords(ctx context.Context, records []Record, by access.Actor) error
}

// Reader returns records that are kept.
type Reader interface {
	// EachRecord calls each with the records from one moment until another of which everything is kept, so that they can be decided again: in the order of time or, faster, in any order. They have what
	// was asked, by whom, where and when, and the verdict; nothing else.
	EachRecord(ctx context.Context, from, to time.Time, inOrder bool, each func(Record) error) error

	// RecordedSpan returns the period and the number of recorded requests of which everything is kept; zero times if there are none.
	RecordedSpan(ctx context.Context) (from, to time.Time, n int64, err error)
}

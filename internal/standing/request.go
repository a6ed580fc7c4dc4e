package standing

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
)

// RequestState says what became of a request for access.
type RequestState string

// The states of a request.
const (
	Open    RequestState = "open"
	Granted RequestState = "granted"
	Refused RequestState = "refused"
)

// Request is somebody's plea for a page that was refused.
type Request struct {
	ID         uuid.UUID
	Person     uuid.UUID  // the zero id where nobody is known
	Address    netip.Addr // not valid where it is not known
	URL        string
	Verdict    policy.Verdict // that it got
	By         string         // what decided, in a few words
	Reason     string
	Reference  string // of the page that refused it; each page asks once
	MadeAt     time.Time
	State      RequestState
	AnsweredAt *time.Time
	AnsweredBy string
	Answer     string
	Grant      *uuid.UUID
}

// RequestTimes says how long people waited for answers.
type RequestTimes struct {
	Open    int
	Oldest  *time.Time    // when the open request was made that waits longest; nil for none
	Granted int           // of those that were made since
	Refused int           // likewise
	Half    time.Duration // in which half of the answers came
	Nine    time.Duration // in which nine of ten came
}

// Requests keeps requests for access.
type Requests interface {
	// AddRequest adds a request. Where one with its reference is there already, it returns that.
	AddRequest(ctx context.Context, r Request, by access.Actor) (Request, error)

	// RefuseRequest and GrantRequest answer an open request; one that was answered before stays as it is, and is returned. A grant is made with its answer, or not at all.
	RefuseRequest(ctx context.Context, id uuid.UUID, answer string, by access.Actor) (Request, error)
	GrantRequest(ctx context.Context, id uuid.UUID, answer string, grant GrantBody, by access.Actor) (Request, error)

	// AnswerRequests answers those of some requests that are open, all alike; with a grant, one is made for all of them. It returns all as they are then.
	AnswerRequests(ctx context.Context, ids []uuid.UUID, state RequestState, answer string, grant *GrantBody, by access.Actor) ([]Request, error)

	// RequestTimes returns how long requests that were made since a moment waited.
	RequestTimes(ctx context.Context, since time.Time) (RequestTimes, error)

	Request(ctx context.Context, id uuid.UUID) (Request, error)
	RequestByReference(ctx context.Context, reference string) (Request, error)
	Requests(ctx context.Context, openOnly bool, limit int) ([]Request, error) // open ones first, then the one made last first
}

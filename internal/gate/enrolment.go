package gate

import (
	"crypto/ed25519"
	"errors"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
)

// Enrolment lets one gate elsewhere enrol, once. Only the hash of its code is kept.
type Enrolment struct {
	Name   string // of the gate
	Kind   policy.Gate
	Hash   []byte
	Until  time.Time
	MadeAt time.Time
	MadeBy string
}

// EnrolmentLasts is how long a code for enrolling is good.
const EnrolmentLasts = time.Hour

// Enrolled is a gate elsewhere, which proves with keys of its own who it is.
type Enrolled struct {
	ID         uuid.UUID
	Name       string
	Kind       policy.Gate
	Key        ed25519.PublicKey // with which it signs its requests
	SealKey    []byte            // HPKE (RFC 9180) public key, for which secrets are sealed
	EnrolledAt time.Time
	EnrolledBy string
	Retired    bool
}

// Errors of enrolling.
var (
	ErrEnrolment = errors.New("the code enrols no gate: it was used, it is too old, or it was mistyped")
	ErrTaken     = errors.New("another gate has this name")
	ErrRetired   = errors.New("the gate was retired")
)

package audit

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Sealed is an event at its place of the chain. The seal of each hangs on its event and on the seal before it, so that an event that is changed, taken out, put in or moved later is found.
type Sealed struct {
	N     int64 // from 1 on
	ID    int64 // of the event, as the chain says
	Event *Event
	Seal  []byte // of 32 bytes
	Keyed bool   // made with the service's secret, so that it cannot be made anew by whoever has the database alone
}

// Seal returns the seal of the n-th event of a chain: SHA-256 (FIPS 180-4) or, with a key, HMAC-SHA-256 (RFC 2104) of the seal before it and all that the event says.
func Seal(key, before []byte, n int64, e *Event) []byte {
	h := sha256.New()
	if len(key) > 0 {
		h = hmac.New(sha256.New, key)
	}
	part(h, before)
	number(h, n)
	number(h, e.ID)
	number(h, e.At.UnixMicro())
	for _, text := range []string{e.By, string(e.What), e.Kind, e.Name, e.Detail} {
		part(h, []byte(text))
	}
	object := uuid.Nil
	if e.Object != nil {
		object = *e.Object
	}
	part(h, object[:])
	version := int64(-1)
	if e.Version != nil {
		version = *e.Version
	}
	number(h, version)
	return h.Sum(nil)
}

func part(h hash.Hash, text []byte) {
	number(h, int64(len(text)))
	_, _ = h.Write(text) // a hash takes everything
}

func number(h hash.Hash, n int64) {
	_ = binary.Write(h, binary.BigEndian, n)
}

// Head is the last seal of a chain. Whoever keeps one outside the database can tell later that nothing before it was taken off the end.
type Head struct {
	N    int64
	Seal []byte
}

// String returns the head as people keep it; "" for a chain without events.
func (h Head) String() string {
	if h.N == 0 {
		return ""
	}
	return fmt.Sprintf("%d.%s", h.N, hex.EncodeToString(h.Seal))
}

// ReadHead reads what [Head.String] writes.
func ReadHead(text string) (Head, error) {
	n, seal, _ := strings.Cut(strings.TrimSpace(text), ".")
	at, err := strconv.ParseInt(n, 10, 64)
	raw, err2 := hex.DecodeString(seal)
	if err != nil || err2 != nil || at < 1 || len(raw) != sha256.Size {
		return Head{}, fmt.Errorf("%q is not the head of an audit log, as `widelark audit verify` prints it", text)
	}
	return Head{at, raw}, nil
}

// Fault is something that is not as it was written.
type Fault struct {
	Event int64 // its id; 0 where it is not about one
	Says  string
}

// Verification is what a check of the log came to.
type Verification struct {
	Events  int64 // that are sealed
	Waiting int64 // that are not sealed yet: those of the last seconds
	Head    Head
	Faults  []Fault // the first ones
	More    int64   // faults beyond those
}

// mostFaults is how many faults are told.
const mostFaults = 100

// Verifier checks a chain, whose events are given to it in order. It is not safe for concurrent use.
type Verifier struct {
	Key  []byte
	Kept *Head // that was noted earlier; nil for none

	v    Verification
	seal []byte
	met  bool // the kept head

	wasKeyed bool // an event before
}

// Next checks the next event.
func (v *Verifier) Next(s Sealed) {
	v.v.Events++
	switch {
	case s.N != v.v.Head.N+1:
		v.fault(s.ID, fmt.Sprintf("the chain goes from %d to %d: what was between is gone", v.v.Head.N, s.N))
	case s.Event == nil:
		v.fault(s.ID, "it is gone")
	case s.Keyed && len(v.Key) == 0:
		v.fault(s.ID, "it is sealed with a secret that this service was not given, so it cannot be checked")
	case !s.Keyed && len(v.Key) > 0 && v.wasKeyed:
		v.fault(s.ID, "it is sealed without the secret, though those before it are with it")
	default:
		key := v.Key
		if !s.Keyed {
			key = nil
		}
		if !hmac.Equal(Seal(key, v.seal, s.N, s.Event), s.Seal) {
			v.fault(s.ID, "it is not as it was written, or the one before it is not")
		}
	}
	if v.Kept != nil && v.Kept.N == s.N {
		v.met = true
		if !bytes.Equal(v.Kept.Seal, s.Seal) {
			v.fault(s.ID, fmt.Sprintf("event %d has another seal than the head that was kept: the log was written anew", s.N))
		}
	}
	v.v.Head, v.seal = Head{s.N, s.Seal}, s.Seal
	v.wasKeyed = v.wasKeyed || s.Keyed
}

// Unsealed notes an event that is not in the chain.
func (v *Verifier) Unsealed(e Event, now time.Time) {
	if now.Sub(e.At) < sealedWithin {
		v.v.Waiting++
		return
	}
	v.fault(e.ID, "it is not in the chain, though it is old: it was put in, or no service has run since")
}

// sealedWithin is how old an event is at most that is not sealed yet.
const sealedWithin = time.Minute

// End returns what the check came to.
func (v *Verifier) End() Verification {
	if v.Kept != nil && !v.met {
		v.fault(0, fmt.Sprintf("the log ends at %d, before the head that was kept at %d: its end was taken off", v.v.Head.N, v.Kept.N))
	}
	return v.v
}

func (v *Verifier) fault(event int64, says string) {
	if len(v.v.Faults) == mostFaults {
		v.v.More++
		return
	}
	v.v.Faults = append(v.v.Faults, Fault{event, says})
}

package parcel

import (
	"bytes"
	"cmp"
	"crypto/ed25519"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/internal/standing"
)

// Message tells a gate elsewhere what has changed since the message before: a line of the stream that it follows. A message without news says that the
// service is there.
type Message struct {
	At      time.Time `json:"at"`                // by the clock of the database, which is the one that counts
	Edition int64     `json:"edition,omitempty"` // the number of the live edition

	Whole bool                       `json:"whole,omitempty"` // put holds all standing facts, and what was known before is over
	Put   map[string]json.RawMessage `json:"put,omitempty"`   // by their keys
	Gone  []string                   `json:"gone,omitempty"`

	Authority *Authority `json:"authority,omitempty"` // where it has changed
}

// Authority is the authority that signs, as it travels to one gate.
type Authority struct {
	ID          uuid.UUID `json:"id"`
	Certificate []byte    `json:"certificate"` // DER
	Key         []byte    `json:"key"`         // sealed for the gate; see [Seal]
	Trust       [][]byte  `json:"trust"`       // certificates that clients are to trust, in DER
}

// Line is a message as it travels.
type Line struct {
	Message   []byte `json:"message"`
	Signature []byte `json:"signature"`
}

const messageFor = "widelark message\n"

// signedMessage is what the signature of a message is over: its place in the one stream that a gate opened with a number of its own.
func signedMessage(nonce []byte, sequence uint64, message []byte) []byte {
	head := append([]byte(messageFor), nonce...)
	return append(binary.BigEndian.AppendUint64(head, sequence), message...)
}

// SignMessage returns the line of a message.
func SignMessage(m *Message, nonce []byte, sequence uint64, key ed25519.PrivateKey) ([]byte, error) {
	text, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	line, err := json.Marshal(Line{text, ed25519.Sign(key, signedMessage(nonce, sequence, text))})
	return append(line, '\n'), err
}

// OpenMessage reads a line, if it is signed with a key for this place in this stream.
func OpenMessage(line, nonce []byte, sequence uint64, key ed25519.PublicKey) (*Message, error) {
	var l Line
	if err := json.Unmarshal(line, &l); err != nil {
		return nil, fmt.Errorf("a message cannot be read: %w", err)
	}
	if !ed25519.Verify(key, signedMessage(nonce, sequence, l.Message), l.Signature) {
		return nil, ErrSignature
	}
	m := &Message{}
	return m, json.Unmarshal(l.Message, m)
}

// fact is one standing fact as it travels.
type fact struct {
	Grant    *standing.Grant    `json:"grant,omitempty"`
	Presence *standing.Presence `json:"presence,omitempty"`
	Passage  *standing.Passage  `json:"passage,omitempty"`
	Stint    *standing.Stint    `json:"stint,omitempty"`
	Used     *standing.Used     `json:"used,omitempty"`
}

// Facts are standing facts as they travel, by keys that stay the same while a fact changes.
type Facts map[string]json.RawMessage

// FactsOf returns standing facts as they travel.
func FactsOf(items *standing.Items) (Facts, error) {
	facts := Facts{}
	add := func(key string, f fact) (err error) {
		facts[key], err = json.Marshal(f)
		return err
	}
	for i := range items.Grants {
		if err := add("grant "+items.Grants[i].ID.String(), fact{Grant: &items.Grants[i]}); err != nil {
			return nil, err
		}
	}
	for i := range items.Presences {
		if err := add("presence "+items.Presences[i].ID.String(), fact{Presence: &items.Presences[i]}); err != nil {
			return nil, err
		}
	}
	for i := range items.Passages {
		if err := add("passage "+items.Passages[i].ID.String(), fact{Passage: &items.Passages[i]}); err != nil {
			return nil, err
		}
	}
	for i := range items.Stints {
		if err := add("stint "+items.Stints[i].ID.String(), fact{Stint: &items.Stints[i]}); err != nil {
			return nil, err
		}
	}
	for i := range items.Used {
		u := &items.Used[i]
		if len(u.Minutes) == 0 {
			continue
		}
		key := fmt.Sprintf("used %s %s %s %d", u.Rule, u.Person, u.Address, u.Minutes[0]/(24*60))
		if err := add(key, fact{Used: u}); err != nil {
			return nil, err
		}
	}
	return facts, nil
}

// Items returns the facts as package standing has them. The error names those that cannot be read; all others are returned.
func (f Facts) Items() (*standing.Items, error) {
	items := &standing.Items{}
	var errs []error
	for key, text := range f {
		var one fact
		if err := json.Unmarshal(text, &one); err != nil {
			errs = append(errs, fmt.Errorf("the fact %s: %w", key, err))
			continue
		}
		switch {
		case one.Grant != nil:
			items.Grants = append(items.Grants, *one.Grant)
		case one.Presence != nil:
			items.Presences = append(items.Presences, *one.Presence)
		case one.Passage != nil:
			items.Passages = append(items.Passages, *one.Passage)
		case one.Stint != nil:
			items.Stints = append(items.Stints, *one.Stint)
		case one.Used != nil:
			items.Used = append(items.Used, *one.Used)
		}
	}
	slices.SortFunc(items.Grants, func(a, b standing.Grant) int {
		return cmp.Or(b.MadeAt.Compare(a.MadeAt), cmp.Compare(a.ID.String(), b.ID.String()))
	})
	slices.SortFunc(items.Presences, func(a, b standing.Presence) int {
		return cmp.Or(b.From.Compare(a.From), cmp.Compare(a.ID.String(), b.ID.String()))
	})
	return items, errors.Join(errs...)
}

// Since returns what differs from facts of before.
func (f Facts) Since(before Facts) (put Facts, gone []string) {
	put = Facts{}
	for key, text := range f {
		if !bytes.Equal(before[key], text) {
			put[key] = text
		}
	}
	for key := range before {
		if _, still := f[key]; !still {
			gone = append(gone, key)
		}
	}
	slices.Sort(gone)
	return put, gone
}

// With returns the facts after a message.
func (f Facts) With(m *Message) Facts {
	next := Facts{}
	if !m.Whole {
		for key, text := range f {
			next[key] = text
		}
	}
	for _, key := range m.Gone {
		delete(next, key)
	}
	for key, text := range m.Put {
		next[key] = text
	}
	return next
}

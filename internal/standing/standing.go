// Package standing keeps facts, which hold beside every state without being published, each with an end. Grants are the first
// kind; a change reaches every service with the next question.
//
// From: what the store keeps.
// To: [policy.Facts], which are put beside a snapshot.
package standing

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// Longest is the longest time that a grant may last: what is to hold longer belongs in the draft, as an exception.
const Longest = 90 * 24 * time.Hour

// remembered is how long facts are kept in memory after their end, so that trials of a past moment see them.
const remembered = 31 * 24 * time.Hour

// Grant allows some URLs for some people from the moment at which it is made, for some time. Only its end can change.
type Grant struct {
	ID uuid.UUID
	GrantBody
	MadeAt  time.Time
	MadeBy  string
	EndedAt *time.Time // before its time; nil where nobody ended it
	EndedBy string
	Kept    *uuid.UUID // the exception that was made of it; nil for none
}

// GrantBody is what a grant says.
type GrantBody struct {
	Entries     []pattern.Entry   `json:"entries" minItems:"1" maxItems:"20" doc:"In the notation; no carve-outs"`
	For         revision.WhomBody `json:"for"`
	Reason      string            `json:"reason" minLength:"1" maxLength:"2000"`
	RequestedBy string            `json:"requestedBy,omitempty" maxLength:"200"`
	Until       time.Time         `json:"until" doc:"The moment itself is outside; within 90 days"`
}

// Check puts a grant into the form in which it is kept, or says what is wrong with it as a [*revision.FieldError].
func (b *GrantBody) Check(now time.Time) error {
	e := b.Exception()
	if err := e.Check(); err != nil {
		return err
	}
	b.Entries, b.For, b.Reason, b.Until = e.Entries, e.For, e.Reason, *e.Until
	b.RequestedBy = strings.TrimSpace(b.RequestedBy)
	switch {
	case !b.Until.After(now):
		return &revision.FieldError{Field: "until", Msg: "a grant ends after it begins: name a moment to come"}
	case b.Until.Sub(now) > Longest:
		return &revision.FieldError{Field: "until", Msg: "a grant lasts at most 90 days: what is to hold longer is an exception, in the draft"}
	}
	return nil
}

// Exception returns an exception of the draft that says the same.
func (b *GrantBody) Exception() *revision.ExceptionBody {
	until := b.Until
	return &revision.ExceptionBody{Entries: slices.Clone(b.Entries), Then: policy.Allow, For: b.For, Reason: b.Reason, RequestedBy: b.RequestedBy, Until: &until}
}

// Name says what a grant covers, in a few words.
func (b *GrantBody) Name() string {
	return nameOf(b.Entries)
}

// nameOf names entries by the first. Precondition: there is one.
func nameOf(entries []pattern.Entry) string {
	name := entries[0].String()
	if more := len(entries) - 1; more > 0 {
		name += fmt.Sprintf(" and %d more", more)
	}
	return name
}

// End returns when the grant ends, or ended.
func (g *Grant) End() time.Time {
	if g.EndedAt != nil && g.EndedAt.Before(g.Until) {
		return *g.EndedAt
	}
	return g.Until
}

// exception returns the grant as the core has it. Entries that cannot be read any more cover nothing.
func (g *Grant) exception() policy.Exception {
	e := policy.Exception{ID: g.ID.String(), Name: g.Name(), Then: policy.Allow, For: g.For.Whom(), From: g.MadeAt, Until: g.End(), Reason: g.Reason}
	for _, entry := range g.Entries {
		if entry.Err() == nil {
			e.Entries = append(e.Entries, entry)
		}
	}
	return e
}

// Store keeps facts. Every change stands in the audit log; where the actor may not, the error is an [*access.DeniedError].
type Store interface {
	AddGrant(ctx context.Context, g GrantBody, by access.Actor) (Grant, error)

	// EndGrant ends a grant now. One that is over stays as it is.
	EndGrant(ctx context.Context, id uuid.UUID, by access.Actor) (Grant, error)

	// KeepGrant makes an exception of the draft that says the same as a grant, once, and returns its id.
	KeepGrant(ctx context.Context, id uuid.UUID, name string, by access.Actor) (uuid.UUID, error)

	Grant(ctx context.Context, id uuid.UUID) (Grant, error)
	Grants(ctx context.Context, endAfter time.Time) ([]Grant, error) // the one made last first

	// AddPresence adds a presence, and ends the one before it at the address.
	AddPresence(ctx context.Context, p Presence, by access.Actor) (Presence, error)

	// EndPresence ends the presence at an address now.
	EndPresence(ctx context.Context, at netip.Addr, by access.Actor) error
	Presences(ctx context.Context, endAfter time.Time) ([]Presence, error) // the one made last first

	Passages(ctx context.Context, endAfter time.Time) ([]Passage, error)

	Minutes
	Stints

	FactsVersion(ctx context.Context) (Version, error)
}

// Version numbers the states of the facts: both rise. Used minutes change far more often than all other facts.
type Version struct {
	Facts int64 // all but used minutes
	Used  int64
}

// Items are the facts as they are kept.
type Items struct {
	Grants    []Grant    // the one made last first
	Presences []Presence // the one made last first
	Passages  []Passage
	Stints    []Stint // the one begun last first
	Used      []Used
}

// Facts returns the facts as the core has them.
func (i *Items) Facts() *policy.Facts {
	facts := &policy.Facts{}
	for n := range i.Grants {
		facts.Grants = append(facts.Grants, i.Grants[n].exception())
	}
	for n := range i.Presences {
		facts.Presences = append(facts.Presences, i.Presences[n].fact())
	}
	for n := range i.Passages {
		i.Passages[n].put(facts)
	}
	for n := range i.Stints {
		facts.Stints = append(facts.Stints, i.Stints[n].fact())
	}
	facts.Used = i.used()
	return facts
}

func (i *Items) used() (used []policy.Used) {
	for n := range i.Used {
		used = append(used, i.Used[n].fact())
	}
	return used
}

// Source returns the current facts. It keeps them in memory, and asks the store only whether they have changed. It is safe for concurrent use.
type Source struct {
	store Store
	now   func() time.Time

	mu      sync.Mutex // guards what follows
	version Version
	items   *Items
	facts   *policy.Facts
}

// NewSource returns a source of what a store keeps. now is the clock.
func NewSource(store Store, now func() time.Time) *Source { return &Source{store: store, now: now} }

// Facts returns the facts, including those that ended in the last month. As long as nothing changes, it returns the same pointer.
func (s *Source) Facts(ctx context.Context) (*policy.Facts, error) {
	_, facts, err := s.current(ctx)
	return facts, err
}

// Items is Facts in the form in which they are kept. The caller must not change them.
func (s *Source) Items(ctx context.Context) (*Items, error) {
	items, _, err := s.current(ctx)
	return items, err
}

func (s *Source) current(ctx context.Context) (*Items, *policy.Facts, error) {
	version, err := s.store.FactsVersion(ctx)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.items != nil && s.version.Facts >= version.Facts && s.version.Used >= version.Used {
		return s.items, s.facts, nil
	}
	items, facts := &Items{}, &policy.Facts{}
	if s.items != nil && s.version.Facts >= version.Facts {
		*items, *facts = *s.items, *s.facts
	} else if items, err = s.read(ctx); err != nil {
		return nil, nil, err
	} else {
		facts = items.Facts()
	}
	if items.Used, err = s.store.Used(ctx, s.now().Add(-usedFor)); err != nil {
		return nil, nil, err
	}
	facts.Used = items.used()
	s.version, s.items, s.facts = version, items, facts // what was read is that version or a later one
	return items, facts, nil
}

// read reads all facts but used minutes.
func (s *Source) read(ctx context.Context) (*Items, error) {
	since, items := s.now().Add(-remembered), &Items{}
	var err error
	if items.Grants, err = s.store.Grants(ctx, since); err != nil {
		return nil, err
	}
	if items.Presences, err = s.store.Presences(ctx, since); err != nil {
		return nil, err
	}
	if items.Passages, err = s.store.Passages(ctx, since); err != nil {
		return nil, err
	}
	items.Stints, err = s.store.Stints(ctx, since)
	return items, err
}

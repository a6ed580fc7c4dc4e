package standing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/readable"
	"widelark/internal/revision"
)

// LongestStint is the longest time that a stint may last: what is to hold longer is a policy.
const LongestStint = 24 * time.Hour

// Stint puts a group, or some of it, on chosen lists for a while. A group has one at a time.
type Stint struct {
	ID uuid.UUID
	StintBody
	From    time.Time
	By      string      // whose it is now
	Done    []uuid.UUID // people for whom it is over
	EndedAt *time.Time  // before its time; nil where nobody ended it
	EndedBy string

	Entries []pattern.Entry // of the group's own lists that it names
}

// StintBody is what a stint says.
type StintBody struct {
	Group  revision.Ref     `json:"group"`
	Kind   policy.StintKind `json:"kind" enum:"only,but,nothing" doc:"only: what is in the lists is allowed, all else blocked. but: what is in the lists is blocked, the rules decide all else. nothing: everything is blocked"`
	Lists  []revision.Ref   `json:"lists,omitempty" maxItems:"20" doc:"Lists that are marked for stints"`
	Own    []revision.Ref   `json:"own,omitempty" maxItems:"20" doc:"Lists of the group's leads"`
	People []revision.Ref   `json:"people,omitempty" maxItems:"200" doc:"For these people of the group alone; left out, for the whole group"`
	Reason string           `json:"reason,omitempty" maxLength:"200" doc:"In a few words: the lesson"`
	Until  time.Time        `json:"until" doc:"The moment itself is outside; within 24 hours"`
}

// Check puts a stint into the form in which it is kept, or says what is wrong with it as a [*revision.FieldError].
func (b *StintBody) Check(now time.Time) error {
	b.Reason = strings.TrimSpace(b.Reason)
	switch {
	case b.Kind == policy.Paused && len(b.Lists)+len(b.Own) > 0:
		return &revision.FieldError{Field: "lists", Msg: "while the web is paused, no list counts: leave them out"}
	case b.Kind != policy.Paused && len(b.Lists)+len(b.Own) == 0:
		return &revision.FieldError{Field: "lists", Msg: "choose a list"}
	case !b.Until.After(now):
		return &revision.FieldError{Field: "until", Msg: "a stint ends after it begins: name a moment to come"}
	case b.Until.Sub(now) > LongestStint:
		return &revision.FieldError{Field: "until", Msg: "a stint lasts at most 24 hours: what is to hold longer is a policy"}
	}
	if err := readable.Check(b.Reason); err != nil {
		return &revision.FieldError{Field: "reason", Msg: err.Error()}
	}
	return nil
}

// End returns when the stint ends, or ended.
func (s *Stint) End() time.Time {
	if s.EndedAt != nil && s.EndedAt.Before(s.Until) {
		return *s.EndedAt
	}
	return s.Until
}

// fact returns the stint as the core has it. Entries that cannot be read any more cover nothing.
func (s *Stint) fact() policy.Stint {
	st := policy.Stint{ID: s.ID.String(), Group: s.Group.ID.String(), Kind: s.Kind, From: s.From, Until: s.End(), By: s.By}
	for _, p := range s.People {
		st.Persons = append(st.Persons, p.ID.String())
	}
	for _, id := range s.Done {
		st.Done = append(st.Done, id.String())
	}
	for _, l := range s.Lists {
		st.Lists = append(st.Lists, l.ID.String())
	}
	for _, e := range s.Entries {
		if e.Err() == nil {
			st.Entries = append(st.Entries, e)
		}
	}
	return st
}

// Fact returns what a stint that begins at a moment would be to the core.
func (b *StintBody) Fact(from time.Time, entries []pattern.Entry, by string) policy.Stint {
	s := Stint{StintBody: *b, From: from, By: by, Entries: entries}
	return s.fact()
}

// The limits of leads' own lists.
const (
	MostOwnLists   = 20  // of a group
	MostOwnEntries = 200 // of a list
)

// OwnList is a list of a group's leads, which only stints of the group name.
type OwnList struct {
	ID        uuid.UUID
	Group     uuid.UUID
	Name      string
	Entries   []pattern.Entry
	UpdatedAt time.Time
	UpdatedBy string
}

// Check puts a list into the form in which it is kept, or says what is wrong with it as a [*revision.FieldError].
func (l *OwnList) Check() (err error) {
	if l.Name, err = revision.CheckName("name", l.Name); err != nil {
		return err
	}
	if len(l.Entries) == 0 {
		return &revision.FieldError{Field: "entries", Msg: "name a site"}
	}
	if len(l.Entries) > MostOwnEntries {
		return &revision.FieldError{Field: "entries", Msg: fmt.Sprintf("a list of a group has at most %d entries: ask for a list of everybody", MostOwnEntries)}
	}
	for i, e := range l.Entries {
		switch {
		case e.Err() != nil:
			return &revision.FieldError{Field: fmt.Sprintf("entries[%d]", i), Msg: e.Err().Error()}
		case e.CarveOut:
			return &revision.FieldError{Field: fmt.Sprintf("entries[%d]", i), Msg: "a list of a group has no carve-outs"}
		}
	}
	return nil
}

// RunningError says that the group has a stint already.
type RunningError struct {
	By    string
	Until time.Time
}

// Error names whose it is.
func (e *RunningError) Error() string { return "the group is on a stint of " + e.By + " already" }

// ErrOwnInUse is the error of removing a list that a running stint names.
var ErrOwnInUse = errors.New("a stint that runs names the list")

// Stints keeps stints, and the lists of leads.
type Stints interface {
	// AddStint begins a stint. Where the group has one, it ends that if instead is set; otherwise the error is a [*RunningError]. Lists that are not marked for stints, and those of other groups, are
	// a [*revision.FieldError].
	AddStint(ctx context.Context, b StintBody, instead bool, by access.Actor) (Stint, error)

	// EndStint ends a stint now. One that is over stays as it is.
	EndStint(ctx context.Context, id uuid.UUID, by access.Actor) (Stint, error)

	// TakeOverStint makes the stint the actor's.
	TakeOverStint(ctx context.Context, id uuid.UUID, by access.Actor) (Stint, error)

	// SetDone ends the stint for somebody, or puts it in force for them again.
	SetDone(ctx context.Context, id, person uuid.UUID, done bool, by access.Actor) (Stint, error)

	Stint(ctx context.Context, id uuid.UUID) (Stint, error)
	Stints(ctx context.Context, endAfter time.Time) ([]Stint, error) // the one begun last first

	OwnLists(ctx context.Context) ([]OwnList, error) // by name

	// PutOwnList adds a list, where its id is the zero id, or replaces name and entries of one, which holds at once where a stint names it.
	PutOwnList(ctx context.Context, l OwnList, by access.Actor) (OwnList, error)
	RemoveOwnList(ctx context.Context, id uuid.UUID, by access.Actor) error // [ErrOwnInUse]
}

// NotForStints is the error of a field that names a list which the group's leads may not choose.
func NotForStints(field string) error {
	return &revision.FieldError{Field: field, Msg: "the list is not for stints of this group: choose one that is marked for stints, or a list of the group's leads"}
}

// Running returns the stint of a group that runs at a moment; nil for none.
func Running(all []Stint, group uuid.UUID, at time.Time) *Stint {
	if i := slices.IndexFunc(all, func(s Stint) bool { return s.Group.ID == group && at.Before(s.End()) }); i >= 0 {
		return &all[i]
	}
	return nil
}

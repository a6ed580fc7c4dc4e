package revision

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/access"
)

// Revision is a published state. It never changes.
type Revision struct {
	Number  int64
	Version int64 // of the draft, that it is
	At      time.Time
	By      string
	Note    string
	SameAs  int64  // the revision that was taken back to; 0 for none
	Forced  string // why it was published though expectations failed
	Failed  int64  // so many expectations failed
	Asked   int64  // of so many
}

// Publishing is a request to publish.
type Publishing struct {
	Version int64 // of the draft; it may have gone on since
	Note    string
	Forced  string
	Failed  int64
	Asked   int64
	SameAs  int64
	Draft   bool // the draft is made this version, too; both or neither
}

// Planned is a version that is to be published later.
type Planned struct {
	ID      uuid.UUID
	Due     time.Time
	Version int64
	By      string
	Note    string
	Forced  string
	MadeAt  time.Time
}

// ObjectState is an object at two versions of the draft. Before and After are nil where it does not exist.
type ObjectState struct {
	ID      uuid.UUID
	Kind    Kind
	Before  *Object
	After   *Object
	By      []string // who edited it in between, the first one first
	At      time.Time
	Entries *EntryCounts // for lists whose entries differ
}

// Name is what the object is called, or was.
func (s ObjectState) Name() string {
	if s.After != nil {
		return s.After.Name
	}
	return s.Before.Name
}

// Target is a wanted state of the draft. Only objects that it names are changed.
type Target struct {
	Objects []Object                      // that are made, or become otherwise; of all kinds
	Remove  []Object                      // that go
	Entries map[uuid.UUID][]pattern.Entry // by list: its lines, in order
}

// EntryCounts counts the entries, including notes, by which two states of a list differ.
type EntryCounts struct {
	Added, Edited, Removed int64
}

// Acceptance marks a finding of the review as intended.
type Acceptance struct {
	Key    string
	Reason string
	Until  *time.Time // a day; nil for good
	At     time.Time
	By     string
}

// PublishStore keeps revisions. See [Store] for by.
type PublishStore interface {
	// Choose makes a version of the draft that has some of its changes, with what they hang on, and everything else as it is live. The draft itself stays as it is. If it is not at the version that the
	// caller saw, the error is [ErrStale]; 0 skips this check. An object that does not differ is [ErrNotFound].
	Choose(ctx context.Context, seen int64, objects []uuid.UUID, by access.Actor) (Chosen, error)

	Practices(ctx context.Context) (Practices, error)
	PutPractices(ctx context.Context, secondLook bool, by access.Actor) error

	// PutDeskMail says which addresses are told of new requests by mail.
	PutDeskMail(ctx context.Context, addresses []string, by access.Actor) error

	// Remarks returns what people say of the draft: what is not done first, and the last one first.
	Remarks(ctx context.Context, limit int) ([]Remark, error)
	AddRemark(ctx context.Context, r Remark, by access.Actor) (Remark, error) // its text, object, and whom it asks
	EndRemark(ctx context.Context, id int64, by access.Actor) (Remark, error)

	// Publish makes a version of the draft the next revision. If the live revision is not the one that the caller saw, the error is
	// [ErrStale]; 0 skips this check.
	Publish(ctx context.Context, p Publishing, live int64, by access.Actor) (Revision, error)
	Revisions(ctx context.Context, before int64, limit int) ([]Revision, error) // the newest first; before 0 begins
	Revision(ctx context.Context, number int64) (Revision, error)

	Plan(ctx context.Context, p Planned, by access.Actor) (Planned, error)
	Unplan(ctx context.Context, id uuid.UUID, by access.Actor) error
	Planned(ctx context.Context) ([]Planned, error) // the next first

	// PublishDue publishes what was planned for a moment or earlier, each once however many services do so at once. check is called before each and
	// returns what to record; a [*NotDueError] cancels the plan, as does a planner who may no longer publish, and the audit log says why; after any other
	// error the plan stays and is tried again.
	PublishDue(ctx context.Context, at time.Time, check func(Planned) (Publishing, error), by access.Actor) ([]Revision, error)

	// Changed returns the objects that differ between two versions. To 0 is the draft as it is now.
	Changed(ctx context.Context, from, to int64) ([]ObjectState, error)

	// EntryDifferences returns the entries of a list that differ between two versions, in order, beginning behind after.
	EntryDifferences(ctx context.Context, list uuid.UUID, from, to, after int64, limit int) ([]Difference, error)

	// Restore restores objects of the draft to a version; none named means all. If the draft is not at the version that the
	// caller saw, the error is [ErrStale]; 0 skips this check.
	Restore(ctx context.Context, to, seen int64, only []uuid.UUID, by access.Actor) error

	// AllObjects returns every object of the draft, including those with a table of their own, and the draft's version.
	AllObjects(ctx context.Context) ([]Object, int64, error)

	// Apply brings the draft to a target, in one transaction. If the draft is not at the version that the caller saw, the error is
	// [ErrStale].
	Apply(ctx context.Context, t Target, seen int64, by access.Actor) error

	Acceptances(ctx context.Context) ([]Acceptance, error)
	AcceptFinding(ctx context.Context, a Acceptance, by access.Actor) error
	UnacceptFinding(ctx context.Context, key string, by access.Actor) error
}

// Chosen is a version of the draft that has some of its changes.
type Chosen struct {
	Version int64
	Objects []ObjectState // that differ from what is live
}

// Practices is how changes go live here.
type Practices struct {
	SecondLook bool     // what one person edited alone is published by another
	DeskMail   []string // addresses that are told of new requests by mail
	UpdatedAt  time.Time
	UpdatedBy  string
}

// Remark is something that somebody says of the draft, or asks somebody else to look at.
type Remark struct {
	ID      int64
	At      time.Time
	By      string
	Text    string
	Object  *uuid.UUID // nil for the draft as a whole
	Version int64      // of the draft, when it was made
	Asks    string     // the account that is asked to look; "" for nobody
	DoneAt  *time.Time
	DoneBy  string
}

// AloneError refuses a publishing because nobody else than the publisher edited some of the objects.
type AloneError struct{ Objects []string }

// Error returns a sentence without its dot.
func (e *AloneError) Error() string {
	first := strings.Join(e.Objects[:min(3, len(e.Objects))], ", ")
	if more := len(e.Objects) - 3; more > 0 {
		first += fmt.Sprintf(" and %d more", more)
	}
	return "nobody else than you has edited " + first + ": what one person edited alone is published by another"
}

// CheckNote trims the note of a revision and refuses one that says nothing.
func CheckNote(note string) (string, error) {
	note = strings.TrimSpace(note)
	if note == "" {
		return "", &FieldError{"note", "say what this revision is for, so that somebody else can find it"}
	}
	if utf8.RuneCountInString(note) > MaxDescription {
		return "", &FieldError{"note", fmt.Sprintf("longer than %d characters", MaxDescription)}
	}
	return note, nil
}

// NotDueError says why a planned publishing is not carried out, now or later.
type NotDueError struct{ Why string }

// Error returns why.
func (e *NotDueError) Error() string { return e.Why }

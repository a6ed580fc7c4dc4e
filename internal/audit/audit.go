// Package audit says what was done, by whom and when: the lines of the audit log, and the name of every act that is kept there. Acts that
// change the draft are named by the database, which writes their lines where it keeps the states of objects.
//
// From: a [Query].
// To: [Event]s.
package audit

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// What is the name of an act in the log.
type What string

// What is kept beside the edits of the draft (made, changed, removed, brought back, entries …).
const (
	SignedIn      What = "signed in"
	SignInRefused What = "refused"
	SignedOut     What = "signed out"

	TokenMade      What = "token made"
	TokenTakenBack What = "token taken back"

	AccountMade     What = "account made"
	AccountRemoved  What = "account removed"
	OwnerMade       What = "made an owner"
	OwnerTakenBack  What = "no longer an owner"
	PasswordChanged What = "password changed" // by the account itself
	PasswordReset   What = "password reset"   // by somebody else

	Published    What = "published"
	TakenBack    What = "taken back"
	Planned      What = "planned"
	Unplanned    What = "unplanned"
	NotPublished What = "not published"

	FindingAccepted   What = "accepted"
	FindingUnaccepted What = "no longer accepted"

	GrantMade  What = "grant made"
	GrantEnded What = "grant ended"
	GrantKept  What = "grant kept"

	PackAdded     What = "pack added"
	PackEdited    What = "pack edited"
	PackRemoved   What = "pack removed"
	PackInForce   What = "pack put in force"
	PackHeld      What = "pack held"
	PackRefused   What = "pack refused"
	PackUndone    What = "pack undone"
	KeyTrusted    What = "key trusted"
	KeyDistrusted What = "key no longer trusted"
	SourceSet     What = "source set"
	SourceRemoved What = "source removed"
)

// KindGrant is the kind of grants, which are no objects of the draft.
const KindGrant = "grant"

// Event is a line of the log.
type Event struct {
	ID      int64
	At      time.Time
	By      string // a sign-in name, or a part of the service; "" where nobody is known
	What    What
	Kind    string     // of the object, as the draft calls it; "" for what has no states
	Object  *uuid.UUID // nil for none
	Name    string
	Version *int64 // of the draft; nil for none
	Detail  string
}

// Query chooses events. The zero query is all, from the newest on.
type Query struct {
	Before int64  // those with smaller ids; 0 begins
	Limit  int    // at most so many
	Text   string // with this in what, name, detail or by
	Kind   string
	Object *uuid.UUID
}

// Log keeps events. None is ever changed or removed.
type Log interface {
	Audit(ctx context.Context, q Query) ([]Event, error) // the newest first

	// Note adds an event that changes nothing else. Changes are noted by the store that makes them, in the same transaction.
	Note(ctx context.Context, e Event) error
}

// Package audit describes the audit log: what was done, by whom and when, and the names of the acts that it records. The database names the acts
// that change the draft, as it writes their events together with the states of objects.
//
// From: a [Query].
// To: [Event]s.
package audit

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// What is the name of a recorded act.
type What string

// The recorded acts other than edits of the draft (made, changed, removed, brought back, entries …).
const (
	SignedIn      What = "signed in"
	SignInRefused What = "refused"
	SignedOut     What = "signed out"

	TokenMade      What = "token made"
	TokenTakenBack What = "token taken back"

	AccountMade     What = "account made"
	AccountRenamed  What = "account renamed" // by the identity provider
	AccountRemoved  What = "account removed"
	PracticesPut    What = "practices put"
	Remarked        What = "said of the draft"
	AskedToLook     What = "asked to look"
	RemarkDone      What = "seen to"
	RolesPut        What = "roles put"
	PasswordChanged What = "password changed" // by the account itself
	PasswordReset   What = "password reset"   // by somebody else

	CodesSet       What = "codes set up" // of an app, as a second factor
	CodesRemoved   What = "codes taken down"
	PasskeyAdded   What = "passkey added"
	PasskeyRemoved What = "passkey removed"
	ClaimPut       What = "provider's group put"
	ClaimRemoved   What = "provider's group removed"

	PersonPasswordSet     What = "gate password set" // with which a person signs in at gates
	PersonPasswordRemoved What = "gate password removed"
	PersonDNSSet          What = "DNS address set" // by which a person is known at the DNS gate
	PersonDNSRemoved      What = "DNS address removed"

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

	StintBegun     What = "stint begun"
	StintEnded     What = "stint ended"
	StintTakenOver What = "stint taken over"
	StintDone      What = "stint over" // for one person
	StintAgain     What = "stint again"
	OwnListPut     What = "group's list put"
	OwnListRemoved What = "group's list removed"

	RequestAnswered What = "request answered"

	CodeMade     What = "code made"
	CodeEnded    What = "code ended"
	CodeUsed     What = "code entered"
	PassageEnded What = "way past a hold ended"

	PackAdded     What = "pack added"
	PackEdited    What = "pack edited"
	PackRemoved   What = "pack removed"
	PackInForce   What = "pack put in force"
	PackHeld      What = "pack held"
	PackRefused   What = "pack refused"
	PackUndone    What = "pack undone"
	KeyTrusted    What = "key trusted"
	KeyDistrusted What = "key no longer trusted"
	AuthorityMade What = "authority made"

	DirectoryAdded      What = "directory added"
	DirectoryEdited     What = "directory edited"
	DirectoryRemoved    What = "directory removed"
	DirectoryTokenMade  What = "directory's token made"
	DirectoryTokenEnded What = "directory's token ended"
	DirectoryInForce    What = "directory put in force"
	DirectoryHeld       What = "directory held"
	DirectoryRefused    What = "directory refused"
	DirectoryUndone     What = "directory undone"
	DirectoryAdopted    What = "people handed over" // to a directory

	EnrolmentMade What = "enrolment begun"
	GateEnrolled  What = "gate enrolled"
	GateRetired   What = "gate retired"
	SourceSet     What = "source set"
	SourceRemoved What = "source removed"

	WatchMade    What = "set up" // a shared search, a report, an alert, or where records are sent on
	WatchEdited  What = "set up anew"
	WatchRemoved What = "taken down"

	RecordsSeen     What = "looked at records" // of a person, a machine or an address; once an hour
	RecordsExported What = "exported records"
	RecordsErased   What = "erased records"

	Acknowledged What = "acknowledged" // something that an alert found
)

// KindGrant is the kind of grants, which are not objects of the draft.
const KindGrant = "grant"

// Event is a line of the log.
type Event struct {
	ID      int64
	At      time.Time
	By      string // a sign-in name, or a part of the service; "" if unknown
	What    What
	Kind    string     // of the object, as in the draft; "" for acts without one
	Object  *uuid.UUID // nil for none
	Name    string
	Version *int64 // of the draft; nil for none
	Detail  string
}

// Query selects events. The zero Query selects all.
type Query struct {
	Before int64  // only events with smaller ids; 0 for the newest events
	Limit  int    // at most this number of events
	Text   string // only events that hold the text in What, Name, Detail or By
	Kind   string
	Object *uuid.UUID
}

// Log keeps events. It never changes or removes one.
type Log interface {
	Audit(ctx context.Context, q Query) ([]Event, error) // the newest first

	// Note adds an event by itself. The store notes the changes that it makes itself, in the same transaction.
	Note(ctx context.Context, e Event) error

	// EachSealed calls sealed with the chain, in order, and unsealed with the events that are not in it, all as of one moment.
	EachSealed(ctx context.Context, sealed func(Sealed), unsealed func(e Event, now time.Time)) error
}

// SealPurpose is what the key for seals is made for.
const SealPurpose = "seals of the audit log"

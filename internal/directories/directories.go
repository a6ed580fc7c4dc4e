// Package directories keeps people and groups as others keep them: it reads them from LDAP directories, from files and from what programs send, guards what would change, and
// keeps the states that they were in.
//
// From: an LDAP server (RFC 4511), LDIF (RFC 2849) and CSV (RFC 4180) files, SCIM (RFC 7643).
// To: a [Store], which puts the state in force beside the objects of the draft.
package directories

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/revision"
)

// Kind says how a directory tells of its people.
type Kind string

// The kinds of directories.
const (
	LDAP Kind = "ldap" // it is read on a timetable
	File Kind = "file" // LDIF or CSV, fetched on a timetable, or handed over by a program
	SCIM Kind = "scim" // a program sends each change
)

// Kinds lists every kind.
var Kinds = []Kind{LDAP, File, SCIM}

// Directory is people and groups that somebody else keeps.
type Directory struct {
	ID   uuid.UUID
	Name string
	Settings
	HasPassword bool
	HasToken    bool

	NextAt   time.Time
	TriedAt  *time.Time
	SyncedAt *time.Time // when it was last read to its end, changed or not
	Result   revision.PullResult
	Told     string   // what happened, one sentence
	LeftOut  []string // what of the last reading could not be used
	Shadowed []string // what of the state in force does not hold, as somebody else has the name

	InForce *State // nil before the first
	Waiting *State // waits for somebody to accept it
	Why     []string
	Latest  *State // the last that was kept, in force or not
	Before  int64  // the number of the state that counted before the one in force; 0 where there is nothing to go back to
}

// Settings are the settings of a directory.
type Settings struct {
	Kind      Kind
	URL       string // of an LDAP server or a file; "" where programs send
	Base      string // of LDAP: the distinguished name below which people and groups are
	Bind      string // of LDAP: the name to sign in with; "" for nobody
	Password  []byte // of LDAP, sealed
	NameField string // the attribute that says how people sign in; "" for uid
	KeyField  string // the attribute that identifies an entry for good; "" for entryUUID
	Every     time.Duration
	Paused    bool
	MaxShrink int  // per cent of the people that may go without anybody's leave
	Hold      bool // every change waits until somebody accepts it
}

// Edit changes a directory; nil fields stay.
type Edit struct {
	Name      *string
	URL       *string
	Base      *string
	Bind      *string
	Password  *[]byte // sealed; empty for none
	NameField *string
	KeyField  *string
	Every     *time.Duration
	Paused    *bool
	MaxShrink *int
	Hold      *bool
}

// The bounds of the settings.
const (
	MaxDirectories = 20
	DefaultEvery   = time.Hour
	DefaultShrink  = 10
	MaxPeople      = 200_000
	MaxGroups      = 20_000
)

// Checked puts the settings into the form in which they are kept, or says what is wrong.
func (s *Settings) Checked() error {
	wrong := func(field, format string, args ...any) error {
		return &revision.FieldError{Field: field, Msg: fmt.Sprintf(format, args...)}
	}
	if !slices.Contains(Kinds, s.Kind) {
		return wrong("kind", "%q is not a kind of directory: there are ldap, file and scim", s.Kind)
	}
	for _, text := range []*string{&s.URL, &s.Base, &s.Bind, &s.NameField, &s.KeyField} {
		*text = strings.TrimSpace(*text)
	}
	u, err := url.Parse(s.URL)
	schemes := map[Kind][]string{LDAP: {"ldap", "ldaps"}, File: {"http", "https"}}[s.Kind]
	switch {
	case s.URL == "" && s.Kind == LDAP:
		return wrong("url", "the address of the LDAP server is wanted, as ldaps://ldap.example")
	case s.URL == "":
	case s.Kind == SCIM:
		return wrong("url", "a directory of the kind scim is sent here and has no address")
	case err != nil || u.Host == "" || !slices.Contains(schemes, u.Scheme):
		return wrong("url", "%q is not an address that begins with %s", s.URL, strings.Join(schemes, ":// or ")+"://")
	case u.User != nil:
		return wrong("url", "a password in an address would be shown to everybody; leave it out")
	}
	if s.Kind != LDAP {
		for field, text := range map[string]string{"base": s.Base, "bind": s.Bind} {
			if text != "" {
				return wrong(field, "this is for directories of the kind ldap")
			}
		}
	} else {
		for field, text := range map[string]string{"base": s.Base, "bind": s.Bind} {
			if _, err := ldap.ParseDN(text); err != nil {
				return wrong(field, "%q is not a distinguished name, as ou=people,dc=example", text)
			}
		}
		if s.Base == "" {
			return wrong("base", "the distinguished name is wanted below which people and groups are, as dc=example")
		}
	}
	switch {
	case s.Every < time.Minute || s.Every > revision.MaxEvery:
		return wrong("everyMinutes", "between 1 and %d minutes are possible", int(revision.MaxEvery.Minutes()))
	case s.MaxShrink < 0 || s.MaxShrink > 100:
		return wrong("maxShrink", "between 0 and 100 per cent are possible")
	}
	return nil
}

// State is the state of a directory after one of its readings.
type State struct {
	Number              int64 // from 1
	People, Groups      int
	Came, Changed, Went int // people and groups, against the state before
	ArrivedAt           time.Time
	By                  string
}

// Event is something that happened to a directory.
type Event struct {
	At     time.Time
	By     string
	What   string // one of the words below
	Number int64
}

// What happens to directories.
const (
	EventInForce = "in force"
	EventHeld    = "held"
	EventRefused = "refused"
	EventUndone  = "undone"
)

// Item is a person or a group of a directory.
type Item struct {
	ID   uuid.UUID
	Kind revision.Kind
	Name string
	Body []byte // JSON, as objects have it
}

// Difference is a person or group that differs between two states.
type Difference struct {
	ID     uuid.UUID
	Kind   revision.Kind
	Name   string // after, or before where it went
	Before *Item  // nil where it came
	After  *Item  // nil where it went
}

// Taking is the options for taking what a directory says.
type Taking struct {
	By      access.Actor
	Anyway  bool // nothing waits
	Preview bool // nothing is kept
}

// Taken is what became of it.
type Taken struct {
	Directory   Directory
	State       *State // nil where nothing has changed
	Why         []string
	Differences []Difference // the first of them
}

// Adopted is what became of handing people over to a directory.
type Adopted struct {
	People int      // who were edited in the draft, and are the directory's now
	Kept   []string // who stay in the draft, and why, a sentence each
}

// Keep is how many differences of a [Taken] are told.
const Keep = 200

// RefusedError is the reason why something is not done with a directory.
type RefusedError struct{ Msg string } // one sentence without its dot

// Error returns the reason.
func (e *RefusedError) Error() string { return e.Msg }

// ResourceKind is a kind of [Resource].
type ResourceKind string

// The kinds of resources (RFC 7643, sections 4.1 and 4.2).
const (
	User      ResourceKind = "User"
	UserGroup ResourceKind = "Group"
)

// Resource is a person or a group as a program sent it by SCIM.
type Resource struct {
	ID       uuid.UUID
	Kind     ResourceKind
	Body     []byte // JSON: the attributes, without id and meta
	MadeAt   time.Time
	EditedAt time.Time
}

// ResourceQuery chooses among the resources of a directory. The zero ResourceQuery chooses all.
type ResourceQuery struct {
	Kind      ResourceKind // "" for both
	Attribute string       // that has Value, letter case aside; "" for none
	Value     string
}

// MostResources bounds how many people and groups a program may send.
const MostResources = MaxPeople + MaxGroups

// ErrTaken is the error of a user whose name another user of the directory has.
var ErrTaken = errors.New("another user has the name")

// Resources keeps what programs send.
type Resources interface {
	Resources(ctx context.Context, directory uuid.UUID, of ResourceQuery) ([]Resource, error)
	Resource(ctx context.Context, directory, id uuid.UUID) (Resource, error)
	AddResource(ctx context.Context, directory uuid.UUID, r Resource, by access.Actor) (Resource, error) // [ErrTaken]
	ChangeResource(ctx context.Context, directory, id uuid.UUID, change func(was []byte) ([]byte, error), by access.Actor) (Resource, error)
	RemoveResource(ctx context.Context, directory, id uuid.UUID, by access.Actor) error
}

// ErrToken is the error of a token that no directory has.
var ErrToken = errors.New("this is not the token of a directory")

// Store keeps directories. An edit that returns nil is durable, and edits are atomic.
type Store interface {
	Resources

	Directories(ctx context.Context) ([]Directory, error) // by name
	Directory(ctx context.Context, id uuid.UUID) (Directory, error)
	DirectoryByToken(ctx context.Context, hash []byte) (Directory, error) // [ErrToken]
	DueDirectories(ctx context.Context, at time.Time) ([]Directory, error)
	AddDirectory(ctx context.Context, name string, settings Settings, by access.Actor) (Directory, error)
	EditDirectory(ctx context.Context, id uuid.UUID, edit Edit, by access.Actor) (Directory, error)
	SetDirectoryToken(ctx context.Context, id uuid.UUID, hash []byte, by access.Actor) error // nil for none
	RemoveDirectory(ctx context.Context, id uuid.UUID, anyway bool, by access.Actor) error   // a [*RefusedError] where something names its people or groups
	KeepDirectorySync(ctx context.Context, d Directory, by access.Actor) error

	// TakeDirectory makes what a directory says its next state, and puts it in force, unless it has to wait: it shrinks too much, empties or removes a group that draft or
	// live name, or all changes wait.
	TakeDirectory(ctx context.Context, id uuid.UUID, items []Item, how Taking) (Taken, error)
	AcceptDirectory(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (Directory, error) // [revision.ErrStale] where another waits
	RefuseDirectory(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (Directory, error)
	UndoDirectory(ctx context.Context, id uuid.UUID, by access.Actor) (Directory, error)

	// AdoptDirectory hands people over to a directory who are edited in the draft and have the names of its people. They stay who they are, with all that names them. Who would be in
	// fewer groups, in the draft or live, stays in the draft. With preview, nothing is changed.
	AdoptDirectory(ctx context.Context, id uuid.UUID, preview bool, by access.Actor) (Adopted, error)

	DirectoryStates(ctx context.Context, id uuid.UUID) ([]State, error) // the newest first
	DirectoryEvents(ctx context.Context, id uuid.UUID) ([]Event, error) // the newest first

	// DirectoryDifferences returns what differs between two states; 0 for nobody, by kind and name.
	DirectoryDifferences(ctx context.Context, id uuid.UUID, from, to int64) ([]Difference, error)
}

// Package catalogue keeps the packs of category data: it pulls and imports them, guards updates, and holds the states in force in
// memory.
//
// From: pack files, from sources on the web or by hand.
// To: a [Store], and the indexes that URLs are classified with.
package catalogue

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/packfile"
)

// Pack is one pack of the catalogue.
type Pack struct {
	ID   uuid.UUID
	Key  string // what the pack calls itself for good; "" before its first file
	Name string
	Rank int // the least is asked first; from 1
	Settings

	ETag     string
	NextAt   time.Time
	TriedAt  *time.Time
	PulledAt *time.Time // the last pull that went well, changed or not
	Result   revision.PullResult
	Told     string // what happened, one sentence
	Bytes    int64

	InForce *State // nil before the first file
	Waiting *State // the update that waits for somebody to accept it
	Latest  *State // the last that was stored, in force or not
	Before  int64  // the number of the state that counted before the one in force; 0 where there is nothing to go back to
}

// Settings are the settings of a pack.
type Settings struct {
	URL       string // "" for one that is imported by hand
	Every     time.Duration
	Paused    bool
	MaxBytes  int64
	MaxShrink int  // per cent of the sites that an update may take away
	Hold      bool // updates wait until somebody accepts them
}

// Edit changes the settings of a pack; nil fields stay.
type Edit struct {
	Name      *string
	Rank      *int
	URL       *string
	Every     *time.Duration
	Paused    *bool
	MaxBytes  *int64
	MaxShrink *int
	Hold      *bool
}

// The bounds of the settings, beside those of a list's source.
const (
	MaxPackBytes  = 1 << 30
	DefaultShrink = 20
	MaxPacks      = 50
)

// Checked returns the settings with the edit in them, or says what is wrong.
func (s Settings) Checked() error {
	u, err := url.Parse(s.URL)
	switch {
	case s.URL == "":
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return &revision.FieldError{Field: "url", Msg: "an http or https address of a pack is wanted"}
	case u.User != nil:
		return &revision.FieldError{Field: "url", Msg: "a password in an address would be shown to everybody; leave it out"}
	}
	switch {
	case s.Every < revision.MinEvery || s.Every > revision.MaxEvery:
		return &revision.FieldError{Field: "everyMinutes", Msg: fmt.Sprintf("between %d and %d minutes are possible", int(revision.MinEvery.Minutes()), int(revision.MaxEvery.Minutes()))}
	case s.MaxBytes < 1 || s.MaxBytes > MaxPackBytes:
		return &revision.FieldError{Field: "maxBytes", Msg: fmt.Sprintf("between 1 and %d are possible", MaxPackBytes)}
	case s.MaxShrink < 0 || s.MaxShrink > 100:
		return &revision.FieldError{Field: "maxShrink", Msg: "between 0 and 100 per cent are possible"}
	}
	return nil
}

// State is the state of a pack after one of its files.
type State struct {
	Number             int64 // of ours, from 1
	Version            int64 // as the pack says
	Date               time.Time
	Licence            string
	Signer             string // see [sealed.KeyText]
	Sites              int64
	Added, Moved, Gone int64 // sites, against the state before; moved ones have other categories
	ArrivedAt          time.Time
	By                 string
}

// Event is something that happened to a pack.
type Event struct {
	At      time.Time
	By      string
	What    string // one of the words below
	Number  int64
	Version int64
}

// What happens to packs.
const (
	EventInForce = "in force" // the state counts from then on
	EventHeld    = "held"     // it waits
	EventRefused = "refused"  // it will not count
	EventUndone  = "undone"   // the state of before counts again; the event names that one
)

// Difference is an entry that differs between two states of a pack.
type Difference struct {
	Entry  string
	Before string // categories, see [classify.SetID]; "" where the entry came
	After  string // "" where it went
}

// Totals counts differences.
type Totals struct{ Added, Moved, Gone int64 }

// Site is an entry of a pack in force.
type Site struct {
	ID         int64
	Entry      string
	Categories string // see [classify.SetID]
	Pack       uuid.UUID
}

// Stated is a pack's statement about an entry from one state until another.
type Stated struct {
	Pack       uuid.UUID
	Entry      string
	Categories string
	ID         int64
	Since      int64
	Gone       int64 // 0 where it still holds
}

// Key is a public key that packs may be signed with.
type Key struct {
	Key     string // see [sealed.KeyText]
	Name    string
	AddedAt time.Time
	AddedBy string
}

// Taking is the options for taking a pack into the catalogue.
type Taking struct {
	By        access.Actor
	MaxShrink int
	Hold      bool
	Sites     func(int64) // called from time to time with how many sites have been read; may be nil
}

// RefusedError is the reason why a pack was refused.
type RefusedError struct{ Msg string } // one sentence without its dot

// Error returns the reason.
func (e *RefusedError) Error() string { return e.Msg }

// ErrNothingNew is returned for a pack that is no later than the present version.
var ErrNothingNew = fmt.Errorf("the pack has no later version")

// Sink receives the sites of a pack as they are read from the store.
type Sink interface {
	Site(id int64, entry string, plain bool, set string) error
}

// Reader reads a consistent view of the states in force.
type Reader interface {
	Version() int64
	Packs(ctx context.Context) ([]Pack, error)
	Taxonomy(ctx context.Context, pack uuid.UUID, number int64) (classify.Taxonomy, error)
	EachSite(ctx context.Context, pack uuid.UUID, number int64, sink Sink) error
}

// Store keeps packs. An edit that returns nil is durable, and edits are atomic.
type Store interface {
	Packs(ctx context.Context) ([]Pack, error) // by rank
	Pack(ctx context.Context, id uuid.UUID) (Pack, error)
	DuePacks(ctx context.Context, at time.Time) ([]Pack, error)
	AddPack(ctx context.Context, name string, settings Settings, by access.Actor) (Pack, error) // with the last rank
	EditPack(ctx context.Context, id uuid.UUID, edit Edit, by access.Actor) (Pack, error)
	RemovePack(ctx context.Context, id uuid.UUID, by access.Actor) error
	KeepPackPull(ctx context.Context, pack Pack, by access.Actor) error

	// Take puts the pack into the catalogue while reading it, or holds it until somebody accepts it. If anything is wrong with it,
	// nothing is kept, and the error is a [*packfile.Error], a [*RefusedError] or [ErrNothingNew].
	Take(ctx context.Context, id uuid.UUID, pack *packfile.Reader, how Taking) (Pack, error)
	Accept(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (Pack, error) // [revision.ErrStale] where another waits
	Refuse(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (Pack, error)
	Undo(ctx context.Context, id uuid.UUID, by access.Actor) (Pack, error) // done twice, it changes nothing

	States(ctx context.Context, id uuid.UUID) ([]State, error) // the newest first
	Events(ctx context.Context, id uuid.UUID) ([]Event, error) // the newest first
	Differences(ctx context.Context, id uuid.UUID, from, to int64, after string, limit int) ([]Difference, Totals, error)
	EachDifference(ctx context.Context, id uuid.UUID, from, to int64, gone func(id int64) error, came func(Site, bool) error) error

	Sites(ctx context.Context, categories []string, text, after string, limit int) ([]Site, error) // by entry
	Stated(ctx context.Context, entries []string) ([]Stated, error)

	Keys(ctx context.Context) ([]Key, error)
	Trust(ctx context.Context, key Key, by access.Actor) error // the key's AddedAt and AddedBy are set
	Distrust(ctx context.Context, key string, by access.Actor) error

	CatalogueVersion(ctx context.Context) (int64, error)
	ReadCatalogue(ctx context.Context, read func(Reader) error) error
}

// Package revision is the administrator's way: what is kept in the draft (lists with their entries, groups, policies)
// and how it is edited.
//
// From: edits that the API takes.
// To: a [Store], and the draft that trials are decided on.
package revision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/readable"
)

// What can go wrong with an edit, for callers that branch on it. Returned by every method of [Store] that names an object.
var (
	ErrNotFound = errors.New("there is no such object")
	ErrStale    = errors.New("it was changed by somebody else in the meantime")
	ErrDiskFull = errors.New("the database's disk is full")
)

// FieldError says which field of an edit is wrong. Field is its path in the API's terms, as "rules[0].lists[1]"; "" where
// it is not known.
type FieldError struct {
	Field string
	Msg   string // one clause, lower case, no final dot
}

// Error returns the message with the field before it.
func (e *FieldError) Error() string {
	if e.Field == "" {
		return e.Msg
	}
	return e.Field + ": " + e.Msg
}

// InUseError says that a list cannot go, because rules name it.
type InUseError struct {
	UsedBy []string // one phrase a place, as `rule "Never on the ward" of policy "Ward floor"`
}

// Error names the places.
func (e *InUseError) Error() string { return "it is used by " + strings.Join(e.UsedBy, ", ") }

// List is a named, described, reusable set of entries.
type List struct {
	ID          uuid.UUID
	Name        string
	Description string
	Colour      string // one of Colours; "" for none
	Owner       string // who answers for the list, in their own words: a person, a team
	ForStints   bool   // leads may put their groups on it
	EntryCount  int64  // notes not counted
	NoteCount   int64  // lines that are a note alone
	Version     int64  // rises with every edit of the list or its entries
	CreatedAt   time.Time
	UpdatedAt   time.Time
	UpdatedBy   string
	UsedBy      []string // the names of the policies whose rules name the list
}

// ListEdit changes what is said about a list; a nil field stays.
type ListEdit struct {
	Name        *string
	Description *string
	Colour      *string
	Owner       *string
	ForStints   *bool
}

// Colours are those that a list may carry. They are names of inks, not values: the console has one for light and one for dark.
var Colours = []string{"reed", "heather", "rust", "slate", "gorse", "sky", "plum", "sand"}

// Entry is one line of a list as it is kept.
type Entry struct {
	ID      int64     // its place: ids rise along the list
	AddedAt time.Time // when it became as it is
	AddedBy string
	pattern.Entry
}

// FoundEntry is an entry that a search over all lists found.
type FoundEntry struct {
	Entry
	List ListRef
}

// EntryQuery chooses entries of a list. The zero query is all, from the first on.
type EntryQuery struct {
	After int64        // entries with later ids only
	Limit int          // at most this many
	Text  string       // entries whose pattern or note holds this, letter case aside
	Kind  pattern.Kind // entries of this kind
}

// Merging says how entries go into a list. The zero Merging adds them.
type Merging struct {
	// Replace takes out the entries that are not among those given. Those that stay keep what is said about them, and
	// lines that are a note alone stay too: they are somebody's own.
	Replace bool

	// Preview only counts; nothing is kept.
	Preview bool

	// How many changed and how many refused lines the report shows; 0 for MaxShown, less for none.
	Shown int

	// What the change is called in the list's history; "" for added, or replaced.
	What   string
	Detail string
}

// Merged tells what adding entries to a list came to.
type Merged struct {
	Added   int64 // entries that the list did not have
	Updated int64 // entries that it had, with another note or other attributes than those given
	Same    int64 // entries that it had just so
	Notes   int64 // lines that are a note alone, added; those it had are passed over
	Removed int64 // entries taken out, because they were not among those given
}

// Selection names entries of a list: by id, as they are written, or all that a search shows. The zero Selection is none.
type Selection struct {
	IDs  []int64
	Keys []string // see [pattern.Entry.Key]
	All  bool     // those that Text and Kind leave, as in [EntryQuery]
	Text string
	Kind pattern.Kind
}

// EntryEdit changes what is said about entries; a nil field stays. A zero date takes the end away.
type EntryEdit struct {
	Note  *string
	Until *pattern.Date
	Off   *bool
}

// Change is one edit of a list.
type Change struct {
	Version                int64 // of the draft, and of the list from then on
	At                     time.Time
	By                     string
	What                   string // one of the words below
	Detail                 string
	Added, Edited, Removed int64 // entries and notes
}

// What a change did.
const (
	ChangeEarlier   = "earlier" // all that was before changes were recorded
	ChangeMade      = "made"    // the list
	ChangeDescribed = "described"
	ChangeAdded     = "added"
	ChangeReplaced  = "replaced"
	ChangePulled    = "pulled" // from its source
	ChangeEdited    = "edited"
	ChangeRemoved   = "removed"
	ChangeMoved     = "moved"
	ChangeTidied    = "tidied"
	ChangeTakenBack = "taken back"
)

// Difference is an entry that differs between two states of a list.
type Difference struct {
	ID     int64
	Before *pattern.Entry // nil where the entry came in between
	After  *pattern.Entry // nil where it went
}

// Store keeps the draft. An edit that returns nil is kept for good. version is what the caller last saw: where it is not
// 0 and not the object's version any more, the edit is refused with [ErrStale]. by is who edits; where the
// actor may not, nothing is changed and the error is an [*access.DeniedError].
type Store interface {
	Lists(ctx context.Context, after string, limit int) ([]List, error) // by name, letter case aside
	ListByName(ctx context.Context, name string) (List, error)
	List(ctx context.Context, id uuid.UUID) (List, error)
	AddList(ctx context.Context, list ListEdit, by access.Actor) (List, error)
	EditList(ctx context.Context, id uuid.UUID, edit ListEdit, version int64, by access.Actor) (List, error)
	RemoveList(ctx context.Context, id uuid.UUID, version int64, by access.Actor) error

	Entries(ctx context.Context, list uuid.UUID, query EntryQuery) (entries []Entry, total int64, err error)
	FindEntries(ctx context.Context, text string, after int64, limit int) ([]FoundEntry, error) // of all lists, by id
	EachEntry(ctx context.Context, list uuid.UUID, each func(id int64, entry pattern.Entry) error) error

	// KeptAs returns the ids of entries of a list whose pattern is kept just as these texts, by text: how entries that cannot be read
	// are found. It reads the whole list.
	KeptAs(ctx context.Context, id uuid.UUID, texts []string) (map[string][]int64, error)
	MergeEntries(ctx context.Context, list uuid.UUID, batch *Batch, how Merging, version int64, by access.Actor) (List, Merged, error)
	EditEntries(ctx context.Context, list uuid.UUID, which Selection, edit EntryEdit, version int64, by access.Actor) (List, int64, error)
	RemoveEntries(ctx context.Context, list uuid.UUID, which Selection, what string, version int64, by access.Actor) (List, int64, error)  // what is ChangeRemoved or ChangeTidied
	CopyEntries(ctx context.Context, from, to uuid.UUID, which Selection, move bool, version int64, by access.Actor) (List, Merged, error) // returns to

	// Rewrite makes a list just these lines, in this order. No key may stand twice.
	Rewrite(ctx context.Context, list uuid.UUID, lines []pattern.Entry, version int64, by access.Actor) (List, Merged, error)

	History(ctx context.Context, list uuid.UUID, before int64, limit int) ([]Change, error) // the newest first; before 0 begins
	Compare(ctx context.Context, list uuid.UUID, from, to int64, after int64, limit int) (found []Difference, total int64, err error)
	TakeBack(ctx context.Context, list uuid.UUID, to, version int64, by access.Actor) (List, error)
}

// MaxText is how many lines a list may have at most to be edited as one text. A browser's editor stays quick with so many.
const MaxText = 10_000

// MaxName is the longest name, in characters: what fits a table's column on a screen of 1280 pixels.
const MaxName = 80

// CheckName trims a name and refuses one that cannot be shown or typed. Field is the path to complain about.
func CheckName(field, name string) (string, error) {
	name = strings.TrimSpace(name)
	switch {
	case name == "":
		return "", &FieldError{field, "a name is wanted"}
	case utf8.RuneCountInString(name) > MaxName:
		return "", &FieldError{field, fmt.Sprintf("longer than %d characters", MaxName)}
	case strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }) || !utf8.ValidString(name):
		return "", &FieldError{field, "holds characters that cannot be shown"}
	}
	if err := readable.Check(name); err != nil {
		return "", &FieldError{field, err.Error()}
	}
	return name, nil
}

// MaxDescription is the longest description, in characters.
const MaxDescription = 2000

// Checked returns the edit with its name trimmed, or says what is wrong with it.
func (e ListEdit) Checked() (ListEdit, error) {
	if e.Name != nil {
		name, err := CheckName("name", *e.Name)
		if err != nil {
			return e, err
		}
		e.Name = &name
	}
	if e.Colour != nil && *e.Colour != "" && !slices.Contains(Colours, *e.Colour) {
		return e, &FieldError{"colour", "no such colour; there are " + strings.Join(Colours, ", ")}
	}
	if e.Owner != nil && *e.Owner != "" {
		owner, err := CheckName("owner", *e.Owner)
		if err != nil {
			return e, err
		}
		e.Owner = &owner
	}
	return e, checkDescription(e.Description)
}

func checkDescription(text *string) error {
	if text != nil && utf8.RuneCountInString(*text) > MaxDescription {
		return &FieldError{"description", fmt.Sprintf("longer than %d characters", MaxDescription)}
	}
	return nil
}

package revision

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/internal/access"
)

// Correction says that what an entry covers has certain categories, whatever the catalogue says.
type Correction struct {
	ID         int64
	UID        uuid.UUID // the same for as long as something is said about the entry
	Entry      pattern.Pattern
	Categories []string // keys
	Reason     string
	At         time.Time
	By         string
}

// OwnCategory is a category of our own. Its members are what is in its lists.
type OwnCategory struct {
	ID          uuid.UUID
	Key         string // made from its first name; it stays
	Name        string
	Description string
	Family      string // the key of a family; "" for none
	Lists       []ListRef
	Adds        bool // to what the catalogue says, instead of standing in its place
	Version     int64
	UpdatedAt   time.Time
	UpdatedBy   string
}

// OwnCategoryEdit changes a category of our own; a nil field stays.
type OwnCategoryEdit struct {
	Name        *string
	Description *string
	Family      *string
	Lists       *[]uuid.UUID
	Adds        *bool
}

// Scorecard is words with points; see [classify.Scorecard].
type Scorecard struct {
	ID          uuid.UUID
	Name        string
	Description string
	Category    string // key
	Threshold   int
	Terms       []Term
	Off         bool
	Version     int64
	UpdatedAt   time.Time
	UpdatedBy   string
}

// Term is a word of a scorecard.
type Term struct {
	Word   string `json:"word"` // as the notation writes it between its quotation marks
	Points int    `json:"points"`
}

// ScorecardEdit changes a scorecard; a nil field stays.
type ScorecardEdit struct {
	Name        *string
	Description *string
	Category    *string
	Threshold   *int
	Terms       *[]Term
	Off         *bool
}

// CategoryStore keeps corrections, categories of our own and scorecards. See [Store] for version and by.
type CategoryStore interface {
	Corrections(ctx context.Context, text string, after int64, limit int) (found []Correction, total int64, err error) // by id
	AddCorrections(ctx context.Context, entries []pattern.Pattern, categories []string, reason string, by access.Actor) ([]Correction, error)
	RemoveCorrection(ctx context.Context, id int64, by access.Actor) error

	OwnCategories(ctx context.Context) ([]OwnCategory, error) // by name
	AddOwnCategory(ctx context.Context, made OwnCategoryEdit, by access.Actor) (OwnCategory, error)
	EditOwnCategory(ctx context.Context, id uuid.UUID, edit OwnCategoryEdit, version int64, by access.Actor) (OwnCategory, error)
	RemoveOwnCategory(ctx context.Context, id uuid.UUID, version int64, by access.Actor) error

	Scorecards(ctx context.Context) ([]Scorecard, error) // by name
	AddScorecard(ctx context.Context, made ScorecardEdit, by access.Actor) (Scorecard, error)
	EditScorecard(ctx context.Context, id uuid.UUID, edit ScorecardEdit, version int64, by access.Actor) (Scorecard, error)
	RemoveScorecard(ctx context.Context, id uuid.UUID, version int64, by access.Actor) error
}

// Local is corrections, categories of our own and scorecards, as trials need them.
type Local struct {
	Corrections []Correction
	Own         []OwnCategory
	Scorecards  []Scorecard
}

// KeyOf makes the key of a category from its name: "Ward links (day)" becomes ward-links-day. The key is not valid if the name holds
// no character that a key may have.
func KeyOf(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') })
	key := strings.Join(words, "-")
	if len(key) > classify.MaxKey {
		key = strings.Trim(key[:classify.MaxKey], "-")
	}
	return key
}

// CheckReason trims a reason and refuses one that says nothing.
func CheckReason(reason string) (string, error) {
	reason = strings.TrimSpace(reason)
	switch {
	case reason == "":
		return "", &FieldError{"reason", "say why, so that somebody else can tell later whether it still holds"}
	case utf8.RuneCountInString(reason) > MaxDescription:
		return "", &FieldError{"reason", fmt.Sprintf("longer than %d characters", MaxDescription)}
	}
	return reason, nil
}

// Checked returns the edit with its name trimmed, or says what is wrong with it. It does not check that family and lists exist.
func (e OwnCategoryEdit) Checked() (OwnCategoryEdit, error) {
	edit, err := ListEdit{Name: e.Name, Description: e.Description}.Checked()
	e.Name = edit.Name
	if err == nil && e.Lists != nil && len(*e.Lists) == 0 {
		err = &FieldError{"lists", "a category without lists has no members: name at least one"}
	}
	if err == nil && e.Name != nil && !classify.ValidKey(KeyOf(*e.Name)) {
		err = &FieldError{"name", "a name with letters a to z or digits is wanted, other than unrated"}
	}
	return e, err
}

// MaxTerms and MaxPoints bound scorecards.
const (
	MaxTerms  = 5000
	MaxPoints = 10_000
)

// Checked returns the edit with its name trimmed and its words as the notation has them, or says what is wrong with it.
func (e ScorecardEdit) Checked() (ScorecardEdit, error) {
	edit, err := ListEdit{Name: e.Name, Description: e.Description}.Checked()
	e.Name = edit.Name
	switch {
	case err != nil:
		return e, err
	case e.Threshold != nil && (*e.Threshold < 1 || *e.Threshold > MaxPoints):
		return e, &FieldError{"threshold", fmt.Sprintf("between 1 and %d are possible", MaxPoints)}
	case e.Terms == nil:
		return e, nil
	case len(*e.Terms) > MaxTerms:
		return e, &FieldError{"terms", fmt.Sprintf("more than %d words", MaxTerms)}
	}
	terms, known := slices.Clone(*e.Terms), map[string]int{}
	for i, term := range terms {
		at := fmt.Sprintf("terms[%d]", i)
		word, err := ParseWord(term.Word)
		if err != nil {
			return e, &FieldError{at + ".word", err.Error()}
		}
		if before, ok := known[word.Key()]; ok {
			return e, &FieldError{at + ".word", fmt.Sprintf("%s is there already, as word %d", word, before+1)}
		}
		known[word.Key()] = i
		if term.Points == 0 || term.Points > MaxPoints || term.Points < -MaxPoints {
			return e, &FieldError{at + ".points", fmt.Sprintf("points are between -%d and %d, and not 0", MaxPoints, MaxPoints)}
		}
		terms[i].Word = strings.Trim(word.String(), `"`)
	}
	e.Terms = &terms
	return e, nil
}

// ParseWord reads a word of a scorecard, with or without quotation marks.
func ParseWord(text string) (pattern.Pattern, error) {
	text = strings.TrimSpace(text)
	if !strings.HasPrefix(text, `"`) {
		text = `"` + text + `"`
	}
	entry, err := pattern.Parse(text)
	if err != nil {
		return pattern.Pattern{}, err
	}
	if entry.Kind() != pattern.Word || entry.CarveOut || entry.Off || entry.Note != "" || !entry.Until.IsZero() {
		return pattern.Pattern{}, fmt.Errorf("%s is not a word", text)
	}
	return entry.Pattern, nil
}

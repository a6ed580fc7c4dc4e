package standing

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// Passage says that somebody has come past a hold, by acknowledging it or with a code, for a while.
type Passage struct {
	ID          uuid.UUID
	Rule        uuid.UUID  // that was acknowledged, or the policy whose otherwise it was; the zero id for a code
	Code        uuid.UUID  // that was entered; the zero id for an acknowledgement
	Person      uuid.UUID  // the zero id where nobody is known: the passage is the address's then
	Address     netip.Addr // not valid where it is the person's
	Entries     []pattern.Entry
	Categories  []string // keys, of families too, besides the entries
	From, Until time.Time
	Reference   string // of the page that was held

	// Idle is how long it lasts without being used; zero for as long as it lasts. Until is then the end if it is not used from now on, and Ends the last one.
	Idle time.Duration
	Ends time.Time
}

// Name says what is opened, in a few words.
func (p *Passage) Name() string { return openedName(p.Entries, p.Categories) }

// openedName names entries and categories; there is at least one of either.
func openedName(entries []pattern.Entry, categories []string) string {
	if len(entries) == 0 {
		return "everything in " + strings.Join(categories, ", ")
	}
	if len(categories) > 0 {
		return nameOf(entries) + ", and everything in " + strings.Join(categories, ", ")
	}
	return nameOf(entries)
}

// unlocked returns what the passage opens, as the core has it.
func (p *Passage) unlocked() policy.Unlocked {
	u := policy.Unlocked{Addr: p.Address, From: p.From, Until: p.Until, Categories: p.Categories}
	if p.Idle > 0 {
		u.ID = p.ID.String()
	}
	if p.Person != uuid.Nil {
		u.Person, u.Addr = p.Person.String(), netip.Addr{}
	}
	for _, e := range p.Entries {
		if e.Err() == nil {
			u.Entries = append(u.Entries, e)
		}
	}
	return u
}

// put adds the passage to facts.
func (p *Passage) put(facts *policy.Facts) {
	if p.Code != uuid.Nil {
		facts.Unlocked = append(facts.Unlocked, p.unlocked())
		return
	}
	facts.Acknowledged = append(facts.Acknowledged, policy.Acknowledged{Rule: p.Rule.String(), Unlocked: p.unlocked()})
}

// Code opens held pages to whoever enters it. Only its hash is kept.
type Code struct {
	ID uuid.UUID
	CodeBody
	Used    int
	MadeAt  time.Time
	MadeBy  string
	EndedAt *time.Time // before its time; nil where nobody ended it
}

// CodeBody is what a code is for.
type CodeBody struct {
	Entries    []pattern.Entry    `json:"entries,omitempty" maxItems:"20" doc:"What it opens, in the notation; left out: the page at which it is entered"`
	Categories []string           `json:"categories,omitempty" maxItems:"20" doc:"Keys of categories and families: everything in them is opened, too"`
	Everything bool               `json:"everything,omitempty" doc:"Everything below the baseline is opened"`
	For        *revision.WhomBody `json:"for,omitempty" doc:"Who may enter it: persons and groups; left out, whoever has it"`
	Minutes    int                `json:"minutes" minimum:"1" maximum:"1440" doc:"For how long it opens that"`
	Idle       int                `json:"idle,omitempty" minimum:"0" maximum:"1440" doc:"It closes again after so many minutes in which nothing is opened; left out: only at its end"`
	Uses       int                `json:"uses" minimum:"1" maximum:"1000" doc:"How often it can be entered"`
	Until      time.Time          `json:"until" doc:"Until when it can be entered; within 90 days"`
	Reason     string             `json:"reason" minLength:"1" maxLength:"2000"`
}

// Name says what the code opens, in a few words.
func (b *CodeBody) Name() string {
	switch {
	case b.Everything:
		return "everything below the baseline"
	case len(b.Entries)+len(b.Categories) == 0:
		return "the page at which it is entered"
	}
	return openedName(b.Entries, b.Categories)
}

// SaysWhat reports whether the code says what it opens, so that it can be entered at pages that are blocked, too, and not only at those that a rule holds for a code.
func (b *CodeBody) SaysWhat() bool { return b.Everything || len(b.Entries)+len(b.Categories) > 0 }

// Reach returns how much the code opens.
func (b *CodeBody) Reach() access.Reach {
	switch {
	case b.Everything || len(b.Categories) > 0:
		return access.Everything
	case len(b.Entries) == 0:
		return access.Page
	}
	return ReachOf(b.Entries)
}

// everything is the entry that covers all URLs.
var everything = pattern.MustParse("*")

// Opens returns what the code opens; nothing where that is the page at which it is entered.
func (b *CodeBody) Opens() (entries []pattern.Entry, categories []string) {
	if b.Everything {
		return []pattern.Entry{everything}, nil
	}
	return b.Entries, b.Categories
}

// Check puts a code into the form in which it is kept, or says what is wrong with it as a [*revision.FieldError].
func (b *CodeBody) Check(now time.Time) error {
	b.Reason = strings.TrimSpace(b.Reason)
	for _, e := range b.Entries {
		switch {
		case e.Err() != nil:
			return &revision.FieldError{Field: "entries", Msg: e.Err().Error()}
		case e.CarveOut:
			return &revision.FieldError{Field: "entries", Msg: "a code opens what it names: it has no carve-outs"}
		}
	}
	if b.For != nil {
		if b.For.Everybody || len(b.For.Networks)+len(b.For.Addresses) > 0 {
			return &revision.FieldError{Field: "for", Msg: "a code is for persons and groups, or for whoever has it"}
		}
		if len(b.For.Persons)+len(b.For.Groups) == 0 {
			b.For = nil
		}
	}
	if b.Everything && len(b.Entries)+len(b.Categories) > 0 {
		return &revision.FieldError{Field: "everything", Msg: "a code that opens everything names nothing else"}
	}
	switch {
	case b.Reason == "":
		return &revision.FieldError{Field: "reason", Msg: "say what the code is for"}
	case !b.Until.After(now):
		return &revision.FieldError{Field: "until", Msg: "a code ends after it is made: name a moment to come"}
	case b.Until.Sub(now) > Longest:
		return &revision.FieldError{Field: "until", Msg: "a code can be entered for 90 days at most"}
	}
	return nil
}

// NewCode returns the text of a new code: 60 random bits, in three groups.
func NewCode() string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it cannot fail
	text := base32.StdEncoding.EncodeToString(b[:])[:12]
	return text[:4] + "-" + text[4:8] + "-" + text[8:]
}

// HashCode returns the hash of a code as people enter it: letter case, blanks and hyphens do not count. A code has too many random bits to be guessed from it.
func HashCode(text string) []byte {
	plain := strings.NewReplacer(" ", "", "-", "").Replace(strings.ToUpper(text))
	hash := sha256.Sum256([]byte(plain))
	return hash[:]
}

// ErrCode is the error of a code that opens nothing: there is none, or it has ended, was used up, or is for other pages.
var ErrCode = errors.New("this code does not open the page")

// Passages keeps who has come past holds, and the codes that they came with.
type Passages interface {
	// AddPassage adds an acknowledgement.
	AddPassage(ctx context.Context, p Passage, by access.Actor) (Passage, error)

	// EndPassage ends a passage now. One that is over stays as it is.
	EndPassage(ctx context.Context, id uuid.UUID, by access.Actor) error
	Passages(ctx context.Context, endAfter time.Time) ([]Passage, error) // the one made last first

	AddCode(ctx context.Context, c CodeBody, hash []byte, by access.Actor) (Code, error)
	EndCode(ctx context.Context, id uuid.UUID, by access.Actor) (Code, error)
	Codes(ctx context.Context, endAfter time.Time) ([]Code, error) // the one made last first

	// CountTry counts a try to enter a code by somebody, unless there were most since a moment: then it reports false.
	CountTry(ctx context.Context, who string, at, since time.Time, most int, by access.Actor) (bool, error)

	// ForgetTries forgets the tries of somebody, whose code was right.
	ForgetTries(ctx context.Context, who string, by access.Actor) error

	// UseCode enters a code with a hash: it adds the passage that choose returns for it, and counts the use. The error wraps [ErrCode] where it opens nothing.
	UseCode(ctx context.Context, hash []byte, choose func(c Code) (Passage, error), by access.Actor) (Passage, error)
}

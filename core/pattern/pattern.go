// Package pattern is the notation in which entries of lists are written: it parses, prints and explains them.
//
// From: a line that somebody typed, pasted or keeps in a file.
// To: [Entry], whose [Pattern] package match compiles.
//
// One entry a line:
//
//	heron.example                     site: that host and every host below it
//	=heron.example                    host: that host only
//	*.heron.example                   below: hosts below it, at any depth, not itself
//	heron.*                           any ending: "heron" directly before any public suffix, and hosts below
//	=heron.*  *.heron.*               the same without the hosts below; only the hosts below
//	heron.example/wards               page tree: /wards and everything under /wards/, on the site
//	~ REGEX  ~host REGEX  ~path REGEX regex: RE2 syntax, unanchored, on the URL, the host, path and query
//	! ENTRY                           carve-out: taken out of the list, whatever else in it covers it
//
// After the pattern, attributes may stand in square brackets ([until 2026-12-24], [off], [until 2026-12-24, off])
// and, after white space, a note (# why it is here). Letter case never matters. A line that holds only a note is
// kept as a note in its place.
//
// What the notation will have and has not yet (exact pages, globs, queries, schemes, ports, addresses, words) is
// recognised and refused with the code [NotYet], so that it never means something else in the meantime.
package pattern

import (
	"strings"
	"time"

	"widelark/core/weburl"
)

// Kind is what sort of pattern an entry has, or that it is a note.
type Kind string

// The kinds, in the order in which the notation introduces them.
const (
	Site      Kind = "site"
	Host      Kind = "host"
	Below     Kind = "below"
	AnyEnding Kind = "any-ending"
	PageTree  Kind = "page-tree"
	Regex     Kind = "regex"
	Note      Kind = "note" // a line that holds only a note
)

// Kinds lists every kind.
var Kinds = []Kind{Site, Host, Below, AnyEnding, PageTree, Regex, Note}

// Scope says which hosts a host pattern covers, seen from the name that it holds.
type Scope uint8

// The scopes.
const (
	AndBelow  Scope = iota // the name and every host below it
	Only                   // the name only
	BelowOnly              // hosts below the name, at any depth, not the name itself
)

// Target is the part of a URL that a regex is applied to.
type Target uint8

// The targets.
const (
	OnURL  Target = iota // the whole canonical URL
	OnHost               // the host
	OnPath               // the path, with the query where there is one
)

// MaxLength is the longest pattern, in bytes. PostgreSQL refuses index rows above a third of an 8 KiB page
// (2,704 bytes); the list's id and the headers take some 60 of them.
const MaxLength = 2048

// Pattern is one pattern of the notation. It is comparable; == is sameness as written. [Pattern.Key] is sameness of
// meaning. The zero Pattern is not valid.
type Pattern struct {
	kind   Kind
	scope  Scope
	ending bool   // the name stands before any public suffix
	typed  string // the name as typed, in lower case, without wildcards
	ascii  string // the name in ASCII form
	path   string // as typed, in canonical escapes, without a final slash; "" where there is none
	target Target
	expr   string // the regex as typed
}

// Kind returns what sort of pattern p is.
func (p Pattern) Kind() Kind { return p.kind }

// Scope returns which hosts p covers, seen from [Pattern.Name]. It means nothing for a regex.
func (p Pattern) Scope() Scope { return p.scope }

// EveryEnding reports whether the name stands before any public suffix.
func (p Pattern) EveryEnding() bool { return p.ending }

// Name returns the host that p holds, in ASCII form, without wildcards; "" for a regex.
func (p Pattern) Name() string { return p.ascii }

// FoldedPath returns the path that p holds in the form in which paths are compared (see [weburl.FoldPath]),
// without a final slash; "" where p holds none.
func (p Pattern) FoldedPath() string { return weburl.FoldPath(p.path) }

// Expr returns the regular expression as typed, and what it is applied to. Letter case is to be ignored.
func (p Pattern) Expr() (string, Target) { return p.expr, p.target }

// IsValid reports whether p was parsed.
func (p Pattern) IsValid() bool { return p.kind != "" }

// Key returns the pattern in the form in which patterns are compared: hosts in ASCII, letter case folded. Two
// patterns with one key mean the same.
func (p Pattern) Key() string {
	if p.kind == Regex {
		return p.String()
	}
	return p.text(p.ascii, p.FoldedPath())
}

// String returns the pattern as the notation writes it. Parsing that gives p again.
func (p Pattern) String() string {
	if p.kind == Regex {
		return [...]string{OnURL: "~ ", OnHost: "~host ", OnPath: "~path "}[p.target] + p.expr
	}
	return p.text(p.typed, p.path)
}

func (p Pattern) text(name, path string) string {
	if !p.IsValid() {
		return ""
	}
	var b strings.Builder
	b.Grow(len(name) + len(path) + 4)
	b.WriteString([...]string{AndBelow: "", Only: "=", BelowOnly: "*."}[p.scope])
	b.WriteString(name)
	if p.ending {
		b.WriteString(".*")
	}
	b.WriteString(path)
	return b.String()
}

// Date is a calendar day. The zero Date means that no day is given.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// DateOf returns the day that at falls on, in at's own location.
func DateOf(at time.Time) Date {
	y, m, d := at.Date()
	return Date{y, m, d}
}

// ParseDate reads a day written as 2026-12-24 (RFC 3339, full-date).
func ParseDate(text string) (Date, error) {
	at, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return Date{}, err
	}
	return DateOf(at), nil
}

// IsZero reports whether no day is given.
func (d Date) IsZero() bool { return d == Date{} }

// Time returns midnight UTC at the start of the day, for stores that keep days as instants.
func (d Date) Time() time.Time { return time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC) }

// String returns the day as 2026-12-24, "" for the zero Date.
func (d Date) String() string {
	if d.IsZero() {
		return ""
	}
	return d.Time().Format(time.DateOnly)
}

// Entry is one line of a list: a pattern with what is said about it, or a note alone. It is comparable. The zero
// Entry is an empty line.
type Entry struct {
	Pattern  Pattern // not valid where the line is a note alone
	CarveOut bool    // the pattern is taken out of the list
	Until    Date    // the last day on which the entry is in force, in the organisation's zone; zero: no end
	Off      bool    // the entry is kept, but not in force
	Note     string  // without "#"; "" where there is none
}

// Kind returns the kind of the pattern, or [Note].
func (e Entry) Kind() Kind {
	if !e.Pattern.IsValid() {
		return Note
	}
	return e.Pattern.Kind()
}

// InForce reports whether the entry counts on a day.
func (e Entry) InForce(today Date) bool {
	return !e.Off && e.Pattern.IsValid() && (e.Until.IsZero() || !e.Until.Time().Before(today.Time()))
}

// Key returns what makes the entry the same as another of its list: the pattern's key, and whether it is a carve-out.
// It is "" for a note.
func (e Entry) Key() string {
	if e.CarveOut {
		return "! " + e.Pattern.Key()
	}
	return e.Pattern.Key()
}

// String returns the line as the notation writes it. Parsing that gives e again.
func (e Entry) String() string {
	var b strings.Builder
	if e.Pattern.IsValid() {
		if e.CarveOut {
			b.WriteString("! ")
		}
		b.WriteString(e.Pattern.String())
		switch until := "until " + e.Until.String(); {
		case e.Off && !e.Until.IsZero():
			b.WriteString(" [" + until + ", off]")
		case e.Off:
			b.WriteString(" [off]")
		case !e.Until.IsZero():
			b.WriteString(" [" + until + "]")
		}
		if e.Note != "" {
			b.WriteByte(' ')
		}
	}
	if e.Note != "" {
		b.WriteString("# " + e.Note)
	}
	return b.String()
}

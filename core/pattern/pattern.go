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
//	shop-*.heron.example  *heron*     host glob: "*" is any run of host characters, dots included
//	heron.example/wards               page tree: /wards and everything under /wards/, on the site
//	=heron.example/wards              page: exactly that page on exactly that host
//	heron.example/*/map               path glob: "*" within a segment, "**" across segments
//	heron.example/find?q=*boat*       query: also a parameter q whose decoded value matches
//	http://heron.example              scheme: only over that scheme
//	heron.example:8443                port: only on that port
//	203.0.113.0/24  2001:db8::7       address: URLs whose host is an address in the range
//	"betting"  "bet*"                 word: standing alone in host, path or query; beginning so
//	~ REGEX  ~host REGEX  ~path REGEX regex: RE2 syntax, unanchored, on the URL, the host, path and query
//	*                                 everything
//	! ENTRY                           carve-out: taken out of the list, whatever else in it covers it
//
// After the pattern and white space, attributes may stand in square brackets ([until 2026-12-24], [off], [until 2026-12-24,
// off]) and, after white space, a note (# why it is here). Letter case never matters. A line that holds only a note is
// kept as a note in its place.
//
// Hosts: a first label that is "*" alone stands for one or more labels, a last label that is "*" alone for one whole
// public suffix. A pattern without "=" also covers every host below the hosts it names. But for "*" alone, no host
// pattern covers a host that is an address.
//
// Paths: a segment that is "*" alone is exactly one segment, one that is "**" alone any number of them. A final slash
// says nothing. Without "=" a path covers itself and everything below it, at a segment boundary; with it, exactly that page, on
// exactly the hosts that the host names (=*.heron.example/a: the page on each host below). heron.example/ is heron.example;
// =heron.example/ is the front page.
package pattern

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"widelark/core/weburl"
)

// Kind is what sort of pattern an entry has, or that it is a note. Where several apply (a page on a port), it is the one
// that narrows most: query, then path, port, scheme, host.
type Kind string

// The kinds, in the order in which the notation introduces them.
const (
	Site       Kind = "site"
	Host       Kind = "host"
	Below      Kind = "below"
	AnyEnding  Kind = "any-ending"
	HostGlob   Kind = "host-glob"
	PageTree   Kind = "page-tree"
	Page       Kind = "page"
	PathGlob   Kind = "path-glob"
	Query      Kind = "query"
	Scheme     Kind = "scheme"
	Port       Kind = "port"
	Address    Kind = "address"
	Word       Kind = "word"
	Regex      Kind = "regex"
	Everything Kind = "everything"
	Note       Kind = "note" // a line that holds only a note

	// Unreadable is a text that was kept as an entry and is none: see [Unread]. It covers nothing.
	Unreadable Kind = "unreadable"
)

// Kinds lists every kind that [Parse] gives.
var Kinds = []Kind{
	Site, Host, Below, AnyEnding, HostGlob, PageTree, Page, PathGlob, Query, Scheme, Port, Address, Word, Regex, Everything, Note,
}

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
	scheme string       // "http", "https"; "" for both
	every  bool         // every host, addresses too: "*" alone
	scope  Scope        // which hosts; AndBelow where the pattern holds no name
	exact  bool         // the page of path only, not what is below it
	ending bool         // the name stands before any public suffix
	typed  string       // the name as typed, in lower case; the wildcards that scope and ending say are left out
	ascii  string       // the name in ASCII form; where it holds "*" and letters beyond ASCII, in Unicode form
	addr   netip.Prefix // for addresses; a single one has all bits
	port   uint16       // 0 for every port
	path   string       // as typed, in canonical escapes, without a final slash; "/" for the front page, "" where there is none
	query  string       // as typed, in canonical escapes, without "?"; "" where there is none
	word   string       // as typed, with its stars, without its quotation marks
	target Target
	expr   string // the regex as typed
}

// Kind returns what sort of pattern p is.
func (p Pattern) Kind() Kind { return p.kind }

// Scope returns which hosts p covers, seen from [Pattern.Name].
func (p Pattern) Scope() Scope { return p.scope }

// EveryEnding reports whether the name stands before any public suffix.
func (p Pattern) EveryEnding() bool { return p.ending }

// Name returns the host that p holds, in ASCII form, without the wildcards that [Pattern.Scope] and
// [Pattern.EveryEnding] say. Where it still holds a "*", it is a glob. It is "" where p holds no name.
func (p Pattern) Name() string { return p.ascii }

// EveryHost reports whether p is about every host, addresses too.
func (p Pattern) EveryHost() bool { return p.every }

// IsGlob reports whether the name is a glob.
func (p Pattern) IsGlob() bool { return strings.Contains(p.ascii, "*") }

// Prefix returns the range of addresses that p is about; it is not valid where p is about names.
func (p Pattern) Prefix() netip.Prefix { return p.addr }

// SchemeAndPort returns what p is bound to: "" for both schemes, 0 for every port.
func (p Pattern) SchemeAndPort() (scheme string, port uint16) { return p.scheme, p.port }

// FoldedPath returns the path that p holds in the form in which paths are compared (see [weburl.FoldPath]),
// without a final slash; "/" where p is about the front page, "" where p holds none. Where it holds a "*", it is a glob.
func (p Pattern) FoldedPath() string { return weburl.FoldPath(p.path) }

// ExactPage reports whether p covers the page of its path only, not those below it.
func (p Pattern) ExactPage() bool { return p.exact }

// Expr returns the regular expression as typed, and what it is applied to. Letter case is to be ignored.
func (p Pattern) Expr() (string, Target) { return p.expr, p.target }

// IsValid reports whether p was parsed, and covers something.
func (p Pattern) IsValid() bool { return p.kind != "" && p.kind != Unreadable }

// Unread returns what stands for a kept text that cannot be read: it prints as the text, so that it can be shown, written to files
// and mended, and covers nothing.
func Unread(text string) Pattern { return Pattern{kind: Unreadable, expr: text} }

// Named returns the pattern of a literal host alone: a [Site], a [Host] or a [Below], by its scope. Precondition: name is a
// host name in ASCII form as [Pattern.Name] gives it, without wildcards; it is not looked at again.
func Named(name string, scope Scope) Pattern {
	return Pattern{kind: [...]Kind{AndBelow: Site, Only: Host, BelowOnly: Below}[scope], scope: scope, typed: name, ascii: name}
}

// WithPath returns a pattern for a path on the hosts of p: with everything below it, or, where the path begins with "=", exactly that
// page. It has no form of its own in the notation where the hosts below count too. The error is that of [Parse]. Precondition: p is
// written like a URL.
func (p Pattern) WithPath(path string) (Pattern, error) {
	path, exact := strings.CutPrefix(path, "=")
	entry, err := Parse("heron.example" + path)
	if err != nil {
		return Pattern{}, err
	}
	p.path, p.query, p.exact = entry.Pattern.path, entry.Pattern.query, exact && strings.HasPrefix(path, "/")
	if p.exact && p.path == "" {
		p.path = "/"
	}
	p.kind = p.sort()
	return p, nil
}

// CheckPath refuses what [Pattern.WithPath] does not take.
func CheckPath(path string) error {
	on := strings.TrimPrefix(path, "=")
	if e, err := Parse("heron.example" + on); err != nil || !strings.HasPrefix(on, "/") || e.Note != "" || e.Off || !e.Until.IsZero() {
		return fmt.Errorf("%q is not a path, as /up or /files/*/add, or =/up for that page alone", path)
	}
	return nil
}

// IsNamed reports whether [Named] of its name and scope is p.
func (p Pattern) IsNamed() bool {
	return p.ascii != "" && !p.ending && (p.kind == Site || p.kind == Host || p.kind == Below) && p.typed == p.ascii && !p.IsGlob()
}

// Key returns the pattern in the form in which patterns are compared: hosts in ASCII, letter case folded. Two
// patterns with one key mean the same.
func (p Pattern) Key() string {
	switch p.kind {
	case Regex, Unreadable:
		return p.String()
	case Word:
		return strings.ToLower(p.String())
	}
	return p.text(p.ascii, p.FoldedPath(), queryKey(p.Params()))
}

// String returns the pattern as the notation writes it. Parsing that gives p again.
func (p Pattern) String() string {
	switch p.kind {
	case "":
		return ""
	case Unreadable:
		return p.expr
	case Regex:
		return [...]string{OnURL: "~ ", OnHost: "~host ", OnPath: "~path "}[p.target] + p.expr
	case Word:
		return `"` + p.word + `"`
	}
	return p.text(p.typed, p.path, p.query)
}

func (p Pattern) text(name, path, query string) string {
	if p.kind == Site && !p.ending {
		return name
	}
	var b strings.Builder
	b.Grow(len(name) + len(path) + len(query) + 4)
	if p.scope == Only || p.exact {
		b.WriteByte('=')
	}
	if p.scheme != "" {
		b.WriteString(p.scheme + "://")
	}
	switch {
	case p.every:
		b.WriteByte('*')
	case p.addr.IsValid() && !p.addr.IsSingleIP():
		b.WriteString(p.addr.String())
	case p.addr.IsValid() && p.addr.Addr().Is6() && (p.scheme != "" || p.port != 0 || path != "" || query != ""):
		b.WriteString("[" + p.addr.Addr().String() + "]")
	case p.addr.IsValid():
		b.WriteString(p.addr.Addr().String())
	default:
		if p.scope == BelowOnly {
			b.WriteString("*")
			if name != "" {
				b.WriteByte('.')
			}
		}
		b.WriteString(name)
		if p.ending {
			b.WriteString(".*")
		}
	}
	if p.port != 0 {
		b.WriteString(":" + strconv.Itoa(int(p.port)))
	}
	b.WriteString(path)
	if query != "" {
		b.WriteString("?" + query)
	}
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

// DateOfUnix returns the day in UTC that so many seconds since 1970 fall on: the inverse of [Date.Time] and its Unix.
func DateOfUnix(seconds int64) Date { return DateOf(time.Unix(seconds, 0).UTC()) }

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

// Before reports whether d is an earlier day than other.
func (d Date) Before(other Date) bool {
	return cmp.Or(cmp.Compare(d.Year, other.Year), cmp.Compare(d.Month, other.Month), cmp.Compare(d.Day, other.Day)) < 0
}

// Time returns midnight UTC at the start of the day, for stores that keep days as instants.
func (d Date) Time() time.Time { return time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC) }

// Add returns the day so many days later.
func (d Date) Add(days int) Date { return DateOf(d.Time().AddDate(0, 0, days)) }

// String returns the day as 2026-12-24, "" for the zero Date.
func (d Date) String() string {
	if d.IsZero() {
		return ""
	}
	return d.Time().Format(time.DateOnly)
}

// Keep reads lines as [Parse] does, for where entries are kept: what cannot be read is kept as it is, see [Unread].
func Keep(lines ...string) []Entry {
	entries := make([]Entry, len(lines))
	for i, line := range lines {
		entry, err := Parse(line)
		if err != nil {
			entry = Entry{Pattern: Unread(line)}
		}
		entries[i] = entry
	}
	return entries
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

// MarshalText implements [encoding.TextMarshaler]: an entry travels as its line.
func (e Entry) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// UnmarshalText implements [encoding.TextUnmarshaler]. It takes every line, as [Keep] does: [Entry.Err] says what is wrong with it.
func (e *Entry) UnmarshalText(line []byte) error {
	*e = Keep(string(line))[0]
	return nil
}

// Err says why the entry cannot be read; nil for one that can. The error is that of [Parse].
func (e Entry) Err() error {
	if e.Pattern.kind != Unreadable {
		return nil
	}
	if _, err := Parse(e.Pattern.expr); err != nil {
		return err
	}
	return errors.New("it is not an entry") // read as one now; it is read anew with what holds it
}

// Kind returns the kind of the pattern, or [Note].
func (e Entry) Kind() Kind {
	if e.Pattern.kind == "" {
		return Note
	}
	return e.Pattern.Kind()
}

// InForce reports whether the entry counts on a day.
func (e Entry) InForce(today Date) bool {
	return !e.Off && e.Pattern.IsValid() && (e.Until.IsZero() || !e.Until.Before(today))
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
	if e.Pattern.kind != "" {
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

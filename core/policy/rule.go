// Package policy decides: from everything that is configured, a request and a moment to a verdict, with the steps that led to it.
//
// From: [Config] and a [Request].
// To: [Decision], which costs no allocation, and [Explanation] for people.
//
// The ladder, from the top; the first rung that decides, decides: the baseline; what the person has unlocked; exceptions; stints; the
// policies of the groups that the request belongs to; the fallback.
package policy

import (
	"net/netip"
	"time"

	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// Verdict is what is to become of a request.
type Verdict string

// The verdicts, and what a rule may say beside them.
const (
	Allow Verdict = "allow"
	Watch Verdict = "watch" // allowed and flagged
	Hold  Verdict = "hold"  // blocked until it is unlocked or acknowledged
	Block Verdict = "block"

	Note Verdict = "note" // no verdict: records that the rule matched, and goes on
)

// Verdicts lists every verdict, the loosest first.
var Verdicts = []Verdict{Allow, Watch, Hold, Block}

// strictness orders verdicts.
func (v Verdict) strictness() uint8 {
	switch v {
	case Allow:
		return 0
	case Watch:
		return 1
	case Hold:
		return 2
	}
	return 3
}

// Stricter reports whether the verdict is stricter than another: block before hold before watch before allow.
func (v Verdict) Stricter(than Verdict) bool { return v.strictness() > than.strictness() }

// Passes reports whether a request with the verdict reaches the site.
func (v Verdict) Passes() bool { return v == Allow || v == Watch }

// Gate is a kind of enforcement point.
type Gate string

// The kinds of gates.
const (
	DNS   Gate = "dns"
	Proxy Gate = "proxy"
	ICAP  Gate = "icap"
)

// Gates lists every kind of gate.
var Gates = []Gate{DNS, Proxy, ICAP}

// Provisos are what an allowed request is bound to. The zero Provisos bind to nothing.
type Provisos struct {
	SafeSearch bool
	NoUploads  bool
	SizeCap    int64         // bytes; 0 for none
	Quota      time.Duration // a day; 0 for none
}

// Join returns the stricter of each kind.
func (p Provisos) Join(other Provisos) Provisos {
	p.SafeSearch = p.SafeSearch || other.SafeSearch
	p.NoUploads = p.NoUploads || other.NoUploads
	p.SizeCap = stricter(p.SizeCap, other.SizeCap)
	p.Quota = stricter(p.Quota, other.Quota)
	return p
}

func stricter[T int64 | time.Duration](a, b T) T {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

// Op says what a condition asks.
type Op string

// The conditions. The first three join others; the rest hold where any of their values does.
const (
	All      Op = "all"
	Any      Op = "any"
	None     Op = "none"
	InList   Op = "list"     // ids of lists
	Is       Op = "category" // keys of categories, and of families, which stand for all that is in them
	App      Op = "app"      // keys of apps, and of activities as app/activity
	HasTrait Op = "trait"    // see [Traits]
	Method   Op = "method"   // of HTTP, in upper case
	File     Op = "file"     // kinds of files (see [FileKinds]), and endings as .zip
	Search   Op = "search"   // words in the notation, in what is searched for
	Points   Op = "score"    // the id of a scorecard that reaches AtLeast points
)

// Cond is a condition, or a tree of them. The zero Cond holds always.
type Cond struct {
	Op      Op
	Of      []Cond   // All, Any, None
	Values  []string // the others
	AtLeast int      // Points; 0 for the scorecard's threshold
}

// Lists returns the lists of which the condition asks that the URL is in one, parts of [None] aside.
func (c Cond) Lists() []string {
	if c.Op == InList {
		return c.Values
	}
	var lists []string
	if c.Op != None {
		for _, part := range c.Of {
			lists = append(lists, part.Lists()...)
		}
	}
	return lists
}

// Trait is a plain fact of a request.
type Trait string

// Traits lists every trait.
var Traits = []Trait{RawAddress, PlainHTTP, Unrated, OddPort, UserInfo, Punycode, TwoNames, NotTLS}

// The traits.
const (
	RawAddress Trait = "raw-address" // the host is an address
	PlainHTTP  Trait = "plain-http"
	Unrated    Trait = "unrated" // nothing says what it is
	OddPort    Trait = "odd-port"
	UserInfo   Trait = "user-info" // a name or a password stands before the host
	Punycode   Trait = "punycode"  // the host has a label in another script
	TwoNames   Trait = "two-names" // the client names another host than the one that it is connected to; see [Request.TwoNames]
	NotTLS     Trait = "not-tls"   // neither TLS nor HTTP comes through the tunnel; see [Request.NotTLS]
)

// When says when a rule holds. The zero When is always.
type When struct {
	Schedule string // the id of a schedule; "" for always
	Outside  bool   // while the schedule is not in force
}

// Rule gives its verdict to every request that meets its condition, at its times and gates.
type Rule struct {
	ID   string // stays through edits, moves and renames
	Name string
	Off  bool
	When When
	If   Cond
	At   []Gate // none: every gate
	Then Verdict
	With Provisos

	Left    Leave         // with Hold
	LeftFor time.Duration // that people who have come past a hold are let past it; 0 for [PassedFor]
}

// PassedFor is for how long people come past a hold where its rule does not say.
const PassedFor = time.Hour

// Leave says how people come past a hold rule.
type Leave string

// The ways past a hold.
const (
	Acknowledging Leave = "" // they read why, and go on
	ByCode        Leave = "code"
)

// Inspection says which TLS sites of a policy's requests are opened, so that the whole URL is seen.
type Inspection struct {
	All        bool     // else none, whatever stands below
	ButLists   []string // ids of lists
	Categories []string // keys of categories and families

	Pages bool // a connection that is refused is opened all the same, only to show the page that says so
}

// Policy is ordered rules and what holds where none of them decides, given to groups. The zero Policy is not valid: it has no otherwise.
type Policy struct {
	ID, Name  string
	Groups    []string // ids
	Rules     []Rule
	Otherwise Verdict
	Inspect   Inspection
	Records   Recording
	Page      Page

	Names NameAnswer // what the DNS gate answers for names that are refused

	BlocksUnheld bool // what a rule allows with provisos is blocked where the gate cannot hold them; else it passes without them
}

// Page is what a policy says on the pages that people see in place of what is refused. Of the policies of a request the first in order says it, else the fallback.
// A logo that it does not have, and whom to ask, are as the fallback says.
type Page struct {
	PageWords
	Logo     string // as a data URL (RFC 2397); "" for none
	Redirect string // a URL where blocked pages lead in place of the block page; "" for none

	In map[string]PageWords // in other languages, by their tags (BCP 47)
}

// NameAnswer is what the DNS gate answers for a name that is refused.
type NameAnswer string

// The answers for refused names.
const (
	NoSuchName    NameAnswer = ""        // the name does not exist or, where names below it may be open, has no such records
	RefusedName   NameAnswer = "refused" // the question is refused
	PageOfRefused NameAnswer = "page"    // the address of the page that says so
)

// PageWords are what a policy says on pages, in one language.
type PageWords struct {
	Title   string // in place of the gate's own; "" for that
	Text    string // to whoever reads it; "" for none
	Contact string // whom to ask; "" for the help desk
}

// Combining says which policy counts where a request has several.
type Combining string

// The ways of combining.
const (
	Position  Combining = "position"  // the first in order
	Strictest Combining = "strictest" // the strictest verdict; among equals the first in order
	Loosest   Combining = "loosest"
)

// Whom says for whom an exception is. It fits a request that any of its parts fits.
type Whom struct {
	Everybody bool
	Persons   []string // ids, as are Groups and Networks
	Groups    []string
	Networks  []string
	Ranges    []netip.Prefix
}

// Exception allows or blocks some URLs for some people, for some time.
type Exception struct {
	ID, Name string
	Entries  []pattern.Entry
	Then     Verdict // Allow or Block
	For      Whom
	From     time.Time // zero: from the beginning
	Until    time.Time // zero: without end; the moment itself is outside
	Reason   string
	Off      bool
	Grant    bool // it was made at once, and is not part of what is published; see [Facts]
}

// Unlocked says that a person, or who sits at an address, has entered a code for some URLs.
type Unlocked struct {
	ID          string // "" where nobody asks whether it is used; see [Snapshot.Idles]
	Entries     []pattern.Entry
	Categories  []string // keys, of families too: what is in one of these is unlocked as well
	Person      string   // an id
	Addr        netip.Addr
	From, Until time.Time
}

// StintKind says what a stint does.
type StintKind string

// The kinds of stints.
const (
	OnlyThese StintKind = "only"    // what is in its lists is allowed, all else blocked
	ButThese  StintKind = "but"     // what is in its lists is blocked; all else goes on down the ladder
	Paused    StintKind = "nothing" // everything is blocked
)

// Says says what a stint of the kind does, in a few words.
func (k StintKind) Says() string {
	switch k {
	case OnlyThese:
		return "only chosen lists"
	case ButThese:
		return "all but chosen lists"
	}
	return "the web is paused"
}

// Stint puts a group, or some of it, on chosen lists for a limited time.
type Stint struct {
	ID          string
	Group       string   // an id
	Persons     []string // ids: of the group, for these alone; nil for all of it, people who are not known among them
	Done        []string // ids: for these it is over
	Kind        StintKind
	Lists       []string        // ids
	Entries     []pattern.Entry // besides the lists
	From, Until time.Time
	By          string // who put it there
}

// Activity is something that an app is used for: some methods, on some pages.
type Activity struct {
	Key, Name string
	Methods   []string        // none: any
	Entries   []pattern.Entry // none: all of the app's hosts
}

// AppDef is a named set of hosts with what is done there.
type AppDef struct {
	Key, Name  string
	Entries    []pattern.Entry
	Activities []Activity
}

// Schedule is a schedule by its name, in its zone.
type Schedule struct {
	ID, Name string
	Schedule schedule.Schedule
	Zone     *time.Location
}

// Request is who asks for what, as a gate sees it. The zero fields are: nobody known, a GET, all that there is to see.
type Request struct {
	URL    URL
	Method string
	Person string     // an id
	Group  string     // an id: the request is that of an unnamed member
	Addr   netip.Addr // the client's
	Sight  weburl.Sight
	Gate   Gate // "": the one that sees so much
	Way    Way  // of a journey; "": that of the client's network

	// Chain is where a name leads, in order, when the DNS gate knows that: the names of its CNAME records and of its services. A later name blocks only by a rule
	// that names it; see [Snapshot.Decide].
	Chain []URL

	// What a gate learns once a connection stands. A request with NotTLS is blocked unless the rule that lets it pass names that trait.
	TwoNames, NotTLS bool

	// Answer is what the site has answered; nil before that. What hangs on the answer cannot be told until then.
	Answer *Answer
}

// Answer is what is known of an answer when it begins.
type Answer struct {
	Kinds []string // keys of [FileKinds] that it is of, by its declared type or by its first bytes
	Name  string   // of the file that it says to be; "" for none

	// Points are the totals of its text by the ids of scorecards (see [Snapshot.ScoreText]); nil where the text was not looked at.
	Points map[string]int
}

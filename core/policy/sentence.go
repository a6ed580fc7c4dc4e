package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Names says what ids are called. A nil func leaves the id.
type Names struct {
	List, Schedule, Card, Category, App func(id string) string
}

func called(name func(string) string, id string) string {
	if name == nil {
		return id
	}
	return name(id)
}

// Sentence says in plain words what a rule does.
func (r Rule) Sentence(n Names) string {
	verb := map[Verdict]string{Allow: "Allow ", Watch: "Allow and flag ", Hold: "Hold ", Block: "Block ", Note: "Note, and go on with, "}[r.Then]
	var b strings.Builder
	b.WriteString(verb)
	if what := r.If.clause(n, ""); what == "" {
		b.WriteString("everything")
	} else {
		b.WriteString("what " + what)
	}
	switch {
	case r.When.Schedule == "":
	case r.When.Outside:
		b.WriteString(", outside " + called(n.Schedule, r.When.Schedule))
	default:
		b.WriteString(", in " + called(n.Schedule, r.When.Schedule))
	}
	if len(r.At) > 0 {
		var gates []string
		for _, gate := range r.At {
			gates = append(gates, gate.Title())
		}
		b.WriteString(", at the " + joined(gates, "and") + " gate only")
	}
	if with := r.With.String(); with != "" {
		b.WriteString(", with " + with)
	}
	if r.Then == Hold && r.Left == ByCode {
		b.WriteString(", until a code is entered")
	}
	if r.Then == Hold && r.LeftFor > 0 {
		b.WriteString(", and then open it for " + span(r.LeftFor))
	}
	b.WriteString(".")
	if r.Off {
		b.WriteString(" Switched off.")
	}
	return b.String()
}

// Sentence says which TLS connections are opened; "" for none.
func (i Inspection) Sentence(n Names) string {
	pages := ""
	if i.Pages {
		pages = "Where a TLS connection is refused, it is opened to show the page that says so."
	}
	if !i.All {
		return pages
	}
	var but []string
	for _, key := range i.Categories {
		but = append(but, called(n.Category, key))
	}
	for _, id := range i.ButLists {
		but = append(but, fmt.Sprintf("the list %q", called(n.List, id)))
	}
	if len(but) == 0 {
		return strings.TrimSpace("TLS connections are opened, so that whole URLs are seen. " + pages)
	}
	return strings.TrimSpace("TLS connections are opened, so that whole URLs are seen, but not those to " + joined(but, "or") + ". " + pages)
}

// Insisting says what a policy does that blocks what its gates cannot hold.
const Insisting = "Where a gate cannot hold what a rule binds to, as a size in a connection that is not opened, the request is blocked."

// Sentence says how much is recorded; "" for everything but what is searched for.
func (r Recording) Sentence() string {
	switch {
	case r.Amount == GroupOnly:
		return "Of requests only the host, the groups and the network are recorded, not who asks and for which page."
	case r.Amount == Nothing:
		return "Requests are counted, and not recorded."
	case r.Words:
		return "What is searched for is recorded, too."
	}
	return ""
}

// Title returns the name of a kind of gate as people write it.
func (g Gate) Title() string {
	if g == Proxy {
		return "proxy"
	}
	return strings.ToUpper(string(g))
}

// clause says what a condition asks, as what stands after "what"; "" where it always holds. Within is the op that it stands in.
func (c Cond) clause(n Names, within Op) string {
	if c.Op == "" || c.Op == All || c.Op == Any || c.Op == None {
		return c.joint(n, within)
	}
	var names []string
	name := map[Op]func(string) string{InList: n.List, Is: n.Category, App: n.App, Points: n.Card}[c.Op]
	for _, value := range c.Values {
		switch c.Op {
		case InList, Points:
			names = append(names, strconv.Quote(called(name, value)))
		case HasTrait:
			names = append(names, traitClause[Trait(value)])
		case File:
			names = append(names, fileName(value))
		default:
			names = append(names, called(name, value))
		}
	}
	text := c.leaf(joined(names, "or"), len(names))
	if within == All && len(names) > 1 {
		return "(" + text + ")" // else it reads as if the rest belonged to the last alone
	}
	return text
}

// leaf says what a condition asks that joins no others. either is its values, n how many.
func (c Cond) leaf(either string, n int) string {
	switch c.Op {
	case InList:
		if n > 1 {
			return "is in the lists " + either
		}
		return "is in the list " + either
	case Is:
		return "is " + either
	case App:
		return "belongs to " + either
	case HasTrait:
		return either
	case Method:
		return "is sent by " + either
	case File:
		return "asks for " + either
	case Search:
		return "searches for " + either
	}
	if c.AtLeast > 0 {
		return fmt.Sprintf("reaches %d points on the scorecard %s", c.AtLeast, either)
	}
	return "reaches the threshold of the scorecard " + either
}

func (c Cond) joint(n Names, within Op) string {
	op := c.Op
	if op == "" {
		op = All
	}
	var parts []string
	for _, part := range c.Of {
		if text := part.clause(n, op); text != "" {
			parts = append(parts, text)
		}
	}
	switch {
	case len(parts) == 0 && op == Any:
		return "is nothing at all"
	case len(parts) == 0:
		return ""
	case op == None:
		return "is none of these: it " + strings.Join(parts, "; or it ")
	case len(parts) == 1:
		return parts[0]
	}
	text := joined(parts, map[Op]string{All: "and", Any: "or"}[op])
	if within == All && op == Any || within == Any && op == All {
		return "(" + text + ")"
	}
	return text
}

var traitClause = map[Trait]string{
	RawAddress: "has a bare address for a host", PlainHTTP: "is plain HTTP", Unrated: "is unrated",
	OddPort: "has an unusual port", UserInfo: "holds a user name", Punycode: "has a host in another script",
	TwoNames: "names two hosts on one connection", NotTLS: "is not TLS in a tunnel",
}

func fileName(value string) string {
	if at := slices.IndexFunc(FileKinds, func(k FileKind) bool { return k.Key == value }); at >= 0 {
		return FileKinds[at].Name
	}
	return value + " files"
}

// String says what provisos bind to, as in "safe search and at most 20 MB"; "" for none.
func (p Provisos) String() string {
	var parts []string
	if p.SafeSearch {
		parts = append(parts, "safe search")
	}
	if p.NoUploads {
		parts = append(parts, "no uploads")
	}
	if p.SizeCap > 0 {
		parts = append(parts, "at most "+size(p.SizeCap))
	}
	if p.Quota > 0 {
		parts = append(parts, "at most "+span(p.Quota)+" a day")
	}
	return joined(parts, "and")
}

func size(bytes int64) string {
	const mega = 1_000_000
	if bytes%mega == 0 {
		return fmt.Sprintf("%d MB", bytes/mega)
	}
	return fmt.Sprintf("%d bytes", bytes)
}

func span(d time.Duration) string {
	if d%time.Hour == 0 {
		return fmt.Sprintf("%d h", d/time.Hour)
	}
	return fmt.Sprintf("%d min", d/time.Minute)
}

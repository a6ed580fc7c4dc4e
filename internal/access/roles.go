package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Role is a set of acts. An actor may do what any of its roles may.
type Role string

// The roles of accounts, and those of the service's own parts, which no account can have.
const (
	Owner     Role = "owner"
	Editor    Role = "editor"
	Publisher Role = "publisher"
	HelpDesk  Role = "help desk"
	Lead      Role = "lead"
	Auditor   Role = "auditor"
	Reader    Role = "reader"

	subscriber Role = "subscription"
	timetable  Role = "service"
	recorder   Role = "gate"
	setup      Role = "setup"
	signOn     Role = "sign-on"
)

// Roles returns the roles that accounts can have, those with fewer acts first.
func Roles() []Role { return []Role{Reader, Lead, HelpDesk, Auditor, Publisher, Editor, Owner} }

// Says returns what a role is for, in a few words.
func (r Role) Says() string { return says[r] }

var says = map[Role]string{
	Owner:     "may do everything; alone edits the baseline, accounts, keys, gates and what is kept",
	Editor:    "edits the draft; bound to lists, only their entries",
	Publisher: "publishes, plans and takes back; bound to lists, only their entries",
	HelpDesk:  "answers requests, makes grants and unlock codes, reads the journal; bound to groups, of those alone",
	Lead:      "sees and steers the groups that are led, and answers their requests",
	Auditor:   "reads everything, with names",
	Reader:    "reads the configuration, and tries URLs",
}

// scope is what bounds of a role do to one of its acts.
type scope uint8

const (
	never     scope = iota // the role has no such act
	always                 // bounds do not matter
	wholly                 // only where the role has no bounds
	inGroups               // for members of the groups
	inLists                // for entries of the lists
	andWithin              // always, and also on what belongs to the baseline
)

func many(s scope, acts ...Act) map[Act]scope {
	all := map[Act]scope{}
	for _, a := range acts {
		all[a] = s
	}
	return all
}

func with(all ...map[Act]scope) map[Act]scope {
	joined := map[Act]scope{}
	for _, of := range all {
		for act, s := range of {
			joined[act] = s
		}
	}
	return joined
}

// reads is what a role has that reads the configuration.
var reads = many(always, Read, ReadPeople, Try, OwnAccount, Remark)

// rights are the acts of each role.
var rights = map[Role]map[Act]scope{
	Owner: many(andWithin, Read, ReadPeople, Try, ReadJournal, SeeNames, ReadUse, ReadRequests, ReadAudit, Oversee, OwnAccount, Remark, Edit, Fill, Publish, Practices, Grant, Steer, Answer, Codes, Presences, Accept, Record,
		EditPacks, TrustKeys, EditDirectories, Authorities, Enrol, Accounts, Watch, SendOn, Erase),
	Editor:    with(reads, many(always, ReadJournal, ReadUse), many(inLists, Edit, Fill), many(wholly, Accept, EditPacks, Watch, Record)),
	Publisher: with(reads, many(always, ReadJournal, ReadUse), many(inLists, Publish)),
	HelpDesk:  with(reads, many(always, ReadUse), many(inGroups, ReadJournal, SeeNames, ReadRequests, Grant, Answer, Codes, Presences)),
	Lead:      with(many(always, OwnAccount), many(inGroups, ReadPeople, Try, ReadJournal, SeeNames, ReadRequests, Steer, Answer)),
	Auditor:   with(reads, many(always, ReadJournal, SeeNames, ReadUse, ReadRequests, ReadAudit, Oversee)),
	Reader:    reads,

	// The service keeps up what an owner set up: it also pulls a list that a rule of the baseline names.
	subscriber: many(andWithin, Edit, Fill, EditPacks, EditDirectories),
	timetable:  many(andWithin, Publish, Record, Watch, SendOn, Expire),
	recorder:   many(always, Record, Obey, Presences),
	signOn:     many(always, Accounts),
	setup: many(andWithin, Read, ReadPeople, Try, ReadJournal, SeeNames, ReadUse, ReadRequests, ReadAudit, Oversee, OwnAccount, Remark, Edit, Fill, Publish, Practices, Grant, Steer, Answer, Codes, Presences, Accept, Record,
		EditPacks, TrustKeys, EditDirectories, Authorities, Enrol, Accounts, Watch, SendOn, Erase),
}

// Reach is how much a grant or a code opens.
type Reach string

// The reaches, each wider than the one before.
const (
	Page       Reach = "page"
	Host       Reach = "host"
	Site       Reach = "site"       // a host and all below it
	Everything Reach = "everything" // or what no single site bounds
)

// Reaches returns the reaches, the narrowest first.
func Reaches() []Reach { return []Reach{Page, Host, Site, Everything} }

// within reports whether a reach is not wider than another, the empty one being the widest.
func (r Reach) within(most Reach) bool {
	at := slices.Index(Reaches(), r)
	return most == "" || at >= 0 && at <= slices.Index(Reaches(), most)
}

// Held is a role that an account or a token has, and its bounds. Without groups, lists, reach or length it has none of that kind.
type Held struct {
	Role    Role          `json:"role"`
	Groups  []uuid.UUID   `json:"groups,omitempty"`  // members of these alone; those of the revision that is live
	Lists   []uuid.UUID   `json:"lists,omitempty"`   // entries of these alone
	Reach   Reach         `json:"reach,omitempty"`   // the widest grant
	Longest time.Duration `json:"longest,omitempty"` // the longest grant
}

// Validate returns an error that says what is wrong with a role and its bounds.
func (h Held) Validate() error {
	acts, known := rights[h.Role]
	if !known || !slices.Contains(Roles(), h.Role) {
		return fmt.Errorf("%q is not a role: there are %s", h.Role, listed(Roles()))
	}
	has := func(s scope) bool {
		for _, of := range acts {
			if of == s {
				return true
			}
		}
		return false
	}
	switch {
	case len(h.Groups) > 0 && !has(inGroups):
		return fmt.Errorf("the role %s is not bound to groups: help desk and lead can be", h.Role)
	case len(h.Lists) > 0 && !has(inLists):
		return fmt.Errorf("the role %s is not bound to lists: editor and publisher can be", h.Role)
	case (h.Reach != "" || h.Longest != 0) && acts[Answer] != inGroups:
		return fmt.Errorf("the role %s has no reach and no length: help desk and lead can have them", h.Role)
	case h.Reach != "" && !slices.Contains(Reaches(), h.Reach):
		return fmt.Errorf("%q is not a reach: there are %s", h.Reach, listed(Reaches()))
	case h.Longest < 0:
		return fmt.Errorf("the longest grant of the role %s is shorter than nothing", h.Role)
	}
	return nil
}

func listed[T ~string](names []T) (text string) {
	for i, n := range names {
		switch {
		case i > 0 && i == len(names)-1:
			text += " and "
		case i > 0:
			text += ", "
		}
		text += string(n)
	}
	return text
}

func (h Held) bound() bool { return len(h.Groups) > 0 || len(h.Lists) > 0 }

// begins reports whether there may be an object on which the role has an act.
func (h Held) begins(act Act) bool {
	s := rights[h.Role][act]
	return s != never && (s != wholly || !h.bound())
}

func (h Held) may(act Act, about Object) bool {
	s := rights[h.Role][act]
	switch s {
	case never:
		return false
	case andWithin:
		return true
	case wholly:
		if h.bound() {
			return false
		}
	case inGroups:
		if len(h.Groups) > 0 && !slices.ContainsFunc(about.Groups, func(g uuid.UUID) bool { return slices.Contains(h.Groups, g) }) {
			return false
		}
	case inLists:
		if len(h.Lists) > 0 && (about.List == uuid.Nil || !slices.Contains(h.Lists, about.List)) {
			return false
		}
	}
	if about.Baseline {
		return false
	}
	return about.Reach == "" || about.Reach.within(h.Reach) && (h.Longest == 0 || about.Length <= h.Longest)
}

// Has reports whether a role is among some.
func Has(held []Held, role Role) bool {
	return slices.ContainsFunc(held, func(h Held) bool { return h.Role == role })
}

// Meet returns what somebody may do whose roles are both, as the maker of a token and the token: nothing that either may not.
func Meet(a, b []Held) (both []Held) {
	for _, x := range a {
		for _, y := range b {
			role := y.Role
			switch {
			case y.Role == Owner:
				role = x.Role
			case x.Role != Owner && x.Role != y.Role:
				continue
			}
			one := Held{Role: role, Reach: x.Reach, Longest: x.Longest}
			if y.Reach != "" && y.Reach.within(x.Reach) {
				one.Reach = y.Reach
			}
			if y.Longest != 0 && (x.Longest == 0 || y.Longest < x.Longest) {
				one.Longest = y.Longest
			}
			var none bool
			one.Groups, none = meet(x.Groups, y.Groups)
			if none {
				continue
			}
			if one.Lists, none = meet(x.Lists, y.Lists); none {
				continue
			}
			both = append(both, one)
		}
	}
	return both
}

// meet returns what is in both, where none means all; none reports that nothing is.
func meet(a, b []uuid.UUID) (both []uuid.UUID, none bool) {
	switch {
	case len(a) == 0:
		return b, false
	case len(b) == 0:
		return a, false
	}
	for _, id := range a {
		if slices.Contains(b, id) {
			both = append(both, id)
		}
	}
	return both, len(both) == 0
}

// Described says which roles there are, without their bounds, as "editor, help desk of some groups"; "" for none.
func Described(held []Held) string {
	var all []string
	for _, h := range held {
		text := string(h.Role)
		switch {
		case len(h.Groups) > 0:
			text += " of some groups"
		case len(h.Lists) > 0:
			text += " of some lists"
		}
		all = append(all, text)
	}
	return strings.Join(all, ", ")
}

// Scope says on what a role has an act, for people: "yes", or what its bounds leave of it; "" where it does not have the act.
func (r Role) Scope(act Act) string {
	return map[scope]string{always: "yes", andWithin: "yes", wholly: "unless bound", inGroups: "in its groups", inLists: "entries of its lists"}[rights[r][act]]
}

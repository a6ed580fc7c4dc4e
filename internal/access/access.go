// Package access decides who may do what: whether an actor may perform an act on an object. The store asks it inside the transaction of every
// change, the API before every operation.
//
// From: [Actor], the roles that are [Held], [Act], [Object].
// To: nil or a [*DeniedError].
package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Act is something that an actor asks to do, as the end of "may not …".
type Act string

// The acts. Every operation of the API and every change in the store belongs to one of them.
const (
	Read            Act = "read the configuration"
	ReadPeople      Act = "see people and groups"
	Try             Act = "try and look up URLs"
	ReadJournal     Act = "read the journal"
	SeeNames        Act = "see names in the journal" // of people and machines, and addresses
	ReadUse         Act = "see what is used, and how often"
	ReadRequests    Act = "see what people ask for"
	ReadAudit       Act = "read the audit log"
	Oversee         Act = "see accounts, and where records are sent"
	OwnAccount      Act = "edit their own account"
	Edit            Act = "edit the draft" // what belongs to the baseline, only owners: see [Object]
	Fill            Act = "say what fills a list"
	Publish         Act = "publish"
	Grant           Act = "make grants"
	Steer           Act = "steer groups" // by stints
	Answer          Act = "answer requests"
	Codes           Act = "make unlock codes"
	Remark          Act = "say something of the draft"
	Practices       Act = "say how changes go live"
	Presences       Act = "say who is at which address"
	Accept          Act = "accept findings"
	Record          Act = "add to the journal"
	EditPacks       Act = "edit packs"
	TrustKeys       Act = "edit keys that sign packs"
	EditDirectories Act = "edit directories"
	Authorities     Act = "edit the authority of the gates"
	Enrol           Act = "enrol and retire gates"
	Obey            Act = "run as a gate"
	Accounts        Act = "edit accounts"
	Watch           Act = "set up reports and alerts"
	SendOn          Act = "send records on"
	Erase           Act = "erase what is recorded of people"
	Expire          Act = "remove what has run out"
)

// Acts returns every act, in the order of the documentation.
func Acts() []Act {
	return []Act{
		Read, ReadPeople, Try, ReadJournal, SeeNames, ReadUse, ReadRequests, ReadAudit, Oversee, OwnAccount, Remark, Edit, Fill, Accept, EditPacks, Watch, Record, Publish, Practices,
		Grant, Steer, Answer, Codes, Presences, TrustKeys, EditDirectories, Authorities, Enrol, Accounts, SendOn, Erase, Obey, Expire,
	}
}

// Object is the object of an act. The zero Object stands for acts without one; whoever holds a role for some groups or lists alone may do nothing to it.
type Object struct {
	Name     string        // as a denial calls it, with its kind: the list "Casino night"
	Baseline bool          // it is the baseline, or one of its rules names it: a list, app, engine, schedule, scorecard, category or correction
	List     uuid.UUID     // the act concerns the entries of this list alone
	Groups   []uuid.UUID   // the act concerns a member of all of these groups, or one of them, and nobody else
	Reach    Reach         // of a grant or code; the zero Reach where the act opens nothing
	Length   time.Duration // of a grant or code
}

// Actor is a person or a program with an account, or a part of the service. The zero Actor is unknown, and may do nothing.
type Actor struct {
	name    string
	account uuid.UUID
	token   uuid.UUID
	role    Role // of a part of the service
}

// The parts of the service that act by themselves.
var (
	Subscription = Actor{name: string(subscriber), role: subscriber} // pulls lists and packs
	Timetable    = Actor{name: string(timetable), role: timetable}   // does what is due
	Recorder     = Actor{name: string(recorder), role: recorder}     // records what gates decided
	Setup        = Actor{name: string(setup), role: setup}           // sets up a new database, and runs commands on the service's machine
	SignOn       = Actor{name: string(signOn), role: signOn}         // keeps accounts as the identity provider describes them
)

// Account returns the actor of an account: a person who is signed in. name is the sign-in name.
func Account(id uuid.UUID, name string) Actor { return Actor{name: name, account: id} }

// ByToken returns the actor that a program with a token of the account is. It may do no more than the token says.
func (a Actor) ByToken(token uuid.UUID) Actor {
	a.token = token
	return a
}

// Name returns the name under which changes are kept.
func (a Actor) Name() string { return a.name }

// Account returns the id of the actor's account; [uuid.Nil] for the service itself and for an unknown actor.
func (a Actor) Account() uuid.UUID { return a.account }

// Token returns the id of the token that a program has; [uuid.Nil] for people.
func (a Actor) Token() uuid.UUID { return a.token }

// OwnRoles returns the roles of a part of the service, and nil for accounts, whose roles are stored with the account and can be revoked.
func (a Actor) OwnRoles() []Held {
	if a.role == "" {
		return nil
	}
	return []Held{{Role: a.role}}
}

// Part returns the part of the service that has a name, which no account may have. Letter case is ignored.
func Part(name string) (Actor, bool) {
	for _, a := range []Actor{Subscription, Timetable, Recorder, Setup, SignOn} {
		if strings.EqualFold(a.name, name) {
			return a, true
		}
	}
	return Actor{}, false
}

// DeniedError refuses an act of an actor.
type DeniedError struct {
	Actor  string
	Act    Act
	Object Object
	Roles  []Role // each of which would be enough, if it is not bound to something else; none if no account can have one
	Bound  bool   // the actor has such a role, for other groups or lists, or not for so much
}

// Error returns a sentence without its dot.
func (e *DeniedError) Error() string {
	about := ""
	if e.Object.Name != "" {
		about = ": " + e.Object.Name
	}
	if e.Actor == "" {
		return fmt.Sprintf("an unknown actor may not %s%s", e.Act, about)
	}
	return fmt.Sprintf("%s may not %s%s", e.Actor, e.Act, about)
}

// Check returns nil if an actor who holds some roles may perform an act on an object, and otherwise a [*DeniedError]. Unknown roles grant nothing, and
// unknown acts are refused.
func Check(a Actor, held []Held, act Act, about Object) error {
	return check(a, held, act, about, func(h Held) bool { return h.may(act, about) })
}

// Begin returns nil if there may be an object on which an actor may perform an act. Who begins an act checks it again once its object is known.
func Begin(a Actor, held []Held, act Act) error {
	return check(a, held, act, Object{}, func(h Held) bool { return h.begins(act) })
}

func check(a Actor, held []Held, act Act, about Object, is func(Held) bool) error {
	if a.name != "" && slices.ContainsFunc(held, is) {
		return nil
	}
	denied := &DeniedError{Actor: a.name, Act: act, Object: about}
	for _, role := range Roles() {
		if is(Held{Role: role}) {
			denied.Roles = append(denied.Roles, role)
		}
	}
	denied.Bound = a.name != "" && slices.ContainsFunc(held, func(h Held) bool { return h.begins(act) && slices.Contains(denied.Roles, h.Role) })
	return denied
}

// Bounds returns the groups and the lists within which alone an actor may perform an act. whole reports that there are no such bounds, or that others of its roles have none.
func Bounds(held []Held, act Act) (groups, lists []uuid.UUID, whole bool) {
	for _, h := range held {
		switch {
		case h.may(act, Object{}):
			return nil, nil, true
		case !h.begins(act):
		case rights[h.Role][act] == inLists:
			lists = append(lists, h.Lists...)
		default:
			groups = append(groups, h.Groups...)
		}
	}
	return groups, lists, false
}

// Within returns the groups within which alone an actor may perform an act that concerns people. all reports that the act may concern everybody.
func Within(held []Held, act Act) (groups []uuid.UUID, all bool) {
	groups, _, all = Bounds(held, act)
	return groups, all
}

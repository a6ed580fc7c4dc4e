// Package access decides who may do what: whether an actor may perform an act on an object. The store asks it inside the transaction of every
// change, the API before every operation.
//
// From: [Actor], its roles, [Act], [Object].
// To: nil or a [*DeniedError].
package access

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// Role is a set of acts. An actor may do what any of its roles may.
type Role string

// The roles of accounts, and those of the service's own parts, which no account can have.
const (
	Owner  Role = "owner"  // everything that people do
	Member Role = "member" // everything that people do but what is the owners'

	subscriber Role = "subscription"
	timetable  Role = "service"
	recorder   Role = "gate"
	setup      Role = "setup"
)

// Act is something that an actor asks to do, as the end of "may not …".
type Act string

// The acts. Every operation of the API and every change in the store belongs to one of them.
const (
	Read        Act = "read the configuration"
	Try         Act = "try and look up URLs"
	ReadJournal Act = "read the journal"
	ReadAudit   Act = "read the audit log"
	OwnAccount  Act = "edit their own account"
	Edit        Act = "edit the draft" // what belongs to the baseline, only owners: see [Object]
	Fill        Act = "say what fills a list"
	Publish     Act = "publish"
	Grant       Act = "make grants"
	Presences   Act = "say who is at which address"
	Accept      Act = "accept findings"
	Record      Act = "add to the journal"
	EditPacks   Act = "edit packs"
	TrustKeys   Act = "edit keys that sign packs"
	Authorities Act = "edit the authority of the gates"
	Enrol       Act = "enrol and retire gates"
	Obey        Act = "run as a gate"
	Accounts    Act = "edit accounts"
	Watch       Act = "set up reports and alerts"
	SendOn      Act = "send records on"
	Erase       Act = "erase what is recorded of people"
	Expire      Act = "remove what has run out"
)

// Acts returns every act, in the order of the documentation.
func Acts() []Act {
	return []Act{Read, Try, ReadJournal, ReadAudit, OwnAccount, Edit, Fill, Publish, Grant, Presences, Accept, Record, EditPacks, TrustKeys, Authorities, Enrol, Obey, Accounts, Watch, SendOn, Erase, Expire}
}

var owners = []Act{TrustKeys, Authorities, Enrol, Accounts, SendOn, Erase}

var members = []Act{Read, Try, ReadJournal, ReadAudit, OwnAccount, Edit, Fill, Publish, Grant, Presences, Accept, Record, EditPacks, Watch}

// rights are the acts of each role, and whether the role also has them on what belongs to the baseline.
var rights = map[Role]struct {
	acts     []Act
	baseline bool
}{
	Owner:  {append(slices.Clone(owners), members...), true},
	Member: {members, false},

	// The service keeps up what an owner set up: it also pulls a list that a rule of the baseline names.
	subscriber: {[]Act{Edit, Fill, EditPacks}, true},
	timetable:  {[]Act{Publish, Record, Watch, SendOn, Expire}, true},
	recorder:   {[]Act{Record, Obey, Presences}, false},
	setup:      {append(slices.Clone(owners), members...), true},
}

// Object is the object of an act. The zero Object stands for acts without one.
type Object struct {
	Name     string // as a denial calls it, with its kind: the list "Casino night"
	Baseline bool   // it is the baseline, or one of its rules names it: a list, app, engine, schedule, scorecard, category or correction
}

// Actor is a person or a program with an account, or a part of the service. The zero Actor is unknown, and may do nothing.
type Actor struct {
	name    string
	account uuid.UUID
	role    Role // of a part of the service
}

// The parts of the service that act by themselves.
var (
	Subscription = Actor{name: string(subscriber), role: subscriber} // pulls lists and packs
	Timetable    = Actor{name: string(timetable), role: timetable}   // does what is due
	Recorder     = Actor{name: string(recorder), role: recorder}     // records what gates decided
	Setup        = Actor{name: string(setup), role: setup}           // sets up a new database, and runs commands on the service's machine
)

// Account returns the actor of an account: a person who is signed in, or a program with a token. name is the sign-in name.
func Account(id uuid.UUID, name string) Actor { return Actor{name: name, account: id} }

// Name returns the name under which changes are kept.
func (a Actor) Name() string { return a.name }

// Account returns the id of the actor's account; [uuid.Nil] for the service itself and for an unknown actor.
func (a Actor) Account() uuid.UUID { return a.account }

// OwnRoles returns the roles of a part of the service, and nil for accounts, whose roles are stored with the account and can be revoked.
func (a Actor) OwnRoles() []Role {
	if a.role == "" {
		return nil
	}
	return []Role{a.role}
}

// Part returns the part of the service that has a name, which no account may have. Letter case is ignored.
func Part(name string) (Actor, bool) {
	for _, a := range []Actor{Subscription, Timetable, Recorder, Setup} {
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
	Role   Role // the role that would be needed; "" if no account can have it
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

// Check returns nil if an actor with these roles may perform an act on an object, and otherwise a [*DeniedError]. Unknown roles grant nothing, and
// unknown acts are refused.
func Check(a Actor, roles []Role, act Act, about Object) error {
	if a.name != "" && slices.ContainsFunc(roles, func(r Role) bool { return may(r, act, about) }) {
		return nil
	}
	denied := &DeniedError{Actor: a.name, Act: act, Object: about}
	for _, role := range []Role{Member, Owner} { // the role with fewer acts first
		if may(role, act, about) {
			denied.Role = role
			break
		}
	}
	return denied
}

func may(role Role, act Act, about Object) bool {
	right, known := rights[role]
	return known && slices.Contains(right.acts, act) && (right.baseline || !about.Baseline)
}

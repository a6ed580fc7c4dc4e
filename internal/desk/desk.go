// Package desk does for gates what only the service can do: it knows who signs in, takes requests for access and acknowledgements, checks codes, and unites
// the minutes that people use.
//
// From: gates of this process, and gates elsewhere by the API.
// To: the store.
package desk

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/ldapbind"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// Store is what a desk keeps things in.
type Store interface {
	standing.Requests
	standing.Passages
	standing.Minutes
	account.PersonPasswords
	PutReport(ctx context.Context, r gate.Report, by access.Actor) error
	AddPresence(ctx context.Context, p standing.Presence, by access.Actor) (standing.Presence, error)
	EndPresence(ctx context.Context, at netip.Addr, by access.Actor) error
}

// Desk implements [gate.Desk]. It is safe for concurrent use.
type Desk struct {
	Store         Store
	Editions      *edition.Editions
	Authenticator *account.Authenticator
	Now           func() time.Time
	DemoPassword  string // with which everybody of the demo signs in; "" for none

	// Directory checks passwords of people in place of those that are stored here; nil for none.
	Directory *ldapbind.Directory
}

var _ gate.Desk = (*Desk)(nil)

// How many wrong codes an asker may enter within a while.
const (
	mostMisses = 5
	missesFor  = 15 * time.Minute
)

// patience is how long a page waits for the store before it says that the service cannot be reached.
const patience = 5 * time.Second

// passage returns what comes past a hold at a gate.
func passage(p gate.Past) standing.Passage {
	return standing.Passage{Person: p.Person, Address: p.Address, Entries: []pattern.Entry{p.Entry}, Reference: p.Reference}
}

// Acknowledge implements [gate.Desk].
func (d *Desk) Acknowledge(ctx context.Context, p gate.Past) (time.Time, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	made := passage(p)
	made.Rule, made.Until = p.Rule, d.Now().Add(p.For)
	made, err := d.Store.AddPassage(ctx, made, access.Recorder)
	return made.Until, err
}

// Unlock implements [gate.Desk].
func (d *Desk) Unlock(ctx context.Context, p gate.Past, code string) (time.Time, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	who := p.Person.String() + p.Address.String()
	if may, err := d.Store.CountTry(ctx, who, d.Now(), d.Now().Add(-missesFor), mostMisses, access.Recorder); err != nil {
		return time.Time{}, err
	} else if !may {
		return time.Time{}, gate.ErrTooMany
	}
	made, err := d.Store.UseCode(ctx, standing.HashCode(code), func(c standing.Code) (standing.Passage, error) {
		opened := passage(p)
		opened.Until = d.Now().Add(time.Duration(c.Minutes) * time.Minute)
		if c.Idle > 0 && c.Idle < c.Minutes {
			opened.Idle, opened.Ends = time.Duration(c.Idle)*time.Minute, opened.Until
			opened.Until = d.Now().Add(opened.Idle)
		}
		live, err := d.Editions.On(ctx, "", "live")
		if err != nil {
			return opened, err
		}
		if !mayEnter(live, &c, p) {
			return opened, fmt.Errorf("%w: it is for others", standing.ErrCode)
		}
		if !c.SaysWhat() {
			if p.Rule == uuid.Nil { // no rule holds the page for a code: only codes that say what they open count there
				return opened, fmt.Errorf("%w: it opens held pages", standing.ErrCode)
			}
			return opened, nil
		}
		opened.Entries, opened.Categories = c.Opens()
		if !opens(live, opened, p, d.Now()) {
			return opened, fmt.Errorf("%w: it is for others", standing.ErrCode)
		}
		return opened, nil
	}, access.Recorder)
	if errors.Is(err, standing.ErrCode) {
		return time.Time{}, gate.ErrNoCode
	}
	if err == nil {
		err = d.Store.ForgetTries(ctx, who, access.Recorder)
	}
	return made.Until, err
}

// mayEnter reports whether a code is for whoever enters it: a person whom it names or, by what is live, a member of a group.
func mayEnter(live *edition.State, c *standing.Code, p gate.Past) bool {
	if c.For == nil {
		return true
	}
	is := func(id uuid.UUID) func(revision.Ref) bool {
		return func(r revision.Ref) bool { return r.ID == id }
	}
	if p.Person != uuid.Nil && slices.ContainsFunc(c.For.Persons, is(p.Person)) {
		return true
	}
	return slices.ContainsFunc(live.GroupsOf(p.Person, uuid.Nil, p.Address), func(id uuid.UUID) bool { return slices.ContainsFunc(c.For.Groups, is(id)) })
}

// opens reports whether a passage would let its request pass: it covers the URL, and nothing above it decides.
func opens(live *edition.State, opened standing.Passage, p gate.Past, now time.Time) bool {
	fact := policy.Unlocked{Entries: opened.Entries, Categories: opened.Categories, Person: p.Person.String(), From: now, Until: now.Add(time.Minute)}
	r := policy.Request{URL: p.URL, Person: p.Person.String(), Addr: p.Address, Sight: p.Sight}
	if p.Person == uuid.Nil {
		fact.Person, fact.Addr, r.Person = "", p.Address, ""
	}
	d := live.Snapshot.With(policy.Facts{Unlocked: []policy.Unlocked{fact}}).Decide(&policy.Work{}, &r, now)
	return d.Rung == policy.AtUnlocked
}

// Ask implements [gate.Desk].
func (d *Desk) Ask(ctx context.Context, p gate.Plea) error {
	_, err := d.Store.AddRequest(ctx, standing.Request{
		Person: p.Person, Address: p.Address, URL: p.URL.String(), Verdict: p.Verdict, By: p.By, Reason: p.Reason, Reference: p.Reference,
	}, access.Recorder)
	return err
}

// Asked implements [gate.Desk].
func (d *Desk) Asked(ctx context.Context, reference string) (state, answer string, found bool, err error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	r, err := d.Store.RequestByReference(ctx, reference)
	if errors.Is(err, revision.ErrNotFound) {
		return "", "", false, nil
	}
	return string(r.State), r.Answer, err == nil, err
}

// SignIn implements [gate.Desk].
func (d *Desk) SignIn(ctx context.Context, name, password, address string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, 2*patience)
	defer stop()
	person, err := d.named(ctx, name)
	if err != nil {
		return uuid.Nil, false, err
	}
	if d.DemoPassword != "" && password == d.DemoPassword && person.ID != uuid.Nil {
		return person.ID, true, nil
	}
	if d.Directory == nil {
		err = d.Authenticator.SignInPerson(ctx, d.Store, person, name, password, address)
	} else {
		err = d.Authenticator.SignInElsewhere(ctx, name, address, func(ctx context.Context) (bool, error) {
			right, err := d.Directory.Check(ctx, name, password)
			return right && person.ID != uuid.Nil, err // whoever is in the directory alone is nobody here
		})
	}
	if errors.Is(err, account.ErrRefused) {
		return uuid.Nil, false, nil
	}
	if _, throttled := errors.AsType[*account.ThrottledError](err); throttled {
		err = gate.ErrTries
	}
	return person.ID, err == nil, err
}

// Arrive implements [gate.Desk].
func (d *Desk) Arrive(ctx context.Context, person uuid.UUID, at netip.Addr) (time.Time, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	p := standing.Presence{Person: person, Address: at, Until: d.Now().Add(gate.Stays), How: "signed in at the gate"}
	if err := p.Check(d.Now()); err != nil {
		return time.Time{}, err
	}
	made, err := d.Store.AddPresence(ctx, p, access.Recorder)
	return made.Until, err
}

// Leave implements [gate.Desk].
func (d *Desk) Leave(ctx context.Context, at netip.Addr) error {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	err := d.Store.EndPresence(ctx, at, access.Recorder)
	if errors.Is(err, revision.ErrNotFound) {
		return nil
	}
	return err
}

// Whose implements [gate.Desk].
func (d *Desk) Whose(ctx context.Context, token string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	person, err := d.Store.PersonByDNS(ctx, account.HashDNSToken(token))
	if errors.Is(err, account.ErrUnknown) {
		return uuid.Nil, false, nil
	}
	return person, err == nil, err
}

// Named implements [gate.Desk].
func (d *Desk) Named(ctx context.Context, name string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, 2*patience)
	defer stop()
	person, err := d.named(ctx, name)
	return person.ID, person.ID != uuid.Nil, err
}

// named returns the person of what is live with a name; the zero Person where there is none.
func (d *Desk) named(ctx context.Context, name string) (account.Person, error) {
	live, err := d.Editions.On(ctx, "", "live")
	if err != nil {
		return account.Person{}, err
	}
	if who, err := live.Find("who", edition.Who{Person: name}); err == nil && who.Person != nil {
		return account.Person{ID: uuid.MustParse(who.Person.ID), Name: who.Person.Name}, nil
	}
	return account.Person{}, nil
}

// AddUsed implements [gate.Desk].
func (d *Desk) AddUsed(ctx context.Context, taken map[gate.Spender][]int64) error {
	var used []standing.Used
	for of, minutes := range taken {
		used = append(used, standing.Used{Rule: of.Rule, Person: of.Person, Address: of.Address, Minutes: minutes})
	}
	return d.Store.AddUsed(ctx, used, access.Recorder)
}

// Report implements [gate.Desk].
func (d *Desk) Report(ctx context.Context, r gate.Report) error {
	return d.Store.PutReport(ctx, r, access.Recorder)
}

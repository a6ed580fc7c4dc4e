package edition

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/policy"
	"widelark/internal/revision"
)

// Who is somebody who asks, by names or ids. The zero Who is somebody of whom nothing is known.
type Who struct {
	Name    string `json:"name,omitempty" maxLength:"200" doc:"Whoever is called so: a person, a group, an address, a machine; in place of the others"`
	Person  string `json:"person,omitempty" maxLength:"200" doc:"Name, full name or id"`
	Group   string `json:"group,omitempty" maxLength:"200" doc:"Name or id of a group: an unnamed member of it"`
	Address string `json:"address,omitempty" maxLength:"60"`
}

// Asker is a resolved Who.
type Asker struct {
	Person, Group *match.Ref
	Address       netip.Addr
	Machine       *match.Ref // at the address
}

// Name says who asks in a few words.
func (a Asker) Name() string {
	var parts []string
	if a.Person != nil {
		parts = append(parts, a.Person.Name)
	}
	if a.Group != nil {
		parts = append(parts, "a member of "+a.Group.Name)
	}
	switch {
	case a.Machine != nil:
		parts = append(parts, a.Machine.Name)
	case a.Address.IsValid():
		parts = append(parts, a.Address.String())
	}
	if len(parts) == 0 {
		return "somebody unknown"
	}
	return strings.Join(parts, " at ")
}

// Request returns a request of the asker, without URL and sight.
func (a Asker) Request() policy.Request {
	r := policy.Request{Addr: a.Address}
	if a.Person != nil {
		r.Person = a.Person.ID
	}
	if a.Group != nil {
		r.Group = a.Group.ID
	}
	return r
}

// Find resolves who asks. An unknown name is a [*revision.FieldError].
func (s *State) Find(field string, who Who) (asker Asker, err error) {
	if strings.TrimSpace(who.Name) != "" {
		return s.named(field+".name", who.Name)
	}
	if strings.TrimSpace(who.Person) != "" && strings.TrimSpace(who.Group) != "" {
		return asker, &revision.FieldError{Field: field + ".group", Msg: "a person is asked for with their own groups: name the person or a group, not both"}
	}
	if asker.Person, err = s.find(field+".person", revision.KindPerson, who.Person); err != nil {
		return asker, err
	}
	if asker.Group, err = s.find(field+".group", revision.KindGroup, who.Group); err != nil || who.Address == "" {
		return asker, err
	}
	if asker.Address, err = netip.ParseAddr(strings.TrimSpace(who.Address)); err != nil || asker.Address.Zone() != "" {
		return asker, &revision.FieldError{Field: field + ".address", Msg: fmt.Sprintf("%q is not an address, as 10.40.9.7", who.Address)}
	}
	asker.Address = asker.Address.Unmap()
	asker.Machine = s.machine(asker.Address)
	return asker, nil
}

func (s *State) machine(addr netip.Addr) *match.Ref {
	for _, o := range s.roster.of(revision.KindMachine) {
		if o.body.(revision.MachineBody).Address == addr.String() {
			return &match.Ref{ID: o.ID.String(), Name: o.Name}
		}
	}
	return nil
}

// find returns the person or group that a text names; nil for no text.
func (s *State) find(field string, kind revision.Kind, text string) (*match.Ref, error) {
	if text = strings.TrimSpace(text); text == "" {
		return nil, nil
	}
	found, err := s.called(field, kind, text)
	if found == nil && err == nil {
		err = &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no %s %q", kind, text)}
	}
	return found, err
}

// called returns the object of a kind that has a text as its id, its name or its full name; nil where none has. Several of one full name
// are a [*revision.FieldError].
func (s *State) called(field string, kind revision.Kind, text string) (*match.Ref, error) {
	var found []match.Ref
	var names []string
	shown := func(o object) string {
		if p, ok := o.body.(revision.PersonBody); ok && p.FullName != "" {
			return p.FullName
		}
		return o.Name
	}
	if id, err := uuid.Parse(text); err == nil {
		if o, ok := s.roster.objects[id]; ok && o.kind == kind {
			return &match.Ref{ID: o.ID.String(), Name: shown(o)}, nil
		}
	}
	for _, o := range s.roster.objects {
		if o.kind != kind {
			continue
		}
		switch {
		case strings.EqualFold(o.Name, text):
			return &match.Ref{ID: o.ID.String(), Name: shown(o)}, nil
		case strings.EqualFold(shown(o), text):
			found, names = append(found, match.Ref{ID: o.ID.String(), Name: shown(o)}), append(names, shown(o)+" ("+o.Name+")")
		}
	}
	switch len(found) {
	case 0:
		return nil, nil
	case 1:
		return &found[0], nil
	}
	slices.Sort(names)
	return nil, &revision.FieldError{Field: field, Msg: fmt.Sprintf("several are called %q: say which, as %s", text, strings.Join(names, ", "))}
}

// Who resolves a name, a full name, a group, an address or the name of a machine.
func (s *State) Who(text string) (Asker, error) { return s.named("name", text) }

func (s *State) named(field, text string) (Asker, error) {
	text = strings.TrimSpace(text)
	if addr, err := netip.ParseAddr(text); err == nil && addr.Zone() == "" {
		return s.Find("name", Who{Address: text})
	}
	for _, kind := range []revision.Kind{revision.KindPerson, revision.KindGroup} {
		found, err := s.called(field, kind, text)
		switch {
		case err != nil:
			return Asker{}, err
		case found == nil:
		case kind == revision.KindPerson:
			return Asker{Person: found}, nil
		default:
			return Asker{Group: found}, nil
		}
	}
	for _, o := range s.roster.of(revision.KindMachine) {
		if strings.EqualFold(o.Name, text) {
			return s.Find("name", Who{Address: o.body.(revision.MachineBody).Address})
		}
	}
	return Asker{}, &revision.FieldError{Field: field, Msg: fmt.Sprintf("nobody is called %q: no person, group or machine", text)}
}

// Present returns an asker with the person who is at the address at a moment, by the standing facts, where only the address is known.
func (s *State) Present(a Asker, at time.Time) Asker {
	if a.Person != nil || a.Group != nil || !a.Address.IsValid() {
		return a
	}
	if id := s.Snapshot.PresentAt(a.Address, at); id != "" {
		a.Person, _ = s.called("", revision.KindPerson, id) // nil where the person is gone
	}
	return a
}

// GroupsOf returns the groups that somebody belongs to, directly or not: a person, a member of a group, whoever is at an address. Zero values stand for none.
func (s *State) GroupsOf(person, group uuid.UUID, at netip.Addr) (ids []uuid.UUID) {
	d := s.Snapshot.Config().Directory
	if d == nil || len(d.Groups) == 0 {
		return nil
	}
	of := directory.NewSet(len(d.Groups))
	d.Belong(of, d.Person(person.String()), d.Group(group.String()), at)
	for n := of.Next(0); n >= 0; n = of.Next(n + 1) {
		if id, err := uuid.Parse(d.Groups[n].ID); err == nil {
			ids = append(ids, id)
		}
	}
	return ids
}

// GroupAsker returns an unnamed member of a group.
func (s *State) GroupAsker(id uuid.UUID) Asker {
	ref, _ := s.called("", revision.KindGroup, id.String()) // by its id, which is one group's or nobody's
	if ref == nil {
		ref = &match.Ref{ID: id.String()}
	}
	return Asker{Group: ref}
}

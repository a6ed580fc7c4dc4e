package httpapi

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// bounds is whom the caller may do something to: everybody, or members of some groups. Who belongs to them is said by the revision that is live, so that an edit of the draft widens no role.
type bounds struct {
	act    access.Act
	all    bool
	groups []uuid.UUID
	live   *edition.State // nil where all is set, or nothing is live
}

// bounds returns whom the caller may do an act to.
func (s *server) bounds(ctx context.Context, act access.Act) (b bounds, err error) {
	b.act = act
	if b.groups, b.all = access.Within(caller(ctx).Roles, act); b.all {
		return b, nil
	}
	b.live, err = s.inForce(ctx, "", "live")
	var nothing *revision.FieldError
	if errors.As(err, &nothing) { // nobody belongs to anything
		return b, nil
	}
	return b, err
}

// has reports whether somebody is in the bounds: a person, a member of a group, or whoever is at an address. Of a person, the address does not count.
func (b *bounds) has(person, group uuid.UUID, at netip.Addr) bool {
	if b.all {
		return true
	}
	if b.live == nil {
		return false
	}
	if person != uuid.Nil {
		at = netip.Addr{}
	}
	return slices.ContainsFunc(b.live.GroupsOf(person, group, at), func(id uuid.UUID) bool { return slices.Contains(b.groups, id) })
}

// hasAll reports whether everybody for whom something is made is in the bounds.
func (b *bounds) hasAll(whom *revision.WhomBody) bool {
	if b.all {
		return true
	}
	if whom.Everybody || len(whom.Networks) > 0 || len(whom.Persons)+len(whom.Groups)+len(whom.Addresses) == 0 {
		return false
	}
	for _, p := range whom.Persons {
		if !b.has(p.ID, uuid.Nil, netip.Addr{}) {
			return false
		}
	}
	for _, g := range whom.Groups {
		if !b.has(uuid.Nil, g.ID, netip.Addr{}) {
			return false
		}
	}
	for _, text := range whom.Addresses {
		if at, err := netip.ParseAddr(text); err != nil || !b.has(uuid.Nil, uuid.Nil, at) {
			return false
		}
	}
	return true
}

// hasObject reports whether a person or a group is in the bounds. Of other kinds, all are: who may read them, reads all.
func (b *bounds) hasObject(o revision.Object) bool {
	switch o.Kind {
	case revision.KindPerson:
		return b.has(o.ID, uuid.Nil, netip.Addr{})
	case revision.KindGroup:
		return b.has(uuid.Nil, o.ID, netip.Addr{})
	}
	return true
}

// check refuses askers who are not in the bounds; nobody in particular is none of them.
func (b *bounds) check(ctx context.Context, askers ...edition.Asker) error {
	for _, a := range askers {
		var person, group uuid.UUID
		if a.Person != nil {
			person, _ = uuid.Parse(a.Person.ID)
		}
		if a.Group != nil {
			group, _ = uuid.Parse(a.Group.ID)
		}
		if !b.has(person, group, a.Address) {
			who := caller(ctx)
			return access.Check(who.Actor(), who.Roles, b.act, access.Object{Name: a.Name()})
		}
	}
	return nil
}

// checkAskers refuses a caller who may not do an act to some askers.
func (s *server) checkAskers(ctx context.Context, act access.Act, askers ...edition.Asker) error {
	b, err := s.bounds(ctx, act)
	if err == nil {
		err = b.check(ctx, askers...)
	}
	return err
}

package postgres

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// subject is whom an act concerns: a person, an address where nobody is known, or a group. The zero subject is everybody.
type subject struct {
	person  uuid.UUID
	address netip.Addr
	group   uuid.UUID
}

// groupsOf returns the groups that a subject belongs to in the revision that is live, directly or not; a group itself is among them. It is for roles
// that are bound to groups: who edits the draft widens none before others agreed to publish it.
func groupsOf(ctx context.Context, tx pgx.Tx, s subject) ([]uuid.UUID, error) {
	var address *netip.Addr
	if s.address.IsValid() && s.person == uuid.Nil {
		plain := s.address.Unmap().WithZone("")
		address = &plain
	}
	rows, err := tx.Query(ctx, `
		with recursive live as (select version from revisions order by number desc limit 1),
		now_is as materialized (select id, kind, body from objects, live where kind in ('group', 'network', 'machine') and since <= version and (gone is null or gone > version)),
		place as (select n.id from now_is n, jsonb_array_elements_text(n.body->'ranges') r where n.kind = 'network' and $2::inet <<= r::inet order by masklen(r::inet) desc limit 1),
		machine as (select id from now_is where kind = 'machine' and host((body->>'address')::inet) = host($2::inet)),
		first as (
			select (g->>'id')::uuid id from objects p, live, jsonb_array_elements(p.body->'groups') g
				where p.kind = 'person' and p.id = $1 and p.since <= version and (p.gone is null or p.gone > version)
			union select id from now_is where kind = 'group' and id = $3
			union select g.id from now_is g, jsonb_array_elements_text(g.body->'ranges') r where g.kind = 'group' and $2::inet <<= r::inet
			union select g.id from now_is g, jsonb_array_elements(g.body->'networks') n join place on place.id = (n->>'id')::uuid where g.kind = 'group'
			union select g.id from now_is g, jsonb_array_elements(g.body->'machines') m join machine on machine.id = (m->>'id')::uuid where g.kind = 'group'
		),
		up as (select id from first union select g.id from up join now_is g on g.kind = 'group' and g.body->'groups' @> jsonb_build_array(jsonb_build_object('id', up.id)))
		select id from up`, s.person, address, s.group)
	return all(rows, err, pgx.RowTo[uuid.UUID])
}

// subjectsOf returns whom something that is made for some people concerns: nothing of it may concern anybody else.
func subjectsOf(whom *revision.WhomBody) (subjects []subject) {
	for _, p := range whom.Persons {
		subjects = append(subjects, subject{person: p.ID})
	}
	for _, g := range whom.Groups {
		subjects = append(subjects, subject{group: g.ID})
	}
	for _, text := range whom.Addresses {
		address, err := netip.ParseAddr(text)
		if err != nil { // a range, of which all addresses would have to be asked for
			return append(subjects, subject{})
		}
		subjects = append(subjects, subject{address: address})
	}
	if len(whom.Networks) > 0 || whom.Everybody || len(subjects) == 0 {
		subjects = append(subjects, subject{})
	}
	return subjects
}

// allowFor refuses an actor who may not do something to some people. Of about, all but the groups is given.
func allowFor(ctx context.Context, tx pgx.Tx, by access.Actor, act access.Act, about access.Object, subjects ...subject) error {
	held, err := rolesOf(ctx, tx, by)
	if err != nil || access.Check(by, held, act, about) == nil { // whomever it concerns
		return err
	}
	for _, s := range subjects {
		if about.Groups, err = groupsOf(ctx, tx, s); err != nil {
			return err
		}
		if err := access.Check(by, held, act, about); err != nil {
			return err
		}
	}
	if len(subjects) == 0 {
		return access.Check(by, held, act, about)
	}
	return nil
}

// asFor carries out an act that concerns people in a transaction, if the actor may. look finds whom, in the transaction.
func (s *Store) asFor(ctx context.Context, by access.Actor, act access.Act, about access.Object, look func(tx pgx.Tx) ([]subject, error), do func(tx pgx.Tx) error) error {
	return ours(pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := begin(ctx, tx, by, act); err != nil { // before anything is told of what there is
			return err
		}
		subjects, err := look(tx)
		if err != nil {
			return err
		}
		if err := allowFor(ctx, tx, by, act, about, subjects...); err != nil {
			return err
		}
		return do(tx)
	}))
}

// known is a look for subjects that are known before.
func known(subjects ...subject) func(pgx.Tx) ([]subject, error) {
	return func(pgx.Tx) ([]subject, error) { return subjects, nil }
}

// grantObject is what a grant is to [access.Check].
func grantObject(b *standing.GrantBody, now time.Time) access.Object {
	name := "a grant"
	if len(b.Entries) > 0 {
		name += " of " + b.Name()
	}
	return access.Object{Name: name, Reach: standing.ReachOf(b.Entries), Length: b.Until.Sub(now)}
}

package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/revision"
)

// guard is what only owners may change: the baseline and what its rules name.
type guard struct {
	objects    map[uuid.UUID]bool // lists, schedules, scorecards
	apps       map[string]bool    // keys
	categories map[string]bool    // keys, those of families' categories among them
	engines    bool               // all: a rule asks for safe search, or looks at what is searched for
}

// rolesOf returns the roles of an actor: those of a part of the service are fixed, those of an account and its token are read. An actor whose account
// or token is gone has none.
func rolesOf(ctx context.Context, tx pgx.Tx, by access.Actor) (held []access.Held, err error) {
	if by.Account() == uuid.Nil {
		return by.OwnRoles(), nil
	}
	var bounds []access.Held
	err = tx.QueryRow(ctx, `select a.roles, t.roles from accounts a left join tokens t on t.id = $2 and t.account_id = a.id
		where a.id = $1 and ($2 = '00000000-0000-0000-0000-000000000000' or (t.expires_at is null and t.id is not null or t.expires_at > now()) and (a.issuer is null or a.vouched_at > now() - `+vouched+`))`, by.Account(), by.Token()).Scan(&held, &bounds)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err == nil && bounds != nil {
		held = access.Meet(held, bounds)
	}
	return held, err
}

// actorNamed returns the actor with a name: an account, or a part of the service. If nobody has the name any more, the actor has no roles.
func actorNamed(ctx context.Context, tx pgx.Tx, name string) (access.Actor, error) {
	if part, is := access.Part(name); is {
		return part, nil
	}
	rows, err := tx.Query(ctx, `select id, name from accounts where lower(name) = lower($1)`, name)
	found, err := all(rows, err, func(row pgx.CollectableRow) (access.Actor, error) {
		var id uuid.UUID
		var name string
		err := row.Scan(&id, &name)
		return access.Account(id, name), err
	})
	if err != nil || len(found) == 0 {
		return access.Account(uuid.Nil, name), err
	}
	return found[0], nil
}

// allow refuses, with an [*access.DeniedError], an actor who may not do something.
func allow(ctx context.Context, tx pgx.Tx, by access.Actor, act access.Act, about access.Object) error {
	roles, err := rolesOf(ctx, tx, by)
	if err != nil {
		return err
	}
	return access.Check(by, roles, act, about)
}

// begin refuses, with an [*access.DeniedError], an actor who may not do something to anything: for acts whose object is known, and checked, later.
func begin(ctx context.Context, tx pgx.Tx, by access.Actor, act access.Act) error {
	held, err := rolesOf(ctx, tx, by)
	if err != nil {
		return err
	}
	return access.Begin(by, held, act)
}

// as carries out an act without an object in a transaction, if the actor may.
func (s *Store) as(ctx context.Context, by access.Actor, act access.Act, do func(tx pgx.Tx) error) error {
	return ours(pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := allow(ctx, tx, by, act, access.Object{}); err != nil {
			return err
		}
		return do(tx)
	}))
}

// guardEdits refuses the changes between two versions of the draft if the actor may not edit what they concern: the baseline, or anything but the entries of
// some lists. It checks what was written, whichever way that happened.
func guardEdits(ctx context.Context, tx pgx.Tx, from, to int64, by access.Actor) error {
	held, err := rolesOf(ctx, tx, by)
	if err != nil || access.Check(by, held, access.Edit, access.Object{Baseline: true}) == nil {
		return err
	}
	rows, err := tx.Query(ctx, `select id, kind, name, body, false from objects where since > $1 and since <= $2 or gone > $1 and gone <= $2
		union all select l.id, 'list', l.name, '{}', true from list_changes c join lists l on l.id = c.list_id where c.version > $1 and c.version <= $2`, from, to)
	changed, err := all(rows, err, func(row pgx.CollectableRow) (c touched, err error) {
		err = row.Scan(&c.ID, &c.Kind, &c.Name, &c.Body, &c.entries)
		return c, err
	})
	if err != nil {
		return err
	}
	return guardTouched(ctx, tx, changed, from, to, true, by, held, access.Edit)
}

// guardPublishing refuses to put live what differs between two versions if the actor may not publish what it concerns. back: an earlier state goes live, which takes back what owners did to the baseline.
func guardPublishing(ctx context.Context, tx pgx.Tx, states []revision.ObjectState, from, to int64, back bool, by access.Actor) error {
	held, err := rolesOf(ctx, tx, by)
	if err != nil || access.Check(by, held, access.Publish, access.Object{Baseline: true}) == nil {
		return err
	}
	var changed []touched
	for _, st := range states {
		if st.Before != nil && st.After != nil && st.Before.Name == st.After.Name && bytes.Equal(st.Before.Body, st.After.Body) {
			changed = append(changed, touched{*st.After, true})
			continue
		}
		for _, o := range []*revision.Object{st.Before, st.After} {
			if o != nil {
				changed = append(changed, touched{*o, false})
			}
		}
	}
	return guardTouched(ctx, tx, changed, from, to, back, by, held, access.Publish)
}

// touched is a state of an object that came or went.
type touched struct {
	revision.Object
	entries bool // of a list, and nothing else of it
}

// guardTouched refuses an act on what was touched between two versions. Without baseline, what belongs to the baseline is like everything else.
func guardTouched(ctx context.Context, tx pgx.Tx, changed []touched, from, to int64, baseline bool, by access.Actor, held []access.Held, act access.Act) error {
	g := &guard{objects: map[uuid.UUID]bool{}, apps: map[string]bool{}, categories: map[string]bool{}}
	for _, version := range []int64{from, to} {
		if version == 0 || !baseline { // before anything was there
			continue
		}
		if err := g.of(ctx, tx, version); err != nil {
			return err
		}
	}
	for _, c := range changed {
		about := access.Object{Name: fmt.Sprintf("the %s %q", c.Kind, c.Name)}
		if c.entries {
			about.List = c.ID
		}
		if baseline {
			var err error
			if about.Baseline, err = g.holds(ctx, tx, c.Object); err != nil {
				return err
			}
		}
		if err := access.Check(by, held, act, about); err != nil {
			return err
		}
	}
	return nil
}

// mayFill refuses actors who may not change a list's source: if the list belongs to the baseline, so does its source.
func mayFill(ctx context.Context, tx pgx.Tx, list uuid.UUID, by access.Actor) error {
	g := &guard{objects: map[uuid.UUID]bool{}, apps: map[string]bool{}, categories: map[string]bool{}}
	if err := g.of(ctx, tx, 0); err != nil {
		return err
	}
	return allow(ctx, tx, by, access.Fill, access.Object{Name: "this list", Baseline: g.objects[list], List: list})
}

// of adds everything that the baseline of a version names, 0 for now.
func (g *guard) of(ctx context.Context, tx pgx.Tx, version int64) error {
	rows, err := tx.Query(ctx, `select `+objectColumns+` from objects o where kind = 'policy' and body->>'role' = 'baseline' and `+held("o", version))
	baselines, err := all(rows, err, scanObject)
	if err != nil {
		return err
	}
	for _, o := range baselines {
		body, err := revision.Decode[revision.PolicyBody](o)
		if err != nil { // it cannot be read, and names nothing that decides
			continue
		}
		g.engines = g.engines || body.AsksEngines()
		body.Refs(func(_ string, _ revision.Kind, ref *revision.Ref) { g.objects[ref.ID] = true })
		_ = body.Keys(func(_, key string, app bool) error {
			if app {
				key, _, _ = strings.Cut(key, "/")
				g.apps[key] = true
			} else {
				g.categories[key] = true
			}
			return nil
		})
	}
	return g.spread(ctx, tx, version)
}

// spread adds the categories of families, and the lists of categories of our own.
func (g *guard) spread(ctx context.Context, tx pgx.Tx, version int64) error {
	rows, err := tx.Query(ctx, `select s.taxonomy from pack_states s join packs p on p.id = s.pack_id and p.in_force = s.number`)
	taxonomies, err := all(rows, err, pgx.RowTo[[]byte])
	if err != nil {
		return err
	}
	for _, text := range taxonomies {
		var taxonomy struct {
			Categories []struct{ Key, Family string }
		}
		if json.Unmarshal(text, &taxonomy) != nil {
			continue
		}
		for _, c := range taxonomy.Categories {
			g.categories[c.Key] = g.categories[c.Key] || g.categories[c.Family]
		}
	}
	rows, err = tx.Query(ctx, `select `+objectColumns+` from objects o where kind in ('category', 'scorecard') and `+held("o", version))
	fillers, err := all(rows, err, scanObject)
	if err != nil {
		return err
	}
	for _, o := range fillers {
		var body struct {
			Key, Family, Category string
			Lists                 []uuid.UUID
		}
		if json.Unmarshal(o.Body, &body) != nil || !g.categories[body.Key] && !g.categories[body.Family] && !g.categories[body.Category] {
			continue
		}
		g.objects[o.ID] = true
		for _, l := range body.Lists {
			g.objects[l] = true
		}
	}
	return nil
}

// holds reports whether a state of an object may be changed only by owners.
func (g *guard) holds(ctx context.Context, tx pgx.Tx, o revision.Object) (bool, error) {
	var body struct {
		Role, Key, Category, Family, Entry string
		Categories                         []string
	}
	if json.Unmarshal(o.Body, &body) != nil {
		return o.Kind == revision.KindPolicy || g.objects[o.ID], nil // it might be anything
	}
	switch o.Kind {
	case revision.KindPolicy:
		return body.Role == string(revision.RoleBaseline), nil
	case revision.KindApp:
		return g.apps[body.Key], nil
	case revision.KindEngine:
		return g.engines, nil
	case revision.KindCategory, revision.KindScorecard:
		return g.objects[o.ID] || g.categories[body.Key] || g.categories[body.Family] || g.categories[body.Category], nil
	case revision.KindCorrection:
		return g.corrects(ctx, tx, body.Entry, body.Categories)
	}
	return g.objects[o.ID], nil
}

// corrects reports whether a correction may change whether a rule of the baseline matches: it gives a category that the baseline names, or
// takes one from a site that the catalogue says has it.
func (g *guard) corrects(ctx context.Context, tx pgx.Tx, entry string, categories []string) (bool, error) {
	if slices.ContainsFunc(categories, func(key string) bool { return g.categories[key] }) {
		return true, nil
	}
	var named []string
	for key, is := range g.categories {
		if is {
			named = append(named, key)
		}
	}
	p := keptPattern(entry)
	name := p.Name()
	if len(named) == 0 || p.Kind() == pattern.Unreadable {
		return false, nil
	}
	if name == "" || p.IsGlob() || p.EveryEnding() { // it may cover anything
		return !p.Prefix().IsValid(), nil
	}
	var takes bool
	err := tx.QueryRow(ctx, `select exists (select from pack_sites t join packs p on p.id = t.pack_id and t.since <= p.in_force and (t.gone is null or t.gone > p.in_force)
		join pack_sets c on c.pack_id = t.pack_id and c.id = t.set
		where string_to_array(c.categories, ' ') && $2::text[] and (t.entry = $1 or t.entry like $1 || '/%' or t.entry like '%.' || $1 or t.entry like '%.' || $1 || '/%'
			or $1 like '%.' || split_part(t.entry, '/', 1)))`, name, named).Scan(&takes)
	return takes, err
}

package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	core "widelark/core/directory"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/directories"
	"widelark/internal/revision"
)

// asAdopted gives people who were handed over the ids that they have had all along.
func asAdopted(ctx context.Context, tx pgx.Tx, id uuid.UUID, items []directories.Item) ([]directories.Item, error) {
	rows, err := tx.Query(ctx, `select object, person from directory_adopted where directory_id = $1`, id)
	if err != nil {
		return nil, err
	}
	known := map[uuid.UUID]uuid.UUID{}
	var object, person uuid.UUID
	if _, err := pgx.ForEachRow(rows, []any{&object, &person}, func() error {
		known[object] = person
		return nil
	}); err != nil || len(known) == 0 {
		return items, err
	}
	items = slices.Clone(items)
	for i := range items {
		if as, ok := known[items[i].ID]; ok {
			items[i].ID = as
		}
	}
	return items, nil
}

// AdoptDirectory implements [directories.Store].
func (s *Store) AdoptDirectory(ctx context.Context, id uuid.UUID, preview bool, by access.Actor) (done directories.Adopted, err error) {
	_, err = s.settleDirectory(ctx, id, by, func(tx pgx.Tx, d *directories.Directory) error {
		if d.InForce == nil {
			return &directories.RefusedError{Msg: "Nothing of the directory is in force yet"}
		}
		items, err := itemsAt(ctx, tx, id, d.InForce.Number)
		if err != nil {
			return err
		}
		// Nobody edits or publishes meanwhile.
		if _, err := tx.Exec(ctx, `select from draft for update`); err != nil {
			return err
		}
		var live int64
		if err := tx.QueryRow(ctx, `select version from revisions order by number desc limit 1`).Scan(&live); err != nil {
			return err
		}
		people := map[string]directories.Item{} // by name in lower case
		for _, it := range items {
			if it.Kind == revision.KindPerson {
				people[strings.ToLower(it.Name)] = it
			}
		}
		less := map[uuid.UUID]string{} // why somebody stays
		same := map[uuid.UUID]directories.Item{}
		for _, version := range []int64{0, live} {
			found, err := wouldLose(ctx, tx, version, people)
			if err != nil {
				return err
			}
			for _, one := range found {
				same[one.person.ID] = one.item
				if one.lost != "" && less[one.person.ID] == "" {
					less[one.person.ID] = fmt.Sprintf("%s is in %s, and would not be any more: have a group of the draft hold the directory's, and publish it", one.person.Name, one.lost)
				}
			}
		}
		var from, to []uuid.UUID
		for person, it := range same {
			if less[person] == "" {
				from, to = append(from, it.ID), append(to, person)
			} else {
				done.Kept = append(done.Kept, less[person])
			}
		}
		slices.Sort(done.Kept)
		done.People = len(to)
		if err := handOver(ctx, tx, id, from, to); err != nil {
			return err
		}
		if items, err = itemsAt(ctx, tx, id, d.InForce.Number); err == nil {
			err = place(ctx, tx, d, items)
		}
		if err == nil && preview {
			err = errPreview
		}
		if err == nil {
			err = note(ctx, tx, audit.Event{By: by.Name(), What: audit.DirectoryAdopted, Name: d.Name, Detail: fmt.Sprintf("%d people", done.People)})
		}
		return err
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	return done, err
}

// errPreview ends a transaction of which nothing is to be kept.
var errPreview = errors.New("bug: a preview was kept")

// handOver makes people of the draft those of a directory, in all states of it. What the draft says of them holds in no version any more, so that no revision brings it back.
func handOver(ctx context.Context, tx pgx.Tx, id uuid.UUID, from, to []uuid.UUID) error {
	for _, sql := range []string{
		`insert into directory_adopted (directory_id, object, person) select $1, * from unnest($2::uuid[], $3::uuid[])`,
		`update directory_objects o set object = f.person from unnest($2::uuid[], $3::uuid[]) f(object, person) where o.directory_id = $1 and o.object = f.object`,
		`update objects set gone = since where id = any($3) and directory is null and $1::uuid is not null and $2::uuid[] is not null`,
		`delete from object_refs where object = any($3) and $1::uuid is not null and $2::uuid[] is not null`,
	} {
		if _, err := tx.Exec(ctx, sql, id, from, to); err != nil {
			return err
		}
	}
	return nil
}

// handed is a person of the draft with the one of a directory who has the same name.
type handed struct {
	person revision.Object
	item   directories.Item
	lost   string // a group that the directory does not put them into, directly or not; "" for none
}

// wouldLose returns who of a version of the draft, 0 for now, has the name of one of a directory's people.
func wouldLose(ctx context.Context, tx pgx.Tx, version int64, people map[string]directories.Item) (found []handed, err error) {
	rows, err := tx.Query(ctx, `select `+objectColumns+` from objects o where kind in ('person', 'group') and (`+held("o", version)+`)`)
	objects, err := all(rows, err, scanObject)
	if err != nil {
		return nil, err
	}
	var groups []core.Group
	for _, o := range objects {
		if o.Kind != revision.KindGroup {
			continue
		}
		body, err := revision.Decode[revision.GroupBody](o)
		if err != nil {
			return nil, err
		}
		g := core.Group{ID: o.ID.String(), Name: o.Name}
		for _, ref := range body.Groups {
			g.Groups = append(g.Groups, ref.ID.String())
		}
		groups = append(groups, g)
	}
	d := core.New(nil, groups, nil)
	belong := func(ids []uuid.UUID) core.Set {
		all, one := core.NewSet(len(groups)), core.NewSet(len(groups))
		for _, id := range ids {
			if n := d.Group(id.String()); n >= 0 {
				d.Belong(one, -1, n, netip.Addr{})
				all.Unite(one)
			}
		}
		return all
	}
	for _, o := range objects {
		it, named := people[strings.ToLower(o.Name)]
		if o.Kind != revision.KindPerson || o.Directory != uuid.Nil || !named {
			continue
		}
		body, err := revision.Decode[revision.PersonBody](o)
		if err != nil {
			return nil, err
		}
		var own []uuid.UUID
		for _, ref := range body.Groups {
			own = append(own, ref.ID)
		}
		then, err := it.Groups()
		if err != nil {
			return nil, err
		}
		one := handed{person: o, item: it}
		before, after := belong(own), belong(then)
		for n := before.Next(0); n >= 0 && one.lost == ""; n = before.Next(n + 1) {
			if !after.Has(n) {
				one.lost = fmt.Sprintf("%q", groups[n].Name)
			}
		}
		found = append(found, one)
	}
	return found, nil
}

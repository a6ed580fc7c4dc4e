package directories

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/directory"
	"widelark/internal/peoplefile"
	"widelark/internal/revision"
)

// ID returns the id of a person or group of a directory: the same for the same key, whenever it is seen, and nobody else's.
func ID(of uuid.UUID, kind revision.Kind, key string) uuid.UUID {
	return uuid.NewSHA1(of, []byte(string(kind)+"\n"+key))
}

// Items returns the people and groups of a file as a directory's, by kind and id, and what could not be used, a sentence each. What the file has no durable key for is known by
// its place or name in the file.
func Items(of uuid.UUID, f peoplefile.File) (items []Item, left []string, err error) {
	left = slices.Clone(f.Left)
	groups := map[string]*revision.GroupBody{} // by the file's keys
	ids := map[string]uuid.UUID{}
	var kept []peoplefile.Group
	seen := map[uuid.UUID]bool{}
	taken := map[string]bool{} // names in lower case
	for _, g := range f.Groups {
		id := ID(of, revision.KindGroup, cmp.Or(g.Stable, g.Key))
		name, wrong := revision.CheckName("name", g.Name)
		switch {
		case wrong != nil:
			left = append(left, fmt.Sprintf("the group %q cannot be kept: %s", g.Name, wrong))
			continue
		case seen[id]:
			left = append(left, fmt.Sprintf("the group %q has the key of another; the first counts", g.Name))
			continue
		}
		if taken[strings.ToLower(name)] {
			told := name
			if name = fmt.Sprintf("%.60s (%s)", name, id.String()[:8]); taken[strings.ToLower(name)] {
				left = append(left, fmt.Sprintf("the group %q is there several times; one counts", told))
				continue
			}
		}
		g.Name = name
		seen[id], taken[strings.ToLower(name)] = true, true
		ids[g.Key], groups[g.Key] = id, &revision.GroupBody{Description: cut(g.Description, 2000), Key: cut(g.Key, 400)}
		kept = append(kept, g)
	}
	for _, g := range kept {
		for _, in := range g.Within {
			if holder := groups[in]; holder != nil {
				holder.Groups = append(holder.Groups, revision.Ref{ID: ids[g.Key]})
			}
		}
	}
	left = append(left, openRings(kept, ids, groups)...)
	item := func(id uuid.UUID, kind revision.Kind, name string, body revision.Body, refs []revision.Ref) error {
		slices.SortFunc(refs, func(a, b revision.Ref) int { return bytes.Compare(a.ID[:], b.ID[:]) })
		if err := body.Check(); err != nil {
			return err
		}
		text, err := revision.Encode(body)
		items = append(items, Item{id, kind, name, text})
		return err
	}
	for _, g := range kept {
		if err := item(ids[g.Key], revision.KindGroup, g.Name, groups[g.Key], groups[g.Key].Groups); err != nil {
			return nil, nil, err
		}
	}
	for _, p := range f.People {
		id := ID(of, revision.KindPerson, cmp.Or(p.Stable, p.Key))
		name, wrong := revision.CheckName("name", p.Name)
		switch {
		case wrong != nil:
			left = append(left, fmt.Sprintf("the person %q cannot be kept: %s", p.Name, wrong))
			continue
		case seen[id]:
			left = append(left, fmt.Sprintf("the person %q has the key of somebody else; the first counts", p.Name))
			continue
		}
		seen[id] = true
		body := &revision.PersonBody{FullName: cut(p.FullName, 200), Mail: cut(p.Mail, 200), Key: cut(p.Key, 400)}
		for _, key := range p.Groups {
			if group, ok := ids[key]; ok {
				body.Groups = append(body.Groups, revision.Ref{ID: group})
			}
		}
		if err := item(id, revision.KindPerson, name, body, body.Groups); err != nil {
			return nil, nil, err
		}
	}
	if people := len(f.People); people > MaxPeople || len(kept) > MaxGroups {
		return nil, nil, &RefusedError{fmt.Sprintf("It has %d people and %d groups, and there may be %d and %d", people, len(kept), MaxPeople, MaxGroups)}
	}
	return items, left, nil
}

// openRings takes groups out of each other until none holds itself, and says which.
func openRings(all []peoplefile.Group, ids map[string]uuid.UUID, bodies map[string]*revision.GroupBody) (told []string) {
	names := map[string]string{}
	keys := map[string]string{}
	var groups []directory.Group
	for _, g := range all {
		one := directory.Group{ID: ids[g.Key].String(), Name: g.Name}
		for _, ref := range bodies[g.Key].Groups {
			one.Groups = append(one.Groups, ref.ID.String())
		}
		groups, names[one.ID], keys[one.ID] = append(groups, one), g.Name, g.Key
	}
	for {
		ring := directory.Ring(groups)
		if ring == nil {
			return told
		}
		holder, held := ring[len(ring)-1], ring[0]
		told = append(told, fmt.Sprintf("the groups %q and %q hold each other; the first was taken out of the second", names[held], names[holder]))
		body := bodies[keys[holder]]
		body.Groups = slices.DeleteFunc(body.Groups, func(ref revision.Ref) bool { return ref.ID.String() == held })
		at := slices.IndexFunc(groups, func(g directory.Group) bool { return g.ID == holder })
		groups[at].Groups = slices.DeleteFunc(groups[at].Groups, func(id string) bool { return id == held })
	}
}

// cut returns the beginning of a text, of so many characters at most.
func cut(text string, most int) string {
	text = strings.TrimSpace(text)
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most])
	}
	return text
}

// Populated returns the groups that hold at least one person, directly or not.
func Populated(items []Item) (map[uuid.UUID]bool, error) {
	full, within := map[uuid.UUID]bool{}, map[uuid.UUID][]uuid.UUID{}
	var todo []uuid.UUID
	fill := func(id uuid.UUID) {
		if !full[id] {
			full[id] = true
			todo = append(todo, id)
		}
	}
	for _, it := range items {
		body, err := it.decoded()
		if err != nil {
			return nil, err
		}
		switch body := body.(type) {
		case *revision.PersonBody:
			for _, ref := range body.Groups {
				fill(ref.ID)
			}
		case *revision.GroupBody:
			for _, ref := range body.Groups {
				within[ref.ID] = append(within[ref.ID], it.ID)
			}
		}
	}
	for len(todo) > 0 {
		id := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		for _, holder := range within[id] {
			fill(holder)
		}
	}
	return full, nil
}

func (it *Item) decoded() (revision.Body, error) {
	return revision.Object{Meta: revision.Meta{ID: it.ID, Name: it.Name}, Kind: it.Kind, Body: it.Body}.Decoded()
}

// Groups returns the groups that a person is in, or that a group holds.
func (it *Item) Groups() ([]uuid.UUID, error) {
	body, err := it.decoded()
	if err != nil {
		return nil, err
	}
	var ids []uuid.UUID
	body.Refs(func(_ string, kind revision.Kind, ref *revision.Ref) {
		if kind == revision.KindGroup {
			ids = append(ids, ref.ID)
		}
	})
	return ids, nil
}

// Compare returns what differs between two sets of items, by kind and name.
func Compare(before, after []Item) (differ []Difference) {
	was := make(map[uuid.UUID]*Item, len(before))
	for i := range before {
		was[before[i].ID] = &before[i]
	}
	for i := range after {
		b, a := was[after[i].ID], &after[i]
		delete(was, a.ID)
		if b == nil || b.Name != a.Name || !bytes.Equal(b.Body, a.Body) {
			differ = append(differ, Difference{a.ID, a.Kind, a.Name, b, a})
		}
	}
	for _, b := range was {
		differ = append(differ, Difference{b.ID, b.Kind, b.Name, b, nil})
	}
	slices.SortFunc(differ, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), bytes.Compare(a.ID[:], b.ID[:]))
	})
	return differ
}

// Canonical puts the body of an item into the form in which [Compare] compares it, whatever kept it meanwhile did to its spelling.
func (it *Item) Canonical() error {
	body, err := it.decoded()
	if err == nil {
		it.Body, err = revision.Encode(body)
	}
	return err
}

// FullName returns what a person is called in full, after the change or before they went; "" for groups.
func (d *Difference) FullName() (string, error) {
	of := d.After
	if of == nil {
		of = d.Before
	}
	body, err := of.decoded()
	if person, ok := body.(*revision.PersonBody); ok && err == nil {
		return person.FullName, nil
	}
	return "", err
}

// Moved returns the groups that a person came into or left, or that a group holds now or no more.
func (d *Difference) Moved() (came, left []uuid.UUID, err error) {
	var before, after []uuid.UUID
	if d.Before != nil {
		if before, err = d.Before.Groups(); err != nil {
			return nil, nil, err
		}
	}
	if d.After != nil {
		if after, err = d.After.Groups(); err != nil {
			return nil, nil, err
		}
	}
	for _, id := range after {
		if !slices.Contains(before, id) {
			came = append(came, id)
		}
	}
	for _, id := range before {
		if !slices.Contains(after, id) {
			left = append(left, id)
		}
	}
	return came, left, nil
}

package peoplefile

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/internal/revision"
)

// Known is a person or group that exists already.
type Known[B any] struct {
	revision.Meta
	Body B
}

// Plan is the set of changes that an import makes.
type Plan struct {
	Changes   []revision.ObjectChange
	NewGroups []string
	New       []string
	Changed   []string // names, each with its changes
	Same      int
	Missing   []string // imported before, and no longer in the file
}

// PassOver leaves out people and groups that directories have already, by their names in lower case, and says so.
func (f *File) PassOver(people, groups map[string]bool) {
	f.People = slices.DeleteFunc(f.People, func(p Person) bool {
		theirs := people[strings.ToLower(p.Name)]
		if theirs {
			f.Left = append(f.Left, fmt.Sprintf("%s is from a directory, and is edited there", p.Name))
		}
		return theirs
	})
	gone := map[string]bool{}
	f.Groups = slices.DeleteFunc(f.Groups, func(g Group) bool {
		theirs := groups[strings.ToLower(g.Name)]
		if theirs {
			gone[g.Key] = true
			f.Left = append(f.Left, fmt.Sprintf("the group %s is from a directory, and is edited there", g.Name))
		}
		return theirs
	})
	for i := range f.People {
		f.People[i].Groups = slices.DeleteFunc(f.People[i].Groups, func(key string) bool { return gone[key] })
	}
}

// Make returns the changes that bring people and groups up to date with a file. It recognises those that were imported before by the key, and
// otherwise by the name; ids stay. Groups that the file does not mention keep their members. With remove, those that are missing are removed.
func (f File) Make(people []Known[revision.PersonBody], groups []Known[revision.GroupBody], remove bool) Plan {
	var p Plan
	ids := map[string]uuid.UUID{} // the ids of the file's groups, by key
	managed := map[uuid.UUID]bool{}
	for _, g := range f.Groups {
		at := slices.IndexFunc(groups, func(k Known[revision.GroupBody]) bool { return k.Body.Key == g.Key })
		if at < 0 {
			at = slices.IndexFunc(groups, func(k Known[revision.GroupBody]) bool { return strings.EqualFold(k.Name, g.Name) })
		}
		if at < 0 {
			ids[g.Key] = uuid.New()
			body := &revision.GroupBody{Description: g.Description, Key: g.Key}
			_ = body.Check() // only the length of a description can be wrong
			p.Changes = append(p.Changes, revision.ObjectChange{Kind: revision.KindGroup, ID: ids[g.Key], New: true, Name: g.Name, Body: body})
			p.NewGroups = append(p.NewGroups, g.Name)
		} else {
			ids[g.Key] = groups[at].ID
		}
		managed[ids[g.Key]] = true
	}
	seen := map[uuid.UUID]bool{}
	for _, person := range f.People {
		body := revision.PersonBody{FullName: person.FullName, Mail: person.Mail, Key: person.Key}
		for _, key := range person.Groups {
			body.Groups = append(body.Groups, revision.Ref{ID: ids[key]})
		}
		at := slices.IndexFunc(people, func(k Known[revision.PersonBody]) bool { return k.Body.Key == person.Key })
		if at < 0 {
			at = slices.IndexFunc(people, func(k Known[revision.PersonBody]) bool { return strings.EqualFold(k.Name, person.Name) })
		}
		if at < 0 {
			_ = body.Check()
			p.Changes = append(p.Changes, revision.ObjectChange{Kind: revision.KindPerson, Name: person.Name, Body: &body})
			p.New = append(p.New, person.Name)
			continue
		}
		known := people[at]
		seen[known.ID] = true
		for _, ref := range known.Body.Groups {
			if !managed[ref.ID] {
				body.Groups = append(body.Groups, ref)
			}
		}
		_ = body.Check()
		if what := differences(known, person.Name, body); what != "" {
			p.Changes = append(p.Changes, revision.ObjectChange{Kind: revision.KindPerson, ID: known.ID, Version: known.Version, Name: person.Name, Body: &body})
			p.Changed = append(p.Changed, fmt.Sprintf("%s: %s", person.Name, what))
			continue
		}
		p.Same++
	}
	for _, known := range people {
		if known.Body.Key == "" || seen[known.ID] {
			continue
		}
		p.Missing = append(p.Missing, known.Name)
		if remove {
			p.Changes = append(p.Changes, revision.ObjectChange{Kind: revision.KindPerson, ID: known.ID, Version: known.Version, Name: known.Name, Remove: true})
		}
	}
	return p
}

// differences describes what changes about a person; "" if nothing does.
func differences(known Known[revision.PersonBody], name string, body revision.PersonBody) string {
	var what []string
	for _, d := range []struct{ field, before, after string }{
		{"name", known.Name, name}, {"full name", known.Body.FullName, body.FullName}, {"mail", known.Body.Mail, body.Mail}, {"key", known.Body.Key, body.Key},
	} {
		if d.before != d.after {
			what = append(what, d.field)
		}
	}
	in := func(refs []revision.Ref, id uuid.UUID) bool {
		return slices.ContainsFunc(refs, func(r revision.Ref) bool { return r.ID == id })
	}
	came, left := 0, 0
	for _, ref := range body.Groups {
		if !in(known.Body.Groups, ref.ID) {
			came++
		}
	}
	for _, ref := range known.Body.Groups {
		if !in(body.Groups, ref.ID) {
			left++
		}
	}
	if came > 0 {
		what = append(what, fmt.Sprintf("%d new groups", came))
	}
	if left > 0 {
		what = append(what, fmt.Sprintf("%d groups left", left))
	}
	return strings.Join(what, ", ")
}

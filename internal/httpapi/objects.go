package httpapi

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// Person is a named user.
type Person struct {
	revision.Meta
	revision.PersonBody
	Directory *Ref `json:"directory,omitempty" doc:"That they are from, and where they are edited; left out for who is edited here"`
}

// Group is a set of people and machines.
type Group struct {
	revision.Meta
	revision.GroupBody
	Persons  int   `json:"persons" doc:"How many persons are in it, also through groups that it holds"`
	Policies []Ref `json:"policies" doc:"That are given to it"`
	Within   []Ref `json:"within" doc:"Groups that it is a part of"`

	Directory *Ref `json:"directory,omitempty" doc:"That it is from, and where it is edited; left out for one that is edited here"`
}

// Ref names an object.
type Ref = revision.Ref

// Network is a named set of address ranges.
type Network struct {
	revision.Meta
	revision.NetworkBody
}

// Machine is a named address.
type Machine struct {
	revision.Meta
	revision.MachineBody
}

// Policy is ordered rules and a verdict otherwise, given to groups.
type Policy struct {
	revision.Meta
	revision.PolicyBody
	Sentences []string   `json:"sentences" doc:"Each rule in plain words"`
	Opens     string     `json:"opens,omitempty" doc:"Which TLS connections are opened, in plain words; left out for none"`
	Insists   string     `json:"insists,omitempty" doc:"That what a gate cannot hold is blocked, in plain words; left out where it passes"`
	Recorded  string     `json:"recorded,omitempty" doc:"How much of its decisions is recorded, in plain words; left out for everything but what is searched for"`
	Conflicts []Conflict `json:"conflicts" doc:"Rules that try to loosen what the baseline blocks"`
}

// Conflict is a rule without effect, because the baseline counts before it.
type Conflict struct {
	Rule int    `json:"rule" doc:"Its place, from 0"`
	Text string `json:"text"`
}

// Exception allows or blocks some URLs for some people, for some time.
type Exception struct {
	revision.Meta
	revision.ExceptionBody
	State string `json:"state" enum:"in force,later,over,off" doc:"Now"`
}

// App is a named set of hosts with what is done there.
type App struct {
	revision.Meta
	revision.AppBody
}

// Engine is a search engine.
type Engine struct {
	revision.Meta
	revision.EngineBody
}

// Settings say how policies work together.
type Settings struct {
	revision.Meta
	revision.SettingsBody
}

// PersonInput is a new state of a person.
type PersonInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80" doc:"What they sign in with"`
	revision.PersonBody
}

// GroupInput is a new state of a group.
type GroupInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.GroupBody
}

// NetworkInput is a new state of a network.
type NetworkInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.NetworkBody
}

// MachineInput is a new state of a machine.
type MachineInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.MachineBody
}

// PolicyInput is a new state of a policy.
type PolicyInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.PolicyBody
}

// ExceptionInput is a new state of an exception.
type ExceptionInput struct {
	Name string `json:"name,omitempty" maxLength:"80" doc:"Left out, it is made from the first entry"`
	revision.ExceptionBody
}

// AppInput is a new state of an app.
type AppInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.AppBody
}

// EngineInput is a new state of a search engine.
type EngineInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	revision.EngineBody
}

type objectOutput[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

type objectsOutput[T any] struct {
	Body struct {
		Items []T `json:"items"`
		Total int `json:"total" doc:"That the search leaves, on this page or not"`
	}
}

type objectsInput struct {
	Text string `query:"text" maxLength:"200" doc:"Only those with this in them, letter case aside"`
}

type newObjectInput[I any] struct{ Body I }

type putObjectInput[I any] struct {
	ByID
	MustMatch
	Body I
}

type removeObjectInput struct {
	ByID
	MustMatch
}

// objects describes how objects of a kind are read and written by the API.
type objects[T, I any] struct {
	kind      revision.Kind
	path      string
	one, many string // for ids of operations
	article   string // for summaries
	make      func(view objectView, o revision.Object) (T, revision.Body, error)
	take      func(in *I) (name string, body revision.Body)
	check     func(ctx context.Context, id uuid.UUID, body revision.Body) error // beside the body's own; nil for none. The zero id is for a new one
	name      func(ctx context.Context, body revision.Body) (string, error)     // where none is given; nil where one has to be
	fixed     bool                                                              // there are those that there are
}

// objectView is the computed part of answers about objects.
type objectView struct {
	now      time.Time
	state    *edition.State
	names    policy.Names
	within   map[uuid.UUID][]Ref // groups that hold a group
	persons  map[uuid.UUID]int
	policies map[uuid.UUID][]Ref

	directories map[uuid.UUID]string // their names
}

// directory returns the directory that a person or group is from; nil for none.
func (v objectView) directory(o revision.Object) *Ref {
	if o.Directory == uuid.Nil {
		return nil
	}
	return &Ref{ID: o.Directory, Name: v.directories[o.Directory]}
}

// answersOf turns objects into answers, with the names of what they refer to.
func answersOf[T, I any](ctx context.Context, s *server, k objects[T, I], found []revision.Object) ([]T, error) {
	view, err := s.view(ctx, k.kind)
	if err != nil {
		return nil, err
	}
	var refs []*Ref
	answers := make([]T, len(found))
	bodies := make([]revision.Body, len(found))
	for i, o := range found {
		if answers[i], bodies[i], err = k.make(view, o); err != nil {
			return nil, err
		}
		bodies[i].Refs(func(_ string, _ revision.Kind, ref *Ref) { refs = append(refs, ref) })
	}
	names, err := s.Objects.Names(ctx, idsOf(refs))
	if err != nil {
		return nil, err
	}
	for _, ref := range refs {
		ref.Name = names[ref.ID]
	}
	return answers, nil
}

// idsOf returns the ids of references, each once.
func idsOf(refs []*Ref) []uuid.UUID {
	asked := map[uuid.UUID]bool{}
	var ids []uuid.UUID
	for _, ref := range refs {
		if !asked[ref.ID] {
			asked[ref.ID] = true
			ids = append(ids, ref.ID)
		}
	}
	return ids
}

// view computes the parts of a kind's answers that are not stored.
func (s *server) view(ctx context.Context, kind revision.Kind) (objectView, error) {
	view := objectView{now: s.Now()}
	var err error
	switch kind {
	case revision.KindPolicy:
		if view.state, err = s.Editions.Draft(ctx); err == nil {
			view.names = view.state.Names()
		}
	case revision.KindPerson:
		view.directories, err = s.directoryNames(ctx)
	case revision.KindGroup:
		var groups, policies []revision.Object
		if view.directories, err = s.directoryNames(ctx); err != nil {
			return view, err
		}
		if groups, err = s.Objects.Objects(ctx, kind); err != nil {
			return view, err
		}
		view.within = map[uuid.UUID][]Ref{}
		for _, holder := range groups {
			body, err := revision.Decode[revision.GroupBody](holder)
			if err != nil {
				return view, err
			}
			for _, held := range body.Groups {
				view.within[held.ID] = append(view.within[held.ID], Ref{ID: holder.ID, Name: holder.Name})
			}
		}
		if policies, err = s.Objects.Objects(ctx, revision.KindPolicy); err != nil {
			return view, err
		}
		view.policies = map[uuid.UUID][]Ref{}
		for _, o := range policies {
			body, err := revision.Decode[revision.PolicyBody](o)
			if err != nil {
				return view, err
			}
			for _, g := range body.Groups {
				view.policies[g.ID] = append(view.policies[g.ID], Ref{ID: o.ID, Name: o.Name})
			}
		}
		view.persons, err = s.Objects.Members(ctx)
	}
	return view, err
}

func registerObjects[T, I any](s *server, api huma.API, k objects[T, I]) {
	failures := []int{404, 412, 422, 428}
	if k.kind == revision.KindPolicy { // the baseline is for owners
		failures = append(failures, 403)
	}
	answer := func(ctx context.Context, o revision.Object) (*objectOutput[T], error) {
		answers, err := answersOf(ctx, s, k, []revision.Object{o})
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return &objectOutput[T]{etag(o.Version), answers[0]}, nil
	}
	change := func(ctx context.Context, c revision.ObjectChange) (*objectOutput[T], error) {
		if body, ok := c.Body.(*revision.ExceptionBody); ok && c.ID != uuid.Nil {
			if before, err := s.Objects.Object(ctx, k.kind, c.ID); err == nil {
				if had, err := revision.Decode[revision.ExceptionBody](before); err == nil {
					body.Keeping(had.Entries)
				}
			}
		}
		err := c.Body.Check()
		if err == nil && k.name != nil && strings.TrimSpace(c.Name) == "" {
			c.Name, err = k.name(ctx, c.Body)
		}
		if err == nil {
			c.Name, err = revision.CheckName("name", c.Name)
		}
		if err == nil && k.check != nil {
			err = k.check(ctx, c.ID, c.Body)
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		made, err := s.Objects.Change(ctx, []revision.ObjectChange{c}, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return answer(ctx, made[0])
	}
	if k.kind != revision.KindPerson { // they are many, and come in pages
		huma.Register(api, operation("get"+k.many, http.MethodGet, k.path, k.many, k.many+", by name"),
			func(ctx context.Context, in *objectsInput) (*objectsOutput[T], error) {
				found, err := s.Objects.Objects(ctx, k.kind)
				if err != nil {
					return nil, s.problem(ctx, err)
				}
				seen, err := s.bounds(ctx, access.ReadPeople)
				if err != nil {
					return nil, s.problem(ctx, err)
				}
				found = slices.DeleteFunc(holding(found, in.Text), func(o revision.Object) bool { return !seen.hasObject(o) })
				if k.kind == revision.KindPolicy {
					if found, err = s.ordered(ctx, found); err != nil {
						return nil, s.problem(ctx, err)
					}
				}
				out := &objectsOutput[T]{}
				out.Body.Total = len(found)
				if out.Body.Items, err = answersOf(ctx, s, k, found); err != nil {
					return nil, s.problem(ctx, err)
				}
				return out, nil
			})
	}
	huma.Register(api, operation("get"+k.one, http.MethodGet, k.path+"/{id}", k.many, capital(k.article), 404),
		func(ctx context.Context, in *ByID) (*objectOutput[T], error) {
			o, err := s.Objects.Object(ctx, k.kind, in.ID)
			if err == nil {
				var seen bounds
				if seen, err = s.bounds(ctx, access.ReadPeople); err == nil && !seen.hasObject(o) {
					err = revision.ErrNotFound
				}
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return answer(ctx, o)
		})
	huma.Register(api, operation("put"+k.one, http.MethodPut, k.path+"/{id}", k.many, "Make "+k.article+" as it is given, whole", failures...),
		func(ctx context.Context, in *putObjectInput[I]) (*objectOutput[T], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			name, body := k.take(&in.Body)
			return change(ctx, revision.ObjectChange{Kind: k.kind, ID: in.ID, Version: version, Name: name, Body: body})
		})
	if k.fixed {
		return
	}
	post := operation("add"+k.one, http.MethodPost, k.path, k.many, "Add "+k.article, 422)
	post.DefaultStatus = http.StatusCreated
	huma.Register(api, post, func(ctx context.Context, in *newObjectInput[I]) (*objectOutput[T], error) {
		name, body := k.take(&in.Body)
		return change(ctx, revision.ObjectChange{Kind: k.kind, Name: name, Body: body})
	})
	huma.Register(api, operation("remove"+k.one, http.MethodDelete, k.path+"/{id}", k.many, "Delete "+k.article, 404, 409, 412, 428),
		func(ctx context.Context, in *removeObjectInput) (*struct{}, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if k.kind == revision.KindPolicy {
				if err := s.checkPolicyGoes(ctx, in.ID); err != nil {
					return nil, s.problem(ctx, err)
				}
			}
			_, err = s.Objects.Change(ctx, []revision.ObjectChange{{Kind: k.kind, ID: in.ID, Version: version, Remove: true}}, actor(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

// holding returns the objects whose name or body contains a text, ignoring case.
func holding(found []revision.Object, text string) []revision.Object {
	if text == "" {
		return found
	}
	text = strings.ToLower(text)
	var kept []revision.Object
	for _, o := range found {
		if strings.Contains(strings.ToLower(o.Name), text) || strings.Contains(strings.ToLower(string(o.Body)), text) {
			kept = append(kept, o)
		}
	}
	return kept
}

func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

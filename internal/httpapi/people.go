package httpapi

import (
	"context"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/match"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/peoplefile"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

var personKind = objects[Person, PersonInput]{
	kind: revision.KindPerson, path: "/people", one: "Person", many: "People", article: "a person",
	make: func(view objectView, o revision.Object) (p Person, body revision.Body, err error) {
		p.Meta, p.Directory = o.Meta, view.directory(o)
		p.PersonBody, err = revision.Decode[revision.PersonBody](o)
		return p, &p.PersonBody, err
	},
	take: func(in *PersonInput) (string, revision.Body) { return in.Name, &in.PersonBody },
}

var networkKind = objects[Network, NetworkInput]{
	kind: revision.KindNetwork, path: "/networks", one: "Network", many: "Networks", article: "a network",
	make: func(_ objectView, o revision.Object) (n Network, body revision.Body, err error) {
		n.Meta = o.Meta
		n.NetworkBody, err = revision.Decode[revision.NetworkBody](o)
		return n, &n.NetworkBody, err
	},
	take: func(in *NetworkInput) (string, revision.Body) { return in.Name, &in.NetworkBody },
}

var machineKind = objects[Machine, MachineInput]{
	kind: revision.KindMachine, path: "/machines", one: "Machine", many: "Machines", article: "a machine",
	make: func(_ objectView, o revision.Object) (m Machine, body revision.Body, err error) {
		m.Meta = o.Meta
		m.MachineBody, err = revision.Decode[revision.MachineBody](o)
		return m, &m.MachineBody, err
	},
	take: func(in *MachineInput) (string, revision.Body) { return in.Name, &in.MachineBody },
}

var groupKind = objects[Group, GroupInput]{
	kind: revision.KindGroup, path: "/groups", one: "Group", many: "Groups", article: "a group",
	make: func(view objectView, o revision.Object) (g Group, _ revision.Body, err error) {
		g.Meta, g.Persons, g.Policies, g.Within, g.Directory = o.Meta, view.persons[o.ID], append([]Ref{}, view.policies[o.ID]...), append([]Ref{}, view.within[o.ID]...), view.directory(o)
		g.GroupBody, err = revision.Decode[revision.GroupBody](o)
		return g, &g.GroupBody, err
	},
	take: func(in *GroupInput) (string, revision.Body) { return in.Name, &in.GroupBody },
}

type peopleInput struct {
	Text  string    `query:"text" maxLength:"200" doc:"Only those with this in their names or address, letter case aside"`
	Group uuid.UUID `query:"group" format:"uuid" doc:"Only those who are in this group, also through groups that it holds"`
	After string    `query:"after" maxLength:"80" doc:"Only those whose name comes after this one"`
	Limit int       `query:"limit" minimum:"1" maximum:"5000" default:"200"`
}

type movePeopleInput struct {
	Body struct {
		People []uuid.UUID `json:"people" minItems:"1" maxItems:"5000" format:"uuid"`
		Into   []uuid.UUID `json:"into,omitempty" format:"uuid" doc:"Groups that they come into"`
		OutOf  []uuid.UUID `json:"outOf,omitempty" format:"uuid" doc:"Groups that they leave"`
	}
}

type movedOutput struct {
	Body struct {
		Changed int `json:"changed" doc:"Persons whose groups are others now"`
	}
}

// Asker is a resolved asker.
type Asker struct {
	Name    string `json:"name" doc:"In a few words"`
	Person  *Ref   `json:"person,omitempty"`
	Group   *Ref   `json:"group,omitempty" doc:"An unnamed member of it"`
	Address string `json:"address,omitempty"`
	Machine *Ref   `json:"machine,omitempty" doc:"At the address"`
}

type whoInput struct {
	Name string `query:"name" required:"true" minLength:"1" maxLength:"200" doc:"A name, a full name, a group, an address or the name of a machine"`
}

type whoOutput struct {
	Body Standing
}

// Standing is what holds for somebody, whatever they ask for.
type Standing struct {
	Who        Asker       `json:"who"`
	Groups     []Ref       `json:"groups" doc:"That they belong to, also by their address and through other groups"`
	Network    *Ref        `json:"network,omitempty"`
	Way        policy.Way  `json:"way" doc:"Which gates they meet, in order: dns, proxy, dns,proxy, icap or none"`
	Policies   []Ref       `json:"policies" doc:"In force for them, in their order; none: the fallback"`
	Combining  string      `json:"combining"`
	Exceptions []Exception `json:"exceptions" doc:"In force or later, the closest first"`
	Grants     []Grant     `json:"grants" doc:"In force"`
}

type importPeopleInput struct {
	Format  string `query:"format" enum:"ldif,csv" default:"ldif"`
	Preview bool   `query:"preview" doc:"Only says what would change"`
	Remove  bool   `query:"remove" doc:"Who was imported before and is not in the file any more goes"`
	body    io.Reader
}

// Resolve keeps the body for the handler.
func (in *importPeopleInput) Resolve(ctx huma.Context) []error {
	in.body = &limited{r: ctx.BodyReader(), left: 64 << 20}
	return nil
}

type importPeopleOutput struct {
	Body struct {
		NewGroups []string `json:"newGroups"`
		New       []string `json:"new"`
		Changed   []string `json:"changed" doc:"With what changes"`
		Same      int      `json:"same"`
		Missing   []string `json:"missing" doc:"Imported before, and not in the file any more; they stay, unless they are to go"`
		Left      []string `json:"left" doc:"What could not be used"`
	}
}

func ref(r match.Ref) Ref { return Ref{ID: uuid.MustParse(r.ID), Name: r.Name} }

func refOf(r *match.Ref) *Ref {
	if r == nil {
		return nil
	}
	named := ref(*r)
	return &named
}

func refsOf(all []match.Ref) []Ref {
	named := make([]Ref, len(all))
	for i, r := range all {
		named[i] = ref(r)
	}
	return named
}

func askerBody(a edition.Asker) Asker {
	body := Asker{Name: a.Name(), Person: refOf(a.Person), Group: refOf(a.Group), Machine: refOf(a.Machine)}
	if a.Address.IsValid() {
		body.Address = a.Address.String()
	}
	return body
}

func (s *server) registerPeople(api huma.API) {
	registerObjects(s, api, personKind)
	registerObjects(s, api, groupKind)
	registerObjects(s, api, networkKind)
	registerObjects(s, api, machineKind)
	huma.Register(api, operation("getPeople", http.MethodGet, "/people", "People", "People, by name", 422), s.getPeople)
	huma.Register(api, operation("movePeople", http.MethodPost, "/people/move", "People", "Move people between groups, in one edit", 404, 422), s.movePeople)
	take := operation("importPeople", http.MethodPost, "/people/import", "People", "Bring people and groups up to date with a directory's file or a table", 413, 422)
	take.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}}}
	huma.Register(api, take, s.importPeople)
	huma.Register(api, operation("whoIs", http.MethodGet, "/who", "People", "Who is this, and what holds for them?", 422), s.whoIs)
}

func (s *server) getPeople(ctx context.Context, in *peopleInput) (*objectsOutput[Person], error) {
	found, err := s.Objects.Objects(ctx, revision.KindPerson)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	seen, err := s.bounds(ctx, access.ReadPeople)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	held, err := s.held(ctx, in.Group)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	text := strings.ToLower(in.Text)
	out := &objectsOutput[Person]{}
	var page []revision.Object
	for _, o := range found {
		if !seen.has(o.ID, uuid.Nil, netip.Addr{}) {
			continue
		}
		body, err := revision.Decode[revision.PersonBody](o)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		inGroup := in.Group == uuid.Nil
		for _, g := range body.Groups {
			inGroup = inGroup || held[g.ID]
		}
		if !inGroup || !strings.Contains(strings.ToLower(o.Name+"\n"+body.FullName+"\n"+body.Mail), text) {
			continue
		}
		out.Body.Total++
		if len(page) < in.Limit && strings.ToLower(o.Name) > strings.ToLower(in.After) {
			page = append(page, o)
		}
	}
	if out.Body.Items, err = answersOf(ctx, s, personKind, page); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

// held returns a group and all that it holds, directly or not; none for no group.
func (s *server) held(ctx context.Context, group uuid.UUID) (map[uuid.UUID]bool, error) {
	if group == uuid.Nil {
		return nil, nil
	}
	groups, err := known[revision.GroupBody](ctx, s, revision.KindGroup)
	if err != nil {
		return nil, err
	}
	of := map[uuid.UUID][]Ref{}
	for _, g := range groups {
		of[g.ID] = g.Body.Groups
	}
	all := map[uuid.UUID]bool{group: true}
	for todo := []uuid.UUID{group}; len(todo) > 0; {
		id := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		for _, ref := range of[id] {
			if !all[ref.ID] {
				all[ref.ID] = true
				todo = append(todo, ref.ID)
			}
		}
	}
	return all, nil
}

func (s *server) movePeople(ctx context.Context, in *movePeopleInput) (*movedOutput, error) {
	var changes []revision.ObjectChange
	for _, id := range in.Body.People {
		o, err := s.Objects.Object(ctx, revision.KindPerson, id)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		body, err := revision.Decode[revision.PersonBody](o)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		if body.Move(in.Body.Into, in.Body.OutOf) {
			changes = append(changes, revision.ObjectChange{Kind: o.Kind, ID: id, Version: o.Version, Name: o.Name, Body: &body})
		}
	}
	out := &movedOutput{}
	if out.Body.Changed = len(changes); len(changes) == 0 {
		return out, nil
	}
	if _, err := s.Objects.Change(ctx, changes, actor(ctx)); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) importPeople(ctx context.Context, in *importPeopleInput) (*importPeopleOutput, error) {
	read := peoplefile.ReadLDIF
	if in.Format == "csv" {
		read = peoplefile.ReadCSV
	}
	file, err := read(in.body)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	people, err := known[revision.PersonBody](ctx, s, revision.KindPerson)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	groups, err := known[revision.GroupBody](ctx, s, revision.KindGroup)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	file.PassOver(theirs(people), theirs(groups))
	plan := file.Make(own(people), own(groups), in.Remove)
	for i := range plan.Changes {
		if c := &plan.Changes[i]; !c.Remove {
			if c.Name, err = revision.CheckName("name", c.Name); err != nil {
				return nil, s.problem(ctx, err)
			}
		}
	}
	if !in.Preview && len(plan.Changes) > 0 {
		if _, err := s.Objects.Change(ctx, plan.Changes, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	out := &importPeopleOutput{}
	b := &out.Body
	b.NewGroups, b.New, b.Changed, b.Same = append([]string{}, plan.NewGroups...), append([]string{}, plan.New...), append([]string{}, plan.Changed...), plan.Same
	b.Missing, b.Left = append([]string{}, plan.Missing...), append([]string{}, file.Left...)
	return out, nil
}

// own returns what is edited in the draft, without what directories say.
func own[B any](all []peoplefile.Known[B]) []peoplefile.Known[B] {
	return slices.DeleteFunc(all, func(k peoplefile.Known[B]) bool { return k.Directory != uuid.Nil })
}

// theirs returns the names, in lower case, of what directories say.
func theirs[B any](all []peoplefile.Known[B]) map[string]bool {
	names := map[string]bool{}
	for _, k := range all {
		if k.Directory != uuid.Nil {
			names[strings.ToLower(k.Name)] = true
		}
	}
	return names
}

// known returns the objects of a kind with their decoded bodies.
func known[B any](ctx context.Context, s *server, kind revision.Kind) ([]peoplefile.Known[B], error) {
	found, err := s.Objects.Objects(ctx, kind)
	if err != nil {
		return nil, err
	}
	all := make([]peoplefile.Known[B], len(found))
	for i, o := range found {
		all[i].Meta = o.Meta
		if all[i].Body, err = revision.Decode[B](o); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (s *server) whoIs(ctx context.Context, in *whoInput) (*whoOutput, error) {
	h, err := s.inForce(ctx, "", "draft")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	who, err := h.Who(in.Name)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	who = h.Present(who, h.Now())
	if err := s.checkAskers(ctx, access.ReadPeople, who); err != nil {
		return nil, s.problem(ctx, err)
	}
	st, request := h.Standing(who), who.Request()
	out := &whoOutput{Body: Standing{
		Who: askerBody(who), Groups: refsOf(st.Groups), Network: refOf(st.Network), Way: h.Snapshot.WayOf(&request).Way, Policies: refsOf(st.Policies),
		Combining: string(h.Snapshot.Config().Combining), Exceptions: []Exception{},
	}}
	var found []revision.Object
	var granted []standing.Grant
	for _, e := range st.Exceptions {
		if e.Grant {
			g, err := s.Standing.Grant(ctx, uuid.MustParse(e.ID))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			granted = append(granted, g)
			continue
		}
		o, err := s.Objects.Object(ctx, revision.KindException, uuid.MustParse(e.ID))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		found = append(found, o)
	}
	if out.Body.Exceptions, err = answersOf(ctx, s, s.exceptionKind(), found); err == nil {
		out.Body.Grants, err = s.grantBodies(ctx, granted)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

package edition

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/directory"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/internal/revision"
)

// roster is people, networks, policies and exceptions at one version of the draft.
type roster struct {
	objects   map[uuid.UUID]object
	directory *directory.Directory
	config    policy.Config // the parts that objects make
	asides    struct {
		bodies map[uuid.UUID]revision.Aside // objects whose body cannot be read
		people revision.Asides              // ranges and addresses of networks, groups and machines
		rules  revision.Asides              // what policies, exceptions, apps, engines and expectations hold
	}
}

// setAside returns everything of the objects that cannot be read.
func (r *roster) setAside() revision.Asides {
	return slices.Concat(slices.Collect(maps.Values(r.asides.bodies)), r.asides.people, r.asides.rules)
}

// object is an object with its decoded body.
type object struct {
	revision.Meta
	kind revision.Kind
	body any
}

func read(o revision.Object) (object, error) {
	one := object{Meta: o.Meta, kind: o.Kind}
	var err error
	switch o.Kind {
	case revision.KindPerson:
		one.body, err = revision.Decode[revision.PersonBody](o)
	case revision.KindGroup:
		one.body, err = revision.Decode[revision.GroupBody](o)
	case revision.KindNetwork:
		one.body, err = revision.Decode[revision.NetworkBody](o)
	case revision.KindMachine:
		one.body, err = revision.Decode[revision.MachineBody](o)
	case revision.KindPolicy:
		one.body, err = revision.Decode[revision.PolicyBody](o)
	case revision.KindException:
		one.body, err = revision.Decode[revision.ExceptionBody](o)
	case revision.KindApp:
		one.body, err = revision.Decode[revision.AppBody](o)
	case revision.KindEngine:
		one.body, err = revision.Decode[revision.EngineBody](o)
	case revision.KindSettings:
		one.body, err = revision.Decode[revision.SettingsBody](o)
	case revision.KindExpectation:
		one.body, err = revision.Decode[revision.ExpectationBody](o)
	}
	return one, err
}

// with returns the roster with later changes applied. An object that cannot be read is set aside.
func (r *roster) with(changed []revision.Object, gone []uuid.UUID) *roster {
	if r != nil && len(changed) == 0 && len(gone) == 0 {
		return r
	}
	next := &roster{objects: map[uuid.UUID]object{}}
	people := r == nil
	next.asides.bodies = map[uuid.UUID]revision.Aside{}
	if r != nil {
		next.objects = maps.Clone(r.objects)
		next.directory = r.directory
		next.asides.bodies, next.asides.people = maps.Clone(r.asides.bodies), r.asides.people
	}
	asks := func(kind revision.Kind) bool {
		return kind == revision.KindPerson || kind == revision.KindGroup || kind == revision.KindNetwork || kind == revision.KindMachine
	}
	for _, id := range gone {
		people = people || asks(next.objects[id].kind)
		delete(next.objects, id)
		delete(next.asides.bodies, id)
	}
	for _, o := range changed {
		one, err := read(o)
		delete(next.asides.bodies, o.ID)
		if err != nil {
			people = people || asks(o.Kind)
			delete(next.objects, o.ID)
			next.asides.bodies[o.ID] = revision.Aside{Kind: o.Kind, ID: o.ID, Name: o.Name, Rule: -1, Problem: err.Error()}
			continue
		}
		people = people || asks(o.Kind)
		next.objects[o.ID] = one
	}
	if people {
		next.directory = next.direct()
	}
	next.configure()
	return next
}

// of returns the objects of a kind, by name.
func (r *roster) of(kind revision.Kind) []object {
	var found []object
	for _, o := range r.objects {
		if o.kind == kind {
			found = append(found, o)
		}
	}
	slices.SortFunc(found, func(a, b object) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return found
}

// direct builds the directory.
func (r *roster) direct() *directory.Directory {
	r.asides.people = nil
	asides := &r.asides.people
	var people []directory.Person
	members := map[uuid.UUID][]string{}
	for _, o := range r.of(revision.KindPerson) {
		body := o.body.(revision.PersonBody)
		name := body.FullName
		if name == "" {
			name = o.Name
		}
		people = append(people, directory.Person{ID: o.ID.String(), Name: name})
		for _, g := range body.Groups {
			members[g.ID] = append(members[g.ID], o.ID.String())
		}
	}
	var networks []directory.Network
	for _, o := range r.of(revision.KindNetwork) {
		asides.Ranges(o.kind, o.Meta, o.body.(revision.NetworkBody).Ranges)
		networks = append(networks, directory.Network{ID: o.ID.String(), Name: o.Name, Ranges: revision.Prefixes(o.body.(revision.NetworkBody).Ranges)})
	}
	var groups []directory.Group
	for _, o := range r.of(revision.KindGroup) {
		body := o.body.(revision.GroupBody)
		asides.Ranges(o.kind, o.Meta, body.Ranges)
		g := directory.Group{ID: o.ID.String(), Name: o.Name, Persons: members[o.ID], Ranges: revision.Prefixes(body.Ranges)}
		for _, ref := range body.Groups {
			g.Groups = append(g.Groups, ref.ID.String())
		}
		for _, ref := range body.Networks {
			g.Networks = append(g.Networks, ref.ID.String())
		}
		for _, ref := range body.Machines {
			if m, ok := r.objects[ref.ID].body.(revision.MachineBody); ok {
				if addr, err := netip.ParseAddr(m.Address); err == nil {
					g.Ranges = append(g.Ranges, netip.PrefixFrom(addr, addr.BitLen()))
				} else {
					asides.Add(revision.KindMachine, r.objects[ref.ID].Meta, m.Address, fmt.Errorf("%q is not an address", m.Address))
				}
			}
		}
		groups = append(groups, g)
	}
	var machines []directory.Machine
	for _, o := range r.of(revision.KindMachine) {
		if addr, err := netip.ParseAddr(o.body.(revision.MachineBody).Address); err == nil {
			machines = append(machines, directory.Machine{ID: o.ID.String(), Name: o.Name, Addr: addr})
		}
	}
	return directory.New(people, groups, networks).WithMachines(machines)
}

// configure fills in the parts of the configuration that come from objects.
func (r *roster) configure() {
	config := policy.Config{Directory: r.directory}
	r.asides.rules = nil
	asides := &r.asides.rules
	settings := revision.SettingsBody{Combining: policy.Position}
	for _, o := range r.of(revision.KindSettings) {
		settings = o.body.(revision.SettingsBody)
	}
	config.Combining, config.Way, config.NetworkWays = settings.Combining, settings.Way, map[string]policy.NetworkWay{}
	config.Shared = map[string]bool{}
	for _, o := range r.of(revision.KindNetwork) {
		body := o.body.(revision.NetworkBody)
		config.NetworkWays[o.ID.String()] = body.NetworkWay()
		if body.Shared {
			config.Shared[o.ID.String()] = true
		}
	}
	for _, o := range r.of(revision.KindApp) {
		body := o.body.(revision.AppBody)
		config.Apps = append(config.Apps, body.App(o.Meta, asides))
	}
	for _, o := range r.of(revision.KindEngine) {
		body := o.body.(revision.EngineBody)
		config.Engines = append(config.Engines, body.Engine(o.Meta, asides))
	}
	for _, o := range r.of(revision.KindException) {
		body := o.body.(revision.ExceptionBody)
		config.Exceptions = append(config.Exceptions, body.Exception(o.Meta, asides))
	}
	for _, o := range Ordered(r.of(revision.KindPolicy), settings, func(o object) uuid.UUID { return o.ID }) {
		body := o.body.(revision.PolicyBody)
		p := body.Policy(o.Meta, asides)
		switch body.Role {
		case revision.RoleBaseline:
			config.Baseline = &p
		case revision.RoleFallback:
			config.Fallback = &p
		default:
			config.Policies = append(config.Policies, p)
		}
	}
	r.config = config
}

// Ordered puts policies, given in the order of their names, into the order of the settings.
func Ordered[T any](policies []T, settings revision.SettingsBody, id func(T) uuid.UUID) []T {
	place := map[uuid.UUID]int{}
	for i, ref := range settings.Order {
		place[ref.ID] = i - len(settings.Order)
	}
	slices.SortStableFunc(policies, func(a, b T) int { return place[id(a)] - place[id(b)] })
	return policies
}

// scheduled reads schedules. One that cannot be read is set aside; rules that name it then name a schedule that is never in force.
func scheduled(kept []revision.Schedule) (all []policy.Schedule, asides revision.Asides) {
	for _, k := range kept {
		meta := revision.Meta{ID: k.ID, Name: k.Name}
		s, err := schedule.Parse(k.Text)
		if err != nil {
			asides.Add(revision.KindSchedule, meta, k.Text, err)
			continue
		}
		zone, err := revision.LoadZone(k.Zone)
		if err != nil {
			asides.Add(revision.KindSchedule, meta, k.Zone, err)
			continue
		}
		all = append(all, policy.Schedule{ID: k.ID.String(), Name: k.Name, Schedule: s, Zone: zone})
	}
	return all, asides
}

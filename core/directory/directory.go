// Package directory resolves who asks: people, networks, and the groups that a request belongs to.
//
// From: persons, groups with their members, networks with their ranges of addresses.
// To: [Directory], which resolves a person, an address or both for package policy.
package directory

import (
	"net/netip"
	"slices"

	"widelark/core/ranges"
)

// Person is a named user.
type Person struct{ ID, Name string }

// Network is a named set of address ranges. An address belongs to the network that has the longest prefix for it.
type Network struct {
	ID, Name string
	Ranges   []netip.Prefix
}

// Group is a set of persons, networks, addresses and other groups.
type Group struct {
	ID, Name string
	Persons  []string // ids, as are Groups and Networks; unknown ids are ignored
	Groups   []string
	Networks []string
	Ranges   []netip.Prefix
}

// Machine is a named machine at an address.
type Machine struct {
	ID, Name string
	Addr     netip.Addr
}

// Directory resolves the groups and the network of a request. It is immutable and safe for concurrent use. The zero Directory is empty.
type Directory struct {
	People   []Person
	Groups   []Group
	Networks []Network
	machines map[netip.Addr]Machine

	person, group, network Table[int32]
	up                     []Set // for each group: the group itself and all groups that contain it, directly or not
	ofPerson, ofNetwork    []Set // for each person and network: all groups that contain it, directly or not
	networks               ranges.Table[int32]
	ranges                 ranges.Table[Set] // for each range: all groups that contain it, directly or not
	size                   []int             // for each group: how many persons and addresses it contains, directly or not, up to mostCounted
}

// New returns a directory. If two networks have the same range, the first one gets it. Groups that contain each other in a ring, which
// [Ring] finds, have the same members.
func New(people []Person, groups []Group, networks []Network) *Directory {
	d := &Directory{
		People: people, Groups: groups, Networks: networks,
		person: NewTable[int32](len(people)), group: NewTable[int32](len(groups)), network: NewTable[int32](len(networks)),
	}
	for i, p := range people {
		d.person.Put(p.ID, int32(i))
	}
	for i, g := range groups {
		d.group.Put(g.ID, int32(i))
	}
	for i, n := range networks {
		d.network.Put(n.ID, int32(i))
		for _, r := range n.Ranges {
			if _, taken := d.networks.Get(r); !taken {
				d.networks.Put(r, int32(i))
			}
		}
	}
	d.climb()
	d.ofPerson, d.ofNetwork = NewSets(len(people), len(groups)), NewSets(len(networks), len(groups))
	join := func(into []Set, at *Table[int32], members []string, g int) {
		for _, id := range members {
			if n := number(at, id); n >= 0 {
				into[n].Unite(d.up[g])
			}
		}
	}
	for i, g := range groups {
		join(d.ofPerson, &d.person, g.Persons, i)
		join(d.ofNetwork, &d.network, g.Networks, i)
		for _, r := range g.Ranges {
			of, known := d.ranges.Get(r)
			if !known {
				of = NewSet(len(groups))
				d.ranges.Put(r, of)
			}
			of.Unite(d.up[i])
		}
	}
	d.measure()
	return d
}

// WithMachines returns the directory with machines. Of several at an address, the first counts.
func (d *Directory) WithMachines(machines []Machine) *Directory {
	with := *d
	with.machines = map[netip.Addr]Machine{}
	for _, m := range machines {
		if _, taken := with.machines[m.Addr.Unmap()]; !taken {
			with.machines[m.Addr.Unmap()] = m
		}
	}
	return &with
}

// MachinesIn reports whether there is a machine at an address of a range.
func (d *Directory) MachinesIn(r netip.Prefix) bool {
	for at := range d.machines {
		if r.Contains(at.Unmap()) {
			return true
		}
	}
	return false
}

// MachineAt returns the machine at an address; the zero Machine where none is known to be there.
func (d *Directory) MachineAt(addr netip.Addr) Machine {
	return d.machines[addr.Unmap()]
}

// mostCounted is from how many members on a group's are not counted.
const mostCounted = 1000

// measure fills d.size.
func (d *Directory) measure() {
	d.size = make([]int, len(d.Groups))
	count := func(in Set, members int) {
		for g := in.Next(0); g >= 0; g = in.Next(g + 1) {
			d.size[g] = min(d.size[g]+members, mostCounted)
		}
	}
	for _, in := range d.ofPerson {
		count(in, 1)
	}
	for i, in := range d.ofNetwork {
		for _, r := range d.Networks[i].Ranges {
			count(in, addresses(r))
		}
	}
	for i, g := range d.Groups {
		for _, r := range g.Ranges {
			count(d.up[i], addresses(r))
		}
	}
}

// addresses returns how many addresses a range has, up to mostCounted.
func addresses(r netip.Prefix) int {
	if free := r.Addr().BitLen() - r.Bits(); free < 10 {
		return 1 << free
	}
	return mostCounted
}

// Counts reports whether a group has at least so many members: persons and addresses, directly or not. Precondition: n is at most 1000.
func (d *Directory) Counts(group int32, n int) bool { return d.size[group] >= n }

// climb fills d.up.
func (d *Directory) climb() {
	above := make([][]int32, len(d.Groups))
	for i, g := range d.Groups {
		for _, id := range g.Groups {
			if n := d.Group(id); n >= 0 {
				above[n] = append(above[n], int32(i))
			}
		}
	}
	d.up = make([]Set, len(d.Groups))
	for i := range d.Groups {
		set := NewSet(len(d.Groups))
		todo := []int32{int32(i)}
		for len(todo) > 0 {
			n := todo[len(todo)-1]
			todo = todo[:len(todo)-1]
			if !set.Has(n) {
				set.Add(n)
				todo = append(todo, above[n]...)
			}
		}
		d.up[i] = set
	}
}

// Ring returns the ids of groups that contain each other in a ring: each contains the next, and the last one the first. It returns nil if there is
// no ring.
func Ring(groups []Group) []string {
	members := map[string][]string{}
	for _, g := range groups {
		members[g.ID] = g.Groups
	}
	const open, done = 1, 2
	state := map[string]int{}
	var path []string
	var find func(id string) []string
	find = func(id string) []string {
		switch state[id] {
		case done:
			return nil
		case open:
			return slices.Clone(path[slices.Index(path, id):])
		}
		state[id] = open
		path = append(path, id)
		for _, member := range members[id] {
			if ring := find(member); ring != nil {
				return ring
			}
		}
		path = path[:len(path)-1]
		state[id] = done
		return nil
	}
	for _, g := range groups {
		if ring := find(g.ID); ring != nil {
			return ring
		}
	}
	return nil
}

// Person returns the index of a person; -1 if the id is unknown.
func (d *Directory) Person(id string) int32 { return number(&d.person, id) }

// Group returns the index of a group; -1 if the id is unknown.
func (d *Directory) Group(id string) int32 { return number(&d.group, id) }

// Network returns the index of a network; -1 if the id is unknown.
func (d *Directory) Network(id string) int32 { return number(&d.network, id) }

func number(of *Table[int32], id string) int32 {
	if id == "" {
		return -1
	}
	if n := of.Find(id); n != nil {
		return *n
	}
	return -1
}

// NetworkOf returns the index of the network that has the longest prefix for an address; -1 if none contains it.
func (d *Directory) NetworkOf(addr netip.Addr) int32 {
	found := int32(-1)
	if addr.IsValid() {
		d.networks.Each(addr, func(n int32) bool {
			found = n
			return false
		})
	}
	return found
}

// Belong sets groups to the groups of a request: those of its person, those of its address, and, for an unnamed member of a group, that group and
// those that contain it. -1 and the zero Addr stand for none. It returns the index of the address's network. Precondition: groups has room for all
// groups of the directory. It allocates nothing.
func (d *Directory) Belong(groups Set, person, member int32, addr netip.Addr) (network int32) {
	groups.Clear()
	if person >= 0 {
		groups.Unite(d.ofPerson[person])
	}
	if member >= 0 {
		groups.Unite(d.up[member])
	}
	network = d.NetworkOf(addr)
	if network >= 0 {
		groups.Unite(d.ofNetwork[network])
	}
	if addr.IsValid() {
		d.ranges.Each(addr, func(of Set) bool {
			groups.Unite(of)
			return true
		})
	}
	return network
}

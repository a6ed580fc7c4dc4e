// Package directory says who asks: people, networks, and the groups that a request belongs to.
//
// From: persons, groups with their members, networks with their ranges of addresses.
// To: [Directory], which package policy asks with a person, an address or both.
package directory

import (
	"cmp"
	"net/netip"
	"slices"
)

// Person is a named user.
type Person struct{ ID, Name string }

// Network is a named set of address ranges. An address is in the network whose range holds it most specifically.
type Network struct {
	ID, Name string
	Ranges   []netip.Prefix
}

// Group is a set of persons, networks, addresses and other groups.
type Group struct {
	ID, Name string
	Persons  []string // ids, as are Groups and Networks; what is not there is passed over
	Groups   []string
	Networks []string
	Ranges   []netip.Prefix
}

// Directory answers what a request belongs to. It is immutable and safe for concurrent use. The zero Directory knows nobody.
type Directory struct {
	People   []Person
	Groups   []Group
	Networks []Network

	person, group, network Table[int32]
	up                     []Set // by group: itself and the groups that it is in, however far up
	ofPerson, ofNetwork    []Set // closed upwards
	networks, ranges       byLength
	rangeGroups            []Set // by the numbers in ranges
}

// byLength finds the ranges that hold an address, the longest prefix first.
type byLength []struct {
	bits int // of the prefix; IPv6 after IPv4 by 1000
	at   map[netip.Prefix]int32
}

const familySix = 1000

func prefixKey(p netip.Prefix) int {
	if p.Addr().Is6() {
		return familySix + p.Bits()
	}
	return p.Bits()
}

// add files a number under a range, unless the range has one; it returns the one that it has then.
func (b *byLength) add(p netip.Prefix, n int32) int32 {
	p = p.Masked()
	at, found := slices.BinarySearchFunc(*b, prefixKey(p), func(e struct {
		bits int
		at   map[netip.Prefix]int32
	}, key int,
	) int {
		return cmp.Compare(key, e.bits) // the longest first
	})
	if !found {
		*b = slices.Insert(*b, at, struct {
			bits int
			at   map[netip.Prefix]int32
		}{prefixKey(p), map[netip.Prefix]int32{}})
	}
	if have, ok := (*b)[at].at[p]; ok {
		return have
	}
	(*b)[at].at[p] = n
	return n
}

// each calls visit for every range that holds an address, the longest first, until it says no.
func (b byLength) each(addr netip.Addr, visit func(n int32) bool) {
	addr = addr.Unmap().WithZone("")
	from := 0
	if addr.Is6() {
		from = familySix
	}
	for _, e := range b {
		if length := e.bits - from; length >= 0 && length <= addr.BitLen() {
			if p, err := addr.Prefix(length); err == nil {
				if n, ok := e.at[p]; ok && !visit(n) {
					return
				}
			}
		}
	}
}

// Unmapped returns a range in the form in which ranges are compared: an IPv4-mapped one as its IPv4 range.
func Unmapped(p netip.Prefix) netip.Prefix {
	if p.Addr().Is4In6() && p.Bits() >= 96 {
		return netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96).Masked()
	}
	return p.Masked()
}

// New returns a directory. Where two networks have the same range, the first has it. Groups that hold each other in a ring, which
// [Ring] finds, belong to one another.
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
			d.networks.add(Unmapped(r), int32(i))
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
			n := d.ranges.add(Unmapped(r), int32(len(d.rangeGroups)))
			if int(n) == len(d.rangeGroups) {
				d.rangeGroups = append(d.rangeGroups, NewSet(len(groups)))
			}
			d.rangeGroups[n].Unite(d.up[i])
		}
	}
	return d
}

// climb finds the groups that each group is in.
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

// Ring returns the ids of groups that hold each other in a ring, each holding the next and the last the first; nil where there is none.
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

// Person returns the number of a person; -1 where there is no such.
func (d *Directory) Person(id string) int32 { return number(&d.person, id) }

// Group returns the number of a group; -1 where there is no such.
func (d *Directory) Group(id string) int32 { return number(&d.group, id) }

// Network returns the number of a network; -1 where there is no such.
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

// NetworkOf returns the network that holds an address most specifically; -1 where none does.
func (d *Directory) NetworkOf(addr netip.Addr) int32 {
	found := int32(-1)
	if addr.IsValid() {
		d.networks.each(addr, func(n int32) bool {
			found = n
			return false
		})
	}
	return found
}

// Belong fills groups with those that a request belongs to: of its person, of its address, and those that an unnamed member of one
// group is in. -1 and the zero Addr stand for none. It returns the network of the address. Precondition: groups is made for as many
// as the directory has. It allocates nothing.
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
		d.ranges.each(addr, func(n int32) bool {
			groups.Unite(d.rangeGroups[n])
			return true
		})
	}
	return network
}

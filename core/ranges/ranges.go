// Package ranges finds the address ranges that contain an address.
//
// From: ranges in CIDR notation (RFC 4632, RFC 4291 section 2.3), each with a value.
// To: the values of the ranges that contain an address, the longest prefix first.
package ranges

import (
	"cmp"
	"net/netip"
	"slices"
)

// Table maps ranges to values. The zero Table is empty and ready for use. Concurrent reads are safe while nothing is put. A look-up reads one map
// for each prefix length that occurs.
type Table[V any] struct {
	lengths []length[V] // the longest first, IPv4 and IPv6 apart
}

// length holds the ranges of one prefix length.
type length[V any] struct {
	bits int // those of IPv6 are counted from [six]
	of   map[netip.Prefix]V
}

// six is more than any prefix length.
const six = 1000

func key(addr netip.Addr, bits int) int {
	if addr.Is6() {
		return six + bits
	}
	return bits
}

// Canonical returns a range in the form in which ranges are compared: with all bits after the prefix zero, and an IPv4-mapped range
// (RFC 4291, section 2.5.5.2) as the IPv4 range.
func Canonical(p netip.Prefix) netip.Prefix {
	if p.Addr().Is4In6() && p.Bits() >= 96 {
		return netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96).Masked()
	}
	return p.Masked()
}

// Single returns the range that contains one address only.
func Single(addr netip.Addr) netip.Prefix {
	addr = addr.Unmap().WithZone("")
	return netip.PrefixFrom(addr, addr.BitLen())
}

// Get returns the value of exactly this range.
func (t *Table[V]) Get(p netip.Prefix) (value V, ok bool) {
	p = Canonical(p)
	if at, found := t.find(p); found {
		value, ok = t.lengths[at].of[p]
	}
	return value, ok
}

// Put sets the value of a range.
func (t *Table[V]) Put(p netip.Prefix, value V) {
	p = Canonical(p)
	at, found := t.find(p)
	if !found {
		t.lengths = slices.Insert(t.lengths, at, length[V]{key(p.Addr(), p.Bits()), map[netip.Prefix]V{}})
	}
	t.lengths[at].of[p] = value
}

func (t *Table[V]) find(p netip.Prefix) (int, bool) {
	return slices.BinarySearchFunc(t.lengths, key(p.Addr(), p.Bits()), func(l length[V], key int) int { return cmp.Compare(key, l.bits) })
}

// Len returns the number of prefix lengths that occur: the most maps that [Table.Each] reads.
func (t *Table[V]) Len() int { return len(t.lengths) }

// Each calls visit with the value of every range that contains an address, the longest prefix first, until visit returns false. It
// allocates nothing.
func (t *Table[V]) Each(addr netip.Addr, visit func(V) bool) {
	addr = addr.Unmap().WithZone("")
	for i := range t.lengths {
		bits := t.lengths[i].bits - key(addr, 0)
		if bits < 0 || bits > addr.BitLen() {
			continue
		}
		if p, err := addr.Prefix(bits); err == nil {
			if value, ok := t.lengths[i].of[p]; ok && !visit(value) {
				return
			}
		}
	}
}

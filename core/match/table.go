package match

import (
	"math/bits"
	"net/netip"
	"slices"
)

// table finds refs and chains by the hash of what they are about. It is open addressing with linear probing: equal hashes stand
// one after the other. It may give out what only hashes alike, so callers compare; it never keeps back what is there. A bit for
// each hash stands before the slots, so that most hosts that are in no list cost no look at them.
type table struct {
	slots []uint64 // the lower half of the hash, and 1 + what it refers to; 0 for an empty one
	seen  []uint64
	shift uint // of a hash to its bit in seen
}

// slotsFor says how many slots so many keys get: three in four are used.
func slotsFor(keys int) int { return keys + keys/3 + 8 }

func newTable(keys int) table {
	if keys == 0 {
		return table{}
	}
	width := max(6, bits.Len(uint(keys))+3) // eight to sixteen bits a key
	if keys < 1<<14 {
		width += 2 // what is small may be sparse: it stays near the processor all the same
	}
	return table{slots: make([]uint64, slotsFor(keys)), seen: make([]uint64, 1<<(width-6)), shift: uint(64 - width)}
}

func (t *table) home(h uint64) int {
	high, _ := bits.Mul64(h, uint64(len(t.slots)))
	return int(high)
}

func (t *table) insert(h uint64, refers uint32) { t.insertBounded(h, refers, len(t.slots)) }

// insertBounded reports whether fewer than most with the same hash stood there before; else nothing is put in.
func (t *table) insertBounded(h uint64, refers uint32, most int) bool {
	i := t.home(h)
	for t.slots[i] != 0 {
		if uint32(t.slots[i]>>32) == uint32(h) {
			if most--; most <= 0 {
				return false
			}
		}
		if i++; i == len(t.slots) {
			i = 0
		}
	}
	t.slots[i] = uint64(uint32(h))<<32 | uint64(refers+1)
	at := h >> t.shift
	t.seen[at>>6] |= 1 << (at & 63)
	return true
}

// maybe reports whether anything might stand under the hash.
func (t *table) maybe(h uint64) bool {
	if len(t.slots) == 0 {
		return false
	}
	at := h >> t.shift
	return t.seen[at>>6]&(1<<(at&63)) != 0
}

// next returns what stands under the hash from a slot on, and the slot to go on from; ok is false at the end.
func (t *table) next(h uint64, from int) (refers uint32, after int, ok bool) {
	for i := from; t.slots[i] != 0; {
		slot := t.slots[i]
		if i++; i == len(t.slots) {
			i = 0
		}
		if uint32(slot>>32) == uint32(h) {
			return uint32(slot) - 1, i, true
		}
	}
	return 0, 0, false
}

// The kinds of keys.
const (
	nameKey    = iota // a host
	endingKey         // a host before any public suffix
	hostKey           // a host with literal pages: all of them
	pathKey           // a host and a path
	addressKey        // a range of addresses; these stand beside the table
)

// Names are hashed from the right, so that the hashes of all hosts above one come along the way. Multiplying by an odd number
// and mixing down at the end spreads names that differ in a digit (Steele and Vigna, 2021, give good multipliers).
const (
	hashStart = 0x9e3779b97f4a7c15
	hashStep  = 0xd1342543de82ef95
)

func hashBack(h uint64, c byte) uint64 { return (h ^ uint64(c)) * hashStep }

// finish makes the hash of a key from the running one; kind keeps keys of different kinds apart.
func finish(h uint64, kind byte) uint64 {
	h ^= h>>32 ^ uint64(kind)<<56
	h *= 0xaef17502108ef2d9
	return h ^ h>>29
}

func hashName[T string | []byte](name T) uint64 {
	h := uint64(hashStart)
	for i := len(name) - 1; i >= 0; i-- {
		h = hashBack(h, name[i])
	}
	return finish(h, nameKey)
}

func hashKey(key chainKey) uint64 {
	h := uint64(hashStart)
	for i := len(key.name) - 1; i >= 0; i-- {
		h = hashBack(h, key.name[i])
	}
	for i := range len(key.path) { // from the left: pages are looked up from the root on
		h = hashBack(h, key.path[i])
	}
	return finish(h, key.kind)
}

// addrRange is a prefix with its chain.
type addrRange struct {
	bits   int // length; those of IPv6 are counted from 1000
	chains map[netip.Prefix]int32
}

func family(addr netip.Addr) int {
	if addr.Is6() {
		return 1000
	}
	return 0
}

func (x *base) addRange(prefix netip.Prefix, head int32) {
	length := family(prefix.Addr()) + prefix.Bits()
	at := slices.IndexFunc(x.ranges, func(r addrRange) bool { return r.bits == length })
	if at < 0 {
		at = len(x.ranges)
		x.ranges = append(x.ranges, addrRange{length, map[netip.Prefix]int32{}})
	}
	x.ranges[at].chains[prefix] = head
}

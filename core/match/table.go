package match

import (
	"encoding/binary"
	"math/bits"

	"widelark/core/memory"
)

// table finds refs and chains by the hash of their keys. It uses open addressing with linear probing: equal hashes are
// adjacent. It may return entries that only have the same hash, so callers compare; it never misses one. A bit set of
// the hashes precedes the slots, so that for most hosts that are in no list the slots are not read.
type table struct {
	slots []uint64 // the lower half of the hash, and 1 + what it refers to; 0 for an empty one
	seen  []uint64
	shift uint // of a hash to its bit in seen
}

// slotsFor returns the number of slots for a number of keys: at most three in four are used.
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

func (t *table) insert(h uint64, refers uint32) {
	i := t.home(h)
	for t.slots[i] != 0 {
		if i++; i == len(t.slots) {
			i = 0
		}
	}
	t.slots[i] = uint64(uint32(h))<<32 | uint64(refers+1)
	at := h >> t.shift
	t.seen[at>>6] |= 1 << (at & 63)
}

// maybe reports whether anything might stand under the hash.
func (t *table) maybe(h uint64) bool {
	if len(t.slots) == 0 {
		return false
	}
	at := h >> t.shift
	return t.seen[at>>6]&(1<<(at&63)) != 0
}

// first is next from the beginning.
func (t *table) first(h uint64) (refers uint32, after int, ok bool) {
	if !t.maybe(h) {
		return 0, 0, false
	}
	return t.next(h, t.home(h))
}

// next returns the next value with the hash, beginning at a slot, and the slot to continue from; ok is false at the end.
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

// Hosts are hashed from the right, eight bytes at a time, so that the hashes of all hosts above one come along the way. Words are folded
// by a multiplication of full width, which spreads names that differ in a digit (Steele and Vigna, 2021, give good multipliers).
const (
	hashStart = 0x9e3779b97f4a7c15
	hashStep  = 0xd1342543de82ef95
)

func fold(h, word uint64) uint64 {
	high, low := bits.Mul64(h^word, hashStep)
	return high ^ low
}

// hashOn takes a segment of a path into the hash of a host, or of a host with the segments before.
func hashOn(h uint64, piece []byte) uint64 {
	h += uint64(len(piece)) * hashStart
	switch n := len(piece); {
	case n >= 8:
		for i := 0; i < n-8; i += 8 {
			h = fold(h, binary.LittleEndian.Uint64(piece[i:]))
		}
		return fold(h, binary.LittleEndian.Uint64(piece[n-8:]))
	case n >= 4:
		return fold(h, uint64(binary.LittleEndian.Uint32(piece))|uint64(binary.LittleEndian.Uint32(piece[n-4:]))<<32)
	case n > 0:
		return fold(h, uint64(piece[0])|uint64(piece[n/2])<<8|uint64(piece[n-1])<<16)
	}
	return fold(h, 0)
}

// finish makes the hash of a key from the running one; kind keeps keys of different kinds apart.
func finish(h uint64, kind byte) uint64 {
	h ^= h>>32 ^ uint64(kind)<<56
	h *= 0xaef17502108ef2d9
	return h ^ h>>29
}

// spot is a position in a host where a label begins, with the hash of the host from there on.
type spot struct {
	h  uint64
	at int
}

// key returns the key of the name that begins at the spot.
func (s spot) key() uint64 { return s.h }

// pagesKey returns the key of the literal pages of that name.
func (s spot) pagesKey() uint64 { return finish(s.h, hostKey) }

// appendSpots appends the spots of a host from the right. The hash of a name is that of its whole words, and of the bytes to the left of
// them alone, filled up with zeros.
func appendSpots(spots []spot, host []byte) []spot {
	h := uint64(hashStart)
	end := len(host)
	for ; end > 0; end -= 8 {
		word := wordBefore(host, end)
		for dots := dotsIn(word); dots != 0; {
			bit := 63 - bits.LeadingZeros64(dots) // the highest of the byte
			spots = append(spots, spot{fold(h, word&(^uint64(0)<<(bit+1))), end - 8 + bit/8 + 1})
			dots &^= 1 << bit
		}
		h = fold(h, word)
	}
	if end == 0 {
		h = fold(h, 0)
	}
	return append(spots, spot{h, 0})
}

// wordBefore returns the eight bytes before a place, the last one highest, with zeros for those before the text.
func wordBefore(text []byte, end int) uint64 {
	switch from := end - 8; {
	case from >= 0:
		return binary.LittleEndian.Uint64(text[from:])
	case len(text) >= 8:
		return binary.LittleEndian.Uint64(text) << (-8 * from & 63)
	}
	var word uint64
	for _, c := range text[:end] {
		word = word>>8 | uint64(c)<<56
	}
	return word
}

// dotsIn returns a word in which the highest bit of each byte that is a dot is set.
func dotsIn(word uint64) uint64 {
	const every, low = 0x0101010101010101, 0x7f7f7f7f7f7f7f7f
	others := word ^ '.'*every
	return ^((others&low + low) | others | low)
}

// hashKey is for keys that stand in the table.
func hashKey(key chainKey) uint64 {
	var room [16]spot
	spots := appendSpots(room[:0], memory.Bytes(key.name))
	h := uint64(hashStart)
	if len(spots) > 0 {
		h = spots[len(spots)-1].h
	}
	path := memory.Bytes(key.path)
	for at := 0; at < len(path); { // from the left: pages are looked up from the root on
		end := segmentEnd(path, at)
		h = hashOn(h, path[at:end])
		at = end
	}
	return finish(h, key.kind)
}

// segmentEnd returns where the segment of a path ends that begins with the slash at a place.
func segmentEnd(path []byte, at int) int {
	for end := at + 1; end < len(path); end++ {
		if path[end] == '/' {
			return end
		}
	}
	return len(path)
}

package match

import (
	"math/bits"

	"widelark/core/memory"
)

// nameTable finds refs and chains by host. A lookup among millions of hosts costs mainly its cache misses, so everything
// below one name begins in one cache line: that of the last two labels, usually a registered name. For a host
// that is not listed, one line is enough then, however many labels the host has. Where very many stand below such a name, as below a public
// suffix of two labels, it is crowded, and those that find no room in its lines stand in that of the last three labels, and so on, at last
// in their own.
//
// Like the table it may return entries that only have the same hash, and never misses one.
type nameTable struct {
	lines   []line
	short   bool                // hosts of one label are among them
	crowded []uint64            // a bit for the hash of each crowded name; others may share it
	shift   uint                // of a hash to its bit in crowded
	full    map[uint64]struct{} // the hashes of the crowded names while the table is filled; nil afterwards
}

// line is a cache line, 64 bytes. Its slots are filled from the first on; a line with an empty slot ends what began
// before it. Three words hold the fingerprints of the slots, four in each of the first two and two in the third, in whose upper
// half stands how many there are; the other five hold what the slots refer to, two in each.
type line [8]uint64

const lineSlots = 10

func (l *line) len() int { return int(l[2] >> 32) }

// add fills the next slot. Precondition: the line is not full.
func (l *line) add(print uint64, refers uint32) {
	n := l.len()
	l[n/4] |= print & 0xffff << (n % 4 * 16)
	l[2] += 1 << 32
	l[3+n/2] |= uint64(refers) << (n % 2 * 32)
}

func (l *line) refers(slot int) uint32 { return uint32(l[3+slot/2] >> (slot % 2 * 32)) }

// holding returns a bit for each slot that holds a fingerprint; see slotOf.
func (l *line) holding(print uint64) uint64 {
	const top, low = 0x8000800080008000, 0x7fff7fff7fff7fff
	first, second, third := l[0]^print, l[1]^print, l[2]^print
	first, second, third = first&low+low|first, second&low+low|second, third&low+low|third // the top bit is set where they differ
	return ^first&top>>2 | ^second&top>>1 | ^third&top
}

// slotOf returns the slot of the lowest bit that holding returned.
func slotOf(found uint64) int {
	bit := bits.TrailingZeros64(found)
	return (bit%16-13)*4 + bit/16
}

// How many lines one name may fill with names below it before it counts as crowded, and how many with entries of its own.
const (
	crowdLines = 2
	ownLines   = 16
)

// newNameTable returns a table for so many keys. Half the slots are used, for a full line costs a look at the next one. It has as many
// lines as one name may fill, or more, so that no line is searched twice.
func newNameTable(keys int) nameTable {
	if keys == 0 {
		return nameTable{}
	}
	return nameTable{lines: memory.InHugePages(make([]line, 2*keys/lineSlots+ownLines)), full: map[uint64]struct{}{}}
}

// home returns the first line of a name.
func (t *nameTable) home(h uint64) int {
	high, _ := bits.Mul64(h, uint64(len(t.lines)))
	return int(high)
}

// fingerprint is the mark in a line for a key below a name of so many labels, counted from 0: a line is searched once for each
// name that it may belong to, and each search finds the keys of that name. It is repeated in all four lanes, and never 0.
func fingerprint(key uint64, depth int) uint64 {
	return uint64(uint16(key)+uint16(depth)*0x9e37|1<<15) * 0x0001000100010001
}

// insert reports whether there was room for a key of a host with these spots; else nothing is put in.
func (t *nameTable) insert(spots []spot, key uint64, refers uint32) bool {
	own := len(spots) - 1
	t.short = t.short || own == 0
	for depth := min(1, own); depth < own; depth++ {
		if t.put(spots[depth].h, fingerprint(key, depth), refers, crowdLines) {
			return true
		}
		t.full[spots[depth].h] = struct{}{}
	}
	return t.put(spots[own].h, fingerprint(key, own), refers, ownLines)
}

// put fills the first empty slot in so many lines from that of a name on.
func (t *nameTable) put(h, print uint64, refers uint32, most int) bool {
	at := t.home(h)
	for range most {
		l := &t.lines[at]
		if l.len() < lineSlots {
			l.add(print, refers)
			return true
		}
		if at++; at == len(t.lines) {
			at = 0
		}
	}
	return false
}

// seal readies the table for questions: nothing may be put in any more.
func (t *nameTable) seal() {
	if len(t.full) > 0 {
		width := max(6, bits.Len(uint(len(t.full)))+4) // sixteen to thirty-two bits each
		t.crowded, t.shift = make([]uint64, 1<<(width-6)), uint(64-width)
		for h := range t.full {
			at := h >> t.shift
			t.crowded[at>>6] |= 1 << (at & 63)
		}
	}
	t.full = nil
}

// isCrowded reports whether entries below a name may also be stored elsewhere.
func (t *nameTable) isCrowded(h uint64) bool {
	if t.crowded == nil {
		return false
	}
	at := h >> t.shift
	return t.crowded[at>>6]&(1<<(at&63)) != 0
}

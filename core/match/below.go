package match

import (
	"math/bits"

	"widelark/core/memory"
)

// belowNames tells whether entries stand for hosts below a name. It may report some where there are none, and never misses one: one bit for the hash of each such
// name, which others may share. The zero belowNames holds none.
type belowNames struct {
	marks []uint64
	shift uint // of a hash to its bit
}

// How many bits of the hash of a name find its bit at least: few names in few lists meet others hardly ever.
const fewestBelow = 12

// newBelowNames has eight to sixteen bits for each of so many hosts.
func newBelowNames(hosts int) belowNames {
	if hosts == 0 {
		return belowNames{}
	}
	width := max(fewestBelow, bits.Len(uint(hosts))+3)
	return belowNames{make([]uint64, 1<<(width-6)), uint(64 - width)}
}

// add marks the names that a host stands below.
func (b *belowNames) add(spots []spot) {
	for _, s := range spots[:len(spots)-1] {
		at := s.h >> b.shift
		b.marks[at>>6] |= 1 << (at & 63)
	}
}

func (b *belowNames) has(h uint64) bool {
	if b.marks == nil {
		return false
	}
	at := h >> b.shift
	return b.marks[at>>6]&(1<<(at&63)) != 0
}

// Below reports whether there may be entries for hosts below a host. It never misses one that names them; of globs, regexes and words see [Index.Patterns].
func (x *Index) Below(host string) bool {
	spots := appendSpots(nil, memory.Bytes(host))
	if len(spots) == 0 {
		return true
	}
	for _, p := range x.parts {
		if p.under.has(spots[len(spots)-1].h) {
			return true
		}
	}
	return false
}

// Patterns reports whether a list, by its position in [Index.Lists], has entries that are not for one host: globs, regexes, words, and names before any ending; and
// whether carve-outs are among them.
func (x *Index) Patterns(list int32) (some, carveOuts bool) {
	for _, p := range x.parts {
		for i, of := range p.listOf {
			if of == list {
				some, carveOuts = some || p.lists[i].patterns, carveOuts || p.lists[i].carves
			}
		}
	}
	return some, carveOuts
}

package directory

import "math/bits"

// Set is a set of small numbers, one bit each. The zero Set is empty. Methods that only read accept another set of any length.
type Set []uint64

// NewSet returns an empty set with room for the numbers below n.
func NewSet(n int) Set { return make(Set, (n+63)/64) }

// NewSets returns empty sets with room for the numbers below n, contiguous in memory.
func NewSets(sets, n int) []Set {
	words := (n + 63) / 64
	all, rest := make([]Set, sets), make([]uint64, sets*words)
	for i := range all {
		all[i], rest = rest[:words:words], rest[words:]
	}
	return all
}

// Add adds a number. Precondition: the set has room for it.
func (s Set) Add(n int32) { s[n>>6] |= 1 << (n & 63) }

// Has reports whether a number is in the set.
func (s Set) Has(n int32) bool { return n >= 0 && int(n>>6) < len(s) && s[n>>6]&(1<<(n&63)) != 0 }

// Clear empties the set.
func (s Set) Clear() { clear(s) }

// Unite adds the numbers of another set. Precondition: the other set is not longer.
func (s Set) Unite(other Set) {
	for i, word := range other {
		s[i] |= word
	}
}

// Meets reports whether the two sets share a number.
func (s Set) Meets(other Set) bool {
	for i, word := range s[:min(len(s), len(other))] {
		if word&other[i] != 0 {
			return true
		}
	}
	return false
}

// Next returns the smallest number in the set that is at least n; -1 if there is none.
func (s Set) Next(n int32) int32 {
	for i := int(n >> 6); i < len(s); i++ {
		word := s[i]
		if i == int(n>>6) {
			word &= ^uint64(0) << (n & 63)
		}
		if word != 0 {
			return int32(i<<6 + bits.TrailingZeros64(word))
		}
	}
	return -1
}

package segment

import (
	"strings"
	"sync"
)

// Numbering counts the values of a keyed column by what is made of each, as the site of an origin. Each of these outcomes has a number, so that counts of many segments are added without looking
// anything up: a segment keeps the numbers of its values. It is safe for concurrent use.
type Numbering struct {
	column Column
	of     func(value string) string

	mu   sync.Mutex
	said *said // guarded by mu
}

// said is the outcomes that were met so far.
type said struct {
	mu      sync.RWMutex
	names   []string          // guarded by mu; by number
	numbers map[string]uint32 // guarded by mu; the inverse of names
	values  map[string]uint32 // guarded by mu; of some values, so that the outcome is not made again
}

// Bounds of what a numbering keeps, so that it takes some hundred megabytes at most: beyond the first it begins anew, beyond the second it forgets values.
const (
	mostNames  = 2_000_000
	mostValues = 500_000
)

// NewNumbering returns a numbering of a keyed column by a function, which must be pure.
func NewNumbering(c Column, of func(value string) string) *Numbering {
	if c >= keyed {
		panic("bug: only keyed columns are numbered")
	}
	return &Numbering{column: c, of: of}
}

// Numbered is counts by the numbers of a [Numbering]. It is not safe for concurrent use.
type Numbered struct {
	by     *Numbering
	said   *said
	counts []Count
}

// Start returns several counts that can be added to each other; a goroutine may have each.
func (n *Numbering) Start(several int) []*Numbered {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.said == nil || n.said.len() > mostNames {
		n.said = &said{numbers: map[string]uint32{}, values: map[string]uint32{}}
	}
	all := make([]*Numbered, several)
	for i := range all {
		all[i] = &Numbered{by: n, said: n.said}
	}
	return all
}

func (s *said) len() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.names)
}

// number returns the numbers of values.
func (s *said) number(values *values, of func(string) string) []uint32 {
	numbers := make([]uint32, values.len())
	var missing []int
	s.mu.RLock()
	for i := range numbers {
		known := false
		if numbers[i], known = s.values[values.at(i)]; !known {
			missing = append(missing, i)
		}
	}
	s.mu.RUnlock()
	if len(missing) == 0 {
		return numbers
	}
	names := make([]string, len(missing))
	for i, at := range missing {
		names[i] = of(values.at(at))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.values)+len(missing) > mostValues {
		clear(s.values)
	}
	for i, at := range missing {
		number, known := s.numbers[names[i]]
		if !known {
			number = uint32(len(s.names))
			name := strings.Clone(names[i]) // not a part of all values of a segment
			s.names = append(s.names, name)
			s.numbers[name] = number
		}
		numbers[at] = number
		if len(s.values) < mostValues {
			s.values[strings.Clone(values.at(at))] = number
		}
	}
	return numbers
}

// numbered is the numbers of a column's values.
type numbered struct {
	said    *said
	numbers []uint32
}

// numbersOf returns the numbers of the values of the column that n counts by.
func (s *Segment) numbersOf(n *Numbered) []uint32 {
	s.mu.Lock()
	known := s.outcomes[n.by]
	s.mu.Unlock()
	if known.said == n.said {
		return known.numbers
	}
	numbers := n.said.number(&s.values[n.by.column], n.by.of) // twice where two ask at once: the numbers are the same
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.outcomes == nil {
		s.outcomes = map[*Numbering]numbered{}
	}
	s.outcomes[n.by] = numbered{n.said, numbers}
	return numbers
}

// Add adds selected records of a segment.
func (n *Numbered) Add(s *Segment, rows Rows) error {
	if rows.None() {
		return nil
	}
	numbers := s.numbersOf(n)
	if all := n.said.len(); len(n.counts) < all {
		n.counts = append(n.counts, make([]Count, all-len(n.counts))...)
	}
	if rows.All() {
		s.each(n.by.column, func(i int, of Count) { n.counts[numbers[i]].Add(of) })
		return nil
	}
	values, of, err := s.column(n.by.column)
	if err != nil {
		return err
	}
	counts, err := s.counted(rows, values.len(), func(row int) int { return of.at(row) })
	for i := range counts {
		if counts[i].All() > 0 {
			n.counts[numbers[i]].Add(counts[i])
		}
	}
	return err
}

// Join adds the counts of o. Precondition: one call of Start returned both.
func (n *Numbered) Join(o *Numbered) {
	if len(n.counts) < len(o.counts) {
		n.counts, o.counts = o.counts, n.counts
	}
	for i := range o.counts {
		n.counts[i].Add(o.counts[i])
	}
}

// Counts returns the counts by outcome, of those that occur.
func (n *Numbered) Counts() map[string]*Count {
	n.said.mu.RLock()
	defer n.said.mu.RUnlock()
	occur := 0
	for i := range n.counts {
		if n.counts[i].All() > 0 {
			occur++
		}
	}
	counts := make(map[string]*Count, occur)
	for i := range n.counts {
		if of := &n.counts[i]; of.All() > 0 {
			counts[n.said.names[i]] = of
		}
	}
	return counts
}

package segment

import (
	"math/bits"
	"slices"
	"strings"
)

// Rows is a selection of the records of a segment.
type Rows struct {
	words []uint64 // a bit a record; nil where all or none are selected
	all   bool
	n     int // records of the segment
}

// Has reports whether a record is selected.
func (r Rows) Has(row int) bool {
	if r.words == nil {
		return r.all
	}
	return r.words[row>>6]>>(row&63)&1 != 0
}

// All reports whether all records are selected.
func (r Rows) All() bool { return r.words == nil && r.all }

// None reports whether no record is selected.
func (r Rows) None() bool { return r.words == nil && !r.all }

// Count returns how many records are selected.
func (r Rows) Count() (n int) {
	if r.words == nil {
		if r.all {
			return r.n
		}
		return 0
	}
	for _, w := range r.words {
		n += bits.OnesCount64(w)
	}
	return n
}

// each calls each with the selected records.
func (r Rows) each(each func(row int)) {
	if r.words == nil {
		if r.all {
			for row := range r.n {
				each(row)
			}
		}
		return
	}
	for at, w := range r.words {
		for ; w != 0; w &= w - 1 {
			each(at<<6 + bits.TrailingZeros64(w))
		}
	}
}

func (s *Segment) every() Rows { return Rows{all: true, n: s.N} }
func (s *Segment) none() Rows  { return Rows{n: s.N} }

// rows makes a selection of bits, which it takes.
func (s *Segment) rows(words []uint64) Rows {
	r := Rows{words: words, n: s.N}
	switch r.Count() {
	case 0:
		return s.none()
	case s.N:
		return s.every()
	}
	return r
}

func (s *Segment) bits() []uint64 { return make([]uint64, (s.N+63)/64) }

func set(words []uint64, row int) { words[row>>6] |= 1 << (row & 63) }

// Filter says which records are selected. It is safe for concurrent use.
type Filter interface {
	// peek returns what can be told by the head alone: that all records are selected, that none is, or neither.
	peek(s *Segment) (all, none bool)
	// within returns which of some records are selected.
	within(s *Segment, rows Rows) (Rows, error)
}

// Select returns the records that a filter selects.
func (s *Segment) Select(f Filter) (Rows, error) {
	if all, none := f.peek(s); all {
		return s.every(), nil
	} else if none {
		return s.none(), nil
	}
	return f.within(s, s.every())
}

// And selects what all of some filters select; everything where there are none.
type And []Filter

func (f And) peek(s *Segment) (all, none bool) {
	all = true
	for _, one := range f {
		a, n := one.peek(s)
		if n {
			return false, true
		}
		all = all && a
	}
	return all, false
}

func (f And) within(s *Segment, rows Rows) (Rows, error) {
	if _, none := f.peek(s); none {
		return s.none(), nil
	}
	for _, one := range f {
		if rows.None() {
			break
		}
		if all, _ := one.peek(s); all {
			continue
		}
		var err error
		if rows, err = one.within(s, rows); err != nil {
			return rows, err
		}
	}
	return rows, nil
}

// Or selects what one of some filters selects.
type Or []Filter

func (f Or) peek(s *Segment) (all, none bool) {
	none = true
	for _, one := range f {
		a, n := one.peek(s)
		if a {
			return true, false
		}
		none = none && n
	}
	return false, none
}

func (f Or) within(s *Segment, rows Rows) (Rows, error) {
	found := s.bits()
	for _, one := range f {
		all, none := one.peek(s)
		if all {
			return rows, nil
		}
		if none {
			continue
		}
		some, err := one.within(s, rows)
		if err != nil {
			return some, err
		}
		if some.All() {
			return some, nil
		}
		for i, w := range some.words {
			found[i] |= w
		}
	}
	return s.rows(found), nil
}

// Not selects what a filter does not select.
type Not struct{ Filter Filter }

func (f Not) peek(s *Segment) (all, none bool) {
	all, none = f.Filter.peek(s)
	return none, all
}

func (f Not) within(s *Segment, rows Rows) (Rows, error) {
	some, err := f.Filter.within(s, rows)
	switch {
	case err != nil:
		return some, err
	case some.None():
		return rows, nil
	case some.All():
		return s.none(), nil
	}
	left := s.bits()
	for i := range left {
		left[i] = ^some.words[i]
		if rows.words != nil {
			left[i] &= rows.words[i]
		}
	}
	if over := s.N & 63; over != 0 {
		left[len(left)-1] &= 1<<over - 1
	}
	return s.rows(left), nil
}

// Has selects records of which a column has a value that Match returns true for.
type Has struct {
	Column Column
	Match  func(value string) bool
}

// matching returns which values match, and how many.
func (f Has) matching(values *values) (which []bool, n int) {
	which = make([]bool, max(1, values.len()))
	for i := range values.len() {
		if f.Match(values.at(i)) {
			which[i] = true
			n++
		}
	}
	return which, n
}

func (f Has) peek(s *Segment) (all, none bool) {
	if f.Column >= keyed || s.N == 0 {
		return false, s.N == 0
	}
	matched, unmatched := false, false
	values := &s.values[f.Column]
	for i := range values.len() {
		if f.Match(values.at(i)) {
			matched = true
		} else {
			unmatched = true
		}
		if matched && unmatched {
			return false, false
		}
	}
	return !unmatched, !matched
}

func (f Has) within(s *Segment, rows Rows) (Rows, error) {
	values, of, err := s.column(f.Column)
	if err != nil {
		return s.none(), err
	}
	which, n := f.matching(values)
	switch n {
	case 0:
		return s.none(), nil
	case values.len():
		return rows, nil
	}
	found := s.bits()
	switch {
	case rows.words != nil:
		rows.each(func(row int) {
			if which[of.at(row)] {
				set(found, row)
			}
		})
	case of.one != nil:
		var table [1 << 8]uint64
		for i, is := range which {
			if is {
				table[i] = 1
			}
		}
		for row, v := range of.one {
			found[row>>6] |= table[v] << (row & 63)
		}
	default:
		for row, v := range of.two {
			if which[v] {
				set(found, row)
			}
		}
	}
	return s.rows(found), nil
}

// Amount is a number that each record has.
type Amount uint8

// The amounts.
const (
	At   Amount = iota // milliseconds since 1970
	Size               // bytes
	Took               // milliseconds
)

// Between selects records of which a number lies in one of some spans.
type Between struct {
	Amount Amount
	Spans  []Span // in order, and apart
}

// Span is numbers from one until before another.
type Span struct{ From, To int64 }

func (f Between) has(n int64) bool {
	for low, high := 0, len(f.Spans); low < high; {
		middle := (low + high) / 2
		switch of := f.Spans[middle]; {
		case n < of.From:
			high = middle
		case n >= of.To:
			low = middle + 1
		default:
			return true
		}
	}
	return false
}

func (f Between) peek(s *Segment) (all, none bool) {
	if f.Amount != At || s.N == 0 {
		return false, s.N == 0
	}
	none = true
	for _, of := range f.Spans {
		if of.From <= s.first && s.last < of.To {
			return true, false
		}
		none = none && (of.To <= s.first || of.From > s.last)
	}
	return false, none
}

func (f Between) within(s *Segment, rows Rows) (Rows, error) {
	numbers, err := s.amount(frameTimes + int(f.Amount))
	if err != nil {
		return s.none(), err
	}
	found := s.bits()
	rows.each(func(row int) {
		if f.has(numbers.at(row)) {
			set(found, row)
		}
	})
	return s.rows(found), nil
}

// Page selects records by their whole URL.
type Page struct {
	Origin func(origin string) bool // whether Match may return true for URLs that begin with it; nil where it always may
	Match  func(url string) bool
}

func (f Page) peek(s *Segment) (all, none bool) {
	if f.Origin == nil {
		return false, s.N == 0
	}
	_, none = Has{Origin, f.Origin}.peek(s)
	return false, none
}

func (f Page) within(s *Segment, rows Rows) (Rows, error) {
	var err error
	if f.Origin != nil {
		if rows, err = (Has{Origin, f.Origin}).within(s, rows); err != nil || rows.None() {
			return rows, err
		}
	}
	origins, origin, err := s.column(Origin)
	if err != nil {
		return s.none(), err
	}
	rests, rest, err := s.column(Rest)
	if err != nil {
		return s.none(), err
	}
	found := s.bits()
	known := map[[2]int]bool{}
	rows.each(func(row int) {
		key := [2]int{origin.at(row), rest.at(row)}
		is, seen := known[key]
		if !seen {
			is = f.Match(origins.at(key[0]) + rests.at(key[1]))
			known[key] = is
		}
		if is {
			set(found, row)
		}
	})
	return s.rows(found), nil
}

// Text selects records with a text in their URL, in lower case. It is faster than a [Page].
type Text string

func (Text) peek(s *Segment) (all, none bool) { return false, s.N == 0 }

func (f Text) within(s *Segment, rows Rows) (Rows, error) {
	text := string(f)
	origins, origin, err := s.column(Origin)
	if err != nil {
		return s.none(), err
	}
	rests, rest, err := s.column(Rest)
	if err != nil {
		return s.none(), err
	}
	// The text lies in the origin, in the rest, or part of it ends the one and the other part, which begins with a slash or a question mark, begins the other.
	type ends struct{ first, second string }
	var over []ends
	for i := 1; i < len(text); i++ {
		if text[i] == '/' || text[i] == '?' {
			over = append(over, ends{text[:i], text[i:]})
		}
	}
	inOrigin, inRest := make([]uint64, max(1, origins.len())), make([]uint64, max(1, rests.len())) // bit 0: has it; bit i+1: has its part of over[i]
	s.mark(Origin, text, func(i int) { inOrigin[i] |= 1 })
	s.mark(Rest, text, func(i int) { inRest[i] |= 1 })
	for j, of := range over[:min(len(over), mostOver)] {
		ends := false
		for i := range origins.len() {
			if strings.HasSuffix(lowered(origins.at(i)), of.first) {
				inOrigin[i] |= 2 << j
				ends = true
			}
		}
		for i := 0; ends && i < rests.len(); i++ {
			if v := rests.at(i); len(v) >= len(of.second) && strings.EqualFold(v[:len(of.second)], of.second) {
				inRest[i] |= 2 << j
			}
		}
	}
	found := s.bits()
	rows.each(func(row int) {
		a, b := inOrigin[origin.at(row)], inRest[rest.at(row)]
		if (a|b)&1 != 0 || a&b != 0 {
			set(found, row)
		}
	})
	return s.rows(found), nil
}

// mark calls has with the values of a column that have a text, which is in lower case.
func (s *Segment) mark(c Column, text string, has func(i int)) {
	v := &s.values[c]
	low, ok := s.lower(c)
	if !ok {
		for i := range v.len() {
			if strings.Contains(lowered(v.at(i)), text) {
				has(i)
			}
		}
		return
	}
	for at, i := 0, 0; ; {
		next := strings.Index(low[at:], text)
		if next < 0 {
			return
		}
		at += next
		more, _ := slices.BinarySearch(v.ends[i:], uint32(at+1)) // the first that ends after its beginning
		if i += more; at+len(text) <= int(v.ends[i]) {
			has(i)
			at = int(v.ends[i])
		} else {
			at++ // it lies over two values
		}
	}
}

// mostOver is how many places of a text are looked at where a URL's origin may end: it has two slashes before.
const mostOver = 60

// ID selects the record with an id.
type ID [16]byte

func (ID) peek(s *Segment) (all, none bool) { return false, s.N == 0 }

func (f ID) within(s *Segment, rows Rows) (Rows, error) {
	s.mu.Lock()
	b, err := s.block(IDs)
	s.mu.Unlock()
	if err != nil {
		return s.none(), err
	}
	found := s.bits()
	rows.each(func(row int) {
		for at := len(f) - 1; at >= 0; at-- { // the last ones differ most
			if b.ids[at*s.N+row] != f[at] {
				return
			}
		}
		set(found, row)
	})
	return s.rows(found), nil
}

// Counts adds how often each value of a column occurs among selected records to what is known.
func (s *Segment) Counts(c Column, rows Rows, into map[string]*Count) error {
	add := func(value string, n Count) {
		known := into[value]
		if known == nil {
			known = &Count{}
			into[value] = known
		}
		known.Add(n)
	}
	if rows.None() {
		return nil
	}
	if rows.All() && c < keyed {
		s.each(c, func(i int, n Count) { add(s.values[c].at(i), n) })
		return nil
	}
	values, of, err := s.column(c)
	if err != nil {
		return err
	}
	counts, err := s.counted(rows, values.len(), func(row int) int { return of.at(row) })
	for i, n := range counts {
		if n.All() > 0 {
			add(values.at(i), n)
		}
	}
	return err
}

// counted counts selected records by a number that each has.
func (s *Segment) counted(rows Rows, most int, number func(row int) int) ([]Count, error) {
	said, verdict, err := s.column(Verdict)
	if err != nil {
		return nil, err
	}
	sizes, err := s.amount(frameSizes)
	if err != nil {
		return nil, err
	}
	index := make([]int, max(1, said.len()))
	for i := range said.len() {
		index[i] = verdictNumber(said.at(i))
	}
	counts := make([]Count, most)
	rows.each(func(row int) {
		of := &counts[number(row)]
		of.Requests[index[verdict.at(row)]]++
		of.Bytes += sizes.at(row)
	})
	return counts, nil
}

// Over adds selected records by the span of time that they are in; spans begin from, in milliseconds since 1970, and each ends where the next begins. Precondition:
// the first begins no later than the first record.
func (s *Segment) Over(rows Rows, from []int64, into []Count) error {
	if rows.None() {
		return nil
	}
	at := func(time int64) int { // the last that begins no later
		low, high := 0, len(from)
		for low+1 < high {
			if middle := (low + high) / 2; from[middle] <= time {
				low = middle
			} else {
				high = middle
			}
		}
		return low
	}
	if rows.All() && at(s.first) == at(s.last) {
		into[at(s.first)].Add(s.Total())
		return nil
	}
	times, err := s.amount(frameTimes)
	if err != nil {
		return err
	}
	counts, err := s.counted(rows, len(from), func(row int) int { return at(times.at(row)) })
	for i := range counts {
		into[i].Add(counts[i])
	}
	return err
}

// Package segment keeps records by columns: some bytes for each, and a search reads only the columns that it asks about.
//
// From: records.
// To: blocks that a store keeps, and [Segment]s that select, count and return records.
package segment

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"widelark/internal/journal"
)

// ErrBroken is wrapped by what a block that cannot be read returns.
var ErrBroken = errors.New("a segment of the journal cannot be read")

// Count is how many requests there were, by the index of their verdict in [Verdicts], and how many bytes they moved.
type Count struct {
	Requests [len(Verdicts)]int64
	Bytes    int64
}

// Add adds a count.
func (c *Count) Add(o Count) {
	for i, n := range o.Requests {
		c.Requests[i] += n
	}
	c.Bytes += o.Bytes
}

// All returns how many requests there were.
func (c Count) All() (n int64) {
	for _, of := range c.Requests {
		n += of
	}
	return n
}

// Segment is records by columns. It reads its blocks when they are needed. It is safe for concurrent use.
type Segment struct {
	N           int
	first, last int64 // milliseconds since 1970

	values [columnCount]values // those of texts once the block is there
	counts [keyed][]byte       // as they are stored: see [Segment.each]

	load     func(Block) ([]byte, error)
	mu       sync.Mutex
	blocks   [blockCount]*block                   // guarded by mu
	numbers  [columnCount]rowNumbers              // guarded by mu; which record has which value, once read
	outcomes map[*Numbering]numbered              // guarded by mu
	amounts  [frameTook - frameTimes + 1]*amounts // guarded by mu; likewise: times in milliseconds since 1970, sizes in bytes, spans in milliseconds
}

// values are the values of a column, in order.
type values struct {
	all  string // one after another
	ends []uint32
	low  string // all in lower case, once it was asked for; a value is where it is in all
}

func (v *values) len() int { return len(v.ends) }

func (v *values) at(i int) string {
	if i == 0 {
		return v.all[:v.ends[0]]
	}
	return v.all[v.ends[i-1]:v.ends[i]]
}

// block is the frames of a block, or why there are none.
type block struct {
	frames [][]byte
	ids    []byte
}

// The frames of the block Keys after those of the columns.
const (
	frameTimes = int(keyed) + iota
	frameSizes
	frameTook
)

// rowNumbers is which record has which value: as bytes, as two bytes each or, where there is one value, as nothing.
type rowNumbers struct {
	read bool
	one  []byte
	two  []uint16
}

func (r *rowNumbers) at(row int) int {
	switch {
	case r.one != nil:
		return int(r.one[row])
	case r.two != nil:
		return int(r.two[row])
	}
	return 0
}

// Open reads the head of a segment. load returns other blocks when they are needed; what it returns is kept.
func Open(head []byte, load func(Block) ([]byte, error)) (s *Segment, err error) {
	raw, err := unpacker.DecodeAll(head, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBroken, err)
	}
	u := unpacking{rest: raw}
	s = &Segment{N: u.length(Most), first: u.varint(), last: u.varint(), load: load}
	for c := range keyed {
		s.values[c] = u.values()
		before := u.rest
		for range s.values[c].len() * (len(Verdicts) + 1) {
			u.uvarint()
		}
		s.counts[c] = bytes.Clone(before[:len(before)-len(u.rest)])
	}
	return s, u.err
}

// Of returns a segment of records that are in memory. See [Write].
func Of(records []journal.Record) *Segment {
	b := Write(records, nil)
	s, err := b.open()
	if err != nil {
		panic("bug: " + err.Error())
	}
	return s
}

func (b *Blocks) open() (*Segment, error) {
	return Open(b.Head, func(which Block) ([]byte, error) {
		return [...][]byte{Keys: b.Keys, Texts: b.Texts, IDs: b.IDs}[which], nil
	})
}

// Each calls each with all records, in the order of time, and the positions of the batches that brought them; 0 where one batch did.
func (b *Blocks) Each(each func(r journal.Record, position int64)) error {
	s, err := b.open()
	if err != nil {
		return err
	}
	return s.Each(s.every(), false, func(r journal.Record, position int64) bool {
		each(r, position)
		return true
	})
}

// Size is roughly how many bytes of memory the segment takes now.
func (s *Segment) Size() (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.values {
		v := &s.values[c]
		n += len(v.all) + 4*len(v.ends) + len(s.numbers[c].one) + 2*len(s.numbers[c].two)
		if v.low != v.all {
			n += len(v.low)
		}
	}
	for c := range s.counts {
		n += len(s.counts[c])
	}
	for _, of := range s.outcomes {
		n += 4 * len(of.numbers)
	}
	for _, b := range s.blocks {
		if b != nil {
			n += len(b.ids)
			for _, f := range b.frames {
				n += len(f)
			}
		}
	}
	for _, a := range s.amounts {
		if a != nil {
			n += 4*len(a.small) + 8*len(a.large)
		}
	}
	return n
}

// each calls each with the values of a keyed column, by their numbers, and how often each occurs.
func (s *Segment) each(c Column, each func(i int, of Count)) {
	u := unpacking{rest: s.counts[c]}
	for i := range s.values[c].len() {
		var of Count
		for v := range of.Requests {
			of.Requests[v] = int64(u.uvarint())
		}
		of.Bytes = int64(u.uvarint())
		each(i, of)
	}
}

// Total returns how often all values together occur.
func (s *Segment) Total() (all Count) {
	s.each(Verdict, func(_ int, of Count) { all.Add(of) })
	return all
}

// block returns a block. Precondition: mu is held.
func (s *Segment) block(which Block) (*block, error) {
	if s.blocks[which] != nil {
		return s.blocks[which], nil
	}
	raw, err := s.load(which)
	if err != nil {
		return nil, err
	}
	b := &block{}
	if which == IDs {
		b.ids, err = unpacker.DecodeAll(raw, nil)
		if err != nil || len(b.ids) != 16*s.N {
			return nil, fmt.Errorf("%w: its ids: %w", ErrBroken, errors.Join(err, errLength))
		}
		s.blocks[which] = b
		return b, nil
	}
	u := unpacking{rest: raw}
	for len(u.rest) > 0 && u.err == nil {
		b.frames = append(b.frames, bytes.Clone(u.bytes(u.length(len(u.rest))))) // each by itself, as it is forgotten by itself
	}
	if want := [...]int{Keys: frameTook + 1, Texts: 2 * int(columnCount-keyed)}[which]; u.err == nil && len(b.frames) != want {
		u.err = fmt.Errorf("%w: it has %d parts", ErrBroken, len(b.frames))
	}
	if u.err != nil {
		return nil, u.err
	}
	s.blocks[which] = b
	return b, nil
}

var errLength = errors.New("it has another length")

// column returns the values of a column, and which record has which of them.
func (s *Segment) column(c Column) (*values, rowNumbers, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.numbers[c].read {
		return &s.values[c], s.numbers[c], nil
	}
	which, frame := Keys, int(c)
	if c >= keyed {
		which, frame = Texts, 2*int(c-keyed)+1
	}
	if c >= keyed && s.values[c].ends == nil {
		raw, err := s.frame(which, frame-1)
		if err != nil {
			return nil, rowNumbers{}, err
		}
		u := unpacking{rest: raw}
		if s.values[c] = u.values(); u.err != nil {
			return nil, rowNumbers{}, u.err
		}
	}
	raw, err := s.frame(which, frame)
	if err != nil {
		return nil, rowNumbers{}, err
	}
	n, many := rowNumbers{read: true}, s.values[c].len()
	switch {
	case len(raw) == 0 && many <= 1:
	case len(raw) == s.N && many <= 1<<8:
		n.one = raw
	case len(raw) == 2*s.N:
		n.two = make([]uint16, s.N)
		for i := range n.two {
			n.two[i] = binary.LittleEndian.Uint16(raw[2*i:])
		}
	default:
		return nil, rowNumbers{}, fmt.Errorf("%w: a column has another length", ErrBroken)
	}
	for row := range s.N {
		if n.at(row) >= max(1, many) {
			return nil, rowNumbers{}, fmt.Errorf("%w: a column has a value that is not there", ErrBroken)
		}
	}
	s.numbers[c] = n
	return &s.values[c], n, nil
}

// amounts are numbers by record: in four bytes each, beyond a base, where they fit.
type amounts struct {
	base  int64
	small []uint32
	large []int64 // nil where all are small
}

func (a *amounts) at(row int) int64 {
	if a.large != nil {
		return a.large[row]
	}
	return a.base + int64(a.small[row])
}

// amount returns the numbers of a frame by record.
func (s *Segment) amount(frame int) (*amounts, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known := &s.amounts[frame-frameTimes]
	if *known != nil {
		return *known, nil
	}
	raw, err := s.frame(Keys, frame)
	if err != nil {
		return nil, err
	}
	u, a, last := unpacking{rest: raw}, &amounts{small: make([]uint32, s.N)}, int64(0)
	if frame == frameTimes {
		a.base = s.first
	}
	for i := range s.N {
		n := int64(u.uvarint())
		if frame == frameTimes {
			last += n
			n = last
		}
		if a.large == nil && uint64(n) > math.MaxUint32 {
			a.large = make([]int64, s.N)
			for before := range i {
				a.large[before] = a.base + int64(a.small[before])
			}
			a.small = nil
		}
		if a.large != nil {
			a.large[i] = a.base + n
		} else {
			a.small[i] = uint32(n)
		}
	}
	if u.err != nil {
		return nil, u.err
	}
	*known = a
	return a, nil
}

// frame returns a frame unpacked, and forgets it: who asks keeps what it says. Precondition: mu is held.
func (s *Segment) frame(which Block, frame int) ([]byte, error) {
	b, err := s.block(which)
	if err != nil {
		return nil, err
	}
	raw, err := unpacker.DecodeAll(b.frames[frame], nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBroken, err)
	}
	b.frames[frame] = nil
	return raw, nil
}

// Each calls each with the selected records, and the positions of the batches that brought them where the segment knows them. The latest come first where
// backwards is set, the earliest elsewhere. It ends where each returns false.
func (s *Segment) Each(chosen Rows, backwards bool, each func(r journal.Record, position int64) bool) error {
	var columns [columnCount]rowNumbers
	for c := range columns {
		var err error
		if _, columns[c], err = s.column(Column(c)); err != nil {
			return err
		}
	}
	times, err := s.amount(frameTimes)
	if err != nil {
		return err
	}
	sizes, err := s.amount(frameSizes)
	if err != nil {
		return err
	}
	took, err := s.amount(frameTook)
	if err != nil {
		return err
	}
	s.mu.Lock()
	ids, err := s.block(IDs)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	for at := range s.N {
		if backwards {
			at = s.N - 1 - at
		}
		if !chosen.Has(at) {
			continue
		}
		r := journal.Record{At: time.UnixMilli(times.at(at)).UTC()}
		r.Size, r.Took = sizes.at(at), time.Duration(took.at(at))*time.Millisecond
		for b := range r.ID {
			r.ID[b] = ids.ids[b*s.N+at]
		}
		pos := int64(0)
		for _, c := range written {
			if of := &s.values[c]; of.len() > 0 {
				if v := of.at(columns[c].at(at)); c == position {
					pos = Number(v)
				} else if v != "" {
					access[c].set(&r, v)
				}
			}
		}
		if !each(r, pos) {
			return nil
		}
	}
	return nil
}

// asked is the columns of what was asked, and of the verdict.
var asked = []Column{Rest, Origin, Person, Address, Method, Gate, Sight, Verdict}

// EachRequest calls each with the selected records, the earliest first, but only with what was asked, by whom, where and when, and the verdict: so that they can be decided again. It is several
// times as fast as [Segment.Each]. each must not keep r. It ends where each returns false.
func (s *Segment) EachRequest(chosen Rows, each func(r *journal.Record) bool) error {
	var columns [columnCount]rowNumbers
	for _, c := range asked {
		var err error
		if _, columns[c], err = s.column(c); err != nil {
			return err
		}
	}
	times, err := s.amount(frameTimes)
	if err != nil {
		return err
	}
	var r journal.Record
	going := true
	chosen.each(func(row int) {
		if !going {
			return
		}
		r = journal.Record{At: time.UnixMilli(times.at(row)).UTC()}
		for _, c := range asked {
			if of := &s.values[c]; of.len() > 0 {
				if v := of.at(columns[c].at(row)); v != "" {
					access[c].set(&r, v)
				}
			}
		}
		going = each(&r)
	})
	return nil
}

// written is the columns in the order in which records get their values: a URL its end first.
var written = func() (all []Column) {
	all = append(all, Rest)
	for c := range columnCount {
		if c != Rest {
			all = append(all, c)
		}
	}
	return all
}()

// unpacking is bytes that are being read; err is the first fault, after which everything is zero.
type unpacking struct {
	rest []byte
	err  error
}

func (u *unpacking) fail() {
	if u.err == nil {
		u.err = fmt.Errorf("%w: it breaks off", ErrBroken)
	}
	u.rest = nil
}

func (u *unpacking) uvarint() uint64 {
	if len(u.rest) > 0 && u.rest[0] < 0x80 { // most are small
		n := u.rest[0]
		u.rest = u.rest[1:]
		return uint64(n)
	}
	n, size := binary.Uvarint(u.rest)
	if size <= 0 {
		u.fail()
		return 0
	}
	u.rest = u.rest[size:]
	return n
}

func (u *unpacking) varint() int64 {
	n, size := binary.Varint(u.rest)
	if size <= 0 {
		u.fail()
		return 0
	}
	u.rest = u.rest[size:]
	return n
}

// length reads a number that is most at most.
func (u *unpacking) length(most int) int {
	n := u.uvarint()
	if n > uint64(most) {
		u.fail()
		return 0
	}
	return int(n)
}

func (u *unpacking) bytes(n int) []byte {
	if n > len(u.rest) {
		u.fail()
		return nil
	}
	taken := u.rest[:n:n]
	u.rest = u.rest[n:]
	return taken
}

func (u *unpacking) values() (v values) {
	v.ends = make([]uint32, u.length(min(Most, len(u.rest))))
	all := 0
	for i := range v.ends {
		if all += u.length(len(u.rest)); all > len(u.rest) {
			u.fail()
			return values{}
		}
		v.ends[i] = uint32(all)
	}
	if v.all = string(u.bytes(all)); u.err != nil {
		return values{}
	}
	return v
}

// lower returns all values of a column in lower case, as [values] has them; false where a letter takes another number of bytes then.
func (s *Segment) lower(c Column) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	v := &s.values[c]
	if v.low == "" {
		v.low = strings.ToLower(v.all)
	}
	return v.low, len(v.low) == len(v.all)
}

// lowered returns a text for comparisons that ignore letter case.
func lowered(text string) string { return strings.ToLower(text) }

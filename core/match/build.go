package match

import (
	"encoding/binary"
	"math"
	"slices"
	"strings"

	"widelark/core/memory"
	"widelark/core/pattern"
	"widelark/core/ranges"
)

// base is compiled entries. It is immutable.
type base struct {
	lists      []listBase
	refs       []byte // compact entries, one after the other; see ref
	compact    int    // how many
	kept       []keptEntry
	conditions []conditions
	names      nameTable           // of hosts, and of hosts with literal pages
	table      table               // of the other keys, and of hosts for which there was no room in names
	prefetched uint64              // keeps prefetch loads alive; never read
	beside     bool                // there are hosts in the table
	paths      bool                // there are entries for literal pages
	ending     bool                // there are names before any public suffix
	under      belowNames          // of hosts
	ranges     ranges.Table[int32] // chains
	sieve      sieve
	blind      []blind // for each list that has such: what the host alone does not settle
}

// listBase is a list in a base.
type listBase struct {
	Ref
	from int64 // before the ids of the list's compact refs: each holds its distance from it

	patterns bool     // entries that are not for one host, as globs, words and names before any ending
	carves   bool     // carve-outs among those
	few      []uint32 // its entries, as base.found takes them, as long as there are no more than [MostFew] of them
}

// MostFew is how many entries a list has at most that can be enumerated; see [Index.Few].
const MostFew = 24

// keep remembers an entry of a list that has only a few.
func (l *listBase) keep(n uint32) {
	if len(l.few) <= MostFew {
		l.few = append(l.few, n)
	}
}

// ref is one entry that has nothing but a literal host, without note, end or switch: nearly all of a large list. It is kept
// small, and its pattern is made again when somebody asks. In base.refs it takes eight bytes and its name, filled up to a
// multiple of four, so that reading it costs one memory access.
type ref struct {
	entry uint32 // the distance of its id from the list's from
	list  uint16
	bits  uint16 // length of the name, and the flags below
	name  []byte
}

// refHead is the size of a ref without its name, refUnit the unit in which refs are counted.
const (
	refHead = 8
	refUnit = 4
)

// ref reads the ref at a place, counted in refUnit.
func (x *base) ref(n uint32) ref {
	at := x.refs[int(n)*refUnit:]
	r := ref{entry: binary.LittleEndian.Uint32(at), list: binary.LittleEndian.Uint16(at[4:]), bits: binary.LittleEndian.Uint16(at[6:])}
	r.name = at[refHead : refHead+int(r.bits&0xff)]
	return r
}

// size returns how far after a ref the next one begins, in refUnit.
func (r ref) size() uint32 { return uint32(refHead+len(r.name)+refUnit-1) / refUnit }

// The flags of ref.bits; the lower eight bits are the length of the name (RFC 1035, section 2.3.4: at most 255).
const (
	scopeShift = 8 // two bits
	isCarveOut = 1 << 10
)

func (r ref) scope() pattern.Scope { return pattern.Scope(r.bits >> scopeShift & 3) }

// keptEntry is one entry as it is. Those of one key are a chain.
type keptEntry struct {
	entry      pattern.Entry
	id         int64
	list       int32
	conditions int32 // position in base.conditions; -1 where the host is all
	next       int32 // the entry before it in its chain, -1 for none
	host       int32 // of a literal page: the one before it on the same host, -1 for none
}

// A slot of the table refers to a ref, or to the head of a chain of kept entries.
const keptBit = 1 << 31

// Builder collects entries for a base. Use [NewBuilder].
type Builder struct {
	b       *base
	chains  map[chainKey]int32
	blindOf map[int32]int
	seen    []bool // lists that have a compact ref
}

// chainKey is the key by which kept entries are found.
type chainKey struct {
	kind byte // see the seeds of the table
	name string
	path string
}

// NewBuilder returns a builder for about so many entries.
func NewBuilder(entries int) *Builder {
	b := &base{}
	if entries > 1000 {
		b.refs = memory.InHugePages(make([]byte, 0, entries*28))
	}
	return &Builder{b: b, chains: map[chainKey]int32{}, blindOf: map[int32]int{}}
}

// List begins a list and returns its number for [Builder.Add].
func (b *Builder) List(id, name string) int {
	b.b.lists = append(b.b.lists, listBase{Ref: Ref{id, name}})
	b.seen = append(b.seen, false)
	return len(b.b.lists) - 1
}

// Add adds an entry under an id that is unique within the index. Notes are ignored.
func (b *Builder) Add(list int, id int64, entry pattern.Entry) {
	p := entry.Pattern
	if !p.IsValid() {
		return
	}
	if entry.Note == "" && entry.Until.IsZero() && !entry.Off && p.IsNamed() && b.addNamed(list, id, p.Name(), p.Scope(), entry.CarveOut) {
		return
	}
	b.addFull(list, id, entry)
}

// AddNamed adds an entry that is a literal host and nothing else, as [pattern.Named] makes one, without the pattern's being
// made.
func (b *Builder) AddNamed(list int, id int64, name string, scope pattern.Scope, carveOut bool) {
	if !b.addNamed(list, id, name, scope, carveOut) {
		b.addFull(list, id, pattern.Entry{Pattern: pattern.Named(name, scope), CarveOut: carveOut})
	}
}

// addNamed reports whether there was room for the entry in a ref.
func (b *Builder) addNamed(list int, id int64, name string, scope pattern.Scope, carveOut bool) bool {
	x := b.b
	if !b.seen[list] {
		b.seen[list], x.lists[list].from = true, id-math.MaxInt32 // ids may come in any order, two thousand million to either side
	}
	distance := id - x.lists[list].from
	if distance < 0 || distance > math.MaxUint32 || name == "" || list > math.MaxUint16 || len(name) > 255 || len(x.refs) >= (keptBit-1000)*refUnit {
		return false
	}
	bits := uint16(len(name)) | uint16(scope)<<scopeShift
	if carveOut {
		bits |= isCarveOut
	}
	x.lists[list].keep(uint32(len(x.refs) / refUnit))
	to := binary.LittleEndian.AppendUint32(x.refs, uint32(distance))
	to = append(binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(to, uint16(list)), bits), name...)
	for len(to)%refUnit != 0 {
		to = append(to, 0)
	}
	x.refs = to
	x.compact++
	return true
}

func (b *Builder) addFull(list int, id int64, entry pattern.Entry) {
	x, p := b.b, entry.Pattern
	f := keptEntry{entry: entry, id: id, list: int32(list), conditions: x.addConditions(p), next: -1, host: -1}
	at := int32(len(x.kept))
	x.lists[list].keep(uint32(at) | keptBit)
	if p.Kind() == pattern.Regex || p.Kind() == pattern.Word || p.EveryHost() || p.IsGlob() || p.EveryEnding() {
		x.lists[list].patterns, x.lists[list].carves = true, x.lists[list].carves || entry.CarveOut
	}
	var key chainKey
	switch {
	case p.Kind() == pattern.Regex || p.Kind() == pattern.Word || p.EveryHost() || p.IsGlob() || p.Name() == "" && !p.Prefix().IsValid():
		s := newScan(at, p)
		if s.blind {
			b.addBlind(f.list)
		}
		x.sieve.scans = append(x.sieve.scans, s)
		x.kept = append(x.kept, f)
		return
	case p.Prefix().IsValid():
		key = chainKey{kind: addressKey, name: p.Prefix().String()}
	case p.EveryEnding():
		key, x.ending = chainKey{kind: endingKey, name: p.Name()}, true
	default:
		key = chainKey{kind: nameKey, name: p.Name()}
		if path := f.start(x); path != "" {
			onHost := chainKey{kind: hostKey, name: p.Name()}
			if before, ok := b.chains[onHost]; ok {
				f.host = before
			}
			b.chains[onHost], x.paths = at, true
			key.kind, key.path = pathKey, path
		}
	}
	if before, ok := b.chains[key]; ok {
		f.next = before
	}
	b.chains[key] = at
	x.kept = append(x.kept, f)
}

// literalStart returns the segments of a folded path before the first one with a wildcard: every page that it covers begins
// with.
func literalStart(path string) string {
	star := strings.IndexByte(path, '*')
	if star < 0 {
		return path
	}
	return path[:strings.LastIndexByte(path[:star], '/')]
}

// Build returns the index. The builder must not be used any more.
func (b *Builder) Build() *Index {
	x := b.b
	if cap(x.refs) > len(x.refs)+len(x.refs)/8 {
		x.refs = slices.Clone(x.refs) // names were shorter than was thought
	}
	x.insertRefs(b)
	x.insertChains(b)
	x.sieve.seal()
	index := &Index{parts: []part{{base: x}}}
	for i, list := range x.lists {
		index.lists = append(index.lists, list.Ref)
		index.parts[0].listOf = append(index.parts[0].listOf, int32(i))
	}
	return index
}

// insertRefs puts the compact refs into the table of names, some at a time: their lines have nothing to do with each other, so the
// machine may fetch them side by side before the first is filled. Those that find no room there become chains: of a name that very many
// lists hold.
func (x *base) insertRefs(b *Builder) {
	hosts := x.compact
	for key := range b.chains {
		if key.kind == nameKey || key.kind == hostKey {
			hosts++
		}
	}
	x.names, x.under = newNameTable(hosts), newBelowNames(hosts)
	var block [64]struct {
		n     uint32
		line  int
		spots []spot
	}
	for n := uint32(0); int(n)*refUnit < len(x.refs); {
		filled := 0
		for ; filled < len(block) && int(n)*refUnit < len(x.refs); filled++ {
			r, w := x.ref(n), &block[filled]
			w.n, w.spots = n, appendSpots(w.spots[:0], r.name)
			w.line = x.names.home(w.spots[min(1, len(w.spots)-1)].h)
			n += r.size()
		}
		for i := range block[:filled] {
			x.prefetched |= x.names.lines[block[i].line][0] // kept, so that the look ahead is not left out as useless
		}
		for _, w := range block[:filled] {
			x.under.add(w.spots)
			if !x.names.insert(w.spots, w.spots[len(w.spots)-1].key(), w.n) {
				found := x.found(w.n)
				b.addFull(int(x.ref(w.n).list), found.ID, found.Entry)
			}
		}
	}
}

// insertChains puts the heads of the chains where they are looked for.
func (x *base) insertChains(b *Builder) {
	var spots []spot
	for key, head := range b.chains {
		switch key.kind {
		case addressKey:
			x.ranges.Put(x.kept[head].entry.Pattern.Prefix(), head)
		case nameKey, hostKey:
			spots = appendSpots(spots[:0], memory.Bytes(key.name))
			x.under.add(spots)
			own := spots[len(spots)-1].key()
			if key.kind == hostKey {
				own = spots[len(spots)-1].pagesKey()
			}
			if !x.names.insert(spots, own, uint32(head)|keptBit) {
				x.beside = true
				continue
			}
		default:
			continue
		}
		delete(b.chains, key)
	}
	x.names.seal()
	x.table = newTable(len(b.chains))
	for key, head := range b.chains {
		x.table.insert(hashKey(key), uint32(head)|keptBit)
	}
}

// found makes the entry of a ref or, with keptBit, of a kept entry.
func (x *base) found(n uint32) Found {
	if n&keptBit != 0 {
		f := x.kept[n&^keptBit]
		return Found{f.id, f.entry}
	}
	r := x.ref(n)
	named := pattern.Entry{Pattern: pattern.Named(string(r.name), r.scope()), CarveOut: r.bits&isCarveOut != 0}
	return Found{x.lists[r.list].from + int64(r.entry), named}
}

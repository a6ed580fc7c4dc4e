package match

import (
	"strings"

	"widelark/core/pattern"
)

// Differing gives the patterns of the entries that only one of two indexes has. Entries are compared by their lists and lines. It costs as much as what the indexes do not
// share. Where more than most entries would have to be compared it reports false, and gives none.
func (x *Index) Differing(y *Index, most int, each func(pattern.Pattern)) bool {
	d := differing{patterns: map[string]differingEntry{}, left: most}
	theirs := map[sharedPart][]*part{}
	for i := range y.parts {
		key := y.shared(&y.parts[i])
		theirs[key] = append(theirs[key], &y.parts[i])
	}
	for i := range x.parts {
		mine := &x.parts[i]
		key := x.shared(mine)
		if with := theirs[key]; len(with) > 0 {
			theirs[key] = with[1:]
			if !d.gone(x, mine, with[0]) {
				return false
			}
		} else if !d.all(x, mine, 1) {
			return false
		}
	}
	for _, rest := range theirs {
		for _, p := range rest {
			if !d.all(y, p, -1) {
				return false
			}
		}
	}
	for _, e := range d.patterns {
		if e.times != 0 {
			each(e.pattern)
		}
	}
	return true
}

// sharedPart is what two indexes have in common: a base, under the same lists.
type sharedPart struct {
	*base
	lists string
}

func (x *Index) shared(p *part) sharedPart {
	var b strings.Builder
	for _, list := range p.listOf {
		b.WriteString(x.lists[list].ID)
		b.WriteByte(0)
	}
	return sharedPart{p.base, b.String()}
}

// differing counts how much more often an entry is in one index than in the other.
type differing struct {
	patterns map[string]differingEntry
	left     int // entries that may still be compared
}

type differingEntry struct {
	pattern pattern.Pattern
	times   int
}

func (d *differing) add(x *Index, p *part, n uint32, times int) bool {
	if d.left--; d.left < 0 {
		return false
	}
	list := int32(0)
	if n&keptBit != 0 {
		list = p.kept[n&^keptBit].list
	} else {
		list = int32(p.ref(n).list)
	}
	found := p.found(n)
	if _, gone := p.gone[found.ID]; gone {
		return true
	}
	key := x.lists[p.listOf[list]].ID + "\x00" + found.String()
	e := d.patterns[key]
	e.pattern, e.times = found.Pattern, e.times+times
	d.patterns[key] = e
	return true
}

// all counts all entries of a part that are not gone.
func (d *differing) all(x *Index, p *part, times int) bool {
	if p.compact+len(p.kept) > d.left {
		return false
	}
	return p.each(func(n uint32) bool { return d.add(x, p, n, times) })
}

// gone counts the entries of a base that only one of two parts passes over.
func (d *differing) gone(x *Index, mine, other *part) bool {
	only := map[int64]int{}
	for id := range mine.gone {
		if _, both := other.gone[id]; !both {
			only[id]--
		}
	}
	for id := range other.gone {
		if _, both := mine.gone[id]; !both {
			only[id]++
		}
	}
	if len(only) == 0 {
		return true
	}
	whole := &part{base: mine.base, listOf: mine.listOf}
	return mine.each(func(n uint32) bool {
		if times := only[mine.idOf(n)]; times != 0 {
			return d.add(x, whole, n, times)
		}
		return true
	})
}

// each gives every entry of a base, as base.found takes them, until it is told to stop; then it returns false.
func (x *base) each(one func(n uint32) bool) bool {
	for n := uint32(0); int(n)*refUnit < len(x.refs); {
		if !one(n) {
			return false
		}
		n += x.ref(n).size()
	}
	for i := range x.kept {
		if !one(uint32(i) | keptBit) {
			return false
		}
	}
	return true
}

// idOf returns the id of an entry.
func (x *base) idOf(n uint32) int64 {
	if n&keptBit != 0 {
		return x.kept[n&^keptBit].id
	}
	r := x.ref(n)
	return x.lists[r.list].from + int64(r.entry)
}

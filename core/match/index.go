// Package match compiles lists into an index that says which entries of which lists cover a URL.
//
// From: lists of [pattern.Entry].
// To: [Index], which package policy asks; it is immutable, so it is replaced whole when a list changes.
//
// Patterns with a literal host are stored in a table by the hash of that host, next to those for the same registered name, so that a URL
// costs one look at memory as a rule; where the host has entries for pages, it is looked up once more for each segment of its
// path. All others (globs in the host, words, regular expressions) stand in a sieve: each names a few characters that a URL must
// hold for the pattern to have a chance, and only those whose characters are there are tried. Expressions that name nothing run
// together in one automaton.
// So the cost depends on the URL and on the entries that could match it, not on the number of entries.
//
// A gate may see less than the whole URL (see [weburl.Sight]); then the answer for an entry is [Yes], [No] or [CannotTell].
package match

import (
	"cmp"
	"slices"
	"strings"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Answer says whether something covers a URL. The zero Answer is not valid.
type Answer string

// The answers.
const (
	Yes        Answer = "yes"
	No         Answer = "no"
	CannotTell Answer = "cannot tell" // it depends on something that cannot be seen at this sight
)

// List names a list and, for [New], holds its entries.
type List struct {
	ID      string
	Name    string
	Entries []pattern.Entry // the id of each is its position
}

// Ref names a list in answers.
type Ref struct{ ID, Name string }

// Found is one entry that has something to say about a URL. Its note is there only where the entry has more to it than a host.
type Found struct {
	ID int64
	pattern.Entry
}

// Hit is one list with the entries that have something to say about a URL, each kind the most specific first.
type Hit struct {
	List             Ref
	Covering         []Found // entries in force that cover the URL
	CarveOuts        []Found // carve-outs in force that cover it
	Unclear          []Found // entries in force that may cover the URL, which cannot be decided at this sight; none at [weburl.Full]
	UnclearCarveOuts []Found // carve-outs that may cover the URL
}

// In reports whether the URL is in the list: an entry in force covers it and no carve-out in force does.
func (h *Hit) In() Answer {
	return tally{len(h.CarveOuts) > 0, len(h.Covering) > 0, len(h.Unclear) > 0}.answer()
}

// Put files the entry of a take.
func (h *Hit) Put(t Take, found Found) {
	into := &h.Covering
	switch {
	case t.CarveOut && t.Unclear:
		into = &h.UnclearCarveOuts
	case t.CarveOut:
		into = &h.CarveOuts
	case t.Unclear:
		into = &h.Unclear
	}
	*into = append(*into, found)
}

// Sort puts each kind in order, the most specific first.
func (h *Hit) Sort() {
	for _, found := range [][]Found{h.Covering, h.CarveOuts, h.Unclear, h.UnclearCarveOuts} {
		slices.SortFunc(found, func(a, b Found) int {
			return cmp.Or(pattern.MoreSpecific(a.Pattern, b.Pattern), cmp.Compare(a.ID, b.ID))
		})
	}
}

// tally combines the answers of one list's entries for a URL.
type tally struct{ carvedOut, covered, unclear bool }

func (s *tally) add(t Take) {
	s.carvedOut = s.carvedOut || t.CarveOut && !t.Unclear
	s.covered = s.covered || !t.CarveOut && !t.Unclear
	s.unclear = s.unclear || !t.CarveOut && t.Unclear // a carve-out that only may cover the URL leaves the answer as it is
}

// answer says whether the URL is in the list: carve-outs go before entries that cover it, and those before entries that only may cover it. This
// order is implemented only here.
func (s tally) answer() Answer {
	switch {
	case s.carvedOut:
		return No
	case s.covered:
		return Yes
	case s.unclear:
		return CannotTell
	}
	return No
}

// In returns whether a URL is in a list, given all takes of the list.
func In(takes []Take) Answer {
	var sum tally
	for _, t := range takes {
		sum.add(t)
	}
	return sum.answer()
}

// ListEnd returns where the takes of one list end that begin at i.
func ListEnd(takes []Take, i int) int {
	end := i + 1
	for end < len(takes) && takes[end].List == takes[i].List {
		end++
	}
	return end
}

// Index answers which entries cover a URL. The zero Index holds no list. It is safe for concurrent use.
type Index struct {
	lists []Ref
	parts []part
}

// part is a compiled base as one index sees it: a base is shared by the indexes that were made from it.
type part struct {
	*base
	listOf []int32            // list of the base -> position in Index.lists
	gone   map[int64]struct{} // entries of the base that are not there any more; nil for none
}

// New compiles lists, in their order. Patterns come from package pattern, so none can be refused.
func New(lists []List) *Index {
	total := 0
	for _, list := range lists {
		total += len(list.Entries)
	}
	b := NewBuilder(total)
	for _, list := range lists {
		at := b.List(list.ID, list.Name)
		for i, entry := range list.Entries {
			b.Add(at, int64(i), entry)
		}
	}
	return b.Build()
}

// Join returns an index of the entries of several indexes. A list that several of them hold is one list, under the name that the
// last of them gives it. Only the lists' names are copied.
func Join(indexes ...*Index) *Index {
	joined := &Index{}
	at := map[string]int32{}
	for _, x := range indexes {
		for _, p := range x.parts {
			listOf := make([]int32, len(p.listOf))
			for i, list := range p.listOf {
				ref := x.lists[list]
				known, ok := at[ref.ID]
				if !ok {
					known = int32(len(joined.lists))
					at[ref.ID] = known
					joined.lists = append(joined.lists, ref)
				}
				joined.lists[known].Name = ref.Name
				listOf[i] = known
			}
			joined.parts = append(joined.parts, part{p.base, listOf, p.gone})
		}
	}
	return joined
}

// Gather returns an index of the entries of several indexes. Every list of each remains a list of its own, in order, even where
// several have one id.
func Gather(indexes ...*Index) *Index {
	gathered := &Index{}
	for _, x := range indexes {
		from := int32(len(gathered.lists))
		gathered.lists = append(gathered.lists, x.lists...)
		for _, p := range x.parts {
			listOf := make([]int32, len(p.listOf))
			for i, list := range p.listOf {
				listOf[i] = from + list
			}
			gathered.parts = append(gathered.parts, part{p.base, listOf, p.gone})
		}
	}
	return gathered
}

// Without returns an index like x that passes over some entries, by their ids. Precondition: ids are unique across the lists of
// x. It costs as much as there are ids; x stays as it is.
func (x *Index) Without(ids ...int64) *Index {
	less := &Index{lists: x.lists, parts: slices.Clone(x.parts)}
	for i := range less.parts {
		gone := make(map[int64]struct{}, len(ids)+len(x.parts[i].gone))
		for id := range x.parts[i].gone {
			gone[id] = struct{}{}
		}
		for _, id := range ids {
			gone[id] = struct{}{}
		}
		less.parts[i].gone = gone
	}
	return less
}

// Take is one entry that has something to say about a URL, as [Index.Takes] finds it: without the entry being made.
type Take struct {
	List     int32 // position in [Index.Lists]
	CarveOut bool
	Unclear  bool // the entry may cover the URL, which cannot be decided at this sight; else it does cover it

	part int32
	ref  uint32 // see base.found
}

// Answer returns the answer of the entry: [Yes] or [CannotTell].
func (t Take) Answer() Answer {
	if t.Unclear {
		return CannotTell
	}
	return Yes
}

// Few returns the entries of a list by its position in [Index.Lists], if there are no more than [MostFew]; else false.
func (x *Index) Few(list int32) ([]pattern.Entry, bool) {
	var entries []pattern.Entry
	for _, p := range x.parts {
		for i, of := range p.listOf {
			if of != list {
				continue
			}
			few := p.lists[i].few
			if len(few) > MostFew {
				return nil, false
			}
			for _, n := range few {
				f := p.found(n)
				if _, gone := p.gone[f.ID]; !gone {
					entries = append(entries, f.Entry)
				}
			}
		}
	}
	return entries, len(entries) <= MostFew
}

// SameEntry reports whether two takes of one index are of the same entry, whatever their answers.
func (t Take) SameEntry(other Take) bool {
	return t.List == other.List && t.part == other.part && t.ref == other.ref
}

// Takes appends to dst every entry in force that has something to say about u, list by list, for callers that weigh entries
// themselves. With unclear, every entry that may cover the URL is among them; without, one for each list that holds such an entry. It
// allocates only where dst has to grow and for hosts in other scripts.
func (x *Index) Takes(dst []Take, u weburl.URL, today pattern.Date, sight weburl.Sight, unclear bool) []Take {
	s := scratches.Get().(*scratch)
	x.gather(s, &u, today, sight, unclear)
	dst = append(dst, s.takes...)
	scratches.Put(s)
	return dst
}

// Found makes the entry of a take of this index.
func (x *Index) Found(t Take) Found { return x.parts[t.part].found(t.ref) }

// ID returns the id of the entry of a take of this index. It allocates nothing.
func (x *Index) ID(t Take) int64 {
	b := x.parts[t.part].base
	if t.ref&keptBit != 0 {
		return b.kept[t.ref&^keptBit].id
	}
	r := b.ref(t.ref)
	return b.lists[r.list].from + int64(r.entry)
}

// Until returns the last day on which the entry of a take of this index is in force; the zero Date where it has no end.
func (x *Index) Until(t Take) pattern.Date {
	if t.ref&keptBit == 0 {
		return pattern.Date{}
	}
	return x.parts[t.part].kept[t.ref&^keptBit].entry.Until
}

// Specificity returns the specificity of the entry of a take of this index. It allocates nothing.
func (x *Index) Specificity(t Take) pattern.Specificity {
	b := x.parts[t.part].base
	if t.ref&keptBit != 0 {
		return b.kept[t.ref&^keptBit].entry.Pattern.Specificity()
	}
	r := b.ref(t.ref)
	return pattern.NamedSpecificity(r.name, r.scope())
}

// Cover returns the lists that have something to say about u on a day as it is seen, by name: also those that only a carve-out
// covers, so that an answer can tell why the URL is not in them.
func (x *Index) Cover(u weburl.URL, today pattern.Date, sight weburl.Sight) []Hit {
	s := scratches.Get().(*scratch)
	defer scratches.Put(s)
	x.gather(s, &u, today, sight, true)
	if len(s.takes) == 0 {
		return nil
	}
	var hits []Hit
	for i := 0; i < len(s.takes); {
		end := ListEnd(s.takes, i)
		hit := Hit{List: x.lists[s.takes[i].List]}
		for ; i < end; i++ {
			hit.Put(s.takes[i], x.parts[s.takes[i].part].found(s.takes[i].ref))
		}
		hits = append(hits, hit)
	}
	for i := range hits {
		hits[i].Sort()
	}
	slices.SortStableFunc(hits, func(a, b Hit) int {
		return strings.Compare(strings.ToLower(a.List.Name), strings.ToLower(b.List.Name))
	})
	return hits
}

// Membership is the answer of one list for a URL.
type Membership struct {
	List int32 // position in [Index.Lists]
	In   Answer
}

// Lists returns the lists that the index holds. The caller must not change them.
func (x *Index) Lists() []Ref { return x.lists }

// Memberships appends to dst the lists that u is in or may be in, in the order of [Index.Lists]. It allocates
// only where dst has to grow and for hosts in other scripts.
func (x *Index) Memberships(dst []Membership, u weburl.URL, today pattern.Date, sight weburl.Sight) []Membership {
	s := scratches.Get().(*scratch)
	x.gather(s, &u, today, sight, false)
	for i := 0; i < len(s.takes); {
		end := ListEnd(s.takes, i)
		if in := In(s.takes[i:end]); in != No {
			dst = append(dst, Membership{s.takes[i].List, in})
		}
		i = end
	}
	scratches.Put(s)
	return dst
}

// Covered reports whether the whole URL is in any list. It allocates nothing but for hosts in other scripts.
func (x *Index) Covered(u weburl.URL, today pattern.Date) bool {
	s := scratches.Get().(*scratch)
	x.gather(s, &u, today, weburl.Full, false)
	covered := false
	for i := 0; i < len(s.takes) && !covered; {
		end := ListEnd(s.takes, i)
		covered = In(s.takes[i:end]) == Yes
		i = end
	}
	scratches.Put(s)
	return covered
}

// Count returns how many entries in force, carve-outs among them, have something to say about the whole URL.
func (x *Index) Count(u weburl.URL, today pattern.Date) int {
	s := scratches.Get().(*scratch)
	x.gather(s, &u, today, weburl.Full, false)
	n := len(s.takes)
	scratches.Put(s)
	return n
}

// gather collects the takes of all parts in s.takes, by list. With all, every entry that may cover the URL is among them; without, one
// for each list that holds such.
func (x *Index) gather(s *scratch, u *weburl.URL, today pattern.Date, sight weburl.Sight, all bool) {
	s.takes, s.spots, s.today, s.all = s.takes[:0], s.spots[:0], today, all
	asked := false
	for i := range x.parts {
		p := &x.parts[i]
		s.part, s.at = p, int32(i)
		if p.namesOnly() {
			if !u.Addr().IsValid() {
				p.walk(s, u.Host())
			}
			continue
		}
		if !asked {
			s.question.reset(u, sight)
			asked = true
		}
		p.ask(s)
	}
	s.part = nil
	if len(s.takes) > 1 {
		slices.SortFunc(s.takes, func(a, b Take) int { return cmp.Compare(a.List, b.List) })
	}
}

// Package match compiles lists into an index that says which entries of which lists cover a URL.
//
// From: lists of [pattern.Entry].
// To: [Index], which package policy asks; it is immutable, so it is replaced whole when a list changes.
//
// Patterns with a literal host stand in maps, by the host that they name: one for names, one for names before any public
// suffix, one for ranges of addresses. A URL is looked up once for each label of its host, so the cost does not grow with
// the number of such entries. All others (globs in the host, words, regular expressions) stand in a sieve: each names a few
// characters that a URL must hold for the pattern to have a chance, and only those whose characters are there are tried.
// The sieve may let through what does not match; it never keeps back what does.
package match

import (
	"net/netip"
	"slices"
	"strings"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// List is what the index needs to know of a list. Entries are not copied: the caller must not change them after [New].
type List struct {
	ID      string
	Name    string
	Entries []pattern.Entry
}

// Index answers which entries cover a URL. The zero Index holds no list. It is safe for concurrent use.
type Index struct {
	lists    []List
	names    map[string]int32       // host -> the newest of its refs
	endings  map[string]int32       // name before any public suffix -> the newest of its refs
	networks map[netip.Prefix]int32 // range of addresses -> the newest of its refs
	bits     []int                  // the lengths of ranges that networks holds; IPv6's are counted from 1000
	refs     []ref                  // all patterns in the three maps; those of one key are a chain
	rests    []rest                 // what refs and scanned patterns ask for beside the host
	sieve    sieve
}

// ref is one pattern in the maps of the index.
type ref struct {
	list, entry int32
	next        int32 // the ref of the same key that was added before, -1 where this is the first
	rest        int32 // position in rests; -1 where the host is all
}

// Hit is one list with the entries that cover a URL, the most specific first. Entries are positions in
// [List.Entries].
type Hit struct {
	List      *List
	Covering  []int // entries in force that cover the URL
	CarveOuts []int // carve-outs in force that cover it
}

// In reports whether the URL is in the list: an entry in force covers it and no carve-out in force does.
func (h Hit) In() bool { return len(h.Covering) > 0 && len(h.CarveOuts) == 0 }

// New compiles lists. Patterns come from package pattern, so none can be refused. It keeps the lists' order.
func New(lists []List) *Index {
	total := 0
	for _, list := range lists {
		total += len(list.Entries)
	}
	x := &Index{
		lists: lists, names: make(map[string]int32, total), endings: map[string]int32{}, networks: map[netip.Prefix]int32{},
		refs: make([]ref, 0, total),
	}
	for l, list := range lists {
		for e := range list.Entries {
			x.add(int32(l), int32(e), list.Entries[e].Pattern)
		}
	}
	x.sieve.seal()
	return x
}

func (x *Index) add(list, entry int32, p pattern.Pattern) {
	if !p.IsValid() {
		return
	}
	rest := x.addRest(p)
	switch {
	case p.Kind() == pattern.Regex || p.Kind() == pattern.Word || p.EveryHost() || p.IsGlob() || p.Name() == "" && !p.Prefix().IsValid():
		x.sieve.add(newScan(list, entry, rest, p))
	case p.Prefix().IsValid():
		chain(x, x.networks, p.Prefix(), ref{list: list, entry: entry, rest: rest})
		if length := family(p.Prefix().Addr()) + p.Prefix().Bits(); !slices.Contains(x.bits, length) {
			x.bits = append(x.bits, length)
		}
	case p.EveryEnding():
		chain(x, x.endings, p.Name(), ref{list: list, entry: entry, rest: rest})
	default:
		chain(x, x.names, p.Name(), ref{list: list, entry: entry, rest: rest})
	}
}

// family tells the lengths of IPv4 and IPv6 ranges apart in one list.
func family(addr netip.Addr) int {
	if addr.Is6() {
		return 1000
	}
	return 0
}

// chain puts a ref before those of the same key.
func chain[K comparable](x *Index, heads map[K]int32, key K, r ref) {
	r.next = -1
	if before, ok := heads[key]; ok {
		r.next = before
	}
	heads[key] = int32(len(x.refs))
	x.refs = append(x.refs, r)
}

// Cover returns the lists that have something to say about u on a day, in the order of the lists: also those that only
// a carve-out covers, so that an answer can tell why the URL is not in them.
func (x *Index) Cover(u weburl.URL, today pattern.Date) []Hit {
	var found map[int32]*Hit // made when something is found: most URLs are in no list
	take := func(list, entry int32) {
		e := x.lists[list].Entries[entry]
		if !e.InForce(today) {
			return
		}
		hit := found[list]
		if hit == nil {
			if hit = (&Hit{List: &x.lists[list]}); found == nil {
				found = map[int32]*Hit{}
			}
			found[list] = hit
		}
		if e.CarveOut {
			hit.CarveOuts = append(hit.CarveOuts, int(entry))
		} else {
			hit.Covering = append(hit.Covering, int(entry))
		}
	}
	q := newQuestion(u)
	x.literals(q, take)
	x.sieve.each(q, func(s *scan) {
		if s.covers(q) && x.meets(s.rest, q) {
			take(s.list, s.entry)
		}
	})

	if len(found) == 0 {
		return nil
	}
	order := make([]int32, 0, len(found))
	for list := range found {
		order = append(order, list)
	}
	slices.Sort(order)
	hits := make([]Hit, 0, len(order))
	for _, list := range order {
		hit := found[list]
		hit.sort()
		hits = append(hits, *hit)
	}
	return hits
}

func (h *Hit) sort() {
	bySpecific := func(a, b int) int {
		if c := pattern.MoreSpecific(h.List.Entries[a].Pattern, h.List.Entries[b].Pattern); c != 0 {
			return c
		}
		return a - b
	}
	slices.SortFunc(h.Covering, bySpecific)
	slices.SortFunc(h.CarveOuts, bySpecific)
}

// literals walks up the labels of the host, or through the lengths of ranges. No pattern of names covers a host that is an
// address.
func (x *Index) literals(q *question, take func(list, entry int32)) {
	if addr := q.url.Addr(); addr.IsValid() {
		for _, length := range x.bits {
			if length -= family(addr); length < 0 || length > addr.BitLen() {
				continue
			}
			prefix, _ := addr.Prefix(length)
			if at, ok := x.networks[prefix]; ok {
				x.takeChain(at, q, take, func(pattern.Pattern) bool { return true })
			}
		}
		return
	}
	x.walk(x.names, q.url.Host(), q, take)
	if len(x.endings) == 0 {
		return
	}
	if name := q.beforeSuffix(); name != "" {
		x.walk(x.endings, name, q, take)
	}
}

func (x *Index) walk(hosts map[string]int32, host string, q *question, take func(list, entry int32)) {
	for name, below := host, false; ; below = true {
		if at, ok := hosts[name]; ok {
			x.takeChain(at, q, take, func(p pattern.Pattern) bool { return inScope(p.Scope(), below) })
		}
		dot := strings.IndexByte(name, '.')
		if dot < 0 {
			return
		}
		name = name[dot+1:]
	}
}

func (x *Index) takeChain(at int32, q *question, take func(list, entry int32), inScope func(pattern.Pattern) bool) {
	for ; at >= 0; at = x.refs[at].next {
		r := x.refs[at]
		if inScope(x.lists[r.list].Entries[r.entry].Pattern) && x.meets(r.rest, q) {
			take(r.list, r.entry)
		}
	}
}

// inScope reports whether a host that is the named one, or stands below it, is covered.
func inScope(scope pattern.Scope, below bool) bool {
	return scope == pattern.AndBelow || (scope == pattern.BelowOnly) == below
}

// Union is several indexes that are asked as one. Lists that change often and lists that are large stand in different ones,
// so that an edit of a small list does not compile the large ones again. It is safe for concurrent use.
type Union []*Index

// Cover returns the hits of all indexes, by the names of their lists.
func (union Union) Cover(u weburl.URL, today pattern.Date) []Hit {
	var hits []Hit
	for _, x := range union {
		hits = append(hits, x.Cover(u, today)...)
	}
	slices.SortStableFunc(hits, func(a, b Hit) int { return strings.Compare(strings.ToLower(a.List.Name), strings.ToLower(b.List.Name)) })
	return hits
}

// Package match compiles lists into an index that says which entries of which lists cover a URL.
//
// From: lists of [pattern.Entry].
// To: [Index], which package policy asks; it is immutable, so it is replaced whole when a list changes.
//
// Literal patterns stand in two maps, by the host that they name: one for names, one for names before any public
// suffix. A URL is looked up once for each label of its host, so the cost does not grow with the number of literal
// entries. Regular expressions are tried one after the other.
package match

import (
	"regexp"
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
	lists   []List
	names   map[string]int32 // host -> the newest of its refs
	endings map[string]int32 // name before any public suffix -> the newest of its refs
	refs    []ref            // all literal patterns; those of one host are a chain
	regexes []compiled
}

// ref is one literal pattern in the index.
type ref struct {
	list, entry int32
	next        int32 // the ref of the same host that was added before, -1 where this is the first
}

type compiled struct {
	list, entry int32
	target      pattern.Target
	re          *regexp.Regexp
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
	x := &Index{lists: lists, names: make(map[string]int32, total), endings: map[string]int32{}, refs: make([]ref, 0, total)}
	for l, list := range lists {
		for e := range list.Entries {
			x.add(int32(l), int32(e), list.Entries[e].Pattern)
		}
	}
	return x
}

func (x *Index) add(list, entry int32, p pattern.Pattern) {
	switch {
	case !p.IsValid():
		return
	case p.Kind() == pattern.Regex:
		expr, target := p.Expr()
		re, err := pattern.CompileRegex(expr)
		if err != nil {
			panic("bug: a parsed expression does not compile: " + err.Error())
		}
		x.regexes = append(x.regexes, compiled{list, entry, target, re})
		return
	}
	hosts := x.names
	if p.EveryEnding() {
		hosts = x.endings
	}
	before, ok := hosts[p.Name()]
	if !ok {
		before = -1
	}
	hosts[p.Name()] = int32(len(x.refs))
	x.refs = append(x.refs, ref{list, entry, before})
}

// Lists returns the lists of the index in order. The caller must not change them.
func (x *Index) Lists() []List { return x.lists }

// Cover returns the lists that have something to say about u on a day, in the order of the lists: also those that only
// a carve-out covers, so that an answer can tell why the URL is not in them.
func (x *Index) Cover(u weburl.URL, today pattern.Date) []Hit {
	found := map[int32]*Hit{}
	take := func(list, entry int32) {
		e := x.lists[list].Entries[entry]
		if !e.InForce(today) {
			return
		}
		hit := found[list]
		if hit == nil {
			hit = &Hit{List: &x.lists[list]}
			found[list] = hit
		}
		if e.CarveOut {
			hit.CarveOuts = append(hit.CarveOuts, int(entry))
		} else {
			hit.Covering = append(hit.Covering, int(entry))
		}
	}
	x.literals(u, take)
	x.expressions(u, take)

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

// literals walks up the labels of the host. No pattern of these kinds covers a host that is an address.
func (x *Index) literals(u weburl.URL, take func(list, entry int32)) {
	if u.Addr().IsValid() {
		return
	}
	path := weburl.FoldPath(u.Path())
	walk := func(hosts map[string]int32, host string) {
		for name, below := host, false; ; below = true {
			if at, ok := hosts[name]; ok {
				for ; at >= 0; at = x.refs[at].next {
					r := x.refs[at]
					p := x.lists[r.list].Entries[r.entry].Pattern
					if inScope(p.Scope(), below) && underPath(path, p.FoldedPath()) {
						take(r.list, r.entry)
					}
				}
			}
			dot := strings.IndexByte(name, '.')
			if dot < 0 {
				return
			}
			name = name[dot+1:]
		}
	}
	walk(x.names, u.Host())
	if name, _ := weburl.SplitSuffix(u.Host()); name != "" && len(x.endings) > 0 {
		walk(x.endings, name)
	}
}

// inScope reports whether a host that is the named one, or stands below it, is covered.
func inScope(scope pattern.Scope, below bool) bool {
	return scope == pattern.AndBelow || (scope == pattern.BelowOnly) == below
}

// underPath reports whether path is tree or stands under it, at a segment boundary.
func underPath(path, tree string) bool {
	return strings.HasPrefix(path, tree) && (len(path) == len(tree) || tree == "" || path[len(tree)] == '/')
}

func (x *Index) expressions(u weburl.URL, take func(list, entry int32)) {
	if len(x.regexes) == 0 {
		return
	}
	texts := [...]string{pattern.OnURL: u.String(), pattern.OnHost: u.Host(), pattern.OnPath: u.Target()}
	for _, r := range x.regexes {
		if r.re.MatchString(texts[r.target]) {
			take(r.list, r.entry)
		}
	}
}

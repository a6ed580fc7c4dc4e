package policy

import (
	"cmp"
	"math/bits"
	"slices"
	"time"
)

// outline holds what most decisions need of all policies, as compact as possible, so that it stays in the processor's caches.
// Policies are numbered by their position, followed by the baseline and the fallback.
type outline struct {
	policies []outlined
	masks    []uint32
	heads    []head
	traits   uint8 // a bit for each of [Traits] that a rule asks

	rulesFrom []int32 // by list asked: where in listRules the rules are that it can make match; one more at the end
	listRules []listRules

	categories int
}

// wordBits is the number of rules in a word of masks: nearly all policies have fewer.
const wordBits = 32

// line is the number of words of masks in a cache line. What is read of every policy lies in one line.
const line = 16

// outlined is the outline of a policy: where it begins in masks and heads, how many words of masks make a row, and the rest.
type outlined struct {
	masks, heads int32
	words        uint16
	otherwise    uint8 // strictness
	binds        bool  // a rule has provisos
}

// The rows of a policy's masks. Each has a bit for each rule that can decide. Most rules need that the URL is in a list, or a category or
// trait of it; so each of these has a row with the rules that it can make match. Those that need a list stand in listRules: there are many
// lists, and few rules ask any one of them.
const (
	needNothing = iota
	needEnding  // those that match only where the path ends as a file's name does
	needSending // those that match only where the method is not GET
	isPlain     // those that decide whenever they can match: exact, for every gate, always
	thenUpper   // the strictness of what they say
	thenLower
	firstTrait    // one for each of [Traits]
	firstCategory = firstTrait + 8
)

// head holds what most decisions need of a rule.
type head struct {
	clock   int32 // -1 for always
	gates   uint8 // a bit for each of [Gates] that it is not for
	then    uint8 // strictness of what it says
	outside bool
	exact   bool // if the rule can match, it does
}

// listRules is the rules of one policy that can match through a list: those of one word of its masks.
type listRules struct {
	policy, word int32
	rules        uint32
}

func (s *Snapshot) baselineNumber() int32 { return int32(len(s.config.Policies)) }
func (s *Snapshot) fallbackNumber() int32 { return int32(len(s.config.Policies)) + 1 }

// prefetch reads what will be needed of a policy. Nothing waits for the result, so the processor fetches it in parallel with other work. The result is
// kept only so that the compiler does not remove the read.
func (o *outline) prefetch(number int32) uint32 {
	if p := &o.policies[number]; p.words > 0 {
		return o.masks[p.masks]
	}
	return 0
}

// prefetchRows is prefetch for the rows of a request's categories in the asker's policies.
func (o *outline) prefetchRows(w *Work) uint32 {
	loaded := uint32(0)
	for _, n := range w.caller.policies() {
		p := &o.policies[n]
		for _, category := range w.seen.Categories {
			if row := int(p.masks) + (firstCategory+int(category))*int(p.words); row < len(o.masks) {
				loaded ^= o.masks[row]
			}
		}
	}
	return loaded
}

// canMatch appends to w.can the rules of a policy that can match, given the lists, categories and traits of the request.
func (o *outline) canMatch(w *Work, number int32) {
	p := &o.policies[number]
	words := int(p.words)
	masks := o.masks[p.masks:]
	for word := range words {
		can := masks[needNothing*words+word]
		for _, list := range w.listed {
			can |= o.rulesFor(list, number, int32(word))
		}
		for _, category := range w.seen.Categories {
			can |= masks[(firstCategory+int(category))*words+word]
		}
		for has := w.traits; has != 0; has &= has - 1 {
			can |= masks[(firstTrait+bits.TrailingZeros8(has))*words+word]
		}
		if !w.ending {
			can &^= masks[needEnding*words+word]
		}
		if !w.sends {
			can &^= masks[needSending*words+word]
		}
		w.can = append(w.can, can)
	}
}

// firstOf returns the first rule of a policy that decides, of those that can match, and the strictness of what it says.
func (s *Snapshot) firstOf(w *Work, p *ladderPolicy, number int32, rung Rung, at time.Time, canMatch []uint32) (rule int32, then uint8, decided bool) {
	o := &s.outline
	words := len(canMatch)
	masks := o.masks[o.policies[number].masks:]
	for word, can := range canMatch {
		for ; can != 0; can &= can - 1 {
			bit := bits.TrailingZeros32(can)
			i := int32(word*wordBits + bit)
			if h := w.assumed; h != nil && h.without[0] == p.number(rung) && h.without[1] == i {
				continue
			}
			if masks[isPlain*words+word]>>bit&1 == 0 {
				h := &o.heads[o.policies[number].heads+i]
				if s.now(w, h, at) != Decided || !h.exact && s.holds(w, &p.rules[i].cond) != yes {
					continue
				}
			}
			return i, uint8(masks[thenUpper*words+word]>>bit&1<<1 | masks[thenLower*words+word]>>bit&1), true
		}
	}
	return -1, 0, false
}

// rulesFor returns the rules of a policy that can match through a list, of one word of its masks.
func (o *outline) rulesFor(list, policy, word int32) uint32 {
	rows := o.listRules[o.rulesFrom[list]:o.rulesFrom[list+1]]
	for len(rows) > 0 {
		middle := len(rows) / 2
		switch row := &rows[middle]; {
		case row.policy == policy && row.word == word:
			return row.rules
		case row.policy < policy || row.policy == policy && row.word < word:
			rows = rows[middle+1:]
		default:
			rows = rows[:middle]
		}
	}
	return 0
}

// outline adds a policy to the outline. Rules that are off, and notes, decide nothing.
func (c *compiler) outline(p *ladderPolicy, number int32) {
	o := &c.s.outline
	words := (len(p.rules) + wordBits - 1) / wordBits
	mine := &o.policies[number]
	for len(o.masks)%line != 0 {
		o.masks = append(o.masks, 0)
	}
	*mine = outlined{masks: int32(len(o.masks)), heads: int32(len(o.heads)), words: uint16(words), otherwise: p.Otherwise.strictness()}
	o.masks = append(o.masks, make([]uint32, (firstCategory+o.categories)*words)...)
	masks := o.masks[mine.masks:]
	for i := range p.rules {
		r := &p.rules[i]
		o.heads = append(o.heads, r.head)
		mine.binds = mine.binds || r.With != Provisos{}
		if r.off || r.note {
			continue
		}
		word, bit := i/wordBits, uint32(1)<<(i%wordBits)
		if r.cond.always(func(n *node) bool { return n.op == File }) {
			masks[needEnding*words+word] |= bit
		}
		if r.cond.always(func(n *node) bool { return n.op == Method && !slices.Contains(n.texts, "GET") }) {
			masks[needSending*words+word] |= bit
		}
		if r.exact && r.gates == 0 && r.clock < 0 {
			masks[isPlain*words+word] |= bit
		}
		if r.then&2 != 0 {
			masks[thenUpper*words+word] |= bit
		}
		if r.then&1 != 0 {
			masks[thenLower*words+word] |= bit
		}
		facts, free := c.s.needs(&r.cond, nil)
		if free {
			masks[needNothing*words+word] |= bit
			continue
		}
		for _, f := range facts {
			if f.row == 0 {
				c.ofList[f.list] = withRule(c.ofList[f.list], number, int32(word), bit)
				continue
			}
			masks[f.row*words+word] |= bit
			if f.row < firstCategory {
				o.traits |= 1 << (f.row - firstTrait)
			}
		}
	}
}

// withRule adds a rule to those of a list. The rules of a policy are added one after the other.
func withRule(rules []listRules, policy, word int32, bit uint32) []listRules {
	if last := len(rules) - 1; last >= 0 && rules[last].policy == policy && rules[last].word == word {
		rules[last].rules |= bit
		return rules
	}
	return append(rules, listRules{policy, word, bit})
}

// gather concatenates the rules of all lists.
func (o *outline) gather(ofList [][]listRules) {
	o.rulesFrom = []int32{0}
	for _, rules := range ofList {
		slices.SortFunc(rules, func(a, b listRules) int { return cmp.Or(cmp.Compare(a.policy, b.policy), cmp.Compare(a.word, b.word)) })
		o.listRules = append(o.listRules, rules...)
		o.rulesFrom = append(o.rulesFrom, int32(len(o.listRules)))
	}
}

// fact is a property of a request: membership of a list that conditions ask for or, by a row of the masks, a category or a trait.
type fact struct {
	list int32
	row  int // 0 for lists
}

// needs returns facts of which a condition needs at least one to hold; true if it may hold without any.
func (s *Snapshot) needs(n *node, facts []fact) ([]fact, bool) {
	switch n.op {
	case InList:
		for l := n.set.Next(0); l >= 0; l = n.set.Next(l + 1) {
			facts = append(facts, fact{list: l})
		}
	case Is:
		for k := n.set.Next(0); k >= 0; k = n.set.Next(k + 1) {
			facts = append(facts, fact{row: firstCategory + int(k)})
		}
	case HasTrait:
		for _, trait := range n.traits {
			if at := slices.Index(Traits, trait); at >= 0 {
				facts = append(facts, fact{row: firstTrait + at})
			}
		}
	case App:
		for _, app := range n.apps {
			facts = append(facts, fact{list: app.list})
		}
	case Search:
		facts = append(facts, fact{list: s.words[n.words].list})
	case Any:
		for i := range n.of {
			var free bool
			if facts, free = s.needs(&n.of[i], facts); free {
				return facts, true
			}
		}
	case All:
		for i := range n.of { // every part has to hold, so the needs of one part suffice
			if part, free := s.needs(&n.of[i], nil); !free {
				return append(facts, part...), false
			}
		}
		return facts, true
	default:
		return facts, true
	}
	return facts, false
}

// always reports whether a condition can hold only where one of its parts holds for which test reports true.
func (n *node) always(so func(n *node) bool) bool {
	part := func(of node) bool { return of.always(so) }
	switch n.op {
	case All:
		return slices.ContainsFunc(n.of, part)
	case Any:
		return !slices.ContainsFunc(n.of, func(of node) bool { return !part(of) })
	}
	return so(n)
}

// exact reports whether a condition holds whenever one of the facts that it needs is true.
func (n *node) exact() bool {
	switch n.op {
	case InList, Is, HasTrait:
		return true
	case App:
		return !slices.ContainsFunc(n.apps, func(a appTest) bool { return len(a.methods) > 0 })
	case Any:
		return !slices.ContainsFunc(n.of, func(part node) bool { return !part.exact() })
	case All:
		return len(n.of) == 0 || len(n.of) == 1 && n.of[0].exact()
	}
	return false
}

package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/ranges"
	"widelark/core/weburl"
)

// FlipKind is a kind of change that turns a verdict.
type FlipKind string

// The kinds of flips.
const (
	AddException FlipKind = "add exception"
	EndException FlipKind = "end exception"
	EndGrant     FlipKind = "end grant"
	TakeEntryOut FlipKind = "take entry out"
	SwitchOff    FlipKind = "switch rule off"
	LiftRule     FlipKind = "move rule up"
	Correct      FlipKind = "correct category"
)

// Flip is a single change that turns a verdict; it was tried out.
type Flip struct {
	Kind    FlipKind
	Text    string  // the change in a sentence
	Verdict Verdict // what it would be then

	Pattern   pattern.Pattern // AddException, Correct
	Whom      Whom            // AddException
	WhomName  string
	Exception string     // EndException, EndGrant: its id
	List      *match.Ref // TakeEntryOut
	Entry     int64
	Rung      Rung   // SwitchOff, LiftRule
	Policy    string // its id
	Place     int32  // of the rule
	RuleID    string
	Above     int32  // LiftRule: the place that it would have
	AboveID   string // LiftRule: of the rule that it would stand above
	Category  string // Correct: the key of the category that it would not have any more
}

// Flips returns the smallest single changes that turn the verdict on a request round, from blocked to reached or the reverse: the
// narrowest exceptions first.
func (s *Snapshot) Flips(w *Work, r *Request, at time.Time) []Flip {
	return s.flips(r, at, []*Work{s.probe(w, r, at)}, nil)
}

// TravelFlips is [Snapshot.Flips] for the verdict on a journey: each change was tried out at all gates on the way.
func (s *Snapshot) TravelFlips(w *Work, r *Request, at time.Time) []Flip {
	way, _ := s.way(w, r, at)
	probes := make([]*Work, len(way))
	for i := range way {
		probes[i] = s.probe(&Work{}, &way[i], at)
	}
	if len(probes) == 0 {
		return nil
	}
	var tunnel *Work
	if _, byPolicy := s.WayOf(r).policyOpens(r); byPolicy {
		tunnel = s.tunnel(&Work{}, r, at)
	}
	return s.flips(r, at, probes, tunnel)
}

// probe looks up everything that a decision on the request depends on, so that it can be made repeatedly.
func (s *Snapshot) probe(w *Work, r *Request, at time.Time) *Work {
	w.assumed = nil
	s.belong(w, r)
	s.look(w, r, pattern.DateOf(at.In(s.config.Zone)), false)
	s.weigh(w)
	return w
}

// flipping is the search for flips of one verdict.
type flipping struct {
	s       *Snapshot
	at      time.Time
	probes  []*Work // the request as each gate on its way sees it
	now     Decision
	decider *Work // the probe that now comes from
	tunnel  *Work // tells whether the connection is opened; nil where that is not asked
	opened  bool
	flips   []Flip
}

// decide returns the joint verdict of the probes, and the probe that decides. A hypothesis is applied as if the change had been made.
func (f *flipping) decide(h *hypothesis) (decision Decision, decider *Work) {
	var c course
	for i, w := range f.probes {
		if h != nil {
			mine := *h
			if mine.page && w.sight != weburl.Full {
				mine.exception = nil // it cannot be told there
			}
			w.assumed = &mine
		}
		d := f.s.ladder(w, f.at, nil)
		w.assumed = nil
		passes := c.meets(d.Verdict)
		if c.decisive == i {
			decision, decider = d, w
		}
		if !passes {
			break
		}
	}
	return decision, decider
}

// try keeps a flip if the change that it names turns the verdict round.
func (f *flipping) try(h hypothesis, flip Flip) bool {
	then, _ := f.decide(&h)
	if then.Verdict.Passes() == f.now.Verdict.Passes() {
		return false
	}
	flip.Verdict = then.Verdict
	f.flips = append(f.flips, flip)
	return true
}

func (s *Snapshot) flips(r *Request, at time.Time, probes []*Work, tunnel *Work) []Flip {
	f := &flipping{s: s, at: at, probes: probes, tunnel: tunnel, opened: tunnel != nil && s.opens(tunnel)}
	f.now, f.decider = f.decide(nil)
	sight := weburl.Name // the most that any gate sees
	for _, w := range probes {
		if slices.Index(weburl.Sights, w.sight) > slices.Index(weburl.Sights, sight) {
			sight = w.sight
		}
	}
	verdict := Allow
	if f.now.Verdict.Passes() {
		verdict = Block
	}
	for i, whom := range s.whoms(f.decider, r) {
		for _, form := range narrowest(r.URL, sight) {
			h := nothing
			h.exception, h.level, h.specificity, h.page = &Exception{Then: verdict}, whom.level, form.pattern.Specificity(), form.page
			turns := f.try(h, Flip{
				Kind: AddException, Pattern: form.pattern, Whom: whom.Whom, WhomName: whom.name,
				Text: fmt.Sprintf("%s %s (%s) for %s", capital(string(verdict)), form.what, form.pattern, whom.name),
			})
			if turns && i > 0 {
				break // for more people, the narrowest form is enough to choose from
			}
		}
	}
	if f.now.Rung == AtException {
		h, g := nothing, s.grants[f.now.Granted]
		h.ended = f.now.Granted
		flip := Flip{Kind: EndException, Exception: g.ID, Text: fmt.Sprintf("End the %s %q", g.word(), g.Name)}
		if g.Grant {
			flip.Kind = EndGrant
		}
		f.try(h, flip)
	}
	if p := s.policyOf(f.now); p != nil && f.now.Rule >= 0 {
		f.rules(p)
		f.entries(p)
		f.categories(p)
	}
	return f.flips
}

// rules tries to switch off the rule that decided, and to move each rule below it above it.
func (f *flipping) rules(p *ladderPolicy) {
	number, now := p.number(f.now.Rung), f.now.Rule
	h := nothing
	h.without = [2]int32{number, now}
	flip := Flip{Rung: f.now.Rung, Policy: p.ID, Place: now, RuleID: p.rules[now].ID, Above: -1}
	flip.Kind, flip.Text = SwitchOff, fmt.Sprintf("Switch the rule %q of %q off: this changes more than this page", p.rules[now].Name, p.Name)
	f.try(h, flip)
	for i := now + 1; int(i) < len(p.rules); i++ {
		if rule := &p.rules[i]; rule.Then != Note && rule.Then.Passes() != f.now.Verdict.Passes() && f.s.outcome(f.decider, rule, f.at) == Decided {
			h := nothing
			h.lifted = [3]int32{number, i, now}
			flip.Kind, flip.Place, flip.RuleID, flip.Above, flip.AboveID = LiftRule, i, rule.ID, now, p.rules[now].ID
			flip.Text = fmt.Sprintf("Move the rule %q of %q above %q: this changes more than this page", rule.Name, p.Name, p.rules[now].Name)
			if f.try(h, flip) {
				return
			}
		}
	}
}

// works returns all scratch spaces in which a change of the URL's classification has to be made.
func (f *flipping) works() []*Work {
	if f.tunnel == nil {
		return f.probes
	}
	return append(slices.Clone(f.probes), f.tunnel)
}

// tryClass is try after a change of the URL's classification. If that changes what the gates see, no flip is kept.
func (f *flipping) tryClass(flip Flip) {
	if f.tunnel == nil || f.s.opens(f.tunnel) == f.opened {
		f.try(nothing, flip)
	}
}

// entries takes out, one by one, the entries that put the URL into lists that the rule asks.
func (f *flipping) entries(p *ladderPolicy) {
	s := f.s
	first, lists := s.classifier.FirstList(), s.config.Lists.Lists()
	asked := p.rules[f.now.Rule].cond.asks(nil)
	works := f.works()
	all := make([][]match.Take, len(works))
	for i, w := range works {
		all[i] = slices.Clone(w.seen.Takes)
	}
	without := func(gone func(match.Take) bool) {
		for i, w := range works {
			w.seen.Takes = slices.DeleteFunc(append(w.seen.Takes[:0], all[i]...), gone)
			s.weigh(w)
		}
	}
	for _, t := range slices.Clone(f.decider.seen.Takes) {
		n := t.List - first
		if n < 0 || int(n) >= len(lists) || t.Unclear || t.CarveOut || !slices.ContainsFunc(asked, func(leaf *node) bool { return leaf.op == InList && leaf.set.Has(n) }) {
			continue
		}
		without(t.SameEntry)
		found := s.index.Found(t)
		f.tryClass(Flip{
			Kind: TakeEntryOut, List: &lists[n], Entry: found.ID,
			Text: fmt.Sprintf("Take the entry %s out of the list %q", found.Pattern, lists[n].Name),
		})
	}
	without(func(match.Take) bool { return false })
}

// categories takes away, one by one, the categories that the rule asks for.
func (f *flipping) categories(p *ladderPolicy) {
	works := f.works()
	asked := p.rules[f.now.Rule].cond.asks(nil)
	for _, number := range slices.Clone(f.decider.seen.Categories) {
		if !slices.ContainsFunc(asked, func(leaf *node) bool { return leaf.op == Is && leaf.set.Has(number) }) {
			continue
		}
		replace := func(number, with int32) {
			for _, w := range works {
				if i := slices.Index(w.seen.Categories, number); i >= 0 {
					w.seen.Categories[i] = with
				}
			}
		}
		has := make([]bool, len(works))
		for i, w := range works {
			has[i] = w.is.Has(number)
			w.is[number>>6] &^= 1 << (number & 63)
		}
		replace(number, noCategory)
		category := f.s.category(number)
		host, _ := pattern.OfHost(*f.decider.url, pattern.Only)
		f.tryClass(Flip{Kind: Correct, Category: category.Key, Pattern: host, Text: fmt.Sprintf("Correct what it is: not %s", category.Name)})
		replace(noCategory, number)
		for i, w := range works {
			if has[i] {
				w.is.Add(number)
			}
		}
	}
}

// asks appends the leaves of a condition.
func (n *node) asks(all []*node) []*node {
	for i := range n.of {
		all = n.of[i].asks(all)
	}
	if len(n.of) == 0 {
		all = append(all, n)
	}
	return all
}

// narrow is a form that an exception for a URL can have.
type narrow struct {
	what    string
	pattern pattern.Pattern
	page    bool
}

// narrowest returns the forms of exceptions for a URL that can be told at a sight, the narrowest first: this page, this host, this site.
func narrowest(u URL, sight weburl.Sight) []narrow {
	var forms []narrow
	add := func(what string, p pattern.Pattern, ok bool) {
		if ok {
			forms = append(forms, narrow{what, p, p.FoldedPath() != ""})
		}
	}
	if sight == weburl.Full && u.Path() != "/" {
		page, ok := pattern.OfPage(u)
		add("this page", page, ok)
	}
	host, ok := pattern.OfHost(u, pattern.Only)
	if u.Addr().IsValid() {
		add("this address", host, ok)
		return forms
	}
	add("this host", host, ok)
	if site, err := pattern.Parse(u.Site()); err == nil && site.Pattern.IsValid() {
		add("this site", site.Pattern, true)
	}
	return forms
}

// Narrowest returns the forms of exceptions for a URL, the narrowest first, with what each is called.
func Narrowest(u URL, sight weburl.Sight) (what []string, patterns []pattern.Pattern) {
	for _, form := range narrowest(u, sight) {
		what, patterns = append(what, form.what), append(patterns, form.pattern)
	}
	return what, patterns
}

// whom is a possible audience of an exception.
type whom struct {
	Whom
	name  string
	level int
}

// whoms returns for whom an exception for a request can be, the narrowest first: this person or, where nobody is named, this address; this
// network; each group that it belongs to; everybody.
func (s *Snapshot) whoms(w *Work, r *Request) []whom {
	d := s.config.Directory
	var all []whom
	if w.person >= 0 {
		p := d.People[w.person]
		all = append(all, whom{Whom{Persons: []string{p.ID}}, p.Name, forPerson})
	} else if w.addr.IsValid() {
		all = append(all, whom{Whom{Ranges: []netip.Prefix{ranges.Single(w.addr)}}, "the address " + w.addr.String(), forPlace})
	}
	if w.network >= 0 {
		n := d.Networks[w.network]
		all = append(all, whom{Whom{Networks: []string{n.ID}}, fmt.Sprintf("the network %q", n.Name), forPlace})
	}
	for n := w.groups.Next(0); n >= 0; n = w.groups.Next(n + 1) {
		if w.member >= 0 && n != w.member {
			continue // asked for one group, the others only hold it
		}
		g := d.Groups[n]
		all = append(all, whom{Whom{Groups: []string{g.ID}}, fmt.Sprintf("the group %q", g.Name), forGroup})
	}
	return append(all, whom{Whom{Everybody: true}, "everybody", forEverybody})
}

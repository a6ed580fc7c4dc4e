package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// FlipKind is a kind of change that turns a verdict round.
type FlipKind string

// The kinds of flips.
const (
	AddException FlipKind = "add exception"
	EndException FlipKind = "end exception"
	TakeEntryOut FlipKind = "take entry out"
	SwitchOff    FlipKind = "switch rule off"
	LiftRule     FlipKind = "move rule up"
	Correct      FlipKind = "correct category"
)

// Flip is one change that turns a verdict round by itself: it was tried out.
type Flip struct {
	Kind    FlipKind
	Text    string  // the change in a sentence
	Verdict Verdict // what it would be then

	Pattern   pattern.Pattern // AddException, Correct
	Whom      Whom            // AddException
	WhomName  string
	Exception string     // EndException: its id
	List      *match.Ref // TakeEntryOut
	Entry     int64
	Rung      Rung   // SwitchOff, LiftRule
	Policy    string // its id
	Place     int32  // of the rule
	Above     int32  // LiftRule: the place that it would have
	Category  string // Correct: the key of the category that it would not have any more
}

// Flips returns the smallest single changes that turn the verdict on a request round, from blocked to reached or the reverse: the
// narrowest exceptions first.
func (s *Snapshot) Flips(w *Work, r *Request, at time.Time) []Flip {
	w.hypo = nil
	defer func() { w.hypo = nil }()
	now := s.Decide(w, r, at)
	s.join(w, true)
	takes := slices.Clone(w.seen.Takes)
	var flips []Flip
	try := func(h hypothesis, f Flip) bool {
		w.hypo = &h
		then := s.ladder(w, at, nil)
		w.hypo = nil
		if then.Verdict.Passes() == now.Verdict.Passes() {
			return false
		}
		f.Verdict = then.Verdict
		flips = append(flips, f)
		return true
	}
	nothing := hypothesis{without: [2]int32{-1, -1}, lifted: [2]int32{-1, -1}, ended: -1}

	verdict := Allow
	if now.Verdict.Passes() {
		verdict = Block
	}
	for i, whom := range s.whoms(w, r) {
		for _, p := range narrowest(r.URL, w.sight) {
			h := nothing
			h.exception, h.level, h.says = &Exception{Then: verdict}, whom.level, p.pattern.Specificity()
			turns := try(h, Flip{
				Kind: AddException, Pattern: p.pattern, Whom: whom.Whom, WhomName: whom.name,
				Text: fmt.Sprintf("%s %s (%s) for %s", capital(string(verdict)), p.what, p.pattern, whom.name),
			})
			if turns && i > 0 {
				break // for more people, the narrowest form is enough to choose from
			}
		}
	}
	if now.Rung == AtException {
		h, g := nothing, s.grants[now.Granted]
		h.ended = now.Granted
		try(h, Flip{Kind: EndException, Exception: g.ID, Text: fmt.Sprintf("End the exception %q", g.Name)})
	}
	p := s.policyOf(now)
	if p != nil && now.Rule >= 0 {
		s.ruleFlips(w, at, p, now, nothing, try)
	}
	// What is looked at changes from here on; it is looked at anew by whoever asks next.
	if p != nil && now.Rule >= 0 {
		s.entryFlips(w, p, now, nothing, takes, try)
	}
	return flips
}

// policyOf returns the policy that decided; nil where none did.
func (s *Snapshot) policyOf(d Decision) *ladderPolicy {
	switch d.Rung {
	case AtBaseline:
		return s.baseline
	case AtPolicy:
		return &s.policies[d.Policy]
	case AtFallback:
		return s.fallback
	}
	return nil
}

func (s *Snapshot) ruleFlips(w *Work, at time.Time, p *ladderPolicy, now Decision, nothing hypothesis, try func(hypothesis, Flip) bool) {
	h, number := nothing, p.number(now.Rung)
	h.without = [2]int32{number, now.Rule}
	f := Flip{Rung: now.Rung, Policy: p.ID, Place: now.Rule, Above: -1}
	f.Kind, f.Text = SwitchOff, fmt.Sprintf("Switch the rule %q of %q off: this changes more than this page", p.rules[now.Rule].Name, p.Name)
	try(h, f)
	for i := now.Rule + 1; int(i) < len(p.rules); i++ {
		if rule := &p.rules[i]; rule.Then != Note && rule.Then.Passes() != now.Verdict.Passes() && s.outcome(w, rule, at) == Decided {
			h := nothing
			h.lifted = [2]int32{number, i}
			f.Kind, f.Place, f.Above = LiftRule, i, now.Rule
			f.Text = fmt.Sprintf("Move the rule %q of %q above %q: this changes more than this page", rule.Name, p.Name, p.rules[now.Rule].Name)
			if try(h, f) {
				return
			}
		}
	}
}

// entryFlips takes out, one by one, the entries that put the URL into lists that the rule asks, and the categories that it asks for.
func (s *Snapshot) entryFlips(w *Work, p *ladderPolicy, now Decision, nothing hypothesis, takes []match.Take, try func(hypothesis, Flip) bool) {
	first, lists := s.classifier.FirstList(), s.config.Lists.Lists()
	asked := p.rules[now.Rule].cond.asks(nil)
	for _, t := range takes {
		n := t.List - first
		if n < 0 || int(n) >= len(lists) || t.Answer != match.Yes || t.CarveOut || !slices.ContainsFunc(asked, func(leaf *node) bool { return leaf.op == InList && leaf.set.Has(n) }) {
			continue
		}
		w.seen.Takes = append(w.seen.Takes[:0], takes...)
		w.seen.Takes = slices.DeleteFunc(w.seen.Takes, func(other match.Take) bool { return other == t })
		s.weigh(w)
		found := s.index.Found(t)
		try(nothing, Flip{
			Kind: TakeEntryOut, List: &lists[n], Entry: found.ID,
			Text: fmt.Sprintf("Take the entry %s out of the list %q", found.Pattern, lists[n].Name),
		})
	}
	w.seen.Takes = append(w.seen.Takes[:0], takes...)
	s.weigh(w)
	for i, number := range w.seen.Categories {
		if !slices.ContainsFunc(asked, func(leaf *node) bool { return leaf.op == Is && leaf.set.Has(number) }) {
			continue
		}
		w.is[number>>6] &^= 1 << (number & 63)
		w.seen.Categories[i] = noCategory
		category := s.category(number)
		host, _ := pattern.Parse("=" + w.url.Host())
		try(nothing, Flip{Kind: Correct, Category: category.Key, Pattern: host.Pattern, Text: fmt.Sprintf("Correct what it is: not %s", category.Name)})
		w.is.Add(number)
		w.seen.Categories[i] = number
	}
}

// asks appends the parts of a condition that ask something themselves.
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
}

// narrowest returns the forms of exceptions for a URL that can be told at a sight, the narrowest first: this page, this host, this site.
func narrowest(u URL, sight match.Sight) []narrow {
	host := u.Host()
	if u.Addr().Is6() {
		host = "[" + host + "]"
	}
	var forms []narrow
	add := func(what, text string) {
		if e, err := pattern.Parse(text); err == nil {
			forms = append(forms, narrow{what, e.Pattern})
		}
	}
	if path := u.Path(); sight == match.Full && path != "/" && !strings.ContainsAny(path, "* #") {
		add("this page", "="+host+path)
	}
	if u.Addr().IsValid() {
		add("this address", u.Addr().String())
		return forms
	}
	add("this host", "="+host)
	if name, suffix := weburl.SplitSuffix(host); name != "" && suffix != "" {
		add("this site", name[strings.LastIndexByte(name, '.')+1:]+"."+suffix)
	}
	return forms
}

// Narrowest returns the forms of exceptions for a URL, the narrowest first, with what each is called.
func Narrowest(u URL, sight match.Sight) (what []string, patterns []pattern.Pattern) {
	for _, form := range narrowest(u, sight) {
		what, patterns = append(what, form.what), append(patterns, form.pattern)
	}
	return what, patterns
}

// whom is somebody that an exception can be for.
type whom struct {
	Whom
	name  string
	level int
}

// whoms returns for whom an exception for a request can be, the narrowest first: this person, this network or address, each group that
// it belongs to, everybody.
func (s *Snapshot) whoms(w *Work, r *Request) []whom {
	d := s.config.Directory
	var all []whom
	if w.person >= 0 {
		p := d.People[w.person]
		all = append(all, whom{Whom{Persons: []string{p.ID}}, p.Name, forPerson})
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

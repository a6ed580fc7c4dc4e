package policy

import (
	"slices"
	"time"

	"widelark/core/weburl"
)

// BlocksBelow reports whether every name below that of a request, which is blocked, is blocked for it, too: only then may a DNS gate say that the name does not exist
// (RFC 8020). It reports false where that is not certain.
func (s *Snapshot) BlocksBelow(w *Work, r *Request, at time.Time) bool {
	host := r.URL.Host()
	if s.patternsOpen() || s.index.Below(host) {
		return false
	}
	probe := *r
	var err error
	if probe.URL, err = weburl.Parse("https://wide-lark-probe." + host + "/"); err != nil { // a name that no list has
		return false
	}
	probe.Sight, probe.Gate, probe.Chain = weburl.Name, DNS, nil
	return !s.decide(w, &probe, at).Verdict.Passes()
}

// patternsOpen reports whether a glob, a regex or a word could open a name below one that is blocked: a carve-out, an entry of an exception, a list of a rule that
// lets pass or asks that something is not so, or what says what a site is.
func (s *Snapshot) patternsOpen() bool {
	s.opening.once.Do(func() { s.opening.patterns = s.findOpening() })
	return s.opening.patterns
}

func (s *Snapshot) findOpening() bool {
	if len(s.byClass) > 0 {
		return true
	}
	var asked []string
	classes, opens := false, false // a rule asks what a site is; one that could let pass by it
	ask := func(p *ladderPolicy) {
		if p == nil {
			return
		}
		for i := range p.rules {
			rule := p.rules[i].Rule
			passes := rule.Then.Passes() || rule.If.denies()
			if passes {
				asked = append(asked, rule.If.everyList()...)
			}
			classes = classes || rule.If.asks(func(c Cond) bool { return c.Op == Is || c.Op == Points })
			// A site that is something more has fewer traits: it is not unrated.
			opens = opens || rule.If.asks(func(c Cond) bool {
				switch c.Op {
				case HasTrait:
					return passes || slices.Contains(c.Values, string(Unrated))
				case Is, Points, App:
					return passes
				}
				return false
			})
		}
	}
	ask(s.baseline)
	ask(s.fallback)
	for i := range s.policies {
		ask(&s.policies[i])
	}
	for i := range s.stints {
		if s.stints[i].Kind != Paused {
			asked = append(asked, s.stints[i].Lists...)
		}
	}
	first := s.classifier.FirstList()
	lists := s.index.Lists()
	if opens && s.AsksText() {
		return true // points of words
	}
	for n := range int32(len(lists)) {
		some, carves := s.index.Patterns(n)
		says, displaces := s.classifier.Says(n)
		switch {
		case !some:
		case carves:
			return true
		case n >= s.grantsFrom && n < s.grantsFrom+int32(len(s.grants)):
			if s.grants[n-s.grantsFrom].Then != Block {
				return true
			}
		case opens && (says || n-first >= int32(len(s.config.Lists.Lists()))): // the others are hosts of apps, and words of searches
			return true
		case (classes || opens) && displaces:
			return true
		case slices.Contains(asked, lists[n].ID):
			return true
		}
	}
	return false
}

// denies reports whether a part of the condition asks that something is not so.
func (c Cond) denies() bool { return c.asks(func(c Cond) bool { return c.Op == None }) }

// asks reports whether the condition or a part of it is one for which test reports true.
func (c Cond) asks(test func(c Cond) bool) bool {
	return test(c) || slices.ContainsFunc(c.Of, func(part Cond) bool { return part.asks(test) })
}

// everyList returns all lists that the condition asks for, parts of [None] among them.
func (c Cond) everyList() []string {
	if c.Op == InList {
		return c.Values
	}
	var lists []string
	for _, part := range c.Of {
		lists = append(lists, part.everyList()...)
	}
	return lists
}

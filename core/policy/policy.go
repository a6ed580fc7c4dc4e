// Package policy decides: from a policy and the lists that have something to say about a URL to a verdict, with the
// steps that led to it.
//
// From: [match.Index] and a [Policy].
// To: [Decision], which trials and, later, gates act on.
package policy

import (
	"fmt"
	"slices"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Verdict is what is to become of a request.
type Verdict string

// The verdicts.
const (
	Allow Verdict = "allow"
	Block Verdict = "block"
)

// Verdicts lists every verdict.
var Verdicts = []Verdict{Allow, Block}

// Rule gives its verdict to every URL that is in one of its lists, or has one of its categories.
type Rule struct {
	Name       string
	Lists      []string // ids of lists
	Categories []string // keys of categories or families; a family stands for all that is in it
	Then       Verdict
}

// Class is what a URL is, as rules ask for it.
type Class struct {
	classify.Answer
	Taxonomy classify.Taxonomy // names, and which family a category is in
}

// find returns the first category of the URL that is one of some keys, or in a family that is.
func (c Class) find(keys []string) (classify.Category, bool) {
	for _, key := range c.Categories {
		category, known := c.Taxonomy.Category(key)
		if !known {
			category = classify.Category{Key: key, Name: key}
		}
		if slices.Contains(keys, key) || category.Family != "" && slices.Contains(keys, category.Family) {
			return category, true
		}
	}
	return classify.Category{}, false
}

// by returns what gave a category; nil where a scorecard did.
func (c Class) by(key string) *classify.Given {
	for i, g := range c.Given {
		if slices.Contains(g.Categories, key) {
			return &c.Given[i]
		}
	}
	return nil
}

// Policy is ordered rules and what holds where none of them decides. The zero Policy is not valid: it has no otherwise.
type Policy struct {
	Name      string
	Group     string // the name of the group that the policy is for
	Rules     []Rule
	Otherwise Verdict
}

// Outcome says what came of one rule.
type Outcome string

// The outcomes.
const (
	Decided    Outcome = "decided"     // the rule matched and gave the verdict
	NoMatch    Outcome = "no match"    // the URL is in none of the rule's lists, and has none of its categories
	CannotTell Outcome = "cannot tell" // it hangs on what this sight does not have; such a rule never decides
	NotReached Outcome = "not reached" // a rule above decided
)

// Step is one rule as it was looked at. Where it would have matched, or cannot be told, List and Entry say by what, whether or
// not it was reached.
type Step struct {
	Rule    string
	Then    Verdict
	Outcome Outcome
	List    *match.Ref   // the first of the rule's lists that the URL is in; nil where there is none
	Entry   *match.Found // the most specific entry; nil where List is

	Category *classify.Category // the first of the rule's categories that the URL has; nil where List is there
	Given    *classify.Given    // what gave it; nil where a scorecard did
}

// Decision is a verdict and why.
type Decision struct {
	Verdict Verdict
	Steps   []Step      // every rule of the policy in order
	Decider int         // position in Steps of the rule that decided; -1 where it was the policy's otherwise
	Hits    []match.Hit // every list that has something to say about the URL, whether a rule names it or not
}

// Decide returns the verdict of p for u on a day, as it is seen. class is what u is at that sight. It is a pure function of its arguments.
func Decide(x *match.Index, p Policy, u weburl.URL, class Class, today pattern.Date, sight match.Sight) Decision {
	d := Decision{Verdict: p.Otherwise, Decider: -1, Hits: x.Cover(u, today, sight)}
	for i, rule := range p.Rules {
		step := Step{Rule: rule.Name, Then: rule.Then, Outcome: NoMatch}
		var certain bool
		step.List, step.Entry, certain = first(rule.Lists, d.Hits)
		if category, has := class.find(rule.Categories); has && !certain {
			step.List, step.Entry, certain = nil, nil, true
			step.Category, step.Given = &category, class.by(category.Key)
		}
		switch {
		case d.Decider >= 0:
			step.Outcome = NotReached
		case certain:
			step.Outcome, d.Verdict, d.Decider = Decided, rule.Then, i
		case step.List != nil:
			step.Outcome = CannotTell
		}
		d.Steps = append(d.Steps, step)
	}
	return d
}

// first returns the first of the lists that the URL is in for certain, with its most specific entry; else the first of which it
// cannot be told.
func first(ids []string, hits []match.Hit) (list *match.Ref, entry *match.Found, certain bool) {
	for _, id := range ids {
		for i := range hits {
			hit := &hits[i]
			if hit.List.ID != id {
				continue
			}
			switch in := hit.In(); {
			case in == match.Yes:
				return &hit.List, &hit.Covering[0], true
			case in == match.CannotTell && list == nil:
				list, entry = &hit.List, &hit.Unclear[0]
			}
		}
	}
	return list, entry, false
}

// giver says what gave a category, as a clause.
func giver(g *classify.Given) string {
	switch {
	case g == nil:
		return " by a scorecard"
	case g.Source == classify.ByCorrection:
		return fmt.Sprintf(" by our correction of %s", g.Entry.Pattern)
	case g.Source == classify.ByOwn:
		return fmt.Sprintf(": the list %q has the entry %s", g.List.Name, g.Entry.Pattern)
	}
	return fmt.Sprintf(": the pack %q has the entry %s", g.PackName, g.Entry.Pattern)
}

// Because says in one sentence what decided.
func (d Decision) Because(p Policy) string {
	if d.Decider < 0 {
		if len(p.Rules) == 0 {
			return fmt.Sprintf("The policy %q has no rules; otherwise it says %s.", p.Name, d.Verdict)
		}
		return fmt.Sprintf("No rule of the policy %q matches; otherwise it says %s.", p.Name, d.Verdict)
	}
	step := d.Steps[d.Decider]
	if step.Category != nil {
		return fmt.Sprintf("The rule %q of the policy %q says %s, because it is %s%s.", step.Rule, p.Name, step.Then, step.Category.Name, giver(step.Given))
	}
	return fmt.Sprintf("The rule %q of the policy %q says %s, because the list %q has the entry %s.",
		step.Rule, p.Name, step.Then, step.List.Name, step.Entry.Pattern)
}

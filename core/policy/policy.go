// Package policy decides: from a policy and the lists that have something to say about a URL to a verdict, with the
// steps that led to it.
//
// From: [match.Index] and a [Policy].
// To: [Decision], which trials and, later, gates act on.
package policy

import (
	"fmt"

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

// Rule gives its verdict to every URL that is in one of its lists.
type Rule struct {
	Name  string
	Lists []string // ids of lists; the rule matches where the URL is in any of them
	Then  Verdict
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
	NoMatch    Outcome = "no match"    // the URL is in none of the rule's lists
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
}

// Decision is a verdict and why.
type Decision struct {
	Verdict Verdict
	Steps   []Step      // every rule of the policy in order
	Decider int         // position in Steps of the rule that decided; -1 where it was the policy's otherwise
	Hits    []match.Hit // every list that has something to say about the URL, whether a rule names it or not
}

// Decide returns the verdict of p for u on a day, as it is seen. It is a pure function of its arguments.
func Decide(x *match.Index, p Policy, u weburl.URL, today pattern.Date, sight match.Sight) Decision {
	d := Decision{Verdict: p.Otherwise, Decider: -1, Hits: x.Cover(u, today, sight)}
	for i, rule := range p.Rules {
		step := Step{Rule: rule.Name, Then: rule.Then, Outcome: NoMatch}
		var certain bool
		step.List, step.Entry, certain = first(rule.Lists, d.Hits)
		switch {
		case d.Decider >= 0:
			step.Outcome = NotReached
		case step.List != nil && certain:
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

// Because says in one sentence what decided.
func (d Decision) Because(p Policy) string {
	if d.Decider < 0 {
		if len(p.Rules) == 0 {
			return fmt.Sprintf("The policy %q has no rules; otherwise it says %s.", p.Name, d.Verdict)
		}
		return fmt.Sprintf("No rule of the policy %q matches; otherwise it says %s.", p.Name, d.Verdict)
	}
	step := d.Steps[d.Decider]
	return fmt.Sprintf("The rule %q of the policy %q says %s, because the list %q has the entry %s.",
		step.Rule, p.Name, step.Then, step.List.Name, step.Entry.Pattern)
}

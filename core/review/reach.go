package review

import (
	"fmt"
	"slices"
	"strings"

	"widelark/core/cover"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// Witness returns a URL that a pattern covers.
func Witness(p pattern.Pattern) (weburl.URL, bool) { return cover.Witness(p) }

// literal is one thing that a request is known to meet, or not to.
type literal struct {
	op      policy.Op
	value   string
	atLeast int
	not     bool
}

// term is literals that hold together.
type term []literal

// mostTerms bounds how many cases a condition is taken apart into.
const mostTerms = 256

// terms takes a condition apart: it holds where all of any term holds. ok is false where there would be too many.
func terms(c policy.Cond, not bool) (all []term, ok bool) {
	op := c.Op
	if op == "" {
		op = policy.All
	}
	switch {
	case op == policy.None:
		return terms(policy.Cond{Op: policy.Any, Of: c.Of}, !not)
	case op == policy.All && !not, op == policy.Any && not: // each part
		all = []term{{}}
		for _, part := range c.Of {
			cases, ok := terms(part, not)
			if !ok || len(all)*len(cases) > mostTerms {
				return nil, false
			}
			var joined []term
			for _, a := range all {
				for _, b := range cases {
					joined = append(joined, slices.Concat(a, b))
				}
			}
			all = joined
		}
		return all, true
	case op == policy.Any, op == policy.All:
		for _, part := range c.Of {
			cases, ok := terms(part, not)
			if !ok || len(all)+len(cases) > mostTerms {
				return nil, false
			}
			all = append(all, cases...)
		}
		return all, true
	}
	if not {
		one := term{}
		for _, value := range c.Values {
			one = append(one, literal{c.Op, value, c.AtLeast, true})
		}
		return []term{one}, true
	}
	for _, value := range c.Values {
		all = append(all, term{{c.Op, value, c.AtLeast, false}})
	}
	return all, len(all) <= mostTerms
}

// known returns what a term implies about a condition: 1 that it holds, -1 that it does not, 0 nothing.
func (r *reviewer) known(t term, c policy.Cond) int {
	switch c.Op {
	case "", policy.All:
		least := 1
		for _, part := range c.Of {
			least = min(least, r.known(t, part))
		}
		return least
	case policy.Any, policy.None:
		most := -1
		for _, part := range c.Of {
			most = max(most, r.known(t, part))
		}
		if c.Op == policy.None {
			return -most
		}
		return most
	}
	ruledOut := 0
	for _, value := range c.Values {
		for _, l := range t {
			if l.op != c.Op || c.Op == policy.Points && l.atLeast != c.AtLeast {
				continue
			}
			if !l.not && r.implies(c.Op, l.value, value) {
				return 1
			}
			if l.not && r.implies(c.Op, value, l.value) {
				ruledOut++
				break
			}
		}
	}
	if ruledOut == len(c.Values) {
		return -1
	}
	return 0
}

// implies reports whether one value of a condition implies another.
func (r *reviewer) implies(op policy.Op, value, other string) bool {
	switch {
	case value == other:
		return true
	case op == policy.InList:
		return r.holds(other, value)
	case op == policy.Is: // a family stands for its categories
		c, ok := r.config.Taxonomy.Category(value)
		return ok && c.Family == other
	case op == policy.App:
		app, _, _ := strings.Cut(value, "/")
		return app == other
	}
	return false
}

// mostCompared is the largest list whose entries are each compared with another's.
const mostCompared = 2000

// holds reports whether one list covers everything that another does, entry by entry.
func (r *reviewer) holds(list, inner string) bool {
	key := [2]string{list, inner}
	if held, ok := r.contains[key]; ok {
		return held
	}
	r.contains[key] = false
	a, b := r.lists[list], r.lists[inner]
	if a == nil || b == nil || a.Size > mostCompared || b.Size > mostCompared || b.Size == 0 {
		return false
	}
	if slices.ContainsFunc(a.Entries, func(e match.Found) bool { return e.CarveOut && !e.Off }) {
		return false
	}
	today := pattern.DateOf(r.Now)
	index := match.New([]match.List{{Entries: entriesOf(a.Entries)}})
	for _, e := range b.Entries {
		if e.CarveOut || !e.Pattern.IsValid() || !e.InForce(today) {
			continue
		}
		u, ok := Witness(e.Pattern)
		if !ok || !index.Covered(u, today) { // nearly always: one look tells
			return false
		}
		if !slices.ContainsFunc(a.Entries, func(of match.Found) bool {
			return of.Pattern.IsValid() && of.InForce(today) && (of.Until.IsZero() || of.Until == e.Until) && cover.Of(of.Pattern, e.Pattern).Answer == cover.Yes
		}) {
			return false
		}
	}
	r.contains[key] = true
	return true
}

func entriesOf(found []match.Found) []pattern.Entry {
	entries := make([]pattern.Entry, len(found))
	for i, f := range found {
		entries[i] = f.Entry
	}
	return entries
}

// decides reports whether a rule can end the way down a policy.
func decides(rule *policy.Rule) bool { return !rule.Off && rule.Then != policy.Note }

// atLeastWhen reports whether a rule holds whenever and wherever another does.
func (r *reviewer) atLeastWhen(rule, other *policy.Rule) bool {
	if rule.When.Schedule != "" && rule.When != other.When {
		return false
	}
	if len(rule.At) == 0 {
		return true
	}
	at := other.At
	if len(at) == 0 {
		at = r.met
	}
	return !slices.ContainsFunc(at, func(g policy.Gate) bool { return slices.Contains(r.met, g) && !slices.Contains(rule.At, g) })
}

// neverReached finds rules to which those above leave nothing.
func (r *reviewer) neverReached(p *policy.Policy) {
	for j := range p.Rules {
		rule := &p.Rules[j]
		if rule.Off {
			continue
		}
		cases, ok := terms(rule.If, false)
		if !ok || len(cases) == 0 {
			continue
		}
		var above []int
		for i := range j {
			if decides(&p.Rules[i]) && r.atLeastWhen(&p.Rules[i], rule) {
				above = append(above, i)
			}
		}
		var by []int
		all := true
		for _, c := range cases {
			i := slices.IndexFunc(above, func(i int) bool { return r.known(c, p.Rules[i].If) > 0 })
			if i < 0 {
				all = false
				break
			}
			if !slices.Contains(by, above[i]) {
				by = append(by, above[i])
			}
		}
		if !all {
			continue
		}
		var names []string
		for _, i := range by {
			names = append(names, p.Rules[i].Name)
		}
		f := r.add(NeverReached, rulePlace(p, j), rule.Name, "The rule %q is never reached: %s above it %s all that it is for.", rule.Name, quotedAll(names), map[bool]string{true: "takes", false: "take"}[len(by) == 1])
		first := rulePlace(p, by[0])
		f.By, f.Shown = &first, r.proof(p, j, cases)
		f.Fix = &Fix{Do: "move rule up", Text: fmt.Sprintf("Move it above %q.", p.Rules[by[0]].Name), To: by[0], ToID: p.Rules[by[0]].ID}
		if same := slices.IndexFunc(by, func(i int) bool { return p.Rules[i].Then != rule.Then || p.Rules[i].With != rule.With }); same < 0 {
			f.Fix = &Fix{Do: "switch rule off", Text: "Switch it off: it says what those above it say already."}
		}
	}
}

// proof returns a URL that a rule is for, and that it does not decide; "" where none is at hand.
func (r *reviewer) proof(p *policy.Policy, rule int, cases []term) string {
	for _, c := range cases {
		for _, l := range c {
			var u weburl.URL
			ok := false
			switch {
			case l.not:
			case l.op == policy.InList:
				u, ok = r.inList(l.value)
			case l.op == policy.Is:
				u, ok = r.ofCategory(l.value)
			}
			if ok && r.undecidedBy(p, rule, u) {
				return u.String()
			}
		}
	}
	return ""
}

// undecidedBy reports whether another rule decides a URL for a member of a group that has the policy.
func (r *reviewer) undecidedBy(p *policy.Policy, rule int, u weburl.URL) bool {
	q := policy.Request{URL: u}
	if len(p.Groups) > 0 {
		q.Group = p.Groups[0]
	}
	e := r.Snapshot.Explain(&r.work, &q, r.Now)
	for _, step := range e.Steps {
		if step.PolicyID == p.ID && step.Place == int32(rule) {
			return step.Outcome != policy.Decided
		}
	}
	return true
}

// inList returns a URL that is in a list.
func (r *reviewer) inList(id string) (weburl.URL, bool) {
	l := r.lists[id]
	if l == nil {
		return weburl.URL{}, false
	}
	today := pattern.DateOf(r.Now)
	for _, e := range l.Entries[:min(len(l.Entries), examples)] {
		if !e.CarveOut && e.Pattern.IsValid() && e.InForce(today) {
			if u, ok := Witness(e.Pattern); ok {
				return u, true
			}
		}
	}
	return weburl.URL{}, false
}

// ofCategory returns a recorded URL of a category, or of any of a family.
func (r *reviewer) ofCategory(key string) (weburl.URL, bool) {
	if u, ok := r.shown[key]; ok {
		return u, true
	}
	for _, c := range r.config.Taxonomy.Categories {
		if c.Family == key {
			if u, ok := r.shown[c.Key]; ok {
				return u, true
			}
		}
	}
	return weburl.URL{}, false
}

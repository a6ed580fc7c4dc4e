package policy

import (
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/weburl"
)

// Amount says how much of its decisions a policy has recorded.
type Amount string

// The amounts, the least last.
const (
	Everything Amount = "everything"
	GroupOnly  Amount = "group"   // the host, and the groups of who asks, but not who
	Nothing    Amount = "nothing" // decisions are counted
)

// Amounts lists every amount, the least last.
var Amounts = []Amount{Everything, GroupOnly, Nothing}

// rank orders amounts; "" is everything.
func (a Amount) rank() int {
	switch a {
	case GroupOnly:
		return 1
	case Nothing:
		return 2
	}
	return 0
}

// Recording is what a policy has recorded.
type Recording struct {
	Amount Amount // "": everything
	Words  bool   // what is searched for, too
}

// FewestMembers is how many members a group has at least that a record of a group names: fewer could be told apart.
const FewestMembers = 5

// Recorded is what a record says of a decision besides the request. All are ids, unless something else is said; "" for none.
type Recorded struct {
	Amount     Amount
	Searched   string // what is searched for, where it is to be recorded
	Network    string
	Machine    string
	Groups     []string
	Categories []string // keys
	Source     classify.Source

	Policy, Rule string // the policy, and its rule; where its otherwise decided, no rule
	Exception    string // that decided, or the grant
	Stint        string
	List         string   // whose entry made the condition hold
	Entry        string   // in the notation
	Notes        []string // the `note` rules that were met, by their ids
	Traits       []Trait
	NotHeld      Provisos // of what a request that passes is bound to, what the gate cannot hold
}

// Record returns what a record says of a decision that was made on a request at a moment. It costs about one more decision.
func (s *Snapshot) Record(w *Work, r *Request, at time.Time, d Decision) Recorded {
	s.probe(w, r, at)
	made := Recorded{Source: w.seen.By}
	made.Amount, made.Searched = s.amount(w)
	dir := s.config.Directory
	for n := w.groups.Next(0); n >= 0; n = w.groups.Next(n + 1) {
		if made.Amount != GroupOnly || dir.Counts(n, FewestMembers) {
			made.Groups = append(made.Groups, dir.Groups[n].ID)
		}
	}
	if w.network >= 0 {
		made.Network = dir.Networks[w.network].ID
	}
	made.Machine = dir.MachineAt(w.addr).ID
	for _, n := range w.seen.Categories {
		made.Categories = append(made.Categories, s.classifier.Key(n))
	}
	for _, t := range Traits {
		if w.trait(t) == yes {
			made.Traits = append(made.Traits, t)
		}
	}
	if d.Verdict.Passes() {
		_, made.NotHeld, _ = s.Held(d.Provisos, r)
	}
	s.cause(w, &made, d)
	s.notes(w, &made, d, at)
	return made
}

// amount returns how much of a request is to be recorded: of the policies of its groups, else of the fallback, the least; and what is searched for, if all of
// them want it.
func (s *Snapshot) amount(w *Work) (least Amount, searched string) {
	least, words := Everything, true
	of := func(p *ladderPolicy) {
		if p.Records.Amount.rank() > least.rank() {
			least = p.Records.Amount
		}
		words = words && p.Records.Words
	}
	for _, n := range w.policies {
		of(&s.policies[n])
	}
	if len(w.policies) == 0 {
		if words = s.fallback != nil; words {
			of(s.fallback)
		}
	}
	if words && least == Everything && w.sight == weburl.Full {
		searched = s.Searched(*w.url)
	}
	return least, searched
}

// cause fills in what decided, and the entry that made it so.
func (s *Snapshot) cause(w *Work, made *Recorded, d Decision) {
	switch d.Rung {
	case AtUnlocked, AtException:
		if d.Granted >= 0 {
			made.Exception = s.grants[d.Granted].ID
			for i := range w.granted {
				if c := &w.granted[i]; c.grant == d.Granted {
					made.Entry = s.index.Found(c.take).String()
				}
			}
		}
		return
	case AtStint:
		made.Stint = s.stints[d.Stint].ID
		st := &s.stints[d.Stint]
		if s.listed(w, made, st.lists) || st.entries < 0 {
			return
		}
		for i := range w.granted {
			if c := &w.granted[i]; c.grant == st.entries && c.answer == match.Yes {
				made.Entry = s.index.Found(c.take).String()
			}
		}
		return
	}
	p := s.policyOf(d)
	if p == nil {
		return
	}
	made.Policy = p.ID
	if d.Rule >= 0 {
		made.Rule = p.rules[d.Rule].ID
		s.reason(w, made, &p.rules[d.Rule].cond)
	}
}

// reason fills in the first list of a condition that holds, and its entry. It reports whether there is one.
func (s *Snapshot) reason(w *Work, made *Recorded, n *node) bool {
	switch n.op {
	case All, Any:
		for i := range n.of {
			if s.holds(w, &n.of[i]) != yes {
				continue
			}
			if found := s.reason(w, made, &n.of[i]); found || n.op == Any { // the first part that holds is why
				return found
			}
		}
	case InList:
		return s.listed(w, made, n.set)
	case Is:
		for _, number := range w.seen.Categories {
			if n.set.Has(number) {
				class := s.classifier.ExplainLooked(&w.seen)
				if given := by(&class, s.classifier.Key(number)); given != nil {
					made.List, made.Entry = given.List.ID, given.Entry.Pattern.String()
				}
				return true
			}
		}
	}
	return false
}

// listed fills in the first of some lists that the URL is in, and the most specific of its entries.
func (s *Snapshot) listed(w *Work, made *Recorded, set directory.Set) bool {
	first := s.classifier.FirstList()
	for n := w.in.Next(0); n >= 0; n = w.in.Next(n + 1) {
		if int(n>>6) >= len(set) || set[n>>6]&(1<<(n&63)) == 0 {
			continue
		}
		hit := match.Hit{List: s.listRef(n)}
		for _, take := range w.seen.Takes {
			if take.List == first+n {
				hit.Put(take, s.index.Found(take))
			}
		}
		if hit.Sort(); len(hit.Covering) > 0 {
			made.List, made.Entry = hit.List.ID, hit.Covering[0].Pattern.String()
			return true
		}
	}
	return false
}

// notes fills in the `note` rules that a request met: those of the policies that were asked, before the rule that decided for each.
func (s *Snapshot) notes(w *Work, made *Recorded, d Decision, at time.Time) {
	if !s.notesAnything {
		return
	}
	of := func(p *ladderPolicy, number int32, rung Rung) (decided bool) {
		w.can = w.can[:0]
		rule, _, decided := s.first(w, p, number, rung, at, nil, nil)
		if !decided {
			rule = int32(len(p.rules))
		}
		for i := range p.rules[:rule] {
			if p.rules[i].note && s.outcome(w, &p.rules[i], at) == WentOn {
				made.Notes = append(made.Notes, p.rules[i].ID)
			}
		}
		return decided
	}
	if s.baseline != nil && of(s.baseline, s.baselineNumber(), AtBaseline) {
		return
	}
	switch d.Rung {
	case AtPolicy:
		for _, n := range w.policies {
			of(&s.policies[n], n, AtPolicy)
			if s.config.Combining == Position {
				break
			}
		}
	case AtFallback:
		if s.fallback != nil {
			of(s.fallback, s.fallbackNumber(), AtFallback)
		}
	}
}

package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Outcome says what came of one rule, or of something else on a rung.
type Outcome string

// The outcomes.
const (
	Decided    Outcome = "decided"
	WentOn     Outcome = "matched, went on" // a note
	NoMatch    Outcome = "no match"
	NotNow     Outcome = "not now"
	CannotTell Outcome = "cannot tell" // it depends on what cannot be seen at this sight; such a rule never decides
	IsOff      Outcome = "off"
	NotReached Outcome = "not reached" // what stands above it in its policy decided
	Outweighed Outcome = "outweighed"  // it decided for its policy or would have counted, but another counts
)

// Evidence is what made a condition hold, or what it would take to tell.
type Evidence struct {
	Op       Op
	List     *match.Ref         // InList
	Entry    *match.Found       // the most specific entry of the list, or what gave the category
	Category *classify.Category // Is
	Given    *classify.Given    // Is: what gave it; nil where a scorecard did
	Text     string             // the others: the trait, method, ending, app, words or points
	Answered bool               // File: the text is the name of the kind that the answer is of
}

// Step is one thing that was looked at.
type Step struct {
	Rung     Rung
	Policy   string // its name; "" above policies
	PolicyID string
	Rule     string // the name of the rule, exception or stint; "" for a policy's otherwise and, without a policy, for a rung with nothing on it
	ID       string // of an exception, a grant or a stint
	RuleID   string // of a rule; "" where it is none
	Grant    bool   // the exception is a grant
	Place    int32  // of a rule in its policy; -1 else
	Then     Verdict
	Outcome  Outcome
	Evidence []Evidence // what made it match; at CannotTell what is not known
	Missing  string     // at CannotTell, what would have to be seen; at NoMatch of an exception or a rung, why
	When     string     // the schedule that the rule asks, in words; "" for always
	UsedUp   time.Time  // of a rule whose quota is used up: until when; zero else
	Unheld   Provisos   // of a rule that blocks for that reason: what the gate cannot hold
	Passed   time.Time  // of a hold that was acknowledged: when that ends; zero else
	Next     time.Time  // at NotNow, the next moment at which its time comes; zero where it does not
}

// Explanation is a decision with everything that led to it.
type Explanation struct {
	Decision Decision
	Steps    []Step
	Decider  int         // position in Steps; -1 where nothing decided and all is allowed
	Because  string      // one sentence
	Hits     []match.Hit // the lists that have something to say about the URL, whether a condition asks them or not
	Class    classify.Answer
	Groups   []match.Ref // that the request belongs to
	Network  *match.Ref  // of its address
	Policies []match.Ref // of its groups, in order
	Notes    []Step      // note rules that matched
	Held     Provisos    // of what a request that passes is bound to: what the gate can hold, and what it cannot; see [Snapshot.Held]
	NotHeld  Provisos
	Safe     Safe    // what makes answers safe, where safe search is held
	Spent    []Spent // of the quotas that the request is bound to
}

// tracer collects steps. A nil tracer collects nothing.
type tracer struct {
	s        *Snapshot
	w        *Work
	steps    []Step
	class    *classify.Answer
	decider  int // the step that decided last
	deciders []decider
}

// decider is the step that decided for a policy.
type decider struct {
	policy int32 // see ladderPolicy.number
	step   int
}

// Explain is [Snapshot.Decide] with the steps: those of the name that decides, where the request has a chain.
func (s *Snapshot) Explain(w *Work, r *Request, at time.Time) Explanation {
	if len(r.Chain) == 0 {
		return s.explain(w, r, at)
	}
	d := s.Decide(w, r, at)
	if d.Link == 0 {
		asked := *r
		asked.Chain = nil
		return s.explain(w, &asked, at)
	}
	e := s.explain(w, r.linkOf(int(d.Link-1)), at)
	e.Decision.Link = d.Link
	e.Because = fmt.Sprintf("%s leads to %s. %s", r.URL.Host(), r.Chain[d.Link-1].Host(), e.Because)
	return e
}

func (s *Snapshot) explain(w *Work, r *Request, at time.Time) Explanation {
	day := pattern.DateOf(at.In(s.config.Zone))
	s.belong(w, r)
	s.look(w, r, day, true)
	s.weigh(w)
	e := Explanation{Class: s.classifier.ExplainLooked(&w.seen)}
	t := &tracer{s: s, w: w, class: &e.Class, decider: -1}
	steps := len(w.granted) + len(Rungs)
	if s.baseline != nil {
		steps += len(s.baseline.rules)
	}
	for _, n := range w.policies {
		steps += len(s.policies[n].rules) + 1
	}
	t.steps = make([]Step, 0, steps)
	e.Decision = s.ladder(w, at, t)
	e.Steps, e.Decider = t.steps, t.decider
	e.Spent, _ = s.spent(w, at)
	if e.Decision.Verdict.Passes() {
		e.Held, e.NotHeld, e.Safe = s.Held(e.Decision.Provisos, &Request{URL: r.URL, Person: r.Person, Addr: r.Addr, Gate: w.gate, Sight: w.sight})
	}
	e.Hits = s.hits(w)
	d := s.config.Directory
	for n := w.groups.Next(0); n >= 0; n = w.groups.Next(n + 1) {
		e.Groups = append(e.Groups, match.Ref{ID: d.Groups[n].ID, Name: d.Groups[n].Name})
	}
	if w.network >= 0 {
		e.Network = &match.Ref{ID: d.Networks[w.network].ID, Name: d.Networks[w.network].Name}
	}
	for _, n := range w.policies {
		e.Policies = append(e.Policies, match.Ref{ID: s.policies[n].ID, Name: s.policies[n].Name})
	}
	for i := range e.Steps {
		if e.Steps[i].Outcome == WentOn {
			e.Notes = append(e.Notes, e.Steps[i])
		}
	}
	e.Because = s.because(w, &e)
	return e
}

// hits gathers what the lists say, by name.
func (s *Snapshot) hits(w *Work) []match.Hit {
	first, lists := s.classifier.FirstList(), s.config.Lists.Lists()
	var hits []match.Hit
	for _, t := range w.seen.Takes {
		n := int(t.List - first)
		if n < 0 || n >= len(lists) {
			continue
		}
		if len(hits) == 0 || hits[len(hits)-1].List != lists[n] {
			hits = append(hits, match.Hit{List: lists[n]})
		}
		hits[len(hits)-1].Put(t, s.index.Found(t))
	}
	for i := range hits {
		hits[i].Sort()
	}
	slices.SortStableFunc(hits, func(a, b match.Hit) int {
		return strings.Compare(strings.ToLower(a.List.Name), strings.ToLower(b.List.Name))
	})
	return hits
}

// step appends a step for a rule of a policy, or for its otherwise, to be filled in where it stands.
func (t *tracer) step(p *ladderPolicy, rung Rung, place int32) *Step {
	t.steps = append(t.steps, Step{})
	step := &t.steps[len(t.steps)-1]
	step.Rung, step.Policy, step.PolicyID, step.Place, step.Then = rung, p.Name, p.ID, place, p.Otherwise
	if place >= 0 {
		r := &p.rules[place]
		step.Rule, step.RuleID, step.Then, step.When = r.Name, r.ID, r.Then, r.when
	}
	return step
}

// rule appends the step for a rule that was looked at.
func (t *tracer) rule(p *ladderPolicy, rung Rung, place int32, outcome Outcome, at time.Time) {
	r := &p.rules[place]
	step := t.step(p, rung, place)
	step.Outcome = outcome
	switch outcome {
	case Decided, WentOn:
		step.Evidence = t.evidence(&r.cond, yes, nil)
	case CannotTell:
		step.Evidence = t.evidence(&r.cond, unclear, nil)
		step.Missing = missing(t.w.sight, step.Evidence)
	case NotNow:
		if next, ok := t.s.clocks[r.clock].next(at); ok {
			step.Next = next
		}
		// What it would say at its time is worth knowing: whether its time matters at all.
		if t.s.holds(t.w, &r.cond) == yes {
			step.Evidence = t.evidence(&r.cond, yes, nil)
		}
	case NoMatch:
		if len(r.At) > 0 && !slices.Contains(r.At, t.w.gate) {
			step.Missing = "it is for other gates"
		}
	}
	if outcome == Decided {
		t.decides(p.number(rung))
	}
}

// decides remembers that the last step decides for its policy.
func (t *tracer) decides(policy int32) {
	t.decider = len(t.steps) - 1
	t.deciders = append(t.deciders, decider{policy, t.decider})
}

func (t *tracer) notReached(p *ladderPolicy, rung Rung, place int32) {
	step := t.step(p, rung, place)
	step.Outcome = NotReached
	if t.s.holds(t.w, &p.rules[place].cond) == yes {
		step.Evidence = t.evidence(&p.rules[place].cond, yes, nil)
	}
}

func (t *tracer) otherwise(p *ladderPolicy, rung Rung) {
	t.step(p, rung, -1).Outcome = Decided
	t.decides(p.number(rung))
}

// nothing appends a step for a rung on which nothing applies, with the reason.
func (t *tracer) nothing(rung Rung, why string) {
	t.steps = append(t.steps, Step{Rung: rung, Place: -1, Outcome: NoMatch, Missing: why})
}

// combined marks what the policies said that do not count.
func (t *tracer) combined(d *Decision) {
	if len(t.w.policies) == 0 {
		t.nothing(AtPolicy, "no policy is for this request")
	}
	for _, one := range t.deciders {
		switch {
		case one.policy == d.Policy:
			t.decider = one.step
		case one.policy >= 0:
			t.steps[one.step].Outcome = Outweighed
		}
	}
}

// bound returns the step of the rule that decided for a policy, and marks it as the one that decides: what it binds to turns the verdict.
func (t *tracer) bound(policy int32) *Step {
	for _, one := range t.deciders {
		if one.policy == policy {
			if one.step != t.decider {
				t.steps[t.decider].Outcome = Outweighed
			}
			t.decider = one.step
			break
		}
	}
	t.steps[t.decider].Outcome = Decided
	return &t.steps[t.decider]
}

func (t *tracer) grant(c *candidate, g *grant, level int, at time.Time) {
	found := t.s.index.Found(c.take)
	step := Step{Rung: AtException, Rule: g.Name, ID: g.ID, Grant: g.Grant, Place: -1, Then: g.Then, Outcome: Outweighed, Evidence: []Evidence{{Op: InList, Entry: &found}}}
	if g.kind == unlocked {
		step.Rung = AtUnlocked
	}
	switch {
	case g.Off:
		step.Outcome = IsOff
	case level == forNobody:
		step.Outcome, step.Missing = NoMatch, "it is for others"
	case !runs(g.From, g.Until, at):
		step.Outcome = NotNow
		if at.Before(g.From) {
			step.Next = g.From
		}
	case c.answer != match.Yes:
		step.Outcome, step.Missing = CannotTell, missing(t.w.sight, step.Evidence)
	}
	t.steps = append(t.steps, step)
}

// unlockedClass tells of something that is unlocked by the categories of the URL.
func (t *tracer) unlockedClass(g *grant, level int, at time.Time) {
	step := Step{Rung: AtUnlocked, Rule: g.Name, ID: g.ID, Place: -1, Then: g.Then, Outcome: Outweighed, Evidence: t.evidence(&node{op: Is, set: g.is}, yes, nil)}
	switch {
	case level == forNobody:
		step.Outcome, step.Missing = NoMatch, "it is for others"
	case !runs(g.From, g.Until, at):
		step.Outcome = NotNow
		if at.Before(g.From) {
			step.Next = g.From
		}
	}
	t.steps = append(t.steps, step)
}

// granted marks the exception that counts, among those told; -1 for none.
func (t *tracer) granted(n int32, kind grantKind) {
	rung, why := AtException, t.s.noException
	if kind == unlocked {
		rung, why = AtUnlocked, "nothing is unlocked for this"
	}
	if last := len(t.steps) - 1; last < 0 || t.steps[last].Rung != rung {
		t.nothing(rung, why)
	}
	if n < 0 {
		return
	}
	id := t.s.grants[n].ID
	for i := range t.steps {
		if step := &t.steps[i]; step.Rung == rung && step.ID == id && step.Outcome == Outweighed {
			step.Outcome = Decided
			t.decider = i
			return
		}
	}
}

func (t *tracer) stint(st *stint, verdict Verdict, in answer) {
	step := Step{Rung: AtStint, Rule: st.Kind.Says(), ID: st.ID, Place: -1, Then: verdict, Outcome: NoMatch}
	if verdict != "" {
		step.Outcome = Outweighed
	}
	if in == yes {
		step.Evidence = t.lists(nil, st.lists, true)
		for i := range t.w.granted {
			if c := &t.w.granted[i]; c.grant == st.entries && c.answer == match.Yes {
				found := t.s.index.Found(c.take)
				step.Evidence = append(step.Evidence, Evidence{Op: InList, Entry: &found})
			}
		}
	}
	t.steps = append(t.steps, step)
}

// stinted marks the step of the stint that decides, of the last ones.
func (t *tracer) stinted(id string, steps int) {
	for i := len(t.steps) - steps; i < len(t.steps); i++ {
		if t.steps[i].ID == id {
			t.steps[i].Outcome = Decided
			t.decider = i
		}
	}
}

// evidence appends what makes a condition what it is.
func (t *tracer) evidence(n *node, is answer, found []Evidence) []Evidence {
	s, w := t.s, t.w
	if n.op == None {
		return found // that something is not so leaves no trace
	}
	if s.holds(w, n) != is {
		return found
	}
	switch n.op {
	case All, Any:
		for i := range n.of {
			if s.holds(w, &n.of[i]) == is {
				found = t.evidence(&n.of[i], is, found)
				if n.op == Any {
					return found
				}
			}
		}
	case InList:
		return t.lists(found, n.set, is == yes)
	case Is:
		for _, number := range w.seen.Categories {
			if n.set.Has(number) {
				category := s.category(number)
				e := Evidence{Op: Is, Category: &category, Given: by(t.class, category.Key)}
				if e.Given != nil {
					e.Entry = &e.Given.Entry
				}
				return append(found, e)
			}
		}
	case App:
		for i := range n.apps {
			if w.app(&n.apps[i]) == is {
				return append(found, Evidence{Op: App, Text: s.appOf(n.apps[i].list)})
			}
		}
	case HasTrait:
		for _, trait := range n.traits {
			if w.trait(trait) == is {
				return append(found, Evidence{Op: HasTrait, Text: string(trait)})
			}
		}
	case Method:
		return append(found, Evidence{Op: Method, Text: cmp.Or(w.method, "GET")})
	case File:
		if kind := w.answered(n); kind != "" && !hasEnding(w.url.Path(), n.texts) {
			return append(found, Evidence{Op: File, Text: kind, Answered: true})
		}
		path := w.url.Path()
		return append(found, Evidence{Op: File, Text: path[strings.LastIndexByte(path, '/')+1:]})
	case Search:
		return append(found, Evidence{Op: Search, Text: s.Searched(*w.url)})
	case Points:
		total, threshold := s.points(w, n.card)
		return append(found, Evidence{Op: Points, Text: fmt.Sprintf("%d of %d points", total, cmp.Or(n.atLeast, threshold))})
	}
	return found
}

// lists appends the first of some lists that the URL is in or, where certain is false, may be in.
func (t *tracer) lists(found []Evidence, set []uint64, certain bool) []Evidence {
	first := t.s.classifier.FirstList()
	within := t.w.may
	if certain {
		within = t.w.in
	}
	for n := within.Next(0); n >= 0; n = within.Next(n + 1) {
		if int(n>>6) >= len(set) || set[n>>6]&(1<<(n&63)) == 0 {
			continue
		}
		ref := t.s.listRef(n)
		hit := match.Hit{List: ref}
		for _, take := range t.w.seen.Takes {
			if take.List == first+n {
				hit.Put(take, t.s.index.Found(take))
			}
		}
		hit.Sort()
		e := Evidence{Op: InList, List: &ref}
		switch {
		case certain && len(hit.Covering) > 0:
			e.Entry = &hit.Covering[0]
		case len(hit.Unclear) > 0:
			e.Entry = &hit.Unclear[0]
		}
		return append(found, e)
	}
	return found
}

// by returns what gave a category; nil where a scorecard did.
func by(class *classify.Answer, key string) *classify.Given {
	for i, g := range class.Given {
		if slices.Contains(g.Categories, key) {
			return &class.Given[i]
		}
	}
	return nil
}

// appOf names the app whose hosts, or activity whose pages, are a list.
func (s *Snapshot) appOf(list int32) string {
	at := int32(len(s.config.Lists.Lists()))
	for _, app := range s.config.Apps {
		if at == list {
			return app.Name
		}
		at++
		for _, a := range app.Activities {
			if len(a.Entries) > 0 {
				if at == list {
					return app.Name + " (" + a.Name + ")"
				}
				at++
			}
		}
	}
	return "an app"
}

// missing says what would have to be seen to tell.
func missing(sight weburl.Sight, of []Evidence) string {
	what := "the whole URL"
	for _, e := range of {
		switch e.Op {
		case Method:
			what = "the method"
		case HasTrait:
			if sight == weburl.Name && (e.Text == string(PlainHTTP) || e.Text == string(OddPort)) {
				what = "scheme and port"
			}
		case InList:
			what = "the page"
			if e.Entry != nil {
				if scheme, port := e.Entry.Pattern.SchemeAndPort(); !e.Entry.Pattern.ExactPage() && e.Entry.Pattern.FoldedPath() == "" && (scheme != "" || port != 0) {
					what = "scheme and port"
				}
			}
		}
	}
	switch sight {
	case weburl.Name:
		return what + ": only the host is seen here"
	case weburl.Full:
		return "what the answer is: only the request is seen so far"
	}
	return what + ": only host and port are seen here"
}

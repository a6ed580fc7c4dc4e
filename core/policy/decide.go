package policy

import (
	"cmp"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Rung is a step of the ladder.
type Rung string

// The rungs, from the top.
const (
	AtBaseline  Rung = "baseline"
	AtUnlocked  Rung = "unlocked"
	AtException Rung = "exception"
	AtStint     Rung = "stint"
	AtPolicy    Rung = "policy"
	AtFallback  Rung = "fallback"
)

// Rungs lists every rung, from the top.
var Rungs = []Rung{AtBaseline, AtUnlocked, AtException, AtStint, AtPolicy, AtFallback}

// Decision is a verdict and its origin. Decisions are comparable.
type Decision struct {
	Verdict  Verdict
	Rung     Rung
	Policy   int32 // at policies: position in [Config.Policies]; else -1
	Rule     int32 // position in the policy that decided; -1 where it was its otherwise, or no policy
	Granted  int32 // at exceptions and what is unlocked: position among [Config.Exceptions], [Facts.Grants] and [Facts.Unlocked], in this order; else -1
	Stint    int32 // at stints: the position among those in force, the last first; else -1
	Link     int32 // which name of a request's chain it is about, from 1; 0 for the one that was asked for
	Provisos Provisos
}

// answer is the three-valued logic of conditions, in the order of "all": the least of its parts.
type answer int8

const (
	no answer = iota
	unclear
	yes
)

// Work is scratch space for decisions; reusing one avoids allocations. It must not be used concurrently. The zero
// Work is ready for use.
type Work struct {
	groups   directory.Set
	policies []int32 // in order; the caller's, or own
	own      []int32
	set      directory.Set // scratch of join
	caller   *caller       // nil for nobody known
	person   int32
	member   int32
	network  int32
	twoNames bool
	notTLS   bool

	seen    classify.Result
	in, may directory.Set // lists that the URL is in; that it may be in
	is      directory.Set // categories
	listed  []int32       // what in holds
	traits  uint8         // a bit for each of [Traits] that rules ask and it has
	ending  bool          // the path may end as a file's name does, or there is an answer
	sends   bool          // the method is not GET
	granted []candidate
	can     []uint32 // see outline.canMatch

	url     *URL
	method  string
	sight   weburl.Sight
	gate    Gate
	gateBit uint8 // its place in [Gates]
	reply   *Answer
	addr    netip.Addr

	asked    *Request
	bound    []bound // rules with quotas that bind what passes
	insisted []bound // rules with provisos of policies that block what cannot be held
	assumed  *hypothesis
	keys     []string

	prefetched uint32 // keeps prefetch loads alive; never read
}

// candidate is an exception that covers the URL.
type candidate struct {
	grant       int32
	answer      match.Answer
	specificity pattern.Specificity
	take        match.Take
}

// noCategory is the number of a category that no rule asks for: its row of the masks holds the rules that need nothing.
const noCategory = needNothing - firstCategory

// hypothesis is a single change that is tried out without being made. A number of -1 means none.
type hypothesis struct {
	without     [2]int32 // a rule that is switched off: its policy, or -1 for the fallback, and its place
	lifted      [3]int32 // a rule that is asked before another of its policy
	ended       int32    // an exception that is taken back
	exception   *Exception
	page        bool // the exception is for a page, which only the whole URL shows
	level       int
	specificity pattern.Specificity
}

// nothing is the hypothesis without a change.
var nothing = hypothesis{without: [2]int32{-1, -1}, lifted: [3]int32{-1, -1, -1}, ended: -1}

// Decide returns the verdict on a request at a moment. It is a pure function of its arguments; w is only scratch.
//
// With a chain, the first name of it that is blocked blocks the request at the DNS gate: by a rule of the baseline or a policy that names it (see [Rule]), or by an exception; an
// otherwise, the fallback and a stint say nothing about it. Where an exception or a code allows the name that was asked for, the others are not looked at.
func (s *Snapshot) Decide(w *Work, r *Request, at time.Time) Decision {
	d := s.decide(w, r, at)
	if len(r.Chain) > 0 && cmp.Or(r.Gate, GateFor(r.Sight)) == DNS && d.Verdict.Passes() && d.Rung != AtException && d.Rung != AtUnlocked {
		if link, next := s.blockedLink(w, r, at); link > 0 {
			return next
		}
	}
	return d
}

// blockedLink returns the first name of a chain that is blocked, from 1, and the decision about it; 0 for none.
func (s *Snapshot) blockedLink(w *Work, r *Request, at time.Time) (link int32, d Decision) {
	for i := range r.Chain {
		if d := s.decide(w, r.linkOf(i), at); s.blocksLink(d) {
			d.Link = int32(i + 1)
			return d.Link, d
		}
	}
	return 0, d
}

// linkOf returns the request for one name of a chain.
func (r *Request) linkOf(i int) *Request {
	link := *r
	link.URL, link.Chain = r.Chain[i], nil
	return &link
}

// blocksLink reports whether a decision about a name to which another leads blocks that one.
func (s *Snapshot) blocksLink(d Decision) bool {
	switch {
	case d.Verdict.Passes():
		return false
	case d.Rung == AtException:
		return true
	case d.Rung == AtBaseline, d.Rung == AtPolicy:
		return d.Rule >= 0 && s.ruleOf(d).If.saysWhat()
	}
	return false
}

// saysWhat reports whether the condition asks what a site is: for a list, a category or an app, parts of [None] aside.
func (c Cond) saysWhat() bool {
	return c.Op == InList || c.Op == Is || c.Op == App || c.Op != None && slices.ContainsFunc(c.Of, Cond.saysWhat)
}

func (s *Snapshot) decide(w *Work, r *Request, at time.Time) Decision {
	place := s.callers.Place(r.Person) // fetched from memory while the URL is looked up
	s.identify(w, r)
	s.look(w, r, pattern.DateOf(at.In(s.config.Zone)), false)
	s.find(w, r.Person, place)
	s.weigh(w)
	s.join(w, len(w.granted)+len(s.byClass) > 0 || len(s.running(at)) > 0)
	return s.ladder(w, at, nil)
}

// belong identifies the asker and collects their groups and policies.
func (s *Snapshot) belong(w *Work, r *Request) {
	s.identify(w, r)
	s.find(w, r.Person, s.callers.Place(r.Person))
	s.join(w, true)
}

// identify fills in what the request says without any lookup.
func (s *Snapshot) identify(w *Work, r *Request) {
	d := s.config.Directory
	if len(w.groups) != (len(d.Groups)+63)/64 {
		w.groups = directory.NewSet(len(d.Groups))
	}
	if len(w.set) != (len(s.policies)+63)/64 {
		w.set = directory.NewSet(len(s.policies))
	}
	w.member, w.addr = d.Group(r.Group), r.Addr.Unmap()
	w.asked, w.method, w.sight, w.gate, w.url = r, r.Method, r.Sight, r.Gate, &r.URL
	w.twoNames, w.notTLS, w.reply = r.TwoNames, r.NotTLS, r.Answer
	if w.sight == "" {
		w.sight = weburl.Full
	}
	if w.method == "" {
		w.method = "GET"
	}
	if w.gate == "" {
		w.gate = GateFor(w.sight)
	}
	w.gateBit = uint8(slices.Index(Gates, w.gate))
}

// points returns a scorecard's total, of the URL or of the text of the answer, whichever is more, and its threshold.
func (s *Snapshot) points(w *Work, card int32) (total, threshold int) {
	total, threshold = s.classifier.Points(&w.seen, card)
	if w.reply != nil {
		if of, scored := w.reply.Points[s.classifier.CardID(card)]; scored {
			total = max(total, of)
		}
	}
	return total, threshold
}

// AsksAnswers reports whether what a site answers can change a verdict: a rule asks for a kind of files, or there are scorecards.
func (s *Snapshot) AsksAnswers() bool { return s.asksAnswers || s.AsksText() }

// AsksText reports whether the text of a page can change a verdict: there are scorecards.
func (s *Snapshot) AsksText() bool { return s.config.Local.HasScorecards() }

// ScoreText returns the totals of a page's text, for [Answer].
func (s *Snapshot) ScoreText(text string) map[string]int { return s.config.Local.ScoreText(text) }

// GateFor returns the kind of gate that has a sight, where a request does not say.
func GateFor(sight weburl.Sight) Gate {
	if sight == weburl.Name {
		return DNS
	}
	return Proxy
}

// find identifies the asker, and prefetches what will be needed of their policies.
func (s *Snapshot) find(w *Work, person string, place directory.Place) {
	w.person = -1
	if w.caller = s.callers.At(person, place); w.caller != nil {
		w.person = w.caller.person
		for _, n := range w.caller.policies() {
			w.prefetched ^= s.outline.prefetch(n)
		}
	}
}

// join collects the policies of the asker and, if groups is set, their groups.
func (s *Snapshot) join(w *Work, groups bool) {
	if c := w.caller; !groups && c != nil && c.count != tooMany && w.member < 0 && !w.addr.IsValid() {
		w.network, w.policies = -1, c.policies()
		return
	}
	w.network = s.config.Directory.Belong(w.groups, w.person, w.member, w.addr)
	w.own = s.policiesOf(w.own[:0], w.set, w.groups)
	w.policies = w.own
}

// policiesOf appends the policies of groups, in order. Set is scratch.
func (s *Snapshot) policiesOf(dst []int32, set, groups directory.Set) []int32 {
	set.Clear()
	for g := groups.Next(0); g >= 0; g = groups.Next(g + 1) {
		set.Unite(s.ofGroup[g])
	}
	for n := set.Next(0); n >= 0; n = set.Next(n + 1) {
		dst = append(dst, n)
	}
	return dst
}

// look collects the entries that apply to the URL on a day.
func (s *Snapshot) look(w *Work, r *Request, day pattern.Date, unclear bool) {
	s.classifier.Look(&w.seen, r.URL, day, w.sight, unclear)
}

// weigh classifies the URL and fills in the lists of conditions that it is in.
func (s *Snapshot) weigh(w *Work) {
	if len(w.in) != (int(s.asked)+63)/64 {
		w.in, w.may = directory.NewSet(int(s.asked)), directory.NewSet(int(s.asked))
	}
	if len(w.is) != (s.classifier.Count()+63)/64 {
		w.is = directory.NewSet(s.classifier.Count())
	}
	s.classifier.Weigh(&w.seen)
	if w.reply != nil {
		s.classifier.WeighText(&w.seen, w.reply.Points)
	}
	if w.caller != nil {
		w.prefetched ^= s.outline.prefetchRows(w)
	}
	w.is.Clear()
	for _, n := range w.seen.Categories {
		w.is.Add(n)
	}
	w.in.Clear()
	w.may.Clear()
	w.granted, w.listed, w.traits = w.granted[:0], w.listed[:0], 0
	w.ending, w.sends = w.sight == weburl.Full && (w.reply != nil || strings.IndexByte(w.url.Path(), '.') >= 0), w.sight == weburl.Full && w.method != "GET"
	for asked := s.outline.traits; asked != 0; asked &= asked - 1 {
		if bit := bits.TrailingZeros8(asked); w.trait(Traits[bit]) == yes {
			w.traits |= 1 << bit
		}
	}
	first := s.classifier.FirstList()
	takes := w.seen.Takes
	for i := 0; i < len(takes); {
		list := takes[i].List
		if list >= s.grantsFrom {
			if list < s.grantsFrom+int32(len(s.grants)) {
				w.grantedBy(s, takes[i])
			}
			i++
			continue
		}
		end := match.ListEnd(takes, i)
		answer := match.In(takes[i:end])
		i = end
		switch {
		case list < first:
		case answer == match.Yes:
			w.in.Add(list - first)
			w.listed = append(w.listed, list-first)
		case answer == match.CannotTell:
			w.may.Add(list - first)
		}
	}
}

// grantedBy keeps the most specific entry of an exception.
func (w *Work) grantedBy(s *Snapshot, t match.Take) {
	c := candidate{t.List - s.grantsFrom, t.Answer(), s.index.Specificity(t), t}
	if last := len(w.granted) - 1; last >= 0 && w.granted[last].grant == c.grant {
		before := &w.granted[last]
		if before.answer == match.Yes && (c.answer != match.Yes || c.specificity.Compare(before.specificity) <= 0) || before.answer != match.Yes && c.answer != match.Yes {
			return
		}
		*before = c
		return
	}
	w.granted = append(w.granted, c)
}

// The levels of exceptions, the strongest last.
const (
	forNobody = iota
	forEverybody
	forGroup
	forPlace
	forPerson
)

// level returns how closely an exception fits the asker.
func (w *Work) level(g *grant) int {
	switch {
	case w.person >= 0 && slices.Contains(g.persons, w.person):
		return forPerson
	case w.network >= 0 && g.networks.Has(w.network) || w.addr.IsValid() && slices.ContainsFunc(g.ranges, func(r netip.Prefix) bool { return r.Contains(w.addr) }):
		return forPlace
	case g.groups.Meets(w.groups):
		return forGroup
	case g.For.Everybody:
		return forEverybody
	}
	return forNobody
}

// runs reports whether something that lasts from one moment until another is in force at a given moment.
func runs(from, until, at time.Time) bool {
	return (from.IsZero() || !at.Before(from)) && (until.IsZero() || at.Before(until))
}

// ladder goes down the rungs. With a trace, it records every step. A gate that cannot show a page blocks what is held.
func (s *Snapshot) ladder(w *Work, at time.Time, t *tracer) Decision {
	d := Decision{Policy: -1, Rule: -1, Granted: -1, Stint: -1}
	w.bound, w.insisted = w.bound[:0], w.insisted[:0]
	s.descend(w, at, t, &d)
	if len(w.bound) > 0 && len(s.used) > 0 && d.Verdict.Passes() && w.gate != DNS {
		s.spend(w, at, t, &d)
	}
	if len(w.insisted) > 0 && d.Verdict.Passes() {
		s.insist(w, t, &d)
	}
	if d.Verdict == Hold && w.gate == DNS {
		d.Verdict = Block
	}
	if w.notTLS && w.sight != weburl.Name && d.Verdict.Passes() && !s.ruleOf(d).If.names(NotTLS) {
		d.Verdict, d.Provisos = Block, Provisos{}
	}
	return d
}

// ruleOf returns the rule that decided; the zero Rule where none did.
func (s *Snapshot) ruleOf(d Decision) Rule {
	if p := s.policyOf(d); p != nil && d.Rule >= 0 {
		return *p.rules[d.Rule].Rule
	}
	return Rule{}
}

// policyOf returns the policy that decided, the baseline and the fallback among them; nil where none did.
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

// names reports whether the condition asks for a trait, parts of [None] aside.
func (c Cond) names(t Trait) bool {
	return c.Op == HasTrait && slices.Contains(c.Values, string(t)) || c.Op != None && slices.ContainsFunc(c.Of, func(part Cond) bool { return part.names(t) })
}

// HeldBy returns what holds a request: the id of the rule or, where it is the policy's otherwise, of the policy; how people come past it, and for how long.
// Precondition: the verdict is [Hold].
func (s *Snapshot) HeldBy(d Decision) (id string, left Leave, open time.Duration) {
	if rule := s.ruleOf(d); rule.ID != "" {
		return rule.ID, rule.Left, cmp.Or(rule.LeftFor, PassedFor)
	}
	return s.policyOf(d).ID, Acknowledging, PassedFor
}

// Entry returns the narrowest entry for a URL that every gate on the way of a request can tell; false where there is none.
func (s *Snapshot) Entry(w *Work, r *Request, at time.Time) (pattern.Entry, bool) {
	sight := r.Sight
	way, _ := s.way(w, r, at)
	for i := range way {
		if slices.Index(weburl.Sights, way[i].Sight) < slices.Index(weburl.Sights, sight) {
			sight = way[i].Sight
		}
	}
	forms := narrowest(r.URL, sight)
	if len(forms) == 0 {
		return pattern.Entry{}, false
	}
	return pattern.Entry{Pattern: forms[0].pattern}, true
}

// descend fills d with the decision of the first rung that decides.
func (s *Snapshot) descend(w *Work, at time.Time, t *tracer, d *Decision) {
	if s.baseline != nil {
		if rule, _, decided := s.first(w, s.baseline, s.baselineNumber(), AtBaseline, at, t, nil); decided {
			d.Verdict, d.Rung, d.Rule, d.Provisos = s.baseline.rules[rule].Then, AtBaseline, rule, s.bind(w, s.baseline, s.baselineNumber(), AtBaseline, rule)
			return
		}
	}
	if t != nil && (s.baseline == nil || len(s.baseline.rules) == 0) {
		t.nothing(AtBaseline, "it has no rules")
	}
	if g := s.granted(w, unlocked, at, t); g >= 0 {
		d.Verdict, d.Rung, d.Granted = Allow, AtUnlocked, g
		return
	}
	if h := w.assumed; h == nil || h.exception == nil {
		if g := s.granted(w, excepted, at, t); g >= 0 {
			d.Verdict, d.Rung, d.Granted = s.grants[g].Then, AtException, g
			return
		}
	} else if v := s.grantedWith(w, at); v != "" {
		d.Verdict, d.Rung = v, AtException
		return
	}
	if n, verdict := s.stint(w, at, t); verdict != "" {
		d.Verdict, d.Rung, d.Stint = verdict, AtStint, n
		return
	}
	if s.combined(w, at, t, d) {
		return
	}
	d.Rung, d.Verdict = AtFallback, Allow
	if s.fallback != nil {
		then, rule := s.policyVerdict(w, s.fallback, s.fallbackNumber(), AtFallback, at, t, nil)
		d.Verdict, d.Rule, d.Provisos = Verdicts[then], rule, s.bind(w, s.fallback, s.fallbackNumber(), AtFallback, rule)
	}
}

// first returns the first rule of a policy that decides, and the strictness of its verdict. With canMatch, only those rules are asked; nil means
// all that the request can match.
func (s *Snapshot) first(w *Work, p *ladderPolicy, number int32, rung Rung, at time.Time, t *tracer, canMatch []uint32) (rule int32, then uint8, decided bool) {
	if t == nil {
		if canMatch == nil {
			w.can = w.can[:0]
			s.outline.canMatch(w, number)
			canMatch = w.can
		}
		rule, then, decided = s.firstOf(w, p, number, rung, at, canMatch)
		if h := w.assumed; h != nil && h.lifted[1] >= 0 && h.lifted[0] == p.number(rung) && (!decided || rule >= h.lifted[2]) {
			if lifted := &p.rules[h.lifted[1]]; s.outcome(w, lifted, at) == Decided {
				return h.lifted[1], lifted.then, true
			}
		}
		return rule, then, decided
	}
	rule = -1
	for i := range p.rules {
		r := &p.rules[i]
		if decided {
			t.notReached(p, rung, int32(i))
			continue
		}
		outcome := s.outcome(w, r, at)
		t.rule(p, rung, int32(i), outcome, at)
		if outcome == Decided {
			rule, then, decided = int32(i), r.then, true
		}
	}
	return rule, then, decided
}

// number identifies a policy: its position, or a number below -1 for those without one.
func (p *ladderPolicy) number(rung Rung) int32 {
	switch rung {
	case AtBaseline:
		return -2
	case AtFallback:
		return -3
	}
	return p.at
}

// outcome returns the outcome of a rule.
func (s *Snapshot) outcome(w *Work, r *rule, at time.Time) Outcome {
	if r.off {
		return IsOff
	}
	if o := s.now(w, &r.head, at); o != Decided {
		return o
	}
	switch s.holds(w, &r.cond) {
	case yes:
		if r.note {
			return WentOn
		}
		return Decided
	case unclear:
		return CannotTell
	}
	return NoMatch
}

// now returns what keeps a rule from being asked at a gate and a moment; Decided if nothing does.
func (s *Snapshot) now(w *Work, h *head, at time.Time) Outcome {
	switch {
	case h.gates&(1<<w.gateBit) != 0:
		return NoMatch
	case h.clock >= 0 && s.clocks[h.clock].inForce(at) == h.outside:
		return NotNow
	}
	return Decided
}

// holds evaluates a condition.
func (s *Snapshot) holds(w *Work, n *node) answer {
	best := no
	switch n.op {
	case All:
		best = yes
		for i := range n.of {
			if best = min(best, s.holds(w, &n.of[i])); best == no {
				return no
			}
		}
	case Any, None:
		for i := range n.of {
			if best = max(best, s.holds(w, &n.of[i])); best == yes {
				break
			}
		}
		if n.op == None {
			best = yes - best
		}
	case InList:
		best = w.list(n.set)
	case Is:
		if n.set.Meets(w.is) {
			best = yes
		}
	case App:
		for i := range n.apps {
			best = max(best, w.app(&n.apps[i]))
		}
	case HasTrait:
		for _, t := range n.traits {
			best = max(best, w.trait(t))
		}
	case Method:
		if w.sight != weburl.Full {
			return unclear
		}
		if slices.Contains(n.texts, w.method) {
			best = yes
		}
	case File:
		if w.sight != weburl.Full {
			return unclear
		}
		best = w.file(n)
	case Search:
		if w.sight != weburl.Full {
			return unclear
		}
		// The index has looked for the words in the whole URL; only if it found one need the search terms be extracted.
		if test := &s.words[n.words]; w.in.Has(test.list) && len(test.words.Find(s.Searched(*w.url))) > 0 {
			best = yes
		}
	case Points:
		if n.card >= 0 {
			total, threshold := s.points(w, n.card)
			if n.atLeast != 0 {
				threshold = n.atLeast
			}
			if total >= threshold {
				best = yes
			}
		}
	}
	return best
}

func (w *Work) list(set directory.Set) answer {
	switch {
	case set.Meets(w.in):
		return yes
	case set.Meets(w.may):
		return unclear
	}
	return no
}

func (w *Work) app(a *appTest) answer {
	host := no
	switch {
	case w.in.Has(a.list):
		host = yes
	case w.may.Has(a.list):
		host = unclear
	}
	switch {
	case len(a.methods) == 0 || host == no:
		return host
	case w.sight != weburl.Full:
		return unclear
	case !slices.Contains(a.methods, w.method):
		return no
	}
	return host
}

// trait evaluates a trait of the request, as far as the sight shows it.
func (w *Work) trait(t Trait) answer {
	holds, sight := false, weburl.Name
	switch t {
	case RawAddress:
		holds = w.url.Addr().IsValid()
	case Punycode:
		holds = strings.HasPrefix(w.url.Host(), "xn--") || strings.Contains(w.url.Host(), ".xn--")
	case Unrated:
		holds = len(w.seen.Categories) == 0
	case PlainHTTP:
		holds, sight = w.sight == weburl.Full && w.url.Scheme() == "http", weburl.Tunnel
	case OddPort:
		port := w.url.Port()
		holds, sight = port != 443 && (w.sight == weburl.Tunnel || w.url.Scheme() == "https") || port != 80 && w.sight == weburl.Full && w.url.Scheme() == "http", weburl.Tunnel
	case UserInfo:
		holds, sight = w.url.HasUserInfo(), weburl.Full
	case TwoNames:
		holds, sight = w.twoNames, weburl.Tunnel
	case NotTLS:
		holds, sight = w.notTLS, weburl.Tunnel
	}
	switch {
	case sight == weburl.Full && w.sight != weburl.Full, sight == weburl.Tunnel && w.sight == weburl.Name:
		return unclear
	case holds:
		return yes
	}
	return no
}

// granted returns the exception or unlocked page that counts; -1 if there is none.
func (s *Snapshot) granted(w *Work, kind grantKind, at time.Time, t *tracer) int32 {
	best, level, specificity, blocks := int32(-1), forNobody, pattern.Specificity{}, false
	for i := range w.granted {
		c := &w.granted[i]
		g := &s.grants[c.grant]
		if g.kind != kind || w.assumed != nil && w.assumed.ended == c.grant {
			continue
		}
		fits := w.level(g)
		if t != nil {
			t.grant(c, g, fits, at)
		}
		if g.Off || c.answer != match.Yes || fits == forNobody || !runs(g.From, g.Until, at) {
			continue
		}
		block := g.Then == Block
		if order := c.specificity.Compare(specificity); best < 0 || fits > level || fits == level && (order > 0 || order == 0 && block && !blocks) {
			best, level, specificity, blocks = c.grant, fits, c.specificity, block
		}
	}
	if kind == unlocked {
		for _, n := range s.byClass {
			g := &s.grants[n]
			if !g.is.Meets(w.is) {
				continue
			}
			fits := w.level(g)
			if t != nil {
				t.unlockedClass(g, fits, at)
			}
			if best < 0 && fits != forNobody && runs(g.From, g.Until, at) {
				best = n
			}
		}
	}
	if t != nil {
		t.granted(best, kind)
	}
	if best >= 0 && w.assumed != nil {
		w.assumed.level, w.assumed.specificity = level, specificity
	}
	return best
}

// grantedWith returns the verdict of the exceptions and one more; "" if none applies.
func (s *Snapshot) grantedWith(w *Work, at time.Time) Verdict {
	h := *w.assumed
	real := s.granted(w, excepted, at, nil)
	level, specificity := w.assumed.level, w.assumed.specificity
	w.assumed.level, w.assumed.specificity = h.level, h.specificity
	if order := h.specificity.Compare(specificity); real < 0 || h.level > level || h.level == level && (order > 0 || order == 0 && h.exception.Then == Block) {
		return h.exception.Then
	}
	return s.grants[real].Then
}

// meets reports whether a stint is for who asks, at whatever moment.
func (st *stint) meets(w *Work) bool {
	return w.groups.Has(st.group) && (st.persons == nil || slices.Contains(st.persons, w.person)) && !slices.Contains(st.done, w.person)
}

// chose reports whether a URL is in what a stint names.
func (w *Work) chose(st *stint) answer {
	best := w.list(st.lists)
	for i := range w.granted {
		if c := &w.granted[i]; c.grant == st.entries {
			switch c.answer {
			case match.Yes:
				best = yes
			case match.CannotTell:
				best = max(best, unclear)
			}
		}
	}
	return best
}

// says returns the verdict of a stint on a URL; "" where it goes on down the ladder.
func (st *stint) says(in answer) Verdict {
	switch {
	case st.Kind == OnlyThese && in == yes:
		return Allow
	case st.Kind != ButThese, in == yes:
		return Block
	}
	return ""
}

// stint returns the strictest verdict of the stints in force for who asks, and the one that says it: of several, the one begun last. -1 if none decides.
func (s *Snapshot) stint(w *Work, at time.Time, t *tracer) (best int32, verdict Verdict) {
	best = -1
	steps := 0
	for _, i := range s.running(at) {
		st := &s.stints[i]
		if !st.meets(w) {
			continue
		}
		steps++
		in := w.chose(st)
		says := st.says(in)
		if t != nil {
			t.stint(st, says, in)
		}
		if says != "" && (best < 0 || says == Block && verdict != Block) {
			best, verdict = i, says
		}
	}
	if t != nil {
		if steps == 0 {
			t.nothing(AtStint, "none is in force for its groups")
		} else if best >= 0 {
			t.stinted(s.stints[best].ID, steps)
		}
	}
	return best, verdict
}

// combined fills d with the combined decision of the request's policies; false if it has none.
func (s *Snapshot) combined(w *Work, at time.Time, t *tracer, d *Decision) bool {
	found, best := false, uint8(0)
	w.can = w.can[:0]
	if t == nil { // for all policies at once, so that the processor can fetch their data in parallel
		for _, n := range w.policies {
			s.outline.canMatch(w, n)
		}
	}
	can := w.can
	for _, n := range w.policies {
		p := &s.policies[n]
		var canMatch []uint32
		if t == nil {
			words := s.outline.policies[n].words
			canMatch, can = can[:words:words], can[words:]
		}
		var then uint8
		var rule int32
		if t == nil && w.assumed == nil {
			var decided bool
			if rule, then, decided = s.firstOf(w, p, n, AtPolicy, at, canMatch); !decided {
				then = s.outline.policies[n].otherwise
			}
			then = s.past(w, p, rule, then, at, nil)
		} else {
			then, rule = s.policyVerdict(w, p, n, AtPolicy, at, t, canMatch)
		}
		better := false
		switch {
		case !found:
			better = true
		case then == best:
			d.Provisos = d.Provisos.Join(s.bind(w, p, n, AtPolicy, rule))
		case s.config.Combining == Strictest:
			better = then > best
		default:
			better = then < best
		}
		if better {
			best, w.bound, w.insisted = then, w.bound[:0], w.insisted[:0]
			d.Verdict, d.Rung, d.Policy, d.Rule, d.Provisos = Verdicts[then], AtPolicy, n, rule, s.bind(w, p, n, AtPolicy, rule)
		}
		found = true
		if s.config.Combining == Position {
			break
		}
	}
	if t != nil {
		t.combined(d)
	}
	return found
}

// policyVerdict returns the strictness of one policy's verdict, and the rule that decides; -1 for its otherwise. See first for canMatch.
func (s *Snapshot) policyVerdict(w *Work, p *ladderPolicy, number int32, rung Rung, at time.Time, t *tracer, canMatch []uint32) (then uint8, rule int32) {
	rule, then, decided := s.first(w, p, number, rung, at, t, canMatch)
	if !decided {
		rule, then = -1, s.outline.policies[number].otherwise
		if t != nil {
			t.otherwise(p, rung)
		}
	}
	return s.past(w, p, rule, then, at, t), rule
}

// past returns the strictness of what a rule says, or a policy's otherwise, for which the rule is -1: a hold that the asker has acknowledged says allow.
func (s *Snapshot) past(w *Work, p *ladderPolicy, rule int32, then uint8, at time.Time, t *tracer) uint8 {
	if !s.acknowledgements || then != Hold.strictness() {
		return then
	}
	id := p.ID
	if rule >= 0 {
		id = p.rules[rule].ID
	}
	for i := range w.granted {
		c := &w.granted[i]
		g := &s.grants[c.grant]
		if g.kind != acknowledged || g.of != id || c.answer != match.Yes || w.level(g) == forNobody || !runs(g.From, g.Until, at) {
			continue
		}
		if t != nil {
			t.steps[t.decider].Passed = g.Until
		}
		return Allow.strictness()
	}
	return then
}

// provisos returns the provisos of a rule; a policy's otherwise has none.
func (s *Snapshot) provisos(p *ladderPolicy, number, rule int32) Provisos {
	if rule < 0 || !s.outline.policies[number].binds {
		return Provisos{}
	}
	return p.rules[rule].With
}

// Inspects reports whether the proxy gate opens the TLS connection of a request to see the whole URL: the first of its policies decides, else
// the fallback. Connections of clients that do not trust the gate's authority are not opened.
func (s *Snapshot) Inspects(w *Work, r *Request, at time.Time) bool {
	return !s.WayOf(r).Distrusts && s.opens(s.tunnel(w, r, at))
}

// ShowsPages reports whether the proxy gate opens a TLS connection that it refuses, to show the page that says so: as for [Snapshot.Inspects], the first of its
// policies decides, else the fallback, and only for clients that trust the gate's authority.
func (s *Snapshot) ShowsPages(w *Work, r *Request) bool {
	if s.WayOf(r).Distrusts || r.Gate != Proxy {
		return false
	}
	s.belong(w, r)
	p := s.fallback
	if len(w.policies) > 0 {
		p = &s.policies[w.policies[0]]
	}
	return p != nil && p.Inspect.Pages
}

// NameAnswer returns what the DNS gate answers a request that it refuses: the first of its policies says it, else the fallback.
func (s *Snapshot) NameAnswer(w *Work, r *Request) NameAnswer {
	s.belong(w, r)
	switch {
	case len(w.policies) > 0:
		return s.policies[w.policies[0]].Names
	case s.fallback != nil:
		return s.fallback.Names
	}
	return NoSuchName
}

// PageOf returns what the pages say that a request gets where it is refused: of its policies the first in order says it, else the fallback.
func (s *Snapshot) PageOf(w *Work, r *Request) Page {
	s.belong(w, r)
	var page, last Page
	if s.fallback != nil {
		last = s.fallback.Page
		page = last
	}
	if len(w.policies) > 0 {
		page = s.policies[w.policies[0]].Page
	}
	page.Logo, page.Contact = cmp.Or(page.Logo, last.Logo), cmp.Or(page.Contact, last.Contact)
	return page
}

// tunnel looks up everything that decides whether a connection is opened.
func (s *Snapshot) tunnel(w *Work, r *Request, at time.Time) *Work {
	tunnel := *r
	tunnel.Sight, tunnel.Gate = weburl.Tunnel, Proxy
	return s.probe(w, &tunnel, at)
}

// opens is [Snapshot.Inspects] after the lookup.
func (s *Snapshot) opens(w *Work) bool {
	p := s.fallback
	if len(w.policies) > 0 {
		p = &s.policies[w.policies[0]]
	}
	return p != nil && p.Inspect.All && w.list(p.butIn) != yes && !p.butIs.Meets(w.is)
}

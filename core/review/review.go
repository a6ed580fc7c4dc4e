// Package review finds what is wrong with a whole configuration though every piece of it may be well-formed: rules that are never reached,
// objects that do nothing, people between two policies, schedules inside out. If it claims that one thing covers another, it has decided that
// (see package cover), and shows a URL.
//
// From: a [Draft].
// To: [Finding].
package review

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// Kind is a kind of finding.
type Kind string

// The kinds, the gravest first within each severity.
const (
	Unread         Kind = "cannot be read"        // something that is kept and is left out of what decides
	LeadsNowhere   Kind = "leads nowhere"         // something that names a person or group that is gone from its directory
	NeverReached   Kind = "never reached"         // a rule that those above it leave nothing
	NoEffect       Kind = "no effect"             // a rule or an exception that no gate can act on
	BaselineStands Kind = "baseline stands"       // a rule that allows what the baseline blocks
	Opposed        Kind = "opposed"               // a list that one policy both allows and blocks
	NobodysPolicy  Kind = "nobody's policy"       // a policy that no group has
	NoPolicy       Kind = "no policy"             // a group with members that no policy is for
	Between        Kind = "between policies"      // people whose policies disagree
	Unused         Kind = "unused"                // an object that nothing names
	Never          Kind = "never in force"        // a schedule
	Always         Kind = "always in force"       // a schedule
	InsideOut      Kind = "inside out"            // a schedule whose name and hours say opposite things
	NotSeen        Kind = "not seen"              // entries for pages where no gate sees pages
	NeedsBlocked   Kind = "needs what is blocked" // something allowed whose companions are blocked
	TooWide        Kind = "too wide"              // a pattern that covers what its author can hardly have meant
	NotMet         Kind = "not met"               // a rule, an exception or entries that no recorded request met
	Superfluous    Kind = "superfluous"           // entries that others cover, or that are over
	Over           Kind = "over"                  // an exception that has ended
	EndsSoon       Kind = "ends soon"             // an exception that ends within a week
	NotNeeded      Kind = "not needed"            // a correction that the catalogue says itself by now
)

// Severity is how much a finding matters.
type Severity string

// The severities, the gravest first.
const (
	Wrong  Severity = "wrong"  // it does not do what it says
	Doubt  Severity = "doubt"  // it may well be meant otherwise
	Remark Severity = "remark" // good to know
)

var severities = map[Kind]Severity{
	Unread: Wrong, LeadsNowhere: Wrong, NeverReached: Wrong, NoEffect: Wrong, BaselineStands: Wrong, Never: Wrong, NobodysPolicy: Wrong,
	Opposed: Doubt, NoPolicy: Doubt, Between: Doubt, InsideOut: Doubt, NotSeen: Doubt, TooWide: Doubt, NeedsBlocked: Doubt, Always: Doubt,
	Unused: Remark, NotMet: Remark, Superfluous: Remark, Over: Remark, EndsSoon: Remark, NotNeeded: Remark,
}

var why = map[Kind]string{
	Unread:         "It is left out of every decision, so it does nothing; all else goes on.",
	LeadsNowhere:   "It holds for nobody there, and nobody was asked.",
	NeverReached:   "Whoever reads it believes that it does something.",
	NoEffect:       "It looks like protection, or like a way through, and is neither.",
	BaselineStands: "The baseline stands above all policies; nothing below can loosen it.",
	Opposed:        "Only the rule that stands first counts; the other may be what was meant.",
	NobodysPolicy:  "Its rules are asked for nobody.",
	NoPolicy:       "The fallback decides for its members, as for strangers.",
	Between:        "Which one counts depends on how policies are combined; people get an answer that neither policy's owner meant.",
	Unused:         "It is looked after for nothing, or was forgotten where it should be named.",
	Never:          "What is meant to happen in it never happens.",
	Always:         "A rule in it is a rule without a time.",
	InsideOut:      "Hours that were meant to be inside are outside.",
	NotSeen:        "A gate that sees only the host cannot tell a page; such an entry decides nothing there.",
	NeedsBlocked:   "The page opens and does not work: nobody can sign in, or half of it is missing.",
	TooWide:        "It covers sites that nobody thought of.",
	NotMet:         "What nobody needs hides what counts, and lets in, or keeps out, what nobody thinks of any more.",
	Superfluous:    "Without them, the list covers the same.",
	Over:           "It does nothing any more, and hides those that do.",
	EndsSoon:       "Whoever relies on it should hear of it before.",
	NotNeeded:      "The catalogue says the same by itself; kept, it hides what the catalogue learns later.",
}

// Place is where a finding is.
type Place struct {
	Kind   string // of the object: policy, list, schedule, group, exception, correction
	ID     string
	Name   string
	Rule   int    // of a policy: the place of the rule; -1 for none
	RuleID string // its id; "" for none
	Entry  string // of a list: the entry
}

// Fix is one step that would mend a finding.
type Fix struct {
	Do   string // switch rule off, move rule up, remove object, remove entries, switch entries off, replace entry, add entry
	Text string // the step in a sentence
	To   int    // move rule up: the place that it would have
	ToID string // move rule up: the id of the rule that it would stand above
	New  string // replace entry, add entry: what it would be
}

// Finding is something that is wrong, or may be.
type Finding struct {
	Key      string // the same for the same thing, however the draft changes around it
	Kind     Kind
	Severity Severity
	At       Place
	By       *Place // what makes it so
	Text     string // one sentence
	Why      string // why it matters
	Shown    string // a URL that proves it; "" where it is not about URLs
	Fix      *Fix
}

// List is a list as it is looked at.
type List struct {
	ID, Name string
	Entries  []match.Found // in force or not; of a large list only the first few
	Size     int
	Tidied   Tidied
	pages    int             // entries in force that need the path
	page     pattern.Pattern // the first of them
}

// The entries of a list longer than mostKept are not kept besides the index; the first few serve as examples.
const (
	mostKept = 20_000
	examples = 50
)

// NewList looks over the entries of a list, in its order, as they are on a day.
func NewList(id, name string, entries []match.Found, today pattern.Date, tidied Tidied) List {
	l := List{ID: id, Name: name, Entries: entries, Size: len(entries), Tidied: tidied}
	for _, e := range entries {
		if !e.CarveOut && e.InForce(today) && needsPage(e.Pattern) {
			if l.pages++; l.pages == 1 {
				l.page = e.Pattern
			}
		}
	}
	if l.Size > mostKept {
		l.Entries = slices.Clone(entries[:examples])
	}
	return l
}

// Tidied is the findings of package tidy for a list.
type Tidied struct {
	Superfluous int    // entries
	First       string // one of them
	Message     string // why
	Shown       string
	TooWide     []Wide
}

// Wide is an entry that covers too much.
type Wide struct {
	Entry, Shown, Why, Tighter string
}

// Correction is a correction with the categories that the URL would have without it.
type Correction struct {
	ID, Entry string
	Same      bool // the catalogue says the same by itself
	Shown     string
}

// Draft is the configuration under review.
type Draft struct {
	Snapshot    *policy.Snapshot
	Lists       []List
	Corrections []Correction
	Seen        []weburl.URL    // of the recorded traffic: what findings about categories are shown by
	Together    []Companion     // hosts that were asked for together
	Named       map[string]bool // ids that something beside rules names: categories of our own, expectations
	Aside       []Aside         // what is kept and cannot be read
	Gone        []Gone          // references to people and groups that are gone from their directory
	Unmet       []Unmet         // what no recorded request met
	Now         time.Time
}

// Unmet is something that no recorded request met for some days.
type Unmet struct {
	At      Place
	Name    string // of a rule
	Entries int    // of a list: so many of them; At has the first
	Days    int
}

// Aside is something stored that cannot be read and takes no part in decisions.
type Aside struct {
	At      Place
	Text    string // as it is kept; "" where it is the whole object
	Problem string
}

// Gone is a reference to a person or a group that is not there any more.
type Gone struct {
	At     Place
	Does   string // what the object does to them, as "holds" or "is for"
	Person bool
}

// reviewer is a review on its way.
type reviewer struct {
	Draft
	config   *policy.Config
	met      []policy.Gate // by any client
	lists    map[string]*List
	found    []Finding
	work     policy.Work
	shown    map[string]weburl.URL // by category: a URL that has it
	contains map[[2]string]bool
}

// Of reviews a draft, the gravest findings first.
func Of(d Draft) []Finding {
	r := &reviewer{Draft: d, config: d.Snapshot.Config(), met: d.Snapshot.Config().GatesMet(), lists: map[string]*List{}, contains: map[[2]string]bool{}}
	for i := range d.Lists {
		r.lists[d.Lists[i].ID] = &d.Lists[i]
	}
	r.aside()
	r.nowhere()
	r.sample()
	r.policies()
	r.exceptions()
	r.between()
	r.schedules()
	r.groups()
	r.unused()
	r.entries()
	r.corrections()
	r.companions()
	r.unmet()
	rank := map[Severity]int{Wrong: 0, Doubt: 1, Remark: 2}
	slices.SortStableFunc(r.found, func(a, b Finding) int {
		return cmp.Or(first(a.Kind == Unread, b.Kind == Unread), first(a.Kind == LeadsNowhere, b.Kind == LeadsNowhere), cmp.Compare(rank[a.Severity], rank[b.Severity]), strings.Compare(string(a.Kind), string(b.Kind)), strings.Compare(a.At.Name, b.At.Name), cmp.Compare(a.At.Rule, b.At.Rule), strings.Compare(a.Key, b.Key))
	})
	return r.found
}

// first orders true before false.
func first(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// nowhere adds findings for what names people or groups that are gone: directories let them go without asking the draft, and what names them holds for nobody there.
func (r *reviewer) nowhere() {
	for i, one := range r.Gone {
		if slices.Contains(r.Gone[:i], one) { // told with the first
			continue
		}
		n := 0
		for _, other := range r.Gone {
			if other == one {
				n++
			}
		}
		what := map[bool]string{false: "a group that is gone", true: "a person who is gone"}[one.Person]
		if n > 1 {
			what = fmt.Sprintf(map[bool]string{false: "%d groups that are gone", true: "%d people who are gone"}[one.Person], n)
		}
		r.add(LeadsNowhere, one.At, fmt.Sprint(one.Does, " ", one.Person), "The %s %q %s %s.", one.At.Kind, one.At.Name, one.Does, what)
	}
}

// aside adds findings for what cannot be read. An entry of a list can be removed in one step; everything else is mended in its place.
func (r *reviewer) aside() {
	over := map[string]bool{} // exceptions, which would do nothing either way
	for _, e := range r.config.Exceptions {
		over[e.ID] = !e.Until.IsZero() && !e.Until.After(r.Now)
	}
	for _, one := range r.Aside {
		if one.At.Kind == "exception" && over[one.At.ID] {
			continue
		}
		text := one.Text
		if text == "" {
			text = one.At.Name
		}
		f := r.add(Unread, one.At, fmt.Sprint(one.At.Rule, " ", one.Text), `"%s" cannot be read, and is left out: %s`, text, strings.TrimSuffix(one.Problem, ".")+map[bool]string{false: "."}[strings.HasSuffix(one.Problem, "?")])
		if one.At.Kind == "list" {
			f.At.Entry = one.Text
			f.Fix = &Fix{Do: "remove entries", Text: "Take the entry out of the list, and add it anew as it is meant."}
		}
	}
}

// add adds a finding. key distinguishes it from others of its kind at its place.
func (r *reviewer) add(kind Kind, at Place, key, format string, args ...any) *Finding {
	f := Finding{Kind: kind, Severity: severities[kind], At: at, Text: fmt.Sprintf(format, args...), Why: why[kind]}
	f.Key = strings.Join([]string{string(kind), at.Kind, at.ID, key}, "|")
	r.found = append(r.found, f)
	return &r.found[len(r.found)-1]
}

func object(kind, id, name string) Place { return Place{Kind: kind, ID: id, Name: name, Rule: -1} }

func rulePlace(p *policy.Policy, rule int) Place {
	return Place{Kind: "policy", ID: p.ID, Name: p.Name, Rule: rule, RuleID: p.Rules[rule].ID}
}

// mostSampled bounds how many recorded pages are classified.
const mostSampled = 5000

// sample finds a recorded URL for each category.
func (r *reviewer) sample() {
	r.shown = map[string]weburl.URL{}
	c, today := r.Snapshot.Classifier(), pattern.DateOf(r.Now)
	for i, u := range r.Seen {
		if i == mostSampled {
			break
		}
		for _, key := range c.Explain(u, today, weburl.Full).Categories {
			if _, ok := r.shown[key]; !ok {
				r.shown[key] = u
			}
		}
	}
}

// all visits every policy: the baseline, those of groups, the fallback.
func (r *reviewer) all(visit func(p *policy.Policy, of string)) {
	if r.config.Baseline != nil {
		visit(r.config.Baseline, "baseline")
	}
	for i := range r.config.Policies {
		visit(&r.config.Policies[i], "")
	}
	if r.config.Fallback != nil {
		visit(r.config.Fallback, "fallback")
	}
}

func (r *reviewer) policies() {
	r.all(func(p *policy.Policy, of string) {
		r.neverReached(p)
		r.opposed(p)
		for i := range p.Rules {
			if rule := &p.Rules[i]; !rule.Off && len(rule.At) > 0 && !slices.ContainsFunc(rule.At, func(g policy.Gate) bool { return slices.Contains(r.met, g) }) {
				f := r.add(NoEffect, rulePlace(p, i), rule.Name, "The rule %q is for gates that no client meets.", rule.Name)
				f.Fix = &Fix{Do: "switch rule off", Text: fmt.Sprintf("Switch the rule %q off.", rule.Name)}
			}
		}
		r.blind(p)
		if of != "" {
			return
		}
		if len(p.Groups) == 0 {
			f := r.add(NobodysPolicy, object("policy", p.ID, p.Name), "", "No group has the policy %q.", p.Name)
			f.Fix = &Fix{Do: "remove object", Text: "Delete it, or give it to a group."}
		}
		for _, c := range r.Snapshot.Loosens(&r.work, p.ID, r.Now) {
			f := r.add(BaselineStands, rulePlace(p, int(c.Place)), c.Text, "%s", c.Text)
			f.Fix = &Fix{Do: "switch rule off", Text: fmt.Sprintf("Switch the rule %q off.", p.Rules[c.Place].Name)}
		}
	})
}

// blind finds rules that ask for something that none of their gates sees.
func (r *reviewer) blind(p *policy.Policy) {
	for i := range p.Rules {
		rule := &p.Rules[i]
		if rule.Off || slices.ContainsFunc(r.met, func(g policy.Gate) bool {
			return g != policy.DNS && (len(rule.At) == 0 || slices.Contains(rule.At, g))
		}) {
			continue
		}
		cases, ok := terms(rule.If, false)
		sees := func(c term) bool {
			return !slices.ContainsFunc(c, func(l literal) bool {
				return !l.not && slices.Contains([]policy.Op{policy.Method, policy.File, policy.Search}, l.op)
			})
		}
		if ok && len(cases) > 0 && !slices.ContainsFunc(cases, sees) {
			f := r.add(NoEffect, rulePlace(p, i), "blind "+rule.Name, "The rule %q asks for the method, the file or what is searched for, and is only for the DNS gate, which sees none of these.", rule.Name)
			f.Fix = &Fix{Do: "switch rule off", Text: fmt.Sprintf("Switch the rule %q off, or let it hold at the proxy.", rule.Name)}
		}
	}
}

// opposed finds lists that one policy both lets through and stops, without times or further conditions between them.
func (r *reviewer) opposed(p *policy.Policy) {
	passes := map[string]int{}
	stops := map[string]int{}
	for i, rule := range p.Rules {
		if rule.Off || rule.Then == policy.Note || rule.When.Schedule != "" {
			continue
		}
		for _, list := range rule.If.Lists() {
			if rule.Then.Passes() {
				passes[list] = i + 1
			} else {
				stops[list] = i + 1
			}
		}
	}
	for list, pass := range passes {
		stop, both := stops[list]
		if !both || r.lists[list] == nil {
			continue
		}
		first, second := p.Rules[min(pass, stop)-1], p.Rules[max(pass, stop)-1]
		f := r.add(Opposed, rulePlace(p, max(pass, stop)-1), list, "The policy %q names the list %q in %q (%s) and in %q (%s).",
			p.Name, r.lists[list].Name, first.Name, first.Then, second.Name, second.Then)
		by := rulePlace(p, min(pass, stop)-1)
		f.By = &by
	}
}

func (r *reviewer) exceptions() {
	inspected := r.config.Way == policy.ByICAP
	for _, way := range r.config.NetworkWays {
		inspected = inspected || way.Way == policy.ByICAP && !way.SendsTunnel
	}
	r.all(func(p *policy.Policy, _ string) { inspected = inspected || p.Inspect.All })
	for i := range r.config.Exceptions {
		e := &r.config.Exceptions[i]
		at := object("exception", e.ID, e.Name)
		switch {
		case e.Off:
		case !e.Until.IsZero() && !r.Now.Before(e.Until):
			f := r.add(Over, at, "", "The exception %q ended on %s.", e.Name, e.Until.In(r.config.Zone).Format("2 January 2006"))
			f.Fix = &Fix{Do: "remove object", Text: "Delete it."}
			continue
		case !e.Until.IsZero() && e.Until.Sub(r.Now) < 7*24*time.Hour:
			r.add(EndsSoon, at, "", "The exception %q ends on %s.", e.Name, e.Until.In(r.config.Zone).Format("Monday 2 January 15:04"))
		}
		if e.Off {
			continue
		}
		// A page is distinguished from others of its host only where the gate sees it: over plain HTTP, or where the connection is opened.
		if unseen := r.unseen(e, inspected); unseen != "" {
			f := r.add(NotSeen, at, "", "%s", unseen)
			for _, entry := range e.Entries {
				if u, ok := Witness(entry.Pattern); ok && needsPage(entry.Pattern) {
					f.Shown = u.String()
				}
			}
		}
	}
}

// needsPage reports whether a pattern cannot be decided without seeing the path.
func needsPage(p pattern.Pattern) bool {
	if scheme, _ := p.SchemeAndPort(); scheme == "http" {
		return false
	}
	if p.Kind() == pattern.Regex {
		_, target := p.Expr()
		return target == pattern.OnPath
	}
	return p.FoldedPath() != "" || len(p.Params()) > 0
}

// unseen returns why an exception for a page decides nothing; "" if it may decide something.
func (r *reviewer) unseen(e *policy.Exception, inspected bool) string {
	pages := slices.ContainsFunc(e.Entries, func(entry pattern.Entry) bool { return needsPage(entry.Pattern) })
	switch {
	case !pages:
		return ""
	case !slices.Contains(r.met, policy.Proxy) && !slices.Contains(r.met, policy.ICAP):
		return fmt.Sprintf("The exception %q is for a page, and clients meet the DNS gate alone, which sees no pages.", e.Name)
	case !inspected:
		return fmt.Sprintf("The exception %q is for a page, and no policy opens TLS connections: over https no gate sees pages.", e.Name)
	}
	var hidden []string
	hide := func(q policy.Request) {
		if why := r.pageHidden(q); why != "" {
			hidden = append(hidden, why)
		}
	}
	for _, id := range e.For.Groups {
		hide(policy.Request{Group: id})
	}
	for _, id := range e.For.Persons {
		hide(policy.Request{Person: id})
	}
	for _, id := range e.For.Networks {
		if n := r.config.Directory.Network(id); n >= 0 && len(r.config.Directory.Networks[n].Ranges) > 0 {
			hide(policy.Request{Addr: r.config.Directory.Networks[n].Ranges[0].Addr()})
		}
	}
	if len(hidden) == 0 || len(hidden) < len(e.For.Groups)+len(e.For.Persons)+len(e.For.Networks) {
		return ""
	}
	slices.Sort(hidden)
	return fmt.Sprintf("The exception %q is for a page, and %s.", e.Name, hidden[0])
}

// pageHidden returns why no gate on the way of an asker sees pages over https; "" if one may see them.
func (r *reviewer) pageHidden(q policy.Request) string {
	way := r.Snapshot.WayOf(&q)
	p := r.policyOf(q)
	switch {
	case way.Way == policy.ByDNS:
		return "those whom it is for meet the DNS gate alone, which sees no pages"
	case way.Way == policy.ByICAP && way.SendsTunnel:
		return "the proxy that asks the ICAP gate opens no TLS connections: over https it sends only the host"
	case way.Way == policy.ByICAP:
		return ""
	case way.Distrusts:
		return "those whom it is for do not trust the authority of the gates: over https the proxy sees only the host"
	case p != nil && !p.Inspect.All:
		return fmt.Sprintf("the policy %q opens no TLS connections: over https the proxy sees only the host", p.Name)
	}
	return ""
}

// policyOf returns the first policy of a request, else the fallback; nil where there is none.
func (r *reviewer) policyOf(q policy.Request) *policy.Policy {
	st := r.Snapshot.Standing(&r.work, q, r.Now)
	if len(st.Policies) == 0 {
		return r.config.Fallback
	}
	for i := range r.config.Policies {
		if r.config.Policies[i].ID == st.Policies[0].ID {
			return &r.config.Policies[i]
		}
	}
	return nil
}

// between finds people whose policies disagree, once for each set of policies.
func (r *reviewer) between() {
	type set struct {
		names  []string
		people []policy.Request
		who    []string
		key    string
	}
	sets := map[string]*set{}
	for _, p := range r.config.Directory.People {
		q := policy.Request{Person: p.ID}
		st := r.Snapshot.Standing(&r.work, q, r.Now)
		if len(st.Policies) < 2 {
			continue
		}
		var ids, names []string
		for _, ref := range st.Policies {
			ids, names = append(ids, ref.ID), append(names, ref.Name)
		}
		key := strings.Join(ids, " ")
		if sets[key] == nil {
			sets[key] = &set{names: names, key: key}
		}
		sets[key].people, sets[key].who = append(sets[key].people, q), append(sets[key].who, p.Name)
	}
	urls := make([]weburl.URL, 0, len(r.shown)+len(r.Lists))
	for _, u := range r.shown {
		urls = append(urls, u)
	}
	for _, l := range r.Lists {
		if u, ok := r.inList(l.ID); ok {
			urls = append(urls, u)
		}
	}
	slices.SortFunc(urls, func(a, b weburl.URL) int { return strings.Compare(a.String(), b.String()) })
	for _, s := range sets {
		q := s.people[0]
		for _, u := range urls {
			q.URL = u
			e := r.Snapshot.Explain(&r.work, &q, r.Now)
			if e.Decision.Rung != policy.AtPolicy || e.Decider < 0 {
				continue
			}
			decider := e.Steps[e.Decider]
			i := slices.IndexFunc(e.Steps, func(st policy.Step) bool {
				return st.Rung == policy.AtPolicy && st.Outcome == policy.Outweighed && st.Then.Passes() != decider.Then.Passes()
			})
			if i < 0 {
				continue
			}
			others := ""
			if len(s.who) > 1 {
				others = fmt.Sprintf(" and %d more", len(s.who)-1)
			}
			at := object("policy", decider.PolicyID, decider.Policy)
			f := r.add(Between, at, s.key, "%s%s have the policies %s, which disagree: %q says %s where %q says %s. %s counts.",
				s.who[0], others, quotedAll(s.names), decider.Policy, decider.Then, e.Steps[i].Policy, e.Steps[i].Then, capital(string(decider.Then)))
			if len(s.who) == 1 {
				f.Text = strings.Replace(f.Text, " have the policies", " has the policies", 1)
			}
			by := object("policy", e.Steps[i].PolicyID, e.Steps[i].Policy)
			f.By, f.Shown = &by, u.String()
			break
		}
	}
}

func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

func quotedAll(names []string) string {
	quoted := make([]string, len(names))
	for i, name := range names {
		quoted[i] = fmt.Sprintf("%q", name)
	}
	if len(quoted) < 2 {
		return strings.Join(quoted, "")
	}
	return strings.Join(quoted[:len(quoted)-1], ", ") + " and " + quoted[len(quoted)-1]
}

func (r *reviewer) groups() {
	for _, g := range r.config.Directory.Groups {
		members := len(g.Persons) + len(g.Ranges) + len(g.Networks)
		if members == 0 {
			continue
		}
		if st := r.Snapshot.Standing(&r.work, policy.Request{Group: g.ID}, r.Now); len(st.Policies) == 0 {
			r.add(NoPolicy, object("group", g.ID, g.Name), "", "No policy is for the group %q.", g.Name)
		}
	}
}

// unused finds lists, schedules, apps and networks that nothing names.
func (r *reviewer) unused() {
	lists, schedules, apps := map[string]bool{}, map[string]bool{}, map[string]bool{}
	var walk func(c policy.Cond)
	walk = func(c policy.Cond) {
		if c.Op == policy.App {
			for _, key := range c.Values {
				app, _, _ := strings.Cut(key, "/")
				apps[app] = true
			}
		}
		if c.Op == policy.InList {
			for _, id := range c.Values {
				lists[id] = true
			}
		}
		for _, part := range c.Of {
			walk(part)
		}
	}
	r.all(func(p *policy.Policy, _ string) {
		for _, rule := range p.Rules {
			walk(rule.If)
			schedules[rule.When.Schedule] = true
		}
		for _, id := range p.Inspect.ButLists {
			lists[id] = true
		}
	})
	for _, l := range r.Lists {
		if !lists[l.ID] && !r.Named[l.ID] {
			f := r.add(Unused, object("list", l.ID, l.Name), "", "Nothing names the list %q.", l.Name)
			f.Fix = &Fix{Do: "remove object", Text: "Delete it, or name it in a rule."}
		}
	}
	for _, s := range r.config.Schedules {
		if !schedules[s.ID] && !r.Named[s.ID] {
			f := r.add(Unused, object("schedule", s.ID, s.Name), "", "No rule and no expectation names the schedule %q.", s.Name)
			f.Fix = &Fix{Do: "remove object", Text: "Delete it, or name it in a rule."}
		}
	}
	for _, app := range r.config.Apps {
		if !apps[app.Key] {
			r.add(Unused, object("app", app.Key, app.Name), "", "No rule names the app %q.", app.Name)
		}
	}
	networks := map[string]bool{}
	for _, g := range r.config.Directory.Groups {
		for _, id := range g.Networks {
			networks[id] = true
		}
	}
	for i := range r.config.Exceptions {
		for _, id := range r.config.Exceptions[i].For.Networks {
			networks[id] = true
		}
	}
	for _, n := range r.config.Directory.Networks {
		if !networks[n.ID] {
			r.add(Unused, object("network", n.ID, n.Name), "", "No group and no exception names the network %q.", n.Name)
		}
	}
}

func (r *reviewer) entries() {
	pages := r.pagesUnseen()
	for i := range r.Lists {
		l := &r.Lists[i]
		at := object("list", l.ID, l.Name)
		if n := l.Tidied.Superfluous; n > 0 {
			at := at
			at.Entry = l.Tidied.First
			f := r.add(Superfluous, at, "", "%d entries of %q say nothing more: as %s. %s", n, l.Name, l.Tidied.First, l.Tidied.Message)
			if n == 1 {
				f.Text = fmt.Sprintf("The entry %s of %q says nothing more. %s", l.Tidied.First, l.Name, l.Tidied.Message)
			}
			f.Shown, f.Fix = l.Tidied.Shown, &Fix{Do: "remove entries", Text: "Take them out."}
		}
		for _, wide := range l.Tidied.TooWide {
			at := at
			at.Entry = wide.Entry
			f := r.add(TooWide, at, wide.Entry, "The entry %s of %q also covers %s. %s", wide.Entry, l.Name, wide.Shown, wide.Why)
			f.Shown = wide.Shown
			if wide.Tighter != "" {
				f.Fix = &Fix{Do: "replace entry", Text: fmt.Sprintf("Write %s instead.", wide.Tighter), New: wide.Tighter}
			}
		}
		if p, ok := pages[l.ID]; ok {
			if n := l.pages; n > 0 {
				first := l.page.String()
				at.Entry = first
				f := r.add(NotSeen, at, p.ID, "%d entries of %q are for pages, as %s, and the policy %q, which names it, opens no TLS connections: over https they decide nothing.", n, l.Name, first, p.Name)
				if n == 1 {
					f.Text = fmt.Sprintf("The entry %s of %q is for a page, and the policy %q, which names the list, opens no TLS connections: over https it decides nothing.", first, l.Name, p.Name)
				}
				if u, ok := Witness(l.page); ok {
					f.Shown = u.String()
				}
			}
		}
	}
}

// pagesUnseen returns, by list, a policy that names it and opens no connections.
func (r *reviewer) pagesUnseen() map[string]*policy.Policy {
	unseen := map[string]*policy.Policy{}
	r.all(func(p *policy.Policy, of string) {
		if p.Inspect.All || of == "baseline" {
			return
		}
		for _, rule := range p.Rules {
			if rule.Off {
				continue
			}
			for _, list := range rule.If.Lists() {
				if unseen[list] == nil {
					unseen[list] = p
				}
			}
		}
	})
	return unseen
}

func (r *reviewer) corrections() {
	for _, c := range r.Corrections {
		if c.Same {
			f := r.add(NotNeeded, Place{Kind: "correction", ID: c.ID, Name: c.Entry, Rule: -1}, "", "The catalogue says of %s by now what the correction says.", c.Entry)
			f.Shown, f.Fix = c.Shown, &Fix{Do: "remove object", Text: "Take the correction back."}
		}
	}
}

func (r *reviewer) unmet() {
	for _, u := range r.Unmet {
		switch u.At.Kind {
		case "policy":
			f := r.add(NotMet, u.At, u.At.RuleID, "No recorded request met the rule %q of %q in %d days.", u.Name, u.At.Name, u.Days)
			f.Fix = &Fix{Do: "switch rule off", Text: "Switch it off: it can be switched on again at any time."}
		case "exception":
			f := r.add(NotMet, u.At, "", "No recorded request met the exception %q in %d days.", u.At.Name, u.Days)
			f.Fix = &Fix{Do: "remove object", Text: "Delete it."}
		default:
			f := r.add(NotMet, u.At, "", "No recorded request met %d entries of %q in %d days, as %s.", u.Entries, u.At.Name, u.Days, u.At.Entry)
			if u.Entries == 1 {
				f.Text = fmt.Sprintf("No recorded request met the entry %s of %q in %d days.", u.At.Entry, u.At.Name, u.Days)
			}
			f.Fix = &Fix{Do: "switch entries off", Text: "Switch them off: they stay in the list, and can be switched on again at any time."}
		}
	}
}

package policy

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"time"

	"widelark/core/match"
	"widelark/core/weburl"
)

// Zone is what a policy says of names alone, for filters that know names: one asker, at one moment. It is immutable, and safe for concurrent use.
type Zone struct {
	Open bool // what no line is about is open
	Page bool // refused names lead to the page; see [PageOfRefused]

	// Unsaid is what names alone cannot say, and how the zone errs there.
	Unsaid []Unsaid

	all   []ZoneLine // of every host that an entry names, by host from the right
	thin  sync.Once
	lines []ZoneLine // without those that say nothing new; see Lines

	of    *Snapshot
	asker Request
	at    time.Time
	errs  Erring
}

// NewZone returns a zone of lines. Precondition: they are by host from the right, so that what is below a host follows it.
func NewZone(open bool, lines []ZoneLine) *Zone {
	z := &Zone{Open: open, lines: lines}
	z.thin.Do(func() {})
	return z
}

// Lines returns what is said of hosts, by host from the right, so that what is below a host follows it. The caller must not change it.
func (z *Zone) Lines() []ZoneLine {
	z.thin.Do(func() { z.lines = needed(z.all, z.Open) })
	return z.lines
}

// At returns the moment that the zone is for.
func (z *Zone) At() time.Time { return z.at }

// Asker returns whom the zone is for.
func (z *Zone) Asker() Request { return z.asker }

// Size returns how many hosts were decided for the zone.
func (z *Zone) Size() int { return len(z.all) }

// ZoneLine is what is said of a host, and of all names below it of which nothing else is said.
type ZoneLine struct {
	Host      string
	Open      bool
	BelowOpen bool
	Instead   string // the host that answers in its place, for safe search; "" for none
	Between   bool   // it says what is said above it, only so that resolvers find it
}

// Unsaid is something that a zone cannot say.
type Unsaid struct {
	What  string // as "words of the list \"Betting\""
	Count int    // of entries, or of rules
	Why   string
}

// Erring says what becomes of a host of which a rule cannot tell without seeing more.
type Erring string

// How zones err.
const (
	LeaveOpen Erring = "open"  // as the DNS gate does: such a rule does not decide
	Close     Erring = "close" // a host is closed if a rule above the one that decides might refuse it
)

// Zone returns what is said of names to an asker at a moment. The request's URL is not looked at. It costs some microseconds for each host that an entry names.
func (s *Snapshot) Zone(r Request, at time.Time, errs Erring) *Zone {
	z := s.newZone(r, at, errs)
	z.all = z.decide(s.zoneHosts())
	return z
}

// newZone returns a zone without what it says of hosts.
func (s *Snapshot) newZone(r Request, at time.Time, errs Erring) *Zone {
	r.Sight, r.Gate, r.Chain, r.Method = weburl.Name, DNS, nil, ""
	r.URL = weburl.MustParse("https://wide-lark-probe.invalid/")
	var w Work
	return &Zone{
		Open: s.decide(&w, &r, at).Verdict.Passes(), Page: s.NameAnswer(&w, &r) == PageOfRefused, Unsaid: s.unsaid(&r),
		of: s, asker: r, at: at, errs: errs,
	}
}

// zoneWorkers is how many decide at once: as many as small machines have cores, and no more than the gates beside them can spare.
const zoneWorkers = 4

// decide returns what is said of hosts, in their order; of those that are no names, nothing.
func (z *Zone) decide(hosts []string) []ZoneLine {
	lines := make([]ZoneLine, len(hosts))
	const together = 64 // neighbours in memory are for one worker
	var work sync.WaitGroup
	for n := range zoneWorkers {
		work.Go(func() {
			var w Work
			ask := z.asker
			for i := n * together; i < len(hosts); i += zoneWorkers * together {
				for k := i; k < min(i+together, len(hosts)); k++ {
					lines[k] = z.of.zoneLine(&w, &ask, hosts[k], z.at, z.errs)
				}
			}
		})
	}
	work.Wait()
	return slices.DeleteFunc(lines, func(l ZoneLine) bool { return l.Host == "" })
}

// fromRight returns a key by which hosts are in order by their labels from the right: what is below a host follows it.
func fromRight(host string) string {
	key := make([]byte, 0, len(host))
	for end := len(host); end >= 0; {
		dot := strings.LastIndexByte(host[:end], '.')
		key = append(key, host[dot+1:end]...)
		if dot < 0 {
			break
		}
		key = append(key, 0)
		end = dot
	}
	return string(key)
}

// CompareHosts compares hosts by their labels from the right, as they are in order in a zone.
func CompareHosts(a, b string) int {
	for {
		dotA, dotB := strings.LastIndexByte(a, '.'), strings.LastIndexByte(b, '.')
		if order := strings.Compare(a[dotA+1:], b[dotB+1:]); order != 0 || dotA < 0 || dotB < 0 {
			return cmp.Or(order, cmp.Compare(dotA, dotB))
		}
		a, b = a[:dotA], b[:dotB]
	}
}

// isBelow reports whether a host is below another.
func isBelow(host, above string) bool {
	n := len(host) - len(above)
	return n > 0 && host[n-1] == '.' && host[n:] == above
}

// zoneHosts returns all hosts that an entry names, each once, from the right.
func (s *Snapshot) zoneHosts() []string {
	type keyed struct{ key, host string }
	var all []keyed
	add := func(host string) { all = append(all, keyed{fromRight(host), host}) }
	s.index.EachHost(add)
	if s.engines != nil {
		s.engines.EachHost(add)
	}
	slices.SortFunc(all, func(a, b keyed) int { return strings.Compare(a.key, b.key) })
	hosts := make([]string, 0, len(all))
	for i := range all {
		if i == 0 || all[i].host != all[i-1].host {
			hosts = append(hosts, all[i].host)
		}
	}
	return hosts
}

// zoneLine decides a host, and a name below it that no entry names.
func (s *Snapshot) zoneLine(w *Work, r *Request, host string, at time.Time, errs Erring) ZoneLine {
	l := ZoneLine{Host: host, Open: true, BelowOpen: true}
	var err error
	if r.URL, err = weburl.Parse("https://" + host + "/"); err != nil || r.URL.Addr().IsValid() {
		return ZoneLine{} // no name
	}
	d := s.decide(w, r, at)
	l.Open = d.Verdict.Passes() && (errs != Close || !s.mightRefuse(r, at))
	if l.Open && d.Provisos.SafeSearch {
		if _, _, safe := s.Held(d.Provisos, r); safe.By == ByHost && safe.Value != host {
			l.Instead = safe.Value
		}
	}
	if r.URL, err = weburl.Parse("https://wide-lark-probe." + host + "/"); err == nil {
		l.BelowOpen = s.decide(w, r, at).Verdict.Passes()
	}
	return l
}

// mightRefuse reports whether a rule that cannot be told might refuse what the rules below it let pass.
func (s *Snapshot) mightRefuse(r *Request, at time.Time) bool {
	var w Work
	for _, step := range s.explain(&w, r, at).Steps {
		if step.Outcome == CannotTell && (step.Then == Block || step.Then == Hold) {
			return true
		}
	}
	return false
}

// needed leaves out the lines that say what is said already above them, and puts in names in between.
func needed(lines []ZoneLine, open bool) []ZoneLine {
	t := thinner{stack: []above{{"", open}}, toRoot: !open}
	for _, l := range lines {
		t.add(l)
	}
	return t.kept
}

// thinner keeps the lines of a zone that it needs. They come by host from the right.
type thinner struct {
	kept   []ZoneLine
	stack  []above // the lines above the last one
	toRoot bool    // something is said of all names
}

// above is what is said of names below a host.
type above struct {
	host      string
	belowOpen bool
}

// over returns what is said above a host.
func (t *thinner) over(host string) above {
	for len(t.stack) > 1 && !isBelow(host, t.stack[len(t.stack)-1].host) {
		t.stack = t.stack[:len(t.stack)-1]
	}
	return t.stack[len(t.stack)-1]
}

// add keeps a line if it says something else than is said above it; and before it lines for the names in between, where resolvers would not look further up (RFC 4592,
// section 2.2.1).
func (t *thinner) add(l ZoneLine) {
	over := t.over(l.Host)
	if l.Open == over.belowOpen && l.BelowOpen == over.belowOpen && l.Instead == "" {
		return
	}
	t.keep(l)
}

// keep keeps a line.
func (t *thinner) keep(l ZoneLine) {
	over := t.over(l.Host)
	if len(t.stack) > 1 || t.toRoot {
		labels := strings.Split(strings.TrimSuffix(strings.TrimSuffix(l.Host, over.host), "."), ".")
		for i := len(labels) - 1; i > 0; i-- {
			between := strings.Join(labels[i:], ".")
			if over.host != "" {
				between += "." + over.host
			}
			if n := len(t.kept); n > 0 && t.kept[n-1].Host == between || slices.ContainsFunc(t.stack, func(a above) bool { return a.host == between }) {
				continue
			}
			t.kept = append(t.kept, ZoneLine{Host: between, Open: over.belowOpen, BelowOpen: over.belowOpen, Between: true})
			t.stack = append(t.stack, above{between, over.belowOpen})
		}
	}
	t.kept = append(t.kept, l)
	t.stack = append(t.stack, above{l.Host, l.BelowOpen})
}

// unsaid says what of the rules of an asker names alone cannot say.
func (s *Snapshot) unsaid(r *Request) (all []Unsaid) {
	var w Work
	s.belong(&w, r)
	policies := []*ladderPolicy{s.baseline}
	for _, n := range w.policies {
		policies = append(policies, &s.policies[n])
	}
	if len(w.policies) == 0 {
		policies = append(policies, s.fallback)
	}
	asked := map[string]bool{}
	beyond := map[string]int{}
	holds := 0
	for _, p := range policies {
		if p == nil {
			continue
		}
		for i := range p.rules {
			rule := p.rules[i].Rule
			if rule.Off || len(rule.At) > 0 && !slices.Contains(rule.At, DNS) {
				continue
			}
			for _, id := range rule.If.everyList() {
				asked[id] = true
			}
			for op, what := range map[Op]string{Method: "rules about methods", File: "rules about kinds of files", Search: "rules about searches"} {
				if rule.If.asks(func(c Cond) bool { return c.Op == op }) {
					beyond[what]++
				}
			}
			if rule.Then == Hold {
				holds++
			}
		}
	}
	counts := map[string]map[match.Sort]int{}
	lists := s.config.Lists.Lists()
	s.config.Lists.EachSort(func(list int32, sort match.Sort) {
		ref := lists[list]
		if !asked[ref.ID] {
			return
		}
		if counts[ref.Name] == nil {
			counts[ref.Name] = map[match.Sort]int{}
		}
		counts[ref.Name][sort]++
	})
	for name, of := range counts {
		for _, sort := range match.Sorts {
			if of[sort] > 0 {
				all = append(all, Unsaid{string(sort) + " of the list \"" + name + "\"", of[sort], whyUnsaid[sort]})
			}
		}
	}
	for what, n := range beyond {
		all = append(all, Unsaid{what, n, "only the host is seen"})
	}
	if holds > 0 {
		all = append(all, Unsaid{"rules that hold", holds, "nobody can be asked: they refuse"})
	}
	slices.SortFunc(all, func(a, b Unsaid) int { return strings.Compare(a.What, b.What) })
	return all
}

var whyUnsaid = map[match.Sort]string{
	match.SortPages: "only the host is seen", match.SortPorts: "only the host is seen", match.SortWords: "names with a word in them cannot be listed", match.SortRegexes: "names that match cannot be listed",
	match.SortGlobs: "names that match cannot be listed", match.SortRanges: "a name is no address",
}

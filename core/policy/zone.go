package policy

import (
	"slices"
	"strings"
	"sync"
	"time"

	"widelark/core/match"
	"widelark/core/weburl"
)

// Zone is what a policy says of names alone, for filters that know names: one asker, at one moment.
type Zone struct {
	Open  bool       // what no line is about is open
	Lines []ZoneLine // by host from the right, so that what is below a host follows it
	Page  bool       // refused names lead to the page; see [PageOfRefused]

	// Unsaid is what names alone cannot say, and how the zone errs there.
	Unsaid []Unsaid
}

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
func (s *Snapshot) Zone(r Request, at time.Time, errs Erring) Zone {
	r.Sight, r.Gate, r.Chain, r.Method = weburl.Name, DNS, nil, ""
	var w Work
	r.URL = weburl.MustParse("https://wide-lark-probe.invalid/")
	z := Zone{Open: s.decide(&w, &r, at).Verdict.Passes(), Page: s.NameAnswer(&w, &r) == PageOfRefused}
	hosts := s.zoneHosts()
	lines := make([]ZoneLine, len(hosts))
	var work sync.WaitGroup
	for n := range zoneWorkers {
		work.Go(func() {
			var w Work
			ask := r
			for i := n; i < len(hosts); i += zoneWorkers {
				lines[i] = s.zoneLine(&w, &ask, hosts[i], at, errs)
			}
		})
	}
	work.Wait()
	z.Lines = needed(lines, z.Open)
	z.Unsaid = s.unsaid(&r)
	return z
}

// zoneWorkers is how many decide at once: as many as small machines have cores, and no more than the gates beside them can spare.
const zoneWorkers = 4

// fromRight orders hosts by their labels from the right.
func fromRight(host string) string {
	labels := strings.Split(host, ".")
	slices.Reverse(labels)
	return strings.Join(labels, "\x00")
}

// zoneHosts returns all hosts that an entry names, each once, from the right.
func (s *Snapshot) zoneHosts() []string {
	var keys []string
	add := func(host string) { keys = append(keys, fromRight(host)) }
	s.index.EachHost(add)
	if s.engines != nil {
		s.engines.EachHost(add)
	}
	slices.Sort(keys)
	keys = slices.Compact(keys)
	for i, key := range keys {
		labels := strings.Split(key, "\x00")
		slices.Reverse(labels)
		keys[i] = strings.Join(labels, ".")
	}
	return keys
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

// needed leaves out the lines that say what is said already above them, and puts in names in between: between a name and the line above it, resolvers would not look
// further up (RFC 4592, section 2.2.1).
func needed(lines []ZoneLine, open bool) []ZoneLine {
	type above struct {
		host      string
		belowOpen bool
	}
	var kept []ZoneLine
	stack := []above{{"", open}}
	for _, l := range lines {
		if l.Host == "" {
			continue
		}
		for len(stack) > 1 && !strings.HasSuffix(l.Host, "."+stack[len(stack)-1].host) {
			stack = stack[:len(stack)-1]
		}
		over := stack[len(stack)-1]
		if l.Open == over.belowOpen && l.BelowOpen == over.belowOpen && l.Instead == "" {
			continue
		}
		if len(stack) > 1 || !open {
			labels := strings.Split(strings.TrimSuffix(strings.TrimSuffix(l.Host, over.host), "."), ".")
			for i := len(labels) - 1; i > 0; i-- {
				between := strings.Join(labels[i:], ".")
				if over.host != "" {
					between += "." + over.host
				}
				if n := len(kept); n > 0 && kept[n-1].Host == between || slices.ContainsFunc(stack, func(a above) bool { return a.host == between }) {
					continue
				}
				kept = append(kept, ZoneLine{Host: between, Open: over.belowOpen, BelowOpen: over.belowOpen, Between: true})
				stack = append(stack, above{between, over.belowOpen})
			}
		}
		kept = append(kept, l)
		stack = append(stack, above{l.Host, l.BelowOpen})
	}
	return kept
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

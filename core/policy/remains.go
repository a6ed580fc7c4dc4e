package policy

import (
	"slices"
	"strings"
	"time"

	"widelark/core/directory"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// mostRemains is how many sites and pages are few.
const mostRemains = 12

// Remains returns what is open to whoever asks, as the URLs of sites and pages, where the decision on a request leaves only a few: at a stint with only chosen
// lists, and at a policy that blocks all but the lists that its rules name. It returns nil where more than a dozen are open, and where that cannot be said.
func (s *Snapshot) Remains(w *Work, r *Request, at time.Time) []URL {
	d := s.Decide(w, r, at)
	lists, named := s.onlyOpen(w, d, at)
	if !named || d.Verdict.Passes() {
		return nil
	}
	var urls []URL
	add := func(entries []pattern.Entry) {
		for _, e := range entries {
			if u, ok := Front(e); ok && !slices.ContainsFunc(urls, func(has URL) bool { return has.String() == u.String() }) {
				urls = append(urls, u)
			}
		}
	}
	if d.Rung == AtStint {
		add(s.stints[d.Stint].Entries)
	}
	for n := lists.Next(0); n >= 0; n = lists.Next(n + 1) {
		if int(n) >= len(s.config.Lists.Lists()) {
			return nil // hosts of an app
		}
		entries, few := s.config.Lists.Few(n)
		if !few {
			return nil
		}
		add(entries)
	}
	ask := *r
	ask.Method, ask.Sight, ask.Gate, ask.Answer, ask.TwoNames, ask.NotTLS = "", weburl.Full, Proxy, nil, false, false
	urls = slices.DeleteFunc(urls, func(u URL) bool {
		ask.URL = u
		return !s.Decide(w, &ask, at).Verdict.Passes()
	})
	if len(urls) > mostRemains {
		return nil
	}
	slices.SortFunc(urls, func(a, b URL) int { return strings.Compare(a.Host()+a.Path(), b.Host()+b.Path()) })
	return urls
}

// onlyOpen returns the lists that are all that a decision leaves open; false where there is more.
func (s *Snapshot) onlyOpen(w *Work, d Decision, at time.Time) (lists directory.Set, named bool) {
	set := s.listSet(nil)
	switch p := s.policyOf(d); {
	case d.Rung == AtStint && s.stints[d.Stint].Kind == OnlyThese:
		set.Unite(s.stints[d.Stint].lists)
		return set, true
	case d.Rung != AtPolicy && d.Rung != AtFallback, d.Rule >= 0, len(w.policies) > 1 && s.config.Combining == Loosest:
		return nil, false
	default:
		for i := range p.rules {
			rule := &p.rules[i]
			if rule.off || !rule.Then.Passes() || s.now(w, &rule.head, at) != Decided {
				continue
			}
			if rule.cond.op != InList {
				return nil, false
			}
			set.Unite(rule.cond.set)
		}
	}
	return set, true
}

// Front returns the URL of a site or page that an entry is for; false where it is for more than one, or not in force any more.
func Front(e pattern.Entry) (URL, bool) {
	p := e.Pattern
	scheme, port := p.SchemeAndPort()
	if e.CarveOut || e.Off || p.Kind() == pattern.Regex || p.Kind() == pattern.Word || p.EveryHost() || p.EveryEnding() || p.Name() == "" || strings.Contains(p.String(), "*") || len(p.Params()) > 0 || port != 0 {
		return URL{}, false
	}
	if scheme == "" {
		scheme = "https"
	}
	u, err := weburl.Parse(scheme + "://" + p.Name() + p.FoldedPath())
	return u, err == nil
}

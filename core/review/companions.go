package review

import (
	"fmt"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// Companion is a host that was asked for together with a page.
type Companion struct {
	Page  weburl.URL
	Needs weburl.URL
	Times int // so often with the page
	Of    int // of so many times that it was asked for
}

// companions finds hosts that allowed pages need and that the policy blocks: sign-on, pictures, scripts.
func (r *reviewer) companions() {
	for i := range r.config.Policies {
		p := &r.config.Policies[i]
		if len(p.Groups) == 0 {
			continue
		}
		told := map[string]bool{}
		for _, c := range r.Together {
			if told[c.Needs.Host()] || c.Page.Host() == c.Needs.Host() {
				continue
			}
			page := policy.Request{URL: c.Page, Group: p.Groups[0]}
			d := r.Snapshot.Decide(&r.work, &page, r.Now)
			if !d.Verdict.Passes() || d.Rung != policy.AtPolicy || d.Rule < 0 || r.config.Policies[d.Policy].ID != p.ID {
				continue // only what a rule of the policy lets in is meant to work
			}
			needs := policy.Request{URL: c.Needs, Group: p.Groups[0]}
			if r.Snapshot.Decide(&r.work, &needs, r.Now).Verdict.Passes() {
				continue
			}
			told[c.Needs.Host()] = true
			f := r.add(NeedsBlocked, rulePlace(p, int(d.Rule)), c.Needs.Host(), "What the rule %q lets in needs %s, which is blocked: it was asked for with %s in %d of %d cases.",
				p.Rules[d.Rule].Name, c.Needs.Host(), c.Page.Host(), c.Times, c.Of)
			f.Shown = c.Needs.String()
			if needed, ok := pattern.OfHost(c.Needs, pattern.Only); ok {
				f.Fix = &Fix{Do: "add entry", Text: fmt.Sprintf("Add %s to a list that the rule names.", needed), New: needed.String()}
			}
		}
	}
}

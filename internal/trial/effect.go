package trial

import (
	"context"
	"slices"
	"strings"
	"time"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/edition"
)

// Effect is the effect of another way of combining policies.
type Effect struct {
	Combining policy.Combining
	Opened    int      // pages that somebody with several policies would reach, and does not now
	Closed    int      // the reverse
	Examples  []string // the first few of both, with whom they are about
}

// Effects are the effects of each way of combining on people with several policies.
type Effects struct {
	People int // that have several policies
	Pages  int // that were looked at
	Ways   []Effect
}

// mostExamples bounds how many pages are named.
const mostExamples = 3

// EffectsOf decides pages for everybody who has several policies, under each way of combining, at a moment. People with the same
// policies and no exceptions of their own fare alike, so each set of policies is asked once.
func EffectsOf(ctx context.Context, state *edition.State, pages []weburl.URL, at time.Time) (Effects, error) {
	now := state.Snapshot.Config()
	effects := Effects{Pages: len(pages)}
	var w policy.Work
	var who []policy.Request
	var names []string
	seen := map[string]bool{}
	for _, p := range now.Directory.People {
		r := policy.Request{Person: p.ID}
		st := state.Snapshot.Standing(&w, r, at)
		if len(st.Policies) < 2 {
			continue
		}
		effects.People++
		var key strings.Builder
		for _, one := range st.Policies {
			key.WriteString(one.ID)
		}
		if !seen[key.String()] {
			seen[key.String()] = true
			who, names = append(who, r), append(names, p.Name)
		}
	}
	ways := []policy.Combining{policy.Position, policy.Strictest, policy.Loosest}
	for _, way := range ways {
		effect := Effect{Combining: way, Examples: []string{}}
		if way != now.Combining && len(who) > 0 {
			config := *now
			config.Combining = way
			other := policy.New(config)
			for i, u := range pages {
				if i%256 == 0 && ctx.Err() != nil {
					return effects, ctx.Err()
				}
				opened, closed := false, false
				for j, r := range who {
					r.URL = u
					before, after := state.Snapshot.Decide(&w, &r, at).Verdict, other.Decide(&w, &r, at).Verdict
					if before.Passes() == after.Passes() {
						continue
					}
					opened, closed = opened || after.Passes(), closed || !after.Passes()
					if example := u.Host() + u.Path() + " for " + names[j]; len(effect.Examples) < mostExamples && !slices.Contains(effect.Examples, example) {
						effect.Examples = append(effect.Examples, example)
					}
				}
				if opened {
					effect.Opened++
				}
				if closed {
					effect.Closed++
				}
			}
		}
		effects.Ways = append(effects.Ways, effect)
	}
	return effects, nil
}

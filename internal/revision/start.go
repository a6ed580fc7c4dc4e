package revision

import (
	"slices"

	"widelark/core/classify"
	"widelark/core/policy"
)

// StartOf returns the rules that a new policy may begin with: one of the starting points careful, balanced and open, or one of the modes
// only (these lists), all-but (these lists) and off. They are plain rules. It names only categories that exist.
func StartOf(start string, lists []Ref, t classify.Taxonomy) PolicyBody {
	var dangers, unfit, doubtful []string
	for _, f := range t.Families {
		if f.Security {
			dangers = append(dangers, f.Key)
		}
	}
	pick := func(keys ...string) (found []string) {
		for _, key := range keys {
			if _, ok := t.Category(key); ok {
				found = append(found, key)
			}
		}
		return found
	}
	unfit = pick("adult", "nudity", "betting", "drugs", "weapons", "violence", "hatred", "anonymisers")
	doubtful = pick("newly-seen", "file-sharing", "remote-control", "web-mail", "games", "video", "social", "chat", "dating")

	b := PolicyBody{Groups: []Ref{}, Rules: []RuleBody{}, Otherwise: policy.Allow}
	rule := func(name string, then policy.Verdict, if_ *Condition) {
		b.Rules = append(b.Rules, RuleBody{Name: name, Then: then, If: if_})
	}
	categories := func(name string, then policy.Verdict, keys []string) {
		if keys = slices.Clip(keys); len(keys) > 0 {
			rule(name, then, &Condition{Categories: keys})
		}
	}
	switch start {
	case "careful":
		b.Description, b.Otherwise = "Nothing dangerous or unfit; what nobody has looked at waits for a code.", policy.Watch
		categories("Dangers", policy.Block, dangers)
		categories("Unfit here", policy.Block, unfit)
		rule("Bare addresses and odd ports", policy.Block, &Condition{Traits: []string{string(policy.RawAddress), string(policy.OddPort)}})
		rule("Programs", policy.Block, &Condition{Files: []string{"programs", "macros", "disks"}})
		categories("Distractions and doubtful places", policy.Block, doubtful)
		rule("Nobody has looked at it", policy.Hold, &Condition{Traits: []string{string(policy.Unrated)}})
	case "balanced":
		b.Description = "Nothing dangerous or unfit; what nobody has looked at is flagged."
		categories("Dangers", policy.Block, dangers)
		categories("Unfit here", policy.Block, unfit)
		rule("Programs from places that nobody has looked at", policy.Block, &Condition{All: []Condition{{Files: []string{"programs", "macros"}}, {Traits: []string{string(policy.Unrated)}}}})
		rule("Nobody has looked at it", policy.Watch, &Condition{Traits: []string{string(policy.Unrated)}})
	case "open":
		b.Description = "Everything but dangers; bare addresses are flagged."
		categories("Dangers", policy.Block, dangers)
		rule("Bare addresses", policy.Watch, &Condition{Traits: []string{string(policy.RawAddress)}})
	case "only":
		b.Description, b.Otherwise = "Only these lists; everything else is blocked.", policy.Block
		rule("Only these", policy.Allow, &Condition{Lists: lists})
	case "all-but":
		b.Description = "Everything but these lists."
		rule("All but these", policy.Block, &Condition{Lists: lists})
	case "off":
		b.Description, b.Otherwise = "Everything is off.", policy.Block
	}
	return b
}

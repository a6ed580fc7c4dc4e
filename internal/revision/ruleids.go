package revision

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/google/uuid"
)

// KeepRuleIDs gives the rules of an edited policy the ids that they had before, where the edit does not name them:
// files have no ids. A rule without an id is matched by its name, else by everything but its name. An id that stands twice
// stays with the first. Rules that are left with [uuid.Nil] are new.
func KeepRuleIDs(before, after []RuleBody) {
	taken := map[uuid.UUID]bool{uuid.Nil: true}
	for i := range after {
		if taken[after[i].ID] {
			after[i].ID = uuid.Nil
		}
		taken[after[i].ID] = true
	}
	keep := func(same func(was, is RuleBody) bool) {
		for i := range after {
			for _, was := range before {
				if after[i].ID == uuid.Nil && !taken[was.ID] && same(was, after[i]) {
					after[i].ID = was.ID
					taken[was.ID] = true
				}
			}
		}
	}
	keep(func(was, is RuleBody) bool { return strings.EqualFold(was.Name, is.Name) })
	keep(func(was, is RuleBody) bool { return reflect.DeepEqual(unnamed(was), unnamed(is)) })
}

// unnamed returns a rule without its id and name, in the form in which it is kept.
func unnamed(r RuleBody) any {
	r.ID, r.Name = uuid.Nil, ""
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	var value any
	_ = json.Unmarshal(text, &value) // it was made just now
	return value
}

// NewRuleIDs gives every rule that has no id a new one, and those whose id is taken elsewhere.
func NewRuleIDs(rules []RuleBody, taken map[uuid.UUID]bool) {
	for i := range rules {
		if rules[i].ID == uuid.Nil || taken[rules[i].ID] {
			rules[i].ID = uuid.New()
		}
	}
}

package revision

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/google/uuid"
)

// KeepRuleIDs gives rules of a policy the ids that they had in its state before, where those who edit did not say which rule is which:
// files have no ids. A rule without an id is the one of its name, else one that differs in nothing but its name. An id that stands twice
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
	keep(func(was, is RuleBody) bool { return reflect.DeepEqual(said(was), said(is)) })
}

// said returns what a rule says beside its id and name, in the form in which it is kept.
func said(r RuleBody) any {
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

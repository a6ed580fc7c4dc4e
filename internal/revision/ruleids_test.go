package revision_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/core/policy"
	"widelark/internal/revision"
)

// Rules that are sent with ids keep them; rules without ids keep those of present rules with the same name, or with no other difference.
// No two rules have the same id, and every id is new or that of a present rule.
func TestKeepRuleIDs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rule := func(name string, n int) revision.RuleBody {
			return revision.RuleBody{Name: name, Then: policy.Block, If: &revision.Condition{Categories: []string{fmt.Sprint("c", n)}}}
		}
		var before []revision.RuleBody
		for i := range rapid.IntRange(0, 6).Draw(t, "rules") {
			r := rule(fmt.Sprint("Rule ", i), i)
			r.ID = uuid.New()
			before = append(before, r)
		}
		was := map[uuid.UUID]revision.RuleBody{}
		for _, r := range before {
			was[r.ID] = r
		}
		after := slices.Clone(before)
		withIDs := rapid.Bool().Draw(t, "with ids")
		expected := map[string]uuid.UUID{}
		for i := range after {
			switch rapid.SampledFrom([]string{"stays", "renamed", "edited", "both"}).Draw(t, "edit") {
			case "renamed":
				after[i].Name += " again"
			case "edited":
				after[i].Then = policy.Watch
			case "both":
				after[i].Name, after[i].Then = after[i].Name+" again", policy.Watch
				if !withIDs { // nobody can tell which rule it was
					after[i].ID = uuid.Nil
				}
			}
			expected[after[i].Name] = after[i].ID
		}
		if !withIDs {
			for i := range after {
				after[i].ID = uuid.Nil
			}
		}
		after = rapid.Permutation(after).Draw(t, "order")
		if len(after) > 0 && rapid.Bool().Draw(t, "a copy") {
			copied := after[rapid.IntRange(0, len(after)-1).Draw(t, "of")]
			copied.Name += " (copy)"
			copied.Then = policy.Hold
			expected[copied.Name] = uuid.Nil
			after = append(after, copied)
		}
		revision.KeepRuleIDs(before, after)
		for _, r := range after {
			assert.Equal(t, expected[r.Name], r.ID, "%s", r.Name)
		}
		taken := map[uuid.UUID]bool{}
		if len(before) > 0 {
			taken[before[0].ID] = true
		}
		revision.NewRuleIDs(after, taken)
		seen := map[uuid.UUID]bool{uuid.Nil: true}
		for _, r := range after {
			assert.False(t, seen[r.ID] || taken[r.ID])
			seen[r.ID] = true
		}
	})
}

// Names are compared without case, and the first of two rules with the same id keeps it.
func TestKeepRuleIDsOfTwins(t *testing.T) {
	a, b := uuid.New(), uuid.New()
	before := []revision.RuleBody{{ID: a, Name: "No games", Then: policy.Block}, {ID: b, Name: "No games", Then: policy.Hold}}
	after := []revision.RuleBody{{Name: "NO GAMES", Then: policy.Hold}, {Name: "No games", Then: policy.Watch}, {Name: "No games", Then: policy.Allow}}
	revision.KeepRuleIDs(before, after)
	assert.Equal(t, []uuid.UUID{a, b, uuid.Nil}, []uuid.UUID{after[0].ID, after[1].ID, after[2].ID})
	after = []revision.RuleBody{{ID: b, Name: "x"}, {ID: b, Name: "No games"}}
	revision.KeepRuleIDs(before, after)
	assert.Equal(t, []uuid.UUID{b, a}, []uuid.UUID{after[0].ID, after[1].ID})
}

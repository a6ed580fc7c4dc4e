package change

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/revision"
)

var nurses, doctors, list = uuid.New(), uuid.New(), uuid.New()

func called(id uuid.UUID) string {
	return map[uuid.UUID]string{nurses: "Ward nurses", doctors: "Doctors", list: "Betting"}[id]
}

var names = Names{Object: called, Names: policy.Names{List: func(id string) string { return called(uuid.MustParse(id)) }}}

func object(t *testing.T, kind revision.Kind, name string, body any) *revision.Object {
	t.Helper()
	text, err := json.Marshal(body)
	require.NoError(t, err)
	return &revision.Object{Kind: kind, Meta: revision.Meta{Name: name}, Body: text}
}

func TestLines(t *testing.T) {
	t.Parallel()
	block := func(name string, then policy.Verdict) revision.RuleBody {
		return revision.RuleBody{Name: name, Then: then, If: &revision.Condition{Lists: []revision.Ref{{ID: list}}}}
	}
	policyOf := func(groups []uuid.UUID, rules ...revision.RuleBody) *revision.PolicyBody {
		b := &revision.PolicyBody{Otherwise: policy.Allow, Rules: rules}
		for _, id := range groups {
			b.Groups = append(b.Groups, revision.Ref{ID: id})
		}
		return b
	}
	before := object(t, revision.KindPolicy, "Ward", policyOf([]uuid.UUID{nurses}, block("a", policy.Block), block("b", policy.Block), block("c", policy.Hold), block("gone", policy.Watch)))
	after := object(t, revision.KindPolicy, "Ward floor", policyOf([]uuid.UUID{doctors, nurses}, block("c", policy.Hold), block("a", policy.Block), block("b", policy.Allow)))
	lines, err := Lines(revision.ObjectState{Kind: revision.KindPolicy, Before: before, After: after}, names)
	require.NoError(t, err)
	assert.Equal(t, []Line{
		{Removed, "rule", `"gone": Allow and flag what is in the list "Betting".`, ""},
		{Changed, "name", "Ward", "Ward floor"},
		{Added, "groups", "", "Doctors"},
		{Moved, "rule", `"c"`, "to the top"},
		{Changed, "rule", `"b": Block what is in the list "Betting".`, `"b": Allow what is in the list "Betting".`},
	}, lines)
	assert.ElementsMatch(t, []uuid.UUID{nurses, doctors, list}, Refs([]revision.ObjectState{{Before: before, After: after}}))

	// A rule that is renamed is the same rule: it has its id.
	renamed, other := block("d", policy.Block), block("e", policy.Hold)
	renamed.ID, other.ID = nurses, doctors
	before = object(t, revision.KindPolicy, "Ward", policyOf(nil, renamed, other))
	renamed.Name = "dd"
	after2 := object(t, revision.KindPolicy, "Ward", policyOf(nil, other, renamed))
	lines, err = Lines(revision.ObjectState{Kind: revision.KindPolicy, Before: before, After: after2}, names)
	require.NoError(t, err)
	assert.Equal(t, []Line{
		{Changed, "rule", `"d": Block what is in the list "Betting".`, `"dd": Block what is in the list "Betting".`},
		{Moved, "rule", `"dd"`, `to after "e"`},
	}, lines)

	for _, c := range []struct {
		kind          revision.Kind
		before, after any
		want          []Line
	}{
		{revision.KindSchedule, map[string]any{"id": nurses, "name": "x", "text": "mon 09:00-10:00", "zone": "UTC"}, map[string]any{"id": nurses, "name": "x", "text": "tue 09:00-10:00", "zone": "UTC"}, []Line{{Changed, "text", "mon 09:00-10:00", "tue 09:00-10:00"}}},
		{revision.KindScorecard, map[string]any{"terms": []any{map[string]any{"word": "bet", "points": 3}}, "off": false}, map[string]any{"terms": []any{map[string]any{"word": "bet", "points": 5}, map[string]any{"word": "odds", "points": 1}}, "off": true}, []Line{{Added, "off", "", "yes"}, {Changed, "terms", "points 3, word bet", "points 5, word bet"}, {Added, "terms", "", "points 1, word odds"}}},
		{revision.KindCorrection, map[string]any{"entry": "a.example", "categories": []any{"news"}, "created_at": 1}, map[string]any{"entry": "a.example", "categories": []any{"games"}, "created_at": 2}, []Line{{Removed, "categories", "news", ""}, {Added, "categories", "", "games"}}},
		{revision.KindSettings, map[string]any{"order": []any{map[string]any{"id": nurses}, map[string]any{"id": doctors}}}, map[string]any{"order": []any{map[string]any{"id": doctors}, map[string]any{"id": nurses}}}, []Line{{Moved, "order", "Ward nurses", "to after Doctors"}}},
		{revision.KindException, map[string]any{"for": map[string]any{"everybody": true}, "requestedBy": "x"}, map[string]any{"for": map[string]any{"groups": []any{map[string]any{"id": nurses}}}, "requestedBy": "x"}, []Line{{Changed, "for", "everybody", "groups Ward nurses"}}},
	} {
		lines, err := Lines(revision.ObjectState{Kind: c.kind, Before: object(t, c.kind, "x", c.before), After: object(t, c.kind, "x", c.after)}, names)
		require.NoError(t, err)
		assert.Equal(t, c.want, lines, c.kind)
		same, err := Lines(revision.ObjectState{Kind: c.kind, Before: object(t, c.kind, "x", c.after), After: object(t, c.kind, "x", c.after)}, names)
		require.NoError(t, err)
		assert.Empty(t, same)
	}
	made, err := Lines(revision.ObjectState{Kind: revision.KindPolicy, After: after}, names)
	require.NoError(t, err)
	for _, line := range made {
		assert.Equal(t, Added, line.Mark)
	}
}

// Without the parts reported as moved, both sides have the same order, and no smaller set of parts would do.
func TestRising(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		of := random.Perm(random.IntN(8))
		in := rising(of)
		var kept []int
		for i, stays := range in {
			if stays {
				kept = append(kept, of[i])
			}
		}
		assert.True(t, slices.IsSorted(kept))
		longest := 0
		for set := range 1 << len(of) {
			var some []int
			for i := range of {
				if set>>i&1 == 1 {
					some = append(some, of[i])
				}
			}
			if slices.IsSorted(some) {
				longest = max(longest, len(some))
			}
		}
		assert.Len(t, kept, longest, strconv.Itoa(len(of)))
	}
}

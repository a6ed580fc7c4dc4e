package review

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// holds evaluates a condition, given the values that are met.
func holds(c policy.Cond, met map[string]bool) bool {
	switch c.Op {
	case "", policy.All:
		return !slices.ContainsFunc(c.Of, func(part policy.Cond) bool { return !holds(part, met) })
	case policy.Any:
		return slices.ContainsFunc(c.Of, func(part policy.Cond) bool { return holds(part, met) })
	case policy.None:
		return !slices.ContainsFunc(c.Of, func(part policy.Cond) bool { return holds(part, met) })
	}
	return slices.ContainsFunc(c.Values, func(v string) bool { return met[v] })
}

func anyCond(random *rand.Rand, depth int) policy.Cond {
	parts := func() (all []policy.Cond) {
		for range 1 + random.IntN(3) {
			all = append(all, anyCond(random, depth-1))
		}
		return all
	}
	if depth > 0 {
		switch random.IntN(5) {
		case 0:
			return policy.Cond{Op: policy.All, Of: parts()}
		case 1:
			return policy.Cond{Op: policy.Any, Of: parts()}
		case 2:
			return policy.Cond{Op: policy.None, Of: parts()}
		}
	}
	c := policy.Cond{Op: policy.Method}
	for range 1 + random.IntN(2) {
		c.Values = append(c.Values, []string{"A", "B", "C", "D"}[random.IntN(4)])
	}
	return c
}

// A condition holds exactly if one of its terms holds completely; and what a term implies about another condition is true whenever the term holds.
func TestTermsAgreeWithTheCondition(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(11, 4))
	config, lists := town()
	r := &reviewer{Draft: Draft{Snapshot: policy.New(config), Lists: lists, Now: now}, config: &config, lists: map[string]*List{}, contains: map[[2]string]bool{}}
	known := 0
	for range 2000 {
		c, other := anyCond(random, 3), anyCond(random, 2)
		all, ok := terms(c, false)
		if !ok {
			continue
		}
		for set := range 16 {
			met := map[string]bool{"A": set&1 != 0, "B": set&2 != 0, "C": set&4 != 0, "D": set&8 != 0}
			within := func(tm term) bool {
				return !slices.ContainsFunc(tm, func(l literal) bool { return met[l.value] == l.not })
			}
			require.Equal(t, holds(c, met), slices.ContainsFunc(all, within), "%+v with %v", c, met)
			for _, tm := range all {
				if !within(tm) {
					continue
				}
				switch r.known(tm, other) {
				case 1:
					known++
					require.True(t, holds(other, met), "%v means %+v", tm, other)
				case -1:
					known++
					require.False(t, holds(other, met), "%v rules %+v out", tm, other)
				}
			}
		}
	}
	assert.Greater(t, known, 1000)
	many := policy.Cond{Op: policy.All}
	for range 12 {
		many.Of = append(many.Of, policy.Cond{Op: policy.Any, Of: []policy.Cond{anyCond(random, 0), anyCond(random, 0), anyCond(random, 0)}})
	}
	_, ok := terms(many, false)
	assert.False(t, ok, "too many cases are not looked at")
}

// One list contains another if it covers each of its entries, for at least as long.
func TestHolds(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		list, inner []string
		want        bool
	}{
		{[]string{"heron.example"}, []string{"www.heron.example/map", "=heron.example"}, true},
		{[]string{"heron.example"}, []string{"www.heron.example", "tern.example"}, false},
		{[]string{"heron.example", "tern.*"}, []string{"www.heron.example", "tern.example"}, true},
		{[]string{"heron.example", "! =help.heron.example"}, []string{"www.heron.example"}, false},
		{[]string{"heron.example [off]"}, []string{"heron.example"}, false},
		{[]string{"heron.example [until 2026-12-24]"}, []string{"heron.example"}, false},
		{[]string{"heron.example [until 2026-12-24]"}, []string{"www.heron.example [until 2026-12-24]"}, true},
		{[]string{"heron.example"}, []string{"heron.example", "tern.example [until 2026-01-01]", "! x.heron.example", "# a note"}, true},
		{[]string{"heron.example"}, []string{}, false},
		{[]string{"*"}, []string{`"bet"`, "~ x", "203.0.113.7"}, true},
	} {
		r := &reviewer{Draft: Draft{Now: now}, lists: map[string]*List{}, contains: map[[2]string]bool{}}
		for id, lines := range map[string][]string{"a": c.list, "b": c.inner} {
			l, _ := listOf(id, lines...)
			r.lists[id] = &l
		}
		assert.Equal(t, c.want, r.holds("a", "b"), "%v holds %v", c.list, c.inner)
		assert.Equal(t, c.want, r.holds("a", "b"), "and again, from memory")
		assert.False(t, r.holds("a", "gone"))
	}
}

func TestNeedsPage(t *testing.T) {
	t.Parallel()
	for entry, want := range map[string]bool{
		"heron.example": false, "=heron.example/a": true, "heron.example?q=1": true, "http://heron.example/a": false, "~path ^/a": true, "~host ^a": false, `"bet"`: false, "203.0.113.7/a": true,
	} {
		assert.Equal(t, want, needsPage(pattern.MustParse(entry).Pattern), entry)
	}
}

// Sites that a rule allows and that need a blocked host are found, once for each host, with how often both were seen together.
func TestCompanions(t *testing.T) {
	t.Parallel()
	config, lists := town()
	config.Policies[0].Otherwise = policy.Block
	together := []Companion{
		{weburl.MustParse("avocet.test"), weburl.MustParse("keys.example/sign-in"), 30, 40},
		{weburl.MustParse("=bittern.example"[1:]), weburl.MustParse("keys.example/other"), 21, 40},
		{weburl.MustParse("avocet.test"), weburl.MustParse("www.heron.example/map"), 39, 40},
		{weburl.MustParse("blocked.example"), weburl.MustParse("other-keys.example"), 40, 40},
	}
	found := reviewed(config, lists, func(d *Draft) { d.Together = together })
	var told []Finding
	for _, f := range found {
		if f.Kind == NeedsBlocked {
			told = append(told, f)
		}
	}
	require.Len(t, told, 1, "%v", found)
	assert.Equal(t, `What the rule "narrow" lets in needs keys.example, which is blocked: it was asked for with avocet.test in 30 of 40 cases.`, told[0].Text)
	assert.Equal(t, "=keys.example", told[0].Fix.New)
	assert.Equal(t, "https://keys.example/sign-in", told[0].Shown)
}

func TestLargeLists(t *testing.T) {
	t.Parallel()
	lines := make([]string, mostKept+1)
	for i := range lines {
		lines[i] = fmt.Sprintf("s%d.example", i)
	}
	lines[len(lines)-1] = "heron.example/map"
	large, _ := listOf("a", lines...)
	small, _ := listOf("b", "s1.example")
	r := &reviewer{lists: map[string]*List{"a": &large, "b": &small}, contains: map[[2]string]bool{}}
	assert.False(t, r.holds("a", "b"), "they are not compared")
	assert.Equal(t, []any{mostKept + 1, examples, 1, "heron.example/map"}, []any{large.Size, len(large.Entries), large.pages, large.page.String()},
		"though only the first few are kept, pages are found")
}

package match

import (
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/weburl"
)

func automatonOf(t require.TestingT, exprs ...string) *automaton {
	a := &automaton{}
	for i, expr := range exprs {
		prog, err := syntax.Compile(parseRegex(expr).Simplify())
		require.NoError(t, err, expr)
		require.True(t, a.add(prog, int32(i)))
	}
	a.seal()
	return a
}

// which returns the indexes of the expressions that match a text, each once, in order.
func which(t require.TestingT, a *automaton, text string) []int32 {
	ids, ok := run(a, nil, text)
	require.True(t, ok)
	slices.Sort(ids)
	return slices.Compact(ids)
}

func TestAutomaton(t *testing.T) {
	exprs := []string{
		0:  `heron`,
		1:  `^heron`,
		2:  `heron$`,
		3:  `\bheron\b`,
		4:  `[0-9]{3}`,
		5:  `^$|^x`,
		6:  `(a|b)*c`,
		7:  `\Bron\B`,
		8:  `her.n|bittern`,
		9:  `(?-i:H)eron`,
		10: `(?s:.)x\z`,
	}
	a := automatonOf(t, exprs...)
	for text, want := range map[string][]int32{
		"":           {5},
		"heron":      {0, 1, 2, 3, 8},
		"HERON":      {0, 1, 2, 3, 8, 9},
		"a heron b":  {0, 3, 8},
		"xheronx":    {0, 5, 7, 8, 10},
		"123":        {4},
		"12 34":      nil,
		"aabbc":      {6},
		"x":          {5},
		"her\nn":     nil,
		"heron\n":    {0, 1, 3, 8},
		"no-bittern": {8},
	} {
		assert.Equal(t, want, which(t, a, text), "%q", text)
	}
	_, ok := run(a, nil, "möwe")
	assert.False(t, ok, "what is not ASCII is for the expressions one by one")
}

// The automaton agrees with each expression by itself.
func TestAutomatonAgreesWithRegexp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		exprs := make([]string, rapid.IntRange(1, 6).Draw(t, "n"))
		for i := range exprs {
			exprs[i] = rapid.SampledFrom([]string{"", "", "^", `\b`, `(?m)^`}).Draw(t, "begin") + anyExpr(t, 2) + rapid.SampledFrom([]string{"", "", "$", `\b`, `\B`, `(?m:$)`}).Draw(t, "end")
		}
		a := automatonOf(t, exprs...)
		for range 6 {
			text := rapid.StringMatching(`[abAB0./\n-]{0,10}`).Draw(t, "text")
			var want []int32
			for i, expr := range exprs {
				if regexp.MustCompile("(?i)" + expr).MatchString(text) {
					want = append(want, int32(i))
				}
			}
			assert.Equal(t, want, which(t, a, text), "%q on %q", exprs, text)
		}
	})
}

func anyExpr(t *rapid.T, depth int) string {
	piece := rapid.SampledFrom([]string{"a", "b", "ab", ".", "[ab]", "[^a]", `\.`, `\d`, `\w`, "A", "-"}).Draw(t, "piece")
	if depth == 0 {
		return piece
	}
	switch rapid.IntRange(0, 4).Draw(t, "form") {
	case 0:
		return "(" + anyExpr(t, depth-1) + "|" + anyExpr(t, depth-1) + ")"
	case 1:
		return "(" + anyExpr(t, depth-1) + ")" + rapid.SampledFrom([]string{"?", "*", "+", "{2}", "{0,2}"}).Draw(t, "times")
	}
	return piece + anyExpr(t, depth-1)
}

// Several goroutines build states of one automaton at once.
func TestAutomatonIsSafeForConcurrentUse(t *testing.T) {
	a := automatonOf(t, `[a-c]+[0-9]{2}`, `^x[a-f]{3}`, `(ab|cd)+$`)
	texts := make([]string, 300)
	want := make([][]int32, len(texts))
	fresh := automatonOf(t, `[a-c]+[0-9]{2}`, `^x[a-f]{3}`, `(ab|cd)+$`)
	for i := range texts {
		texts[i] = strings.Repeat(string(rune('a'+i%5)), i%7) + strings.Repeat("ab", i%3) + strings.Repeat("7", i%4)
		want[i] = which(t, fresh, texts[i])
	}
	var all sync.WaitGroup
	for worker := range 8 {
		all.Go(func() {
			for i := range texts {
				at := (i*7 + worker*31) % len(texts)
				assert.Equal(t, want[at], which(t, a, texts[at]))
			}
		})
	}
	all.Wait()
}

// States beyond the bound are dropped and built again; if that happens after hardly any text, the automaton gives up, and
// the sieve tries the expressions one by one.
func TestAutomatonIsBounded(t *testing.T) {
	a := automatonOf(t, `[ab].{12}c`)
	a.size = maxStates + 1
	a.scanned.Store(1 << 30)
	assert.Equal(t, []int32{0}, which(t, a, "a"+strings.Repeat("x", 12)+"c"), "the states are made again")
	assert.False(t, a.broken.Load())
	a.size = maxStates + 1
	a.scanned.Store(0)
	_, ok := run(a, nil, "bbbbbbbbbbbbbbbbbbbbb~")
	assert.False(t, ok)
	assert.True(t, a.broken.Load())
	_, ok = run(a, nil, "a")
	assert.False(t, ok, "it stays so")

	x := New([]List{{ID: "l", Entries: entries("~host [a-c].{3}d$", "~host ^[xyz]+$")}})
	x.parts[0].sieve.autos[onHost].broken.Store(true)
	assert.Equal(t, []string{"l[0] [] yes"}, asText(x.Cover(mustURL("axxxd"), today, weburl.Full)))
	assert.Equal(t, []string{"l[1] [] yes"}, asText(x.Cover(mustURL("xyzzy"), today, weburl.Full)))
}

func TestAutomatonHasRoomForSoMany(t *testing.T) {
	a := &automaton{}
	prog, err := syntax.Compile(parseRegex(strings.Repeat("[ab]", 500)).Simplify())
	require.NoError(t, err)
	added := 0
	for a.add(prog, int32(added)) {
		added++
	}
	assert.Positive(t, added)
	assert.LessOrEqual(t, len(a.insts), maxInsts)
	var lines []string
	for range 40 {
		lines = append(lines, "~path ^/"+strings.Repeat("[0-9a-f]", 200+len(lines))+"$")
	}
	x := New([]List{{ID: "l", Entries: entries(lines...)}})
	assert.NotEmpty(t, x.parts[0].sieve.single, "those without room are tried by themselves")
	for i := range lines {
		assert.Equal(t, 1, x.Count(mustURL("heron.example/"+strings.Repeat("7", 200+i)), today), i)
	}
}

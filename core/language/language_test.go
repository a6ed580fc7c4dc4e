package language

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var exprs = rapid.Custom(func(t *rapid.T) string {
	return rapid.StringMatching(`(\^|\\b|\(\?i\))?([ab]|\[ab\]|\.|a\*|b\+|\(a\|bc\)|\\.|[^a]|\\w|ab\?){1,4}(\$|\\b)?`).Draw(t, "expression")
})

// A witness is accepted by all and not by without; if there is none, no short text is such a witness.
func TestWitnessOfLanguages(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := exprs.Draw(t, "a"), exprs.Draw(t, "b")
		whole := func(expr string) *regexp.Regexp {
			re, err := regexp.Compile(`(?s)\A(?:` + expr + `)\z`)
			if err != nil {
				t.Skip("not an expression")
			}
			return re
		}
		reA, reB := whole(a), whole(b)
		text, found, decided := Witness(a, b)
		assert.True(t, decided, "%s without %s", b, a)
		if found {
			assert.True(t, reB.MatchString(text), "%q is in %s", text, b)
			assert.False(t, reA.MatchString(text), "%q is not in %s", text, a)
			return
		}
		for _, try := range shortTexts {
			if reB.MatchString(try) {
				assert.True(t, reA.MatchString(try), "%s covers %s, and %q, too", a, b, try)
			}
		}
	})
}

// shortTexts returns all texts of up to four letters of an alphabet.
var shortTexts = func() []string {
	all := []string{""}
	for from, length := 0, 0; length < 4; length++ {
		to := len(all)
		for _, text := range all[from:to] {
			for _, c := range []string{"a", "b", "c", "A", ".", "-"} {
				all = append(all, text+c)
			}
		}
		from = to
	}
	return all
}()

func TestWitnessIsShortest(t *testing.T) {
	for _, c := range []struct{ without, in, want string }{
		{"", "a{3}b*", "aaa"}, {"a*", "(a|b)*", "b"}, {"(?:x|a)*", "[a-z]+", "b"}, {".*", ".*", ""}, {`(?:.*[^\p{L}\p{N}])?bet(?:[^\p{L}\p{N}].*)?`, "(?:a|b|e|t|-)*bet", "xbet"},
	} {
		text, found, decided := Witness(c.without, c.in)
		assert.True(t, decided)
		if c.want == "" {
			assert.False(t, found, "%s without %s: %q", c.in, c.without, text)
			continue
		}
		assert.True(t, found, "%s without %s", c.in, c.without)
		assert.Len(t, text, len(c.want), "%s without %s: %q", c.in, c.without, text)
	}
	_, _, decided := Witness("", `(a|b)*a(a|b){18}`, `(a|b)*b(a|b){18}`)
	assert.False(t, decided, "what would take too long is not decided")
	_, _, decided = Witness("(", "a")
	assert.False(t, decided, "what is not an expression is not decided")
}

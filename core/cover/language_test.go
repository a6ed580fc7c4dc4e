package cover

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/core/pattern"
)

var exprs = rapid.Custom(func(t *rapid.T) string {
	return rapid.StringMatching(`(\^|\\b|\(\?i\))?([ab]|\[ab\]|\.|a\*|b\+|\(a\|bc\)|\\.|[^a]|\\w|ab\?){1,4}(\$|\\b)?`).Draw(t, "expression")
})

// A text that is found is accepted by all and not by the other; where none is found, no short text is.
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
		text, found, decided := witness(a, b)
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

// shortTexts are all texts of up to four of some letters.
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
		text, found, decided := witness(c.without, c.in)
		assert.True(t, decided)
		if c.want == "" {
			assert.False(t, found, "%s without %s: %q", c.in, c.without, text)
			continue
		}
		assert.True(t, found, "%s without %s", c.in, c.without)
		assert.Len(t, text, len(c.want), "%s without %s: %q", c.in, c.without, text)
	}
	_, _, decided := witness("", `(a|b)*a(a|b){18}`, `(a|b)*b(a|b){18}`)
	assert.False(t, decided, "what would take too long is not decided")
	_, _, decided = witness("(", "a")
	assert.False(t, decided, "what is no expression is not decided")
}

// Answers that are worth reading one by one.
func TestRelations(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		a, b  string
		want  Answer
		shown string // of a no
	}{
		{"*.heron.example", "www.heron.example/map", Yes, ""},
		{"www.heron.example", "*.heron.example", No, "https://x.heron.example/"},
		{"heron.*", "heron.co.uk", Yes, ""},
		{"heron.*", "www.heron.test", Yes, ""},
		{"heron.*", "*heron.example", No, "https://xheron.example/"},
		{"heron.example", "heron.*", No, "https://heron.x/"},
		{"*heron*", "heron.*", Yes, ""},
		{"203.0.113.0/24", "203.0.113.64/26", Yes, ""},
		{"203.0.113.64/26", "203.0.113.0/24", No, "https://203.0.113.0/"},
		{"2001:db8::/32", "2001:db8:7::1", Yes, ""},
		{"heron.example", "203.0.113.7", No, "https://203.0.113.7/"},
		{"heron.example/wards", "heron.example/wards/*/map", Yes, ""},
		{"heron.example/*/map", "heron.example/**/map", No, "https://heron.example/map"},
		{"heron.example/**/map", "heron.example/*/map", Yes, ""},
		{"=heron.example/wards", "heron.example/wards", No, ""},
		{"heron.example?q=*boat*", "heron.example?q=boats&x=1", Yes, ""},
		{"heron.example?q=*boat*", "heron.example?q=*oat", No, ""},
		{"heron.example:81", "heron.example", No, ""},
		{"heron.example", "https://heron.example:8443", Yes, ""},
		{`"bet*"`, `"betting"`, Yes, ""},
		{`"bet"`, `"bet*"`, No, ""},
		{`"heron"`, "heron.example", Yes, ""},
		{`"heron"`, "*heron.example", No, "https://xheron.example/"},
		{`"map"`, "heron.example/*/map", Yes, ""},
		{`"boat"`, "heron.example?q=boat", Yes, ""},
		{"~host heron", "*heron*", Yes, ""},
		{"~host ^heron", "heron.example", No, "https://x.heron.example/"},
		{`~host (^|\.)heron\.example$`, "heron.example", Yes, ""},
		{"heron.example", `~host (^|\.)heron\.example$`, Yes, ""},
		{"heron.example", `~host heron\.example$`, No, "https://xheron.example/"},
		{"*/wards", "~path ^/wards/", Yes, ""},
		{"~path ^/wards", "heron.example/wards", Yes, ""},
		{"~ ^https?://[^/]*heron", "*heron*", Yes, ""},
		{"~host a+", "~host aa", Yes, ""},
		{"~host aa", "~host a+", No, "https://a/"},
		{`~host \bbet\b`, "bet.example", Yes, ""},
		{"~path x", "~host x", NotDecided, ""},
		{"*", "~ anything", Yes, ""},
	} {
		r := Of(pattern.MustParse(c.a).Pattern, pattern.MustParse(c.b).Pattern)
		if c.want == NotDecided {
			assert.NotEqual(t, Yes, r.Answer, "%s and %s", c.a, c.b)
			continue
		}
		assert.Equal(t, c.want, r.Answer, "%s and %s", c.a, c.b)
		if c.shown != "" {
			assert.Equal(t, c.shown, r.Shown.String(), "%s and %s", c.a, c.b)
		}
	}
	assert.Equal(t, NotDecided, Of(pattern.Pattern{}, pattern.MustParse("heron.example").Pattern).Answer)
}

// Whatever two lines somebody writes: a yes is never refuted by what the other is known to cover, a no has its proof.
func FuzzOf(f *testing.F) {
	f.Add("*.heron.example", "www.heron.example/map") // a page of a host below
	f.Add("heron.*", "*heron.co.uk")                  // a suffix of two labels
	f.Add(`~host \bbet`, `"bet*"`)                    // an assertion, and a word
	f.Add("heron.example/**/a?q=*b*", "heron.example/a/a?q=b&q=c")
	f.Fuzz(func(t *testing.T, first, second string) {
		a, errA := pattern.Parse(first)
		b, errB := pattern.Parse(second)
		if errA != nil || errB != nil || !a.Pattern.IsValid() || !b.Pattern.IsValid() || len(first)+len(second) > 200 {
			return
		}
		r := Of(a.Pattern, b.Pattern)
		u, ok := Witness(b.Pattern)
		switch {
		case r.Answer == No:
			assert.True(t, Covers(b.Pattern, r.Shown) && !Covers(a.Pattern, r.Shown), "%s", r.Shown)
		case r.Answer == Yes && ok:
			assert.True(t, Covers(a.Pattern, u), "%s covers %s, and not %s", first, second, u)
		}
		assert.Equal(t, Yes, Of(a.Pattern, a.Pattern).Answer)
	})
}

package pattern

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// slowDecode decodes with the library's functions: a readable reference.
func slowDecode(text string, form bool) string {
	if form {
		text = strings.ReplaceAll(text, "+", " ")
	}
	var b strings.Builder
	for len(text) > 0 {
		size := 1
		piece := text[:1]
		if len(text) >= 3 && text[0] == '%' {
			if decoded, err := url.PathUnescape(text[:3]); err == nil {
				piece, size = decoded, 3
			}
		}
		b.WriteString(piece)
		text = text[size:]
	}
	return strings.ToLower(strings.ToValidUTF8(b.String(), "\uFFFD"))
}

func TestDecodeAgreesWithTheLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{
			"a", "B", "%", "%4", "%41", "%c3", "%C3%84", "%e2%82%ac", "%e2%82", "ä", "Ä", "\xc3", "\xff", "+", "%2B", "%25", "İ", "%f0%9f%90%a6", "\uFFFD",
		}), 0, 8).Draw(t, "pieces"), "")
		assert.Equal(t, slowDecode(text, false), Decode(text), "%q", text)
		assert.Equal(t, slowDecode(text, true), DecodeForm(text), "%q", text)
		assert.Equal(t, "x"+slowDecode(text, true), string(AppendDecoded([]byte("x"), text, true)), "%q", text)
	})
}

func TestGlob(t *testing.T) {
	for glob, rows := range map[string][2]string{ // what it matches, and what not, separated by blanks
		"a":     {"a", "aa b"},
		"a*":    {"a ab a*", "ba"},
		"*a":    {"a ba", "ab"},
		"a*a":   {"aa aba", "a ab"},
		"*a*b*": {"ab xaxbx", "ba a"},
		"a*b*c": {"abc axbxc abbc", "acb ab"},
	} {
		for text := range strings.FieldsSeq(rows[0]) {
			assert.True(t, ParseGlob(glob).Match(text), "%s, %s", glob, text)
		}
		for text := range strings.FieldsSeq(rows[1]) {
			assert.False(t, ParseGlob(glob).Match(text), "%s, %s", glob, text)
		}
	}
	assert.True(t, ParseGlob("*").Match(""))
	assert.Zero(t, testing.AllocsPerRun(10, func() { Glob{"a", "b", "c"}.Match("axxbxxc") }))
}

func TestNamed(t *testing.T) {
	for _, line := range []string{"heron.example", "=heron.example", "*.heron.example"} {
		p := MustParse(line).Pattern
		assert.True(t, p.IsNamed())
		assert.Equal(t, p, Named(p.Name(), p.Scope()))
		assert.Equal(t, line, Named(p.Name(), p.Scope()).Key())
	}
	for _, line := range []string{"möwe.example", "heron.*", "*heron*", "heron.example/x", "http://heron.example", "heron.example:81", "203.0.113.7", "*", "*.*", `"heron"`, "~ heron", "heron.example?q"} {
		assert.False(t, MustParse(line).Pattern.IsNamed(), line)
	}
}

func TestDates(t *testing.T) {
	day, next := Date{2026, 2, 28}, Date{2026, 3, 1}
	assert.True(t, day.Before(next))
	assert.False(t, next.Before(day))
	assert.False(t, day.Before(day))
	assert.True(t, Date{2025, 12, 31}.Before(day))
	assert.Equal(t, day, DateOfUnix(day.Time().Unix()))
	assert.Equal(t, day, DateOfUnix(day.Time().Unix()+86_399))
}

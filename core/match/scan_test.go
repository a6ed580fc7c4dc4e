package match

import (
	"regexp"
	"regexp/syntax"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

func needsOf(t require.TestingT, expr string) []string {
	tree, err := syntax.Parse(expr, syntax.Perl)
	require.NoError(t, err, expr)
	return required(tree)
}

func TestRequired(t *testing.T) {
	for expr, want := range map[string][]string{
		`heron`:                            {"heron"},
		`^HERON\.test$`:                    {"heron.test"},
		`(heron|bittern)s?\.example`:       {"heron", "bittern"},
		`heron(x|yy)`:                      {"heron"}, // the other piece is too short
		`(heron)+/wards`:                   {"/wards"},
		`h.*bittern[0-9]+crane`:            {"bittern"},
		`(heron)?`:                         nil, // may be missing
		`(heron|[a-z]+)`:                   nil, // the other way says nothing
		`[0-9]+/[a-f]{8}`:                  nil,
		`(heron){2,3}`:                     {"heron"},
		`(heron){0,3}bittern`:              {"bittern"},
		`www\.`:                            nil, // stands in nearly every URL
		`a|b|c`:                            nil,
		`möwe`:                             nil, // no canonical URL holds it
		`(?-i)Heron`:                       {"heron"},
		strings.Repeat("(reed|rush)", 3):   {"eed", "ush"}, // the parser takes the common "r" out
		`(a1x|b2x|c3x|d4x)(heron|bittern)`: {"heron", "bittern"},
	} {
		assert.Equal(t, want, needsOf(t, expr), expr)
	}
	many := ""
	for _, first := range "abcdefghijklmnopqrstuvwxyz0123456789" {
		many += "|" + string(first) + "eed"
	}
	many = many[1:]
	assert.Nil(t, needsOf(t, many), "with so many, trying costs less than looking")
}

// Every text that an expression matches contains one of its literals.
func TestRequiredIsNeverTooMuch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var expr func(depth int) string
		expr = func(depth int) string {
			piece := rapid.StringMatching(`[abAB.]{0,3}`).Draw(t, "piece")
			if depth == 0 {
				return piece
			}
			switch rapid.IntRange(0, 5).Draw(t, "form") {
			case 0:
				return "(" + expr(depth-1) + "|" + expr(depth-1) + ")"
			case 1:
				return "(" + expr(depth-1) + ")" + rapid.SampledFrom([]string{"?", "*", "+", "{2}", "{0,1}"}).Draw(t, "times")
			case 2:
				return "[ab]" + expr(depth-1)
			default:
				return expr(depth-1) + piece + expr(depth-1)
			}
		}
		text := expr(3)
		re := regexp.MustCompile("(?i)" + text)
		needs := needsOf(t, text)
		if needs == nil {
			return
		}
		for range 20 {
			subject := rapid.StringMatching(`[abAB.]{0,12}`).Draw(t, "subject")
			if !re.MatchString(subject) {
				continue
			}
			holds := false
			for _, need := range needs {
				holds = holds || strings.Contains(strings.ToLower(subject), need)
			}
			assert.True(t, holds, "%s matches %s, which holds none of %q", text, subject, needs)
			for _, literal := range mandatory(parseRegex(text), nil) {
				assert.Contains(t, strings.ToLower(subject), literal, text)
			}
		}
	})
}

// Only patterns whose literal occurs are tried, each once; those without a literal run together.
func TestSieveTriesFew(t *testing.T) {
	var lines []string
	for _, bird := range []string{"heron", "bittern", "crane", "egret"} {
		lines = append(lines, "*"+bird+"*", `"`+bird+`"`, "~host "+bird+"[0-9]", "~path ^/[0-9]$")
	}
	x := New([]List{{ID: "l", Entries: entries(lines...)}})
	s := &scratch{}
	u := weburl.MustParse("https://heron.example/heron/heron?heron")
	x.gather(s, &u, today, weburl.Full, true)
	tried := 0
	for n, stamp := range s.stamps {
		if stamp > 0 {
			tried++
			assert.Equal(t, []string{"heron"}, x.parts[0].sieve.scans[n].needs)
		}
	}
	assert.Equal(t, 3, tried)
	assert.Len(t, x.parts[0].sieve.autos[onPath].members, 4)
}

func TestPathGlob(t *testing.T) {
	for glob, rows := range map[string][2]string{ // what it covers exactly, and what not, separated by blanks
		"/*/map":    {"/a/map", "/map //map /a/b/map /a/mapx"},
		"/**/map":   {"/map /a/map /a/b/map", "/amap"},
		"/a/**":     {"/a /a/b /a/b/c", "/ab /b"},
		"/a*z":      {"/az /abz /aazz", "/a/z /azb"},
		"/a**z":     {"/az /a/z /a/b/cz", "/azb"},
		"/x.y+(*)":  {"/x.y+() /x.y+(b)", "/xzy+(b)"},
		"/*-*/**/q": {"/a-b/q /-/1/2/q", "/ab/q"},
	} {
		re := pathGlob(glob, true)
		for path := range strings.FieldsSeq(rows[0]) {
			assert.True(t, re.MatchString(path), "%s covers %s", glob, path)
			assert.True(t, pathGlob(glob, false).MatchString(path+"/below"), "%s covers below %s", glob, path)
		}
		for path := range strings.FieldsSeq(rows[1]) {
			assert.False(t, re.MatchString(path), "%s does not cover %s", glob, path)
		}
	}
	assert.Equal(t, pattern.PathGlob, pattern.MustParse("heron.example/*/map").Pattern.Kind())
}

package pattern

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var update = flag.Bool("update", false, "write the golden files anew")

// TestNotation reads every line of a corpus with both readings and compares the results with a golden file, which people have reviewed.
func TestNotation(t *testing.T) {
	corpus, err := os.ReadFile("testdata/notation.txt")
	require.NoError(t, err)
	var b strings.Builder
	for line := range strings.SplitSeq(strings.TrimSuffix(string(corpus), "\n"), "\n") {
		fmt.Fprintf(&b, "%s\n", line)
		if line == "" || strings.HasPrefix(line, "# ") {
			continue
		}
		checkLine(t, line)
		entry, err := Parse(line)
		fmt.Fprintf(&b, "    exact    %s\n", asText([]Entry{entry}, err))
		mended, err := Mend(line)
		if again := asText(mended.Entries, err); again != asText([]Entry{entry}, nil) || len(mended.Changes) > 0 {
			fmt.Fprintf(&b, "    mending  %s\n", again)
		}
		for _, change := range mended.Changes {
			fmt.Fprintf(&b, "             (%s)\n", change)
		}
	}
	if *update {
		require.NoError(t, os.WriteFile("testdata/notation.golden", []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/notation.golden")
	require.NoError(t, err)
	assert.Equal(t, string(want), b.String())
}

func asText(entries []Entry, err error) string {
	var wrong *Error
	if errors.As(err, &wrong) {
		return fmt.Sprintf("refused at %d, %s: %s", wrong.Column, wrong.Code, wrong)
	}
	var all []string
	for _, e := range entries {
		if e == (Entry{}) {
			continue
		}
		all = append(all, fmt.Sprintf("%s: %s | %s", e.Kind(), e, Explain(e)))
	}
	return strings.Join(all, "\n             ")
}

// checkLine checks the properties of every line, good or bad.
func checkLine(t assert.TestingT, line string) {
	width := len([]rune(line))
	check := func(entry Entry) {
		again, err := Parse(entry.String())
		if assert.NoError(t, err, "%q gave %s", line, entry) {
			assert.Equal(t, entry, again, "%q", line)
			assert.Equal(t, entry.Key(), again.Key(), "%q", line)
		}
		assert.Equal(t, entry.Kind() == Note, entry.Key() == "", "%q", line)
		assert.LessOrEqual(t, len(entry.Key()), MaxLength, "%q", line)
	}
	refused := func(err error) {
		var wrong *Error
		for _, raw := range []string{"error parsing", "strconv", "netip", "ParseAddr", "idna:", "parse \"", "can be kept as it is written"} {
			assert.NotContains(t, err.Error(), raw, "%q", line)
		}
		if assert.ErrorAs(t, err, &wrong, "%q", line) {
			assert.True(t, wrong.Column >= 1 && wrong.Column <= width+1, "%q: column %d", line, wrong.Column)
			assert.Contains(t, Codes, wrong.Code)
			if wrong.Suggestion != "" {
				suggested, err := Parse(wrong.Suggestion)
				assert.NoError(t, err, "%q suggests %q", line, wrong.Suggestion)
				assert.Equal(t, wrong.Suggestion, suggested.String(), "%q", line)
			}
		}
	}
	entry, err := Parse(line)
	if err != nil {
		refused(err)
	} else {
		check(entry)
	}
	mended, err := Mend(line)
	if err != nil {
		refused(err)
	}
	for _, entry := range mended.Entries {
		check(entry)
	}
	if err == nil && entry != (Entry{}) && len(mended.Changes) == 0 {
		assert.Equal(t, []Entry{entry}, mended.Entries, "%q: what is notation is taken as it is", line)
	}
}

// The examples in the comments of the codes give these codes.
func TestCodeExamples(t *testing.T) {
	source, err := os.ReadFile("error.go")
	require.NoError(t, err)
	examples := regexp.MustCompile(`// Example: (.+)\n\t\w+ Code = "([a-z-]+)"`).FindAllStringSubmatch(string(source), -1)
	require.Len(t, examples, 8)
	for _, example := range examples {
		_, err := Parse(example[1])
		var wrong *Error
		if assert.ErrorAs(t, err, &wrong, example[1]) {
			assert.Equal(t, Code(example[2]), wrong.Code, example[1])
		}
	}
}

// anyLine draws lines of notation and similar ones: with brackets in places where they mean nothing, addresses of both
// kinds in all their spellings, letters that fold to more than one, ports, and parts that are empty.
func anyLine(t *rapid.T) string {
	pick := func(name string, from ...string) string { return rapid.SampledFrom(from).Draw(t, name) }
	name := rapid.StringMatching(`(\*\.|=|\.|\*)?[a-cÄßİ＿＊－é0-9_。．ﬁⅧ\x{ad}\x{200d}⒈\-\[\]]{1,4}([.．][a-c*İ＿\x{ad}1]{1,3}){0,2}\.?`).Draw(t, "name")
	name = pick("host", name, name, name, "203.0.113.7", "[2001:db8::7]", "2001:db8::7", "[::ffff:203.0.113.7]", "0x7f.1", "10", "heron.xn--", "a_b.bücher.example", "ｈ＿.example", "*.*", "*", "**", "*.", "..", "")
	port := pick("port", "", "", "", ":80", ":443", ":0", ":", ":8443")
	path := pick("path", "", "", "/", "//", "/.", "/a[1]/", "/a[off]", "/[off]/", "/24", "/024", "/A/../b/", "/%c3%84", "/%%2e", "/%C%33", "/100%", "//x", "/x y", "/*/b**", "/İ", "/a\\b", "/255.255.255.0")
	query := pick("query", "", "", "", "?q=1", "?A=*b&c", "?", "?=", "?a&&b", "?q=%7e%", "?q=%2A", "?[off]", "?q=a#b")
	before := pick("before", "", "", "", "! ", "!", "=", "https://", "http://", "=http://", "*", "\"", "“", "~ ", "~host ", "~path ", "~ host ", "0.0.0.0 ", "- ", "<", "||", "1,", "domain:")
	after := pick("after", "", "", "", " # note", "[off]", " [off]", "\t[ OFF ]", " [until 2026-12-24]", " [x]", " []", ",", ">", "^", "\"", "”", " [off] [off]")
	return before + name + port + path + query + after
}

func TestLinesHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { checkLine(t, anyLine(t)) })
}

func FuzzParsePrint(f *testing.F) {
	f.Add("! *.heron.*/Wards [until 2026-12-24, off] # why") // everything at once
	f.Add("~host ^heron[off]")                               // a bracket that is attributes after a regex
	f.Add("müßig。example/%c3%84")                            // Unicode in host and path
	f.Add("=http://[2001:db8::7]:80/a[1]/?q=%2A&r [off]")    // brackets of three kinds
	f.Add("=*.İ＿.example/")                                  // a letter that folds to two, the front page
	f.Fuzz(func(t *testing.T, line string) {
		if !strings.ContainsAny(line, "\r\n") {
			checkLine(t, line)
		}
	})
}

func FuzzMend(f *testing.F) {
	f.Add("0.0.0.0 a.example b.example # two")
	f.Add("<hxxps[://]heron[.]example/x>,")
	f.Add("• https://u:p@heron.example:80/a?b#c [off]")
	f.Fuzz(func(t *testing.T, line string) {
		if !strings.ContainsAny(line, "\r\n") {
			checkLine(t, line)
		}
	})
}

func TestInForce(t *testing.T) {
	day := func(text string) Date {
		d, err := ParseDate(text)
		require.NoError(t, err)
		return d
	}
	for line, want := range map[string][2]bool{ // on the last day, and on the day after
		"heron.example":                         {true, true},
		"heron.example [until 2026-12-24]":      {true, false},
		"heron.example [off]":                   {false, false},
		"heron.example [until 2026-12-24, off]": {false, false},
		"# a note":                              {false, false},
	} {
		e := MustParse(line)
		assert.Equal(t, want, [2]bool{e.InForce(day("2026-12-24")), e.InForce(day("2026-12-25"))}, line)
	}
	assert.Equal(t, "2026-12-24", day("2026-12-24").String())
	assert.Empty(t, Date{}.String())
}

func TestMoreSpecific(t *testing.T) {
	order := []string{ // the more specific first
		"=heron.example/wards", "heron.example/wards/map", "*.a.heron.example/wards", "heron.example/wards", "heron.example/w*ards", "heron.example/w**ards", "=heron.example", "b.a.heron.example",
		"a.heron.example", "*.heron.example", "http://heron.test:81", "http://heron.test", "heron.test", "h*eron.test", "heron.*", "*heron*", "203.0.113.7", "203.0.113.0/24", "~ heron", `"heron"`, "*",
	}
	for i, a := range order {
		for j, b := range order {
			got := MoreSpecific(MustParse(a).Pattern, MustParse(b).Pattern)
			assert.Equal(t, -MoreSpecific(MustParse(b).Pattern, MustParse(a).Pattern), got, "%s and %s", a, b)
			if i < j {
				assert.LessOrEqual(t, got, 0, "%s before %s", a, b)
			}
		}
	}
	assert.Negative(t, MoreSpecific(MustParse("=heron.example").Pattern, MustParse("a.b.heron.example").Pattern))
}

// An address is read as the entry that it means, in whatever form people keep it.
func TestMendForms(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		host := rapid.StringMatching(`[a-z]{1,5}(-[a-z0-9]{1,3})?\.[a-z]{2,5}\.(example|test)`).Draw(t, "host")
		path := rapid.StringMatching(`(/[a-z0-9]{1,4}){0,2}`).Draw(t, "path")
		want := MustParse(host + path)
		dot := rapid.SampledFrom([]string{"[.]", "(.)", "{.}", "[dot]", " (dot) ", "(DOT)"}).Draw(t, "dot")
		defanged := strings.ReplaceAll(host, ".", dot) + path
		for _, form := range []string{
			host + path, host + path + "/", " " + host + path + "\t", "https://" + host + path, "HTTP://" + strings.ToUpper(host) + path,
			"http://u:p@" + host + ":80" + path + "?x=1&y#z", "//" + host + path, defanged, "hxxp://" + defanged, "hxxps[://]" + defanged,
			"hXXp[:]//" + defanged, "<" + host + path + ">", "<https://" + host + path + ">,", "“" + host + path + "”", "'" + host + path + "';",
			"- " + host + path, "• https://" + host + path, "3) " + host + path, "\u200b" + host + path, "\u00a0" + host + path, "`" + host + path + "`",
		} {
			mended, err := Mend(form)
			require.NoError(t, err, "%q", form)
			require.Len(t, mended.Entries, 1, "%q", form)
			assert.Equal(t, want, mended.Entries[0], "%q", form)
			if _, err := Parse(form); err != nil {
				assert.NotEmpty(t, mended.Changes, "%q: what was changed is reported", form)
			}
		}
		if path != "" {
			return
		}
		mended, err := Mend("0.0.0.0\t" + host + " www." + host + " # both")
		require.NoError(t, err)
		assert.Equal(t, []Entry{MustParse("=" + host + " # both"), MustParse("=www." + host + " # both")}, mended.Entries)
	})
}

func TestSuggestions(t *testing.T) {
	for line, want := range map[string]string{
		"heron..example":                          "heron.example",
		".heron.example # why":                    "*.heron.example # why",
		"heron,example/wards":                     "heron.example/wards",
		"heron. example":                          "heron.example",
		"heron.example\\wards":                    "heron.example/wards",
		"edda@heron.example":                      "heron.example",
		"htp://heron.example":                     "heron.example",
		"https//heron.example/wards":              "heron.example/wards",
		"hhtps://heron.example/wards?tab=1#top":   "heron.example/wards",
		"heron.example [till 2026-12-24]":         "heron.example [until 2026-12-24]",
		"heron.example [expires: 2026-12-24] # x": "heron.example [until 2026-12-24] # x",
		"heron.example [disabled]":                "heron.example [off]",
		"heron.example.,":                         "heron.example",
		"what on earth is this":                   "",
		"~ heron(":                                "",
	} {
		_, err := Parse(line)
		var wrong *Error
		require.ErrorAs(t, err, &wrong, line)
		assert.Equal(t, want, wrong.Suggestion, line)
	}
}

// An entry, also an unreadable one, is written as its line and read back unchanged.
func TestEntriesTravelAsLines(t *testing.T) {
	for _, line := range []string{"heron.example", "! =heron.example/wards [until 2026-12-24, off] # why", "# a note", "", "bad..name", "~ ("} {
		var read struct{ Entries []Entry }
		require.NoError(t, json.Unmarshal([]byte(`{"Entries":[`+strconv.Quote(line)+`]}`), &read))
		entry := read.Entries[0]
		_, err := Parse(line)
		assert.Equal(t, err, entry.Err(), "%q", line)
		assert.Equal(t, Keep(line), read.Entries)
		sent, err := json.Marshal(read)
		require.NoError(t, err)
		assert.JSONEq(t, `{"Entries":[`+strconv.Quote(line)+`]}`, string(sent))
	}
}

package listfile

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/test/patterntest"
)

// asText reads a file and returns the outcome of each line.
func asText(t *testing.T, text string, o Options) []string {
	t.Helper()
	var lines []string
	require.NoError(t, Read(strings.NewReader(text), o, func(l pattern.Line) error {
		said := fmt.Sprint(l.Number, " ", l.Outcome())
		for _, e := range l.Entries {
			said += " " + e.String()
		}
		if l.Err != nil {
			said += fmt.Sprint(" ", l.Err.Line, " ", l.Err.Found)
		}
		lines = append(lines, said)
		return nil
	}))
	return lines
}

func TestRead(t *testing.T) {
	csv := "\ufeffNo,Site,Why,Ends\n1,heron.example,\"asked,\nfor\",2026-12-24\n2,https://Bittern.example/,,\n3,,x,\n4,bad..example,,\n5,crane.example,,soon\n6\n"
	options := Options{Format: CSV, Reading: pattern.Mending, Entry: "site", Note: "why", Until: "4"}
	assert.Equal(t, []string{
		"2 good heron.example [until 2026-12-24] # asked, for", "4 changed bittern.example", "5 blank", "6 refused 6 ..", "7 refused 7 soon", "8 blank",
	}, asText(t, csv, options))
	options.Entry = "host"
	err := Read(strings.NewReader(csv), options, nil)
	assert.EqualError(t, err, `the file has no column "host"; its first row names "No", "Site", "Why", "Ends"`)

	json := `{"entry":"heron.example","note":"a\nb"}` + "\n\n" + `{"entry":"=bittern.example","carveOut":true,"off":true,"until":"2026-12-24"}` + "\nnonsense\n" + `{"host":"x"}` + "\n"
	assert.Equal(t, []string{
		"1 good heron.example # a b", "2 blank", "3 good ! =bittern.example [until 2026-12-24, off]", "4 refused 4 nonsense", `5 refused 5 {"host":"x"}`,
	}, asText(t, json, Options{Format: JSONLines, Reading: pattern.Exact}))
	assert.Equal(t, []string{"1 good x"}, asText(t, `{"host":"x"}`, Options{Format: JSONLines, Entry: "host"}))
	assert.Equal(t, []string{"1 refused 1 more text"}, asText(t, `{"entry":"`+strings.Repeat("x", pattern.MaxLine)+`"}`, Options{Format: JSONLines}))
	assert.Equal(t, []string{"1 changed =heron.example =www.heron.example", "2 note # x"}, asText(t, "0.0.0.0 heron.example www.heron.example\n# x", Options{Format: Hosts}))
}

func write(t require.TestingT, all []pattern.Entry, f Format, p Packing) string {
	var b bytes.Buffer
	w, err := NewWriter(&b, f, p)
	require.NoError(t, err)
	for _, e := range all {
		require.NoError(t, w.Write(e))
	}
	require.NoError(t, w.Close())
	out, err := Unpacked(&b)
	require.NoError(t, err)
	text, err := io.ReadAll(out)
	require.NoError(t, err)
	require.NoError(t, out.Close())
	return string(text)
}

func TestWrite(t *testing.T) {
	var all []pattern.Entry
	for _, line := range []string{"# a note", "heron.example # why, \"oh\" why", "plain.example", "! =bittern.example [until 2026-12-24, off]", "*.crane.example/x", "möwe.example", `"bet*"`, "~host a,b"} {
		all = append(all, pattern.MustParse(line))
	}
	for _, packing := range []Packing{Plain, Gzip, Zstd} {
		assert.Equal(t, `# a note
heron.example #: heron.example # why, "oh" why
plain.example
#: ! =bittern.example [until 2026-12-24, off]
#: *.crane.example/x
xn--mwe-sna.example #: möwe.example
#: "bet*"
#: ~host a,b
#:# 4 entries of the list cannot be written in this format, and stand in comments that other programs pass over.
`, write(t, all, Domains, packing))
	}
	assert.Contains(t, write(t, all, Hosts, Plain), "0.0.0.0 plain.example #: plain.example\n", "a hosts file has names without those below them")
	assert.Contains(t, write(t, []pattern.Entry{pattern.MustParse("=heron.example # +1")}, CSV, Plain), "\n'=heron.example,host,false,,false,+1\n")
}

// A list that was written reads back unchanged, in every format and with either reading.
func TestExportAndImportAreTheIdentity(t *testing.T) {
	lines := rapid.SampledFrom([]string{
		"http://heron.example", "=http://heron.example:81/", "https://203.0.113.7/24", "[2001:db8::7]:81/x", "=*.heron.example/a", "heron.example/a[1]", "a_b.bücher.example", `"+cmd|x"`,
		`"fish, chips"`, "~ [?&]q=\"x", "*", "heron.example?q=a,b", "=heron.example", "=heron.example/", "163.*", "203.0.113.0/24", "@x",
	})
	rapid.Check(t, func(t *rapid.T) {
		var all []pattern.Entry
		for range rapid.IntRange(0, 6).Draw(t, "entries") {
			entry := pattern.Entry{Note: strings.TrimSpace(rapid.SampledFrom([]string{"", "", "why", "=1+1", "'=x", "a  b", "#: heron.example", ": x", "“é”, \"q\"; x", "[off]", "@a\tb", "-"}).Draw(t, "note"))}
			if rapid.IntRange(0, 5).Draw(t, "pattern") > 0 {
				entry.Pattern = patterntest.Any(t, "any")
				if parsed, err := pattern.Parse(lines.Draw(t, "line")); err == nil && rapid.Bool().Draw(t, "named") {
					entry.Pattern = parsed.Pattern
				}
				entry.CarveOut, entry.Off = rapid.Bool().Draw(t, "carve-out"), rapid.Bool().Draw(t, "off")
				if rapid.Bool().Draw(t, "ends") {
					entry.Until = pattern.Date{Year: 2026, Month: 12, Day: 24}
				}
			}
			if entry != (pattern.Entry{}) {
				all = append(all, entry)
			}
		}
		for _, f := range Formats {
			for _, reading := range []pattern.Reading{pattern.Exact, pattern.Mending} {
				text := write(t, all, f, Plain)
				var again []pattern.Entry
				require.NoError(t, Read(strings.NewReader(text), Options{Format: f, Reading: reading}, func(l pattern.Line) error {
					require.Nil(t, l.Err, "%s %s: %q", f, reading, text)
					again = append(again, l.Entries...)
					return nil
				}))
				require.Equal(t, all, again, "%s %s: %q", f, reading, text)
			}
		}
	})
}

func TestDamagedPacking(t *testing.T) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(bytes.Repeat([]byte("heron.example\n"), 1000))
	_ = w.Close()
	for _, text := range []string{b.String()[:b.Len()/2], "\x1f\x8bnonsense", "\x28\xb5\x2f\xfdnonsense", "\x28\xb5\x2f\xfd"} {
		out, err := Unpacked(strings.NewReader(text))
		if err == nil {
			_, err = io.ReadAll(out)
		}
		var wrong *Error
		assert.ErrorAs(t, err, &wrong, "%q", text)
	}
	out, err := Unpacked(strings.NewReader("x"))
	require.NoError(t, err)
	text, _ := io.ReadAll(out)
	assert.Equal(t, "x", string(text))
}

// Reading any file ends with one of our errors or with every line in order, and its entries can be written and read back.
func FuzzRead(f *testing.F) {
	f.Add("entry,note\nheron.example,\"a\nb\"\n", "csv")    // a cell of two lines
	f.Add("\ufeff\"unclosed\n", "csv")                      // a mark, and a quotation mark too few
	f.Add(`{"entry":"heron.example","until":"x"}`, "jsonl") // a day that is none
	f.Add("0.0.0.0 heron.example\r\n\r#x", "hosts")         // mixed ends
	f.Add("@ SOA a. b. 1 2 3 4 5\n*.heron.example CNAME .\n", "zone")
	f.Add("$ORIGIN rpz.test.\n@ 60 IN SOA a. b. ( 1 2 3 4 5\n", "zone") // unclosed
	f.Fuzz(func(t *testing.T, text, format string) {
		last := 0
		var all []pattern.Entry
		err := Read(strings.NewReader(text), Options{Format: Format(format), Reading: pattern.Mending}, func(l pattern.Line) error {
			assert.Greater(t, l.Number, last)
			last = l.Number
			if l.Err != nil {
				assert.NotEmpty(t, l.Err.Expected)
				assert.Equal(t, l.Number, l.Err.Line)
			}
			all = append(all, l.Entries...)
			return nil
		})
		var ours *Error
		if err != nil {
			assert.ErrorAs(t, err, &ours)
			return
		}
		var b bytes.Buffer
		w, err := NewWriter(&b, JSONLines, Plain)
		require.NoError(t, err)
		var want, again []pattern.Entry
		for _, e := range all {
			if e.Kind() != pattern.Note {
				want = append(want, e)
				require.NoError(t, w.Write(e))
			}
		}
		require.NoError(t, w.Close())
		require.NoError(t, Read(&b, Options{Format: JSONLines, Reading: pattern.Exact}, func(l pattern.Line) error {
			again = append(again, l.Entries...)
			return nil
		}))
		assert.Equal(t, want, again)
	})
}

// Split lines read like a file of the same lines.
func TestTextsAreReadAsAFile(t *testing.T) {
	texts := []string{exactMark, exactMark + " ", "heron.example", "https://heron.example/", "! tern.example", "# a note", "", "bad..name", "0.0.0.0 a.example b.example", "\ufeff" + exactMark, "\ufeffheron.example", strings.Repeat("x", pattern.MaxLine+1)}
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom(texts), 0, 5).Draw(t, "lines")
		for i := range lines {
			if i > 0 {
				lines[i] = strings.TrimPrefix(lines[i], "\ufeff") // a mark of the byte order begins a file, and nothing else
			}
		}
		reading := rapid.SampledFrom([]pattern.Reading{pattern.Exact, pattern.Mending}).Draw(t, "reading")
		read := func(do func(each func(pattern.Line) error) error) (all []pattern.Line) {
			require.NoError(t, do(func(l pattern.Line) error {
				if l.Err != nil && l.Err.Code == pattern.TooLong {
					l.Text = "" // a file's is cut where it becomes too long
				}
				all = append(all, l)
				return nil
			}))
			return all
		}
		file := ""
		for _, line := range lines {
			file += line + "\n"
		}
		assert.Equal(t, read(func(each func(pattern.Line) error) error {
			return Read(strings.NewReader(file), Options{Reading: reading}, each)
		}),
			read(func(each func(pattern.Line) error) error { return ReadTexts(lines, reading, each) }), "%q", lines)
	})
}

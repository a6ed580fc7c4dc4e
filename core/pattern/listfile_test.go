package pattern

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"
)

func outcomes(t *testing.T, text string, reading Reading) string {
	t.Helper()
	var all []string
	require.NoError(t, ReadLines(strings.NewReader(text), reading, func(l Line) error {
		row := fmt.Sprintf("%d %s", l.Number, l.Outcome())
		if l.Err != nil {
			assert.Equal(t, l.Number, l.Err.Line)
			row += fmt.Sprintf(" at %d", l.Err.Column)
		}
		all = append(all, row)
		return nil
	}))
	return strings.Join(all, ", ")
}

func TestReadLines(t *testing.T) {
	for text, want := range map[string]string{
		"":                           "",
		"\n":                         "1 blank",
		"a.example":                  "1 good",
		"a.example\n":                "1 good",
		"a.example\r\nb.example\r\n": "1 good, 2 good",
		"a.example\rb.example\r\r\nc.example\n\n":     "1 good, 2 good, 3 blank, 4 good, 5 blank",
		"\uFEFFa.example\n# note":                     "1 good, 2 note",
		"a.example\na..example\nhttps://b.example/\n": "1 good, 2 refused at 2, 3 changed",
		"a.example\nb\xff.example\nc.example":         "1 good, 2 refused at 2, 3 good",
		"a\x00.example\n":                             "1 refused at 2",
	} {
		assert.Equal(t, want, outcomes(t, text, Mending), "%q", text)
	}
	assert.Equal(t, "1 changed, 2 refused at 1", outcomes(t, "hxxps://a.example/\n(", Mending))
	assert.Equal(t, "1 refused at 1, 2 good", outcomes(t, "hxxps://a.example/\nhttps://b.example", Exact))

	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String("a.example\r\nb..example\r\n")
	require.NoError(t, err)
	assert.Equal(t, "1 good, 2 refused at 2", outcomes(t, wide, Mending), "UTF-16")
}

func TestReadLinesLong(t *testing.T) {
	pattern := "a.example/" + strings.Repeat("x", MaxLength)
	assert.Equal(t, "1 refused at 1, 2 good", outcomes(t, pattern+"\nb.example", Exact))
	escaped := "a.example/" + strings.Repeat(`"`, 1500) // typed, it is short enough; kept as escapes, it is not
	assert.Equal(t, "1 refused at 1, 2 good", outcomes(t, escaped+"\nb.example", Exact))
	for _, end := range []string{"\n", "\r", "\r\n"} { // on the border of what is read at once, too
		for _, length := range []int{MaxLine - 1, MaxLine, MaxLine + 1, 10 * MaxLine} {
			want := "1 note, 2 good"
			if length > MaxLine {
				want = fmt.Sprintf("1 refused at %d, 2 good", MaxLine+1)
			}
			assert.Equal(t, want, outcomes(t, "#"+strings.Repeat("x", length-1)+end+"b.example", Exact), "%d %q", length, end)
		}
	}
}

func TestReadLinesStops(t *testing.T) {
	broken := errors.New("the line went down")
	each := func(Line) error { return nil }
	assert.ErrorIs(t, ReadLines(io.MultiReader(strings.NewReader("a.example\nb.exa"), failing{broken}), Exact, each), broken)
	assert.ErrorIs(t, ReadLines(strings.NewReader("a.example\n"), Exact, func(Line) error { return broken }), broken)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func BenchmarkReadLines(b *testing.B) {
	text := strings.Repeat("www.amber-archive.example\nhttps://amber-archive.example/today?x=1\n", 500)
	for _, reading := range []Reading{Exact, Mending} {
		b.Run(string(reading), func(b *testing.B) {
			b.ReportAllocs()
			lines := 0
			for b.Loop() {
				_ = ReadLines(strings.NewReader(text), reading, func(Line) error { lines++; return nil })
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(lines), "ns/line")
		})
	}
}

// The shortcut for plain hosts agrees with Parse and Mend.
func TestPlainSite(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringMatching(`[a-c0-9_-]{1,4}(\.[a-c0-9_-]{1,4}){0,3}\.?(xn--a|[a-z]{1,3}|[0-9])?`).Draw(t, "line")
		short, ok := PlainSite(line)
		if !ok {
			return
		}
		parsed, err := Parse(line)
		require.NoError(t, err, line)
		assert.Equal(t, parsed, short)
		mended, err := Mend(line)
		require.NoError(t, err, line)
		assert.Equal(t, Mended{Entries: []Entry{short}}, mended)
	})
	_, ok := PlainSite("heron.example")
	assert.True(t, ok)
	_, ok = PlainSite(strings.Repeat("a", 64) + ".example")
	assert.False(t, ok)
}

package command

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShow(t *testing.T) {
	v := View{
		Data:    map[string]any{"name": "Betting & more", "entries": 2, "note": "a: b"},
		Columns: []string{"Name", "Entries"},
		Rows:    [][]string{{"Betting, odds", "2"}, {"Zoo", "1,000"}},
		Numbers: []int{1},
		Foot:    "That is all.",
		Empty:   "Nothing.",
	}
	for format, want := range map[string]string{
		"table": "Name           Entries\n────────────────────────\nBetting, odds        2\nZoo              1,000\nThat is all.\n",
		"csv":   "Name,Entries\n\"Betting, odds\",2\nZoo,\"1,000\"\n",
		"json":  "{\n  \"entries\": 2,\n  \"name\": \"Betting & more\",\n  \"note\": \"a: b\"\n}\n",
		"yaml":  "entries: 2\nname: Betting & more\nnote: 'a: b'\n",
	} {
		var out bytes.Buffer
		require.NoError(t, (&App{Out: &out, Format: format}).Show(v))
		assert.Equal(t, want, out.String(), format)
	}
	var out bytes.Buffer
	v.Rows = nil
	require.NoError(t, (&App{Out: &out, Format: "table"}).Show(v))
	assert.Equal(t, "Nothing.\n", out.String())
	out.Reset()
	require.NoError(t, (&App{Out: &out, Format: "csv"}).Show(v))
	assert.Equal(t, "Name,Entries\n", out.String(), "programs get the columns of an empty answer too")
}

func TestFitTakesFromTheWidest(t *testing.T) {
	v := View{Columns: []string{"A", "B"}, Rows: [][]string{{"short", "a very long cell that has to be broken somewhere"}}}
	widths := func(width int) [2]int {
		c := fit(v, width)
		return [2]int{c[0].WidthMax, c[1].WidthMax}
	}
	assert.Equal(t, [2]int{5, 48}, widths(0))
	assert.Equal(t, [2]int{5, 31}, widths(40))
	assert.Equal(t, [2]int{5, 12}, widths(10), "never so narrow that nothing can be read")
}

func TestWrapCell(t *testing.T) {
	for cell, want := range map[string]string{
		"short": "short", "The quarter’s orders have to be in": "The quarter’s\norders have to\nbe in", "ferrow-instruments.example": "ferrow-\ninstruments.\nexample",
		"through 2026-11-27": "through\n2026-11-27", "=encyclopaedia.example/wiki/Tides": "=encyclopaedia.\nexample/wiki/\nTides", "abcdefghijklmnopqrstuvwxyz": "abcdefghijklmno\npqrstuvwxyz",
		"one\ntwo three four five": "one\ntwo three four\nfive", "日本語日本語日本語": "日本語日本語日\n本語", "\x1b[1mblock\x1b[0m": "\x1b[1mblock\x1b[0m",
	} {
		assert.Equal(t, want, wrapCell(cell, 15), cell)
	}
	assert.Equal(t, "a\nb", wrapCell("a b", 1))
	assert.Equal(t, "日\n本", wrapCell("日本", 1), "never nothing")
}

func TestNumbers(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000"} {
		assert.Equal(t, want, Grouped(n))
	}
	assert.Equal(t, "1 entry", Plural(1, "entry", "entries"))
	assert.Equal(t, "0 entries", Plural(0, "entry", "entries"))
}

func TestVerdictIsToldByShapeAndWord(t *testing.T) {
	a := &App{Out: &bytes.Buffer{}, Format: "table"}
	assert.Equal(t, "■ block", a.Verdict("block"))
	assert.Equal(t, "○ allow", a.VerdictCell("allow"))
	a.Format = "csv"
	assert.Equal(t, "allow", a.VerdictCell("allow"))
}

package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShow(t *testing.T) {
	v := view{
		data:    map[string]any{"name": "Betting & more", "entries": 2, "note": "a: b"},
		columns: []string{"Name", "Entries"},
		rows:    [][]string{{"Betting, odds", "2"}, {"Zoo", "1,000"}},
		numbers: []int{1},
		foot:    "That is all.",
		empty:   "Nothing.",
	}
	for format, want := range map[string]string{
		"table": "Name           Entries\n────────────────────────\nBetting, odds        2\nZoo              1,000\nThat is all.\n",
		"csv":   "Name,Entries\n\"Betting, odds\",2\nZoo,\"1,000\"\n",
		"json":  "{\n  \"entries\": 2,\n  \"name\": \"Betting & more\",\n  \"note\": \"a: b\"\n}\n",
		"yaml":  "entries: 2\nname: Betting & more\nnote: 'a: b'\n",
	} {
		var out bytes.Buffer
		require.NoError(t, (&app{out: &out, format: format}).show(v))
		assert.Equal(t, want, out.String(), format)
	}
	var out bytes.Buffer
	v.rows = nil
	require.NoError(t, (&app{out: &out, format: "table"}).show(v))
	assert.Equal(t, "Nothing.\n", out.String())
	out.Reset()
	require.NoError(t, (&app{out: &out, format: "csv"}).show(v))
	assert.Equal(t, "Name,Entries\n", out.String(), "programs get the columns of an empty answer too")
}

func TestFitTakesFromTheWidest(t *testing.T) {
	v := view{columns: []string{"A", "B"}, rows: [][]string{{"short", "a very long cell that has to be broken somewhere"}}}
	widths := func(width int) [2]int {
		c := fit(v, width)
		return [2]int{c[0].WidthMax, c[1].WidthMax}
	}
	assert.Equal(t, [2]int{5, 48}, widths(0))
	assert.Equal(t, [2]int{5, 31}, widths(40))
	assert.Equal(t, [2]int{5, 12}, widths(10), "never so narrow that nothing can be read")
}

func TestNumbers(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000"} {
		assert.Equal(t, want, grouped(n))
	}
	assert.Equal(t, "1 entry", plural(1, "entry", "entries"))
	assert.Equal(t, "0 entries", plural(0, "entry", "entries"))
}

func TestVerdictIsToldByShapeAndWord(t *testing.T) {
	a := &app{out: &bytes.Buffer{}, format: "table"}
	assert.Equal(t, "■ block", a.verdict("block"))
	assert.Equal(t, "○ allow", a.verdictCell("allow"))
	a.format = "csv"
	assert.Equal(t, "allow", a.verdictCell("allow"))
}

package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
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

// A trial is read like a sentence; its steps stand rung by rung, and a rung with nothing on it says why.
func TestShowTrial(t *testing.T) {
	id := uuid.New()
	list := client.ListRef{ID: id, Name: "Welcome"}
	verdict := func(v string) *client.TrialVerdict { return ptr(client.TrialVerdict(v)) }
	next := time.Date(2026, 11, 28, 1, 0, 0, 0, time.UTC)
	trial := client.Trial{
		Input: "lore.example/tides", URL: ptr("https://lore.example/tides"), Verdict: verdict("block"), AtFull: ptr(client.TrialAtFull("allow")),
		Because: ptr(`No rule of the policy "Screens" matches; otherwise it says block.`), FullBecause: ptr(`The exception "Tides" says allow.`), Sees: ptr("a name that does not resolve"),
		Stops: &[]client.Stop{{Gate: "dns", Sight: "name", Verdict: "block"}},
		Matches: &[]client.Match{
			{List: list, In: client.MatchInCannotTell, Unclear: &[]client.EntryRef{{ID: 1, Text: "=lore.example/heron"}}},
			{List: client.ListRef{ID: uuid.New(), Name: "Elsewhere"}, In: client.MatchInCannotTell, Unclear: &[]client.EntryRef{{ID: 2, Text: `"bet"`}}},
		},
		Steps: &[]client.Step{
			{Rung: "baseline", Outcome: "no match", Missing: ptr("it has no rules")},
			{Rung: "exception", Rule: ptr("Tides"), Then: ptr(client.StepThen("allow")), Outcome: "cannot tell", Missing: ptr("the page: only the host is seen here")},
			{Rung: "policy", Policy: ptr("Screens"), Rule: ptr("Nightly"), Then: ptr(client.StepThen("watch")), Outcome: "not now", When: ptr("in Night shift"), Next: &next},
			{Rung: "policy", Policy: ptr("Screens"), Rule: ptr("Welcome sites"), Then: ptr(client.StepThen("note")), Outcome: "no match", List: &list},
			{Rung: "policy", Policy: ptr("Screens"), Then: ptr(client.StepThen("block")), Outcome: "decided"},
		},
	}
	all := client.TrialsOutputBody{At: time.Date(2026, 11, 27, 14, 10, 0, 0, time.UTC), Who: client.Asker{Name: "Bedside 4-12"}, Trials: []client.Trial{trial}}
	var out bytes.Buffer
	a := &app{out: &out, format: "table"}
	a.showTrial(&out, all, true)
	assert.Equal(t, `■ block  https://lore.example/tides
  for Bedside 4-12, Fri 27 Nov 14:10
  No rule of the policy "Screens" matches; otherwise it says block.
  Where the whole URL is seen it would be: ○ allow
    The exception "Tides" says allow.

  on the way
    dns    sees name    ■ block
  The person sees a name that does not resolve.


  also matched
    Welcome  ›  =lore.example/heron  (cannot tell)

  baseline: it has no rules

  exception
    cannot tell       Tides          ○ allow  the page: only the host is seen here

  policy Screens
    not now           Nightly        ◐ watch  in Night shift; next Sat 28 Nov 01:00
    no match          Welcome sites    note
    decided           otherwise      ■ block
`, out.String())
	out.Reset()
	trial.Stops, trial.AtFull, trial.FullBecause, trial.Matches = nil, ptr(client.TrialAtFull("block")), nil, nil
	all.Trials[0] = trial
	a.showTrial(&out, all, false)
	assert.Equal(t, `■ block  https://lore.example/tides
  for Bedside 4-12, Fri 27 Nov 14:10
  No rule of the policy "Screens" matches; otherwise it says block.

  5 steps were looked at; --trace shows them.
`, out.String(), "what is the same in full sight is not said")
}

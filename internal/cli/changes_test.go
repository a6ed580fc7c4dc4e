package cli

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
)

func ptr[T any](v T) *T { return &v }

func TestState(t *testing.T) {
	for _, text := range []string{"draft", "live", "1", "42"} {
		got, err := state(text)
		require.NoError(t, err)
		assert.Equal(t, text, got)
	}
	for _, text := range []string{"", "0", "-1", "Draft", "x", "1.5"} {
		_, err := state(text)
		var usage usageError
		require.ErrorAs(t, err, &usage, text)
	}
}

func TestSince(t *testing.T) {
	none, err := since("")
	require.NoError(t, err)
	assert.Nil(t, none)
	day, err := since("2026-11-09")
	require.NoError(t, err)
	assert.Equal(t, "2026-11-09", day.Format(time.DateOnly))
	back, err := since("2d")
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(-48*time.Hour), *back, time.Minute)
	for _, text := range []string{"yesterday", "-3d", "0h"} {
		_, err := since(text)
		assert.Error(t, err, text)
	}
}

func TestBars(t *testing.T) {
	assert.Equal(t, " ▁▄█", bars([]int64{0, 1, 50, 100}))
	assert.Equal(t, "██", bars([]int64{7, 7}))
	assert.Equal(t, "▁█", bars([]int64{1, 1_000_000}), "what is there is seen")
}

// A difference is told object by object, each part with its mark.
func TestShowDiff(t *testing.T) {
	at := time.Date(2026, 11, 23, 20, 17, 0, 0, time.Local)
	var out bytes.Buffer
	(&app{out: &out, format: "table"}).showDiff([]client.ObjectDifference{
		{Kind: "list", Name: "Betting", What: "changed", By: []string{"edda", "rowan"}, At: at, Entries: &client.EntryDifference{Added: 30, Removed: 1, Edited: 1, First: []client.EntryChange{
			{After: ptr("odds.example")}, {Before: ptr("old.example")}, {Before: ptr("a.example"), After: ptr("a.example [off]")},
		}}},
		{Kind: "policy", Name: "Ward", What: "made", By: []string{"edda"}, At: at, Lines: []client.DifferenceLine{
			{Mark: "added", Part: "name", After: ptr("Ward")}, {Mark: "added", Part: "rule", After: ptr(`"x": Block everything.`)},
		}},
		{Kind: "schedule", Name: "Office", What: "removed", By: []string{"edda"}, At: at},
		{Kind: "settings", Name: "Settings", What: "changed", By: []string{"edda"}, At: at, Lines: []client.DifferenceLine{
			{Mark: "moved", Part: "order", Before: ptr("Ward"), After: ptr("to the top")}, {Mark: "changed", Part: "combining", Before: ptr("position"), After: ptr("loosest")},
		}},
	}, "live", "draft")
	assert.Equal(t, `~ list "Betting"  (edda, rowan, 2026-11-23 20:17)
    + odds.example
    - old.example
    ~ a.example  →  a.example [off]
      and 29 more entries
+ policy "Ward"  (edda, 2026-11-23 20:17)
    + rule: "x": Block everything.
- schedule "Office"  (edda, 2026-11-23 20:17)
~ settings "Settings"  (edda, 2026-11-23 20:17)
    > order: Ward  →  to the top
    ~ combining: position  →  loosest

4 differences between live and draft.
`, out.String())
	out.Reset()
	(&app{out: &out, format: "table"}).showDiff(nil, "2", "live")
	assert.Equal(t, "There is no difference between 2 and live.\n", out.String())
	rows := differenceRows(nil, []client.ObjectDifference{{Kind: "list", Name: "x", What: "made", Lines: []client.DifferenceLine{{Mark: "added", Part: "owner", After: ptr("me")}}}})
	assert.Equal(t, [][]string{{"list", "x", "made", "", "added", "owner", "", "me"}}, rows.rows)
}

var ran = &client.ExpectationsRunOutputBody{Failing: 2, Micros: 1500, Results: []client.ExpectationResult{
	{Name: ptr("one"), Folder: ptr("Wards"), Passed: true, Says: "It holds."},
	{Name: ptr(`two # "odd" <name>`), Says: "It fails.", Wrong: []client.WrongURL{{URL: "https://a.example/", Why: "block in place of allow", Because: "The rule \"x\" says so."}}},
	{Name: ptr("three"), Says: "It cannot be.", Broken: ptr("there is no person \"x\"")},
}}

// What came of expectations is told to build servers in two of the forms that they read.
func TestExpectationFormats(t *testing.T) {
	var junit bytes.Buffer
	require.NoError(t, writeJUnit(&junit, ran))
	assert.True(t, strings.HasPrefix(junit.String(), xml.Header))
	var suite junitSuite
	require.NoError(t, xml.Unmarshal(junit.Bytes(), &suite))
	assert.Equal(t, []any{3, int64(2), "0.001500", "widelark.Wards"}, []any{suite.Tests, suite.Failures, suite.Time, suite.Cases[0].Class})
	assert.Nil(t, suite.Cases[0].Failure)
	assert.Equal(t, `two # "odd" <name>`, suite.Cases[1].Name)
	assert.Equal(t, "expected: It fails.", suite.Cases[1].Failure.Message)
	assert.Contains(t, suite.Cases[1].Failure.Text, `https://a.example/: block in place of allow. The rule "x" says so.`)
	assert.Contains(t, suite.Cases[2].Failure.Text, `it cannot be tried: there is no person "x"`)

	var tap bytes.Buffer
	writeTAP(&tap, ran)
	assert.Equal(t, `TAP version 14
1..3
ok 1 - one
not ok 2 - two \# "odd" <name>
  ---
  expected: "It fails."
  why:
    - "https://a.example/: block in place of allow. The rule \"x\" says so."
  ...
not ok 3 - three
  ---
  expected: "It cannot be."
  why:
    - "it cannot be tried: there is no person \"x\""
  ...
`, tap.String())
	var text bytes.Buffer
	(&app{}).showFailing(&text, ran.Results)
	assert.Equal(t, "fails  two # \"odd\" <name>\n    expected: It fails.\n    https://a.example/: block in place of allow. The rule \"x\" says so.\nbroken  three\n    expected: It cannot be.\n    it cannot be tried: there is no person \"x\"\n", text.String())
}

func TestShowReview(t *testing.T) {
	found := []client.ReviewFinding{
		{Severity: "wrong", Kind: "never reached", Text: "The rule is never reached.", Key: "k1", Shown: ptr("https://a.example/"), Fix: &client.FindingFix{Text: "Move it up."}},
		{Severity: "remark", Kind: "unused", Text: "Nothing names it.", Key: "k2", Accepted: &client.Acceptance{By: "edda", Reason: "kept"}},
	}
	var out bytes.Buffer
	a := &app{out: &out, format: "table"}
	a.showReview(found, false)
	assert.Equal(t, "WRONG\n  The rule is never reached.\n      shown by  https://a.example/\n      to mend   Move it up.\n      key       k1\n\n", out.String())
	out.Reset()
	a.showReview(found, true)
	assert.Contains(t, out.String(), "REMARK\n  Nothing names it.\n      accepted  by edda: kept\n      key       k2\n")
}

func TestDraftSaid(t *testing.T) {
	a := &app{}
	a.asked.Do(func() { a.organisation = time.FixedZone("", 3600) })
	d := client.DraftOutputBody{Live: client.Revision{Number: 2, Note: "as it is run"}, Expected: 30}
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft is the same.`, a.draftSaid(d))
	d.Changed, d.Failing = 1, 2
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft differs in 1 object. 2 of 30 expectations fail.`, a.draftSaid(d))
	d.Failing, d.Planned = 0, []client.Planned{{Version: 7, Due: time.Date(2026, 11, 30, 5, 0, 0, 0, time.UTC)}}
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft differs in 1 object. Version 7 goes live on Mon 30 Nov 06:00.`, a.draftSaid(d))
}

package change

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/cli/command"
)

func TestState(t *testing.T) {
	for _, text := range []string{"draft", "live", "1", "42"} {
		got, err := state(text)
		require.NoError(t, err)
		assert.Equal(t, text, got)
	}
	for _, text := range []string{"", "0", "-1", "Draft", "x", "1.5"} {
		_, err := state(text)
		var usage command.UsageError
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

// A difference is printed object by object, each part with its mark.
func TestShowDiff(t *testing.T) {
	at := time.Date(2026, 11, 23, 20, 17, 0, 0, time.Local)
	var out bytes.Buffer
	showDiff((&command.App{Out: &out, Format: "table"}), []client.ObjectDifference{
		{Kind: "list", Name: "Betting", What: "changed", By: []string{"edda", "rowan"}, At: at, Entries: &client.EntryDifference{Added: 30, Removed: 1, Edited: 1, First: []client.EntryChange{
			{After: new("odds.example")}, {Before: new("old.example")}, {Before: new("a.example"), After: new("a.example [off]")},
		}}},
		{Kind: "policy", Name: "Ward", What: "made", By: []string{"edda"}, At: at, Lines: []client.DifferenceLine{
			{Mark: "added", Part: "name", After: new("Ward")}, {Mark: "added", Part: "rule", After: new(`"x": Block everything.`)},
		}},
		{Kind: "schedule", Name: "Office", What: "removed", By: []string{"edda"}, At: at},
		{Kind: "settings", Name: "Settings", What: "changed", By: []string{"edda"}, At: at, Lines: []client.DifferenceLine{
			{Mark: "moved", Part: "order", Before: new("Ward"), After: new("to the top")}, {Mark: "changed", Part: "combining", Before: new("position"), After: new("loosest")},
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
	showDiff((&command.App{Out: &out, Format: "table"}), nil, "2", "live")
	assert.Equal(t, "There is no difference between 2 and live.\n", out.String())
	rows := differenceRows(nil, []client.ObjectDifference{{Kind: "list", Name: "x", What: "made", Lines: []client.DifferenceLine{{Mark: "added", Part: "owner", After: new("me")}}}})
	assert.Equal(t, [][]string{{"list", "x", "made", "", "added", "owner", "", "me"}}, rows.Rows)
}

func TestShowReview(t *testing.T) {
	found := []client.ReviewFinding{
		{Severity: "wrong", Kind: "never reached", Text: "The rule is never reached.", Key: "k1", Shown: new("https://a.example/"), Fix: &client.FindingFix{Text: "Move it up."}},
		{Severity: "remark", Kind: "unused", Text: "Nothing names it.", Key: "k2", Accepted: &client.Acceptance{By: "edda", Reason: "kept"}},
	}
	var out bytes.Buffer
	a := &command.App{Out: &out, Format: "table"}
	showReview(a, found, false)
	assert.Equal(t, "WRONG\n  The rule is never reached.\n      shown by  https://a.example/\n      to mend   Move it up.\n      key       k1\n\n", out.String())
	out.Reset()
	showReview(a, found, true)
	assert.Contains(t, out.String(), "REMARK\n  Nothing names it.\n      accepted  by edda: kept\n      key       k2\n")
}

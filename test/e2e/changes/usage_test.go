package changes

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// What requests meet is counted, and what none met in 90 days is found, and switched off in one step.
func TestUsage(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api, ctx := s.API(t), t.Context()
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("list", "new", "Betting")
	run("list", "add", "Betting", "oddsfield.example", "slots.example", "!help.slots.example", "=reef.example")
	run("list", "new", "Kept closed")
	run("list", "add", "Kept closed", "bank.example")
	run("policy", "rule", "add", "Fallback", "No betting", "--list", "Betting")
	run("policy", "rule", "add", "Fallback", "No uploads", "--method", "POST")
	run("publish", "--note", "betting")
	run("exception", "new", "reef.example", "--name", "The reef", "--why", "a survey", "--everybody")

	db, err := pgx.Connect(ctx, s.Database)
	require.NoError(t, err)
	defer db.Close(ctx)
	_, err = db.Exec(ctx, `update edits set at = at - interval '100 days'`)
	require.NoError(t, err)
	run("list", "add", "Betting", "new.example") // too young to be found

	now := time.Now()
	var records []client.RecordedInput
	for _, days := range []int{95, 95, 3, 3, 0} {
		records = append(records, client.RecordedInput{At: now.AddDate(0, 0, -days), URL: "https://oddsfield.example/today"})
	}
	records = append(records, client.RecordedInput{At: now.AddDate(0, 0, -95), URL: "https://slots.example/"}, client.RecordedInput{At: now, URL: "https://heron.example/"})
	_, err = api.AddRecordedWithResponse(ctx, client.AddRecordedInputBody{Records: records})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.Contains(run("list", "ls", "--hits"), "  3  ") }, testkit.Patience, testkit.Look)

	shown := run("list", "show", "Betting", "--hits", "-o", "csv")
	assert.Regexp(t, `oddsfield.example,.*,3,`+now.Format("2006"), shown)
	assert.Regexp(t, `slots.example,.*,0,2`, shown, "the last hit is older than the days that are counted")
	assert.Regexp(t, `=reef.example,.*,0,never`, shown)
	assert.Regexp(t, `! help.slots.example,.*,edda,,\n`, shown, "records do not say that a carve-out was met")
	assert.Regexp(t, `No betting.*,3,`, run("policy", "show", "Fallback", "--hits", "-o", "csv"))
	assert.Contains(t, run("exception", "ls", "--hits"), "never")
	usage, err := api.GetUsageWithResponse(ctx, &client.GetUsageParams{Kind: client.GetUsageParamsKindList, ID: []string{"nobody"}})
	require.NoError(t, err)
	assert.Nil(t, usage.JSON200.Used[0].Last)

	assert.Equal(t, "Entry\nslots.example\n'=reef.example\n", run("list", "unmet", "Betting", "-o", "csv"))
	assert.Contains(t, run("list", "unmet", "Kept closed"), "do not tell its entries apart")
	assert.Contains(t, run("list", "unmet", "Betting", "--days", "200"), "counted since")
	run("list", "edit", "Betting", "--describe", "sites of bets") // a review is made again when the draft has changed
	review := run("review")
	for _, want := range []string{`met 2 entries of "Betting" in 90 days, as slots.example`, `met the rule "No uploads" of "Fallback"`, `met the exception "The reef"`} {
		assert.Contains(t, review, want)
	}
	assert.NotContains(t, review, `met the rule "No betting"`)
	assert.Contains(t, run("list", "unmet", "Betting", "--off"), "Switched 2 entries")
	assert.NotContains(t, run("review"), `entries of "Betting" in 90 days`)
}

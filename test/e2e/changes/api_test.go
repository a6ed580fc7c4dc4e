package changes

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/yaml.v3"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// Bad input to everything about changes gets a clear error that says what is wrong with which field, and changes nothing.
func TestHostileChanges(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	before, err := api.GetDraftWithResponse(t.Context())
	require.NoError(t, err)
	house.Refuse(t, s)
	after, err := api.GetDraftWithResponse(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before.JSON200.Version, after.JSON200.Version, "nothing was changed")
	revisions, err := api.GetRevisionsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, revisions.JSON200.Revisions, 1)
}

// Every command that reads about changes answers in every format, and the formats agree.
func TestChangeFormats(t *testing.T) {
	t.Parallel()
	s := house.Hospital(t)
	for _, args := range [][]string{
		{"diff"},
		{"diff", "--verdicts"},
		{"history"},
		{"audit", "--limit", "5"},
		{"review"},
		{"expect", "ls"},
		{"replay"},
		{"affected", "--category", "games"},
		{"entry", "compare", "heron.example", "www.heron.example"},
	} {
		table := s.Run(t, "", args...)
		require.Equal(t, 0, table.Code, "%v: %s", args, table.Err)
		assert.NotContains(t, table.Out, "\x1b[", "no colours where there is no terminal")
		var fromJSON, fromYAML any
		require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", append(args, "-o", "json")...).Done(t)), &fromJSON), args)
		require.NoError(t, yaml.Unmarshal([]byte(s.Run(t, "", append(args, "-o", "yaml")...).Done(t)), &fromYAML), args)
		assert.IsType(t, fromJSON, fromYAML, args)
		csv := s.Run(t, "", append(args, "-o", "csv")...).Done(t)
		assert.Greater(t, strings.Count(csv, "\n"), 1, args)
		assert.Equal(t, 2, s.Run(t, "", append(args, "-o", "xml")...).Code)
		help := s.Run(t, "", append(args[:1:1], "--help")...).Done(t)
		assert.Contains(t, help, "Usage:")
	}
	// Rows of a difference are parts of objects, each with its mark.
	csv := s.Run(t, "", "diff", "-o", "csv").Done(t)
	assert.Contains(t, csv, "policy,Ward floor,changed,edda,moved,rule,")
}

// Two services share a database: what one of them publishes, plans or takes back holds at the other.
func TestTwoServicesPublish(t *testing.T) {
	t.Parallel()
	one := house.Server.Serve(t)
	other := &testkit.Service{Database: one.Database, Config: one.Config}
	other.Start(t)
	t.Cleanup(other.Kill)
	run := func(s *testkit.Service, args ...string) string {
		return s.Run(t, "", append(args, "--server", s.URL)...).Done(t)
	}
	run(one, "list", "new", "Betting")
	run(one, "list", "add", "Betting", "odds.example")
	run(one, "policy", "rule", "add", "Fallback", "Never", "--list", "Betting")
	assert.Contains(t, run(other, "try", "odds.example"), "■ block")
	assert.Contains(t, run(other, "try", "odds.example", "--on", "live"), "○ allow")
	run(one, "publish", "--note", "betting")
	assert.Contains(t, run(other, "try", "odds.example", "--on", "live"), "■ block")
	run(other, "rollback", "1", "--note", "too soon")
	assert.Contains(t, run(one, "try", "odds.example", "--on", "live"), "○ allow")
	assert.Contains(t, run(one, "try", "odds.example", "--on", "2"), "■ block")

	// Both keep time: what is planned is published once, by either of them. Who publishes alone has also looked at the plans before.
	published := func(by *testkit.Service, note string, want int) {
		t.Helper()
		api := by.API(t)
		due := time.Now().Add(time.Second)
		_, err := api.PublishWithResponse(t.Context(), client.PublishInputBody{Note: note, At: &due})
		require.NoError(t, err)
		var kept []client.Revision
		require.Eventually(t, func() bool {
			r, err := api.GetRevisionsWithResponse(t.Context(), nil)
			require.NoError(t, err)
			kept = r.JSON200.Revisions
			return kept[0].Note == note
		}, testkit.Patience, testkit.Look)
		assert.Len(t, kept, want)
	}
	published(one, "by either", 4)
	one.Kill()
	run(other, "list", "add", "Betting", "slots.example")
	published(other, "by the other", 5)
	one.Start(t)
	other.Kill()
	run(one, "list", "add", "Betting", "dice.example")
	published(one, "by the one", 6)
}

// Requests are recorded through the API: people are found by name, texts that are not URLs are counted, and each verdict is that of the live edition.
func TestRecordingRequests(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	s.Run(t, "", "person", "new", "kay.moran", "--full-name", "Kay Moran").Done(t)
	at := time.Now().Add(-time.Hour)
	kay, address, odd := "KAY.MORAN", "10.40.9.7", "10.40"
	var records []client.RecordedInput
	for i := range 90 {
		r := client.RecordedInput{At: at.Add(time.Duration(i) * time.Second), URL: fmt.Sprintf("site-%d.example/a?b=%d", i%9, i), Person: &kay}
		if i%3 == 0 {
			r.Person, r.Address = nil, &address
		}
		records = append(records, r)
	}
	records = append(records, client.RecordedInput{At: at, URL: "ftp://x.example"}, client.RecordedInput{At: at, URL: "x.example", Address: &odd})
	answer, err := api.AddRecordedWithResponse(t.Context(), client.AddRecordedInputBody{Records: records})
	require.NoError(t, err)
	assert.EqualValues(t, []int64{90, 2}, []int64{answer.JSON200.Kept, answer.JSON200.Refused})
	assert.Contains(t, s.Run(t, "", "replay").Done(t), "90 requests of 1 person")
	s.Run(t, "", "list", "new", "Sites").Done(t)
	s.Run(t, "", "list", "add", "Sites", "site-4.example").Done(t)
	s.Run(t, "", "policy", "rule", "add", "Fallback", "Never", "--list", "Sites").Done(t)
	told := s.Run(t, "", "replay", "--limit", "3").Done(t)
	for _, want := range []string{"10 of 1 person to 1 host would have gone otherwise: 0 open, 10 close.", "Fallback: Never", "Kay Moran"} {
		assert.Contains(t, told, want)
	}
	assert.Contains(t, s.Run(t, "", "replay", "--as", "kay.moran").Done(t), "60 requests of 1 person")
	assert.Contains(t, s.Run(t, "", "affected", "--entry", "site-1.example").Done(t), "90 recorded requests were looked at; 10 of 1 person to 1 host are of the kind, and 10 of them pass today.")
	assert.Contains(t, s.Run(t, "", "affected", "--list", "Sites").Done(t), "and 0 of them pass today.")
	assert.Contains(t, s.Run(t, "", "replay", "--since", "10m").Done(t), "No such requests were recorded.")
}

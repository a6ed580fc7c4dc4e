package changes

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// The draft of the demo shows what changed, what turns, what fails and what is wrong; it is mended, published and rolled
// back, all through the command line.
func TestChangeControl(t *testing.T) {
	t.Parallel()
	s := house.Hospital(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	contains := func(told string, wanted ...string) {
		t.Helper()
		for _, want := range wanted {
			assert.Contains(t, told, want)
		}
	}
	contains(run("diff").Done(t), `~ list "Betting"`, "+ *bet* # all of them at once", `> rule: "Games and video in breaks"  →  to after "No games, no video"`,
		`text: mon-fri 14:00-16:00, 18:00-20:00; sat-sun 10:00-20:00  →  mon-fri 14:00-16:00, 18:00-20:30`, "5 differences between live and draft.")
	assert.Equal(t, 1, run("diff", "--exit-code").Code)
	assert.Equal(t, 0, run("diff", "2", "live", "--exit-code").Code)
	contains(run("diff", "2", "live").Done(t), "There is no difference between 2 and live.")
	assert.Equal(t, 2, run("diff", "yesterday").Code)
	contains(run("diff", "--verdicts").Done(t), "Doctors, Theatre staff, Ward nurses", "mon-sun 00:30-01:15, 12:30-13:15", "IT workshop", "URLs were tried for")

	// What is live and what the draft would do are tried side by side.
	url := "harbour-news.example/puzzles/today"
	contains(run("try", url, "--group", "Ward nurses", "--at", "12:40").Done(t), "■ block")
	contains(run("try", url, "--group", "Ward nurses", "--at", "12:40", "--on", "live").Done(t), "◐ watch")
	contains(run("try", url, "--group", "Ward nurses", "--at", "12:40", "--or-on", "live").Done(t), `a member of Ward nurses (draft), the rule "No games, no video"`)
	contains(run("try", url, "--on", "77").Err, "there is no revision 77; the last one is 2")

	// Two expectations fail, in every format, and stop publishing.
	failing := run("expect", "run")
	assert.Equal(t, 1, failing.Code)
	contains(failing.Out, "block in place of watch", "30 expectations, 2 failing.", `because the list "Betting" has the entry *bet*.`)
	assert.Equal(t, 0, run("expect", "run", "--on", "live").Code)
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Failure *struct{} `xml:"failure"`
		} `xml:"testcase"`
	}
	require.NoError(t, xml.Unmarshal([]byte(run("expect", "run", "--format", "junit").Out), &suite))
	assert.Equal(t, []int{30, 2, 30}, []int{suite.Tests, suite.Failures, len(suite.Cases)})
	tap := run("expect", "run", "--format", "tap").Out
	contains(tap, "TAP version 14\n1..30\n")
	assert.Len(t, regexp.MustCompile(`(?m)^not ok \d+ - `).FindAllString(tap, -1), 2)
	refused := run("publish", "--note", "in haste")
	assert.Equal(t, 1, refused.Code)
	contains(refused.Err, "2 of 30 expectations do not hold in the draft. Mend them")

	// The review names the rule that is never reached, with a URL; what is as it should be is accepted, and may be reopened.
	found := run("review").Done(t)
	contains(found, `The rule "Games and video in breaks" is never reached: "No games, no video" above it takes all that it is for.`, `Move it above "No games, no video".`,
		`The entry *bet* of "Betting" also covers`, `The exception "Derby day" ended on`, `Nothing names the list "Old ward links".`, "which disagree")
	assert.Equal(t, 1, run("review", "--exit-code").Code)
	key := regexp.MustCompile(`key +(unused\|list\|\S+)`).FindStringSubmatch(found)[1]
	run("review", "accept", key, "--why", "kept for the winter term").Done(t)
	contains(run("review").Done(t), "1 accepted.")
	contains(run("review", "--all").Done(t), "kept for the winter term")
	run("review", "reopen", key).Done(t)
	contains(run("review").Done(t), "0 accepted.")
	assert.Equal(t, 3, run("review", "reopen", key).Code)

	// Recorded requests say how many people would have noticed.
	contains(run("replay").Done(t), "would have gone otherwise: 0 open", "Ward floor: Never on the ward", "www.diabetes-day.example")
	one := run("replay", "--host", "diabetes-day.example", "--limit", "5", "-o", "csv").Done(t)
	assert.Len(t, strings.Split(strings.TrimSpace(one), "\n"), 6)
	contains(run("affected", "--category", "video").Done(t), "recorded requests were looked at", "Ward nurses", "gull-video")
	assert.Equal(t, 3, run("affected").Code)

	// Mended, one at a time, and published; what is taken back leaves the draft.
	run("discard", "list", "Betting").Done(t)
	run("discard", "policy", "Ward floor").Done(t)
	contains(run("discard", "policy", "Ward floor").Err, `the draft has no change of the policy "Ward floor"`)
	contains(run("expect", "run").Done(t), "30 expectations, 0 failing.")
	contains(run("publish", "--note", "  ").Err, "say what this revision is for")
	contains(run("publish", "--note", "Supplier portals").Done(t), "Revision 3 is live.")
	contains(run("publish", "--note", "again").Err, "There is nothing to publish")
	run("list", "add", "Supplier portals", "after.example").Done(t)
	contains(run("rollback", "2", "--note", "they rang").Done(t), "Revision 4 is live: the same as 2.")
	contains(run("history").Done(t), "live 4", "(same as 2) they rang", "Supplier portals")
	contains(run("diff", "4", "2").Done(t), "There is no difference")
	contains(run("diff").Done(t), "+ after.example", "+ quoin-surgical.example")
	contains(run("rollback", "2", "--note", "and the draft", "--draft").Done(t), "Revision 5 is live")
	contains(run("discard", "--all").Done(t), "There is nothing to discard")
	saved := run("try", "dosage-tables.example/adults", "--group", "Doctors", "--expect")
	assert.Equal(t, 0, saved.Code)
	contains(saved.Err, "Expected from now on: dosage-tables.example/adults: allow (2)")
	contains(run("expect", "run").Done(t), "31 expectations, 0 failing.")
	contains(run("audit", "--text", "source set").Done(t), "source set", "Partner's warnings")
	contains(run("audit", "--limit", "20").Done(t), "taken back", "published", "entries added", "Supplier portals")
}

// Two people who edit at once lose no edit unnoticed, and neither publishes anything that they have not seen.
func TestPublishingWhatWasLookedAt(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	draft, err := api.GetDraftWithResponse(t.Context())
	require.NoError(t, err)
	seen := draft.JSON200.Version
	s.Run(t, "", "list", "add", "Betting", "odds.example").Done(t)
	_, err = api.PublishWithResponse(t.Context(), client.PublishInputBody{Note: "x", Version: &seen})
	require.ErrorContains(t, err, "The draft has gone on since: you looked at version")
	_, err = api.DiscardWithResponse(t.Context(), client.DiscardInputBody{Version: &seen})
	require.ErrorContains(t, err, "Somebody else changed this in the meantime")

	// Planned: what was looked at goes live then, whatever is edited until then.
	due := time.Now().Add(2 * time.Second)
	planned, err := api.PublishWithResponse(t.Context(), client.PublishInputBody{Note: "tonight", At: &due})
	require.NoError(t, err)
	require.NotNil(t, planned.JSON201.Planned)
	s.Run(t, "", "list", "add", "Betting", "later.example").Done(t)
	require.Eventually(t, func() bool {
		now, err := api.GetDraftWithResponse(t.Context())
		return err == nil && now.JSON200.Live.Number == 2 && len(now.JSON200.Planned) == 0
	}, testkit.Patience, testkit.Look)
	assert.Contains(t, s.Run(t, "", "diff").Done(t), "+ later.example")
	assert.NotContains(t, s.Run(t, "", "diff").Done(t), "odds.example")
	far := time.Now().Add(time.Hour)
	planned, err = api.PublishWithResponse(t.Context(), client.PublishInputBody{Note: "called off", At: &far})
	require.NoError(t, err)
	_, err = api.UnplanWithResponse(t.Context(), planned.JSON201.Planned.ID)
	require.NoError(t, err)
	assert.Contains(t, s.Run(t, "", "audit").Done(t), "unplanned")
}

// The configuration as files reads back as written, on the same service and on an empty one, and every mistake is reported with
// its place.
func TestConfigurationAsFiles(t *testing.T) {
	t.Parallel()
	s := house.Hospital(t)
	dir := t.TempDir()
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	run("export", dir).Done(t)
	assert.Contains(t, run("plan", dir).Done(t), "There is no difference")
	read := func(path string) string {
		text, err := os.ReadFile(filepath.Join(dir, path))
		require.NoError(t, err)
		return string(text)
	}
	edit := func(path, from, to string) {
		t.Helper()
		text := read(path)
		require.Contains(t, text, from)
		require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(strings.Replace(text, from, to, 1)), 0o600))
	}
	var schema map[string]any
	require.NoError(t, json.Unmarshal([]byte(read("schema.json")), &schema))
	assert.Equal(t, "https://json-schema.org/draft/2020-12/schema", schema["$schema"])
	assert.Contains(t, schema["$defs"], "policies")
	assert.NotRegexp(t, `[0-9a-f]{8}-[0-9a-f]{4}-`, read("policies.yaml")+read("lists.yaml")+read("expectations.yaml")+read("people.yaml"), "no ids")

	// An empty service becomes the same.
	zip := filepath.Join(t.TempDir(), "quillmere.zip")
	run("backup", zip).Done(t)
	empty := house.Server.Serve(t)
	assert.Contains(t, empty.Run(t, "", "restore", zip, "--publish", "from the backup").Err+"", "expectations do not hold", "the catalogue is not there yet")
	again := t.TempDir()
	empty.Run(t, "", "export", again).Done(t)
	for _, path := range []string{"policies.yaml", "people.yaml", "groups.yaml", "expectations.yaml", "exceptions.yaml", "settings.yaml", "lists/betting.txt", "lists/suspect-sites.txt", "scorecards.yaml", "corrections.yaml", "categories.yaml", "schedules.yaml"} {
		other, err := os.ReadFile(filepath.Join(again, path))
		require.NoError(t, err)
		assert.Equal(t, read(path), string(other), path)
	}
	assert.Contains(t, empty.Run(t, "", "plan", dir).Done(t), "There is no difference")

	// A change goes the whole way; a list that is gone from the files goes.
	edit("settings.yaml", "combining: strictest", "combining: loosest")
	edit("lists/betting.txt", "*bet* # all of them at once\n", "")
	edit("lists/supplier-portals.txt", "scalpel-and-sons.example\n", "# theatres only\nscalpel-and-sons.example [until 2027-03-31]\n")
	edit("policies.yaml", "name: No betting\n", "name: No bets\n")
	edit("lists.yaml", "- name: Old ward links", "- name: Older ward links")
	planned := run("plan", dir)
	assert.Equal(t, 1, planned.Code)
	for _, want := range []string{"~ combining: strictest  →  loosest", `- list "Old ward links"`, `+ list "Older ward links"`, `+ rule: "No bets"`, `~ list "Betting"`} {
		assert.Contains(t, planned.Out, want)
	}
	assert.Contains(t, run("apply", dir).Done(t), "Applied 6 differences to the draft.")
	assert.Contains(t, run("plan", dir).Done(t), "There is no difference")
	assert.Contains(t, run("list", "export", "Supplier portals").Done(t), "# theatres only\nscalpel-and-sons.example [until 2027-03-31]\n")
	run("export", dir).Done(t)
	assert.NoFileExists(t, filepath.Join(dir, "lists", "old-ward-links.txt"))

	// Every mistake is reported with file, line and column, and nothing is applied.
	edit("policies.yaml", "otherwise: block", "otherwize: block")
	edit("policies.yaml", "lists: [Bedside welcome sites]", "lists: [Bedside sites]")
	edit("scorecards.yaml", "threshold: 100", "threshold: lots")
	edit("lists/betting.txt", "lucky-lantern.example", "lucky..lantern.example")
	wrong := run("apply", dir)
	assert.Equal(t, 3, wrong.Code)
	for _, want := range []string{`policies.yaml:`, `there is no field "otherwize" here; there are name, description`, `threshold: a number is wanted, not "lots"`, "\n  lists/betting.txt:8:6: found", "Nothing was changed"} {
		assert.Contains(t, wrong.Err, want)
	}
	edit("policies.yaml", "otherwize: block", "otherwise: block")
	edit("scorecards.yaml", "threshold: lots", "threshold: 100")
	edit("lists/betting.txt", "lucky..lantern.example", "lucky-lantern.example")
	assert.Regexp(t, `policies\.yaml:\d+:\d+: rules\[0\]\.if\.lists\[0\]: there is no list "Bedside sites"`, run("plan", dir).Err)
}

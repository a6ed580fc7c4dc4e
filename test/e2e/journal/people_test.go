package journal

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
)

// Who looked at whose records stands in the audit log; what is recorded of a person is handed out, and erased with a note of it; searches are kept, shared, and only their owner's to change.
func TestRecordsOfPeople(t *testing.T) {
	t.Parallel()
	s := serve(t)
	furnish(t, s)
	api := s.API(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	record(t, api, "kay.moran", time.Now().Add(-time.Minute), "https://oddsfield.example/", "https://heron.example/wards", "https://heron.example/")
	record(t, api, "moss.teal", time.Now().Add(-time.Minute), "https://slots.example/")

	looks := func() []string {
		answer, err := api.GetAuditWithResponse(t.Context(), nil)
		require.NoError(t, err)
		var all []string
		for _, e := range answer.JSON200.Events {
			if strings.Contains(e.What, "records") {
				all = append(all, e.What+" of "+*e.Name)
			}
		}
		return all
	}
	run("journal", "search", "verdict:block")
	assert.Empty(t, looks(), "nobody's in particular")
	for range 3 {
		run("journal", "search", `person:"Kay Moran" or -person:moss.teal`)
		run("journal", "search", "moss.teal verdict:block")
		run("journal", "top", "host", "person:kay.moran")
	}
	assert.ElementsMatch(t, []string{"looked at records of Kay Moran", "looked at records of moss.teal", "looked at records of kay.moran"}, looks(), "once an hour")
	run("journal", "export", "verdict:block")
	handed := run("person", "records", "kay.moran", "--form", "csv")
	assert.Equal(t, 4, strings.Count(handed, "\n"), handed)
	assert.Contains(t, looks(), "exported records of everybody")
	assert.Contains(t, looks(), "exported records of kay.moran")

	assert.Equal(t, 2, s.Run(t, "", "person", "erase", "kay.moran").Code, "without a reason")
	assert.Contains(t, s.Run(t, "", "person", "erase", "nobody", "--why", "asked").Err, "nobody is called")
	assert.Contains(t, s.Run(t, "", "person", "erase", "kay.moran", "--names", "--why", "asked").Err, "in the draft")
	assert.Equal(t, "Erased 3 records of Kay Moran.\n", run("person", "erase", "Kay Moran", "--why", "asked for by letter"))
	assert.Equal(t, 1, strings.Count(run("person", "records", "Kay Moran", "--form", "csv"), "\n"), "only the head")
	assert.Contains(t, run("journal", "search", "verdict:block"), "slots.example")
	assert.Contains(t, run("audit", "-o", "csv"), "3 records: asked for by letter")

	run("journal", "keep", "Blocked", "verdict:block since:7d", "--columns", "time,host,size")
	assert.Equal(t, "When,Host,Size", strings.SplitN(run("journal", "search", "--kept", "blocked", "-o", "csv"), "\n", 2)[0])
	assert.Contains(t, s.Run(t, "", "journal", "keep", "Wrong", "verdct:block").Err, "verdict")
	assert.Equal(t, 2, s.Run(t, "", "journal", "search", "--columns", "nothing").Code)
	const password = "fern and gull 5"
	s.Run(t, password, "account", "add", "ivo", "--full-name", "Ivo Sedge", "--role", "editor,publisher,help desk,auditor", "--password-stdin").Done(t)
	ivo := *s
	ivo.Config = filepath.Join(t.TempDir(), "ivo.yaml")
	ivo.Run(t, password, "login", "--name", "ivo", "--password-stdin", "--server", s.URL).Done(t)
	assert.Contains(t, ivo.Run(t, "", "journal", "kept").Done(t), "No searches")
	kept, err := api.GetSearchesWithResponse(t.Context())
	require.NoError(t, err)
	require.Len(t, kept.JSON200.Items, 1)
	yes := true
	_, err = api.PutSearchWithResponse(t.Context(), kept.JSON200.Items[0].ID, nil, client.SavedSearchInput{Name: "Blocked", Query: "verdict:block", Shared: &yes})
	require.NoError(t, err)
	assert.Contains(t, run("journal", "kept"), "for everybody")
	assert.Contains(t, ivo.Run(t, "", "journal", "search", "--kept", "Blocked").Done(t), "slots.example")
	assert.Contains(t, ivo.Run(t, "", "journal", "forget", "Blocked").Err, "edda's")
	ivo.Run(t, "", "forward", "ls").Done(t) // auditors see where records go, and change nothing of it
	assert.Contains(t, ivo.Run(t, "", "forward", "remove", "Collector").Err, "there is no")
	assert.Contains(t, ivo.Run(t, "", "person", "erase", "moss.teal", "--why", "asked").Err, "Only owners may erase")
	run("journal", "forget", "Blocked")
	assert.Contains(t, run("journal", "kept"), "No searches")
}

// Where a policy records groups alone, nobody stands anywhere: not in the journal, counts, reports, exports, alerts or what is sent on.
func TestGroupsAlone(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "lark@quillmere.example")
	furnish(t, s)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	for _, name := range []string{"ada", "bo", "cy", "di"} {
		run("person", "new", name, "--in", "Nurses")
	}
	run("policy", "edit", "Fallback", "--records", "group")
	run("publish", "--note", "groups alone")
	to := newTaken()
	run("forward", "new", "Collector", syslogServer(t, to, nil))
	run("alert", "new", "Each", "verdict:block", "--more", "1", "--per", "person", "--to", "each@quillmere.example")
	run("alert", "new", "All", "verdict:block", "--more", "1", "--to", "all@quillmere.example")
	time.Sleep(2 * time.Second)
	for range 5 {
		record(t, s.API(t), "kay.moran", time.Now(), "https://oddsfield.example/today?name=kay")
	}
	require.Eventually(t, func() bool { return len(mails.letters(t, "all@")) == 1 && to.has("https://oddsfield.example/") }, testkit.Patience, testkit.Look)
	assert.Empty(t, mails.letters(t, "each@"))
	said := strings.Join(append(to.any, mails.letters(t, "all@")[0].text), "\n")
	for _, args := range [][]string{
		{"journal", "search", "since:1d", "-o", "json"},
		{"journal", "top", "person", "since:1d"},
		{"journal", "top", "address", "since:1d"},
		{"journal", "export", "since:1d"},
		{"journal", "export", "since:1d", "--form", "jsonl"},
		{"report", "show", "--span", "24h"},
		{"alert", "found", "-o", "json"},
		{"list", "show", "Betting", "--hits"},
	} {
		said += run(args...)
	}
	assert.Contains(t, said, "Nurses")
	assert.Contains(t, said, "oddsfield.example")
	for _, who := range []string{"kay", "Kay", "Moran", "today"} {
		assert.NotContains(t, said, who)
	}
}

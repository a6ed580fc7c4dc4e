package gates

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// A stint holds at every gate at once, without publishing; it cuts what runs, stands below exceptions, is over for single people when its lead says so, and is in trials and the journal.
func TestStint(t *testing.T) {
	t.Parallel()
	s, service := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("person", "new", "petra.elver", "--full-name", "Petra Elver", "--in", "Nurses")
	run("list", "new", "Reading", "--for-stints")
	run("list", "add", "Reading", "heron.example/wards", "oddsfield.example")
	run("publish", "--note", "a list to read")
	away := house.Elsewhere(t, service, "the annexe")
	upToDate(t, s, "the annexe", 3)
	ward := []string{"--interface", "127.0.10.7"}
	sees := func(gate *testkit.Service, url string) string {
		return curl(t, gate.Proxy, append(ward, url)...).sees()
	}
	becomes := func(want, url string) (longest time.Duration) {
		t.Helper()
		began := time.Now()
		for _, gate := range []*testkit.Service{service, away} {
			require.Eventually(t, func() bool { return sees(gate, url) == want }, testkit.Patience, 50*time.Millisecond)
			longest = max(longest, time.Since(began))
		}
		return longest
	}
	becomes("the page", "http://tern.example/")
	becomes("the page", "http://tern.example/slow?seconds=0")
	revisions := run("history")

	run("stint", "begin", "Nurses", "--only", "Reading", "--for", "45m", "--why", "Drug rounds")
	t.Log("in force at two gates after", becomes("the block page", "http://tern.example/"))
	assert.Equal(t, revisions, run("history"), "nothing was published")
	assert.Equal(t, "the page", sees(away, "https://heron.example/wards/7"))
	assert.Equal(t, "the block page", sees(away, "https://heron.example/doctors"))
	assert.Equal(t, "the page", sees(service, "http://oddsfield.example/"), "it stands above policies, also where they are stricter")
	trial := run("try", "tern.example", "--group", "Nurses", "--on", "live", "--trace")
	assert.Contains(t, trial, "edda has put the group \"Nurses\" on only chosen lists")
	assert.Contains(t, run("stint", "ls"), "only Reading")
	require.Eventually(t, func() bool {
		return strings.Contains(run("journal", "search", "rung:stint verdict:block since:10m"), "tern.example")
	}, testkit.Patience, testkit.Look)

	run("grant", "new", "tern.example", "--network", "Wards", "--until", "1h", "--why", "A talk")
	becomes("the page", "http://tern.example/")
	run("grant", "end", "tern.example")
	becomes("the block page", "http://tern.example/")

	// For one of them it is over, and for them alone; then it holds again.
	kay := []string{"--interface", "127.0.30.7", "-U", "kay.moran:heather and tide 7", "http://tern.example/"}
	assert.Equal(t, "the block page", curl(t, service.Proxy, kay...).sees())
	run("stint", "done", "Nurses", "Kay Moran")
	require.Eventually(t, func() bool { return curl(t, service.Proxy, kay...).sees() == "the page" }, testkit.Patience, testkit.Look)
	assert.Equal(t, "the block page", sees(service, "http://tern.example/"))
	run("stint", "done", "Nurses", "Kay Moran", "--again")
	require.Eventually(t, func() bool { return curl(t, service.Proxy, kay...).sees() == "the block page" }, testkit.Patience, testkit.Look)

	// Another one in its place: for some people, and with a list of the group's own.
	assert.Contains(t, s.Run(t, "", "stint", "begin", "Nurses", "--pause", "--for", "5m").Err, "on a stint of edda until")
	run("stint", "own", "put", "Nurses", "Tides", "tern.example/tides")
	run("stint", "begin", "Nurses", "--only", "Tides", "--for", "5m", "--person", "kay.moran", "--instead")
	becomes("the page", "http://tern.example/")
	require.Eventually(t, func() bool {
		return curl(t, service.Proxy, append(kay[:4:4], "http://tern.example/tides")...).sees() == "the page"
	}, testkit.Patience, testkit.Look)
	assert.Equal(t, "the block page", curl(t, service.Proxy, kay...).sees())
	run("stint", "own", "put", "Nurses", "Tides", "tern.example")
	require.Eventually(t, func() bool { return curl(t, service.Proxy, kay...).sees() == "the page" }, testkit.Patience, testkit.Look, "a changed list counts at once")
	assert.Contains(t, s.Run(t, "", "stint", "own", "remove", "Nurses", "Tides").Err, "A stint that runs names the list")

	// It cuts what runs, and ends.
	run("stint", "end", "Nurses")
	require.Eventually(t, func() bool { return !strings.Contains(run("stint", "ls"), "Nurses") }, testkit.Patience, testkit.Look)
	slow := make(chan error, 1)
	cmd := exec.CommandContext(t.Context(), "curl", "-skf", "-x", "http://"+away.Proxy, "--interface", "127.0.10.7", "http://gull.example/slow?seconds=30")
	require.NoError(t, cmd.Start())
	go func() { slow <- cmd.Wait() }()
	require.Eventually(t, func() bool {
		for line := range strings.SplitSeq(run("gate", "ls", "-o", "csv"), "\n") {
			if strings.HasPrefix(line, "the annexe,") && strings.Contains(line, ",1,0") {
				return true
			}
		}
		return false
	}, testkit.Patience, testkit.Look)
	run("stint", "begin", "Nurses", "--pause", "--for", "5m")
	require.Error(t, <-slow, "it was cut")
	run("stint", "end", "Nurses")
	becomes("the page", "http://tern.example/")
	log := run("audit")
	for _, what := range []string{"stint begun", "stint ended", "stint over", "stint again", "group's list put"} {
		assert.Contains(t, log, what)
	}
}

package gates

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// Codes say what they open (sites, a category, everything below the baseline) and who may enter them. Those open pages that are blocked, too, at every gate; the baseline stands above all.
func TestCodeReach(t *testing.T) {
	t.Parallel()
	s, service := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("list", "new", "Games")
	run("list", "add", "Games", "puzzles.example", "riddles.example")
	run("list", "new", "Traps")
	run("list", "add", "Traps", "snare.example")
	run("category", "new", "Games", "--list", "Games")
	run("policy", "rule", "add", "Ward", "No games", "--category", "games", "--then", "block")
	run("policy", "rule", "add", "Baseline", "No traps", "--list", "Traps", "--then", "block")
	run("person", "new", "petra.elver", "--full-name", "Petra Elver", "--in", "Nurses")
	run("group", "new", "Trainees")
	run("person", "new", "wren.hollis", "--full-name", "Wren Hollis", "--in", "Nurses", "--in", "Trainees")
	run("publish", "--note", "games")
	away := house.Elsewhere(t, service, "the annexe")
	upToDate(t, s, "the annexe", 3)
	const kay, petra, wren, nobody = "127.0.10.11", "127.0.10.12", "127.0.10.13", "127.0.10.14"
	for who, at := range map[string]string{"kay.moran": kay, "petra.elver": petra, "wren.hollis": wren} {
		run("presence", "set", who, at, "--until", "1h")
	}
	sees := func(gate *testkit.Service, at, url string) string {
		return curl(t, gate.Proxy, "--interface", at, url).sees()
	}
	becomes := func(want, at, url string) {
		t.Helper()
		for _, gate := range []*testkit.Service{service, away} {
			require.Eventually(t, func() bool { return sees(gate, at, url) == want }, testkit.Patience, testkit.Look, url)
		}
	}
	becomes("the block page", kay, "http://puzzles.example/")
	becomes("the block page", kay, "http://snare.example/")
	code := func(args ...string) string {
		text, _, _ := strings.Cut(run(append([]string{"code", "new", "--why", "a test", "--until", "1h"}, args...)...), "\n")
		return text
	}
	enter := func(gate *testkit.Service, at, url, code string) got {
		return refused(t, gate.Proxy, at, url, "This page is not allowed here").send("act=code", "code="+code)
	}
	const no = "This code does not open this page"

	// A code without a reach opens only what a rule holds for one.
	assert.Contains(t, enter(service, kay, "http://puzzles.example/", code()).body, no)

	// A category, for a group, entered at a gate elsewhere: for whoever enters it alone.
	lesson := code("--category", "games", "--group", "Trainees", "--uses", "2")
	assert.Contains(t, enter(away, kay, "http://puzzles.example/", lesson).body, no, "she is no trainee")
	assert.Contains(t, enter(away, wren, "http://oddsfield.example/", lesson).body, no, "it is no game")
	require.Equal(t, "303", enter(away, wren, "http://puzzles.example/", lesson).status)
	becomes("the page", wren, "http://riddles.example/")
	assert.Equal(t, "the block page", sees(away, wren, "http://oddsfield.example/"))
	assert.Equal(t, "the block page", sees(away, kay, "http://puzzles.example/"))
	assert.Contains(t, run("try", "riddles.example", "--as", "wren.hollis", "--on", "live", "--trace"), "unlocked with a code")
	assert.Contains(t, run("code", "ls", "--passed"), "games")

	// Everything, for a person; not what the baseline blocks, and a code that opens nothing is not used up.
	inspection := code("--everything", "--person", "kay.moran")
	assert.Contains(t, enter(service, petra, "http://oddsfield.example/", inspection).body, no)
	snare := refused(t, service.Proxy, kay, "http://snare.example/", "This page is not allowed here")
	assert.NotContains(t, snare.page, `name="code"`, "the baseline decides")
	require.Equal(t, "303", enter(service, kay, "https://oddsfield.example/", inspection).status)
	for _, url := range []string{"http://oddsfield.example/today", "http://puzzles.example/", "https://harbour-news.example/puzzles"} {
		becomes("the page", kay, url)
	}
	assert.Equal(t, "the block page", sees(service, kay, "http://snare.example/"))

	// A site, for whoever has it, where nobody is known: for the address.
	site := code("oddsfield.example")
	require.Equal(t, "303", enter(service, nobody, "http://oddsfield.example/today", site).status)
	becomes("the page", nobody, "http://oddsfield.example/tomorrow")
	assert.Contains(t, enter(service, petra, "http://oddsfield.example/today", site).body, no, "it was for one use")
	require.Eventually(t, func() bool {
		return strings.Contains(run("journal", "search", "rung:unlocked since:10m"), "riddles.example")
	}, testkit.Patience, testkit.Look)
	assert.Equal(t, 3, strings.Count(run("audit"), "code entered"))

	for args, says := range map[string]string{
		"--everything x.example": "names nothing else", "--category nonsense": `no category or family "nonsense"`,
	} {
		assert.Contains(t, s.Run(t, "", append([]string{"code", "new", "--why", "a test", "--until", "1h"}, strings.Fields(args)...)...).Err, says)
	}

	// A help desk makes codes within its bounds.
	s.Run(t, "fern and gull 5", "account", "add", "desk", "--role", "", "--password-stdin").Done(t)
	run("account", "give", "desk", "help desk", "--group", "Trainees", "--reach", "site")
	desk := *s
	desk.Config = house.File(t, "desk.yaml", nil)
	desk.Run(t, "fern and gull 5", "login", "--name", "desk", "--password-stdin", "--server", s.URL).Done(t)
	try := func(args ...string) testkit.Ran {
		return desk.Run(t, "", append([]string{"code", "new", "--why", "a test", "--until", "1h"}, args...)...)
	}
	try("oddsfield.example", "--group", "Trainees").Done(t)
	assert.Contains(t, desk.Run(t, "", "code", "ls").Done(t), "Trainees")
	for _, args := range [][]string{{"oddsfield.example"}, {"oddsfield.example", "--group", "Nurses"}, {"--category", "games", "--group", "Trainees"}, {"--everything", "--person", "wren.hollis"}} {
		assert.Equal(t, 3, try(args...).Code, args)
	}
}

package changes

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// signedIn adds an account with roles, and returns the service as it is signed in there.
func signedIn(t *testing.T, s *testkit.Service, name, roles string) *testkit.Service {
	t.Helper()
	s.Run(t, testkit.Password, "account", "add", name, "--role", roles, "--password-stdin").Done(t)
	other := *s
	other.Config = filepath.Join(t.TempDir(), name+".yaml")
	other.Run(t, testkit.Password, "login", "--name", name, "--password-stdin", "--server", s.URL).Done(t)
	return &other
}

// One person's work goes live with what it hangs on, while another's is half done and stays the draft, whoever edited it.
func TestChoosing(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ivo, mara := signedIn(t, s, "ivo", "editor"), signedIn(t, s, "mara", "publisher")
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("list", "new", "Betting")
	run("list", "add", "Betting", "oddsfield.example")
	run("list", "new", "Old")
	run("publish", "--note", "as it is")

	ivo.Run(t, "", "list", "add", "Betting", "half-done.example", "slots.example").Done(t)
	ivo.Run(t, "", "list", "remove", "Betting", "oddsfield.example").Done(t)
	ivo.Run(t, "", "list", "edit", "Old", "--name", "Older").Done(t)
	ivo.Run(t, "", "group", "new", "Nurses").Done(t)
	run("list", "new", "Portals")
	run("list", "add", "Portals", "ferrow.example")
	run("policy", "new", "Records office", "--for", "Nurses")
	run("policy", "rule", "add", "Records office", "Portals", "--then", "allow", "--list", "Portals")
	before := run("diff")
	audit := strings.Count(run("audit", "-o", "csv"), "\n")
	history := run("list", "history", "Betting")

	assert.Contains(t, mara.Run(t, "", "publish", "--note", "x", "--only", "list Nothing").Err, "no change of the list")
	assert.Contains(t, mara.Run(t, "", "publish", "--note", "x", "--only", "policy Records office", "--at", "2h").Err, "the whole draft")
	said := mara.Run(t, "", "publish", "--note", "the portals", "--only", "policy Records office").Done(t)
	assert.Contains(t, said, "Revision 3 is live")
	for _, name := range []string{"Nurses", "Portals"} {
		assert.Contains(t, said, name, "the policy hangs on it")
	}
	live := run("policy", "ls")
	assert.Contains(t, live, "Records office")
	after := run("diff")
	for _, name := range []string{"Betting", "Older", "half-done.example", "slots.example"} {
		assert.Contains(t, after, name)
		assert.Contains(t, before, name)
	}
	assert.NotContains(t, after, "Portals")
	assert.Contains(t, after, "ivo", "whoever edited it is still said")
	assert.NotContains(t, after, "mara")
	assert.Equal(t, audit+1, strings.Count(run("audit", "-o", "csv"), "\n"), "only the publishing is an event")
	assert.Equal(t, history, run("list", "history", "Betting"), "nobody edited it")
	assert.Equal(t, "#: notation\nhalf-done.example\nslots.example\n", run("list", "export", "Betting"))
	assert.Contains(t, run("try", "oddsfield.example", "--on", "live"), "allow")

	// The rest goes live later, and what was chosen stays.
	mara.Run(t, "", "publish", "--note", "the rest").Done(t)
	assert.Contains(t, run("status"), "the draft is the same")
	run("rollback", "3", "--note", "the portals alone")
	assert.Contains(t, run("list", "ls"), "Older")

	// What is removed goes with what named it.
	run("policy", "remove", "Records office")
	run("group", "remove", "Nurses")
	run("list", "add", "Betting", "more.example")
	said = mara.Run(t, "", "publish", "--note", "no nurses", "--only", "group Nurses").Done(t)
	assert.Contains(t, said, "Records office")
	assert.Contains(t, run("diff"), "more.example")
}

// Where two people have to see each change, what one person edited alone is published by another; a token counts as its maker; and neither choosing nor planning is a way round.
func TestSecondLook(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ivo, mara := signedIn(t, s, "ivo", "editor,publisher"), signedIn(t, s, "mara", "editor,publisher")
	run := func(by *testkit.Service, args ...string) { by.Run(t, "", args...).Done(t) }
	refused := func(by *testkit.Service, says string, args ...string) {
		ran := by.Run(t, "", args...)
		assert.NotZero(t, ran.Code, args)
		assert.Contains(t, ran.Err, says, args)
	}
	const alone = "edited alone is published by another"
	refused(ivo, "Only owners may say how changes go live", "practice", "second-look", "on")
	run(s, "practice", "second-look", "on")
	run(ivo, "list", "new", "Betting")
	run(ivo, "list", "add", "Betting", "oddsfield.example")
	run(mara, "list", "new", "Portals")
	refused(ivo, alone, "publish", "--note", "mine and theirs")
	refused(ivo, `the list "Betting"`, "publish", "--note", "mine", "--only", "list Betting")
	refused(mara, alone, "publish", "--note", "all")
	run(ivo, "publish", "--note", "theirs", "--only", "list Portals")
	refused(ivo, alone, "publish", "--note", "mine, after the others are put back")
	secret := strings.TrimSpace(ivo.Run(t, "", "token", "new", "t").Done(t))
	program := *ivo
	program.Config = house.File(t, "token.yaml", []byte("server: "+s.URL+"\ntoken: "+secret+"\n"))
	refused(&program, alone, "publish", "--note", "a token counts as its maker")
	run(mara, "list", "add", "Betting", "slots.example")
	run(ivo, "publish", "--note", "mara has seen it")

	run(ivo, "list", "add", "Betting", "more.example")
	run(s, "practice", "second-look", "off")
	run(ivo, "publish", "--note", "alone")
	assert.Contains(t, s.Run(t, "", "practice", "show").Done(t), "One person is enough")

	run(ivo, "list", "add", "Betting", "yet-more.example")
	run(ivo, "remark", "new", "Is this all of them?", "--about", "list Betting")
	refused(ivo, `no account "nobody"`, "remark", "new", "x", "--ask", "nobody")
	assert.Contains(t, ivo.Run(t, "", "remark", "new", "Please look before the night shift", "--ask", "mara").Done(t), "Asked mara")
	said := mara.Run(t, "", "remark", "ls").Done(t)
	assert.Regexp(t, `mara +Please look before`, said)
	assert.Contains(t, said, "Betting")
	run(mara, "remark", "done", "1")
	audit := s.Run(t, "", "audit").Done(t)
	for _, what := range []string{"said of the draft", "asked to look", "seen to", "practices put"} {
		assert.Contains(t, audit, what)
	}
}

// The console chooses what goes live, asks somebody to look, and says why something is not published.
func TestChoosingInTheConsole(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	signedIn(t, s, "mara", "editor,publisher")
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("list", "new", "Betting")
	run("list", "new", "Portals")
	b := browser.SignedIn(t, s)
	b.GoTo("/changes")
	b.Tick("Publish Portals without the others")
	b.See("aside", "Only 1 chosen object goes live")
	b.Fill("aside textarea", "the portals")
	b.Accessible("a draft of which some is chosen")
	b.Press("Publish")
	b.See("body", "is live, with Portals")
	assert.Contains(t, run("diff"), "Betting")
	assert.NotContains(t, run("diff"), "Portals")

	b.Tick("What one person edited alone is published by another")
	b.See("aside", "has to be published by somebody else")
	b.Fill("aside textarea", "mine")
	b.Press("Publish")
	b.See("[role=alert]", "Nobody else than you has edited")
	b.Forget() // the refusal is an error to the browser
	b.Fill("main section form textarea", "Please look")
	b.Choose("main section form select", "mara")
	b.Press("Say it")
	b.See("main li", "asks mara to look")

	other := browser.Open(t, s.URL)
	other.SignIn("mara", testkit.Password)
	other.GoTo("/changes")
	other.See("main li", "Please look")
	other.Press("Seen to: Please look")
	other.Fill("aside textarea", "seen")
	other.Press("Publish")
	other.See("body", "is live")
	other.Quiet()
	b.Quiet()
	require.Contains(t, run("status"), "the draft is the same")
}

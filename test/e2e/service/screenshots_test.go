package service

import (
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// TestScreenshots takes the pictures of the documentation from the demo data. It runs only when -shots names a folder.
func TestScreenshots(t *testing.T) {
	if *house.Shots == "" {
		t.Skip("pictures are taken by `make screenshots`")
	}
	s := house.Server.Serve(t)
	partner := httptest.NewServer(demo.Partner())
	defer partner.Close()
	directory, err := demo.StartDirectory()
	require.NoError(t, err)
	defer directory.Stop()
	s.Kill()
	s.Args = append(s.Args, "--secret-file", filepath.Join(t.TempDir(), "secret")) // for the directory's password
	s.Start(t)
	require.NoError(t, demo.Load(t.Context(), s.API(t), demo.Loading{Dir: t.TempDir(), Partner: partner.URL, Directory: directory, Out: os.Stdout}))
	b := browser.Open(t, s.URL)
	picture := func(name string) { b.Picture(filepath.Join(*house.Shots, name+".png")) }
	b.GoTo("/")
	b.See("button", "Sign in")
	b.SignIn(testkit.Name, testkit.Password)
	b.See("td", "Suspect sites")
	picture("lists")

	b.GoTo("/lists")
	b.Press("Betting")
	b.See("td", "oddsfield.example")
	b.Fill("input[aria-label='Who asks']", "Ola Fenn")
	b.Try("oddsfield.example/today")
	b.See("aside", "Never on the ward")
	picture("list-and-trial")

	b.Press("Close the trial")
	b.GoTo("/lists")
	b.Press("Blocked on request")
	b.Press("Add entries")
	b.Fill("textarea", "https://www.gossip-gannet.example/today?from=ward\nsorrel-shopping,example\n0.0.0.0 ads.brine-banners.example\nwren-wares.example # asked for by Theatre")
	b.See("section", "did you mean sorrel-shopping.example?")

	b.Press("Cancel")
	b.GoTo("/lists")
	b.Press("Betting")
	b.Press("Text")
	b.See(".cm-line", "*jackpot*")
	b.Caret("*jackpot*")
	b.See("section[aria-label='What this line catches']", "quillmere-jackpot-fund")
	b.Await(`document.querySelector(".cm-lint-marker-warning") !== null`, "no warning in the margin")

	b.GoTo("/categories?key=betting")
	b.See("aside[aria-label='What is in it'] li", "betting")
	b.See("th", "Dangers")
	picture("categories")
	b.GoTo("/lookup?of=tidepool-news.example/sport/odds")
	b.See("section[aria-label='What packs said']", "version 46")
	b.GoTo("/lookup?of=marrow-trust.test/breast/screening")
	b.See("section[aria-label='What packs said']", "version 46")
	b.See("section[aria-label='Scorecards']", "screening")
	picture("lookup")
	b.GoTo("/packs")
	b.See("td", "an update waits")
	b.Press("Harbour catalogue")
	b.See("section[aria-label='Of what was asked for'] td", "static.ferrow-shelf.test")
	picture("pack-update")

	b.GoTo("/schedules")
	b.Press("Office hours")
	b.See("section[aria-label='The next changes'] li", "in force")
	b.Await(`document.fonts.status === 'loaded'`, "the faces are not there")
	time.Sleep(300 * time.Millisecond) // until they are drawn; nothing says when
	picture("schedule")

	gate := house.Gated(t, s, "", true, "--gate-name", "proxy at front-1")
	require.Eventually(t, func() bool {
		return strings.Contains(s.Run(t, "", "gate", "ls", "-o", "csv").Done(t), ",up to date,")
	}, testkit.Patience, testkit.Look)
	s.Run(t, demo.Password+" 7\n", "person", "password", "kay.moran", "--password-stdin").Done(t)
	for _, url := range []string{"http://harbour-news.example/", "https://tidepool-news.example/", "http://harbour-news.example/puzzles", "http://pebble-poker.example/", "http://oddsfield.example/today"} {
		require.NoError(t, exec.CommandContext(t.Context(), "curl", "-sk", "-o", "/dev/null", "-x", "http://kay.moran:quillmere-demo%207@"+gate.Proxy, "--proxy-basic", url).Run())
	}
	b.GoTo("/journal?q=verdict:block+since:7d")
	b.See("figure[aria-label='Requests over time'] svg", "")
	b.See("aside[aria-label='In common'] h2", "Categories")
	picture("journal")
	b.GoTo("/reports")
	b.See("figure[aria-label='Requests over time'] svg", "")
	b.See("section[aria-label='Sites blocked most']", "gull-films7.example")
	b.See("section[aria-label=Categories]", "Betting")
	picture("reports")
	b.GoTo("/gates")
	b.See("section[aria-label='Latest decisions'] td", "reference")
	b.See("td", "5 written")
	picture("gates")
	b.GoTo("/people?view=directories")
	b.See("section[aria-label='The change that waits'] td", "Noor Garth")
	picture("people")
	b.GoTo("/policies")
	b.Press("Ward floor")
	b.See("section[aria-label='Day plan']", "always")
	picture("policy")
	b.Press("Programs from unknown places")
	b.See("[role=dialog] p", "Hold what asks")
	b.See("[role=dialog] label", "programs")
	b.Press("Cancel")
	b.GoTo("/exceptions?view=all&url=harbour-news.example/puzzles&as=Kay%20Moran&at=sat%2002:00&sight=full")
	b.See("td", "Derby day")
	b.See("aside", "would change the verdict")
	picture("exceptions-and-trial")
	b.GoTo("/try?view=week&as=Night%20ward")
	b.Fill("main textarea", "harbour-news.example/puzzles\ngull-video.test\noddsfield.example\ndosage-tables.example")
	b.Press("Try 4 URLs")
	b.See("td", "Night ward")
	picture("week")
	b.GoTo("/try?view=matrix")
	b.Press("Fill in some to see how it works")
	b.Press("Try 6 URLs")
	b.See("td", "watch")
	picture("matrix")
	b.GoTo("/try")
	b.Press("Fill in some to see how it works")
	b.Press("Try 6 URLs")
	b.See("section", "blocked")
	picture("try")
	b.GoTo("/changes")
	b.See("li", "No games, no video")
	b.See("td", "Never on the ward")
	b.See("li", "is never reached")
	picture("changes")
	b.GoTo(`/changes?view=affected&categories=["video","games"]`)
	b.See("td", "Ward nurses")
	picture("before-you-block")
	b.Quiet()

	sedge := browser.Open(t, s.URL)
	sedge.SignIn("sedge", demo.Password)
	sedge.Press("Trainees' reading list4 entries")
	sedge.See("aside", "Lantern Mail for trainees")
	sedge.Picture(filepath.Join(*house.Shots, "stint.png"))
	terminal(t, s, filepath.Join(*house.Shots, "terminal.png"),
		`widelark try encyclopaedia.example/wiki/Tides --from 10.40.41.12 --journey`,
		`widelark who 10.40.41.12`)
}

// terminal takes a picture of commands in a terminal window, if the machine can show one.
func terminal(t *testing.T, s *testkit.Service, picture string, commands ...string) {
	t.Helper()
	for _, program := range []string{"Xvfb", "xterm", "import"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Logf("no picture of a terminal: %s is missing (apt-get install xvfb xterm imagemagick fonts-dejavu-core)", program)
			return
		}
	}
	dir := filepath.Dir(house.File(t, demo.HandKept, demo.File(demo.HandKept)))
	var script strings.Builder
	fmt.Fprintf(&script, "cd %s; export WIDELARK_CONFIG=%s PATH=%s:$PATH\n", dir, s.Config, filepath.Dir(testkit.Program(t, "widelark")))
	for _, command := range commands {
		fmt.Fprintf(&script, "printf '\\033[1m$\\033[0m %%s\\n' %s\n%s\necho\n", strconv.Quote(strings.ReplaceAll(command, `"`, `'`)), command)
	}
	script.WriteString("touch done; sleep 60\n")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "script"), []byte(script.String()), 0o600))
	start := func(name string, args ...string) {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "DISPLAY=:97", "LC_ALL=C.UTF-8")
		require.NoError(t, cmd.Start())
		t.Cleanup(func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		})
	}
	start("Xvfb", ":97", "-screen", "0", "1280x800x24")
	require.Eventually(t, func() bool {
		_, err := os.Stat("/tmp/.X11-unix/X97")
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	start("xterm", "-geometry", "138x41+0+0", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#f9f6ee", "-fg", "#2a2925",
		"-xrm", "*color9: #97392a", "-xrm", "*color10: #35654a", "-xrm", "*color1: #97392a", "-xrm", "*color4: #28607c", "-xrm", "*color12: #28607c", "-xrm", "*color2: #35654a", "-b", "14", "-e", "bash", filepath.Join(dir, "script"))
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "done"))
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	time.Sleep(time.Second) // until the window has drawn what it was told; nothing says when
	require.NoError(t, exec.Command("import", "-display", ":97", "-window", "root", "-crop", "1280x800+0+0", picture).Run())
}

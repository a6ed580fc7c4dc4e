package e2e

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
)

// TestScreenshots takes the pictures of the documentation from the demo data. It runs only when -shots names a folder.
func TestScreenshots(t *testing.T) {
	if *shots == "" {
		t.Skip("pictures are taken by `make screenshots`")
	}
	s := server.Serve(t)
	partner := httptest.NewServer(demo.Partner())
	defer partner.Close()
	require.NoError(t, demo.Load(t.Context(), s.API(t), t.TempDir(), partner.URL, os.Stdout))
	b := open(t, s.URL)
	picture := func(name string) { b.picture(filepath.Join(*shots, name+".png")) }
	b.goTo("/")
	b.see("button", "Sign in")
	b.signIn(testkit.Name, testkit.Password)
	b.see("td", "Suspect sites")
	picture("lists")

	b.goTo("/lists")
	b.press("Betting")
	b.see("td", "oddsfield.example")
	b.fill("input[aria-label='Who asks']", "Ola Fenn")
	b.try("oddsfield.example/today")
	b.see("aside", "Never on the ward")
	picture("list-and-trial")

	b.press("Close the trial")
	b.goTo("/lists")
	b.press("Blocked on request")
	b.press("Add entries")
	b.fill("textarea", "https://www.gossip-gannet.example/today?from=ward\nsorrel-shopping,example\n0.0.0.0 ads.brine-banners.example\nwren-wares.example # asked for by Theatre")
	b.see("section", "did you mean sorrel-shopping.example?")

	b.press("Cancel")
	b.goTo("/lists")
	b.press("Betting")
	b.press("Text")
	b.see(".cm-line", "*jackpot*")
	b.caret("*jackpot*")
	b.see("section[aria-label='What this line catches']", "quillmere-jackpot-fund")
	b.await(`document.querySelector(".cm-lint-marker-warning") !== null`, "no warning in the margin")
	picture("list-as-text")

	b.goTo("/lists")
	b.press("Old ward links")
	b.press("Tidy")
	b.see("section[aria-label^='Findings']", "Both cover")
	picture("tidy")

	b.goTo("/categories?key=betting")
	b.see("aside[aria-label='What is in it'] li", "betting")
	b.see("th", "Dangers")
	picture("categories")
	b.goTo("/lookup?of=tidepool-news.example/sport/odds")
	b.see("section[aria-label='What packs said']", "version 46")
	b.goTo("/lookup?of=marrow-trust.test/breast/screening")
	b.see("section[aria-label='What packs said']", "version 46")
	b.see("section[aria-label='Scorecards']", "screening")
	picture("lookup")
	b.goTo("/packs")
	b.see("td", "an update waits")
	b.press("Harbour catalogue")
	b.see("section[aria-label='Of what was asked for'] td", "static.ferrow-shelf.test")
	picture("pack-update")

	b.goTo("/schedules")
	b.press("Office hours")
	b.see("section[aria-label='The next changes'] li", "in force")
	b.await(`document.fonts.status === 'loaded'`, "the faces are not there")
	time.Sleep(300 * time.Millisecond) // until they are drawn; nothing says when
	picture("schedule")

	b.goTo("/people?who=Kay%20Moran")
	b.see("section[aria-label='Who is this']", "Night ward")
	b.see("td", "ada.")
	picture("people")
	b.goTo("/policies")
	b.press("Ward floor")
	b.see("section[aria-label='Day plan']", "always")
	picture("policy")
	b.press("Programs from unknown places")
	b.see("[role=dialog] p", "Hold what asks")
	b.see("[role=dialog] label", "programs")
	picture("rule")
	b.press("Cancel")
	b.goTo("/exceptions?view=all&url=harbour-news.example/puzzles&as=Kay%20Moran&at=sat%2002:00&sight=full")
	b.see("td", "Derby day")
	b.see("aside", "turn it round")
	picture("exceptions-and-trial")
	b.goTo("/try?view=week&as=Night%20ward")
	b.fill("main textarea", "harbour-news.example/puzzles\ngull-video.test\noddsfield.example\ndosage-tables.example")
	b.press("Try 4 URLs")
	b.see("td", "Night ward")
	picture("week")
	b.goTo("/try?view=matrix")
	b.press("Fill in some to see how it works")
	b.press("Try 6 URLs")
	b.see("td", "watch")
	picture("matrix")
	b.goTo("/try")
	b.press("Fill in some to see how it works")
	b.press("Try 6 URLs")
	b.see("section", "blocked")
	picture("try")
	b.goTo("/changes")
	b.see("li", "No games, no video")
	b.see("td", "Never on the ward")
	b.see("li", "is never reached")
	picture("changes")
	b.goTo(`/changes?view=affected&categories=["video","games"]`)
	b.see("td", "Ward nurses")
	picture("before-you-block")
	b.goTo("/lists")

	b.eval(`localStorage.setItem('theme', 'dark')`)
	b.goTo("/policies?url=encyclopaedia.example/wiki/Tides&as=Bedside%204-12")
	b.see("aside", "a name that does not resolve")
	b.see("li", "Ward floor")
	picture("dark")
	b.quiet()
	terminal(t, s, filepath.Join(*shots, "terminal.png"),
		`widelark try encyclopaedia.example/wiki/Tides --from 10.40.41.12 --journey`,
		`widelark who 10.40.41.12`)
}

// terminal takes a picture of commands in a terminal window, where the machine can show one.
func terminal(t *testing.T, s *testkit.Service, picture string, commands ...string) {
	t.Helper()
	for _, program := range []string{"Xvfb", "xterm", "import"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Logf("no picture of a terminal: %s is missing (apt-get install xvfb xterm imagemagick fonts-dejavu-core)", program)
			return
		}
	}
	dir := filepath.Dir(file(t, demo.HandKept, demo.File(demo.HandKept)))
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

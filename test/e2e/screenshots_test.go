package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"widelark/demo"
	"widelark/internal/testkit"

	"github.com/stretchr/testify/require"
)

// TestScreenshots takes the pictures of the documentation from the demo data. It runs only when -shots names a folder.
func TestScreenshots(t *testing.T) {
	if *shots == "" {
		t.Skip("pictures are taken by `make screenshots`")
	}
	s := server.Serve(t)
	require.NoError(t, demo.Load(t.Context(), s.API(t), t.TempDir(), os.Stdout))
	b := open(t, s.URL)
	picture := func(name string) { b.picture(filepath.Join(*shots, name+".png")) }
	b.goTo("/")
	b.see("button", "Sign in")
	picture("sign-in")
	b.signIn(testkit.Name, testkit.Password)
	b.see("td", "Suspect sites")
	picture("lists")

	b.press("Betting")
	b.see("td", "oddsfield.example")
	b.try("oddsfield.example/today")
	b.see("aside", "Never on the ward")
	picture("list-and-trial")

	b.press("Close the trial")
	b.goTo("/lists")
	b.press("Blocked on request")
	b.press("Add entries")
	b.fill("textarea", "https://www.gossip-gannet.example/today?from=ward\nsorrel-shopping,example\n0.0.0.0 ads.brine-banners.example\nwren-wares.example # asked for by Theatre")
	b.see("section", "did you mean sorrel-shopping.example?")
	picture("add-entries")

	b.goTo("/try")
	b.press("Fill in some to see how it works")
	b.press("Try 6 URLs")
	b.see("section", "blocked")
	picture("try")

	b.eval(`localStorage.setItem('theme', 'dark')`)
	b.goTo("/lists?url=gull-video.co.uk")
	b.see("aside", "Video mirrors")
	picture("dark")
	b.quiet()
}

package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
)

// housed is a service with a pack of a few sites, some recorded traffic, and an update that waits.
func housed(t *testing.T) (*testkit.Service, *maker) {
	t.Helper()
	s := server.Serve(t)
	m := newMaker(t, s)
	s.Run(t, "", "pack", "trust", m.key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour", m.url, "--paused", "--hold", "--max-shrink", "60").Done(t)
	m.build(t, "heron.example,games", "heron.example/news,news", "marrow-trust.test,adult", "snare.example,malware")
	s.Run(t, "", "pack", "pull", "Harbour").Done(t)
	m.build(t, "heron.example,video", "marrow-trust.test,adult", "tern.example,chat", "snare.example,malware")
	s.Run(t, "", "pack", "pull", "Harbour").Done(t)
	_, err := s.API(t).AddSeenWithResponse(t.Context(), client.AddSeenInputBody{Pages: []client.SeenPage{
		seen("www.heron.example/play", 40), seen("marrow-trust.test/breast/screening", 12), seen("nobody.example/a", 5), seen("somebody.example", 3),
	}})
	require.NoError(t, err)
	return s, m
}

// From a complaint to the cause and the correction, in the console.
func TestConsoleCategories(t *testing.T) {
	t.Parallel()
	s, _ := housed(t)
	s.Run(t, "", "list", "new", "Formulary").Done(t)
	s.Run(t, "", "list", "add", "Formulary", "dosage.example").Done(t)
	b := signedIn(t, s)

	b.press("Categories")
	b.see("th", "Dangers")
	b.see("td", "Malware")
	b.accessible("categories")
	b.fill("input[type=search]", "puzzle")
	b.see("td", "in Leisure")
	b.press("Games")
	b.see("aside[aria-label='What is in it'] li", "heron.example")
	b.accessible("a category")
	b.press("Close")
	b.gone("aside[aria-label='What is in it']")

	// A category of our own.
	b.press("Category of our own")
	b.fill("[role=dialog] input", "Dosage pages")
	b.await(`(() => { const e = [...document.querySelectorAll('[role=dialog] label')].find((l) => l.textContent.trim() === 'Formulary'); e?.click(); return !!e })()`, "no list Formulary")
	b.accessible("making a category")
	b.press("Make the category")
	b.gone("[role=dialog]")
	b.goTo("/categories?key=dosage-pages")
	b.see("aside[aria-label='What is in it']", "in place of what the catalogue says")
	b.press("Edit")
	b.await(`(() => { const e = [...document.querySelectorAll('[role=dialog] label')].find((l) => l.textContent.includes('Add to what')); e?.click(); return !!e })()`, "no switch")
	b.press("Save")
	b.see("aside[aria-label='What is in it']", "beside what the catalogue says")

	// Look up, correct, see that it counts, take it back and bring it again.
	b.press("Look up")
	b.fill("input[aria-label='URL to look up']", "marrow-trust.test/breast/screening")
	b.do(chromedp.KeyEvent("\r"))
	b.see("section[aria-label='Because']", "Harbour")
	b.see("section[aria-label='What packs said']", "version 1")
	b.see("section[aria-label='From the site to the page']", "marrow-trust.test/breast")
	b.accessible("a lookup")
	b.press("Correct")
	b.fill("[role=dialog] input[type=search]", "chari")
	b.see("[role=dialog] li", "Giving and helping.")
	b.do(chromedp.KeyEvent("\r"))
	b.fill("[role=dialog] textarea", "A cancer charity")
	b.accessible("correcting")
	b.await(`(() => { const e = [...document.querySelectorAll('[role=dialog] button[type=submit]')][0]; if (!e || e.disabled) return false; e.click(); return true })()`, "it cannot be corrected")
	b.see("section[aria-label='Because']", "correction")
	b.see("section[aria-label='Also said, and does not count beside that']", "Adult")
	b.goTo("/categories?view=corrections")
	b.see("td", "A cancer charity")
	b.accessible("corrections")
	b.press("Take back")
	b.see("h2", "Nothing is corrected")
	b.press("Undo")
	b.see("td", "A cancer charity")

	// What is unrated, many at once.
	b.press("Unrated")
	b.see("td", "nobody.example")
	b.await(`(() => { const e = document.querySelector('input[aria-label="Choose all that are shown"]'); e?.click(); return !!e })()`, "nothing to choose")
	b.see("span", "2 hosts chosen")
	b.accessible("unrated")
	b.press("Say what they are")
	b.fill("[role=dialog] input[type=search]", "weather")
	b.see("[role=dialog] li", "Forecasts, tide tables.")
	b.do(chromedp.KeyEvent("\r"))
	b.fill("[role=dialog] textarea", "looked at")
	b.press("Correct")
	b.see("h2", "Everything that was asked for has a category")

	// Scorecards.
	b.press("Scorecards")
	b.press("New scorecard")
	b.fill("[role=dialog] input", "Adult words")
	b.fill("[role=dialog] input[type=search]", "adult")
	b.see("[role=dialog] li", "Sexual pictures")
	b.do(chromedp.KeyEvent("\r"))
	b.fill("[role=dialog] textarea", "breast* 60\nbare 60\ncancer -100\nodd")
	b.see("[role=dialog]", "line 4: a word and its points are wanted")
	b.fill("[role=dialog] textarea", "breast* 60\nbare 60\ncancer -100")
	b.accessible("a scorecard")
	b.press("Save")
	b.see("section[aria-label='Try a text']", "20 of 100: not reached")
	b.fill("section[aria-label='Try a text'] textarea", "shore.example/bare/breast")
	b.see("section[aria-label='Try a text']", "120 of 100: Adult")
	b.accessible("scorecards")

	// A trial says what it is, too, and leads on.
	b.try("www.heron.example/play")
	b.see("section[aria-label='It is']", "Games")
	b.press("Look it up")
	b.see("section[aria-label='Because']", "heron.example")
	b.goTo("/lookup?many=true")
	b.fill("textarea", "heron.example\nnot a url at all\nsnare.example")
	b.press("Look up 3 URLs")
	b.see("td", "Malware")
	b.quiet()
}

// An update that waits is looked at, put in force, undone; keys are trusted; settings are changed.
func TestConsolePacks(t *testing.T) {
	t.Parallel()
	s, m := housed(t)
	b := signedIn(t, s)
	b.press("Packs")
	b.see("td", "an update waits")
	b.accessible("packs")
	b.press("Harbour")
	b.see("section[aria-label='Of what was asked for'] td", "www.heron.example/play")
	b.see("p", "1 site comes, 1 move, 1 go.")
	b.accessible("an update")
	b.press("Put it in force")
	b.see("p", "No update waits")
	b.see("p", "version 2 of")
	b.press("Undo the last update")
	b.see("p", "version 1 of")
	b.press("History")
	b.see("td", "undone: in force again")
	b.accessible("a pack's history")
	b.press("What changed")
	b.see("section[aria-label='Sites']", "tern.example")

	file := m.build(t, "heron.example,video")
	b.press("Pull now")
	b.see("p", "last pull refused")
	b.see("p", "It would take away 3 of 4 sites, more than 60 per cent.")
	b.press("Pull, however much goes")
	b.see("p", "an update waits")
	b.press("What an update changes")
	b.press("Leave it aside")
	b.see("[role=status]", "The update stays aside")
	m.build(t, "heron.example,chat")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	b.see("p", "an update waits")

	b.press("Settings")
	b.accessible("a pack's settings")
	b.fill("main form input", "Harbour office's")
	b.press("Save")
	b.see("h1", "Harbour office's")
	b.press("Take it out of the catalogue")
	b.press("Yes, with all its versions")
	b.see("h2", "No packs yet")
	b.fill("section[aria-label='Trusted keys'] input", "Estuary")
	b.fill("section[aria-label='Trusted keys'] .mono:is(input)", strings.Repeat("x", 9))
	b.press("Trust it")
	b.see("section[aria-label='Trusted keys']", "44 characters of base64")
	b.forget() // the browser itself writes a line for each answer that is an error
	b.fill("section[aria-label='Trusted keys'] .mono:is(input)", strings.Repeat("A", 43)+"=")
	b.press("Trust it")
	b.see("section[aria-label='Trusted keys'] li", "Estuary")
	b.press("Add the first pack")
	b.fill("[role=dialog] input", "By hand")
	b.accessible("adding a pack")
	b.press("Add it")
	b.see("p", "Nothing has come of this pack yet.")
	b.quiet()
}

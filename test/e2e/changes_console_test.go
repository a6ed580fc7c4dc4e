package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The draft's story on one page: what changed, what turns, who would have noticed, what is wrong; mended by its buttons, published, taken back.
func TestConsoleChanges(t *testing.T) {
	t.Parallel()
	s := hospital(t)
	b := signedIn(t, s)
	b.goTo("/changes")
	b.see("main", "The draft differs from it in 5 objects.")
	b.see("nav a[href^='/changes'] span", "5")
	b.see("li", "Games and video in breaks")
	b.see("li", "Doctors, Theatre staff, Ward nurses")
	b.see("td", "Ward floor: Never on the ward")
	b.see("li", "block in place of watch.")
	b.see("li", "is never reached")
	b.accessible("the draft's story")

	// Drill down into what would have gone otherwise.
	b.press("Ward floor: No games, no video")
	b.see("section[aria-label^='Requests that'] td", "https://")

	// A finding is mended by one step, another accepted with a reason.
	b.eval(`[...document.querySelectorAll('li')].find((li) => li.textContent.includes('"Games and video in breaks" is never reached') && li.querySelector('button[title^="Move it above"]')).querySelector('button[title^="Move it above"]').click()`)
	b.see("[role=status]", "Done: Move it above")
	b.see("main", "The draft differs from it in 4 objects.")
	b.see("h3", "1 of 30 expectations fail")
	b.press("Replace")
	b.see("[role=status]", "Done: Write ~host")
	b.see("li", "~host (^|[.-])bet([.-]|$)")
	b.eval(`[...document.querySelectorAll('li')].find((li) => li.textContent.includes('Study of dangers') && li.querySelector('button[aria-expanded]')).querySelector('button[aria-expanded]').click()`)
	b.fill("input[aria-label='Why it is as it should be']", "The library asked for the flag")
	b.press("Accept it")
	b.see("[role=status]", "Accepted.")
	b.see("button", "Show 1 that were accepted")

	// What is left that fails goes back to what is live; then it is published.
	b.press("Discard the change of Betting")
	b.see("[role=status]", "Betting is what is live again.")
	b.see("main", "All 30 expectations hold.")
	b.fill("textarea", "Supplier portals, longer visiting")
	b.press("Publish")
	b.see("[role=status]", "Revision 3 is live.")
	b.see("main", "Nothing to publish")
	b.press("Revisions 3")
	b.see("td", "Supplier portals, longer visiting")
	b.press("What it changed")
	b.see("section li", "quoin-surgical.example")
	b.accessible("revisions")
	b.press("Put live again")
	b.see("[role=dialog] h2", "Put revision 2 live again")
	b.fill("[role=dialog] textarea", "they rang")
	b.press("Put it live")
	b.gone("[role=dialog]")
	b.see("td", "The same as revision 2.")
	b.press("Who did what")
	b.see("td", "taken back")
	b.fill("input[aria-label='Filter']", "visiting")
	b.see("td", "Visiting")
	b.accessible("who did what")

	// A trial becomes an expectation by one action.
	b.fill("input[aria-label='Who asks']", "Doctors")
	b.try("dosage-tables.example/adults")
	b.see("aside", "allow")
	b.press("Expect this from now on")
	b.see("[role=status]", "Expected from now on: dosage-tables.example/adults: allow (2).")
	b.press("Close the trial")
	b.press("Expectations 31")
	b.see("li", "A member of Doctors gets allow for dosage-tables.example/adults.")
	b.accessible("expectations")
	b.press("Delete the expectation dosage-tables.example/adults: allow (2)")
	b.see("button", "Expectations 30")

	// The policy says of a rule what the review finds.
	b.goTo("/policies")
	b.press("Offices")
	b.see("li p", `The rule "Social sites are watched" is never reached`)

	// Before a rule is written: who would be affected, and when.
	b.goTo(`/changes?view=affected&categories=["video"]`)
	b.see("td", "Night ward")
	b.see("main", "known people to")
	b.accessible("before you block")
	assert.Contains(t, s.Run(t, "", "audit", "--limit", "5").Done(t), "removed")
	b.quiet()
}

// The trial sheet tells what is live where the draft says otherwise.
func TestConsoleDraftBesideLive(t *testing.T) {
	t.Parallel()
	s := hospital(t)
	b := signedIn(t, s)
	b.goTo("/lists?url=harbour-news.example/puzzles/today&as=Ward%20nurses&at=12:40")
	b.see("aside", "Live it is watch")
	b.see("aside", `"No games, no video"`)
	b.accessible("a trial beside what is live")
	b.quiet()
}

package changes

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// The changes page shows what changed, what turns, who would have noticed and what is wrong; its buttons mend, publish and roll back.
func TestConsoleChanges(t *testing.T) {
	t.Parallel()
	s := house.Hospital(t)
	b := browser.SignedIn(t, s)
	b.GoTo("/changes")
	b.See("main", "The draft differs from it in 5 objects.")
	b.See("nav a[href^='/changes'] span", "5")
	b.See("li", "Games and video in breaks")
	b.See("li", "Doctors, Theatre staff, Ward nurses")
	b.See("td", "Ward floor: Never on the ward")
	b.See("li", "block in place of watch.")
	b.See("li", "is never reached")
	b.Accessible("the draft's story")

	// Drill down into what would have gone otherwise.
	b.Press("Ward floor: No games, no video")
	b.See("section[aria-label^='Requests that'] td", "https://")

	// A finding is mended by one step, another accepted with a reason.
	b.Eval(`[...document.querySelectorAll('li')].find((li) => li.textContent.includes('"Games and video in breaks" is never reached') && li.querySelector('button[title^="Move it above"]')).querySelector('button[title^="Move it above"]').click()`)
	b.See("[role=status]", "Done: Move it above")
	b.See("main", "The draft differs from it in 4 objects.")
	b.See("h3", "1 of 30 expectations fail")
	b.Press("Replace")
	b.See("[role=status]", "Done: Write ~host")
	b.See("li", "~host (^|[.-])bet([.-]|$)")
	b.Eval(`[...document.querySelectorAll('li')].find((li) => li.textContent.includes('Study of dangers') && li.querySelector('button[aria-expanded]')).querySelector('button[aria-expanded]').click()`)
	b.Fill("input[aria-label='Why it is as it should be']", "The library asked for the flag")
	b.Press("Accept it")
	b.See("[role=status]", "Accepted.")
	b.See("button", "Show 1 that were accepted")

	// What is left that fails goes back to what is live; then it is published.
	b.Press("Discard the change of Betting")
	b.See("[role=status]", "Betting is what is live again.")
	b.See("main", "All 30 expectations hold.")
	b.Fill("aside textarea", "Supplier portals, longer visiting")
	b.Press("Publish")
	b.See("[role=status]", "Revision 3 is live.")
	b.See("main", "Nothing to publish")
	b.Press("Revisions 3")
	b.See("td", "Supplier portals, longer visiting")
	b.Press("What it changed")
	b.See("section li", "quoin-surgical.example")
	b.Accessible("revisions")
	b.Press("Put live again")
	b.See("[role=dialog] h2", "Put revision 2 live again")
	b.Fill("[role=dialog] textarea", "they rang")
	b.Press("Put it live")
	b.Gone("[role=dialog]")
	b.See("td", "The same as revision 2.")
	b.Press("Who did what")
	b.See("td", "taken back")
	b.Fill("input[aria-label='Filter']", "visiting")
	b.See("td", "Visiting")
	b.Accessible("who did what")

	// A trial becomes an expectation by one action.
	b.Fill("input[aria-label='Who asks']", "Doctors")
	b.Try("dosage-tables.example/adults")
	b.See("aside", "allow")
	b.Press("Expect this from now on")
	b.See("[role=status]", "Expected from now on: dosage-tables.example/adults: allow (2).")
	b.Press("Close the trial")
	b.Press("Expectations 31")
	b.See("li", "A member of Doctors gets allow for dosage-tables.example/adults.")
	b.Accessible("expectations")
	b.Press("Delete the expectation dosage-tables.example/adults: allow (2)")
	b.See("button", "Expectations 30")

	// The policy says of a rule what the review finds.
	b.GoTo("/policies")
	b.Press("Offices")
	b.See("li p", `The rule "Social sites are watched" is never reached`)

	// Before a rule is written: who would be affected, and when.
	b.GoTo(`/changes?view=affected&categories=["video"]`)
	b.See("td", "Night ward")
	b.See("main", "known people to")
	b.Accessible("before you block")
	assert.Contains(t, s.Run(t, "", "audit", "--limit", "5").Done(t), "removed")
	b.Quiet()
}

// The trial sheet shows the live verdict where it differs from the draft's.
func TestConsoleDraftBesideLive(t *testing.T) {
	t.Parallel()
	s := house.Hospital(t)
	b := browser.SignedIn(t, s)
	b.GoTo("/lists?url=harbour-news.example/puzzles/today&as=Ward%20nurses&at=12:40")
	b.See("aside", "Live it is watch")
	b.See("aside", `"No games, no video"`)
	b.Accessible("a trial beside what is live")
	b.Quiet()
}

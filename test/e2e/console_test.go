package e2e

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"

	"widelark/demo"
	"widelark/internal/testkit"
)

// The journey of a newcomer: sign in, make a list, paste entries with one wrong, see it marked, mend it, try a URL, see
// it blocked and by what.
func TestConsoleJourney(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	b := open(t, s.URL)
	b.goTo("/lists")
	b.fill("input[name=name]", testkit.Name)
	b.fill("input[name=password]", "a-wrong-password")
	b.press("Sign in")
	b.see("[role=alert]", "Name and password do not belong together.")
	b.accessible("sign-in")
	b.forget() // the browser writes down that the sign-in was refused, as it should

	b.signIn(testkit.Name, testkit.Password)
	b.see("h2", "No lists yet")
	b.accessible("no lists")
	b.press("Make the first list")
	b.press("Make the list")
	b.see("[role=dialog]", "a name is wanted")
	b.fill("[role=dialog] input", "Betting")
	b.press("Make the list")
	b.see("h1", "Betting")
	b.see("h2", "No entries yet")

	b.press("Add the first entries")
	b.fill("textarea", "oddsfield.example # why\nhttps://www.lucky-lantern.example/today?x=1\nodds,example")
	b.see("section[aria-label='Refused lines']", "did you mean odds.example?")
	b.see("section[aria-label='Changed lines']", "www.lucky-lantern.example/today")
	b.see("[role=dialog] [role=status]", "3 lines: 1 good, 1 changed, 1 refused")
	b.accessible("adding entries")
	b.press("Use that")
	b.see("[role=dialog] [role=status]", "2 good, 1 changed, 0 refused")
	b.press("Add 3 lines")
	b.gone("[role=dialog]")
	b.see("[role=status]", "3 entries added")
	b.see("td", "odds.example")
	b.accessible("a list")

	b.try("www.oddsfield.example/today")
	b.see("aside", "allow")
	b.see("aside", "The fallback has no rules")
	s.Run(t, "", "policy", "rule", "add", "Fallback", "Never on the ward", "--list", "Betting").Done(t)
	b.try("www.oddsfield.example/today")
	b.see("aside dd", "Never on the ward")
	b.see("aside dd", "oddsfield.example")
	b.see("aside", "block")
	b.accessible("a trial")
	b.do(chromedp.KeyEvent("\u001b")) // Escape
	b.gone("aside")

	b.press("Try")
	b.press("Fill in some to see how it works")
	b.press("Try 6 URLs")
	b.see("section[aria-label=Answers]", "4 allowed, 2 blocked")
	b.accessible("many trials")
	// The address holds them: whoever opens it sees the same.
	b.await(`new URLSearchParams(location.search).get('urls')?.split('\n').length === 6`, "the URLs do not stand in the address")
	b.eval(`location.reload()`)
	b.see("section[aria-label=Answers]", "4 allowed, 2 blocked")
	b.quiet()
}

func TestConsoleLists(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	s.Run(t, "", "list", "new", "Blocked on request").Done(t)
	b := signedIn(t, s)

	// A file as people keep them goes in through the console, and the counts are right to the line.
	b.press("Blocked on request")
	b.press("Import a file")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file(t, demo.HandKept, demo.File(demo.HandKept))}))
	b.see("[role=dialog] [role=status]", "58 lines: 21 good, 14 changed, 13 refused, 5 notes, 5 blank")
	b.accessible("importing a file")
	b.press("Add 40 lines, leave 13 out")
	b.see("[role=status]", "33 entries added, 0 updated, 3 there already, 13 lines refused.")
	b.see("p", "33 entries, 5 notes")

	// So does a large one; its table opens at once and goes on as one scrolls.
	b.press("Import a file")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file(t, demo.Suspects, demo.SuspectSites())}))
	b.see("[role=dialog] [role=status]", "100,000 lines: 100,000 good")
	b.press("Add 100,000 lines")
	b.see("[role=status]", "4 there already") // the made-up sites meet four of the kept ones
	b.see("p", "100,029 entries")
	b.see("span", "100,034 lines, 500 fetched so far")
	b.eval(`document.querySelector('section[aria-label^=Entries]').scrollTo(0, 1e6)`)
	b.see("span", "1,000 fetched so far")
	b.fill("input[aria-label='Filter entries']", "pixel-arcade.example")
	b.see("tbody", "twice in one week")
	b.await(`document.querySelectorAll('tbody tr[data-index]').length <= 3`, "the filter does not filter")

	// A file that replaces the list says what goes before it does.
	b.press("Import a file")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file(t, demo.HandKept, demo.File(demo.HandKept))}))
	b.see("[role=dialog] [role=status]", "0 new, 0 updated, 36 there already")
	b.eval(`document.querySelector('[role=dialog] input[type=checkbox]').click()`)
	b.see("[role=dialog] [role=status]", "99,996 taken out")
	b.accessible("replacing a list")
	b.press("Replace the list by 40 lines, leave 13 out")
	b.see("p", "33 entries, 5 notes")

	// What mentions a text is found from the page of all lists, and the list opens at it.
	b.goTo("/lists")
	b.fill("input[type=search]", "twice in one")
	b.see("section[aria-label='Entries found'] td", "pixel-arcade.example")
	b.accessible("entries found")
	b.press("Blocked on request")
	b.see("tbody", "twice in one week")
	b.await(`document.querySelectorAll('tbody tr[data-index]').length === 1`, "the list does not open at what was found")

	// Entries are taken out, the list is renamed, saved and deleted.
	b.eval(`document.querySelector('tbody input[type=checkbox]').click()`)
	b.press("Take out of the list")
	b.see("[role=status]", "Took 1 line out of Blocked on request.")
	b.press("More for this list")
	b.press("Rename, describe, mark")
	b.fill("[role=dialog] input", "Asked for")
	b.press("Save")
	b.see("h1", "Asked for")
	b.press("More for this list")
	b.press("Delete the list")
	b.press("Delete the list")
	b.see("h2", "No lists yet")
	b.goTo("/lists/00000000-0000-0000-0000-000000000000")
	b.see("[role=alert]", "There is no such thing here")
	b.goTo("/nowhere")
	b.see("h2", "There is no such page")
	b.forget() // the list that is not there was asked for on purpose

	// Light and dark are chosen and kept; signing out leads to the door.
	b.goTo("/lists?url=heron.example")
	b.see("aside", "allow")
	b.press("Edda Marsh")
	b.press("Dark slate")
	b.await(`document.documentElement.dataset.theme === 'dark'`, "it stays light")
	b.accessible("dark")
	b.press("Edda Marsh")
	b.press("Sign out")
	b.see("button", "Sign in")
	b.quiet()
}

func TestConsoleWithoutService(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	b := signedIn(t, s)
	s.Kill()
	b.try("heron.example")
	b.see("aside [role=alert]", "The service does not answer.")
	s.Start(t)
	// The browser may find the old connection dead before it makes a new one.
	b.await(`(() => {
		const aside = document.querySelector('aside')
		if (aside.innerText.includes('allow')) return true
		const again = [...aside.querySelectorAll('button')].find((e) => e.textContent.trim() === 'Try again')
		again?.click()
		return false
	})()`, "no answer after the service is back")
	assert.NotEmpty(t, s.URL)
}

// Everything that a pointer does is done by the keyboard alone.
func TestConsoleByKeyboard(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "new", "Suppliers").Done(t)
	s.Run(t, "", "list", "add", "Betting", "a.example", "b.example").Done(t)
	b := signedIn(t, s)
	b.see("td", "Suppliers")
	key := func(keys ...string) {
		for _, k := range keys {
			b.do(chromedp.KeyEvent(k))
		}
	}
	focused := func(text string) {
		t.Helper()
		b.await(`(document.activeElement.getAttribute('aria-label') ?? document.activeElement.textContent).trim() === `+strconv.Quote(text), "the focus is not on "+text)
	}
	b.goTo("/lists")
	b.see("td", "Suppliers")
	key(kb.Tab)
	focused("Go to the page")
	key(kb.Enter, kb.Tab, kb.Tab, kb.Tab, kb.Tab, kb.Tab, kb.Tab)
	focused("Betting")
	key(kb.ArrowDown)
	focused("Suppliers")
	key(kb.ArrowUp)
	focused("Betting")
	key(kb.Enter)
	b.see("h1", "Betting")

	// A dialog takes the focus, Escape closes it, and the focus is where it was.
	b.eval(`[...document.querySelectorAll('button')].find((e) => e.textContent.includes('Add entries')).focus()`)
	key(kb.Enter)
	b.await(`document.activeElement.tagName === 'TEXTAREA'`, "the dialog does not take the focus")
	key(kb.Escape)
	b.gone("[role=dialog]")
	focused("Add entries")

	b.eval(`document.querySelector('tbody input').focus()`)
	key(" ", kb.ArrowDown, " ")
	b.see("span", "2 lines chosen")
	b.try("a.example")
	b.see("aside", "allow")
	key(kb.Escape)
	b.gone("aside")
	b.await(`document.activeElement.id === 'try-url'`, "the focus is lost with the sheet")
	b.see("span", "2 lines chosen") // a trial costs no page change
	b.quiet()
}

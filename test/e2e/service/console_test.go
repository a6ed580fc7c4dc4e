package service

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"

	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// The first steps of a newcomer: sign in, make a list, paste entries with one wrong, see it marked, mend it, try a URL, see
// it blocked and by what.
func TestConsoleJourney(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	b := browser.Open(t, s.URL)
	b.GoTo("/lists")
	b.Fill("input[name=name]", testkit.Name)
	b.Fill("input[name=password]", "a-wrong-password")
	b.Press("Sign in")
	b.See("[role=alert]", "Name and password do not belong together.")
	b.Accessible("sign-in")
	b.Forget() // the browser writes down that the sign-in was refused, as it should

	b.SignIn(testkit.Name, testkit.Password)
	b.See("h2", "No lists yet")
	b.Accessible("no lists")
	b.Press("Make the first list")
	b.Press("Make the list")
	b.See("[role=dialog]", "a name is wanted")
	b.Fill("[role=dialog] input", "Betting")
	b.Press("Make the list")
	b.See("h1", "Betting")
	b.See("h2", "No entries yet")

	b.Press("Add the first entries")
	b.Fill("textarea", "oddsfield.example # why\nhttps://www.lucky-lantern.example/today?x=1\nodds,example")
	b.See("section[aria-label='Refused lines']", "did you mean odds.example?")
	b.See("section[aria-label='Changed lines']", "www.lucky-lantern.example/today")
	b.See("[role=dialog] [role=status]", "3 lines: 1 good, 1 changed, 1 refused")
	b.Accessible("adding entries")
	b.Press("Use that")
	b.See("[role=dialog] [role=status]", "2 good, 1 changed, 0 refused")
	b.Press("Add 3 lines")
	b.Gone("[role=dialog]")
	b.See("[role=status]", "3 entries added")
	b.See("td", "odds.example")
	b.Accessible("a list")

	b.Try("www.oddsfield.example/today")
	b.See("aside", "allow")
	b.See("aside", "The fallback has no rules")
	s.Run(t, "", "policy", "rule", "add", "Fallback", "Never on the ward", "--list", "Betting").Done(t)
	b.Try("www.oddsfield.example/today")
	b.See("aside dd", "Never on the ward")
	b.See("aside dd", "oddsfield.example")
	b.See("aside", "block")
	b.Accessible("a trial")
	b.Do(chromedp.KeyEvent("\u001b")) // Escape
	b.Gone("aside")

	b.Press("Try")
	b.Press("Fill in some to see how it works")
	b.Press("Try 6 URLs")
	b.See("section[aria-label=Answers]", "4 allowed, 2 blocked")
	b.Accessible("many trials")
	// The address holds them: whoever opens it sees the same.
	b.Await(`new URLSearchParams(location.search).get('urls')?.split('\n').length === 6`, "the URLs do not stand in the address")
	b.Eval(`location.reload()`)
	b.See("section[aria-label=Answers]", "4 allowed, 2 blocked")
	b.Quiet()
}

func TestConsoleLists(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Blocked on request").Done(t)
	b := browser.SignedIn(t, s)

	// A file as people keep them goes in through the console, and the counts are right to the line.
	b.Press("Blocked on request")
	b.Press("Import a file")
	b.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{house.File(t, demo.HandKept, demo.File(demo.HandKept))}))
	b.See("[role=dialog] [role=status]", "58 lines: 21 good, 14 changed, 13 refused, 5 notes, 5 blank")
	b.Accessible("importing a file")
	b.Press("Add 40 lines, leave 13 out")
	b.See("[role=status]", "33 entries added, 0 updated, 3 there already, 13 lines refused.")
	b.See("p", "33 entries, 5 notes")

	// So does a large one; its table opens at once and goes on as one scrolls.
	b.Press("Import a file")
	b.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{house.File(t, demo.Suspects, demo.SuspectSites())}))
	b.See("[role=dialog] [role=status]", "100,000 lines: 100,000 good")
	b.Press("Add 100,000 lines")
	b.See("[role=status]", "4 there already") // the made-up sites meet four of the kept ones
	b.See("p", "100,029 entries")
	b.See("span", "100,034 lines, 500 fetched so far")
	b.Eval(`document.querySelector('section[aria-label^=Entries]').scrollTo(0, 1e6)`)
	b.See("span", "1,000 fetched so far")
	b.Fill("input[aria-label='Filter entries']", "pixel-arcade.example")
	b.See("tbody", "twice in one week")
	b.Await(`document.querySelectorAll('tbody tr[data-index]').length <= 3`, "the filter does not filter")

	// A file that replaces the list says what goes before it does.
	b.Press("Import a file")
	b.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{house.File(t, demo.HandKept, demo.File(demo.HandKept))}))
	b.See("[role=dialog] [role=status]", "0 new, 0 updated, 36 there already")
	b.Eval(`document.querySelector('[role=dialog] input[type=checkbox]').click()`)
	b.See("[role=dialog] [role=status]", "99,996 taken out")
	b.Accessible("replacing a list")
	b.Press("Replace the list by 40 lines, leave 13 out")
	b.See("p", "33 entries, 5 notes")

	// What mentions a text is found from the page of all lists, and the list opens at it.
	b.GoTo("/lists")
	b.Fill("input[type=search]", "twice in one")
	b.See("section[aria-label='Entries found'] td", "pixel-arcade.example")
	b.Accessible("entries found")
	b.Press("Blocked on request")
	b.See("tbody", "twice in one week")
	b.Await(`document.querySelectorAll('tbody tr[data-index]').length === 1`, "the list does not open at what was found")

	// Entries are taken out, the list is renamed, saved and deleted.
	b.Eval(`document.querySelector('tbody input[type=checkbox]').click()`)
	b.Press("Take out of the list")
	b.See("[role=status]", "Took 1 line out of Blocked on request.")
	b.Press("More for this list")
	b.Press("Rename, describe, mark")
	b.Fill("[role=dialog] input", "Asked for")
	b.Press("Save")
	b.See("h1", "Asked for")
	b.Press("More for this list")
	b.Press("Delete the list")
	b.Press("Delete the list")
	b.See("h2", "No lists yet")
	b.GoTo("/lists/00000000-0000-0000-0000-000000000000")
	b.See("[role=alert]", "There is no such thing here")
	b.GoTo("/nowhere")
	b.See("h2", "There is no such page")
	b.Forget() // the list that is not there was asked for on purpose

	// Light and dark are chosen and kept; signing out leads to the door.
	b.GoTo("/lists?url=heron.example")
	b.See("aside", "allow")
	b.Press("Edda Marsh")
	b.Press("Dark slate")
	b.Await(`document.documentElement.dataset.theme === 'dark'`, "it stays light")
	b.Accessible("dark")
	b.Press("Edda Marsh")
	b.Press("Sign out")
	b.See("button", "Sign in")
	b.Quiet()
}

func TestConsoleWithoutService(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	b := browser.SignedIn(t, s)
	s.Kill()
	b.Try("heron.example")
	b.See("aside [role=alert]", "The service does not answer.")
	s.Start(t)
	// The browser may find the old connection dead before it makes a new one.
	b.Await(`(() => {
		const aside = document.querySelector('aside')
		if (aside.innerText.includes('allow')) return true
		const again = [...aside.querySelectorAll('button')].find((e) => e.textContent.trim() === 'Try again')
		again?.click()
		return false
	})()`, "no answer after the service is back")
	assert.NotEmpty(t, s.URL)
}

// Everything that a pointer can do works with the keyboard alone.
func TestConsoleByKeyboard(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "new", "Suppliers").Done(t)
	s.Run(t, "", "list", "add", "Betting", "a.example", "b.example").Done(t)
	b := browser.SignedIn(t, s)
	b.See("td", "Suppliers")
	key := func(keys ...string) {
		for _, k := range keys {
			b.Do(chromedp.KeyEvent(k))
		}
	}
	focused := func(text string) {
		t.Helper()
		b.Await(`(document.activeElement.getAttribute('aria-label') ?? document.activeElement.textContent).trim() === `+strconv.Quote(text), "the focus is not on "+text)
	}
	b.GoTo("/lists")
	b.See("td", "Suppliers")
	key(kb.Tab)
	focused("Go to the page")
	key(kb.Enter, kb.Tab, kb.Tab, kb.Tab, kb.Tab, kb.Tab, kb.Tab)
	focused("Betting")
	key(kb.ArrowDown)
	focused("Suppliers")
	key(kb.ArrowUp)
	focused("Betting")
	key(kb.Enter)
	b.See("h1", "Betting")

	// A dialog takes the focus, Escape closes it, and the focus is where it was.
	b.Eval(`[...document.querySelectorAll('button')].find((e) => e.textContent.includes('Add entries')).focus()`)
	key(kb.Enter)
	b.Await(`document.activeElement.tagName === 'TEXTAREA'`, "the dialog does not take the focus")
	key(kb.Escape)
	b.Gone("[role=dialog]")
	focused("Add entries")

	b.Eval(`document.querySelector('tbody input').focus()`)
	key(" ", kb.ArrowDown, " ")
	b.See("span", "2 lines chosen")
	b.Try("a.example")
	b.See("aside", "allow")
	key(kb.Escape)
	b.Gone("aside")
	b.Await(`document.activeElement.id === 'try-url'`, "the focus is lost with the sheet")
	b.See("span", "2 lines chosen") // a trial costs no page change
	b.Quiet()
}

package lists

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// paste pastes a text into the editor.
func paste(b *browser.Page, text string) {
	b.T.Helper()
	b.Eval(`(() => {
		const data = new DataTransfer()
		data.setData('text/plain', ` + strconv.Quote(text) + `)
		document.querySelector('.cm-content').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }))
	})()`)
}

// A list is edited as text: errors are marked and mended in place, pasting shows its changes, and saving keeps the order.
func TestConsoleEditor(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	export := func() string { return s.Run(t, "", "list", "export", "Betting").Done(t) }
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "add", "Betting", "# Betting", "oddsfield.example # why", "lucky-lantern.example", "www.oddsfield.example").Done(t)
	_, err := s.API(t).AddSeenWithResponse(t.Context(), client.AddSeenInputBody{Pages: []client.SeenPage{{URL: "notodds.example", Requests: 7}, {URL: "lucky-lantern.example", Requests: 3}}})
	require.NoError(t, err)
	b := browser.SignedIn(t, s)
	b.Press("Betting")
	b.Press("Text")
	b.See(".cm-line", "lucky-lantern.example")
	b.Await(`document.querySelector('.cm-lint-marker-info') !== null`, "no finding in the margin: www.oddsfield.example is covered")
	b.Caret("lucky-lantern")
	b.See("section[aria-label='What this line catches']", "1 host, 3 requests")
	b.Accessible("a list as text")

	b.Do(chromedp.KeyEvent("*odds.example\nodds,example\n"))
	b.Await(`document.querySelector('.cm-lint-marker-error') !== null && document.querySelector('.cm-lint-marker-warning') !== null`, "mistakes are not marked")
	b.See("[role=status]", "Not saved: 2 lines new, 0 taken out.")
	b.Press("Save")
	b.See("[role=alert]", "did you mean odds.example?")
	b.Forget() // the browser writes down that it was refused
	b.Caret("*odds.example")
	b.See("section[aria-label='What this line catches']", "notodds.example")
	b.See("section[aria-label='What this line catches']", "Tighter: odds.example")
	b.Eval(`document.querySelector('.cm-lint-marker-error').dispatchEvent(new MouseEvent('mouseover', { bubbles: true }))`)
	b.See(".cm-diagnosticAction", "Use odds.example")
	b.Eval(`document.querySelector('.cm-diagnosticAction').dispatchEvent(new MouseEvent('mousedown', { bubbles: true, cancelable: true }))`)
	b.Await(`[...document.querySelectorAll('.cm-line')].some((e) => e.textContent === 'odds.example')`, "the suggestion is not taken")

	b.Caret("lucky-lantern")
	paste(b, "https://www.gull-video.test/watch?v=1\nhxxps://derby-day[.]example\n")
	b.See("section[aria-label='What was pasted']", "2 read differently than written")
	b.See(".cm-line", "derby-day.example")
	b.Accessible("after a paste")
	b.Press("Keep it as it was")
	b.See(".cm-line", "hxxps://derby-day[.]example")
	b.Press("Discard the changes")
	b.Await(`![...document.querySelectorAll('.cm-line')].some((e) => e.textContent.includes('derby-day'))`, "the changes stay")

	b.Caret("lucky-lantern")
	b.Do(chromedp.KeyEvent("coin-cove.example # new in the middle\n"))
	b.See("[role=status]", "Not saved: 1 line new, 0 taken out.")
	b.Press("Save")
	b.See("[role=status]", "Saved.")
	assert.Equal(t, "#: notation\n# Betting\noddsfield.example # why\ncoin-cove.example # new in the middle\nlucky-lantern.example\nwww.oddsfield.example\n", export())
	b.Quiet()
}

// A list of a hundred thousand entries opens as text at once, one part at a time.
func TestConsoleEditsLongLists(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Suspects").Done(t)
	s.Run(t, string(demo.SuspectSites()), "list", "import", "Suspects").Done(t)
	b := browser.SignedIn(t, s)
	b.Press("Suspects")
	b.Press("Text")
	b.See("p", "here are 2,000 lines of 100,000 lines")
	site := demo.Sites(100_000, 20)[77_777]
	b.Fill("input[aria-label='Filter entries']", site)
	b.See(".cm-line", site)
	b.Caret(site)
	b.Do(chromedp.KeyEvent("added.example\n"))
	b.See("[role=status]", "1 line new, 0 taken out")
	b.Press("Save")
	b.See("p", "100,001 entries")
	b.Quiet()
}

// Chosen entries are removed only if nobody has edited the list since the page was drawn.
func TestConsoleChoosesWhatIsThere(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "add", "Betting", "a.example", "b.example").Done(t)
	b := browser.SignedIn(t, s)
	b.Press("Betting")
	b.Tick("Choose a.example")
	s.Run(t, "", "list", "set", "Betting", "a.example", "--note", "asked for by Theatre").Done(t)
	b.Press("Take out of the list")
	b.See("[role=alert]", "Somebody else changed this in the meantime.")
	b.Forget() // the browser itself writes a line for each answer that is an error
	b.See("td", "asked for by Theatre")
	assert.Contains(t, s.Run(t, "", "list", "export", "Betting").Done(t), "a.example # asked for by Theatre")
	b.Press("Take out of the list")
	b.See("[role=status]", "Took 1 line out of Betting.")
	b.Quiet()
}

// The console does everything with a list besides editing its entries.
func TestConsoleKeeping(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, name := range []string{"Betting", "Suppliers"} {
		s.Run(t, "", "list", "new", name).Done(t)
	}
	s.Run(t, "", "list", "add", "Betting", "a.example", "www.a.example", "b.example", "! c.example", "old.example [until 2020-01-01]").Done(t)
	b := browser.SignedIn(t, s)
	b.Press("Betting")
	b.See("td", "www.a.example")

	// Bulk, and undo.
	choose := func(entry string) {
		b.Tick("Choose " + entry)
	}
	choose("a.example")
	choose("b.example")
	b.Press("Set note, end, switch")
	b.Fill("[role=dialog] input", "asked for by Theatre")
	b.Accessible("setting entries")
	b.Press("Set them")
	b.See("td", "asked for by Theatre")
	b.Press("Undo")
	b.Await(`!document.body.innerText.includes('asked for by Theatre')`, "it is not taken back")
	choose("b.example")
	b.Press("Move or copy")
	b.Eval(`(() => {
		const select = document.querySelector('[role=dialog] select')
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(select, [...select.options].find((o) => o.text === 'Suppliers').value)
		select.dispatchEvent(new Event('change', { bubbles: true }))
	})()`)
	b.Press("Move them")
	b.See("[role=status]", "Moved to Suppliers: 1 added")
	choose("a.example")
	b.Press("Choose all 4")
	b.See("span", "4 lines chosen")
	b.Press("Choose none")

	// Tidy.
	b.Press("Tidy")
	b.See("td", "a.example covers all of it.")
	b.Accessible("tidy")
	b.Press("Absorb all 2 that change nothing")
	b.See("[role=dialog]", "Its last day was 2020-01-01")
	b.Accessible("absorbing")
	b.Press("Take 2 entries out")
	b.See("p", "Nothing is wrong with the entries of this list")

	// History.
	b.Press("History")
	b.See("td", "tidied")
	b.Press("Compare")
	b.See("section[aria-label='What differs']", "old.example [until 2020-01-01]")
	b.Accessible("history")
	b.Press("Take back")
	b.See("td", "taken back")

	// Colour and owner.
	b.Press("More for this list")
	b.Press("Rename, describe, mark")
	b.Eval(`document.querySelectorAll('[role=dialog] input[type=radio]')[3].click()`)
	b.Accessible("marking a list")
	b.Press("Save")
	b.Gone("[role=dialog]")
	assert.Contains(t, s.Run(t, "", "list", "ls", "-o", "json").Done(t), `"colour": "rust"`)

	// What a page needs.
	b.Press("More for this list")
	b.Press("What a page needs")
	b.Do(chromedp.SetUploadFiles(chromedp.CSS("[role=dialog] input[type=file]"), []string{house.File(t, demo.Recording, demo.File(demo.Recording))}))
	b.See("[role=dialog] [role=status]", "The list lacks 6 hosts.")
	b.Accessible("companions")
	b.Press("Add 6 hosts")
	b.See("[role=status]", "Added 6 entries")

	// A source.
	b.Press("Source")
	b.Fill("input[type=url]", s.URL+"/assets/gone.txt")
	b.Accessible("a source")
	b.Press("Have it pulled")
	b.See("h2", "The last pull")
	b.Press("Pull now")
	b.See("section[aria-label='The last pull']", "The source answers 404")
	b.Accessible("a source that failed")
	b.Press("Stop pulling")
	b.See("p", "This list is kept by hand.")
	b.Do(chromedp.KeyEvent(kb.Escape))
	b.Quiet()
	assert.Contains(t, s.Run(t, "", "list", "show", "Betting").Done(t), testkit.Name)
}

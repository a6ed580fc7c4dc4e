package e2e

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
)

// paste gives a text to the editor as the clipboard would.
func (b *browser) paste(text string) {
	b.t.Helper()
	b.eval(`(() => {
		const data = new DataTransfer()
		data.setData('text/plain', ` + strconv.Quote(text) + `)
		document.querySelector('.cm-content').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }))
	})()`)
}

// A list is written as text: what is wrong is marked and mended in place, pasting explains itself, and saving keeps the order.
func TestConsoleEditor(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	export := func() string { return s.Run(t, "", "list", "export", "Betting").Done(t) }
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "add", "Betting", "# Betting", "oddsfield.example # why", "lucky-lantern.example", "www.oddsfield.example").Done(t)
	_, err := s.API(t).AddSeenWithResponse(t.Context(), client.AddSeenInputBody{Pages: []client.SeenPage{{URL: "notodds.example", Requests: 7}, {URL: "lucky-lantern.example", Requests: 3}}})
	require.NoError(t, err)
	b := signedIn(t, s)
	b.press("Betting")
	b.press("Text")
	b.see(".cm-line", "lucky-lantern.example")
	b.await(`document.querySelector('.cm-lint-marker-info') !== null`, "no finding in the margin: www.oddsfield.example is covered")
	b.caret("lucky-lantern")
	b.see("section[aria-label='What this line catches']", "1 host, 3 requests")
	b.accessible("a list as text")

	b.do(chromedp.KeyEvent("*odds.example\nodds,example\n"))
	b.await(`document.querySelector('.cm-lint-marker-error') !== null && document.querySelector('.cm-lint-marker-warning') !== null`, "mistakes are not marked")
	b.see("[role=status]", "Not saved: 2 lines new, 0 taken out.")
	b.press("Save")
	b.see("[role=alert]", "did you mean odds.example?")
	b.forget() // the browser writes down that it was refused
	b.caret("*odds.example")
	b.see("section[aria-label='What this line catches']", "notodds.example")
	b.see("section[aria-label='What this line catches']", "Tighter: odds.example")
	b.eval(`document.querySelector('.cm-lint-marker-error').dispatchEvent(new MouseEvent('mouseover', { bubbles: true }))`)
	b.see(".cm-diagnosticAction", "Use odds.example")
	b.eval(`document.querySelector('.cm-diagnosticAction').dispatchEvent(new MouseEvent('mousedown', { bubbles: true, cancelable: true }))`)
	b.await(`[...document.querySelectorAll('.cm-line')].some((e) => e.textContent === 'odds.example')`, "the suggestion is not taken")

	b.caret("lucky-lantern")
	b.paste("https://www.gull-video.test/watch?v=1\nhxxps://derby-day[.]example\n")
	b.see("section[aria-label='What was pasted']", "2 read otherwise than written")
	b.see(".cm-line", "derby-day.example")
	b.accessible("after a paste")
	b.press("Keep it as it was")
	b.see(".cm-line", "hxxps://derby-day[.]example")
	b.press("Discard the changes")
	b.await(`![...document.querySelectorAll('.cm-line')].some((e) => e.textContent.includes('derby-day'))`, "the changes stay")

	b.caret("lucky-lantern")
	b.do(chromedp.KeyEvent("coin-cove.example # new in the middle\n"))
	b.see("[role=status]", "Not saved: 1 line new, 0 taken out.")
	b.press("Save")
	b.see("[role=status]", "Saved.")
	assert.Equal(t, "#: notation\n# Betting\noddsfield.example # why\ncoin-cove.example # new in the middle\nlucky-lantern.example\nwww.oddsfield.example\n", export())
	b.quiet()
}

// A list of a hundred thousand opens as text at once, a stretch at a time.
func TestConsoleEditsLongLists(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	s.Run(t, "", "list", "new", "Suspects").Done(t)
	s.Run(t, string(demo.SuspectSites()), "list", "import", "Suspects").Done(t)
	b := signedIn(t, s)
	b.press("Suspects")
	b.press("Text")
	b.see("p", "here are 2,000 lines of 100,000 lines")
	site := demo.Sites(100_000, 20)[77_777]
	b.fill("input[aria-label='Filter entries']", site)
	b.see(".cm-line", site)
	b.caret(site)
	b.do(chromedp.KeyEvent("added.example\n"))
	b.see("[role=status]", "1 line new, 0 taken out")
	b.press("Save")
	b.see("p", "100,001 entries")
	b.quiet()
}

// Everything that can be done with a list beside its entries, through the console.
// What was chosen goes only where nobody edited since the page was drawn.
func TestConsoleChoosesWhatIsThere(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	s.Run(t, "", "list", "add", "Betting", "a.example", "b.example").Done(t)
	b := signedIn(t, s)
	b.press("Betting")
	b.await(`(() => { const e = document.querySelector('input[aria-label="Choose a.example"]'); e?.click(); return !!e })()`, "no entry a.example")
	s.Run(t, "", "list", "set", "Betting", "a.example", "--note", "asked for by Theatre").Done(t)
	b.press("Take out of the list")
	b.see("[role=alert]", "Somebody else changed this in the meantime.")
	b.forget() // the browser itself writes a line for each answer that is an error
	b.see("td", "asked for by Theatre")
	assert.Contains(t, s.Run(t, "", "list", "export", "Betting").Done(t), "a.example # asked for by Theatre")
	b.press("Take out of the list")
	b.see("[role=status]", "Took 1 line out of Betting.")
	b.quiet()
}

func TestConsoleKeeping(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	for _, name := range []string{"Betting", "Suppliers"} {
		s.Run(t, "", "list", "new", name).Done(t)
	}
	s.Run(t, "", "list", "add", "Betting", "a.example", "www.a.example", "b.example", "! c.example", "old.example [until 2020-01-01]").Done(t)
	b := signedIn(t, s)
	b.press("Betting")
	b.see("td", "www.a.example")

	// Bulk, and undo.
	choose := func(entry string) {
		b.await(`(() => { const e = document.querySelector('input[aria-label="Choose `+entry+`"]'); e?.click(); return !!e })()`, "no entry "+entry)
	}
	choose("a.example")
	choose("b.example")
	b.press("Set note, end, switch")
	b.fill("[role=dialog] input", "asked for by Theatre")
	b.accessible("setting entries")
	b.press("Set them")
	b.see("td", "asked for by Theatre")
	b.press("Undo")
	b.await(`!document.body.innerText.includes('asked for by Theatre')`, "it is not taken back")
	choose("b.example")
	b.press("Move or copy")
	b.eval(`(() => {
		const select = document.querySelector('[role=dialog] select')
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(select, [...select.options].find((o) => o.text === 'Suppliers').value)
		select.dispatchEvent(new Event('change', { bubbles: true }))
	})()`)
	b.press("Move them")
	b.see("[role=status]", "Moved to Suppliers: 1 added")
	choose("a.example")
	b.press("Choose all 4")
	b.see("span", "4 lines chosen")
	b.press("Choose none")

	// Tidy.
	b.press("Tidy")
	b.see("td", "a.example covers all of it.")
	b.accessible("tidy")
	b.press("Absorb all 2 that change nothing")
	b.see("[role=dialog]", "Its last day was 2020-01-01")
	b.accessible("absorbing")
	b.press("Take 2 entries out")
	b.see("p", "Nothing is wrong with the entries of this list")

	// History.
	b.press("History")
	b.see("td", "tidied")
	b.press("Compare")
	b.see("section[aria-label='What differs']", "old.example [until 2020-01-01]")
	b.accessible("history")
	b.press("Take back")
	b.see("td", "taken back")

	// Colour and owner.
	b.press("More for this list")
	b.press("Rename, describe, mark")
	b.eval(`document.querySelectorAll('[role=dialog] input[type=radio]')[3].click()`)
	b.accessible("marking a list")
	b.press("Save")
	b.gone("[role=dialog]")
	assert.Contains(t, s.Run(t, "", "list", "ls", "-o", "json").Done(t), `"colour": "rust"`)

	// What a page needs.
	b.press("More for this list")
	b.press("What a page needs")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("[role=dialog] input[type=file]"), []string{file(t, demo.Recording, demo.File(demo.Recording))}))
	b.see("[role=dialog] [role=status]", "The list lacks 6 hosts.")
	b.accessible("companions")
	b.press("Add 6 hosts")
	b.see("[role=status]", "Added 6 entries")

	// A source.
	b.press("Source")
	b.fill("input[type=url]", s.URL+"/assets/gone.txt")
	b.accessible("a source")
	b.press("Have it pulled")
	b.see("h2", "The last pull")
	b.press("Pull now")
	b.see("section[aria-label='The last pull']", "The source answers 404")
	b.accessible("a source that failed")
	b.press("Pull no more")
	b.see("p", "This list is kept by hand.")
	b.do(chromedp.KeyEvent(kb.Escape))
	b.quiet()
	assert.Contains(t, s.Run(t, "", "list", "show", "Betting").Done(t), testkit.Name)
}

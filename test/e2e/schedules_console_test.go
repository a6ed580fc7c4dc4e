package e2e

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"

	"widelark/demo"
)

// A schedule is painted, written, filled from a calendar and saved; what is painted and what is written is the same thing.
func TestConsoleSchedules(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	b := signedIn(t, s)
	b.press("Schedules")
	b.see("h2", "No schedules yet")
	b.accessible("no schedules")
	b.press("Make the first schedule")
	b.see("section[aria-label='The next changes'] li", "in force")
	b.fill("main form input", "Ward rounds")
	written := func(want string) {
		t.Helper()
		b.await(`document.querySelector('main form textarea').value === `+quoted(want), "it is not written as "+want)
	}
	written("mon-fri 09:00-17:00")
	b.accessible("a new schedule")

	// By keyboard: Monday 08:00 has the focus first.
	b.eval(`document.querySelector('[data-cell="16"]').focus()`)
	b.do(chromedp.KeyEvent(" "))
	written("mon 08:00-08:30, 09:00-17:00\ntue-fri 09:00-17:00")
	b.await(`document.querySelector('[data-cell="16"]').getAttribute('aria-pressed') === 'true'`, "it is not painted")
	b.do(chromedp.KeyEvent(kb.ArrowRight), chromedp.KeyEvent(" "))
	written("mon 08:00-17:00\ntue-fri 09:00-17:00")
	b.do(chromedp.KeyEvent(kb.ArrowUp)) // there is no row above
	b.do(chromedp.KeyEvent(kb.ArrowDown))
	b.await(`document.activeElement.getAttribute('aria-label') === 'Tuesday 08:30'`, "the arrow does not lead to Tuesday")

	// By pointer: Saturday 22:00 to Sunday 02:00 in two strokes is one window over midnight.
	drag := func(from, to string) {
		t.Helper()
		b.do(chromedp.DragAndDrop(chromedp.CSS(`[aria-label="`+from+`"]`), chromedp.CSS(`[aria-label="`+to+`"]`)))
	}
	drag("Saturday 22:00", "Saturday 23:30")
	written("mon 08:00-17:00\ntue-fri 09:00-17:00\nsat 22:00-24:00")
	drag("Sunday 00:00", "Sunday 01:30")
	written("mon 08:00-17:00\ntue-fri 09:00-17:00\nsat 22:00-02:00")

	// By writing; mistakes are told in their place.
	b.fill("main form textarea", "mon 9:00-12:00")
	b.see("main form", "line 1, column 5: found \"9:00-12:00\", expected a time as 09:00; did you mean 09:00-12:00?")
	b.fill("main form textarea", "mon 09:10-12:00")
	b.see("section[aria-label='The next changes'] li", "09:10")
	b.do(chromedp.SetUploadFiles(chromedp.CSS("input[aria-label='Calendar file']"), []string{file(t, demo.Holidays, demo.File(demo.Holidays))}))
	b.see("[role=status]", "3 events read; look, and save.")
	b.await(`document.querySelector('main form textarea').value.startsWith('mon 09:10-12:00\nnot on 2026-12-25..2026-12-26\nnot on 2027-01-01')`, "the holidays are not there")
	b.press("Make the schedule")
	b.see("td", "Ward rounds")
	b.see("td", "mon 09:10-12:00; not on 2026-12-25")
	assert.Contains(t, s.Run(t, "", "schedule", "show", "Ward rounds").Done(t), "not on 2027-01-01")

	b.press("Ward rounds")
	b.see("section[aria-label='The next changes'] li", "09:10")
	b.accessible("a schedule")
	b.fill("main form textarea", "mon-sun 00:00-24:00")
	b.see("section[aria-label='The next changes']", "It is always in force, and never changes.")
	b.press("Save")
	b.see("td", "none")
	b.press("Delete the schedule")
	b.see("h2", "No schedules yet")
	b.quiet()
}

// quoted writes a text as JavaScript has it.
func quoted(text string) string { return strconv.Quote(text) }

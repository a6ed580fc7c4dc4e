package policies

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"

	"widelark/demo"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// A schedule is painted, written, filled from a calendar and saved; the grid and the text stay the same.
func TestConsoleSchedules(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	b := browser.SignedIn(t, s)
	b.Press("Schedules")
	b.See("h2", "No schedules yet")
	b.Accessible("no schedules")
	b.Press("Make the first schedule")
	b.See("section[aria-label='The next changes'] li", "in force")
	b.Fill("main form input", "Ward rounds")
	written := func(want string) {
		t.Helper()
		b.Await(`document.querySelector('main form textarea').value === `+house.Quoted(want), "it is not written as "+want)
	}
	written("mon-fri 09:00-17:00")
	b.Accessible("a new schedule")

	// By keyboard: Monday 08:00 has the focus first.
	b.Eval(`document.querySelector('[data-cell="16"]').focus()`)
	b.Do(chromedp.KeyEvent(" "))
	written("mon 08:00-08:30, 09:00-17:00\ntue-fri 09:00-17:00")
	b.Await(`document.querySelector('[data-cell="16"]').getAttribute('aria-pressed') === 'true'`, "it is not painted")
	b.Do(chromedp.KeyEvent(kb.ArrowRight), chromedp.KeyEvent(" "))
	written("mon 08:00-17:00\ntue-fri 09:00-17:00")
	b.Do(chromedp.KeyEvent(kb.ArrowUp)) // there is no row above
	b.Do(chromedp.KeyEvent(kb.ArrowDown))
	b.Await(`document.activeElement.getAttribute('aria-label') === 'Tuesday 08:30'`, "the arrow does not lead to Tuesday")

	// By pointer: Saturday 22:00 to Sunday 02:00 in two strokes is one window over midnight.
	drag := func(from, to string) {
		t.Helper()
		b.Do(chromedp.DragAndDrop(chromedp.CSS(`[aria-label="`+from+`"]`), chromedp.CSS(`[aria-label="`+to+`"]`)))
	}
	drag("Saturday 22:00", "Saturday 23:30")
	written("mon 08:00-17:00\ntue-fri 09:00-17:00\nsat 22:00-24:00")
	drag("Sunday 00:00", "Sunday 01:30")
	written("mon 08:00-17:00\ntue-fri 09:00-17:00\nsat 22:00-02:00")

	// By writing; mistakes are shown in their place.
	b.Fill("main form textarea", "mon 9:00-12:00")
	b.See("main form", "line 1, column 5: found \"9:00-12:00\", expected a time as 09:00; did you mean 09:00-12:00?")
	b.Fill("main form textarea", "mon 09:10-12:00")
	b.See("section[aria-label='The next changes'] li", "09:10")
	b.Do(chromedp.SetUploadFiles(chromedp.CSS("input[aria-label='Calendar file']"), []string{house.File(t, demo.Holidays, demo.File(demo.Holidays))}))
	b.See("[role=status]", "3 events read; look, and save.")
	b.Await(`document.querySelector('main form textarea').value.startsWith('mon 09:10-12:00\nnot on 2026-12-25..2026-12-26\nnot on 2027-01-01')`, "the holidays are not there")
	b.Press("Make the schedule")
	b.See("td", "Ward rounds")
	b.See("td", "mon 09:10-12:00; not on 2026-12-25")
	assert.Contains(t, s.Run(t, "", "schedule", "show", "Ward rounds").Done(t), "not on 2027-01-01")

	b.Press("Ward rounds")
	b.See("section[aria-label='The next changes'] li", "09:10")
	b.Accessible("a schedule")
	b.Fill("main form textarea", "mon-sun 00:00-24:00")
	b.See("section[aria-label='The next changes']", "It is always in force, and never changes.")
	b.Press("Save")
	b.See("td", "none")
	b.Press("Delete the schedule")
	b.See("h2", "No schedules yet")
	b.Quiet()
}

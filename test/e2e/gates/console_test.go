package gates

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// The page of the gates shows what runs and what was decided, makes an authority and its successor; presences are set and ended among the people.
func TestConsoleGates(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, false)
	b := browser.Open(t, gate.URL)
	b.SignIn(testkit.Name, testkit.Password)
	b.GoTo("/gates")
	b.See("td", "TestConsoleGates")
	b.See("td", "up to date")
	b.See("section[aria-label='Try it yourself']", gate.Proxy)
	b.See("section[aria-label='Authority']", "There is none yet")
	assert.Equal(t, "the block page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://oddsfield.example/").sees())
	b.See("section[aria-label='Latest decisions'] td", "Ward: Never")
	b.Accessible("gates")

	b.Press("Make an authority")
	b.Fill("[role=dialog] input", "Quillmere General")
	b.Accessible("making an authority")
	b.Press("Make the authority")
	b.Gone("[role=dialog]")
	b.See("section[aria-label='Authority']", "signs now")
	b.Press("Successor")
	b.Fill("[role=dialog] input", "Quillmere General")
	b.Fill("[role=dialog] input[placeholder]", "2027-03-01 06:00")
	b.Press("Make the successor")
	b.Gone("[role=dialog]")
	b.See("section[aria-label='Authority']", "comes next")

	var nurses client.Group
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", "group", "show", "Nurses", "-o", "json").Done(t)), &nurses))
	b.Choose("section[aria-label='For other filters'] select", nurses.ID.String())
	b.See("section[aria-label='For other filters'] a", "Save the file")
	b.See("section[aria-label='For other filters'] li", "1 pages of the list \"Betting\": only the host is seen")
	b.Accessible("zones")

	b.GoTo("/people?view=presences")
	b.See("p", "Nobody is known to be at any address.")
	b.Fill("main form input[placeholder='Kay Moran']", "kay.moran")
	b.Fill("main form input[placeholder='10.40.20.7']", "127.0.99.8")
	b.Accessible("presences")
	b.Press("Is there")
	b.See("td", "127.0.99.8")
	require.Eventually(t, func() bool {
		return curl(t, gate.Proxy, "--interface", "127.0.99.8", "http://oddsfield.example/").sees() == "the block page"
	}, testkit.Patience, testkit.Look)
	b.Press("End the presence at 127.0.99.8")
	b.See("p", "Nobody is known to be at any address.")

	// Requests for access are answered in one step.
	asker := refused(t, gate.Proxy, "127.0.10.7", "http://harbour-news.example/puzzles", "This page is not allowed here")
	require.Equal(t, "303", asker.send("act=ask", "reason=For the quiz").status)
	b.GoTo("/requests")
	b.See("section", "For the quiz")
	b.Press("Allow")
	b.Press("for an hour")
	b.See("[role=status]", "Allowed for")
	b.See("td", "granted by edda")
	require.Eventually(t, func() bool {
		return curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://harbour-news.example/puzzles").sees() == "the page"
	}, testkit.Patience, testkit.Look)

	// A code is made, shown once, entered at a held page, and what it opened is ended.
	s.Run(t, "", "policy", "rule", "edit", "Ward", "Never", "--then", "hold", "--leave", "code").Done(t)
	s.Run(t, "", "publish", "--note", "by a code").Done(t)
	b.GoTo("/exceptions?view=codes")
	b.See("p", "Nobody has acknowledged a held page or opened one with a code.")
	b.Press("New code")
	b.Fill("[role=dialog] input", "The evening class")
	b.Accessible("a new code")
	b.Press("Make the code")
	b.Gone("[role=dialog]")
	b.See("section[aria-label='The new code']", "It opens the page at which it is entered for 60 minutes.")
	code := b.Text("section[aria-label='The new code'] .mono")
	require.Eventually(t, func() bool {
		return curl(t, gate.Proxy, "--interface", "127.0.10.9", "-H", "Accept: text/html", "http://oddsfield.example/").held()
	}, testkit.Patience, testkit.Look)
	require.Equal(t, "303", refused(t, gate.Proxy, "127.0.10.9", "http://oddsfield.example/", "This page waits to be unlocked").send("act=code", "code="+code).status)
	b.GoTo("/exceptions?view=codes")
	b.See("td", "127.0.10.9")
	b.Accessible("codes")
	b.Press("End =oddsfield.example for 127.0.10.9")
	b.See("p", "Nobody has acknowledged a held page or opened one with a code.")

	b.GoTo("/people?view=networks")
	b.Press("Offices")
	b.See("[role=dialog]", "Its clients meet")
	b.Press("Save")
	b.Gone("[role=dialog]")
	assert.Contains(t, s.Run(t, "", "network", "show", "Offices").Done(t), "signs in: always", "what the dialog shows is what it saves")
}

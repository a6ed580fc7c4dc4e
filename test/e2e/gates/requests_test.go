package gates

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// asks has somebody at an address ask for a page that is refused, and returns the reference.
func asks(t *testing.T, proxy, address, url, reason string) string {
	t.Helper()
	asker := refused(t, proxy, address, url, "This page is not allowed here")
	require.Equal(t, "303", asker.send("act=ask", "reason="+reason).status)
	return asker.reference
}

// Requests for one site are answered together: each asker gets the narrowest grant, or a group that all belong to gets one; what cannot be answered stops nothing else.
func TestRequestsTogether(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	for _, who := range []string{"petra.elver", "wren.hollis"} {
		run("person", "new", who, "--in", "Nurses")
	}
	run("group", "new", "Offices' people", "--network", "Offices")
	run("list", "add", "Betting", "news.oddsfield.example", "gull-films7.test")
	run("publish", "--note", "more people")
	at := map[string]string{"kay.moran": "127.0.10.11", "petra.elver": "127.0.10.12", "wren.hollis": "127.0.10.13"}
	for who, address := range at {
		run("presence", "set", who, address, "--until", "1h")
	}
	upToDate(t, s, "TestRequestsTogether", 3)
	sees := func(address, url string) string { return curl(t, gate.Proxy, "--interface", address, url).sees() }
	require.Eventually(t, func() bool { return sees("127.0.10.11", "http://gull-films7.test/") == "the block page" }, testkit.Patience, testkit.Look)
	kay := asks(t, gate.Proxy, at["kay.moran"], "http://oddsfield.example/today", "The draw")
	petra := asks(t, gate.Proxy, at["petra.elver"], "http://oddsfield.example/today", "The draw, too")
	wren := asks(t, gate.Proxy, at["wren.hollis"], "https://news.oddsfield.example/", "News")
	film := asks(t, gate.Proxy, at["wren.hollis"], "http://gull-films7.test/", "A film")
	nobody := asks(t, gate.Proxy, "127.0.10.44", "http://gull-films7.test/watch", "Me as well")

	groups := run("request", "groups", "-o", "csv")
	assert.Regexp(t, `oddsfield\.example,3,.*,Ward: Never,Nurses,`+kay+" "+petra+" "+wren, groups)
	assert.Regexp(t, `gull-films7\.test,2,.*,Ward: Never,,`, groups, "nobody is known to ask, so they share no group")
	advice := run("request", "show", kay)
	for _, said := range []string{
		"Kay Moran asks for http://oddsfield.example/today: The draw", "Now: block.", "3 requests wait for it", "Grant =oddsfield.example, for whoever asked alone",
		"for the group Nurses of all 3 who asked", `Take the entry`,
	} {
		assert.Contains(t, advice, said)
	}

	// For each of some; one of them is answered already.
	run("request", "refuse", film, "--why", "Not on the ward")
	ran := s.Run(t, "", "request", "grant", nobody, film, "--until", "1h")
	assert.Contains(t, ran.Out, "It is allowed until")
	assert.Contains(t, ran.Err, "was answered already, by edda")
	assert.NotZero(t, ran.Code)
	require.Eventually(t, func() bool { return sees("127.0.10.44", "http://gull-films7.test/watch") == "the page" }, testkit.Patience, testkit.Look)
	assert.Equal(t, "the block page", sees(at["wren.hollis"], "http://gull-films7.test/watch"), "for whoever asked alone")

	// One grant for a group, of all that was asked for.
	assert.Contains(t, s.Run(t, "", "request", "grant", kay, "--group", "Offices' people", "--until", "1h").Err, "does not belong to the group")
	run("request", "grant", kay, petra, wren, "--group", "Nurses", "--until", "1h", "--say", "For the ward evening")
	require.Eventually(t, func() bool {
		return sees("127.0.10.7", "http://oddsfield.example/today") == "the page" && sees("127.0.10.7", "https://news.oddsfield.example/") == "the page"
	}, testkit.Patience, testkit.Look)
	assert.Equal(t, "the block page", sees("127.0.10.7", "http://odd.oddsfield.example/"))
	assert.Equal(t, 2, strings.Count(run("grant", "ls", "-o", "csv"), "asked for")+strings.Count(run("grant", "ls", "-o", "csv"), "Me as well"), "one for the group, one before")
	assert.Contains(t, run("request", "groups"), "No request waits")
	times := run("request", "times", "-o", "csv")
	assert.Regexp(t, `\n0,,4,1,`, times)
	assert.Equal(t, 5, strings.Count(run("audit"), "request answered"))
}

// A complaint is cured in a minute, and in five clicks of the desk at most: somebody asks from the block page, the desk sees why, and grants it; the page opens by itself at the one who asked.
func TestComplaintToCure(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("network", "new", "Here", "127.0.0.0/29", "--sign-in", "never", "--way", "proxy")
	run("group", "edit", "Nurses", "--network", "Wards", "--network", "Here")
	run("publish", "--note", "here, too")
	run("presence", "set", "kay.moran", "127.0.0.1", "--until", "1h")
	s.Run(t, "fern and gull 5", "account", "add", "desk", "--role", "", "--password-stdin").Done(t)
	run("account", "give", "desk", "help desk", "--group", "Nurses", "--reach", "page")
	upToDate(t, s, "TestComplaintToCure", 3)
	desk := browser.Open(t, s.URL)
	desk.SignIn("desk", "fern and gull 5")
	desk.GoTo("/requests")
	desk.See("main", "No request waits")

	nurse := browser.OpenThrough(t, gate.Proxy)
	began := time.Now()
	nurse.GoTo("https://harbour-news.example/puzzles")
	nurse.See("h1", "This page is not allowed here")
	nurse.Press("Ask for access")
	nurse.Fill("#reason", "The ward's quiz")
	nurse.Press("Ask as Kay Moran")
	nurse.See("h1", "Your request is with the help desk")

	clicks := 0
	press := func(name string) {
		clicks++
		desk.Press(name)
	}
	desk.See("section", "The ward's quiz") // without a press: the page looks for new requests by itself
	desk.See("section", `because the list "Betting" has the entry harbour-news.example/puzzles`)
	desk.See("section", "Grant =harbour-news.example/puzzles, for whoever asked alone")
	desk.Accessible("requests")
	press("Allow")
	press("for an hour")
	desk.See("section[aria-labelledby=answered]", "granted by desk")

	nurse.See("h1", "You may open the page now") // it looks again by itself
	nurse.Press("Open the page")
	nurse.See("pre", "This is harbour-news.example/puzzles")
	t.Logf("from the complaint to the cure in %s, with %d clicks of the desk", time.Since(began).Round(100*time.Millisecond), clicks)
	assert.LessOrEqual(t, clicks, 5)

	// Nothing else has changed, and what was granted is ended from there.
	assert.Equal(t, "the block page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "https://harbour-news.example/puzzles").sees())
	assert.Equal(t, "the block page", curl(t, gate.Proxy, "https://harbour-news.example/puzzles/chess").sees())
	desk.Press("What to do with the grant of =harbour-news.example/puzzles")
	desk.Press("End it now")
	desk.See("section[aria-labelledby=answered]", "the grant was ended by desk")
	desk.Quiet()
	require.Eventually(t, func() bool {
		return curl(t, gate.Proxy, "https://harbour-news.example/puzzles").sees() == "the block page"
	}, testkit.Patience, testkit.Look)
}

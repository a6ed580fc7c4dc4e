package gates

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// A browser that is told of the gate shows pages, block pages and hold pages, opened and not; its user acknowledges, asks for access and gets it while the page is open; what
// runs in a page is cut when its verdict turns, and a download goes on across a publish.
func TestBrowser(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("network", "new", "Here", "127.0.0.0/29", "--sign-in", "never", "--way", "proxy")
	run("group", "edit", "Nurses", "--network", "Wards", "--network", "Here")
	run("list", "new", "Games")
	run("list", "add", "Games", "puzzles.example")
	run("policy", "rule", "add", "Ward", "Ask first", "--list", "Games", "--then", "hold", "--leave-minutes", "30")
	run("publish", "--note", "here, too")
	upToDate(t, s, "TestBrowser", 3)
	b := browser.OpenThrough(t, gate.Proxy)
	b.GoTo("http://heron.example/page?text=The+tide+table")
	b.See("p", "The tide table")
	b.GoTo("https://heron.example/page?text=The+tide+table")
	b.See("p", "The tide table")
	b.GoTo("https://heron.example/old")
	b.See("p", "The café of heron.example")

	b.GoTo("https://harbour-news.example/puzzles")
	b.See("h1", "This page is not allowed here")
	b.Accessible("the block page")
	b.Press("Ask for access")
	b.See("h1", "Ask for access")
	b.Accessible("the page that asks for access")
	b.Fill("#reason", "For the quiz")
	b.Press("Ask as Here")
	b.See("h1", "Your request is with the help desk")
	open := strings.Split(strings.Split(run("request", "ls", "-o", "csv"), "\n")[1], ",")
	run("request", "grant", open[0], "--until", "1h")
	b.See("h1", "You may open the page now") // it looks again by itself
	b.Press("Open the page")
	b.See("pre", "This is harbour-news.example/puzzles")

	b.GoTo("http://puzzles.example/page?text=A+riddle")
	b.See("h1", "This page waits to be unlocked")
	b.Accessible("the hold page")
	b.Press("How to go on")
	b.Press("I have read this; go on")
	b.See("h1", "You may open the page now")
	require.Eventually(t, func() bool {
		return strings.Contains(curl(t, gate.Proxy, "http://puzzles.example/page?text=A+riddle").body, "A riddle")
	}, testkit.Patience, testkit.Look)
	b.Press("Open the page")
	b.See("p", "A riddle")

	b.GoTo("https://heron.example/page?text=The+tide+table")
	b.See("p", "The tide table")
	b.Eval(`(() => {
		window.said = []
		window.open = new WebSocket('wss://heron.example/echo')
		open.onopen = () => open.send('tide')
		open.onmessage = (m) => said.push(m.data)
		open.onclose = () => said.push('closed')
		fetch('/slow?seconds=6').then((r) => r.text()).then((text) => { window.slow = text }, () => { window.slow = 'cut' })
	})()`)
	b.Await(`said.includes('tide')`, "the WebSocket says nothing")
	run("list", "add", "Betting", "gull.example")
	run("publish", "--note", "something else")
	b.Await(`window.slow !== undefined`, "the download does not end")
	b.Await(`slow.includes('6') && !said.includes('closed')`, "what is allowed was cut")
	run("list", "add", "Betting", "heron.example")
	run("publish", "--note", "the break is over")
	b.Await(`said.includes('closed')`, "the WebSocket goes on")
}

// A browser that has the gate from its PAC file signs in there, and sees what its person may see.
func TestBrowserByPAC(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("network", "new", "Here", "127.0.0.0/29", "--sign-in", "always")
	run("publish", "--note", "sign in here")
	upToDate(t, s, "TestBrowserByPAC", 3)
	b := browser.OpenByPAC(t, "http://"+gate.Proxy+"/proxy.pac", "kay.moran", "heather and tide 7")
	b.GoTo("http://heron.example/page?text=The+tide+table")
	b.See("p", "The tide table")
	b.GoTo("https://heron.example/page?text=The+tide+table")
	b.See("p", "The tide table")
	for _, url := range []string{"http://harbour-news.example/puzzles", "https://harbour-news.example/puzzles"} {
		b.GoTo(url)
		b.See("h1", "This page is not allowed here")
		b.See("dd", "Kay Moran")
	}
}

package gates

import (
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// digAll asks the DNS gate for many names with dig, from an address, and returns for each whether it has an address.
func digAll(t testing.TB, at, from string, hosts []string) map[string]bool {
	t.Helper()
	if _, err := exec.LookPath("dig"); err != nil {
		t.Skip("there is no dig: run `make deps`")
	}
	host, port, _ := strings.Cut(at, ":")
	lines := &strings.Builder{}
	for _, name := range hosts {
		fmt.Fprintln(lines, name, "A")
	}
	file := house.File(t, "names", []byte(lines.String()))
	out, err := exec.CommandContext(t.Context(), "dig", "-b", from, "-p", port, "@"+host, "+noall", "+question", "+answer", "+tries=3", "-f", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	found := map[string]bool{}
	last := ""
	for line := range strings.SplitSeq(string(out), "\n") {
		fields := strings.Fields(line)
		switch {
		case len(fields) == 3 && strings.HasPrefix(line, ";"):
			last = strings.Trim(fields[0], ";.")
			found[last] = false
		case len(fields) == 5 && fields[3] == "A":
			found[last] = true
		}
	}
	require.Len(t, found, len(hosts), "%s", out)
	return found
}

// dug starts a second service with both gates, at a moment.
func dug(t *testing.T, s *testkit.Service, moment string, args ...string) *testkit.Service {
	t.Helper()
	return house.Gated(t, s, moment, true, append(house.AtNames(t), args...)...)
}

// What a trial says of a journey through DNS and proxy is what a client gets that asks for the name first, and then the proxy.
func TestTrialPredictsBoth(t *testing.T) {
	t.Parallel()
	s := house.HospitalAsLive(t)
	at := atLoopback(t, s)
	s.Run(t, "", "policy", "edit", "Bedside screens", "--inspect", "all").Done(t)
	s.Run(t, "", "publish", "--note", "at loopback", "--force", "networks moved").Done(t)
	urls := []string{
		"http://harbour-news.example/", "http://harbour-news.example/puzzles", "https://harbour-news.example/puzzles", "http://oddsfield.example/today", "https://oddsfield.example/", "https://encyclopaedia.example/wiki/Tides",
		"http://encyclopaedia.example/wiki/Tides", "http://pebble-poker.example/", "https://tidepool-news.example/sport/odds/today", "http://dosage-tables.example/a", "https://diabetes-day.example/diet",
		"https://marrow-trust.test/breast/screening", "http://gull.example/a", "https://gull-video.example/film", "http://nobody-knows.example/setup.exe", "http://help.oddsfield.example/", "http://amber-chat.test/",
		"https://amber-circle.example/images/tide.webp", "http://www.pebble-poker.example/", "http://www.harbour-news.example/", "http://quillmere.internal/",
	}
	var hosts []string
	for _, u := range urls {
		parsed, err := url.Parse(u)
		require.NoError(t, err)
		hosts = append(hosts, parsed.Hostname())
	}
	tried, stopped := 0, 0
	for _, moment := range []string{"2026-11-24T12:45:00Z", "2026-11-24T14:10:00Z", "2026-11-25T02:00:00Z"} {
		gate := dug(t, s, moment)
		require.Eventually(t, func() bool { // the authority is in use
			return curl(t, gate.Proxy, "--interface", at["Bedside screens"]+".7", "https://encyclopaedia.example/wiki/Tides").status != "000"
		}, testkit.Patience, testkit.Look)
		way, journey, live := "dns,proxy", true, "live"
		var all sync.WaitGroup
		var mu sync.Mutex
		for _, prefix := range at {
			address := prefix + ".7"
			answer, err := gate.API(t).TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: urls, Who: &client.Who{Address: &address}, At: &moment, Way: &way, Journey: &journey, On: &live})
			require.NoError(t, err)
			tried += len(urls)
			all.Go(func() {
				resolves := digAll(t, gate.DNS, address, unique(hosts))
				got := curlAll(t, gate.Proxy, urls, "--interface", address)
				mu.Lock()
				defer mu.Unlock()
				for i, u := range urls {
					trial := answer.JSON200.Trials[i]
					sees := got[i].sees()
					if !resolves[hosts[i]] {
						sees = "a name that does not resolve"
						stopped++
					}
					want := map[string]string{"the page, with provisos": "the page", "the page that asks to unlock": "the block page"}[*trial.Sees]
					if want == "" {
						want = *trial.Sees
					}
					assert.Equal(t, want, sees, "%s from %s at %s: %s", u, address, moment, *trial.Because)
				}
			})
		}
		all.Wait()
		gate.Kill()
	}
	assert.GreaterOrEqual(t, tried, 300)
	assert.Positive(t, stopped)
}

func unique(texts []string) (all []string) {
	seen := map[string]bool{}
	for _, text := range texts {
		if !seen[text] {
			seen[text] = true
			all = append(all, text)
		}
	}
	return all
}

// A refused name leads to the page that says so, over HTTP and TLS, with the way to ask for access; other names of people who have come past it are open.
func TestPagesAddress(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true, append(house.AtNames(t), "--dns-page-address", "127.0.0.1", "--dns-page-listen", "127.0.0.1:0", "--dns-page-tls-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0")...)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("policy", "edit", "Ward", "--names", "page")
	run("publish", "--note", "a page for names")
	upToDate(t, s, "TestPagesAddress", 3)
	upToDate(t, s, "TestPagesAddress (DNS)", 3)
	authority := house.File(t, "authority.pem", []byte(run("gate", "authority", "export")))
	get := func(args ...string) string {
		out, _ := exec.CommandContext(t.Context(), "curl", append([]string{"-s", "--max-time", "20", "--interface", "127.0.10.7", "--cacert", authority, "-H", "Accept: text/html", "-w", "%{http_code}"}, args...)...).Output()
		return string(out)
	}
	page := strings.TrimPrefix(gate.Page, "http://")
	require.True(t, digAll(t, gate.DNS, "127.0.10.7", []string{"oddsfield.example"})["oddsfield.example"], "it leads to the page")
	shown := get("--connect-to", "::"+page, "http://oddsfield.example/today")
	for _, want := range []string{"This page is not allowed here", "http://oddsfield.example/<", gate.Page + "/ask?reference=", "</html>\n403"} {
		assert.Contains(t, shown, want)
	}
	assert.Contains(t, get("--connect-to", "::"+gate.PageTLS, "https://oddsfield.example/today"), "https://oddsfield.example/<")
	assert.Contains(t, get("--connect-to", "::"+page, "http://heron.example/"), "This site is open to you by now")
	assert.Contains(t, get(gate.Page+"/"), "Your way to the web")
	assert.Contains(t, get(gate.Page+"/"), "http://oddsfield.example/", "what was refused lately")

	// Over HTTPS, by a client that knows how.
	resolved := get("--doh-url", gate.HTTPS, "--connect-to", "::"+page, "http://oddsfield.example/")
	assert.Contains(t, resolved, "This page is not allowed here")
	assert.Contains(t, run("try", "http://oddsfield.example/", "--from", "127.0.10.7", "--way", "dns", "--on", "live"), "the page's address")
	require.Eventually(t, func() bool {
		latest := run("gate", "latest", "--limit", "50", "-o", "csv")
		return strings.Contains(latest, ",A,https://oddsfield.example/") || strings.Contains(latest, ",A,")
	}, testkit.Patience, testkit.Look)
}

// A DNS gate elsewhere decides by what it has fetched, and goes on while the service is away.
func TestNamesElsewhere(t *testing.T) {
	t.Parallel()
	s, service := gated(t, false)
	dir := t.TempDir()
	g := &testkit.Service{Folder: filepath.Join(dir, "gate"), Args: append(house.AtNames(t)[2:], "--service", service.URL)}
	code := strings.Fields(strings.Split(service.Run(t, "", "gate", "enrol", "names", "--kind", "dns", "--server", service.URL).Done(t), "--enrol ")[1])[0]
	g.Args = append(g.Args, "--enrol", code)
	g.Start(t)
	g.Args = g.Args[:len(g.Args)-2]
	t.Cleanup(g.Kill)
	upToDate(t, s, "names", 2)
	ask := func() map[string]bool {
		return digAll(t, g.DNS, "127.0.10.7", []string{"oddsfield.example", "heron.example"})
	}
	want := map[string]bool{"oddsfield.example": false, "heron.example": true}
	assert.Equal(t, want, ask())
	service.Kill()
	assert.Equal(t, want, ask())
	g.Kill()
	g.Start(t)
	assert.Equal(t, want, ask(), "it starts from what it has")
	service.Start(t)
	require.Eventually(t, func() bool {
		return strings.Contains(s.Run(t, "", "gate", "latest", "--limit", "50", "-o", "csv").Done(t), "oddsfield.example")
	}, testkit.Patience, testkit.Look)
	_, err := os.Stat(filepath.Join(g.Folder, "gate.json"))
	require.NoError(t, err)
}

// A person's own address of the DNS gate over HTTPS makes them known, here and at a gate elsewhere, until it is taken away.
func TestNamesOfOnesOwn(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true, append(house.AtNames(t), "--dns-https-listen", "127.0.0.1:0")...)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	upToDate(t, s, "TestNamesOfOnesOwn (DNS)", 2)
	authority := house.File(t, "authority.pem", []byte(run("gate", "authority", "export")))
	resolves := func(base, token string) bool {
		cmd := exec.CommandContext(t.Context(), "curl", "-s", "--interface", "127.0.99.7", "--cacert", authority, "--connect-timeout", "1", "--doh-url", base+token, "http://oddsfield.example/")
		_ = cmd.Run()
		return cmd.ProcessState.ExitCode() != 6 // that it knows no such host; the address leads nowhere
	}
	assert.True(t, resolves(gate.HTTPS, ""), "whoever is not known may")
	token := strings.Fields(strings.TrimPrefix(run("person", "dns", "kay.moran"), "https://GATE/dns-query"))[0]
	require.Len(t, token, 27)
	assert.False(t, resolves(gate.HTTPS, token), "she may not")
	require.Eventually(t, func() bool {
		return strings.Contains(run("gate", "latest", "--limit", "50", "-o", "csv"), "Kay Moran,A")
	}, testkit.Patience, testkit.Look)

	g := &testkit.Service{Folder: filepath.Join(t.TempDir(), "gate"), Args: append(house.AtNames(t)[2:], "--dns-https-listen", "127.0.0.1:0")}
	known := g.Args
	code := strings.Fields(strings.Split(gate.Run(t, "", "gate", "enrol", "names", "--kind", "dns", "--server", gate.URL).Done(t), "--enrol ")[1])[0]
	g.Args = append(append([]string{}, known...), "--service", gate.URL, "--enrol", code)
	g.Start(t)
	t.Cleanup(g.Kill)
	upToDate(t, s, "names", 2)
	require.Eventually(t, func() bool { return resolves(g.HTTPS, "") }, testkit.Patience, testkit.Look, "it has the authority")
	assert.False(t, resolves(g.HTTPS, token))

	run("person", "dns", "kay.moran", "--remove")
	again := strings.Fields(strings.TrimPrefix(run("person", "dns", "kay.moran"), "https://GATE/dns-query"))[0]
	assert.NotEqual(t, token, again)
	assert.False(t, resolves(gate.HTTPS, "/nobodys"), "nobody's is no address at all")
}

// A browser that asks for names over HTTPS gets the page for a name that is refused.
func TestBrowserByDNS(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, true, append(house.AtNames(t), "--dns-https-listen", "127.0.0.1:0", "--dns-page-address", "127.0.0.1", "--dns-page-listen", "127.0.0.1:0")...)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("network", "new", "Here", "127.0.0.0/29", "--sign-in", "never", "--way", "dns")
	run("group", "edit", "Nurses", "--network", "Wards", "--network", "Here")
	run("policy", "edit", "Ward", "--names", "page")
	run("publish", "--note", "names here")
	upToDate(t, s, "TestBrowserByDNS (DNS)", 3)
	b := browser.OpenByDNS(t, gate.HTTPS+"{?dns}")
	_, port, _ := strings.Cut(strings.TrimPrefix(gate.Page, "http://"), ":")
	b.GoTo("http://oddsfield.example:" + port + "/")
	b.See("h1", "This page is not allowed here")
	b.See("dd", "Ward: Never")
	require.Eventually(t, func() bool {
		return strings.Contains(run("gate", "latest", "--limit", "50", "-o", "csv"), ",A,https://oddsfield.example/")
	}, testkit.Patience, testkit.Look, "the browser has asked the gate")
}

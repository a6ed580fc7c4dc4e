package gates

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/postgres/cluster"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// upToDate waits until a gate runs what is live, of a revision.
func upToDate(t *testing.T, s *testkit.Service, name string, revision int) {
	t.Helper()
	require.Eventually(t, func() bool {
		for line := range strings.SplitSeq(s.Run(t, "", "gate", "ls", "-o", "csv").Done(t), "\n") {
			if strings.HasPrefix(line, name+",") && strings.Contains(line, fmt.Sprintf(",up to date,%d,", revision)) {
				return true
			}
		}
		return false
	}, testkit.Patience, testkit.Look)
}

// A gate elsewhere decides as the one in the service does, has what is published and what holds beside it, opens connections, lets people past holds and takes
// their requests.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	s, service := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	away := house.Elsewhere(t, service, "the annexe")
	upToDate(t, s, "the annexe", 2)
	const ward, blocked = "127.0.10.7", "http://oddsfield.example/"
	sees := func(url string, args ...string) string {
		return curl(t, away.Proxy, append(args, "--interface", ward, url)...).sees()
	}
	assert.Equal(t, "the block page", sees(blocked))
	assert.Equal(t, "the page", sees("http://heron.example/"))
	require.Eventually(t, func() bool { return sees("https://harbour-news.example/puzzles") == "the block page" }, testkit.Patience, testkit.Look, "opened")
	assert.Equal(t, "the page", sees("https://harbour-news.example/"))
	desk := []string{"--interface", "127.0.30.7", blocked}
	assert.Equal(t, "407", curl(t, away.Proxy, desk...).status)
	assert.Equal(t, "407", curl(t, away.Proxy, append(desk, "-U", "kay.moran:heather and tide 8")...).status)
	assert.Equal(t, "the block page", curl(t, away.Proxy, append(desk, "-U", "kay.moran:heather and tide 7")...).sees(), "the service knows the password")

	run("presence", "set", "kay.moran", "127.0.99.7", "--until", "1h")
	require.Eventually(t, func() bool {
		return curl(t, away.Proxy, "--interface", "127.0.99.7", blocked).sees() == "the block page"
	}, testkit.Patience, testkit.Look)

	asker := refused(t, away.Proxy, ward, blocked, "This page is not allowed here")
	require.Equal(t, "303", asker.send("act=ask", "reason=For the quiz").status)
	assert.Contains(t, asker.own().body, "Your request is with the help desk")
	open := strings.Split(strings.Split(run("request", "ls", "-o", "csv"), "\n")[1], ",")
	run("request", "grant", open[0], "--until", "1h")
	require.Eventually(t, func() bool { return sees(blocked) == "the page" }, testkit.Patience, testkit.Look)
	assert.Contains(t, asker.own().body, "You may open the page now")

	run("policy", "rule", "edit", "Ward", "Never", "--then", "hold", "--leave-minutes", "30")
	run("list", "add", "Betting", "cardtable.test")
	run("publish", "--note", "read first")
	upToDate(t, s, "the annexe", 3)
	const held = "http://cardtable.test/"
	reader := refused(t, away.Proxy, ward, held, "This page waits to be unlocked")
	assert.Equal(t, "303", reader.send("act=acknowledge").status)
	require.Eventually(t, func() bool { return sees(held) == "the page" }, testkit.Patience, testkit.Look)
	run("policy", "rule", "edit", "Ward", "Never", "--leave", "code")
	run("publish", "--note", "by a code")
	upToDate(t, s, "the annexe", 4)
	other := refused(t, away.Proxy, "127.0.10.8", held, "This page waits to be unlocked")
	assert.Contains(t, other.send("act=code", "code=AAAA-BBBB-CCCC").body, "This code does not open this page")
	code, _, _ := strings.Cut(run("code", "new", "--why", "a test", "--until", "1h"), "\n")
	assert.Equal(t, "303", other.send("act=code", "code="+code).status)
	require.Eventually(t, func() bool { return curl(t, away.Proxy, "--interface", "127.0.10.8", held).sees() == "the page" }, testkit.Patience, testkit.Look)

	require.Eventually(t, func() bool {
		all := run("gate", "latest", "--limit", "500", "-o", "csv")
		return strings.Contains(all, "block,Kay Moran,GET,http://oddsfield.example/,Ward: Never,answered 403")
	}, testkit.Patience, testkit.Look)
	shown := run("gate", "show", "the annexe")
	assert.Regexp(t, `elsewhere +edition 3, [0-9a-f]{16}`, shown)

	run("gate", "retire", "the annexe", "--server", service.URL)
	assert.NotContains(t, run("gate", "ls"), "the annexe")
	require.Eventually(t, func() bool { return strings.Contains(away.Said(), "This gate was retired") }, testkit.Patience, testkit.Look)
	assert.Equal(t, "the page", sees("http://heron.example/"), "it goes on with what it has")
}

// While the service is away, a gate elsewhere goes on, also when it starts anew: with its last edition, with standing facts until they lapse, and with its
// authority. Records wait on its disk, and each arrives once. What is damaged on the disk is passed over, and comes anew.
func TestElsewhereAlone(t *testing.T) {
	t.Parallel()
	s, service := gated(t, true)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	away := house.Elsewhere(t, service, "annexe", "--lapse", "4s")
	upToDate(t, s, "annexe", 2)
	const ward = "127.0.10.7"
	sees := func(address, url string) string { return curl(t, away.Proxy, "--interface", address, url).sees() }
	run("presence", "set", "kay.moran", "127.0.99.7", "--until", "1h")
	require.Eventually(t, func() bool { return sees("127.0.99.7", "http://oddsfield.example/") == "the block page" }, testkit.Patience, testkit.Look)
	require.Eventually(t, func() bool { return sees(ward, "https://harbour-news.example/puzzles") == "the block page" }, testkit.Patience, testkit.Look)
	run("list", "add", "Betting", "cardtable.test")
	run("publish", "--note", "more")
	upToDate(t, s, "annexe", 3)

	service.Kill()
	n := 0
	ask := func(want string) {
		t.Helper()
		for range 5 {
			n++
			assert.Equal(t, want, sees(ward, fmt.Sprintf("http://site-%d.example/", n)))
		}
	}
	ask("the page")
	away.Kill() // what it has decided in the last moments may be lost with it
	away.Start(t)
	n = 0
	ask("the page")
	assert.Equal(t, "the block page", sees(ward, "http://cardtable.test/"))
	assert.Equal(t, "the block page", sees(ward, "https://harbour-news.example/puzzles"), "it has its authority")
	require.Eventually(t, func() bool { return sees("127.0.99.7", "http://heron.example/") != "the page" }, testkit.Patience, testkit.Look, "presences lapse")
	ask("the page")
	assert.Equal(t, "503", curl(t, away.Proxy, "--interface", "127.0.30.7", "-U", "kay.moran:heather and tide 7", "http://heron.example/").status)
	require.NoError(t, away.Stop()) // what it has decided waits on the disk

	// The last edition is damaged: the one before is taken.
	editions, err := filepath.Glob(filepath.Join(away.Folder, "editions", "*"))
	require.NoError(t, err)
	require.Len(t, editions, 2)
	require.NoError(t, os.Truncate(filepath.Join(away.Folder, "editions", "2"), 100))
	away.Start(t)
	assert.Equal(t, "the page", sees(ward, "http://cardtable.test/"))
	assert.Equal(t, "the block page", sees(ward, "http://oddsfield.example/"))

	service.Start(t)
	require.Eventually(t, func() bool { return sees(ward, "http://cardtable.test/") == "the block page" }, testkit.Patience, testkit.Look)
	var latest string
	require.Eventually(t, func() bool {
		latest = run("gate", "latest", "--limit", "500", "-o", "csv")
		return strings.Count(latest, fmt.Sprintf("http://site-%d.example/,", n)) > 0
	}, testkit.Patience, testkit.Look)
	for i := range n {
		found := strings.Count(latest, fmt.Sprintf("http://site-%d.example/,", i+1))
		assert.True(t, found == 1 || i < 5 && found == 2, "site %d is recorded %d times", i+1, found)
	}

	// Parts that are damaged come anew.
	require.NoError(t, away.Stop())
	parts, err := filepath.Glob(filepath.Join(away.Folder, "parts", "*"))
	require.NoError(t, err)
	for _, part := range parts {
		text, err := os.ReadFile(part)
		require.NoError(t, err)
		text[len(text)-1] ^= 0xff
		require.NoError(t, os.WriteFile(part, text, 0o600))
	}
	away.Start(t)
	require.Eventually(t, func() bool {
		return sees(ward, "http://cardtable.test/") == "the block page" && sees(ward, "http://heron.example/") == "the page"
	}, testkit.Patience, testkit.Look)
}

// Whoever enrols has a code that was not used before, and the service must be the one that made the code.
func TestEnrolling(t *testing.T) {
	t.Parallel()
	s, service := gated(t, false)
	gate := func(args ...string) string {
		out, code := house.Daemon(t, append([]string{"gate", "--proxy-listen", "127.0.0.1:0"}, args...)...)
		assert.Equal(t, 3, code)
		return out
	}
	dir := t.TempDir()
	assert.Contains(t, gate("--folder", dir), "this gate is not enrolled: make a code with `widelark gate enrol NAME`")
	assert.Contains(t, gate(), "where does the gate keep what it runs?")
	assert.Contains(t, gate("--folder", dir, "--enrol", "AAAA"), "which service does the gate enrol at?")
	assert.Contains(t, gate("--folder", dir, "--service", service.URL, "--enrol", "AAAA"), "it is no code for enrolling")
	assert.Contains(t, gate("--folder", dir, "--service", service.URL, "--enrol", strings.Repeat("AAAA-", 7)+"AAAA"), "The code enrols no gate")

	away := house.Elsewhere(t, service, "annexe")
	upToDate(t, s, "annexe", 2)
	assert.Contains(t, s.Run(t, "", "gate", "enrol", "Annexe", "--server", service.URL).Err, "There is a gate with this name")
	assert.Contains(t, s.Run(t, "", "gate", "enrol", "other").Err, "start it with --secret-file", "the first service has none")
	assert.Contains(t, gate("--folder", away.Folder, "--service", service.URL, "--enrol", strings.Repeat("AAAA-", 7)+"AAAA"), `this folder is the gate "annexe" already`)

	code := strings.TrimSpace(s.Run(t, "", "gate", "enrol", "other", "--server", service.URL, "-o", "json").Done(t))
	text := code[strings.Index(code, `"code": "`)+len(`"code": "`):]
	text = text[:strings.IndexByte(text, '"')]
	forged := "AAAA" + text[4:]
	assert.Contains(t, gate("--folder", dir, "--service", service.URL, "--enrol", forged), "The code enrols no gate")
	foreign := text[:len(text)-9] + "AAAA-AAAA" // it names another service's key
	assert.Contains(t, gate("--folder", dir, "--service", service.URL, "--enrol", foreign), "somebody else answered in the service's place")
	assert.Contains(t, gate("--folder", dir, "--service", service.URL, "--enrol", text), "The code enrols no gate", "it was used")

	// A token of nobody, or of another key, is refused.
	for token, status := range map[string]int{"": 401, "x": 401, "eyJhbGciOiJub25lIn0.e30.": 401, service.Token(t): 403} {
		answer := service.Request(t, "GET", "/api/v1/gate/stream?nonce=AAAAAAAAAAAAAAAAAAAAAA", "", map[string]string{"Authorization": "Bearer " + token})
		assert.Equal(t, status, answer.StatusCode, token)
	}
	secrets, err := os.ReadFile(filepath.Join(away.Folder, "gate.json"))
	require.NoError(t, err)
	assert.False(t, bytes.Contains([]byte(away.Said()), secrets))
}

// Gate, service and database are killed at random moments while requests come and revisions are published: the gate decides whenever it runs, no request is recorded twice, those
// that the gate had time to store are recorded, and at the end everybody runs what is live.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(house.DataFolder(t, nil), "database")
	db, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { db.Kill() })
	require.NoError(t, db.EnsureDatabase(t.Context(), "killed"))
	wire, at := testkit.NewWire(t, db.URL("killed"))
	s := house.Server.ServeOn(t, at)
	service := gatedOn(t, s, false)
	away := house.Elsewhere(t, service, "annexe")
	upToDate(t, s, "annexe", 2)
	type asked struct {
		at   time.Time
		sees string
	}
	var mu sync.Mutex
	answers := map[string]asked{} // guarded by mu
	var load sync.WaitGroup
	stop := make(chan struct{})
	for worker := range 2 {
		load.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				url := fmt.Sprintf("http://site-%d-%d.example/", worker, n)
				cmd := exec.Command("curl", "-s", "--max-time", "10", "-x", "http://"+away.Proxy, "--interface", "127.0.10.7", url)
				out, err := cmd.Output()
				mu.Lock()
				switch {
				case err == nil && bytes.Contains(out, []byte("an invented site")):
					answers[url] = asked{time.Now(), "the page"}
				case err == nil:
					answers[url] = asked{time.Now(), string(out)}
				}
				mu.Unlock()
			}
		})
	}
	var kills []time.Time
	revision := 2
	goOn := func() {
		mu.Lock()
		before := len(answers)
		mu.Unlock()
		assert.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			return len(answers) > before+3
		}, testkit.Patience, testkit.Look, "decisions go on")
	}
	deaths := []func(){
		func() {
			kills = append(kills, time.Now())
			away.Kill()
			away.Start(t)
		},
		func() {
			service.Kill()
			goOn()
			service.Start(t)
		},
		func() {
			db.Kill() // as a crash
			goOn()
			next, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
			require.NoError(t, err)
			db = next
			wire.Move(t, db.URL("killed"))
		},
	}
	deaths = append(deaths, deaths...)
	deaths = append(deaths, deaths[rand.IntN(3)], deaths[rand.IntN(3)])
	rand.Shuffle(len(deaths), func(i, j int) { deaths[i], deaths[j] = deaths[j], deaths[i] })
	for _, dies := range deaths {
		time.Sleep(time.Duration(300+rand.IntN(900)) * time.Millisecond)
		dies()
		require.Eventually(t, func() bool {
			return s.Run(t, "", "list", "add", "Betting", fmt.Sprintf("fresh-%d.example", revision)).Code == 0
		}, testkit.Patience, testkit.Look, "the service is with its database again")
		s.Run(t, "", "publish", "--note", "more").Done(t)
		revision++
	}
	upToDate(t, s, "annexe", revision)
	close(stop)
	load.Wait()
	for url, a := range answers {
		assert.Equal(t, "the page", a.sees, url)
	}
	for n := 2; n < revision; n++ {
		assert.Equal(t, "the block page", curl(t, away.Proxy, "--interface", "127.0.10.7", fmt.Sprintf("http://fresh-%d.example/", n)).sees())
	}
	wanted := 0
	for _, a := range answers {
		// What a gate has decided in the last moments before it was killed goes with it.
		if !slices.ContainsFunc(kills, func(k time.Time) bool { return a.at.Before(k) && k.Sub(a.at) < 2*time.Second }) {
			wanted++
		}
	}
	recorded := map[string]int{}
	require.Eventually(t, func() bool {
		clear(recorded)
		for line := range strings.SplitSeq(s.Run(t, "", "gate", "latest", "--limit", "500", "-o", "csv").Done(t), "\n") {
			if _, rest, ok := strings.Cut(line, ",GET,http://site-"); ok {
				url, _, _ := strings.Cut(rest, ",")
				recorded["http://site-"+url]++
			}
		}
		return len(recorded) >= min(wanted, 400)
	}, testkit.Patience, testkit.Look)
	for url, n := range recorded {
		assert.Equal(t, 1, n, url)
	}
	if len(answers) < 400 { // all of them are among the latest
		for url, a := range answers {
			lost := recorded[url] == 0 && !slices.ContainsFunc(kills, func(k time.Time) bool { return a.at.Before(k) && k.Sub(a.at) < 2*time.Second })
			assert.False(t, lost, url)
		}
	}
}

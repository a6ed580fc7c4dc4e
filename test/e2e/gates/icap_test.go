package gates

import (
	"net"
	"os/exec"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// What a trial says of the way icap is what another proxy gets that asks the ICAP gate, by a client that nobody here wrote.
func TestTrialPredictsICAP(t *testing.T) {
	t.Parallel()
	program, err := exec.LookPath("c-icap-client")
	if err != nil {
		t.Skip("there is no c-icap-client: run `make deps`")
	}
	s := house.HospitalAsLive(t)
	const moment = "2026-11-24T14:10:00Z"
	gate := house.Gated(t, s, moment, false, "--gates", "proxy,icap", "--icap-listen", "127.0.0.1:0", "--icap-from", "127.0.0.0/8")
	require.Eventually(t, func() bool {
		return strings.Count(s.Run(t, "", "gate", "ls", "-o", "csv").Done(t), ",up to date,") == 2
	}, testkit.Patience, testkit.Look)
	host, port, err := net.SplitHostPort(gate.ICAP)
	require.NoError(t, err)
	urls := []string{
		"http://harbour-news.example/", "http://harbour-news.example/puzzles", "https://harbour-news.example/puzzles", "http://oddsfield.example/today", "https://encyclopaedia.example/wiki/Tides", "https://tidepool-news.example/sport/odds/today",
		"http://dosage-tables.example/a", "https://diabetes-day.example/diet", "https://marrow-trust.test/breast/screening", "http://gull.example/a", "http://nobody-knows.example/setup.exe", "http://help.oddsfield.example/", "http://amber-chat.test/",
	}
	way, journey, live, at := "icap", true, "live", moment
	blocked := 0
	for _, who := range []struct {
		who  client.Who
		args []string
	}{
		{client.Who{Person: ref("kay.moran")}, []string{"-x", "X-Authenticated-User: Local://kay.moran"}},
		{client.Who{Person: ref("ola.fenn")}, []string{"-x", "X-Authenticated-User: b2xhLmZlbm4="}},
		{client.Who{Address: ref("10.40.30.7")}, []string{"-x", "X-Client-IP: 10.40.30.7"}},
	} {
		answer, err := gate.API(t).TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: urls, Who: &who.who, At: &at, Way: &way, Journey: &journey, On: &live})
		require.NoError(t, err)
		var all sync.WaitGroup
		var mu sync.Mutex
		for i, u := range urls {
			all.Go(func() {
				out, err := exec.CommandContext(t.Context(), program, append([]string{"-i", host, "-p", port, "-s", "requests", "-req", u, "-v"}, who.args...)...).CombinedOutput()
				sees := "the page"
				if strings.Contains(string(out), "403 Forbidden") {
					sees = "the block page"
				}
				mu.Lock()
				defer mu.Unlock()
				assert.NoError(t, err)
				trial := answer.JSON200.Trials[i]
				want := map[string]string{"the page, with provisos": "the page", "the page that asks to unlock": "the block page"}[*trial.Sees]
				if want == "" {
					want = *trial.Sees
				}
				if sees == "the block page" {
					blocked++
				}
				assert.Equal(t, want, sees, "%s for %v: %s\n%s", u, who.args, *trial.Because, out)
			})
		}
		all.Wait()
	}
	assert.Positive(t, blocked)
}

func ref(text string) *string { return &text }

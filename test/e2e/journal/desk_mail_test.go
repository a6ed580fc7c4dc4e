package journal

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/postgres"
	"widelark/internal/standing"
	"widelark/internal/testkit"
)

// Mail tells the desk of a site that is asked for once, as long as a request for it is open: not again for further requests, and not by a second service.
func TestDeskMail(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "lark@quillmere.example", "--console-url", "https://lark.quillmere.example")
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	again := &testkit.Service{Database: s.Database, Config: s.Config, Args: s.Args}
	again.Start(t)
	t.Cleanup(again.Kill)
	assert.Contains(t, s.Run(t, "", "practice", "desk-mail", "no address").Err, "is no mail address")
	assert.Contains(t, run("practice", "desk-mail", "desk@quillmere.example", "night@quillmere.example"), "night@quillmere.example")
	assert.Contains(t, run("practice", "show"), "desk@quillmere.example")

	store, err := postgres.Open(t.Context(), s.Database)
	require.NoError(t, err)
	defer store.Close()
	made := 0
	ask := func(url string) {
		made++
		_, err := store.AddRequest(t.Context(), standing.Request{
			Address: netip.MustParseAddr("10.40.9.7"), URL: url, Verdict: policy.Block, By: "Never", Reason: "The quiz", Reference: fmt.Sprint("REF", made),
		}, access.Recorder)
		require.NoError(t, err)
	}
	ask("https://oddsfield.example/today")
	ask("https://news.oddsfield.example/")
	ask("https://tern.example/")
	for _, to := range []string{"desk@", "night@"} {
		require.Eventually(t, func() bool { return len(mails.letters(t, to)) == 2 }, testkit.Patience, testkit.Look, to)
	}
	ask("https://oddsfield.example/tomorrow")
	time.Sleep(7 * time.Second) // longer than the desk is looked at
	assert.Len(t, mails.letters(t, "desk@"), 2)
	run("request", "refuse", "REF1", "REF2", "REF4", "--why", "Never")
	ask("https://oddsfield.example/next-week")
	require.Eventually(t, func() bool { return len(mails.letters(t, "desk@")) == 3 }, testkit.Patience, testkit.Look, "all were answered, so it begins anew")
	letter := mails.letters(t, "desk@")[2]
	assert.Contains(t, letter.text, "https://lark.quillmere.example/requests")
	assert.Contains(t, letter.text, "The quiz")
}

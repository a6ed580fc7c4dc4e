package journal

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
)

// hook takes posts, and refuses the first ones.
type hook struct {
	mu     sync.Mutex
	refuse int      // guarded by mu
	took   []posted // guarded by mu
	tries  int      // guarded by mu
}

// posted is a post that came.
type posted struct {
	head http.Header
	url  string
	body []byte
}

func (h *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.tries++; h.tries <= h.refuse {
		http.Error(w, "not now", http.StatusServiceUnavailable)
		return
	}
	h.took = append(h.took, posted{r.Header, "http://" + r.Host + r.URL.RequestURI(), body})
}

func (h *hook) posts() []posted {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]posted{}, h.took...)
}

var signed = regexp.MustCompile(`^lark=(\("@method" "@target-uri" "content-digest" "idempotency-key"\);created=\d+;alg="hmac-sha256")$`)

// An alert tells by mail and by a signed post, once though two services look, and again after a hook was away; people who keep trying are told of together; what is acknowledged is not told of again, and
// nothing is told while it is quiet.
func TestAlerts(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	to := &hook{refuse: 1}
	server := httptest.NewServer(to)
	t.Cleanup(server.Close)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "lark@quillmere.example", "--console-url", "https://lark.quillmere.example")
	furnish(t, s)
	beside(t, s)
	api := s.API(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	const secret = "a secret of the desk"
	run("alert", "new", "Keeps trying", "verdict:block", "--more", "3", "--minutes", "10", "--per", "person", "--to", "desk@quillmere.example", "--hook", server.URL+"/alerts?at=1", "--secret", secret)
	run("alert", "new", "In the quiet", "verdict:block", "--more", "3", "--quiet", "00:00-23:59", "--to", "night@quillmere.example")
	run("alert", "new", "All", "verdict:block", "--more", "100", "--to", "all@quillmere.example")
	assert.Contains(t, s.Run(t, "", "alert", "new", "Wrong", "verdct:block").Err, "verdict")
	assert.Contains(t, s.Run(t, "", "alert", "new", "Wrong", "--what", "gates", "--more", "3").Err, "only an alert about requests")
	assert.Contains(t, s.Run(t, "", "alert", "new", "Wrong", "--to", "nobody at all").Err, "not an address for mail")
	shown, err := api.GetAlertsWithResponse(t.Context())
	require.NoError(t, err)
	assert.NotContains(t, string(shown.Body), secret)

	for range 4 {
		record(t, api, "kay.moran", time.Now(), "https://oddsfield.example/")
		record(t, api, "moss.teal", time.Now(), "https://slots.example/")
	}
	record(t, api, "moss.teal", time.Now(), "https://heron.example/")
	require.Eventually(t, func() bool { return len(mails.letters(t, "desk@")) > 0 && len(to.posts()) > 0 }, testkit.Patience, testkit.Look)
	l := mails.letters(t, "desk@")[0]
	assert.Equal(t, "Alert: Keeps trying (2)", l.subject)
	for _, want := range []string{"Kay Moran: 4 requests in 10 minutes, more than 3.", "Moss Teal: 4 requests", "https://lark.quillmere.example/journal?q=", "https://lark.quillmere.example/alerts"} {
		assert.Contains(t, l.text, want)
	}

	post := to.posts()[0]
	var told struct {
		Alert     string
		Incidents []struct{ Subject, Query, Said string }
	}
	require.NoError(t, json.Unmarshal(post.body, &told))
	assert.Equal(t, "Keeps trying", told.Alert)
	require.Len(t, told.Incidents, 2)
	found, err := api.SummarizeJournalWithResponse(t.Context(), &client.SummarizeJournalParams{Q: &told.Incidents[0].Query})
	require.NoError(t, err)
	assert.EqualValues(t, 4, found.JSON200.Total.All, told.Incidents[0].Query)
	params := signed.FindStringSubmatch(post.head.Get("Signature-Input"))
	require.NotNil(t, params, post.head.Get("Signature-Input"))
	sum := sha256.Sum256(post.body)
	assert.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", post.head.Get("Content-Digest"))
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": %s\n\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s", post.url, post.head.Get("Content-Digest"), post.head.Get("Idempotency-Key"), params[1])
	assert.Equal(t, "lark=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", post.head.Get("Signature"))

	open := run("alert", "found", "--open", "-o", "csv")
	assert.Equal(t, 3, strings.Count(open, "goes on"), open)
	assert.Regexp(t, `In the quiet,"4|In the quiet,"8 requests`, open)
	id := regexp.MustCompile(`Kay Moran: .*,([0-9a-f-]{36})`).FindStringSubmatch(open)
	require.NotNil(t, id, open)
	assert.Contains(t, run("alert", "acknowledge", id[1], "--why", "it is the kiosk"), "Kay Moran: 4 requests")
	assert.NotContains(t, run("alert", "found", "--open"), "Kay Moran")
	assert.Contains(t, run("alert", "found"), "edda")
	assert.Contains(t, run("audit", "-o", "csv"), "acknowledged")

	run("alert", "test", "All")
	require.Eventually(t, func() bool { return len(mails.letters(t, "all@")) == 1 }, testkit.Patience, testkit.Look)
	assert.Equal(t, "Test of the alert: All", mails.letters(t, "all@")[0].subject)
	time.Sleep(25 * time.Second) // two looks of both services
	assert.Len(t, mails.letters(t, "desk@"), 1, "told once")
	assert.Len(t, to.posts(), 1)
	assert.Empty(t, mails.letters(t, "night@"))
	run("alert", "edit", "Keeps trying", "--off", "--more", "5")
	assert.Regexp(t, `Keeps trying +off: more than 5 requests`, run("alert", "ls"))
	run("alert", "remove", "Keeps trying")
	require.Eventually(t, func() bool { return !strings.Contains(run("alert", "found", "--open"), "Keeps trying") }, testkit.Patience, testkit.Look)
}

// A gate that is silent, a pack that cannot be pulled and an expectation that fails on what is live are told of; what is over ends.
func TestAlertsOfTheService(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "lark@quillmere.example", "--gates", "proxy", "--proxy-listen", "127.0.0.1:0")
	furnish(t, s)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	for _, what := range []string{"packs", "expectations", "gates"} {
		run("alert", "new", what, "--what", what, "--to", what+"@quillmere.example")
	}
	run("expect", "add", "heron.example", "--verdict", "allow", "--name", "The heron")
	run("list", "add", "Betting", "heron.example")
	run("publish", "--note", "by mistake", "--force", "a test of what is told")
	require.Eventually(t, func() bool { return len(mails.letters(t, "expectations@")) == 1 }, testkit.Patience, testkit.Look)
	assert.Contains(t, mails.letters(t, "expectations@")[0].text, `The expectation "The heron" fails on what is live: `)
	run("list", "remove", "Betting", "heron.example")
	run("publish", "--note", "mended")
	require.Eventually(t, func() bool { return !strings.Contains(run("alert", "found", "--open"), "heron") }, 2*testkit.Patience, testkit.Look)
	assert.Empty(t, mails.letters(t, "gates@"))
}

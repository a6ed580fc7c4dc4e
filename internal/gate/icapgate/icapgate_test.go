package icapgate

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/gatetest"
	"widelark/internal/gate/httpproxy"
	"widelark/internal/journal"
)

// kept keeps records.
type kept struct {
	mu  sync.Mutex
	all []journal.Record // guarded by mu
}

// Add implements [gate.Recorder].
func (k *kept) Add(r journal.Record) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all = append(k.all, r)
}

// begin serves a gate, and returns where.
func begin(t testing.TB, c Config) string {
	t.Helper()
	c.Log = slog.New(slog.DiscardHandler)
	c.Pages = httpproxy.New(httpproxy.Config{Gate: c.Gate, Organisation: "Quillmere General", Log: c.Log})
	s := New(c)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(listener) }()
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		assert.NoError(t, <-served)
		assert.NoError(t, c.Pages.Close())
	})
	return listener.Addr().String()
}

var loopback = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}

// talk is a conversation with a gate.
type talk struct {
	t    testing.TB
	conn net.Conn
	r    *bufio.Reader
}

func dial(t testing.TB, at string) *talk {
	t.Helper()
	conn, err := net.Dial("tcp", at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	return &talk{t, conn, bufio.NewReader(conn)}
}

func (c *talk) say(text string) {
	c.t.Helper()
	_, err := io.WriteString(c.conn, text)
	require.NoError(c.t, err)
}

// said is an answer: its status, its head, and all that it holds, with the chunks of a body joined.
type said struct {
	status int
	head   string
	holds  string
}

func (c *talk) hear() (a said) {
	c.t.Helper()
	for {
		text, err := c.r.ReadString('\n')
		require.NoError(c.t, err)
		a.head += text
		if text == "\r\n" {
			break
		}
	}
	_, err := fmt.Sscanf(a.head, "ICAP/1.0 %d", &a.status)
	require.NoError(c.t, err)
	if a.status == 100 {
		return a
	}
	_, encapsulated, _ := strings.Cut(a.head, "Encapsulated: ")
	encapsulated, _, _ = strings.Cut(encapsulated, "\r\n")
	parts := strings.Split(encapsulated, ", ")
	kind, at, _ := strings.Cut(parts[len(parts)-1], "=")
	size := 0
	_, err = fmt.Sscan(at, &size)
	require.NoError(c.t, err)
	head := make([]byte, size)
	_, err = io.ReadFull(c.r, head)
	require.NoError(c.t, err)
	a.holds = string(head)
	if kind == "null-body" {
		return a
	}
	for {
		text, err := c.r.ReadString('\n')
		require.NoError(c.t, err)
		n := 0
		_, err = fmt.Sscanf(text, "%x", &n)
		require.NoError(c.t, err)
		some := make([]byte, n+2)
		_, err = io.ReadFull(c.r, some)
		require.NoError(c.t, err)
		if n == 0 {
			return a
		}
		a.holds += string(some[:n])
	}
}

// reqmod is a question about a request; body is of it, "" for none, sent whole.
func reqmod(from, request, body string, fields ...string) string {
	kind := "null-body"
	if body != "" {
		kind = "req-body"
		body = fmt.Sprintf("%x\r\n%s\r\n0\r\n\r\n", len(body), body)
	}
	return fmt.Sprintf("REQMOD icap://127.0.0.1/requests ICAP/1.0\r\nHost: 127.0.0.1\r\nAllow: 204\r\nX-Client-IP: %s\r\n%sEncapsulated: req-hdr=0, %s=%d\r\n\r\n%s%s", from, strings.Join(append(fields, ""), "\r\n"), kind, len(request), request, body)
}

func respmod(from, request, response, body string, fields ...string) string {
	return fmt.Sprintf("RESPMOD icap://127.0.0.1/answers ICAP/1.0\r\nHost: 127.0.0.1\r\nX-Client-IP: %s\r\n%sEncapsulated: req-hdr=0, res-hdr=%d, res-body=%d\r\n\r\n%s%s%s",
		from, strings.Join(append(fields, ""), "\r\n"), len(request), len(request)+len(response), request, response, body)
}

func get(url string) string {
	host := strings.Split(strings.Split(url, "://")[1], "/")[0]
	return "GET " + url + " HTTP/1.1\r\nHost: " + host + "\r\nAccept: text/html\r\n\r\n"
}

// The ICAP gate passes what every protocol of a gate must pass.
func TestConformance(t *testing.T) {
	for _, scheme := range []string{"http", "https"} {
		t.Run(scheme, func(t *testing.T) {
			gatetest.Run(t, policy.ICAP, func(t *testing.T, s *gatetest.Stand) gatetest.Child {
				at := begin(t, Config{Gate: s.Gate, Trusted: loopback})
				return gatetest.Child{Scheme: scheme, Ask: func(t *testing.T, from netip.Addr, target string) bool {
					u, err := url.Parse(target)
					require.NoError(t, err)
					c := dial(t, at)
					defer c.conn.Close()
					c.say(reqmod(from.String(), get(u.String()), ""))
					answer := c.hear()
					if answer.status == 200 {
						assert.True(t, strings.HasPrefix(answer.holds, "HTTP/1.1 403 Forbidden\r\n"), answer.holds)
					}
					return answer.status == 204
				}}
			})
		})
	}
}

// floor is a ward at 10.40.10.0/24.
func floor() policy.Config {
	list := func(ids ...string) policy.Cond { return policy.Cond{Op: policy.InList, Values: ids} }
	rule := func(name string, cond policy.Cond, then policy.Verdict, with policy.Provisos) policy.Rule {
		return policy.Rule{ID: uuid.NewString(), Name: name, If: cond, Then: then, With: with}
	}
	return policy.Config{
		Zone: time.UTC, Way: policy.ByICAP,
		Directory: directory.New([]directory.Person{{ID: kay.String(), Name: "Kay Moran"}}, []directory.Group{{ID: "nurses", Name: "Nurses", Networks: []string{"ward"}, Persons: []string{kay.String()}}},
			[]directory.Network{{ID: "ward", Name: "Ward", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.10.0/24")}}}),
		Lists: match.New([]match.List{{ID: "bad", Name: "Betting", Entries: pattern.Keep("oddsfield.example", "heron.example/puzzles")}, {ID: "up", Name: "Forms", Entries: pattern.Keep("forms.example")}, {ID: "big", Name: "Big", Entries: pattern.Keep("big.example")}, {ID: "find", Name: "Search", Entries: pattern.Keep("find.example")}}),
		Engines: []policy.Engine{
			{ID: "e", Name: "Find", Entries: pattern.Keep("p.find.example"), Safe: policy.Safe{By: policy.ByParameter, Name: "calm", Value: "1"}},
			{ID: "h", Name: "Head", Entries: pattern.Keep("h.find.example"), Safe: policy.Safe{By: policy.ByHeader, Name: "Filter", Value: "strict"}},
			{ID: "o", Name: "Other", Entries: pattern.Keep("o.find.example"), Safe: policy.Safe{By: policy.ByHost, Value: "calm.find.example"}},
		},
		Taxonomy: classify.Taxonomy{Categories: []classify.Category{{Key: "wagers", Name: "Wagers"}}},
		Local:    classify.NewLocal(nil, nil, []classify.Scorecard{{ID: "card", Name: "Card", Category: "wagers", Threshold: 10, Terms: []classify.Term{{Word: pattern.MustParse(`"late odds"`).Pattern, Points: 10}}}}),
		Policies: []policy.Policy{{ID: "p", Name: "Ward", Groups: []string{"nurses"}, Otherwise: policy.Allow, Rules: []policy.Rule{
			rule("Never", list("bad"), policy.Block, policy.Provisos{}), rule("Programs", policy.Cond{Op: policy.File, Values: []string{"programs"}}, policy.Block, policy.Provisos{}),
			rule("Wagers", policy.Cond{Op: policy.Is, Values: []string{"wagers"}}, policy.Block, policy.Provisos{}), rule("No uploads", list("up"), policy.Allow, policy.Provisos{NoUploads: true}),
			rule("Small", list("big"), policy.Allow, policy.Provisos{SizeCap: 1000}), rule("Search", list("find"), policy.Allow, policy.Provisos{SafeSearch: true}),
		}}},
		Fallback: &policy.Policy{ID: "f", Name: "Fallback", Otherwise: policy.Allow},
	}
}

var kay = uuid.MustParse("11111111-0000-4000-8000-000000000001")

func gateOf(config policy.Config) (*gate.Gate, *kept) {
	k := &kept{}
	g := gate.New(policy.ICAP, "test", time.Now, k)
	g.Take(&gate.Edition{Revision: 1, Snapshot: policy.New(config)})
	return g, k
}

// named is a desk that knows Kay Moran; nothing else is asked of it.
type named struct{ gate.Desk }

// Named implements [gate.Desk].
func (named) Named(_ context.Context, name string) (uuid.UUID, bool, error) {
	return kay, strings.EqualFold(name, "kay.moran"), nil
}

const ward, office = "10.40.10.7", "10.40.30.7"

// What is allowed is left as it is, in a line where that may be; what is refused is answered with the page; over one connection, one behind the other.
func TestRequests(t *testing.T) {
	g, k := gateOf(floor())
	c := dial(t, begin(t, Config{Gate: g, Trusted: loopback}))
	c.say("OPTIONS icap://127.0.0.1/requests ICAP/1.0\r\nHost: 127.0.0.1\r\n\r\nOPTIONS icap://127.0.0.1/answers ICAP/1.0\r\n\r\n")
	for _, method := range []string{"REQMOD", "RESPMOD"} {
		options := c.hear()
		assert.Equal(t, 200, options.status)
		assert.Contains(t, options.head, "Methods: "+method+"\r\n")
		assert.Regexp(t, `ISTag: "[^"]{1,32}"`, options.head)
	}
	c.say(reqmod(ward, get("http://heron.example/"), "") + reqmod(ward, get("http://heron.example/puzzles/1"), "") + reqmod(ward, get("https://oddsfield.example/today"), "") + reqmod(office, get("https://oddsfield.example/"), "") +
		reqmod(ward, "CONNECT oddsfield.example:443 HTTP/1.1\r\nHost: oddsfield.example:443\r\n\r\n", "") + reqmod(ward, "CONNECT heron.example:443 HTTP/1.1\r\nHost: heron.example:443\r\n\r\n", "") +
		reqmod(ward, "GET http://heron.example/ HTTP/1.1\r\nHost: oddsfield.example\r\n\r\n", "") + reqmod(ward, "GET /puzzles HTTP/1.1\r\nHost: heron.example\r\n\r\n", ""))
	for i, want := range []int{204, 200, 200, 204, 200, 204, 200, 200} {
		answer := c.hear()
		assert.Equal(t, want, answer.status, i)
		if want == 200 {
			assert.True(t, strings.HasPrefix(answer.holds, "HTTP/1.1 403 Forbidden\r\n"), answer.holds)
		}
	}
	body := "a=" + strings.Repeat("b", 5000)
	post := "POST http://heron.example/form HTTP/1.1\r\nHost: heron.example\r\nContent-Type: application/x-www-form-urlencoded\r\nX-Odd:   kept as it is\r\nContent-Length: " + fmt.Sprint(len(body)) + "\r\n\r\n"
	c.say(strings.Replace(reqmod(ward, post, body), "Allow: 204\r\n", "", 1))
	echoed := c.hear()
	assert.Equal(t, 200, echoed.status)
	assert.Contains(t, echoed.head, "Encapsulated: req-hdr=0, req-body="+fmt.Sprint(len(post)))
	assert.Equal(t, post+body, echoed.holds, "as it was sent")
	c.say(reqmod(ward, post, body))
	assert.Equal(t, 204, c.hear().status)
	k.mu.Lock()
	defer k.mu.Unlock()
	require.Len(t, k.all, 10, "one record of each")
	assert.Equal(t, "http://heron.example/puzzles/1", k.all[1].URL)
	assert.Equal(t, netip.MustParseAddr(ward), k.all[1].Address)
}

// Who asks is told by proxies that are trusted: by name, as it stands or in base64, with a scheme before it or not; and by nobody else.
func TestWhoAsks(t *testing.T) {
	g, _ := gateOf(floor())
	trusted, other := begin(t, Config{Gate: g, Desk: named{}, Trusted: loopback}), begin(t, Config{Gate: g, Desk: named{}})
	encoded := func(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }
	for user, blocked := range map[string]bool{
		"kay.moran": true, "Kay.Moran": true, "Local://kay.moran": true, encoded("kay.moran"): true, encoded("Local://kay.moran"): true, "WinNT://QUILLMERE/kay.moran": true, encoded("LDAP://ldap.example/kay.moran"): true, "somebody": false, "": false, "!!": false,
	} {
		for at, counts := range map[string]bool{trusted: true, other: false} {
			c := dial(t, at)
			c.say(reqmod(office, get("http://oddsfield.example/"), "", "X-Authenticated-User: "+user))
			assert.Equal(t, blocked && counts, c.hear().status == 200, "%q", user)
			_ = c.conn.Close()
		}
	}
}

// What a request is bound to is held: uploads, and safe search.
func TestProvisosOfRequests(t *testing.T) {
	g, _ := gateOf(floor())
	c := dial(t, begin(t, Config{Gate: g, Trusted: loopback}))
	post := func(n int) string {
		return fmt.Sprintf("POST http://forms.example/ HTTP/1.1\r\nHost: forms.example\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n", n)
	}
	for size, status := range map[int]int{100: 204, 8000: 204, 8001: 200, 60_000: 200} {
		c.say(reqmod(ward, post(size), strings.Repeat("x", size)))
		answer := c.hear()
		assert.Equal(t, status, answer.status, size)
		if status == 200 {
			assert.Contains(t, answer.holds, "more than 8 kB are sent")
		}
	}
	// With a preview, the rest is asked for only where it is needed.
	head := post(9000)
	c.say(fmt.Sprintf("REQMOD icap://x/requests ICAP/1.0\r\nX-Client-IP: %s\r\nPreview: 4\r\nEncapsulated: req-hdr=0, req-body=%d\r\n\r\n%s4;x=y\r\nabcd\r\n0\r\n\r\n", ward, len(head), head))
	assert.Equal(t, 200, c.hear().status, "it says how long it is")
	chunked := "POST http://forms.example/ HTTP/1.1\r\nHost: forms.example\r\nTransfer-Encoding: chunked\r\n\r\n"
	c.say(fmt.Sprintf("REQMOD icap://x/requests ICAP/1.0\r\nX-Client-IP: %s\r\nPreview: 4\r\nAllow: 204\r\nEncapsulated: req-hdr=0, req-body=%d\r\n\r\n%s4\r\nabcd\r\n0\r\n\r\n", ward, len(chunked), chunked))
	assert.Equal(t, 100, c.hear().status)
	c.say("2\r\nef\r\n0\r\n\r\n")
	assert.Equal(t, 204, c.hear().status)
	c.say(fmt.Sprintf("REQMOD icap://x/requests ICAP/1.0\r\nX-Client-IP: %s\r\nPreview: 4\r\nEncapsulated: req-hdr=0, req-body=%d\r\n\r\n%s2\r\nab\r\n0; ieof\r\n\r\n", ward, len(chunked), chunked))
	assert.Equal(t, 204, c.hear().status, "that was all of it")

	for url, want := range map[string]string{
		"http://p.find.example/s?q=tide&calm=0": "GET http://p.find.example/s?q=tide&calm=1 HTTP/1.1\r\nAccept: text/html\r\nHost: p.find.example\r\n\r\n",
		"http://h.find.example/s?q=tide":        "GET http://h.find.example/s?q=tide HTTP/1.1\r\nAccept: text/html\r\nHost: h.find.example\r\nFilter: strict\r\n\r\n",
		"http://o.find.example/s?q=tide":        "GET http://calm.find.example/s?q=tide HTTP/1.1\r\nAccept: text/html\r\nHost: calm.find.example\r\n\r\n",
	} {
		c.say(reqmod(ward, get(url), ""))
		answer := c.hear()
		assert.Equal(t, 200, answer.status)
		assert.Equal(t, want, answer.holds)
	}
}

// A minute counts in which something is let through that a rule allows for so many.
func TestQuota(t *testing.T) {
	config := floor()
	config.Policies[0].Rules[4].With = policy.Provisos{Quota: 5 * time.Minute}
	g, _ := gateOf(config)
	c := dial(t, begin(t, Config{Gate: g, Trusted: loopback}))
	c.say(reqmod(ward, get("http://big.example/"), ""))
	assert.Equal(t, 204, c.hear().status)
	used := g.TakeUsed()
	assert.Len(t, used, 1)
	for of, minutes := range used {
		assert.Equal(t, []any{config.Policies[0].Rules[4].ID, netip.MustParseAddr(ward), 1}, []any{of.Rule.String(), of.Address, len(minutes)})
	}
}

// What a site answers is decided: kinds of files, the text of pages, sizes; an answer without its request is refused.
func TestAnswers(t *testing.T) {
	g, k := gateOf(floor())
	at := begin(t, Config{Gate: g, Trusted: loopback})
	c := dial(t, at)
	whole := func(body string) string { return fmt.Sprintf("%x\r\n%s\r\n0\r\n\r\n", len(body), body) }
	html := "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n"
	for name, row := range map[string]struct {
		url, response, body, says string
	}{
		"a page":      {"http://heron.example/", html, "<p>The tide table", ""},
		"late odds":   {"http://heron.example/", html, "<p>Late <b>odds</b> today", "Wagers"},
		"a program":   {"http://heron.example/x", "HTTP/1.1 200 OK\r\nContent-Type: image/png\r\n\r\n", "MZ\x90\x00\x03\x00\x00\x00\x04\x00\x00\x00\xff\xff\x00\x00\xb8" + strings.Repeat("\x00", 200), "programs"},
		"a small one": {"http://big.example/", "HTTP/1.1 200 OK\r\nContent-Type: image/gif\r\nContent-Length: 900\r\n\r\n", strings.Repeat("x", 900), ""},
		"a big one":   {"http://big.example/", "HTTP/1.1 200 OK\r\nContent-Type: image/gif\r\nContent-Length: 1001\r\n\r\n", strings.Repeat("x", 1001), "At most 1 kB may come from there"},
		"is blocked":  {"http://oddsfield.example/", html, "x", "Never"},
	} {
		c.say(respmod(ward, get(row.url), row.response, whole(row.body), "Allow: 204"))
		answer := c.hear()
		assert.Equal(t, row.says == "", answer.status == 204, name)
		assert.Contains(t, answer.holds, row.says, name)
	}
	c.say(respmod(ward, get("http://heron.example/"), html, whole("<p>The tide table")))
	echoed := c.hear()
	assert.Equal(t, 200, echoed.status)
	assert.Contains(t, echoed.head, "Encapsulated: res-hdr=0, res-body=")
	assert.Equal(t, html+"<p>The tide table", echoed.holds)

	c.say(fmt.Sprintf("RESPMOD icap://x/answers ICAP/1.0\r\nAllow: 204\r\nEncapsulated: res-hdr=0, res-body=%d\r\n\r\n%s%s", len(html), html, whole("x")))
	assert.Contains(t, c.hear().holds, "does not say which request")
	alone := dial(t, begin(t, Config{Gate: g, Trusted: loopback, Alone: true}))
	alone.say(fmt.Sprintf("RESPMOD icap://x/answers ICAP/1.0\r\nAllow: 204\r\nEncapsulated: res-hdr=0, res-body=%d\r\n\r\n%s%s", len(html), html, whole("x")))
	assert.Equal(t, 204, alone.hear().status)

	// One that does not say how long it is ends at its size, and with it the connection.
	c.say(respmod(ward, get("http://big.example/"), "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", whole(strings.Repeat("x", 5000))))
	rest, _ := io.ReadAll(c.r)
	assert.Contains(t, string(rest), "Encapsulated: res-hdr=0")
	assert.NotContains(t, string(rest), "\r\n0\r\n\r\n", "it is not whole")
	assert.Less(t, strings.Count(string(rest), "x"), 1100)
	k.mu.Lock()
	defer k.mu.Unlock()
	assert.Len(t, k.all, 4, "refusals are recorded")
}

// What is no request of ICAP is answered as the standard says, and the gate goes on.
func TestOdd(t *testing.T) {
	g, _ := gateOf(floor())
	at := begin(t, Config{Gate: g, Trusted: loopback})
	head := get("http://heron.example/")
	for text, status := range map[string]int{
		"GET / HTTP/1.1\r\n\r\n": 400, "REQMOD icap://x/requests ICAP/2.0\r\n\r\n": 505, "REQMOD icap://x/nothing ICAP/1.0\r\nEncapsulated: null-body=0\r\n\r\n": 404,
		"RESPMOD icap://x/requests ICAP/1.0\r\nEncapsulated: null-body=0\r\n\r\n": 405, "REQMOD icap://x/requests ICAP/1.0\r\n\r\n": 400, "REQMOD icap://x/requests ICAP/1.0\r\nEncapsulated: req-hdr=0, null-body=999999999\r\n\r\n": 400,
		"REQMOD icap://x/requests ICAP/1.0\r\nEncapsulated: req-hdr=5, null-body=3\r\n\r\n": 400, "REQMOD icap://x/requests ICAP/1.0\r\nEncapsulated: null-body=0\r\n\r\n": 400,
		"REQMOD icap://x/requests ICAP/1.0\r\nNo colon\r\n\r\n": 400, "REQMOD icap://x/requests ICAP/1.0\r\nX: " + strings.Repeat("x", 70_000) + "\r\n\r\n": 400,
		fmt.Sprintf("REQMOD icap://x/requests ICAP/1.0\r\nPreview: 4\r\nEncapsulated: req-hdr=0, req-body=%d\r\n\r\n%szz\r\n", len(head), head):               400,
		fmt.Sprintf("REQMOD icap://x/requests ICAP/1.0\r\nPreview: 4\r\nEncapsulated: req-hdr=0, req-body=%d\r\n\r\n%s7fffffffffffffff\r\n", len(head), head): 400,
		"REQMOD icap://x/requests ICAP/1.0\r\nEncapsulated: req-hdr=0, null-body=4\r\n\r\nabcd":                                                               400,
	} {
		c := dial(t, at)
		c.say(text)
		assert.Equal(t, status, c.hear().status, "%.80q", text)
		_, err := c.r.ReadByte()
		assert.Error(t, err, "the connection ends")
	}
	c := dial(t, at)
	c.say(reqmod(ward, get("http://heron.example/"), ""))
	assert.Equal(t, 204, c.hear().status)
}

// The standard's own examples are answered (RFC 3507, section 4.8.3 and 4.9.3), with our services in them.
func TestExamplesOfTheStandard(t *testing.T) {
	g, _ := gateOf(floor())
	c := dial(t, begin(t, Config{Gate: g}))
	c.say("REQMOD icap://icap-server.net/requests ICAP/1.0\r\nHost: icap-server.net\r\nEncapsulated: req-hdr=0, null-body=170\r\n\r\n" +
		"GET / HTTP/1.1\r\nHost: www.origin-server.com\r\nAccept: text/html, text/plain\r\nAccept-Encoding: compress\r\nCookie: ff39fk3jur@4ii0e02i\r\nIf-None-Match: \"xyzzy\", \"r2d2xxxx\"\r\n\r\n")
	first := c.hear()
	assert.Equal(t, 200, first.status)
	assert.Contains(t, first.holds, "If-None-Match: \"xyzzy\", \"r2d2xxxx\"\r\n\r\n")
	c.say("REQMOD icap://icap-server.net/requests ICAP/1.0\r\nHost: icap-server.net\r\nEncapsulated: req-hdr=0, req-body=147\r\n\r\n" +
		"POST /origin-resource/form.pl HTTP/1.1\r\nHost: www.origin-server.com\r\nAccept: text/html, text/plain\r\nAccept-Encoding: compress\r\nPragma: no-cache\r\n\r\n" +
		"1e\r\nI am posting this information.\r\n0\r\n\r\n")
	second := c.hear()
	assert.Equal(t, 200, second.status)
	assert.True(t, strings.HasSuffix(second.holds, "Pragma: no-cache\r\n\r\nI am posting this information."), second.holds)
	c.say("RESPMOD icap://icap.example.org/answers ICAP/1.0\r\nHost: icap.example.org\r\nEncapsulated: req-hdr=0, res-hdr=137, res-body=296\r\n\r\n" +
		"GET /origin-resource HTTP/1.1\r\nHost: www.origin-server.com\r\nAccept: text/html, text/plain, image/gif\r\nAccept-Encoding: gzip, compress\r\n\r\n" +
		"HTTP/1.1 200 OK\r\nDate: Mon, 10 Jan 2000 09:52:22 GMT\r\nServer: Apache/1.3.6 (Unix)\r\nETag: \"63840-1ab7-378d415b\"\r\nContent-Type: text/html\r\nContent-Length: 51\r\n\r\n" +
		"33\r\nThis is data that was returned by an origin server.\r\n0\r\n\r\n")
	third := c.hear()
	assert.Equal(t, 200, third.status)
	assert.True(t, strings.HasSuffix(third.holds, "\r\n\r\nThis is data that was returned by an origin server."), third.holds)
}

// A client that nobody here wrote gets the page, and what passes as it was.
func TestPublicClient(t *testing.T) {
	program, err := exec.LookPath("c-icap-client")
	if err != nil {
		t.Skip("there is no c-icap-client: run `make deps`")
	}
	g, _ := gateOf(floor())
	at := begin(t, Config{Gate: g, Trusted: loopback})
	_, port, _ := strings.Cut(at, ":")
	file := filepath.Join(t.TempDir(), "sent")
	run := func(args ...string) string {
		out, _ := exec.CommandContext(t.Context(), program, append([]string{"-i", "127.0.0.1", "-p", port, "-v"}, args...)...).CombinedOutput()
		return string(out)
	}
	assert.Contains(t, run("-s", Answers), "RESPMOD")
	assert.Contains(t, run("-s", Requests, "-req", "http://oddsfield.example/", "-x", "X-Client-IP: "+ward), "403")
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("The tide comes in. ", 2000)), 0o600))
	passes := run("-s", Answers, "-resp", "http://heron.example/", "-f", file, "-x", "X-Client-IP: "+ward)
	assert.Contains(t, passes, "204", passes)
	echoed := run("-s", Answers, "-resp", "http://heron.example/", "-f", file, "-nopreview", "-no204", "-x", "X-Client-IP: "+ward)
	assert.Contains(t, echoed, "The tide comes in.", echoed)
}

// Whatever comes, the gate answers or closes.
func FuzzRead(f *testing.F) {
	f.Add([]byte(reqmod(ward, get("http://heron.example/"), "body")))
	f.Add([]byte(respmod(ward, get("http://heron.example/"), "HTTP/1.1 200 OK\r\n\r\n", "4\r\ntide\r\n0; ieof\r\n\r\n", "Preview: 4")))
	g, _ := gateOf(floor())
	c := Config{Gate: g, Log: slog.New(slog.DiscardHandler), Trusted: loopback}
	c.Pages = httpproxy.New(httpproxy.Config{Gate: g, Log: c.Log})
	s := New(c)
	f.Fuzz(func(t *testing.T, text []byte) {
		r, w := bufio.NewReaderSize(bytes.NewReader(text), mostLine), bufio.NewWriter(io.Discard)
		for range 4 {
			m, err := read(r, w)
			if err != nil {
				return
			}
			if err := (&exchange{Server: s, message: m, w: w, from: loopback[0].Addr()}).answer(); err != nil {
				return
			}
			if m.body.drain() != nil {
				return
			}
		}
	})
}

var _ http.ResponseWriter = (*written)(nil)

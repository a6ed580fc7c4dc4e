package httpproxy

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/netip"
	"net/textproto"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
)

// through returns a client that goes through the stand's proxy, and trusts its authority.
func (s *stand) through(t *testing.T) *http.Client {
	t.Helper()
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(authority.PEM(s.signs.Raw())))
	transport := &http.Transport{
		Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: s.address}), DisableCompression: true, ExpectContinueTimeout: 5 * time.Second, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{RootCAs: roots},
	}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// origins are an origin over HTTP and the same over TLS, which the stand's proxy leads to and opens.
func origins(t *testing.T, handler http.Handler) (s *stand, plain, opened string) {
	t.Helper()
	secure := httptest.NewUnstartedServer(handler)
	secure.EnableHTTP2 = true
	secure.StartTLS()
	t.Cleanup(secure.Close)
	s = newStand(t, true, false, handler)
	roots := x509.NewCertPool()
	roots.AddCert(secure.Certificate())
	s.proxy.forward.web.TLSClientConfig.RootCAs, s.proxy.forward.upgrades.TLSClientConfig.RootCAs = roots, roots
	s.proxy.Ports = append(s.proxy.Ports, netip.MustParseAddrPort(secure.Listener.Addr().String()).Port())
	return s, s.origin.URL, secure.URL
}

// answered is an answer that was read whole.
type answered struct {
	status          int
	header, trailer http.Header
	text            string
}

// What a client asks arrives as it was asked, and what the site answers arrives as it was answered, over plain HTTP and inside an opened connection.
func TestForward(t *testing.T) {
	var seen *http.Request
	var body []byte
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = r.Clone(r.Context())
		body, _ = io.ReadAll(r.Body)
		seen.Trailer = r.Trailer.Clone()
		switch r.URL.Path {
		case "/early":
			w.Header().Set("Link", "</a.css>; rel=preload")
			w.WriteHeader(http.StatusEarlyHints)
		case "/moved":
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(http.StatusFound)
			return
		case "/nothing":
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Trailer", "Checksum")
		w.Header().Set("Alt-Svc", `h3=":443"`)
		w.Header().Set("Content-Encoding", "br")
		w.Header()["X-Twice"] = []string{"1", "2"}
		w.Header().Set("Connection", "X-Hop")
		w.Header().Set("X-Hop", "for one connection")
		_, _ = w.Write([]byte("answer"))
		w.Header().Set("Checksum", "7")
	}))
	c := s.through(t)
	for _, origin := range []string{plain, opened} {
		send := func(method, target string, content io.Reader, header http.Header) answered {
			t.Helper()
			r, err := http.NewRequestWithContext(t.Context(), method, origin+target, content)
			require.NoError(t, err)
			for name, values := range header {
				r.Header[name] = values
			}
			answer, err := c.Do(r)
			require.NoError(t, err, target)
			defer answer.Body.Close()
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			return answered{answer.StatusCode, answer.Header, answer.Trailer, string(text)}
		}
		for _, target := range []string{"/a%2Fb/c%20d", "/?a=1;b=2&c=%zz", "/a//b/../c", "/%7euser?x=%26"} {
			answer := send("GET", target, nil, nil)
			assert.Equal(t, "answer", answer.text)
			assert.Equal(t, target, seen.RequestURI, "byte for byte")
			assert.Equal(t, "7", answer.trailer.Get("Checksum"))
			assert.Equal(t, "br", answer.header.Get("Content-Encoding"))
			assert.Equal(t, []string{"1", "2"}, answer.header["X-Twice"])
			assert.Equal(t, origin == opened, answer.header.Get("X-Hop") != "", "headers of one connection of HTTP/1.1 end there")
			assert.Equal(t, "1.1 wide-lark", answer.header.Get("Via"))
			assert.Equal(t, origin == plain, answer.header.Get("Alt-Svc") != "", "inside an opened connection nothing leads around the gate")
		}
		header := http.Header{"X-Forwarded-For": {"192.0.2.9"}, "Forwarded": {"for=192.0.2.9"}, "User-Agent": {""}, "Cookie": {"a=1; b=2"}, "Accept-Encoding": {"br, gzip"}, "Proxy-Connection": {"keep-alive"}}
		send("DELETE", "/x", nil, header)
		assert.Equal(t, "DELETE", seen.Method)
		for name, want := range map[string]string{
			"X-Forwarded-For": "192.0.2.9", "Forwarded": "for=192.0.2.9", "User-Agent": "", "Cookie": "a=1; b=2", "Accept-Encoding": "br, gzip", "Proxy-Connection": "", "Via": "1.1 wide-lark", "X-Forwarded-Host": "",
		} {
			assert.Equal(t, want, seen.Header.Get(name), name)
		}
		assert.Equal(t, strings.TrimPrefix(strings.TrimPrefix(origin, "https://"), "http://"), seen.Host)

		send("POST", "/upload", bytes.NewReader(bytes.Repeat([]byte("x"), 3<<20)), http.Header{"Expect": {"100-continue"}})
		assert.Len(t, body, 3<<20)
		pipe, into := io.Pipe()
		go func() {
			_, _ = io.WriteString(into, "in pieces")
			_ = into.Close()
		}()
		r, err := http.NewRequestWithContext(t.Context(), "PUT", origin+"/pieces", pipe)
		require.NoError(t, err)
		r.Trailer = http.Header{"Sum": {"9"}}
		answer, err := c.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, "in pieces", string(body))
		assert.Equal(t, "9", seen.Trailer.Get("Sum"))

		var hints []int
		traced := httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, _ textproto.MIMEHeader) error {
			hints = append(hints, code)
			return nil
		}})
		r, err = http.NewRequestWithContext(traced, "GET", origin+"/early", nil)
		require.NoError(t, err)
		answer, err = c.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, []int{103}, hints)
		assert.Equal(t, "/elsewhere", send("GET", "/moved", nil, nil).header.Get("Location"), "redirects are the client's to follow")
		assert.Equal(t, 204, send("GET", "/nothing", nil, nil).status)
		assert.Empty(t, send("HEAD", "/a", nil, nil).text)
	}
	require.Eventually(t, func() bool { return s.proxy.Gate.Counts().Running == 0 }, 10*time.Second, 10*time.Millisecond)
}

// An upgraded connection carries bytes both ways, also those sent together with the request; it is closed when either side ends.
func TestUpgrade(t *testing.T) {
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "echo" {
			http.Error(w, "an upgrade is wanted", http.StatusUpgradeRequired)
			return
		}
		conn, rw, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		_, _ = io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
		for {
			line, err := rw.ReadString('\n')
			if err != nil || line == "end\n" {
				_ = conn.Close()
				return
			}
			_, _ = io.WriteString(conn, "heard "+line)
		}
	}))
	ask := "GET %s HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\nfirst\n"
	for _, origin := range []string{plain, opened} {
		at := origin[strings.Index(origin, "//")+2:]
		conn, err := net.Dial("tcp", s.address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		var stream io.ReadWriter = conn
		target := origin + "/"
		if origin == opened {
			_, err = fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", at, at)
			require.NoError(t, err)
			established := make([]byte, len("HTTP/1.1 200 Connection established\r\n\r\n"))
			_, err = io.ReadFull(conn, established)
			require.NoError(t, err)
			secured := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}}) //nolint:gosec // the test's own proxy
			stream, target = secured, "/"
		}
		_, err = fmt.Fprintf(stream, ask, target, at)
		require.NoError(t, err)
		in := bufio.NewReader(stream)
		answer, err := http.ReadResponse(in, nil)
		require.NoError(t, err)
		_ = answer.Body.Close()
		require.Equal(t, 101, answer.StatusCode)
		for _, line := range []string{"first\n", "second\n"} {
			if line == "second\n" {
				_, err = io.WriteString(stream, line)
				require.NoError(t, err)
			}
			got, err := in.ReadString('\n')
			require.NoError(t, err)
			assert.Equal(t, "heard "+line, got)
		}
		assert.EqualValues(t, 1, s.proxy.Gate.Counts().Running)
		_, err = io.WriteString(stream, "end\n")
		require.NoError(t, err)
		_, err = in.ReadByte()
		require.Error(t, err, "it is closed")
		_ = conn.Close()
		require.Eventually(t, func() bool { return s.proxy.Gate.Counts().Running == 0 }, 10*time.Second, 10*time.Millisecond)
	}
}

// Malformed and hostile heads are answered with an error or closed; others are served meanwhile.
func TestHostileHeads(t *testing.T) {
	s, plain, _ := origins(t, small)
	at := strings.TrimPrefix(plain, "http://")
	for name, head := range map[string]string{
		"no request":          "hello\r\n\r\n",
		"two lengths":         "POST http://" + at + "/ HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\nabcd",
		"a length of letters": "POST http://" + at + "/ HTTP/1.1\r\nHost: x\r\nContent-Length: three\r\n\r\nabc",
		"an odd encoding":     "POST http://" + at + "/ HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: gzip\r\n\r\nabc",
		"a folded header":     "GET http://" + at + "/ HTTP/1.1\r\nHost: x\r\nX : a\r\n b\r\n\r\n",
		"no host":             "GET http://" + at + "/ HTTP/1.1\r\n\r\n",
		"two hosts":           "GET http://" + at + "/ HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n",
		"a NUL":               "GET http://" + at + "/\x00 HTTP/1.1\r\nHost: x\r\n\r\n",
		"a huge head":         "GET http://" + at + "/ HTTP/1.1\r\nHost: x\r\nX: " + strings.Repeat("a", 200<<10) + "\r\n\r\n",
		"a tunnel to a path":  "CONNECT " + at + "/x HTTP/1.1\r\nHost: x\r\n\r\n",
		"a tunnel nowhere":    "CONNECT : HTTP/1.1\r\nHost: x\r\n\r\n",
		"a tunnel of labels":  "CONNECT " + strings.Repeat("a.", 30_000) + "example:443 HTTP/1.1\r\nHost: x\r\n\r\n",
		"another scheme":      "GET ftp://" + at + "/ HTTP/1.1\r\nHost: x\r\n\r\n",
	} {
		conn, err := net.Dial("tcp", s.address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
		_, _ = io.WriteString(conn, head)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err == nil {
			assert.GreaterOrEqual(t, answer.StatusCode, 400, name)
			assert.LessOrEqual(t, answer.StatusCode, http.StatusNotImplemented, name)
			_ = answer.Body.Close()
		}
		_ = conn.Close()
		served, err := s.through(t).Get(plain + "/")
		require.NoError(t, err, name)
		assert.Equal(t, 200, served.StatusCode)
		_ = served.Body.Close()
	}
}

// A browser that sends everything through the proxy reaches the gate's own pages through it.
func TestOwnPagesThroughTheProxy(t *testing.T) {
	s, _, _ := origins(t, http.NotFoundHandler())
	s.proxy.Self, s.proxy.dialer.reach = "http://"+s.address, nil // it leads to nothing inside
	answer, err := s.through(t).Get(s.proxy.Self + "/proxy.pac")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode, string(text))
	assert.Contains(t, string(text), "PROXY "+s.address)
}

// A site that cannot be reached is told from one that may not be: with a page, where a browser wants one, and otherwise in a sentence.
func TestFailures(t *testing.T) {
	s, _, _ := origins(t, http.NotFoundHandler())
	raw, key, err := authority.Make("Somebody else", time.Now())
	require.NoError(t, err)
	other, err := authority.Open(raw, key, time.Now)
	require.NoError(t, err)
	certificate, err := other.Certificate("127.0.0.1")
	require.NoError(t, err)
	untrusted := httptest.NewUnstartedServer(http.NotFoundHandler())
	untrusted.TLS = &tls.Config{Certificates: []tls.Certificate{*certificate}}
	untrusted.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelInfo)
	untrusted.StartTLS()
	defer untrusted.Close()
	s.proxy.Ports = append(s.proxy.Ports, netip.MustParseAddrPort(untrusted.Listener.Addr().String()).Port())
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	c := s.through(t)
	for _, row := range []struct {
		url, says, advises string
		status             int
	}{
		{untrusted.URL + "/a?<b>", "the certificate of the site cannot be trusted", "tell your help desk", 502},
		{gone.URL, "connection refused", "Try again in a while", 502},
		{"http://10.1.2.3/", "where this gate does not lead", "only where its administrator says so", 403},
	} {
		for accept, media := range map[string]string{"text/html": "text/html; charset=utf-8", "application/json": "text/plain; charset=utf-8"} {
			r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, row.url, nil)
			require.NoError(t, err)
			r.Header.Set("Accept", accept)
			answer, err := c.Do(r)
			require.NoError(t, err)
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			_ = answer.Body.Close()
			assert.Equal(t, row.status, answer.StatusCode, row.url)
			assert.Equal(t, media, answer.Header.Get("Content-Type"), row.url)
			assert.Contains(t, string(text), row.says, row.url)
			assert.NotContains(t, string(text), "<b>")
			if accept == "text/html" {
				assert.Contains(t, string(text), "This page could not be reached")
				assert.Contains(t, string(text), row.advises)
			}
		}
	}
}

// Heads from which two servers could read different requests come to nothing, or arrive as one request; the connection they came on carries no second one of theirs.
func TestSmuggling(t *testing.T) {
	var mu sync.Mutex
	var arrived []string // guarded by mu
	s, plain, _ := origins(t, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			return // it did not arrive
		}
		arrived = append(arrived, r.Method+" "+r.URL.Path+" "+string(body))
	}))
	at := strings.TrimPrefix(plain, "http://")
	const inner = "0\r\n\r\nGET /smuggled HTTP/1.1\r\nHost: x\r\n\r\n"
	for name, c := range map[string]struct {
		head    string
		arrives string // "" for nothing
	}{
		"a length and an encoding": {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nContent-Length: " + fmt.Sprint(len(inner)) + "\r\nTransfer-Encoding: chunked\r\n\r\n" + inner, "POST /a "},
		"an encoding in disguise":  {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nContent-Length: " + fmt.Sprint(len(inner)) + "\r\nTransfer-Encoding: xchunked\r\n\r\n" + inner, ""},
		"two encodings":            {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: identity\r\n\r\n" + inner, ""},
		"a blank before the colon": {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nContent-Length : 5\r\n\r\n" + inner, ""},
		"lengths in a list":        {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nContent-Length: 5, 5\r\n\r\n" + inner, ""},
		"a length with a sign":     {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nContent-Length: +5\r\n\r\n" + inner, ""},
		"a folded line":            {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nX: a\r\n Content-Length: 5\r\n\r\n" + inner, "POST /a "},
		"bare line feeds":          {"POST http://%s/a HTTP/1.1\nHost: x\nContent-Length: 4\n\ntide", "POST /a tide"},
		"a bare return":            {"POST http://%s/a HTTP/1.1\r\nHost: x\rContent-Length: 5\r\n\r\n" + inner, ""},
		"a chunk with a sign":      {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n+4\r\ntide\r\n0\r\n\r\n", ""},
		"a chunk of feeds":         {"POST http://%s/a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n4\ntide\n0\n\n", ""},
	} {
		mu.Lock()
		arrived = nil
		mu.Unlock()
		conn, err := net.Dial("tcp", s.address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
		_, _ = fmt.Fprintf(conn, c.head, at)
		reader := bufio.NewReader(conn)
		if answer, err := http.ReadResponse(reader, nil); err == nil {
			_, _ = io.Copy(io.Discard, answer.Body)
			_ = answer.Body.Close()
		}
		_ = conn.SetDeadline(time.Now().Add(200 * time.Millisecond)) // a second answer would be to what was smuggled
		_, _ = io.Copy(io.Discard, reader)
		_ = conn.Close()
		mu.Lock()
		for _, one := range arrived {
			assert.NotContains(t, one, "smuggled", name)
			assert.Equal(t, c.arrives, one, name)
		}
		if c.arrives != "" {
			assert.NotEmpty(t, arrived, name)
		}
		mu.Unlock()
	}
}

// An answer that would unpack to very much costs little memory where its text is scored, and arrives as it is.
func TestBombs(t *testing.T) {
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	text := bytes.Repeat([]byte("the tide comes in "), 1<<16)
	for range 256 { // some 300 MB
		_, _ = zip.Write(text)
	}
	require.NoError(t, zip.Close())
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Content-Encoding", "gzip")
		_, _ = w.Write(packed.Bytes())
	}))
	config := *s.proxy.Gate.Edition().Snapshot.Config()
	config.Taxonomy = classify.Taxonomy{Categories: []classify.Category{{Key: "tides", Name: "Tides"}}}
	config.Local = classify.NewLocal(nil, nil, []classify.Scorecard{{ID: "card", Name: "Card", Category: "tides", Threshold: 1000, Terms: []classify.Term{{Word: pattern.MustParse(`"heron"`).Pattern, Points: 1}}}})
	s.proxy.Gate.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(config)})
	c := s.through(t)
	before := used()
	var most atomic.Int64
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			r, err := c.Get([]string{plain, opened}[i%2] + "/bomb")
			if !assert.NoError(t, err) {
				return
			}
			n, _ := io.Copy(io.Discard, r.Body)
			_ = r.Body.Close()
			assert.EqualValues(t, packed.Len(), n)
			most.Store(max(most.Load(), used()-before))
		})
	}
	all.Wait()
	assert.Less(t, most.Load(), int64(64<<20))
}

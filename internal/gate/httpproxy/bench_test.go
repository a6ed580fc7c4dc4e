package httpproxy

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/journal"
)

// sink takes batches of records and forgets them.
type sink struct{}

func (sink) AddBatch(context.Context, uuid.UUID, []journal.Record) (int, error) { return 0, nil }

// stand is a proxy before an origin, both on loopback.
type stand struct {
	proxy   *Proxy
	address string
	origin  *httptest.Server
	signs   *authority.Authority
}

// secure serves TLS with one certificate of the kind that the gate makes, so that both sides sign alike.
func (s *stand) secure(b *testing.B, handler http.Handler) *httptest.Server {
	b.Helper()
	certificate, err := s.signs.Certificate("origin.example")
	require.NoError(b, err)
	server := httptest.NewUnstartedServer(handler)
	server.TLS = &tls.Config{Certificates: []tls.Certificate{*certificate}, MinVersion: tls.VersionTLS12}
	server.StartTLS()
	b.Cleanup(server.Close)
	s.proxy.Ports = append(s.proxy.Ports, netip.MustParseAddrPort(server.Listener.Addr().String()).Port())
	return server
}

func newStand(b testing.TB, opens, blocks bool, origin http.Handler) *stand {
	b.Helper()
	s := &stand{origin: httptest.NewServer(origin)}
	records := journal.NewWriter(sink{}, 100_000, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	go records.Run(ctx)
	g := gate.New(policy.Proxy, "bench", time.Now, records)
	var entries []pattern.Entry
	for i := range 10_000 {
		entries = append(entries, pattern.MustParse(fmt.Sprintf("site-%d.example", i)))
	}
	otherwise := policy.Allow
	if blocks {
		otherwise = policy.Block
	}
	g.Take(&gate.Edition{Revision: 1, Snapshot: policy.New(policy.Config{
		Zone: time.UTC, Way: policy.ByProxy, Lists: match.New([]match.List{{ID: "l", Name: "Blocked", Entries: entries}}),
		Fallback: &policy.Policy{Name: "Fallback", Otherwise: otherwise, Inspect: policy.Inspection{All: opens}, Rules: []policy.Rule{{Name: "Never", If: policy.Cond{Op: policy.InList, Values: []string{"l"}}, Then: policy.Block}}},
	})})
	at, err := url.Parse(s.origin.URL)
	require.NoError(b, err)
	seats := NewSeats()
	s.proxy = New(Config{Gate: g, Seats: seats, Reach: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Ports: []uint16{netip.MustParseAddrPort(at.Host).Port()}, Log: slog.New(slog.DiscardHandler)})
	certificate, key, err := authority.Make("Bench", time.Now())
	require.NoError(b, err)
	s.signs, err = authority.Open(certificate, key, time.Now)
	require.NoError(b, err)
	s.proxy.SetAuthority(s.signs, [][]byte{certificate})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	s.address, listener = listener.Addr().String(), seats.Listener(listener, true)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = s.proxy.Serve(listener)
	}()
	b.Cleanup(func() {
		_ = s.proxy.Close()
		<-ended
		stop()
		s.origin.Close()
	})
	return s
}

// client returns a client that goes through a proxy; none for "".
func client(proxy string) *http.Client {
	t := &http.Transport{MaxIdleConnsPerHost: 4}
	if proxy != "" {
		t.Proxy = http.ProxyURL(&url.URL{Scheme: "http", Host: proxy})
	}
	return &http.Client{Transport: t}
}

func get(b *testing.B, c *http.Client, url string) {
	r, err := c.Get(url)
	require.NoError(b, err)
	_, err = io.Copy(io.Discard, r.Body)
	require.NoError(b, err)
	_ = r.Body.Close()
}

var small = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(bytes.Repeat([]byte("x"), 2000)) })

// Plain requests through the gate, compared with the same proxy that decides and records nothing.
func BenchmarkProxyPlain(b *testing.B) {
	s := newStand(b, false, false, small)
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Host = r.URL.Host
		s.proxy.forward.proxy.ServeHTTP(newAnswer(w), r.WithContext(context.WithValue(r.Context(), targetKey{}, target{origin: "http://" + r.URL.Host})))
	}))
	b.Cleanup(bare.Close)
	ours, anchor := client(s.address), client(bare.Listener.Addr().String())
	rounds.Against(b, func(int) { get(b, ours, s.origin.URL+"/a") }, func(int) { get(b, anchor, s.origin.URL+"/a") })
}

// Plain requests through the gate, compared with requests to the origin itself.
func BenchmarkProxyDirect(b *testing.B) {
	s := newStand(b, false, false, small)
	ours, anchor := client(s.address), client("")
	rounds.Against(b, func(int) { get(b, ours, s.origin.URL+"/a") }, func(int) { get(b, anchor, s.origin.URL+"/a") })
}

// dial connects to an address and asks for a tunnel there; "" for none.
func dial(b *testing.B, address, tunnel string) net.Conn {
	conn, err := net.Dial("tcp", address)
	require.NoError(b, err)
	if tunnel != "" {
		_, err = fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", tunnel, tunnel)
		require.NoError(b, err)
		head := make([]byte, len("HTTP/1.1 200 Connection established\r\n\r\n"))
		_, err = io.ReadFull(conn, head)
		require.NoError(b, err)
		require.Contains(b, string(head), " 200 ")
	}
	return conn
}

// New tunnels, each for one TLS connection and one request, compared with the same to the origin itself.
func BenchmarkProxyTunnels(b *testing.B) {
	s := newStand(b, false, false, small)
	at := s.secure(b, small).Listener.Addr().String()
	config := &tls.Config{InsecureSkipVerify: true, ClientSessionCache: nil} //nolint:gosec // the test's own server
	exchange := func(conn net.Conn) {
		secured := tls.Client(conn, config)
		_, err := io.WriteString(secured, "GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
		require.NoError(b, err)
		_, _ = io.Copy(io.Discard, secured)
		_ = conn.Close()
	}
	rounds.Against(b, func(int) { exchange(dial(b, s.address, at)) }, func(int) { exchange(dial(b, at, "")) })
}

// Bytes through a tunnel, compared with bytes from the origin itself: 64 MiB each.
func BenchmarkProxyThroughput(b *testing.B) {
	const size = 64 << 20
	s := newStand(b, false, false, small)
	secure := s.secure(b, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		block := make([]byte, 1<<20)
		for range size >> 20 {
			_, _ = w.Write(block)
		}
	}))
	through := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: s.address}), TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} //nolint:gosec // the test's own server
	direct := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}                                                                   //nolint:gosec // the test's own server
	rounds.Against(b, func(int) { get(b, through, secure.URL) }, func(int) { get(b, direct, secure.URL) })
}

// New connections that are opened with cold certificates and answered with the block page, compared with a TLS server that has one certificate.
func BenchmarkProxyOpened(b *testing.B) {
	s := newStand(b, true, true, small)
	plain := s.secure(b, small)
	exchange := func(conn net.Conn, name string) {
		secured := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: name}) //nolint:gosec // the test's own servers
		_, err := fmt.Fprintf(secured, "GET / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", name)
		require.NoError(b, err)
		_, _ = io.Copy(io.Discard, secured)
		_ = conn.Close()
	}
	rounds.Against(b, func(i int) {
		name := fmt.Sprintf("host-%d.example", i)
		exchange(dial(b, s.address, name+":443"), name)
	}, func(i int) { exchange(dial(b, plain.Listener.Addr().String(), ""), fmt.Sprintf("host-%d.example", i)) })
}

// The same with an upstream: new connections that are opened with cold certificates, one request each, compared with the same to the origin itself.
func BenchmarkProxyOpenedThrough(b *testing.B) {
	s := newStand(b, true, false, small)
	origin := s.secure(b, small)
	s.proxy.forward.web.TLSClientConfig.InsecureSkipVerify = true
	at := origin.Listener.Addr().String()
	exchange := func(conn net.Conn, name string) {
		secured := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: name}) //nolint:gosec // the test's own servers
		_, err := fmt.Fprintf(secured, "GET / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", at)
		require.NoError(b, err)
		_, _ = io.Copy(io.Discard, secured)
		_ = conn.Close()
	}
	rounds.Against(b, func(i int) { exchange(dial(b, s.address, at), fmt.Sprintf("host-%d.example", i)) }, func(i int) { exchange(dial(b, at, ""), fmt.Sprintf("host-%d.example", i)) })
}

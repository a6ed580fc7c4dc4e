package httpproxy

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/directory"
	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
)

// serveMore has the stand's proxy take clients from another listener.
func (s *stand) serveMore(t *testing.T, wrap func(net.Listener) net.Listener, serve func(net.Listener) error) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = serve(wrap(listener)) }() // it ends with the stand
	return listener.Addr().String()
}

// A load balancer that is trusted says which client a connection is from; from anybody else that is no request.
func TestBehind(t *testing.T) {
	s := newStand(t, false, false, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "the site") }))
	wards := directory.Network{ID: "wards", Name: "Wards", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.0.0/16"), netip.MustParsePrefix("2001:db8::/32")}}
	s.proxy.Gate.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(policy.Config{
		Zone: time.UTC, Way: policy.ByProxy, Directory: directory.New(nil, []directory.Group{{ID: "g", Name: "Wards", Networks: []string{"wards"}}}, []directory.Network{wards}),
		Policies: []policy.Policy{{ID: "p", Name: "Wards", Groups: []string{"g"}, Otherwise: policy.Allow}}, Fallback: &policy.Policy{Name: "Fallback", Otherwise: policy.Block},
	})})
	trusting := func(text string) string {
		return s.serveMore(t, func(l net.Listener) net.Listener { return Behind(l, []netip.Prefix{netip.MustParsePrefix(text)}) }, s.proxy.outer.Serve)
	}
	trusted, other := trusting("127.0.0.0/8"), trusting("10.0.0.0/8")
	version2 := func(client [4]byte) string {
		return "\r\n\r\n\x00\r\nQUIT\n\x21\x11\x00\x0c" + string(client[:]) + "\x0a\x28\x00\x02\x30\x39\x21\x17"
	}
	for _, row := range []struct {
		address, header string
		status          int
	}{
		{trusted, "PROXY TCP4 10.40.9.7 10.40.0.2 51000 8471\r\n", 200},
		{trusted, "PROXY TCP4 192.0.2.7 10.40.0.2 51000 8471\r\n", 403},
		{trusted, "PROXY TCP6 2001:db8::7 2001:db8::2 51000 8471\r\n", 200},
		{trusted, version2([4]byte{10, 40, 9, 7}), 200},
		{trusted, version2([4]byte{192, 0, 2, 7}), 403},
		{trusted, "PROXY UNKNOWN\r\n", 403},
		{trusted, "", 403},
		{trusted, "PROXY TCP4 10.40.9.777 x 1 2\r\n", 0},
		{other, "PROXY TCP4 10.40.9.7 10.40.0.2 51000 8471\r\n", 400},
		{other, "", 403},
	} {
		conn, err := net.Dial("tcp", row.address)
		require.NoError(t, err)
		_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
		_, err = fmt.Fprintf(conn, "%sGET %s/ HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", row.header, s.origin.URL)
		require.NoError(t, err)
		status := 0
		if answer, err := http.ReadResponse(bufio.NewReader(conn), nil); err == nil {
			status = answer.StatusCode
			_ = answer.Body.Close()
		}
		assert.Equal(t, row.status, status, "%q", row.header)
		_ = conn.Close()
	}
}

// Clients may speak TLS to the proxy; plain requests, tunnels and opened connections are as without it, also behind a load balancer.
func TestOverTLS(t *testing.T) {
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "the site") }))
	own := func(l net.Listener) net.Listener {
		return Behind(l, []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")})
	}
	address := s.serveMore(t, own, s.proxy.ServeTLS)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(authority.PEM(s.signs.Raw())))
	c := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "https", Host: address}), TLSClientConfig: &tls.Config{RootCAs: roots}}}
	defer c.CloseIdleConnections()
	for _, origin := range []string{plain, opened} {
		answer, err := c.Get(origin)
		require.NoError(t, err)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, "the site", string(text), origin)
	}
}

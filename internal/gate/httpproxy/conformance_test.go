package httpproxy

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/demo"
	"widelark/internal/gate/gatetest"
)

// The proxy passes what every protocol of a gate must pass, over plain HTTP and through tunnels.
func TestConformance(t *testing.T) {
	web, roots, err := demo.WithTLS(demo.Partner())
	require.NoError(t, err)
	upstream := httptest.NewServer(web)
	t.Cleanup(upstream.Close)
	at, err := url.Parse(upstream.URL)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(roots))
	for _, scheme := range []string{"http", "https"} {
		t.Run(scheme, func(t *testing.T) {
			gatetest.Run(t, policy.Proxy, func(t *testing.T, s *gatetest.Stand) gatetest.Child {
				p := New(Config{Gate: s.Gate, Upstream: at, Roots: pool, Log: slog.New(slog.DiscardHandler)})
				listener, err := net.Listen("tcp", "127.0.0.1:0")
				require.NoError(t, err)
				served := make(chan error, 1)
				go func() { served <- p.Serve(listener) }()
				t.Cleanup(func() {
					assert.NoError(t, p.Close())
					assert.NoError(t, <-served)
				})
				client := func(from netip.Addr) *http.Client {
					dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: from.AsSlice()}}
					return &http.Client{Transport: &http.Transport{
						Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: listener.Addr().String()}), DialContext: dialer.DialContext, DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: pool},
					}}
				}
				return gatetest.Child{
					Scheme: scheme,
					Ask: func(t *testing.T, from netip.Addr, url string) bool {
						answer, err := client(from).Get(url)
						if err != nil {
							return false // a tunnel is refused
						}
						defer answer.Body.Close()
						_, err = io.Copy(io.Discard, answer.Body)
						assert.NoError(t, err)
						return answer.StatusCode == http.StatusOK
					},
					Lasts: func(t *testing.T, from netip.Addr, url string) <-chan struct{} {
						answer, err := client(from).Get(url + "slow?seconds=60")
						require.NoError(t, err)
						t.Cleanup(func() { _ = answer.Body.Close() })
						require.Equal(t, http.StatusOK, answer.StatusCode)
						cut := make(chan struct{})
						go func() {
							defer close(cut)
							_, _ = io.Copy(io.Discard, answer.Body)
						}()
						return cut
					},
				}
			})
		})
	}
}

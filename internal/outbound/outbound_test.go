package outbound

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAllowed(t *testing.T) {
	for text, want := range map[string]bool{
		"127.0.0.1": false, "::1": false, "10.40.0.1": false, "192.168.1.1": false, "172.16.0.1": false, "169.254.169.254": false, "fe80::1": false, "fd00::1": false,
		"0.0.0.0": false, "::": false, "100.64.0.1": false, "::ffff:127.0.0.1": false, "64:ff9b::7f00:1": false, "224.0.0.1": false, "255.255.255.255": false,
		"203.0.113.7": true, "2001:db8::7": true, "198.51.100.1": true,
	} {
		assert.Equal(t, want, Allowed(netip.MustParseAddr(text), nil), text)
	}
	assert.True(t, Allowed(netip.MustParseAddr("10.40.0.1"), []netip.Prefix{netip.MustParsePrefix("10.40.0.0/16")}))
}

// Names and redirects reach no more than addresses do, and open ports look like closed ones.
func TestClient(t *testing.T) {
	open := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/on" {
			http.Redirect(w, r, "http://169.254.169.254/latest", http.StatusFound)
		}
	}))
	defer open.Close()
	for _, url := range []string{open.URL, "http://127.0.0.1:1/", "http://localhost:1/", "http://[::1]:1/"} {
		answer, err := Client(nil).Get(url)
		if err == nil {
			_ = answer.Body.Close()
		}
		require.ErrorIs(t, err, ErrInside, url)
	}
	loopback := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	answer, err := Client(loopback).Get(open.URL)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	answer, err = Client(loopback).Get(open.URL + "/on")
	if err == nil {
		_ = answer.Body.Close()
	}
	require.ErrorIs(t, err, ErrInside)
}

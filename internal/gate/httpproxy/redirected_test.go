package httpproxy

import (
	"crypto/x509"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/demo"
	"widelark/internal/gate/authority"
)

// insideNamespace says that a test runs in a network namespace of its own.
const insideNamespace = "WIDELARK_TEST_NAMESPACE"

// redirects has the kernel of a namespace redirect what goes to a site's addresses to the port of the gate.
const redirects = `
ip link set lo up
ip addr add 198.51.100.1/32 dev lo
ip -6 addr add 2001:db8::1/128 dev lo nodad
nft -f - <<'N'
table inet redirects {
	chain out {
		type nat hook output priority -100; policy accept
		ip daddr 198.51.100.1 tcp dport { 22, 80, 443 } redirect to :12345
		ip6 daddr 2001:db8::1 tcp dport { 80, 443 } redirect to :12345
	}
}
N`

// Connections that the kernel redirects are decided by the name that they say first, over IPv4 and IPv6, plain, opened and not opened. It runs in a network namespace of its
// own.
func TestRedirected(t *testing.T) {
	if os.Getenv(insideNamespace) != "" {
		redirected(t)
		return
	}
	for _, program := range []string{"unshare", "ip", "nft", "curl"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not here: connections cannot be redirected", program)
		}
	}
	if out, err := exec.CommandContext(t.Context(), "unshare", "-n", "sh", "-ec", redirects).CombinedOutput(); err != nil {
		t.Skipf("a network namespace with redirects cannot be made here: %v: %s", err, out)
	}
	inside := exec.CommandContext(t.Context(), "unshare", "-n", os.Args[0], "-test.run=^TestRedirected$", "-test.timeout=2m")
	inside.Env = append(os.Environ(), insideNamespace+"=1")
	out, err := inside.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func redirected(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), "sh", "-ec", redirects).CombinedOutput()
	require.NoError(t, err, "%s", out)
	web, roots, err := demo.WithTLS(demo.Partner())
	require.NoError(t, err)
	upstream := httptest.NewServer(web)
	defer upstream.Close()
	for _, opens := range []bool{true, false} {
		s := newStand(t, opens, false, http.NotFoundHandler())
		at, err := url.Parse(upstream.URL)
		require.NoError(t, err)
		s.proxy.dialer.upstream = at
		s.proxy.forward.web.Proxy, s.proxy.forward.upgrades.Proxy = http.ProxyURL(at), http.ProxyURL(at)
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(roots)
		s.proxy.forward.web.TLSClientConfig.RootCAs = pool
		listener, err := net.Listen("tcp", ":12345")
		require.NoError(t, err)
		served := make(chan error, 1)
		go func() { served <- s.proxy.ServeRedirected(listener) }()

		trusted := filepath.Join(t.TempDir(), "trusted.pem")
		certificates := roots
		if opens {
			certificates = authority.PEM(s.signs.Raw())
		}
		require.NoError(t, os.WriteFile(trusted, certificates, 0o600))
		curl := func(to, at string, args ...string) (text string, err error) {
			host, port, _ := strings.Cut(strings.SplitN(to, "/", 4)[2], ":")
			if port == "" {
				port = map[bool]string{true: "443", false: "80"}[strings.HasPrefix(to, "https")]
			}
			out, err := exec.CommandContext(t.Context(), "curl", append([]string{"-s", "--max-time", "20", "--cacert", trusted, "--resolve", host + ":" + port + ":" + at, to}, args...)...).CombinedOutput()
			return string(out), err
		}
		for _, at := range []string{"198.51.100.1", "[2001:db8::1]"} {
			page, err := curl("http://heron.example/wards", at)
			require.NoError(t, err, page)
			assert.Contains(t, page, "This is heron.example/wards")
			page, err = curl("https://heron.example/wards", at)
			require.NoError(t, err, page)
			assert.Contains(t, page, "This is heron.example/wards")
			page, err = curl("http://site-7.example/", at)
			require.NoError(t, err, page)
			assert.Contains(t, page, "Not allowed here: ")
			page, err = curl("https://site-7.example/", at)
			if opens {
				require.NoError(t, err, page)
				assert.Contains(t, page, "Not allowed here: ")
			} else {
				require.Error(t, err, "the connection is closed")
			}
			page, err = curl("http://heron.example/", at, "-H", "Host: site-7.example")
			require.NoError(t, err)
			assert.Contains(t, page, "Not allowed here: ", "the name that it says counts")
		}
		speak := func(to string) string {
			conn, err := net.Dial("tcp", to)
			require.NoError(t, err)
			defer conn.Close()
			require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
			_, err = conn.Write([]byte("SSH-2.0-test\r\n"))
			require.NoError(t, err)
			said := make([]byte, 100)
			n, _ := conn.Read(said)
			return string(said[:n])
		}
		assert.Empty(t, speak("198.51.100.1:22"), "what is no TLS is closed")
		assert.Empty(t, speak("127.0.0.1:12345"), "what was not redirected is closed")
		require.NoError(t, s.proxy.Close())
		require.NoError(t, <-served)
	}
}

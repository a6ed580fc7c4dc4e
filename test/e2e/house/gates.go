package house

import (
	"errors"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"widelark/demo"
	"widelark/internal/testkit"
)

// web is the invented web, over HTTP and TLS, behind a proxy; for all tests and to their end.
var web = sync.OnceValue(func() (w struct {
	server *httptest.Server
	roots  []byte
},
) {
	handler, roots, err := demo.WithTLS(demo.Partner())
	if err != nil {
		panic(err)
	}
	w.server, w.roots = httptest.NewServer(handler), roots
	return w
})

// atWeb returns the settings by which a gate leads to the invented web.
func atWeb(t *testing.T, dir string) []string {
	t.Helper()
	roots := filepath.Join(dir, "sites.pem")
	require.NoError(t, os.WriteFile(roots, web().roots, 0o600))
	return []string{"--organisation", "Quillmere General", "--proxy-upstream", web().server.URL, "--proxy-roots", roots}
}

// AtNames returns the settings by which a service has a DNS gate beside its proxy gate, before the invented world's resolver.
func AtNames(t *testing.T) []string {
	t.Helper()
	return []string{"--gates", "proxy,dns", "--dns-listen", "127.0.0.1:0", "--dns-forward", names()}
}

// names starts the invented world's resolver, and returns its address. It ends with the process.
var names = sync.OnceValue(func() string {
	for range 20 {
		tcp, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			panic(err)
		}
		udp, err := net.ListenPacket("udp", tcp.Addr().String())
		if err != nil {
			_ = tcp.Close()
			continue
		}
		for _, server := range []*dns.Server{{PacketConn: udp, Handler: demo.Resolver()}, {Listener: tcp, Handler: demo.Resolver()}} {
			go func() { _ = server.ActivateAndServe() }()
		}
		return udp.LocalAddr().String()
	}
	panic("no port is free for UDP and TCP")
})

var enrolsBy = regexp.MustCompile(`--enrol (\S+)`)

// Elsewhere enrols a gate at a service that has a secret, and starts it as a gate on another machine before the invented web.
func Elsewhere(t *testing.T, s *testkit.Service, name string, args ...string) *testkit.Service {
	t.Helper()
	dir := t.TempDir()
	g := &testkit.Service{Folder: filepath.Join(dir, "gate"), Args: append(atWeb(t, dir), args...)}
	code := enrolsBy.FindStringSubmatch(s.Run(t, "", "gate", "enrol", name, "--server", s.URL).Done(t))
	require.NotNil(t, code)
	known := g.Args
	g.Args = append(slices.Clone(known), "--service", s.URL, "--enrol", code[1])
	g.Start(t)
	g.Args = known
	t.Cleanup(g.Kill)
	return g
}

// Gated starts a second service on the database of one, with a proxy gate before the invented web. moment is the moment at which its clock begins, as RFC 3339
// has it; "" for the present one. Its authority is made where open says so.
func Gated(t *testing.T, s *testkit.Service, moment string, open bool, args ...string) *testkit.Service {
	t.Helper()
	dir := t.TempDir()
	gated := &testkit.Service{Database: s.Database, Config: s.Config, Args: append(append(atWeb(t, dir),
		"--gates", "proxy", "--gate-name", strings.ReplaceAll(t.Name(), "/", " "), "--proxy-listen", "127.0.0.1:0", "--secret-file", filepath.Join(dir, "secret"), "--clock", moment,
	), args...)}
	gated.Start(t)
	t.Cleanup(gated.Kill)
	if open {
		gated.Run(t, "", "gate", "authority", "new", "Quillmere General", "--server", gated.URL).Done(t)
	}
	require.Eventually(t, func() bool {
		r := gated.Request(t, "GET", "/api/v1/health", "", nil)
		return r.StatusCode == 200
	}, testkit.Patience, testkit.Look)
	return gated
}

// Daemon runs a command line of `widelarkd` that ends by itself, and returns what it said and its status.
func Daemon(t *testing.T, args ...string) (said string, code int) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), testkit.Program(t, "widelarkd"), args...)
	out, err := cmd.CombinedOutput()
	if _, ended := errors.AsType[*exec.ExitError](err); err != nil && !ended {
		require.NoError(t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

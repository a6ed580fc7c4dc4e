package house

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

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

// Gated starts a second service on the database of one, with a proxy gate before the invented web. moment is the moment at which its clock begins, as RFC 3339
// has it; "" for the present one. Its authority is made where open says so.
func Gated(t *testing.T, s *testkit.Service, moment string, open bool, args ...string) *testkit.Service {
	t.Helper()
	dir := t.TempDir()
	roots := filepath.Join(dir, "sites.pem")
	require.NoError(t, os.WriteFile(roots, web().roots, 0o600))
	gated := &testkit.Service{Database: s.Database, Config: s.Config, Args: append([]string{
		"--gates", "proxy", "--gate-name", strings.ReplaceAll(t.Name(), "/", " "), "--organisation", "Quillmere General", "--proxy-listen", "127.0.0.1:0", "--proxy-upstream", web().server.URL,
		"--proxy-roots", roots, "--secret-file", filepath.Join(dir, "secret"), "--clock", moment,
	}, args...)}
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

package house

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"widelark/demo"
	"widelark/internal/testkit"
)

// Maker is somebody who builds packs on the command line, and publishes the last of them.
type Maker struct {
	dir    string
	s      *testkit.Service
	Key    string // public
	Number int
	URL    string
}

// NewMaker returns a maker with a key of its own and the demo's taxonomy.
func NewMaker(t *testing.T, s *testkit.Service) *Maker {
	t.Helper()
	m := &Maker{dir: t.TempDir(), s: s}
	require.NoError(t, os.WriteFile(m.Path("taxonomy.json"), demo.File("taxonomy.json"), 0o600))
	m.Key = strings.TrimSpace(s.Run(t, "", "pack", "key", m.Path("key.pem")).Done(t))
	web := httptest.NewServer(http.FileServer(http.Dir(m.dir)))
	t.Cleanup(web.Close)
	m.URL = web.URL + "/latest.larkpack"
	return m
}

// Path returns where a file of the maker's is.
func (m *Maker) Path(name string) string { return filepath.Join(m.dir, name) }

// Build makes the next pack from lines like "heron.example,games chat".
func (m *Maker) Build(t *testing.T, lines ...string) string {
	t.Helper()
	m.Number++
	require.NoError(t, os.WriteFile(m.Path("sites.csv"), []byte("entry,categories\n"+strings.Join(lines, "\n")+"\n"), 0o600))
	m.s.Run(t, "", "pack", "build", m.Path("latest.larkpack"), m.Path("sites.csv"), "--taxonomy", m.Path("taxonomy.json"), "--key", m.Path("key.pem"), "--force",
		"--pack", "harbour", "--name", "Harbour", "--number", fmt.Sprint(m.Number), "--licence", "CC0-1.0").Done(t)
	return m.Path("latest.larkpack")
}

// BuildFile makes the next pack from a file of sites.
func (m *Maker) BuildFile(t *testing.T, out, sites string) {
	t.Helper()
	m.Number++
	m.s.Run(t, "", "pack", "build", out, sites, "--taxonomy", m.Path("taxonomy.json"), "--key", m.Path("key.pem"),
		"--pack", "harbour", "--name", "Harbour", "--number", fmt.Sprint(m.Number), "--licence", "CC0-1.0").Done(t)
}

package house

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// Match writes an ETag.
func Match(version int64) string { return fmt.Sprintf(`"%d"`, version) }

// DataFolder is open to every user, as a checkout is.
func DataFolder(t testing.TB, as *syscall.Credential) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "widelark-demo-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	if as != nil {
		require.NoError(t, os.Chown(dir, int(as.Uid), int(as.Gid)))
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// File writes a file of that name to a folder of the test's, and returns its path.
func File(t testing.TB, name string, content []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, content, 0o600))
	return path
}

// Quoted writes a text as JavaScript has it.
func Quoted(text string) string { return strconv.Quote(text) }

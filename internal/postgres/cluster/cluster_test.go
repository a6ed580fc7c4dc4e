package cluster

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folder returns a folder that the user of the server may enter.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "widelark-cluster-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return filepath.Join(dir, "database")
}

func ask(t *testing.T, c *Cluster, database, sql string) (answer int) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), c.URL(database))
	require.NoError(t, err)
	defer conn.Close(context.WithoutCancel(t.Context()))
	require.NoError(t, conn.QueryRow(t.Context(), sql).Scan(&answer))
	return answer
}

func TestCluster(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "pgdata.new", "left behind"), 0o755), "an initdb that was killed")
	c, err := Start(t.Context(), Config{Dir: dir})
	require.NoError(t, err)
	require.NoError(t, c.EnsureDatabase(t.Context(), "lark"))
	require.NoError(t, c.EnsureDatabase(t.Context(), "lark"), "it is there already")
	assert.Equal(t, 1, ask(t, c, "lark", "with x as (select 1 as n) select n from x"))
	assert.Equal(t, 0, ask(t, c, "lark", "select count(*)::int from pg_stat_activity where client_addr <> '127.0.0.1'"))

	_, err = Start(t.Context(), Config{Dir: dir})
	require.ErrorContains(t, err, "already runs on")
	_, err = pgx.Connect(t.Context(), strings.Replace(c.URL("lark"), "widelark:", "somebody:", 1))
	require.Error(t, err, "there is no other role")
	kept, err := os.ReadFile(filepath.Join(dir, passwordFile))
	require.NoError(t, err)
	_, err = pgx.Connect(t.Context(), strings.Replace(c.URL("lark"), ":"+strings.TrimSpace(string(kept))+"@", "@", 1))
	require.Error(t, err, "the password is asked for")
	info, err := os.Stat(filepath.Join(dir, passwordFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	conn, err := pgx.Connect(t.Context(), c.URL("lark"))
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "create table kept as select 42 as n")
	require.NoError(t, err)
	c.Kill() // as a crash would
	select {
	case <-c.Done():
	default:
		t.Error("a server that was killed has not ended")
	}
	c, err = Start(t.Context(), Config{Dir: dir})
	require.NoError(t, err, "after a crash")
	assert.Equal(t, 42, ask(t, c, "lark", "select n from kept"), "what was committed is there")
	require.NoError(t, c.Stop())
	assert.NoFileExists(t, filepath.Join(dir, "pgdata", "postmaster.pid"))
}

func TestStartIsGivenUp(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Start(ctx, Config{Dir: folder(t)})
	require.Error(t, err)
}

func TestClosedParent(t *testing.T) {
	t.Parallel()
	dir := filepath.Dir(folder(t))
	inner := filepath.Join(dir, "a", "b", "c")
	require.NoError(t, os.MkdirAll(inner, 0o755))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	assert.Empty(t, ClosedParent(inner, 12345, 12345))
	assert.Empty(t, ClosedParent(filepath.Join(inner, "not", "there", "yet"), 12345, 12345))
	for mode, closed := range map[os.FileMode][3]bool{ // to the owner, the group, others
		0o700: {false, true, true}, 0o710: {false, false, true}, 0o711: {false, false, false}, 0o744: {false, true, true},
	} {
		require.NoError(t, os.Chmod(filepath.Join(dir, "a"), mode))
		got := [3]bool{
			ClosedParent(inner, owner.Uid, 12345) != "", ClosedParent(inner, 12345, owner.Gid) != "", ClosedParent(inner, 12345, 12345) != "",
		}
		assert.Equal(t, closed, got, "%o", mode)
	}
}

// A database from before passwords gets one when it is started.
func TestOpenClusterIsClosed(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	c, err := Start(t.Context(), Config{Dir: dir})
	require.NoError(t, err)
	require.NoError(t, c.Stop())
	rules := filepath.Join(dir, "pgdata", "pg_hba.conf")
	text, err := os.ReadFile(rules)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(rules, []byte(strings.ReplaceAll(string(text), "scram-sha-256", "trust")), 0o600))
	require.NoError(t, os.Remove(filepath.Join(dir, passwordFile)))
	c, err = Start(t.Context(), Config{Dir: dir})
	require.NoError(t, err)
	defer func() { _ = c.Stop() }()
	assert.Equal(t, 1, ask(t, c, "postgres", "select 1"))
	require.Eventually(t, func() bool { // it is told to read its rules again
		_, err = pgx.Connect(t.Context(), strings.Replace(c.URL("postgres"), "widelark:", "widelark:x", 1))
		return err != nil
	}, 5*time.Second, 20*time.Millisecond)
}

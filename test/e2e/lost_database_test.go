package e2e

import (
	"io"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/postgres/cluster"
	"widelark/internal/testkit"
)

// While the database is gone, console and command line say so in words.
func TestLostDatabase(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(dataFolder(t, nil), "database")
	db, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
	require.NoError(t, err)
	defer db.Kill()
	require.NoError(t, db.EnsureDatabase(t.Context(), "kept"))
	s := server.ServeOn(t, db.URL("kept"))
	_, err = s.API(t).CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Suspects"})
	require.NoError(t, err)
	b := open(t, s.URL)
	b.goTo("/")
	b.see("button", "Sign in")
	b.signIn(testkit.Name, testkit.Password)
	b.see("td", "Suspects")
	b.goTo("/changes")
	b.see("main", "Nothing that differs reaches a URL.")
	b.fill("textarea", "the first list")

	db.Kill()
	b.press("Publish")
	const lost = "The database does not answer at the moment."
	b.see("main [role=alert]", lost)
	b.goTo("/changes")
	b.see("main [role=alert]", lost)
	b.accessible("changes without a database")
	if *shots != "" {
		b.picture(filepath.Join(*shots, "without-database.png"))
	}
	for _, words := range [][]string{{"diff"}, {"review"}, {"replay"}, {"publish", "--note", "x"}, {"expect", "run"}, {"export", t.TempDir()}} {
		ran := s.Run(t, "", words...)
		assert.Equal(t, 3, ran.Code, words)
		assert.Contains(t, ran.Err, lost, words)
	}
}

// A database that hangs is told within three seconds, and every call ends within ten, those that wait for it when it happens too.
func TestSilentService(t *testing.T) {
	t.Parallel()
	wire, at := testkit.NewWire(t, server.Database(t))
	s := server.ServeOn(t, at)
	token := map[string]string{"Authorization": "Bearer " + s.Token(t)}
	ask := func(path string) (int, string) {
		answer := s.Request(t, "GET", path, "", token)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	paths := []string{"/api/v1/lists", "/api/v1/review", "/api/v1/draft", "/api/v1/expectations", "/api/v1/audit", "/api/v1/session"}
	for _, path := range paths {
		status, text := ask(path)
		require.Equal(t, 200, status, "%s: %s", path, text)
	}
	wire.Silent.Store(true)
	began := time.Now()
	var calls sync.WaitGroup
	for _, path := range paths { // in hand while nobody knows yet
		calls.Go(func() {
			status, text := ask(path)
			assert.Equal(t, 503, status, "%s: %s", path, text)
			assert.Contains(t, text, "does not answer", path)
			assert.Less(t, time.Since(began), 10*time.Second, path)
		})
	}
	require.Eventually(t, func() bool {
		status, text := ask("/api/v1/health")
		return status == 200 && strings.Contains(text, "silent")
	}, 3500*time.Millisecond, 50*time.Millisecond)
	calls.Wait()
	wire.Silent.Store(false)
	require.Eventually(t, func() bool { status, _ := ask("/api/v1/lists"); return status == 200 }, 15*time.Second, 100*time.Millisecond)
}

// A disk that is full is told by name.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `create function full_disk() returns trigger language plpgsql as $$ begin
		raise exception 'could not extend file "base/1/2": No space left on device' using errcode = '53100'; end $$;
		create trigger full_disk before insert on lists for each statement execute function full_disk()`)
	require.NoError(t, err)
	ran := s.Run(t, "", "list", "new", "Suspects")
	assert.Equal(t, 3, ran.Code)
	assert.Contains(t, ran.Err, "The disk of the database is full.")
}

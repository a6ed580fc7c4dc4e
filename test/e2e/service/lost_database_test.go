package service

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
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// While the database is gone, the console and the command line say so.
func TestLostDatabase(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(house.DataFolder(t, nil), "database")
	db, err := cluster.Start(t.Context(), cluster.Config{Dir: dir})
	require.NoError(t, err)
	defer db.Kill()
	require.NoError(t, db.EnsureDatabase(t.Context(), "kept"))
	s := house.Server.ServeOn(t, db.URL("kept"))
	_, err = s.API(t).CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Suspects"})
	require.NoError(t, err)
	b := browser.Open(t, s.URL)
	b.GoTo("/")
	b.See("button", "Sign in")
	b.SignIn(testkit.Name, testkit.Password)
	b.See("td", "Suspects")
	b.GoTo("/changes")
	b.See("main", "Nothing that differs reaches a URL.")
	b.Fill("aside textarea", "the first list")

	db.Kill()
	b.Press("Publish")
	const lost = "The database does not answer at the moment."
	b.See("main [role=alert]", lost)
	b.GoTo("/changes")
	b.See("main [role=alert]", lost)
	b.Accessible("changes without a database")
	if *house.Shots != "" {
		b.Picture(filepath.Join(*house.Shots, "without-database.png"))
	}
	for _, words := range [][]string{{"diff"}, {"review"}, {"replay"}, {"publish", "--note", "x"}, {"expect", "run"}, {"export", t.TempDir()}} {
		ran := s.Run(t, "", words...)
		assert.Equal(t, 3, ran.Code, words)
		assert.Contains(t, ran.Err, lost, words)
	}
}

// A database that hangs is reported within three seconds, and every call ends within ten, also those that are waiting when it happens.
func TestSilentService(t *testing.T) {
	t.Parallel()
	wire, at := testkit.NewWire(t, house.Server.Database(t))
	s := house.Server.ServeOn(t, at)
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
	}, 10*time.Second, 50*time.Millisecond)
	calls.Wait()
	wire.Silent.Store(false)
	require.Eventually(t, func() bool { status, _ := ask("/api/v1/lists"); return status == 200 }, 15*time.Second, 100*time.Millisecond)
}

// A full disk is reported as such.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
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

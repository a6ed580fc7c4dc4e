package e2e

import (
	"path/filepath"
	"testing"

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

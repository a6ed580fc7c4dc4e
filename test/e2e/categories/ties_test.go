package categories

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/test/e2e/house"
)

// Of equally specific corrections the latest counts, also after an export and import of the configuration, whatever the order of the files.
func TestTiesAreDecidedByDate(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	m := house.NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour").Done(t)
	s.Run(t, "", "pack", "import", "Harbour", m.Build(t, "tern.example,news")).Done(t)
	s.Run(t, "", "category", "correct", "heron.example/a*b", "games", "--why", "first").Done(t)
	s.Run(t, "", "category", "correct", "heron.example/*ab", "news", "--why", "second").Done(t)
	is := func() string { return s.Run(t, "", "lookup", "heron.example/aab").Done(t) }
	assert.Contains(t, is(), "News")
	files := t.TempDir()
	s.Run(t, "", "export", files).Done(t)
	s.Run(t, "", "plan", files).Done(t)
	path := filepath.Join(files, "corrections.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	earlier := regexp.MustCompile(`(heron\.example/\*ab[\s\S]*?at: ")\d{4}`).ReplaceAll(text, []byte("${1}2001"))
	require.NotEqual(t, string(text), string(earlier), "%s", text)
	require.NoError(t, os.WriteFile(path, earlier, 0o600))
	s.Run(t, "", "apply", files).Done(t)
	assert.Contains(t, is(), "Games", "%s", earlier)
}

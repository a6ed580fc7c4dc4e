package arch

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// frame is the console's folder above all nouns: it may import them, and no folder may import it.
const frame = "shell"

// The console's nouns import each other's queries, fields and dialogs, never their pages, and no two folders import each other, directly or
// not.
func TestConsoleFolders(t *testing.T) {
	const src = "../../console/src"
	imports := map[string]map[string]string{} // from folder to folder: a file that does so
	statement := regexp.MustCompile(`(?m)(?:from |import\()'(\.[^']*)'`)
	require.NoError(t, filepath.WalkDir(src, func(file string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(file, ".ts") && !strings.HasSuffix(file, ".tsx") {
			return err
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		name, err := filepath.Rel(src, file)
		require.NoError(t, err)
		from, _, inFolder := strings.Cut(filepath.ToSlash(name), "/")
		if !inFolder { // main.tsx and routes.tsx put all together
			return nil
		}
		for _, m := range statement.FindAllStringSubmatch(string(text), -1) {
			to, _, _ := strings.Cut(path.Join(path.Dir(filepath.ToSlash(name)), m[1]), "/")
			if to == from || strings.HasPrefix(to, "..") {
				continue
			}
			assert.False(t, strings.HasSuffix(m[1], "Page"), "%s imports a page of %s: put what both need into a field, a dialog or a query", name, to)
			assert.NotEqual(t, frame, to, "%s imports the frame around it", name)
			if imports[from] == nil {
				imports[from] = map[string]string{}
			}
			imports[from][to] = name
		}
		return nil
	}))
	require.Greater(t, len(imports), 10)
	var visit func(folder string, way []string)
	seen := map[string]bool{}
	visit = func(folder string, way []string) {
		if at := slices.Index(way, folder); at >= 0 {
			t.Errorf("a circle of folders: %s", strings.Join(append(way[at:], folder), " imports "))
			return
		}
		if seen[folder] {
			return
		}
		for to := range imports[folder] {
			visit(to, append(slices.Clone(way), folder))
		}
		seen[folder] = true
	}
	for folder := range imports {
		visit(folder, nil)
	}
}

package arch

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/cli"
)

// The words of the glossary occur where it says: as a schema of the contract, as a command, and in the console.
func TestWords(t *testing.T) {
	text, err := os.ReadFile("../../docs/guide/words.md")
	require.NoError(t, err)
	contract, err := os.ReadFile("../../api/openapi.yaml")
	require.NoError(t, err)
	var console strings.Builder
	require.NoError(t, filepath.WalkDir("../../console/src", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && strings.HasSuffix(path, ".tsx") && !strings.Contains(path, ".test.") {
			var file []byte
			file, err = os.ReadFile(path)
			console.Write(file)
		}
		return err
	}))
	rows := regexp.MustCompile("(?m)^\\| ([a-z ]+) \\| (.+) \\| `(\\w+)` \\| `widelark ([a-z ]+)` \\| (.+) \\|$").FindAllStringSubmatch(string(text), -1)
	require.Equal(t, strings.Count(string(text), "\n| "), len(rows)+2, "each row has all five columns")
	seen := map[string]bool{}
	for _, row := range rows {
		word, schema, command, label := row[1], row[3], row[4], row[5]
		assert.False(t, seen[word], "%s: twice", word)
		seen[word] = true
		assert.Contains(t, string(contract), "\n    "+schema+":\n", word)
		var out, errs bytes.Buffer
		code := cli.Run(context.Background(), append(strings.Fields(command), "--help"), strings.NewReader(""), &out, &errs, "test")
		assert.Zero(t, code, "%s: %s", word, errs.String())
		assert.Contains(t, out.String(), "\n  widelark "+command, word)
		shown := regexp.MustCompile(`[>"'\x60}\s]` + regexp.QuoteMeta(label) + `[<"'\x60{\s,.:…]`)
		assert.True(t, shown.MatchString(console.String()), "%s: the console does not say %q", word, label)
	}
}

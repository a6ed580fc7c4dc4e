package category

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/cli/command"
)

func TestReadTerms(t *testing.T) {
	dir := t.TempDir()
	a := &command.App{In: strings.NewReader("word,points\nbreast*, 50\n\"adults only\",60\ncancer,-100\n")}
	terms, err := readTerms(a, "-")
	require.NoError(t, err)
	require.Len(t, terms, 3)
	assert.Equal(t, []any{"adults only", int64(60), "cancer", int64(-100)}, []any{terms[1].Word, terms[1].Points, terms[2].Word, terms[2].Points})
	for want, text := range map[string]string{"line 2: \"many\" are not points": "a,1\nb,many\n", "wrong number of fields": "a,1,2\n"} {
		words := filepath.Join(dir, "words.csv")
		require.NoError(t, os.WriteFile(words, []byte(text), 0o600))
		_, err := readTerms(a, words)
		assert.ErrorContains(t, err, want)
	}
	_, err = readTerms(a, filepath.Join(dir, "none.csv"))
	assert.ErrorContains(t, err, "the file cannot be read")
}

package weburl

import (
	"bytes"
	"compress/gzip"
	"errors"
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/publicsuffix"
)

var update = flag.Bool("update", false, "write the list of public suffixes anew")

// The list in this folder equals that of the library, whose test file holds all rules.
func TestSuffixesAreCurrent(t *testing.T) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "golang.org/x/net").Output()
	require.NoError(t, err)
	file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(strings.TrimSpace(string(dir)), "publicsuffix", "table_test.go"), nil, 0)
	require.NoError(t, err)
	var b strings.Builder
	ast.Inspect(file, func(n ast.Node) bool {
		rules, ok := n.(*ast.ValueSpec)
		if !ok || rules.Names[0].Name != "rules" {
			return true
		}
		for _, e := range rules.Values[0].(*ast.CompositeLit).Elts {
			rule, err := strconv.Unquote(e.(*ast.BasicLit).Value)
			require.NoError(t, err)
			if strings.Contains(rule, ".") && !strings.HasPrefix(rule, "!") {
				b.WriteString(rule + "\n")
			}
		}
		return false
	})
	if *update {
		var packed bytes.Buffer
		w, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
		require.NoError(t, err)
		_, err = w.Write([]byte(b.String()))
		require.NoError(t, errors.Join(err, w.Close()))
		require.NoError(t, os.WriteFile("suffixes.txt.gz", packed.Bytes(), 0o644))
		return
	}
	unpacked, err := gzip.NewReader(bytes.NewReader(suffixes))
	require.NoError(t, err)
	here, err := io.ReadAll(unpacked)
	require.NoError(t, err)
	assert.Greater(t, b.Len(), 100_000)
	assert.Zero(t, strings.Compare(b.String(), string(here)), "suffixes.txt.gz is stale: go test ./core/weburl -run TestSuffixesAreCurrent -update")
}

func TestSuffixesBelow(t *testing.T) {
	assert.Contains(t, SuffixesBelow("uk"), "co.uk")
	assert.Contains(t, SuffixesBelow("ck"), "*.ck")
	assert.Empty(t, SuffixesBelow("heron.example"))
	for _, name := range []string{"uk", "jp", "com", "amazonaws.com"} {
		for _, suffix := range SuffixesBelow(name) {
			suffix = strings.Replace(suffix, "*", "x", 1)
			known, _ := publicsuffix.PublicSuffix(suffix)
			assert.Equal(t, suffix, known)
			assert.True(t, strings.HasSuffix(suffix, "."+name), suffix)
		}
	}
}

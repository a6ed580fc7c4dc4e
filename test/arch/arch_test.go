// Package arch tests laws about the source tree that the compiler does not check.
package arch

import (
	"bytes"
	"cmp"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/yaml.v3"
)

// room is a package in rooms.yaml.
type room struct {
	Name    string
	What    string
	Imports []string
}

var update = flag.Bool("update", false, "print the table of CONTRIBUTING.md anew")

func rooms(t *testing.T) []room {
	t.Helper()
	text, err := os.ReadFile("rooms.yaml")
	require.NoError(t, err)
	var all []room
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	require.NoError(t, decoder.Decode(&all))
	return all
}

// The table in CONTRIBUTING agrees with rooms.yaml.
func TestRoomsAreDescribed(t *testing.T) {
	const contributing, begin, end = "../../CONTRIBUTING.md", "<!-- printed from test/arch/rooms.yaml -->\n", "<!-- end -->\n"
	var table strings.Builder
	table.WriteString("| package | what | may import of ours |\n| --- | --- | --- |\n")
	for _, r := range rooms(t) {
		assert.NotEmpty(t, r.What, r.Name)
		short := make([]string, len(r.Imports))
		for i, name := range r.Imports {
			short[i] = strings.TrimPrefix(strings.TrimPrefix(name, "core/"), "internal/")
		}
		fmt.Fprintf(&table, "| `%s` | %s | %s |\n", r.Name, r.What, cmp.Or(strings.Join(short, ", "), "–"))
	}
	text, err := os.ReadFile(contributing)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	_, after, found := strings.Cut(rest, end)
	require.True(t, found)
	want := before + begin + table.String() + end + after
	if *update {
		require.NoError(t, os.WriteFile(contributing, []byte(want), 0o644))
	}
	assert.True(t, *update || string(text) == want, "the table of CONTRIBUTING.md is stale: go test ./test/arch -update")
}

// coreModules are the outside packages that the core may import. All of them only compute.
var coreModules = []string{
	"github.com/nlnwa/whatwg-url/url", "github.com/nlnwa/whatwg-url/errors", "golang.org/x/net/idna",
	"golang.org/x/net/publicsuffix", "golang.org/x/text/encoding/unicode", "golang.org/x/text/transform",
}

// coreStandard are the packages of the standard library that the core may import: no file, socket, clock or log.
var coreStandard = strings.Fields(`bufio bytes cmp compress/gzip embed encoding/binary errors fmt io iter math math/bits net/netip reflect regexp regexp/syntax runtime/debug
	slices sort strconv strings sync sync/atomic time unicode unicode/utf8`)

// machinePackage is the one package of the core that may also import machineStandard: a few lines on how tables lie in memory.
const machinePackage = "core/memory"

var machineStandard = []string{"syscall", "unsafe"}

func packages(t *testing.T) map[string][]string {
	t.Helper()
	cmd := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{join .Imports " "}}`, "widelark/...")
	cmd.Dir = "../.."
	out, err := cmd.Output()
	require.NoError(t, err)
	all := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		path, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		all[strings.TrimPrefix(path, "widelark/")] = strings.Fields(imports)
	}
	return all
}

func TestImports(t *testing.T) {
	all := packages(t)
	rules := map[string][]string{}
	for _, r := range rooms(t) {
		assert.NotContains(t, rules, r.Name, "twice")
		assert.Contains(t, all, r.Name, "a rule for a package that is gone")
		rules[r.Name] = r.Imports
	}
	for pkg, imports := range all {
		if strings.HasPrefix(pkg, "internal/testkit") || strings.HasPrefix(pkg, "test/") {
			continue
		}
		rule, ok := rules[pkg]
		if !assert.True(t, ok, "%s has no rule in rooms.yaml: say where it stands", pkg) {
			continue
		}
		for _, path := range imports {
			own, isOwn := strings.CutPrefix(path, "widelark/")
			switch {
			case isOwn:
				assert.Contains(t, rule, own, "%s imports %s", pkg, own)
			case !strings.HasPrefix(pkg, "core/"):
			case pkg == machinePackage && slices.Contains(machineStandard, path):
			case strings.Contains(path, "."):
				assert.Contains(t, coreModules, path, "%s imports %s", pkg, path)
			default:
				assert.Contains(t, coreStandard, path, "%s imports %s", pkg, path)
			}
			// The queue for work in the background rides on the store's pool, and its types name the driver.
			if !strings.HasPrefix(pkg, "internal/postgres") && pkg != "internal/service" && pkg != "internal/subscription" {
				assert.NotContains(t, path, "jackc/pgx", "%s: only internal/postgres speaks to the database", pkg)
			}
		}
	}
}

// The core takes moments as arguments, and reads neither the clock nor the time zone of the machine.
func TestCoreHasNoClock(t *testing.T) {
	files, err := filepath.Glob("../../core/*/*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	forbidden := []string{"Now", "Local", "Since", "Until", "Sleep", "After", "LoadLocation"}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if id, ok := sel.X.(*ast.Ident); ok && id.Name == "time" {
				assert.False(t, slices.Contains(forbidden, sel.Sel.Name), "%s uses time.%s", file, sel.Sel.Name)
			}
			return true
		})
	}
}

// No branch depends on the text of an error: types and values distinguish errors.
func TestErrorsAreNotRead(t *testing.T) {
	read := regexp.MustCompile(`strings\.(Contains|HasPrefix|HasSuffix|Index|EqualFold)\([\w.]*(Error\(\)|\.Msg|\.Detail)|\.Error\(\) [!=]= "`)
	looked := 0
	require.NoError(t, filepath.WalkDir("../..", func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && (entry.Name() == "node_modules" || entry.Name() == ".var" || entry.Name() == ".git"):
			return fs.SkipDir
		case entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		looked++
		text, err := os.ReadFile(path)
		assert.Empty(t, read.FindAllString(string(text), -1), path)
		return err
	}))
	assert.Greater(t, looked, 100)
}

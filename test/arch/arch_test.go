// Package arch holds laws about the tree that the compiler does not.
package arch

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// importRules says which of our own packages each package may import. It is a statement of policy: a change to it is a
// decision about the structure, not a way to make a build pass. Packages of tests (internal/testkit, test/...) may
// import all.
var importRules = map[string]string{
	"core/weburl":               "",
	"core/hands":                "",
	"core/memory":               "",
	"core/language":             "",
	"core/pattern":              "core/weburl core/language",
	"core/match":                "core/memory core/weburl core/pattern",
	"core/classify":             "core/weburl core/pattern core/match",
	"core/directory":            "",
	"core/policy":               "core/weburl core/pattern core/match core/classify core/directory core/schedule",
	"core/schedule":             "core/pattern",
	"core/cover":                "core/weburl core/language core/pattern core/match",
	"core/tidy":                 "core/weburl core/language core/pattern core/match core/cover",
	"core/compare":              "core/cover core/hands core/pattern core/policy core/schedule core/weburl",
	"core/review":               "core/cover core/match core/pattern core/policy core/schedule core/weburl",
	"internal/account":          "internal/readable",
	"internal/calendar":         "core/pattern core/schedule",
	"internal/catalogue":        "core/pattern core/match core/classify internal/packfile internal/revision",
	"internal/companion":        "core/weburl",
	"internal/lookup":           "core/weburl core/pattern core/match core/classify core/cover internal/catalogue internal/revision internal/trial",
	"internal/outbound":         "",
	"internal/packfile":         "core/pattern core/classify internal/spreadsheet",
	"internal/listfile":         "core/pattern internal/spreadsheet",
	"internal/readable":         "",
	"internal/spreadsheet":      "",
	"internal/subscription":     "core/pattern internal/catalogue internal/listfile internal/outbound internal/revision",
	"internal/upkeep":           "core/weburl core/pattern core/match core/tidy core/policy internal/revision",
	"internal/revision":         "core/classify core/directory core/match core/pattern core/policy core/schedule core/weburl internal/readable",
	"internal/change":           "core/policy internal/revision",
	"internal/check":            "core/classify core/compare core/hands core/match core/pattern core/policy core/review core/tidy core/weburl internal/revision internal/trial internal/turn",
	"internal/configfile":       "core/classify core/pattern internal/revision",
	"internal/peoplefile":       "internal/revision internal/spreadsheet",
	"internal/turn":             "",
	"internal/trial":            "core/classify core/directory core/hands core/match core/pattern core/policy core/schedule core/weburl internal/catalogue internal/revision internal/turn",
	"internal/postgres":         "core/classify core/directory core/pattern internal/account internal/catalogue internal/packfile internal/revision",
	"internal/postgres/cluster": "",
	"internal/httpapi":          "core/classify core/cover core/hands core/match core/pattern core/policy core/review core/schedule core/tidy core/weburl internal/account internal/calendar internal/catalogue internal/change internal/check internal/companion internal/configfile internal/listfile internal/lookup internal/packfile internal/peoplefile internal/revision internal/spreadsheet internal/subscription internal/trial internal/upkeep",
	"internal/httpapi/contract": "internal/httpapi",
	"internal/cli":              "client core/pattern core/schedule internal/packfile internal/spreadsheet",
	"internal/service":          "client demo web internal/account internal/catalogue internal/check internal/httpapi internal/lookup internal/outbound internal/postgres internal/postgres/cluster internal/subscription internal/trial internal/upkeep",
	"bench":                     "",
	"bench/rounds":              "",
	"bench/traffic":             "",
	"client":                    "",
	"demo":                      "client internal/packfile core/classify",
	"web":                       "",
	"cmd/widelark":              "internal/cli",
	"cmd/widelarkd":             "internal/service",
}

// coreModules are the outside packages that the core may import. None of them does anything but compute.
var coreModules = []string{
	"github.com/nlnwa/whatwg-url/url", "github.com/nlnwa/whatwg-url/errors", "golang.org/x/net/idna",
	"golang.org/x/net/publicsuffix", "golang.org/x/text/encoding/unicode", "golang.org/x/text/transform",
}

// coreStandard are the packages of the standard library that the core may import: no file, socket, clock or log.
var coreStandard = strings.Fields(`bufio bytes cmp compress/gzip embed encoding/binary errors fmt io iter math math/bits net/netip regexp regexp/syntax runtime/debug
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
	for pkg, imports := range all {
		if pkg == "internal/testkit" || strings.HasPrefix(pkg, "test/") {
			continue
		}
		rule, ok := importRules[pkg]
		if !assert.True(t, ok, "%s has no rule: say where it stands", pkg) {
			continue
		}
		for _, path := range imports {
			own, isOwn := strings.CutPrefix(path, "widelark/")
			switch {
			case isOwn:
				assert.Contains(t, strings.Fields(rule), own, "%s imports %s", pkg, own)
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
	for pkg := range importRules {
		assert.Contains(t, all, pkg, "a rule for a package that is gone")
	}
}

// The core takes the moment as an argument and knows no machine's zone.
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

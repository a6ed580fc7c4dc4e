package httpapi

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/access"
)

// Every operation is public or belongs to one act, every row of the tables is an operation, and every act is known.
func TestOperationsAreActs(t *testing.T) {
	registered := map[string]bool{}
	for _, path := range register(gin.New(), Parts{}).OpenAPI().Paths {
		for _, op := range []*huma.Operation{path.Get, path.Post, path.Put, path.Patch, path.Delete} {
			if op == nil {
				continue
			}
			registered[op.OperationID] = true
			_, acts := actOf[op.OperationID]
			public := slices.Contains(anybody, op.OperationID)
			assert.NotEqual(t, acts, public, "%s is public or an act, not both: say in acts.go what whoever calls it has to be allowed", op.OperationID)
			assert.Equal(t, public, op.Security != nil && len(op.Security) == 0, "%s: the contract says who may call it", op.OperationID)
		}
	}
	for _, id := range append(slices.Collect(maps.Keys(actOf)), anybody...) {
		assert.True(t, registered[id], "%s is not an operation any more", id)
	}
	for act := range operations {
		assert.Contains(t, access.Acts(), act)
	}
}

var update = flag.Bool("update", false, "write the tables of docs/guide/roles.md")

// The tables of the guide are those of the code. Run with -update to write them.
func TestRolesGuide(t *testing.T) {
	const path = "../../docs/guide/roles.md"
	var table strings.Builder
	table.WriteString("| may |")
	for _, r := range access.Roles() {
		fmt.Fprintf(&table, " %s |", r)
	}
	table.WriteString("\n|---|" + strings.Repeat("---|", len(access.Roles())) + "\n")
	for _, act := range access.Acts() {
		if len(operations[act]) == 0 || act == access.Obey {
			continue
		}
		fmt.Fprintf(&table, "| %s |", act)
		for _, r := range access.Roles() {
			fmt.Fprintf(&table, " %s |", r.Scope(act))
		}
		table.WriteString("\n")
	}
	table.WriteString("\n| act | operations |\n|---|---|\n")
	for _, act := range access.Acts() {
		if ids := slices.Sorted(slices.Values(operations[act])); len(ids) > 0 {
			fmt.Fprintf(&table, "| %s | %s |\n", act, strings.Join(ids, " "))
		}
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	const begin, end = "<!-- tables -->\n", "<!-- end of tables -->"
	before, rest, ok := strings.Cut(string(text), begin)
	_, after, ok2 := strings.Cut(rest, end)
	require.True(t, ok && ok2, "the guide says where the tables stand")
	want := before + begin + table.String() + end + after
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o600))
	}
	assert.Equal(t, want, string(text), "go test ./internal/httpapi -run RolesGuide -update")
}

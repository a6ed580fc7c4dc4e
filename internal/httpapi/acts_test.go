package httpapi

import (
	"maps"
	"slices"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"

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

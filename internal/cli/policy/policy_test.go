package policy

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func TestActivity(t *testing.T) {
	assert.Equal(t, client.ActivityBody{Name: "read"}, activity("read"))
	assert.Equal(t, client.ActivityBody{Name: "upload", Methods: &[]string{"POST", "PUT"}, Paths: &[]string{"/up", "/files/*/add"}}, activity("upload:POST,PUT:/up,/files/*/add"))
	assert.Equal(t, client.ActivityBody{Name: "see", Paths: &[]string{"/get"}}, activity("see::/get"))
}

func TestGivenTo(t *testing.T) {
	name := "Nurses"
	baseline, fallback := client.PolicyRole("baseline"), client.PolicyRole("fallback")
	for want, p := range map[string]client.Policy{
		"everybody, before all others": {Role: &baseline}, "requests that no policy is for": {Role: &fallback}, "nobody": {}, "Nurses": {Groups: []client.Ref{{Name: &name}}},
	} {
		assert.Equal(t, want, givenTo(p))
	}
	assert.Empty(t, otherwise(client.Policy{Role: &baseline, Otherwise: "allow"}))
	assert.Equal(t, "allow", otherwise(client.Policy{Role: &fallback, Otherwise: "allow"}))
}

func TestNameRefs(t *testing.T) {
	known := uuid.New().String()
	tree := map[string]any{"all": []any{map[string]any{"lists": []any{map[string]any{"id": known}}}, map[string]any{"files": []any{".zip"}}}}
	a := &command.App{}
	require.NoError(t, nameRefs(t.Context(), a, nil, tree), "nothing is looked up where ids stand already")
	cond, err := object.Recast[client.Condition](tree)
	require.NoError(t, err)
	assert.Equal(t, known, (*(*cond.All)[0].Lists)[0].ID.String())
}

package object

import (
	"fmt"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
)

func TestUsersText(t *testing.T) {
	use := func(kind, name string) client.ObjectUse { return client.ObjectUse{Kind: kind, Name: name} }
	assert.Equal(t, "nothing", usersText([]client.ObjectUse{use("person", "kay.moran")}))
	uses := []client.ObjectUse{use("policy", "Floor"), use("person", "kay.moran")}
	for i := range 6 {
		uses = append(uses, use("exception", fmt.Sprint(i)))
	}
	assert.Equal(t, `the policy "Floor", the exception "0", the exception "1", the exception "2", the exception "3", 2 more`, usersText(uses))
}

// A person can be named by the full name, if only one person has it.
func TestAmong(t *testing.T) {
	all := []One{{Name: "kay.moran", Full: "Kay Moran"}, {Name: "kay.moran2", Full: "Kay Moran"}, {Name: "ola.fenn", Full: "Ola Fenn"}, {Name: "Ola Fenn"}}
	for name, want := range map[string]string{"KAY.moran": "kay.moran", "ola.fenn": "ola.fenn", "ola fenn": "Ola Fenn"} {
		at, err := Among(Persons, all, name)
		require.NoError(t, err)
		assert.Equal(t, want, all[at].Name)
	}
	_, err := Among(Persons, all, "Kay Moran")
	assert.EqualError(t, err, `several are called "Kay Moran": say which, as kay.moran, kay.moran2`)
	_, err = Among(Persons, all, "Nobody")
	assert.EqualError(t, err, "there is no person \"Nobody\"; `widelark person ls` shows which there are")
}

// An object is sent back as it was fetched, with the change.
func TestRecast(t *testing.T) {
	yes, id := true, uuid.New()
	name := "Betting"
	lists := []client.Ref{{ID: id, Name: &name}}
	p := client.Policy{
		ID: uuid.New(), Name: "Floor", Version: 7, Otherwise: "hold", Groups: []client.Ref{}, Sentences: []string{"…"},
		Rules: []client.RuleBody{{Name: "No", Off: &yes, Then: "block", If: &client.Condition{None: &[]client.Condition{{Lists: &lists}}}}},
	}
	body, err := Recast[client.PolicyInput](p)
	require.NoError(t, err)
	assert.Equal(t, client.PolicyInput{Name: "Floor", Otherwise: "hold", Groups: []client.Ref{}, Rules: p.Rules}, body)
	_, err = Recast[client.PolicyInput](map[string]any{"rules": 7})
	assert.Error(t, err)
}

func TestWhomText(t *testing.T) {
	yes := true
	named := func(names ...string) *[]client.Ref {
		var refs []client.Ref
		for _, n := range names {
			refs = append(refs, client.Ref{Name: &n})
		}
		return &refs
	}
	assert.Equal(t, "everybody", WhomText(client.WhomBody{Everybody: &yes}))
	assert.Equal(t, "Kay Moran, Nurses, Night, Wards, 10.40.9.7", WhomText(client.WhomBody{Persons: named("Kay Moran"), Groups: named("Nurses", "Night"), Networks: named("Wards"), Addresses: &[]string{"10.40.9.7"}}))
}

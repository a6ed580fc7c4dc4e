package access_test

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/access"
)

// Each row is an act; the columns say whether an owner and another account may perform it, and whether they may do so on the
// baseline.
func TestCheck(t *testing.T) {
	const table = `
read the configuration      | yes yes | yes no
try and look up URLs        | yes yes | yes no
read the journal            | yes yes | yes no
read the audit log          | yes yes | yes no
edit their own account      | yes yes | yes no
edit the draft              | yes yes | yes no
say what fills a list       | yes yes | yes no
publish                     | yes yes | yes no
make grants                 | yes yes | yes no
say who is at which address | yes yes | yes no
accept findings             | yes yes | yes no
add to the journal          | yes yes | yes no
edit packs                  | yes yes | yes no
edit keys that sign packs   | yes no  | yes no
edit the authority of the gates | yes no  | yes no
enrol and retire gates      | yes no  | yes no
run as a gate               | no  no  | no  no
edit accounts               | yes no  | yes no
set up reports and alerts | yes yes | yes no
send records on | yes no | yes no
erase what is recorded of people | yes no | yes no
remove what has run out     | no  no  | no  no`
	rows := strings.Split(strings.TrimSpace(table), "\n")
	require.Len(t, rows, len(access.Acts()))
	edda := access.Account(uuid.New(), "edda")
	for i, act := range access.Acts() {
		name, answers, _ := strings.Cut(rows[i], "|")
		require.Equal(t, string(act), strings.TrimSpace(name))
		want := strings.Fields(strings.ReplaceAll(answers, "|", ""))
		var got []string
		for _, baseline := range []bool{false, true} {
			for _, role := range []access.Role{access.Owner, access.Member} {
				err := access.Check(edda, []access.Role{role}, act, access.Object{Baseline: baseline})
				got = append(got, map[bool]string{true: "yes", false: "no"}[err == nil])
				assert.Error(t, access.Check(edda, nil, act, access.Object{Baseline: baseline}), "an account that is gone")
				assert.Error(t, access.Check(access.Actor{}, []access.Role{role}, act, access.Object{Baseline: baseline}), "nobody")
			}
		}
		assert.Equal(t, want, got, act)
	}
	for _, role := range []access.Role{"", "nobody", "Owner"} {
		assert.Error(t, access.Check(edda, []access.Role{role}, access.Read, access.Object{}), "the role %q", role)
	}
	assert.Error(t, access.Check(edda, []access.Role{access.Owner}, "do as they like", access.Object{}))
	require.NoError(t, access.Check(edda, []access.Role{"nobody", access.Member, access.Owner}, access.Accounts, access.Object{}), "roles add up")
}

func TestDenied(t *testing.T) {
	edda := access.Account(uuid.New(), "edda")
	for _, row := range []struct {
		by   access.Actor
		act  access.Act
		on   access.Object
		says string
		role access.Role
	}{
		{edda, access.Edit, access.Object{Name: `the list "Betting"`, Baseline: true}, `edda may not edit the draft: the list "Betting"`, access.Owner},
		{edda, access.Accounts, access.Object{}, "edda may not edit accounts", access.Owner},
		{edda, access.Expire, access.Object{}, "edda may not remove what has run out", ""},
		{access.Actor{}, access.Read, access.Object{}, "an unknown actor may not read the configuration", access.Member},
	} {
		var roles []access.Role
		if row.by == edda {
			roles = []access.Role{access.Member}
		}
		var denied *access.DeniedError
		require.ErrorAs(t, access.Check(row.by, roles, row.act, row.on), &denied)
		assert.Equal(t, row.says, denied.Error())
		assert.Equal(t, row.role, denied.Role)
	}
}

// Parts of the service have their own roles, which no account can be given by its name.
func TestParts(t *testing.T) {
	for _, part := range []access.Actor{access.Subscription, access.Timetable, access.Recorder, access.Setup} {
		found, is := access.Part(strings.ToUpper(part.Name()))
		assert.True(t, is)
		assert.Equal(t, part, found)
		assert.Empty(t, access.Account(uuid.New(), part.Name()).OwnRoles())
		assert.Equal(t, uuid.Nil, part.Account())
	}
	_, is := access.Part("edda")
	assert.False(t, is)
	_, is = access.Part("")
	assert.False(t, is)
	may := func(part access.Actor, act access.Act) bool {
		return access.Check(part, part.OwnRoles(), act, access.Object{Baseline: true}) == nil
	}
	assert.True(t, may(access.Subscription, access.Fill))
	assert.False(t, may(access.Subscription, access.Publish))
	assert.True(t, may(access.Timetable, access.Publish))
	assert.False(t, may(access.Timetable, access.Edit))
	assert.True(t, may(access.Setup, access.Accounts))
}

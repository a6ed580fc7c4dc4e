package access_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/internal/access"
)

var (
	wards, research = uuid.MustParse("00000000-0000-4000-8000-00000000000a"), uuid.MustParse("00000000-0000-4000-8000-00000000000b")
	dosage, betting = uuid.MustParse("00000000-0000-4000-8000-00000000000c"), uuid.MustParse("00000000-0000-4000-8000-00000000000d")
)

// bounded returns a role that is bound to the wards, or to the list of dosages, where it can be.
func bounded(role access.Role) access.Held {
	for _, h := range []access.Held{{Role: role, Groups: []uuid.UUID{wards}}, {Role: role, Lists: []uuid.UUID{dosage}}} {
		if h.Validate() == nil {
			return h
		}
	}
	return access.Held{Role: role}
}

// Each row is an act. The columns are the roles, with bounds where they can have some: whether they may perform it on something that is in their bounds, something
// that is outside, and something that nobody is said to be concerned by. y is yes, - is no.
func TestCheck(t *testing.T) {
	const table = `
                                       reader  lead  help desk  auditor  publisher  editor  owner
read the configuration               | yyy     ---   yyy        yyy      yyy        yyy     yyy
see people and groups                | yyy     y--   yyy        yyy      yyy        yyy     yyy
try and look up URLs                 | yyy     y--   yyy        yyy      yyy        yyy     yyy
read the journal                     | ---     y--   y--        yyy      yyy        yyy     yyy
see names in the journal             | ---     y--   y--        yyy      ---        ---     yyy
see what is used, and how often      | ---     ---   yyy        yyy      yyy        yyy     yyy
see what people ask for              | ---     y--   y--        yyy      ---        ---     yyy
read the audit log                   | ---     ---   ---        yyy      ---        ---     yyy
see accounts, and where records are sent | --- ---   ---        yyy      ---        ---     yyy
edit their own account               | yyy     yyy   yyy        yyy      yyy        yyy     yyy
say something of the draft           | yyy     ---   yyy        yyy      yyy        yyy     yyy
edit the draft                       | ---     ---   ---        ---      ---        y--     yyy
say what fills a list                | ---     ---   ---        ---      ---        y--     yyy
accept findings                      | ---     ---   ---        ---      ---        ---     yyy
edit packs                           | ---     ---   ---        ---      ---        ---     yyy
set up reports and alerts            | ---     ---   ---        ---      ---        ---     yyy
add to the journal                   | ---     ---   ---        ---      ---        ---     yyy
publish                              | ---     ---   ---        ---      y--        ---     yyy
say how changes go live              | ---     ---   ---        ---      ---        ---     yyy
make grants                          | ---     ---   y--        ---      ---        ---     yyy
steer groups                         | ---     y--   ---        ---      ---        ---     yyy
answer requests                      | ---     y--   y--        ---      ---        ---     yyy
make unlock codes                    | ---     ---   y--        ---      ---        ---     yyy
say who is at which address          | ---     ---   y--        ---      ---        ---     yyy
edit keys that sign packs            | ---     ---   ---        ---      ---        ---     yyy
edit directories                      | ---     ---   ---        ---      ---        ---     yyy
edit the authority of the gates      | ---     ---   ---        ---      ---        ---     yyy
enrol and retire gates               | ---     ---   ---        ---      ---        ---     yyy
edit accounts                        | ---     ---   ---        ---      ---        ---     yyy
send records on                      | ---     ---   ---        ---      ---        ---     yyy
erase what is recorded of people     | ---     ---   ---        ---      ---        ---     yyy
run as a gate                        | ---     ---   ---        ---      ---        ---     ---
remove what has run out              | ---     ---   ---        ---      ---        ---     ---`
	rows := strings.Split(strings.Trim(table, "\n"), "\n")[1:]
	require.Len(t, rows, len(access.Acts()))
	edda := access.Account(uuid.New(), "edda")
	for i, act := range access.Acts() {
		name, answers, _ := strings.Cut(rows[i], "|")
		require.Equal(t, string(act), strings.TrimSpace(name))
		var got []string
		for _, role := range access.Roles() {
			h, word := bounded(role), ""
			for _, about := range []access.Object{{Groups: []uuid.UUID{research, wards}, List: dosage}, {Groups: []uuid.UUID{research}, List: betting}, {}} {
				err := access.Check(edda, []access.Held{h}, act, about)
				word += map[bool]string{true: "y", false: "-"}[err == nil]
				assert.Error(t, access.Check(edda, nil, act, about), "an account that is gone")
				assert.Error(t, access.Check(access.Actor{}, []access.Held{h}, act, about), "nobody")
				if about.Baseline = true; role != access.Owner {
					assert.Error(t, access.Check(edda, []access.Held{h}, act, about), "%s: the baseline is the owners'", role)
				}
			}
			got = append(got, word)
			if h.Groups != nil || h.Lists != nil { // without bounds, everything is in them
				for _, about := range []access.Object{{Groups: []uuid.UUID{research}, List: betting}, {}} {
					free := access.Check(edda, []access.Held{{Role: role}}, act, about) == nil
					assert.Equal(t, access.Begin(edda, []access.Held{{Role: role}}, act) == nil, free, "%s: %s", role, act)
				}
			}
		}
		assert.Equal(t, strings.Fields(answers), got, act)
	}
	for _, role := range []access.Role{"", "nobody", "Owner"} {
		assert.Error(t, access.Check(edda, []access.Held{{Role: role}}, access.Read, access.Object{}), "the role %q", role)
	}
	owner := []access.Held{{Role: access.Owner}}
	assert.Error(t, access.Check(edda, owner, "do as they like", access.Object{}))
	require.NoError(t, access.Check(edda, append(owner, access.Held{Role: "nobody"}, access.Held{Role: access.Reader}), access.Accounts, access.Object{}), "roles add up")
}

// Grants have a reach and a length.
func TestReach(t *testing.T) {
	desk := access.Account(uuid.New(), "desk")
	held := []access.Held{{Role: access.HelpDesk, Reach: access.Host, Longest: 2 * time.Hour}}
	for _, row := range []struct {
		reach  access.Reach
		length time.Duration
		may    bool
	}{
		{access.Page, time.Hour, true}, {access.Host, 2 * time.Hour, true}, {access.Site, time.Hour, false}, {access.Everything, time.Hour, false}, {access.Page, 3 * time.Hour, false}, {"the moon", time.Hour, false},
	} {
		for _, act := range []access.Act{access.Grant, access.Answer, access.Codes} {
			err := access.Check(desk, held, act, access.Object{Reach: row.reach, Length: row.length})
			assert.Equal(t, row.may, err == nil, "%s %s %s", act, row.reach, row.length)
		}
	}
	assert.NoError(t, access.Check(desk, []access.Held{{Role: access.HelpDesk}}, access.Grant, access.Object{Reach: access.Everything, Length: 90 * 24 * time.Hour}))
	for _, h := range []access.Held{
		{Role: "nobody"},
		{Role: "gate"},
		{Role: "setup"},
		{Role: access.Reader, Groups: []uuid.UUID{wards}},
		{Role: access.Owner, Lists: []uuid.UUID{dosage}},
		{Role: access.Editor, Groups: []uuid.UUID{wards}},
		{Role: access.Lead, Lists: []uuid.UUID{dosage}},
		{Role: access.HelpDesk, Reach: "the moon"},
		{Role: access.Editor, Reach: access.Page},
		{Role: access.HelpDesk, Longest: -1},
	} {
		assert.Error(t, h.Validate(), "%v", h)
	}
}

func TestDenied(t *testing.T) {
	edda := access.Account(uuid.New(), "edda")
	for _, row := range []struct {
		by    access.Actor
		held  access.Held
		act   access.Act
		on    access.Object
		says  string
		roles []access.Role
		bound bool
	}{
		{edda, access.Held{Role: access.Editor}, access.Edit, access.Object{Name: `the list "Betting"`, Baseline: true}, `edda may not edit the draft: the list "Betting"`, []access.Role{access.Owner}, false},
		{edda, access.Held{Role: access.Reader}, access.Accounts, access.Object{}, "edda may not edit accounts", []access.Role{access.Owner}, false},
		{edda, access.Held{Role: access.Reader}, access.Edit, access.Object{}, "edda may not edit the draft", []access.Role{access.Editor, access.Owner}, false},
		{edda, access.Held{Role: access.Editor, Lists: []uuid.UUID{dosage}}, access.Edit, access.Object{}, "edda may not edit the draft", []access.Role{access.Editor, access.Owner}, true},
		{edda, access.Held{Role: access.Owner}, access.Expire, access.Object{}, "edda may not remove what has run out", nil, false},
		{access.Actor{}, access.Held{Role: access.Owner}, access.Answer, access.Object{}, "an unknown actor may not answer requests", []access.Role{access.Lead, access.HelpDesk, access.Owner}, false},
	} {
		var denied *access.DeniedError
		require.ErrorAs(t, access.Check(row.by, []access.Held{row.held}, row.act, row.on), &denied)
		assert.Equal(t, row.says, denied.Error())
		assert.Equal(t, row.roles, denied.Roles)
		assert.Equal(t, row.bound, denied.Bound)
	}
}

// drawHeld draws some roles with bounds.
func drawHeld(t *rapid.T, label string) []access.Held {
	some := func(ids ...uuid.UUID) *rapid.Generator[[]uuid.UUID] {
		return rapid.Custom(func(t *rapid.T) []uuid.UUID {
			return slices.DeleteFunc(slices.Clone(ids), func(uuid.UUID) bool { return rapid.Bool().Draw(t, "without") })
		})
	}
	one := rapid.Custom(func(t *rapid.T) access.Held {
		return access.Held{
			Role: rapid.SampledFrom(append(access.Roles(), "nobody")).Draw(t, "role"), Groups: some(wards, research).Draw(t, "groups"), Lists: some(dosage, betting).Draw(t, "lists"),
			Reach: rapid.SampledFrom(append(access.Reaches(), "")).Draw(t, "reach"), Longest: time.Duration(rapid.IntRange(0, 2).Draw(t, "longest")) * time.Hour,
		}
	})
	return rapid.SliceOfN(one, 0, 3).Draw(t, label)
}

func drawObject(t *rapid.T) access.Object {
	o := access.Object{
		Baseline: rapid.Bool().Draw(t, "baseline"), List: rapid.SampledFrom([]uuid.UUID{uuid.Nil, dosage, betting}).Draw(t, "list"),
		Groups: rapid.SampledFrom([][]uuid.UUID{nil, {wards}, {research}, {wards, research}}).Draw(t, "of"),
	}
	if rapid.Bool().Draw(t, "opens") {
		o.Reach, o.Length = rapid.SampledFrom(access.Reaches()).Draw(t, "how far"), time.Duration(rapid.IntRange(0, 3).Draw(t, "how long"))*time.Hour
	}
	return o
}

// A token never may what its maker may not, nor what it was not made for; what both may in full, it may.
func TestMeet(t *testing.T) {
	edda := access.Account(uuid.New(), "edda")
	rapid.Check(t, func(t *rapid.T) {
		maker, token, about := drawHeld(t, "maker"), drawHeld(t, "token"), drawObject(t)
		act := rapid.SampledFrom(access.Acts()).Draw(t, "act")
		both := access.Meet(maker, token)
		if access.Check(edda, both, act, about) == nil {
			assert.NoError(t, access.Check(edda, maker, act, about), "more than its maker")
			assert.NoError(t, access.Check(edda, token, act, about), "more than it was made for")
		}
		whole := access.Meet(maker, []access.Held{{Role: access.Owner}})
		assert.Equal(t, access.Check(edda, maker, act, about) == nil, access.Check(edda, whole, act, about) == nil, "a token with all that its maker may do")
	})
}

// More roles never take anything away, and fewer bounds neither; where nothing may be begun, nothing may be done; what is within bounds alone is not whole.
func TestRolesAddUp(t *testing.T) {
	edda := access.Account(uuid.New(), "edda")
	rapid.Check(t, func(t *rapid.T) {
		held, more, about := drawHeld(t, "held"), drawHeld(t, "more"), drawObject(t)
		act := rapid.SampledFrom(access.Acts()).Draw(t, "act")
		may := access.Check(edda, held, act, about) == nil
		if may {
			assert.NoError(t, access.Begin(edda, held, act))
			assert.NoError(t, access.Check(edda, append(slices.Clone(held), more...), act, about))
			free := slices.Clone(held)
			for i := range free {
				free[i] = access.Held{Role: free[i].Role}
			}
			assert.NoError(t, access.Check(edda, free, act, about))
		}
		groups, lists, whole := access.Bounds(held, act)
		assert.Equal(t, whole || len(groups)+len(lists) > 0, access.Begin(edda, held, act) == nil, fmt.Sprint(held, act))
	})
}

// Parts of the service have their own roles, which no account can be given by its name.
func TestParts(t *testing.T) {
	for _, part := range []access.Actor{access.Subscription, access.Timetable, access.Recorder, access.Setup} {
		found, is := access.Part(strings.ToUpper(part.Name()))
		assert.True(t, is)
		assert.Equal(t, part, found)
		assert.Empty(t, access.Account(uuid.New(), part.Name()).OwnRoles())
		assert.Equal(t, uuid.Nil, part.Account())
		assert.Error(t, part.OwnRoles()[0].Validate())
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

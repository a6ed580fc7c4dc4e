package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
)

func strip(parts ...string) (all []client.Segment) {
	at := func(text string) time.Time {
		t, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			panic(err)
		}
		return t
	}
	for i := 0; i+2 < len(parts); i += 2 {
		all = append(all, client.Segment{From: at(parts[i]), Verdict: client.SegmentVerdict(parts[i+1]), To: at(parts[i+2])})
	}
	return all
}

// Times are told as people say them: days alike together, midnight as the end of a day.
func TestStripTimes(t *testing.T) {
	week := strip("2026-11-23 00:00", "block", "2026-11-30 00:00")
	assert.Equal(t, "always", stripTimes(week, "block", time.UTC))
	assert.Empty(t, stripTimes(week, "allow", time.UTC))
	night := strip("2026-11-23 00:00", "watch", "2026-11-23 07:30", "block", "2026-11-23 20:00", "watch", "2026-11-24 07:30", "block", "2026-11-24 20:00", "watch", "2026-11-25 00:00")
	assert.Equal(t, "mon, tue 00:00-07:30, 20:00-24:00", stripTimes(night, "watch", time.UTC))
	assert.Equal(t, "mon, tue 07:30-20:00", stripTimes(night, "block", time.UTC))
	long := strip("2026-11-23 10:00", "hold", "2026-11-25 12:00", "allow", "2026-11-30 10:00")
	assert.Equal(t, "mon 10:00-24:00; tue 00:00-24:00; wed 00:00-12:00", stripTimes(long, "hold", time.UTC))
	every := []client.Segment{}
	for day := range 7 {
		from := time.Date(2026, 11, 23+day, 0, 0, 0, 0, time.UTC)
		every = append(every, client.Segment{From: from, To: from.Add(12 * time.Hour), Verdict: "block"}, client.Segment{From: from.Add(12 * time.Hour), To: from.Add(13 * time.Hour), Verdict: "watch"},
			client.Segment{From: from.Add(13 * time.Hour), To: from.Add(24 * time.Hour), Verdict: "block"})
	}
	assert.Equal(t, "every day 12:00-13:00", stripTimes(every, "watch", time.UTC))
}

func TestDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "90m": 90 * time.Minute, "12h": 12 * time.Hour, "7d": 168 * time.Hour, "2w": 336 * time.Hour, "1.5d": 36 * time.Hour} {
		got, err := duration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"d", "soon", "-1h", "0d", "7x"} {
		_, err := duration(text)
		assert.ErrorContains(t, err, "is no length of time", text)
	}
}

func TestEnd(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Auckland")
	require.NoError(t, err)
	for text, want := range map[string]time.Time{
		"2026-11-28": time.Date(2026, 11, 29, 0, 0, 0, 0, zone), "2026-11-28 17:00": time.Date(2026, 11, 28, 17, 0, 0, 0, zone), "2026-11-28T17:00:00Z": time.Date(2026, 11, 28, 17, 0, 0, 0, time.UTC),
	} {
		got, err := end(text, zone)
		require.NoError(t, err)
		assert.True(t, want.Equal(*got), "%s: %s", text, got)
	}
	soon, err := end("7d", zone)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(168*time.Hour), *soon, time.Minute)
	none, err := end("", zone)
	assert.Nil(t, none)
	require.NoError(t, err)
	_, err = end("friday", zone)
	assert.ErrorContains(t, err, `"friday" is neither a day (2026-11-28), a moment (2026-11-28 17:00) nor a length of time (7d)`)
}

// What ends with a day is said by the day, in the organisation's zone.
func TestEndSaid(t *testing.T) {
	a := &app{}
	a.asked.Do(func() { a.organisation = time.FixedZone("", 3600) })
	assert.Equal(t, "through Fri 27 Nov", a.endSaid(time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC), clock))
	assert.Equal(t, "through 2026-11-27", a.endSaid(time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC), "2006-01-02 15:04"))
	assert.Equal(t, "until Sat 28 Nov 01:00", a.endSaid(time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC), clock))
}

// Flags that contradict each other are told by name, and only those that were given.
func TestApart(t *testing.T) {
	rows := [][]string{{"journey", "sight", "gate"}, {"matrix", "week"}}
	for given, want := range map[string]string{
		"": "", "journey": "", "sight gate": "", "journey matrix": "", "journey gate": "--journey and --gate do not go together", "week matrix": "--matrix and --week do not go together",
	} {
		cmd := &cobra.Command{}
		for _, flag := range []string{"journey", "sight", "gate", "matrix", "week"} {
			cmd.Flags().Bool(flag, false, "")
		}
		for _, flag := range strings.Fields(given) {
			require.NoError(t, cmd.Flags().Set(flag, "true"))
		}
		if err := apart(cmd, rows...); want == "" {
			assert.NoError(t, err, given)
		} else {
			assert.EqualError(t, err, want, given)
		}
	}
}

func TestActivity(t *testing.T) {
	assert.Equal(t, client.ActivityBody{Name: "read"}, activity("read"))
	assert.Equal(t, client.ActivityBody{Name: "upload", Methods: &[]string{"POST", "PUT"}, Paths: &[]string{"/up", "/files/*/add"}}, activity("upload:POST,PUT:/up,/files/*/add"))
	assert.Equal(t, client.ActivityBody{Name: "see", Paths: &[]string{"/get"}}, activity("see::/get"))
}

func TestUsersSaid(t *testing.T) {
	use := func(kind, name string) client.ObjectUse { return client.ObjectUse{Kind: kind, Name: name} }
	assert.Equal(t, "nothing", usersSaid([]client.ObjectUse{use("person", "kay.moran")}))
	uses := []client.ObjectUse{use("policy", "Floor"), use("person", "kay.moran")}
	for i := range 6 {
		uses = append(uses, use("exception", fmt.Sprint(i)))
	}
	assert.Equal(t, `the policy "Floor", the exception "0", the exception "1", the exception "2", the exception "3", 2 more`, usersSaid(uses))
}

// A person may be named as people write the name, where it is one person's only.
func TestAmong(t *testing.T) {
	all := []one{{Name: "kay.moran", Full: "Kay Moran"}, {Name: "kay.moran2", Full: "Kay Moran"}, {Name: "ola.fenn", Full: "Ola Fenn"}, {Name: "Ola Fenn"}}
	for name, want := range map[string]string{"KAY.moran": "kay.moran", "ola.fenn": "ola.fenn", "ola fenn": "Ola Fenn"} {
		at, err := among(personKind, all, name)
		require.NoError(t, err)
		assert.Equal(t, want, all[at].Name)
	}
	_, err := among(personKind, all, "Kay Moran")
	assert.EqualError(t, err, `several are called "Kay Moran": say which, as kay.moran, kay.moran2`)
	_, err = among(personKind, all, "Nobody")
	assert.EqualError(t, err, "there is no person \"Nobody\"; `widelark person ls` shows which there are")
}

// What is fetched is sent back as it was, with what was changed.
func TestRecast(t *testing.T) {
	yes, id := true, uuid.New()
	name := "Betting"
	lists := []client.Ref{{ID: id, Name: &name}}
	p := client.Policy{
		ID: uuid.New(), Name: "Floor", Version: 7, Otherwise: "hold", Groups: []client.Ref{}, Sentences: []string{"…"},
		Rules: []client.RuleBody{{Name: "No", Off: &yes, Then: "block", If: &client.Condition{None: &[]client.Condition{{Lists: &lists}}}}},
	}
	body, err := recast[client.PolicyInput](p)
	require.NoError(t, err)
	assert.Equal(t, client.PolicyInput{Name: "Floor", Otherwise: "hold", Groups: []client.Ref{}, Rules: p.Rules}, body)
	_, err = recast[client.PolicyInput](map[string]any{"rules": 7})
	assert.Error(t, err)
}

func TestWhomSaid(t *testing.T) {
	yes := true
	named := func(names ...string) *[]client.Ref {
		var refs []client.Ref
		for _, n := range names {
			refs = append(refs, client.Ref{Name: &n})
		}
		return &refs
	}
	assert.Equal(t, "everybody", whomSaid(client.WhomBody{Everybody: &yes}))
	assert.Equal(t, "Kay Moran, Nurses, Night, Wards, 10.40.9.7", whomSaid(client.WhomBody{Persons: named("Kay Moran"), Groups: named("Nurses", "Night"), Networks: named("Wards"), Addresses: &[]string{"10.40.9.7"}}))
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

// The second trial of a comparison is as the first, but for what is said of it.
func TestOr(t *testing.T) {
	first := circumstances{person: "kay", address: "10.40.9.7", at: "12:00", sight: "name", method: "POST"}
	assert.Equal(t, circumstances{group: "Nurses", at: "12:00", sight: "name", method: "POST"}, circumstances{group: "Nurses"}.or(first), "somebody else, from nowhere")
	assert.Equal(t, circumstances{person: "kay", address: "10.40.9.7", at: "14:00", sight: "name", method: "POST"}, circumstances{at: "14:00"}.or(first))
	none := circumstances{}
	assert.True(t, none.none())
	assert.False(t, first.none())
}

func TestSome(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out}
	a.some("Left out", nil)
	assert.Empty(t, out.String())
	a.some("Left out", []string{"a", "b"})
	assert.Equal(t, "\nLeft out:\n  a\n  b\n", out.String())
	out.Reset()
	a.some("Many", make([]string, 13))
	assert.Contains(t, out.String(), "  and 3 more\n")
}

func TestNameRefs(t *testing.T) {
	known := uuid.New().String()
	tree := map[string]any{"all": []any{map[string]any{"lists": []any{map[string]any{"id": known}}}, map[string]any{"files": []any{".zip"}}}}
	a := &app{}
	require.NoError(t, a.nameRefs(t.Context(), nil, tree), "nothing is looked up where ids stand already")
	cond, err := recast[client.Condition](tree)
	require.NoError(t, err)
	assert.Equal(t, known, (*(*cond.All)[0].Lists)[0].ID.String())
}

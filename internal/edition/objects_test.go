package edition_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/testkit/draft"
	"widelark/internal/trial"
)

// People are found by any of their names; an unknown or ambiguous name is an error.
func TestWho(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	nurses := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}})[0]
	person := func(name, full string) revision.ObjectChange {
		return revision.ObjectChange{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{FullName: full, Groups: draft.Refs(nurses.ID)}}
	}
	made := h.Change(t, person("kay", "Kay Moran"), person("kay2", "Kay Moran"), person("ola", "Ola Fenn"),
		revision.ObjectChange{Kind: revision.KindMachine, Name: "Kiosk", Body: &revision.MachineBody{Address: "10.40.9.7"}},
		revision.ObjectChange{Kind: revision.KindNetwork, Name: "Site", Body: &revision.NetworkBody{Ranges: []string{"10.40.0.0/16"}}})
	state := draft.State(t, draft.Editions(t, h.Store, time.UTC, atNoon))
	for text, want := range map[string]string{
		"ola": "Ola Fenn", " OLA fenn ": "Ola Fenn", "kay": "Kay Moran", made[1].ID.String(): "Kay Moran", "nurses": "a member of Nurses", "kiosk": "Kiosk", "10.40.9.7": "Kiosk", "::ffff:10.40.9.7": "Kiosk", "10.40.9.8": "10.40.9.8",
	} {
		who, err := state.Who(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, who.Name(), text)
	}
	for text, want := range map[string]string{
		"Kay Moran": `name: several are called "Kay Moran": say which, as Kay Moran (kay), Kay Moran (kay2)`, "nobody": `name: nobody is called "nobody": no person, group or machine`,
	} {
		_, err := state.Who(text)
		assert.EqualError(t, err, want)
	}
	both, err := state.Find("who", edition.Who{Person: "ola", Address: "10.40.9.7"})
	require.NoError(t, err)
	assert.Equal(t, "Ola Fenn at Kiosk", both.Name())
	st := state.Standing(both)
	assert.Equal(t, "[{"+nurses.ID.String()+" Nurses}] Site", fmt.Sprint(st.Groups, " ", st.Network.Name))
	nobody, err := state.Find("who", edition.Who{})
	require.NoError(t, err)
	assert.Equal(t, "somebody unknown", nobody.Name())
}

// After any edits of objects, editions that followed them give the same answers as new ones that read everything.
func TestFollowingObjectsIsReadingAnew(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example", "tern.example")
	random := rand.New(rand.NewPCG(3, 9))
	follower, away := draft.Editions(t, h.Store, time.UTC, atNoon), newElsewhere()
	var groups, people, networks, policies, exceptions []revision.Object
	pick := func(all []revision.Object) []revision.Ref {
		if len(all) == 0 || random.IntN(3) == 0 {
			return draft.Refs()
		}
		return draft.Refs(all[random.IntN(len(all))].ID)
	}
	urls := []string{"heron.example/a", "tern.example", "gull.test"}
	names := 0
	for range 60 {
		names++
		put := func(kind revision.Kind, all *[]revision.Object, body revision.Body) {
			c := revision.ObjectChange{Kind: kind, Name: fmt.Sprint(kind, " ", names), Body: body}
			if len(*all) > 2 && random.IntN(2) == 0 {
				c.ID = (*all)[random.IntN(len(*all))].ID
			}
			made := h.Change(t, c)[0]
			*all = slices.DeleteFunc(*all, func(o revision.Object) bool { return o.ID == made.ID })
			*all = append(*all, made)
		}
		switch random.IntN(7) {
		case 0:
			put(revision.KindGroup, &groups, &revision.GroupBody{Networks: pick(networks), Ranges: []string{fmt.Sprintf("10.40.%d.0/24", random.IntN(4))}})
		case 1, 2:
			put(revision.KindPerson, &people, &revision.PersonBody{Groups: pick(groups)})
		case 3:
			put(revision.KindNetwork, &networks, &revision.NetworkBody{Ranges: []string{fmt.Sprintf("10.40.%d.0/23", random.IntN(4)*2)}})
		case 4:
			rules := []revision.RuleBody{{Name: "R", Off: random.IntN(3) == 0, If: &revision.Condition{Lists: draft.Refs(h.Betting.ID)}, Then: policy.Verdicts[random.IntN(4)]}}
			put(revision.KindPolicy, &policies, &revision.PolicyBody{Groups: pick(groups), Rules: rules, Otherwise: policy.Verdicts[random.IntN(4)]})
		case 5:
			put(revision.KindException, &exceptions, &revision.ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Everybody: random.IntN(4) == 0, Persons: pick(people), Groups: pick(groups), Addresses: []string{"10.40.3.3"}}})
		case 6:
			if len(exceptions) > 0 {
				h.Change(t, revision.ObjectChange{Kind: revision.KindException, ID: exceptions[0].ID, Remove: true})
				exceptions = exceptions[1:]
			}
		}
		followed, anew := draft.State(t, follower), draft.State(t, draft.Editions(t, h.Store, time.UTC, atNoon))
		require.Equal(t, anew.DraftVersion, followed.DraftVersion)
		travelled := away.state(t, h.Store)
		who := []edition.Who{{}, {Address: fmt.Sprintf("10.40.%d.3", random.IntN(5))}}
		for _, p := range people {
			who = append(who, edition.Who{Person: p.Name, Address: "10.40.1.1"})
		}
		for _, one := range who {
			q := trial.Question{URLs: urls, Circumstances: edition.Circumstances{Who: &one}}
			a, err := trial.Try(t.Context(), followed, "", q)
			require.NoError(t, err)
			b, err := trial.Try(t.Context(), anew, "", q)
			require.NoError(t, err)
			c, err := trial.Try(t.Context(), travelled, "", q)
			require.NoError(t, err)
			for i := range urls {
				require.Equal(t, b.Answers[i].Explanation, a.Answers[i].Explanation, "%+v", one)
				require.Equal(t, b.Answers[i].Explanation, c.Answers[i].Explanation, "elsewhere: %+v", one)
			}
		}
	}
}

// While several clients edit people and exceptions, no trial fails, and each edit counts for the next trial of its client.
func TestTrialsGoOnDuringObjectEdits(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example")
	editions := draft.Editions(t, h.Store, time.UTC, atNoon)
	var all sync.WaitGroup
	for hand := range 4 {
		all.Go(func() {
			for i := range 8 {
				name := fmt.Sprintf("person-%d-%d", hand, i)
				made, err := h.Store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{}}}, access.Setup)
				if !assert.NoError(t, err) {
					return
				}
				ask := func() policy.Verdict {
					answers, err := ask(t.Context(), editions, trial.Question{URLs: []string{"heron.example"}, Circumstances: edition.Circumstances{Who: &edition.Who{Person: name}}})
					if !assert.NoError(t, err) {
						return ""
					}
					return answers.Answers[0].Verdict
				}
				assert.Equal(t, policy.Block, ask())
				e := &revision.ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Persons: draft.Refs(made[0].ID)}}
				granted, err := h.Store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindException, Name: name, Body: e}}, access.Setup)
				assert.NoError(t, err)
				assert.Equal(t, policy.Allow, ask())
				_, err = h.Store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindException, ID: granted[0].ID, Remove: true}, {Kind: revision.KindPerson, ID: made[0].ID, Remove: true}}, access.Setup)
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	_, err := ask(t.Context(), editions, trial.Question{URLs: []string{"heron.example"}, Circumstances: edition.Circumstances{Who: &edition.Who{Person: "person-0-0"}}})
	assert.ErrorContains(t, err, `there is no person "person-0-0"`)
}

// Facts are combined with a state once, apply to the next version of the draft as well, and do not change the state.
func TestFactsBesideAState(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example")
	editions := draft.Editions(t, h.Store, time.UTC, atNoon)
	facts := &policy.Facts{Grants: []policy.Exception{{
		ID: "g", Name: "heron.example", Then: policy.Allow, For: policy.Whom{Everybody: true}, Entries: []pattern.Entry{pattern.MustParse("heron.example")}, Until: time.Now().Add(time.Hour),
	}}}
	says := func(s *policy.Snapshot, url string) policy.Verdict {
		return s.Decide(&policy.Work{}, &policy.Request{URL: weburl.MustParse(url)}, time.Now()).Verdict
	}
	state := draft.State(t, editions)
	assert.Same(t, state, state.With(&policy.Facts{}), "none cost nothing")
	with := state.With(facts)
	assert.Equal(t, []policy.Verdict{policy.Block, policy.Allow}, []policy.Verdict{says(state.Snapshot, "heron.example"), says(with.Snapshot, "heron.example")})
	assert.Same(t, with.Snapshot, draft.State(t, editions).With(facts).Snapshot, "the same beside the same is made once")
	other := *facts
	assert.NotSame(t, with.Snapshot, state.With(&other).Snapshot)

	h.Block(t, "tern.example")
	after := draft.State(t, editions).With(facts)
	require.NotSame(t, with.Snapshot, after.Snapshot)
	assert.Equal(t, []policy.Verdict{policy.Allow, policy.Block}, []policy.Verdict{says(after.Snapshot, "heron.example"), says(after.Snapshot, "tern.example")})
}

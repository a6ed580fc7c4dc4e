package trial_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/trial"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func (h house) editions() *edition.Editions {
	return edition.New(h.store, catalogue.NewCache(h.store, slog.New(slog.DiscardHandler)), time.UTC, func() time.Time { return noon })
}

func (h house) change(t testing.TB, changes ...revision.ObjectChange) []revision.Object {
	t.Helper()
	for _, c := range changes {
		if !c.Remove {
			require.NoError(t, c.Body.Check())
		}
	}
	made, err := h.store.Change(t.Context(), changes, access.Setup)
	require.NoError(t, err)
	return made
}

func (h house) state(t testing.TB, editions *edition.Editions) *edition.State {
	t.Helper()
	state, err := editions.Draft(t.Context())
	require.NoError(t, err)
	return state
}

func refs(ids ...uuid.UUID) []revision.Ref {
	all := []revision.Ref{}
	for _, id := range ids {
		all = append(all, revision.Ref{ID: id})
	}
	return all
}

// People are found by any of their names; an unknown or ambiguous name is an error.
func TestWho(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	nurses := h.change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}})[0]
	person := func(name, full string) revision.ObjectChange {
		return revision.ObjectChange{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{FullName: full, Groups: refs(nurses.ID)}}
	}
	made := h.change(t, person("kay", "Kay Moran"), person("kay2", "Kay Moran"), person("ola", "Ola Fenn"),
		revision.ObjectChange{Kind: revision.KindMachine, Name: "Kiosk", Body: &revision.MachineBody{Address: "10.40.9.7"}},
		revision.ObjectChange{Kind: revision.KindNetwork, Name: "Site", Body: &revision.NetworkBody{Ranges: []string{"10.40.0.0/16"}}})
	state := h.state(t, h.editions())
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

// Trials, matrices and sweeps agree.
func TestAllWaysAgree(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example", "tern.example/x")
	made := h.change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "Night", Body: &revision.GroupBody{}})
	night, err := h.store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: ptr("Nights"), Zone: ptr("UTC"), Text: ptr("mon-sun 20:00-07:30")}, access.Setup)
	require.NoError(t, err)
	rules := []revision.RuleBody{{Name: "Nights", When: &revision.WhenBody{Schedule: revision.Ref{ID: night.ID}, Outside: true}, If: &revision.Condition{Lists: refs(h.list.ID)}, Then: policy.Block}}
	h.change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "Night ward", Body: &revision.PolicyBody{Groups: refs(made[1].ID), Rules: rules, Otherwise: policy.Watch}})
	state := h.state(t, h.editions())
	urls := []string{"heron.example/a", "tern.example/x", "tern.example", "no url at all/", "gull.test"}
	var who []edition.Asker
	for _, name := range []string{"Nurses", "Night"} {
		asker, err := state.Who(name)
		require.NoError(t, err)
		who = append(who, asker)
	}
	for _, at := range []string{"12:00", "23:00", "2026-12-24 07:29", "2026-12-24 07:30"} {
		moment, err := state.Moment("at", at)
		require.NoError(t, err)
		for _, sight := range weburl.Sights {
			var columns []edition.Asked
			for _, asker := range who {
				columns = append(columns, asker.When(moment, edition.Setting{Sight: sight}))
			}
			cells, err := trial.Matrix(t.Context(), state, urls, columns)
			require.NoError(t, err)
			for j, name := range []string{"Nurses", "Night"} {
				answers, err := trial.Try(t.Context(), state, "", trial.Question{URLs: urls, Circumstances: edition.Circumstances{Who: &edition.Who{Name: name}, At: at, Setting: edition.Setting{Sight: sight}}, Outlook: true})
				require.NoError(t, err)
				for i, answer := range answers.Answers {
					if answer.Problem != "" {
						assert.True(t, cells[i][j].Problem)
						continue
					}
					assert.Equal(t, answer.Explanation.Decision, cells[i][j].Decision, "%s for %s at %s", urls[i], name, at)
					strip := trial.Sweep(state, weburl.MustParse(urls[i]), columns[j], moment.AddDate(0, 0, 7))
					assert.Equal(t, strip, answer.Outlook.Week)
					assert.Equal(t, answer.Verdict, strip[0].Decision.Verdict)
					if len(strip) > 1 {
						assert.True(t, answer.Outlook.Until.Equal(strip[1].From))
					} else {
						assert.Zero(t, answer.Outlook.Until)
					}
				}
			}
		}
	}
	_, err = state.Moment("at", "soon")
	assert.ErrorContains(t, err, "at: \"soon\" is no moment")
}

// A comparison finds the first difference between two trials.
func TestPartOf(t *testing.T) {
	step := func(rung policy.Rung, rule string, outcome policy.Outcome) policy.Step {
		return policy.Step{Rung: rung, Rule: rule, ID: rule, Outcome: outcome}
	}
	of := func(steps ...policy.Step) *policy.Explanation { return &policy.Explanation{Steps: steps} }
	one := of(step(policy.AtBaseline, "a", policy.NoMatch), step(policy.AtPolicy, "b", policy.Decided))
	assert.Nil(t, trial.PartOf(one, one))
	part := trial.PartOf(one, of(step(policy.AtBaseline, "a", policy.NoMatch), step(policy.AtPolicy, "b", policy.NotNow), step(policy.AtPolicy, "c", policy.Decided)))
	assert.Equal(t, []any{policy.AtPolicy, "b", "b"}, []any{part.Rung, part.A.Rule, part.B.Rule})
	part = trial.PartOf(one, of(step(policy.AtBaseline, "a", policy.NoMatch), step(policy.AtException, "x", policy.Decided)))
	assert.Equal(t, policy.AtException, part.Rung, "the higher of the two")
	part = trial.PartOf(one, of(step(policy.AtBaseline, "a", policy.NoMatch)))
	assert.Nil(t, part.B)
	assert.Equal(t, "b", part.A.Rule)
	part = trial.PartOf(of(), one)
	assert.Nil(t, part.A)
}

// After any edits of objects, editions that followed them give the same answers as new ones that read everything.
func TestFollowingObjectsIsReadingAnew(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example", "tern.example")
	random := rand.New(rand.NewPCG(3, 9))
	follower := h.editions()
	var groups, people, networks, policies, exceptions []revision.Object
	pick := func(all []revision.Object) []revision.Ref {
		if len(all) == 0 || random.IntN(3) == 0 {
			return refs()
		}
		return refs(all[random.IntN(len(all))].ID)
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
			made := h.change(t, c)[0]
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
			rules := []revision.RuleBody{{Name: "R", Off: random.IntN(3) == 0, If: &revision.Condition{Lists: refs(h.list.ID)}, Then: policy.Verdicts[random.IntN(4)]}}
			put(revision.KindPolicy, &policies, &revision.PolicyBody{Groups: pick(groups), Rules: rules, Otherwise: policy.Verdicts[random.IntN(4)]})
		case 5:
			put(revision.KindException, &exceptions, &revision.ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Everybody: random.IntN(4) == 0, Persons: pick(people), Groups: pick(groups), Addresses: []string{"10.40.3.3"}}})
		case 6:
			if len(exceptions) > 0 {
				h.change(t, revision.ObjectChange{Kind: revision.KindException, ID: exceptions[0].ID, Remove: true})
				exceptions = exceptions[1:]
			}
		}
		followed, anew := h.state(t, follower), h.state(t, h.editions())
		require.Equal(t, anew.DraftVersion, followed.DraftVersion)
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
			for i := range urls {
				require.Equal(t, b.Answers[i].Explanation, a.Answers[i].Explanation, "%+v", one)
			}
		}
	}
}

// While several clients edit people and exceptions, no trial fails, and each edit counts for the next trial of its client.
func TestTrialsGoOnDuringObjectEdits(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example")
	editions := h.editions()
	var all sync.WaitGroup
	for hand := range 4 {
		all.Go(func() {
			for i := range 8 {
				name := fmt.Sprintf("person-%d-%d", hand, i)
				made, err := h.store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{}}}, access.Setup)
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
				e := &revision.ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Persons: refs(made[0].ID)}}
				granted, err := h.store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindException, Name: name, Body: e}}, access.Setup)
				assert.NoError(t, err)
				assert.Equal(t, policy.Allow, ask())
				_, err = h.store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindException, ID: granted[0].ID, Remove: true}, {Kind: revision.KindPerson, ID: made[0].ID, Remove: true}}, access.Setup)
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	_, err := ask(t.Context(), editions, trial.Question{URLs: []string{"heron.example"}, Circumstances: edition.Circumstances{Who: &edition.Who{Person: "person-0-0"}}})
	assert.ErrorContains(t, err, `there is no person "person-0-0"`)
}

// The predicted effects of another way of combining agree with the effects; a page counts once, for however many people it turns.
func TestEffects(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example")
	groups := h.change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "A", Body: &revision.GroupBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "B", Body: &revision.GroupBody{}})
	person := func(name string, in ...uuid.UUID) revision.ObjectChange {
		return revision.ObjectChange{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{Groups: refs(in...)}}
	}
	h.change(t, person("both", groups[0].ID, groups[1].ID), person("also", groups[0].ID, groups[1].ID), person("one", groups[0].ID), person("none"))
	blocks := []revision.RuleBody{{Name: "No", If: &revision.Condition{Lists: refs(h.list.ID)}, Then: policy.Block}}
	h.change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "1 open", Body: &revision.PolicyBody{Groups: refs(groups[0].ID), Otherwise: policy.Allow}},
		revision.ObjectChange{Kind: revision.KindPolicy, Name: "2 strict", Body: &revision.PolicyBody{Groups: refs(groups[1].ID), Rules: blocks, Otherwise: policy.Watch}})
	pages := []weburl.URL{weburl.MustParse("heron.example/a"), weburl.MustParse("tern.example"), weburl.MustParse("heron.example/b")}
	told := func() string {
		e, err := trial.EffectsOf(t.Context(), h.state(t, h.editions()), pages, noon)
		require.NoError(t, err)
		assert.Equal(t, []int{2, 3}, []int{e.People, e.Pages})
		var all []string
		for _, way := range e.Ways {
			all = append(all, fmt.Sprint(way.Combining, " ", way.Opened, " ", way.Closed, " ", way.Examples))
		}
		return fmt.Sprint(all)
	}
	assert.Equal(t, "[position 0 0 [] strictest 0 2 [heron.example/a for also heron.example/b for also] loosest 0 0 []]", told(), "now by position")
	settings, err := h.store.Objects(t.Context(), revision.KindSettings)
	require.NoError(t, err)
	h.change(t, revision.ObjectChange{Kind: revision.KindSettings, ID: settings[0].ID, Name: "Settings", Body: &revision.SettingsBody{Combining: policy.Strictest}})
	assert.Equal(t, "[position 2 0 [heron.example/a for also heron.example/b for also] strictest 0 0 [] loosest 2 0 [heron.example/a for also heron.example/b for also]]", told())
}

// A trial at a lesser sight says what would decide at full sight; the outlook of a journey covers all its gates.
func TestJourneysAhead(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "lore.example")
	everybody := revision.WhomBody{Everybody: true}
	night, err := h.store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: ptr("Night"), Description: ptr(""), Zone: ptr("UTC"), Text: ptr("mon-sun 20:00-07:30")}, access.Setup)
	require.NoError(t, err)
	group := h.change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Screens", Body: &revision.GroupBody{Ranges: []string{"10.40.41.0/24"}}})[0]
	rule := revision.RuleBody{Name: "Not at night", Then: policy.Block, When: &revision.WhenBody{Schedule: revision.Ref{ID: night.ID}}, If: &revision.Condition{Lists: refs(h.list.ID)}}
	h.change(t,
		revision.ObjectChange{Kind: revision.KindPolicy, Name: "Screens", Body: &revision.PolicyBody{Groups: refs(group.ID), Otherwise: policy.Allow, Rules: []revision.RuleBody{rule}, Inspect: &revision.InspectionBody{All: true}}},
		revision.ObjectChange{Kind: revision.KindException, Name: "One page", Body: &revision.ExceptionBody{Entries: pattern.Keep("=lore.example/heart"), Then: policy.Allow, Reason: "Asked for", For: everybody}})
	state := h.state(t, h.editions())
	try := func(q trial.Question) trial.Answer {
		q.URLs, q.Who, q.Outlook = []string{"lore.example/heart"}, &edition.Who{Address: "10.40.41.9"}, true
		answers, err := trial.Try(t.Context(), state, "", q)
		require.NoError(t, err)
		return answers.Answers[0]
	}
	full := try(trial.Question{})
	assert.Equal(t, policy.Allow, full.Verdict)
	assert.True(t, full.Outlook.Until.IsZero(), "where everything is seen the page is allowed throughout")
	assert.Empty(t, full.FullBecause)

	way := try(trial.Question{Circumstances: edition.Circumstances{Setting: edition.Setting{Journey: true}}})
	assert.Equal(t, policy.Allow, way.Verdict)
	assert.Equal(t, noon.Add(8*time.Hour), way.Outlook.Until.UTC(), "at night the DNS gate does not resolve its name")
	require.GreaterOrEqual(t, len(way.Outlook.Week), 2)
	assert.Equal(t, policy.Block, way.Outlook.Week[1].Decision.Verdict)

	late := try(trial.Question{Circumstances: edition.Circumstances{At: "23:00", Setting: edition.Setting{Journey: true}}})
	assert.Equal(t, policy.Block, late.Verdict)
	assert.Equal(t, policy.SeesNoName, late.Journey.Sees)
	assert.Equal(t, policy.Allow, late.AtFull)
	assert.Equal(t, `The exception "One page" says allow for everybody, because it has the entry =lore.example/heart. Reason given: Asked for.`, late.FullBecause)
	// Many at once go the same way.
	who, err := state.Find("who", edition.Who{Address: "10.40.41.9"})
	require.NoError(t, err)
	at, err := state.Moment("at", "23:00")
	require.NoError(t, err)
	for journey, want := range map[bool]policy.Verdict{true: policy.Block, false: policy.Allow} {
		cells, err := trial.Matrix(t.Context(), state, []string{"lore.example/heart"}, []edition.Asked{who.When(at, edition.Setting{Journey: journey})})
		require.NoError(t, err)
		assert.Equal(t, want, cells[0][0].Decision.Verdict)
		strip := trial.Sweep(state, weburl.MustParse("lore.example/heart"), who.When(at, edition.Setting{Journey: journey}), at.Add(time.Hour))
		assert.Equal(t, want, strip[0].Decision.Verdict)
	}
	require.NotEmpty(t, late.Outlook.Flips)
	for _, f := range late.Outlook.Flips {
		assert.NotContains(t, f.Text, "this page (", "an exception for a page does not help where only the name is seen")
	}
	assert.Equal(t, "Allow this host (=lore.example) for the address 10.40.41.9", late.Outlook.Flips[0].Text)
}

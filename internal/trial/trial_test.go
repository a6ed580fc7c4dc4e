package trial_test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
	"widelark/internal/trial"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func atNoon() time.Time { return noon }

// ask tries a question on the draft as it is.
func ask(ctx context.Context, editions *edition.Editions, q trial.Question) (trial.Answers, error) {
	state, err := editions.Draft(ctx)
	if err != nil {
		return trial.Answers{}, err
	}
	return trial.Try(ctx, state, "", q)
}

func TestAnswers(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "# note", "heron.example", "*.heron.example")
	_, err := h.Store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindGroup, Name: "Everyone", Body: &revision.GroupBody{}}}, access.Setup)
	require.NoError(t, err)
	editions := draft.Editions(t, h.Store, time.UTC, time.Now)
	answers, err := ask(t.Context(), editions, trial.Question{URLs: []string{"www.heron.example", "gopher://x"}, Circumstances: edition.Circumstances{Who: &edition.Who{Group: "everyone"}}})
	require.NoError(t, err)
	d := answers.Answers[0].Explanation
	entries, _, err := h.Store.Entries(t.Context(), h.Betting.ID, revision.EntryQuery{Limit: 10})
	require.NoError(t, err)
	step := d.Steps[d.Decider]
	assert.Equal(t, entries[2].ID, step.Evidence[0].Entry.ID)
	assert.Equal(t, `"gopher:" is not a web address: only http and https are decided on`, answers.Answers[1].Problem)
	byID, err := ask(t.Context(), editions, trial.Question{URLs: []string{"x"}, Circumstances: edition.Circumstances{Who: &edition.Who{Group: answers.Asked.Who.Group.ID}}})
	require.NoError(t, err)
	assert.Equal(t, answers.Asked.Who, byID.Asked.Who)
	for field, c := range map[string]edition.Circumstances{
		"who.group": {Who: &edition.Who{Group: "Surgeons"}}, "who.person": {Who: &edition.Who{Person: "Nobody"}}, "who.address": {Who: &edition.Who{Address: "10.40"}}, "at": {At: "soon"},
	} {
		_, err = ask(t.Context(), editions, trial.Question{Circumstances: c})
		var wrong *revision.FieldError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, field, wrong.Field)
	}
}

// Trials, matrices and sweeps agree.
func TestAllWaysAgree(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example", "tern.example/x")
	made := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "Night", Body: &revision.GroupBody{}})
	night, err := h.Store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: new("Nights"), Zone: new("UTC"), Text: new("mon-sun 20:00-07:30")}, access.Setup)
	require.NoError(t, err)
	rules := []revision.RuleBody{{Name: "Nights", When: &revision.WhenBody{Schedule: revision.Ref{ID: night.ID}, Outside: true}, If: &revision.Condition{Lists: draft.Refs(h.Betting.ID)}, Then: policy.Block}}
	h.Change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "Night ward", Body: &revision.PolicyBody{Groups: draft.Refs(made[1].ID), Rules: rules, Otherwise: policy.Watch}})
	state := draft.State(t, draft.Editions(t, h.Store, time.UTC, atNoon))
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
	assert.ErrorContains(t, err, "at: \"soon\" is not a moment")
}

// A comparison finds the first difference between two trials.
func TestPartOf(t *testing.T) {
	step := func(rung policy.Rung, rule string, outcome policy.Outcome) policy.Step {
		return policy.Step{Rung: rung, Rule: rule, ID: rule, Outcome: outcome}
	}
	of := func(steps ...policy.Step) *policy.Explanation { return &policy.Explanation{Steps: steps} }
	one := of(step(policy.AtBaseline, "a", policy.NoMatch), step(policy.AtPolicy, "b", policy.Decided))
	assert.Nil(t, trial.PartOf(one, one))
	other := of(append([]policy.Step{}, one.Steps...)...)
	other.Steps[len(other.Steps)-1].Then = policy.Hold
	assert.Equal(t, policy.Hold, trial.PartOf(one, other).B.Then, "the same step says something else")
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

// The predicted effects of another way of combining agree with the effects; a page counts once, for however many people it turns.
func TestEffects(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "heron.example")
	groups := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "A", Body: &revision.GroupBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "B", Body: &revision.GroupBody{}})
	person := func(name string, in ...uuid.UUID) revision.ObjectChange {
		return revision.ObjectChange{Kind: revision.KindPerson, Name: name, Body: &revision.PersonBody{Groups: draft.Refs(in...)}}
	}
	h.Change(t, person("both", groups[0].ID, groups[1].ID), person("also", groups[0].ID, groups[1].ID), person("one", groups[0].ID), person("none"))
	blocks := []revision.RuleBody{{Name: "No", If: &revision.Condition{Lists: draft.Refs(h.Betting.ID)}, Then: policy.Block}}
	h.Change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "1 open", Body: &revision.PolicyBody{Groups: draft.Refs(groups[0].ID), Otherwise: policy.Allow}},
		revision.ObjectChange{Kind: revision.KindPolicy, Name: "2 strict", Body: &revision.PolicyBody{Groups: draft.Refs(groups[1].ID), Rules: blocks, Otherwise: policy.Watch}})
	pages := []weburl.URL{weburl.MustParse("heron.example/a"), weburl.MustParse("tern.example"), weburl.MustParse("heron.example/b")}
	told := func() string {
		e, err := trial.EffectsOf(t.Context(), draft.State(t, draft.Editions(t, h.Store, time.UTC, atNoon)), pages, noon)
		require.NoError(t, err)
		assert.Equal(t, []int{2, 3}, []int{e.People, e.Pages})
		var all []string
		for _, way := range e.Ways {
			all = append(all, fmt.Sprint(way.Combining, " ", way.Opened, " ", way.Closed, " ", way.Examples))
		}
		return fmt.Sprint(all)
	}
	assert.Equal(t, "[position 0 0 [] strictest 0 2 [heron.example/a for also heron.example/b for also] loosest 0 0 []]", told(), "now by position")
	settings, err := h.Store.Objects(t.Context(), revision.KindSettings)
	require.NoError(t, err)
	h.Change(t, revision.ObjectChange{Kind: revision.KindSettings, ID: settings[0].ID, Name: "Settings", Body: &revision.SettingsBody{Combining: policy.Strictest, Way: policy.ByBoth}})
	assert.Equal(t, "[position 2 0 [heron.example/a for also heron.example/b for also] strictest 0 0 [] loosest 2 0 [heron.example/a for also heron.example/b for also]]", told())
}

// A trial at a lesser sight says what would decide at full sight; the outlook of a journey covers all its gates.
func TestJourneysAhead(t *testing.T) {
	t.Parallel()
	h := draft.NewBlocked(t, server)
	h.Block(t, "lore.example")
	everybody := revision.WhomBody{Everybody: true}
	night, err := h.Store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: new("Night"), Description: new(""), Zone: new("UTC"), Text: new("mon-sun 20:00-07:30")}, access.Setup)
	require.NoError(t, err)
	group := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Screens", Body: &revision.GroupBody{Ranges: []string{"10.40.41.0/24"}}})[0]
	rule := revision.RuleBody{Name: "Not at night", Then: policy.Block, When: &revision.WhenBody{Schedule: revision.Ref{ID: night.ID}}, If: &revision.Condition{Lists: draft.Refs(h.Betting.ID)}}
	h.Change(t,
		revision.ObjectChange{Kind: revision.KindPolicy, Name: "Screens", Body: &revision.PolicyBody{Groups: draft.Refs(group.ID), Otherwise: policy.Allow, Rules: []revision.RuleBody{rule}, Inspect: &revision.InspectionBody{All: true}}},
		revision.ObjectChange{Kind: revision.KindException, Name: "One page", Body: &revision.ExceptionBody{Entries: pattern.Keep("=lore.example/heart"), Then: policy.Allow, Reason: "Asked for", For: everybody}})
	state := draft.State(t, draft.Editions(t, h.Store, time.UTC, atNoon))
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

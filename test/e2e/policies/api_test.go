package policies

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/test/e2e/house"
)

// The calls about people and policies refuse bad requests and name the field.
func TestDecideRefusals(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	house.Refuse(t, s, "$many", strings.Repeat(`"a.example",`, 20))
	kept, err := s.API(t).GetPoliciesWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, kept.JSON200.Items, 2, "nothing of what was refused is there")
}

// The API's answers hold a journey with its stops, an outlook with ready actions, and steps with their matches.
func TestTrialsThroughTheAPI(t *testing.T) {
	t.Parallel()
	s := house.HospitalAsLive(t)
	api, ctx := s.API(t), t.Context()
	yes := true
	name, at := "Kay Moran", "2026-11-24 12:45"
	ask := func(body client.TrialsInputBody) client.TrialsOutputBody {
		t.Helper()
		got, err := api.TryUrlsWithResponse(ctx, body)
		require.NoError(t, err)
		return *got.JSON200
	}
	got := ask(client.TrialsInputBody{Urls: []string{"harbour-news.example/puzzles"}, Who: &client.Who{Name: &name}, At: &at, Journey: &yes, Outlook: &yes})
	trial := got.Trials[0]
	assert.Equal(t, "Kay Moran", got.Who.Name)
	assert.Equal(t, "2026-11-24T12:45:00Z", got.At.Format(time.RFC3339))
	assert.EqualValues(t, "block", *trial.Verdict)
	assert.EqualValues(t, "the block page", *trial.Sees, "the news are not games at the name, and the connection is opened")
	require.Len(t, *trial.Stops, 2)
	dns, proxy := (*trial.Stops)[0], (*trial.Stops)[1]
	assert.Equal(t, []string{"dns", "name", "allow", "proxy", "full", "block"}, []string{string(dns.Gate), string(dns.Sight), string(dns.Verdict), string(proxy.Gate), string(proxy.Sight), string(proxy.Verdict)})
	assert.True(t, *proxy.Opened)
	assert.Equal(t, []string{"Night ward", "Ward nurses"}, []string{*trial.Belongs.Groups[0].Name, *trial.Belongs.Groups[1].Name})
	assert.EqualValues(t, "Not before", *trial.Decider.Rule)
	assert.EqualValues(t, "Games", trial.Decider.Category.Name)
	outcomes := map[string]int{}
	for _, step := range *trial.Steps {
		outcomes[step.Outcome]++
		if step.Outcome == "not now" {
			assert.NotNil(t, step.Next)
			assert.NotEmpty(t, *step.When)
		}
	}
	assert.Equal(t, 1, outcomes["decided"])
	assert.Equal(t, 1, outcomes["outweighed"])
	assert.NotZero(t, outcomes["not now"])

	// Every proposed exception is ready to be sent back, and turns the verdict round.
	require.NotNil(t, trial.Outlook.Until)
	assert.Equal(t, trial.Outlook.Week[0].To, *trial.Outlook.Until)
	for _, flip := range trial.Outlook.Flips {
		if flip.Kind != "add exception" {
			continue
		}
		made, err := api.AddExceptionWithResponse(ctx, client.ExceptionInput{Entries: []string{*flip.Pattern}, For: *flip.For, Then: "allow", Reason: "Tried"})
		require.NoError(t, err, flip.Text)
		again := ask(client.TrialsInputBody{Urls: []string{"harbour-news.example/puzzles"}, Who: &client.Who{Name: &name}, At: &at, Journey: &yes})
		assert.EqualValues(t, flip.Verdict, *again.Trials[0].Verdict, flip.Text)
		assert.EqualValues(t, "exception", again.Trials[0].Decider.Rung)
		any := "*"
		_, err = api.RemoveExceptionWithResponse(ctx, made.JSON201.ID, &client.RemoveExceptionParams{IfMatch: &any})
		require.NoError(t, err)
	}
	assert.Equal(t, got.Trials[0].Verdict, ask(client.TrialsInputBody{Urls: []string{"harbour-news.example/puzzles"}, Who: &client.Who{Name: &name}, At: &at, Journey: &yes}).Trials[0].Verdict)

	// Brief answers have the verdict and no more.
	brief := ask(client.TrialsInputBody{Urls: []string{"harbour-news.example/puzzles", "no url at all/"}, Brief: &yes})
	assert.Nil(t, brief.Trials[0].Steps)
	assert.Nil(t, brief.Trials[0].Class)
	assert.NotEmpty(t, *brief.Trials[0].Because)
	assert.NotEmpty(t, *brief.Trials[1].Problem)
	assert.Equal(t, "somebody unknown", brief.Who.Name)

	// Uploads: the method, the app and what is done with it.
	research, post := "Research library", "POST"
	for url, want := range map[string]string{"http://sharebay.example/up/x": "block", "http://sharebay.example/get/x": "watch"} {
		answer := ask(client.TrialsInputBody{Urls: []string{url}, Who: &client.Who{Group: &research}, Method: &post})
		assert.EqualValues(t, want, *answer.Trials[0].Verdict, url)
	}
	// Safe search and a cap are shown as what the page is bound to.
	visitors := "Visitors"
	found, err := api.GetPoliciesWithResponse(ctx, nil)
	require.NoError(t, err)
	names := []string{}
	for _, p := range found.JSON200.Items {
		names = append(names, p.Name)
		assert.Len(t, p.Sentences, len(p.Rules))
	}
	assert.Equal(t, []string{"Baseline", "Ward floor", "Night ward", "Bedside screens", "Visitors", "Trainees", "Offices", "Research", "IT workshop", "Fallback"}, names, "in their order")
	_, err = api.CorrectWithResponse(ctx, client.CorrectInputBody{Entries: []string{"find.example"}, Categories: []string{"search"}, Reason: "for the test"})
	require.NoError(t, err)
	bound := ask(client.TrialsInputBody{Urls: []string{"find.example"}, Who: &client.Who{Group: &visitors}, Journey: &yes})
	assert.Equal(t, "safe search and at most 200 MB", *bound.Trials[0].Provisos)
	assert.Equal(t, "safe search and at most 200 MB", *bound.Trials[0].NotHeld, "visitors meet the DNS gate alone")
	assert.EqualValues(t, "the page", *bound.Trials[0].Sees)
	trainees := "Trainees"
	searched := ask(client.TrialsInputBody{Urls: []string{"find.example/?q=exam+answers", "find.example/?q=exam", "find.example/exam-answers"}, Who: &client.Who{Group: &trainees}, At: &at})
	assert.EqualValues(t, "Answers for sale", *searched.Trials[0].Decider.Rule)
	assert.EqualValues(t, "Search, made safe", *searched.Trials[1].Decider.Rule)
	assert.EqualValues(t, "Search, made safe", *searched.Trials[2].Decider.Rule, "only what is searched for counts")

	var uses struct {
		Uses []struct{ Name string }
	}
	schedules, err := api.GetSchedulesWithResponse(ctx)
	require.NoError(t, err)
	for _, sc := range schedules.JSON200.Schedules {
		if sc.Name == "Meal breaks" {
			res := s.Request(t, "GET", "/api/v1/uses?kind=schedule&id="+sc.ID.String(), "", map[string]string{"Authorization": "Bearer " + s.Token(t)})
			require.NoError(t, json.NewDecoder(res.Body).Decode(&uses))
			assert.Equal(t, "Ward floor", uses.Uses[0].Name)
			assert.Len(t, sc.UsedBy, 4, "a policy and three expectations")
		}
	}
	// What a rule would do is said before it is kept, and what is wrong with it.
	lists := []client.Ref{}
	explained, err := api.ExplainRulesWithResponse(ctx, client.ExplainRulesInputBody{Rules: []client.RuleBody{
		{Name: "a", Then: "block", If: &client.Condition{Categories: &[]string{"leisure"}}}, {Name: "b", Then: "allow", If: &client.Condition{Lists: &lists}},
	}})
	require.NoError(t, err)
	assert.Equal(t, []string{"Block what is Leisure.", ""}, explained.JSON200.Sentences)
	assert.Equal(t, []string{"", "if: a condition that names nothing never holds: name at least one"}, explained.JSON200.Problems)
}

// One call returns the uses of an object, whether by its id or by its key.
func TestUsesThroughTheAPI(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api, ctx := s.API(t), t.Context()
	s.Run(t, "", "app", "new", "Sharebay", "sharebay.example", "--activity", "upload:POST:/up").Done(t)
	s.Run(t, "", "network", "new", "Wards", "10.40.10.0/23").Done(t)
	s.Run(t, "", "group", "new", "Nurses", "--network", "Wards").Done(t)
	s.Run(t, "", "policy", "new", "Floor", "--for", "Nurses").Done(t)
	uses := func(kind client.GetUsesParamsKind, id uuid.UUID) (names []string) {
		got, err := api.GetUsesWithResponse(ctx, &client.GetUsesParams{Kind: kind, ID: id})
		require.NoError(t, err)
		for _, use := range got.JSON200.Uses {
			names = append(names, use.Kind+" "+use.Name)
		}
		return names
	}
	apps, err := api.GetAppsWithResponse(ctx, nil)
	require.NoError(t, err)
	app := apps.JSON200.Items[0]
	assert.Empty(t, uses("app", app.ID))
	s.Run(t, "", "policy", "rule", "add", "Floor", "No uploads", "--then", "block", "--app", "sharebay/upload").Done(t)
	assert.Equal(t, []string{"policy Floor"}, uses("app", app.ID))
	networks, err := api.GetNetworksWithResponse(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"group Nurses"}, uses("network", networks.JSON200.Items[0].ID))
	list, err := api.CreateListWithResponse(ctx, client.NewListInputBody{Name: "Copies"})
	require.NoError(t, err)
	own, err := api.CreateCategoryWithResponse(ctx, client.NewCategoryInputBody{Name: "Mirrors", Lists: []uuid.UUID{list.JSON201.ID}})
	require.NoError(t, err)
	assert.Empty(t, uses("category", own.JSON201.Own.ID))
	s.Run(t, "", "policy", "rule", "add", "Floor", "No mirrors", "--then", "block", "--category", own.JSON201.Key).Done(t)
	assert.Equal(t, []string{"policy Floor"}, uses("category", own.JSON201.Own.ID))
	assert.Contains(t, s.Run(t, "", "category", "remove", "Mirrors").Err, `it is used by the policy "Floor"`)
	assert.Contains(t, s.Run(t, "", "app", "remove", "Sharebay").Err, `it is used by the policy "Floor"`)

	who, err := api.WhoAmIWithResponse(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Europe/London", who.JSON200.Zone)
	assert.Equal(t, []client.Role{{Role: "owner"}}, who.JSON200.Account.Roles)
}

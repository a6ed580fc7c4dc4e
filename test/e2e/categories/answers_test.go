package categories

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// changing matches moments and ids, which change from run to run.
var changing = regexp.MustCompile(`\d{4}-\d\d-\d\d( \d\d:\d\d|T[0-9:.]+(Z|[+-]\d\d:\d\d))?|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f-]{22}|[A-Za-z0-9+/]{43}=`)

func steady(text string) string { return changing.ReplaceAllString(text, "…") }

// The command line's answers about categories of URLs match the golden texts.
func TestLookupOutput(t *testing.T) {
	t.Parallel()
	s, _ := house.Housed(t)
	run := func(args ...string) string { return steady(s.Run(t, "", args...).Done(t)) }
	s.Run(t, "", "list", "new", "Plays").Done(t)
	s.Run(t, "", "list", "add", "Plays", "heron.example/play", "! heron.example/play/adults").Done(t)
	s.Run(t, "", "category", "new", "Board games", "--list", "Plays", "--adds").Done(t)
	s.Run(t, "", "category", "correct", "=tern.example", "news", "--why", "It is a paper").Done(t)
	assert.Equal(t, `https://www.heron.example/play/chess
  Our own › Board games
  Leisure › Games

  because
  catalogue      heron.example                       Games  (Harbour, version 1)
  own category   heron.example/play                  Board games  (list Plays)

  places above
  heron.example/                              Games  by heron.example
  www.heron.example/                          Games  by heron.example
  www.heron.example/play                      Board games, Games  by heron.example
  www.heron.example/play/chess                Board games, Games  by heron.example

  what packs said
  from …  Games  by heron.example  (Harbour, version 1)

  wrong? widelark category correct www.heron.example/play/chess CATEGORY --why REASON
`, run("lookup", "www.heron.example/play/chess"))
	assert.Equal(t, `https://snare.example/
  Dangers › Malware  (security)

  because
  catalogue      snare.example                       Malware  (Harbour, version 1)

  what packs said
  from …  Malware  by snare.example  (Harbour, version 1)

  wrong? widelark category correct snare.example CATEGORY --why REASON
`, run("lookup", "snare.example"))
	assert.Equal(t, `https://heron.example/
  Leisure › Games

  because
  catalogue      heron.example                       Games  (Harbour, version 1)

  could say otherwise where the whole URL is seen
  own category   heron.example/play                  Board games  (list Plays)
  catalogue      heron.example/news                  News  (Harbour, version 1)

  what packs said
  from …  Games  by heron.example  (Harbour, version 1)

  wrong? widelark category correct heron.example CATEGORY --why REASON
`, run("lookup", "--sight", "tunnel", "heron.example"))
	assert.Equal(t, `URL,Categories,Says who,Entry,Pack or list
https://heron.example/play/adults,Games,catalogue,heron.example,"Harbour, version 1"
https://tern.example/,News,correction,'=tern.example,correction
https://www.tern.example/,unrated,,,
not a url,no URL,,,blanks stand in the middle of it
`, strings.Replace(run("lookup", "-o", "csv", "heron.example/play/adults", "tern.example", "www.tern.example", "not a url"), problemOf(t, s, "not a url"), "blanks stand in the middle of it", 1))
	assert.Contains(t, run("lookup", "nobody.example"), "https://nobody.example/\n  unrated: nothing says what it is\n")
	assert.Contains(t, run("lookup", "heron.example", "-o", "yaml"), "- class:\n    by: catalogue\n    categories:\n      - family: Leisure\n        key: games\n")
	assert.Equal(t, 2, s.Run(t, "", "lookup").Code)
	assert.Equal(t, 2, s.Run(t, "", "lookup", "a.example", "--file", "x").Code)
	assert.Equal(t, 2, s.Run(t, "", "lookup", "a.example", "-o", "sheet").Code)
}

// problemOf returns the service's problem for a text that is not a URL.
func problemOf(t *testing.T, s *testkit.Service, text string) string {
	t.Helper()
	answer, err := s.API(t).LookupUrlsWithResponse(t.Context(), client.LookupsInputBody{Urls: []string{text}})
	require.NoError(t, err)
	require.NotNil(t, answer.JSON200.Lookups[0].Problem)
	return *answer.JSON200.Lookups[0].Problem
}

// The command line's answers about packs match the golden texts.
func TestPackOutput(t *testing.T) {
	t.Parallel()
	s, _ := house.Housed(t)
	run := func(args ...string) string { return steady(s.Run(t, "", args...).Done(t)) }
	assert.Equal(t, `Rank,Pack,Version,Sites,Of,Next pull,Last,What happened
1,Harbour,1,4,…,by hand,waits,"Version 2: 1 sites came, 1 moved, 1 went. It waits until somebody accepts it."
`, run("pack", "ls", "-o", "csv"))
	assert.Equal(t, `Harbour, state 1 to state 2: 1 come, 1 move, 1 go.

Of what was asked for, 1 host with 40 requests change category:

Requests  Asked for               Was    Becomes
──────────────────────────────────────────────────
      40  www.heron.example/play  Games  Video

Sites:
Entry               Was    Becomes
────────────────────────────────────
heron.example       Games  Video
heron.example/news  News
tern.example               Chat
`, run("pack", "changes", "Harbour"))
	assert.Equal(t, "Entry,Was,Becomes\nheron.example,Video,Games\nheron.example/news,,News\ntern.example,Chat,\n", run("pack", "changes", "Harbour", "--from", "2", "--to", "1", "-o", "csv"))
	assert.Contains(t, run("pack", "changes", "Harbour", "--limit", "1"), "More: widelark pack changes \"Harbour\" --from 1 --to 2 --after heron.example --limit 1")
	assert.Equal(t, "Entry,Was,Becomes\ntern.example,,Chat\n", run("pack", "changes", "Harbour", "--after", "heron.example/news", "-o", "csv"))
	history := run("pack", "history", "Harbour", "-o", "csv")
	assert.Equal(t, "When,Who,What,State,Version,Sites,Came,Moved,Went\n…,subscription,held,2,2,4,1,1,1\n…,subscription,in force,1,1,4,4,0,0\n", history)
	var packs []client.Pack
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", "pack", "ls", "-o", "json").Done(t)), &packs))
	require.NotNil(t, packs[0].Waiting)
	assert.EqualValues(t, 2, packs[0].Waiting.Version)
	assert.Nil(t, packs[0].NextAt, "it is paused")
	assert.Equal(t, "Word", strings.Split(s.Run(t, "", "scorecard", "ls", "-o", "csv").Done(t), ",")[3][:4])
	assert.Contains(t, run("category", "find", "nothing like it"), "No category is about that.")
	assert.Contains(t, run("scorecard", "try", "x"), "There are no scorecards.")
	assert.Contains(t, run("category", "corrections"), "There are no corrections.")
}

// The API's answers follow the contract, and edits need the version that was seen.
func TestClassificationAnswers(t *testing.T) {
	t.Parallel()
	s, _ := house.Housed(t)
	api, ctx := s.API(t), t.Context()
	list, err := api.CreateListWithResponse(ctx, client.NewListInputBody{Name: "Plays"})
	require.NoError(t, err)
	made, err := api.CreateCategoryWithResponse(ctx, client.NewCategoryInputBody{Name: "Board games", Lists: []uuid.UUID{list.JSON201.ID}})
	require.NoError(t, err)
	own := made.JSON201.Own
	assert.Equal(t, house.Match(own.Version), made.HTTPResponse.Header.Get("ETag"))
	assert.Equal(t, []string{"board-games", "our-own"}, []string{made.JSON201.Key, made.JSON201.Family})
	name, family := "Chess", "leisure"
	stale := house.Match(own.Version)
	edited, err := api.EditCategoryWithResponse(ctx, own.ID, &client.EditCategoryParams{IfMatch: &stale}, client.EditCategoryInputBody{Name: &name, Family: &family})
	require.NoError(t, err)
	assert.Equal(t, []string{"board-games", "Chess", "leisure"}, []string{edited.JSON200.Key, edited.JSON200.Name, edited.JSON200.Family}, "the key stays")
	_, err = api.EditCategoryWithResponse(ctx, own.ID, &client.EditCategoryParams{IfMatch: &stale}, client.EditCategoryInputBody{Name: &name})
	assert.ErrorContains(t, err, "Somebody else changed this")
	_, err = api.DeleteCategoryWithResponse(ctx, own.ID, &client.DeleteCategoryParams{IfMatch: &stale})
	assert.ErrorContains(t, err, "Somebody else changed this")

	terms := []client.Term{{Word: "odds", Points: 60}}
	card, err := api.CreateScorecardWithResponse(ctx, client.NewScorecardInputBody{Name: "Betting", Category: "betting", Threshold: 50, Terms: terms})
	require.NoError(t, err)
	seenVersion := house.Match(card.JSON201.Version)
	threshold := int64(70)
	_, err = api.EditScorecardWithResponse(ctx, card.JSON201.ID, &client.EditScorecardParams{IfMatch: &seenVersion}, client.EditScorecardInputBody{Threshold: &threshold})
	require.NoError(t, err)
	_, err = api.EditScorecardWithResponse(ctx, card.JSON201.ID, &client.EditScorecardParams{IfMatch: &seenVersion}, client.EditScorecardInputBody{Threshold: &threshold})
	assert.ErrorContains(t, err, "Somebody else changed this")
	_, err = api.CreateScorecardWithResponse(ctx, client.NewScorecardInputBody{Name: "betting", Category: "betting", Threshold: 50, Terms: terms})
	assert.ErrorContains(t, err, "the name is taken")
	scored, err := api.ScoreTextWithResponse(ctx, client.ScoreInputBody{Text: "what are the odds"})
	require.NoError(t, err)
	assert.Equal(t, []any{int64(60), int64(70), false, false}, []any{scored.JSON200.Scores[0].Total, scored.JSON200.Scores[0].Threshold, scored.JSON200.Scores[0].Reached, scored.JSON200.IsURL})

	// Pages by their cursors.
	for _, entry := range []string{"a.example", "b.example", "c.example"} {
		_, err := api.CorrectWithResponse(ctx, client.CorrectInputBody{Entries: []string{entry}, Categories: []string{"news", "chat", "news"}, Reason: "x"})
		require.NoError(t, err)
	}
	limit := int64(2)
	first, err := api.GetCorrectionsWithResponse(ctx, &client.GetCorrectionsParams{Limit: &limit})
	require.NoError(t, err)
	assert.EqualValues(t, 3, first.JSON200.Total)
	assert.Equal(t, []string{"chat", "news"}, first.JSON200.Corrections[0].Categories, "each once, in order")
	second, err := api.GetCorrectionsWithResponse(ctx, &client.GetCorrectionsParams{Limit: &limit, After: first.JSON200.Next})
	require.NoError(t, err)
	assert.Equal(t, "c.example", second.JSON200.Corrections[0].Entry)
	assert.Nil(t, second.JSON200.Next)
	one := int64(1)
	var entries []string
	for params := (&client.GetCategorySitesParams{Limit: &one}); ; {
		page, err := api.GetCategorySitesWithResponse(ctx, "sensitive", params)
		require.NoError(t, err)
		for _, site := range page.JSON200.Sites {
			entries = append(entries, site.Entry+" "+strings.Join(site.Categories, " ")+" "+site.Pack)
		}
		if params.After = page.JSON200.Next; params.After == nil {
			break
		}
	}
	assert.Equal(t, []string{"marrow-trust.test adult Harbour"}, entries)
	text := "spir"
	none, err := api.GetCategorySitesWithResponse(ctx, "games", &client.GetCategorySitesParams{Text: &text})
	require.NoError(t, err)
	assert.Empty(t, none.JSON200.Sites)

	tree, err := api.GetCategoriesWithResponse(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, client.Traffic{Requests: 60, Hosts: 4}, tree.JSON200.Total)
	assert.Equal(t, client.Traffic{Requests: 8, Hosts: 2}, tree.JSON200.Unrated)
	for _, f := range tree.JSON200.Families {
		assert.Equal(t, f.Key == "dangers", f.Security, f.Key)
	}
	keys, err := api.GetPackKeysWithResponse(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Harbour office", keys.JSON200.Keys[0].Name)
}

// A pack is pulled by itself when it is due, once, and shows when it is due next.
func TestPacksArePulledOnTime(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	m := house.NewMaker(t, s)
	file, err := os.ReadFile(m.Build(t, "heron.example,games"))
	require.NoError(t, err)
	var asked atomic.Int64
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Header().Set("ETag", `"1"`)
		_, _ = w.Write(file)
	}))
	t.Cleanup(web.Close)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour", web.URL+"/x.larkpack").Done(t)
	require.NoError(t, s.Stop())
	s.Start(t) // at its start a service looks at once what is due
	var p client.Pack
	require.Eventually(t, func() bool {
		found, err := s.API(t).GetPacksWithResponse(t.Context())
		if err != nil {
			return false
		}
		p = found.JSON200.Packs[0]
		return p.Result != nil
	}, testkit.Patience, testkit.Look)
	assert.Equal(t, client.PackResultChanged, *p.Result)
	assert.EqualValues(t, 1, p.InForce.Version)
	require.NotNil(t, p.NextAt)
	assert.Greater(t, p.NextAt.Sub(*p.TriedAt).Hours(), 23.0)
	assert.EqualValues(t, 1, asked.Load())
	assert.Contains(t, s.Run(t, "", "lookup", "heron.example").Done(t), "Leisure › Games")
}

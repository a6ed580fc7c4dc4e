package accounts

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// A lead puts the groups that are led on lists that are for it, and reaches neither other groups nor other lists, also by hand-made requests.
func TestStints(t *testing.T) {
	t.Parallel()
	s := ward(t)
	owner := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	owner("list", "edit", "Dosage", "--for-stints")
	owner("group", "new", "Part")
	owner("person", "new", "wren.hollis", "--full-name", "Wren Hollis", "--in", "Part")
	owner("group", "edit", "Wards", "--group", "Part")
	owner("list", "add", "Dosage", "dosage.example/tables")
	owner("schedule", "new", "Always", "mon-sun 00:00-24:00")
	owner("schedule", "new", "Never", "on 2019-01-01 00:00-01:00")
	owner("publish", "--note", "for leads")
	sedge, holm := as(t, s, "sedge", "lead", "--group", "Wards"), as(t, s, "holm", "lead", "--group", "Wards")
	part := as(t, s, "part", "lead", "--group", "Part")
	run := func(args ...string) string { return sedge.Run(t, "", args...).Done(t) }
	refused := func(who *testkit.Service, args ...string) string {
		ran := who.Run(t, "", args...)
		assert.NotZero(t, ran.Code, "%v: %s", args, ran.Out)
		return ran.Err
	}

	choices := run("stint", "choices")
	for _, shown := range []string{"Wards", "2 people", "Part", "Dosage"} {
		assert.Contains(t, choices, shown)
	}
	for _, hidden := range []string{"Research", "Everywhere", "Betting"} {
		assert.NotContains(t, choices, hidden)
	}
	assert.NotContains(t, part.Run(t, "", "stint", "choices").Done(t), "Wards")
	assert.Contains(t, refused(sedge, "stint", "begin", "Research", "--pause", "--for", "5m"), `you lead no group "Research"`)
	assert.Contains(t, refused(sedge, "stint", "begin", "Wards", "--only", "Betting", "--for", "5m"), "marked for stints")
	assert.Contains(t, refused(sedge, "stint", "begin", "Wards", "--only", "Dosage"), "say when")
	assert.Contains(t, refused(sedge, "stint", "begin", "Wards", "--only", "Dosage", "--for", "25h"), "expected number <= 1440")
	assert.Contains(t, refused(sedge, "stint", "begin", "Wards", "--only", "Dosage", "--for", "5m", "--person", "petra.elver"), "petra.elver")

	// By hand.
	ids := map[string]uuid.UUID{}
	groups, err := s.API(t).GetGroupsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	for _, g := range groups.JSON200.Items {
		ids[g.Name] = g.ID
	}
	lists, err := s.API(t).GetListsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	for _, l := range lists.JSON200.Lists {
		ids[l.Name] = l.ID
	}
	people, err := s.API(t).GetPeopleWithResponse(t.Context(), nil)
	require.NoError(t, err)
	for _, p := range people.JSON200.Items {
		ids[p.Name] = p.ID
	}
	byHand := func(who *testkit.Service, method, path string, body map[string]any) (int, map[string]any) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		res := s.Request(t, method, "/api/v1"+path, string(text), map[string]string{"Content-Type": "application/json", "Authorization": "Bearer " + who.Token(t)})
		answer := map[string]any{}
		_ = json.NewDecoder(res.Body).Decode(&answer)
		return res.StatusCode, answer
	}
	begin := func(who *testkit.Service, body map[string]any) int {
		status, _ := byHand(who, "POST", "/stints", body)
		return status
	}
	for _, group := range []string{"Research", "Everywhere", "Night"} {
		body := map[string]any{"group": ids[group], "kind": "nothing", "minutes": 5}
		assert.Equal(t, 403, begin(sedge, body), group)
		status, _ := byHand(sedge, "POST", "/stints/preview", body)
		assert.Equal(t, 403, status, group)
		status, _ = byHand(sedge, "POST", "/group-lists", map[string]any{"group": ids[group], "name": "Mine", "entries": []string{"tern.example"}})
		assert.Equal(t, 403, status, group)
	}
	assert.Equal(t, 403, begin(part, map[string]any{"group": ids["Wards"], "kind": "nothing", "minutes": 5}), "who leads a part does not lead the whole")
	assert.Equal(t, 403, begin(sedge, map[string]any{"group": uuid.New(), "kind": "nothing", "minutes": 5}))
	assert.Equal(t, 422, begin(sedge, map[string]any{"group": ids["Wards"], "kind": "only", "lists": []any{ids["Betting"]}, "minutes": 5}))
	for _, kind := range []string{"only", "but"} {
		status, said := byHand(sedge, "POST", "/stints/preview", map[string]any{"group": ids["Wards"], "kind": kind, "lists": []any{ids["Betting"]}, "minutes": 5})
		assert.Equal(t, 422, status)
		assert.NotContains(t, fmt.Sprint(said), "oddsfield", "a preview tells nothing of lists that are not for stints")
	}
	assert.Equal(t, 422, begin(sedge, map[string]any{"group": ids["Wards"], "kind": "nothing", "people": []any{ids["petra.elver"]}, "minutes": 5}))
	assert.Equal(t, 422, begin(sedge, map[string]any{"group": ids["Wards"], "kind": "nothing", "lists": []any{ids["Dosage"]}, "minutes": 5}))
	assert.Equal(t, 422, begin(sedge, map[string]any{"group": ids["Wards"], "kind": "nothing", "minutes": 5, "until": time.Now().Add(time.Hour)}))

	// The preview says what stands above, and what pages need.
	owner("exception", "new", "--name", "Never that page", "dosage.example/tables", "--block", "--group", "Wards", "--why", "It is out of date")
	owner("policy", "rule", "add", "Baseline", "No traps", "--list", "Betting", "--then", "block")
	owner("publish", "--note", "above")
	var records []client.RecordedInput
	for i := range 30 {
		who, at := "kay.moran", time.Now().Add(-time.Duration(i+1)*10*time.Minute)
		if i%2 == 1 {
			who = "wren.hollis"
		}
		for n, url := range []string{"https://dosage.example/", "https://login.harbour.example/start", "https://pictures.test/a.png"} {
			records = append(records, client.RecordedInput{At: at.Add(time.Duration(n) * 300 * time.Millisecond), URL: url, Person: &who})
		}
	}
	_, err = s.API(t).AddRecordedWithResponse(t.Context(), client.AddRecordedInputBody{Records: records})
	require.NoError(t, err)
	preview := run("stint", "begin", "Wards", "--only", "Dosage", "--for", "30m", "--preview")
	for _, said := range []string{"2 people of Wards", `baseline "No traps": block`, `exception "Never that page": block`, "dosage.example/tables: block"} {
		assert.Contains(t, preview, said)
	}
	require.Eventually(t, func() bool {
		preview = run("stint", "begin", "Wards", "--only", "Dosage", "--for", "30m", "--preview")
		return strings.Contains(preview, "pictures.test")
	}, testkit.Patience, testkit.Look)
	assert.Regexp(t, `login\.harbour\.example, .*people sign in there`, preview)
	assert.NotContains(t, run("stint", "ls"), "Wards", "nothing began")

	// One for a group; handed over plainly; ended early.
	run("stint", "begin", "Wards", "--only", "Dosage", "--for", "30m", "--why", "Drug rounds")
	assert.Contains(t, refused(holm, "stint", "begin", "Wards", "--pause", "--for", "5m"), "on a stint of sedge until")
	assert.Contains(t, holm.Run(t, "", "stint", "take", "Wards").Done(t), "yours now; it was sedge's")
	assert.Contains(t, run("stint", "ls"), "holm")
	assert.Contains(t, run("try", "oddsfield.example", "--as", "kay.moran", "--on", "live"), "block")
	assert.Contains(t, part.Run(t, "", "stint", "end", "Part").Err, "on no stint", "the whole's stint is not the part's")
	stints, err := s.API(t).GetStintsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	id := stints.JSON200.Stints[0].ID
	for path, method := range map[string]string{"": "DELETE", "/taking": "POST", "/done": "PUT"} {
		status, _ := byHand(part, method, "/stints/"+id.String()+path, map[string]any{"person": ids["wren.hollis"], "done": true})
		assert.Equal(t, 403, status, path)
	}
	run("stint", "done", "Wards", "kay.moran")
	assert.Contains(t, run("stint", "ls"), "over for Kay Moran")
	run("stint", "end", "Wards")
	assert.Contains(t, run("stint", "ls", "--over"), "over")
	status, _ := byHand(sedge, "PUT", "/stints/"+id.String()+"/done", map[string]any{"person": ids["kay.moran"], "done": false})
	assert.Equal(t, 422, status, "it is over")

	// With a window of a schedule; of many at once, one begins.
	assert.Contains(t, refused(sedge, "stint", "begin", "Wards", "--pause", "--with-window", "Never"), "no window")
	var hands sync.WaitGroup
	var mu sync.Mutex
	counts := map[int]int{}
	for i := range 6 {
		who := []*testkit.Service{sedge, holm}[i%2]
		hands.Go(func() {
			status := begin(who, map[string]any{"group": ids["Wards"], "kind": "nothing", "minutes": 5})
			mu.Lock()
			defer mu.Unlock()
			counts[status]++
		})
	}
	hands.Wait()
	assert.Equal(t, map[int]int{201: 1, 409: 5}, counts)
	run("stint", "end", "Wards")

	// Own lists have limits, and are shared with other leads of the group.
	run("stint", "own", "put", "Wards", "Rounds", "tern.example", "gull.example/tides")
	assert.Contains(t, holm.Run(t, "", "stint", "own", "ls").Done(t), "Rounds")
	assert.NotContains(t, part.Run(t, "", "stint", "own", "ls").Done(t), "Rounds")
	assert.Contains(t, refused(sedge, "stint", "own", "put", "Wards", "Odd", "!tern.example"), "no carve-outs")
	many := []string{"stint", "own", "put", "Wards", "Many"}
	for i := range 201 {
		many = append(many, fmt.Sprintf("tern-%d.example", i))
	}
	assert.NotEmpty(t, refused(sedge, many...))
	for i := range 19 {
		run("stint", "own", "put", "Wards", fmt.Sprint("List ", i), "tern.example")
	}
	assert.Contains(t, refused(sedge, "stint", "own", "put", "Wards", "One too many", "tern.example"), "at most 20")
	run("stint", "own", "remove", "Wards", "Rounds")
	assert.Contains(t, owner("audit"), "stint taken over")
}

// In the console, a lead begins a stint, sees it run, ends it for somebody, and hands it over.
func TestConsoleStint(t *testing.T) {
	t.Parallel()
	s := ward(t)
	s.Run(t, "", "list", "edit", "Dosage", "--for-stints").Done(t)
	sedge := as(t, s, "sedge", "lead", "--group", "Wards")
	as(t, s, "holm", "lead", "--group", "Wards")
	b := browser.Open(t, s.URL)
	b.SignIn("sedge", theirPassword)
	b.See("h1", "Groups you lead") // the first page of a lead
	b.See("main", "Choose at least one list")
	b.Accessible("choosing a stint")
	b.Press("List of your own")
	b.Fill("[role=dialog] input", "Rounds")
	b.Fill("[role=dialog] textarea", "tern.example\n!gull.example")
	b.Press("Save")
	b.See("[role=dialog]", "no carve-outs")
	b.Forget()
	b.Fill("[role=dialog] textarea", "tern.example")
	b.Press("Save")
	b.Gone("[role=dialog]")
	b.Press("Dosage1 entry")
	b.See("aside", "1 person, until")
	b.Press("20 min")
	b.Press("Begin now")
	b.See("[aria-label='The stint']", "only Dosage, Rounds")
	b.See("[aria-label='The stint']", "20 minutes left")
	b.Accessible("a running stint")
	assert.Contains(t, sedge.Run(t, "", "try", "tern.example", "--as", "kay.moran", "--on", "live").Done(t), "allow")
	b.Press("Kay Morannothing asked")
	b.See("main", "done: the web is open")
	assert.Contains(t, sedge.Run(t, "", "stint", "ls").Done(t), "over for Kay Moran")

	other := browser.Open(t, s.URL)
	other.SignIn("holm", theirPassword)
	other.See("[aria-label='The stint']", "by sedge")
	other.Press("Take it over")
	other.See("[aria-label='The stint']", "by you")
	b.See("[aria-label='The stint']", "by holm")
	other.Press("End it now")
	other.See("main", "What is open?")
	b.See("main", "What is open?")
	b.Quiet()
}

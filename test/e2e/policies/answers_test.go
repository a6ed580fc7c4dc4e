package policies

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// answer is the answer to a bare request.
type answer struct {
	status int
	body   map[string]any
	text   string
}

// asker returns a function that sends requests with a body of JSON, signed in.
func asker(t *testing.T, s *testkit.Service) func(method, path, body string) answer {
	header := map[string]string{"Authorization": "Bearer " + s.Token(t), "Content-Type": "application/json"}
	return func(method, path, body string) answer {
		t.Helper()
		res := s.Request(t, method, "/api/v1"+path, body, header)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		got := answer{status: res.StatusCode, text: string(text)}
		if len(text) > 0 {
			require.NoError(t, json.Unmarshal(text, &got.body), "%.300s", got.text)
		}
		return got
	}
}

// Problems with the same status have different types, so that programs need not read their words.
func TestProblemTypes(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := asker(t, s)
	wrong := ask("POST", "/session", `{"name": "`+testkit.Name+`", "password": "not the password"}`)
	assert.Equal(t, []any{401, "/problems/name-or-password"}, []any{wrong.status, wrong.body["type"]}, wrong.text)
	nothing := ask("POST", "/revisions", `{"note": "nothing"}`)
	assert.Equal(t, []any{409, "/problems/nothing-to-publish"}, []any{nothing.status, nothing.body["type"]}, nothing.text)

	require.Equal(t, 201, ask("POST", "/lists", `{"name": "Suspects"}`).status)
	made := ask("POST", "/expectations", `{"urls": ["heron.example"], "verdict": "block"}`)
	require.Equal(t, 201, made.status, made.text)
	fails := ask("POST", "/revisions", `{"note": "against what is expected"}`)
	assert.Equal(t, []any{409, "/problems/expectations-fail"}, []any{fails.status, fails.body["type"]}, fails.text)
	stale := ask("POST", "/revisions", `{"note": "x", "version": 7777}`)
	assert.Equal(t, []any{412, nil}, []any{stale.status, stale.body["type"]}, "the status says enough: %s", stale.text)
}

// Without a version, files are applied to any draft, also while others edit.
func TestApplyWhateverItIs(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := asker(t, s)
	exported := ask("GET", "/config", "")
	require.Equal(t, 200, exported.status, exported.text)
	files, err := json.Marshal(map[string]any{"files": exported.body["files"]})
	require.NoError(t, err)
	var all sync.WaitGroup
	for i := range 4 {
		all.Go(func() {
			edited := ask("POST", "/lists", fmt.Sprintf(`{"name": "Suspects %d"}`, i))
			assert.Equal(t, 201, edited.status, edited.text)
			applied := ask("POST", "/config/apply", string(files))
			assert.Equal(t, 200, applied.status, applied.text)
		})
	}
	all.Wait()
	assert.Equal(t, []any{}, ask("GET", "/lists", "").body["lists"], "each applied after its own edit")
	again := ask("POST", "/config/plan", string(files))
	assert.Equal(t, []any{}, again.body["changes"], again.text)
}

// The first rule of a policy is rule 0, also in the changes that would turn a verdict.
func TestFlipsOfTheFirstRule(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := asker(t, s)
	group := ask("POST", "/groups", `{"name": "Nurses", "groups": [], "networks": [], "machines": [], "ranges": []}`)
	require.Equal(t, 201, group.status, group.text)
	policy := ask("POST", "/policies", `{"name": "Ward floor", "groups": [{"id": "`+group.body["id"].(string)+`"}], "otherwise": "allow", "rules": [
		{"name": "No herons", "then": "block", "if": {"methods": ["GET"]}}, {"name": "But this", "then": "allow", "if": {"methods": ["GET"]}}]}`)
	require.Equal(t, 201, policy.status, policy.text)
	tried := ask("POST", "/trials", `{"urls": ["heron.example"], "who": {"group": "Nurses"}, "outlook": true}`)
	require.Equal(t, 200, tried.status, tried.text)
	trial := tried.body["trials"].([]any)[0].(map[string]any)
	assert.Equal(t, "block", trial["verdict"])
	kinds := map[any]map[string]any{}
	for _, flip := range trial["outlook"].(map[string]any)["flips"].([]any) {
		kinds[flip.(map[string]any)["kind"]] = flip.(map[string]any)
	}
	assert.EqualValues(t, 0, kinds["switch rule off"]["rule"], tried.text)
	assert.EqualValues(t, 1, kinds["move rule up"]["rule"], tried.text)
	assert.EqualValues(t, 0, kinds["move rule up"]["above"], tried.text)
}

// Each side of a comparison is described with the names of its own state.
func TestComparedInEachSidesWords(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := asker(t, s)
	body := func(name, then string) string {
		return `{"name": "` + name + `", "role": "fallback", "groups": [], "otherwise": "allow", "rules": [{"name": "Rule of ` + name + `", "then": "` + then + `", "if": {"methods": ["GET"]}}]}`
	}
	fallback := ""
	for _, p := range ask("GET", "/policies", "").body["items"].([]any) {
		if p := p.(map[string]any); p["role"] == "fallback" {
			fallback = "/policies/" + p["id"].(string)
		}
	}
	put := func(body string) {
		t.Helper()
		header := map[string]string{"Authorization": "Bearer " + s.Token(t), "Content-Type": "application/json", "If-Match": "*"}
		res := s.Request(t, "PUT", "/api/v1"+fallback, body, header)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.Equal(t, 200, res.StatusCode, "%s", text)
	}
	put(body("Then", "block"))
	require.Equal(t, 201, ask("POST", "/revisions", `{"note": "then"}`).status)
	put(body("Now", "watch"))
	got := ask("POST", "/trials/compare", `{"url": "heron.example", "a": {"on": "live"}, "b": {"on": "draft"}}`)
	require.Equal(t, 200, got.status, got.text)
	assert.Equal(t, false, got.body["same"])
	assert.Equal(t, []any{"Then", "Rule of Then"}, []any{got.body["aStep"].(map[string]any)["policy"], got.body["aStep"].(map[string]any)["rule"]}, got.text)
	assert.Equal(t, []any{"Now", "Rule of Now"}, []any{got.body["bStep"].(map[string]any)["policy"], got.body["bStep"].(map[string]any)["rule"]}, got.text)
	assert.Contains(t, got.body["because"], `the rule "Rule of Then" of "Then"`)
	assert.Contains(t, got.body["because"], `the rule "Rule of Now" of "Now"`)
}

// A body that is too large gets the limit in megabytes, and a question that names two askers is refused.
func TestRefusalsInWords(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := asker(t, s)
	large := ask("POST", "/trials", `{"urls": ["heron.example/`+strings.Repeat("x", 33<<20)+`"]}`)
	assert.Equal(t, 413, large.status)
	assert.Contains(t, large.text, "The request is larger than 32 MB.")
	// What is left of it is not taken for the next request on that connection.
	require.Equal(t, 201, ask("POST", "/groups", `{"name": "Nurses", "groups": [], "networks": [], "machines": [], "ranges": []}`).status)
	require.Equal(t, 201, ask("POST", "/people", `{"name": "kay", "fullName": "Kay Moran", "groups": []}`).status)
	two := ask("POST", "/trials", `{"urls": ["heron.example"], "who": {"person": "kay", "group": "Nurses"}}`)
	assert.Equal(t, 422, two.status)
	assert.Contains(t, two.text, "body.who.group")
	assert.Contains(t, two.text, "name the person or a group, not both")
}

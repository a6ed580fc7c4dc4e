package service

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/yaml.v3"

	"widelark/client"
	"widelark/internal/httpapi"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

func TestContractIsCurrent(t *testing.T) {
	t.Parallel()
	committed, err := os.ReadFile("../../../api/openapi.yaml")
	require.NoError(t, err)
	_, body, _ := strings.Cut(string(committed), "\n") // the first line says where it comes from
	made, err := httpapi.OpenAPI()
	require.NoError(t, err)
	assert.Equal(t, string(made), body, "run `make generate`")
}

// Every operation requires a sign-in, except those that the contract marks as public.
func TestNothingIsOpen(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	var contract struct {
		Paths map[string]map[string]struct {
			Security *[]map[string][]string
		}
	}
	text, err := os.ReadFile("../../../api/openapi.yaml")
	require.NoError(t, err)
	require.NoError(t, yaml.Unmarshal(text, &contract))
	closed := 0
	for path, methods := range contract.Paths {
		for method, op := range methods {
			if op.Security != nil && len(*op.Security) == 0 {
				continue
			}
			closed++
			at := strings.ReplaceAll(path, "{id}", "00000000-0000-0000-0000-000000000000")
			for _, header := range []map[string]string{{}, {"Authorization": "Bearer wlark_x"}, {"Cookie": httpapi.SessionCookie + "=x"}} {
				res := s.Request(t, strings.ToUpper(method), at, "{}", header)
				assert.Equal(t, 401, res.StatusCode, "%s %s with %v", method, path, header)
				assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
			}
		}
	}
	assert.Greater(t, closed, 15)
}

// session signs in like a browser and returns the cookie.
func session(t testing.TB, s *testkit.Service) *http.Cookie {
	t.Helper()
	res := s.Request(t, "POST", "/api/v1/session", fmt.Sprintf(`{"name":%q,"password":%q}`, testkit.Name, testkit.Password), map[string]string{"Content-Type": "application/json"})
	require.Equal(t, 200, res.StatusCode)
	require.Len(t, res.Cookies(), 1)
	return res.Cookies()[0]
}

func TestSessions(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	cookie := session(t, s)
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	with := func(more ...string) map[string]string {
		header := map[string]string{"Cookie": cookie.Name + "=" + cookie.Value, "Content-Type": "application/json"}
		for i := 0; i < len(more); i += 2 {
			header[more[i]] = more[i+1]
		}
		return header
	}
	list := `{"name":"From elsewhere"}`
	assert.Equal(t, 421, s.Request(t, "POST", "/api/v1/lists", list, with("Origin", "https://elsewhere.example")).StatusCode)
	for _, header := range []map[string]string{with("Origin", s.URL, "Sec-Fetch-Site", "cross-site"), with("Sec-Fetch-Site", "cross-site"), with("Sec-Fetch-Site", "same-site")} {
		assert.Equal(t, 403, s.Request(t, "POST", "/api/v1/lists", list, header).StatusCode, "%v", header)
	}
	assert.Equal(t, 201, s.Request(t, "POST", "/api/v1/lists", list, with("Origin", s.URL, "Sec-Fetch-Site", "same-origin")).StatusCode)
	assert.Equal(t, 204, s.Request(t, "DELETE", "/api/v1/session", "", with()).StatusCode)
	assert.Equal(t, 401, s.Request(t, "GET", "/api/v1/lists", "", with()).StatusCode, "the session is over on the service too")

	wrong := s.Request(t, "POST", "/api/v1/session", `{"name":"edda","password":"a-wrong-password"}`, map[string]string{"Content-Type": "application/json"})
	assert.Equal(t, 401, wrong.StatusCode)
	invalid := s.Request(t, "POST", "/api/v1/session", `{"name":"edda","password":12345678}`, map[string]string{"Content-Type": "application/json"})
	assert.Equal(t, 422, invalid.StatusCode)
	body, err := io.ReadAll(invalid.Body)
	require.NoError(t, err)
	assert.NotContains(t, string(body), "12345678", "a problem does not echo what was sent")
}

func TestEditsNeedWhatWasSeen(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api, ctx := s.API(t), t.Context()
	made, err := api.CreateListWithResponse(ctx, client.NewListInputBody{Name: "Betting"})
	require.NoError(t, err)
	l := made.JSON201
	assert.Equal(t, fmt.Sprintf(`"%d"`, l.Version), made.HTTPResponse.Header.Get("ETag"))
	name := "Odds"
	status := func(err error) int {
		var p *client.Problem
		if err == nil {
			return 200
		}
		require.ErrorAs(t, err, &p)
		return p.Status
	}
	edit := func(match *string) error {
		_, err := api.EditListWithResponse(ctx, l.ID, &client.EditListParams{IfMatch: match}, client.EditListInputBody{Name: &name})
		return err
	}
	stale, current, foreign := `"1"`, fmt.Sprintf(`"%d"`, l.Version), "xyz"
	assert.Equal(t, 428, status(edit(nil)))
	assert.Equal(t, 412, status(edit(&stale)))
	assert.Equal(t, 412, status(edit(&foreign)))
	assert.Equal(t, 200, status(edit(&current)))
	assert.Equal(t, 412, status(edit(&current)), "it is not current any more")
	_, err = api.AddEntriesWithResponse(ctx, l.ID, &client.AddEntriesParams{IfMatch: &stale}, client.AddEntriesInputBody{Lines: []string{"a.example"}})
	assert.Equal(t, 412, status(err))
	_, err = api.DeleteListWithResponse(ctx, l.ID, &client.DeleteListParams{IfMatch: &current})
	assert.Equal(t, 412, status(err))

	blank := "  "
	_, err = api.CreateListWithResponse(ctx, client.NewListInputBody{Name: blank})
	assert.EqualError(t, err, "The request cannot be carried out as it stands: name: a name is wanted")
	_, err = api.AddEntriesWithResponse(ctx, l.ID, nil, client.AddEntriesInputBody{Lines: []string{"a.example", "b\nc"}})
	assert.ErrorContains(t, err, "lines[1]: one line is wanted")
	none := []client.Ref{}
	rules := []client.RuleBody{{Name: "x", If: &client.Condition{Lists: &none}, Then: "block"}}
	_, err = api.AddPolicyWithResponse(ctx, client.PolicyInput{Name: "x", Groups: none, Rules: rules, Otherwise: "allow"})
	assert.Equal(t, 422, status(err))
	after := "no cursor!"
	_, err = api.GetListsWithResponse(ctx, &client.GetListsParams{After: &after})
	assert.ErrorContains(t, err, "after: no cursor of ours")
}

func TestBareRequests(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	text, err := os.ReadFile(s.Config)
	require.NoError(t, err)
	bearer := "Bearer " + string(regexp.MustCompile(`token: (\S+)`).FindSubmatch(text)[1])
	made, err := s.API(t).CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Betting"})
	require.NoError(t, err)
	imports := "/api/v1/lists/" + made.JSON201.ID.String() + "/import"
	for _, row := range []struct {
		method, path, media string
		status              int
		says                string
	}{
		{"POST", imports, "application/json", 415, "Send the file as one of text/plain"},
		{"POST", imports, "text/plain; charset=iso-8859-1", 415, "iso-8859-1"},
		{"POST", imports + "?reading=loose", "text/plain", 422, "query.reading"},
		{"GET", "/api/v1/lists/42", "", 422, "path.id"},
		{"GET", "/api/v1/lists/00000000-0000-0000-0000-000000000000", "", 404, "There is no such thing here"},
		{"GET", "/api/v1/frobs", "", 404, "no such operation"},
		{"POST", "/lists", "", 405, "The console is only read."},
		{"GET", "/assets/gone.js", "", 404, "Reload the page."},
		{"GET", "/lists/anything", "", 200, "<title>Wide Lark</title>"},
		{"GET", "/api/openapi.yaml", "", 200, "openapi: 3.1.0"},
	} {
		res := s.Request(t, row.method, row.path, "a.example", map[string]string{"Authorization": bearer, "Content-Type": row.media})
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, row.status, res.StatusCode, row.path)
		assert.Contains(t, string(body), row.says, row.path)
	}
	page := s.Request(t, "GET", "/", "", nil)
	assert.Contains(t, page.Header.Get("Content-Security-Policy"), "default-src 'self'")
	var health map[string]string
	require.NoError(t, json.NewDecoder(s.Request(t, "GET", "/api/v1/health", "", nil).Body).Decode(&health))
	assert.Equal(t, "answers", health["database"])
}

func TestImportThatIsTooLarge(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	made, err := s.API(t).CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Endless"})
	require.NoError(t, err)
	endless := io.LimitReader(repeat("# a line that says nothing, again and again and again\n"), httpapi.MaxImport+1)
	_, err = s.API(t).ImportEntriesWithBodyWithResponse(t.Context(), made.JSON201.ID, nil, "text/plain", endless)
	require.ErrorContains(t, err, "larger than 128 MiB")
	assert.Equal(t, "#: notation\n", s.Run(t, "", "list", "export", "Endless").Done(t))
}

// repeat is a reader that repeats its text endlessly.
type repeat string

func (r repeat) Read(p []byte) (int, error) {
	n := 0
	for n+len(r) <= len(p) {
		n += copy(p[n:], r)
	}
	if n == 0 {
		n = copy(p, r[:1])
	}
	return n, nil
}

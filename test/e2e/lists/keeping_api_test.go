package lists

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/test/e2e/house"
)

// The calls about lists refuse bad requests, and requests that would lose somebody's edit.
func TestKeepingRefusals(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	made, err := api.CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Betting"})
	require.NoError(t, err)
	list := made.JSON201
	_, err = api.AddEntriesWithResponse(t.Context(), list.ID, nil, client.AddEntriesInputBody{Lines: []string{"a.example", "b.example"}})
	require.NoError(t, err)
	stale := fmt.Sprintf(`"%d"`, list.Version)
	bearer := "Bearer " + s.Token(t)
	at := "/api/v1/lists/" + list.ID.String()
	nowhere := "/api/v1/lists/00000000-0000-0000-0000-000000000000"
	for _, row := range []struct {
		method, path, body, match string
		status                    int
		says                      string
	}{
		{"PATCH", at + "/entries", `{"which":{"all":true}}`, "", 422, "nothing to change"},
		{"PATCH", at + "/entries", `{"which":{"all":true},"until":"24 December"}`, "", 422, "a day as 2026-12-24"},
		{"PATCH", at + "/entries", `{"which":{"all":true},"note":"two\nlines"}`, "", 422, "one line is wanted"},
		{"PATCH", at + "/entries", `{"which":{"lines":["a..example"]},"off":true}`, "", 422, "did you mean a.example?"},
		{"PATCH", at + "/entries", `{"which":{"kind":"thing"},"off":true}`, "", 422, "expected value to be one of"},
		{"PATCH", at + "/entries", `{"which":{"all":true},"off":true}`, stale, 412, "Somebody else changed this"},
		{"PATCH", nowhere + "/entries", `{"which":{"all":true},"off":true}`, "", 404, "no such thing"},
		{"POST", at + "/entries/remove", `{"lines":["# a note"]}`, "", 422, "an entry is wanted"},
		{"POST", at + "/entries/remove", `{"all":true}`, stale, 412, "Somebody else changed this"},
		{"POST", at + "/entries/copy", `{"which":{"all":true},"to":"` + list.ID.String() + `"}`, "", 422, "this is the list where they are"},
		{"POST", at + "/entries/copy", `{"which":{"all":true},"to":"00000000-0000-0000-0000-000000000000"}`, "", 404, "no such thing"},
		{"PUT", at + "/text", `{"lines":["a.example"]}`, "", 428, "If-Match"},
		{"PUT", at + "/text", `{"lines":["a.example"]}`, stale, 412, "Somebody else changed this"},
		{"PUT", at + "/text", `{"lines":["a.example","A.example # again"]}`, "*", 422, "the same entry stands on line 1"},
		{"PUT", at + "/text", `{"lines":["a.example","b..example"]}`, "*", 422, "did you mean b.example?"},
		{"PUT", nowhere + "/text", `{"lines":[]}`, "*", 404, "no such thing"},
		{"GET", nowhere + "/history", "", "", 404, "no such thing"},
		{"GET", at + "/history?before=x", "", "", 422, "no cursor of ours"},
		{"GET", at + "/compare?from=1", "", "", 422, "required query parameter is missing"},
		{"GET", nowhere + "/compare?from=1&to=2", "", "", 404, "no such thing"},
		{"POST", at + "/take-back", `{"version":1}`, "", 422, "the list has no such version"},
		{"POST", at + "/take-back", fmt.Sprintf(`{"version":%d}`, list.Version), stale, 412, "Somebody else changed this"},
		{"GET", nowhere + "/findings", "", "", 404, "no such thing"},
		{"GET", at + "/findings?kind=odd", "", "", 422, "expected value to be one of"},
		{"POST", at + "/tidy", `{"kinds":["contradict"]}`, "", 422, "expected value to be one of"},
		{"POST", at + "/tidy", `{}`, stale, 412, "Somebody else changed this"},
		{"POST", "/api/v1/entries/explain", `{"lines":[]}`, "", 422, "array length"},
		{"POST", "/api/v1/seen", `{"pages":[{"url":"a.example","requests":0,"lastOn":"2026-11-23"}]}`, "", 422, "number >= 1"},
		{"POST", "/api/v1/seen", `{"pages":[{"url":"a.example","requests":1,"lastOn":"today"}]}`, "", 422, "date"},
		{"GET", at + "/source", "", "", 404, "no such thing"},
		{"DELETE", at + "/source", "", "", 404, "no such thing"},
		{"POST", at + "/source/pull", "", "", 404, "no such thing"},
		{"PUT", at + "/source", `{"url":"https://a.example","everyMinutes":1}`, "", 422, "number >= 5"},
		{"PUT", nowhere + "/source", `{"url":"https://a.example/x.txt"}`, "", 404, "no such thing"},
		{"GET", at + "/export?format=sheet", "", "", 422, "expected value to be one of"},
		{"PATCH", at, `{"colour":"pink"}`, "*", 422, "expected value to be one of"},
	} {
		header := map[string]string{"Authorization": bearer, "Content-Type": "application/json"}
		if row.match != "" {
			header["If-Match"] = row.match
		}
		res := s.Request(t, row.method, row.path, row.body, header)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		what := row.method + " " + row.path + " " + row.body
		assert.Equal(t, row.status, res.StatusCode, "%s: %s", what, body)
		assert.Contains(t, string(body), row.says, what)
		assert.Contains(t, res.Header.Get("Content-Type"), "problem+json", what)
	}
	now, err := api.GetEntriesWithResponse(t.Context(), list.ID, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 2, now.JSON200.Total, "nothing of all that was kept")
}

// A list is exported in every format and packing, with the file names and media types that programs expect.
func TestExportHeaders(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	made, err := s.API(t).CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Möwen & Co"})
	require.NoError(t, err)
	_, err = s.API(t).AddEntriesWithResponse(t.Context(), made.JSON201.ID, nil, client.AddEntriesInputBody{Lines: []string{"a.example # why", "~ b"}})
	require.NoError(t, err)
	for query, want := range map[string][3]string{
		"":                           {"text/plain; charset=utf-8", ".txt", "#: notation\na.example # why\n~ b\n"},
		"?format=csv":                {"text/csv; charset=utf-8", ".csv", "entry,kind,carve-out,until,off,note\na.example,site,false,,false,why\n~ b,regex,false,,false,\n"},
		"?format=jsonl":              {"application/x-ndjson", ".jsonl", `{"entry":"a.example","kind":"site","note":"why"}` + "\n" + `{"entry":"~ b","kind":"regex"}` + "\n"},
		"?format=hosts":              {"text/plain; charset=utf-8", ".txt", "0.0.0.0 a.example #: a.example # why\n#: ~ b\n#:# 1 entries of the list cannot be written"},
		"?format=jsonl&packing=gzip": {"application/gzip", ".jsonl.gz", "\x1f\x8b"},
		"?packing=zstd":              {"application/zstd", ".txt.zst", "\x28\xb5\x2f\xfd"},
	} {
		res := s.Request(t, http.MethodGet, "/api/v1/lists/"+made.JSON201.ID.String()+"/export"+query, "", map[string]string{"Authorization": "Bearer " + s.Token(t)})
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, want[0], res.Header.Get("Content-Type"), query)
		assert.Contains(t, res.Header.Get("Content-Disposition"), want[1], query)
		assert.True(t, strings.HasPrefix(string(body), want[2]), "%s: %q", query, body)
	}
}

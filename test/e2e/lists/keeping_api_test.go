package lists

import (
	"io"
	"net/http"
	"strconv"
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
	house.Refuse(t, s, "$list", list.ID.String(), "$version", strconv.FormatInt(list.Version, 10))
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

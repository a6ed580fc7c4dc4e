package service

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/test/e2e/house"
)

// No input stops the service: each gets an answer that says what is wrong, and the next request is served.
func TestHostileInput(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	made, err := api.CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Hostile"})
	require.NoError(t, err)
	id := made.JSON201.ID
	importing := func(text string) client.Report {
		t.Helper()
		r, err := api.ImportEntriesWithBodyWithResponse(t.Context(), id, nil, "text/plain", strings.NewReader(text))
		require.NoError(t, err)
		return *r.JSON200
	}
	for name, row := range map[string]struct {
		line, says string
	}{
		"a line of ten megabytes":   {strings.Repeat("x", 10<<20), "a line of at most 65536 bytes"},
		"no text":                   {"\x00\x01\x02\xff\xfe", "control character"},
		"not UTF-8":                 {"her\xffon.example", "text in UTF-8"},
		"nested repetition":         {"~ ((a{100}){100}){100}", "a repeat count of at most 1000"},
		"an expression of groups":   {"~ " + strings.Repeat("(", 1010) + "a" + strings.Repeat(")", 1010), "groups that are nested less deeply"},
		"a host of a thousand dots": {strings.Repeat("a.", 900) + "example", "at most 253 characters"},
		"a long label":              {strings.Repeat("a", 64) + ".example", "1 to 63 characters"},
		"a long pattern":            {"a.example/" + strings.Repeat("a", 3000), "at most 2048 bytes"},
		"only stars":                {strings.Repeat("*.", 50) + "**", "for every host before a public suffix"},
		"brackets":                  {strings.Repeat("[", 2000), "in the host"},
	} {
		r := importing(row.line + "\nafter.example\n")
		require.Len(t, r.RefusedLines, 1, name)
		assert.Contains(t, r.RefusedLines[0].Message, row.says, name)
		assert.EqualValues(t, 1, r.Good, "%s: the line after it is read", name)
		assert.LessOrEqual(t, len(r.RefusedLines[0].Text), 600, "%s: the report does not echo all of it", name)
	}

	random := rand.New(rand.NewPCG(3, 4))
	escapes := "heron.example/"
	for range 900 { // quotation marks grow threefold as escapes, and the letters keep them from being compressed
		escapes += string([]byte{'"', byte('a' + random.IntN(26))})
	}
	r := importing("before.example\n" + escapes + "\n")
	assert.EqualValues(t, 1, r.Refused, "it does not spoil the others")
	assert.EqualValues(t, 1, r.Added)

	nul := "a\x00b"
	for what, err := range map[string]error{
		"description": second(api.CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Q", Description: &nul})),
		"find":        second(api.FindEntriesWithResponse(t.Context(), &client.FindEntriesParams{Text: nul})),
		"filter":      second(api.GetEntriesWithResponse(t.Context(), id, &client.GetEntriesParams{Text: &nul})),
		"name":        second(api.GetListsWithResponse(t.Context(), &client.GetListsParams{Name: &nul})),
		"sign-in":     second(api.SignInWithResponse(t.Context(), client.SignInInputBody{Name: nul, Password: "x"})),
		"token":       second(api.CreateTokenWithResponse(t.Context(), client.NewTokenInputBody{Name: nul})),
	} {
		assert.ErrorContains(t, err, "a character that cannot be kept (NUL)", what)
	}

	var carveOuts strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&carveOuts, "! n%d.deep.example\n", i)
	}
	r = importing("deep.example\n" + carveOuts.String())
	assert.EqualValues(t, 50_001, r.Added)
	for i := range 30 {
		importing(fmt.Sprintf("~ (x%d|y+)+[a-z]*(a*)*%d$\n*a*b*c*d*e*%d*\n", i, i, i))
	}
	trials := []string{
		"https://" + strings.Repeat("a", 60_000) + ".example/", "https://heron.example/" + strings.Repeat("a", 60_000), "https://" + strings.Repeat("a.", 120) + "deep.example/?" + strings.Repeat("a=b&", 10_000),
		"https://n7.deep.example/" + strings.Repeat("%C3%A4", 5_000), strings.Repeat("/", 60_000), "\x00", "https://\xff.example", strings.Repeat("https://", 1000),
	}
	answer, err := api.TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: trials})
	require.NoError(t, err)
	assert.Len(t, answer.JSON200.Trials, len(trials))
	assert.Equal(t, "answers", string(health(t, api)))
}

func second[T any](_ T, err error) error { return err }

func health(t testing.TB, api *client.ClientWithResponses) client.HealthOutputBodyDatabase {
	t.Helper()
	h, err := api.GetHealthWithResponse(t.Context())
	require.NoError(t, err)
	return h.JSON200.Database
}

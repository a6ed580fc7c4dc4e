package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
)

func TestTry(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	for _, step := range [][]string{
		{"list", "new", "Betting"},
		{"list", "add", "Betting", "oddsfield.example", "! help.oddsfield.example", "derby.example [until 2020-01-01]", "coin.example [off]"},
		{"list", "new", "Also"},
		{"list", "add", "Also", "*.oddsfield.example", "~path /odds"},
		{"group", "edit", "Everyone", "--name", "Ward nurses"},
		{"policy", "edit", "House policy", "--name", "Ward floor"},
		{"policy", "rule", "add", "Ward floor", "Never on the ward", "--list", "Betting"},
		{"policy", "rule", "add", "ward floor", "Also not", "--list", "also", "--then", "block"},
	} {
		s.Run(t, "", step...).Done(t)
	}
	try := func(args ...string) string { return s.Run(t, "", append([]string{"try"}, args...)...).Done(t) }
	assert.Equal(t, `■ block  https://www.oddsfield.example/odds
  The rule "Never on the ward" of the policy "Ward floor" says block, because the list "Betting" has the entry oddsfield.example.

  decided by  Never on the ward
  list        Betting
  entry       oddsfield.example
              Covers oddsfield.example and every host below it.

  also matched
  Also  ›  *.oddsfield.example
  Also  ›  ~path /odds

  rules of Ward floor, for Ward nurses
    1  decided      Never on the ward
    2  not reached  Also not
`, try("https://WWW.oddsfield.example./odds"))
	assert.Contains(t, try("derby.example"), "○ allow  https://derby.example/\n  No rule of the policy \"Ward floor\" matches; otherwise it says allow.")
	assert.Contains(t, try("coin.example"), "○ allow")
	assert.Contains(t, try("help.oddsfield.example"), "Betting  ›  oddsfield.example  (carved out)")
	assert.Contains(t, try("mailto:x@heron.example"), "? no URL  mailto:x@heron.example\n  \"mailto:\" is not a web address")
	assert.Contains(t, try("oddsfield.example", "heron.example", "http://a b"), "1 allowed, 1 blocked, 1 no URL. For Ward nurses, policy Ward floor.")
	assert.Equal(t, 1, s.Run(t, "", "try", "--exit-code", "oddsfield.example").Code)
	s.Run(t, "", "try", "--exit-code", "heron.example").Done(t)
	unknown := s.Run(t, "", "try", "--group", "Surgeons", "heron.example")
	assert.Equal(t, 3, unknown.Code)
	assert.Contains(t, unknown.Err, `group: there is no policy for a group "Surgeons"`)

	// An edit counts for the very next trial.
	s.Run(t, "", "list", "add", "Betting", "heron.example").Done(t)
	assert.Contains(t, try("heron.example"), "■ block")
	s.Run(t, "", "policy", "rule", "edit", "Ward floor", "Never on the ward", "--then", "allow", "--name", "Always").Done(t)
	assert.Contains(t, try("heron.example"), "○ allow")
	s.Run(t, "", "policy", "rule", "edit", "Ward floor", "Also not", "--position", "1").Done(t)
	assert.Contains(t, try("www.oddsfield.example"), "1  decided      Also not")
	s.Run(t, "", "policy", "rule", "remove", "Ward floor", "Always").Done(t)
	assert.Contains(t, s.Run(t, "", "policy", "edit", "Ward floor", "--otherwise", "block").Done(t), "■ block")
	assert.Contains(t, try("bittern.example"), "■ block")
	inUse := s.Run(t, "", "list", "delete", "Also")
	assert.Equal(t, 3, inUse.Code)
	assert.Contains(t, inUse.Err, `it is used by the rule "Also not" of the policy "Ward floor"`)
	var p client.Policy
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", "policy", "show", "Ward floor", "-o", "json").Done(t)), &p))
	assert.Len(t, p.Rules, 1)
	assert.Contains(t, s.Run(t, "", "policy", "ls").Done(t), "Ward nurses")
	assert.Contains(t, s.Run(t, "", "group", "ls", "-o", "csv").Done(t), "Ward nurses,")
}

func TestTryThousands(t *testing.T) {
	t.Parallel()
	s := server.Serve(t)
	var urls, want strings.Builder
	want.WriteString("Verdict,URL,List,Entry,Rule,Also in\n")
	for i := range 12_000 {
		fmt.Fprintf(&urls, "www.site-%d.example/x\n", i)
		fmt.Fprintf(&want, "allow,https://www.site-%d.example/x,,,otherwise,\n", i)
	}
	ran := s.Run(t, "\uFEFF# from the log\n\n"+urls.String(), "try", "--file", "-", "-o", "csv")
	assert.Equal(t, want.String(), ran.Done(t))
	assert.Contains(t, ran.Err, "12,000 of 12,000 tried")
	var all client.TrialsOutputBody
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, urls.String(), "try", "--file", "-", "-o", "json").Done(t)), &all))
	assert.Len(t, all.Trials, 12_000)
}

func BenchmarkTrials(b *testing.B) {
	s := server.Serve(b)
	api := s.API(b)
	urls := make([]string, 5000)
	for i := range urls {
		urls[i] = fmt.Sprintf("https://www.site-%d.example/a/b?c=%d", i, i)
	}
	for b.Loop() {
		_, err := api.TryUrlsWithResponse(b.Context(), client.TrialsInputBody{Urls: urls})
		require.NoError(b, err)
	}
	b.ReportMetric(float64(b.N*len(urls))/b.Elapsed().Seconds(), "trials/s")
}

package policies

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/test/e2e/house"
)

func TestTry(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, step := range [][]string{
		{"list", "new", "Betting"},
		{"list", "add", "Betting", "oddsfield.example", "! help.oddsfield.example", "derby.example [until 2020-01-01]", "coin.example [off]"},
		{"list", "new", "Also"},
		{"list", "add", "Also", "*.oddsfield.example", "~path /odds"},
		{"group", "new", "Ward nurses"},
		{"person", "new", "kay.moran", "--full-name", "Kay Moran", "--in", "Ward nurses"},
		{"policy", "new", "Ward floor", "--for", "Ward nurses"},
		{"policy", "rule", "add", "Ward floor", "Never on the ward", "--list", "Betting"},
		{"policy", "rule", "add", "ward floor", "Also not", "--list", "also", "--then", "block"},
	} {
		s.Run(t, "", step...).Done(t)
	}
	try := func(args ...string) string {
		return s.Run(t, "", append([]string{"try", "--as", "Kay Moran", "--at", "2026-11-23 14:10"}, args...)...).Done(t)
	}
	assert.Equal(t, `■ block  https://www.oddsfield.example/odds
  for Kay Moran, Mon 23 Nov 14:10
  The rule "Never on the ward" of the policy "Ward floor" says block, because the list "Betting" has the entry oddsfield.example.

  decided by  Never on the ward
  list        Betting
  entry       oddsfield.example
              Covers oddsfield.example and every host below it.
  it is       unrated
  belongs to  Ward nurses
  until       time alone does not change it

  any of these would change the verdict
    Allow this page (=www.oddsfield.example/odds) for Kay Moran → allow
    Allow this host (=www.oddsfield.example) for Kay Moran → allow
    Allow this site (oddsfield.example) for Kay Moran → allow
    Allow this page (=www.oddsfield.example/odds) for the group "Ward nurses" → allow
    Allow this page (=www.oddsfield.example/odds) for everybody → allow

  also matched
    Also  ›  *.oddsfield.example
    Also  ›  ~path /odds

  baseline: it has no rules

  unlocked: nothing is unlocked for this

  exception: there are none

  stint: none is in force for its groups

  policy Ward floor
    decided           Never on the ward  ■ block  the list "Betting" has the entry oddsfield.example
    not reached       Also not           ■ block  the list "Also" has the entry *.oddsfield.example
`, try("--trace", "https://WWW.oddsfield.example./odds"))
	assert.Contains(t, try("derby.example"), "○ allow  https://derby.example/\n  for Kay Moran, Mon 23 Nov 14:10\n  No rule of the policy \"Ward floor\" matches; otherwise it says allow.")
	assert.Contains(t, try("coin.example"), "○ allow")
	assert.Contains(t, try("help.oddsfield.example"), "Betting  ›  oddsfield.example  (carved out)")
	assert.Contains(t, try("mailto:x@heron.example"), "? no URL  mailto:x@heron.example\n  \"mailto:\" is not a web address")
	assert.Contains(t, try("oddsfield.example", "heron.example", "http://a b"), "1 allowed, 1 blocked, 1 no URL. For Kay Moran, Mon 23 Nov 14:10.")
	assert.Equal(t, 1, s.Run(t, "", "try", "--exit-code", "--group", "ward nurses", "oddsfield.example").Code)
	s.Run(t, "", "try", "--exit-code", "oddsfield.example").Done(t) // nobody known: the fallback
	for who, want := range map[string]string{"--group": `who.group: there is no group "Surgeons"`, "--as": `who.person: there is no person "Surgeons"`, "--from": `who.address: "Surgeons" is not an address`, "--at": `at: "Surgeons" is not a moment`} {
		unknown := s.Run(t, "", "try", who, "Surgeons", "heron.example")
		assert.Equal(t, 3, unknown.Code)
		assert.Contains(t, unknown.Err, want)
	}

	// An edit counts for the very next trial.
	s.Run(t, "", "list", "add", "Betting", "heron.example").Done(t)
	assert.Contains(t, try("heron.example"), "■ block")
	s.Run(t, "", "policy", "rule", "edit", "Ward floor", "Never on the ward", "--then", "allow", "--name", "Always").Done(t)
	assert.Contains(t, try("heron.example"), "○ allow")
	s.Run(t, "", "policy", "rule", "edit", "Ward floor", "Also not", "--position", "1").Done(t)
	assert.Contains(t, try("www.oddsfield.example"), "decided by  Also not")
	s.Run(t, "", "policy", "rule", "off", "Ward floor", "Also not").Done(t)
	assert.Contains(t, try("www.oddsfield.example"), "decided by  Always")
	s.Run(t, "", "policy", "rule", "on", "Ward floor", "Also not").Done(t)
	s.Run(t, "", "policy", "rule", "remove", "Ward floor", "Always").Done(t)
	assert.Contains(t, s.Run(t, "", "policy", "edit", "Ward floor", "--otherwise", "hold").Done(t), "◇ hold")
	assert.Contains(t, try("bittern.example"), "◇ hold")
	inUse := s.Run(t, "", "list", "delete", "Also")
	assert.Equal(t, 3, inUse.Code)
	assert.Contains(t, inUse.Err, `it is used by the policy "Ward floor"`)
	var p client.Policy
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", "policy", "show", "Ward floor", "-o", "json").Done(t)), &p))
	assert.Len(t, p.Rules, 1)
	assert.Contains(t, s.Run(t, "", "policy", "ls").Done(t), "Ward nurses")
	assert.Contains(t, s.Run(t, "", "group", "ls", "-o", "csv").Done(t), "Ward nurses,1,")
}

func TestTryThousands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	var urls, want strings.Builder
	want.WriteString("Verdict,URL,List or category,Entry,Rule,Also in\n")
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
	s := house.Server.Serve(b)
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

// Every kind of pattern is added through the command line, kept, explained, exported unchanged, and decides.
func TestEveryKind(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	kinds := []struct{ kind, entry, covered, not string }{
		{"site", "heron.example", "https://www.heron.example/x", "https://heron.test/"},
		{"host", "=bittern.example", "http://bittern.example/", "https://www.bittern.example/"},
		{"below", "*.tern.example", "https://a.b.tern.example/", "https://tern.example/"},
		{"any-ending", "crane.*", "https://www.crane.co.uk/", "https://crane.www.test/"},
		{"host-glob", "shop-*.egret.example", "https://shop-7.egret.example/", "https://egret.example/"},
		{"page-tree", "plover.example/wards", "https://plover.example/Wards/map", "https://plover.example/wardship"},
		{"page", "=dunlin.example/wards", "https://dunlin.example/wards/", "https://dunlin.example/wards/map"},
		{"path-glob", "=snipe.example/*/map", "https://snipe.example/a/map", "https://snipe.example/a/b/map"},
		{"query", "curlew.example?q=*boat*&x", "https://curlew.example/find?x=1&q=My+Boats", "https://curlew.example/find?q=boat"},
		{"scheme", "http://ruff.example", "http://ruff.example/", "https://ruff.example/"},
		{"port", "knot.example:8443", "https://knot.example:8443/", "https://knot.example/"},
		{"address", "203.0.113.0/24", "http://0xcb007107/", "http://203.0.114.7/"},
		{"address", "2001:db8::/32", "http://[2001:db8:7::1]/", "http://[2001:db9::1]/"},
		{"word", `"avocet"`, "https://wader.example/Avocet-talk", "https://wader.example/avocets"},
		{"word", `"godwit*"`, "https://godwits.example/", "https://xgodwit.example/"},
		{"regex", `~path ^/sport/[0-9]+\?live$`, "https://wader.example/sport/7?live", "https://wader.example/sport/x?live"},
		{"site", "müßig-räder.example", "https://www.xn--mig-rder-qya8c7p.example/", "https://mussig-rader.example/"},
	}
	add := []string{"list", "add", "Birds"}
	var urls, lines []string
	for _, k := range kinds {
		add, lines = append(add, k.entry), append(lines, k.entry)
		urls = append(urls, k.covered, k.not)
	}
	s.Run(t, "", "list", "new", "Birds").Done(t)
	s.Run(t, "", add...).Done(t)
	s.Run(t, "", "policy", "rule", "add", "Fallback", "No birds", "--list", "Birds").Done(t)
	assert.Equal(t, "#: notation\n"+strings.Join(lines, "\n")+"\n", s.Run(t, "", "list", "export", "Birds").Done(t))

	var shown struct{ Entries []client.Entry }
	require.NoError(t, json.Unmarshal([]byte(s.Run(t, "", "list", "show", "Birds", "-o", "json").Done(t)), &shown))
	for i, k := range kinds {
		assert.Equal(t, k.kind, string(shown.Entries[i].Kind), k.entry)
		assert.NotEmpty(t, shown.Entries[i].Explain)
		assert.Contains(t, s.Run(t, "", "entry", "explain", "-o", "yaml", k.entry).Done(t), "kind: ", k.entry)
	}
	answer, err := s.API(t).TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: urls})
	require.NoError(t, err)
	for i, k := range kinds {
		covered, not := answer.JSON200.Trials[2*i], answer.JSON200.Trials[2*i+1]
		if assert.NotNil(t, covered.Decider, "%s on %s", k.entry, k.covered) {
			assert.Equal(t, k.entry, covered.Decider.Entry.Pattern)
		}
		assert.Nil(t, not.Decider, "%s on %s", k.entry, k.not)
	}

	// Another spelling of an entry is the same entry; taking it out by that spelling works too.
	again := s.Run(t, "", "list", "add", "Birds", "HERON.example.", "xn--mig-rder-qya8c7p.example", "203.0.113.9/24", "curlew.example?x&Q=*Boat*", `"Avocet"`, "[2001:db8::")
	assert.Equal(t, 1, again.Code, "the last is none")
	assert.Contains(t, again.Out, "0 entries added, 0 updated, 5 there already. The list has 17 entries.")
	s.Run(t, "", "list", "remove", "Birds", "curlew.example?x&q=*boat*", "plover.example//WARDS/").Done(t)
	assert.Contains(t, s.Run(t, "", "try", "https://plover.example/wards").Done(t), "○ allow")
	s.Run(t, "", "list", "add", "Birds", "! =www.heron.example").Done(t)
	told := s.Run(t, "", "try", "www.heron.example", "heron.example").Done(t)
	assert.Contains(t, told, "1 allowed, 1 blocked")
	s.Run(t, "", "list", "add", "Birds", "*").Done(t)
	assert.Contains(t, s.Run(t, "", "try", "anything.test").Done(t), "Covers every URL.")
}

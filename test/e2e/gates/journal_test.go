package gates

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// recorded asks for some pages through a gate, and waits until they are in the journal.
func recorded(t *testing.T, s, gate *testkit.Service) {
	t.Helper()
	for range 3 {
		require.Equal(t, "the block page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://oddsfield.example/=today").sees())
	}
	require.Equal(t, "the page", curl(t, gate.Proxy, "-U", "kay.moran:heather and tide 7", "http://heron.example/wards?q=1").sees())
	require.Equal(t, "the block page", curl(t, gate.Proxy, "-U", "kay.moran:heather and tide 7", "http://harbour-news.example/puzzles").sees())
	require.Eventually(t, func() bool {
		return strings.Contains(s.Run(t, "", "journal", "over", "-o", "csv", "site:heron.example", "or", "site:oddsfield.example", "or", "site:harbour-news.example", "--by", "week").Done(t), ",5,")
	}, testkit.Patience, testkit.Look)
}

// What gates decided is searched, counted, shown and saved; a mistake in a query is marked, with what was probably meant.
func TestJournal(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, false)
	recorded(t, s, gate)
	run := func(args ...string) string { return s.Run(t, "", append([]string{"journal"}, args...)...).Done(t) }
	var found []client.GateRecord
	search := func(query string) []string {
		require.NoError(t, json.Unmarshal([]byte(run("search", "-o", "json", query)), &found))
		var urls []string
		for _, r := range found {
			urls = append(urls, r.URL)
		}
		return urls
	}
	assert.Equal(t, []string{"http://harbour-news.example/puzzles", "http://heron.example/wards?q=1"}, search(`person:"kay moran"`))
	assert.Equal(t, []string{"http://harbour-news.example/puzzles"}, search("kay.moran verdict:block list:betting since:1h"))
	assert.Equal(t, []string{"http://heron.example/wards?q=1"}, search(`path:/wards group:nurses -verdict:block covers:"heron.example/wards"`))
	assert.Len(t, search("site:oddsfield.example address:127.0.10.0/24 rule:never status:403 decided:yes"), 3)
	assert.Empty(t, search("until:1h"))
	assert.Contains(t, run("search", "nothing.like.it"), "as the query does not say since when")
	paged := run("search", "site:oddsfield.example", "--limit", "2")
	_, next, ok := strings.Cut(paged, "--before ")
	require.True(t, ok, paged)
	assert.Equal(t, 1, strings.Count(run("search", "site:oddsfield.example", "--before", strings.TrimSpace(next)), "oddsfield.example/=today"))

	assert.Regexp(t, `^Host,Requests,Allow,Watch,Hold,Block,Bytes\noddsfield.example,3,0,0,0,3,\d+\n`, strings.ReplaceAll(run("top", "host", "-o", "csv", "verdict:block"), "\"", ""))
	assert.Contains(t, run("top", "rule"), "Never")
	assert.Contains(t, run("top", "group", "-o", "csv"), "Nurses,")
	for _, field := range []string{"verdict", "gate", "sight", "category", "family", "person", "machine", "network", "address", "method", "rung", "policy", "exception", "list", "entry", "note", "trait", "words", "status", "type", "agent", "referrer", "revision", "outcome"} {
		answer, err := s.API(t).SummarizeJournalWithResponse(t.Context(), &client.SummarizeJournalParams{By: &[]string{field}})
		require.NoError(t, err)
		facet := answer.JSON200.Facets[0]
		require.NotEmpty(t, facet.Values, field)
		for _, v := range facet.Values { // each term selects what was counted
			answer, err := s.API(t).SearchJournalWithResponse(t.Context(), &client.SearchJournalParams{Q: &v.Term})
			require.NoError(t, err)
			assert.Len(t, answer.JSON200.Records, int(v.All), "%s: %s", field, v.Term)
		}
	}

	search("heron.example/wards")
	shown := run("show", found[0].ID.String())
	for _, want := range []string{"GET http://heron.example/wards?q=1", "Kay Moran", "Ward: otherwise", "Nurses", "saw the full"} {
		assert.Contains(t, shown, want)
	}
	assert.Equal(t, 2, s.Run(t, "", "journal", "show", "7").Code)

	// Why: made again from the revision of then; where the draft says something else, the rung at which they part.
	search("oddsfield.example")
	s.Run(t, "", "policy", "rule", "edit", "Ward", "Never", "--then", "allow").Done(t)
	why := run("show", found[0].ID.String())
	assert.Regexp(t, `then +■ block  The rule "Never" of the policy "Ward" says block, because the list "Betting" has the entry oddsfield.example`, why)
	assert.Regexp(t, `now +■ block  for the same reason`, why)
	assert.Regexp(t, `the draft +○ allow .*They part at the rung "policy"`, strings.ReplaceAll(why, "\n", " "))
	s.Run(t, "", "policy", "rule", "edit", "Ward", "Never", "--then", "block").Done(t)

	rows, err := csv.NewReader(strings.NewReader(run("export", "site:oddsfield.example"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, []string{"at", "verdict", "url"}, rows[0][:3])
	assert.Equal(t, 5, strings.Count(run("export", "--form", "jsonl"), "\n"))

	wrong := s.Run(t, "", "journal", "search", "kay verdict:blok")
	assert.NotZero(t, wrong.Code)
	assert.Contains(t, wrong.Err, "is one of allow, watch, hold, block\n  kay verdict:blok\n              ^\nperhaps this is meant:\n  kay verdict:block")
	for _, query := range []string{"q=a%20or", "by=size", "q=since:3y&over=minute"} {
		res := s.Request(t, http.MethodGet, "/api/v1/journal/summary?"+query, "", map[string]string{"Authorization": "Bearer " + s.Token(t)})
		assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, query)
		assert.NoError(t, res.Body.Close())
	}
}

// A tail has what is recorded from then on; one that comes back with the id of the last event has what it missed, and nothing twice.
func TestJournalTail(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, false)
	var last string
	follow := func(until string) (urls []string) {
		header := map[string]string{"Authorization": "Bearer " + s.Token(t)}
		if last != "" {
			header["Last-Event-ID"] = last
		}
		res := s.Request(t, http.MethodGet, "/api/v1/journal/tail?q=verdict:block", "", header)
		require.Equal(t, http.StatusOK, res.StatusCode)
		assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		for lines.Scan() {
			if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				last = id
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var records []client.GateRecord
				require.NoError(t, json.Unmarshal([]byte(data), &records))
				for _, r := range records {
					urls = append(urls, r.URL)
				}
				if until == "" || len(urls) > 0 && urls[len(urls)-1] == until {
					return urls
				}
			}
		}
		return urls
	}
	assert.Empty(t, follow(""), "where it begins")
	blocked := func(path string) {
		require.Equal(t, "the block page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://oddsfield.example/"+path).sees())
	}
	blocked("1")
	require.Equal(t, "the page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://heron.example/").sees())
	blocked("2")
	assert.Equal(t, []string{"http://oddsfield.example/1", "http://oddsfield.example/2"}, follow("http://oddsfield.example/2"))
	go func() {
		time.Sleep(300 * time.Millisecond)
		blocked("3")
	}()
	assert.Equal(t, []string{"http://oddsfield.example/3"}, follow("http://oddsfield.example/3"))
}

// The page of the journal completes a query, narrows it by what the records have in common, shows one record, and follows.
func TestConsoleJournal(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, false)
	recorded(t, s, gate)
	b := browser.Open(t, s.URL)
	b.SignIn(testkit.Name, testkit.Password)
	b.GoTo("/journal")
	b.See("main p[role=status]", "5 requests")
	b.See("figure[aria-label='Requests over time'] svg", "")
	b.Accessible("journal")
	b.Fill("main input[role=combobox]", "group:nu")
	b.See("main [role=option]", "Nurses")
	b.Accessible("completions")
	b.Eval(`document.querySelector("section[aria-label=Hosts] button[title^='host:oddsfield.example']").click()`)
	b.See("main p[role=status]", "3 requests")
	b.Await(`document.querySelector("main input[role=combobox]").value === "host:oddsfield.example"`, "the term is in the query")
	b.Eval(`document.querySelector("main tbody button").click()`)
	b.See("aside[aria-label=Record]", "Ward: Never")
	b.See("aside[aria-label=Record]", "for the same reason")
	b.Accessible("record")
	b.GoTo("/journal?q=verdict:blok")
	b.See("main p[role=alert]", "is one of allow, watch, hold, block")
	b.Press("Search verdict:block")
	b.See("main p[role=status]", "4 requests")
	b.Press("Follow")
	b.See("main p[role=status]", "Following what is recorded.")
	require.Equal(t, "the block page", curl(t, gate.Proxy, "--interface", "127.0.10.7", "http://oddsfield.example/followed").sees())
	b.See("main td", "http://oddsfield.example/followed")
	b.Accessible("following")
}

package lists

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// A list is created, filled, searched, exported and deleted through the command line.
func TestListCommands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	assert.Contains(t, run("list", "ls").Done(t), "no lists yet")
	assert.Equal(t, "Made the list \"Betting\".\n", run("list", "new", "Betting", "--describe", "Odds").Done(t))
	assert.Equal(t, 3, run("list", "new", "betting").Code, "the name is taken")

	added := run("list", "add", "Betting", "oddsfield.example # why", "*.oddsfield.test", "odds..example", `"odds`)
	assert.Equal(t, 1, added.Code, "some were refused")
	assert.Contains(t, added.Out, "line 3, column 5: odds..example")
	assert.Contains(t, added.Out, "did you mean odds.example?")
	assert.Contains(t, added.Out, "line 4, column 6: \"odds\n    the line ends, expected a quotation mark after the word")
	assert.Contains(t, added.Out, "2 entries added, 0 updated, 0 there already. The list has 2 entries.")

	shown := run("list", "show", "BETTING").Done(t)
	assert.Contains(t, shown, "Betting · 2 entries\nOdds\n")
	assert.Contains(t, shown, "Covers every host below oddsfield.test, but not the host itself.")
	var one struct{ Entries []client.Entry }
	require.NoError(t, json.Unmarshal([]byte(run("list", "show", "Betting", "--limit", "1", "-o", "json").Done(t)), &one))
	assert.Equal(t, "oddsfield.example # why", one.Entries[0].Text)
	more := regexp.MustCompile(`More: widelark list show "Betting" --after (\d+) --limit 1`).FindStringSubmatch(run("list", "show", "Betting", "--limit", "1").Done(t))
	require.NotNil(t, more)
	assert.Contains(t, run("list", "show", "Betting", "--after", more[1]).Done(t), "*.oddsfield.test")
	assert.NotContains(t, run("list", "show", "Betting", "--contains", "why").Done(t), "*.oddsfield.test")

	assert.Equal(t, "#: notation\noddsfield.example # why\n*.oddsfield.test\n", run("list", "export", "Betting").Done(t))
	run("list", "edit", "Betting", "--name", "Betting and lotteries").Done(t)
	rows, err := csv.NewReader(strings.NewReader(run("list", "ls", "-o", "csv").Done(t))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"Betting and lotteries", "2", ""}, rows[1][:3])
	assert.Contains(t, run("list", "ls", "-o", "yaml").Done(t), "name: Betting and lotteries")

	removed := run("list", "remove", "Betting and lotteries", "oddsfield.example", "heron.example")
	assert.Equal(t, 1, removed.Code)
	assert.Contains(t, removed.Out, "Took 1 entry out")
	assert.Contains(t, removed.Err, "1 entry was not in the list.")
	assert.Equal(t, 2, run("list", "remove", "Betting and lotteries").Code)
	assert.Contains(t, run("list", "delete", "Betting and lotteries").Done(t), "with 1 entry")
	gone := run("list", "show", "Betting")
	assert.Equal(t, 3, gone.Code)
	assert.Contains(t, gone.Err, `there is no list "Betting"; `+"`widelark list ls` shows which there are")
}

func TestFind(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, step := range [][]string{
		{"list", "new", "Betting"},
		{"list", "add", "Betting", "lantern.example # asked for by Theatre", "*lant*", "! =www.lantern.example"},
		{"list", "new", "Unused"},
		{"list", "add", "Unused", "# Theatre", "lantern.example/wards", "müßig.example"},
	} {
		s.Run(t, "", step...).Done(t)
	}
	find := func(args ...string) string {
		return s.Run(t, "", append([]string{"list", "find", "-o", "csv"}, args...)...).Done(t)
	}
	assert.Equal(t, "List,Entry,Kind,Covers\nBetting,lantern.example # asked for by Theatre,site,Covers lantern.example and every host below it.\nUnused,# Theatre,note,A note; it covers nothing.\n", find("THEATRE"))
	assert.Equal(t, 4, strings.Count(find("lant"), "\n")-1)
	assert.Equal(t, 2, strings.Count(find("lant", "--limit", "2"), "\n")-1)
	assert.Contains(t, find("xn--mig"), "müßig.example", "in ASCII form too")
	assert.Contains(t, s.Run(t, "", "list", "find", "lant", "--limit", "2").Done(t), "The first 2 entries; --limit shows more.")
	assert.Contains(t, s.Run(t, "", "list", "find", "nothing-like-it").Done(t), "No entry mentions that.")
	assert.Equal(t, 3, s.Run(t, "", "list", "find", "x").Code, "one character finds too much")

	covering := find("--covers", "http://www.lantern.example/wards/1")
	assert.Contains(t, covering, "Betting,carved out,! =www.lantern.example")
	assert.Contains(t, covering, "Unused,yes,lantern.example/wards")
	assert.Contains(t, s.Run(t, "", "list", "find", "--covers", "heron.test").Done(t), "No entry covers that.")
	assert.Equal(t, 3, s.Run(t, "", "list", "find", "--covers", "mailto:x").Code)
}

func TestUsage(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, row := range []struct {
		args string
		code int
		says string
	}{
		{"lists", 2, `unknown command "lists"; did you mean list?`},
		{"list frob", 2, `widelark list has no verb "frob"`},
		{"list show", 2, "wanted: NAME; got 0 arguments"},
		{"affected betting", 2, `"betting" is one word too many`},
		{"list ls -o xml", 2, `no output format "xml"`},
		{"list ls --frob", 2, "unknown flag: --frob"},
		{"list edit x", 2, "nothing to change"},
		{"try", 2, "give URLs, or a file"},
		{"list import x /nowhere", 3, `no list "x"`},
		{"list ls --server nowhere", 3, "is not the address of a service"},
		{"list ls --server http://127.0.0.1:1", 3, "no service answers at http://127.0.0.1:1: start it with"},
		{"policy show Nothing", 3, `no policy "Nothing"`},
		{"group edit Nothing --name x", 3, `no group "Nothing"`},
		{"entry explain a..b", 1, ""},
	} {
		ran := s.Run(t, "", strings.Fields(row.args)...)
		assert.Equal(t, row.code, ran.Code, row.args)
		assert.Contains(t, ran.Err, row.says, row.args)
	}
	assert.Contains(t, s.Run(t, "", "version").Done(t), "widelark ")
	assert.Contains(t, s.Run(t, "", "whoami").Done(t), "Edda Marsh")
	assert.Contains(t, s.Run(t, "", "status").Done(t), "answers")
	assert.Contains(t, s.Run(t, "", "entry", "explain", "heron.*", "hxxps://heron[.]example/x").Done(t), "heron.example/x")
	s.Run(t, "", "logout").Done(t)
	out := s.Run(t, "", "list", "ls")
	assert.Equal(t, 3, out.Code)
	assert.Contains(t, out.Err, "Sign in with `widelark login`.")
	assert.Equal(t, 1, s.Run(t, "", "whoami").Code)
	assert.Equal(t, 3, s.Run(t, "wrong", "login", "--name", testkit.Name, "--password-stdin", "--server", s.URL).Code)
}

// handKept is the report on the hand-kept file, counted by hand.
var handKept = client.Report{
	Lines: 58, Blank: 5, Notes: 5, Good: 21, Changed: 14, Refused: 13,
	Added: 33, Updated: 0, Same: 3,
}

func counts(r client.Report) [9]int64 {
	return [9]int64{r.Lines, r.Blank, r.Notes, r.Good, r.Changed, r.Refused, r.Added, r.Updated, r.Same}
}

func TestImportRealFiles(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	importing := func(list, path string, args ...string) client.Report {
		ran := s.Run(t, "", append([]string{"list", "import", list, path, "-o", "json"}, args...)...)
		var r client.Report
		require.NoError(t, json.Unmarshal([]byte(ran.Out), &r), ran.Err)
		assert.Equal(t, r.Refused > 0, ran.Code == 1, "exit 1 where lines were refused")
		return r
	}
	messy := house.File(t, "hand-kept.txt", demo.File(demo.HandKept))
	s.Run(t, "", "list", "new", "Blocked on request").Done(t)
	preview := importing("Blocked on request", messy, "--preview")
	assert.True(t, preview.Preview)
	assert.Equal(t, handKept.Added, preview.Added)
	assert.Equal(t, handKept.Refused, preview.Refused)
	assert.Contains(t, s.Run(t, "", "list", "show", "Blocked on request").Done(t), "no such entries", "a preview keeps nothing")

	first := importing("Blocked on request", messy)
	assert.Equal(t, counts(handKept), counts(first))
	assert.Len(t, first.RefusedLines, int(handKept.Refused))
	var where []string
	for _, l := range first.RefusedLines {
		where = append(where, fmt.Sprintf("%d:%d", l.Line, l.Column))
	}
	assert.Equal(t, "12:11 38:16 39:7 40:1 41:1 42:8 43:8 44:20 45:3 46:7 47:21 48:19 56:1", strings.Join(where, " "))
	again := importing("Blocked on request", messy)
	assert.EqualValues(t, 0, again.Added)
	assert.EqualValues(t, first.Added+first.Same, again.Same)

	// What was exported is read back as it is.
	exported := s.Run(t, "", "list", "export", "Blocked on request").Done(t)
	s.Run(t, "", "list", "new", "Copy").Done(t)
	copied := importing("Copy", house.File(t, "copy.txt", []byte(exported)), "--exact")
	assert.EqualValues(t, first.Added, copied.Added)
	assert.Equal(t, exported, s.Run(t, "", "list", "export", "Copy").Done(t))
	saved := filepath.Join(t.TempDir(), "saved.txt")
	s.Run(t, "", "list", "export", "Copy", saved).Done(t)
	text, err := os.ReadFile(saved)
	require.NoError(t, err)
	assert.Equal(t, exported, string(text))
	assert.Equal(t, 3, s.Run(t, "", "list", "export", "Copy", "/nowhere/x").Code)

	s.Run(t, "", "list", "new", "Suspect sites").Done(t)
	large := importing("Suspect sites", house.File(t, "suspects.txt", demo.SuspectSites()))
	assert.Equal(t, [9]int64{100_000, 0, 0, 100_000, 0, 0, 100_000, 0, 0}, counts(large))
	replaced := s.Run(t, "one-more.example\n", "list", "import", "Copy", "--replace")
	assert.Contains(t, replaced.Done(t), "1 entry added, 0 updated, 0 there already, 33 taken out. The list has 1 entry.")
	empty := s.Run(t, "# nothing\n", "list", "import", "Copy", "--replace")
	assert.Equal(t, 3, empty.Code)
	assert.Contains(t, empty.Err, "it holds no entry, and would empty the list; is it the right one?")
	piped := s.Run(t, "one-more.example\nhttps://two.example/\n", "list", "import", "Suspect sites")
	assert.Contains(t, piped.Done(t), "The list has 100,002 entries.", "standard input")
}

// If the service is killed during an import, the list holds either none or all of the file.
func TestImportSurvivesKills(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Suspect sites").Done(t)
	s.Run(t, "", "list", "add", "Suspect sites", "before.example").Done(t)
	const size = 25_000
	var sites bytes.Buffer
	require.NoError(t, demo.WriteSites(&sites, size, 20))
	random := rand.New(rand.NewPCG(1, 2))
	var kept []int
	for round := range 8 {
		cut := make(chan struct{})
		api, id := s.API(t), list(t, s).ID
		go func() {
			defer close(cut)
			_, _ = api.ImportEntriesWithBodyWithResponse(t.Context(), id, nil, "text/plain", bytes.NewReader(sites.Bytes()))
		}()
		time.Sleep(time.Duration(30+150*round+random.IntN(80)) * time.Millisecond) // from the first bytes to after the end
		s.Kill()
		<-cut
		s.Start(t)
		lines := strings.Count(s.Run(t, "", "list", "export", "Suspect sites").Done(t), "\n") - 1 // but for the header
		kept = append(kept, lines)
		require.Contains(t, []int{1, size + 1}, lines, "round %d", round)
		l := list(t, s)
		require.EqualValues(t, lines, l.EntryCount, "the count is what is there")
		if lines > 1 { // made anew, so that the next import has all of its work to do
			s.Run(t, "", "list", "delete", "Suspect sites").Done(t)
			s.Run(t, "", "list", "new", "Suspect sites").Done(t)
			s.Run(t, "", "list", "add", "Suspect sites", "before.example").Done(t)
		}
	}
	t.Log("entries after each kill:", kept)
}

func list(t testing.TB, s *testkit.Service) client.List {
	t.Helper()
	name := "Suspect sites"
	found, err := s.API(t).GetListsWithResponse(t.Context(), &client.GetListsParams{Name: &name})
	require.NoError(t, err)
	require.Len(t, found.JSON200.Lists, 1)
	return found.JSON200.Lists[0]
}

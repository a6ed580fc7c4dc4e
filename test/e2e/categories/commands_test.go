package categories

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// A pack is built, verified, trusted, pulled, held, examined, accepted and undone, and the categories of URLs follow.
func TestPacks(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	m := house.NewMaker(t, s)
	file := m.Build(t, "heron.example,games", "heron.example/news,news", "gull.example,chat forums", "203.0.113.0/24,hosting")
	verified := run("pack", "verify", file).Done(t)
	assert.Contains(t, verified, "Harbour (harbour), version 1 of ")
	assert.Contains(t, verified, "Signed by "+m.Key)
	assert.Equal(t, 1, run("pack", "verify", file, "--key", strings.Repeat("A", 43)+"=").Code)
	bad := run("pack", "build", m.Path("bad.larkpack"), m.Path("taxonomy.json"), "--taxonomy", m.Path("taxonomy.json"), "--key", m.Path("key.pem"), "--pack", "x", "--name", "x", "--number", "1", "--licence", "x")
	assert.Equal(t, 3, bad.Code)
	assert.Contains(t, bad.Err, "the columns entry and categories are wanted")
	assert.NoFileExists(t, m.Path("bad.larkpack"))
	assert.Equal(t, 3, run("pack", "key", m.Path("sites.csv")).Code)

	assert.Contains(t, run("category", "tree").Done(t), "the catalogue is empty")
	run("pack", "add", "Harbour", m.URL, "--paused", "--hold", "--max-shrink", "50").Done(t)
	refused := run("pack", "pull", "harbour")
	assert.Equal(t, 1, refused.Code)
	assert.Contains(t, refused.Out, "which nobody here trusts")
	assert.Contains(t, run("pack", "trust", "nonsense", "X").Err, "44 characters of base64")
	run("pack", "trust", m.Key, "Harbour office").Done(t)
	assert.Contains(t, run("pack", "keys").Done(t), m.Key)
	assert.Equal(t, "changed: Version 1: 4 sites came, 0 moved, 0 went.\n", run("pack", "pull", "Harbour").Done(t))
	assert.Contains(t, run("pack", "pull", "Harbour").Done(t), "unchanged: The source has no later version")

	look := run("lookup", "www.heron.example/news/today").Done(t)
	for _, want := range []string{"Society › News", "because", "heron.example/news", "(Harbour, version 1)", "also said", "Games", "places above", "from 20"} {
		assert.Contains(t, look, want)
	}
	assert.Contains(t, run("lookup", "--sight", "name", "www.heron.example/news/today").Done(t), "could say otherwise where the whole URL is seen")
	assert.Contains(t, run("lookup", "nobody.example").Done(t), "unrated: nothing says what it is")
	assert.Equal(t, 1, run("lookup", "--exit-code", "nobody.example", "heron.example").Code)
	assert.Contains(t, run("try", "heron.example", "-o", "json").Done(t), `"key": "games"`)

	s.Run(t, "", "list", "new", "unused").Done(t)
	_, err := s.API(t).AddSeenWithResponse(t.Context(), client.AddSeenInputBody{Pages: []client.SeenPage{
		house.Seen("www.heron.example/play", 40), house.Seen("gull.example", 7), house.Seen("nobody.example/a", 5), house.Seen("nobody.example/b", 6), house.Seen("heron.example/news/x", 3),
	}})
	require.NoError(t, err)
	tree := run("category", "tree", "-o", "csv").Done(t)
	assert.Contains(t, tree, "Leisure,Games,games,1,40,1\n")
	unrated := run("category", "unrated").Done(t)
	assert.Contains(t, unrated, "nobody.example        11      2")
	assert.Contains(t, unrated, "1 of 4 hosts, with 11 of 61 requests, are unrated.")

	m.Build(t, "heron.example,video", "gull.example,chat forums", "tern.example,games")
	assert.Contains(t, run("pack", "pull", "Harbour").Done(t), "Version 2: 1 sites came, 1 moved, 2 went. It waits until somebody accepts it.")
	assert.Contains(t, run("lookup", "heron.example").Done(t), "Leisure › Games", "until then all stays as it was")
	changes := run("pack", "changes", "Harbour").Done(t)
	assert.Contains(t, changes, "1 come, 1 move, 2 go")
	assert.Contains(t, changes, "2 hosts with 43 requests change category")
	assert.Contains(t, changes, "www.heron.example/play  Games  Video")
	assert.Contains(t, run("pack", "accept", "Harbour").Done(t), "Version 2 of \"Harbour\" is in force.")
	assert.Equal(t, 1, run("pack", "accept", "Harbour").Code)
	past := run("lookup", "heron.example").Done(t)
	assert.Contains(t, past, "Leisure › Video")
	assert.Contains(t, past, "Games  by heron.example  (Harbour, version 1)", "what it was before")
	assert.Contains(t, run("pack", "undo", "Harbour").Done(t), "Version 1 of \"Harbour\" is in force again.")
	assert.Contains(t, run("lookup", "heron.example").Done(t), "Leisure › Games")
	assert.Contains(t, run("pack", "history", "Harbour").Done(t), "undone")

	m.Build(t, "gull.example,chat")
	assert.Contains(t, run("pack", "pull", "Harbour").Out, "It would take away 2 of 3 sites, more than 50 per cent.")
	imported := run("pack", "import", "Harbour", m.Path("latest.larkpack"))
	assert.Equal(t, 3, imported.Code)
	assert.Contains(t, imported.Err, "more than 50 per cent. Nothing was changed")
	assert.Contains(t, run("pack", "import", "Harbour", m.Path("latest.larkpack"), "--force").Done(t), "has version 3: 0 came, 1 moved, 2 went.")
	assert.Contains(t, run("pack", "refuse", "Harbour").Done(t), "is refused")
	assert.Contains(t, run("pack", "import", "Harbour", m.Path("sites.csv")).Err, "The pack is refused: no pack, or damaged")
	run("pack", "set", "Harbour", "--name", "Harbour office's", "--every", "6h").Done(t)
	assert.Contains(t, run("pack", "show", "harbour").Done(t), "every 6h0m0s")
	assert.Equal(t, 2, run("pack", "remove", "harbour").Code)
	run("pack", "remove", "harbour", "--yes").Done(t)
	assert.Contains(t, run("lookup", "heron.example").Done(t), "unrated")
	run("pack", "distrust", m.Key).Done(t)
	assert.Contains(t, run("pack", "ls").Done(t), "There are no packs yet.")
}

// Categories of our own, corrections and scorecards, from the command line.
func TestOwnClassification(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	m := house.NewMaker(t, s)
	run("pack", "trust", m.Key, "Harbour office").Done(t)
	run("pack", "add", "Harbour").Done(t)
	run("pack", "import", "Harbour", m.Build(t, "dosage.example,drugs", "marrow-trust.test,adult", "heron.example,games", "late.example,charity")).Done(t)

	run("list", "new", "Formulary").Done(t)
	run("list", "add", "Formulary", "dosage.example", "! dosage.example/forum").Done(t)
	assert.Contains(t, run("category", "new", "Dosage pages", "--list", "Formulary", "--family", "elves").Err, `there is no family "elves"`)
	assert.Contains(t, run("category", "new", "Games", "--list", "Formulary").Err, "the catalogue has a category of this name")
	assert.Equal(t, "Made the category \"Dosage pages\", with the key dosage-pages.\n", run("category", "new", "Dosage pages", "--list", "Formulary", "--family", "health").Done(t))
	assert.Contains(t, run("lookup", "dosage.example/x").Done(t), "Health › Dosage pages")
	assert.Contains(t, run("lookup", "dosage.example/forum").Done(t), "Sensitive › Drugs", "a carve-out leaves it to the catalogue")
	run("category", "edit", "dosage-pages", "--adds", "--about", "What wards look up").Done(t)
	both := run("lookup", "dosage.example", "dosage.example/y", "-o", "csv").Done(t)
	assert.Contains(t, both, "https://dosage.example/y,\"Dosage pages, Drugs\",catalogue")
	assert.Contains(t, run("list", "remove", "Formulary", "nothing.example").Out+run("list", "delete", "Formulary").Err, "it is used by the category \"Dosage pages\"")
	assert.Contains(t, run("category", "show", "dosage-pages").Done(t), "what is in Formulary, beside what the catalogue says")
	assert.Contains(t, run("category", "show", "leisure").Done(t), "heron.example  games")
	assert.Contains(t, run("category", "find", "puzzle").Done(t), "games")
	assert.Contains(t, run("category", "show", "nowhere").Err, "there is no category or family")

	assert.Contains(t, run("category", "correct", "marrow-trust.test", "charities", "--why", "x").Err, `there is no category "charities"`)
	assert.Contains(t, run("category", "correct", "marrow-trust.test", "chariti", "--why", "x").Err, "there is no category")
	assert.Contains(t, run("category", "correct", "marrow..test", "charity", "--why", "x").Err, "entries[0]")
	run("category", "correct", "https://marrow-trust.test/", "charity", "--why", "A cancer charity").Done(t)
	run("category", "correct", "late.example", "charity", "--why", "Was news").Done(t)
	assert.Contains(t, run("lookup", "www.marrow-trust.test").Done(t), "Society › Charity")
	corrections := run("category", "corrections").Done(t)
	assert.Contains(t, corrections, "A cancer charity")
	assert.Contains(t, corrections, "charity (no longer needed)")
	export := run("category", "corrections", "--export").Done(t)
	rows, err := csv.NewReader(strings.NewReader(export)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"marrow-trust.test", "charity", "A cancer charity", "edda"}, rows[1][:4])
	require.NoError(t, os.WriteFile(m.Path("sites.csv"), []byte(export), 0o600), "a pack can be made of it")
	run("pack", "build", m.Path("next.larkpack"), m.Path("sites.csv"), "--taxonomy", m.Path("taxonomy.json"), "--key", m.Path("key.pem"), "--pack", "harbour", "--name", "H", "--number", "2", "--licence", "x").Done(t)
	many := s.Run(t, strings.Repeat("x.example\n", 1)+"y.example\n# not this\nz.example/a\n", "category", "correct", "--file", "-", "news", "sport", "--why", "looked at").Done(t)
	assert.Equal(t, 3, strings.Count(many, "is news, sport from now on"))
	var all []client.Correction
	require.NoError(t, json.Unmarshal([]byte(run("category", "corrections", "-o", "json").Done(t)), &all))
	require.Len(t, all, 5)
	run("category", "uncorrect", fmt.Sprint(all[0].ID)).Done(t)
	assert.Contains(t, run("lookup", "marrow-trust.test").Done(t), "Sensitive › Adult")
	assert.Equal(t, 3, run("category", "uncorrect", fmt.Sprint(all[0].ID)).Code)
	assert.Contains(t, run("category", "remove", "games").Err, "is a category of the catalogue")
	run("category", "remove", "dosage-pages").Done(t)

	require.NoError(t, os.WriteFile(m.Path("words.csv"), demo.File("adult-words.csv"), 0o600))
	run("scorecard", "set", "Adult words", "--category", "adult", "--words", m.Path("words.csv")).Done(t)
	assert.Contains(t, run("scorecard", "ls").Done(t), "Adult words")
	cured := run("scorecard", "try", "Screening for breast cancer, bare facts").Done(t)
	assert.Contains(t, cured, "breast* +50, bare +40, cancer -100, screening -60")
	assert.NotContains(t, cured, "Adult\n")
	assert.Contains(t, run("scorecard", "try", "shore.example/naked/breasts").Done(t), "Scored as a URL")
	scored := run("lookup", "shore.example/naked/breasts").Done(t)
	assert.Contains(t, scored, "naked +70  breast* +50  = 120 of 100: Adult")
	assert.Contains(t, scored, "Sensitive › Adult")
	require.NoError(t, os.WriteFile(m.Path("few.csv"), []byte("odds,40\njackpot*,70\n"), 0o600))
	assert.Contains(t, run("scorecard", "try", "Odds and jackpots", "--words", m.Path("few.csv"), "--threshold", "110").Done(t), "reached")
	assert.Equal(t, "word,points\n", strings.SplitAfter(run("scorecard", "show", "Adult words", "-o", "csv").Done(t), "\n")[0])
	run("scorecard", "set", "Adult words", "--off").Done(t)
	assert.Contains(t, run("lookup", "shore.example/naked/breasts").Done(t), "unrated")
	for want, words := range map[string]string{"points are between": "odds,0\n", "is there already, as word 1": "odds,1\nODDS,2\n", "are not points": "a,1\nb,two\n"} {
		require.NoError(t, os.WriteFile(m.Path("few.csv"), []byte(words), 0o600))
		assert.Contains(t, run("scorecard", "set", "Adult words", "--words", m.Path("few.csv")).Err, want)
	}
	run("scorecard", "remove", "Adult words").Done(t)
	assert.Equal(t, 2, run("scorecard", "set", "New").Code)
}

// The calls about classification refuse bad requests and name the field.
func TestClassificationRefusals(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	house.Refuse(t, s, "$many", strings.Repeat(`"a",`, 100))
	made, err := s.API(t).CreatePackWithResponse(t.Context(), client.NewPackInputBody{Name: "By hand"})
	require.NoError(t, err)
	_, err = s.API(t).PullPackWithResponse(t.Context(), made.JSON201.ID, nil)
	assert.ErrorContains(t, err, "no address to be pulled from")
	_, err = s.API(t).UndoPackWithResponse(t.Context(), made.JSON201.ID)
	assert.ErrorContains(t, err, "There is no state to go back to. Nothing was changed")
	_, err = s.API(t).AcceptPackWithResponse(t.Context(), made.JSON201.ID, client.SettlePackInputBody{Number: 1})
	assert.ErrorContains(t, err, "Somebody else changed this")
}

// Thousands of URLs are looked up from standard input.
func TestLookupThousands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	m := house.NewMaker(t, s)
	run("pack", "trust", m.Key, "Harbour office").Done(t)
	run("pack", "add", "Harbour").Done(t)
	run("pack", "import", "Harbour", m.Build(t, "site-7.example,games")).Done(t)
	var urls strings.Builder
	for i := range 12_000 {
		fmt.Fprintf(&urls, "http://www.site-%d.example/page?%d\n", i%10, i)
	}
	urls.WriteString("ftp://odd\n")
	looked := s.Run(t, urls.String(), "lookup", "--file", "-", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(looked.Done(t))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 12_002)
	games := 0
	for _, row := range rows {
		if row[1] == "Games" {
			games++
		}
	}
	assert.Equal(t, 1200, games)
	assert.Contains(t, looked.Err, "10,000 of 12,001 looked up")
}

// million writes a CSV file of n sites in one category, and a few in another.
func million(t *testing.T, name string, sites int, category string) {
	t.Helper()
	var b bytes.Buffer
	b.WriteString("entry,categories\n")
	for i := range sites {
		fmt.Fprintf(&b, "site-%d.example,%s\n", i, category)
	}
	b.WriteString("fixed.example,news\n")
	require.NoError(t, os.WriteFile(name, b.Bytes(), 0o600))
}

// While a large pack is stored, loaded and swapped in, trials go on, and none fails.
func TestTrialsGoOnDuringPacks(t *testing.T) {
	if testing.Short() {
		t.Skip("a large pack")
	}
	s := house.Server.Serve(t)
	m := house.NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour", "--max-shrink", "100").Done(t)
	million(t, m.Path("a.csv"), 60_000, "games")
	million(t, m.Path("b.csv"), 60_000, "chat")
	m.BuildFile(t, m.Path("a.larkpack"), m.Path("a.csv"))
	m.BuildFile(t, m.Path("b.larkpack"), m.Path("b.csv"))
	api := s.API(t)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	var tried, games, chat atomic.Int64
	var longest atomic.Int64
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			begin := time.Now()
			answer, err := api.TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: []string{"site-7.example", "fixed.example"}})
			if !assert.NoError(t, err) {
				return
			}
			longest.Store(max(longest.Load(), time.Since(begin).Microseconds()))
			tried.Add(1)
			class := answer.JSON200.Trials[0].Class
			if len(class.Categories) == 1 {
				switch class.Categories[0].Key {
				case "games":
					games.Add(1)
				case "chat":
					chat.Add(1)
				}
			}
		}
	}()
	s.Run(t, "", "pack", "import", "Harbour", m.Path("a.larkpack")).Done(t)
	answered := func(what *atomic.Int64) func() bool { return func() bool { return what.Load() > 0 } }
	require.Eventually(t, answered(&games), time.Minute, 10*time.Millisecond)
	s.Run(t, "", "pack", "import", "Harbour", m.Path("b.larkpack")).Done(t)
	require.Eventually(t, answered(&chat), time.Minute, 10*time.Millisecond)
	stop()
	<-done
	t.Logf("%d trials, the longest %.1f ms", tried.Load(), float64(longest.Load())/1000)
}

// A service that is killed at any moment of an update has either the old or the new catalogue, complete, after a restart.
func TestPacksSurviveKills(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	m := house.NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour", "--max-shrink", "100").Done(t)
	const n = 12_000
	million(t, m.Path("0.csv"), n, "games")
	million(t, m.Path("1.csv"), n+500, "chat")
	m.BuildFile(t, m.Path("0.larkpack"), m.Path("0.csv"))
	s.Run(t, "", "pack", "import", "Harbour", m.Path("0.larkpack")).Done(t)
	last, version := "games", 1
	var kept []int
	for kill := range 8 {
		category := []string{"chat", "games"}[kill%2]
		out := m.Path(fmt.Sprintf("next-%d.larkpack", kill))
		m.BuildFile(t, out, m.Path(map[string]string{"games": "0.csv", "chat": "1.csv"}[category]))
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			s.Run(t, "", "pack", "import", "Harbour", out)
		}()
		time.Sleep(time.Duration(60+kill*70) * time.Millisecond)
		s.Kill()
		<-ended
		s.Start(t)
		var all []client.Category
		answer, err := s.API(t).GetCategoriesWithResponse(t.Context(), nil)
		require.NoError(t, err)
		all = answer.JSON200.Categories
		sites := map[string]int64{}
		for _, c := range all {
			sites[c.Key] = c.Sites
		}
		packs, err := s.API(t).GetPacksWithResponse(t.Context())
		require.NoError(t, err)
		now := packs.JSON200.Packs[0].InForce
		switch {
		case sites["games"] == n && sites["chat"] == 0:
			assert.Equal(t, int64(n+1), now.Sites)
		case sites["chat"] == n+500 && sites["games"] == 0:
			assert.Equal(t, int64(n+501), now.Sites)
		default:
			t.Fatalf("half a catalogue after kill %d: %v", kill, sites)
		}
		if int(now.Version) != version {
			assert.EqualValues(t, m.Number, now.Version)
			version, last = int(now.Version), category
		}
		assert.NotZero(t, sites[last], "what is in force is what was last put in")
		kept = append(kept, version)
	}
	t.Log("versions in force after each kill:", kept)
}

// Rules name categories and families, and a correction turns a verdict at once.
func TestRulesOverCategories(t *testing.T) {
	t.Parallel()
	s, _ := house.Housed(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	assert.Equal(t, 2, run("policy", "rule", "add", "Fallback", "Nothing").Code)
	assert.Contains(t, run("policy", "rule", "add", "Fallback", "X", "--category", "gamse").Err, `rules[0].if.categories[0]: there is no category or family "gamse"`)
	assert.Contains(t, run("policy", "rule", "add", "Fallback", "Dangers", "--category", "dangers").Done(t), "Block what is Dangers.")
	run("policy", "rule", "add", "Fallback", "Not on the ward", "--category", "adult", "--category", "games").Done(t)
	told := run("try", "snare.example/x").Done(t)
	for _, want := range []string{"■ block", `because it is Malware: the pack "Harbour" has the entry snare.example.`, "decided by  Dangers", "category    Malware", "entry       snare.example"} {
		assert.Contains(t, told, want)
	}
	assert.Contains(t, run("try", "heron.example/news").Done(t), "○ allow", "the page is news")
	assert.Contains(t, run("try", "--sight", "name", "heron.example/news").Done(t), "Where the whole URL is seen it would be: ○ allow")
	assert.Contains(t, run("try", "marrow-trust.test/breast/screening").Done(t), "■ block")
	run("category", "correct", "marrow-trust.test", "charity", "--why", "A cancer charity").Done(t)
	assert.Contains(t, run("try", "marrow-trust.test/breast/screening").Done(t), "○ allow")
	many := run("try", "snare.example", "heron.example", "tern.example", "-o", "csv").Done(t)
	assert.Contains(t, many, "block,https://snare.example/,Malware,snare.example,Dangers,")
	assert.Contains(t, many, "allow,https://tern.example/,,,otherwise,")
	run("pack", "accept", "Harbour").Done(t)
	assert.Contains(t, run("try", "heron.example").Done(t), "○ allow", "it is Video now, which no rule names")
	run("policy", "rule", "edit", "Fallback", "Not on the ward", "--category", "leisure").Done(t)
	assert.Contains(t, run("try", "heron.example").Done(t), "because it is Video")
	var p client.Policy
	require.NoError(t, json.Unmarshal([]byte(run("policy", "show", "Fallback", "-o", "json").Done(t)), &p))
	assert.Equal(t, []string{"leisure"}, *p.Rules[1].If.Categories)
}

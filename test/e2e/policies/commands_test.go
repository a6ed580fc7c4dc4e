package policies

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// A trial explains each mistake in the demo data.
func TestTraps(t *testing.T) {
	t.Parallel()
	s := house.HospitalAsLive(t)
	try := func(args ...string) string { return s.Run(t, "", append([]string{"try"}, args...)...).Done(t) }
	for _, c := range []struct {
		what string
		args []string
		want []string
	}{
		{"a page at the DNS gate", []string{"encyclopaedia.example/wiki/Tides", "--from", "10.40.41.12", "--journey", "--trace"}, []string{
			"■ block", "The person sees a name that does not resolve.", "cannot tell       The page on tides             ○ allow  the page: only the host is seen here", "Where the whole URL is seen it would be: ○ allow\n    The exception \"The page on tides\" says allow for the network \"Bedside screens\"", "unlocked: nothing is unlocked for this",
			"Allow this host (=encyclopaedia.example) for the network \"Bedside screens\" → allow",
		}},
		{"the night shift crosses midnight", []string{"harbour-news.example/puzzles", "--group", "Night ward", "--at", "sat 02:00"}, []string{"◐ watch", `The rule "After one" of the policy "Night ward" says watch in Small hours`, "until       Sat"}},
		{"a weekend night belongs to the evening before", []string{"gull-video.test", "--group", "Night ward", "--at", "sat 00:30"}, []string{"◐ watch", `The rule "Films on weekend nights" of the policy "Night ward" says watch in Weekend nights`}},
		{"the night after Sunday is none of the weekend", []string{"gull-video.test", "--group", "Night ward", "--at", "mon 00:30"}, []string{"■ block", `The rule "Not before" of the policy "Night ward" says block`}},
		{"a wrong category", []string{"marrow-trust.test/breast/screening", "--as", "Kay Moran", "--at", "tue 14:10"}, []string{
			"■ block", `because it is Adult: the pack "Harbour catalogue" has the entry marrow-trust.test`, "Correct what it is: not Adult → allow", "Allow this page (=marrow-trust.test/breast/screening) for Kay Moran → allow",
		}},
		{"two policies that disagree", []string{"harbour-news.example/puzzles", "--as", "Kay Moran", "--at", "tue 02:00", "--trace"}, []string{
			"■ block", `The rule "No games, no video" of the policy "Ward floor"`, "Of the 2 policies that the request has, the strictest counts.", "outweighed        After one                     ◐ watch",
		}},
		{"what the baseline blocks", []string{"--group", "Research library", "phishy.example"}, []string{"◐ watch"}},
	} {
		told := try(c.args...)
		for _, want := range c.want {
			assert.Contains(t, told, want, c.what)
		}
	}
	// A rule that stands below a wider one: the trial shows it as not reached, and moving it up as what would change the verdict.
	api := s.API(t)
	one := "=circle-of-tests.example"
	_, err := api.CorrectWithResponse(t.Context(), client.CorrectInputBody{Entries: []string{one}, Categories: []string{"social"}, Reason: "for the test"})
	require.NoError(t, err)
	told := try("circle-of-tests.example", "--as", "Petra Lapwing", "--at", "2026-11-24 10:00", "--trace")
	assert.Contains(t, told, `The rule "Private contact in office hours" of the policy "Offices" says block in Office hours, because it is Social`)
	assert.Contains(t, told, `Move the rule "Social sites are watched" of "Offices" above "Private contact in office hours"`)
	assert.Contains(t, told, "not reached       Social sites are watched           ◐ watch  it is Social")
	assert.Contains(t, told, "until       Tue 24 Nov 12:30")

	// Two people, and the first rung at which they part.
	told = try("harbour-news.example/puzzles", "--as", "Kay Moran", "--or-as", "Ola Fenn", "--at", "2026-11-24 12:45")
	assert.Contains(t, told, `They part at the rung "policy"`)
	assert.Contains(t, told, `Only Kay Moran has the policy "Night ward".`)
	// The same person at two moments.
	told = try("harbour-news.example/puzzles", "--as", "Ola Fenn", "--at", "2026-11-24 12:45", "--or-at", "2026-11-24 14:00")
	assert.Contains(t, told, "not now (it holds in Meal breaks)")

	matrix := try("harbour-news.example/puzzles", "no url at all/", "--matrix", "--at", "2026-11-24 14:00", "-o", "csv")
	assert.Contains(t, matrix, "URL,Ward nurses,Doctors,Theatre staff,Night ward,Bedside screens,Visitors,Trainees,Front desk,Records office,Research library,IT workshop\n")
	assert.Contains(t, matrix, "harbour-news.example/puzzles,block,block,block,block,block,allow,block,block,block,watch,allow\n")
	assert.Contains(t, matrix, "no url at all/,no URL,no URL")
	week := try("harbour-news.example/puzzles", "--group", "Ward nurses", "--week", "--at", "2026-11-23", "-o", "csv")
	assert.Contains(t, week, `a member of Ward nurses,watch,"every day 00:30-01:15, 12:30-13:15"`)

	plan := s.Run(t, "", "group", "plan", "Ward nurses").Done(t)
	for _, want := range []string{"everything else", "○ allow", "every day 00:30-01:15, 12:30-13:15", "list Betting", "Policies: Ward floor."} {
		assert.Contains(t, plan, want)
	}
	assert.Contains(t, s.Run(t, "", "policy", "show", "Research").Done(t), `The baseline blocks Phishing by its rule "Dangers"; Study of dangers cannot loosen it.`)
	who := s.Run(t, "", "who", "10.40.41.12").Done(t)
	for _, want := range []string{"Bedside 4-12", "groups      Bedside screens", "network     Bedside screens", "policies    Bedside screens", "exceptions  ○ allow =encyclopaedia.example/wiki/Tides"} {
		assert.Contains(t, who, want)
	}
	loosest := s.Run(t, "", "policy", "order", "--combine", "loosest").Done(t)
	assert.Regexp(t, `For 2\d people with several policies, [\d,]+ of [\d,]+ recorded pages are opened by this, and 0 closed, as \S+ for `, loosest)
	s.Run(t, "", "policy", "order", "--combine", "strictest").Done(t)
	// The demo loads again over itself without a change.
	before := s.Run(t, "", "policy", "ls", "-o", "csv").Done(t)
	require.NoError(t, demo.Load(t.Context(), api, demo.Loading{Dir: t.TempDir(), Partner: "http://127.0.0.1:1", Requests: 20_000, Out: io.Discard}))
	assert.Equal(t, before, s.Run(t, "", "policy", "ls", "-o", "csv").Done(t))
}

// People are imported from a directory's file, recognised in the next file, and belong to groups of every kind.
func TestPeopleCommands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	ldif := filepath.Join(t.TempDir(), "people.ldif")
	require.NoError(t, os.WriteFile(ldif, demo.PeopleLDIF(), 0o600))
	preview := run("person", "import", ldif, "--preview").Done(t)
	assert.Contains(t, preview, "400 people would be added, 0 changed, 0 the same as before.")
	assert.Contains(t, run("person", "ls").Done(t), "Nobody.")
	run("person", "import", ldif).Done(t)
	id := func(name string) string {
		var found []client.Person
		require.NoError(t, json.Unmarshal([]byte(run("person", "ls", name, "-o", "json").Done(t)), &found))
		return found[0].ID.String()
	}
	kay := id("kay.moran")
	assert.Contains(t, run("person", "import", ldif).Done(t), "0 people added, 0 changed, 400 the same as before.")
	changed := strings.Replace(string(demo.PeopleLDIF()), "cn: Kay Moran", "cn: Kay Moran-Vale", 1)
	require.NoError(t, os.WriteFile(ldif, []byte(changed[:strings.Index(changed, "\ndn: uid=rae.scar")]+changed[strings.Index(changed, "uid: rae.scar")+strings.Index(changed[strings.Index(changed, "uid: rae.scar"):], "\ndn: uid="):]), 0o600))
	again := run("person", "import", ldif, "--remove").Done(t)
	assert.Contains(t, again, "1 changed, 398 the same as before.")
	assert.Contains(t, again, "Not in the file any more, and taken out:\n  rae.scar")
	assert.Equal(t, kay, id("kay.moran"), "ids stay")

	assert.Contains(t, run("person", "move", "kay.moran", "ola.fenn", "--into", "Doctors", "--out-of", "Ward nurses").Done(t), "Moved 2 people.")
	assert.Contains(t, run("who", "Kay Moran-Vale").Done(t), "groups      Doctors, Night ward")
	for _, step := range [][]string{
		{"network", "new", "Site", "10.40.0.0/16"},
		{"network", "new", "Wards", "10.40.10.0/23", "2001:db8:40::/48"},
		{"machine", "new", "Kiosk", "10.40.9.7"},
		{"group", "new", "On site", "--network", "Site", "--range", "192.0.2.7"},
		{"group", "new", "Clinical", "--group", "Doctors", "--network", "Wards", "--machine", "Kiosk"},
		{"group", "edit", "Clinical", "--lead", "hal.birch", "--describe", "All who treat"},
	} {
		run(step...).Done(t)
	}
	for who, want := range map[string]string{
		"10.40.10.9": "Clinical", "::ffff:10.40.200.1": "On site", "192.0.2.7": "On site", "2001:db8:40::1": "Clinical", "Kiosk": "Clinical, On site", "Hal Birch": "Clinical, Doctors", "192.0.2.8": "none",
	} {
		assert.Contains(t, run("who", who).Done(t), "groups      "+want+"\n", who)
	}
	for want, args := range map[string][]string{
		`groups may not hold each other in a ring: "Clinical" holds "Doctors" holds "Clinical"`: {"group", "edit", "Doctors", "--group", "Clinical"},
		`it is used by the group "Clinical"`:                                                    {"network", "remove", "Wards"},
		"it is used by the person":                                                              {"group", "remove", "Trainees"},
		"the name is taken":                                                                     {"group", "new", "clinical"},
		`ranges[0]: "10.40" is neither an address nor a range`:                                  {"network", "new", "X", "10.40"},
		`there is no person "nobody"; ` + "`widelark person ls` shows which there are":          {"person", "move", "nobody", "--into", "Doctors"},
		`nobody is called "Surgeons": no person, group or machine`:                              {"who", "Surgeons"},
		"The file cannot be read: line 1: no column is called name":                             {"person", "import", house.File(t, "staff.csv", []byte("a,b\n1,2\n"))},
		"The file cannot be read: line 2: a value is in another file":                           {"person", "import", house.File(t, "evil.ldif", []byte("dn: uid=a\nuid:< file:///etc/passwd\n"))},
	} {
		ran := run(args...)
		assert.Equal(t, 3, ran.Code, args)
		assert.Contains(t, ran.Err, want)
	}
	csv := house.File(t, "more.csv", []byte("name,full name,groups\nnew.one,New One,Doctors; Guests\n"))
	assert.Contains(t, run("person", "import", csv).Done(t), "New groups:\n  Guests")
	assert.Contains(t, run("who", "new.one").Done(t), "groups      Clinical, Doctors, Guests")
	run("person", "remove", "new.one").Done(t)
	run("group", "remove", "Guests").Done(t)
}

// Policies have starting points, modes, every kind of condition, an order and ways to combine; mistakes are reported with their place.
func TestPolicyCommands(t *testing.T) {
	t.Parallel()
	s, _ := house.Housed(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	for _, step := range [][]string{
		{"group", "new", "Nurses"},
		{"group", "new", "Night"},
		{"list", "new", "Welcome"},
		{"list", "add", "Welcome", "welcome.example"},
		{"schedule", "new", "Breaks", "mon-sun 12:00-13:00", "--zone", "UTC"},
		{"person", "new", "kay", "--in", "Nurses", "--in", "Night"},
		{"app", "new", "Sharebay", "sharebay.example", "--activity", "upload:POST,PUT:/up,/files/*/add"},
	} {
		run(step...).Done(t)
	}
	assert.Contains(t, run("policy", "new", "Floor", "--start", "balanced", "--for", "Nurses").Done(t), "Block what is Dangers.")
	assert.Contains(t, run("policy", "new", "Careful", "--start", "careful").Done(t), "Careful · for nobody")
	only := run("policy", "new", "Beds", "--only", "Welcome", "--for", "Night").Done(t)
	assert.Contains(t, only, `Allow what is in the list "Welcome".`)
	assert.Regexp(t, `otherwise +■ block`, only)
	assert.Regexp(t, `otherwise +■ block`, run("policy", "new", "Off", "--off").Done(t))
	assert.Contains(t, run("policy", "new", "But", "--all-but", "Welcome").Done(t), `Block what is in the list "Welcome".`)
	assert.Equal(t, 2, run("policy", "new", "Both", "--off", "--start", "open").Code)
	for want, flags := range map[string][]string{
		`Allow and flag what is Games, in Breaks, with safe search, no uploads, at most 20 MB and at most 30 min a day.`: {"--category", "games", "--in", "Breaks", "--then", "watch", "--safe-search", "--no-uploads", "--max-mb", "20", "--minutes", "30"},
		"Hold what (is unrated or has a bare address for a host) and asks for programs, outside Breaks.":                 {"--file", "programs", "--trait", "unrated", "--trait", "raw-address", "--join", "all", "--outside", "Breaks", "--then", "hold"},
		"Block what belongs to Sharebay (upload), at the proxy gate only.":                                               {"--app", "sharebay/upload", "--at", "proxy"},
		`Block what is sent by POST or searches for "bet*".`:                                                             {"--method", "post", "--search", "bet*"},
		"Note, and go on with, everything.":                                                                              {"--everything", "--then", "note"},
	} {
		run(append([]string{"policy", "rule", "add", "Floor", "A rule", "--position", "1"}, flags...)...).Done(t)
		assert.Contains(t, run("policy", "show", "Floor").Done(t), want)
		run("policy", "rule", "remove", "Floor", "A rule").Done(t)
	}
	tree := house.File(t, "if.yaml", []byte("all:\n- lists: [Welcome]\n- none:\n  - categories: [games, dangers]\n  - methods: [GET]\n"))
	assert.Contains(t, run("policy", "rule", "add", "Floor", "Tree", "--if", tree, "--then", "allow").Done(t),
		`Allow what is in the list "Welcome" and is none of these: it is Games or Dangers; or it is sent by GET.`)
	for want, args := range map[string][]string{
		`rules[0].if.categories[0]: there is no category or family "gamse"`: {"policy", "rule", "add", "Off", "X", "--category", "gamse"},
		`rules[0].if.apps[0]: there is no app "sharebay/steal"`:             {"policy", "rule", "add", "Off", "X", "--app", "sharebay/steal"},
		`rules[0].if.files[0]: "zip" is not an ending as .zip`:              {"policy", "rule", "add", "Off", "X", "--file", "zip"},
		`there is no schedule "Lunch"`:                                      {"policy", "rule", "add", "Off", "X", "--everything", "--in", "Lunch"},
		"rules[0].with: provisos bind what is allowed":                      {"policy", "rule", "add", "Off", "X", "--everything", "--safe-search"},
		`it is used by the policy "Floor"`:                                  {"group", "remove", "Nurses"},
		"The fallback cannot be deleted. Take its rules out instead":        {"policy", "remove", "Fallback"},
		"the baseline allows, blocks and notes, nothing else":               {"policy", "rule", "add", "Baseline", "X", "--everything", "--then", "hold"},
	} {
		ran := run(args...)
		assert.Equal(t, 3, ran.Code, args)
		assert.Contains(t, ran.Err, want)
	}
	run("policy", "rule", "add", "Floor", "Breaks", "--everything", "--in", "Breaks", "--then", "allow").Done(t)
	assert.Contains(t, run("schedule", "remove", "Breaks").Err+run("schedule", "delete", "Breaks").Err, `it is used by the policy "Floor"`)
	assert.Contains(t, run("schedule", "show", "Breaks").Done(t), "Used by: Floor.")

	// Order and strictness.
	try := func() string { return run("try", "heron.example", "--as", "kay", "--at", "2026-11-23 10:00").Done(t) }
	assert.Contains(t, try(), "■ block") // by name: Beds is before Floor
	assert.Contains(t, run("policy", "order", "Floor", "--position", "1").Done(t), "Order: Floor, Beds")
	assert.Contains(t, try(), "○ allow")
	assert.Contains(t, run("policy", "order", "--combine", "strictest").Done(t), "the strictest verdict counts")
	assert.Contains(t, try(), "■ block")
	run("policy", "order", "--combine", "loosest").Done(t)
	assert.Contains(t, try(), "Of the 2 policies that the request has, the loosest counts.")
	assert.Contains(t, run("policy", "copy", "Floor", "Floor two").Done(t), "Floor two · for nobody")
	run("policy", "edit", "Floor two", "--for", "Night", "--inspect", "all", "--describe", "A second").Done(t)
	assert.Contains(t, run("policy", "show", "Floor two").Done(t), "TLS connections are opened")
	run("policy", "remove", "Floor two", "Careful").Done(t)
	assert.NotContains(t, run("policy", "ls").Done(t), "Careful")
}

// Exceptions come before policies, the closest first, while they are in force; trials and the who command show them.
func TestExceptionCommands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	for _, step := range [][]string{
		{"group", "new", "Nurses"}, {"person", "new", "kay", "--full-name", "Kay Moran", "--in", "Nurses"}, {"network", "new", "Wards", "10.40.10.0/23"}, {"policy", "new", "Off", "--off", "--for", "Nurses"},
	} {
		run(step...).Done(t)
	}
	verdict := func(want string, args ...string) {
		t.Helper()
		assert.Contains(t, run(append([]string{"try", "--as", "kay"}, args...)...).Done(t), want)
	}
	verdict("■ block", "heron.example/a")
	assert.Contains(t, run("exception", "new", "heron.example", "--group", "Nurses", "--why", "Asked for", "--until", "7d").Done(t), `The exception is called "Allow heron.example".`)
	verdict("○ allow", "heron.example/a")
	run("exception", "new", "=heron.example/a", "--block", "--group", "Nurses", "--why", "Not this page").Done(t)
	verdict("■ block", "heron.example/a") // more specific
	run("exception", "new", "heron.example", "--network", "Wards", "--why", "From the wards").Done(t)
	verdict("○ allow", "heron.example/a", "--from", "10.40.10.9") // a place is closer than a group
	run("exception", "new", "heron.example", "--block", "--person", "kay", "--why", "Not her", "--name", "Not Kay").Done(t)
	verdict("■ block", "heron.example/b", "--from", "10.40.10.9") // and a person closer than that
	verdict(`The exception "Not Kay" says block for Kay Moran, because it has the entry heron.example. Reason given: Not her.`, "heron.example/b")
	assert.Contains(t, run("who", "kay").Done(t), "exceptions  ■ block heron.example")
	assert.Contains(t, run("exception", "end", "Not Kay").Done(t), `Ended "Not Kay".`)
	verdict("○ allow", "heron.example/b", "--from", "10.40.10.9")
	assert.Contains(t, run("exception", "ls").Done(t), "Not Kay")
	ending := run("exception", "ls", "--ending", "8d", "-o", "csv").Done(t)
	assert.Equal(t, 2, strings.Count(ending, "\n"), "one of them ends soon")
	run("exception", "new", "tern.example", "--everybody", "--why", "Later", "--from", "2031-01-01", "--until", "2031-01-02", "--requested-by", "Rae Scar").Done(t)
	verdict("■ block", "tern.example")
	verdict("○ allow", "tern.example", "--at", "2031-01-02 23:59")
	verdict("■ block", "tern.example", "--at", "2031-01-03 00:00")
	told := run("exception", "show", "Allow tern.example").Done(t)
	for _, want := range []string{"state         later\n", "does          ○ allow\n", "covers        tern.example\n", "for           everybody\n", "from          Wed 1 Jan 00:00\n", "until         through Thu 2 Jan\n", "reason        Later\n", "asked for by  Rae Scar\n"} {
		assert.Contains(t, told, want)
	}
	assert.Contains(t, run("exception", "edit", "Allow tern.example", "--person", "kay moran", "--block", "--entry", "=tern.example", "--from", "2031-01-01 08:00", "--until", "none", "--why", "Not yet", "--name", "Terns").Done(t),
		`Changed the exception "Terns": ■ block =tern.example for Kay Moran from Wed 1 Jan 08:00.`)
	edited := run("exception", "show", "terns", "-o", "csv").Done(t)
	assert.Contains(t, edited, "Terns,later,block,'=tern.example,Kay Moran,Wed 1 Jan 08:00,no end,Not yet,Rae Scar,")
	run("exception", "edit", "Terns", "--off").Done(t)
	assert.Contains(t, run("exception", "show", "Terns").Done(t), "state         off\n")
	run("exception", "edit", "Terns", "--on", "--allow").Done(t)
	assert.Contains(t, run("exception", "show", "Terns").Done(t), "does          ○ allow\n")
	run("exception", "remove", "Terns").Done(t)
	assert.Equal(t, 2, run("exception", "edit", "Not Kay").Code, "nothing to change")
	for want, args := range map[string][]string{
		"say why, with --why": {"exception", "new", "a.example", "--everybody"}, "say for whom": {"exception", "new", "a.example", "--why", "x"}, "is neither a day": {"exception", "new", "a.example", "--everybody", "--why", "x", "--until", "soon"},
	} {
		ran := run(args...)
		assert.Equal(t, 2, ran.Code, args)
		assert.Contains(t, ran.Err, want)
	}
	assert.Contains(t, run("exception", "new", "! a.example", "--everybody", "--why", "x").Err, "entries[0]: an exception has no carve-outs")
	assert.Contains(t, run("exception", "new", "a..example", "--everybody", "--why", "x").Err, "did you mean a.example?")
	assert.Contains(t, run("person", "remove", "kay").Err, `it is used by the exception "Not Kay"`)
	run("exception", "remove", "Not Kay").Done(t)
	run("person", "remove", "kay").Done(t)
}

// An edit of an object that somebody else has changed meanwhile is refused, for every kind of object.
func TestObjectsNeedWhatWasSeen(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	bearer := map[string]string{"Authorization": "Bearer " + s.Token(t), "Content-Type": "application/json"}
	for path, body := range map[string]string{
		"people": `{"name":"kay","fullName":"","groups":[]}`, "groups": `{"name":"Nurses","groups":[],"networks":[],"machines":[],"ranges":[]}`, "networks": `{"name":"Wards","ranges":["10.40.0.0/16"]}`,
		"machines": `{"name":"Kiosk","address":"10.40.9.7"}`, "policies": `{"name":"Floor","groups":[],"rules":[],"otherwise":"allow"}`,
		"exceptions": `{"name":"One","entries":["a.example"],"then":"allow","for":{"everybody":true},"reason":"x"}`, "apps": `{"name":"Share","hosts":["a.example"],"activities":[]}`,
	} {
		made := s.Request(t, "POST", "/api/v1/"+path, body, bearer)
		require.Equal(t, 201, made.StatusCode, path)
		var o struct {
			ID      string
			Version int64
		}
		require.NoError(t, json.NewDecoder(made.Body).Decode(&o))
		assert.Equal(t, fmt.Sprintf(`"%d"`, o.Version), made.Header.Get("ETag"))
		status := func(method, match string) int {
			with := map[string]string{"If-Match": match}
			for k, v := range bearer {
				with[k] = v
			}
			return s.Request(t, method, "/api/v1/"+path+"/"+o.ID, body, with).StatusCode
		}
		assert.Equal(t, 428, status("PUT", ""), path)
		assert.Equal(t, 412, status("PUT", `"1"`), path)
		assert.Equal(t, 200, status("PUT", made.Header.Get("ETag")), path)
		assert.Equal(t, 412, status("DELETE", made.Header.Get("ETag")), path)
		assert.Equal(t, 204, status("DELETE", "*"), path)
		assert.Equal(t, 404, status("PUT", "*"), path)
	}
	for body, want := range map[string]int{
		`{"urls":["a.example"],"who":{"name":"nobody"}}`: 422, `{"urls":["a.example"],"at":"soon"}`: 422, `{"urls":["a.example"],"sight":"half"}`: 422, `{"urls":[]}`: 422, `{"urls":["a.example"],"on":"live"}`: 200,
	} {
		assert.Equal(t, want, s.Request(t, "POST", "/api/v1/trials", body, bearer).StatusCode, body)
	}
}

// A journey gives the verdict of all gates together: a page that one gate allows is not reached if another gate blocks its name.
func TestManyThroughTheGates(t *testing.T) {
	t.Parallel()
	s := house.HospitalAsLive(t)
	run := func(args ...string) string {
		return s.Run(t, "", append([]string{"try", "harbour-news.example/puzzles"}, args...)...).Done(t)
	}
	const night = "Night ward"
	assert.Contains(t, run("--matrix", "--group", night, "--at", "sat 14:00", "-o", "csv"), "harbour-news.example/puzzles,block\n")
	assert.Contains(t, run("--matrix", "--group", night, "--at", "sat 14:00", "--journey", "-o", "csv"), "harbour-news.example/puzzles,allow\n", "its policy opens no connection, so nobody sees the page")
	assert.Contains(t, run("--week", "--group", night, "-o", "csv"), ",block,")
	assert.Contains(t, run("--week", "--group", night, "--journey", "-o", "csv"), ",allow,always\n")
	assert.Contains(t, run("--matrix", "--group", night, "--at", "sat 14:00", "--sight", "name", "--gate", "dns", "-o", "csv"), "harbour-news.example/puzzles,allow\n", "as one gate sees it")
	told := run("--group", night, "--or-group", "Ward nurses", "--at", "sat 14:00", "--journey")
	assert.Contains(t, told, "○ allow")
	assert.Contains(t, told, "■ block")
	for _, args := range [][]string{{"--journey", "--sight", "name"}, {"--journey", "--gate", "dns"}, {"--matrix", "--week"}, {"--matrix", "--trace"}, {"--week", "--expect"}} {
		ran := s.Run(t, "", append([]string{"try", "heron.example"}, args...)...)
		assert.Equal(t, 2, ran.Code, args)
		assert.Contains(t, ran.Err, "do not go together", args)
	}
}

// Completion offers the names of the service's objects, for arguments and for flags.
func TestCompletion(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "group", "new", "Night ward").Done(t)
	s.Run(t, "", "person", "new", "kay.moran", "--full-name", "Kay Moran", "--in", "Night ward").Done(t)
	s.Run(t, "", "network", "new", "Wards", "10.40.10.0/23").Done(t)
	s.Run(t, "", "list", "new", "Betting").Done(t)
	for _, c := range []struct {
		typed []string
		want  string
	}{
		{[]string{"policy", "show", ""}, "Baseline\nFallback\n:4\n"},
		{[]string{"policy", "rule", "add", "fall"}, "Fallback\n:4\n"},
		{[]string{"policy", "copy", "Fallback", ""}, ":0\n"},
		{[]string{"policy", "edit", "Fallback", "--for", "n"}, "Night ward\n:4\n"},
		{[]string{"group", "plan", ""}, "Night ward\n:4\n"},
		{[]string{"person", "remove", "nobody", "kay"}, "kay.moran\tKay Moran\n:4\n"},
		{[]string{"try", "x.example", "--as", ""}, "kay.moran\tKay Moran\n:4\n"},
		{[]string{"exception", "new", "x.example", "--network", "W"}, "Wards\n:4\n"},
		{[]string{"list", "show", "b"}, "Betting\n:4\n"},
		{[]string{"list", "source", "pull", "x"}, ":4\n"},
	} {
		assert.Equal(t, c.want, s.Run(t, "", append([]string{"__complete"}, c.typed...)...).Out, c.typed)
	}
	lost := *s
	lost.Config = "/nowhere.yaml"
	assert.Equal(t, ":4\n", lost.Run(t, "", "__complete", "policy", "show", "--server", "http://127.0.0.1:1", "").Out, "a service that does not answer offers nothing")
	assert.Contains(t, s.Run(t, "", "network", "new", "--help").Done(t), "widelark network new Wards 10.40.10.0/23")
	assert.Contains(t, s.Run(t, "", "policy", "rule", "--help").Out+s.Run(t, "", "policy", "rule", "off", "--help").Out, `widelark policy rule off "Ward floor"`)
}

// The objects of every other noun are added, listed, changed and removed, in every output format.
func TestSmallNouns(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	assert.Contains(t, run("network", "new", "Wards", "10.40.10.0/23", "--describe", "All wards"), `Added the network "Wards".`)
	assert.Contains(t, run("network", "edit", "wards", "--name", "Ward net", "--range", "10.40.12.0/24", "--range", "2001:db8::/48"), `Changed the network "Ward net".`)
	assert.Contains(t, run("network", "ls", "-o", "csv"), "Ward net,\"10.40.12.0/24, 2001:db8::/48\",,All wards\n")
	assert.Contains(t, run("machine", "new", "Kiosk", "::ffff:10.40.9.7", "--describe", "Front hall"), `Added the machine "Kiosk".`)
	assert.Contains(t, run("machine", "ls", "-o", "csv"), "Kiosk,10.40.9.7,Front hall\n")
	assert.Contains(t, run("group", "new", "Hall", "--machine", "Kiosk", "--network", "Ward net", "--range", "192.0.2.0/24"), `Added the group "Hall".`)
	assert.Contains(t, run("group", "edit", "Hall", "--name", "Front hall", "--range", "192.0.2.7"), `Changed the group "Front hall".`)
	assert.Contains(t, run("group", "ls", "-o", "csv"), "Front hall,0,\"192.0.2.7, Ward net, Kiosk\",,,\n")
	assert.Contains(t, run("person", "new", "kay", "--in", "Front hall", "--mail", "kay@quillmere.internal"), `Added the person "kay".`)
	assert.Contains(t, run("person", "edit", "kay", "--name", "kay.moran", "--full-name", "Kay Moran"), `Changed the person "kay.moran".`)
	assert.Contains(t, run("person", "ls", "--group", "Front hall", "-o", "csv"), "kay.moran,Kay Moran,Front hall,kay@quillmere.internal,\n")
	assert.Contains(t, run("app", "new", "Ferry Chat", "ferry-chat.example", "media.ferry-chat.example", "--activity", "write:POST:/send", "--activity", "read"), `Added the app "Ferry Chat"; rules call it ferry-chat.`)
	listed := run("app", "ls", "-o", "csv")
	assert.Contains(t, listed, "Ferry Chat,ferry-chat,\"ferry-chat.example, media.ferry-chat.example\",ferry-chat/write,POST,/send\n")
	assert.Contains(t, listed, ",,,ferry-chat/read,,\n")
	assert.Contains(t, run("app", "edit", "Ferry Chat", "--name", "Ferry", "--add-host", "ferry-chat.test", "--drop-host", "media.ferry-chat.example", "--activity", "write:POST,PUT:/send", "--drop-activity", "read", "--activity", "send files:POST"), `Changed the app "Ferry".`)
	listed = run("app", "ls", "-o", "csv")
	assert.Contains(t, listed, "Ferry,ferry-chat,\"ferry-chat.example, ferry-chat.test\",ferry-chat/write,\"POST, PUT\",/send\n")
	assert.Contains(t, listed, ",,,ferry-chat/send-files,POST,\n")
	assert.NotContains(t, listed, "ferry-chat/read")
	for _, args := range [][]string{{"--drop-host", "gull.test"}, {"--drop-activity", "read"}, {}} {
		assert.Equal(t, 2, s.Run(t, "", append([]string{"app", "edit", "Ferry"}, args...)...).Code, args)
	}
	assert.Contains(t, s.Run(t, "", "app", "edit", "Ferry", "--activity", "Send-files").Err, "another is called ferry-chat/send-files already")
	assert.Contains(t, run("engine", "new", "Lark", "lark.example", "lark.test", "--words", "q,words", "--safe-header", "Filter: strict", "--describe", "Pages"), `Added the search engine "Lark"; its answers are made safe by the header Filter: strict.`)
	assert.Contains(t, run("engine", "ls", "-o", "csv"), "Lark,\"lark.example, lark.test\",\"q, words\",the header Filter: strict\n")
	assert.Contains(t, run("engine", "edit", "lark", "--name", "Find the Lark", "--add-host", "lark-search.example", "--drop-host", "lark.test", "--words", "", "--safe-parameter", "calm=1"), `Changed the search engine "Find the Lark".`)
	assert.Contains(t, run("engine", "show", "Find the Lark"), "  about     Pages\n  hosts     lark.example, lark-search.example\n  words in  the parameters that usually hold them, as q\n  safe by   the parameter calm=1\n")
	assert.Contains(t, run("diff"), "Find the Lark")
	run("engine", "edit", "Find the Lark", "--safe-host", "calm.lark.example")
	assert.Contains(t, run("engine", "ls", "-o", "csv"), ",the host calm.lark.example\n")
	run("engine", "edit", "Find the Lark", "--never-safe")
	assert.Contains(t, run("engine", "ls", "-o", "csv"), ",nothing\n")
	for _, args := range [][]string{{"--drop-host", "gull.test"}, {"--safe-parameter", "calm"}, {"--safe-header", "x"}, {"--safe-host", "a.example", "--never-safe"}, {}} {
		assert.Equal(t, 2, s.Run(t, "", append([]string{"engine", "edit", "Find the Lark"}, args...)...).Code, args)
	}
	assert.Contains(t, s.Run(t, "", "engine", "edit", "Find the Lark", "--add-host", "lark.example/find").Err, `hosts[2]: "lark.example/find" is about more than hosts`)
	assert.Contains(t, s.Run(t, "", "engine", "new", "find the lark", "lark.test").Err, "name: the name is taken")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"network", "show", "ward net"}, "Ward net\n\n  about    All wards\n  ranges   10.40.12.0/24, 2001:db8::/48\n"},
		{[]string{"network", "show", "Ward net"}, "  used by  the group \"Front hall\"\n"},
		{[]string{"machine", "show", "Kiosk"}, "  address  10.40.9.7\n"},
		{[]string{"group", "show", "Front hall"}, "  people    1\n  networks  Ward net\n  machines  Kiosk\n  ranges    192.0.2.7\n"},
		{[]string{"person", "show", "Kay Moran"}, "kay.moran\n\n  full name  Kay Moran\n  groups     Front hall\n  mail       kay@quillmere.internal\n"},
		{[]string{"app", "show", "Ferry"}, "  done there  write (ferry-chat/write): POST or PUT on /send; send files (ferry-chat/send-files): POST\n"},
		{[]string{"machine", "edit", "Kiosk", "--address", "10.40.9.8", "--describe", "Moved"}, `Changed the machine "Kiosk".`},
		{[]string{"machine", "show", "kiosk", "-o", "csv"}, "name,about,address,changed\nKiosk,Moved,10.40.9.8,"},
		{[]string{"network", "show", "Ward net", "-o", "yaml"}, "name: Ward net\n"},
		{[]string{"person", "move", "kay moran", "--into", "Front hall"}, "Moved 0 people."},
	} {
		assert.Contains(t, run(c.args...), c.want, c.args)
	}
	assert.Contains(t, s.Run(t, "", "network", "show", "Nowhere").Err, "there is no network \"Nowhere\"")
	assert.Equal(t, 2, s.Run(t, "", "machine", "edit", "Kiosk").Code)
	var groups []client.Group
	require.NoError(t, json.Unmarshal([]byte(run("group", "ls", "-o", "json")), &groups))
	assert.EqualValues(t, 1, groups[0].Persons)
	assert.Contains(t, run("group", "ls", "-o", "yaml"), "name: Front hall")
	var standing client.Standing
	require.NoError(t, json.Unmarshal([]byte(run("who", "Kiosk", "-o", "json")), &standing))
	assert.Equal(t, "Front hall", *standing.Groups[0].Name)
	assert.Contains(t, run("who", "Kay Moran", "-o", "csv"), "Kay Moran,Front hall,\n")
	assert.Contains(t, run("group", "plan", "Front hall"), "No policy is for this group; the fallback decides.")
	run("policy", "new", "Hall", "--off", "--for", "Front hall")
	assert.Contains(t, run("group", "plan", "Front hall", "-o", "csv"), "everything else,block,always\n")
	for _, noun := range [][]string{{"policy", "remove", "Hall"}, {"person", "remove", "kay.moran"}, {"group", "remove", "Front hall"}, {"network", "remove", "Ward net"}, {"machine", "remove", "Kiosk"}, {"app", "remove", "Ferry"}, {"engine", "remove", "Find the Lark"}} {
		assert.Contains(t, run(noun...), "Deleted the "+noun[0])
	}
	for _, args := range [][]string{{"policy", "edit", "Fallback"}, {"policy", "order", "Fallback"}, {"person", "move", "kay"}, {"try"}, {"try", "a.example", "b.example", "--or-at", "12:00"}, {"policy", "edit", "Fallback", "--inspect", "some"}} {
		assert.Equal(t, 2, s.Run(t, "", args...).Code, args)
	}
}

// Each network says which gates its clients meet; a journey takes their way, or one that is asked for.
func TestWays(t *testing.T) {
	t.Parallel()
	s := house.HospitalAsLive(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	for from, want := range map[string]string{
		"10.40.10.7": "on the way  proxy\n    proxy  sees tunnel", "10.40.41.12": "on the way  dns, proxy\n    dns    sees name", "10.40.50.7": "on the way  icap\n    icap   sees full    ○ allow, opened",
		"10.40.70.7": "on the way  dns\n    dns    sees name    ○ allow\n  The person sees the page.\n  The DNS gate cuts nothing", "10.40.200.7": "on the way  dns, proxy",
	} {
		assert.Contains(t, run("try", "https://encyclopaedia.example/heart", "--from", from, "--journey"), want, from)
	}
	assert.Contains(t, run("try", "https://encyclopaedia.example/heart", "--from", "10.40.41.12", "--way", "proxy"), "on the way  proxy\n")
	assert.Contains(t, run("who", "10.40.50.7"), "meets       icap")
	told := s.Run(t, "", "try", "encyclopaedia.example", "--way", "mail")
	assert.Contains(t, told.Err, `"mail" is not a way: there are dns, proxy, dns,proxy, icap and none`)

	run("network", "edit", "Library", "--sends", "tunnel")
	assert.Contains(t, run("try", "https://encyclopaedia.example/heart", "--from", "10.40.50.7", "--journey"), "icap   sees tunnel")
	assert.Contains(t, run("network", "show", "Library"), "meets    icap; sent: tunnel")
	run("network", "edit", "Library", "--way", "")
	assert.NotContains(t, run("network", "show", "Library"), "meets")
	assert.Contains(t, run("policy", "order", "--way", "DNS, proxy"), "Clients meet: dns, proxy.")
	run("policy", "order", "--way", "none")
	assert.Contains(t, run("try", "https://encyclopaedia.example/heart", "--from", "10.40.50.7", "--journey"), "no gate is on the way")
	assert.Contains(t, run("diff", "-o", "csv"), "Library")
}

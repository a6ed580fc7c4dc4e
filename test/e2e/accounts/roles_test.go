package accounts

import (
	"encoding/json"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/postgres"
	"widelark/internal/standing"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// ward is a service with two groups, a person in each, a list that is blocked, and what is recorded of both. Kay is of the wards, Petra of research.
func ward(t *testing.T) *testkit.Service {
	t.Helper()
	s := house.Server.Serve(t)
	run := func(args ...string) { s.Run(t, "", args...).Done(t) }
	run("group", "new", "Wards")
	run("group", "new", "Research")
	run("group", "new", "Everywhere")
	run("group", "new", "Night", "--range", "10.40.9.0/24")
	run("group", "edit", "Everywhere", "--group", "Wards")
	run("person", "new", "kay.moran", "--full-name", "Kay Moran", "--in", "Wards")
	run("person", "new", "petra.elver", "--full-name", "Petra Elver", "--in", "Research")
	run("list", "new", "Dosage")
	run("list", "add", "Dosage", "dosage.example")
	run("list", "new", "Betting")
	run("list", "add", "Betting", "oddsfield.example", "slots.example")
	run("policy", "rule", "add", "Fallback", "No betting", "--list", "Betting")
	run("publish", "--note", "as it is")
	var records []client.RecordedInput
	for i, who := range []string{"kay.moran", "kay.moran", "petra.elver"} {
		records = append(records, client.RecordedInput{At: time.Now().Add(time.Duration(i-60) * time.Second), URL: "https://oddsfield.example/today", Person: &who})
	}
	_, err := s.API(t).AddRecordedWithResponse(t.Context(), client.AddRecordedInputBody{Records: records})
	require.NoError(t, err)
	return s
}

const theirPassword = "fern and gull 5"

// as adds an account with a role, and returns the service as it is signed in there.
func as(t *testing.T, s *testkit.Service, name, role string, bounds ...string) *testkit.Service {
	t.Helper()
	s.Run(t, theirPassword, "account", "add", name, "--password-stdin", "--role", "").Done(t)
	s.Run(t, "", append([]string{"account", "give", name, role}, bounds...)...).Done(t)
	other := *s
	other.Config = filepath.Join(t.TempDir(), name+".yaml")
	other.Run(t, theirPassword, "login", "--name", name, "--password-stdin", "--server", s.URL).Done(t)
	return &other
}

func writeFile(path, text string) error { return os.WriteFile(path, []byte(text), 0o600) }

// asked adds a request for a page, as a gate does.
func asked(t *testing.T, s *testkit.Service, person uuid.UUID, at string) uuid.UUID {
	t.Helper()
	store, err := postgres.Open(t.Context(), s.Database)
	require.NoError(t, err)
	defer store.Close()
	r := standing.Request{Person: person, URL: "https://oddsfield.example/", Verdict: policy.Block, By: "No betting", Reason: "a page", Reference: uuid.NewString()}
	if at != "" {
		r.Address = netip.MustParseAddr(at)
	}
	made, err := store.AddRequest(t.Context(), r, access.Recorder)
	require.NoError(t, err)
	return made.ID
}

// A lead sees the members of the groups that are led, and nobody else; and reaches nothing else, also by hand-made requests.
func TestLead(t *testing.T) {
	t.Parallel()
	s := ward(t)
	sedge := as(t, s, "sedge", "lead", "--group", "Wards")
	run := func(args ...string) string { return sedge.Run(t, "", args...).Done(t) }
	refused := func(args ...string) string {
		ran := sedge.Run(t, "", args...)
		assert.Equal(t, 3, ran.Code, "%v: %s", args, ran.Out)
		return ran.Err
	}
	assert.Contains(t, run("whoami"), "lead (Wards)")

	assert.Contains(t, run("try", "oddsfield.example", "--as", "Kay Moran"), "block")
	assert.Contains(t, refused("try", "oddsfield.example", "--as", "Petra Elver"), "outside")
	assert.Contains(t, refused("try", "oddsfield.example"), "outside")
	assert.Contains(t, refused("try", "oddsfield.example", "--from", "10.40.9.7"), "outside")
	people := run("person", "ls")
	assert.Contains(t, people, "kay.moran")
	assert.NotContains(t, people, "petra")
	groups := run("group", "ls")
	assert.Contains(t, groups, "Wards")
	assert.NotContains(t, groups, "Research")
	assert.NotContains(t, groups, "Everywhere", "who leads a part does not lead the whole")

	found := run("journal", "search", "since:1h")
	assert.Equal(t, 2, strings.Count(found, "Kay Moran"))
	assert.NotContains(t, found, "etra")
	assert.NotContains(t, run("journal", "export", "since:1h"), "etra")
	assert.NotContains(t, run("journal", "top", "person", "since:1h"), "etra")
	assert.NotContains(t, run("report", "show", "--span", "24h"), "etra")
	assert.Contains(t, run("journal", "search", "since:1h", "host:oddsfield.example", "-o", "json"), "Kay")
	whole, err := s.API(t).SearchJournalWithResponse(t.Context(), &client.SearchJournalParams{})
	require.NoError(t, err)
	for _, r := range whole.JSON200.Records {
		_, err := sedge.API(t).GetRecordWithResponse(t.Context(), *r.ID)
		assert.Equal(t, *r.Who == "Kay Moran", err == nil, *r.Who)
		_, err = sedge.API(t).WhyRecordedWithResponse(t.Context(), *r.ID)
		assert.Equal(t, *r.Who == "Kay Moran", err == nil, *r.Who)
	}

	everybody, err := s.API(t).GetPeopleWithResponse(t.Context(), nil)
	require.NoError(t, err)
	ids := map[string]uuid.UUID{}
	for _, p := range everybody.JSON200.Items {
		ids[p.Name] = p.ID
	}
	theirs, others, unknown := asked(t, s, ids["kay.moran"], ""), asked(t, s, ids["petra.elver"], ""), asked(t, s, uuid.Nil, "10.40.9.7")
	answer := func(service *testkit.Service, id uuid.UUID) int {
		answer := service.Request(t, "POST", "/api/v1/requests/"+id.String()+"/grant", `{"minutes": 30}`, map[string]string{"Authorization": "Bearer " + service.Token(t), "Content-Type": "application/json"})
		defer answer.Body.Close()
		return answer.StatusCode
	}
	assert.Equal(t, 1, strings.Count(run("request", "ls"), "oddsfield.example"))
	assert.Equal(t, []int{404, 404, 200}, []int{answer(sedge, others), answer(sedge, unknown), answer(sedge, theirs)})
	assert.Contains(t, run("try", "oddsfield.example", "--as", "Kay Moran"), "allow", "in force at once")
	for _, path := range []string{"/people/" + ids["petra.elver"].String(), "/lists", "/policies", "/grants", "/presences", "/exceptions", "/draft", "/accounts", "/audit", "/export", "/journal/records/" + uuid.NewString()} {
		got := sedge.Request(t, "GET", "/api/v1"+path, "", map[string]string{"Authorization": "Bearer " + sedge.Token(t)})
		text, err := io.ReadAll(got.Body)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "Petra")
		if got.StatusCode == http.StatusOK { // who may see some sees those alone
			assert.Equal(t, "/presences", path)
		}
	}

	// An edit of the draft widens nothing; publishing it does, at once.
	s.Run(t, "", "person", "edit", "petra.elver", "--in", "Wards").Done(t)
	refused("try", "oddsfield.example", "--as", "Petra Elver")
	assert.Equal(t, 404, answer(sedge, others))
	s.Run(t, "", "publish", "--note", "Petra came").Done(t)
	run("try", "oddsfield.example", "--as", "Petra Elver")
	assert.Equal(t, 200, answer(sedge, others))

	s.Run(t, "", "account", "take", "sedge", "lead").Done(t)
	assert.Contains(t, refused("person", "ls"), "Only readers")
	s.Run(t, "", "account", "give", "sedge", "lead", "--group", "Night").Done(t)
	assert.Contains(t, run("try", "oddsfield.example", "--from", "10.40.9.7"), "block")
	assert.Equal(t, 200, answer(sedge, unknown))
}

// The help desk grants within its groups, its reach and its time, and sees names there alone.
func TestHelpDesk(t *testing.T) {
	t.Parallel()
	s := ward(t)
	desk := as(t, s, "desk", "help-desk", "--group", "Wards", "--reach", "host", "--longest", "2h")
	run := func(args ...string) string { return desk.Run(t, "", args...).Done(t) }
	refused := func(why string, args ...string) {
		ran := desk.Run(t, "", args...)
		assert.Equal(t, 3, ran.Code, args)
		assert.Contains(t, ran.Err, why, args)
	}
	grant := func(entry, whom, until string) []string {
		return append([]string{"grant", "new", entry, "--until", until, "--why", "a test"}, strings.Split(whom, " ")...)
	}
	run(grant("=oddsfield.example/today", "--person kay.moran", "1h")...)
	run(grant("=slots.example", "--group Wards", "2h")...)
	const outside = "within the bounds of its role alone"
	refused(outside, grant("=oddsfield.example/today", "--person petra.elver", "1h")...)
	refused(outside, grant("=oddsfield.example/today", "--group Everywhere", "1h")...)
	refused(outside, grant("=oddsfield.example/today", "--everybody", "1h")...)
	refused(outside, grant("oddsfield.example", "--person kay.moran", "1h")...)
	refused(outside, grant("~ odds", "--person kay.moran", "1h")...)
	refused(outside, grant("=oddsfield.example/today", "--person kay.moran", "3h")...)
	refused(outside, "code", "new", "--why", "a test", "--until", "1h")
	run("presence", "set", "kay.moran", "10.40.20.7", "--until", "1h")
	refused(outside, "presence", "set", "petra.elver", "10.40.20.8", "--until", "1h")
	s.Run(t, "", "presence", "set", "petra.elver", "10.40.20.9", "--until", "1h").Done(t)
	refused(outside, "presence", "end", "10.40.20.9")
	there := run("presence", "ls")
	assert.Contains(t, there, "Kay")
	assert.NotContains(t, there, "Petra")
	run("presence", "end", "10.40.20.7")
	assert.NotContains(t, run("journal", "search", "since:1h"), "etra")
	assert.Contains(t, run("journal", "search", "since:1h", `person:"Kay Moran"`), "Kay")

	s.Run(t, "", grant("=oddsfield.example/x", "--person petra.elver", "1h")...).Done(t)
	all, err := s.API(t).GetGrantsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	for _, g := range all.JSON200.Grants {
		theirs := g.MadeBy == "desk"
		seen, err := desk.API(t).GetGrantsWithResponse(t.Context(), nil)
		require.NoError(t, err)
		for _, one := range seen.JSON200.Grants {
			if one.ID == g.ID {
				assert.Equal(t, theirs, one.Yours, g.MadeBy)
			}
		}
		_, err = desk.API(t).EndGrantWithResponse(t.Context(), g.ID)
		assert.Equal(t, theirs, err == nil, g.MadeBy)
	}
	s.Run(t, "", "account", "give", "desk", "help desk").Done(t)
	run(grant("oddsfield.example", "--everybody", "3h")...)
	run("code", "new", "--why", "a test", "--until", "1h")
}

// An editor of some lists changes their entries, in whatever way, and nothing else; a publisher of some publishes where nothing else differs.
func TestListsAlone(t *testing.T) {
	t.Parallel()
	s := ward(t)
	pharmacy := as(t, s, "pharmacy", "editor", "--list", "Dosage")
	mara := as(t, s, "mara", "publisher", "--list", "Dosage")
	run := func(args ...string) string { return pharmacy.Run(t, "", args...).Done(t) }
	const outside = "within the bounds of its role alone"
	run("list", "add", "Dosage", "heron.example", "gull.test")
	run("list", "remove", "Dosage", "gull.test")
	file := filepath.Join(t.TempDir(), "dosage.txt")
	require.NoError(t, writeFile(file, "tern.example\n"))
	assert.Contains(t, run("list", "import", "Dosage", file), "1 entry added")
	for _, args := range [][]string{
		{"list", "add", "Betting", "heron.example"},
		{"list", "remove", "Betting", "slots.example"},
		{"list", "edit", "Dosage", "--name", "Doses"},
		{"list", "new", "More"},
		{"list", "rm", "Betting"},
		{"group", "new", "More"},
		{"policy", "rule", "off", "Fallback", "No betting"},
		{"list", "source", "set", "Betting", "https://lists.heron.example/x"},
	} {
		ran := pharmacy.Run(t, "", args...)
		assert.NotZero(t, ran.Code, args)
		if args[1] != "rm" {
			assert.Contains(t, ran.Err, outside, args)
		}
	}
	run("list", "source", "set", "Dosage", "https://lists.heron.example/x")
	assert.Contains(t, pharmacy.Run(t, "", "publish", "--note", "mine").Err, "Only publishers and owners may publish")
	mara.Run(t, "", "publish", "--note", "doses").Done(t)
	run("list", "add", "Dosage", "to-be-discarded.example")
	run("discard", "--all")
	assert.Contains(t, mara.Run(t, "", "list", "add", "Dosage", "x.example").Err, "Only editors and owners may edit the draft")
	s.Run(t, "", "list", "add", "Betting", "more.example").Done(t)
	run("list", "add", "Dosage", "more.example")
	assert.Contains(t, pharmacy.Run(t, "", "discard", "--all").Err, outside)
	assert.Contains(t, mara.Run(t, "", "publish", "--note", "all").Err, outside)

	// A publisher of everything publishes what an owner edited of the baseline, and does not take that back.
	rule := []string{"policy", "rule", "add", "Baseline", "Never", "--then", "block", "--list", "Betting"}
	s.Run(t, "", rule...).Done(t)
	s.Run(t, "", "account", "give", "mara", "publisher").Done(t)
	mara.Run(t, "", "publish", "--note", "all of it").Done(t)
	assert.Contains(t, mara.Run(t, "", "rollback", "2", "--note", "as before").Err, "Only owners edit the baseline")
}

// Whoever may not see who asked finds, counts and exports nothing by it; tokens may no more than what they are made for, and no more than their maker.
func TestNamesAndTokens(t *testing.T) {
	t.Parallel()
	s := ward(t)
	ivo := as(t, s, "ivo", "editor")
	run := func(args ...string) string { return ivo.Run(t, "", args...).Done(t) }
	for _, args := range [][]string{{"journal", "search", "person:kay.moran"}, {"journal", "search", "--", "-address:10.0.0.0/8"}, {"journal", "export", "machine:*"}} {
		ran := ivo.Run(t, "", args...)
		assert.Equal(t, 3, ran.Code, "%v: %s", args, ran.Out)
		assert.Contains(t, ran.Err, "who asked", args)
	}
	for _, args := range [][]string{{"journal", "top", "person"}, {"report", "show", "--section", "people"}, {"alert", "new", "Each", "verdict:block", "--more", "1", "--per", "person"}} {
		assert.Contains(t, ivo.Run(t, "", args...).Err, "Only leads, the help desk, auditors and owners may see names in the journal", args)
	}
	for _, said := range []string{run("journal", "search", "since:1h", "-o", "json"), run("journal", "export", "since:1h"), run("journal", "search", "kay.moran", "since:1h", "-o", "json"), run("report", "show", "--span", "24h")} {
		assert.NotContains(t, said, "Kay")
		assert.NotContains(t, said, "Petra")
	}
	assert.NotContains(t, run("journal", "search", "Moran", "since:1h"), "oddsfield", "a name is no way to find records")
	assert.Contains(t, run("journal", "top", "host", "since:1h"), "oddsfield.example")

	s.Run(t, "", "alert", "new", "Each", "verdict:block", "--more", "1", "--per", "person", "--minutes", "60").Done(t)
	require.Eventually(t, func() bool { return strings.Contains(s.Run(t, "", "alert", "found").Done(t), "Kay Moran") }, testkit.Patience, testkit.Look)
	found := run("alert", "found", "-o", "json")
	assert.Contains(t, found, "Somebody")
	assert.NotContains(t, found, "Kay")

	// What an account set up sees no more than the account does from then on.
	auditor := as(t, s, "auditor", "auditor")
	assert.Contains(t, auditor.Run(t, "", "journal", "top", "person", "since:1h").Done(t), "Kay Moran")

	token := func(service *testkit.Service, roles ...string) *testkit.Service {
		secret := strings.TrimSpace(service.Run(t, "", append([]string{"token", "new", "t"}, roles...)...).Done(t))
		other := *service
		other.Config = filepath.Join(t.TempDir(), "token.yaml")
		require.NoError(t, writeFile(other.Config, "server: "+s.URL+"\ntoken: "+secret+"\n"))
		return &other
	}
	orders := token(s, "--role", "reader")
	orders.Run(t, "", "try", "oddsfield.example", "--as", "kay.moran").Done(t)
	for _, args := range [][]string{{"list", "add", "Betting", "x.example"}, {"journal", "search", "since:1h"}, {"publish", "--note", "x"}, {"account", "ls"}, {"audit"}} {
		assert.Equal(t, 3, orders.Run(t, "", args...).Code, args)
	}
	all := token(ivo, "--role", "owner")
	all.Run(t, "", "list", "add", "Betting", "x.example").Done(t)
	assert.Equal(t, 3, all.Run(t, "", "account", "ls").Code, "no more than its maker")
	more := token(orders)
	assert.Equal(t, 3, more.Run(t, "", "list", "add", "Betting", "y.example").Code, "a token's token may no more than the first")
	s.Run(t, "", "account", "take", "ivo", "editor").Done(t)
	assert.Equal(t, 3, all.Run(t, "", "list", "add", "Betting", "y.example").Code, "nor than its maker may now")

	var session struct {
		May []struct {
			Operations []string
			Whole      bool
		}
	}
	answer := s.Request(t, "GET", "/api/v1/session", "", map[string]string{"Authorization": "Bearer " + orders.Token(t)})
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&session))
	var can []string
	for _, part := range session.May {
		assert.True(t, part.Whole)
		can = append(can, part.Operations...)
	}
	assert.Contains(t, can, "tryUrls")
	assert.NotContains(t, can, "addEntries")
}

// Roles that do not exist, or cannot have such bounds, are refused with what there is.
func TestRolesThatAreNone(t *testing.T) {
	t.Parallel()
	s := ward(t)
	s.Run(t, theirPassword, "account", "add", "ivo", "--password-stdin").Done(t)
	for why, args := range map[string][]string{
		"is not bound to groups":  {"reader", "--group", "Wards"},
		"is not bound to lists":   {"lead", "--list", "Betting"},
		"no reach and no length":  {"editor", "--reach", "page"},
		"Nobody else is an owner": {"-", "owner"},
		"expected value to be":    {"king"},
	} {
		cmd := append([]string{"account", "give", "ivo"}, args...)
		if args[0] == "-" {
			cmd = []string{"account", "take", "edda", "owner"}
		}
		assert.Contains(t, s.Run(t, "", cmd...).Err, why)
	}
}

// looking is what buttons are called that change nothing: who may only read sees no others.
var looking = regexp.MustCompile(`^(Try|Look up|Many at once|Show me one|Name|Entries|Changed|Groups and people|Networks|Machines|Ask|Everybody ?\d*|Wards ?\d*|Research ?\d*|Everywhere.*|Night.*|Kay Moran|Petra Elver|` +
	`What it is|Office hours|Many URLs|For every group|Over a week|Two side by side|Try them|Fill in some to see how it works|In force.*|Over within.*|Later.*|Over or off.*|All.*|Grants.*|The draft.*|Expectations.*|Revisions.*|` +
	`In order|Plans|Apps|Search engines|What it changed|Plan of a day|More|Show .*|[A-Z].* of \d+|Fewer.*|Try another.*|What to do with .*|No betting|Close.*|Choose .*|Say it|Seen to.*|\d+ .*)$`)

// Nobody is shown a button that the service would refuse: pages that a role does not have are not in the navigation, the others ask for nothing that is refused, and whoever may only read sees no button
// that changes something.
func TestConsoleByRole(t *testing.T) {
	t.Parallel()
	s := ward(t)
	s.Run(t, "", "schedule", "new", "Office hours", "mon-fri 08:30-17:00").Done(t)
	s.Run(t, "", "grant", "new", "=oddsfield.example/x", "--person", "kay.moran", "--until", "1h", "--why", "a test").Done(t)
	s.Run(t, "", "list", "add", "Betting", "not-live.example").Done(t)
	const reading = "Lists Categories Look up Packs People Schedules Policies Exceptions Try Changes Gates"
	answering := strings.Replace(reading, "Exceptions", "Exceptions Requests", 1)
	for _, who := range []struct {
		role, bounds, pages string
		sees, lacks         map[string]string // buttons, by page
	}{
		{"reader", "", reading, nil, map[string]string{"/lists": "New list", "/changes": "Publish"}},
		{"lead", "--group Wards", "Groups led Look up People Exceptions Requests Try Journal Reports", nil, map[string]string{"/people": "Person"}},
		{"help desk", "--group Wards", answering + " Journal Reports Alerts", map[string]string{"/exceptions?view=grants": "New grant"}, map[string]string{"/exceptions?view=codes": "New code", "/alerts": "New alert"}},
		{"auditor", "", answering + " Journal Reports Alerts", map[string]string{"/changes": "Who did what"}, map[string]string{"/people?view=accounts": "Account", "/gates": "Enrol a gate"}},
		{"publisher", "", reading + " Journal Reports Alerts", map[string]string{"/changes": "Publish"}, map[string]string{"/lists": "New list"}},
		{"editor", "--list Dosage", reading + " Journal Reports Alerts", nil, map[string]string{"/lists": "New list", "/exceptions": "New exception"}},
	} {
		name := strings.ReplaceAll(who.role, " ", "")
		as(t, s, name, who.role, strings.Fields(who.bounds)...)
		b := browser.Open(t, s.URL)
		b.SignIn(name, theirPassword)
		b.See("nav[aria-label='Wide Lark'] li", "Try")
		var shown []string
		for _, link := range b.Texts("nav[aria-label='Wide Lark'] li a") {
			shown = append(shown, strings.TrimRight(strings.ReplaceAll(link, " changed, not live yet", ""), "0123456789 "))
		}
		assert.Equal(t, who.pages, strings.Join(shown, " "), who.role)
		for _, page := range shown {
			b.GoTo("/" + strings.ToLower(strings.ReplaceAll(strings.Replace(page, "Groups led", "Steering", 1), " ", "")))
			b.See("h1", "")
			b.Await("!document.body.innerText.includes('Fetching')", "something is still being fetched")
			for _, button := range b.Texts("main button") {
				if who.role == "reader" {
					assert.Regexp(t, looking, button, "%s sees a button at %s", who.role, page)
				}
			}
			b.Quiet()
		}
		for page, button := range who.sees {
			b.GoTo(page)
			b.See("main button", button)
		}
		for page, button := range who.lacks {
			b.GoTo(page)
			b.See("h1", "")
			assert.NotContains(t, b.Texts("main button"), button, who.role)
		}
	}
	b := browser.Open(t, s.URL)
	b.SignIn("reader", theirPassword)
	b.GoTo("/journal")
	b.See("main", "This page is not for your account")
	b.Accessible("a page that is closed")

	// An owner gives a role; the page that it has is there at once.
	owner := browser.SignedIn(t, s)
	owner.GoTo("/people?view=accounts")
	owner.Press("reader")
	owner.Accessible("the roles of an account")
	owner.Tick("auditor: reads everything, with names, and who did what")
	owner.Press("Save")
	owner.See("td", "auditor")
	b.GoTo("/journal")
	b.See("h1", "Journal")
	owner.Press("Account")
	owner.Fill("input[autocomplete='new-password']", theirPassword)
	owner.Accessible("a new account")
	owner.Quiet()
}

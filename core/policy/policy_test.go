package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// asText returns an explanation as one line: the verdict, then every step.
func asText(e Explanation) string {
	parts := []string{string(e.Decision.Verdict)}
	for i, s := range e.Steps {
		if s.Rule == "" && s.Policy == "" {
			continue // a rung with nothing on it
		}
		part := fmt.Sprintf("%s %s", s.Rule, s.Outcome)
		if reasons := Reasons(s.Evidence); reasons != "" && s.Rung != AtException && s.Rung != AtUnlocked {
			part += " by " + reasons
		}
		if s.Missing != "" {
			part += " (" + s.Missing + ")"
		}
		if i == e.Decider {
			part += "*"
		}
		parts = append(parts, strings.TrimSpace(part))
	}
	return strings.Join(parts, "; ")
}

func entries(lines ...string) (all []pattern.Entry) {
	for _, line := range lines {
		all = append(all, pattern.MustParse(line))
	}
	return all
}

func named(id, name, text string) Schedule {
	s, err := schedule.Parse(text)
	if err != nil {
		panic(err)
	}
	return Schedule{ID: id, Name: name, Schedule: s, Zone: zone}
}

// ward is a small configuration with the usual mistakes.
func ward() Config {
	list := func(values ...string) Cond { return Cond{Op: InList, Values: values} }
	category := func(values ...string) Cond { return Cond{Op: Is, Values: values} }
	return Config{
		Zone: zone, Combining: Strictest, Way: ByBoth,
		Directory: directory.New(
			[]directory.Person{{ID: "kay", Name: "Kay Moran"}, {ID: "ola", Name: "Ola Fenn"}},
			[]directory.Group{
				{ID: "nurses", Name: "Ward nurses", Persons: []string{"kay", "ola"}},
				{ID: "night", Name: "Night ward", Persons: []string{"kay"}},
				{ID: "screens", Name: "Bedside screens", Networks: []string{"bedside"}},
				{ID: "records", Name: "Records office"},
			},
			[]directory.Network{{ID: "bedside", Name: "Bedside screens", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.40.0/22")}}}),
		Lists: match.New([]match.List{
			{ID: "betting", Name: "Betting", Entries: entries("oddsfield.example", "! help.oddsfield.example")},
			{ID: "care", Name: "Care", Entries: entries("dosage.example/tables")},
			{ID: "welcome", Name: "Welcome", Entries: entries("quillmere.internal")},
			{ID: "all", Name: "All of dosage", Entries: entries("dosage.example")},
		}),
		Taxonomy: classify.Taxonomy{Families: []classify.Family{{Key: "play", Name: "Play"}}, Categories: []classify.Category{{Key: "games", Family: "play", Name: "Games"}, {Key: "adult", Name: "Adult"}, {Key: "snares", Name: "Snares"}}},
		Packs: []classify.Pack{{ID: "p", Name: "Harbour", Version: 7, Sites: match.New([]match.List{
			{ID: "games", Entries: entries("puzzle.example")}, {ID: "adult", Entries: entries("cancer-charity.example")}, {ID: "snares", Entries: entries("snare.example")},
		})}},
		Schedules: []Schedule{named("breaks", "Meal breaks", "mon-sun 12:30-13:15, 00:30-01:15"), named("nights", "Night shift", "mon-sun 20:00-07:30")},
		Apps:      []AppDef{{Key: "share", Name: "Sharebay", Entries: entries("sharebay.example"), Activities: []Activity{{Key: "upload", Name: "upload", Methods: []string{"POST"}, Entries: entries("sharebay.example/up")}}}},
		Baseline:  &Policy{Name: "Baseline", Rules: []Rule{{Name: "Dangers", If: category("snares"), Then: Block}}},
		Policies: []Policy{
			{ID: "floor", Name: "Ward floor", Groups: []string{"nurses"}, Otherwise: Allow, Rules: []Rule{
				{Name: "Games in breaks", When: When{"breaks", false}, If: category("play"), Then: Watch, With: Provisos{Quota: 30 * time.Minute}},
				{Name: "No games", If: category("play"), Then: Block},
				{Name: "Betting", If: list("betting"), Then: Block},
				{Name: "Adult", If: category("adult"), Then: Block},
				{Name: "All of dosage", If: list("all"), Then: Hold},
				{Name: "Care", If: list("care"), Then: Allow},
				{Name: "Uploads", If: Cond{Op: App, Values: []string{"share/upload"}}, Then: Block},
				{Name: "Archives", Off: true, If: Cond{Op: File, Values: []string{"archives"}}, Then: Block},
			}},
			{ID: "nightly", Name: "Night ward", Groups: []string{"night"}, Otherwise: Allow, Rules: []Rule{{Name: "Betting", If: list("betting"), Then: Block}, {Name: "Quiet", When: When{"nights", true}, If: category("play"), Then: Block}}},
			{ID: "bedside", Name: "Bedside", Groups: []string{"screens"}, Otherwise: Block, Rules: []Rule{{Name: "Welcome", If: list("welcome"), Then: Allow}}, Inspect: Inspection{All: true}},
		},
		Fallback: &Policy{Name: "Fallback", Otherwise: Block},
		Exceptions: []Exception{
			{ID: "portal", Name: "Portal", Entries: entries("portal.example"), Then: Allow, For: Whom{Groups: []string{"records"}}, Until: monday.AddDate(0, 0, 4), Reason: "Orders until Friday."},
			{ID: "page", Name: "One page", Entries: entries("=lore.example/heart"), Then: Allow, For: Whom{Networks: []string{"bedside"}}},
		},
	}
}

func at(day int, clock string) time.Time {
	t, err := time.ParseInLocation("15:04", clock, zone)
	if err != nil {
		panic(err)
	}
	return monday.AddDate(0, 0, day).Add(time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute)
}

// The situations that people ask about, each with its answer.
func TestBecause(t *testing.T) {
	s := New(ward())
	var w Work
	kay, ola, bedside := Request{Person: "kay"}, Request{Person: "ola"}, Request{Addr: netip.MustParseAddr("10.40.41.9")}
	for _, c := range []struct {
		url  string
		r    Request
		at   time.Time
		want string
	}{
		{"puzzle.example", ola, at(0, "14:10"), `The rule "No games" of the policy "Ward floor" says block, because it is Games: the pack "Harbour" has the entry puzzle.example.`},
		{"puzzle.example", ola, at(0, "12:45"), `The rule "Games in breaks" of the policy "Ward floor" says watch in Meal breaks, because it is Games: the pack "Harbour" has the entry puzzle.example.`},
		{"puzzle.example", kay, at(0, "23:00"), `The rule "No games" of the policy "Ward floor" says block, because it is Games: the pack "Harbour" has the entry puzzle.example. Of the 2 policies that the request has, the strictest counts.`},
		{"puzzle.example", kay, at(0, "12:45"), `The rule "Quiet" of the policy "Night ward" says block outside Night shift, because it is Games: the pack "Harbour" has the entry puzzle.example. Of the 2 policies that the request has, the strictest counts.`},
		{"dosage.example/tables", ola, at(0, "14:10"), `The rule "All of dosage" of the policy "Ward floor" says hold, because the list "All of dosage" has the entry dosage.example.`},
		{"cancer-charity.example", ola, at(0, "14:10"), `The rule "Adult" of the policy "Ward floor" says block, because it is Adult: the pack "Harbour" has the entry cancer-charity.example.`},
		{"snare.example", Request{Group: "records"}, at(0, "14:10"), `The rule "Dangers" of the baseline says block, because it is Snares: the pack "Harbour" has the entry snare.example.`},
		{"portal.example/order", Request{Group: "records"}, at(0, "14:10"), `The exception "Portal" says allow for the group "Records office", because it has the entry portal.example. Reason given: Orders until Friday.`},
		{"portal.example/order", Request{Group: "records"}, at(5, "14:10"), `The fallback has no rules; otherwise it says block.`},
		{"lore.example/heart", bedside, at(0, "14:10"), `The exception "One page" says allow for the network "Bedside screens", because it has the entry =lore.example/heart.`},
		{"help.oddsfield.example", ola, at(0, "14:10"), `No rule of the policy "Ward floor" matches; otherwise it says allow.`},
		{"heron.example", Request{}, at(0, "14:10"), `The fallback has no rules; otherwise it says block.`},
		{"sharebay.example/up/x", Request{Person: "ola", Method: "POST"}, at(0, "14:10"), `The rule "Uploads" of the policy "Ward floor" says block, because it belongs to Sharebay (upload).`},
	} {
		c.r.URL = weburl.MustParse(c.url)
		assert.Equal(t, c.want, s.Explain(&w, &c.r, c.at).Because, "%s at %s", c.url, c.at)
	}
}

func TestSteps(t *testing.T) {
	s := New(ward())
	var w Work
	r := Request{URL: weburl.MustParse("dosage.example/tables"), Person: "ola", Sight: weburl.Name}
	r.URL = weburl.MustParse("lore.example/heart")
	r.Person, r.Addr = "", netip.MustParseAddr("10.40.41.9")
	e := s.Explain(&w, &r, at(0, "14:10"))
	assert.Equal(t, "block; Dangers no match; One page cannot tell (the page: only the host is seen here); Welcome no match; decided*", asText(e))
	r = Request{URL: weburl.MustParse("puzzle.example/x.zip"), Person: "ola"}
	e = s.Explain(&w, &r, at(0, "14:10"))
	assert.Equal(t, `block; Dangers no match; Games in breaks not now by it is Games: the pack "Harbour" has the entry puzzle.example; No games decided by it is Games: the pack "Harbour" has the entry puzzle.example*; `+
		`Betting not reached; Adult not reached; All of dosage not reached; Care not reached; Uploads not reached; Archives not reached by a file is asked for: x.zip`, asText(e))
	breaks := slices.IndexFunc(e.Steps, func(step Step) bool { return step.Rule == "Games in breaks" })
	assert.True(t, at(1, "00:30").Equal(e.Steps[breaks].Next))
	until, ok := s.Until(&w, &r, at(0, "14:10"))
	assert.True(t, ok)
	assert.True(t, until.Equal(at(1, "00:30")), until)
	r = Request{URL: weburl.MustParse("portal.example"), Group: "records"}
	until, _ = s.Until(&w, &r, at(0, "14:10"))
	assert.True(t, until.Equal(at(4, "00:00")), until)
	r = Request{URL: weburl.MustParse("heron.example"), Group: "records"}
	_, ok = s.Until(&w, &r, at(0, "14:10"))
	assert.False(t, ok)
}

// A change that only a dated line far ahead brings is found, too.
func TestUntilFarAhead(t *testing.T) {
	config := ward()
	config.Schedules[0] = named("breaks", "Meal breaks", "on 2027-12-24 10:00-12:00")
	s := New(config)
	var w Work
	r := Request{URL: weburl.MustParse("puzzle.example"), Person: "ola"}
	until, ok := s.Until(&w, &r, at(0, "14:10"))
	assert.True(t, ok)
	assert.True(t, until.Equal(time.Date(2027, 12, 24, 10, 0, 0, 0, zone)), until)
}

// Two schedules in different zones that coincide all winter differ while only one of the clocks shows summer time.
func TestUntilOneOfTwoClocksMoves(t *testing.T) {
	config := ward()
	lunch, err := schedule.Parse("mon-fri 13:00-14:00")
	require.NoError(t, err)
	early, err := schedule.Parse("mon-fri 08:00-09:00")
	require.NoError(t, err)
	config.Schedules = []Schedule{{ID: "lunch", Name: "Lunch", Schedule: lunch, Zone: zone}, {ID: "early", Name: "Early", Schedule: early, Zone: in("America/New_York")}}
	config.Baseline, config.Exceptions = nil, nil
	config.Policies = nil
	config.Fallback = &Policy{ID: "f", Name: "Fallback", Otherwise: Watch, Rules: []Rule{
		{Name: "At lunch", When: When{Schedule: "lunch"}, Then: Watch}, {Name: "Over there", When: When{Schedule: "early"}, Then: Block},
	}}
	s := New(config)
	var w Work
	r := Request{URL: weburl.MustParse("puzzle.example")}
	until, ok := s.Until(&w, &r, at(0, "14:10"))
	require.True(t, ok)
	assert.Equal(t, "2027-03-15 12:00 GMT", until.In(zone).Format("2006-01-02 15:04 MST"), "New York's clock goes on a fortnight before London's")
}

func TestJourneys(t *testing.T) {
	s := New(ward())
	var w Work
	bedside := netip.MustParseAddr("10.40.41.9")
	for _, c := range []struct {
		url  string
		r    Request
		want string
	}{
		{"lore.example/heart", Request{Addr: bedside}, "block a name that does not resolve: dns name"}, // the exception is for a page, which the DNS gate does not see
		{"https://quillmere.internal/menu", Request{Addr: bedside}, "allow the page: dns name, proxy full opened"},
		{"https://puzzle.example", Request{Person: "ola"}, "block a name that does not resolve: dns name"},
		{"https://sharebay.example/up", Request{Person: "ola", Method: "POST"}, "allow the page: dns name, proxy tunnel"}, // not opened: nobody sees that it is an upload
		{"http://sharebay.example/up", Request{Person: "ola", Method: "POST"}, "block the block page: dns name, proxy full"},
		{"http://dosage.example", Request{Person: "ola"}, "block a name that does not resolve: dns name"}, // DNS cannot ask
		{"http://203.0.113.7/", Request{Person: "ola"}, "allow the page: proxy full"},
	} {
		c.r.URL = weburl.MustParse(c.url)
		j := s.Travel(&w, &c.r, at(0, "14:10"))
		var stops []string
		for _, stop := range j.Stops {
			text := fmt.Sprintf("%s %s", stop.Gate, stop.Sight)
			if stop.Opened {
				text += " opened"
			}
			stops = append(stops, text)
		}
		assert.Equal(t, c.want, fmt.Sprintf("%s %s: %s", j.Verdict, j.Sees, strings.Join(stops, ", ")), c.url)
	}
	config := ward()
	config.Way = ByProxy
	s = New(config)
	r := Request{URL: weburl.MustParse("https://dosage.example"), Person: "ola"}
	assert.Equal(t, SeesCut, s.Travel(&w, &r, at(0, "14:10")).Sees)
	r.URL = weburl.MustParse("http://dosage.example")
	assert.Equal(t, SeesHold, s.Travel(&w, &r, at(0, "14:10")).Sees)
	r.URL = weburl.MustParse("http://puzzle.example")
	j := s.Travel(&w, &r, at(0, "12:45"))
	assert.Equal(t, SeesBound, j.Sees)
	assert.Equal(t, Provisos{}, j.Stops[0].Explanation.NotHeld)
	for i := range config.Policies {
		for k := range config.Policies[i].Rules {
			if with := &config.Policies[i].Rules[k].With; with.Quota > 0 {
				with.NoUploads = true
			}
		}
	}
	assert.Equal(t, SeesBound, New(config).Travel(&w, &r, at(0, "12:45")).Sees)
	config.Way = NoGate
	assert.Equal(t, SeesUnbarred, New(config).Travel(&w, &r, at(0, "12:45")).Sees)
}

// A request comes to the gates as it says itself, else as its network says, else as its organisation says.
func TestWays(t *testing.T) {
	config := ward()
	config.NetworkWays = map[string]NetworkWay{"bedside": {Way: ByICAP, SendsTunnel: true, Distrusts: true}}
	s := New(config)
	var w Work
	bedside := netip.MustParseAddr("10.40.41.9")
	for _, c := range []struct {
		r    Request
		want string
	}{
		{Request{Addr: bedside}, "icap: icap tunnel"},
		{Request{Group: "screens"}, "icap: icap tunnel"}, // all its members are in one network
		{Request{Group: "nurses"}, "dns,proxy: dns name, proxy tunnel"},
		{Request{Person: "ola"}, "dns,proxy: dns name, proxy tunnel"},
		{Request{Addr: bedside, Way: ByProxy}, "proxy: proxy tunnel"}, // not opened, as its clients do not trust the authority
		{Request{Addr: bedside, Way: ByDNS}, "dns: dns name"},
		{Request{Addr: bedside, Way: NoGate}, "none: "},
	} {
		c.r.URL = weburl.MustParse("https://quillmere.internal/menu")
		config.Fallback.Otherwise = Allow
		j := s.Travel(&w, &c.r, at(0, "14:10"))
		var stops []string
		for _, stop := range j.Stops {
			stops = append(stops, fmt.Sprintf("%s %s", stop.Gate, stop.Sight))
		}
		assert.Equal(t, c.want, fmt.Sprintf("%s: %s", j.Way, strings.Join(stops, ", ")), "%+v", c.r)
	}
	config.NetworkWays["bedside"] = NetworkWay{Way: ByICAP}
	j := New(config).Travel(&w, &Request{Addr: bedside, URL: weburl.MustParse("https://lore.example/heart")}, at(0, "14:10"))
	assert.Equal(t, "icap full", fmt.Sprint(j.Stops[0].Gate, " ", j.Stops[0].Sight), "the proxy that asks has opened the connection")
	assert.Equal(t, SeesPage, j.Sees, "the exception for a page is seen there")

	for text, want := range map[string]Way{"DNS, proxy": ByBoth, "icap": ByICAP, " none ": NoGate} {
		got, ok := ParseWay(text)
		assert.True(t, ok)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "proxy,dns", "mail"} {
		_, ok := ParseWay(text)
		assert.False(t, ok, text)
	}
}

func TestFlips(t *testing.T) {
	s := New(ward())
	var w Work
	for _, c := range []struct {
		url, person, want string
	}{
		{"puzzle.example", "ola", `Allow this host (=puzzle.example) for Ola Fenn; Allow this site (puzzle.example) for Ola Fenn; Allow this host (=puzzle.example) for the group "Ward nurses"; ` +
			`Allow this host (=puzzle.example) for everybody; ` +
			`Switch the rule "No games" of "Ward floor" off: this changes more than this page; Correct what it is: not Games`},
		{"dosage.example/tables", "ola", `Allow this page (=dosage.example/tables) for Ola Fenn; Allow this host (=dosage.example) for Ola Fenn; Allow this site (dosage.example) for Ola Fenn; ` +
			`Allow this page (=dosage.example/tables) for the group "Ward nurses"; Allow this page (=dosage.example/tables) for everybody; ` +
			`Switch the rule "All of dosage" of "Ward floor" off: this changes more than this page; Move the rule "Care" of "Ward floor" above "All of dosage": this changes more than this page; ` +
			`Take the entry dosage.example out of the list "All of dosage"`},
		{"snare.example", "kay", `Switch the rule "Dangers" of "Baseline" off: this changes more than this page; Correct what it is: not Snares`},
	} {
		r := Request{URL: weburl.MustParse(c.url), Person: c.person}
		var texts []string
		for _, f := range s.Flips(&w, &r, at(0, "14:10")) {
			texts = append(texts, f.Text)
		}
		assert.Equal(t, c.want, strings.Join(texts, "; "), c.url)
	}
}

// The flips of a journey are tried at every gate: a page does not help at a gate that sees only its name, nor a host if another gate blocks.
func TestTravelFlips(t *testing.T) {
	flips := func(config Config, url string, r Request) string {
		var w Work
		r.URL = weburl.MustParse(url)
		var texts []string
		for _, f := range New(config).TravelFlips(&w, &r, at(0, "14:10")) {
			texts = append(texts, fmt.Sprintf("%s → %s", f.Text, f.Verdict))
		}
		return strings.Join(texts, "; ")
	}
	bedside := Request{Addr: netip.MustParseAddr("10.40.41.9")}
	assert.Equal(t, `Allow this host (=lore.example) for the address 10.40.41.9 → allow; Allow this site (lore.example) for the address 10.40.41.9 → allow; `+
		`Allow this host (=lore.example) for the network "Bedside screens" → allow; Allow this host (=lore.example) for the group "Bedside screens" → allow; Allow this host (=lore.example) for everybody → allow`,
		flips(ward(), "lore.example/tides", bedside))
	config := ward()
	config.Way = ByProxy
	assert.Contains(t, flips(config, "lore.example/tides", bedside), "Allow this page (=lore.example/tides) for the address 10.40.41.9 → allow; ", "without the DNS gate a page will do")

	// A rule for the DNS gate alone, above one that says the same at the proxy gate: switching it off turns nothing round.
	config = ward()
	config.Policies = []Policy{{ID: "p", Name: "Two", Groups: []string{"nurses"}, Otherwise: Allow, Rules: []Rule{
		{Name: "By name", If: Cond{Op: Is, Values: []string{"games"}}, Then: Block, At: []Gate{DNS}}, {Name: "By page", If: Cond{Op: Is, Values: []string{"games"}}, Then: Block, At: []Gate{Proxy}},
	}}}
	two := flips(config, "http://puzzle.example", Request{Person: "ola"})
	assert.NotContains(t, two, "Switch the rule")
	assert.Contains(t, two, "Correct what it is: not Games → allow")
	assert.Contains(t, two, "Allow this host (=puzzle.example) for Ola Fenn → allow")
	config.Policies[0].Rules = config.Policies[0].Rules[:1]
	assert.Contains(t, flips(config, "http://puzzle.example", Request{Person: "ola"}), `Switch the rule "By name" of "Two" off`)
	config.Way = NoGate
	assert.Empty(t, flips(config, "http://puzzle.example", Request{Person: "ola"}), "nothing is in the way")
}

// The week and the next change of a journey are those of all its gates together.
func TestTravelAhead(t *testing.T) {
	config := ward()
	everything := Cond{Op: InList, Values: []string{"care"}}
	config.Lists = match.New([]match.List{{ID: "care", Name: "Care", Entries: entries("lore.example")}})
	config.Policies = []Policy{{ID: "p", Name: "Night", Groups: []string{"screens"}, Otherwise: Allow, Inspect: Inspection{All: true}, Rules: []Rule{{Name: "Not at night", If: everything, When: When{"nights", false}, Then: Block}}}}
	r := Request{Addr: netip.MustParseAddr("10.40.41.9"), URL: weburl.MustParse("https://lore.example/heart")}
	config.Exceptions = []Exception{{ID: "e", Name: "One page", Entries: entries("=lore.example/heart"), For: Whom{Everybody: true}, Then: Allow}}
	s := New(config)
	var w Work
	proxy := r
	proxy.Gate = Proxy
	_, changes := s.Until(&w, &proxy, at(0, "14:10"))
	assert.False(t, changes, "the proxy gate lets the page through throughout")
	until, changes := s.TravelUntil(&w, &r, at(0, "14:10"))
	require.True(t, changes, "the DNS gate does not")
	assert.True(t, until.Equal(at(0, "20:00")), until)
	strip := s.TravelStrip(&w, &r, at(0, "14:10"), at(1, "14:10"))
	assert.Equal(t, "allow block allow", fmt.Sprint(strip[0].Decision.Verdict, " ", strip[1].Decision.Verdict, " ", strip[2].Decision.Verdict))
	assert.Equal(t, "exception: One page", s.Source(strip[0].Decision))
	assert.Equal(t, "Night: Not at night", s.Source(strip[1].Decision))
	config.Way = NoGate
	strip = New(config).TravelStrip(&w, &r, at(0, "14:10"), at(1, "14:10"))
	require.Len(t, strip, 1)
	assert.Equal(t, "no gate is on the way", s.Source(strip[0].Decision))
}

func TestSentence(t *testing.T) {
	quoted := func(id string) string { return strings.ToUpper(id) }
	n := Names{List: quoted, Schedule: quoted, Card: quoted}
	leaf := func(op Op, values ...string) Cond { return Cond{Op: op, Values: values} }
	for _, c := range []struct {
		rule Rule
		want string
	}{
		{Rule{Then: Block}, "Block everything."},
		{Rule{Then: Allow, If: leaf(InList, "a")}, `Allow what is in the list "A".`},
		{
			Rule{Then: Watch, If: Cond{Op: All, Of: []Cond{leaf(Is, "games", "video"), {Op: Any, Of: []Cond{leaf(Method, "POST"), leaf(File, "archives", ".iso")}}}}, When: When{"s", true}},
			"Allow and flag what (is games or video) and (is sent by POST or asks for archives or .iso files), outside S.",
		},
		{
			Rule{Then: Hold, If: Cond{Op: None, Of: []Cond{leaf(InList, "a", "b"), leaf(HasTrait, "unrated")}}, At: []Gate{DNS}, When: When{"s", false}},
			`Hold what is none of these: it is in the lists "A" or "B"; or it is unrated, in S, at the DNS gate only.`,
		},
		{Rule{Then: Note, Off: true, If: Cond{Op: Points, Values: []string{"c"}, AtLeast: 7}}, `Note, and go on with, what reaches 7 points on the scorecard "C". Switched off.`},
		{Rule{Then: Allow, If: leaf(Search, `"bet*"`), With: Provisos{true, true, 20_000_000, 90 * time.Minute}}, `Allow what searches for "bet*", with safe search, no uploads, at most 20 MB and at most 90 min a day.`},
	} {
		assert.Equal(t, c.want, c.rule.Sentence(n))
	}
	assert.Empty(t, Inspection{Categories: []string{"banking"}}.Sentence(n))
	assert.Equal(t, "Where a TLS connection is refused, it is opened to show the page that says so.", Inspection{Pages: true}.Sentence(n))
	assert.Equal(t, "TLS connections are opened, so that whole URLs are seen.", Inspection{All: true}.Sentence(n))
	assert.Equal(t, `TLS connections are opened, so that whole URLs are seen, but not those to banking, health or the list "A".`, Inspection{All: true, ButLists: []string{"a"}, Categories: []string{"banking", "health"}}.Sentence(n))
}

func TestNoAllocs(t *testing.T) {
	s := New(ward())
	var w Work
	for _, url := range []string{"puzzle.example/a/b?c=d", "portal.example", "heron.example/x.zip", "203.0.113.9"} {
		r := Request{URL: weburl.MustParse(url), Person: "kay", Addr: netip.MustParseAddr("10.40.41.9")}
		s.Decide(&w, &r, monday)
		assert.Zero(t, testing.AllocsPerRun(100, func() { s.Decide(&w, &r, monday) }), url)
	}
}

func shown(strip []Segment) string {
	var parts []string
	for _, s := range strip {
		parts = append(parts, s.From.In(zone).Format("Mon 15:04 ")+string(s.Decision.Verdict))
	}
	return strings.Join(parts, ", ")
}

func TestPlan(t *testing.T) {
	config := ward()
	config.Combining = Position
	s := New(config)
	var w Work
	plan := s.Plan(&w, "nurses", monday, monday.AddDate(0, 0, 1))
	assert.Equal(t, "Mon 00:00 allow", shown(plan.Else))
	rows := map[string]string{}
	for _, row := range plan.Rows {
		if row.List != nil {
			rows["list "+row.List.Name] = shown(row.Strip)
		} else {
			rows[row.Category.Name] = shown(row.Strip)
		}
	}
	assert.Equal(t, map[string]string{
		"Games": "Mon 00:00 block, Mon 00:30 watch, Mon 01:15 block, Mon 12:30 watch, Mon 13:15 block", "list Betting": "Mon 00:00 block", "list All of dosage": "Mon 00:00 hold",
		"Adult": "Mon 00:00 block", "Snares": "Mon 00:00 block",
	}, rows)
	plan = s.Plan(&w, "screens", monday, monday.AddDate(0, 0, 1))
	assert.Equal(t, "Mon 00:00 block", shown(plan.Else))
	assert.Len(t, plan.Rows, 1, "only the welcome sites fare otherwise")
}

func TestLoosens(t *testing.T) {
	config := ward()
	config.Policies[1].Rules = append(config.Policies[1].Rules, Rule{Name: "Research", If: Cond{Op: Any, Of: []Cond{{Op: Is, Values: []string{"snares", "games"}}, {Op: None, Of: []Cond{{Op: Is, Values: []string{"snares"}}}}}}, Then: Watch})
	s := New(config)
	var w Work
	assert.Equal(t, []Conflict{{2, `The baseline blocks Snares by its rule "Dangers"; Research cannot loosen it.`}}, s.Loosens(&w, "nightly", monday))
	assert.Empty(t, s.Loosens(&w, "floor", monday))
	assert.Empty(t, s.Loosens(&w, "gone", monday))
}

func TestStanding(t *testing.T) {
	s := New(ward())
	var w Work
	st := s.Standing(&w, Request{Person: "kay", Addr: netip.MustParseAddr("10.40.41.9")}, monday)
	assert.Equal(t, "[{nurses Ward nurses} {night Night ward} {screens Bedside screens}] [{floor Ward floor} {nightly Night ward} {bedside Bedside}] Bedside screens One page",
		fmt.Sprint(st.Groups, st.Policies, " ", st.Network.Name, " ", st.Exceptions[0].Name))
}

// The origin of a decision in a few words, for every rung.
func TestSource(t *testing.T) {
	config := ward()
	s := New(config).With(Facts{
		Grants:   []Exception{{ID: "gr", Name: "granted.example", Entries: entries("granted.example"), Then: Allow, For: Whom{Persons: []string{"ola"}}, Until: at(1, "00:00")}},
		Unlocked: []Unlocked{{Entries: entries("unlocked.example"), Person: "ola", Until: at(1, "00:00")}},
		Stints:   []Stint{{ID: "st", Group: "records", Kind: Paused, From: monday, Until: at(0, "01:00"), By: "Ivo"}},
	})
	var w Work
	for _, c := range []struct {
		url  string
		r    Request
		at   time.Time
		want string
	}{
		{"snare.example", Request{Person: "ola"}, at(0, "14:10"), "Baseline: Dangers"},
		{"unlocked.example", Request{Person: "ola"}, at(0, "14:10"), "unlocked"},
		{"granted.example", Request{Person: "ola"}, at(0, "14:10"), "grant: granted.example"},
		{"portal.example", Request{Group: "records"}, at(0, "14:10"), "exception: Portal"},
		{"heron.example", Request{Group: "records"}, at(0, "00:30"), "stint: the web is paused"},
		{"puzzle.example", Request{Person: "ola"}, at(0, "14:10"), "Ward floor: No games"},
		{"heron.example", Request{Person: "ola"}, at(0, "14:10"), "Ward floor: otherwise"},
		{"heron.example", Request{}, at(0, "14:10"), "Fallback: otherwise"},
	} {
		c.r.URL = weburl.MustParse(c.url)
		assert.Equal(t, c.want, s.Source(s.Decide(&w, &c.r, c.at)), c.url)
	}
	config.Fallback = nil
	r := Request{URL: weburl.MustParse("heron.example")}
	s = New(config)
	assert.Equal(t, "no policy", s.Source(s.Decide(&w, &r, monday)))
	assert.Equal(t, "No policy is for this request, and there is no fallback: it says allow.", s.Explain(&w, &r, monday).Because)
}

// What a gate sees of a request, and whether the request reaches it.
func TestSeen(t *testing.T) {
	for _, row := range []struct {
		gate   Gate
		url    string
		opened bool
		want   string
	}{
		{DNS, "https://heron.example/wards", false, "name true"},
		{DNS, "http://heron.example/wards", true, "name true"},
		{DNS, "https://192.0.2.7/", false, "name false"},
		{Proxy, "https://heron.example/wards", false, "tunnel true"},
		{Proxy, "https://heron.example/wards", true, "full true"},
		{Proxy, "http://heron.example/wards", false, "full true"},
		{ICAP, "https://heron.example/wards", false, "tunnel true"},
		{ICAP, "https://heron.example/wards", true, "full true"},
		{ICAP, "http://heron.example/wards", false, "full true"},
	} {
		sight, comes := Seen(row.gate, weburl.MustParse(row.url), row.opened)
		assert.Equal(t, row.want, fmt.Sprint(sight, " ", comes), "%+v", row)
	}
}

// Who is at an address is who came last and has not gone; a presence decides nothing by itself.
func TestPresentAt(t *testing.T) {
	at := func(clock string) time.Time { return at(0, clock) }
	desk, other := netip.MustParseAddr("10.40.20.7"), netip.MustParseAddr("10.40.20.8")
	s := New(ward())
	with := s.With(Facts{Presences: []Presence{
		{"kay", desk, at("08:00"), at("12:00")}, {"ola", desk, at("10:00"), at("11:00")}, {"kay", netip.MustParseAddr("::ffff:10.40.20.8"), at("08:00"), at("09:00")},
	}})
	for clock, want := range map[string]string{"07:59": "", "08:00": "kay", "10:00": "ola", "10:59": "ola", "11:00": "kay", "12:00": ""} {
		assert.Equal(t, want, with.PresentAt(desk, at(clock)), clock)
	}
	assert.Equal(t, "kay", with.PresentAt(other, at("08:30")))
	assert.Empty(t, with.PresentAt(other, at("09:00")))
	assert.Empty(t, with.PresentAt(netip.Addr{}, at("08:30")))
	assert.Empty(t, s.PresentAt(desk, at("08:30")), "the snapshot without the facts stays as it is")
	var w Work
	r := Request{URL: weburl.MustParse("oddsfield.example"), Addr: desk}
	assert.Equal(t, s.Decide(&w, &r, at("08:30")), with.Decide(&w, &r, at("08:30")))
}

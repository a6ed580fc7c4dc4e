package query

import (
	"context"
	"errors"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// things is a world of names: ids by sort and name.
type things map[Sort]map[string]uuid.UUID

func (w things) Called(_ context.Context, sort Sort, text string) (ids []uuid.UUID, _ error) {
	for name, id := range w[sort] {
		if isLike(name, text) {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

func (w things) Beginning(_ context.Context, sort Sort, with string, _ int) (names []string, _ error) {
	for name := range w[sort] {
		if strings.HasPrefix(strings.ToLower(name), strings.ToLower(with)) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// isLike is the reference for wildcards: by a regular expression.
func isLike(text, wild string) bool {
	return regexp.MustCompile(`(?is)^` + strings.ReplaceAll(regexp.QuoteMeta(wild), `\*`, `.*`) + `$`).MatchString(text)
}

var (
	zone, _ = time.LoadLocation("Europe/Berlin")
	now     = time.Date(2026, 11, 30, 14, 30, 0, 0, zone) // a Monday
	names   = things{
		People:   {"Kay Moran": {1}, "Petra Lapwing": {2}},
		Groups:   {"Ward nurses": {11}, "Doctors": {12}},
		Networks: {"Ward": {21}}, Machines: {"Kiosk 7": {31}},
		Policies: {"Ward floor": {41}, "Offices": {42}}, Rules: {"Never on the ward": {51}, "Seen": {52}},
		Exceptions: {"Dosage page": {61}}, Lists: {"Casino night": {71}}, Schedules: {"Meal breaks": {81}},
	}
	meals, _ = schedule.Parse("mon-fri 12:00-13:00")
	taxonomy = classify.Taxonomy{
		Families:   []classify.Family{{Key: "play", Name: "Play"}, {Key: "press", Name: "Press and media"}},
		Categories: []classify.Category{{Key: "betting", Family: "play", Name: "Betting"}, {Key: "games", Family: "play", Name: "Games"}, {Key: "news", Family: "press", Name: "News"}},
	}
	world = World{View: Whole, Now: now, Zone: zone, Taxonomy: taxonomy, Names: names, Schedule: func(name string) (policy.Schedule, bool) {
		return policy.Schedule{Name: "Meal breaks", Schedule: meals, Zone: zone}, strings.EqualFold(name, "meal breaks")
	}}
)

// holds is the reference: whether a query selects a record, read from the design alone.
func holds(n Node, r *journal.Record) bool {
	switch n := n.(type) {
	case All:
		return !slices.ContainsFunc(n, func(one Node) bool { return !holds(one, r) })
	case Any:
		return slices.ContainsFunc(n, func(one Node) bool { return holds(one, r) })
	case No:
		return !holds(n.Of, r)
	}
	t := n.(*Term)
	return slices.ContainsFunc(t.Values, func(v Value) bool { return termHolds(t.Field, v, r) })
}

func nameOf(sort Sort, id uuid.UUID) string {
	for name, one := range names[sort] {
		if one == id {
			return name
		}
	}
	return ""
}

func termHolds(field string, v Value, r *journal.Record) bool {
	u, _ := weburl.Parse(r.URL)
	is := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool { return isLike(text, v.Text) })
	}
	named := func(sort Sort, ids ...uuid.UUID) bool {
		return slices.ContainsFunc(ids, func(id uuid.UUID) bool { return id != uuid.Nil && is(nameOf(sort, id), id.String()) })
	}
	compared := func(n int64, read func(string) int64) bool {
		switch v.Op {
		case Range:
			return (v.Text == "" || n >= read(v.Text)) && (v.To == "" || n <= read(v.To))
		case More:
			return n > read(v.Text)
		case AtLeast:
			return n >= read(v.Text)
		case Less:
			return n < read(v.Text)
		case AtMost:
			return n <= read(v.Text)
		}
		return n == read(v.Text)
	}
	plain := func(text string) int64 { n, _ := withUnit(text, map[string]float64{"": 1}); return n }
	switch field {
	case "":
		text := strings.ToLower(v.Text)
		return isLike(r.URL, "*"+text+"*") || r.Person != uuid.Nil && isLike(nameOf(People, r.Person), "*"+text+"*") || r.Machine != uuid.Nil && isLike(nameOf(Machines, r.Machine), "*"+text+"*")
	case "verdict":
		return is(string(r.Verdict))
	case "gate":
		return is(string(r.Gate), r.GateName)
	case "sight":
		return is(string(r.Sight))
	case "category", "family":
		return slices.ContainsFunc(r.Categories, func(key string) bool {
			at := slices.IndexFunc(taxonomy.Categories, func(c classify.Category) bool { return c.Key == key })
			if at < 0 {
				return field == "category" && is(key)
			}
			if c := taxonomy.Categories[at]; field == "category" {
				return is(c.Key, c.Name)
			}
			f := taxonomy.Families[slices.IndexFunc(taxonomy.Families, func(f classify.Family) bool { return f.Key == taxonomy.Categories[at].Family })]
			return is(f.Key, f.Name)
		})
	case "group":
		return named(Groups, r.Groups...)
	case "person":
		return named(People, r.Person)
	case "machine":
		return named(Machines, r.Machine)
	case "network":
		return named(Networks, r.Network)
	case "policy":
		return named(Policies, r.Policy)
	case "rule":
		return named(Rules, r.Rule)
	case "exception":
		return named(Exceptions, r.Exception)
	case "list":
		return named(Lists, r.List)
	case "note":
		return named(Rules, r.Notes...)
	case "address":
		if !r.Address.IsValid() {
			return false
		}
		if in, err := netip.ParsePrefix(v.Text); err == nil {
			return in.Contains(r.Address)
		}
		return r.Address.String() == v.Text
	case "host":
		return is(u.Host())
	case "site":
		for host := u.Host(); ; {
			if is(host) {
				return true
			}
			_, above, ok := strings.Cut(host, ".")
			if !ok {
				return false
			}
			host = above
		}
	case "url":
		return is(r.URL)
	case "path":
		return is(u.Path())
	case "method":
		return is(r.Method)
	case "rung":
		return is(string(r.Rung))
	case "entry":
		return is(r.Entry)
	case "trait":
		return slices.ContainsFunc(r.Traits, func(t policy.Trait) bool { return is(string(t)) })
	case "proviso":
		return r.Provisos == "safe search and no uploads" && is("safe search", "no uploads") || r.Provisos == "at most 10 MB" && is("size cap", "at most 10 MB") || r.Provisos == "at most 2 h a day" && is("quota", "at most 2 h a day")
	case "words":
		return r.Words != "" && is(append(strings.Fields(r.Words), r.Words)...)
	case "status":
		return r.Status != 0 && compared(int64(r.Status), plain)
	case "type":
		return is(r.Media)
	case "size":
		return compared(r.Size, func(text string) int64 { n, _ := bytesOf(text); return n })
	case "duration":
		return compared(r.Took.Milliseconds(), func(text string) int64 { n, _ := spanOf(text); return n })
	case "agent":
		return is(r.Agent)
	case "referrer":
		return is(r.Referrer)
	case "revision":
		return r.Revision != 0 && compared(r.Revision, plain)
	case "outcome":
		return is(string(r.Outcome))
	case "id":
		return r.ID.String() == v.Text
	case "covers":
		return isLike(u.Host(), "*.heron.example") || u.Host() == "heron.example" // the one that is drawn
	case "since", "until":
		at, _ := Moment(v.Text, now, zone)
		return r.At.Before(at) != (field == "since")
	case "in", "outside":
		return meals.At(r.At, zone) == (field == "in")
	case "decided":
		no := r.Rung == policy.AtFallback || r.Rule == uuid.Nil && r.Exception == uuid.Nil && (r.Rung == policy.AtPolicy || r.Rung == policy.AtStint || r.Rung == policy.AtBaseline)
		return is("no") && no || is("yes") && !no && r.Rung != ""
	}
	panic("no reference for " + field)
}

func draw[T any](t *rapid.T, of ...T) T { return rapid.SampledFrom(of).Draw(t, "one") }

func aRecord(t *rapid.T) journal.Record {
	one := func(sort Sort) (id uuid.UUID) {
		if draw(t, true, false) {
			for _, name := range []string{"Kay Moran", "Ward nurses", "Ward", "Kiosk 7", "Offices", "Seen", "Dosage page", "Casino night", "Petra Lapwing", "Doctors", "Never on the ward"} {
				if known, ok := names[sort][name]; ok && draw(t, true, false) {
					return known
				}
			}
		}
		return id
	}
	r := journal.Record{
		ID: uuid.UUID{byte(draw(t, 1, 2, 3))}, At: now.Add(-time.Duration(rapid.IntRange(0, 30*3600_000).Draw(t, "ago")) * time.Millisecond).UTC(), Person: one(People), Machine: one(Machines), Network: one(Networks),
		Policy: one(Policies), Rule: one(Rules), Exception: one(Exceptions), List: one(Lists), Method: draw(t, "GET", "POST"), Verdict: draw(t, policy.Allow, policy.Block, policy.Hold, policy.Watch),
		URL:  draw(t, "https://heron.example/", "https://www.heron.example/Tides/today?x=heron", "http://heron.example:8080/a", "https://gull.example/heron.example/", "https://notheron.example/", "https://10.1.2.3/"),
		Gate: draw(t, policy.DNS, policy.Proxy), GateName: draw(t, "", "front"), Sight: draw(t, weburl.Name, weburl.Full), Rung: draw(t, policy.AtPolicy, policy.AtFallback, policy.AtException, policy.AtBaseline),
		Entry: draw(t, "", "heron.example", "*.heron.example/x"), Provisos: draw(t, "", "safe search and no uploads", "at most 10 MB", "at most 2 h a day"), Words: draw(t, "", "online poker", "Poker"),
		Agent: draw(t, "", "Plume/3 (Larch)"), Referrer: draw(t, "", "gull.example"), Revision: draw[int64](t, 0, 3, 12),
		Ending: journal.Ending{Outcome: draw(t, journal.Answered, journal.Cut), Status: draw(t, 0, 200, 404, 403), Media: draw(t, "", "text/html", "image/png"), Size: draw[int64](t, 0, 999, 1000, 10_000_000), Took: draw(t, 0, time.Second, 90*time.Second)},
	}
	for _, key := range []string{"betting", "news", "gone"} {
		if draw(t, true, false, false) {
			r.Categories = append(r.Categories, key)
		}
	}
	for _, g := range []uuid.UUID{{11}, {12}} {
		if draw(t, true, false) {
			r.Groups = append(r.Groups, g)
		}
	}
	if draw(t, true, false) {
		r.Notes = []uuid.UUID{{52}}
		r.Traits = []policy.Trait{policy.PlainHTTP, policy.Unrated}
	}
	r.Address = draw(t, netip.Addr{}, netip.MustParseAddr("10.40.9.7"), netip.MustParseAddr("2001:db8::7"))
	return r
}

// drawn are terms whose answer the reference knows.
var drawn = []string{
	"heron", "HERON.example/tides", `"example:8080/a"`, "kay", "*ron*today", "kiosk", "verdict:block", "verdict:hold,watch", "gate:dns", "gate:fr*", "sight:name", "category:betting", `category:"News"`, "category:g*,x*", "family:play",
	`family:"press and media"`, `group:"ward nurses"`, "group:*", `person:"Kay Moran"`, "person:*lap*", `machine:"Kiosk 7"`, "network:ward", "address:10.40.0.0/16", "address:2001:db8::7", "host:heron.example", "host:*.heron.example",
	"site:heron.example", "site:h*.example", `url:"https://heron.example/"`, "url:*TIDES*", "path:/tides/*", "path:/", "method:get", "rung:policy,fallback", `policy:"Ward floor"`, "policy:o*", "rule:seen", `exception:"Dosage page"`,
	`list:"Casino night"`, "entry:heron.example", "note:seen", "trait:unrated", `proviso:"safe search"`, "proviso:quota", `proviso:"size cap"`, "words:poker", `words:"online poker"`, "status:404", "status:400..499", "status:>=403", "status:<300", "status:..300",
	"type:image/*", "size:>999", "size:1kB", "size:1kB..10MB", "size:<1kB", "duration:>1s", "duration:..1s", "duration:1m..2m", "agent:*plume*", "referrer:gull.example", "revision:3", "revision:>3", "outcome:cut",
	"id:01000000-0000-0000-0000-000000000000", `covers:"heron.example"`, "since:2h", "since:yesterday", "since:14:00", "until:1h", "until:mon", `since:"2026-11-30 09:15"`, "until:2026-11-30T12:00:00Z", `in:"Meal breaks"`, `outside:"meal breaks"`, "decided:no", "decided:yes",
}

func aQuery(t *rapid.T, depth int) string {
	switch n := rapid.IntRange(0, 9).Draw(t, "form"); {
	case depth == 0 || n < 5:
		return draw(t, drawn...)
	case n == 5:
		return "-" + draw(t, drawn...)
	case n == 6:
		return "-(" + aQuery(t, depth-1) + ")"
	case n == 7:
		return "(" + aQuery(t, depth-1) + ")"
	case n == 8:
		return aQuery(t, depth-1) + " or " + aQuery(t, depth-1)
	}
	return aQuery(t, depth-1) + "  " + aQuery(t, depth-1)
}

// A search selects what a plain loop over the records selects.
func TestReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.Custom(aRecord), 1, 40).Draw(t, "records")
		text := aQuery(t, 3)
		n, err := Parse(text)
		require.NoError(t, err, text)
		s, err := Compile(t.Context(), text, world)
		require.NoError(t, err, text)
		since := strings.Contains(text, "since:")
		assert.Equal(t, !since, s.Recent)
		slices.SortStableFunc(all, func(a, b journal.Record) int { return a.At.Compare(b.At) })
		of := segment.Of(all)
		rows, err := of.Select(s.Filter)
		require.NoError(t, err)
		for i := range all {
			want := holds(n, &all[i])
			if s.Recent {
				want = want && !all[i].At.Before(s.From)
			}
			assert.Equal(t, want, rows.Has(i), "%s\n%+v", text, all[i])
		}
	})
}

// What a reader finds does not hang on what is hidden from that reader: it stays the same where others asked. And it is no more than everybody finds, and nothing that is out of bounds.
func TestHidden(t *testing.T) {
	groups := rapid.Custom(func(t *rapid.T) []uuid.UUID {
		return draw(t, nil, []uuid.UUID{{11}}, []uuid.UUID{{12}}, []uuid.UUID{{11}, {12}})
	})
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.Custom(aRecord), 1, 40).Draw(t, "records")
		slices.SortStableFunc(all, func(a, b journal.Record) int { return a.At.Compare(b.At) })
		view := View{All: draw(t, true, false), Names: draw(t, false, false, true)}
		if !view.All {
			view.Only = groups.Draw(t, "only")
		}
		if !view.Names {
			view.Named = groups.Draw(t, "named")
		}
		text, theirs := aQuery(t, 3), world
		theirs.View = view
		find := func(w World, all []journal.Record) (Search, segment.Rows, bool) {
			s, err := Compile(t.Context(), text, w)
			if errors.Is(err, ErrHidden) {
				assert.True(t, view.Hides("person"))
				assert.Regexp(t, "person:|machine:|address:", text)
				return s, segment.Rows{}, false
			}
			require.NoError(t, err, text)
			rows, err := segment.Of(all).Select(s.Filter)
			require.NoError(t, err)
			return s, rows, true
		}
		s, rows, may := find(theirs, all)
		if !may {
			return
		}
		_, whole, _ := find(world, all)
		others := slices.Clone(all)
		for i := range others {
			if !view.HasNames(&all[i]) {
				other := aRecord(t)
				others[i].Person, others[i].Machine, others[i].Address = other.Person, other.Machine, other.Address
			}
		}
		_, again, _ := find(theirs, others)
		named, _ := s.OfWho()
		who, err := segment.Of(all).Select(named.Filter)
		require.NoError(t, err)
		for i := range all {
			assert.Equal(t, rows.Has(i), again.Has(i), "%s\n%+v", text, all[i])
			if rows.Has(i) {
				assert.True(t, view.Has(&all[i]))
				assert.True(t, strings.Contains(text, "-") || whole.Has(i), text) // that somebody is not found by a hidden name is no secret told
			}
			if who.Has(i) && !view.Hides("person") {
				assert.True(t, rows.Has(i) && view.HasNames(&all[i]))
			}
			shown := view.Shown(all[i])
			assert.True(t, view.HasNames(&all[i]) || shown.Person == uuid.Nil && shown.Machine == uuid.Nil && !shown.Address.IsValid())
		}
	})
}

// Whoever sees names of some groups alone is not told who there is: not by what could stand in a query, nor by whether a name is known.
func TestNamesAreNotTold(t *testing.T) {
	theirs := world
	theirs.View = View{Only: []uuid.UUID{{11}}, Named: []uuid.UUID{{11}}}
	for _, text := range []string{"person:", "person:K", "machine:Ki", "address:1"} {
		c, err := Complete(t.Context(), text, -1, 10, theirs)
		require.NoError(t, err)
		assert.Empty(t, c.Choices, text)
	}
	for _, text := range []string{`person:"Kay Moran"`, `person:"Kay Morann"`, `machine:"Kiosk 8"`} {
		_, err := Compile(t.Context(), text, theirs)
		assert.NoError(t, err, text)
	}
	c, err := Complete(t.Context(), "person:K", -1, 10, world)
	require.NoError(t, err)
	assert.NotEmpty(t, c.Choices)
}

// Each field that there is is drawn.
func TestDrawn(t *testing.T) {
	for name := range fields {
		assert.True(t, slices.ContainsFunc(drawn, func(q string) bool { return strings.HasPrefix(q, name+":") }), name)
	}
}

// A mistake is answered with its column, and with what was probably meant.
func TestMistakes(t *testing.T) {
	for text, want := range map[string]struct {
		column int
		msg    string
		fix    string
	}{
		"verdict:blok":                       {9, "is one of allow, watch, hold, block", "verdict:block"},
		"a vedrict:block":                    {3, `there is no field "vedrict"; perhaps verdict is meant`, "a verdict:block"},
		"https://heron.example/x":            {1, "a URL is written in quotation marks", `"https://heron.example/x"`},
		"a url:https://heron.example/x b":    {12, "in quotation marks", `a url:"https://heron.example/x" b`},
		`grüße "open`:                        {7, "not closed", `grüße "open"`},
		"(a or b":                            {1, "not closed", "(a or b)"},
		"a )":                                {3, "closes none", "a "},
		"a or":                               {3, `nothing follows "or"`, "a"},
		"or a":                               {1, `nothing stands before "or"`, "a"},
		"( )":                                {1, "nothing stands in these", ""},
		"a -":                                {3, "nothing follows the minus", ""},
		"a, b":                               {2, "stands for nothing", ""},
		"host:":                              {6, "a value is missing", ""},
		"host:a,":                            {8, "a value is missing", ""},
		"host:>a":                            {6, "is not compared", `host:">a"`},
		"status:abc":                         {8, `"abc" is not a number`, ""},
		"size:10XB":                          {6, "is not an amount, as 10MB", ""},
		"duration:soon":                      {10, "as 1s or 250ms", ""},
		"since:soon":                         {7, "is not a moment", ""},
		"address:10.40":                      {9, "is no address and no range", ""},
		`group:"Ward nurse"`:                 {7, "perhaps Ward nurses is meant", `group:"Ward nurses"`},
		"person:nobody":                      {8, `there is no person "nobody"`, ""},
		"category:beting":                    {10, "perhaps betting is meant", "category:betting"},
		`covers:"/[/"`:                       {8, "the entry cannot be read", ""},
		"id:7":                               {4, "is not the id of a record", ""},
		`in:"Meal break"`:                    {4, "perhaps Meal breaks is meant", `in:"Meal breaks"`},
		`a "\n"`:                             {4, "a backslash stands before", `a "\\n"`},
		"a|b":                                {2, "stands for nothing", ""},
		strings.Repeat("(", 60) + "a":        {52, "more than 50 parentheses", ""},
		strings.Repeat("-", 60) + "a":        {52, "more than 50 minuses", ""},
		strings.Repeat("a", mostText+1):      {mostText + 1, "4000 characters at most", ""},
		"since:2h,3h until:now..yesterday a": {19, "is not a moment", ""},
	} {
		_, err := Compile(t.Context(), text, world)
		var mistake *Error
		if assert.ErrorAs(t, err, &mistake, text) {
			assert.Equal(t, want.column, mistake.Column, "%s: %s", text, mistake.Msg)
			assert.Contains(t, mistake.Msg, want.msg, text)
			assert.Equal(t, want.fix, mistake.Fix, text)
			if mistake.Fix != "" && !strings.Contains(mistake.Fix, "://") {
				_, err := Compile(t.Context(), mistake.Fix, world)
				assert.NoError(t, err, "the fix is right: %s", mistake.Fix)
			}
		}
	}
}

// What reads as one thing is one: binding, quotation, values.
func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"":                         "all()",
		"a b or c":                 "any(all(a b) c)",
		"a OR b or c d":            "any(a b all(c d))",
		"-a (b or c)":              "all(no(a) any(b c))",
		`"or" orb`:                 "all(or orb)",
		`"say \"x\" \\ y"`:         `say "x" \ y`,
		`HOST:a,"b c"`:             `host:a,"b c"`,
		"size:>=10MB size:1..2":    "all(size:>=10MB size:1..2)",
		"size:..5 since:14:00":     `all(size:..5 since:"14:00")`,
		"address:2001:db8::/32(a)": `all(address:"2001:db8::/32" a)`,
		`since:"a b".."c d"`:       `since:"a b".."c d"`,
		"a..b":                     "a..b",
		"--a":                      "no(no(a))",
		`person:""`:                `person:""`,
	} {
		n, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, written(n), text)
	}
}

func written(n Node) string {
	several := func(name string, all []Node) string {
		var parts []string
		for _, one := range all {
			parts = append(parts, written(one))
		}
		return name + "(" + strings.Join(parts, " ") + ")"
	}
	switch n := n.(type) {
	case All:
		return several("all", n)
	case Any:
		return several("any", n)
	case No:
		return "no(" + written(n.Of) + ")"
	}
	t := n.(*Term)
	if t.Field == "" {
		return t.Values[0].Text
	}
	var values []string
	for _, v := range t.Values {
		values = append(values, v.String())
	}
	return t.Field + ":" + strings.Join(values, ",")
}

// Moments are of the past, by the organisation's clock.
func TestMoment(t *testing.T) {
	for text, want := range map[string]string{
		"2h": "2026-11-30 12:30", "3d": "2026-11-27 14:30", "90m": "2026-11-30 13:00", "1w": "2026-11-23 14:30", "14:00": "2026-11-30 14:00", "15:00": "2026-11-29 15:00", "now": "2026-11-30 14:30",
		"yesterday": "2026-11-29 00:00", "today": "2026-11-30 00:00", "mon": "2026-11-30 00:00", "tuesday": "2026-11-24 00:00", "sun 18:15": "2026-11-29 18:15", "mon 16:00": "2026-11-23 16:00",
		"2026-11-01": "2026-11-01 00:00", "2026-11-01 7:05": "2026-11-01 07:05", "2026-11-01T07:05": "2026-11-01 07:05", "2026-11-30T12:00:00Z": "2026-11-30 13:00", "40d": "2026-10-21 14:30",
	} {
		at, ok := Moment(text, now, zone)
		assert.True(t, ok, text)
		assert.Equal(t, want, at.In(zone).Format("2006-01-02 15:04"), text)
	}
	for _, text := range []string{"", "soon", "25:00", "mo", "2026-13-01", "-2h", "h", "mon noon", "9999999w"} {
		_, ok := Moment(text, now, zone)
		assert.False(t, ok, text)
	}
}

// A query of any text is read or refused at a column that is in it; what is read is read again from its own words.
func FuzzParse(f *testing.F) {
	for _, text := range drawn {
		f.Add(text)
	}
	f.Add(`-(a "b\\" or c:d,>=e..f) | x`)
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text)
		if err != nil {
			var mistake *Error
			require.ErrorAs(t, err, &mistake)
			assert.LessOrEqual(t, mistake.Column, len([]rune(text))+1)
			return
		}
		if term, ok := n.(*Term); ok && term.Field != "" {
			again, err := Parse(written(n))
			require.NoError(t, err, written(n))
			assert.Equal(t, written(n), written(again))
		}
	})
}

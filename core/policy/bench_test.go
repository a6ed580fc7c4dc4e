package policy

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"
	"time"

	"widelark/bench/rounds"
	"widelark/bench/traffic"
	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// city is a large configuration: a pack of a million sites, lists with 10,000 globs and 1,000 expressions, 200 policies of 20 rules for
// as many groups, 2,000 exceptions, 5,000 people in two groups each.
type city struct {
	snapshot *Snapshot
	lists    *match.Index // without exceptions and apps
	requests []Request
	texts    []string
}

var newCity = sync.OnceValue(func() city {
	random := rand.New(rand.NewPCG(4, 7))
	sites := match.NewBuilder(1_000_000)
	sets := make([]int, 80)
	taxonomy := classify.Taxonomy{}
	for i := range 8 {
		taxonomy.Families = append(taxonomy.Families, classify.Family{Key: fmt.Sprint("family-", i), Name: fmt.Sprint("Family ", i)})
	}
	for i := range sets {
		id := fmt.Sprint("category-", i)
		sets[i] = sites.List(id, id)
		taxonomy.Categories = append(taxonomy.Categories, classify.Category{Key: id, Name: id, Family: fmt.Sprint("family-", i%8)})
	}
	for i := range 1_000_000 {
		sites.AddNamed(sets[i%len(sets)], int64(i), traffic.Site(i), pattern.AndBelow, false)
	}
	texts := traffic.URLs(1<<16, 1_000_000)
	// What administrators put into lists and exceptions are hosts that somebody asks for.
	asked := func() pattern.Entry {
		return pattern.MustParse(traffic.Asked(random.IntN(traffic.Hosts), 1_000_000))
	}
	entries := func(lines []string) (entries []pattern.Entry) {
		for _, line := range lines {
			entries = append(entries, pattern.MustParse(line))
		}
		return entries
	}
	lists := []match.List{{ID: "globs", Name: "Globs", Entries: entries(traffic.Globs(10_000))}, {ID: "regexes", Name: "Regexes", Entries: entries(traffic.Expressions(1_000))}}
	for i := range 300 {
		list := match.List{ID: fmt.Sprint("list-", i), Name: fmt.Sprint("List ", i)}
		for range 100 {
			list.Entries = append(list.Entries, asked())
		}
		lists = append(lists, list)
	}
	config := Config{
		Zone: zone, Combining: Strictest, Taxonomy: taxonomy, Lists: match.New(lists), Way: ByBoth,
		Packs: []classify.Pack{{ID: "p", Name: "Pack", Sites: sites.Build()}}, Local: classify.NewLocal(nil, []classify.Own{{Key: "mirrors", Lists: []string{"globs", "regexes"}, Adds: true}}, nil),
	}
	for i, text := range []string{"mon-sun 07:30-20:00", "mon-sun 20:00-07:30", "mon-fri 08:30-12:30, 13:15-17:00", "mon-sun 12:30-13:15, 00:30-01:15", "sat-sun 10:00-20:00; not on 2026-12-25"} {
		config.Schedules = append(config.Schedules, named(fmt.Sprint("schedule-", i), fmt.Sprint("Schedule ", i), text))
	}
	groups := make([]directory.Group, 200)
	for i := range groups {
		groups[i] = directory.Group{ID: fmt.Sprint("group-", i), Name: fmt.Sprint("Group ", i), Ranges: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), 0, 0}), 16)}}
		p := Policy{ID: fmt.Sprint("policy-", i), Name: fmt.Sprint("Policy ", i), Groups: []string{groups[i].ID}, Otherwise: Allow}
		for r := range 20 {
			rule := Rule{Name: fmt.Sprint("Rule ", r), Then: Verdicts[random.IntN(4)]}
			switch r % 5 {
			case 0:
				rule.If = Cond{Op: InList, Values: []string{fmt.Sprint("list-", random.IntN(300)), fmt.Sprint("list-", random.IntN(300))}}
			case 1:
				rule.If = Cond{Op: Is, Values: []string{fmt.Sprint("category-", random.IntN(80))}}
			case 2:
				rule.If = Cond{Op: All, Of: []Cond{{Op: Is, Values: []string{fmt.Sprint("family-", random.IntN(8))}}, {Op: File, Values: []string{"programs"}}}}
			case 3:
				rule.If, rule.When = Cond{Op: Is, Values: []string{fmt.Sprint("category-", random.IntN(80)), fmt.Sprint("category-", random.IntN(80))}}, When{fmt.Sprint("schedule-", random.IntN(5)), random.IntN(2) == 0}
			default:
				rule.If = Cond{Op: Any, Of: []Cond{{Op: HasTrait, Values: []string{"raw-address", "odd-port"}}, {Op: InList, Values: []string{fmt.Sprint("list-", random.IntN(300))}}}}
			}
			p.Rules = append(p.Rules, rule)
		}
		config.Policies = append(config.Policies, p)
	}
	people := make([]directory.Person, 5_000)
	for i := range people {
		people[i] = directory.Person{ID: fmt.Sprintf("%08x-7c4e-7b1a-9f3e-%012x", random.Uint32(), i), Name: fmt.Sprint("Person ", i)}
		for range 2 {
			g := &groups[random.IntN(len(groups))]
			g.Persons = append(g.Persons, people[i].ID)
		}
	}
	config.Directory = directory.New(people, groups, nil)
	for i := range 2_000 {
		e := Exception{ID: fmt.Sprint("exception-", i), Entries: []pattern.Entry{asked()}, Then: Allow, Until: monday.AddDate(0, 0, random.IntN(60)-20)}
		e.For.Persons = []string{people[random.IntN(len(people))].ID}
		config.Exceptions = append(config.Exceptions, e)
	}
	c := city{snapshot: New(config), lists: config.Lists, texts: texts}
	for _, text := range texts {
		c.requests = append(c.requests, Request{URL: weburl.MustParse(text), Person: people[random.IntN(len(people))].ID})
	}
	return c
})

// A whole decision, from the text of the URL on, compared with classifying and matching alone.
func BenchmarkDecide(b *testing.B) {
	c := newCity()
	config := c.snapshot.Config()
	classifier := classify.New(config.Local, config.Packs, c.lists)
	var w Work
	var r Request
	var result classify.Result
	type read struct{ url, person string } // side by side in memory, as a gate has just read them
	reads := make([]read, len(c.texts))
	for i, text := range c.texts {
		both := text + " " + c.requests[i].Person
		reads[i] = read{both[:len(text)], both[len(text)+1:]}
	}
	rounds.Against(b, func(i int) {
		r.Person = reads[i%len(reads)].person
		r.URL, _ = weburl.Parse(reads[i%len(reads)].url)
		c.snapshot.Decide(&w, &r, monday)
	}, func(i int) {
		u, _ := weburl.Parse(reads[i%len(reads)].url)
		classifier.Classify(&result, u, pattern.DateOf(monday), weburl.Full)
	})
}

// A decision with its trace, compared with one without.
func BenchmarkTrace(b *testing.B) {
	c := newCity()
	var w Work
	rounds.Against(b, func(i int) { c.snapshot.Explain(&w, &c.requests[i%len(c.requests)], monday) }, c.decide())
}

// A decision with the stints of a month beside it, six a day of fifty groups, of which one is in force, compared with one without any.
func BenchmarkSteered(b *testing.B) {
	c := newCity()
	var facts Facts
	for n := range 50 * 6 * 30 {
		from := monday.AddDate(0, 0, -1-n/300).Add(time.Duration(n%6) * time.Hour)
		facts.Stints = append(facts.Stints, Stint{ID: fmt.Sprint("stint-", n), Group: c.snapshot.config.Directory.Groups[n%50].ID, Kind: OnlyThese, Lists: []string{"list-1"}, From: from, Until: from.Add(45 * time.Minute)})
	}
	facts.Stints = append(facts.Stints, Stint{ID: "now", Group: c.snapshot.config.Directory.Groups[7].ID, Kind: ButThese, Lists: []string{"list-2"}, From: monday.Add(-time.Minute), Until: monday.Add(time.Hour)})
	steered := c.snapshot.With(facts)
	var w Work
	rounds.Against(b, func(i int) { steered.Decide(&w, &c.requests[i%len(c.requests)], monday) }, c.decide())
}

// The verdicts of a week, compared with one decision.
func BenchmarkWeek(b *testing.B) {
	c := newCity()
	var w Work
	rounds.Against(b, func(i int) {
		c.snapshot.Strip(&w, &c.requests[i%len(c.requests)], monday, monday.Add(week))
	}, c.decide())
}

// decide returns a function that makes a decision.
func (c city) decide() func(i int) {
	var w Work
	return func(i int) { c.snapshot.Decide(&w, &c.requests[i%len(c.requests)], monday) }
}

// Building a snapshot after an edit, without its lists and packs.
func BenchmarkReady(b *testing.B) {
	config := *newCity().snapshot.Config()
	for b.Loop() {
		New(config)
	}
}

// The next moment at which time changes a verdict.
func BenchmarkUntil(b *testing.B) {
	c := newCity()
	var w Work
	for i := 0; b.Loop(); i++ {
		c.snapshot.Until(&w, &c.requests[i%len(c.requests)], monday.Add(time.Duration(i%1000)*time.Minute))
	}
}

// facts200 holds as many facts as a busy help desk makes in a week.
func facts200() (facts Facts) {
	for i := range 200 {
		facts.Grants = append(facts.Grants, Exception{ID: fmt.Sprint("g", i), Then: Allow, For: Whom{Everybody: true}, Entries: entries(fmt.Sprintf("granted%d.example/page", i))})
	}
	return facts
}

// Combining 200 facts with a snapshot.
func BenchmarkWith(b *testing.B) {
	c, facts := newCity(), facts200()
	b.ReportAllocs()
	for b.Loop() {
		c.snapshot.With(facts)
	}
}

// A decision with 200 facts, compared with one without facts.
func BenchmarkBeside(b *testing.B) {
	c := newCity()
	beside := c
	beside.snapshot = c.snapshot.With(facts200())
	rounds.Against(b, beside.decide(), c.decide())
}

package policy

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

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
	names := make([]string, 1_000_000)
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
	for i := range names {
		names[i] = fmt.Sprintf("site-%d.%s", i*7919%1_000_000, []string{"example", "test", "shore.example"}[i%3])
		sites.AddNamed(sets[i%len(sets)], int64(i), names[i], pattern.AndBelow, false)
	}
	lists := []match.List{{ID: "globs", Name: "Globs"}, {ID: "regexes", Name: "Regexes"}}
	for i := range 10_000 {
		lists[0].Entries = append(lists[0].Entries, pattern.MustParse(fmt.Sprintf("glob-%d-*.example", i)))
		if i < 1_000 {
			lists[1].Entries = append(lists[1].Entries, pattern.MustParse(fmt.Sprintf(`~ /mirror-%d[a-z]+\.`, i)))
		}
	}
	for i := range 300 {
		list := match.List{ID: fmt.Sprint("list-", i), Name: fmt.Sprint("List ", i)}
		for range 100 {
			list.Entries = append(list.Entries, pattern.MustParse(names[random.IntN(len(names))]))
		}
		lists = append(lists, list)
	}
	config := Config{
		Zone: zone, Combining: Strictest, Taxonomy: taxonomy, Lists: match.New(lists), Gates: []Gate{DNS, Proxy},
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
		people[i] = directory.Person{ID: fmt.Sprint("person-", i), Name: fmt.Sprint("Person ", i)}
		for range 2 {
			g := &groups[random.IntN(len(groups))]
			g.Persons = append(g.Persons, people[i].ID)
		}
	}
	config.Directory = directory.New(people, groups, nil)
	for i := range 2_000 {
		e := Exception{ID: fmt.Sprint("exception-", i), Entries: []pattern.Entry{pattern.MustParse(names[random.IntN(len(names))])}, Then: Allow, Until: monday.AddDate(0, 0, random.IntN(60)-20)}
		e.For.Persons = []string{people[random.IntN(len(people))].ID}
		config.Exceptions = append(config.Exceptions, e)
	}
	c := city{snapshot: New(config), lists: config.Lists}
	for i := range 50_000 {
		text := fmt.Sprintf("https://www.%s/articles/%d/the-tide-tables-of-the-week?page=%d", names[random.IntN(len(names))], random.IntN(9999), random.IntN(9))
		if i%2 == 0 {
			text = strings.Replace(text, "site-", "other-", 1)
		}
		c.texts = append(c.texts, text)
		c.requests = append(c.requests, Request{URL: weburl.MustParse(text), Person: people[random.IntN(len(people))].ID})
	}
	return c
})

// A whole decision, from the text of the URL on, against saying what it is and which lists hold it.
func BenchmarkDecide(b *testing.B) {
	c := newCity()
	config := c.snapshot.Config()
	people := config.Directory.People
	b.Run("ours", func(b *testing.B) {
		b.ReportAllocs()
		var w Work
		var r Request
		for i := 0; b.Loop(); i++ {
			r.Person = people[i%len(people)].ID
			r.URL, _ = weburl.Parse(c.texts[i%len(c.texts)])
			c.snapshot.Decide(&w, &r, monday)
		}
	})
	classifier := classify.New(config.Local, config.Packs, c.lists)
	b.Run("anchor", func(b *testing.B) {
		var r classify.Result
		for i := 0; b.Loop(); i++ {
			u, _ := weburl.Parse(c.texts[i%len(c.texts)])
			classifier.Classify(&r, u, pattern.DateOf(monday), match.Full)
		}
	})
}

// A decision with every step told, against one without.
func BenchmarkTrace(b *testing.B) {
	c := newCity()
	var w Work
	b.Run("ours", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			c.snapshot.Explain(&w, &c.requests[i%len(c.requests)], monday)
		}
	})
	benchDecisions(b, c)
}

// The verdicts of a week, against one decision.
func BenchmarkWeek(b *testing.B) {
	c := newCity()
	var w Work
	b.Run("ours", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			c.snapshot.Strip(&w, &c.requests[i%len(c.requests)], monday, monday.Add(week))
		}
	})
	benchDecisions(b, c)
}

func benchDecisions(b *testing.B, c city) {
	var w Work
	b.Run("anchor", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			c.snapshot.Decide(&w, &c.requests[i%len(c.requests)], monday)
		}
	})
}

// Making everything ready again after an edit, its lists and packs aside.
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

package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// naive decides in the words of the documentation, one sentence after the other, and prepares nothing. It relies on the packages below for what a
// list covers, the categories of a URL, and when a schedule is in force.
type naive struct {
	house
	lists []match.List
	r     Request
	at    time.Time
}

// The truth values of conditions.
const (
	isNot  = "no"
	isOpen = "cannot tell"
	is     = "yes"
)

func (n naive) today() pattern.Date { return pattern.DateOf(n.at.In(n.Zone)) }

func (n naive) cover(entries []pattern.Entry) string {
	hits := match.New([]match.List{{ID: "x", Entries: entries}}).Cover(n.r.URL, n.today(), n.r.Sight)
	if len(hits) == 0 {
		return isNot
	}
	return string(hits[0].In())
}

// engine returns the first search engine that the URL's host is of.
func (n naive) engine() *Engine {
	for i := range n.Engines {
		if len(match.New([]match.List{{ID: "x", Entries: n.Engines[i].Entries}}).Cover(n.r.URL, pattern.Date{}, weburl.Name)) > 0 {
			return &n.Engines[i]
		}
	}
	return nil
}

func (n naive) searched() string {
	names := usualWords
	if e := n.engine(); e != nil && e.Words != nil {
		names = e.Words
	}
	var said []string
	for _, pair := range strings.Split(n.r.URL.Query(), "&") {
		for _, name := range names {
			if value, ok := strings.CutPrefix(pair, name+"="); ok && value != "" {
				said = append(said, strings.ReplaceAll(value, "+", " "))
			}
		}
	}
	return strings.Join(said, "\n")
}

// held returns what a gate can do about provisos.
func (n naive) held(with Provisos, gate Gate, sight weburl.Sight) (held Provisos) {
	if gate == DNS { // it answers the name of a search engine with that of another host, and holds nothing else
		e := n.engine()
		held.SafeSearch = with.SafeSearch && e != nil && e.Safe.By == ByHost
		return held
	}
	if e := n.engine(); e != nil && with.SafeSearch {
		held.SafeSearch = e.Safe.By != "" && (sight == weburl.Full || e.Safe.By == ByHost && gate == Proxy)
	}
	if n.r.Person != "" || !n.Shared[n.network()] {
		held.Quota = with.Quota
	}
	if sight == weburl.Full {
		held.NoUploads, held.SizeCap = with.NoUploads, with.SizeCap
	}
	return held
}

func (n naive) list(id string) string {
	for _, l := range n.lists {
		if l.ID == id {
			return n.cover(l.Entries)
		}
	}
	return isNot
}

func (n naive) class() classify.Answer {
	class := classify.New(n.Local, n.Packs, match.New(n.lists)).Explain(n.r.URL, n.today(), n.r.Sight)
	if n.r.Answer != nil && n.r.Answer.Points["card"] >= cardThreshold && class.By != classify.ByCorrection && !slices.Contains(class.Categories, "scored") {
		class.Categories = append(class.Categories, "scored")
	}
	return class
}

const cardThreshold = 5

func (n naive) network() string {
	best, name := -1, ""
	for _, network := range n.Directory.Networks {
		for _, r := range network.Ranges {
			if n.r.Addr.IsValid() && r.Contains(n.r.Addr) && r.Bits() > best {
				best, name = r.Bits(), network.ID
			}
		}
	}
	return name
}

func (n naive) belongs(group string) bool {
	g := n.Directory.Groups[n.Directory.Group(group)]
	return g.ID == n.r.Group || slices.Contains(g.Persons, n.r.Person) ||
		slices.ContainsFunc(g.Ranges, func(r netip.Prefix) bool { return n.r.Addr.IsValid() && r.Contains(n.r.Addr) }) ||
		slices.Contains(g.Networks, n.network()) || slices.ContainsFunc(g.Groups, n.belongs)
}

func (n naive) any(values []string, ask func(string) string) string {
	best := isNot
	for _, v := range values {
		switch ask(v) {
		case is:
			return is
		case isOpen:
			best = isOpen
		}
	}
	return best
}

func (n naive) seen(enough bool, holds bool) string {
	switch {
	case !enough:
		return isOpen
	case holds:
		return is
	}
	return isNot
}

func (n naive) holds(c Cond) string {
	full := n.r.Sight == weburl.Full
	path := n.r.URL.Path()
	switch c.Op {
	case "", All:
		worst := is
		for _, part := range c.Of {
			if v := n.holds(part); v == isNot || v == isOpen && worst == is {
				worst = v
			}
		}
		return worst
	case Any, None:
		best := isNot
		for _, part := range c.Of {
			if v := n.holds(part); v == is || v == isOpen && best == isNot {
				best = v
			}
		}
		if c.Op == None {
			return map[string]string{is: isNot, isOpen: isOpen, isNot: is}[best]
		}
		return best
	case InList:
		return n.any(c.Values, n.list)
	case Is:
		return n.any(c.Values, func(key string) string {
			return n.seen(true, n.in(key))
		})
	case App:
		return n.any(c.Values, func(key string) string {
			name, activity, _ := strings.Cut(key, "/")
			for _, app := range n.Apps {
				if app.Key != name {
					continue
				}
				if activity == "" {
					return n.cover(app.Entries)
				}
				for _, a := range app.Activities {
					if a.Key != activity {
						continue
					}
					entries := a.Entries
					if len(entries) == 0 {
						entries = app.Entries
					}
					where := n.cover(entries)
					if len(a.Methods) == 0 || where == isNot {
						return where
					}
					if how := n.seen(full, slices.Contains(a.Methods, n.r.Method)); how != is {
						return how
					}
					return where
				}
			}
			return isNot
		})
	case HasTrait:
		return n.any(c.Values, func(t string) string {
			u := n.r.URL
			switch Trait(t) {
			case RawAddress:
				return n.seen(true, u.Addr().IsValid())
			case Punycode:
				return n.seen(true, slices.ContainsFunc(strings.Split(u.Host(), "."), func(l string) bool { return strings.HasPrefix(l, "xn--") }))
			case Unrated:
				return n.seen(true, len(n.class().Categories) == 0)
			case PlainHTTP:
				return n.seen(n.r.Sight != weburl.Name, full && u.Scheme() == "http")
			case OddPort:
				usual := map[string]uint16{"https": 443, "http": 80}[u.Scheme()]
				if !full {
					usual = 443
				}
				return n.seen(n.r.Sight != weburl.Name, u.Port() != usual)
			case TwoNames:
				return n.seen(n.r.Sight != weburl.Name, n.r.TwoNames)
			case NotTLS:
				return n.seen(n.r.Sight != weburl.Name, n.r.NotTLS)
			}
			return n.seen(full, u.HasUserInfo())
		})
	case Method:
		return n.seen(full, slices.Contains(c.Values, n.r.Method))
	case File:
		return n.any(c.Values, func(kind string) string {
			ends := func(name string) bool {
				return slices.ContainsFunc(endings(kind), func(e string) bool { return strings.HasSuffix(name, e) && name != e })
			}
			known := slices.ContainsFunc(FileKinds, func(k FileKind) bool { return k.Key == kind })
			switch answer := n.r.Answer; {
			case !full || ends(strings.ToLower(path[strings.LastIndex(path, "/")+1:])):
				return n.seen(full, true)
			case known && answer == nil:
				return n.seen(false, true)
			case known:
				return n.seen(true, slices.Contains(answer.Kinds, kind) || ends("-"+strings.ToLower(answer.Name)))
			}
			return n.seen(true, false)
		})
	case Search:
		return n.any(c.Values, func(word string) string {
			found := match.NewWords([]pattern.Pattern{pattern.MustParse(word).Pattern}).Find(n.searched())
			return n.seen(full, len(found) > 0)
		})
	}
	total := 0
	for _, score := range n.class().Scores {
		if score.ID == c.Values[0] {
			total = score.Total
		}
	}
	if n.r.Answer != nil {
		if of, scored := n.r.Answer.Points[c.Values[0]]; scored {
			total = max(total, of)
		}
	}
	c.AtLeast = cmp.Or(c.AtLeast, cardThreshold)
	return n.seen(true, c.AtLeast != 0 && total >= c.AtLeast)
}

// first returns the verdict of the first rule that decides; "" if none does.
func (n naive) first(rules []Rule) (Verdict, Provisos, Rule) {
	for _, rule := range rules {
		inForce := true
		for _, s := range n.Schedules {
			if s.ID == rule.When.Schedule {
				inForce = s.Schedule.At(n.at, s.Zone) != rule.When.Outside
			}
		}
		if rule.Off || !inForce || len(rule.At) > 0 && !slices.Contains(rule.At, n.r.Gate) || rule.Then == Note || n.holds(rule.If) != is {
			continue
		}
		if rule.Then == Hold && n.acknowledged(rule.ID) {
			return Allow, rule.With, rule
		}
		return rule.Then, rule.With, rule
	}
	return "", Provisos{}, Rule{}
}

func (n naive) running(from, until time.Time) bool {
	return !n.at.Before(from) && (until.IsZero() || n.at.Before(until))
}

// past reports whether what was unlocked or acknowledged is so for the asker, now and for this URL.
func (n naive) past(u Unlocked) bool {
	return (n.cover(u.Entries) == is || slices.ContainsFunc(u.Categories, n.in)) && n.running(u.From, u.Until) && (u.Person == n.r.Person && u.Person != "" || u.Addr.IsValid() && u.Addr == n.r.Addr && !n.Shared[n.network()])
}

// in reports whether the URL is in a category, or in one of a family.
func (n naive) in(key string) bool {
	return slices.ContainsFunc(n.class().Categories, func(has string) bool {
		category, _ := n.Taxonomy.Category(has)
		return has == key || category.Family == key
	})
}

func (n naive) acknowledged(id string) bool {
	return slices.ContainsFunc(n.Acknowledged, func(a Acknowledged) bool { return a.Rule == id && n.past(a.Unlocked) })
}

// said returns what a policy says.
func (n naive) said(p *Policy) (Verdict, Provisos, Rule) {
	v, with, rule := n.first(p.Rules)
	if v == "" {
		if v = p.Otherwise; v == Hold && n.acknowledged(p.ID) {
			v = Allow
		}
	}
	return v, with, rule
}

// decide goes down the ladder. The DNS gate, which is the gate for the sight of a name by default, cannot ask. What is not TLS in a tunnel passes only by a
// rule that names the trait.
func (n naive) decide() (Verdict, Rung, Provisos) {
	v, rung, with, rules := n.ladder()
	var by Rule
	if len(rules) > 0 {
		by = rules[0]
	}
	if (v == Allow || v == Watch) && n.r.Gate != DNS && slices.ContainsFunc(rules, n.usedUp) {
		v, with = Block, Provisos{}
	}
	if (v == Allow || v == Watch) && slices.ContainsFunc(rules, n.unheld) {
		v, with = Block, Provisos{}
	}
	if v == Hold && n.r.Gate == DNS {
		v = Block
	}
	var names func(c Cond) bool
	names = func(c Cond) bool {
		return c.Op == HasTrait && slices.Contains(c.Values, "not-tls") || c.Op != None && slices.ContainsFunc(c.Of, names)
	}
	if n.r.NotTLS && n.r.Sight != weburl.Name && (v == Allow || v == Watch) && !names(by.If) {
		v, with = Block, Provisos{}
	}
	return v, rung, with
}

// usedUp reports whether the asker has used as many minutes of the day as a rule allows, before the present one.
func (n naive) usedUp(r Rule) bool {
	if r.With.Quota == 0 {
		return false
	}
	minutes := map[int64]bool{}
	for _, u := range n.Used {
		if u.Rule != r.ID || u.Person != n.r.Person || u.Person == "" && (u.Addr != n.r.Addr || !u.Addr.IsValid() || n.Shared[n.network()]) {
			continue
		}
		for _, m := range u.Minutes {
			if at := time.Unix(m*60, 0); pattern.DateOf(at.In(n.Zone)) == n.today() && m < n.at.Unix()/60 {
				minutes[m] = true
			}
		}
	}
	return time.Duration(len(minutes))*time.Minute >= r.With.Quota
}

// unheld reports whether a rule has provisos that the gate cannot hold, and its policy blocks them. The DNS gate can hold none; where clients go on to the proxy
// gate, it leaves that to it.
func (n naive) unheld(r Rule) bool {
	with := r.With
	on := slices.IndexFunc(n.Engines, func(e Engine) bool { return n.cover(e.Entries) == is })
	var safe SafeBy
	if on >= 0 {
		safe = n.Engines[on].Safe.By
	}
	policies := append(slices.Clone(n.Policies), *n.Fallback)
	if n.Baseline != nil {
		policies = append(policies, *n.Baseline)
	}
	strict := slices.ContainsFunc(policies, func(p Policy) bool {
		return p.BlocksUnheld && slices.ContainsFunc(p.Rules, func(of Rule) bool { return of.ID == r.ID })
	})
	all := n.r.Sight == weburl.Full
	nobody := n.r.Person == "" && n.Shared[n.network()]
	switch {
	case !strict, r.ID == "", n.r.Gate == DNS && n.way().Way == ByBoth:
		return false
	case n.r.Gate == DNS:
		return with.NoUploads || with.SizeCap > 0 || with.Quota > 0 || with.SafeSearch && on >= 0 && safe != ByHost
	case (with.NoUploads || with.SizeCap > 0) && !all, with.Quota > 0 && nobody:
		return true
	}
	return with.SafeSearch && on >= 0 && (safe == "" || !all && (safe != ByHost || n.r.Gate != Proxy || n.r.Sight != weburl.Tunnel))
}

func (n naive) ladder() (Verdict, Rung, Provisos, []Rule) {
	if n.Baseline != nil {
		if v, with, by := n.first(n.Baseline.Rules); v != "" {
			return v, AtBaseline, with, []Rule{by}
		}
	}
	in := n.running
	if slices.ContainsFunc(n.Unlocked, n.past) {
		return Allow, AtUnlocked, Provisos{}, nil
	}
	var best *Exception
	var bestLevel int
	var bestEntry pattern.Pattern
	exceptions := slices.Concat(n.Exceptions, n.Grants)
	for i, e := range exceptions {
		level := 0
		switch {
		case n.r.Person != "" && slices.Contains(e.For.Persons, n.r.Person):
			level = 4
		case slices.Contains(e.For.Networks, n.network()), slices.ContainsFunc(e.For.Ranges, func(r netip.Prefix) bool { return n.r.Addr.IsValid() && r.Contains(n.r.Addr) }):
			level = 3
		case slices.ContainsFunc(e.For.Groups, n.belongs):
			level = 2
		case e.For.Everybody:
			level = 1
		}
		if level == 0 || e.Off || !in(e.From, e.Until) {
			continue
		}
		hits := match.New([]match.List{{ID: "x", Entries: e.Entries}}).Cover(n.r.URL, n.today(), n.r.Sight)
		if len(hits) == 0 || hits[0].In() != match.Yes {
			continue
		}
		entry := hits[0].Covering[0].Pattern
		compared := 0
		if best != nil {
			compared = pattern.MoreSpecific(entry, bestEntry)
		}
		if best == nil || level > bestLevel || level == bestLevel && (compared < 0 || compared == 0 && e.Then == Block && best.Then == Allow) {
			best, bestLevel, bestEntry = &exceptions[i], level, entry
		}
	}
	if best != nil {
		return best.Then, AtException, Provisos{}, nil
	}
	var strictest Verdict
	for _, st := range n.Stints {
		if !n.belongs(st.Group) || !in(st.From, st.Until) || st.Persons != nil && !slices.Contains(st.Persons, n.r.Person) || n.r.Person != "" && slices.Contains(st.Done, n.r.Person) {
			continue
		}
		listed := n.any(st.Lists, n.list)
		if hits := match.New([]match.List{{ID: "x", Entries: st.Entries}}).Cover(n.r.URL, n.today(), n.r.Sight); len(hits) > 0 && hits[0].In() == match.Yes {
			listed = is
		}
		switch {
		case st.Kind == OnlyThese && listed == is:
			strictest = cmp.Or(strictest, Allow)
		case st.Kind == ButThese && listed != is:
		default:
			strictest = Block
		}
	}
	if strictest != "" {
		return strictest, AtStint, Provisos{}, nil
	}
	type said struct {
		v    Verdict
		with Provisos
		by   Rule
	}
	var all []said
	for _, p := range n.Policies {
		if slices.ContainsFunc(p.Groups, n.belongs) {
			v, with, by := n.said(&p)
			all = append(all, said{v, with, by})
		}
	}
	if len(all) == 0 {
		v, with, by := n.said(n.Fallback)
		return v, AtFallback, with, []Rule{by}
	}
	order := []Verdict{Block, Hold, Watch, Allow}
	if n.Combining == Loosest {
		slices.Reverse(order)
	}
	if n.Combining == Position {
		return all[0].v, AtPolicy, all[0].with, []Rule{all[0].by}
	}
	for _, v := range order {
		var with Provisos
		var rules []Rule
		for _, s := range all {
			if s.v == v {
				with, rules = with.Join(s.with), append(rules, s.by)
			}
		}
		if rules != nil {
			return v, AtPolicy, with, rules
		}
	}
	panic("unreachable")
}

// A small set of names, so that everything meets.
var (
	hosts     = []string{"heron.example", "www.heron.example", "gull.test", "tern.example", "xn--mwe-sla.example", "203.0.113.7"}
	paths     = []string{"", "/wards", "/wards/map.zip", "/up/load", "/find?q=late+odds", "/?user=odds", "/s?words=odds&q=late"}
	entryPool = []string{
		"heron.example", "=www.heron.example", "heron.example/wards", "=gull.test/up/load", "gull.test", "*.example", `"odds"`,
		"http://tern.example", "203.0.113.0/24", "~path load$", "tern.example:8443", "gull.test [until 2026-11-24]", "! www.heron.example", "! heron.example/wards", "*",
	}
	times  = []string{"mon-fri 09:00-12:00", "mon-sun 20:00-07:30", "sat 00:00-24:00; on 2026-11-26 10:00-11:00", "mon-sun 00:00-24:00; not on 2026-11-25"}
	zone   = func() *time.Location { z, _ := time.LoadLocation("Europe/London"); return z }()
	clocks = []*time.Location{zone, zone, zone, in("America/New_York"), in("America/Santiago"), in("Pacific/Auckland"), in("Asia/Kolkata")}
	monday = time.Date(2026, 11, 23, 0, 0, 0, 0, zone)
)

func draws[T any](pool []T, most int) *rapid.Generator[[]T] {
	return rapid.SliceOfN(rapid.SampledFrom(pool), 0, most)
}

func drawEntries(t *rapid.T, carveOuts bool) (entries []pattern.Entry) {
	for _, text := range draws(entryPool, 3).Draw(t, "entries") {
		if e := pattern.MustParse(text); carveOuts || !e.CarveOut {
			entries = append(entries, e)
		}
	}
	return entries
}

func drawCond(t *rapid.T, depth int) Cond {
	ops := []Op{InList, InList, Is, Is, App, HasTrait, Method, File, Search, Points}
	if depth > 0 {
		ops = append(ops, All, Any, None, All, Any, None)
	}
	c := Cond{Op: rapid.SampledFrom(ops).Draw(t, "op")}
	values := func(pool ...string) []string {
		return rapid.SliceOfN(rapid.SampledFrom(pool), 1, 2).Draw(t, "values")
	}
	switch c.Op {
	case InList:
		c.Values = values("l0", "l1", "l2", "gone")
	case Is:
		c.Values = values("games", "news", "play", "own", "scored", "gone")
	case App:
		c.Values = values("share", "share/upload", "share/read", "gone")
	case HasTrait:
		for _, trait := range draws(Traits, 2).Draw(t, "traits") {
			c.Values = append(c.Values, string(trait))
		}
	case Method:
		c.Values = values("GET", "POST")
	case File:
		c.Values = values("archives", ".zip", "film")
	case Search:
		c.Values = values(`"odds"`, `"late odds"`, `"od*"`)
	case Points:
		c.Values, c.AtLeast = []string{"card"}, rapid.SampledFrom([]int{0, 3}).Draw(t, "points")
	default:
		for range rapid.IntRange(0, 3).Draw(t, "parts") {
			c.Of = append(c.Of, drawCond(t, depth-1))
		}
	}
	return c
}

func drawRules(t *rapid.T, of string, verdicts []Verdict) (rules []Rule) {
	for i := range rapid.IntRange(0, 3).Draw(t, "rules") {
		rules = append(rules, Rule{
			ID: fmt.Sprint(of, "/", i), Name: fmt.Sprint("rule ", i), Off: rapid.IntRange(0, 9).Draw(t, "off") == 0, If: drawCond(t, 2), Then: rapid.SampledFrom(verdicts).Draw(t, "then"),
			When: When{rapid.SampledFrom([]string{"", "s0", "s1", "s2", "s3"}).Draw(t, "schedule"), rapid.Bool().Draw(t, "outside")},
			At:   rapid.SampledFrom([][]Gate{nil, nil, nil, {DNS}, {Proxy, ICAP}}).Draw(t, "at"),
			With: rapid.SampledFrom([]Provisos{{}, {SafeSearch: true}, {SizeCap: 5, Quota: 3 * time.Minute}, {SizeCap: 9}}).Draw(t, "with"),
		})
	}
	return rules
}

func in(name string) *time.Location {
	z, err := time.LoadLocation(name)
	if err != nil {
		panic(err)
	}
	return z
}

func drawMoment(t *rapid.T, name string) time.Time {
	return monday.Add(time.Duration(rapid.IntRange(0, 5*24*4).Draw(t, name)) * 15 * time.Minute)
}

func drawWhom(t *rapid.T) (whom Whom) {
	whom.Everybody = rapid.IntRange(0, 3).Draw(t, "everybody") == 0
	whom.Persons = draws([]string{"p0", ola, "gone"}, 1).Draw(t, "persons")
	whom.Groups = draws([]string{"g0", "g1", "g2"}, 1).Draw(t, "groups")
	whom.Networks = draws([]string{"n0", "n1"}, 1).Draw(t, "networks")
	whom.Ranges = draws([]netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("10.40.0.5/32")}, 1).Draw(t, "ranges")
	return whom
}

// drawNaive draws a configuration and a request.
func drawNaive(t *rapid.T) naive {
	n := naive{house: house{Config: Config{Zone: zone, Combining: rapid.SampledFrom([]Combining{Position, Strictest, Loosest}).Draw(t, "combining"), Way: ByBoth}}}
	for i := range 3 {
		n.lists = append(n.lists, match.List{ID: fmt.Sprint("l", i), Name: fmt.Sprint("List ", i), Entries: drawEntries(t, true)})
	}
	n.Lists = match.New(n.lists)
	n.Taxonomy = classify.Taxonomy{
		Families:   []classify.Family{{Key: "play", Name: "Play"}},
		Categories: []classify.Category{{Key: "games", Family: "play", Name: "Games"}, {Key: "news", Name: "News"}, {Key: "own", Family: "play", Name: "Own"}, {Key: "scored", Name: "Scored"}},
	}
	n.Packs = []classify.Pack{{ID: "p", Name: "Harbour", Version: 7, Sites: match.New([]match.List{{ID: "games", Entries: drawEntries(t, false)}, {ID: "games news", Entries: drawEntries(t, false)}})}}
	n.Local = classify.NewLocal(nil, []classify.Own{{Key: "own", Lists: []string{"l2"}, Adds: rapid.Bool().Draw(t, "adds")}},
		[]classify.Scorecard{{ID: "card", Name: "Card", Category: "scored", Threshold: cardThreshold, Terms: []classify.Term{{Word: pattern.MustParse(`"odds"`).Pattern, Points: 3}, {Word: pattern.MustParse(`"late"`).Pattern, Points: 2}}}})
	for i, text := range times {
		s, err := schedule.Parse(text)
		require.NoError(t, err)
		n.Schedules = append(n.Schedules, Schedule{ID: fmt.Sprint("s", i), Name: fmt.Sprint("Schedule ", i), Schedule: s, Zone: rapid.SampledFrom(clocks).Draw(t, "zone")})
	}
	n.Apps = []AppDef{{Key: "share", Name: "Share", Entries: []pattern.Entry{pattern.MustParse("gull.test")}, Activities: []Activity{
		{Key: "upload", Name: "upload", Methods: []string{"POST"}, Entries: []pattern.Entry{pattern.MustParse("gull.test/up")}}, {Key: "read", Name: "read", Methods: []string{"GET"}},
	}}}
	engines := []Engine{
		{ID: "e0", Name: "Gull", Entries: []pattern.Entry{pattern.MustParse("gull.test")}, Words: []string{"words"}, Safe: Safe{ByParameter, "calm", "1"}},
		{ID: "e1", Name: "Heron, www", Entries: []pattern.Entry{pattern.MustParse("=www.heron.example")}, Safe: Safe{ByHost, "", "calm.heron.example"}},
		{ID: "e2", Name: "Heron", Entries: []pattern.Entry{pattern.MustParse("heron.example")}, Safe: Safe{ByHeader, "Filter", "strict"}},
		{ID: "e3", Name: "Tern", Entries: []pattern.Entry{pattern.MustParse("tern.example")}, Words: []string{"user"}},
	}
	n.Shared = rapid.SampledFrom([]map[string]bool{nil, nil, {"n0": true}, {"n1": true}}).Draw(t, "shared")
	n.Engines = rapid.SampledFrom([][]Engine{nil, engines, engines[1:3], engines[2:]}).Draw(t, "engines")
	n.Directory = directory.New([]directory.Person{{ID: "p0", Name: "Kay Moran"}, {ID: ola, Name: "Ola Fenn"}},
		[]directory.Group{
			{ID: "g0", Name: "Nurses", Persons: []string{"p0"}},
			{ID: "g1", Name: "Clinical", Groups: []string{"g0"}, Networks: []string{"n1"}},
			{ID: "g2", Name: "Screens", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/25")}},
		},
		[]directory.Network{{ID: "n0", Name: "Site", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.0.0/16")}}, {ID: "n1", Name: "Wards", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}}})
	if rapid.IntRange(0, 2).Draw(t, "baseline") == 0 {
		n.Baseline = &Policy{Name: "Baseline", Rules: drawRules(t, "baseline", []Verdict{Allow, Block, Note}), BlocksUnheld: rapid.Bool().Draw(t, "baseline blocks unheld")}
	}
	verdicts := []Verdict{Allow, Watch, Hold, Block, Note}
	for i := range rapid.IntRange(0, 3).Draw(t, "policies") {
		n.Policies = append(n.Policies, Policy{
			ID: fmt.Sprint("policy", i), Name: fmt.Sprint("Policy ", i), Groups: draws([]string{"g0", "g1", "g2"}, 2).Draw(t, "given to"),
			Rules: drawRules(t, fmt.Sprint("policy", i), verdicts), Otherwise: rapid.SampledFrom(verdicts[:4]).Draw(t, "otherwise"), Inspect: Inspection{All: rapid.Bool().Draw(t, "inspects"), Pages: rapid.Bool().Draw(t, "shows pages")}, Names: rapid.SampledFrom([]NameAnswer{NoSuchName, RefusedName, PageOfRefused}).Draw(t, "answers names"),
			BlocksUnheld: rapid.IntRange(0, 2).Draw(t, "blocks unheld") == 0,
		})
	}
	n.Fallback = &Policy{ID: "fallback", Name: "Fallback", Rules: drawRules(t, "fallback", verdicts), Otherwise: rapid.SampledFrom(verdicts[:4]).Draw(t, "otherwise"), BlocksUnheld: rapid.Bool().Draw(t, "fallback blocks unheld"), Inspect: Inspection{Pages: rapid.Bool().Draw(t, "fallback shows pages")}}
	for i := range rapid.IntRange(0, 3).Draw(t, "exceptions") {
		e := Exception{
			ID: fmt.Sprint("e", i), Name: fmt.Sprint("Exception ", i), Entries: drawEntries(t, false), Then: rapid.SampledFrom([]Verdict{Allow, Block}).Draw(t, "grants"),
			For: drawWhom(t), Off: rapid.IntRange(0, 5).Draw(t, "off") == 0,
		}
		if rapid.Bool().Draw(t, "ends") {
			e.From, e.Until = drawMoment(t, "from"), drawMoment(t, "until")
		}
		if rapid.IntRange(0, 2).Draw(t, "at once") == 0 {
			n.Grants = append(n.Grants, e)
		} else {
			n.Exceptions = append(n.Exceptions, e)
		}
	}
	if rapid.IntRange(0, 4).Draw(t, "unlocked") == 0 {
		n.Unlocked = []Unlocked{{Entries: drawEntries(t, false), Categories: draws([]string{"games", "play", "scored", "gone"}, 2).Draw(t, "unlocked categories"), Person: "p0", From: drawMoment(t, "from"), Until: drawMoment(t, "until")}}
	}
	for _, of := range draws([]string{"policy0/0", "policy0/1", "policy0", "policy1/0", "fallback/0", "fallback"}, 2).Draw(t, "acknowledged") {
		past := Unlocked{Entries: drawEntries(t, false), Person: "p0", From: drawMoment(t, "from"), Until: drawMoment(t, "until")}
		if rapid.Bool().Draw(t, "at an address") {
			past.Person, past.Addr = "", netip.MustParseAddr("10.40.0.5")
		}
		n.Acknowledged = append(n.Acknowledged, Acknowledged{of, past})
	}
	for i := range rapid.SampledFrom([]int{0, 0, 1, 2}).Draw(t, "stints") {
		n.Stints = append(n.Stints, Stint{
			ID: fmt.Sprint("st", i), Group: rapid.SampledFrom([]string{"g0", "g1"}).Draw(t, "stint of"), Kind: rapid.SampledFrom([]StintKind{OnlyThese, ButThese, Paused}).Draw(t, "kind"),
			Lists: draws([]string{"l0", "gone"}, 2).Draw(t, "lists"), Persons: rapid.SampledFrom([][]string{nil, nil, {"p0"}, {ola, "gone"}, {}}).Draw(t, "persons"), Done: draws([]string{"p0", "gone"}, 1).Draw(t, "done"),
			Entries: drawEntries(t, false), From: monday.Add(time.Duration(rapid.IntRange(0, 48).Draw(t, "from"))*time.Hour + time.Duration(i)*time.Second), Until: drawMoment(t, "until"), By: "Ivo",
		})
	}
	n.r.Method = rapid.SampledFrom([]string{"GET", "POST"}).Draw(t, "method")
	n.r.Person = rapid.SampledFrom([]string{"", "p0", ola}).Draw(t, "person")
	n.r.Group = rapid.SampledFrom([]string{"", "", "g0", "g2"}).Draw(t, "group")
	n.r.Sight = rapid.SampledFrom([]weburl.Sight{weburl.Full, weburl.Full, weburl.Tunnel, weburl.Name}).Draw(t, "sight")
	n.r.Gate = rapid.SampledFrom(Gates).Draw(t, "gate")
	if rapid.Bool().Draw(t, "has an address") {
		n.r.Addr = netip.MustParseAddr(rapid.SampledFrom([]string{"10.40.0.5", "10.40.1.5", "10.40.1.200", "192.0.2.1"}).Draw(t, "address"))
	}
	if rapid.IntRange(0, 2).Draw(t, "answered") == 0 {
		n.r.Answer = &Answer{
			Kinds: rapid.SampledFrom([][]string{nil, {"archives"}, {"film"}, {"programs", "archives"}}).Draw(t, "kinds"),
			Name:  rapid.SampledFrom([]string{"", "tide.ZIP", "tide.webm", ".zip"}).Draw(t, "name"),

			Points: rapid.SampledFrom([]map[string]int{nil, {}, {"card": 3}, {"card": 5}, {"gone": 9}}).Draw(t, "text"),
		}
	}
	n.r.TwoNames, n.r.NotTLS = rapid.IntRange(0, 5).Draw(t, "two names") == 0, rapid.IntRange(0, 5).Draw(t, "not TLS") == 0
	n.draw(t)
	for _, of := range draws([]string{"policy0/0", "policy0/1", "policy1/0", "baseline/0", "fallback/0"}, 3).Draw(t, "used") {
		u := Used{Rule: of, Person: rapid.SampledFrom([]string{"", "p0", ola}).Draw(t, "used by")}
		if u.Person == "" {
			u.Addr = netip.MustParseAddr(rapid.SampledFrom([]string{"10.40.0.5", "192.0.2.1"}).Draw(t, "used at"))
		}
		near := n.at
		if rapid.Bool().Draw(t, "another day") {
			near = drawMoment(t, "used on")
		}
		for range rapid.IntRange(0, 8).Draw(t, "minutes") {
			u.Minutes = append(u.Minutes, near.Unix()/60-int64(rapid.IntRange(-2, 90).Draw(t, "ago"))/rapid.SampledFrom([]int64{1, 1, 30}).Draw(t, "close"))
		}
		n.Used = append(n.Used, u)
	}
	return n
}

// drawWay draws how clients come to the gates, and a request that says nothing of sight and gate.
func (n *naive) drawWay(t *rapid.T) {
	n.r.Gate, n.r.Sight = "", ""
	n.Way = rapid.SampledFrom(append([]Way{ByBoth, ""}, Ways...)).Draw(t, "way")
	n.r.Way = rapid.SampledFrom(append([]Way{"", "", ""}, Ways...)).Draw(t, "way asked for")
	n.NetworkWays = map[string]NetworkWay{}
	for _, id := range []string{"n0", "n1"} {
		if rapid.Bool().Draw(t, "network says") {
			n.NetworkWays[id] = NetworkWay{
				Way: rapid.SampledFrom(append([]Way{""}, Ways...)).Draw(t, "way of network"), SendsTunnel: rapid.Bool().Draw(t, "tunnel"), Distrusts: rapid.IntRange(0, 3).Draw(t, "distrusts") == 0,
			}
		}
	}
}

// way returns how the request comes to the gates. No group of the draw consists of networks alone.
func (n *naive) way() NetworkWay {
	way := NetworkWay{}
	switch text := n.r.Addr.String(); {
	case strings.HasPrefix(text, "10.40.1."):
		way = n.NetworkWays["n1"]
	case strings.HasPrefix(text, "10.40."):
		way = n.NetworkWays["n0"]
	}
	for _, next := range []Way{n.r.Way, way.Way, n.Way, NoGate} {
		if next != "" {
			way.Way = next
			break
		}
	}
	return way
}

// draw draws a request and a moment.
func (n *naive) draw(t *rapid.T) {
	scheme := rapid.SampledFrom([]string{"https://", "http://", "https://kay:x@"}).Draw(t, "scheme")
	port := rapid.SampledFrom([]string{"", "", ":8443"}).Draw(t, "port")
	n.r.URL = weburl.MustParse(scheme + rapid.SampledFrom(hosts).Draw(t, "host") + port + rapid.SampledFrom(paths).Draw(t, "path"))
	n.at = drawMoment(t, "at")
}

// ola is an id in the form of the service's ids.
const ola = "0190a5d2-7c4e-7b1a-9f3e-2d6c8b4a1e07"

// enlarge draws policies with more rules than a word of an outline has bits, and more policies than fit into a caller's buffer.
func (n *naive) enlarge(t *rapid.T) {
	for i := range n.Policies {
		filler := slices.Repeat([]Rule{{Name: "Filler", If: Cond{Op: InList, Values: []string{"gone"}}, Then: Block}}, rapid.SampledFrom([]int{0, 0, 31, 70}).Draw(t, "filler"))
		n.Policies[i].Rules = slices.Concat(filler, n.Policies[i].Rules, filler)
	}
	for i := range rapid.SampledFrom([]int{0, 0, 9}).Draw(t, "copies") * min(1, len(n.Policies)) {
		p := n.Policies[i%len(n.Policies)]
		p.ID, p.Otherwise = fmt.Sprint(p.ID, "-", i), rapid.SampledFrom(Verdicts).Draw(t, "otherwise")
		n.Policies = append(n.Policies, p)
	}
}

func checkAgrees(t *rapid.T) {
	n := drawNaive(t)
	n.enlarge(t)
	s := n.snapshot()
	var w Work
	for range 4 {
		d := s.Decide(&w, &n.r, n.at)
		v, rung, with := n.decide()
		require.Equal(t, []any{v, rung, with}, []any{d.Verdict, d.Rung, d.Provisos}, "%s at %s: %v", n.r.URL, n.at, asText(s.Explain(&w, &n.r, n.at)))
		e := s.Explain(&w, &n.r, n.at)
		require.Equal(t, d, e.Decision, "with and without trace")
		require.NotEmpty(t, e.Because)
		if e.Decider >= 0 {
			require.Equal(t, Decided, e.Steps[e.Decider].Outcome)
			require.Equal(t, d.Rung, e.Steps[e.Decider].Rung)
		}
		n.draw(t)
	}
}

func TestAgreesWithTheDesign(t *testing.T) { rapid.Check(t, checkAgrees) }

func FuzzDecide(f *testing.F) { f.Fuzz(rapid.MakeFuzz(checkAgrees)) }

// A strip gives at every moment the verdict of a decision at that moment, and its segments are maximal.
func TestStripIsExact(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		s := n.snapshot()
		var w Work
		strip := s.Strip(&w, &n.r, monday, monday.Add(week))
		require.Equal(t, monday, strip[0].From)
		require.Equal(t, monday.Add(week), strip[len(strip)-1].To)
		for i, segment := range strip {
			if i > 0 {
				require.True(t, segment.From.Equal(strip[i-1].To))
				require.NotEqual(t, segment.Decision.Verdict, strip[i-1].Decision.Verdict)
			}
			for _, at := range []time.Time{segment.From, segment.To.Add(-time.Second)} {
				require.Equal(t, segment.Decision.Verdict, s.Decide(&w, &n.r, at).Verdict, "%s at %s", n.r.URL, at)
			}
		}
		for range 10 {
			at := drawMoment(t, "at")
			i := slices.IndexFunc(strip, func(g Segment) bool { return at.Before(g.To) })
			require.Equal(t, strip[i].Decision.Verdict, s.Decide(&w, &n.r, at).Verdict, "%s at %s", n.r.URL, at)
		}
		quiet := s.Quiet(monday)
		require.True(t, quiet.After(monday))
		require.False(t, strip[0].To.Before(quiet) && len(strip) > 1, "%s changes at %s, and nothing should before %s", n.r.URL, strip[0].To, quiet)
		until, changes := s.Until(&w, &n.r, monday)
		require.Equal(t, len(strip) > 1, changes && until.Before(monday.Add(week)))
		if len(strip) > 1 {
			require.True(t, until.Equal(strip[1].From))
		}
	})
}

// The change that a flip names turns the verdict as the flip says.
func TestFlipsTurnRound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		var w Work
		decide := func(s *Snapshot) Verdict { return s.Decide(&w, &n.r, n.at).Verdict }
		s := n.snapshot()
		checkFlips(t, n, s.Flips(&w, &n.r, n.at), decide)
	})
}

// The same for a journey through all gates.
func TestTravelFlipsTurnRound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, s := drawJourney(t)
		var w Work
		decide := func(s *Snapshot) Verdict { return s.Travel(&w, &n.r, n.at).Verdict }
		checkFlips(t, n, s.TravelFlips(&w, &n.r, n.at), decide)
	})
}

func checkFlips(t *rapid.T, n naive, flips []Flip, decide func(*Snapshot) Verdict) {
	now := decide(n.snapshot())
	for _, f := range flips {
		require.NotEqual(t, now.Passes(), f.Verdict.Passes())
		changed := n.house
		edit := func(change func(p *Policy)) {
			changed.Policies = slices.Clone(n.Policies)
			for i := range changed.Policies {
				changed.Policies[i].Rules = slices.Clone(changed.Policies[i].Rules)
			}
			baseline, fallback := Policy{}, *n.Fallback
			if n.Baseline != nil {
				baseline = *n.Baseline
			}
			baseline.Rules, fallback.Rules = slices.Clone(baseline.Rules), slices.Clone(fallback.Rules)
			changed.Baseline, changed.Fallback = &baseline, &fallback
			switch f.Rung {
			case AtBaseline:
				change(&baseline)
			case AtFallback:
				change(&fallback)
			default:
				change(&changed.Policies[slices.IndexFunc(changed.Policies, func(p Policy) bool { return p.ID == f.Policy })])
			}
		}
		switch f.Kind {
		case AddException:
			then := Allow
			if now.Passes() {
				then = Block
			}
			changed.Exceptions = append(slices.Clone(n.Exceptions), Exception{ID: "new", Entries: []pattern.Entry{{Pattern: f.Pattern}}, For: f.Whom, Then: then})
		case EndException:
			changed.Exceptions = slices.DeleteFunc(slices.Clone(n.Exceptions), func(e Exception) bool { return e.ID == f.Exception })
		case EndGrant:
			changed.Grants = slices.DeleteFunc(slices.Clone(n.Grants), func(e Exception) bool { return e.ID == f.Exception })
		case SwitchOff:
			edit(func(p *Policy) { p.Rules[f.Place].Off = true })
		case LiftRule:
			edit(func(p *Policy) {
				rule := p.Rules[f.Place]
				p.Rules = slices.Insert(slices.Delete(p.Rules, int(f.Place), int(f.Place)+1), int(f.Above), rule)
			})
		case TakeEntryOut:
			lists := slices.Clone(n.lists)
			for i, l := range lists {
				if l.ID == f.List.ID {
					lists[i].Entries = slices.Delete(slices.Clone(l.Entries), int(f.Entry), int(f.Entry)+1)
				}
			}
			changed.Lists = match.New(lists)
		default:
			continue // which categories it has instead is for people to say
		}
		require.Equal(t, f.Verdict, decide(changed.snapshot()), "%s: %s", n.r.URL, f.Text)
	}
}

package policy

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// URL is what is asked for.
type URL = weburl.URL

func decodeForm(text string) string { return pattern.DecodeForm(text) }

// Config is everything that decisions hang on.
type Config struct {
	Directory  *directory.Directory
	Lists      *match.Index // nil for none
	Local      *classify.Local
	Packs      []classify.Pack
	Taxonomy   classify.Taxonomy
	Schedules  []Schedule
	Apps       []AppDef
	Baseline   *Policy  // only its rules count; nil for none
	Policies   []Policy // in their order
	Fallback   *Policy  // nil: what no policy is for is allowed
	Combining  Combining
	Exceptions []Exception
	Unlocked   []Unlocked
	Stints     []Stint
	Gates      []Gate         // those that are switched on, in the order in which a browser meets them
	Zone       *time.Location // in which days begin
}

// Snapshot is a configuration ready to be decided on. It is immutable and safe for concurrent use.
type Snapshot struct {
	config     Config
	classifier *classify.Classifier
	index      *match.Index
	clocks     []*clock

	baseline, fallback *ladderPolicy
	policies           []ladderPolicy
	ofGroup            []directory.Set // by group: its policies
	people             []uint64        // by person: the set of its groups and, beside it, that of their policies

	rulesFrom []int32 // by list asked: where in listRules the rules are that it can make match; one more at the end
	listRules []listRules
	traits    uint8 // a bit for each of [Traits] that a rule asks

	asked      int32 // so many lists are asked by conditions, the first in index after the classifier's own
	grantsFrom int32
	grants     []grant
	stints     []stint // the one begun last first
	words      []wordTest
}

// ladderPolicy is a policy with its conditions ready. It begins with what a decision looks at.
type ladderPolicy struct {
	// Which rules a request can meet at all: most need a list that the URL is in, a category that it has, or a trait. Each row has a bit
	// for each rule, in so many words: the first row those that need nothing, then one for each category and each trait. Rules that need
	// a list stand in Snapshot.listRules: there are many lists, and few rules ask any one of them. The last two rows are those that
	// cannot match where the path has no ending, and where the method is GET.
	masks     []uint64
	heads     []head
	words     int
	slot      int32 // its number in Snapshot.listRules
	otherwise uint8 // strictness
	binds     bool  // a rule has provisos

	*Policy
	at     int32
	rules  []rule
	clocks []int32 // that its rules name
	butIn  directory.Set
	butIs  directory.Set
}

// head is what most decisions need to know of a rule, kept small, so that a policy's lie side by side in memory.
type head struct {
	clock   int32 // -1 for always
	gates   uint8 // a bit for each of [Gates] that it is not for
	then    uint8 // strictness
	outside bool
	exact   bool // that it can match means that it does
}

// listRules is the rules of one policy that a list can make match: those of one word of its masks.
type listRules struct {
	policy, word int32
	rules        uint64
}

// rule is a rule with its condition ready.
type rule struct {
	head
	off, note bool
	cond      node
	*Rule
	when string // in words, for traces
}

// node is a condition ready to be asked.
type node struct {
	op      Op
	of      []node
	set     directory.Set // lists, categories
	traits  []Trait
	texts   []string // methods, endings
	apps    []appTest
	words   int32 // in Snapshot.words
	card    int32
	atLeast int
}

type appTest struct {
	list    int32
	methods []string
}

type wordTest struct {
	list  int32
	words *match.Words
}

// grant is an exception, or something unlocked.
type grant struct {
	*Exception
	unlocked bool
	persons  []int32
	groups   directory.Set
	networks directory.Set
	ranges   []netip.Prefix
}

type stint struct {
	*Stint
	group int32
	lists directory.Set
}

// New makes a configuration ready. What a condition names and is not there never holds.
func New(config Config) *Snapshot {
	if config.Zone == nil {
		config.Zone = time.UTC
	}
	if config.Directory == nil {
		config.Directory = directory.New(nil, nil, nil)
	}
	if config.Lists == nil {
		config.Lists = match.New(nil)
	}
	if config.Local == nil {
		config.Local = classify.NewLocal(nil, nil, nil)
	}
	if config.Combining == "" {
		config.Combining = Position
	}
	s := &Snapshot{config: config}
	c := compiler{s: s, lists: map[string]int32{}, categories: map[string][]int32{}, clocks: map[string]int32{}, apps: map[string][]appTest{}}
	c.compile()
	return s
}

// Config returns what the snapshot was made of. The caller must not change it.
func (s *Snapshot) Config() *Config { return &s.config }

// Classifier returns what says what URLs are.
func (s *Snapshot) Classifier() *classify.Classifier { return s.classifier }

// compiler makes a snapshot.
type compiler struct {
	s          *Snapshot
	lists      map[string]int32
	categories map[string][]int32 // of categories and families, by key
	clocks     map[string]int32
	apps       map[string][]appTest
	extra      []match.List
	nextWords  int32 // search conditions are compiled in the order in which they were gathered
	ofList     [][]listRules
	slots      int32 // policies compiled so far
}

func (c *compiler) compile() {
	s, config := c.s, &c.s.config
	for i, ref := range config.Lists.Lists() {
		c.lists[ref.ID] = int32(i)
	}
	for i, sch := range config.Schedules {
		s.clocks = append(s.clocks, &clock{Schedule: sch})
		c.clocks[sch.ID] = int32(i)
	}
	for _, app := range config.Apps {
		hosts := c.list(app.Entries)
		c.apps[app.Key] = []appTest{{list: hosts}}
		for _, a := range app.Activities {
			list := hosts
			if len(a.Entries) > 0 {
				list = c.list(a.Entries)
			}
			c.apps[app.Key+"/"+a.Key] = []appTest{{list, a.Methods}}
		}
	}
	// Words are looked for by the index first: it costs nothing to ask it for a few more.
	each := func(p *Policy) {
		for i := range p.Rules {
			c.gatherWords(&p.Rules[i].If)
		}
	}
	if config.Baseline != nil {
		each(config.Baseline)
	}
	for i := range config.Policies {
		each(&config.Policies[i])
	}
	if config.Fallback != nil {
		each(config.Fallback)
	}
	s.asked = int32(len(config.Lists.Lists()) + len(c.extra))

	granted := c.extra // one index for all: each further one costs a walk along the host
	for i := range config.Exceptions {
		e := &config.Exceptions[i]
		s.grants = append(s.grants, c.grant(e))
		granted = append(granted, match.List{ID: e.ID, Name: e.Name, Entries: e.Entries})
	}
	for i := range config.Unlocked {
		u := &config.Unlocked[i]
		e := &Exception{Then: Allow, From: u.From, Until: u.Until, For: Whom{Persons: []string{u.Person}}}
		if u.Addr.IsValid() {
			e.For.Ranges = []netip.Prefix{netip.PrefixFrom(u.Addr, u.Addr.BitLen())}
		}
		g := c.grant(e)
		g.unlocked = true
		s.grants = append(s.grants, g)
		granted = append(granted, match.List{ID: "unlocked", Entries: u.Entries})
	}
	all := match.Gather(config.Lists, match.New(granted))
	s.classifier = classify.New(config.Local, config.Packs, all)
	s.index = s.classifier.Index()
	s.grantsFrom = s.classifier.FirstList() + s.asked

	for _, category := range config.Taxonomy.Categories {
		if n := s.classifier.Number(category.Key); n >= 0 {
			c.categories[category.Key] = append(c.categories[category.Key], n)
			if category.Family != "" && category.Family != category.Key {
				c.categories[category.Family] = append(c.categories[category.Family], n)
			}
		}
	}
	c.ofList = make([][]listRules, s.asked)
	if config.Baseline != nil {
		p := c.policy(config.Baseline, -1)
		s.baseline = &p
	}
	s.ofGroup = directory.NewSets(len(config.Directory.Groups), len(config.Policies))
	for i := range config.Policies {
		s.policies = append(s.policies, c.policy(&config.Policies[i], int32(i)))
		for _, id := range config.Policies[i].Groups {
			if g := config.Directory.Group(id); g >= 0 {
				s.ofGroup[g].Add(int32(i))
			}
		}
	}
	if config.Fallback != nil {
		p := c.policy(config.Fallback, -1)
		s.fallback = &p
	}
	s.rulesFrom = []int32{0}
	for _, rules := range c.ofList {
		s.listRules = append(s.listRules, rules...)
		s.rulesFrom = append(s.rulesFrom, int32(len(s.listRules)))
	}
	for person := range config.Directory.People {
		groups, policies := directory.NewSet(len(config.Directory.Groups)), directory.NewSet(len(config.Policies))
		config.Directory.Belong(groups, int32(person), -1, netip.Addr{})
		s.unitePolicies(policies, groups)
		s.people = append(append(s.people, groups...), policies...)
	}
	for i := range config.Stints {
		st := &config.Stints[i]
		s.stints = append(s.stints, stint{st, config.Directory.Group(st.Group), c.listSet(st.Lists)})
	}
	slices.SortStableFunc(s.stints, func(a, b stint) int { return b.From.Compare(a.From) })
}

// list puts entries beside the lists and returns their number among them.
func (c *compiler) list(entries []pattern.Entry) int32 {
	c.extra = append(c.extra, match.List{Entries: entries})
	return int32(len(c.s.config.Lists.Lists()) + len(c.extra) - 1)
}

// gatherWords puts the words of search conditions beside the lists, in the order in which conditions are compiled.
func (c *compiler) gatherWords(cond *Cond) {
	for i := range cond.Of {
		c.gatherWords(&cond.Of[i])
	}
	if cond.Op != Search {
		return
	}
	var words []pattern.Pattern
	var entries []pattern.Entry
	for _, text := range cond.Values {
		if e, err := pattern.Parse(text); err == nil && e.Kind() == pattern.Word {
			words, entries = append(words, e.Pattern), append(entries, pattern.Entry{Pattern: e.Pattern})
		}
	}
	c.s.words = append(c.s.words, wordTest{c.list(entries), match.NewWords(words)})
}

func (c *compiler) policy(p *Policy, at int32) ladderPolicy {
	lp := ladderPolicy{Policy: p, at: at, slot: c.slots, butIn: c.listSet(p.Inspect.ButLists), butIs: c.categorySet(p.Inspect.Categories), otherwise: p.Otherwise.strictness()}
	c.slots++
	for i := range p.Rules {
		r := rule{Rule: &p.Rules[i], cond: c.node(&p.Rules[i].If), head: head{clock: -1}}
		r.off, r.outside, r.note = r.Off, r.When.Outside, r.Then == Note
		r.then, r.exact = r.Then.strictness(), r.cond.exact()
		for bit, gate := range Gates {
			if len(r.At) > 0 && !slices.Contains(r.At, gate) {
				r.gates |= 1 << bit
			}
		}
		if r.When.Schedule != "" {
			n, ok := c.clocks[r.When.Schedule]
			if !ok {
				n = int32(len(c.s.clocks)) // a schedule that is gone is never in force
				c.s.clocks = append(c.s.clocks, &clock{Schedule: Schedule{ID: r.When.Schedule, Name: "a schedule that is gone", Zone: time.UTC}})
				c.clocks[r.When.Schedule] = n
			}
			if r.when = "in "; r.outside {
				r.when = "outside "
			}
			r.when += c.s.clocks[n].Name
			if r.clock = n; !slices.Contains(lp.clocks, n) {
				lp.clocks = append(lp.clocks, n)
			}
		}
		lp.rules = append(lp.rules, r)
		lp.heads = append(lp.heads, r.head)
		lp.binds = lp.binds || r.With != Provisos{}
	}
	c.mask(&lp)
	return lp
}

// mask notes which facts can make which rules decide. Rules that are off, and notes, decide nothing.
func (c *compiler) mask(p *ladderPolicy) {
	p.words = (len(p.rules) + 63) / 64
	row := 1 + c.s.classifier.Count() + len(Traits)
	p.masks = make([]uint64, (row+2)*p.words)
	for i := range p.rules {
		if p.rules[i].off || p.rules[i].note {
			continue
		}
		facts, free := c.s.needs(&p.rules[i].cond, nil)
		word, bit := i>>6, uint64(1)<<(i&63)
		if p.rules[i].cond.always(func(n *node) bool { return n.op == File }) {
			p.masks[row*p.words+word] |= bit
		}
		if p.rules[i].cond.always(func(n *node) bool { return n.op == Method && !slices.Contains(n.texts, "GET") }) {
			p.masks[(row+1)*p.words+word] |= bit
		}
		if free {
			p.masks[word] |= bit
			continue
		}
		for _, f := range facts {
			if f.row == 0 {
				c.ofList[f.list] = withRule(c.ofList[f.list], p.slot, int32(word), bit)
				continue
			}
			p.masks[f.row*p.words+word] |= bit
			if trait := f.row - 1 - c.s.classifier.Count(); trait >= 0 {
				c.s.traits |= 1 << trait
			}
		}
	}
}

// withRule adds a rule to those of a list, which are in the order in which policies are compiled.
func withRule(rules []listRules, policy, word int32, bit uint64) []listRules {
	if last := len(rules) - 1; last >= 0 && rules[last].policy == policy && rules[last].word == word {
		rules[last].rules |= bit
		return rules
	}
	return append(rules, listRules{policy, word, bit})
}

// fact is something that a request can be: in a list that conditions ask or, by a row of the masks, of a category or with a trait.
type fact struct {
	list int32
	row  int // 0 for lists
}

// needs returns facts of which a condition needs one at least to hold; true where it may hold without any.
func (s *Snapshot) needs(n *node, facts []fact) ([]fact, bool) {
	switch n.op {
	case InList:
		for l := n.set.Next(0); l >= 0; l = n.set.Next(l + 1) {
			facts = append(facts, fact{list: l})
		}
	case Is:
		for k := n.set.Next(0); k >= 0; k = n.set.Next(k + 1) {
			facts = append(facts, fact{row: 1 + int(k)})
		}
	case HasTrait:
		for _, trait := range n.traits {
			if at := slices.Index(Traits, trait); at >= 0 {
				facts = append(facts, fact{row: 1 + s.classifier.Count() + at})
			}
		}
	case App:
		for _, app := range n.apps {
			facts = append(facts, fact{list: app.list})
		}
	case Search:
		facts = append(facts, fact{list: s.words[n.words].list})
	case Any:
		for i := range n.of {
			var free bool
			if facts, free = s.needs(&n.of[i], facts); free {
				return facts, true
			}
		}
	case All:
		for i := range n.of { // each part has to hold, so what one of them needs will do
			if part, free := s.needs(&n.of[i], nil); !free {
				return append(facts, part...), false
			}
		}
		return facts, true
	default:
		return facts, true
	}
	return facts, false
}

// always reports whether a condition holds only where a part holds that is so.
func (n *node) always(so func(n *node) bool) bool {
	part := func(of node) bool { return of.always(so) }
	switch n.op {
	case All:
		return slices.ContainsFunc(n.of, part)
	case Any:
		return !slices.ContainsFunc(n.of, func(of node) bool { return !part(of) })
	}
	return so(n)
}

// exact reports whether a condition holds as soon as one of the facts that it needs is there.
func (n *node) exact() bool {
	switch n.op {
	case InList, Is, HasTrait:
		return true
	case App:
		return !slices.ContainsFunc(n.apps, func(a appTest) bool { return len(a.methods) > 0 })
	case Any:
		return !slices.ContainsFunc(n.of, func(part node) bool { return !part.exact() })
	case All:
		return len(n.of) == 0 || len(n.of) == 1 && n.of[0].exact()
	}
	return false
}

func (c *compiler) listSet(ids []string) directory.Set {
	set := directory.NewSet(int(c.s.asked))
	for _, id := range ids {
		if n, ok := c.lists[id]; ok {
			set.Add(n)
		}
	}
	return set
}

func (c *compiler) categorySet(keys []string) directory.Set {
	set := directory.NewSet(c.s.classifier.Count())
	for _, key := range keys {
		numbers, known := c.categories[key]
		if n := c.s.classifier.Number(key); !known && n >= 0 {
			numbers = []int32{n} // nothing says what it means, but something says that it is
		}
		for _, n := range numbers {
			set.Add(n)
		}
	}
	return set
}

func (c *compiler) node(cond *Cond) node {
	n := node{op: cond.Op, atLeast: cond.AtLeast}
	for i := range cond.Of {
		n.of = append(n.of, c.node(&cond.Of[i]))
	}
	switch cond.Op {
	case "":
		n.op = All
	case InList:
		n.set = c.listSet(cond.Values)
	case Is:
		n.set = c.categorySet(cond.Values)
	case App:
		for _, key := range cond.Values {
			n.apps = append(n.apps, c.apps[key]...)
		}
	case HasTrait:
		for _, v := range cond.Values {
			n.traits = append(n.traits, Trait(v))
		}
	case Method:
		n.texts = cond.Values
	case File:
		for _, v := range cond.Values {
			n.texts = append(n.texts, endings(v)...)
		}
	case Search:
		n.words = c.nextWords
		c.nextWords++
	case Points:
		n.card = -1
		if len(cond.Values) > 0 {
			n.card = c.s.classifier.Card(cond.Values[0])
		}
	}
	return n
}

func (c *compiler) grant(e *Exception) grant {
	d := c.s.config.Directory
	g := grant{Exception: e, groups: directory.NewSet(len(d.Groups)), networks: directory.NewSet(len(d.Networks))}
	for _, id := range e.For.Persons {
		if n := d.Person(id); n >= 0 {
			g.persons = append(g.persons, n)
		}
	}
	for _, id := range e.For.Groups {
		if n := d.Group(id); n >= 0 {
			g.groups.Add(n)
		}
	}
	for _, id := range e.For.Networks {
		if n := d.Network(id); n >= 0 {
			g.networks.Add(n)
		}
	}
	for _, r := range e.For.Ranges {
		g.ranges = append(g.ranges, directory.Unmapped(r))
	}
	return g
}

// listRef names a list that a condition asks for, by its number.
func (s *Snapshot) listRef(n int32) match.Ref { return s.config.Lists.Lists()[n] }

// category returns what a category is, by its number.
func (s *Snapshot) category(n int32) classify.Category {
	key := s.classifier.Key(n)
	if c, ok := s.config.Taxonomy.Category(key); ok {
		return c
	}
	return classify.Category{Key: key, Name: key}
}

// CategoryName returns the name of a category or a family.
func (s *Snapshot) CategoryName(key string) string {
	if c, ok := s.config.Taxonomy.Category(key); ok {
		return c.Name
	}
	if f, ok := s.config.Taxonomy.Family(key); ok {
		return f.Name
	}
	return key
}

// AppName returns the name of an app or, for app/activity, of what is done with it.
func (s *Snapshot) AppName(key string) string {
	appKey, activity, _ := strings.Cut(key, "/")
	for _, app := range s.config.Apps {
		if app.Key != appKey {
			continue
		}
		for _, a := range app.Activities {
			if a.Key == activity {
				return app.Name + " (" + a.Name + ")"
			}
		}
		return app.Name
	}
	return key
}

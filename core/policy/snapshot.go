package policy

import (
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/ranges"
	"widelark/core/weburl"
)

// URL is what is asked for.
type URL = weburl.URL

func decodeForm(text string) string { return pattern.DecodeForm(text) }

// Config is everything that decisions depend on.
type Config struct {
	Directory  *directory.Directory
	Lists      *match.Index // nil for none
	Local      *classify.Local
	Packs      []classify.Pack
	Taxonomy   classify.Taxonomy
	Schedules  []Schedule
	Apps       []AppDef
	Engines    []Engine // the first that a URL is on counts
	Baseline   *Policy  // only its rules count; nil for none
	Policies   []Policy // in their order
	Fallback   *Policy  // nil: what no policy is for is allowed
	Combining  Combining
	Exceptions []Exception
	Way        Way // which gates clients meet whose network does not say; "": none
	// NetworkWays says of networks, by id, how their clients come to the gates.
	NetworkWays map[string]NetworkWay
	// Shared are the networks, by id, in which many clients stand behind one address: it says nothing of who asks.
	Shared map[string]bool
	Zone   *time.Location // in which days begin
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
	callers            directory.Table[caller]

	engines *match.Index // their hosts, a list for each

	outline outline

	asked      int32 // so many lists are asked by conditions, the first in index after the classifier's own
	grantsFrom int32
	grants     []grant          // exceptions, then the facts beside
	lists      *match.Index     // of conditions and exceptions, without what facts cover
	listOf     map[string]int32 // numbers of the configuration's lists, by id
	// noException says of a URL that no exception covers it.
	noException string
	stints      []stint // the one begun last first
	steered     []phase // in order: which stints are in force when
	byClass     []int32 // positions among grants of what is unlocked by categories

	acknowledgements bool // there are some among grants
	notesAnything    bool // a rule says note
	asksAnswers      bool // a rule asks what an answer is
	presences        map[netip.Addr][]Presence
	used             map[user][]int64 // minutes, in order
	words            []wordTest
	opening          *opening // what nearly nobody asks
}

// opening says whether patterns open names; see patternsOpen.
type opening struct {
	once     sync.Once
	patterns bool
}

// caller is what nearly all decisions need to know of a person: as much as fits into one place in memory beside the id.
type caller struct {
	person int32 // its number
	count  int32 // of its policies; tooMany where they do not fit
	first  [6]int32
}

const tooMany = -1

func newCaller(person int32, policies []int32) caller {
	c := caller{person: person, count: int32(len(policies))}
	if copy(c.first[:], policies) < len(policies) {
		c.count = tooMany
	}
	return c
}

// policies returns the numbers of its policies, in order; none where they do not fit.
func (c *caller) policies() []int32 { return c.first[:max(0, c.count)] }

// ladderPolicy is a policy with its conditions ready.
type ladderPolicy struct {
	*Policy
	at     int32
	rules  []rule
	clocks []int32 // that its rules name
	butIn  directory.Set
	butIs  directory.Set
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
	kinds   []string // of files: keys
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

// grant is an exception, a grant, something unlocked, or the entries of a stint.
type grant struct {
	*Exception
	kind     grantKind
	of       string // acknowledged: the id of the rule, or of the policy
	persons  []int32
	groups   directory.Set
	networks directory.Set
	ranges   []netip.Prefix
	is       directory.Set // unlocked: categories besides the entries; nil for none
}

// grantKind says what opens a URL for some people.
type grantKind uint8

const (
	excepted     grantKind = iota // an exception, or a grant
	unlocked                      // a code that was entered
	acknowledged                  // a rule's hold that was acknowledged
	chosen                        // entries of a stint
)

// phase is a time from a moment until the next phase, in which the same stints are in force.
type phase struct {
	from   time.Time
	stints []int32 // positions among the snapshot's, in order
}

type stint struct {
	*Stint
	group         int32
	persons, done []int32
	lists         directory.Set
	entries       int32 // their position among the grants; -1 for none
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
	s := &Snapshot{config: config, opening: &opening{}}
	s.listOf = map[string]int32{}
	c := compiler{s: s, categories: map[string][]int32{}, clocks: map[string]int32{}, apps: map[string][]appTest{}}
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
	categories map[string][]int32 // of categories and families, by key
	clocks     map[string]int32
	apps       map[string][]appTest
	extra      []match.List
	nextWords  int32 // search conditions are compiled in the order in which they were gathered
	ofList     [][]listRules
}

func (c *compiler) compile() {
	s, config := c.s, &c.s.config
	for i, ref := range config.Lists.Lists() {
		s.listOf[ref.ID] = int32(i)
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
	var engines []match.List
	for i := range config.Engines {
		engines = append(engines, match.List{ID: config.Engines[i].ID, Entries: config.Engines[i].Entries})
	}
	s.engines = match.New(engines)
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
		s.grants = append(s.grants, s.grant(e))
		granted = append(granted, match.List{ID: e.ID, Name: e.Name, Entries: e.Entries})
	}
	s.lists = match.Gather(config.Lists, match.New(granted))
	s.noException = noneOf(len(s.grants))
	s.classifier = classify.New(config.Local, config.Packs, s.lists)
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
	s.outline.categories, s.outline.policies = s.classifier.Count(), make([]outlined, len(config.Policies)+2)
	if config.Baseline != nil {
		p := c.policy(config.Baseline, -1, s.baselineNumber())
		s.baseline = &p
	}
	s.ofGroup = directory.NewSets(len(config.Directory.Groups), len(config.Policies))
	for i := range config.Policies {
		s.policies = append(s.policies, c.policy(&config.Policies[i], int32(i), int32(i)))
		for _, id := range config.Policies[i].Groups {
			if g := config.Directory.Group(id); g >= 0 {
				s.ofGroup[g].Add(int32(i))
			}
		}
	}
	if config.Fallback != nil {
		p := c.policy(config.Fallback, -1, s.fallbackNumber())
		s.fallback = &p
	}
	s.outline.gather(c.ofList)
	s.callers = directory.NewTable[caller](len(config.Directory.People))
	groups, set := directory.NewSet(len(config.Directory.Groups)), directory.NewSet(len(config.Policies))
	var policies []int32
	for i, person := range config.Directory.People {
		config.Directory.Belong(groups, int32(i), -1, netip.Addr{})
		policies = s.policiesOf(policies[:0], set, groups)
		s.callers.Put(person.ID, newCaller(int32(i), policies))
	}
}

// word is what people call an exception: a grant where it was made at once.
func (g *grant) word() string {
	if g.Grant {
		return "grant"
	}
	return "exception"
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

func (c *compiler) policy(p *Policy, at, number int32) ladderPolicy {
	lp := ladderPolicy{Policy: p, at: at, butIn: c.s.listSet(p.Inspect.ButLists), butIs: c.categorySet(p.Inspect.Categories)}
	for i := range p.Rules {
		r := rule{Rule: &p.Rules[i], cond: c.node(&p.Rules[i].If), head: head{clock: -1}}
		r.off, r.outside, r.note = r.Off, r.When.Outside, r.Then == Note
		c.s.notesAnything = c.s.notesAnything || r.note
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
	}
	c.outline(&lp, number)
	return lp
}

func (s *Snapshot) listSet(ids []string) directory.Set {
	set := directory.NewSet(int(s.asked))
	for _, id := range ids {
		if n, ok := s.listOf[id]; ok {
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
		n.set = c.s.listSet(cond.Values)
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
			if isKind(v) {
				n.kinds = append(n.kinds, v)
				c.s.asksAnswers = true
			}
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

func (s *Snapshot) grant(e *Exception) grant {
	d := s.config.Directory
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
		g.ranges = append(g.ranges, ranges.Canonical(r))
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

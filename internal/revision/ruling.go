package revision

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
)

// Role says what a policy is for.
type Role string

// The roles. There is one baseline and one fallback; all other policies are given to groups.
const (
	RoleGroups   Role = ""
	RoleBaseline Role = "baseline"
	RoleFallback Role = "fallback"
)

// PolicyBody is ordered rules and the verdict where none of them decides.
type PolicyBody struct {
	Description string          `json:"description,omitempty" maxLength:"2000"`
	Role        Role            `json:"role,omitempty" enum:",baseline,fallback" doc:"The baseline stands before all others, the fallback is for requests that no policy is for"`
	Groups      []Ref           `json:"groups" doc:"Whom the policy is for"`
	Rules       []RuleBody      `json:"rules" maxItems:"500" doc:"In order: the first that decides, decides"`
	Otherwise   policy.Verdict  `json:"otherwise" enum:"allow,watch,hold,block" doc:"The verdict where no rule decides; the baseline has none and goes on"`
	Inspect     *InspectionBody `json:"inspect,omitempty" doc:"Which TLS sites are opened, so that the whole URL is seen; left out, none"`
	Records     *RecordsBody    `json:"records,omitempty" doc:"How much of its decisions is recorded; left out, everything but what is searched for"`
	Names       string          `json:"names,omitempty" enum:"none,refused,page" doc:"What the DNS gate answers for a name that is refused: that there is none such, that the question is refused, or the address of the page that says so; left out: none"`
	Unheld      string          `json:"unheld,omitempty" enum:"pass,block" doc:"What becomes of a request whose provisos the gate cannot hold, as a size cap in a tunnel that is not opened; left out: it passes without them"`
	Page        *PageBody       `json:"page,omitempty" doc:"What it says on the pages that people see in place of what is refused; of the policies that a request has, the first in order says it, else the fallback"`
}

// RecordsBody says how much of a policy's decisions is recorded. Of several policies that a request has, the least counts.
type RecordsBody struct {
	Amount policy.Amount `json:"amount" enum:"everything,group,nothing" doc:"group: no person, machine or address, and of the URL the host alone; nothing: decisions are counted"`
	Words  bool          `json:"words,omitempty" doc:"With everything: what is searched for, too"`
}

// InspectionBody says which TLS sites are opened.
type InspectionBody struct {
	All        bool     `json:"all" doc:"All but those below; else none"`
	ButLists   []Ref    `json:"butLists,omitempty"`
	Categories []string `json:"butCategories,omitempty"`
	Pages      bool     `json:"pages,omitempty" doc:"A connection that is refused is opened all the same, only to show the page that says so, to clients that trust the gates' authority"`
}

// RuleBody is one rule.
type RuleBody struct {
	ID   uuid.UUID      `json:"id,omitzero" format:"uuid" file:"-" doc:"Stays through edits, moves and renames. Left out: the rule of this name that the policy has, else a new one"`
	Name string         `json:"name" minLength:"1" maxLength:"80"`
	Off  bool           `json:"off,omitempty"`
	When *WhenBody      `json:"when,omitempty" doc:"Left out: always"`
	If   *Condition     `json:"if,omitempty" doc:"Left out: every request"`
	At   []policy.Gate  `json:"at,omitempty" enum:"dns,proxy,icap" doc:"Left out: every gate"`
	Then policy.Verdict `json:"then" enum:"allow,watch,hold,block,note" doc:"note records that the rule matched, and goes on"`
	With *ProvisosBody  `json:"with,omitempty" doc:"What an allowed request is bound to"`

	Leave *LeaveBody `json:"leave,omitempty" doc:"How people come past a hold; left out: by acknowledging it, for an hour"`
}

// LeaveBody says how people come past a hold.
type LeaveBody struct {
	By      string `json:"by" enum:"acknowledging,code" doc:"acknowledging: they read why, and go on; code: they enter a code of the help desk"`
	Minutes int    `json:"minutes,omitempty" minimum:"0" maximum:"1440" doc:"For how long; left out: 60. A code says so itself"`
}

// WhenBody says when a rule applies.
type WhenBody struct {
	Schedule Ref  `json:"schedule"`
	Outside  bool `json:"outside,omitempty" doc:"While the schedule is not in force"`
}

// ProvisosBody is what an allowed request is bound to.
type ProvisosBody struct {
	SafeSearch  bool  `json:"safeSearch,omitempty"`
	NoUploads   bool  `json:"noUploads,omitempty"`
	MaxBytes    int64 `json:"maxBytes,omitempty" minimum:"0"`
	MinutesADay int   `json:"minutesADay,omitempty" minimum:"0" maximum:"1440"`
}

// Condition is a tree: exactly one of its fields is given. Values of one field are joined by or.
type Condition struct {
	All        []Condition `json:"all,omitempty"`
	Any        []Condition `json:"any,omitempty"`
	None       []Condition `json:"none,omitempty"`
	Lists      []Ref       `json:"lists,omitempty"`
	Categories []string    `json:"categories,omitempty" doc:"Keys of categories, and of families, which stand for all that is in them"`
	Apps       []string    `json:"apps,omitempty" doc:"Keys of apps, or app/activity"`
	Traits     []string    `json:"traits,omitempty" enum:"raw-address,plain-http,unrated,odd-port,user-info,punycode,two-names,not-tls"`
	Methods    []string    `json:"methods,omitempty" doc:"As POST"`
	Files      []string    `json:"files,omitempty" doc:"Kinds of files, or endings as .zip"`
	Search     []string    `json:"search,omitempty" doc:"Words in the notation, looked for in what is searched for"`
	Score      *ScoreBody  `json:"score,omitempty"`
}

// ScoreBody asks whether a scorecard reaches some points.
type ScoreBody struct {
	Scorecard Ref `json:"scorecard"`
	AtLeast   int `json:"atLeast,omitempty" doc:"Left out: its threshold"`
}

// The bounds of conditions: enough for any that people can read.
const (
	maxDepth  = 8
	maxValues = 500
)

// Check implements [Body].
func (b *PolicyBody) Check() error {
	b.Groups = unique(b.Groups)
	if b.Rules == nil {
		b.Rules = []RuleBody{}
	}
	if b.Role == RoleBaseline && b.Otherwise == "" {
		b.Otherwise = policy.Allow // it is never asked
	}
	switch {
	case !slices.Contains(policy.Verdicts, b.Otherwise):
		return &FieldError{"otherwise", fmt.Sprintf("%q is not a verdict", b.Otherwise)}
	case b.Role != RoleGroups && len(b.Groups) > 0:
		return &FieldError{"groups", "the " + string(b.Role) + " is given to no groups"}
	}
	if i := b.Inspect; i != nil && !i.All && !i.Pages && len(i.ButLists)+len(i.Categories) == 0 {
		b.Inspect = nil
	}
	switch b.Names {
	case "none":
		b.Names = ""
	case "", string(policy.RefusedName), string(policy.PageOfRefused):
	default:
		return &FieldError{"names", fmt.Sprintf("%q is not an answer for names: there are none, refused and page", b.Names)}
	}
	switch b.Unheld {
	case "pass":
		b.Unheld = ""
	case "", "block":
	default:
		return &FieldError{"unheld", fmt.Sprintf("%q is neither pass nor block", b.Unheld)}
	}
	if b.Page != nil {
		if err := b.Page.check(); err != nil {
			return err
		}
		if b.Page.empty() {
			b.Page = nil
		}
		if b.Page != nil && b.Role == RoleBaseline {
			return &FieldError{"page", "the baseline says nothing on pages: the policies of whoever asks do, or the fallback"}
		}
	}
	if r := b.Records; r != nil {
		switch {
		case !slices.Contains(policy.Amounts, r.Amount):
			return &FieldError{"records.amount", fmt.Sprintf("%q is not an amount: there are everything, group and nothing", r.Amount)}
		case r.Words && r.Amount != policy.Everything:
			return &FieldError{"records.words", "what is searched for is recorded only where everything is"}
		case *r == (RecordsBody{Amount: policy.Everything}):
			b.Records = nil
		case b.Role == RoleBaseline:
			return &FieldError{"records", "the baseline does not say how much is recorded: the policies of whoever asks do, or the fallback"}
		}
	}
	for i := range b.Rules {
		at := fmt.Sprintf("rules[%d]", i)
		if err := b.Rules[i].check(at); err != nil {
			return err
		}
		if b.Role == RoleBaseline && !slices.Contains([]policy.Verdict{policy.Allow, policy.Block, policy.Note}, b.Rules[i].Then) {
			return &FieldError{at + ".then", "the baseline allows, blocks and notes, nothing else"}
		}
	}
	return checkDescription(&b.Description)
}

func (r *RuleBody) check(at string) (err error) {
	if r.Name, err = CheckName(at+".name", r.Name); err != nil {
		return err
	}
	if !slices.Contains(policy.Verdicts, r.Then) && r.Then != policy.Note {
		return &FieldError{at + ".then", fmt.Sprintf("%q is not a verdict", r.Then)}
	}
	for i, gate := range r.At {
		if !slices.Contains(policy.Gates, gate) {
			return &FieldError{fmt.Sprintf("%s.at[%d]", at, i), fmt.Sprintf("%q is not a kind of gate: there are dns, proxy and icap", gate)}
		}
	}
	if r.With != nil && (*r.With == ProvisosBody{}) {
		r.With = nil
	}
	if r.With != nil && (r.Then == policy.Block || r.Then == policy.Note) {
		return &FieldError{at + ".with", "provisos bind what is allowed: a rule that says " + string(r.Then) + " has none"}
	}
	if r.Leave != nil {
		switch {
		case r.Then != policy.Hold:
			return &FieldError{at + ".leave", "people come past what is held: a rule that says " + string(r.Then) + " has no such way"}
		case r.Leave.By != "acknowledging" && r.Leave.By != "code":
			return &FieldError{at + ".leave.by", fmt.Sprintf("%q is not a way past a hold: there are acknowledging and code", r.Leave.By)}
		case r.Leave.Minutes < 0 || r.Leave.Minutes > 24*60:
			return &FieldError{at + ".leave.minutes", "people come past a hold for a day at most: 1440 minutes"}
		case *r.Leave == LeaveBody{By: "acknowledging"}:
			r.Leave = nil
		}
	}
	if r.If == nil {
		return nil
	}
	return r.If.check(at+".if", 0)
}

// check puts a condition into the form in which it is kept.
func (c *Condition) check(at string, depth int) error {
	given := 0
	for _, there := range []bool{
		c.All != nil, c.Any != nil, c.None != nil, c.Lists != nil, c.Categories != nil, c.Apps != nil, c.Traits != nil,
		c.Methods != nil, c.Files != nil, c.Search != nil, c.Score != nil,
	} {
		if there {
			given++
		}
	}
	switch {
	case given != 1:
		return &FieldError{at, "a condition asks exactly one thing: all, any, none, lists, categories, apps, traits, methods, files, search or score"}
	case depth > maxDepth:
		return &FieldError{at, fmt.Sprintf("more than %d conditions in one another", maxDepth)}
	}
	for name, parts := range map[string][]Condition{"all": c.All, "any": c.Any, "none": c.None} {
		for i := range parts {
			if err := parts[i].check(fmt.Sprintf("%s.%s[%d]", at, name, i), depth+1); err != nil {
				return err
			}
		}
	}
	if c.Lists != nil {
		c.Lists = unique(c.Lists)
	}
	for i, m := range c.Methods {
		c.Methods[i] = strings.ToUpper(strings.TrimSpace(m))
		if c.Methods[i] == "" || strings.Trim(c.Methods[i], "ABCDEFGHIJKLMNOPQRSTUVWXYZ-") != "" {
			return &FieldError{fmt.Sprintf("%s.methods[%d]", at, i), fmt.Sprintf("%q is not a method of HTTP, as POST", m)}
		}
	}
	for i, t := range c.Traits {
		if !slices.Contains(policy.Traits, policy.Trait(t)) {
			return &FieldError{fmt.Sprintf("%s.traits[%d]", at, i), fmt.Sprintf("there is no trait %q: there are raw-address, plain-http, unrated, odd-port, user-info and punycode", t)}
		}
	}
	for i, f := range c.Files {
		c.Files[i] = strings.ToLower(strings.TrimSpace(f))
		if f = c.Files[i]; !strings.HasPrefix(f, ".") && !slices.ContainsFunc(policy.FileKinds, func(k policy.FileKind) bool { return k.Key == f }) || len(f) < 2 {
			var keys []string
			for _, k := range policy.FileKinds {
				keys = append(keys, k.Key)
			}
			return &FieldError{fmt.Sprintf("%s.files[%d]", at, i), fmt.Sprintf("%q is not an ending as .zip, and no kind of files: there are %s", f, strings.Join(keys, ", "))}
		}
	}
	for i, text := range c.Search {
		if !strings.HasPrefix(strings.TrimSpace(text), `"`) {
			text = `"` + text + `"`
		}
		word, err := ParseWord(text)
		if err != nil {
			return &FieldError{fmt.Sprintf("%s.search[%d]", at, i), err.Error()}
		}
		c.Search[i] = word.String()
	}
	return c.count(at)
}

// readable says why a condition as it is kept cannot be read. It changes nothing.
func (c *Condition) readable(at string, depth int) error {
	kept := *c
	kept.Lists, kept.Methods, kept.Files, kept.Search = slices.Clone(c.Lists), slices.Clone(c.Methods), slices.Clone(c.Files), slices.Clone(c.Search)
	kept.All, kept.Any, kept.None = nil, nil, nil
	for name, parts := range map[string][]Condition{"all": c.All, "any": c.Any, "none": c.None} {
		for i := range parts {
			if err := parts[i].readable(fmt.Sprintf("%s.%s[%d]", at, name, i), depth+1); err != nil {
				return err
			}
		}
		if parts != nil {
			return nil
		}
	}
	return kept.check(at, depth)
}

// count refuses conditions without values, and with too many.
func (c *Condition) count(at string) error {
	if c.All != nil || c.Any != nil || c.None != nil || c.Score != nil {
		return nil
	}
	n := len(c.Lists) + len(c.Categories) + len(c.Apps) + len(c.Traits) + len(c.Methods) + len(c.Files) + len(c.Search)
	switch {
	case n == 0:
		return &FieldError{at, "a condition that names nothing never holds: name at least one"}
	case n > maxValues:
		return &FieldError{at, fmt.Sprintf("more than %d values: make a list of them", maxValues)}
	}
	return nil
}

// Refs implements [Body].
func (b *PolicyBody) Refs(visit func(string, Kind, *Ref)) {
	visitAll("groups", KindGroup, b.Groups, visit)
	for i := range b.Rules {
		at := fmt.Sprintf("rules[%d]", i)
		if when := b.Rules[i].When; when != nil {
			visit(at+".when.schedule", KindSchedule, &when.Schedule)
		}
		if b.Rules[i].If != nil {
			b.Rules[i].If.refs(at+".if", visit)
		}
	}
	if b.Inspect != nil {
		visitAll("inspect.butLists", KindList, b.Inspect.ButLists, visit)
	}
}

func (c *Condition) refs(at string, visit func(string, Kind, *Ref)) {
	visitAll(at+".lists", KindList, c.Lists, visit)
	if c.Score != nil {
		visit(at+".score.scorecard", KindScorecard, &c.Score.Scorecard)
	}
	for name, parts := range map[string][]Condition{"all": c.All, "any": c.Any, "none": c.None} {
		for i := range parts {
			parts[i].refs(fmt.Sprintf("%s.%s[%d]", at, name, i), visit)
		}
	}
}

// Keys visits the keys of categories, families and apps that a policy names, with the paths of their fields.
func (b *PolicyBody) Keys(visit func(field, key string, app bool) error) error {
	for i := range b.Rules {
		if b.Rules[i].If != nil {
			if err := b.Rules[i].If.keys(fmt.Sprintf("rules[%d].if", i), visit); err != nil {
				return err
			}
		}
	}
	if b.Inspect == nil {
		return nil
	}
	for i, key := range b.Inspect.Categories {
		if err := visit(fmt.Sprintf("inspect.butCategories[%d]", i), key, false); err != nil {
			return err
		}
	}
	return nil
}

func (c *Condition) keys(at string, visit func(field, key string, app bool) error) error {
	for i, key := range c.Categories {
		if err := visit(fmt.Sprintf("%s.categories[%d]", at, i), key, false); err != nil {
			return err
		}
	}
	for i, key := range c.Apps {
		if err := visit(fmt.Sprintf("%s.apps[%d]", at, i), key, true); err != nil {
			return err
		}
	}
	for name, parts := range map[string][]Condition{"all": c.All, "any": c.Any, "none": c.None} {
		for i := range parts {
			if err := parts[i].keys(fmt.Sprintf("%s.%s[%d]", at, name, i), visit); err != nil {
				return err
			}
		}
	}
	return nil
}

// Policy returns the core's form of a policy. What cannot be read is recorded in asides.
func (b *PolicyBody) Policy(meta Meta, asides *Asides) policy.Policy {
	p := policy.Policy{ID: meta.ID.String(), Name: meta.Name, Groups: ids(b.Groups), Otherwise: b.Otherwise, BlocksUnheld: b.Unheld == "block", Names: policy.NameAnswer(b.Names)}
	for i, r := range b.Rules {
		rule := leftOut(r)
		if asides.rule(meta, i, r) {
			rule = r.Rule()
		}
		p.Rules = append(p.Rules, rule)
	}
	if b.Inspect != nil {
		p.Inspect = policy.Inspection{All: b.Inspect.All, ButLists: ids(b.Inspect.ButLists), Categories: b.Inspect.Categories, Pages: b.Inspect.Pages}
	}
	if b.Page != nil {
		p.Page = b.Page.Page()
	}
	if b.Records != nil {
		p.Records = policy.Recording{Amount: b.Records.Amount, Words: b.Records.Words}
	}
	return p
}

// Provisos returns the core's form of the provisos.
func (b *ProvisosBody) Provisos() policy.Provisos {
	return policy.Provisos{SafeSearch: b.SafeSearch, NoUploads: b.NoUploads, SizeCap: b.MaxBytes, Quota: time.Duration(b.MinutesADay) * time.Minute}
}

// Rule returns the core's form of a rule.
func (r RuleBody) Rule() policy.Rule {
	rule := policy.Rule{ID: r.ID.String(), Name: r.Name, Off: r.Off, At: r.At, Then: r.Then}
	if r.When != nil {
		rule.When = policy.When{Schedule: r.When.Schedule.ID.String(), Outside: r.When.Outside}
	}
	if r.If != nil {
		rule.If = r.If.cond()
	}
	if r.With != nil {
		rule.With = r.With.Provisos()
	}
	if r.Leave != nil {
		rule.LeftFor = time.Duration(r.Leave.Minutes) * time.Minute
		if r.Leave.By == "code" {
			rule.Left = policy.ByCode
		}
	}
	return rule
}

func (c *Condition) cond() policy.Cond {
	of := func(op policy.Op, parts []Condition) policy.Cond {
		joined := policy.Cond{Op: op}
		for i := range parts {
			joined.Of = append(joined.Of, parts[i].cond())
		}
		return joined
	}
	switch {
	case c.All != nil:
		return of(policy.All, c.All)
	case c.Any != nil:
		return of(policy.Any, c.Any)
	case c.None != nil:
		return of(policy.None, c.None)
	case c.Lists != nil:
		return policy.Cond{Op: policy.InList, Values: ids(c.Lists)}
	case c.Categories != nil:
		return policy.Cond{Op: policy.Is, Values: c.Categories}
	case c.Apps != nil:
		return policy.Cond{Op: policy.App, Values: c.Apps}
	case c.Traits != nil:
		return policy.Cond{Op: policy.HasTrait, Values: c.Traits}
	case c.Methods != nil:
		return policy.Cond{Op: policy.Method, Values: c.Methods}
	case c.Files != nil:
		return policy.Cond{Op: policy.File, Values: c.Files}
	case c.Search != nil:
		return policy.Cond{Op: policy.Search, Values: c.Search}
	case c.Score != nil:
		return policy.Cond{Op: policy.Points, Values: []string{c.Score.Scorecard.ID.String()}, AtLeast: c.Score.AtLeast}
	}
	return policy.Cond{}
}

func ids(refs []Ref) []string {
	var all []string
	for _, ref := range refs {
		all = append(all, ref.ID.String())
	}
	return all
}

// ExceptionBody allows or blocks some URLs for some people, for some time.
type ExceptionBody struct {
	Entries     []pattern.Entry `json:"entries" minItems:"1" maxItems:"1000" doc:"In the notation; no carve-outs"`
	Then        policy.Verdict  `json:"then" enum:"allow,block"`
	For         WhomBody        `json:"for"`
	Reason      string          `json:"reason" minLength:"1" maxLength:"2000"`
	RequestedBy string          `json:"requestedBy,omitempty" maxLength:"200"`
	From        *time.Time      `json:"from,omitempty" doc:"Left out: from now on"`
	Until       *time.Time      `json:"until,omitempty" doc:"The moment itself is outside. Left out: without end"`
	Off         bool            `json:"off,omitempty"`

	kept []pattern.Entry // that the exception has already, and may go on having, also where they cannot be read
}

// Keeping permits the entries that an exception already has, including those that cannot be read, so that it can still be ended and given
// another reason.
func (b *ExceptionBody) Keeping(entries []pattern.Entry) { b.kept = entries }

// WhomBody says for whom an exception is.
type WhomBody struct {
	Everybody bool     `json:"everybody,omitempty"`
	Persons   []Ref    `json:"persons,omitempty"`
	Groups    []Ref    `json:"groups,omitempty"`
	Networks  []Ref    `json:"networks,omitempty"`
	Addresses []string `json:"addresses,omitempty" doc:"Addresses and ranges"`
}

// Check implements [Body].
func (b *ExceptionBody) Check() (err error) {
	if b.Reason, err = CheckReason(b.Reason); err != nil {
		return err
	}
	if len(b.Entries) == 0 {
		return &FieldError{"entries", "an exception without entries covers nothing: name at least one, as heron.example/wards"}
	}
	for i, e := range b.Entries {
		at := fmt.Sprintf("entries[%d]", i)
		switch err := e.Err(); {
		case err != nil && !slices.Contains(b.kept, e):
			return &FieldError{at, err.Error()}
		case e.Kind() == pattern.Note:
			return &FieldError{at, "a line that is a note alone covers nothing"}
		case e.CarveOut:
			return &FieldError{at, "an exception has no carve-outs: write what it covers more narrowly, or make another that says the opposite"}
		}
	}
	if b.Then != policy.Allow && b.Then != policy.Block {
		return &FieldError{"then", "an exception allows or blocks"}
	}
	w := &b.For
	w.Persons, w.Groups, w.Networks = unique(w.Persons), unique(w.Groups), unique(w.Networks)
	if w.Addresses, err = checkRanges("for.addresses", w.Addresses); err != nil {
		return err
	}
	if !w.Everybody && len(w.Persons)+len(w.Groups)+len(w.Networks)+len(w.Addresses) == 0 {
		return &FieldError{"for", "say for whom it is: everybody, persons, groups, networks or addresses"}
	}
	for _, moment := range []*time.Time{b.From, b.Until} {
		if moment != nil {
			*moment = moment.UTC().Truncate(time.Second)
		}
	}
	if b.From != nil && b.Until != nil && !b.From.Before(*b.Until) {
		return &FieldError{"until", "it ends before it begins"}
	}
	return nil
}

// Refs implements [Body].
func (b *ExceptionBody) Refs(visit func(string, Kind, *Ref)) {
	visitAll("for.persons", KindPerson, b.For.Persons, visit)
	visitAll("for.groups", KindGroup, b.For.Groups, visit)
	visitAll("for.networks", KindNetwork, b.For.Networks, visit)
}

// Exception returns the core's form of an exception. What cannot be read is recorded in asides.
func (b *ExceptionBody) Exception(meta Meta, asides *Asides) policy.Exception {
	e := policy.Exception{ID: meta.ID.String(), Name: meta.Name, Then: b.Then, Reason: b.Reason, Off: b.Off, For: b.For.Whom()}
	e.Entries = asides.readable(KindException, meta, b.Entries)
	asides.Ranges(KindException, meta, b.For.Addresses)
	if b.From != nil {
		e.From = *b.From
	}
	if b.Until != nil {
		e.Until = *b.Until
	}
	return e
}

// Whom returns the core's form of it.
func (w WhomBody) Whom() policy.Whom {
	return policy.Whom{Everybody: w.Everybody, Persons: ids(w.Persons), Groups: ids(w.Groups), Networks: ids(w.Networks), Ranges: Prefixes(w.Addresses)}
}

// AppBody is a named set of hosts with what is done there.
type AppBody struct {
	Key         string          `json:"key,omitempty" doc:"What rules call it; made from the name, and stays"`
	Description string          `json:"description,omitempty" maxLength:"2000"`
	Hosts       []pattern.Entry `json:"hosts" minItems:"1" maxItems:"1000" doc:"Entries in the notation"`
	Activities  []ActivityBody  `json:"activities" maxItems:"50"`
}

// ActivityBody is something that an app is used for.
type ActivityBody struct {
	Key     string   `json:"key" doc:"Rules call it app/key"`
	Name    string   `json:"name" minLength:"1" maxLength:"80"`
	Methods []string `json:"methods,omitempty" doc:"Left out: any"`
	Paths   []string `json:"paths,omitempty" doc:"On the app's hosts, as /up or /files/*/add, with all below; =/up for that page alone; left out: any"`
}

// Check implements [Body].
func (b *AppBody) Check() error {
	if err := checkHosts(b.Hosts, "an app"); err != nil {
		return err
	}
	if b.Activities == nil {
		b.Activities = []ActivityBody{}
	}
	for i := range b.Activities {
		a := &b.Activities[i]
		at := fmt.Sprintf("activities[%d]", i)
		name, err := CheckName(at+".name", a.Name)
		if err != nil {
			return err
		}
		a.Name = name
		if a.Key = KeyOf(a.Key); a.Key == "" {
			a.Key = KeyOf(a.Name)
		}
		if slices.ContainsFunc(b.Activities[:i], func(other ActivityBody) bool { return other.Key == a.Key }) {
			return &FieldError{at + ".name", fmt.Sprintf("another is called %s/%s already", b.Key, a.Key)}
		}
		for j, m := range a.Methods {
			a.Methods[j] = strings.ToUpper(strings.TrimSpace(m))
		}
		for j, path := range a.Paths {
			if err := pattern.CheckPath(path); err != nil {
				return &FieldError{fmt.Sprintf("%s.paths[%d]", at, j), err.Error()}
			}
		}
	}
	return checkDescription(&b.Description)
}

// Refs implements [Body].
func (*AppBody) Refs(func(string, Kind, *Ref)) {}

// App returns the core's form of an app. What cannot be read is recorded in asides.
func (b *AppBody) App(meta Meta, asides *Asides) policy.AppDef {
	app := policy.AppDef{Key: b.Key, Name: meta.Name, Entries: asides.readable(KindApp, meta, b.Hosts)}
	for _, a := range b.Activities {
		activity := policy.Activity{Key: a.Key, Name: a.Name, Methods: a.Methods}
		for _, path := range a.Paths {
			if err := pattern.CheckPath(path); err != nil {
				asides.Add(KindApp, meta, path, err)
				continue
			}
			for _, host := range app.Entries {
				if on, err := host.Pattern.WithPath(path); err == nil && host.Kind() != pattern.Regex {
					host.Pattern = on
					activity.Entries = append(activity.Entries, host)
				}
			}
		}
		app.Activities = append(app.Activities, activity)
	}
	return app
}

// SettingsBody is how policies work together.
type SettingsBody struct {
	Combining policy.Combining `json:"combining" enum:"position,strictest,loosest" doc:"Which policy counts where a request has several"`
	Order     []Ref            `json:"order" doc:"Policies in their order; those that are not here come after, by name"`
	Way       policy.Way       `json:"way" doc:"Which gates clients meet, in order, where their network does not say: dns, proxy, dns,proxy, icap or none"`
}

// Check implements [Body].
func (b *SettingsBody) Check() error {
	b.Order = unique(b.Order)
	if !slices.Contains([]policy.Combining{policy.Position, policy.Strictest, policy.Loosest}, b.Combining) {
		return &FieldError{"combining", "there are position, strictest and loosest"}
	}
	return readWay(&b.Way)
}

// readWay brings a way into the form in which it is stored.
func readWay(way *policy.Way) error {
	read, ok := policy.ParseWay(string(*way))
	if !ok {
		return &FieldError{"way", fmt.Sprintf("%q is not a way: there are dns, proxy, dns,proxy, icap and none", *way)}
	}
	*way = read
	return nil
}

// Refs implements [Body].
func (b *SettingsBody) Refs(visit func(string, Kind, *Ref)) {
	visitAll("order", KindPolicy, b.Order, visit)
}

package query

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// World is what a query is resolved in.
type World struct {
	Now      time.Time
	Zone     *time.Location // the organisation's
	Taxonomy classify.Taxonomy
	Names    Names

	Schedule func(name string) (policy.Schedule, bool) // as it holds now; letter case is ignored
}

// Sort is a sort of thing that records name by an id.
type Sort string

// The sorts of things.
const (
	People     Sort = "person"
	Groups     Sort = "group"
	Networks   Sort = "network"
	Machines   Sort = "machine"
	Policies   Sort = "policy"
	Rules      Sort = "rule"
	Exceptions Sort = "exception"
	Lists      Sort = "list"
	Schedules  Sort = "schedule"
)

// Names knows what things are called, and were called before.
type Names interface {
	// Called returns the ids of things whose name is like a text, in which * is any run of characters. Letter case is ignored.
	Called(ctx context.Context, sort Sort, like string) ([]uuid.UUID, error)
	// Beginning returns the first names, in order, of things that are there now, which begin with a text.
	Beginning(ctx context.Context, sort Sort, with string, limit int) ([]string, error)
}

// Search is a query that can be carried out.
type Search struct {
	From, To time.Time // the records that can match; To is the present where the query does not say
	Recent   bool      // the query does not say since when, so From is a day before its end
	Filter   segment.Filter
}

// day is what a query without since looks at.
const day = 24 * time.Hour

// field is one that a query can name.
type field struct {
	what   string // it is, in a few words
	colons bool   // its values may have colons without quotation marks
	known  []string
	sort   Sort // of things that values name
	make   func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error)
}

var fields map[string]*field

var fieldNames []string

func init() { // as the makers refer to the table
	verdicts := []string{string(policy.Allow), string(policy.Watch), string(policy.Hold), string(policy.Block)}
	fields = map[string]*field{
		"verdict":   {what: "what was decided", known: verdicts, make: texts(segment.Verdict)},
		"gate":      {what: "the kind or the name of the gate", known: []string{"dns", "proxy", "icap"}, make: either(texts(segment.Gate), texts(segment.GateName))},
		"sight":     {what: "what the gate saw: the name, the tunnel or the full URL", known: []string{"name", "tunnel", "full"}, make: texts(segment.Sight)},
		"category":  {what: "one of the categories, by key or name", make: categories},
		"family":    {what: "the family of one of the categories, by key or name", make: families},
		"group":     {what: "one of the groups of who asked", sort: Groups, make: called(segment.Groups)},
		"person":    {what: "who asked", sort: People, make: called(segment.Person)},
		"machine":   {what: "the machine", sort: Machines, make: called(segment.Machine)},
		"network":   {what: "the network", sort: Networks, make: called(segment.Network)},
		"address":   {what: "the client's address, or a range", colons: true, make: addresses},
		"host":      {what: "this host alone", make: hosts},
		"site":      {what: "this host and all below it", make: sites},
		"url":       {what: "the whole URL", make: urls},
		"path":      {what: "the path, without the query", make: paths},
		"method":    {what: "the method", known: []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "CONNECT", "OPTIONS"}, make: texts(segment.Method)},
		"rung":      {what: "the rung that decided", known: rungs(), make: texts(segment.Rung)},
		"policy":    {what: "the policy that decided", sort: Policies, make: called(segment.Policy)},
		"rule":      {what: "the rule that decided", sort: Rules, make: called(segment.Rule)},
		"exception": {what: "the exception or grant that decided", sort: Exceptions, make: called(segment.Exception)},
		"list":      {what: "the list that decided", sort: Lists, make: called(segment.List)},
		"entry":     {what: "the entry that decided, in the notation", make: texts(segment.Entry)},
		"note":      {what: "one of the note rules that were met", sort: Rules, make: called(segment.Notes)},
		"trait":     {what: "one of the traits", known: traits(), make: several(segment.Traits, segment.Several)},
		"proviso":   {what: "one of the provisos", known: []string{"safe search", "no uploads", "size cap", "quota"}, make: several(segment.Provisos, provisos)},
		"words":     {what: "the search words, or one of them", make: several(segment.Words, searched)},
		"status":    {what: "the status of the answer", make: numbers(segment.Status)},
		"type":      {what: "the media type of the answer", make: texts(segment.Media)},
		"size":      {what: "the bytes of the answer", make: amounts(segment.Size, bytesOf)},
		"duration":  {what: "how long it took", make: amounts(segment.Took, spanOf)},
		"agent":     {what: "the client's program", make: texts(segment.Agent)},
		"referrer":  {what: "the host of the page before", make: texts(segment.Referrer)},
		"revision":  {what: "the revision that decided", make: numbers(segment.Revision)},
		"outcome":   {what: "what became of it", known: outcomes(), make: texts(segment.Outcome)},
		"id":        {what: "the record's id", make: recordID},
		"covers":    {what: "URLs that an entry covers in full", make: covered},
		"since":     {what: "from a moment on", colons: true, make: since},
		"until":     {what: "before a moment", colons: true, make: until},
		"in":        {what: "in a schedule's times", sort: Schedules, make: during(true)},
		"outside":   {what: "outside a schedule's times", sort: Schedules, make: during(false)},
		"decided":   {what: "no: no rule decided, but an otherwise or the fallback", known: []string{"yes", "no"}, make: decided},
	}
	fieldNames = slices.Sorted(maps.Keys(fields))
}

func rungs() (all []string) {
	for _, r := range policy.Rungs {
		all = append(all, string(r))
	}
	return all
}

func traits() (all []string) {
	for _, t := range policy.Traits {
		all = append(all, string(t))
	}
	return all
}

func outcomes() []string {
	return []string{string(journal.Answered), string(journal.Cut), string(journal.Failed), string(journal.Open)}
}

// compiler makes a search of a query.
type compiler struct {
	ctx   context.Context
	world World
	text  string

	begin, to time.Time // of what is searched

	from, until time.Time // that all records must lie between; zero for no bound
	hasSince    bool
}

// Compile reads a query and resolves it. A mistake is an [*Error]; other errors come from the names.
func Compile(ctx context.Context, text string, w World) (s Search, err error) {
	n, err := Parse(text)
	if err != nil {
		return s, err
	}
	c := &compiler{ctx: ctx, world: w, text: text}
	c.spans(n, true)
	s.From, s.To = c.from, w.Now.Add(time.Hour) // a gate's clock may be ahead
	if !c.until.IsZero() {
		s.To = c.until
	}
	if !c.hasSince {
		s.Recent = true
		s.From = w.Now.Add(-day)
		if !c.until.IsZero() && c.until.Before(w.Now) {
			s.From = c.until.Add(-day)
		}
	}
	c.begin, c.to = s.From, s.To
	if s.Filter, err = c.node(n); err != nil {
		return s, err
	}
	s.Filter = segment.And{segment.Between{Amount: segment.At, Spans: []segment.Span{{From: ceilMillis(s.From), To: ceilMillis(s.To)}}}, s.Filter}
	return s, nil
}

// Live reads a query for records that are still to come. What it says of times holds as it is now.
func Live(ctx context.Context, text string, w World) (segment.Filter, error) {
	n, err := Parse(text)
	if err != nil {
		return nil, err
	}
	c := &compiler{ctx: ctx, world: w, text: text, begin: w.Now.Add(-day), to: w.Now.Add(30 * day)}
	return c.node(n)
}

// ceilMillis returns a moment in milliseconds since 1970, rounded up: records have whole milliseconds.
func ceilMillis(at time.Time) int64 {
	if at.IsZero() {
		return 0
	}
	return at.Add(time.Millisecond - 1).UnixMilli()
}

// spans finds the bounds that all records must lie between, and whether the query says since when at all.
func (c *compiler) spans(n Node, certain bool) {
	switch n := n.(type) {
	case All:
		for _, one := range n {
			c.spans(one, certain)
		}
	case Any:
		for _, one := range n {
			c.spans(one, false)
		}
	case No:
		c.spans(n.Of, false)
	case *Term:
		if n.Field != "since" && n.Field != "until" {
			return
		}
		c.hasSince = c.hasSince || n.Field == "since"
		if !certain || len(n.Values) != 1 {
			return
		}
		at, err := c.moment(n.Values[0])
		switch {
		case err != nil: // said when it is compiled
		case n.Field == "since" && at.After(c.from):
			c.from = at
		case n.Field == "until" && (c.until.IsZero() || at.Before(c.until)):
			c.until = at
		}
	}
}

func (c *compiler) node(n Node) (segment.Filter, error) {
	switch n := n.(type) {
	case All:
		all := segment.And{}
		for _, one := range n {
			f, err := c.node(one)
			if err != nil {
				return nil, err
			}
			all = append(all, f)
		}
		slices.SortStableFunc(all, func(a, b segment.Filter) int { return effort(a) - effort(b) })
		return all, nil
	case Any:
		any := segment.Or{}
		for _, one := range n {
			f, err := c.node(one)
			if err != nil {
				return nil, err
			}
			any = append(any, f)
		}
		return any, nil
	case No:
		f, err := c.node(n.Of)
		return segment.Not{Filter: f}, err
	}
	t := n.(*Term)
	if t.Field == "" {
		return c.bare(t.Values[0].Text)
	}
	any, f := segment.Or{}, fields[t.Field]
	for _, v := range t.Values {
		one, err := f.make(c, f, t, v)
		if err != nil {
			return nil, err
		}
		any = append(any, one)
	}
	if len(any) == 1 {
		return any[0], nil
	}
	return any, nil
}

// effort orders filters by how much they read.
func effort(f segment.Filter) int {
	switch f := f.(type) {
	case segment.Has, segment.Between:
		return 0
	case segment.Not:
		return effort(f.Filter)
	case segment.And:
		return effortOf(f)
	case segment.Or:
		return effortOf(f)
	case segment.Text:
		return 2
	case segment.Page:
		if f.Origin != nil {
			return 1
		}
		return 3
	}
	return 2
}

func effortOf(all []segment.Filter) (most int) {
	for _, one := range all {
		most = max(most, effort(one))
	}
	return most
}

// bare looks for a text in URLs, and in the names of people and machines.
func (c *compiler) bare(text string) (segment.Filter, error) {
	any := segment.Or{}
	if low := strings.ToLower(text); strings.Contains(low, "*") {
		is := like("*" + low + "*")
		any = append(any, segment.Page{Match: func(url string) bool { return is(strings.ToLower(url)) }})
	} else {
		any = append(any, segment.Text(low))
	}
	for _, of := range []struct {
		column segment.Column
		sort   Sort
	}{{segment.Person, People}, {segment.Machine, Machines}} {
		ids, err := c.world.Names.Called(c.ctx, of.sort, "*"+text+"*")
		if err != nil {
			return nil, err
		}
		if len(ids) > 0 {
			any = append(any, oneOf(of.column, ids))
		}
	}
	if len(any) == 1 {
		return any[0], nil
	}
	return any, nil
}

// mistake makes an error about a value.
func (c *compiler) mistake(v Value, msg, instead string) error {
	fix := ""
	if instead != "" {
		fix = c.text[:v.from] + instead + c.text[v.to:]
	}
	return failAt(c.text, v.from, msg, fix)
}

// plain refuses comparisons.
func (c *compiler) plain(t *Term, v Value) error {
	if v.Op == Is {
		return nil
	}
	return c.mistake(v, fmt.Sprintf("%s: is not compared; a text with < > or .. is written in quotation marks", t.Field), quote(c.text[v.from:v.to]))
}

type maker = func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error)

// texts makes filters for a column of texts.
func texts(column segment.Column) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		if err := c.plain(t, v); err != nil {
			return nil, err
		}
		if err := c.known(f, t, v); err != nil {
			return nil, err
		}
		is := likeFold(v.Text)
		return segment.Has{Column: column, Match: is}, nil
	}
}

// known refuses values that are none of those that there are.
func (c *compiler) known(f *field, t *Term, v Value) error {
	if f.known == nil || strings.Contains(v.Text, "*") || v.Text == "" || t.Field == "gate" || t.Field == "method" ||
		slices.ContainsFunc(f.known, func(k string) bool { return strings.EqualFold(k, v.Text) }) {
		return nil
	}
	near := nearest(v.Text, f.known)
	if near != "" {
		near = Value{Text: near}.String()
	}
	return c.mistake(v, fmt.Sprintf("%s: is one of %s", t.Field, strings.Join(f.known, ", ")), near)
}

func either(makers ...maker) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		any := segment.Or{}
		for _, make := range makers {
			one, err := make(c, f, t, v)
			if err != nil {
				return nil, err
			}
			any = append(any, one)
		}
		return any, nil
	}
}

// several makes filters for a column of sets of words; a value is compared with each of them.
func several(column segment.Column, split func(string) []string) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		if err := c.plain(t, v); err != nil {
			return nil, err
		}
		if err := c.known(f, t, v); err != nil {
			return nil, err
		}
		is := likeFold(v.Text)
		return segment.Has{Column: column, Match: func(value string) bool {
			if value == "" {
				return v.Text == ""
			}
			return slices.ContainsFunc(split(value), is)
		}}, nil
	}
}

// provisos returns what the words of provisos say, each also as what sort it is.
func provisos(words string) (all []string) {
	for _, one := range strings.Split(strings.ReplaceAll(words, " and ", ", "), ", ") {
		all = append(all, one)
		switch {
		case strings.HasPrefix(one, "at most ") && strings.HasSuffix(one, " a day"):
			all = append(all, "quota")
		case strings.HasPrefix(one, "at most "):
			all = append(all, "size cap")
		}
	}
	return all
}

// searched returns search words: together, and each.
func searched(words string) []string {
	return append(strings.Fields(words), words)
}

// called makes filters for a column of ids, or sets of them, of things that a value names.
func called(column segment.Column) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		if err := c.plain(t, v); err != nil {
			return nil, err
		}
		if v.Text == "" {
			return segment.Has{Column: column, Match: func(value string) bool { return value == "" }}, nil
		}
		if id, err := uuid.Parse(v.Text); err == nil {
			return oneOf(column, []uuid.UUID{id}), nil
		}
		ids, err := c.world.Names.Called(c.ctx, f.sort, v.Text)
		if err != nil {
			return nil, err
		}
		if len(ids) == 0 && !strings.Contains(v.Text, "*") {
			return nil, c.unknown(f, v)
		}
		return oneOf(column, ids), nil
	}
}

// unknown says that nothing has a name, and which one was probably meant.
func (c *compiler) unknown(f *field, v Value) error {
	letters := []rune(v.Text)
	msg, fix := fmt.Sprintf("there is no %s %q", f.sort, v.Text), ""
	const few = 200
	for _, with := range []string{string(letters[:min(2, len(letters))]), string(letters[:min(1, len(letters))]), ""} {
		names, err := c.world.Names.Beginning(c.ctx, f.sort, with, few)
		if err != nil {
			return err
		}
		if near := nearest(v.Text, names); near != "" {
			msg, fix = msg+fmt.Sprintf("; perhaps %s is meant", near), Value{Text: near}.String()
			break
		}
	}
	return c.mistake(v, msg, fix)
}

func oneOf(column segment.Column, ids []uuid.UUID) segment.Filter {
	if column != segment.Groups && column != segment.Notes {
		wanted := make(map[string]bool, len(ids))
		for _, id := range ids {
			wanted[string(id[:])] = true
		}
		return segment.Has{Column: column, Match: func(value string) bool { return wanted[value] }}
	}
	wanted := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	return segment.Has{Column: column, Match: func(value string) bool {
		return slices.ContainsFunc(segment.UUIDs(value), func(id uuid.UUID) bool { return wanted[id] })
	}}
}

func categories(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	return c.classes(t, v, "category", func(is func(string) bool) (keys, names []string) {
		for _, one := range c.world.Taxonomy.Categories {
			names = append(names, one.Key, one.Name)
			if is(one.Key) || is(one.Name) {
				keys = append(keys, one.Key)
			}
		}
		return keys, names
	})
}

func families(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	return c.classes(t, v, "family", func(is func(string) bool) (keys, names []string) {
		for _, f := range c.world.Taxonomy.Families {
			names = append(names, f.Key, f.Name)
			if !is(f.Key) && !is(f.Name) {
				continue
			}
			for _, one := range c.world.Taxonomy.Categories {
				if one.Family == f.Key {
					keys = append(keys, one.Key)
				}
			}
			keys = append(keys, "") // the family is there, though no category is in it
		}
		return keys, names
	})
}

// classes makes a filter for categories that find returns by a value; names are what could have been meant.
func (c *compiler) classes(t *Term, v Value, what string, find func(is func(string) bool) (keys, names []string)) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	if v.Text == "" {
		return segment.Has{Column: segment.Categories, Match: func(value string) bool { return value == "" }}, nil
	}
	is := likeFold(v.Text)
	keys, names := find(is)
	if len(keys) == 0 && !strings.Contains(v.Text, "*") {
		if near := nearest(v.Text, names); near != "" {
			return nil, c.mistake(v, fmt.Sprintf("there is no %s %q; perhaps %s is meant", what, v.Text, near), Value{Text: near}.String())
		}
		return nil, c.mistake(v, fmt.Sprintf("there is no %s %q", what, v.Text), "")
	}
	wanted := map[string]bool{}
	for _, key := range keys {
		wanted[key] = true
	}
	orKey := what == "category" // a category that is gone is known by its key alone
	return segment.Has{Column: segment.Categories, Match: func(value string) bool {
		return slices.ContainsFunc(segment.Several(value), func(key string) bool { return wanted[key] || orKey && is(key) })
	}}, nil
}

func addresses(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	held := func(match func(netip.Addr) bool) (segment.Filter, error) {
		return segment.Has{Column: segment.Address, Match: func(value string) bool {
			at, ok := netip.AddrFromSlice([]byte(value))
			return ok && match(at.Unmap())
		}}, nil
	}
	wrong := c.mistake(v, fmt.Sprintf("%q is no address and no range, as 10.40.9.7, 10.40.0.0/16 or 10.40.9.1..10.40.9.20", v.Text), "")
	switch {
	case v.Op == Range:
		low, err := netip.ParseAddr(v.Text)
		high, highErr := netip.ParseAddr(v.To)
		if err != nil && v.Text != "" || highErr != nil && v.To != "" {
			return nil, wrong
		}
		return held(func(at netip.Addr) bool {
			return (v.Text == "" || at.BitLen() == low.BitLen() && at.Compare(low) >= 0) && (v.To == "" || at.BitLen() == high.BitLen() && at.Compare(high) <= 0)
		})
	case v.Op != Is:
		return nil, c.plain(t, v)
	case v.Text == "":
		return segment.Has{Column: segment.Address, Match: func(value string) bool { return value == "" }}, nil
	case strings.Contains(v.Text, "*"):
		is := likeFold(v.Text)
		return held(func(at netip.Addr) bool { return is(at.String()) })
	}
	if in, err := netip.ParsePrefix(v.Text); err == nil {
		return held(in.Masked().Contains)
	}
	one, err := netip.ParseAddr(v.Text)
	if err != nil {
		return nil, wrong
	}
	return held(func(at netip.Addr) bool { return at == one.Unmap() })
}

// hostOf returns the canonical form of a host in a query, or the text itself, in lower case.
func hostOf(text string) string {
	if u, err := weburl.Parse("https://" + text + "/"); err == nil && !strings.Contains(text, "*") && u.Path() == "/" {
		return u.Host()
	}
	return strings.ToLower(text)
}

func hosts(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	is := like(hostOf(v.Text))
	return segment.Has{Column: segment.Origin, Match: func(origin string) bool { return is(segment.Host(origin)) }}, c.plain(t, v)
}

func sites(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	name := hostOf(v.Text)
	is := like(name)
	if !strings.Contains(name, "*") {
		below := "." + name
		return segment.Has{Column: segment.Origin, Match: func(origin string) bool {
			host := segment.Host(origin)
			return host == name || strings.HasSuffix(host, below)
		}}, c.plain(t, v)
	}
	return segment.Has{Column: segment.Origin, Match: func(origin string) bool {
		for host, more := segment.Host(origin), true; more; _, host, more = strings.Cut(host, ".") {
			if is(host) {
				return true
			}
		}
		return false
	}}, c.plain(t, v)
}

func urls(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	is := likeFold(v.Text)
	if strings.Contains(v.Text, "*") {
		return segment.Page{Match: is}, nil
	}
	canonical := v.Text
	if u, err := weburl.Parse(v.Text); err == nil {
		canonical = u.String()
	}
	origin, _ := segment.Split(canonical)
	said, _ := segment.Split(v.Text)
	return segment.Page{
		Origin: func(o string) bool { return strings.EqualFold(o, origin) || strings.EqualFold(o, said) },
		Match:  func(url string) bool { return is(url) || strings.EqualFold(url, canonical) },
	}, nil
}

func paths(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	is := likeFold(v.Text)
	return segment.Has{Column: segment.Rest, Match: func(rest string) bool {
		path, _, _ := strings.Cut(rest, "?")
		return is(path)
	}}, c.plain(t, v)
}

// numbers makes filters for a column of numbers.
func numbers(column segment.Column) maker {
	return func(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
		if v.Op == Is && (v.Text == "" || strings.Contains(v.Text, "*")) {
			is := likeFold(v.Text)
			return segment.Has{Column: column, Match: is}, nil
		}
		low, high, err := c.bounds(t, v, func(text string) (int64, bool) {
			n, err := strconv.ParseInt(text, 10, 64)
			return n, err == nil && n >= 0
		}, "a number")
		return segment.Has{Column: column, Match: func(value string) bool {
			n := segment.Number(value)
			return value != "" && low <= n && n < high
		}}, err
	}
}

// amounts makes filters for amounts with a unit.
func amounts(amount segment.Amount, read func(string) (int64, bool)) maker {
	return func(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
		example := "an amount, as 10MB"
		if amount == segment.Took {
			example = "a span, as 1s or 250ms"
		}
		low, high, err := c.bounds(t, v, read, example)
		return segment.Between{Amount: amount, Spans: []segment.Span{{From: low, To: high}}}, err
	}
}

// unbounded is a bound that no number exceeds.
const unbounded = 1<<63 - 1

// bounds returns the numbers that a value means: from low until before high.
func (c *compiler) bounds(t *Term, v Value, read func(string) (int64, bool), what string) (low, high int64, err error) {
	one := func(text string) int64 {
		n, ok := read(strings.TrimSpace(text))
		if !ok && err == nil {
			err = c.mistake(v, fmt.Sprintf("%s: %q is not %s", t.Field, text, what), "")
		}
		return n
	}
	low, high = 0, unbounded
	switch v.Op {
	case Is:
		low = one(v.Text)
		high = low + 1
	case Range:
		if v.Text != "" {
			low = one(v.Text)
		}
		if v.To != "" {
			high = one(v.To) + 1
		}
	case More:
		low = one(v.Text) + 1
	case AtLeast:
		low = one(v.Text)
	case Less:
		high = one(v.Text)
	case AtMost:
		high = one(v.Text) + 1
	}
	return low, high, err
}

// withUnit reads a number with a unit, as so many of the smallest unit.
func withUnit(text string, units map[string]float64) (int64, bool) {
	end := strings.LastIndexFunc(text, func(r rune) bool { return unicode.IsDigit(r) || r == '.' }) + 1
	n, err := strconv.ParseFloat(text[:end], 64)
	unit, known := units[strings.ToLower(strings.TrimSpace(text[end:]))]
	if err != nil || !known || n < 0 || n*unit > 1e18 {
		return 0, false
	}
	return int64(n * unit), true
}

func bytesOf(text string) (int64, bool) {
	return withUnit(text, map[string]float64{"": 1, "b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40})
}

func spanOf(text string) (int64, bool) {
	return withUnit(text, map[string]float64{"ms": 1, "s": 1e3, "m": 60e3, "min": 60e3, "h": 3600e3, "d": 86400e3})
}

func recordID(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	id, err := uuid.Parse(v.Text)
	if err != nil || v.Op != Is {
		return nil, c.mistake(v, fmt.Sprintf("%q is not the id of a record", v.Text), "")
	}
	return segment.ID(id), nil
}

// Covering returns a filter for URLs that an entry covers in full.
func Covering(entry pattern.Pattern) segment.Filter {
	b := match.NewBuilder(1)
	b.Add(b.List("entry", "entry"), 1, pattern.Entry{Pattern: entry})
	index := b.Build()
	page := segment.Page{Match: func(url string) bool {
		u, err := weburl.Parse(url)
		return err == nil && index.Covered(u, pattern.Date{})
	}}
	if host, _ := match.HostOf(entry); host != "" {
		below := "." + host
		page.Origin = func(origin string) bool {
			h := segment.Host(origin)
			return h == host || strings.HasSuffix(h, below)
		}
		return page
	}
	var known sync.Map // whether the entry may cover anything at an origin
	page.Origin = func(origin string) bool {
		if may, ok := known.Load(origin); ok {
			return may.(bool)
		}
		u, err := weburl.Parse(origin + "/")
		may := err == nil && len(index.Memberships(nil, u, pattern.Date{}, weburl.Name)) > 0
		known.Store(origin, may)
		return may
	}
	return page
}

func covered(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	entry, err := pattern.Parse(v.Text)
	if err != nil {
		return nil, c.mistake(v, "the entry cannot be read: "+err.Error(), "")
	}
	return Covering(entry.Pattern), nil
}

func since(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	at, err := c.moment(v)
	return segment.Between{Amount: segment.At, Spans: []segment.Span{{From: ceilMillis(at), To: unbounded}}}, err
}

func until(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	at, err := c.moment(v)
	return segment.Between{Amount: segment.At, Spans: []segment.Span{{From: -unbounded, To: ceilMillis(at)}}}, err
}

// moment reads the moment of since and until.
func (c *compiler) moment(v Value) (time.Time, error) {
	if at, ok := Moment(v.Text, c.world.Now, c.world.Zone); ok && v.Op == Is {
		return at, nil
	}
	return time.Time{}, c.mistake(v, fmt.Sprintf("%q is not a moment: write 2h, 3d, 14:00, yesterday, mon, 2026-11-30, \"2026-11-30 14:00\", or a time as RFC 3339 has it", v.Text), "")
}

// Moment reads a moment of the past as people write it: an age, as 2h or 3d; 14:00, the last time that the clock showed it; yesterday or mon, when that day began;
// a date, with or without a time; RFC 3339.
func Moment(text string, now time.Time, zone *time.Location) (time.Time, bool) {
	text = strings.ToLower(strings.TrimSpace(text))
	if at, err := time.Parse(time.RFC3339, strings.ToUpper(text)); err == nil {
		return at, true
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02t15:04", "2006-01-02 15:04:05", "2006-01-02t15:04:05"} {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return at, true
		}
	}
	now = now.In(zone)
	clock := func(text string, day time.Time) (time.Time, bool) {
		for _, layout := range []string{"15:04", "15:04:05"} {
			if at, err := time.Parse(layout, text); err == nil {
				return time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), at.Second(), 0, zone), true
			}
		}
		return day, false
	}
	if at, ok := clock(text, now); ok {
		if at.After(now) {
			at, _ = clock(text, now.AddDate(0, 0, -1))
		}
		return at, true
	}
	name, hour, timed := strings.Cut(text, " ")
	back := -1
	switch {
	case name == "now" && !timed:
		return now, true
	case name == "today":
		back = 0
	case name == "yesterday":
		back = 1
	default:
		for d := time.Sunday; d <= time.Saturday; d++ {
			if len(name) >= 3 && strings.HasPrefix(strings.ToLower(d.String()), name) {
				back = (int(now.Weekday()) - int(d) + 7) % 7
			}
		}
	}
	if back >= 0 {
		day := time.Date(now.Year(), now.Month(), now.Day()-back, 0, 0, 0, 0, zone)
		if !timed {
			return day, true
		}
		at, ok := clock(strings.TrimSpace(hour), day)
		if ok && at.After(now) && back == 0 && name != "today" {
			at, ok = clock(strings.TrimSpace(hour), day.AddDate(0, 0, -7))
		}
		return at, ok
	}
	if days, ok := withUnit(text, map[string]float64{"d": 1, "w": 7}); ok && days < 1e5 {
		return now.AddDate(0, 0, -int(days)), true
	}
	if millis, ok := withUnit(text, map[string]float64{"s": 1e3, "m": 60e3, "min": 60e3, "h": 3600e3}); ok && millis < 1e14/2 {
		return now.Add(-time.Duration(millis) * time.Millisecond), true
	}
	return time.Time{}, false
}

// during makes filters for a schedule's times.
func during(inside bool) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		if err := c.plain(t, v); err != nil {
			return nil, err
		}
		sch, ok := c.world.Schedule(v.Text)
		if !ok {
			return nil, c.unknown(f, v)
		}
		zone, from := sch.Zone, c.begin
		if zone == nil {
			zone = c.world.Zone
		}
		if longest := c.to.AddDate(-mostYears, 0, 0); from.Before(longest) {
			from = longest
		}
		var spans []segment.Span
		for _, s := range sch.Schedule.Between(from, c.to, zone) {
			spans = append(spans, segment.Span{From: ceilMillis(s.From), To: ceilMillis(s.To)})
		}
		in := segment.Between{Amount: segment.At, Spans: spans}
		if inside {
			return in, nil
		}
		return segment.Not{Filter: in}, nil
	}
}

// mostYears is how far back schedules are followed; records are not kept as long.
const mostYears = 5

func decided(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	if err := c.known(f, t, v); err != nil {
		return nil, err
	}
	none := func(value string) bool { return value == "" }
	no := segment.Or{
		segment.Has{Column: segment.Rung, Match: func(value string) bool { return value == string(policy.AtFallback) }},
		segment.And{segment.Has{Column: segment.Rule, Match: none}, segment.Has{Column: segment.Exception, Match: none}, segment.Has{Column: segment.Rung, Match: func(value string) bool {
			return value == string(policy.AtPolicy) || value == string(policy.AtStint) || value == string(policy.AtBaseline)
		}}},
	}
	if strings.EqualFold(v.Text, "no") {
		return no, nil
	}
	return segment.And{segment.Not{Filter: no}, segment.Has{Column: segment.Rung, Match: func(value string) bool { return value != "" }}}, nil
}

// like returns what reports whether a text is like another one, in which * is any run of characters.
func like(wild string) func(string) bool {
	parts := strings.Split(wild, "*")
	if len(parts) == 1 {
		return func(text string) bool { return text == wild }
	}
	first, middle, last := parts[0], parts[1:len(parts)-1], parts[len(parts)-1]
	return func(text string) bool {
		if len(text) < len(first)+len(last) || !strings.HasPrefix(text, first) || !strings.HasSuffix(text, last) {
			return false
		}
		text = text[len(first) : len(text)-len(last)]
		for _, part := range middle {
			at := strings.Index(text, part)
			if at < 0 {
				return false
			}
			text = text[at+len(part):]
		}
		return true
	}
}

// likeFold is like, and ignores letter case.
func likeFold(wild string) func(string) bool {
	is := like(strings.ToLower(wild))
	return func(text string) bool { return is(strings.ToLower(text)) }
}

package query

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

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
		"proviso":   {what: "one of the provisos", known: []string{"safe search", "no uploads", "size cap", "quota"}, make: several(segment.Provisos, Provisos)},
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

// Provisos returns what the words of provisos say, each also as what sort it is.
func Provisos(words string) (all []string) {
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
		if len(ids) == 0 && !strings.Contains(v.Text, "*") && (c.world.View.Names || !SaysWho(t.Field)) { // elsewhere it would tell who there is
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

func recordID(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	id, err := uuid.Parse(v.Text)
	if err != nil || v.Op != Is {
		return nil, c.mistake(v, fmt.Sprintf("%q is not the id of a record", v.Text), "")
	}
	return segment.ID(id), nil
}

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

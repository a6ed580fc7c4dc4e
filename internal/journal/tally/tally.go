// Package tally counts records by what they have: the values of fields, with the terms that select them, and spans of time.
//
// From: an archive, and searches.
// To: counts as people read them.
package tally

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"math"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/publicsuffix"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
)

// Called knows what things that records name are called.
type Called interface {
	query.Names
	Names(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error)
	RuleNames(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error)
}

// Counter counts records. It is safe for concurrent use.
type Counter struct {
	Archive  *archive.Archive
	Editions *edition.Editions
	Called   Called
	Zone     *time.Location
	Now      func() time.Time

	mu        sync.Mutex
	numbering map[string]*segment.Numbering // guarded by mu; by the fields that are numbered, as they are first asked for
}

// Question is what is counted.
type Question struct {
	Search   query.Search
	Taxonomy classify.Taxonomy
	By       []string // of [Fields]
	Top      int      // values of each
	Order    Order
	Over     Step
	Patience time.Duration // after which what is counted by then is returned
}

// Order says which values come first.
type Order string

// The orders: all requests, bytes, and those of a verdict, by its name.
const (
	ByRequests Order = "all"
	ByBytes    Order = "bytes"
)

// Step is how long the spans of time are. The empty one counts none.
type Step string

// The steps.
const (
	Auto   Step = "auto" // what suits the search
	Minute Step = "minute"
	Hour   Step = "hour"
	Day    Step = "day"
	Week   Step = "week"
)

// Value is a value that records have, and how many.
type Value struct {
	Key   string // as records have it
	Value string // as people read it; empty where records have none
	Term  string // that selects these records
	segment.Count
}

// Facet is the values that a field has.
type Facet struct {
	Field  string
	Values []Value // in order
	Others int     // values that are not there
}

// Moment is the requests of a span of time, until the next one.
type Moment struct {
	At time.Time
	segment.Count
}

// Answer is what was counted.
type Answer struct {
	Total   segment.Count
	Facets  []Facet // in the order of the question
	Over    []Moment
	Reached time.Time // everything from then on was counted
	Broken  int       // parts of the journal that cannot be read, and are left out
}

// ErrTooShort is returned where spans are so short that there would be too many.
var ErrTooShort = errors.New("the spans are too short for the time that is searched")

// facet is a field whose values can be counted.
type facet struct {
	column segment.Column
	parts  func(value string, t classify.Taxonomy) []string // what a value of the column counts for; nil for itself
	one    func(value string) string                        // likewise, where it is one that hangs on nothing else and values are many
	named  bool                                             // parts are ids, which people read as names
}

var facets = map[string]facet{
	"verdict": {column: segment.Verdict}, "gate": {column: segment.Gate}, "sight": {column: segment.Sight}, "method": {column: segment.Method}, "rung": {column: segment.Rung}, "outcome": {column: segment.Outcome},
	"status": {column: segment.Status}, "type": {column: segment.Media}, "agent": {column: segment.Agent}, "referrer": {column: segment.Referrer}, "revision": {column: segment.Revision}, "entry": {column: segment.Entry},
	"words": {column: segment.Words},
	"host":  {column: segment.Origin, one: segment.Host},
	"site":  {column: segment.Origin, one: func(v string) string { return Site(segment.Host(v)) }},
	"proviso": {column: segment.Provisos, parts: func(v string, _ classify.Taxonomy) []string {
		return slices.DeleteFunc(query.Provisos(v), func(p string) bool { return p == "quota" || p == "size cap" }) // their sorts
	}},
	"address": {column: segment.Address, parts: func(v string, _ classify.Taxonomy) []string {
		if at, ok := netip.AddrFromSlice([]byte(v)); ok {
			return []string{at.String()}
		}
		return []string{""}
	}},
	"category": {column: segment.Categories, parts: func(v string, _ classify.Taxonomy) []string { return orNone(segment.Several(v)) }},
	"family": {column: segment.Categories, parts: func(v string, t classify.Taxonomy) []string {
		keys := map[string]bool{}
		for _, key := range segment.Several(v) {
			if at := slices.IndexFunc(t.Categories, func(c classify.Category) bool { return c.Key == key }); at >= 0 {
				keys[t.Categories[at].Family] = true
			}
		}
		return orNone(slices.Collect(maps.Keys(keys)))
	}},
	"trait":  {column: segment.Traits, parts: func(v string, _ classify.Taxonomy) []string { return orNone(segment.Several(v)) }},
	"person": {column: segment.Person, named: true}, "machine": {column: segment.Machine, named: true}, "network": {column: segment.Network, named: true}, "policy": {column: segment.Policy, named: true},
	"list": {column: segment.List, named: true}, "exception": {column: segment.Exception, named: true}, "rule": {column: segment.Rule, named: true},
	"group": {column: segment.Groups, named: true, parts: func(v string, _ classify.Taxonomy) (ids []string) {
		for _, id := range segment.UUIDs(v) {
			ids = append(ids, string(id[:]))
		}
		return orNone(ids)
	}},
	"note": {column: segment.Notes, named: true, parts: func(v string, _ classify.Taxonomy) (ids []string) {
		for _, id := range segment.UUIDs(v) {
			ids = append(ids, string(id[:]))
		}
		return orNone(ids)
	}},
}

func orNone(parts []string) []string {
	if len(parts) == 0 {
		return []string{""}
	}
	return parts
}

// Fields returns the fields that can be counted, in order.
func Fields() []string { return slices.Sorted(maps.Keys(facets)) }

// Site returns the name that somebody registered, of which a host is part: for entries of the public suffix list, the host itself.
func Site(host string) string {
	if site, err := publicsuffix.EffectiveTLDPlusOne(host); err == nil {
		return site
	}
	return host
}

// Count counts.
func (c *Counter) Count(ctx context.Context, q *Question) (a Answer, err error) {
	over, err := c.spans(ctx, &q.Search, q.Over)
	if err != nil {
		return a, err
	}
	sum, values, err := c.values(ctx, q, over)
	if err != nil {
		return a, err
	}
	a.Total, a.Reached, a.Broken = sum.Total, sum.Reached, sum.Broken
	for i, at := range over {
		a.Over = append(a.Over, Moment{at, sum.Over[i]})
	}
	for _, field := range q.By {
		one, err := c.facet(ctx, field, values[field], q)
		if err != nil {
			return a, err
		}
		a.Facets = append(a.Facets, one)
	}
	return a, nil
}

// Values returns the counts of all values of the fields that are asked for, by their keys.
func (c *Counter) Values(ctx context.Context, q *Question) (map[string]map[string]*segment.Count, segment.Count, error) {
	sum, values, err := c.values(ctx, q, nil)
	return values, sum.Total, err
}

// values counts by fields, and by spans of time. Fields that say who asked are counted by themselves where the reader may see them of some records alone.
func (c *Counter) values(ctx context.Context, q *Question, over []time.Time) (sum archive.Summary, all map[string]map[string]*segment.Count, err error) {
	all = map[string]map[string]*segment.Count{}
	who, err := q.Search.OfWho()
	for _, field := range q.By {
		if query.SaysWho(field) && err != nil {
			return sum, nil, err
		}
	}
	if q.Search.ShowsWho() {
		sum, err = c.summarize(ctx, q, q.Search, q.By, over, all)
		return sum, all, err
	}
	named := slices.DeleteFunc(slices.Clone(q.By), func(field string) bool { return !query.SaysWho(field) })
	if sum, err = c.summarize(ctx, q, q.Search, slices.DeleteFunc(slices.Clone(q.By), query.SaysWho), over, all); err == nil && len(named) > 0 {
		_, err = c.summarize(ctx, q, who, named, nil, all)
	}
	return sum, all, err
}

// summarize counts what a search finds by fields, and adds the counts of their values to into.
func (c *Counter) summarize(ctx context.Context, q *Question, search query.Search, fields []string, over []time.Time, into map[string]map[string]*segment.Count) (archive.Summary, error) {
	by := archive.By{Over: over}
	var numbered []string
	for _, field := range fields {
		switch f := facets[field]; {
		case f.one != nil:
			numbered = append(numbered, field)
			by.Numbered = append(by.Numbered, c.numbered(field))
		case !slices.Contains(by.Columns, f.column):
			by.Columns = append(by.Columns, f.column)
		}
	}
	sum, err := c.Archive.Summarize(ctx, search.From, search.To, search.Filter, by, q.Patience)
	if err != nil {
		return sum, err
	}
	for i, field := range numbered {
		into[field] = sum.Numbered[i]
	}
	for _, field := range fields {
		if into[field] == nil {
			into[field] = facets[field].counts(sum.Columns[facets[field].column], q.Taxonomy)
		}
	}
	return sum, nil
}

// numbered returns the numbering of a field.
func (c *Counter) numbered(field string) *segment.Numbering {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.numbering == nil {
		c.numbering = map[string]*segment.Numbering{}
	}
	if c.numbering[field] == nil {
		c.numbering[field] = segment.NewNumbering(facets[field].column, facets[field].one)
	}
	return c.numbering[field]
}

// counts returns counts by what people see of the values of a column.
func (f facet) counts(counts map[string]*segment.Count, t classify.Taxonomy) map[string]*segment.Count {
	if f.parts == nil {
		return counts
	}
	parts := make(map[string]*segment.Count, len(counts))
	for value, n := range counts {
		for _, part := range f.parts(value, t) {
			if parts[part] == nil {
				parts[part] = &segment.Count{}
			}
			parts[part].Add(*n)
		}
	}
	return parts
}

// rank returns the number by which an order sorts.
func (o Order) rank(n *segment.Count) int64 {
	switch o {
	case ByBytes:
		return n.Bytes
	case ByRequests, "":
		return n.All()
	}
	return n.Requests[slices.Index(segment.Verdicts[:], policy.Verdict(o))]
}

// First returns the values that come first, and how many others there are.
func First(counts map[string]*segment.Count, order Order, most int) (first []string, others int) {
	type ranked struct {
		value string
		rank  int64
	}
	before := func(a, b ranked) int { return cmp.Or(cmp.Compare(b.rank, a.rank), cmp.Compare(a.value, b.value)) }
	best := make([]ranked, 0, 2*most+1) // sorted and cut now and then: of many values, few are wanted
	least := int64(math.MinInt64)
	cut := func() {
		slices.SortFunc(best, before)
		if best = best[:min(len(best), most)]; len(best) == most && most > 0 {
			least = best[most-1].rank
		}
	}
	for value, n := range counts {
		if rank := order.rank(n); rank >= least {
			if best = append(best, ranked{value, rank}); len(best) > 2*most {
				cut()
			}
		}
	}
	cut()
	for _, r := range best {
		first = append(first, r.value)
	}
	return first, len(counts) - len(first)
}

// spans returns where the spans of time begin that a search is counted by. A search of everything begins with its first record.
func (c *Counter) spans(ctx context.Context, found *query.Search, over Step) (begins []time.Time, err error) {
	if over == "" {
		return nil, nil
	}
	from, to := found.From, min(found.To.UnixMilli(), c.Now().UnixMilli())
	first, _, n, err := c.Archive.RecordedSpan(ctx)
	if err != nil {
		return nil, err
	}
	if n > 0 && from.Before(first) {
		from = first
	}
	end := time.UnixMilli(to).In(c.Zone)
	if !from.Before(end) {
		from = end.Add(-time.Hour)
	}
	from = from.In(c.Zone)
	steps := []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour, day, 7 * day}
	const most = 75 // spans, where they are chosen
	step := steps[len(steps)-1]
	switch over {
	case Minute:
		step = time.Minute
	case Hour:
		step = time.Hour
	case Day:
		step = day
	case Week:
	default:
		if at := slices.IndexFunc(steps, func(d time.Duration) bool { return end.Sub(from) <= most*d }); at >= 0 {
			step = steps[at]
		}
	}
	const mostSpans = 5000
	if end.Sub(from) > mostSpans*step {
		return nil, ErrTooShort
	}
	at := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, c.Zone)
	if step == 7*day {
		at = at.AddDate(0, 0, -(int(at.Weekday())+6)%7)
	}
	next := func(at time.Time) time.Time {
		if step >= day {
			return at.AddDate(0, 0, int(step/day))
		}
		return at.Add(step)
	}
	for at.Before(end) {
		if n := next(at); n.After(from) {
			begins = append(begins, at)
		}
		at = next(at)
	}
	return begins, nil
}

const day = 24 * time.Hour

func (c *Counter) facet(ctx context.Context, field string, parts map[string]*segment.Count, q *Question) (Facet, error) {
	f, t := facets[field], q.Taxonomy
	shown, others := First(parts, q.Order, q.Top)
	names := map[uuid.UUID]string{}
	if f.named {
		var ids []uuid.UUID
		for _, v := range shown {
			ids = append(ids, segment.UUIDs(v)...)
		}
		var err error
		if field == "rule" || field == "note" {
			names, err = c.Called.RuleNames(ctx, ids)
		} else {
			names, err = c.Called.Names(ctx, ids)
		}
		if err != nil {
			return Facet{}, err
		}
	}
	one := Facet{Field: field, Others: others}
	for _, v := range shown {
		val := Value{Key: v, Value: v, Count: *parts[v]}
		of := v
		if f.named && v != "" {
			id := segment.UUIDs(v)[0]
			val.Value, of = cmp.Or(names[id], id.String()), id.String()
			if names[id] != "" && field != "rule" && field != "note" { // two rules may have one name
				of = names[id]
			}
		}
		if field == "category" || field == "family" {
			val.Value = classNamed(t, field, v)
		}
		val.Term = field + ":" + query.Value{Text: of, Quoted: true}.String()
		one.Values = append(one.Values, val)
	}
	return one, nil
}

// classNamed returns the name of a category or family; its key where it has none.
func classNamed(t classify.Taxonomy, field, key string) string {
	if field == "family" {
		for _, f := range t.Families {
			if f.Key == key {
				return f.Name
			}
		}
		return key
	}
	for _, c := range t.Categories {
		if c.Key == key {
			return c.Name
		}
	}
	return key
}

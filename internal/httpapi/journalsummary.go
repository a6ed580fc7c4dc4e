package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
	"widelark/internal/revision"
)

// VerdictCounts is how many requests there were.
type VerdictCounts struct {
	Allow int64 `json:"allow"`
	Watch int64 `json:"watch"`
	Hold  int64 `json:"hold"`
	Block int64 `json:"block"`
	All   int64 `json:"all"`
	Bytes int64 `json:"bytes"`
}

// JournalCount is a value that records have, and how many.
type JournalCount struct {
	Value string `json:"value" doc:"As people read it; empty where records have none"`
	Term  string `json:"term" doc:"That selects these records, for the query"`
	VerdictCounts
}

// JournalFacet is the values that a field has in what a search finds.
type JournalFacet struct {
	Field  string         `json:"field"`
	Values []JournalCount `json:"values" doc:"The most frequent first"`
	Others int            `json:"others" doc:"Values that are not shown"`
}

// JournalMoment is the requests of a span of time.
type JournalMoment struct {
	At time.Time `json:"at" doc:"When the span begins; it ends where the next begins"`
	VerdictCounts
}

type summaryInput struct {
	Query string   `query:"q" maxLength:"4000" doc:"In the search language; left out, everything of the last day"`
	By    []string `query:"by,explode" maxItems:"30" doc:"Fields whose values are counted"`
	Top   int      `query:"top" minimum:"1" maximum:"1000" default:"10"`
	Order string   `query:"order" enum:"all,block,hold,watch,allow,bytes" default:"all" doc:"Which values are shown first"`
	Over  string   `query:"over" enum:"auto,minute,hour,day,week" doc:"Count by spans of time; auto is what suits the search"`
}

type summaryOutput struct {
	Body struct {
		JournalSpan
		Total  VerdictCounts   `json:"total"`
		Facets []JournalFacet  `json:"facets"`
		Over   []JournalMoment `json:"over"`
	}
}

func countsOf(c segment.Count) VerdictCounts {
	return VerdictCounts{Allow: c.Requests[0], Watch: c.Requests[1], Hold: c.Requests[2], Block: c.Requests[3], All: c.All(), Bytes: c.Bytes}
}

// facet is a field whose values can be counted.
type facet struct {
	column segment.Column
	parts  func(value string, t classify.Taxonomy) []string // what a value of the column counts for; nil for itself
	named  bool                                             // parts are ids, which people read as names
}

var facets = map[string]facet{
	"verdict": {column: segment.Verdict}, "gate": {column: segment.Gate}, "sight": {column: segment.Sight}, "method": {column: segment.Method}, "rung": {column: segment.Rung}, "outcome": {column: segment.Outcome},
	"status": {column: segment.Status}, "type": {column: segment.Media}, "agent": {column: segment.Agent}, "referrer": {column: segment.Referrer}, "revision": {column: segment.Revision}, "entry": {column: segment.Entry},
	"words": {column: segment.Words},
	"host":  {column: segment.Origin, parts: func(v string, _ classify.Taxonomy) []string { return []string{segment.Host(v)} }},
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

func (s *server) summarizeJournal(ctx context.Context, in *summaryInput) (*summaryOutput, error) {
	found, w, err := s.search(ctx, in.Query)
	if err != nil {
		return nil, err
	}
	var columns []segment.Column
	for i, field := range in.By {
		f, ok := facets[field]
		if !ok {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("query.by[%d]", i), Msg: fmt.Sprintf("%q is not counted: there are %s", field, strings.Join(slices.Sorted(maps.Keys(facets)), ", "))})
		}
		if !slices.Contains(columns, f.column) {
			columns = append(columns, f.column)
		}
	}
	out := &summaryOutput{}
	over, err := s.spansOf(ctx, &found, in.Over)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	sum, err := s.Archive.Summarize(ctx, found.From, found.To, found.Filter, columns, over, searchPatience)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.JournalSpan, out.Body.Total = spanOf(&found, sum.Reached), countsOf(sum.Total)
	out.Body.Over, out.Body.Facets = []JournalMoment{}, []JournalFacet{}
	for i, at := range over {
		out.Body.Over = append(out.Body.Over, JournalMoment{at, countsOf(sum.Over[i])})
	}
	for _, field := range in.By {
		one, err := s.facet(ctx, field, sum.Columns[facets[field].column], w.Taxonomy, in)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out.Body.Facets = append(out.Body.Facets, one)
	}
	return out, nil
}

// spansOf returns where the spans of time begin that a search is counted by. A search of everything begins with its first record.
func (s *server) spansOf(ctx context.Context, found *query.Search, over string) (begins []time.Time, err error) {
	if over == "" {
		return nil, nil
	}
	from, to := found.From, min(found.To.UnixMilli(), s.Now().UnixMilli())
	first, _, n, err := s.Archive.RecordedSpan(ctx)
	if err != nil {
		return nil, err
	}
	if n > 0 && from.Before(first) {
		from = first
	}
	end := time.UnixMilli(to).In(s.Zone)
	if !from.Before(end) {
		from = end.Add(-time.Hour)
	}
	from = from.In(s.Zone)
	steps := []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour, day, 7 * day}
	const most = 75 // spans, where they are chosen
	step := steps[len(steps)-1]
	switch over {
	case "minute":
		step = time.Minute
	case "hour":
		step = time.Hour
	case "day":
		step = day
	case "week":
	default:
		if at := slices.IndexFunc(steps, func(d time.Duration) bool { return end.Sub(from) <= most*d }); at >= 0 {
			step = steps[at]
		}
	}
	const mostSpans = 5000
	if end.Sub(from) > mostSpans*step {
		return nil, &revision.FieldError{Field: "query.over", Msg: "the spans are too short for the time that is searched"}
	}
	at := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, s.Zone)
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

func (s *server) facet(ctx context.Context, field string, counts map[string]*segment.Count, t classify.Taxonomy, in *summaryInput) (JournalFacet, error) {
	f, parts := facets[field], counts
	if f.parts != nil {
		parts = make(map[string]*segment.Count, len(counts))
		for value, n := range counts {
			for _, part := range f.parts(value, t) {
				if parts[part] == nil {
					parts[part] = &segment.Count{}
				}
				parts[part].Add(*n)
			}
		}
	}
	rank := func(n *segment.Count) int64 {
		switch in.Order {
		case "bytes":
			return n.Bytes
		case "all":
			return n.All()
		}
		return n.Requests[slices.Index(segment.Verdicts[:], policy.Verdict(in.Order))]
	}
	values := slices.Collect(maps.Keys(parts))
	slices.SortFunc(values, func(a, b string) int { return cmp.Or(cmp.Compare(rank(parts[b]), rank(parts[a])), cmp.Compare(a, b)) })
	shown := values[:min(len(values), in.Top)]
	names := map[uuid.UUID]string{}
	if f.named {
		var ids []uuid.UUID
		for _, v := range shown {
			ids = append(ids, segment.UUIDs(v)...)
		}
		var err error
		if field == "rule" || field == "note" {
			names, err = s.Called.RuleNames(ctx, ids)
		} else {
			names, err = s.Objects.Names(ctx, ids)
		}
		if err != nil {
			return JournalFacet{}, err
		}
	}
	one := JournalFacet{Field: field, Values: []JournalCount{}, Others: len(values) - len(shown)}
	for _, v := range shown {
		c := JournalCount{Value: v, VerdictCounts: countsOf(*parts[v])}
		of := v
		if f.named && v != "" {
			id := segment.UUIDs(v)[0]
			c.Value, of = cmp.Or(names[id], id.String()), id.String()
			if names[id] != "" && field != "rule" && field != "note" { // two rules may have one name
				of = names[id]
			}
		}
		if field == "category" || field == "family" {
			c.Value = classNamed(t, field, v)
		}
		c.Term = field + ":" + query.Value{Text: of, Quoted: true}.String()
		one.Values = append(one.Values, c)
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

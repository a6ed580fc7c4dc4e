package httpapi

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
	"widelark/internal/revision"
	"widelark/internal/trial"
	"widelark/spreadsheet"
)

// Called knows what things that records name are called.
type Called interface {
	query.Names
	RuleNames(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error)
}

// How long a search may take before it says what it has by then.
const searchPatience = 2 * time.Second

// JournalSpan is what a search looked at.
type JournalSpan struct {
	From    time.Time `json:"from" doc:"Records from then on"`
	To      time.Time `json:"to" doc:"And before then"`
	Recent  bool      `json:"recent" doc:"The query does not say since when, so it is a day"`
	Reached time.Time `json:"reached" doc:"Everything from then on was looked at; the rest was not, as it takes longer: ask for the next page"`
}

type journalInput struct {
	Query  string `query:"q" maxLength:"4000" doc:"In the search language; left out, everything of the last day"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"50"`
	Before string `query:"before" maxLength:"80" doc:"The next of a page: records before it"`
}

type journalOutput struct {
	Body struct {
		JournalSpan
		Records []GateRecord `json:"records" doc:"The last one first"`
		Next    string       `json:"next,omitempty" doc:"For the next page; left out where nothing is left"`
		Looked  int          `json:"looked" doc:"Records that were looked at"`
	}
}

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

type journalRecordOutput struct{ Body GateRecord }

// Again is the same request, decided again: at the gate, and with what the gate saw of it.
type Again struct {
	Trial
	Parts   policy.Rung `json:"parts,omitempty" enum:"baseline,unlocked,exception,stint,policy,fallback" doc:"The first rung at which it comes to something else than then"`
	Parting string      `json:"parting,omitempty" doc:"Where they part, in a sentence"`
}

type whyOutput struct {
	Body struct {
		Then  *Trial `json:"then,omitempty" doc:"Made again from the revision that decided, at the moment of the record; left out where the record does not say enough"`
		Other bool   `json:"other,omitempty" doc:"It comes to another verdict than the record has: something that counted then is not known any more"`
		Lacks string `json:"lacks,omitempty" doc:"Why it cannot be made again, in a clause"`
		Now   *Again `json:"now,omitempty" doc:"By what is live, now"`
		Draft *Again `json:"draft,omitempty" doc:"By the draft, now"`
	}
}

type tailInput struct {
	Query string `query:"q" maxLength:"4000" doc:"In the search language; since and until have no effect"`
	After string `header:"Last-Event-ID" doc:"The id of the last event that was received: what has come since is sent first"`
}

type exportJournalInput struct {
	Query string `query:"q" maxLength:"4000"`
	Form  string `query:"form" enum:"csv,jsonl" default:"csv"`
}

type completeInput struct {
	Text  string `query:"text" maxLength:"4000"`
	At    int    `query:"at" minimum:"-1" doc:"Where the cursor is, in characters; left out, at the end" default:"-1"`
	Limit int    `query:"limit" minimum:"1" maximum:"50" default:"12"`
}

// Completion is what could stand at the cursor.
type Completion struct {
	Text  string `json:"text" doc:"In place of the characters from from until to"`
	About string `json:"about,omitempty"`
}

type completeOutput struct {
	Body struct {
		From    int          `json:"from"`
		To      int          `json:"to"`
		Choices []Completion `json:"choices"`
	}
}

func (s *server) registerJournal(api huma.API) {
	huma.Register(api, operation("searchJournal", http.MethodGet, "/journal", "Journal", "Recorded requests that a query selects", 422), s.searchJournal)
	huma.Register(api, operation("summarizeJournal", http.MethodGet, "/journal/summary", "Journal", "Recorded requests that a query selects, counted: by the values of fields, and over time", 422), s.summarizeJournal)
	huma.Register(api, operation("completeQuery", http.MethodGet, "/journal/completions", "Journal", "What could stand at a place of a query", 422), s.completeQuery)
	huma.Register(api, operation("getRecord", http.MethodGet, "/journal/records/{id}", "Journal", "One record", 404), s.journalRecord)
	huma.Register(api, operation("whyRecorded", http.MethodGet, "/journal/records/{id}/why", "Journal", "Why a request was decided as it was: its trace made again, and what it would get now", 404), s.whyRecorded)
	tail := operation("tailJournal", http.MethodGet, "/journal/tail", "Journal", "Recorded requests as they come, as server-sent events: the data of each is a list of records, its id the place to go on from", 422)
	tail.Metadata = anyLength
	tail.Responses = map[string]*huma.Response{"200": {Description: "The events", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(api, tail, s.tailJournal)
	export := operation("exportJournal", http.MethodGet, "/journal/export", "Journal", "Everything that a query selects, as a file", 422)
	export.Metadata = anyLength
	export.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: huma.TypeString}}, "application/jsonl": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(api, export, s.exportJournal)
}

// world returns what queries are resolved in: what is live or, before anything is, the draft.
func (s *server) world(ctx context.Context) (w query.World, err error) {
	state, err := s.Editions.On(ctx, "on", "live")
	var missing *revision.FieldError
	if errors.As(err, &missing) {
		state, err = s.Editions.On(ctx, "on", "draft")
	}
	if err != nil {
		return w, err
	}
	config := state.Snapshot.Config()
	return query.World{Now: s.Now(), Zone: s.Zone, Taxonomy: config.Taxonomy, Names: s.Called, Schedule: func(name string) (policy.Schedule, bool) {
		at := slices.IndexFunc(config.Schedules, func(sch policy.Schedule) bool { return strings.EqualFold(sch.Name, name) })
		if at < 0 {
			return policy.Schedule{}, false
		}
		return config.Schedules[at], true
	}}, nil
}

// search reads a query. A mistake is told with its column, and the query as it was probably meant.
func (s *server) search(ctx context.Context, text string) (query.Search, query.World, error) {
	w, err := s.world(ctx)
	if err != nil {
		return query.Search{}, w, s.problem(ctx, err)
	}
	found, err := query.Compile(ctx, text, w)
	var wrong *query.Error
	if errors.As(err, &wrong) {
		detail := &huma.ErrorDetail{Message: wrong.Error(), Location: "query.q", Value: mistake{wrong.Column, wrong.Fix}}
		return found, w, huma.Error422UnprocessableEntity("The query cannot be read.", detail)
	}
	if err != nil {
		return found, w, s.problem(ctx, err)
	}
	return found, w, nil
}

// mistake is where a query is wrong, for whoever wants to mark it.
type mistake struct {
	Column int    `json:"column"`
	Fix    string `json:"fix,omitempty"` // the query as it was probably meant
}

func spanOf(found *query.Search, reached time.Time) JournalSpan {
	return JournalSpan{From: found.From, To: found.To, Recent: found.Recent, Reached: reached}
}

func (s *server) searchJournal(ctx context.Context, in *journalInput) (*journalOutput, error) {
	found, _, err := s.search(ctx, in.Query)
	if err != nil {
		return nil, err
	}
	var before *archive.Mark
	if in.Before != "" {
		if before, err = readMark(in.Before); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	page, err := s.Archive.Page(ctx, found.From, found.To, found.Filter, before, in.Limit, searchPatience)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &journalOutput{}
	out.Body.JournalSpan, out.Body.Looked = spanOf(&found, page.Reached), page.Looked
	if page.Next != nil {
		out.Body.Next = writeMark(*page.Next)
	}
	out.Body.Records, err = s.recordBodies(ctx, page.Records)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) recordBodies(ctx context.Context, records []journal.Record) ([]GateRecord, error) {
	names, err := s.recordNames(ctx, records)
	if err != nil {
		return nil, err
	}
	bodies := make([]GateRecord, len(records))
	for i := range records {
		bodies[i] = recordBody(&records[i], names)
	}
	return bodies, nil
}

// A mark is written as its moment in milliseconds since 1970, and its id.
func writeMark(m archive.Mark) string {
	return strconv.FormatInt(m.At.UnixMilli(), 10) + "." + m.ID.String()
}

func readMark(text string) (*archive.Mark, error) {
	at, id, _ := strings.Cut(text, ".")
	millis, err := strconv.ParseInt(at, 10, 64)
	m := &archive.Mark{At: time.UnixMilli(millis)}
	var idErr error
	if m.ID, idErr = uuid.Parse(id); err != nil || idErr != nil {
		return nil, &revision.FieldError{Field: "query.before", Msg: fmt.Sprintf("%q is not the next of a page", text)}
	}
	return m, nil
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

func (s *server) journalRecord(ctx context.Context, in *ByID) (*journalRecordOutput, error) {
	r, ok, err := s.Archive.Record(ctx, in.ID)
	if err == nil && !ok {
		err = revision.ErrNotFound
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.recordBodies(ctx, []journal.Record{r})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &journalRecordOutput{bodies[0]}, nil
}

func (s *server) whyRecorded(ctx context.Context, in *ByID) (*whyOutput, error) {
	r, ok, err := s.Archive.Record(ctx, in.ID)
	if err == nil && !ok {
		err = revision.ErrNotFound
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &whyOutput{}
	if r.Amount == policy.GroupOnly {
		out.Body.Lacks = "its policy keeps neither the page nor who asked"
		return out, nil
	}
	again := func(on string, at time.Time) (*Trial, *policy.Explanation, error) {
		state, err := s.inForce(ctx, "on", on)
		if err != nil {
			return nil, nil, err
		}
		q := trial.Question{URLs: []string{r.URL}, Circumstances: edition.Circumstances{At: at.Format(time.RFC3339Nano), Setting: edition.Setting{Sight: r.Sight, Gate: r.Gate, Method: r.Method}}}
		for _, t := range r.Traits {
			if t == policy.TwoNames || t == policy.NotTLS {
				q.Traits = append(q.Traits, t)
			}
		}
		q.Who = &edition.Who{}
		if r.Person != uuid.Nil {
			q.Who.Person = r.Person.String()
		}
		if r.Address.IsValid() {
			q.Who.Address = r.Address.String()
		}
		answers, err := trial.Try(ctx, state, "", q)
		var gone *revision.FieldError
		if errors.As(err, &gone) && q.Who.Person != "" { // the person is not in this state
			q.Who.Person = ""
			answers, err = trial.Try(ctx, state, "", q)
		}
		if err != nil {
			return nil, nil, err
		}
		t := answer{state, naming{state.Snapshot.Config().Taxonomy}, false}.trial(&answers.Answers[0])
		return &t, &answers.Answers[0].Explanation, nil
	}
	var then *policy.Explanation
	if r.Revision == 0 {
		out.Body.Lacks = "the record does not say by which revision it was decided"
	} else if out.Body.Then, then, err = again(strconv.FormatInt(r.Revision, 10), r.At); err != nil {
		out.Body.Then, out.Body.Lacks = nil, fmt.Sprintf("revision %d is not kept any more", r.Revision)
	} else {
		out.Body.Other = out.Body.Then.Verdict != r.Verdict
	}
	now := s.Now()
	for _, one := range []struct {
		on   string
		into **Again
	}{{"live", &out.Body.Now}, {"draft", &out.Body.Draft}} {
		t, e, err := again(one.on, now)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		*one.into = &Again{Trial: *t}
		if then != nil {
			if part := trial.PartOf(then, e); part != nil && t.Verdict != out.Body.Then.Verdict {
				(*one.into).Parts = part.Rung
				(*one.into).Parting = partedSaid("then", map[string]string{"live": "now", "draft": "the draft"}[one.on], then, e, part)
			}
		}
	}
	return out, nil
}

// quietly is how often a tail says that it is still there.
const quietly = 10 * time.Second

func (s *server) tailJournal(ctx context.Context, in *tailInput) (*huma.StreamResponse, error) {
	w, err := s.world(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if _, _, err := s.search(ctx, in.Query); err != nil {
		return nil, err
	}
	filter, err := query.Live(ctx, in.Query, w)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	after := int64(archive.Newest)
	if in.After != "" {
		if after, err = strconv.ParseInt(in.After, 10, 64); err != nil || after < 0 {
			return nil, s.problem(ctx, &revision.FieldError{Field: "header.Last-Event-ID", Msg: "it is not the id of an event"})
		}
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", "text/event-stream")
		hctx.SetHeader("Cache-Control", "no-store")
		w := hctx.BodyWriter()
		flush := http.NewResponseController(w.(http.ResponseWriter))
		last, told := time.Time{}, int64(-1)
		err := s.Archive.Tail(hctx.Context(), after, filter, func(records []journal.Record, position int64) error {
			if len(records) == 0 && position == told && time.Since(last) < quietly {
				return nil
			}
			bodies, err := s.recordBodies(hctx.Context(), records)
			if err != nil {
				return err
			}
			data, err := json.Marshal(bodies)
			if err != nil {
				return err
			}
			last, told = time.Now(), position
			if _, err := fmt.Fprintf(w, "id: %d\ndata: %s\n\n", position, data); err != nil {
				return err
			}
			return flush.Flush()
		})
		if err != nil && hctx.Context().Err() == nil {
			s.Log.WarnContext(hctx.Context(), "a tail of the journal broke off; whoever reads it comes back", "error", err)
		}
	}}, nil
}

// exportColumns are the columns of an export, in its order.
var exportColumns = []struct {
	name string
	of   func(r *GateRecord) string
}{
	{"at", func(r *GateRecord) string { return r.At.Format(time.RFC3339Nano) }},
	{"verdict", func(r *GateRecord) string { return string(r.Verdict) }},
	{"url", func(r *GateRecord) string { return r.URL }},
	{"person", func(r *GateRecord) string { return r.Who }},
	{"groups", func(r *GateRecord) string { return strings.Join(r.Groups, "; ") }},
	{"machine", func(r *GateRecord) string { return r.Machine }},
	{"address", func(r *GateRecord) string { return r.Address }},
	{"network", func(r *GateRecord) string { return r.Network }},
	{"method", func(r *GateRecord) string { return r.Method }},
	{"categories", func(r *GateRecord) string { return strings.Join(r.Categories, "; ") }},
	{"source", func(r *GateRecord) string { return string(r.Source) }},
	{"rung", func(r *GateRecord) string { return string(r.Rung) }},
	{"by", func(r *GateRecord) string { return r.By }},
	{"policy", func(r *GateRecord) string { return r.Policy }},
	{"list", func(r *GateRecord) string { return r.List }},
	{"entry", func(r *GateRecord) string { return r.Entry }},
	{"provisos", func(r *GateRecord) string { return r.Provisos }},
	{"traits", func(r *GateRecord) string { return joined(r.Traits) }},
	{"words", func(r *GateRecord) string { return r.Words }},
	{"outcome", func(r *GateRecord) string { return string(r.Outcome) }},
	{"status", func(r *GateRecord) string { return numberOrNone(int64(r.Status)) }},
	{"type", func(r *GateRecord) string { return r.Media }},
	{"size", func(r *GateRecord) string { return strconv.FormatInt(r.Size, 10) }},
	{"milliseconds", func(r *GateRecord) string { return strconv.FormatInt(r.Millis, 10) }},
	{"referrer", func(r *GateRecord) string { return r.Referrer }},
	{"agent", func(r *GateRecord) string { return r.Agent }},
	{"gate", func(r *GateRecord) string { return cmp.Or(r.GateName, string(r.Gate)) }},
	{"sight", func(r *GateRecord) string { return string(r.Sight) }},
	{"revision", func(r *GateRecord) string { return numberOrNone(r.Revision) }},
	{"id", func(r *GateRecord) string {
		if r.ID == nil {
			return ""
		}
		return r.ID.String()
	}},
}

func joined[T ~string](all []T) string {
	texts := make([]string, len(all))
	for i, t := range all {
		texts[i] = string(t)
	}
	return strings.Join(texts, "; ")
}

func numberOrNone(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

func (s *server) exportJournal(ctx context.Context, in *exportJournalInput) (*huma.StreamResponse, error) {
	found, _, err := s.search(ctx, in.Query)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", map[string]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl"}[in.Form])
		hctx.SetHeader("Content-Disposition", `attachment; filename="journal.`+in.Form+`"`)
		table, lines := csv.NewWriter(hctx.BodyWriter()), json.NewEncoder(hctx.BodyWriter())
		write := func(all []journal.Record) error {
			bodies, err := s.recordBodies(hctx.Context(), all)
			if err != nil {
				return err
			}
			for i := range bodies {
				if in.Form == "jsonl" {
					err = lines.Encode(&bodies[i])
				} else {
					row := make([]string, len(exportColumns))
					for c, column := range exportColumns {
						row[c] = spreadsheet.Safe(column.of(&bodies[i]))
					}
					err = table.Write(row)
				}
				if err != nil {
					return err
				}
			}
			return nil
		}
		if in.Form == "csv" {
			names := make([]string, len(exportColumns))
			for i, c := range exportColumns {
				names[i] = c.name
			}
			_ = table.Write(names) // what fails here fails below, too
		}
		const together = 500 // records whose names are looked up with one question
		some := make([]journal.Record, 0, together)
		err := s.Archive.Each(hctx.Context(), found.From, found.To, found.Filter, func(r journal.Record) error {
			if some = append(some, r); len(some) < together {
				return nil
			}
			err := write(some)
			some = some[:0]
			return err
		})
		if err == nil {
			err = write(some)
		}
		table.Flush()
		if err != nil && hctx.Context().Err() == nil {
			s.Log.WarnContext(hctx.Context(), "an export of the journal broke off", "error", err)
			panic(http.ErrAbortHandler) // whoever reads it must see that it is not whole
		}
	}}, nil
}

func (s *server) completeQuery(ctx context.Context, in *completeInput) (*completeOutput, error) {
	w, err := s.world(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	c, err := query.Complete(ctx, in.Text, in.At, in.Limit, w)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &completeOutput{}
	out.Body.From, out.Body.To, out.Body.Choices = c.From, c.To, []Completion{}
	for _, choice := range c.Choices {
		out.Body.Choices = append(out.Body.Choices, Completion{choice.Text, choice.About})
	}
	return out, nil
}

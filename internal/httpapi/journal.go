package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/audit"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
)

// How long a search may take before it says what it has by then.
const searchPatience = 2 * time.Second

// JournalSpan is what a search looked at.
type JournalSpan struct {
	From    time.Time `json:"from" doc:"Records from then on"`
	To      time.Time `json:"to" doc:"And before then"`
	Recent  bool      `json:"recent" doc:"The query does not say since when, so it is a day"`
	Reached time.Time `json:"reached" doc:"Everything from then on was looked at; the rest was not, as it takes longer: ask for the next page"`
	Broken  int       `json:"broken,omitempty" doc:"Parts of the journal that cannot be read, and are left out"`
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

type journalRecordOutput struct{ Body GateRecord }

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

// search reads a query. A mistake is told with its column, and the query as it was probably meant.
func (s *server) search(ctx context.Context, text string) (query.Search, query.World, error) {
	return s.searchAt(ctx, "q", text)
}

// searchAt is search for a query that a field of a body, or q of a URL, has.
func (s *server) searchAt(ctx context.Context, field, text string) (query.Search, query.World, error) {
	w, err := s.Tally.World(ctx, view(ctx))
	if err != nil {
		return query.Search{}, w, s.problem(ctx, err)
	}
	found, err := query.Compile(ctx, text, w)
	var wrong *query.Error
	if errors.As(err, &wrong) {
		detail := &huma.ErrorDetail{Message: wrong.Error(), Location: map[bool]string{true: "query.q", false: "body." + field}[field == "q"], Value: mistake{wrong.Column, wrong.Fix}}
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
	if err := s.noteLooks(ctx, audit.RecordsSeen, in.Query); err != nil {
		return nil, s.problem(ctx, err)
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
	out.Body.Broken = page.Broken
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
	v := view(ctx)
	bodies := make([]GateRecord, len(records))
	for i := range records {
		shown := v.Shown(records[i])
		bodies[i] = recordBody(&shown, names)
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

// record returns a record that the caller may see, or [revision.ErrNotFound].
func (s *server) record(ctx context.Context, id uuid.UUID) (r journal.Record, err error) {
	r, ok, err := s.Archive.Record(ctx, id)
	v := view(ctx)
	if err == nil && (!ok || !v.Has(&r)) {
		err = revision.ErrNotFound
	}
	return v.Shown(r), err
}

func (s *server) journalRecord(ctx context.Context, in *ByID) (*journalRecordOutput, error) {
	r, err := s.record(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.recordBodies(ctx, []journal.Record{r})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if err := s.noteRecord(ctx, &r, &bodies[0]); err != nil {
		return nil, s.problem(ctx, err)
	}
	return &journalRecordOutput{bodies[0]}, nil
}

func (s *server) completeQuery(ctx context.Context, in *completeInput) (*completeOutput, error) {
	w, err := s.Tally.World(ctx, view(ctx))
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

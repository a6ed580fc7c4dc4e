package httpapi

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/internal/audit"
	"widelark/internal/journal/segment"
	"widelark/internal/journal/tally"
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

func (s *server) summarizeJournal(ctx context.Context, in *summaryInput) (*summaryOutput, error) {
	found, w, err := s.search(ctx, in.Query)
	if err != nil {
		return nil, err
	}
	if err := s.noteLooks(ctx, audit.RecordsSeen, in.Query); err != nil {
		return nil, s.problem(ctx, err)
	}
	for i, field := range in.By {
		if fields := tally.Fields(); !slices.Contains(fields, field) {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("query.by[%d]", i), Msg: fmt.Sprintf("%q is not counted: there are %s", field, strings.Join(fields, ", "))})
		}
	}
	answer, err := s.Tally.Count(ctx, &tally.Question{Search: found, Taxonomy: w.Taxonomy, By: in.By, Top: in.Top, Order: tally.Order(in.Order), Over: tally.Step(in.Over), Patience: searchPatience})
	if errors.Is(err, tally.ErrTooShort) {
		err = &revision.FieldError{Field: "query.over", Msg: err.Error()}
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &summaryOutput{}
	out.Body.JournalSpan, out.Body.Total = spanOf(&found, answer.Reached), countsOf(answer.Total)
	out.Body.Broken = answer.Broken
	out.Body.Over, out.Body.Facets = []JournalMoment{}, []JournalFacet{}
	for _, m := range answer.Over {
		out.Body.Over = append(out.Body.Over, JournalMoment{m.At, countsOf(m.Count)})
	}
	for _, f := range answer.Facets {
		facet := JournalFacet{Field: f.Field, Values: []JournalCount{}, Others: f.Others}
		for _, v := range f.Values {
			facet.Values = append(facet.Values, JournalCount{v.Value, v.Term, countsOf(v.Count)})
		}
		out.Body.Facets = append(out.Body.Facets, facet)
	}
	return out, nil
}

package httpapi

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/journal/query"
	"widelark/internal/report"
	"widelark/internal/revision"
	"widelark/internal/watch"
)

// KeptReport is a report that is kept, and perhaps sent.
type KeptReport struct {
	WatchMeta
	watch.ReportBody
	NextAt     *time.Time `json:"nextAt,omitempty" doc:"When it is sent next"`
	Deliveries []Delivery `json:"deliveries" doc:"The last ones, the last first"`
}

// ReportInput is a new state of a report.
type ReportInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	watch.ReportBody
}

// ReportMoment is the requests of a span of time.
type ReportMoment struct {
	At      time.Time     `json:"at" doc:"When the span begins; it ends where the next begins"`
	Query   string        `json:"query" doc:"That finds its records"`
	Now     VerdictCounts `json:"now"`
	Earlier VerdictCounts `json:"earlier" doc:"In the period before; zero where none is asked for"`
}

// ReportRow is a value, and how many requests had it.
type ReportRow struct {
	Value   string        `json:"value" doc:"Empty where records have none"`
	Query   string        `json:"query" doc:"That finds its records"`
	Now     VerdictCounts `json:"now"`
	Earlier VerdictCounts `json:"earlier" doc:"In the period before; zero where none is asked for"`
}

// ReportSection is a part of a report.
type ReportSection struct {
	Key    string         `json:"key"`
	Title  string         `json:"title"`
	Over   []ReportMoment `json:"over,omitempty" doc:"Of the section over time"`
	Rows   []ReportRow    `json:"rows"`
	Others int            `json:"others" doc:"Values that have no row"`
}

// MadeReport is what was recorded in a period.
type MadeReport struct {
	Title    string          `json:"title"`
	Period   string          `json:"period" doc:"In words"`
	From     time.Time       `json:"from"`
	To       time.Time       `json:"to"`
	Before   time.Time       `json:"before" doc:"Where the period before begins"`
	Reached  time.Time       `json:"reached" doc:"Everything from then on was counted; where it is later than from, counting took too long"`
	Query    string          `json:"query" doc:"That finds all its records"`
	Total    VerdictCounts   `json:"total"`
	Earlier  VerdictCounts   `json:"earlier"`
	Sections []ReportSection `json:"sections"`
}

// ReportQuestion is what a report is of.
type ReportQuestion struct {
	Query    string   `query:"q" maxLength:"4000" doc:"Only requests that this finds; it says nothing of the time"`
	Span     string   `query:"span" enum:"day,week,month,24h,7d,30d" default:"7d" doc:"day, week and month are the last whole ones; the others end now"`
	Sections []string `query:"section,explode" maxItems:"40" enum:"over,blocked,categories,families,sites,new,unrated,people,groups,networks,machines,words,provisos,policies,rules,lists,gates" doc:"Left out, all of them"`
	Compare  bool     `query:"compare" doc:"With the period before"`
	Top      int      `query:"top" minimum:"1" maximum:"200" default:"10"`
	Title    string   `query:"title" maxLength:"80"`
}

type makeReportFileInput struct {
	ReportQuestion
	Form string `query:"form" enum:"pdf,csv" default:"pdf"`
}

type madeReportOutput struct{ Body MadeReport }

type sendReportOutput struct {
	Body struct {
		To []string `json:"to"`
	}
}

func (s *server) registerReports(api huma.API) {
	huma.Register(api, operation("makeReport", http.MethodGet, "/report", "Reports", "What was recorded in a period, counted: in sections, and beside the period before", 422), s.makeReport)
	file := operation("makeReportFile", http.MethodGet, "/report/file", "Reports", "The same as a file: PDF or CSV", 422)
	file.Metadata = anyLength
	file.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"application/pdf": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}}, "text/csv": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(api, file, s.makeReportFile)
	registerWatched(s, api, watched[KeptReport, ReportInput]{
		kind: watch.Report, path: "/reports", tag: "Reports", one: "Report", many: "Reports", article: "a report that is kept", articles: "reports that are kept",
		take: func(ctx context.Context, in *ReportInput, before *watch.Item) (watch.Item, error) {
			if err := in.Check(); err != nil {
				return watch.Item{}, err
			}
			if in.Timetable != nil && !s.Mails {
				return watch.Item{}, &revision.FieldError{Field: "timetable", Msg: "the service cannot send mail: its administrator names a server with --mail-server"}
			}
			if _, _, err := s.searchAt(ctx, "query", in.Query); err != nil {
				return watch.Item{}, err
			}
			if slices.ContainsFunc(in.Sections, func(key string) bool { return view(ctx).Hides(report.FieldOf(key)) }) {
				return watch.Item{}, query.ErrHidden
			}
			i, err := packed(in.Name, in.ReportBody)
			if in.Timetable != nil {
				next := in.Timetable.Next(s.Now(), s.Zone)
				i.NextAt = &next
			}
			return i, err
		},
		make: func(ctx context.Context, i watch.Item) (KeptReport, error) {
			b, err := bodyOf[watch.ReportBody](i)
			if err != nil {
				return KeptReport{}, err
			}
			sent, err := s.deliveries(ctx, i.ID)
			return KeptReport{metaOf(i), b, i.NextAt, sent}, err
		},
	})
	send := operation("sendReport", http.MethodPost, "/reports/{id}/send", "Reports", "Send a report now", 404, 422)
	send.DefaultStatus = http.StatusAccepted
	huma.Register(api, send, func(ctx context.Context, in *ByID) (*sendReportOutput, error) {
		i, err := s.Watching.WatchItem(ctx, watch.Report, in.ID)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		b, err := bodyOf[watch.ReportBody](i)
		if err == nil && len(b.To) == 0 {
			err = &revision.FieldError{Msg: "the report goes to nobody: give it an address first"}
		}
		if err == nil && !s.Mails {
			err = &revision.FieldError{Msg: "the service cannot send mail: its administrator names a server with --mail-server"}
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		messages, err := s.Reports.Messages(ctx, i, &b, "now "+uuid.NewString())
		if err == nil {
			err = s.Outbox.AddMessages(ctx, messages, actor(ctx))
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &sendReportOutput{}
		out.Body.To = b.To
		return out, nil
	})
}

func (s *server) made(ctx context.Context, in *ReportQuestion) (*report.Made, error) {
	if _, _, err := s.search(ctx, in.Query); err != nil {
		return nil, err
	}
	title := in.Title
	if title == "" {
		title = "What was recorded"
	}
	made, err := s.Reports.Maker.Make(ctx, title, report.Asked{Query: in.Query, Span: report.Span(in.Span), Sections: in.Sections, Compare: in.Compare, Top: in.Top, View: view(ctx)})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return made, nil
}

func (s *server) makeReport(ctx context.Context, in *ReportQuestion) (*madeReportOutput, error) {
	m, err := s.made(ctx, in)
	if err != nil {
		return nil, err
	}
	out := &madeReportOutput{MadeReport{
		Title: m.Title, Period: m.Period(), From: m.From, To: m.To, Before: m.Before, Reached: m.Reached, Query: m.Selects, Total: countsOf(m.Total), Earlier: countsOf(m.Earlier), Sections: []ReportSection{},
	}}
	for _, part := range m.Sections {
		section := ReportSection{Key: part.Key, Title: part.Title, Rows: []ReportRow{}, Others: part.Others}
		for _, at := range part.Over {
			section.Over = append(section.Over, ReportMoment{at.At, at.Selects, countsOf(at.Now), countsOf(at.Earlier)})
		}
		for _, r := range part.Rows {
			section.Rows = append(section.Rows, ReportRow{r.Value, r.Selects, countsOf(r.Now), countsOf(r.Earlier)})
		}
		out.Body.Sections = append(out.Body.Sections, section)
	}
	return out, nil
}

func (s *server) makeReportFile(ctx context.Context, in *makeReportFileInput) (*huma.StreamResponse, error) {
	m, err := s.made(ctx, &in.ReportQuestion)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	kind := "application/pdf"
	if in.Form == "csv" {
		kind = "text/csv; charset=utf-8"
		err = m.CSV(&b)
	} else {
		err = m.PDF(&b, s.Organisation)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", kind)
		hctx.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", m.FileName()+"."+in.Form))
		_, _ = hctx.BodyWriter().Write(b.Bytes())
	}}, nil
}

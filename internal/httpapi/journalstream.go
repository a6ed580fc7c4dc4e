package httpapi

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/audit"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
	"widelark/spreadsheet"
)

type tailInput struct {
	Query string `query:"q" maxLength:"4000" doc:"In the search language; since and until have no effect"`
	After string `header:"Last-Event-ID" doc:"The id of the last event that was received: what has come since is sent first"`
}

type exportJournalInput struct {
	Query string `query:"q" maxLength:"4000"`
	Form  string `query:"form" enum:"csv,jsonl" default:"csv"`
}

// quietly is how often a tail says that it is still there.
const quietly = 10 * time.Second

func (s *server) tailJournal(ctx context.Context, in *tailInput) (*huma.StreamResponse, error) {
	w, err := s.Tally.World(ctx, view(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if _, _, err := s.search(ctx, in.Query); err != nil {
		return nil, err
	}
	if err := s.noteLooks(ctx, audit.RecordsSeen, in.Query); err != nil {
		return nil, s.problem(ctx, err)
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
	if err := s.noteLooks(ctx, audit.RecordsExported, in.Query); err != nil {
		return nil, s.problem(ctx, err)
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

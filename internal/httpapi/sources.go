package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/listfile"
	"widelark/internal/revision"
)

// Source is where a list's entries come from.
type Source struct {
	ListID       uuid.UUID           `json:"listId" format:"uuid"`
	URL          string              `json:"url"`
	EveryMinutes int                 `json:"everyMinutes" doc:"Between two pulls"`
	Format       listfile.Format     `json:"format" enum:"lines,domains,hosts,csv,jsonl,zone"`
	Column       string              `json:"column"`
	MaxBytes     int64               `json:"maxBytes"`
	MaxShrink    int                 `json:"maxShrink" doc:"Per cent of the entries that a pull may take away"`
	Paused       bool                `json:"paused"`
	NextAt       time.Time           `json:"nextAt"`
	TriedAt      *time.Time          `json:"triedAt,omitempty" doc:"The last pull"`
	PulledAt     *time.Time          `json:"pulledAt,omitempty" doc:"The last pull that went well"`
	Result       revision.PullResult `json:"result,omitempty" enum:"changed,unchanged,refused,failed" doc:"How the last pull went; left out before the first. After refused and failed the last good state stays"`
	Told         string              `json:"told" doc:"What happened, in one sentence"`
	Bytes        int64               `json:"bytes"`
	Added        int64               `json:"added"`
	Removed      int64               `json:"removed"`
	Refused      int64               `json:"refused" doc:"Lines that were no entries"`
}

func sourceBody(s revision.Source) Source {
	return Source{
		ListID: s.ListID, URL: s.URL, EveryMinutes: int(s.Every.Minutes()), Format: listfile.Format(s.Format), Column: s.EntryField, MaxBytes: s.MaxBytes,
		MaxShrink: s.MaxShrink, Paused: s.Paused, NextAt: s.NextAt, TriedAt: s.TriedAt, PulledAt: s.PulledAt, Result: s.Result, Told: s.Told,
		Bytes: s.Bytes, Added: s.Added, Removed: s.Removed, Refused: s.Refused,
	}
}

type sourceOutput struct{ Body Source }

type setSourceInput struct {
	ByID
	Body struct {
		URL          string          `json:"url" maxLength:"2000" doc:"An http or https address of a file, plain or packed with gzip or zstd"`
		EveryMinutes int             `json:"everyMinutes,omitempty" default:"1440" minimum:"5" maximum:"44640"`
		Format       listfile.Format `json:"format,omitempty" enum:"lines,domains,hosts,csv,jsonl,zone" default:"lines"`
		Column       string          `json:"column,omitempty" maxLength:"200"`
		MaxBytes     int64           `json:"maxBytes,omitempty" doc:"A larger file is refused; left out, 128 MiB"`
		MaxShrink    *int            `json:"maxShrink,omitempty" minimum:"0" maximum:"100" doc:"Per cent of the entries that a pull may take away; left out, 30"`
		Paused       bool            `json:"paused,omitempty"`
	}
}

type pullInput struct {
	ByID
	Force bool `query:"force" doc:"Let the list shrink as much as the file says, this time"`
}

type sourcesOutput struct {
	Body struct {
		Sources []Source `json:"sources"`
	}
}

func (s *server) registerSources(api huma.API) {
	huma.Register(api, operation("getSources", http.MethodGet, "/sources", "Sources", "The sources of all lists that have one"),
		func(ctx context.Context, _ *struct{}) (*sourcesOutput, error) {
			found, err := s.Sources.Sources(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &sourcesOutput{}
			out.Body.Sources = make([]Source, len(found))
			for i, source := range found {
				out.Body.Sources[i] = sourceBody(source)
			}
			return out, nil
		})
	huma.Register(api, operation("getSource", http.MethodGet, "/lists/{id}/source", "Sources", "Where a list's entries come from, and how the last pull went", 404),
		func(ctx context.Context, in *ByID) (*sourceOutput, error) {
			source, err := s.Sources.Source(ctx, in.ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &sourceOutput{sourceBody(source)}, nil
		})
	huma.Register(api, operation("setSource", http.MethodPut, "/lists/{id}/source", "Sources", "Have a list pulled from an address", 403, 404, 422), s.setSource)
	huma.Register(api, operation("removeSource", http.MethodDelete, "/lists/{id}/source", "Sources", "Stop pulling a list; its entries stay", 403, 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Sources.RemoveSource(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("pullSource", http.MethodPost, "/lists/{id}/source/pull", "Sources", "Pull a list now", 403, 404),
		func(ctx context.Context, in *pullInput) (*sourceOutput, error) {
			source, err := s.Sources.Source(ctx, in.ID)
			if err == nil && in.Force {
				err = s.Sources.MayFill(ctx, in.ID, actor(ctx))
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			pulled := source
			if in.Force {
				pulled.MaxShrink, pulled.ETag, pulled.Modified = 100, "", ""
			}
			if pulled, err = s.Puller.Pull(ctx, pulled); err != nil {
				return nil, s.problem(ctx, err)
			}
			pulled.MaxShrink = source.MaxShrink
			return &sourceOutput{sourceBody(pulled)}, nil
		})
}

func (s *server) setSource(ctx context.Context, in *setSourceInput) (*sourceOutput, error) {
	shrink := revision.DefaultShrink
	if in.Body.MaxShrink != nil {
		shrink = *in.Body.MaxShrink
	}
	source, err := revision.Source{
		ListID: in.ID, URL: in.Body.URL, Every: time.Duration(in.Body.EveryMinutes) * time.Minute, Format: string(in.Body.Format), EntryField: in.Body.Column,
		MaxBytes: in.Body.MaxBytes, MaxShrink: shrink, Paused: in.Body.Paused,
	}.Checked()
	if err == nil {
		source, err = s.Sources.SetSource(ctx, source, actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &sourceOutput{sourceBody(source)}, nil
}

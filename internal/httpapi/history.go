package httpapi

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// Change is one edit of a list.
type Change struct {
	Version int64     `json:"version" doc:"Of the list from then on"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	What    string    `json:"what" enum:"earlier,made,described,added,replaced,pulled,edited,removed,moved,tidied,taken back"`
	Detail  string    `json:"detail"`
	Added   int64     `json:"added" doc:"Entries and notes"`
	Edited  int64     `json:"edited"`
	Removed int64     `json:"removed"`
}

type historyInput struct {
	ByID
	Before string `query:"before" doc:"The cursor that the page before gave as next"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

type historyOutput struct {
	Body struct {
		Changes []Change `json:"changes" doc:"The newest first"`
		Next    string   `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type compareInput struct {
	ByID
	From  int64  `query:"from" required:"true" minimum:"1" doc:"A version of the list"`
	To    int64  `query:"to" required:"true" minimum:"1" doc:"The version to compare with"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"2000"`
}

// Difference is an entry that differs between two states of a list.
type Difference struct {
	Before string `json:"before,omitempty" doc:"The line as it was; left out where the entry came in between"`
	After  string `json:"after,omitempty" doc:"The line as it is then; left out where the entry went"`
}

type compareOutput struct {
	Body struct {
		Differences []Difference `json:"differences" doc:"In the list's order"`
		Total       int64        `json:"total" doc:"How many there are on all pages"`
		Next        string       `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type takeBackInput struct {
	ByID
	MayMatch
	Body struct {
		Version int64 `json:"version" minimum:"1" doc:"The version whose entries are to come again"`
	}
}

func (s *server) registerHistory(api huma.API) {
	huma.Register(api, operation("getHistory", http.MethodGet, "/lists/{id}/history", "History", "Who changed what in a list, and when", 404, 422),
		func(ctx context.Context, in *historyInput) (*historyOutput, error) {
			before, err := cursor(in.Before)
			if err != nil {
				return nil, err
			}
			changes, err := s.Store.History(ctx, in.ID, before, in.Limit+1)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &historyOutput{}
			if len(changes) > in.Limit {
				changes = changes[:in.Limit]
				out.Body.Next = strconv.FormatInt(changes[in.Limit-1].Version, 10)
			}
			out.Body.Changes = make([]Change, len(changes))
			for i, c := range changes {
				out.Body.Changes[i] = Change(c)
			}
			return out, nil
		})
	huma.Register(api, operation("compareList", http.MethodGet, "/lists/{id}/compare", "History", "What two states of a list differ by", 404, 422),
		func(ctx context.Context, in *compareInput) (*compareOutput, error) {
			after, err := cursor(in.After)
			if err != nil {
				return nil, err
			}
			found, total, err := s.Store.Compare(ctx, in.ID, in.From, in.To, after, in.Limit+1)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &compareOutput{}
			out.Body.Total = total
			if len(found) > in.Limit {
				found = found[:in.Limit]
				out.Body.Next = strconv.FormatInt(found[in.Limit-1].ID, 10)
			}
			out.Body.Differences = make([]Difference, len(found))
			for i, d := range found {
				out.Body.Differences[i] = Difference{lineOf(d.Before), lineOf(d.After)}
			}
			return out, nil
		})
	huma.Register(api, operation("takeBack", http.MethodPost, "/lists/{id}/take-back", "History", "Restore a past state of a list's entries", 404, 412, 422),
		func(ctx context.Context, in *takeBackInput) (*listOutput, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			l, err := s.Store.TakeBack(ctx, in.ID, in.Body.Version, version, actor(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			s.Checks.Prepare(ctx)
			return listBody(l), nil
		})
}

func lineOf(e *pattern.Entry) string {
	if e == nil {
		return ""
	}
	return e.String()
}

// Fields in one order on both sides: the handlers convert one to the other.
var _ = Change(revision.Change{})

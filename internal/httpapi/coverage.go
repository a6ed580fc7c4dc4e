package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/cover"
	"widelark/core/pattern"
	"widelark/internal/revision"
)

// Coverage is whether one entry covers all that another does.
type Coverage struct {
	Answer string `json:"answer" enum:"yes,no,not decided"`
	Shown  string `json:"shown,omitempty" doc:"At no: a URL that the other covers and the one does not"`
}

type compareEntriesInput struct {
	Body struct {
		A pattern.Entry `json:"a" minLength:"1" maxLength:"4000" doc:"An entry in the notation"`
		B pattern.Entry `json:"b" minLength:"1" maxLength:"4000"`
	}
}

type compareEntriesOutput struct {
	Body struct {
		ACoversB Coverage `json:"aCoversB"`
		BCoversA Coverage `json:"bCoversA"`
	}
}

func (s *server) registerCoverage(api huma.API) {
	huma.Register(api, operation("compareEntries", http.MethodPost, "/entries/compare", "Entries", "Whether one entry covers all that another covers", 422),
		func(ctx context.Context, in *compareEntriesInput) (*compareEntriesOutput, error) {
			var sides [2]pattern.Pattern
			for i, e := range []pattern.Entry{in.Body.A, in.Body.B} {
				err := e.Err()
				if err == nil && !e.Pattern.IsValid() {
					err = &revision.FieldError{Msg: "a note covers nothing"}
				}
				if err != nil {
					return nil, s.problem(ctx, &revision.FieldError{Field: []string{"a", "b"}[i], Msg: err.Error()})
				}
				sides[i] = e.Pattern
			}
			out := &compareEntriesOutput{}
			out.Body.ACoversB, out.Body.BCoversA = coverage(sides[0], sides[1]), coverage(sides[1], sides[0])
			return out, nil
		})
}

func coverage(a, b pattern.Pattern) Coverage {
	r := cover.Of(a, b)
	switch r.Answer {
	case cover.Yes:
		return Coverage{Answer: "yes"}
	case cover.No:
		return Coverage{"no", r.Shown.String()}
	}
	return Coverage{Answer: "not decided"}
}

package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/policy"
	"widelark/internal/check"
	"widelark/internal/revision"
)

// Expectation is a saved trial with its expected outcome.
type Expectation struct {
	revision.Meta
	revision.ExpectationBody
}

// ExpectationInput is a new state of an expectation.
type ExpectationInput struct {
	Name string `json:"name,omitempty" maxLength:"80" doc:"Left out, it is made from the URL and the verdict"`
	revision.ExpectationBody
}

func (s *server) expectationKind() objects[Expectation, ExpectationInput] {
	return objects[Expectation, ExpectationInput]{
		kind: revision.KindExpectation, path: "/expectations", one: "Expectation", many: "Expectations", article: "an expectation",
		make: func(_ objectView, o revision.Object) (e Expectation, _ revision.Body, err error) {
			e.Meta = o.Meta
			e.ExpectationBody, err = revision.Decode[revision.ExpectationBody](o)
			return e, &e.ExpectationBody, err
		},
		take: func(in *ExpectationInput) (string, revision.Body) { return in.Name, &in.ExpectationBody },
		name: func(ctx context.Context, body revision.Body) (string, error) {
			b := body.(*revision.ExpectationBody)
			url := strings.TrimPrefix(strings.TrimPrefix(b.URLs[0], "https://"), "http://")
			return s.freeName(ctx, revision.KindExpectation, fmt.Sprintf("%s: %s", strings.TrimSuffix(url, "/"), b.Verdict))
		},
	}
}

// ExpectationResult is the result of an expectation.
type ExpectationResult struct {
	Ref
	Folder  string         `json:"folder,omitempty"`
	Passed  bool           `json:"passed"`
	Says    string         `json:"says" doc:"What is expected, in a sentence"`
	At      *time.Time     `json:"at,omitempty" doc:"The moment at which it was tried"`
	Verdict policy.Verdict `json:"verdict" enum:"allow,watch,hold,block" doc:"That is expected"`
	Wrong   []WrongURL     `json:"wrong" doc:"The URLs for which it does not hold"`
	Broken  string         `json:"broken,omitempty" doc:"Why it could not be tried"`
}

// WrongURL is a URL for which an expectation does not hold.
type WrongURL struct {
	URL     string         `json:"url"`
	Got     policy.Verdict `json:"got" enum:"allow,watch,hold,block"`
	Because string         `json:"because"`
	Why     string         `json:"why" doc:"What differs from what was expected"`
}

type expectationsRunInput struct {
	On string `query:"on" pattern:"^(draft|live|[0-9]+)$" default:"draft" doc:"draft, live or the number of a revision"`
}

type expectationsRunOutput struct {
	Body struct {
		DraftVersion int64               `json:"draftVersion"`
		Results      []ExpectationResult `json:"results" doc:"By folder and name"`
		Failing      int                 `json:"failing"`
		Micros       int64               `json:"micros" doc:"How long it took"`
	}
}

func (s *server) registerExpectations(api huma.API) {
	registerObjects(s, api, s.expectationKind())
	huma.Register(api, operation("runExpectations", http.MethodGet, "/expectations/results", "Expectations", "What comes of everything that is expected", 422),
		func(ctx context.Context, in *expectationsRunInput) (*expectationsRunOutput, error) {
			report, err := s.expected(ctx, in.On)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &expectationsRunOutput{}
			out.Body.DraftVersion, out.Body.Failing, out.Body.Micros = report.DraftVersion, report.Failing(), report.Took.Microseconds()
			if out.Body.Results, err = s.expectationResults(ctx, report); err != nil {
				return nil, s.problem(ctx, err)
			}
			return out, nil
		})
}

func (s *server) expected(ctx context.Context, on string) (*check.Report, error) {
	if on == "draft" {
		return s.Checks.Report(ctx)
	}
	h, err := s.Editions.On(ctx, "on", on)
	if err != nil {
		return nil, err
	}
	// Expectations are those of the draft, tried on the earlier state.
	draft, err := s.Editions.Draft(ctx)
	if err != nil {
		return nil, err
	}
	begin := s.Now()
	report := &check.Report{DraftVersion: h.DraftVersion, Expected: check.ExpectationsOf(h, draft.Expectations())}
	report.Took = s.Now().Sub(begin)
	return report, nil
}

func (s *server) expectationResults(ctx context.Context, report *check.Report) ([]ExpectationResult, error) {
	results := make([]ExpectationResult, len(report.Expected))
	var refs []*Ref
	for i := range report.Expected {
		report.Expected[i].Body.Refs(func(_ string, _ revision.Kind, ref *Ref) { refs = append(refs, ref) })
	}
	names, err := s.Objects.Names(ctx, idsOf(refs))
	if err != nil {
		return nil, err
	}
	for i, e := range report.Expected {
		r := ExpectationResult{Ref: Ref{ID: e.ID, Name: e.Name}, Folder: e.Body.Folder, Passed: e.Passed, Verdict: e.Body.Verdict, Broken: e.Broken, Wrong: []WrongURL{}}
		r.Says = e.Body.Sentence(func(ref revision.Ref) string { return names[ref.ID] })
		if !e.At.IsZero() {
			r.At = &e.At
		}
		for _, w := range e.Wrong {
			r.Wrong = append(r.Wrong, WrongURL(w))
		}
		results[i] = r
	}
	return results, nil
}

package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/review"
	"widelark/internal/revision"
)

// ReviewFinding is one thing that is wrong with the draft, or may be.
type ReviewFinding struct {
	Key      string          `json:"key" doc:"Identifies the finding: it stays the same while the draft changes elsewhere"`
	Kind     review.Kind     `json:"kind" doc:"As: never reached, unused, too wide"`
	Severity review.Severity `json:"severity" enum:"wrong,doubt,remark"`
	At       FindingPlace    `json:"at"`
	By       *FindingPlace   `json:"by,omitempty" doc:"The cause of the finding"`
	Text     string          `json:"text" doc:"What is wrong, in a sentence"`
	Why      string          `json:"why" doc:"Why it matters"`
	Shown    string          `json:"shown,omitempty" doc:"A URL that proves it"`
	Fix      *FindingFix     `json:"fix,omitempty"`
	Accepted *Acceptance     `json:"accepted,omitempty" doc:"Somebody said that it is as it should be"`
}

// FindingPlace is where a finding is.
type FindingPlace struct {
	Kind   string `json:"kind" doc:"Of the object"`
	ID     string `json:"id"`
	Name   string `json:"name"`
	Rule   int    `json:"rule" doc:"Of a policy: the place of the rule, from 0; -1 for none"`
	RuleID string `json:"ruleId,omitempty"`
	Entry  string `json:"entry,omitempty" doc:"Of a list"`
}

// FindingFix is one step that would mend a finding.
type FindingFix struct {
	Do   string `json:"do" enum:"switch rule off,move rule up,remove object,remove entries,switch entries off,replace entry,add entry"`
	Text string `json:"text"`
	To   int    `json:"to,omitempty" doc:"move rule up: the place that it would have"`
	ToID string `json:"aboveId,omitempty" doc:"move rule up: the id of the rule that it would stand above"`
	New  string `json:"new,omitempty" doc:"replace entry, add entry: what it would be"`
}

// Acceptance says that a finding is as it should be.
type Acceptance struct {
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty" doc:"From this day on it counts again"`
	At     time.Time  `json:"at"`
	By     string     `json:"by"`
}

type reviewOutput struct {
	Body struct {
		DraftVersion int64           `json:"draftVersion"`
		Findings     []ReviewFinding `json:"findings" doc:"The gravest first; those that were accepted are among them"`
		Open         int             `json:"open" doc:"That nobody accepted"`
		Micros       int64           `json:"micros" doc:"How long it took to find out"`
	}
}

type acceptInput struct {
	Body struct {
		Key    string     `json:"key" minLength:"1" maxLength:"500"`
		Reason string     `json:"reason" maxLength:"2000" doc:"Why it is as it should be"`
		Until  *time.Time `json:"until,omitempty" doc:"From this day on it counts again; left out, never"`
	}
}

type unacceptInput struct {
	Key string `query:"key" required:"true"`
}

func (s *server) registerReview(api huma.API) {
	huma.Register(api, operation("getReview", http.MethodGet, "/review", "Changes", "What is wrong with the draft, or may be"),
		func(ctx context.Context, _ *struct{}) (*reviewOutput, error) {
			report, err := s.Checks.Report(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &reviewOutput{}
			out.Body.DraftVersion, out.Body.Micros = report.DraftVersion, report.Took.Microseconds()
			if out.Body.Findings, out.Body.Open, err = s.findings(ctx, report.Findings); err != nil {
				return nil, s.problem(ctx, err)
			}
			return out, nil
		})
	accept := operation("acceptFinding", http.MethodPost, "/review/accepted", "Changes", "Say that a finding is as it should be", 422)
	accept.DefaultStatus = http.StatusNoContent
	huma.Register(api, accept, func(ctx context.Context, in *acceptInput) (*struct{}, error) {
		reason, err := revision.CheckReason(in.Body.Reason)
		if err == nil {
			err = s.checkFound(ctx, in.Body.Key)
		}
		if err == nil {
			err = s.Publishing.AcceptFinding(ctx, revision.Acceptance{Key: in.Body.Key, Reason: reason, Until: in.Body.Until}, actor(ctx))
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return nil, nil
	})
	huma.Register(api, operation("unacceptFinding", http.MethodDelete, "/review/accepted", "Changes", "Let a finding count again", 404),
		func(ctx context.Context, in *unacceptInput) (*struct{}, error) {
			if err := s.Publishing.UnacceptFinding(ctx, in.Key, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

// checkFound refuses the key of what the review does not find.
func (s *server) checkFound(ctx context.Context, key string) error {
	report, err := s.Checks.Report(ctx)
	if err == nil && !slices.ContainsFunc(report.Findings, func(f review.Finding) bool { return f.Key == key }) {
		err = &revision.FieldError{Field: "key", Msg: fmt.Sprintf("the review of the draft finds nothing with the key %q; it may be mended by now", key)}
	}
	return err
}

// findings returns what was found, with what was said about it, and how many findings nobody accepted.
func (s *server) findings(ctx context.Context, found []review.Finding) (bodies []ReviewFinding, open int, err error) {
	accepted, err := s.Publishing.Acceptances(ctx)
	if err != nil {
		return nil, 0, err
	}
	said := map[string]Acceptance{}
	for _, a := range accepted {
		if a.Until == nil || s.Now().Before(*a.Until) {
			said[a.Key] = Acceptance{a.Reason, a.Until, a.At, a.By}
		}
	}
	bodies = make([]ReviewFinding, len(found))
	for i, f := range found {
		one := ReviewFinding{Key: f.Key, Kind: f.Kind, Severity: f.Severity, At: FindingPlace(f.At), By: (*FindingPlace)(f.By), Text: f.Text, Why: f.Why, Shown: f.Shown}
		if f.Fix != nil {
			one.Fix = &FindingFix{f.Fix.Do, f.Fix.Text, f.Fix.To, f.Fix.ToID, f.Fix.New}
		}
		if a, ok := said[f.Key]; ok {
			one.Accepted = &a
		} else {
			open++
		}
		bodies[i] = one
	}
	return bodies, open, nil
}

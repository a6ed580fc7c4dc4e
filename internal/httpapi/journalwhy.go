package httpapi

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/trial"
)

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

func (s *server) whyRecorded(ctx context.Context, in *ByID) (*whyOutput, error) {
	r, err := s.record(ctx, in.ID)
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

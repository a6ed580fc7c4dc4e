// Package trial answers what happens to URLs.
//
// From: a compiled state and a question.
// To: [Answers], which the API gives out.
package trial

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"widelark/core/hands"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
	"widelark/internal/edition"
)

// Question is URLs with the circumstances in which they are tried.
type Question struct {
	URLs []string
	edition.Circumstances
	Outlook bool // with what is to come: until, the week, flips
}

// Answer is what happens to one URL.
type Answer struct {
	Input       string
	Problem     string // why the input is not a URL; all below is empty then
	URL         weburl.URL
	Verdict     policy.Verdict
	Explanation policy.Explanation // of the gate that decided
	Sight       weburl.Sight       // of that gate
	AtFull      policy.Verdict     // at a lesser sight, what the verdict would be at full; else empty
	FullBecause string             // where AtFull is another verdict, what would decide then, in one sentence
	Journey     *policy.Journey
	Outlook     *Outlook
}

// Outlook is the future of one URL's verdict: at the gate that was asked for or, on a journey, at all gates together.
type Outlook struct {
	Until time.Time // zero where time alone does not change the verdict
	Week  []policy.Segment
	Flips []policy.Flip
}

// Answers are the answers to one question, all decided on one version of the draft.
type Answers struct {
	DraftVersion int64
	Revision     int64 // 0 for the draft
	Asked        edition.Asked
	Zone         *time.Location
	Snapshot     *policy.Snapshot
	Answers      []Answer // in the order of the question
}

// Try answers a question on a state. An unknown asker, or a moment that cannot be read, is a [*revision.FieldError] whose path begins
// with field.
func Try(ctx context.Context, state *edition.State, field string, q Question) (answers Answers, err error) {
	answers = Answers{DraftVersion: state.DraftVersion, Revision: state.Revision, Zone: state.Zone, Snapshot: state.Snapshot}
	if answers.Asked, err = state.Ask(field, q.Circumstances); err != nil {
		return answers, err
	}
	answers.Answers = make([]Answer, len(q.URLs))
	// A large batch is divided among goroutines; for a small one that would only add waiting.
	const share = 256
	var group hands.Group
	var work sync.Pool
	for begin := 0; begin < len(q.URLs); begin += share {
		end := min(begin+share, len(q.URLs))
		part := func() {
			w, _ := work.Get().(*policy.Work)
			if w == nil {
				w = &policy.Work{}
			}
			defer work.Put(w)
			for i := begin; i < end && ctx.Err() == nil; i++ {
				answer(state, w, &answers.Answers[i], q.URLs[i], answers.Asked, q.Outlook)
			}
		}
		if len(q.URLs) <= share {
			part()
			continue
		}
		group.Go(part)
	}
	group.Wait()
	return answers, ctx.Err()
}

func answer(state *edition.State, w *policy.Work, a *Answer, text string, asked edition.Asked, outlook bool) {
	a.Input = text
	var refused *weburl.Error
	var err error
	if a.URL, err = weburl.Parse(text); errors.As(err, &refused) {
		a.Problem = refused.Reason
		return
	}
	s := state.Snapshot
	r := asked.Request(a.URL)
	if asked.Journey {
		j := s.Travel(w, &r, asked.At)
		a.Journey, a.Verdict = &j, j.Verdict
		r.Sight, r.Gate = weburl.Full, policy.Proxy
		if len(j.Stops) > 0 {
			last := j.Decisive()
			a.Explanation, r.Sight, r.Gate = last.Explanation, last.Sight, last.Gate
		} else {
			a.Explanation = s.Explain(w, &r, asked.At)
		}
	} else {
		a.Explanation = s.Explain(w, &r, asked.At)
		a.Verdict = a.Explanation.Decision.Verdict
	}
	a.Sight = r.Sight
	if r.Sight != weburl.Full {
		full := r
		full.Sight, full.Gate = weburl.Full, policy.Proxy
		if a.AtFull = s.Decide(w, &full, asked.At).Verdict; a.AtFull != a.Verdict {
			a.FullBecause = s.Explain(w, &full, asked.At).Because
		}
	}
	if !outlook {
		return
	}
	strip, flips, until := s.Strip, s.Flips, s.Until
	if asked.Journey {
		strip, flips, until = s.TravelStrip, s.TravelFlips, s.TravelUntil
	}
	a.Outlook = &Outlook{Week: strip(w, &r, asked.At, schedule.DaysLater(asked.At, 7, state.Zone)), Flips: flips(w, &r, asked.At)}
	if moment, ok := until(w, &r, asked.At); ok {
		a.Outlook.Until = moment
	}
}

// Cell is a verdict of a matrix, with where it comes from.
type Cell struct {
	Decision policy.Decision
	Problem  bool // the URL is none
}

// Matrix decides URLs, in rows, in several circumstances, in columns.
func Matrix(ctx context.Context, state *edition.State, urls []string, columns []edition.Asked) ([][]Cell, error) {
	cells := make([][]Cell, len(urls))
	var group hands.Group
	const share = 64
	for begin := 0; begin < len(urls); begin += share {
		group.Go(func() {
			var w policy.Work
			for i := begin; i < min(begin+share, len(urls)) && ctx.Err() == nil; i++ {
				cells[i] = make([]Cell, len(columns))
				u, err := weburl.Parse(urls[i])
				for j, asked := range columns {
					if cells[i][j].Problem = err != nil; err == nil {
						r := asked.Request(u)
						if asked.Journey {
							cells[i][j].Decision = state.Snapshot.Arrive(&w, &r, asked.At)
						} else {
							cells[i][j].Decision = state.Snapshot.Decide(&w, &r, asked.At)
						}
					}
				}
			}
		})
	}
	group.Wait()
	return cells, ctx.Err()
}

// Sweep returns the verdicts on one URL from the moment at which it is asked for until another.
func Sweep(state *edition.State, u weburl.URL, asked edition.Asked, to time.Time) []policy.Segment {
	r := asked.Request(u)
	if asked.Journey {
		return state.Snapshot.TravelStrip(&policy.Work{}, &r, asked.At, to)
	}
	return state.Snapshot.Strip(&policy.Work{}, &r, asked.At, to)
}

// Part is where two explanations part: the first step in which they differ.
type Part struct {
	Rung policy.Rung
	A, B *policy.Step // nil where the one has no such step
}

// PartOf compares two explanations of trials; nil where the same steps say the same and have the same outcomes.
func PartOf(a, b *policy.Explanation) *Part {
	differ := func(x, y policy.Step) bool {
		return x.Rung != y.Rung || x.PolicyID != y.PolicyID || x.Place != y.Place || x.Rule != y.Rule || x.ID != y.ID || x.Outcome != y.Outcome || x.Then != y.Then
	}
	for i := range max(len(a.Steps), len(b.Steps)) {
		switch {
		case i >= len(a.Steps):
			return &Part{Rung: b.Steps[i].Rung, B: &b.Steps[i]}
		case i >= len(b.Steps):
			return &Part{Rung: a.Steps[i].Rung, A: &a.Steps[i]}
		case differ(a.Steps[i], b.Steps[i]):
			rung := a.Steps[i].Rung
			if height(b.Steps[i].Rung) < height(rung) {
				rung = b.Steps[i].Rung
			}
			return &Part{Rung: rung, A: &a.Steps[i], B: &b.Steps[i]}
		}
	}
	return nil
}

func height(r policy.Rung) int { return slices.Index(policy.Rungs, r) }

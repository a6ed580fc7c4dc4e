// Package check says whether the draft may be put live: expectations are tried, findings are made, and what would change is shown.
//
// From: the draft and the live revision, compiled.
// To: results that the API gives out.
package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// Expected is the result of an expectation.
type Expected struct {
	revision.Meta
	Body   revision.ExpectationBody
	Passed bool
	At     time.Time // at which it was tried
	Wrong  []Wrong   // the URLs for which it does not hold
	Broken string    // why it could not be tried at all, as one about a person who is gone
}

// Wrong is a URL for which an expectation does not hold.
type Wrong struct {
	URL     string
	Got     policy.Verdict
	Because string // what decided, in one sentence
	Why     string // what differs from what was expected, in one clause
}

// Expectations tries the expectations of a version of the draft, and returns the results by folder and name.
func Expectations(h *edition.State) []Expected { return ExpectationsOf(h, h.Expectations()) }

// ExpectationsOf tries expectations of another version on this one.
func ExpectationsOf(h *edition.State, objects []edition.Expectation) []Expected {
	results := make([]Expected, len(objects))
	var w policy.Work
	for i, o := range objects {
		results[i] = expect(h, &w, o.Meta, o.Body)
	}
	slices.SortStableFunc(results, func(a, b Expected) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Body.Folder), strings.ToLower(b.Body.Folder)), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)))
	})
	return results
}

func expect(h *edition.State, w *policy.Work, meta revision.Meta, b revision.ExpectationBody) Expected {
	e := Expected{Meta: meta, Body: b, Wrong: []Wrong{}}
	asked, err := h.Ask("", circumstances(b))
	if err == nil && b.Schedule != nil {
		asked.At, err = moment(h, b)
	}
	if err != nil {
		e.Broken = err.Error()
		return e
	}
	e.At = asked.At
	for _, text := range b.URLs {
		u, err := weburl.Parse(text)
		if err != nil {
			e.Broken = err.Error()
			return e
		}
		r := asked.Request(u)
		if d := h.Snapshot.Decide(w, &r, e.At); d.Verdict == b.Verdict && b.Category == "" && b.Rule == "" && b.With == nil {
			continue
		}
		x := h.Snapshot.Explain(w, &r, e.At)
		if why := differs(b, x); why != "" {
			e.Wrong = append(e.Wrong, Wrong{text, x.Decision.Verdict, x.Because, why})
		}
	}
	e.Passed = len(e.Wrong) == 0
	return e
}

// circumstances returns those in which an expectation is tried, apart from its schedule.
func circumstances(b revision.ExpectationBody) edition.Circumstances {
	who := edition.Who{Address: b.Address}
	if b.Person != nil {
		who.Person = b.Person.ID.String()
	}
	if b.Group != nil {
		who.Group = b.Group.ID.String()
	}
	return edition.Circumstances{Who: &who, At: b.At, Setting: edition.Setting{Sight: b.Sight, Method: b.Method}}
}

// moment returns the next one at which the schedule of an expectation is in force or, if it asks for that, is not.
func moment(h *edition.State, b revision.ExpectationBody) (time.Time, error) {
	for _, s := range h.Snapshot.Config().Schedules {
		if s.ID != b.Schedule.ID.String() {
			continue
		}
		at := h.Now()
		if s.Schedule.At(at, s.Zone) != b.Outside {
			return at.In(h.Zone), nil
		}
		if next, ok := s.Schedule.Next(at, s.Zone); ok {
			return next.In(h.Zone), nil
		}
		return at, fmt.Errorf("the schedule %q never gets there", s.Name)
	}
	return time.Time{}, fmt.Errorf("its schedule is gone")
}

// differs returns how an explanation differs from an expectation; "" if it does not.
func differs(b revision.ExpectationBody, x policy.Explanation) string {
	var wrong []string
	if x.Decision.Verdict != b.Verdict {
		wrong = append(wrong, fmt.Sprintf("%s in place of %s", x.Decision.Verdict, b.Verdict))
	}
	if b.Category != "" && !slices.Contains(x.Class.Categories, b.Category) {
		is := strings.Join(x.Class.Categories, ", ")
		wrong = append(wrong, fmt.Sprintf("it is %s, not %s", cmp.Or(is, classify.Unrated), b.Category))
	}
	if b.Rule != "" {
		rule := ""
		if x.Decider >= 0 {
			rule = x.Steps[x.Decider].Rule
		}
		if !strings.EqualFold(rule, b.Rule) {
			wrong = append(wrong, fmt.Sprintf("%s decides, not the rule %q", cmp.Or(quoted(rule), "an otherwise"), b.Rule))
		}
	}
	if b.With != nil && x.Decision.Provisos != b.With.Provisos() {
		wrong = append(wrong, fmt.Sprintf("it comes with %s, not with %s", cmp.Or(x.Decision.Provisos.String(), "nothing"), b.With.Provisos()))
	}
	return strings.Join(wrong, "; ")
}

func quoted(name string) string {
	if name == "" {
		return ""
	}
	return fmt.Sprintf("%q", name)
}

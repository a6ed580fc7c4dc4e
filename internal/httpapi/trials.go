package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/trial"
)

type trialsInput struct {
	Body struct {
		URLs  []string `json:"urls" minItems:"1" maxItems:"10000" doc:"As a person types them or a log has them; without a scheme https is meant"`
		Group string   `json:"group,omitempty" doc:"Name or id of the group that asks; left out, the group of the first policy"`
	}
}

type trialsOutput struct {
	Body struct {
		DraftVersion int64   `json:"draftVersion" doc:"The version of the draft that all of them were decided on"`
		Group        string  `json:"group" doc:"Who asks"`
		Policy       string  `json:"policy" doc:"The policy that decided"`
		Trials       []Trial `json:"trials" doc:"In the order of the URLs"`
	}
}

// Trial is what happens to one URL.
type Trial struct {
	Input   string         `json:"input" doc:"The URL as given"`
	Problem string         `json:"problem,omitempty" doc:"Why the input is no URL; the other fields are left out then"`
	URL     string         `json:"url,omitempty" doc:"The canonical URL that was decided on"`
	Verdict policy.Verdict `json:"verdict,omitempty" enum:"allow,block"`
	Because string         `json:"because,omitempty" doc:"What decided, in one sentence"`
	Decider *Decider       `json:"decider,omitempty" doc:"Left out where no rule matched and the policy's otherwise held"`
	Steps   []Step         `json:"steps,omitempty" doc:"Every rule of the policy in order"`
	Matches []Match        `json:"matches,omitempty" doc:"Every list that has something to say about the URL, in a rule or not"`
}

// Decider is the rule, list and entry that decided.
type Decider struct {
	Rule  string   `json:"rule"`
	List  ListRef  `json:"list"`
	Entry EntryRef `json:"entry"`
}

// Step is one rule as it was looked at.
type Step struct {
	Rule    string         `json:"rule"`
	Then    policy.Verdict `json:"then" enum:"allow,block"`
	Outcome policy.Outcome `json:"outcome" enum:"decided,no match,not reached"`
	List    *ListRef       `json:"list,omitempty" doc:"The first of the rule's lists that the URL is in, reached or not"`
	Entry   *EntryRef      `json:"entry,omitempty"`
}

// Match is one list that has something to say about a URL.
type Match struct {
	List      ListRef    `json:"list"`
	In        bool       `json:"in" doc:"An entry covers the URL and no carve-out does"`
	Entries   []EntryRef `json:"entries" doc:"Entries in force that cover the URL, the most specific first"`
	CarveOuts []EntryRef `json:"carveOuts" doc:"Carve-outs in force that cover it"`
}

// EntryRef is an entry of a list.
type EntryRef struct {
	ID      int64  `json:"id"`
	Text    string `json:"text" doc:"The whole line in the notation"`
	Pattern string `json:"pattern" doc:"The line without its attributes and note"`
	Explain string `json:"explain"`
}

func (s *server) registerTrials(api huma.API) {
	try := operation("tryUrls", http.MethodPost, "/trials", "Trials", "What happens to these URLs, and why", 422)
	try.MaxBodyBytes = 32 << 20
	huma.Register(api, try, func(ctx context.Context, in *trialsInput) (*trialsOutput, error) {
		answers, err := s.Desk.Try(ctx, trial.Question{URLs: in.Body.URLs, Group: in.Body.Group})
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &trialsOutput{}
		out.Body.DraftVersion, out.Body.Policy, out.Body.Group = answers.DraftVersion, answers.Policy.Name, answers.Policy.Group.Name
		out.Body.Trials = make([]Trial, len(answers.Answers))
		for i, answer := range answers.Answers {
			out.Body.Trials[i] = trialBody(answers, answer)
		}
		return out, nil
	})
}

func trialBody(all trial.Answers, a trial.Answer) Trial {
	if a.Problem != "" {
		return Trial{Input: a.Input, Problem: a.Problem}
	}
	d := a.Decision
	t := Trial{Input: a.Input, URL: a.URL.String(), Verdict: d.Verdict, Because: a.Because}
	for i, step := range d.Steps {
		body := Step{Rule: step.Rule, Then: step.Then, Outcome: step.Outcome}
		if step.List != nil {
			list, entry := listRef(step.List), entryRef(all, step.List, step.Entry)
			body.List, body.Entry = &list, &entry
			if i == d.Decider {
				t.Decider = &Decider{Rule: step.Rule, List: list, Entry: entry}
			}
		}
		t.Steps = append(t.Steps, body)
	}
	for _, hit := range d.Hits {
		t.Matches = append(t.Matches, Match{
			List: listRef(hit.List), In: hit.In(),
			Entries: entryRefs(all, hit.List, hit.Covering), CarveOuts: entryRefs(all, hit.List, hit.CarveOuts),
		})
	}
	return t
}

func listRef(l *match.List) ListRef { return ListRef{ID: uuid.MustParse(l.ID), Name: l.Name} }

func entryRef(all trial.Answers, l *match.List, at int) EntryRef {
	entry := l.Entries[at]
	bare := pattern.Entry{Pattern: entry.Pattern, CarveOut: entry.CarveOut}
	return EntryRef{ID: all.EntryID(l, at), Text: entry.String(), Pattern: bare.String(), Explain: pattern.Explain(entry)}
}

func entryRefs(all trial.Answers, l *match.List, positions []int) []EntryRef {
	refs := make([]EntryRef, len(positions))
	for i, at := range positions {
		refs[i] = entryRef(all, l, at)
	}
	return refs
}

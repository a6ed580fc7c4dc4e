package httpapi

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/trial"
)

type trialsInput struct {
	Body struct {
		URLs  []string    `json:"urls" minItems:"1" maxItems:"10000" doc:"As a person types them or a log has them; without a scheme https is meant"`
		Group string      `json:"group,omitempty" doc:"Name or id of the group that asks; left out, the group of the first policy"`
		Sight match.Sight `json:"sight,omitempty" enum:"name,tunnel,full" doc:"What can be seen of the request; left out, everything: the host; host and port of a connection that is not opened; everything"`
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
	AtFull  policy.Verdict `json:"atFull,omitempty" enum:"allow,block" doc:"At a lesser sight: what the verdict would be at full"`
	Because string         `json:"because,omitempty" doc:"What decided, in one sentence"`
	Decider *Decider       `json:"decider,omitempty" doc:"Left out where no rule matched and the policy's otherwise held"`
	Steps   []Step         `json:"steps,omitempty" doc:"Every rule of the policy in order"`
	Class   *Class         `json:"class,omitempty" doc:"What the URL is"`
	Matches []Match        `json:"matches,omitempty" doc:"Every list that has something to say about the URL, in a rule or not"`
}

// Decider is the rule that decided, with the list or the category that it asked for.
type Decider struct {
	Rule     string       `json:"rule"`
	List     *ListRef     `json:"list,omitempty"`
	Category *CategoryRef `json:"category,omitempty"`
	Entry    *EntryRef    `json:"entry,omitempty" doc:"Of the list, or what gives the category; left out where a scorecard gives it"`
}

// Step is one rule as it was looked at.
type Step struct {
	Rule    string         `json:"rule"`
	Then    policy.Verdict `json:"then" enum:"allow,block"`
	Outcome policy.Outcome `json:"outcome" enum:"decided,no match,cannot tell,not reached"`
	List    *ListRef       `json:"list,omitempty" doc:"The first of the rule's lists that the URL is in, or of which it cannot be told; reached or not"`
	Entry   *EntryRef      `json:"entry,omitempty"`

	Category *CategoryRef `json:"category,omitempty" doc:"The first of the rule's categories that the URL has, where no list is told"`
}

// Match is one list that has something to say about a URL.
type Match struct {
	List      ListRef      `json:"list"`
	In        match.Answer `json:"in" enum:"yes,no,cannot tell" doc:"Whether an entry covers the URL and no carve-out does"`
	Entries   []EntryRef   `json:"entries" doc:"Entries in force that cover the URL, the most specific first"`
	CarveOuts []EntryRef   `json:"carveOuts" doc:"Carve-outs in force that cover it"`
	Unclear   []EntryRef   `json:"unclear,omitempty" doc:"At a lesser sight: the first 100 entries and carve-outs of which it cannot be told"`
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
		answers, err := s.Desk.Try(ctx, trial.Question{URLs: in.Body.URLs, Group: in.Body.Group, Sight: in.Body.Sight})
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		names, err := s.naming(ctx)
		if err != nil {
			return nil, err
		}
		out := &trialsOutput{}
		out.Body.DraftVersion, out.Body.Policy, out.Body.Group = answers.DraftVersion, answers.Policy.Name, answers.Policy.Group.Name
		out.Body.Trials = make([]Trial, len(answers.Answers))
		for i, answer := range answers.Answers {
			out.Body.Trials[i] = trialBody(answer, names)
		}
		return out, nil
	})
}

func trialBody(a trial.Answer, names naming) Trial {
	if a.Problem != "" {
		return Trial{Input: a.Input, Problem: a.Problem}
	}
	d := a.Decision
	t := Trial{Input: a.Input, URL: a.URL.String(), Verdict: d.Verdict, Because: a.Because, AtFull: a.AtFull}
	for i, step := range d.Steps {
		body := Step{Rule: step.Rule, Then: step.Then, Outcome: step.Outcome}
		if step.List != nil {
			list, entry := listRef(*step.List), entryRef(*step.Entry)
			body.List, body.Entry = &list, &entry
		}
		if step.Category != nil {
			category := names.ref(step.Category.Key)
			body.Category = &category
			if step.Given != nil {
				entry := entryRef(step.Given.Entry)
				body.Entry = &entry
			}
		}
		if i == d.Decider {
			t.Decider = &Decider{Rule: step.Rule, List: body.List, Category: body.Category, Entry: body.Entry}
		}
		t.Steps = append(t.Steps, body)
	}
	t.Matches = matches(d.Hits)
	t.Class = names.class(a.Class)
	return t
}

// maxUnclear bounds how many unclear entries of a list are told.
const maxUnclear = 100

func matches(hits []match.Hit) []Match {
	var all []Match
	for _, hit := range hits {
		unclear := append(slices.Clone(hit.Unclear), hit.UnclearCarveOuts...)
		all = append(all, Match{
			List: listRef(hit.List), In: hit.In(), Entries: entryRefs(hit.Covering), CarveOuts: entryRefs(hit.CarveOuts),
			Unclear: entryRefs(unclear[:min(len(unclear), maxUnclear)]),
		})
	}
	return all
}

func listRef(l match.Ref) ListRef { return ListRef{ID: uuid.MustParse(l.ID), Name: l.Name} }

func entryRef(found match.Found) EntryRef {
	bare := pattern.Entry{Pattern: found.Pattern, CarveOut: found.CarveOut}
	return EntryRef{ID: found.ID, Text: found.String(), Pattern: bare.String(), Explain: pattern.Explain(found.Entry)}
}

func entryRefs(found []match.Found) []EntryRef {
	refs := make([]EntryRef, len(found))
	for i, f := range found {
		refs[i] = entryRef(f)
	}
	return refs
}

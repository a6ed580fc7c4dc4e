package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/trial"
)

func (s *server) policyKind() objects[Policy, PolicyInput] {
	return objects[Policy, PolicyInput]{
		kind: revision.KindPolicy, path: "/policies", one: "Policy", many: "Policies", article: "a policy",
		make: func(view objectView, o revision.Object) (p Policy, _ revision.Body, err error) {
			p.Meta, p.Sentences, p.Conflicts = o.Meta, []string{}, []Conflict{}
			p.PolicyBody, err = revision.Decode[revision.PolicyBody](o)
			for _, r := range p.Rules {
				p.Sentences = append(p.Sentences, r.Rule().Sentence(view.names))
			}
			if p.Inspect != nil {
				p.Opens = p.Policy(p.Meta, &revision.Asides{}).Inspect.Sentence(view.names)
			}
			if p.Unheld == "block" {
				p.Insists = policy.Insisting
			}
			if p.Records != nil {
				p.Recorded = policy.Recording{Amount: p.Records.Amount, Words: p.Records.Words}.Sentence()
			}
			for _, c := range view.state.Conflicts(o.ID) {
				p.Conflicts = append(p.Conflicts, Conflict{int(c.Place), c.Text})
			}
			return p, &p.PolicyBody, err
		},
		take:  func(in *PolicyInput) (string, revision.Body) { return in.Name, &in.PolicyBody },
		check: s.checkPolicy,
	}
}

func (s *server) exceptionKind() objects[Exception, ExceptionInput] {
	return objects[Exception, ExceptionInput]{
		kind: revision.KindException, path: "/exceptions", one: "Exception", many: "Exceptions", article: "an exception",
		make: func(view objectView, o revision.Object) (e Exception, _ revision.Body, err error) {
			e.Meta = o.Meta
			e.ExceptionBody, err = revision.Decode[revision.ExceptionBody](o)
			e.State = stateOf(e.ExceptionBody, view.now)
			return e, &e.ExceptionBody, err
		},
		take: func(in *ExceptionInput) (string, revision.Body) { return in.Name, &in.ExceptionBody },
		name: s.exceptionName,
	}
}

// stateOf returns the state of an exception at a moment.
func stateOf(b revision.ExceptionBody, at time.Time) string {
	switch {
	case b.Off:
		return "off"
	case b.Until != nil && !at.Before(*b.Until):
		return "over"
	case b.From != nil && at.Before(*b.From):
		return "later"
	}
	return "in force"
}

// exceptionName makes a name from what an exception does.
func (s *server) exceptionName(ctx context.Context, body revision.Body) (string, error) {
	b := body.(*revision.ExceptionBody)
	return s.freeName(ctx, revision.KindException, capital(string(b.Then))+" "+b.Entries[0].String())
}

// freeName returns a name that no object of a kind has, with a number appended if the name is taken.
func (s *server) freeName(ctx context.Context, kind revision.Kind, wanted string) (string, error) {
	taken := map[string]bool{}
	kept, err := s.Objects.Objects(ctx, kind)
	for _, o := range kept {
		taken[strings.ToLower(o.Name)] = true
	}
	what := []rune(wanted)
	for n := 1; ; n++ {
		number := ""
		if n > 1 {
			number = fmt.Sprintf(" (%d)", n)
		}
		if name := string(what[:min(len(what), revision.MaxName-len(number))]) + number; !taken[strings.ToLower(name)] {
			return name, err
		}
	}
}

var settingsKind = objects[Settings, SettingsInput]{
	kind: revision.KindSettings, path: "/settings", one: "Settings", many: "AllSettings", article: "the settings", fixed: true,
	make: func(_ objectView, o revision.Object) (v Settings, body revision.Body, err error) {
		v.Meta = o.Meta
		v.SettingsBody, err = revision.Decode[revision.SettingsBody](o)
		return v, &v.SettingsBody, err
	},
	take: func(in *SettingsInput) (string, revision.Body) { return "Settings", &in.SettingsBody },
}

// SettingsInput is a new state of the settings.
type SettingsInput struct{ revision.SettingsBody }

var appKind = objects[App, AppInput]{
	kind: revision.KindApp, path: "/apps", one: "App", many: "Apps", article: "an app",
	make: func(_ objectView, o revision.Object) (a App, body revision.Body, err error) {
		a.Meta = o.Meta
		a.AppBody, err = revision.Decode[revision.AppBody](o)
		return a, &a.AppBody, err
	},
	take: func(in *AppInput) (string, revision.Body) {
		if in.Key == "" {
			in.Key = revision.KeyOf(in.Name)
		}
		return in.Name, &in.AppBody
	},
}

var engineKind = objects[Engine, EngineInput]{
	kind: revision.KindEngine, path: "/engines", one: "Engine", many: "Engines", article: "a search engine",
	make: func(_ objectView, o revision.Object) (e Engine, body revision.Body, err error) {
		e.Meta = o.Meta
		e.EngineBody, err = revision.Decode[revision.EngineBody](o)
		return e, &e.EngineBody, err
	},
	take: func(in *EngineInput) (string, revision.Body) { return in.Name, &in.EngineBody },
}

type explainRulesInput struct {
	Body struct {
		Rules []revision.RuleBody `json:"rules" maxItems:"500"`
	}
}

type explainRulesOutput struct {
	Body struct {
		Sentences []string `json:"sentences" doc:"Each rule in plain words; empty where something is wrong with it"`
		Problems  []string `json:"problems" doc:"What is wrong with each rule; empty where nothing is"`
	}
}

type planInput struct {
	Group string `query:"group" required:"true" minLength:"1" maxLength:"200" doc:"Name or id"`
	Days  int    `query:"days" minimum:"1" maximum:"14" default:"7" doc:"From the beginning of today on"`
}

type planOutput struct {
	Body DayPlan
}

// DayPlan is what the members of a group may reach when.
type DayPlan struct {
	Group    Ref       `json:"group"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Else     []Segment `json:"else" doc:"What no rule asks about"`
	Rows     []PlanRow `json:"rows" doc:"Lists and categories with other verdicts"`
	Policies []Ref     `json:"policies"`
}

// PlanRow is one list or category with its times.
type PlanRow struct {
	Kind  string    `json:"kind" enum:"list,category"`
	Name  string    `json:"name"`
	Strip []Segment `json:"strip"`
}

// Segment is a time in which one verdict holds.
type Segment struct {
	From    time.Time      `json:"from"`
	To      time.Time      `json:"to" doc:"Not in it any more"`
	Verdict policy.Verdict `json:"verdict" enum:"allow,watch,hold,block"`
	By      string         `json:"by" doc:"What decides at the beginning: a rule, an exception, an otherwise"`
}

func segments(h *edition.State, strip []policy.Segment) []Segment {
	all := make([]Segment, len(strip))
	for i, g := range strip {
		all[i] = Segment{g.From.In(h.Zone), g.To.In(h.Zone), g.Decision.Verdict, h.Snapshot.Source(g.Decision)}
	}
	return all
}

type usesInput struct {
	Kind revision.Kind `query:"kind" required:"true" enum:"person,group,network,machine,list,schedule,scorecard,category,app,engine,policy"`
	ID   uuid.UUID     `query:"id" required:"true" format:"uuid"`
}

type usesOutput struct {
	Body struct {
		Uses []revision.ObjectUse `json:"uses"`
	}
}

type startInput struct {
	Body struct {
		Start string      `json:"start" enum:"careful,balanced,open,only,all-but,off" doc:"careful, balanced and open are starting points; only: these lists and nothing else; all-but: everything but these lists; off: nothing at all"`
		Lists []uuid.UUID `json:"lists,omitempty" format:"uuid" maxItems:"500" doc:"For only and all-but"`
	}
}

type startOutput struct {
	Body struct {
		About     string              `json:"about"`
		Rules     []revision.RuleBody `json:"rules"`
		Otherwise policy.Verdict      `json:"otherwise" enum:"allow,watch,hold,block"`
		Sentences []string            `json:"sentences"`
	}
}

type effectsOutput struct {
	Body struct {
		People int      `json:"people" doc:"That have several policies"`
		Pages  int      `json:"pages" doc:"Of the recorded traffic, that were looked at"`
		Ways   []Effect `json:"ways"`
	}
}

// Effect is the effect that another way of combining policies would have now.
type Effect struct {
	Combining policy.Combining `json:"combining" enum:"position,strictest,loosest"`
	Opened    int              `json:"opened" doc:"Recorded pages that somebody with several policies would reach, and does not now"`
	Closed    int              `json:"closed" doc:"The reverse"`
	Examples  []string         `json:"examples" doc:"The first few of both"`
}

func (s *server) registerPolicies(api huma.API) {
	registerObjects(s, api, s.policyKind())
	registerObjects(s, api, s.exceptionKind())
	registerObjects(s, api, appKind)
	registerObjects(s, api, engineKind)
	registerObjects(s, api, settingsKind)
	huma.Register(api, operation("explainRules", http.MethodPost, "/rules/explain", "Policies", "What rules would do, in plain words, before they are kept", 422),
		func(ctx context.Context, in *explainRulesInput) (*explainRulesOutput, error) {
			h, err := s.Editions.Draft(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out, names := &explainRulesOutput{}, h.Names()
			for i := range in.Body.Rules {
				body := revision.PolicyBody{Rules: in.Body.Rules[i : i+1], Otherwise: policy.Allow}
				sentence, problem := "", ""
				err := body.Check()
				if err == nil {
					err = s.checkKeys(ctx, &body)
				}
				if err != nil {
					problem = err.Error()
					if field := new(revision.FieldError); errors.As(err, &field) {
						field.Field = strings.TrimPrefix(field.Field, "rules[0].")
						problem = field.Error()
					}
				} else {
					sentence = body.Rules[0].Rule().Sentence(names)
				}
				out.Body.Sentences, out.Body.Problems = append(out.Body.Sentences, sentence), append(out.Body.Problems, problem)
			}
			return out, nil
		})
	huma.Register(api, operation("startPolicy", http.MethodPost, "/policies/start", "Policies", "Rules to begin a policy with, to be kept or edited", 422),
		func(ctx context.Context, in *startInput) (*startOutput, error) {
			h, err := s.Editions.Draft(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			var lists []Ref
			for _, id := range in.Body.Lists {
				lists = append(lists, Ref{ID: id})
			}
			if len(lists) == 0 && (in.Body.Start == "only" || in.Body.Start == "all-but") {
				return nil, s.problem(ctx, &revision.FieldError{Field: "lists", Msg: "name the lists"})
			}
			start := revision.StartOf(in.Body.Start, lists, h.Snapshot.Config().Taxonomy)
			out := &startOutput{}
			out.Body.About, out.Body.Rules, out.Body.Otherwise, out.Body.Sentences = start.Description, start.Rules, start.Otherwise, []string{}
			names := h.Names()
			for _, r := range start.Rules {
				out.Body.Sentences = append(out.Body.Sentences, r.Rule().Sentence(names))
			}
			return out, nil
		})
	huma.Register(api, operation("getEffects", http.MethodGet, "/settings/effects", "AllSettings", "What each way of combining policies would do to the recorded traffic"),
		func(ctx context.Context, _ *struct{}) (*effectsOutput, error) {
			h, err := s.Editions.Draft(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			pages, err := s.Examiner.Recorded(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			found, err := trial.EffectsOf(ctx, h, pages, h.Now())
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &effectsOutput{}
			out.Body.People, out.Body.Pages, out.Body.Ways = found.People, found.Pages, []Effect{}
			for _, way := range found.Ways {
				out.Body.Ways = append(out.Body.Ways, Effect(way))
			}
			return out, nil
		})
	huma.Register(api, operation("getPlan", http.MethodGet, "/plan", "Policies", "What a group may reach when", 422),
		func(ctx context.Context, in *planInput) (*planOutput, error) {
			h, err := s.Editions.Draft(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			who, err := h.Find("query", edition.Who{Group: in.Group})
			if err == nil && who.Group == nil {
				err = &revision.FieldError{Field: "query.group", Msg: "name a group"}
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			from := h.Today()
			plan, st := h.Plan(who.Group.ID, from, in.Days), h.Standing(who)
			out := &planOutput{Body: DayPlan{Group: ref(*who.Group), From: from, To: schedule.DaysLater(from, in.Days, h.Zone), Else: segments(h, plan.Else), Rows: []PlanRow{}, Policies: refsOf(st.Policies)}}
			for _, row := range plan.Rows {
				planned := PlanRow{Kind: "category", Strip: segments(h, row.Strip)}
				if row.List != nil {
					planned.Kind, planned.Name = "list", row.List.Name
				} else {
					planned.Name = row.Category.Name
				}
				out.Body.Rows = append(out.Body.Rows, planned)
			}
			return out, nil
		})
	huma.Register(api, operation("getUses", http.MethodGet, "/uses", "Policies", "What refers to an object", 422),
		func(ctx context.Context, in *usesInput) (*usesOutput, error) {
			found, err := s.Objects.Uses(ctx, in.Kind, in.ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &usesOutput{}
			out.Body.Uses = append([]revision.ObjectUse{}, found...)
			return out, nil
		})
}

// ordered puts policies into their order: the baseline, those of groups, the fallback.
func (s *server) ordered(ctx context.Context, found []revision.Object) ([]revision.Object, error) {
	kept, err := s.Objects.Objects(ctx, revision.KindSettings)
	if err != nil || len(kept) == 0 {
		return found, err
	}
	settings, err := revision.Decode[revision.SettingsBody](kept[0])
	if err != nil {
		return found, err
	}
	role := map[uuid.UUID]int{}
	for _, o := range found {
		body, err := revision.Decode[revision.PolicyBody](o)
		if err != nil {
			return found, err
		}
		role[o.ID] = map[revision.Role]int{revision.RoleBaseline: -1, revision.RoleFallback: 1}[body.Role]
	}
	found = edition.Ordered(found, settings, func(o revision.Object) uuid.UUID { return o.ID })
	slices.SortStableFunc(found, func(a, b revision.Object) int { return role[a.ID] - role[b.ID] })
	return found, nil
}

// checkPolicy refuses unknown keys, and changes of the role.
func (s *server) checkPolicy(ctx context.Context, id uuid.UUID, body revision.Body) error {
	b := body.(*revision.PolicyBody)
	var before revision.PolicyBody
	if id != uuid.Nil {
		o, err := s.Objects.Object(ctx, revision.KindPolicy, id)
		if err != nil {
			return err
		}
		if before, err = revision.Decode[revision.PolicyBody](o); err != nil {
			return err
		}
	}
	if b.Role != before.Role {
		return &revision.FieldError{Field: "role", Msg: "there is one baseline and one fallback: what a policy is for stays"}
	}
	return s.checkKeys(ctx, b)
}

func (s *server) checkKeys(ctx context.Context, b *revision.PolicyBody) error {
	var taxonomy classify.Taxonomy
	apps := map[string]bool{}
	asked := false
	ask := func() (err error) {
		if asked {
			return nil
		}
		asked = true
		if taxonomy, _, err = s.Finder.Taxonomy(ctx); err != nil {
			return err
		}
		kept, err := s.Objects.Objects(ctx, revision.KindApp)
		for _, o := range kept {
			app, err := revision.Decode[revision.AppBody](o)
			if err != nil {
				return err
			}
			apps[app.Key] = true
			for _, a := range app.Activities {
				apps[app.Key+"/"+a.Key] = true
			}
		}
		return err
	}
	return b.Keys(func(field, key string, app bool) error {
		if err := ask(); err != nil {
			return err
		}
		if app {
			if !apps[key] {
				return &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no app %q", key)}
			}
			return nil
		}
		return checkKind(taxonomy, field, key)
	})
}

// checkKind refuses keys of neither a category nor a family.
func checkKind(taxonomy classify.Taxonomy, field, key string) error {
	_, isFamily := taxonomy.Family(key)
	if _, isCategory := taxonomy.Category(key); !isFamily && !isCategory {
		return &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no category or family %q", key)}
	}
	return nil
}

// checkPolicyGoes refuses to delete the baseline and the fallback.
func (s *server) checkPolicyGoes(ctx context.Context, id uuid.UUID) error {
	o, err := s.Objects.Object(ctx, revision.KindPolicy, id)
	if err != nil {
		return err
	}
	body, err := revision.Decode[revision.PolicyBody](o)
	if err == nil && body.Role != revision.RoleGroups {
		return huma.Error409Conflict("The " + string(body.Role) + " cannot be deleted. Take its rules out instead.")
	}
	return err
}

package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/revision"
)

// Group is a set of people and machines.
type Group struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Name        string    `json:"name"`
	Description string    `json:"description"`
	Version     int64     `json:"version" doc:"Rises with every edit; the ETag holds it"`
	UpdatedAt   time.Time `json:"updatedAt"`
	UpdatedBy   string    `json:"updatedBy"`
}

// Policy is ordered rules and what holds otherwise, given to a group.
type Policy struct {
	ID          uuid.UUID      `json:"id" format:"uuid"`
	Name        string         `json:"name"`
	Description string         `json:"description"`
	Group       Group          `json:"group" doc:"Whom the policy is for"`
	Rules       []Rule         `json:"rules" doc:"In order: the first that matches decides"`
	Otherwise   policy.Verdict `json:"otherwise" enum:"allow,block" doc:"The verdict where no rule matches"`
	Version     int64          `json:"version" doc:"Rises with every edit; the ETag holds it"`
	UpdatedAt   time.Time      `json:"updatedAt"`
	UpdatedBy   string         `json:"updatedBy"`
}

// Rule gives its verdict to what is in one of its lists, or has one of its categories.
type Rule struct {
	Name       string         `json:"name"`
	Lists      []ListRef      `json:"lists"`
	Categories []string       `json:"categories" doc:"Keys of categories, and of families, which stand for all that is in them"`
	Verdict    policy.Verdict `json:"verdict" enum:"allow,block"`
}

// ListRef names a list.
type ListRef struct {
	ID   uuid.UUID `json:"id" format:"uuid"`
	Name string    `json:"name"`
}

// RuleEdit is a rule as it is to be.
type RuleEdit struct {
	Name       string         `json:"name" minLength:"1" maxLength:"80"`
	Lists      []uuid.UUID    `json:"lists" maxItems:"500" format:"uuid" doc:"Ids of lists"`
	Verdict    policy.Verdict `json:"verdict" enum:"allow,block"`
	Categories []string       `json:"categories,omitempty" maxItems:"500" doc:"Keys of categories or families; a rule needs a list or a category"`
}

type groupOutput struct {
	ETag string `header:"ETag"`
	Body Group
}

type groupsOutput struct {
	Body struct {
		Groups []Group `json:"groups"`
	}
}

type editGroupInput struct {
	ByID
	MustMatch
	Body struct {
		Name        *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		Description *string `json:"description,omitempty" maxLength:"2000"`
	}
}

type policyOutput struct {
	ETag string `header:"ETag"`
	Body Policy
}

func policyBody(p revision.Policy) Policy {
	body := Policy{
		ID: p.ID, Name: p.Name, Description: p.Description, Group: Group(p.Group), Otherwise: p.Otherwise,
		Version: p.Version, UpdatedAt: p.UpdatedAt, UpdatedBy: p.UpdatedBy, Rules: make([]Rule, len(p.Rules)),
	}
	for i, r := range p.Rules {
		body.Rules[i] = Rule{Name: r.Name, Verdict: r.Verdict, Lists: listRefs(r.Lists), Categories: append([]string{}, r.Categories...)}
	}
	return body
}

type policiesOutput struct {
	Body struct {
		Policies []Policy `json:"policies" doc:"In their order"`
	}
}

type editPolicyInput struct {
	ByID
	MustMatch
	Body struct {
		Name        *string         `json:"name,omitempty" minLength:"1" maxLength:"80"`
		Description *string         `json:"description,omitempty" maxLength:"2000"`
		Otherwise   *policy.Verdict `json:"otherwise,omitempty" enum:"allow,block"`
		Rules       *[]RuleEdit     `json:"rules,omitempty" maxItems:"500" doc:"All rules in order; left out, they stay as they are"`
	}
}

func (s *server) registerPolicies(api huma.API) {
	huma.Register(api, operation("getGroups", http.MethodGet, "/groups", "Policies", "Groups"),
		func(ctx context.Context, _ *struct{}) (*groupsOutput, error) {
			found, err := s.Store.Groups(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &groupsOutput{}
			out.Body.Groups = make([]Group, len(found))
			for i, g := range found {
				out.Body.Groups[i] = Group(g)
			}
			return out, nil
		})
	huma.Register(api, operation("editGroup", http.MethodPatch, "/groups/{id}", "Policies", "Rename or describe a group", 404, 412, 422, 428),
		func(ctx context.Context, in *editGroupInput) (*groupOutput, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			edit, err := revision.GroupEdit{Name: in.Body.Name, Description: in.Body.Description}.Checked()
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			g, err := s.Store.EditGroup(ctx, in.ID, edit, version, caller(ctx).Name)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &groupOutput{etag(g.Version), Group(g)}, nil
		})

	huma.Register(api, operation("getPolicies", http.MethodGet, "/policies", "Policies", "Policies in their order"),
		func(ctx context.Context, _ *struct{}) (*policiesOutput, error) {
			found, err := s.Store.Policies(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &policiesOutput{}
			out.Body.Policies = make([]Policy, len(found))
			for i, p := range found {
				out.Body.Policies[i] = policyBody(p)
			}
			return out, nil
		})
	huma.Register(api, operation("getPolicy", http.MethodGet, "/policies/{id}", "Policies", "One policy", 404),
		func(ctx context.Context, in *ByID) (*policyOutput, error) {
			found, err := s.Store.Policies(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			for _, p := range found {
				if p.ID == in.ID {
					return &policyOutput{etag(p.Version), policyBody(p)}, nil
				}
			}
			return nil, s.problem(ctx, revision.ErrNotFound)
		})
	huma.Register(api, operation("editPolicy", http.MethodPatch, "/policies/{id}", "Policies", "Edit a policy; its rules are replaced whole", 404, 412, 422, 428),
		func(ctx context.Context, in *editPolicyInput) (*policyOutput, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			edit := revision.PolicyEdit{Name: in.Body.Name, Description: in.Body.Description, Otherwise: in.Body.Otherwise}
			if in.Body.Rules != nil {
				rules := make([]revision.RuleEdit, len(*in.Body.Rules))
				for i, r := range *in.Body.Rules {
					rules[i] = revision.RuleEdit{Name: r.Name, Lists: r.Lists, Verdict: r.Verdict, Categories: r.Categories}
					if err := s.checkRuleCategories(ctx, fmt.Sprintf("rules[%d].categories", i), r.Categories); err != nil {
						return nil, s.problem(ctx, err)
					}
				}
				edit.Rules = &rules
			}
			if edit, err = edit.Checked(); err != nil {
				return nil, s.problem(ctx, err)
			}
			p, err := s.Store.EditPolicy(ctx, in.ID, edit, version, caller(ctx).Name)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &policyOutput{etag(p.Version), policyBody(p)}, nil
		})
}

// checkRuleCategories refuses keys that name neither a category nor a family.
func (s *server) checkRuleCategories(ctx context.Context, field string, keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	taxonomy, _, err := s.Clerk.Taxonomy(ctx)
	if err != nil {
		return err
	}
	for i, key := range keys {
		if _, isFamily := taxonomy.Family(key); isFamily {
			continue
		}
		err := s.checkCategories(ctx, field, []string{key})
		var wrong *revision.FieldError
		if errors.As(err, &wrong) {
			wrong.Field = fmt.Sprintf("%s[%d]", field, i)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

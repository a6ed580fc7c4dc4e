package object

import (
	"context"

	"github.com/google/uuid"

	"widelark/client"
)

// The kinds of objects that are found by name.
var (
	Groups = &Objects[client.Group, client.GroupInput]{
		called: "group",
		about:  func(o client.Group) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Group, error) {
			found, err := api.GetGroupsWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.GroupInput) (*client.Group, error) {
			kept, err := api.PutGroupWithResponse(ctx, id, &client.PutGroupParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveGroupWithResponse(ctx, id, &client.RemoveGroupParams{IfMatch: version})
			return err
		},
	}

	Networks = &Objects[client.Network, client.NetworkInput]{
		called: "network",
		about:  func(o client.Network) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Network, error) {
			found, err := api.GetNetworksWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.NetworkInput) (*client.Network, error) {
			kept, err := api.PutNetworkWithResponse(ctx, id, &client.PutNetworkParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveNetworkWithResponse(ctx, id, &client.RemoveNetworkParams{IfMatch: version})
			return err
		},
	}

	Machines = &Objects[client.Machine, client.MachineInput]{
		called: "machine",
		about:  func(o client.Machine) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Machine, error) {
			found, err := api.GetMachinesWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.MachineInput) (*client.Machine, error) {
			kept, err := api.PutMachineWithResponse(ctx, id, &client.PutMachineParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveMachineWithResponse(ctx, id, &client.RemoveMachineParams{IfMatch: version})
			return err
		},
	}

	Exceptions = &Objects[client.Exception, client.ExceptionInput]{
		called: "exception",
		about:  func(o client.Exception) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Exception, error) {
			found, err := api.GetExceptionsWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.ExceptionInput) (*client.Exception, error) {
			kept, err := api.PutExceptionWithResponse(ctx, id, &client.PutExceptionParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveExceptionWithResponse(ctx, id, &client.RemoveExceptionParams{IfMatch: version})
			return err
		},
	}

	Policies = &Objects[client.Policy, client.PolicyInput]{
		called: "policy",
		about:  func(o client.Policy) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Policy, error) {
			found, err := api.GetPoliciesWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.PolicyInput) (*client.Policy, error) {
			kept, err := api.PutPolicyWithResponse(ctx, id, &client.PutPolicyParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemovePolicyWithResponse(ctx, id, &client.RemovePolicyParams{IfMatch: version})
			return err
		},
	}

	Apps = &Objects[client.App, client.AppInput]{
		called: "app",
		about:  func(o client.App) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.App, error) {
			found, err := api.GetAppsWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.AppInput) (*client.App, error) {
			kept, err := api.PutAppWithResponse(ctx, id, &client.PutAppParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveAppWithResponse(ctx, id, &client.RemoveAppParams{IfMatch: version})
			return err
		},
	}

	Engines = &Objects[client.Engine, client.EngineInput]{
		called: "engine",
		about:  func(o client.Engine) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Engine, error) {
			found, err := api.GetEnginesWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.EngineInput) (*client.Engine, error) {
			kept, err := api.PutEngineWithResponse(ctx, id, &client.PutEngineParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveEngineWithResponse(ctx, id, &client.RemoveEngineParams{IfMatch: version})
			return err
		},
	}

	Persons = &Objects[client.Person, client.PersonInput]{
		called: "person",
		about:  func(o client.Person) One { return One{o.ID, o.Name, o.Version, o.FullName} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Person, error) {
			return People(ctx, api, "", "", everybody)
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.PersonInput) (*client.Person, error) {
			kept, err := api.PutPersonWithResponse(ctx, id, &client.PutPersonParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemovePersonWithResponse(ctx, id, &client.RemovePersonParams{IfMatch: version})
			return err
		},
	}

	Expectations = &Objects[client.Expectation, client.ExpectationInput]{
		called: "expectation", command: "expect",
		about: func(o client.Expectation) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Expectation, error) {
			found, err := api.GetExpectationsWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Items, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.RemoveExpectationWithResponse(ctx, id, &client.RemoveExpectationParams{IfMatch: version})
			return err
		},
	}

	Schedules = &Objects[client.Schedule, client.EditScheduleInputBody]{
		called: "schedule",
		about:  func(o client.Schedule) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.Schedule, error) {
			found, err := api.GetSchedulesWithResponse(ctx)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Schedules, nil
		},
		put: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body client.EditScheduleInputBody) (*client.Schedule, error) {
			kept, err := api.EditScheduleWithResponse(ctx, id, &client.EditScheduleParams{IfMatch: version}, body)
			if err != nil {
				return nil, err
			}
			return kept.JSON200, nil
		},
		take: func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error {
			_, err := api.DeleteScheduleWithResponse(ctx, id, &client.DeleteScheduleParams{IfMatch: version})
			return err
		},
	}

	Scorecards = &Objects[client.ScorecardBody, client.ScorecardBody]{
		called: "scorecard",
		about:  func(o client.ScorecardBody) One { return One{ID: o.ID, Name: o.Name} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.ScorecardBody, error) {
			found, err := api.GetScorecardsWithResponse(ctx)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Scorecards, nil
		},
	}

	Lists = &Objects[client.List, client.EditListInputBody]{
		called: "list",
		about:  func(o client.List) One { return One{ID: o.ID, Name: o.Name, Version: o.Version} },
		List: func(ctx context.Context, api *client.ClientWithResponses) ([]client.List, error) {
			found, err := api.GetListsWithResponse(ctx, nil)
			if err != nil {
				return nil, err
			}
			return found.JSON200.Lists, nil
		},
	}
)

// everybody is a limit for [People] that no organisation reaches.
const everybody = 1 << 30

// People fetches people page by page, at most limit.
func People(ctx context.Context, api *client.ClientWithResponses, text, group string, most int) ([]client.Person, error) {
	var all []client.Person
	params := client.GetPeopleParams{Text: &text}
	if group != "" {
		g, err := Find(ctx, api, Groups, group)
		if err != nil {
			return nil, err
		}
		params.Group = &g.ID
	}
	for len(all) < most {
		limit := int64(min(most-len(all), 1000))
		params.Limit = &limit
		page, err := api.GetPeopleWithResponse(ctx, &params)
		if err != nil {
			return nil, err
		}
		all = append(all, page.JSON200.Items...)
		if int64(len(page.JSON200.Items)) < limit {
			break
		}
		params.After = &all[len(all)-1].Name
	}
	return all, nil
}

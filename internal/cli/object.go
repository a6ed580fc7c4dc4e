package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
)

// recast gives one of the API's types the fields of another that it has too: what is fetched becomes what is sent back.
func recast[To any](from any) (to To, err error) {
	text, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(text, &to)
	}
	return to, err
}

// one is what commands need to know of an object of any kind.
type one struct {
	ID      uuid.UUID
	Name    string
	Version int64
	Full    string // another name that it goes by, which several may have; "" for none
}

// kind is a noun whose objects are fetched whole, by name.
type kind struct {
	noun   string
	all    func(ctx context.Context, api *client.ClientWithResponses) ([]one, error)
	remove func(ctx context.Context, api *client.ClientWithResponses, o one) error
}

// find returns the object of a name.
func (k kind) find(ctx context.Context, api *client.ClientWithResponses, name string) (one, error) {
	all, err := k.all(ctx, api)
	if err != nil {
		return one{}, err
	}
	return k.among(all, name)
}

// among returns the object of a name, or of a full name that is no other's.
func (k kind) among(all []one, name string) (one, error) {
	var full []one
	for _, o := range all {
		switch {
		case strings.EqualFold(o.Name, name):
			return o, nil
		case o.Full != "" && strings.EqualFold(o.Full, name):
			full = append(full, o)
		}
	}
	switch len(full) {
	case 0:
		return one{}, fmt.Errorf("there is no %s %q; `widelark %s ls` shows which there are", k.noun, name, k.noun)
	case 1:
		return full[0], nil
	}
	var names []string
	for _, o := range full {
		names = append(names, o.Name)
	}
	return one{}, fmt.Errorf("several are called %q: say which, as %s", name, strings.Join(names, ", "))
}

// refs returns references to objects by their names.
func (k kind) refs(ctx context.Context, api *client.ClientWithResponses, names []string) ([]client.Ref, error) {
	refs := []client.Ref{}
	for _, name := range names {
		o, err := k.find(ctx, api, name)
		if err != nil {
			return nil, err
		}
		refs = append(refs, client.Ref{ID: o.ID, Name: &o.Name})
	}
	return refs, nil
}

func (a *app) removeCommand(k kind) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME...", Short: "Delete", Args: atLeast("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			for _, name := range args {
				o, err := k.find(cmd.Context(), api, name)
				if err != nil {
					return err
				}
				if err := k.remove(cmd.Context(), api, o); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "Deleted the %s %q.\n", k.noun, o.Name)
			}
			return nil
		}),
	}
}

func ones[T any](all []T, err error, of func(T) one) ([]one, error) {
	var found []one
	for _, o := range all {
		found = append(found, of(o))
	}
	return found, err
}

var groupKind = kind{
	noun: "group",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := groups(ctx, api)
		return ones(all, err, func(g client.Group) one { return one{ID: g.ID, Name: g.Name, Version: g.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemoveGroupWithResponse(ctx, o.ID, &client.RemoveGroupParams{IfMatch: match(o.Version)})
		return err
	},
}

func groups(ctx context.Context, api *client.ClientWithResponses) ([]client.Group, error) {
	found, err := api.GetGroupsWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	return found.JSON200.Items, nil
}

var networkKind = kind{
	noun: "network",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := networks(ctx, api)
		return ones(all, err, func(n client.Network) one { return one{ID: n.ID, Name: n.Name, Version: n.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemoveNetworkWithResponse(ctx, o.ID, &client.RemoveNetworkParams{IfMatch: match(o.Version)})
		return err
	},
}

func networks(ctx context.Context, api *client.ClientWithResponses) ([]client.Network, error) {
	found, err := api.GetNetworksWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	return found.JSON200.Items, nil
}

var machineKind = kind{
	noun: "machine",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := machines(ctx, api)
		return ones(all, err, func(m client.Machine) one { return one{ID: m.ID, Name: m.Name, Version: m.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemoveMachineWithResponse(ctx, o.ID, &client.RemoveMachineParams{IfMatch: match(o.Version)})
		return err
	},
}

func machines(ctx context.Context, api *client.ClientWithResponses) ([]client.Machine, error) {
	found, err := api.GetMachinesWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	return found.JSON200.Items, nil
}

var personKind = kind{
	noun: "person",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := people(ctx, api, "", "", everybody)
		return ones(all, err, func(p client.Person) one { return one{p.ID, p.Name, p.Version, p.FullName} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemovePersonWithResponse(ctx, o.ID, &client.RemovePersonParams{IfMatch: match(o.Version)})
		return err
	},
}

// everybody is more people than there are on a page.
const everybody = 1 << 30

// people fetches persons page by page, at most so many.
func people(ctx context.Context, api *client.ClientWithResponses, text, group string, most int) ([]client.Person, error) {
	var all []client.Person
	params := client.GetPeopleParams{Text: &text}
	if group != "" {
		g, err := groupKind.find(ctx, api, group)
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

// exception returns the exception of a name.
func exception(ctx context.Context, api *client.ClientWithResponses, name string) (client.Exception, error) {
	all, err := exceptions(ctx, api)
	if err != nil {
		return client.Exception{}, err
	}
	return byName(all, "exception", name, func(e client.Exception) string { return e.Name })
}

// machine returns the machine of a name.
func machine(ctx context.Context, api *client.ClientWithResponses, name string) (client.Machine, error) {
	all, err := machines(ctx, api)
	if err != nil {
		return client.Machine{}, err
	}
	return byName(all, "machine", name, func(m client.Machine) string { return m.Name })
}

var exceptionKind = kind{
	noun: "exception",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := exceptions(ctx, api)
		return ones(all, err, func(e client.Exception) one { return one{ID: e.ID, Name: e.Name, Version: e.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemoveExceptionWithResponse(ctx, o.ID, &client.RemoveExceptionParams{IfMatch: match(o.Version)})
		return err
	},
}

func exceptions(ctx context.Context, api *client.ClientWithResponses) ([]client.Exception, error) {
	found, err := api.GetExceptionsWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	return found.JSON200.Items, nil
}

var policyKind = kind{
	noun: "policy",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := policies(ctx, api)
		return ones(all, err, func(p client.Policy) one { return one{ID: p.ID, Name: p.Name, Version: p.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemovePolicyWithResponse(ctx, o.ID, &client.RemovePolicyParams{IfMatch: match(o.Version)})
		return err
	},
}

var appKind = kind{
	noun: "app",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := apps(ctx, api)
		return ones(all, err, func(p client.App) one { return one{ID: p.ID, Name: p.Name, Version: p.Version} })
	},
	remove: func(ctx context.Context, api *client.ClientWithResponses, o one) error {
		_, err := api.RemoveAppWithResponse(ctx, o.ID, &client.RemoveAppParams{IfMatch: match(o.Version)})
		return err
	},
}

func apps(ctx context.Context, api *client.ClientWithResponses) ([]client.App, error) {
	found, err := api.GetAppsWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	return found.JSON200.Items, nil
}

var scheduleKind = kind{
	noun: "schedule",
	all: func(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
		all, err := schedules(ctx, api)
		return ones(all, err, func(s client.Schedule) one { return one{ID: s.ID, Name: s.Name, Version: s.Version} })
	},
}

// byName returns the object of a name among some.
func byName[T any](all []T, noun, name string, of func(T) string) (T, error) {
	for _, o := range all {
		if strings.EqualFold(of(o), name) {
			return o, nil
		}
	}
	var none T
	return none, fmt.Errorf("there is no %s %q; `widelark %s ls` shows which there are", noun, name, noun)
}

// orEmpty returns what a pointer points to; "" for nil.
func orEmpty[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

func namesOf(refs []client.Ref) string {
	var names []string
	for _, r := range refs {
		names = append(names, orEmpty(r.Name))
	}
	return strings.Join(names, ", ")
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// nothingToChange is for edits without a flag.
var nothingToChange = usageError{errors.New("nothing to change: give at least one flag")}

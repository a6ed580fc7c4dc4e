package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) groupCommand() *cobra.Command {
	var name, description string
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "All groups", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetGroupsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := view{data: found.JSON200.Groups, columns: []string{"Name", "Description"}}
			for _, g := range found.JSON200.Groups {
				v.rows = append(v.rows, []string{g.Name, g.Description})
			}
			return a.show(v)
		}),
	})
	edit := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a group", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var body client.EditGroupInputBody
			if cmd.Flags().Changed("name") {
				body.Name = &name
			}
			if cmd.Flags().Changed("describe") {
				body.Description = &description
			}
			if body == (client.EditGroupInputBody{}) {
				return usageError{errors.New("nothing to change: give --name or --describe")}
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			found, err := api.GetGroupsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			for _, g := range found.JSON200.Groups {
				if strings.EqualFold(g.Name, args[0]) {
					edited, err := api.EditGroupWithResponse(cmd.Context(), g.ID, &client.EditGroupParams{IfMatch: match(g.Version)}, body)
					if err == nil {
						fmt.Fprintf(a.out, "Changed the group %q.\n", edited.JSON200.Name)
					}
					return err
				}
			}
			return fmt.Errorf("there is no group %q; `widelark group ls` shows which there are", args[0])
		},
	}
	edit.Flags().StringVar(&name, "name", "", "the new name")
	edit.Flags().StringVar(&description, "describe", "", "who is in it")
	return noun("group", "Groups of people and machines", ls, edit)
}

func (a *app) policyCommand() *cobra.Command {
	cmd := noun("policy", "Policies and their rules",
		a.policyLsCommand(), a.policyShowCommand(), a.policyEditCommand(),
		noun("rule", "The rules of a policy", a.ruleAddCommand(), a.ruleEditCommand(), a.ruleRemoveCommand()))
	cmd.Example = `  widelark policy show "Ward floor"
  widelark policy rule add "Ward floor" "Never on the ward" --list Betting --then block
  widelark policy edit "Ward floor" --otherwise allow`
	return cmd
}

func findPolicy(ctx context.Context, api *client.ClientWithResponses, name string) (client.Policy, error) {
	found, err := api.GetPoliciesWithResponse(ctx)
	if err != nil {
		return client.Policy{}, err
	}
	for _, p := range found.JSON200.Policies {
		if strings.EqualFold(p.Name, name) {
			return p, nil
		}
	}
	return client.Policy{}, fmt.Errorf("there is no policy %q; `widelark policy ls` shows which there are", name)
}

func (a *app) policyLsCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "ls", Short: "All policies", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetPoliciesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := view{data: found.JSON200.Policies, columns: []string{"Name", "For", "Rules", "Otherwise", "Changed", "By"}}
			for _, p := range found.JSON200.Policies {
				v.rows = append(v.rows, []string{p.Name, p.Group.Name, fmt.Sprint(len(p.Rules)), string(p.Otherwise), a.moment(p.UpdatedAt), p.UpdatedBy})
			}
			return a.show(v)
		}),
	})
}

func (a *app) policyShowCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "show NAME", Short: "A policy's rules in order", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p, err := findPolicy(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			return a.showPolicy(p)
		}),
	})
}

func (a *app) showPolicy(p client.Policy) error {
	if a.format == "table" || a.format == "" {
		a.format = "table"
		fmt.Fprintf(a.out, "%s · for %s\n", p.Name, p.Group.Name)
		if p.Description != "" {
			fmt.Fprintln(a.out, p.Description)
		}
		fmt.Fprintln(a.out)
	}
	v := view{data: p, columns: []string{"#", "Rule", "If the URL is in", "Then"}}
	for i, r := range p.Rules {
		var names []string
		for _, list := range r.Lists {
			names = append(names, list.Name)
		}
		for _, key := range r.Categories {
			names = append(names, "category "+key)
		}
		v.rows = append(v.rows, []string{fmt.Sprint(i + 1), r.Name, strings.Join(names, ", "), a.verdictCell(string(r.Verdict))})
	}
	v.rows = append(v.rows, []string{"", "otherwise", "", a.verdictCell(string(p.Otherwise))})
	return a.show(v)
}

// verdictCell shows a verdict in a table with its mark, elsewhere as the word.
func (a *app) verdictCell(v string) string {
	if a.format == "table" {
		return a.verdict(v)
	}
	return v
}

func (a *app) policyEditCommand() *cobra.Command {
	var name, description, otherwise string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a policy, or set what holds where no rule matches", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var edit client.EditPolicyInputBody
			if cmd.Flags().Changed("name") {
				edit.Name = &name
			}
			if cmd.Flags().Changed("describe") {
				edit.Description = &description
			}
			if cmd.Flags().Changed("otherwise") {
				verdict := client.EditPolicyInputBodyOtherwise(otherwise)
				edit.Otherwise = &verdict
			}
			if edit == (client.EditPolicyInputBody{}) {
				return usageError{errors.New("nothing to change: give --name, --describe or --otherwise")}
			}
			return a.editPolicy(cmd.Context(), args[0], func(context.Context, *client.ClientWithResponses, client.Policy) (client.EditPolicyInputBody, error) {
				return edit, nil
			})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&description, "describe", "", "what the policy is for")
	cmd.Flags().StringVar(&otherwise, "otherwise", "", "allow or block")
	return cmd
}

// editPolicy fetches a policy, has an edit made from it, and shows the policy after it.
func (a *app) editPolicy(ctx context.Context, name string, edit func(context.Context, *client.ClientWithResponses, client.Policy) (client.EditPolicyInputBody, error)) error {
	api, err := a.api()
	if err != nil {
		return err
	}
	p, err := findPolicy(ctx, api, name)
	if err != nil {
		return err
	}
	body, err := edit(ctx, api, p)
	if err != nil {
		return err
	}
	edited, err := api.EditPolicyWithResponse(ctx, p.ID, &client.EditPolicyParams{IfMatch: match(p.Version)}, body)
	if err != nil {
		return err
	}
	return a.showPolicy(*edited.JSON200)
}

// ruleEdits are the rules of a policy as an edit wants them.
func ruleEdits(p client.Policy) []client.RuleEdit {
	rules := make([]client.RuleEdit, len(p.Rules))
	for i, r := range p.Rules {
		rules[i] = client.RuleEdit{Name: r.Name, Verdict: client.RuleEditVerdict(r.Verdict), Categories: &r.Categories, Lists: []uuid.UUID{}}
		for _, l := range r.Lists {
			rules[i].Lists = append(rules[i].Lists, l.ID)
		}
	}
	return rules
}

// place finds a rule by its name.
func place(p client.Policy, rule string) (int, error) {
	at := slices.IndexFunc(p.Rules, func(r client.Rule) bool { return strings.EqualFold(r.Name, rule) })
	if at < 0 {
		return 0, fmt.Errorf("the policy %q has no rule %q", p.Name, rule)
	}
	return at, nil
}

// findLists returns the ids of lists by their names.
func findLists(ctx context.Context, api *client.ClientWithResponses, names []string) ([]uuid.UUID, error) {
	ids := make([]uuid.UUID, len(names))
	for i, name := range names {
		l, err := findList(ctx, api, name)
		if err != nil {
			return nil, err
		}
		ids[i] = l.ID
	}
	return ids, nil
}

// ruleFlags are what says how a rule is to be.
type ruleFlags struct {
	name, then string
	lists      []string
	categories []string
	position   int
}

func (f *ruleFlags) on(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.lists, "list", nil, "a list that the rule is about; give it again for more")
	cmd.Flags().StringArrayVar(&f.categories, "category", nil, "the key of a category or family that the rule is about; give it again for more")
	cmd.Flags().StringVar(&f.then, "then", "block", "allow or block")
	cmd.Flags().IntVar(&f.position, "position", 0, "its place among the rules, from 1")
}

// put returns the rules with rule at the place that is asked for, at the given one where none is.
func (f *ruleFlags) put(rules []client.RuleEdit, rule client.RuleEdit, at int) []client.RuleEdit {
	if f.position > 0 {
		at = min(f.position-1, len(rules))
	}
	return slices.Insert(rules, at, rule)
}

func (a *app) ruleAddCommand() *cobra.Command {
	var f ruleFlags
	cmd := &cobra.Command{
		Use: "add POLICY RULE", Short: "Add a rule; the last, where no position is given", Args: exactly("POLICY", "RULE"),
		Example: `  widelark policy rule add "Ward floor" "Never on the ward" --list Betting --list "Video mirrors" --then block
  widelark policy rule add "Ward floor" "Dangers" --category dangers --position 1`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.editPolicy(cmd.Context(), args[0], func(ctx context.Context, api *client.ClientWithResponses, p client.Policy) (client.EditPolicyInputBody, error) {
				lists, err := findLists(ctx, api, f.lists)
				if err == nil && len(lists)+len(f.categories) == 0 {
					err = usageError{errors.New("a rule needs at least one --list or --category")}
				}
				rules := f.put(ruleEdits(p), client.RuleEdit{Name: args[1], Lists: lists, Categories: &f.categories, Verdict: client.RuleEditVerdict(f.then)}, len(p.Rules))
				return client.EditPolicyInputBody{Rules: &rules}, err
			})
		},
	}
	f.on(cmd)
	return cmd
}

func (a *app) ruleEditCommand() *cobra.Command {
	var f ruleFlags
	cmd := &cobra.Command{
		Use: "edit POLICY RULE", Short: "Change a rule, or move it", Args: exactly("POLICY", "RULE"),
		Example: `  widelark policy rule edit "Ward floor" "Never on the ward" --position 1
  widelark policy rule edit "Ward floor" "Never on the ward" --list Betting --list "Blocked on request"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.editPolicy(cmd.Context(), args[0], func(ctx context.Context, api *client.ClientWithResponses, p client.Policy) (client.EditPolicyInputBody, error) {
				at, err := place(p, args[1])
				if err != nil {
					return client.EditPolicyInputBody{}, err
				}
				rules := ruleEdits(p)
				rule := rules[at]
				if cmd.Flags().Changed("name") {
					rule.Name = f.name
				}
				if cmd.Flags().Changed("then") {
					rule.Verdict = client.RuleEditVerdict(f.then)
				}
				if len(f.lists) > 0 {
					if rule.Lists, err = findLists(ctx, api, f.lists); err != nil {
						return client.EditPolicyInputBody{}, err
					}
				}
				if len(f.categories) > 0 {
					rule.Categories = &f.categories
				}
				rules = f.put(slices.Delete(rules, at, at+1), rule, at)
				return client.EditPolicyInputBody{Rules: &rules}, nil
			})
		},
	}
	f.on(cmd)
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	return cmd
}

func (a *app) ruleRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove POLICY RULE", Short: "Take a rule out of a policy", Args: exactly("POLICY", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.editPolicy(cmd.Context(), args[0], func(_ context.Context, _ *client.ClientWithResponses, p client.Policy) (client.EditPolicyInputBody, error) {
				at, err := place(p, args[1])
				if err != nil {
					return client.EditPolicyInputBody{}, err
				}
				rules := slices.Delete(ruleEdits(p), at, at+1)
				return client.EditPolicyInputBody{Rules: &rules}, nil
			})
		},
	}
}

package account

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

const rolesSaid = "owner, editor, publisher, help desk, lead, auditor or reader"

// roleText says what a role is, as "lead (Trainees)".
func roleText(r client.Role) string {
	var bounds []string
	for _, refs := range []*[]client.Ref{r.Groups, r.Lists} {
		if refs != nil {
			for _, ref := range *refs {
				name := command.Deref(ref.Name)
				if name == "" {
					name = "something that is gone"
				}
				bounds = append(bounds, name)
			}
		}
	}
	if r.Reach != nil {
		bounds = append(bounds, "at most a "+string(*r.Reach))
	}
	if r.Minutes != nil && *r.Minutes > 0 {
		bounds = append(bounds, "for at most "+lengthText(*r.Minutes))
	}
	if len(bounds) == 0 {
		return string(r.Role)
	}
	return fmt.Sprintf("%s (%s)", r.Role, strings.Join(bounds, ", "))
}

func lengthText(minutes int64) string {
	const hour, day = 60, 24 * 60
	switch {
	case minutes%day == 0:
		return fmt.Sprintf("%dd", minutes/day)
	case minutes%hour == 0:
		return fmt.Sprintf("%dh", minutes/hour)
	}
	return fmt.Sprintf("%dm", minutes)
}

func rolesText(roles []client.Role) string {
	all := make([]string, len(roles))
	for i, r := range roles {
		all[i] = roleText(r)
	}
	return strings.Join(all, "; ")
}

// unbound returns roles without bounds.
func unbound(names []string) *[]client.Role {
	if len(names) == 0 {
		return nil
	}
	roles := make([]client.Role, len(names))
	for i, name := range names {
		roles[i] = client.Role{Role: roleNamed(name)}
	}
	return &roles
}

// roleNamed returns a role by its name, in which a hyphen may stand for the blank. Whether there is such a role, the service says.
func roleNamed(name string) client.RoleRole {
	return client.RoleRole(strings.ReplaceAll(strings.ToLower(name), "-", " "))
}

// bounds are the flags for what bounds a role.
type bounds struct {
	groups, lists  []string
	reach, longest string
}

func (b *bounds) flags(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&b.groups, "group", nil, "help desk and lead: for members of this group alone; may be repeated")
	cmd.Flags().StringSliceVar(&b.lists, "list", nil, "editor and publisher: for entries of this list alone; may be repeated")
	cmd.Flags().StringVar(&b.reach, "reach", "", "help desk and lead: the widest that a grant may open: page, host, site or everything")
	cmd.Flags().StringVar(&b.longest, "longest", "", "help desk and lead: the longest that a grant may last, as 4h or 7d")
}

func (b *bounds) role(ctx context.Context, api *client.ClientWithResponses, name string) (r client.Role, err error) {
	r.Role = roleNamed(name)
	if len(b.groups) > 0 {
		refs, err := object.References(ctx, api, object.Groups, b.groups)
		if err != nil {
			return r, err
		}
		r.Groups = &refs
	}
	if len(b.lists) > 0 {
		ids, err := object.FindLists(ctx, api, b.lists)
		if err != nil {
			return r, err
		}
		refs := make([]client.Ref, len(ids))
		for i, id := range ids {
			refs[i] = client.Ref{ID: id}
		}
		r.Lists = &refs
	}
	r.Reach = command.Optional[client.RoleReach](b.reach)
	if b.longest != "" {
		length, err := command.Duration(b.longest)
		if err != nil {
			return r, err
		}
		minutes := int64(length / time.Minute)
		r.Minutes = &minutes
	}
	return r, nil
}

func giveCommand(a *command.App) *cobra.Command {
	var b bounds
	cmd := &cobra.Command{
		Use: "give NAME ROLE", Short: "Give somebody a role, which holds at once: " + rolesSaid,
		Long: "Give somebody a role, which holds at once: " + rolesSaid + ". Roles add up. With bounds, the role is for some groups or lists alone; given again, it has the new bounds in place of the old ones.",
		Example: `  widelark account give sedge lead --group Trainees
  widelark account give pharmacy editor --list "Formulary and dosage sites"
  widelark account give desk "help desk" --group "Ward nurses" --reach site --longest 7d`,
		Args: command.Exactly("NAME", "ROLE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			role, err := b.role(cmd.Context(), api, args[1])
			if err != nil {
				return err
			}
			return putRoles(cmd.Context(), a, api, args[0], func(roles []client.Role) []client.Role {
				return append(slices.DeleteFunc(roles, func(r client.Role) bool { return r.Role == role.Role }), role)
			})
		}),
	}
	b.flags(cmd)
	return cmd
}

func takeCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "take NAME ROLE", Short: "Take a role from somebody, at once", Example: "  widelark account take sedge lead", Args: command.Exactly("NAME", "ROLE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			role := roleNamed(args[1])
			return putRoles(cmd.Context(), a, api, args[0], func(roles []client.Role) []client.Role {
				return slices.DeleteFunc(roles, func(r client.Role) bool { return r.Role == role })
			})
		}),
	}
}

// putRoles changes the roles of an account, and says what it may do then.
func putRoles(ctx context.Context, a *command.App, api *client.ClientWithResponses, name string, change func([]client.Role) []client.Role) error {
	who, err := accountNamed(ctx, api, name)
	if err != nil {
		return err
	}
	put, err := api.PutRolesWithResponse(ctx, who.ID, client.PutRolesInputBody{Roles: change(who.Roles)})
	if err != nil {
		return err
	}
	if may := rolesText(put.JSON200.Roles); may == "" {
		fmt.Fprintf(a.Out, "%s has no role now, and may do nothing.\n", put.JSON200.Name)
	} else {
		fmt.Fprintf(a.Out, "%s has the roles: %s.\n", put.JSON200.Name, may)
	}
	return nil
}

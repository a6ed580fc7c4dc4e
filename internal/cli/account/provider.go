package account

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// ProviderCommand implements `provider`.
func ProviderCommand(a *command.App) *cobra.Command {
	return command.Noun("provider", "The identity provider: what its groups may do", providerLsCommand(a), providerGiveCommand(a), providerTakeCommand(a))
}

func providerLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "What those may do whom the identity provider puts in a group", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetClaimsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200, Columns: []string{"Group there", "May do here", "Set", "By"}, Empty: "No group of the identity provider may do anything here."}
			if found.JSON200.Provider == nil {
				v.Empty = "The service has no identity provider: accounts have passwords here."
			}
			for _, c := range found.JSON200.Claims {
				v.Rows = append(v.Rows, []string{c.Group, rolesText(c.Roles), a.ByClock(c.UpdatedAt).Format(command.Clock), c.UpdatedBy})
			}
			return a.Show(v)
		}),
	})
}

// rolesOf returns what a group of the provider may do; nothing for one that is not known.
func rolesOf(ctx context.Context, api *client.ClientWithResponses, group string) ([]client.Role, error) {
	found, err := api.GetClaimsWithResponse(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range found.JSON200.Claims {
		if c.Group == group {
			return c.Roles, nil
		}
	}
	return nil, nil
}

func providerGiveCommand(a *command.App) *cobra.Command {
	var b bounds
	cmd := &cobra.Command{
		Use: "give GROUP ROLE", Short: "Give a group of the identity provider a role, which holds at once: " + rolesSaid,
		Long: "Give a group of the identity provider a role, which holds at once for all whom the provider put in the group when they last signed in: " + rolesSaid + ". Roles add up. Given again, a role has the new bounds in place of the old ones.",
		Example: `  widelark provider give lark-desk "help desk" --group "Ward nurses" --reach site
  widelark provider give lark-readers reader`,
		Args: command.Exactly("GROUP", "ROLE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			role, err := b.role(cmd.Context(), api, args[1])
			if err != nil {
				return err
			}
			roles, err := rolesOf(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			roles = append(slices.DeleteFunc(roles, func(r client.Role) bool { return r.Role == role.Role }), role)
			put, err := api.PutClaimWithResponse(cmd.Context(), &client.PutClaimParams{Group: args[0]}, client.PutClaimInputBody{Roles: roles})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The provider's group %s has the roles: %s.\n", put.JSON200.Group, rolesText(put.JSON200.Roles))
			return nil
		}),
	}
	b.flags(cmd)
	return cmd
}

func providerTakeCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "take GROUP", Short: "Take all roles from a group of the identity provider, at once", Example: "  widelark provider take lark-readers", Args: command.Exactly("GROUP"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.RemoveClaimWithResponse(cmd.Context(), &client.RemoveClaimParams{Group: args[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The provider's group %s has no role any more.\n", args[0])
			return nil
		}),
	}
}

// Package account implements the commands about accounts, sessions and tokens, and signing in and out.
//
// From: arguments.
// To: the API, by package client.
package account

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func Command(a *command.App) *cobra.Command {
	return command.Noun("account", "Accounts: who may sign in, and what they may do. All but your own password is for owners",
		accountLsCommand(a), accountAddCommand(a), giveCommand(a), takeCommand(a), accountPasswordCommand(a), accountRemoveCommand(a))
}

func accountLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "Who may sign in, and what they may do", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetAccountsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Accounts, Columns: []string{"Name", "Full name", "Signs in with", "May do"}}
			for _, one := range all.JSON200.Accounts {
				v.Rows = append(v.Rows, []string{one.Name, one.FullName, signsInWith(one), rolesText(one.Roles)})
			}
			return a.Show(v)
		}),
	})
}

// signsInWith says what an account signs in with.
func signsInWith(one client.Account) string {
	switch {
	case command.Deref(one.Provider):
		return "the identity provider"
	case command.Deref(one.Second):
		return "a second factor"
	}
	return "a password"
}

// accountNamed finds an account by its sign-in name.
func accountNamed(ctx context.Context, api *client.ClientWithResponses, name string) (client.Account, error) {
	all, err := api.GetAccountsWithResponse(ctx)
	if err != nil {
		return client.Account{}, err
	}
	for _, one := range all.JSON200.Accounts {
		if strings.EqualFold(one.Name, name) {
			return one, nil
		}
	}
	return client.Account{}, fmt.Errorf("there is no account %q", name)
}

func accountAddCommand(a *command.App) *cobra.Command {
	var fullName string
	var roles []string
	var fromInput bool
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Let somebody sign in", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			passwords, err := a.Passwords(fromInput, "Password: ")
			if err != nil {
				return err
			}
			made, err := api.AddAccountWithResponse(cmd.Context(), client.NewAccountInputBody{Name: args[0], FullName: command.Optional[string](fullName), Roles: unbound(roles), Password: passwords[0]})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s can sign in now.\n", made.JSON201.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&fullName, "full-name", "", "the person's name, as others should read it")
	cmd.Flags().StringSliceVar(&roles, "role", []string{"reader"}, "what the account may do, without bounds: "+rolesSaid)
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	return cmd
}

func accountPasswordCommand(a *command.App) *cobra.Command {
	var fromInput bool
	cmd := &cobra.Command{
		Use: "password [NAME]", Short: "Change your own password; with a name, give somebody another, which ends their sessions and tokens",
		Long: "Change your own password: your other sessions end. With a name, an owner gives somebody another one: their sessions end, and their tokens and second factors are taken away.\n" +
			"With --password-stdin, your own is read as two lines: the present one, then the new one.",
		Args: command.AtMost(1),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if len(args) == 0 {
				passwords, err := a.Passwords(fromInput, "Present password: ", "New password: ")
				if err != nil {
					return err
				}
				if _, err = api.ChangePasswordWithResponse(cmd.Context(), client.OwnPasswordInputBody{Present: passwords[0], Password: passwords[1]}); err != nil {
					return err
				}
				fmt.Fprintln(a.Out, "Your password is changed.")
				return nil
			}
			who, err := accountNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			passwords, err := a.Passwords(fromInput, "New password: ")
			if err != nil {
				return err
			}
			if _, err := api.ResetPasswordWithResponse(cmd.Context(), who.ID, client.ResetPasswordInputBody{Password: passwords[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s has another password now; sessions, tokens and second factors are gone.\n", who.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read passwords from standard input, a line each")
	return cmd
}

func accountRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove an account; its sessions and tokens end at once", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			who, err := accountNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveAccountWithResponse(cmd.Context(), who.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s can no longer sign in.\n", who.Name)
			return nil
		}),
	}
}

func SessionCommand(a *command.App) *cobra.Command {
	end := &cobra.Command{
		Use: "end ID", Short: "Sign out there", Args: command.Exactly("ID"), Example: "  widelark session end 3f8a21c0-0000-4000-8000-000000000000",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := readID(args[0])
			if err != nil {
				return err
			}
			if _, err := api.EndSessionWithResponse(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "Signed out there.")
			return nil
		}),
	}
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "Where you are signed in", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetSessionsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Sessions, Columns: []string{"ID", "Since", "Last seen", "From", "Program"}, Empty: "You are not signed in with a browser anywhere."}
			for _, one := range all.JSON200.Sessions {
				v.Rows = append(v.Rows, []string{one.ID.String(), a.ByClock(one.MadeAt).Format(command.Clock), a.ByClock(one.SeenAt).Format(command.Clock), one.Address, one.Agent})
			}
			return a.Show(v)
		}),
	})
	return command.Noun("session", "Your sessions: where you are signed in with a browser", ls, end)
}

func TokenCommand(a *command.App) *cobra.Command {
	var until string
	var roles []string
	make := &cobra.Command{
		Use: "new NAME", Short: "Make a token for a program; it is shown once", Args: command.Exactly("NAME"),
		Long: "Make a token for a program; it is shown once. It may do what you may do and, with --role, nothing but what these roles may.",
		Example: `  widelark token new "nightly import" --until 2027-06-30
  widelark token new "ordering system" --role reader`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ends, err := a.End(until)
			if err != nil {
				return err
			}
			made, err := api.CreateTokenWithResponse(cmd.Context(), client.NewTokenInputBody{Name: args[0], ExpiresAt: ends, Roles: unbound(roles)})
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, made.JSON201.Secret)
			return nil
		}),
	}
	make.Flags().StringSliceVar(&roles, "role", nil, "it may do no more than this role: "+rolesSaid+"; may be repeated")
	make.Flags().StringVar(&until, "until", "", "the last day, the moment, or a length of time (90d); left out, it has no end")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Take a token back", Args: command.Exactly("ID"), Example: "  widelark token remove 3f8a21c0-0000-4000-8000-000000000000",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := readID(args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteTokenWithResponse(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "The token is taken back.")
			return nil
		}),
	}
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "Your programs' tokens", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetTokensWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Tokens, Columns: []string{"ID", "Name", "May do", "Made", "Last used", "Ends"}, Empty: "You have no tokens."}
			said := func(at *time.Time) string {
				if at == nil {
					return "never"
				}
				return a.ByClock(*at).Format(command.Clock)
			}
			for _, one := range all.JSON200.Tokens {
				may := "as much as you"
				if one.Roles != nil {
					may = rolesText(*one.Roles)
				}
				v.Rows = append(v.Rows, []string{one.ID.String(), one.Name, may, said(&one.CreatedAt), said(one.LastUsedAt), said(one.ExpiresAt)})
			}
			return a.Show(v)
		}),
	})
	return command.Noun("token", "Your programs' tokens", ls, make, remove)
}

// readID reads an id in the form that `ls` prints.
func readID(text string) (uuid.UUID, error) {
	id, err := uuid.Parse(text)
	if err != nil {
		return id, command.Usagef("%q is not an id; ls shows them", text)
	}
	return id, nil
}

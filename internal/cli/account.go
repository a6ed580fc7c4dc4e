package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"widelark/client"
)

func (a *app) accountCommand() *cobra.Command {
	return noun("account", "Accounts: who may sign in. All but your own password is for owners",
		a.accountLsCommand(), a.accountAddCommand(), a.accountPasswordCommand(), a.accountRemoveCommand())
}

func (a *app) accountLsCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "ls", Short: "Who may sign in", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetAccountsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := view{data: all.JSON200.Accounts, columns: []string{"Name", "Full name", "Owner"}}
			for _, one := range all.JSON200.Accounts {
				v.rows = append(v.rows, []string{one.Name, one.FullName, map[bool]string{true: "yes"}[one.Owner]})
			}
			return a.show(v)
		}),
	})
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

func (a *app) accountAddCommand() *cobra.Command {
	var fullName string
	var owner, fromInput bool
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Let somebody sign in", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			passwords, err := a.passwords(fromInput, "Password: ")
			if err != nil {
				return err
			}
			made, err := api.AddAccountWithResponse(cmd.Context(), client.NewAccountInputBody{Name: args[0], FullName: optional[string](fullName), Owner: &owner, Password: passwords[0]})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s can sign in now.\n", made.JSON201.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&fullName, "full-name", "", "the person's name, as others should read it")
	cmd.Flags().BoolVar(&owner, "owner", false, "may edit the baseline and what its rules name, and accounts")
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	return cmd
}

func (a *app) accountPasswordCommand() *cobra.Command {
	var fromInput bool
	cmd := &cobra.Command{
		Use: "password [NAME]", Short: "Change your own password; with a name, give somebody another, which ends their sessions and tokens",
		Long: "Change your own password: your other sessions end. With a name, an owner gives somebody another one: their sessions end, and their tokens are taken back.\n" +
			"With --password-stdin, your own is read as two lines: the present one, then the new one.",
		Args: atMost(1),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if len(args) == 0 {
				passwords, err := a.passwords(fromInput, "Present password: ", "New password: ")
				if err != nil {
					return err
				}
				if _, err = api.ChangePasswordWithResponse(cmd.Context(), client.OwnPasswordInputBody{Present: passwords[0], Password: passwords[1]}); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "Your password is changed.")
				return nil
			}
			who, err := accountNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			passwords, err := a.passwords(fromInput, "New password: ")
			if err != nil {
				return err
			}
			if _, err := api.ResetPasswordWithResponse(cmd.Context(), who.ID, client.ResetPasswordInputBody{Password: passwords[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s has another password now; sessions and tokens are ended.\n", who.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read passwords from standard input, a line each")
	return cmd
}

// passwords asks for passwords one after the other.
func (a *app) passwords(fromInput bool, questions ...string) (given []string, _ error) {
	keyboard, isFile := a.in.(*os.File)
	onTerminal := isFile && term.IsTerminal(int(keyboard.Fd()))
	if !onTerminal && !fromInput {
		return nil, usagef("there is no terminal to ask for the password: give it with --password-stdin")
	}
	in := bufio.NewReader(a.in)
	for _, question := range questions {
		if onTerminal && !fromInput {
			fmt.Fprint(a.err, question)
			password, err := term.ReadPassword(int(keyboard.Fd()))
			fmt.Fprintln(a.err)
			if err != nil {
				return nil, err
			}
			given = append(given, string(password))
			continue
		}
		line, err := in.ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		given = append(given, strings.TrimRight(line, "\r\n"))
	}
	return given, nil
}

func (a *app) accountRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Let somebody sign in no more; sessions and tokens end at once", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			who, err := accountNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveAccountWithResponse(cmd.Context(), who.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s can sign in no more.\n", who.Name)
			return nil
		}),
	}
}

func (a *app) sessionCommand() *cobra.Command {
	end := &cobra.Command{
		Use: "end ID", Short: "Sign out there", Args: exactly("ID"), Example: "  widelark session end 3f8a21c0-0000-4000-8000-000000000000",
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := readID(args[0])
			if err != nil {
				return err
			}
			if _, err := api.EndSessionWithResponse(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Signed out there.")
			return nil
		}),
	}
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "Where you are signed in", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetSessionsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := view{data: all.JSON200.Sessions, columns: []string{"ID", "Since", "Last seen", "From", "Program"}, empty: "You are signed in nowhere in a browser."}
			for _, one := range all.JSON200.Sessions {
				v.rows = append(v.rows, []string{one.ID.String(), a.byClock(one.MadeAt).Format(clock), a.byClock(one.SeenAt).Format(clock), one.Address, one.Agent})
			}
			return a.show(v)
		}),
	})
	return noun("session", "Your sessions: where you are signed in with a browser", ls, end)
}

func (a *app) tokenCommand() *cobra.Command {
	var until string
	make := &cobra.Command{
		Use: "new NAME", Short: "Make a token for a program; it is shown once", Args: exactly("NAME"),
		Example: `  widelark token new "nightly import" --until 2027-06-30`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ends, err := a.end(until)
			if err != nil {
				return err
			}
			made, err := api.CreateTokenWithResponse(cmd.Context(), client.NewTokenInputBody{Name: args[0], ExpiresAt: ends})
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out, made.JSON201.Secret)
			return nil
		}),
	}
	make.Flags().StringVar(&until, "until", "", "the last day, the moment, or a length of time (90d); left out, it has no end")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Take a token back", Args: exactly("ID"), Example: "  widelark token remove 3f8a21c0-0000-4000-8000-000000000000",
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := readID(args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteTokenWithResponse(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "The token is taken back.")
			return nil
		}),
	}
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "Your programs' tokens", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetTokensWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := view{data: all.JSON200.Tokens, columns: []string{"ID", "Name", "Made", "Last used", "Ends"}, empty: "You have no tokens."}
			said := func(at *time.Time) string {
				if at == nil {
					return "never"
				}
				return a.byClock(*at).Format(clock)
			}
			for _, one := range all.JSON200.Tokens {
				v.rows = append(v.rows, []string{one.ID.String(), one.Name, said(&one.CreatedAt), said(one.LastUsedAt), said(one.ExpiresAt)})
			}
			return a.show(v)
		}),
	})
	return noun("token", "Your programs' tokens", ls, make, remove)
}

// readID reads an id as `ls` shows it.
func readID(text string) (uuid.UUID, error) {
	id, err := uuid.Parse(text)
	if err != nil {
		return id, usagef("%q is no id; ls shows them", text)
	}
	return id, nil
}

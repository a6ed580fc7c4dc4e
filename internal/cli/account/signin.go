package account

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http/cookiejar"
	"os"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"widelark/client"
	"widelark/internal/cli/command"
)

func LoginCommand(a *command.App) *cobra.Command {
	var name string
	var code string
	var fromInput, token bool
	cmd := &cobra.Command{
		Use:   "login",
		Short: "Sign in, and keep a token for the commands that follow",
		Long:  "Sign in with name and password. The service gives a token for this machine, which is kept in a file that only you can read. The password is not kept.\nWho signs in at an identity provider or with a passkey makes a token in the console, under Your account, and hands it over with --token-stdin.\nWhere WIDELARK_TOKEN holds a token, commands use that one instead.",
		Example: `  widelark login --name edda
  widelark login --server https://lark.quillmere.internal --name edda
  widelark login --name edda --code 482911
  widelark login --name edda --password-stdin < password.txt
  widelark login --token-stdin < token.txt`,
		Args: command.Exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if token {
				if err := takeToken(cmd.Context(), a); err != nil {
					return err
				}
				name = a.Settings.Name
			} else {
				password, err := credentials(a, &name, fromInput)
				if err != nil {
					return err
				}
				made, err := newToken(cmd.Context(), a, name, password, code)
				if err != nil {
					return err
				}
				a.Settings.Token, a.Settings.ID, a.Settings.Name = made.Secret, made.ID.String(), name
			}
			if err := a.Settings.Save(); err != nil {
				return fmt.Errorf("signed in, but the token cannot be kept: %w", err)
			}
			fmt.Fprintf(a.Out, "Signed in to %s as %s.\n", a.Settings.Server, name)
			if a.Settings.Given {
				fmt.Fprintln(a.Err, "WIDELARK_TOKEN is set, and comes before this sign-in: commands go on as whoever that token belongs to.")
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "your sign-in name")
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	cmd.Flags().StringVar(&code, "code", "", "the code that your app shows, where your account has one")
	cmd.Flags().BoolVar(&token, "token-stdin", false, "read a token from standard input, in place of signing in")
	cmd.MarkFlagsMutuallyExclusive("token-stdin", "password-stdin")
	return cmd
}

// takeToken keeps a token that was made elsewhere.
func takeToken(ctx context.Context, a *command.App) error {
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	api, err := client.New(a.Settings.Server, strings.TrimSpace(line))
	if err != nil {
		return err
	}
	session, err := api.WhoAmIWithResponse(ctx)
	switch {
	case err != nil:
		return err
	case session.JSON200.Account == nil:
		return command.Usagef("a token is wanted on standard input")
	}
	a.Settings.Token, a.Settings.ID, a.Settings.Name = strings.TrimSpace(line), "", session.JSON200.Account.Name
	return nil
}

// credentials asks for the name and the password if they are missing.
func credentials(a *command.App, name *string, fromInput bool) (string, error) {
	in := bufio.NewReader(a.In)
	keyboard, isFile := a.In.(*os.File)
	onTerminal := isFile && term.IsTerminal(int(keyboard.Fd()))
	if *name == "" {
		if !onTerminal {
			return "", command.Usagef("name yourself with --name")
		}
		fmt.Fprint(a.Err, "Name: ")
		line, err := in.ReadString('\n')
		if err != nil {
			return "", err
		}
		*name = strings.TrimSpace(line)
	}
	if onTerminal && !fromInput {
		fmt.Fprint(a.Err, "Password: ")
		password, err := term.ReadPassword(int(keyboard.Fd()))
		fmt.Fprintln(a.Err)
		return string(password), err
	}
	if !fromInput {
		return "", command.Usagef("there is no terminal to ask for the password: give it with --password-stdin")
	}
	line, err := in.ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// newToken signs in, creates a token, and signs out.
func newToken(ctx context.Context, a *command.App, name, password, code string) (*client.NewTokenOutputBody, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	api, err := client.NewWithCookies(a.Settings.Server, jar)
	if err != nil {
		return nil, err
	}
	body := client.SignInInputBody{Name: name, Password: password, Code: command.Optional[string](code)}
	_, err = api.SignInWithResponse(ctx, body)
	if problem, ok := errors.AsType[*client.Problem](err); ok && problem.Type == client.CodeWanted && code == "" {
		if keyboard, isFile := a.In.(*os.File); !isFile || !term.IsTerminal(int(keyboard.Fd())) {
			return nil, command.Usagef("the account wants a code of its app, too: give it with --code")
		}
		fmt.Fprint(a.Err, "Code: ")
		line, err := bufio.NewReader(a.In).ReadString('\n')
		if err != nil {
			return nil, err
		}
		line = strings.TrimSpace(line)
		body.Code = &line
		_, err = api.SignInWithResponse(ctx, body)
		if err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	made, err := api.CreateTokenWithResponse(ctx, client.NewTokenInputBody{Name: "widelark on " + host})
	if err != nil {
		return nil, err
	}
	_, err = api.SignOutWithResponse(ctx)
	return made.JSON201, err
}

func LogoutCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use:   "logout",
		Short: "Take the kept token back, and forget it",
		Args:  command.Exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if id, err := uuid.Parse(a.Settings.ID); err == nil {
				api, err := a.API()
				if err != nil {
					return err
				}
				var problem *client.Problem
				if _, err := api.DeleteTokenWithResponse(cmd.Context(), id); err != nil && !errors.As(err, &problem) {
					return fmt.Errorf("the token could not be taken back: %w", err)
				}
			}
			a.Settings.Token, a.Settings.ID, a.Settings.Name = "", "", ""
			if err := a.Settings.Save(); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "Signed out.")
			return nil
		},
	}
}

func WhoamiCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use:   "whoami",
		Short: "Who is signed in",
		Args:  command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			session, err := api.WhoAmIWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			who := session.JSON200.Account
			if who == nil {
				fmt.Fprintln(a.Err, "Nobody is signed in. Sign in with `widelark login`.")
				return command.ErrNo
			}
			return a.Show(command.View{
				Data: who, Columns: []string{"Name", "Full name", "May do", "Service", "By"},
				Rows: [][]string{{who.Name, who.FullName, rolesText(who.Roles), a.Settings.Server, map[bool]string{true: "the token in WIDELARK_TOKEN", false: "signing in"}[a.Settings.Given]}},
			})
		}),
	})
}

func StatusCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use:   "status",
		Short: "Show whether the service runs and can store changes",
		Args:  command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			health, err := api.GetHealthWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			err = a.Show(command.View{
				Data: health.JSON200, Columns: []string{"Service", "Version", "Database"},
				Rows: [][]string{{a.Settings.Server, health.JSON200.Version, string(health.JSON200.Database)}},
			})
			if err == nil && health.JSON200.Database != client.HealthOutputBodyDatabaseAnswers {
				return command.ErrNo
			}
			if err != nil || a.Format != "table" {
				return err
			}
			draft, err := api.GetDraftWithResponse(cmd.Context())
			if err != nil { // without a sign-in, only that the service runs
				return nil //nolint:nilerr
			}
			fmt.Fprintf(a.Out, "\n%s\n", draftText(a, *draft.JSON200))
			return nil
		}),
	})
}

// draftText returns a sentence on the differences between the draft and the live edition.
func draftText(a *command.App, d client.DraftOutputBody) string {
	said := fmt.Sprintf("Live is revision %d, %q; the draft is the same.", d.Live.Number, d.Live.Note)
	if d.Changed > 0 {
		said = fmt.Sprintf("Live is revision %d, %q; the draft differs in %s.", d.Live.Number, d.Live.Note, command.Plural(d.Changed, "object", "objects"))
	}
	if d.Failing > 0 {
		said += fmt.Sprintf(" %d of %d expectations fail.", d.Failing, d.Expected)
	}
	for _, p := range d.Planned {
		said += fmt.Sprintf(" Version %d goes live on %s.", p.Version, a.ByClock(p.Due).Format(command.Clock))
	}
	return said
}

func VersionCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "The version of this program", Args: command.Exactly(),
		PersistentPreRunE: func(*cobra.Command, []string) error { return nil },
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprintln(a.Out, "widelark", a.Version)
			return err
		},
	}
}

package service

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/postgres"
)

// Run carries out a command line of `widelarkd` and returns the exit code: 0 done, 2 usage, 3 could not.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer, version string) int {
	root := &cobra.Command{
		Use:           "widelarkd",
		Short:         "The service of Wide Lark",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noArguments,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(serveCommand(errs, version), gateCommand(errs), demoCommand(version), accountCommand(in), &cobra.Command{
		Use: "version", Short: "The version of this program", Args: noArguments,
		Run: func(*cobra.Command, []string) { fmt.Fprintln(out, "widelarkd", version) },
	})
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintf(errs, "widelarkd: %s\n", err)
		if _, usage := errors.AsType[usageError](err); usage {
			return 2
		}
		return 3
	}
	return 0
}

// usageError is a command line that cannot be carried out as it is written.
type usageError struct{ error }

// noArguments refuses arguments.
func noArguments(cmd *cobra.Command, args []string) error {
	switch {
	case len(args) == 0:
		return nil
	case cmd.HasParent():
		return usageError{fmt.Errorf("%q is one word too many: only options are wanted", args[0])}
	}
	return usageError{fmt.Errorf("unknown command %q", args[0])}
}

// oneName requires one argument: the name of an account.
func oneName(_ *cobra.Command, args []string) error {
	if len(args) != 1 {
		return usageError{fmt.Errorf("wanted: NAME; got %d arguments", len(args))}
	}
	return nil
}

func databaseFlag(cmd *cobra.Command) {
	cmd.Flags().String("database-url", "", "where PostgreSQL is, as postgres://widelark@127.0.0.1/widelark (also WIDELARKD_DATABASE_URL)")
}

func serveCommand(logs io.Writer, version string) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service with a PostgreSQL of your own",
		Example: `  widelarkd serve --database-url postgres://widelark@127.0.0.1/widelark --time-zone Europe/London
  widelarkd serve --config /etc/widelark/widelarkd.yaml`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := LoadConfig(cmd.Flags())
			if err != nil {
				return err
			}
			listener, err := Listen(config.Listen)
			if err != nil {
				return err
			}
			s, err := Start(cmd.Context(), config, listener, logs, version)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Wide Lark serves on %s\n", s.URL)
			for _, g := range s.gates {
				g.said(cmd.OutOrStdout())
			}
			secret, err := s.Authenticator.FirstOwnerSecret(cmd.Context())
			if err != nil {
				return errors.Join(err, s.Close())
			}
			if secret != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "Nobody has an account yet. Within a day, whoever opens this address first becomes the owner:\n  %s/welcome#%s\n", cmp.Or(strings.TrimSuffix(config.ConsoleURL, "/"), s.URL), secret)
			}
			select {
			case <-cmd.Context().Done():
				err = nil
			case err = <-s.Failed():
			}
			return errors.Join(err, s.Close())
		},
	}
	flags(cmd.Flags())
	databaseFlag(cmd)
	return cmd
}

func accountCommand(in io.Reader) *cobra.Command {
	var fullName string
	var fromInput bool
	var roles []string
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Let somebody sign in",
		Long:  "Let somebody sign in, with roles that have no bounds; `widelark account give` gives others. The first account is an owner.",
		Example: `  widelarkd account add edda --full-name "Edda Marsh" --database-url postgres://widelark@127.0.0.1/widelark
  widelarkd account add edda --password-stdin < password.txt`,
		Args: oneName,
		RunE: withAccounts(func(cmd *cobra.Command, store account.Store, args []string) error {
			password, err := readPassword(in, cmd.ErrOrStderr(), fromInput)
			if err != nil {
				return err
			}
			authenticator := account.NewAuthenticator(store, account.DefaultCost, nil)
			made, err := authenticator.Add(cmd.Context(), account.Account{Name: args[0], FullName: fullName, Roles: unbound(roles)}, password, access.Setup)
			if errors.Is(err, account.ErrTaken) {
				return fmt.Errorf("there is an account %q already", args[0])
			} else if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s can sign in now, as %s.\n", made.Name, cmp.Or(access.Described(made.Roles), "nothing yet"))
			return nil
		}),
	}
	flags(add.Flags())
	databaseFlag(add)
	add.Flags().StringVar(&fullName, "full-name", "", "the person's name, as others should read it")
	add.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	add.Flags().StringSliceVar(&roles, "role", []string{string(access.Reader)}, "what the account may do: "+rolesSaid())
	cmd := &cobra.Command{Use: "account", Short: "Who may sign in", Args: noArguments, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(add, accountLsCommand(), accountOwnerCommand(), accountPasswordCommand(in))
	return cmd
}

// unbound returns roles without bounds, by their names.
func unbound(names []string) (held []access.Held) {
	for _, name := range names {
		held = append(held, access.Held{Role: access.Role(name)})
	}
	return held
}

func rolesSaid() string {
	var all []string
	for _, r := range access.Roles() {
		all = append(all, string(r))
	}
	return strings.Join(all, ", ")
}

// withAccounts returns a command's function that opens the accounts of the database that the flags name.
func withAccounts(run func(cmd *cobra.Command, store account.Store, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		config, err := LoadConfig(cmd.Flags())
		if err != nil {
			return err
		}
		if config.DatabaseURL == "" {
			return errors.New("which database? Give --database-url")
		}
		store, err := postgres.Open(cmd.Context(), config.DatabaseURL)
		if err != nil {
			return err
		}
		defer store.Close()
		return run(cmd, store, args)
	}
}

func accountLsCommand() *cobra.Command {
	ls := &cobra.Command{
		Use: "ls", Short: "Who may sign in, and what they may do", Args: noArguments,
		RunE: withAccounts(func(cmd *cobra.Command, store account.Store, _ []string) error {
			all, err := store.Accounts(cmd.Context())
			for _, a := range all {
				fmt.Fprintf(cmd.OutOrStdout(), "%-20s %-24s %s\n", a.Name, a.FullName, access.Described(a.Roles))
			}
			return err
		}),
	}
	flags(ls.Flags())
	databaseFlag(ls)
	return ls
}

func accountOwnerCommand() *cobra.Command {
	var not bool
	cmd := &cobra.Command{
		Use: "owner NAME", Short: "Make somebody an owner; with --not, no longer", Args: oneName,
		RunE: withAccounts(func(cmd *cobra.Command, store account.Store, args []string) error {
			a, _, err := store.AccountByName(cmd.Context(), args[0])
			if err == nil {
				roles := slices.DeleteFunc(a.Roles, func(h access.Held) bool { return h.Role == access.Owner })
				if !not {
					roles = append(roles, access.Held{Role: access.Owner})
				}
				_, err = store.PutRoles(cmd.Context(), a.ID, roles, access.Setup)
			}
			switch {
			case errors.Is(err, account.ErrUnknown):
				return fmt.Errorf("there is no account %q", args[0])
			case errors.Is(err, account.ErrLastOwner):
				return fmt.Errorf("%s is the last owner: make somebody else one first", args[0])
			case err != nil:
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is %s.\n", args[0], map[bool]string{true: "no longer an owner", false: "an owner now"}[not])
			return nil
		}),
	}
	flags(cmd.Flags())
	databaseFlag(cmd)
	cmd.Flags().BoolVar(&not, "not", false, "take the role away")
	return cmd
}

func accountPasswordCommand(in io.Reader) *cobra.Command {
	var fromInput bool
	cmd := &cobra.Command{
		Use: "password NAME", Short: "Give somebody another password, and take their second factors, tokens and sessions away", Args: oneName,
		RunE: withAccounts(func(cmd *cobra.Command, store account.Store, args []string) error {
			a, _, err := store.AccountByName(cmd.Context(), args[0])
			if errors.Is(err, account.ErrUnknown) {
				return fmt.Errorf("there is no account %q", args[0])
			} else if err != nil {
				return err
			}
			password, err := readPassword(in, cmd.ErrOrStderr(), fromInput)
			if err != nil {
				return err
			}
			if err := account.NewAuthenticator(store, account.DefaultCost, nil).ResetPassword(cmd.Context(), a, password, access.Setup); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s signs in with the new password alone now.\n", a.Name)
			return nil
		}),
	}
	flags(cmd.Flags())
	databaseFlag(cmd)
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	return cmd
}

func readPassword(in io.Reader, ask io.Writer, fromInput bool) (string, error) {
	if keyboard, ok := in.(*os.File); ok && !fromInput && term.IsTerminal(int(keyboard.Fd())) {
		fmt.Fprint(ask, "Password: ")
		password, err := term.ReadPassword(int(keyboard.Fd()))
		fmt.Fprintln(ask)
		return string(password), err
	}
	if !fromInput {
		return "", errors.New("there is no terminal to ask for the password: give it with --password-stdin")
	}
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

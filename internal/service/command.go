package service

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

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
		Args:          cobra.NoArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	usage := false
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { usage = true; return err })
	root.AddCommand(serveCommand(errs, version), demoCommand(version), accountCommand(in), &cobra.Command{
		Use: "version", Short: "The version of this program", Args: cobra.NoArgs,
		Run: func(*cobra.Command, []string) { fmt.Fprintln(out, "widelarkd", version) },
	})
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintf(errs, "widelarkd: %s\n", err)
		if usage || strings.HasPrefix(err.Error(), "unknown command") {
			return 2
		}
		return 3
	}
	return 0
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
		Args: cobra.NoArgs,
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
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Let somebody sign in",
		Example: `  widelarkd account add edda --full-name "Edda Marsh" --database-url postgres://widelark@127.0.0.1/widelark
  widelarkd account add edda --password-stdin < password.txt`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			config, err := LoadConfig(cmd.Flags())
			if err != nil {
				return err
			}
			if config.DatabaseURL == "" {
				return errors.New("which database? Give --database-url")
			}
			password, err := readPassword(in, cmd.ErrOrStderr(), fromInput)
			if err != nil {
				return err
			}
			store, err := postgres.Open(cmd.Context(), config.DatabaseURL)
			if err != nil {
				return err
			}
			defer store.Close()
			door, err := account.NewDoor(store, account.DefaultCost)
			if err != nil {
				return err
			}
			if _, err := door.Add(cmd.Context(), args[0], fullName, password); errors.Is(err, account.ErrTaken) {
				return fmt.Errorf("there is an account %q already", args[0])
			} else if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s can sign in now.\n", args[0])
			return nil
		},
	}
	flags(add.Flags())
	databaseFlag(add)
	add.Flags().StringVar(&fullName, "full-name", "", "the person's name, as others should read it")
	add.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	cmd := &cobra.Command{Use: "account", Short: "Who may sign in", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(add)
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

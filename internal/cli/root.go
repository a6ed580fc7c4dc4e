// Package cli is the command line `widelark`: nouns, then verbs. It talks to the API and to nothing else.
//
// From: arguments.
// To: package client; for `entry explain`, the core alone.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
)

// The exit codes.
const (
	ExitDone     = 0
	ExitNo       = 1 // the answer is "no"
	ExitUsage    = 2
	ExitCouldNot = 3
)

// errNo ends a command whose answer is "no", after it has said so.
var errNo = errors.New("no")

// usageError is a mistake in the arguments.
type usageError struct{ error }

// usagef returns a mistake in the arguments.
func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// app is what the commands share in one run.
type app struct {
	in       io.Reader
	out, err io.Writer
	settings settings
	format   string
	version  string

	asked        sync.Once
	organisation *time.Location // see zone
	zoneless     error
}

// Run carries out a command line and returns the exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer, version string) int {
	a := &app{in: in, out: out, err: errs, version: version}
	root := a.root()
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) { // nothing else needs it, and it takes time
		a.complete(root)
	}
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	ran, err := root.ExecuteContextC(ctx)
	var usage usageError
	switch {
	case err == nil:
		return ExitDone
	case errors.Is(err, errNo):
		return ExitNo
	case errors.As(err, &usage):
		fmt.Fprintf(errs, "widelark: %s\nRun `%s --help` for how it is used.\n", err, ran.CommandPath())
		return ExitUsage
	}
	fmt.Fprintf(errs, "widelark: %s\n", explainError(err))
	return ExitCouldNot
}

// explainError adds what to do to errors that have a usual remedy.
func explainError(err error) string {
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == 401 && problem.Type != client.NameOrPassword {
		return err.Error() + "\nSign in with `widelark login`."
	}
	if errors.As(err, &problem) && len(problem.Fields) > 0 && problem.Fields[0].Path == "files" { // each with its own place
		lines := []string{problem.Detail}
		for _, field := range problem.Fields {
			lines = append(lines, "  "+field.Message)
		}
		return strings.Join(lines, "\n")
	}
	return err.Error()
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "widelark",
		Short:         "Write URL lists, decide who may reach what, and see what your rules do",
		Long:          "widelark is the command line of Wide Lark. It talks to a running service (`widelarkd serve`).\n\nYou always know what your rules do, before and after they are live, and why.",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          knownCommand,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			return a.settings.load(cmd.Flags())
		},
	}
	root.PersistentFlags().String("server", "", "the service's address (default http://127.0.0.1:8470; also WIDELARK_SERVER)")
	root.PersistentFlags().String("config", "", "where the sign-in is kept (also WIDELARK_CONFIG; a token in WIDELARK_TOKEN comes before it)")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(
		a.loginCommand(), a.logoutCommand(), a.whoamiCommand(), a.statusCommand(), a.versionCommand(), a.accountCommand(), a.sessionCommand(), a.tokenCommand(),
		a.listCommand(), a.entryCommand(), a.personCommand(), a.groupCommand(), a.networkCommand(), a.machineCommand(), a.whoCommand(),
		a.policyCommand(), a.exceptionCommand(), a.grantCommand(), a.appCommand(), a.tryCommand(),
		a.lookupCommand(), a.categoryCommand(), a.scorecardCommand(), a.packCommand(), a.scheduleCommand(),
		a.exportCommand(), a.planFilesCommand(), a.applyCommand(), a.backupCommand(), a.restoreCommand(),
		a.expectCommand(), a.reviewCommand(), a.replayCommand(), a.affectedCommand(), a.diffCommand(), a.publishCommand(), a.historyCommand(), a.rollbackCommand(), a.discardCommand(), a.auditCommand(),
	)
	help := root.HelpFunc()
	root.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		exemplify(root)
		help(cmd, args)
	})
	return root
}

// knownCommand refuses a first word that is no command, and says which are spelt alike.
func knownCommand(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	root.SuggestionsMinimumDistance = 2 // letters that differ
	text := fmt.Sprintf("unknown command %q", args[0])
	if near := root.SuggestionsFor(args[0]); len(near) > 0 {
		text += "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return usagef("%s", text)
}

// noun makes a command that only holds verbs.
func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ArbitraryArgs, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usagef("%s has no verb %q", cmd.CommandPath(), args[0])
		}
		return cmd.Help()
	}}
	cmd.AddCommand(verbs...)
	return cmd
}

// exactly is cobra.ExactArgs with names in its message.
func exactly(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(names) == 0 && len(args) > 0 {
			return usagef("%q is one word too many: only options are wanted", args[0])
		}
		if len(args) != len(names) {
			return usagef("wanted: %s; got %d arguments", strings.Join(names, " "), len(args))
		}
		return nil
	}
}

// atMost is cobra.MaximumNArgs with a clear message.
func atMost(most int) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) > most {
			return usagef("%q is one word too many", args[most])
		}
		return nil
	}
}

// atLeast wants the named arguments; the last may be repeated.
func atLeast(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return usagef("wanted: %s…; got %d arguments", strings.Join(names, " "), len(args))
		}
		return nil
	}
}

// api returns a client with the kept sign-in.
func (a *app) api() (*client.ClientWithResponses, error) {
	return client.New(a.settings.Server, a.settings.Token)
}

// apart refuses flags that contradict each other: the first of each row with any of the others.
func apart(cmd *cobra.Command, rows ...[]string) error {
	for _, row := range rows {
		for _, other := range row[1:] {
			if cmd.Flags().Changed(row[0]) && cmd.Flags().Changed(other) {
				return usagef("--%s and --%s do not go together", row[0], other)
			}
		}
	}
	return nil
}

// zone returns the organisation's time zone, in which days begin and moments are said. It is asked for once.
func (a *app) zone() (*time.Location, error) {
	a.asked.Do(func() { a.organisation, a.zoneless = a.askZone() })
	return a.organisation, a.zoneless
}

func (a *app) askZone() (*time.Location, error) {
	api, err := a.api()
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	answer, err := api.WhoAmIWithResponse(ctx)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the service does not say its time zone: %w", err)
	case answer.JSON200.Zone == "": // an older one, and "" would be read as UTC
		return time.Local, nil
	}
	return time.LoadLocation(answer.JSON200.Zone)
}

// byClock returns a moment by the organisation's clock, to be shown; by this machine's where the service does not say its zone.
func (a *app) byClock(at time.Time) time.Time {
	zone, err := a.zone()
	if err != nil {
		zone = time.Local
	}
	return at.In(zone)
}

// end is [end] by the organisation's clock. An end is never read by another clock: it would be somebody else's midnight.
func (a *app) end(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	zone, err := a.zone()
	if err != nil {
		return nil, err
	}
	return end(text, zone)
}

// withAPI makes what a command runs from a function that wants a client.
func (a *app) withAPI(run func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := a.api()
		if err != nil {
			return err
		}
		return run(cmd, api, args)
	}
}

// withList makes what a command runs from a function that wants the list that the first argument names; it gets the
// arguments after that.
func (a *app) withList(run func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error) func(*cobra.Command, []string) error {
	return a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		l, err := findList(cmd.Context(), api, args[0])
		if err != nil {
			return err
		}
		return run(cmd, api, l, args[1:])
	})
}

// open returns the file of that name, standard input for "-".
func (a *app) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(a.in), nil
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the file cannot be read: %w", err)
	}
	return file, nil
}

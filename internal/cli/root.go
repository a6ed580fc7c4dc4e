// Package cli is the command line `widelark`: nouns, then verbs. It talks to the API and to nothing else.
//
// From: arguments.
// To: package client. Each noun has a package below. Their common parts are in command, object and question, and no noun calls another.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/account"
	"widelark/internal/cli/category"
	"widelark/internal/cli/change"
	"widelark/internal/cli/command"
	"widelark/internal/cli/directory"
	"widelark/internal/cli/exception"
	"widelark/internal/cli/gate"
	"widelark/internal/cli/journal"
	"widelark/internal/cli/list"
	"widelark/internal/cli/pack"
	"widelark/internal/cli/people"
	"widelark/internal/cli/policy"
	"widelark/internal/cli/schedule"
	"widelark/internal/cli/stint"
	"widelark/internal/cli/trial"
	"widelark/internal/cli/watching"
)

// Run carries out a command line and returns the exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer, version string) int {
	a := &command.App{In: in, Out: out, Err: errs, Version: version}
	root := root(a)
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) { // only completion needs it, and it takes time
		complete(a, root)
	}
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	ran, err := root.ExecuteContextC(ctx)
	var usage command.UsageError
	switch {
	case err == nil:
		return command.ExitDone
	case errors.Is(err, command.ErrNo):
		return command.ExitNo
	case errors.As(err, &usage):
		fmt.Fprintf(errs, "widelark: %s\nRun `%s --help` for how it is used.\n", err, ran.CommandPath())
		return command.ExitUsage
	}
	fmt.Fprintf(errs, "widelark: %s\n", explainError(err))
	return command.ExitCouldNot
}

// explainError adds a remedy to errors that have a usual one.
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

func root(a *command.App) *cobra.Command {
	root := &cobra.Command{
		Use:           "widelark",
		Short:         "Write URL lists, decide who may reach what, and see what your rules do",
		Long:          "widelark is the command line of Wide Lark. It talks to a running service (`widelarkd serve`).\n\nYou always know what your rules do, before and after they are live, and why.",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          knownCommand,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if err := cmd.ValidateFlagGroups(); err != nil {
				return command.Usagef("%w", err)
			}
			return a.Settings.Load(cmd.Flags())
		},
	}
	root.PersistentFlags().String("server", "", "the service's address (default http://127.0.0.1:8470; also WIDELARK_SERVER)")
	root.PersistentFlags().String("config", "", "where the sign-in is kept (also WIDELARK_CONFIG; a token in WIDELARK_TOKEN comes before it)")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return command.Usagef("%w", err) })
	root.AddCommand(
		account.LoginCommand(a), account.LogoutCommand(a), account.WhoamiCommand(a), account.StatusCommand(a), account.VersionCommand(a), account.Command(a), account.SessionCommand(a), account.TokenCommand(a), account.ProviderCommand(a),
		gate.Command(a), journal.Command(a), watching.ReportCommand(a), watching.AlertCommand(a), watching.ForwardCommand(a), list.Command(a), list.EntryCommand(a), people.PersonCommand(a), people.GroupCommand(a), people.NetworkCommand(a), people.MachineCommand(a), people.WhoCommand(a), people.PresenceCommand(a),
		policy.Command(a), exception.Command(a), exception.GrantCommand(a), exception.RequestCommand(a), exception.CodeCommand(a), stint.Command(a), policy.AppCommand(a), policy.EngineCommand(a), trial.Command(a),
		trial.LookupCommand(a), category.Command(a), category.ScorecardCommand(a), pack.Command(a), directory.Command(a), schedule.Command(a),
		change.ExportCommand(a), change.PlanFilesCommand(a), change.ApplyCommand(a), change.BackupCommand(a), change.RestoreCommand(a),
		trial.ExpectCommand(a), change.ReviewCommand(a), change.ReplayCommand(a), change.AffectedCommand(a), change.DiffCommand(a), change.PublishCommand(a), change.RemarkCommand(a), change.PracticeCommand(a), change.HistoryCommand(a), change.RollbackCommand(a), change.DiscardCommand(a), change.AuditCommand(a),
	)
	help := root.HelpFunc()
	root.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		exemplify(root)
		help(cmd, args)
	})
	return root
}

// knownCommand refuses a first word that is not a command, and suggests commands with a similar spelling.
func knownCommand(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	root.SuggestionsMinimumDistance = 2 // in letters
	text := fmt.Sprintf("unknown command %q", args[0])
	if near := root.SuggestionsFor(args[0]); len(near) > 0 {
		text += "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return command.Usagef("%s", text)
}

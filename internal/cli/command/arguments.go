package command

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

// NothingToChange is the error of an edit without a flag.
var NothingToChange = Usagef("nothing to change: give at least one flag")

// UsageError describes a mistake in the arguments.
type UsageError struct{ error }

// Usagef returns a [*UsageError].
func Usagef(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// Noun returns a command that only holds verbs.
func Noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ArbitraryArgs, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return Usagef("%s has no verb %q", cmd.CommandPath(), args[0])
		}
		return cmd.Help()
	}}
	cmd.AddCommand(verbs...)
	return cmd
}

// Exactly is cobra.ExactArgs with the names of the arguments in its message.
func Exactly(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(names) == 0 && len(args) > 0 {
			return Usagef("%q is one word too many: only options are wanted", args[0])
		}
		if len(args) != len(names) {
			return Usagef("wanted: %s; got %d arguments", strings.Join(names, " "), len(args))
		}
		return nil
	}
}

// AtMost is cobra.MaximumNArgs with the names of the arguments in its message.
func AtMost(most int) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) > most {
			return Usagef("%q is one word too many", args[most])
		}
		return nil
	}
}

// AtLeast requires the named arguments; the last may be repeated.
func AtLeast(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return Usagef("wanted: %s…; got %d arguments", strings.Join(names, " "), len(args))
		}
		return nil
	}
}

// Apart refuses flags that contradict each other: the first of each row together with any of the others.
func Apart(cmd *cobra.Command, rows ...[]string) error {
	for _, row := range rows {
		for _, other := range row[1:] {
			if cmd.Flags().Changed(row[0]) && cmd.Flags().Changed(other) {
				return Usagef("--%s and --%s do not go together", row[0], other)
			}
		}
	}
	return nil
}

// Walk calls each with every command below one.
func Walk(cmd *cobra.Command, each func(*cobra.Command)) {
	for _, sub := range cmd.Commands() {
		each(sub)
		Walk(sub, each)
	}
}

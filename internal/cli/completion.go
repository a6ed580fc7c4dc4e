package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// named maps the words of arguments and flags to the kinds whose names can be completed.
var named = map[string]object.Kind{
	"person": object.Persons, "group": object.Groups, "network": object.Networks, "machine": object.Machines, "policy": object.Policies, "exception": object.Exceptions, "app": object.Apps, "engine": object.Engines,
	"schedule": object.Schedules, "expectation": object.Expectations, "list": object.Lists,
}

// nounKinds maps a noun to the kind that the first argument of its verbs names; flagKinds maps a flag to the kind that its value names.
var (
	nounKinds = map[string]string{
		"person": "person", "group": "group", "network": "network", "machine": "machine", "policy": "policy", "exception": "exception", "app": "app", "engine": "engine",
		"schedule": "schedule", "expect": "expectation", "list": "list", "rule": "policy", "source": "list",
	}
	flagKinds = map[string]string{
		"group": "group", "or-group": "group", "for": "group", "into": "group", "out-of": "group", "as": "person", "or-as": "person", "person": "person", "lead": "person",
		"network": "network", "machine": "machine", "list": "list", "only": "list", "all-but": "list", "outside": "schedule",
	}
)

// complete registers completions that offer the service's names for arguments and flags.
func complete(a *command.App, root *cobra.Command) {
	command.Walk(root, func(cmd *cobra.Command) {
		for flag, of := range flagKinds {
			calendar := flag == "as" && cmd.Name() == "import" // here the flag says what events become
			if cmd.Flags().Lookup(flag) != nil && !calendar {
				_ = cmd.RegisterFlagCompletionFunc(flag, names(a, named[of])) // it fails only if the flag does not exist
			}
		}
		_, arguments, _ := strings.Cut(cmd.Use, " ")
		parent := cmd.Parent().Name()
		if of, ok := nounKinds[parent]; ok && cmd.ValidArgsFunction == nil && cmd.Name() != "new" && cmd.Name() != "explain" &&
			slices.ContainsFunc([]string{"NAME", "POLICY", "GROUP"}, func(word string) bool { return strings.HasPrefix(arguments, word) }) {
			if strings.HasPrefix(arguments, "GROUP") {
				of = "group"
			}
			offer := names(a, named[of])
			cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
				if len(args) > 0 && !strings.HasSuffix(arguments, "...") {
					return nil, cobra.ShellCompDirectiveDefault
				}
				return offer(cmd, args, begun)
			}
		}
	})
}

// names offers the names and full names of a kind that begin with the typed text. If the service does not answer, it offers nothing.
func names(a *command.App, k object.Kind) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, begun string) (found []cobra.Completion, _ cobra.ShellCompDirective) {
		ctx, stop := context.WithTimeout(context.Background(), 3*time.Second)
		defer stop()
		if err := a.Settings.Load(cmd.Flags()); err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		api, err := a.API()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		all, err := k.All(ctx, api)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		for _, o := range all {
			if len(o.Name) >= len(begun) && strings.EqualFold(o.Name[:len(begun)], begun) {
				found = append(found, cobra.CompletionWithDesc(o.Name, o.Full))
			}
		}
		return found, cobra.ShellCompDirectiveNoFileComp
	}
}

package change

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func ReviewCommand(a *command.App) *cobra.Command {
	var all, exitCode bool
	cmd := &cobra.Command{
		Use: "review", Short: "What is wrong with the draft, or may be", Args: command.Exactly(),
		Long: "Look the whole draft through: rules that are never reached, objects that nothing names, people between policies, schedules inside out, " +
			"patterns that cover too much, exceptions that are over. What is as it should be is accepted with a reason.",
		Example: `  widelark review
  widelark review --exit-code
  widelark review accept "unused|list|…" --why "kept for the winter term"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetReviewWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			found := answer.JSON200
			v := command.View{Data: found, Columns: []string{"Severity", "Kind", "Where", "Finding", "Shown by", "Step that would mend it", "Key"}}
			wrong, accepted := false, 0
			for _, f := range found.Findings {
				if f.Accepted != nil {
					accepted++
					if !all {
						continue
					}
				}
				wrong = wrong || f.Severity == "wrong" && f.Accepted == nil
				fix := ""
				if f.Fix != nil {
					fix = f.Fix.Text
				}
				v.Rows = append(v.Rows, []string{string(f.Severity), f.Kind, f.At.Name, f.Text, command.OrEmpty(f.Shown), fix, f.Key})
			}
			if a.Format == "table" {
				showReview(a, found.Findings, all)
				fmt.Fprintf(a.Out, "%s, %d accepted.\n", command.Plural(found.Open, "finding", "findings"), accepted)
			} else if err := a.Show(v); err != nil {
				return err
			}
			if exitCode && wrong {
				return command.ErrNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "those that were accepted, too")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where anything is wrong that nobody accepted")
	a.Reads(cmd)
	cmd.AddCommand(reviewAcceptCommand(a), reviewReopenCommand(a))
	return cmd
}

func showReview(a *command.App, found []client.ReviewFinding, all bool) {
	last := ""
	for _, f := range found {
		if f.Accepted != nil && !all {
			continue
		}
		if head := string(f.Severity); head != last {
			fmt.Fprintf(a.Out, "%s\n", strings.ToUpper(head))
			last = head
		}
		text := f.Text
		if !strings.Contains(text, f.At.Name) { // about a rule or an entry: its text does not name the object
			text = f.At.Name + ": " + text
		}
		fmt.Fprintf(a.Out, "%s\n", a.Wrapped(text, 2))
		if f.Shown != nil {
			fmt.Fprintf(a.Out, "      shown by  %s\n", *f.Shown)
		}
		if f.Fix != nil {
			fmt.Fprintf(a.Out, "      to mend   %s\n", f.Fix.Text)
		}
		if f.Accepted != nil {
			fmt.Fprintf(a.Out, "      accepted  by %s: %s\n", f.Accepted.By, f.Accepted.Reason)
		}
		fmt.Fprintf(a.Out, "      key       %s\n", f.Key)
	}
	if last != "" {
		fmt.Fprintln(a.Out)
	}
}

func reviewAcceptCommand(a *command.App) *cobra.Command {
	var why, until string
	cmd := &cobra.Command{
		Use: "accept KEY --why TEXT", Short: "Say that a finding is as it should be", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			day, err := a.End(until)
			if err != nil {
				return err
			}
			if _, err := api.AcceptFindingWithResponse(cmd.Context(), client.AcceptInputBody{Key: args[0], Reason: why, Until: day}); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "Accepted.")
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "why it is as it should be")
	cmd.Flags().StringVar(&until, "until", "", "until when: a day as 2026-12-24, or a length of time as 4w; left out, for good")
	return cmd
}

func reviewReopenCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "reopen KEY", Short: "Let an accepted finding count again", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.UnacceptFindingWithResponse(cmd.Context(), &client.UnacceptFindingParams{Key: args[0]}); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "It counts again.")
			return nil
		}),
	}
}

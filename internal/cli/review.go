package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) reviewCommand() *cobra.Command {
	var all, exitCode bool
	cmd := &cobra.Command{
		Use: "review", Short: "What is wrong with the draft, or may be", Args: exactly(),
		Long: "Look the whole draft through: rules that are never reached, objects that nothing names, people between policies, schedules inside out, " +
			"patterns that cover too much, exceptions that are over. What is as it should be is accepted with a reason.",
		Example: `  widelark review
  widelark review --exit-code
  widelark review accept "unused|list|…" --why "kept for the winter term"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetReviewWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			found := answer.JSON200
			v := view{data: found, columns: []string{"Severity", "Kind", "Where", "Finding", "Shown by", "Step that would mend it", "Key"}}
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
				v.rows = append(v.rows, []string{string(f.Severity), f.Kind, f.At.Name, f.Text, orEmpty(f.Shown), fix, f.Key})
			}
			if a.format == "table" {
				a.showReview(found.Findings, all)
				fmt.Fprintf(a.out, "%s, %d accepted.\n", plural(found.Open, "finding", "findings"), accepted)
			} else if err := a.show(v); err != nil {
				return err
			}
			if exitCode && wrong {
				return errNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "those that were accepted, too")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where anything is wrong that nobody accepted")
	a.reads(cmd)
	cmd.AddCommand(a.reviewAcceptCommand(), a.reviewReopenCommand())
	return cmd
}

func (a *app) showReview(found []client.ReviewFinding, all bool) {
	last := ""
	for _, f := range found {
		if f.Accepted != nil && !all {
			continue
		}
		if head := string(f.Severity); head != last {
			fmt.Fprintf(a.out, "%s\n", strings.ToUpper(head))
			last = head
		}
		text := f.Text
		if !strings.Contains(text, f.At.Name) { // of a rule or an entry, which does not say where it stands
			text = f.At.Name + ": " + text
		}
		fmt.Fprintf(a.out, "%s\n", a.wrapped(text, 2))
		if f.Shown != nil {
			fmt.Fprintf(a.out, "      shown by  %s\n", *f.Shown)
		}
		if f.Fix != nil {
			fmt.Fprintf(a.out, "      to mend   %s\n", f.Fix.Text)
		}
		if f.Accepted != nil {
			fmt.Fprintf(a.out, "      accepted  by %s: %s\n", f.Accepted.By, f.Accepted.Reason)
		}
		fmt.Fprintf(a.out, "      key       %s\n", f.Key)
	}
	if last != "" {
		fmt.Fprintln(a.out)
	}
}

func (a *app) reviewAcceptCommand() *cobra.Command {
	var why, until string
	cmd := &cobra.Command{
		Use: "accept KEY --why TEXT", Short: "Say that a finding is as it should be", Args: exactly("KEY"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			day, err := a.end(until)
			if err != nil {
				return err
			}
			if _, err := api.AcceptFindingWithResponse(cmd.Context(), client.AcceptInputBody{Key: args[0], Reason: why, Until: day}); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Accepted.")
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "why it is as it should be")
	cmd.Flags().StringVar(&until, "until", "", "until when: a day as 2026-12-24, or a length of time as 4w; left out, for good")
	return cmd
}

func (a *app) reviewReopenCommand() *cobra.Command {
	return &cobra.Command{
		Use: "reopen KEY", Short: "Let an accepted finding count again", Args: exactly("KEY"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.UnacceptFindingWithResponse(cmd.Context(), &client.UnacceptFindingParams{Key: args[0]}); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "It counts again.")
			return nil
		}),
	}
}

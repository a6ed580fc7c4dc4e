// Package change implements the commands about the draft and revisions: differences, publishing, history, review, replays, and the configuration as files.
//
// From: arguments.
// To: the API, by package client.
package change

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/question"
)

// state checks the name of a state: draft, live or the number of a revision.
func state(text string) (string, error) {
	if text == "draft" || text == "live" {
		return text, nil
	}
	if n, err := strconv.ParseUint(text, 10, 63); err == nil && n > 0 {
		return text, nil
	}
	return "", command.Usagef("%q is neither draft nor live nor the number of a revision; `widelark history` shows those", text)
}

func DiffCommand(a *command.App) *cobra.Command {
	var exitCode, verdicts bool
	cmd := &cobra.Command{
		Use: "diff [FROM [TO]]", Short: "What two states differ by: what is live and the draft, or any two revisions",
		Example: `  widelark diff
  widelark diff 3 live
  widelark diff --verdicts
  widelark diff --exit-code || echo "there is something to publish"`,
		Args: command.AtMost(2),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			from, to := "live", "draft"
			for i, into := range []*string{&from, &to} {
				if i < len(args) {
					var err error
					if *into, err = state(args[i]); err != nil {
						return err
					}
				}
			}
			if verdicts {
				return showTurns(cmd.Context(), a, api, from, to)
			}
			answer, err := api.GetDiffWithResponse(cmd.Context(), &client.GetDiffParams{From: &from, To: &to})
			if err != nil {
				return err
			}
			changes := answer.JSON200.Changes
			if a.Format == "table" {
				showDiff(a, changes, from, to)
			} else if err := a.Show(differenceRows(answer.JSON200, changes)); err != nil {
				return err
			}
			if exitCode && len(changes) > 0 {
				return command.ErrNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&verdicts, "verdicts", false, "which URLs turn, for whom and when, in place of what was edited")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where there is any difference")
	return a.Reads(cmd)
}

func differenceRows(data any, changes []client.ObjectDifference) command.View {
	v := command.View{Data: data, Columns: []string{"Kind", "Name", "What", "By", "Mark", "Part", "Before", "After"}}
	for _, c := range changes {
		for _, l := range c.Lines {
			v.Rows = append(v.Rows, []string{string(c.Kind), c.Name, string(c.What), strings.Join(c.By, ", "), string(l.Mark), l.Part, command.OrEmpty(l.Before), command.OrEmpty(l.After)})
		}
	}
	return v
}

// differenceMarks holds the marks before the lines of a difference.
var differenceMarks = map[string]string{"added": "+", "made": "+", "removed": "-", "changed": "~", "moved": ">"}

func showDiff(a *command.App, changes []client.ObjectDifference, from, to string) {
	if len(changes) == 0 {
		fmt.Fprintf(a.Out, "There is no difference between %s and %s.\n", from, to)
		return
	}
	for _, c := range changes {
		fmt.Fprintf(a.Out, "%s %s %q  (%s, %s)\n", differenceMarks[string(c.What)], c.Kind, c.Name, strings.Join(c.By, ", "), a.Moment(c.At))
		for _, l := range c.Lines {
			if c.What != "changed" && l.Part == "name" {
				continue
			}
			text := command.OrEmpty(l.Before) + command.OrEmpty(l.After)
			if l.Mark == "changed" || l.Mark == "moved" {
				text = command.OrEmpty(l.Before) + "  →  " + command.OrEmpty(l.After)
			}
			fmt.Fprintf(a.Out, "    %s %s: %s\n", differenceMarks[string(l.Mark)], l.Part, text)
		}
		if e := c.Entries; e != nil {
			for _, one := range e.First {
				switch {
				case one.Before == nil:
					fmt.Fprintf(a.Out, "    + %s\n", command.OrEmpty(one.After))
				case one.After == nil:
					fmt.Fprintf(a.Out, "    - %s\n", command.OrEmpty(one.Before))
				default:
					fmt.Fprintf(a.Out, "    ~ %s  →  %s\n", command.OrEmpty(one.Before), command.OrEmpty(one.After))
				}
			}
			if more := e.Added + e.Edited + e.Removed - int64(len(e.First)); more > 0 {
				fmt.Fprintf(a.Out, "      and %s\n", command.Plural(more, "more entry", "more entries"))
			}
		}
	}
	fmt.Fprintf(a.Out, "\n%s between %s and %s.\n", command.Plural(int64(len(changes)), "difference", "differences"), from, to)
}

func PublishCommand(a *command.App) *cobra.Command {
	var note, force, at string
	var only []string
	var seen int64
	cmd := &cobra.Command{
		Use: "publish --note TEXT", Short: "Put the draft live, now or later", Args: command.Exactly(),
		Long: "Put the draft live as a new revision. Where an expectation does not hold, nothing is published unless --force says why.\n" +
			"With --only, some changed objects go live with what they hang on (what they name and is new, what named something that goes), and the rest stays the draft.",
		Example: `  widelark publish --note "Supplier portals for the Records office"
  widelark publish --note "Night ward opens earlier" --at "2026-11-30 06:00"
  widelark publish --note "Only the portals" --only "list Supplier portals"
  widelark publish --note "Ward list" --force "the trainees' site moves tomorrow"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			due, err := a.End(at)
			if err != nil {
				return err
			}
			body := client.PublishInputBody{Note: note, Force: command.Optional[string](force), At: due}
			if seen > 0 {
				body.Version = &seen
			}
			var chosen []string
			if len(only) > 0 {
				diff, err := draftDiff(cmd.Context(), api)
				if err != nil {
					return err
				}
				if chosen, err = chosenOf(diff, only); err != nil {
					return err
				}
				if body.Objects = &chosen; seen == 0 {
					body.Version = &diff.ToVersion
				}
			}
			answer, err := api.PublishWithResponse(cmd.Context(), body)
			if err != nil {
				return refused(cmd.Context(), a, api, err)
			}
			if p := answer.JSON201.Planned; p != nil {
				fmt.Fprintf(a.Out, "Version %d of the draft goes live on %s.\n", p.Version, a.ByClock(p.Due).Format(command.Clock))
				return nil
			}
			fmt.Fprintf(a.Out, "Revision %d is live.\n", answer.JSON201.Revision.Number)
			if objects := answer.JSON201.Objects; objects != nil {
				if more := besides(*objects, chosen); len(more) > 0 {
					fmt.Fprintf(a.Out, "It hangs on these, which are live, too: %s.\n", strings.Join(more, ", "))
				}
			}
			return nil
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&note, "note", "", "what it is for")
	flags.StringArrayVar(&only, "only", nil, "the kind and the name of a changed object, as 'policy Ward floor'; may be repeated; left out, the whole draft")
	flags.StringVar(&force, "force", "", "why it goes live though expectations fail")
	flags.StringVar(&at, "at", "", "when: a moment as '2026-11-30 06:00', or a length of time as 12h; left out, now")
	flags.Int64Var(&seen, "version", 0, "the version of the draft that was looked at: where it has gone on since, nothing is published")
	return cmd
}

// refused prints the failing expectations if they kept the draft from being published, and returns [command.ErrNo].
func refused(ctx context.Context, a *command.App, api *client.ClientWithResponses, err error) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Type != client.ExpectationsFail {
		return err
	}
	answer, failed := api.RunExpectationsWithResponse(ctx, &client.RunExpectationsParams{})
	if failed != nil {
		return err
	}
	question.ShowFailing(a, a.Err, answer.JSON200.Results)
	fmt.Fprintln(a.Err, problem.Detail)
	return command.ErrNo
}

func HistoryCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "history", Short: "What was put live, by whom and why", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetRevisionsWithResponse(cmd.Context(), &client.GetRevisionsParams{Limit: &limit})
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Revisions, Columns: []string{"Revision", "When", "Who", "Note"}, Numbers: []int{0}}
			for i, r := range answer.JSON200.Revisions {
				note := r.Note
				if r.SameAs != nil {
					note = fmt.Sprintf("(same as %d) %s", *r.SameAs, note)
				}
				if r.Forced != nil {
					note += fmt.Sprintf(" [%d of %d expectations failed: %s]", command.Deref(r.Failed), command.Deref(r.Asked), *r.Forced)
				}
				number := fmt.Sprint(r.Number)
				if i == 0 {
					number = "live " + number
				}
				v.Rows = append(v.Rows, []string{number, a.Moment(r.At), r.By, note})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many, at most 500")
	return a.Reads(cmd)
}

func RollbackCommand(a *command.App) *cobra.Command {
	var note string
	var draft bool
	cmd := &cobra.Command{
		Use: "rollback REVISION --note TEXT", Short: "Put an earlier revision live again, as a new one", Args: command.Exactly("REVISION"),
		Long: "Put an earlier revision live again. That makes a new revision; nothing is taken out of the history. The draft stays as it is, so that " +
			"what was wrong in it can be mended; with --draft it becomes what the revision is, too.",
		Example: `  widelark rollback 4 --note "the ward cannot open the dosage page"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return command.Usagef("%q is not the number of a revision; `widelark history` shows which there are", args[0])
			}
			answer, err := api.MakeLiveAgainWithResponse(cmd.Context(), number, client.LiveAgainInputBody{Note: note, Draft: &draft})
			if err != nil {
				return err
			}
			r := answer.JSON200
			fmt.Fprintf(a.Out, "Revision %d is live: the same as %d.\n", r.Number, command.Deref(r.SameAs))
			return nil
		}),
	}
	cmd.Flags().StringVar(&note, "note", "", "why")
	cmd.Flags().BoolVar(&draft, "draft", false, "the draft becomes what the revision is, too")
	return cmd
}

func DiscardCommand(a *command.App) *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "discard [KIND NAME]", Short: "Make the draft what is live, wholly or for one object",
		Example: `  widelark discard policy "Ward floor"
  widelark discard --all`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if all == (len(args) > 0) || !all && len(args) != 2 {
				return command.Usagef("name one object by its kind and name, as: policy \"Ward floor\"; or give --all")
			}
			diff, err := draftDiff(cmd.Context(), api)
			if err != nil {
				return err
			}
			body := client.DiscardInputBody{Version: &diff.ToVersion}
			said := command.Plural(int64(len(diff.Changes)), "change", "changes")
			if !all {
				ids := []string{}
				for _, c := range diff.Changes {
					if string(c.Kind) == args[0] && strings.EqualFold(c.Name, args[1]) {
						ids = append(ids, c.ID.String())
					}
				}
				if len(ids) == 0 {
					return fmt.Errorf("the draft has no change of the %s %q; `widelark diff` shows which there are", args[0], args[1])
				}
				body.Objects, said = &ids, fmt.Sprintf("the change of the %s %q", args[0], args[1])
			}
			if len(diff.Changes) == 0 {
				fmt.Fprintln(a.Out, "There is nothing to discard: the draft is what is live.")
				return nil
			}
			if _, err := api.DiscardWithResponse(cmd.Context(), body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Discarded %s. `widelark history` and the audit log still know of it.\n", said)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "every change")
	return cmd
}

func verifyCommand(a *command.App) *cobra.Command {
	var head string
	cmd := &cobra.Command{
		Use: "verify", Short: "Check that the log is as it was written: no event changed, taken out or put in; exit code 1 if it is not", Args: command.Exactly(),
		Long: "Check that the log is as it was written: no event changed, taken out or put in, by whatever way. Exit code 1 if it is not.\n" +
			"The head that it prints stands for the whole log. Kept elsewhere and given to a later check, it tells whether the end was taken off, or all was written anew.",
		Example: `  widelark audit verify
  widelark audit verify --head "$(cat /safe/place/head)"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.VerifyAuditWithResponse(cmd.Context(), &client.VerifyAuditParams{Head: command.Optional[string](head)})
			if err != nil {
				return err
			}
			v := answer.JSON200
			for _, f := range v.Faults {
				if f.Event != nil {
					fmt.Fprintf(a.Out, "event %d: ", *f.Event)
				}
				fmt.Fprintln(a.Out, f.Says)
			}
			if v.More > 0 {
				fmt.Fprintf(a.Out, "and %s more\n", command.Grouped(v.More))
			}
			if !v.Whole {
				return command.ErrNo
			}
			fmt.Fprintf(a.Out, "%s, as they were written.\n", command.Plural(v.Events, "event", "events"))
			if !v.Keyed {
				fmt.Fprintln(a.Out, "The service has no secret (--secret-file), so whoever can write the database could make all seals anew: keep the head elsewhere.")
			}
			if v.Head != nil {
				fmt.Fprintf(a.Out, "Head: %s\n", *v.Head)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&head, "head", "", "the head that an earlier check printed")
	return cmd
}

func AuditCommand(a *command.App) *cobra.Command {
	var text, kind string
	var limit int64
	cmd := &cobra.Command{
		Use: "audit", Short: "Who did what, and when: every change and every sign-in", Args: command.Exactly(),
		Example: `  widelark audit --text rowan --limit 20
  widelark audit --kind policy -o csv > policy-edits.csv`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetAuditWithResponse(cmd.Context(), &client.GetAuditParams{Text: command.Optional[string](text), Kind: command.Optional[string](kind), Limit: &limit})
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Events, Columns: []string{"When", "Who", "What", "Kind", "Name", "Detail"}, Empty: "Nothing matches."}
			for _, e := range answer.JSON200.Events {
				v.Rows = append(v.Rows, []string{a.Moment(e.At), e.By, e.What, command.OrEmpty(e.Kind), command.OrEmpty(e.Name), command.OrEmpty(e.Detail)})
			}
			return a.Show(v)
		}),
	}
	cmd.AddCommand(verifyCommand(a))
	flags := cmd.Flags()
	flags.StringVar(&text, "text", "", "only with this in it")
	flags.StringVar(&kind, "kind", "", "only about objects of this kind")
	flags.Int64Var(&limit, "limit", 50, "how many, at most 1000")
	return a.Reads(cmd)
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

// state checks what a state is called: draft, live or the number of a revision.
func state(text string) (string, error) {
	if text == "draft" || text == "live" {
		return text, nil
	}
	if n, err := strconv.ParseUint(text, 10, 63); err == nil && n > 0 {
		return text, nil
	}
	return "", usagef("%q is neither draft nor live nor the number of a revision; `widelark history` shows those", text)
}

func (a *app) diffCommand() *cobra.Command {
	var exitCode, verdicts bool
	cmd := &cobra.Command{
		Use: "diff [FROM [TO]]", Short: "What two states differ by: what is live and the draft, or any two revisions",
		Example: `  widelark diff
  widelark diff 3 live
  widelark diff --verdicts
  widelark diff --exit-code || echo "there is something to publish"`,
		Args: atMost(2),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
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
				return a.showTurns(cmd.Context(), api, from, to)
			}
			answer, err := api.GetDiffWithResponse(cmd.Context(), &client.GetDiffParams{From: &from, To: &to})
			if err != nil {
				return err
			}
			changes := answer.JSON200.Changes
			if a.format == "table" {
				a.showDiff(changes, from, to)
			} else if err := a.show(differenceRows(answer.JSON200, changes)); err != nil {
				return err
			}
			if exitCode && len(changes) > 0 {
				return errNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&verdicts, "verdicts", false, "which URLs turn, for whom and when, in place of what was edited")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where there is any difference")
	return a.reads(cmd)
}

func differenceRows(data any, changes []client.ObjectDifference) view {
	v := view{data: data, columns: []string{"Kind", "Name", "What", "By", "Mark", "Part", "Before", "After"}}
	for _, c := range changes {
		for _, l := range c.Lines {
			v.rows = append(v.rows, []string{string(c.Kind), c.Name, string(c.What), strings.Join(c.By, ", "), string(l.Mark), l.Part, orEmpty(l.Before), orEmpty(l.After)})
		}
	}
	return v
}

// differenceMarks are what stands before each line of a difference.
var differenceMarks = map[string]string{"added": "+", "made": "+", "removed": "-", "changed": "~", "moved": ">"}

func (a *app) showDiff(changes []client.ObjectDifference, from, to string) {
	if len(changes) == 0 {
		fmt.Fprintf(a.out, "There is no difference between %s and %s.\n", from, to)
		return
	}
	for _, c := range changes {
		fmt.Fprintf(a.out, "%s %s %q  (%s, %s)\n", differenceMarks[string(c.What)], c.Kind, c.Name, strings.Join(c.By, ", "), a.moment(c.At))
		for _, l := range c.Lines {
			if c.What != "changed" && l.Part == "name" {
				continue
			}
			text := orEmpty(l.Before) + orEmpty(l.After)
			if l.Mark == "changed" || l.Mark == "moved" {
				text = orEmpty(l.Before) + "  →  " + orEmpty(l.After)
			}
			fmt.Fprintf(a.out, "    %s %s: %s\n", differenceMarks[string(l.Mark)], l.Part, text)
		}
		if e := c.Entries; e != nil {
			for _, one := range e.First {
				switch {
				case one.Before == nil:
					fmt.Fprintf(a.out, "    + %s\n", orEmpty(one.After))
				case one.After == nil:
					fmt.Fprintf(a.out, "    - %s\n", orEmpty(one.Before))
				default:
					fmt.Fprintf(a.out, "    ~ %s  →  %s\n", orEmpty(one.Before), orEmpty(one.After))
				}
			}
			if more := e.Added + e.Edited + e.Removed - int64(len(e.First)); more > 0 {
				fmt.Fprintf(a.out, "      and %s\n", plural(more, "more entry", "more entries"))
			}
		}
	}
	fmt.Fprintf(a.out, "\n%s between %s and %s.\n", plural(int64(len(changes)), "difference", "differences"), from, to)
}

func (a *app) publishCommand() *cobra.Command {
	var note, force, at string
	var seen int64
	cmd := &cobra.Command{
		Use: "publish --note TEXT", Short: "Put the draft live, now or later", Args: exactly(),
		Long: "Put the draft live as a new revision. Where an expectation does not hold, nothing is published unless --force says why.",
		Example: `  widelark publish --note "Supplier portals for the Records office"
  widelark publish --note "Night ward opens earlier" --at "2026-11-30 06:00"
  widelark publish --note "Ward list" --force "the trainees' site moves tomorrow"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			due, err := a.end(at)
			if err != nil {
				return err
			}
			body := client.PublishInputBody{Note: note, Force: optional[string](force), At: due}
			if seen > 0 {
				body.Version = &seen
			}
			answer, err := api.PublishWithResponse(cmd.Context(), body)
			if err != nil {
				return a.refused(cmd.Context(), api, err)
			}
			if p := answer.JSON201.Planned; p != nil {
				fmt.Fprintf(a.out, "Version %d of the draft goes live on %s.\n", p.Version, a.byClock(p.Due).Format(clock))
				return nil
			}
			fmt.Fprintf(a.out, "Revision %d is live.\n", answer.JSON201.Revision.Number)
			return nil
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&note, "note", "", "what it is for")
	flags.StringVar(&force, "force", "", "why it goes live though expectations fail")
	flags.StringVar(&at, "at", "", "when: a moment as '2026-11-30 06:00', or a length of time as 12h; left out, now")
	flags.Int64Var(&seen, "version", 0, "the version of the draft that was looked at: where it has gone on since, nothing is published")
	return cmd
}

// refused tells which expectations fail, where they are why nothing was published: the answer is no then.
func (a *app) refused(ctx context.Context, api *client.ClientWithResponses, err error) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Type != client.ExpectationsFail {
		return err
	}
	answer, failed := api.RunExpectationsWithResponse(ctx, &client.RunExpectationsParams{})
	if failed != nil {
		return err
	}
	a.showFailing(a.err, answer.JSON200.Results)
	fmt.Fprintln(a.err, problem.Detail)
	return errNo
}

func (a *app) historyCommand() *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "history", Short: "What was put live, by whom and why", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetRevisionsWithResponse(cmd.Context(), &client.GetRevisionsParams{Limit: &limit})
			if err != nil {
				return err
			}
			v := view{data: answer.JSON200.Revisions, columns: []string{"Revision", "When", "Who", "Note"}, numbers: []int{0}}
			for i, r := range answer.JSON200.Revisions {
				note := r.Note
				if r.SameAs != nil {
					note = fmt.Sprintf("(same as %d) %s", *r.SameAs, note)
				}
				if r.Forced != nil {
					note += fmt.Sprintf(" [%d of %d expectations failed: %s]", deref(r.Failed), deref(r.Asked), *r.Forced)
				}
				number := fmt.Sprint(r.Number)
				if i == 0 {
					number = "live " + number
				}
				v.rows = append(v.rows, []string{number, a.moment(r.At), r.By, note})
			}
			return a.show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many, at most 500")
	return a.reads(cmd)
}

func (a *app) rollbackCommand() *cobra.Command {
	var note string
	var draft bool
	cmd := &cobra.Command{
		Use: "rollback REVISION --note TEXT", Short: "Put an earlier revision live again, as a new one", Args: exactly("REVISION"),
		Long: "Put an earlier revision live again. That makes a new revision; nothing is taken out of the history. The draft stays as it is, so that " +
			"what was wrong in it can be mended; with --draft it becomes what the revision is, too.",
		Example: `  widelark rollback 4 --note "the ward cannot open the dosage page"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usagef("%q is no number of a revision; `widelark history` shows which there are", args[0])
			}
			answer, err := api.MakeLiveAgainWithResponse(cmd.Context(), number, client.LiveAgainInputBody{Note: note, Draft: &draft})
			if err != nil {
				return err
			}
			r := answer.JSON200
			fmt.Fprintf(a.out, "Revision %d is live: the same as %d.\n", r.Number, deref(r.SameAs))
			return nil
		}),
	}
	cmd.Flags().StringVar(&note, "note", "", "why")
	cmd.Flags().BoolVar(&draft, "draft", false, "the draft becomes what the revision is, too")
	return cmd
}

func (a *app) discardCommand() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "discard [KIND NAME]", Short: "Make the draft what is live, wholly or for one object",
		Example: `  widelark discard policy "Ward floor"
  widelark discard --all`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if all == (len(args) > 0) || !all && len(args) != 2 {
				return usagef("name one object by its kind and name, as: policy \"Ward floor\"; or give --all")
			}
			from, to := "live", "draft"
			answer, err := api.GetDiffWithResponse(cmd.Context(), &client.GetDiffParams{From: &from, To: &to})
			if err != nil {
				return err
			}
			diff := answer.JSON200
			body := client.DiscardInputBody{Version: &diff.ToVersion}
			said := plural(int64(len(diff.Changes)), "change", "changes")
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
				fmt.Fprintln(a.out, "There is nothing to discard: the draft is what is live.")
				return nil
			}
			if _, err := api.DiscardWithResponse(cmd.Context(), body); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Discarded %s. `widelark history` and the audit log still know of it.\n", said)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "every change")
	return cmd
}

func (a *app) auditCommand() *cobra.Command {
	var text, kind string
	var limit int64
	cmd := &cobra.Command{
		Use: "audit", Short: "Who did what, and when: every change and every sign-in", Args: exactly(),
		Example: `  widelark audit --text rowan --limit 20
  widelark audit --kind policy -o csv > policy-edits.csv`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetAuditWithResponse(cmd.Context(), &client.GetAuditParams{Text: optional[string](text), Kind: optional[string](kind), Limit: &limit})
			if err != nil {
				return err
			}
			v := view{data: answer.JSON200.Events, columns: []string{"When", "Who", "What", "Kind", "Name", "Detail"}, empty: "Nothing of the kind was done."}
			for _, e := range answer.JSON200.Events {
				v.rows = append(v.rows, []string{a.moment(e.At), e.By, e.What, orEmpty(e.Kind), orEmpty(e.Name), orEmpty(e.Detail)})
			}
			return a.show(v)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&text, "text", "", "only with this in it")
	flags.StringVar(&kind, "kind", "", "only about objects of this kind")
	flags.Int64Var(&limit, "limit", 50, "how many, at most 1000")
	return a.reads(cmd)
}

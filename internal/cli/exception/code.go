package exception

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// CodeCommand is `widelark code`.
func CodeCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("code", "Codes that open held pages", codeNewCommand(a), codeLsCommand(a), codeEndCommand(a))
	cmd.Long = "A rule that holds pages until a code is entered (`--leave code`) lets whoever enters one past it, for a while. The help desk makes codes and passes them on. " +
		"A code is shown once, when it is made: only its hash is kept."
	cmd.Example = `  widelark code new --why "The evening class" --opens 45 --until 4h
  widelark code new "harbour-news.example/puzzles" --why "Ward 4" --uses 20 --until 7d
  widelark code ls
  widelark code end 0190a5d2`
	return cmd
}

func codeNewCommand(a *command.App) *cobra.Command {
	var why, until string
	var minutes, uses, idle int64
	var categories, persons, groups []string
	var everything bool
	cmd := &cobra.Command{
		Use: "new [ENTRY...]", Short: "Make a code; without an entry, it opens the page at which it is entered", Args: cobra.ArbitraryArgs,
		Long: "Make a code. Without an entry, a category or --everything, it opens the page at which it is entered, where a rule holds that for a code; otherwise it can be entered at pages that are blocked, too. " +
			"The baseline stands above all codes.",
		Example: `  widelark code new --why "The evening class" --opens 45 --until 4h
  widelark code new --category video --group Trainees --why "The film lesson" --opens 60 --uses 30 --until 1d
  widelark code new --everything --person "Kay Moran" --why "The inspection" --opens 120 --until 8h`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if until == "" || why == "" {
				return command.Usagef("say what the code is for, with --why, and until when it can be entered, with --until: 2h, 7d")
			}
			end, err := a.End(until)
			if err != nil {
				return err
			}
			body := client.CodeBody{Minutes: minutes, Uses: uses, Until: *end, Reason: why}
			if len(args) > 0 {
				body.Entries = &args
			}
			if idle > 0 {
				body.Idle = &idle
			}
			if len(categories) > 0 {
				body.Categories = &categories
			}
			if everything {
				body.Everything = &everything
			}
			if len(persons)+len(groups) > 0 {
				whom, err := object.Whom(cmd.Context(), api, false, persons, groups, nil, nil)
				if err != nil {
					return err
				}
				body.For = &whom
			}
			made, err := api.AddCodeWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			c := made.JSON201
			times := "once"
			if c.Uses > 1 {
				times = fmt.Sprintf("%d times", c.Uses)
			}
			fmt.Fprintf(a.Out, "%s\n\nIt opens %s for %d minutes. It can be entered %s, until %s. It is not shown again.\n", *c.Text, c.Name, c.Minutes, times, a.Moment(c.Until))
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "what the code is for")
	cmd.Flags().StringVar(&until, "until", "", "until when it can be entered: a length of time (2h, 7d), the last day, or the moment; within 90 days")
	cmd.Flags().Int64Var(&minutes, "opens", 60, "for how many minutes it opens what it is for")
	cmd.Flags().Int64Var(&idle, "idle", 0, "close it again after so many minutes in which nothing is opened; 0: only at its end")
	cmd.Flags().Int64Var(&uses, "uses", 1, "how often it can be entered")
	cmd.Flags().StringSliceVar(&categories, "category", nil, "everything in this category or family is opened, too; may be repeated")
	cmd.Flags().BoolVar(&everything, "everything", false, "everything below the baseline is opened")
	cmd.Flags().StringArrayVar(&persons, "person", nil, "only this person may enter it; may be repeated")
	cmd.Flags().StringArrayVar(&groups, "group", nil, "only members of this group may enter it; may be repeated")
	return cmd
}

func codeLsCommand(a *command.App) *cobra.Command {
	var passed bool
	cmd := a.Reads(&cobra.Command{
		Use: "ls", Short: "Codes that can be entered", Args: command.Exactly(), Example: "  widelark code ls\n  widelark code ls --passed",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetCodesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			if passed {
				v := command.View{Data: answer.JSON200.Passages, Columns: []string{"ID", "Who", "How", "Opens", "Since", "Until", "Reference"}, Empty: "Nobody has come past a hold."}
				for _, p := range answer.JSON200.Passages {
					who := command.OrEmpty(p.Address)
					if p.Person != nil {
						who = cmp.Or(command.OrEmpty(p.Person.Name), who)
					}
					v.Rows = append(v.Rows, []string{short(p.ID), who, string(p.How), strings.Join(append(p.Entries, command.Deref(p.Categories)...), ", "), a.Moment(p.From), a.Moment(p.Until), p.Reference})
				}
				return a.Show(v)
			}
			v := command.View{Data: answer.JSON200.Codes, Columns: []string{"ID", "Opens", "For", "Minutes", "Entered", "Of", "Until", "By", "Why"}, Numbers: []int{3, 4, 5}, Empty: "There is no code."}
			for _, c := range answer.JSON200.Codes {
				v.Rows = append(v.Rows, []string{short(c.ID), c.Name, forWhom(c.For), fmt.Sprint(c.Minutes), fmt.Sprint(c.Used), fmt.Sprint(c.Uses), a.Moment(c.Until), c.MadeBy, c.Reason})
			}
			return a.Show(v)
		}),
	})
	cmd.Flags().BoolVar(&passed, "passed", false, "who has come past a hold and still may pass, instead")
	return cmd
}

// forWhom says who may enter a code.
func forWhom(whom *client.WhomBody) string {
	if whom == nil {
		return "whoever has it"
	}
	var names []string
	for _, refs := range []*[]client.Ref{whom.Persons, whom.Groups} {
		for _, r := range command.Deref(refs) {
			names = append(names, command.Deref(r.Name))
		}
	}
	return strings.Join(names, ", ")
}

// short returns the end of an id, which tells ids that were made one after the other apart.
func short(id uuid.UUID) string {
	text := id.String()
	return text[len(text)-8:]
}

func codeEndCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "end ID", Short: "End a code, or what somebody has come past", Args: command.Exactly("ID"),
		Long:    "ID is as `widelark code ls` shows it or, to end what somebody has acknowledged or opened, as `widelark code ls --passed` does.",
		Example: "  widelark code end 6c8b4a1e",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.GetCodesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			return endCode(cmd.Context(), a, api, answer.JSON200, args[0])
		}),
	}
}

func endCode(ctx context.Context, a *command.App, api *client.ClientWithResponses, all *client.CodesOutputBody, named string) error {
	named = strings.ToLower(strings.TrimSpace(named))
	is := func(id uuid.UUID) bool { return len(named) >= 8 && strings.HasSuffix(id.String(), named) }
	for _, c := range all.Codes {
		if is(c.ID) {
			if _, err := api.EndCodeWithResponse(ctx, c.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Ended the code for %s. What it has opened stays open until its time is over; `widelark code ls --passed` shows it.\n", c.Name)
			return nil
		}
	}
	for _, p := range all.Passages {
		if is(p.ID) {
			if _, err := api.EndPassageWithResponse(ctx, p.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Ended what was open: %s.\n", strings.Join(p.Entries, ", "))
			return nil
		}
	}
	return fmt.Errorf("there is no code %q; `widelark code ls` and `widelark code ls --passed` show what there is", named)
}

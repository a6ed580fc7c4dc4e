package list

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func historyCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "history NAME", Short: "Who changed what in a list, and when", Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			page, err := api.GetHistoryWithResponse(cmd.Context(), l.ID, &client.GetHistoryParams{Limit: &limit})
			if err != nil {
				return err
			}
			v := command.View{Data: page.JSON200.Changes, Columns: []string{"Version", "When", "Who", "What", "Added", "Edited", "Removed", "Detail"}, Numbers: []int{0, 4, 5, 6}}
			for _, c := range page.JSON200.Changes {
				v.Rows = append(v.Rows, []string{fmt.Sprint(c.Version), a.Moment(c.At), c.By, string(c.What), command.Grouped(c.Added), command.Grouped(c.Edited), command.Grouped(c.Removed), c.Detail})
			}
			if page.JSON200.Next != nil {
				v.Foot = fmt.Sprintf("\nThe newest %d; --limit shows more.", limit)
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many changes, at most 500")
	return a.Reads(cmd)
}

// version reads the number of a version.
func version(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, command.Usagef("%q is not a version; `widelark list history NAME` shows which there are", text)
	}
	return n, nil
}

func compareCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "compare NAME FROM [TO]", Short: "What two states of a list differ by; TO left out is now",
		Example: `  widelark list history Betting
  widelark list compare Betting 31 42`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 3 {
				return nil
			}
			return command.Exactly("NAME", "FROM")(cmd, args)
		},
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			from, err := version(rest[0])
			if err != nil {
				return err
			}
			to := l.Version
			if len(rest) > 1 {
				if to, err = version(rest[1]); err != nil {
					return err
				}
			}
			found, err := api.CompareListWithResponse(cmd.Context(), l.ID, &client.CompareListParams{From: from, To: to, Limit: &limit})
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200.Differences, Columns: []string{"", "Before", "After"}, Empty: "The two are the same."}
			for _, d := range found.JSON200.Differences {
				before, after, mark := given(d.Before), given(d.After), "~"
				switch {
				case d.Before == nil:
					mark = "+"
				case d.After == nil:
					mark = "-"
				}
				v.Rows = append(v.Rows, []string{mark, before, after})
			}
			if n := found.JSON200.Total; n > int64(len(v.Rows)) {
				v.Foot = fmt.Sprintf("\nThe first %d of %s; --limit shows more.", len(v.Rows), command.Grouped(n))
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 200, "how many differences, at most 2000")
	return a.Reads(cmd)
}

// given returns an optional text, or "".
func given(t *string) string {
	if t == nil {
		return ""
	}
	return *t
}

func takeBackCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "take-back NAME VERSION", Short: "Restore a past state of a list's entries", Args: command.Exactly("NAME", "VERSION"),
		Long: "Restore a past state of a list's entries. That is a change like any other: it stands in the history, and can be taken back itself.",
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			to, err := version(rest[0])
			if err != nil {
				return err
			}
			return takeBack(a, cmd, api, l, to)
		}),
	}
}

func takeBack(a *command.App, cmd *cobra.Command, api *client.ClientWithResponses, l client.List, to int64) error {
	back, err := api.TakeBackWithResponse(cmd.Context(), l.ID, &client.TakeBackParams{IfMatch: command.Match(l.Version)}, client.TakeBackInputBody{Version: to})
	if err == nil {
		fmt.Fprintf(a.Out, "%q is as it was at version %d, with %s.\n", l.Name, to, command.Plural(back.JSON200.EntryCount, "entry", "entries"))
	}
	return err
}

func undoCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "undo NAME", Short: "Undo the last change of a list's entries", Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			two := int64(2)
			page, err := api.GetHistoryWithResponse(cmd.Context(), l.ID, &client.GetHistoryParams{Limit: &two})
			if err != nil {
				return err
			}
			if len(page.JSON200.Changes) < 2 {
				return fmt.Errorf("the list %q has no change that could be taken back", l.Name)
			}
			last := page.JSON200.Changes[0]
			if last.What == client.ChangeWhatDescribed {
				return fmt.Errorf("the last change of %q was to its name or description; set them with `widelark list edit`", l.Name)
			}
			return takeBack(a, cmd, api, l, page.JSON200.Changes[1].Version)
		}),
	}
}

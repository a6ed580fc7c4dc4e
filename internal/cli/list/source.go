package list

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func sourceCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("source", "Lists that somebody else keeps: where they come from, and how the last pull went",
		sourceLsCommand(a), sourceSetCommand(a), sourcePullCommand(a), sourceRemoveCommand(a))
	cmd.Example = `  widelark list source set "Partner's warnings" https://lists.partner.example/warnings.txt.gz --every 6h
  widelark list source pull "Partner's warnings"
  widelark list source ls`
	return cmd
}

func sourceLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All lists that are pulled", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetSourcesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200.Sources, Columns: []string{"List", "Last pull", "Result", "Next", "What happened", "From"}, Empty: "No list is pulled. `widelark list source set` has one pulled."}
			for _, s := range found.JSON200.Sources {
				l, err := api.GetListWithResponse(cmd.Context(), s.ListID)
				if err != nil {
					return err
				}
				v.Rows = append(v.Rows, append([]string{l.JSON200.Name}, sourceRow(a, s)...))
			}
			return a.Show(v)
		}),
	})
}

func sourceRow(a *command.App, s client.Source) []string {
	tried, result, next := "never", "", a.Moment(s.NextAt)
	if s.TriedAt != nil {
		tried = a.Moment(*s.TriedAt)
	}
	if s.Result != nil {
		result = string(*s.Result)
	}
	if s.Paused {
		next = "paused"
	}
	return []string{tried, result, next, s.Told, s.URL}
}

func sourceSetCommand(a *command.App) *cobra.Command {
	var format, column string
	var every time.Duration
	var shrink, size int64
	var paused bool
	cmd := &cobra.Command{
		Use: "set NAME URL", Short: "Have a list pulled from an address", Args: command.Exactly("NAME", "URL"),
		Long: "Have a list pulled from an address on a timetable. Each pull replaces the list's entries; lines that are a note alone stay. " +
			"A file that is too large, empty, damaged, or would take away too much is refused: the last good state stays, and `source ls` says why.",
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			minutes, written := int64(every.Minutes()), client.SetSourceInputBodyFormat(format)
			if _, err := api.SetSourceWithResponse(cmd.Context(), l.ID, client.SetSourceInputBody{
				URL: rest[0], EveryMinutes: &minutes, Format: &written, Column: &column, MaxShrink: &shrink, MaxBytes: &size, Paused: &paused,
			}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%q is pulled from %s every %s. `widelark list source pull %q` does it now.\n", l.Name, rest[0], every, l.Name)
			return nil
		}),
	}
	cmd.Flags().DurationVar(&every, "every", 24*time.Hour, "between two pulls, as 6h or 30m")
	cmd.Flags().StringVar(&format, "format", "lines", "lines, domains, hosts, csv or jsonl")
	cmd.Flags().StringVar(&column, "column", "", "csv, jsonl: the column with the entries")
	cmd.Flags().Int64Var(&shrink, "max-shrink", 30, "per cent of the entries that a pull may take away")
	cmd.Flags().Int64Var(&size, "max-bytes", 128<<20, "a larger file is refused")
	cmd.Flags().BoolVar(&paused, "paused", false, "pull by hand only")
	return cmd
}

func sourcePullCommand(a *command.App) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use: "pull NAME", Short: "Pull a list now", Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			pulled, err := api.PullSourceWithResponse(cmd.Context(), l.ID, &client.PullSourceParams{Force: &force})
			if err != nil {
				return err
			}
			s := pulled.JSON200
			fmt.Fprintf(a.Out, "%s: %s\n", *s.Result, s.Told)
			if *s.Result == client.SourceResultFailed || *s.Result == client.SourceResultRefused {
				return command.ErrNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&force, "force", false, "let the list shrink as much as the file says, this time")
	return cmd
}

func sourceRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Stop pulling a list; its entries stay", Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			if _, err := api.RemoveSourceWithResponse(cmd.Context(), l.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%q is no longer pulled; its %s stay.\n", l.Name, command.Plural(l.EntryCount, "entry", "entries"))
			return nil
		}),
	}
}

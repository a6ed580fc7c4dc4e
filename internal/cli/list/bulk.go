package list

import (
	"fmt"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// choosing adds the flags that select entries without naming them.
func choosing(cmd *cobra.Command) func(lines []string) (client.Selection, error) {
	var contains, kind string
	cmd.Flags().StringVar(&contains, "containing", "", "every entry whose pattern or note holds this text")
	cmd.Flags().StringVar(&kind, "kind", "", "every entry of this kind (site, host, page-tree, regex…)")
	return func(lines []string) (client.Selection, error) {
		all := contains != "" || kind != ""
		switch {
		case all && len(lines) > 0:
			return client.Selection{}, command.Usagef("name entries, or choose them with --containing and --kind, not both")
		case !all && len(lines) == 0:
			return client.Selection{}, command.Usagef("which entries? Name them, or choose them with --containing or --kind")
		case !all:
			return client.Selection{Lines: &lines}, nil
		}
		of := client.SelectionKind(kind)
		which := client.Selection{All: &all, Text: &contains}
		if kind != "" {
			which.Kind = &of
		}
		return which, nil
	}
}

func removeCommand(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "remove NAME [ENTRY...]", Short: "Take entries out of a list", Args: command.AtLeast("NAME"),
		Example: `  widelark list remove Betting oddsfield.example '! help.oddsfield.example'
  widelark list remove "Suspect sites" --containing harbour`,
	}
	choose := choosing(cmd)
	cmd.RunE = object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
		which, err := choose(rest)
		if err != nil {
			return err
		}
		removed, err := api.RemoveEntriesWithResponse(cmd.Context(), l.ID, nil, which)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Took %s out of %q; %s stay.\n", command.Plural(removed.JSON200.Removed, "entry", "entries"), l.Name, command.Grouped(removed.JSON200.List.EntryCount))
		return missing(a, rest, removed.JSON200.Removed)
	})
	return cmd
}

// missing returns [command.ErrNo] if the list had fewer entries than were named.
func missing(a *command.App, named []string, found int64) error {
	if missing := int64(len(named)) - found; missing > 0 {
		fmt.Fprintf(a.Err, "%s not in the list.\n", command.Plural(missing, "entry was", "entries were"))
		return command.ErrNo
	}
	return nil
}

func setCommand(a *command.App) *cobra.Command {
	var note, until string
	var on, off bool
	cmd := &cobra.Command{
		Use: "set NAME [ENTRY...]", Short: "Set note, last day or switch of entries", Args: command.AtLeast("NAME"),
		Example: `  widelark list set Betting oddsfield.example --note "asked for by Safeguarding"
  widelark list set "Supplier portals" --containing tarn --until 2026-12-24
  widelark list set Betting --kind regex --off`,
	}
	choose := choosing(cmd)
	cmd.Flags().StringVar(&note, "note", "", "the new note; empty removes it")
	cmd.Flags().StringVar(&until, "until", "", "the last day in force, as 2026-12-24; empty removes it")
	cmd.Flags().BoolVar(&off, "off", false, "keep the entries, but not in force")
	cmd.Flags().BoolVar(&on, "on", false, "put them in force again")
	cmd.MarkFlagsMutuallyExclusive("on", "off")
	cmd.RunE = object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
		which, err := choose(rest)
		if err != nil {
			return err
		}
		edit := client.EditEntriesInputBody{Which: which}
		if cmd.Flags().Changed("note") {
			edit.Note = &note
		}
		if cmd.Flags().Changed("until") {
			edit.Until = &until
		}
		if on || off {
			edit.Off = &off
		}
		if edit.Note == nil && edit.Until == nil && edit.Off == nil {
			return command.Usagef("nothing to set: give --note, --until, --off or --on")
		}
		edited, err := api.EditEntriesWithResponse(cmd.Context(), l.ID, nil, edit)
		if err == nil {
			fmt.Fprintf(a.Out, "Changed %s of %q.\n", command.Plural(edited.JSON200.Edited, "entry", "entries"), l.Name)
		}
		return err
	})
	return cmd
}

func copyCommand(a *command.App, move bool) *cobra.Command {
	use, short, done := "copy", "Copy entries into another list", "Copied"
	if move {
		use, short, done = "move", "Move entries into another list", "Moved"
	}
	var to string
	cmd := &cobra.Command{
		Use: use + " NAME [ENTRY...] --to LIST", Short: short, Args: command.AtLeast("NAME"),
		Example: fmt.Sprintf("  widelark list %s \"Old ward links\" --containing dosage --to \"Formulary and dosage sites\"", use),
	}
	choose := choosing(cmd)
	cmd.Flags().StringVar(&to, "to", "", "the list that they go into")
	_ = cmd.MarkFlagRequired("to")
	cmd.RunE = object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
		which, err := choose(rest)
		if err != nil {
			return err
		}
		other, err := object.FindList(cmd.Context(), api, to)
		if err != nil {
			return err
		}
		copied, err := api.CopyEntriesWithResponse(cmd.Context(), l.ID, nil, client.CopyEntriesInputBody{Which: which, To: other.ID, Move: &move})
		if err != nil {
			return err
		}
		c := copied.JSON200
		fmt.Fprintf(a.Out, "%s %s from %q to %q: %s added, %s updated, %s there already.\n", done, command.Plural(c.Added+c.Updated+c.Same, "entry", "entries"),
			l.Name, other.Name, command.Grouped(c.Added), command.Grouped(c.Updated), command.Grouped(c.Same))
		return missing(a, rest, c.Added+c.Updated+c.Same)
	})
	return cmd
}

package list

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func tidyCommand(a *command.App) *cobra.Command {
	var absorb bool
	var kinds []string
	var limit int64
	cmd := &cobra.Command{
		Use: "tidy NAME", Short: "What is wrong with a list's entries: superfluous, undone, contradicted, ended",
		Long: "Show which entries of a list others make superfluous (duplicate, covered), a carve-out undoes, a list with the opposite verdict contradicts, " +
			"another list holds, too (elsewhere), have ended, or are tried on every URL (costly). With --absorb, take out those that change nothing about what the list covers.",
		Example: `  widelark list tidy "Blocked on request"
  widelark list tidy "Blocked on request" --kind covered --absorb`,
		Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			if absorb {
				return takeOut(a, cmd, api, l, kinds)
			}
			params := &client.GetFindingsParams{Limit: &limit}
			if len(kinds) > 0 {
				of := make([]client.GetFindingsParamsKind, len(kinds))
				for i, kind := range kinds {
					of[i] = client.GetFindingsParamsKind(kind)
				}
				params.Kind = &of
			}
			found, err := api.GetFindingsWithResponse(cmd.Context(), l.ID, params)
			if err != nil {
				return err
			}
			v := findingsView(found.JSON200.Findings)
			v.Data = found.JSON200
			var counts []string
			absorbable := int64(0)
			for _, c := range found.JSON200.Counts {
				counts = append(counts, fmt.Sprintf("%s %s", command.Grouped(c.Count), c.Kind))
				if c.Absorbable {
					absorbable += c.Count
				}
			}
			if len(counts) > 0 {
				v.Foot = "\n" + strings.Join(counts, ", ") + "."
			}
			if absorbable > 0 {
				v.Foot += fmt.Sprintf(" --absorb takes out the %s that change nothing.", command.Plural(absorbable, "entry", "entries"))
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().BoolVar(&absorb, "absorb", false, "take them out")
	cmd.Flags().StringSliceVar(&kinds, "kind", nil, "only these: duplicate, covered, undone, ended, contradict, costly, elsewhere")
	cmd.Flags().Int64Var(&limit, "limit", 100, "how many findings, at most 2000")
	return a.Reads(cmd)
}

func findingsView(found []client.Finding) command.View {
	v := command.View{Columns: []string{"Entry", "Is", "Because"}, Empty: "Nothing is wrong with its entries."}
	for _, f := range found {
		v.Rows = append(v.Rows, []string{f.Entry.Pattern, string(f.Kind), f.Message})
	}
	return v
}

func takeOut(a *command.App, cmd *cobra.Command, api *client.ClientWithResponses, l client.List, kinds []string) error {
	body := client.TidyInputBody{}
	if len(kinds) > 0 {
		of := make([]client.TidyInputBodyKinds, len(kinds))
		for i, kind := range kinds {
			of[i] = client.TidyInputBodyKinds(kind)
		}
		body.Kinds = &of
	}
	done, err := api.TidyListWithResponse(cmd.Context(), l.ID, nil, body)
	if err != nil {
		return err
	}
	v := findingsView(done.JSON200.Findings)
	v.Data = done.JSON200
	v.Foot = fmt.Sprintf("\nTook %s out of %q; %s stay. `widelark list undo %q` takes that back.",
		command.Plural(done.JSON200.Removed, "entry", "entries"), l.Name, command.Grouped(done.JSON200.List.EntryCount), l.Name)
	return a.Show(v)
}

func companionsCommand(a *command.App) *cobra.Command {
	var add bool
	cmd := &cobra.Command{
		Use: "companions NAME FILE", Short: "Hosts that a recorded page needs, and which of them the list lacks",
		Long: "Read a HAR file, as browsers save their network log, and show the hosts that the page loads from and sends people on to. " +
			"With --add, put those that the list lacks into it, with a note that says why. The exit code is 1 where the list lacks any.",
		Example: `  widelark list companions "Supplier portals" ordering.har
  widelark list companions "Supplier portals" ordering.har --add`,
		Args: command.Exactly("NAME", "FILE"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			file, err := a.Open(rest[0])
			if err != nil {
				return err
			}
			defer file.Close()
			found, err := api.FindCompanionsWithBodyWithResponse(cmd.Context(), l.ID, "application/octet-stream", file)
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200, Columns: []string{"Host", "In list", "Requests", "Failed", "Loads", "Sent on from"}, Numbers: []int{2, 3}}
			var lacking []string
			for _, c := range found.JSON200.Companions {
				inList := "yes"
				if !c.InList {
					inList = "no"
					lacking = append(lacking, c.Entry)
				}
				v.Rows = append(v.Rows, []string{c.Host, inList, command.Grouped(c.Requests), command.Grouped(c.Failed), strings.Join(c.Kinds, ", "), strings.Join(c.SentFrom, ", ")})
			}
			if len(lacking) == 0 {
				v.Foot = fmt.Sprintf("\n%q lets all of them in.", l.Name)
				return a.Show(v)
			}
			if !add {
				v.Foot = fmt.Sprintf("\n%q lacks %s. --add puts them in.", l.Name, command.Plural(int64(len(lacking)), "host", "hosts"))
				return errors.Join(a.Show(v), command.ErrNo)
			}
			if err := a.Show(v); err != nil {
				return err
			}
			added, err := api.AddEntriesWithResponse(cmd.Context(), l.ID, nil, client.AddEntriesInputBody{Lines: lacking})
			if err == nil {
				fmt.Fprintf(a.Out, "\nAdded %s to %q.\n", command.Plural(added.JSON200.Added, "entry", "entries"), l.Name)
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&add, "add", false, "put the hosts that the list lacks into it")
	return a.Reads(cmd)
}

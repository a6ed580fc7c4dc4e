package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) listTidyCommand() *cobra.Command {
	var absorb bool
	var kinds []string
	var limit int64
	cmd := &cobra.Command{
		Use: "tidy NAME", Short: "What is wrong with a list's entries: superfluous, undone, contradicted, ended",
		Long: "Show which entries of a list others make superfluous (duplicate, covered), a carve-out undoes, a list with the opposite verdict contradicts, " +
			"another list holds, too (elsewhere), have ended, or are tried on every URL (costly). With --absorb, take out those that change nothing about what the list covers.",
		Example: `  widelark list tidy "Blocked on request"
  widelark list tidy "Blocked on request" --kind covered --absorb`,
		Args: exactly("NAME"),
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			if absorb {
				return a.absorb(cmd, api, l, kinds)
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
			v.data = found.JSON200
			var told []string
			absorbable := int64(0)
			for _, c := range found.JSON200.Counts {
				told = append(told, fmt.Sprintf("%s %s", grouped(c.Count), c.Kind))
				if c.Absorbable {
					absorbable += c.Count
				}
			}
			if len(told) > 0 {
				v.foot = "\n" + strings.Join(told, ", ") + "."
			}
			if absorbable > 0 {
				v.foot += fmt.Sprintf(" --absorb takes out the %s that change nothing.", plural(absorbable, "entry", "entries"))
			}
			return a.show(v)
		}),
	}
	cmd.Flags().BoolVar(&absorb, "absorb", false, "take them out")
	cmd.Flags().StringSliceVar(&kinds, "kind", nil, "only these: duplicate, covered, undone, ended, contradict, costly, elsewhere")
	cmd.Flags().Int64Var(&limit, "limit", 100, "how many findings, at most 2000")
	return a.reads(cmd)
}

func findingsView(found []client.Finding) view {
	v := view{columns: []string{"Entry", "Is", "Because"}, empty: "Nothing is wrong with its entries."}
	for _, f := range found {
		v.rows = append(v.rows, []string{f.Entry.Pattern, string(f.Kind), f.Message})
	}
	return v
}

func (a *app) absorb(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, kinds []string) error {
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
	v.data = done.JSON200
	v.foot = fmt.Sprintf("\nTook %s out of %q; %s stay. `widelark list undo %q` takes that back.",
		plural(done.JSON200.Removed, "entry", "entries"), l.Name, grouped(done.JSON200.List.EntryCount), l.Name)
	return a.show(v)
}

func (a *app) listCompanionsCommand() *cobra.Command {
	var add bool
	cmd := &cobra.Command{
		Use: "companions NAME FILE", Short: "Hosts that a recorded page needs, and which of them the list lacks",
		Long: "Read a HAR file, as browsers save their network log, and show the hosts that the page loads from and sends people on to. " +
			"With --add, put those that the list lacks into it, with a note that says why. The exit code is 1 where the list lacks any.",
		Example: `  widelark list companions "Supplier portals" ordering.har
  widelark list companions "Supplier portals" ordering.har --add`,
		Args: exactly("NAME", "FILE"),
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			file, err := a.open(rest[0])
			if err != nil {
				return err
			}
			defer file.Close()
			found, err := api.FindCompanionsWithBodyWithResponse(cmd.Context(), l.ID, "application/octet-stream", file)
			if err != nil {
				return err
			}
			v := view{data: found.JSON200, columns: []string{"Host", "In list", "Requests", "Failed", "Loads", "Sent on from"}, numbers: []int{2, 3}}
			var lacking []string
			for _, c := range found.JSON200.Companions {
				inList := "yes"
				if !c.InList {
					inList = "no"
					lacking = append(lacking, c.Entry)
				}
				v.rows = append(v.rows, []string{c.Host, inList, grouped(c.Requests), grouped(c.Failed), strings.Join(c.Kinds, ", "), strings.Join(c.SentFrom, ", ")})
			}
			if len(lacking) == 0 {
				v.foot = fmt.Sprintf("\n%q lets all of them in.", l.Name)
				return a.show(v)
			}
			if !add {
				v.foot = fmt.Sprintf("\n%q lacks %s. --add puts them in.", l.Name, plural(int64(len(lacking)), "host", "hosts"))
				return errors.Join(a.show(v), errNo)
			}
			if err := a.show(v); err != nil {
				return err
			}
			added, err := api.AddEntriesWithResponse(cmd.Context(), l.ID, nil, client.AddEntriesInputBody{Lines: lacking})
			if err == nil {
				fmt.Fprintf(a.out, "\nAdded %s to %q.\n", plural(added.JSON200.Added, "entry", "entries"), l.Name)
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&add, "add", false, "put the hosts that the list lacks into it")
	return a.reads(cmd)
}

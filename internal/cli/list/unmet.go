package list

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func unmetCommand(a *command.App) *cobra.Command {
	var days int64
	var off bool
	cmd := &cobra.Command{
		Use: "unmet NAME", Short: "Entries that no recorded request met, and that were in the list before", Args: command.Exactly("NAME"),
		Long: "Show which entries of a list were in it some days ago, unchanged, and were met by no recorded request since. With --off, switch them off: they stay in the list, and a later " +
			"`list set --on` brings them back. Lists whose entries the records do not tell apart have none: those that a rule excludes or asks for beside other conditions' lists, that categories are made of, and that " +
			"policies name which record less than everything.",
		Example: `  widelark list unmet "Supplier portals"
  widelark list unmet "Blocked on request" --days 180 --off`,
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
			most := int64(10_000)
			answer, err := api.GetUnmetEntriesWithResponse(cmd.Context(), l.ID, &client.GetUnmetEntriesParams{Days: &days, Limit: &most})
			if err != nil {
				return err
			}
			found := answer.JSON200
			v := command.View{Data: found, Columns: []string{"Entry"}, Empty: fmt.Sprintf("Every entry that can be told was met in the last %d days, or is newer.", days)}
			if !found.Told {
				v.Empty = "The records do not tell its entries apart: see `widelark help list unmet`."
			} else if found.Since == nil {
				v.Empty = "Nothing was recorded yet."
			} else if now := a.ByClock(*found.Since).AddDate(0, 0, int(days)); found.Count == 0 && now.After(time.Now()) {
				v.Empty = fmt.Sprintf("Requests are counted since %s only: ask for fewer --days.", a.ByClock(*found.Since).Format("2006-01-02"))
			}
			ids := []int64{}
			for _, e := range found.Entries {
				ids = append(ids, e.ID)
				v.Rows = append(v.Rows, []string{e.Entry})
			}
			if found.Count > 0 {
				v.Foot = fmt.Sprintf("\n%s met by no request in %d days. --off switches them off.", command.Plural(found.Count, "entry", "entries"), days)
			}
			if off && len(ids) > 0 {
				done, err := api.EditEntriesWithResponse(cmd.Context(), l.ID, nil, client.EditEntriesInputBody{Which: client.Selection{Ids: &ids}, Off: &off})
				if err != nil {
					return err
				}
				v.Foot = fmt.Sprintf("\nSwitched %s of %q off. `widelark list undo %q` takes that back.", command.Plural(done.JSON200.Edited, "entry", "entries"), l.Name, l.Name)
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&days, "days", 90, "met by no request in so many days, at most 400")
	cmd.Flags().BoolVar(&off, "off", false, "switch them off")
	return a.Reads(cmd)
}

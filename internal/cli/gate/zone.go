package gate

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func zoneCommand(a *command.App) *cobra.Command {
	var form, group, address, at, on, errs, origin string
	var page []string
	cmd := &cobra.Command{
		Use: "zone [FILE]", Short: "What is said of names to a group or an address, as a file for another filter", Args: command.AtMost(1),
		Long: `What is said of names to a group or an address, as a file for another filter: a response policy zone (rpz), hosts, a name a line (names), or a PAC file (pac). What the form
cannot say stands in comments at its beginning, with counts and reasons. A file is for one moment; zones that keep up with
editions, grants and time are handed out by the DNS gate itself: see --dns-zone of ` + "`widelarkd serve`" + `, and ` + "`widelark gate show`" + ` for who has them.`,
		Example: `  widelark gate zone --group "Ward nurses" > ward.rpz
  widelark gate zone bedside.hosts --address 10.40.40.7 --form hosts --errs close`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			params := &client.GetZoneParams{Group: command.Optional[string](group), Address: command.Optional[string](address), At: command.Optional[string](at), On: command.Optional[string](on), Origin: command.Optional[string](origin), Errs: command.Optional[client.GetZoneParamsErrs](errs)}
			if len(page) > 0 {
				params.Page = &page
			}
			res, err := api.GetZone(cmd.Context(), client.GetZoneParamsForm(form), params)
			if err != nil {
				return err
			}
			defer res.Body.Close()
			if len(args) == 0 {
				_, err = io.Copy(a.Out, res.Body)
			} else {
				body, done := a.Progress(res.Body, "received")
				err = command.Save(args[0], body)
				done()
			}
			if err != nil {
				return fmt.Errorf("the zone broke off; what was written is not all of it: %w", err)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&form, "form", "rpz", "rpz, hosts, names or pac")
	cmd.Flags().StringVar(&group, "group", "", "for the members of a group")
	cmd.Flags().StringVar(&address, "address", "", "for whoever is at an address")
	cmd.Flags().StringVar(&at, "at", "", "when: now, 12:30, 'tue 12:30', '2026-12-24 12:30' or RFC 3339")
	cmd.Flags().StringVar(&on, "on", "", "draft, live or the number of a revision; left out, live")
	cmd.Flags().StringVar(&errs, "errs", "", "where a rule cannot be told by a name: open (the name is left open) or close")
	cmd.Flags().StringVar(&origin, "origin", "", "the name of the zone; left out, rpz.wide-lark.internal")
	cmd.Flags().StringArrayVar(&page, "page", nil, "an address that refused names lead to, where a policy says so; give it again for more")
	return cmd
}

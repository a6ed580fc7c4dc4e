package gate

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func enrolCommand(a *command.App) *cobra.Command {
	var kind string
	cmd := a.Reads(&cobra.Command{
		Use: "enrol NAME", Short: "Make a code with which one gate on another machine enrols, once", Args: command.Exactly("NAME"),
		Long: "Make a code with which one gate on another machine enrols, once. It is shown this once, and is good for an hour. The gate then has keys of its own, fetches what is live, " +
			"and decides by it also while the service is away. For owners.",
		Example: "  widelark gate enrol \"proxy in the annexe\"",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			made, err := api.EnrolGateWithResponse(cmd.Context(), client.EnrolGateJSONRequestBody{Name: args[0], Kind: command.Optional[client.EnrolmentInputBodyKind](kind)})
			if err != nil {
				return err
			}
			m := made.JSON200
			if a.Format != "table" && a.Format != "" {
				return a.Show(command.View{Data: m, Columns: []string{"Name", "Kind", "Code", "Until"}, Rows: [][]string{{m.Name, string(m.Kind), m.Code, a.Moment(m.Until)}}})
			}
			fmt.Fprintf(a.Out, "On the gate's machine, until %s:\n\n  widelarkd gate --folder /var/lib/widelark/gate --service %s --enrol %s%s\n\nThe code is not shown again.\n", a.Moment(m.Until), a.Settings.Server, m.Code, more[string(m.Kind)])
			return nil
		}),
	})
	cmd.Flags().StringVar(&kind, "kind", "", "proxy, dns or icap; left out, proxy")
	return cmd
}

// more is what gates of a kind have to be told besides, to start.
var more = map[string]string{"dns": " --dns-forward RESOLVER"}

func retireCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "retire NAME", Short: "Refuse a gate on another machine from now on", Args: command.Exactly("NAME"),
		Example: "  widelark gate retire \"proxy in the annexe\"",
		Long:    "Refuse a gate on another machine from now on. Stop it there, too: what it has already, it keeps. To run again, it enrols anew. For owners.",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.RetireGateWithResponse(cmd.Context(), &client.RetireGateParams{Name: args[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Retired the gate %q. Stop it on its machine, too.\n", args[0])
			return nil
		}),
	}
}

func neverOpenCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "never-open HOST", Short: "Have no policy of the draft open connections to a host", Args: command.Exactly("HOST"),
		Example: "  widelark gate never-open heron.example",
		Long: "Have no policy of the draft open connections to a host, whose clients refuse the gate's certificate: the host goes into the list \"Never opened\", and the policies that open connections " +
			"leave those to the list closed. Publish it to put it in force.",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.NeverOpenWithResponse(cmd.Context(), client.NeverOpenJSONRequestBody{Host: args[0]})
			if err != nil {
				return err
			}
			var policies []string
			for _, p := range answer.JSON200.Policies {
				policies = append(policies, command.OrEmpty(p.Name))
			}
			if len(policies) == 0 {
				fmt.Fprintf(a.Out, "%s is in the list %q; no policy opens connections.\n", args[0], command.OrEmpty(answer.JSON200.List.Name))
				return nil
			}
			fmt.Fprintf(a.Out, "%s is in the list %q, to whose hosts no connection is opened by %s. Publish it to put it in force.\n", args[0], command.OrEmpty(answer.JSON200.List.Name), strings.Join(policies, ", "))
			return nil
		}),
	}
}

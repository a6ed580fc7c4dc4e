// Package gate implements the commands about gates: what runs what, what was decided last, and the authority that opens connections.
//
// From: arguments.
// To: the API, by package client.
package gate

import (
	"cmp"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("gate", "Gates: what runs what, what was decided last, and the authority that opens connections",
		lsCommand(a), showCommand(a), latestCommand(a), enrolCommand(a), retireCommand(a), neverOpenCommand(a), zoneCommand(a), authorityCommand(a))
	cmd.Example = `  widelark gate ls
  widelark gate latest --limit 20
  widelark gate authority new "Quillmere General"`
	return cmd
}

func lsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All gates, and whether they run what is live", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetGatesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{
				Data: answer.JSON200.Gates, Columns: []string{"Name", "Kind", "Address", "State", "Revision", "Decided", "Refused", "Under way", "Dropped"}, Numbers: []int{4, 5, 6, 7, 8},
				Empty: "No gate runs yet. `widelarkd serve --gates proxy` runs one in the service, and `widelark gate enrol NAME` lets one run elsewhere.",
			}
			for _, g := range answer.JSON200.Gates {
				v.Rows = append(v.Rows, []string{
					g.Name, string(g.Kind), g.Address, string(g.State), fmt.Sprint(g.Revision), command.Grouped(g.Decided), command.Grouped(g.Refused), command.Grouped(g.Running), command.Grouped(g.Dropped),
				})
			}
			return a.Show(v)
		}),
	})
}

func showCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: "What a gate reports of itself, and who refuses its certificates", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.GetGatesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			for _, g := range answer.JSON200.Gates {
				if strings.EqualFold(g.Name, args[0]) {
					return showGate(a, g, answer.JSON200.Live)
				}
			}
			return fmt.Errorf("there is no gate %q; `widelark gate ls` shows which there are", args[0])
		}),
	})
}

func showGate(a *command.App, g client.GateReport, live int64) error {
	if a.Format != "table" && a.Format != "" {
		return a.Show(command.View{Data: g, Columns: []string{"Name", "Kind", "Address", "State", "Revision"}, Rows: [][]string{{g.Name, string(g.Kind), g.Address, string(g.State), fmt.Sprint(g.Revision)}}})
	}
	fmt.Fprintf(a.Out, "%s\n\n", g.Name)
	line := func(what, said string) { fmt.Fprintf(a.Out, "  %-11s %s\n", what, said) }
	line("state", string(g.State)+", last heard of "+a.Moment(g.SeenAt))
	line("address", g.Address)
	runs := fmt.Sprintf("revision %d; live is %d", g.Revision, live)
	if g.Since != nil {
		runs += ", since " + a.Moment(*g.Since)
	}
	line("runs", runs)
	line("decided", fmt.Sprintf("%s, of which %s were refused; %s cut; %s under way", command.Plural(g.Decided, "request", "requests"), command.Grouped(g.Refused), command.Grouped(g.Cut), command.Grouped(g.Running)))
	if g.Elsewhere != nil && *g.Elsewhere {
		runs = fmt.Sprintf("edition %d", command.Deref(g.Edition))
		if d := command.OrEmpty(g.Digest); d != "" {
			runs += ", " + d[:min(len(d), 16)]
		}
		line("elsewhere", runs)
		line("clock", fmt.Sprintf("%+d ms beside the database's", command.Deref(g.ClockMillis)))
	}
	if trouble := command.OrEmpty(g.Trouble); trouble != "" {
		line("trouble", trouble)
	}
	line("records", fmt.Sprintf("%s written, %s waiting, %s dropped", command.Grouped(g.Written), command.Grouped(g.Waiting), command.Grouped(g.Dropped)))
	title := "hands out"
	for _, z := range command.Deref(g.Zones) {
		line(title, fmt.Sprintf("%s for %s: %s, made %s", z.Origin, z.For, command.Plural(z.Names, "name", "names"), a.Moment(z.MadeAt)))
		for _, t := range z.Takers {
			line("", fmt.Sprintf("  %s %s", t.Address, taken(z, t)))
		}
		title = ""
	}
	title = "refused for"
	for _, r := range g.Refusals {
		line(title, fmt.Sprintf("%s: %s by %s", r.Host, command.Plural(r.Times, "time", "times"), command.Plural(r.Clients, "client", "clients")))
		title = ""
	}
	if len(g.Refusals) > 0 {
		fmt.Fprintf(a.Out, "\n`widelark gate never-open HOST` leaves connections to such a host closed.\n")
	}
	return nil
}

// taken says how soon a resolver had a zone.
func taken(z client.Zone, t client.ZoneTaker) string {
	if t.Serial != z.Serial {
		return "has an older one"
	}
	return fmt.Sprintf("had it after %.1f s", float64(t.Millis)/1000)
}

func latestCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := a.Reads(&cobra.Command{
		Use: "latest", Short: "The requests that were recorded last", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetLatestRecordsWithResponse(cmd.Context(), &client.GetLatestRecordsParams{Limit: &limit})
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Records, Columns: []string{"When", "Verdict", "Who", "Method", "URL", "By", "Outcome"}, Empty: "Nothing has been recorded yet."}
			for _, r := range answer.JSON200.Records {
				outcome := ""
				if r.Outcome != nil {
					outcome = string(*r.Outcome)
				}
				if status := command.Deref(r.Status); status != 0 {
					outcome = strings.TrimSpace(fmt.Sprint(outcome, " ", status))
				}
				v.Rows = append(v.Rows, []string{
					a.Moment(r.At), a.VerdictCell(string(r.Verdict)), cmp.Or(command.OrEmpty(r.Who), command.OrEmpty(r.Address)), r.Method, r.URL, command.OrEmpty(r.By), outcome,
				})
			}
			return a.Show(v)
		}),
	})
	cmd.Flags().Int64Var(&limit, "limit", 30, "how many, at most 500")
	return cmd
}

func authorityCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("authority", "The authority in whose name gates open TLS connections", authorityNewCommand(a), authorityShowCommand(a), authorityExportCommand(a))
	cmd.Example = `  widelark gate authority new "Quillmere General"
  widelark gate authority new "Quillmere General" --from 30d
  widelark gate authority export authority.pem`
	return cmd
}

func authorityNewCommand(a *command.App) *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use: "new ORGANISATION", Short: "Make an authority, or a successor that signs from a later moment on", Args: command.Exactly("ORGANISATION"),
		Long: "Make the authority in whose name gates open TLS connections, as policies say. Clients must trust its certificate: hand it out with `widelark gate authority export`, or let people " +
			"fetch it at http://GATE/authority. With --from, a successor is made: it is handed out beside the present one, and signs from that moment on. For owners.",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.MakeAuthorityInputBody{Organisation: args[0]}
			if from != "" {
				at, err := a.End(from)
				if err != nil {
					return err
				}
				body.From = at
			}
			made, err := api.MakeAuthorityWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Made the authority %q; it signs from %s on.\nFingerprint %s\n", made.JSON200.Name, made.JSON200.From.Format(command.Clock), made.JSON200.Fingerprint)
			return nil
		}),
	}
	cmd.Flags().StringVar(&from, "from", "", "when it takes over: a length of time (30d), a day or a moment; left out, now")
	return cmd
}

func authorityShowCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show", Short: "The authorities: which signs, and which comes next", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetAuthoritiesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{
				Data: answer.JSON200.Authorities, Columns: []string{"Name", "State", "Signs from", "Good until", "Fingerprint"},
				Empty: "There is no authority yet, so no gate opens TLS connections. Make one with `widelark gate authority new ORGANISATION`.",
			}
			for _, c := range answer.JSON200.Authorities {
				v.Rows = append(v.Rows, []string{c.Name, string(c.State), a.Moment(c.From), a.Moment(c.NotAfter), c.Fingerprint})
			}
			return a.Show(v)
		}),
	})
}

func authorityExportCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "export [FILE]", Short: "Write the certificates that clients are to trust, as PEM", Args: command.AtMost(1),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.GetAuthoritiesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			var pem strings.Builder
			for _, c := range answer.JSON200.Authorities {
				if c.State != "past" && c.NotAfter.After(time.Now()) {
					pem.WriteString(c.Certificate)
				}
			}
			if pem.Len() == 0 {
				return fmt.Errorf("there is no authority yet: make one with `widelark gate authority new ORGANISATION`")
			}
			if len(args) == 0 || args[0] == "-" {
				_, err = fmt.Fprint(a.Out, pem.String())
				return err
			}
			return os.WriteFile(args[0], []byte(pem.String()), 0o644)
		}),
	}
}

package watching

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// ForwardCommand is `widelark forward`.
func ForwardCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("forward", "Where records are sent on: syslog, and logs of OpenTelemetry", forwardLsCommand(a), forwardNewCommand(a), forwardEditCommand(a), forwardRemoveCommand(a))
	cmd.Long = "Records are sent on as they come, each at least once: what a collector did not take is sent again when it is back, for up to 30 days."
	cmd.Example = `  widelark forward new "Log server" logs.quillmere.example:6514 --protocol syslog --tls
  widelark forward new Collector https://collector.quillmere.example/v1/logs --protocol otlp --query verdict:block`
	return cmd
}

type forwardFlags struct {
	protocol, query, roots, name, address string
	tls, off, on                          bool
}

func (f *forwardFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.protocol, "protocol", "syslog", "syslog (RFC 5424) over TCP, or otlp (logs of OpenTelemetry) over HTTP")
	cmd.Flags().BoolVar(&f.tls, "tls", false, "syslog: over TLS (RFC 5425)")
	cmd.Flags().StringVar(&f.roots, "roots", "", "a PEM file with the authorities that are trusted; empty: those of the service's machine")
	cmd.Flags().StringVar(&f.query, "query", "", "only records that this finds")
}

func (f *forwardFlags) apply(cmd *cobra.Command, b *client.ForwardInput) error {
	set := cmd.Flags().Changed
	if set("protocol") || b.Protocol == "" {
		b.Protocol = client.ForwardInputProtocol(f.protocol)
	}
	if set("tls") {
		b.TLS = &f.tls
	}
	if set("query") {
		b.Query = &f.query
	}
	if set("roots") {
		text := ""
		if f.roots != "" {
			pem, err := os.ReadFile(f.roots)
			if err != nil {
				return err
			}
			text = string(pem)
		}
		b.Roots = &text
	}
	return nil
}

func forwardCalled(cmd *cobra.Command, api *client.ClientWithResponses, name string) (client.Forward, error) {
	all, err := api.GetForwardsWithResponse(cmd.Context())
	if err != nil {
		return client.Forward{}, err
	}
	return called(all.JSON200.Items, func(f client.Forward) string { return f.Name }, name, "forward")
}

func forwardLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "Places that records are sent on to", Args: command.Exactly(), Example: "  widelark forward ls",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetForwardsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Items, Columns: []string{"Name", "To", "Only", "Sent", "Last", "Behind", "Problem"}, Numbers: []int{3, 5}, Empty: "Records are sent on to nobody."}
			for _, f := range all.JSON200.Items {
				to := string(f.Protocol)
				if command.Deref(f.TLS) {
					to += " over TLS"
				}
				last := ""
				if f.SentAt != nil {
					last = a.Moment(*f.SentAt)
				}
				if command.Deref(f.Off) {
					to = "off: " + to
				}
				v.Rows = append(v.Rows, []string{f.Name, to + ", " + f.Address, command.OrEmpty(f.Query), command.Grouped(f.Sent), last, command.Grouped(f.Behind), command.OrEmpty(f.Problem)})
			}
			return a.Show(v)
		}),
	})
}

func forwardNewCommand(a *command.App) *cobra.Command {
	var f forwardFlags
	cmd := &cobra.Command{
		Use: "new NAME ADDRESS", Short: "Send records on, from now", Args: command.Exactly("NAME", "ADDRESS"),
		Example: `  widelark forward new "Log server" logs.quillmere.example:6514 --tls`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			b := client.ForwardInput{Name: args[0], Address: args[1]}
			if strings.Contains(b.Address, "://") && !cmd.Flags().Changed("protocol") {
				b.Protocol = "otlp"
			}
			if err := f.apply(cmd, &b); err != nil {
				return err
			}
			made, err := api.AddForwardWithResponse(cmd.Context(), b)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Records are sent on to %q from now. `widelark forward ls` shows how far it is.\n", made.JSON201.Name)
			return nil
		}),
	}
	f.register(cmd)
	return cmd
}

func forwardEditCommand(a *command.App) *cobra.Command {
	var f forwardFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Edit a place that records are sent on to; what is not named stays", Args: command.Exactly("NAME"), Example: "  widelark forward edit Collector --query verdict:block",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			before, err := forwardCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			b := client.ForwardInput{Name: before.Name, Address: before.Address, Protocol: client.ForwardInputProtocol(before.Protocol), TLS: before.TLS, Roots: before.Roots, Query: before.Query, Off: before.Off}
			if f.name != "" {
				b.Name = f.name
			}
			if f.address != "" {
				b.Address = f.address
			}
			if f.off || f.on {
				b.Off = &f.off
			}
			if err := f.apply(cmd, &b); err != nil {
				return err
			}
			if _, err := api.PutForwardWithResponse(cmd.Context(), before.ID, &client.PutForwardParams{IfMatch: command.Match(before.Version)}, b); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edited %q.\n", b.Name)
			return nil
		}),
	}
	f.register(cmd)
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	cmd.Flags().StringVar(&f.address, "address", "", "the new address")
	cmd.Flags().BoolVar(&f.off, "off", false, "nothing is sent until it is switched on again; what comes meanwhile waits")
	cmd.Flags().BoolVar(&f.on, "on", false, "switch it on again")
	cmd.MarkFlagsMutuallyExclusive("off", "on")
	return cmd
}

func forwardRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Send records on no longer", Args: command.Exactly("NAME"), Example: "  widelark forward remove Collector",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			before, err := forwardCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveForwardWithResponse(cmd.Context(), before.ID, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Removed %q.\n", before.Name)
			return nil
		}),
	}
}

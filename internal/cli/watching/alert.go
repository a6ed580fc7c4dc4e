package watching

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// AlertCommand is `widelark alert`.
func AlertCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("alert", "Who is told of what, and what was found", alertLsCommand(a), alertNewCommand(a), alertEditCommand(a), alertRemoveCommand(a), alertTestCommand(a), alertFoundCommand(a), alertAcknowledgeCommand(a))
	cmd.Example = `  widelark alert new "Somebody keeps trying" verdict:block --more 40 --minutes 30 --per person --to desk@quillmere.example
  widelark alert new "Gates" --what gates --to desk@quillmere.example
  widelark alert found --open`
	return cmd
}

type alertFlags struct {
	what, per, quiet, hook, secret string
	query, name                    string
	more, minutes, days, again     int64
	to                             []string
	off, on                        bool
}

func (f *alertFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.what, "what", "requests", "requests, gates, packs, directories or expectations")
	flags.Int64Var(&f.more, "more", 0, "requests: when there are more than so many")
	flags.Int64Var(&f.minutes, "minutes", 0, "requests: in so many minutes (default 10); gates: silent or behind for so long (default 5)")
	flags.StringVar(&f.per, "per", "", "requests: counted for each person, site, gate, group or network")
	flags.Int64Var(&f.days, "days", 0, "packs, directories: older than so many days (default 3)")
	flags.Int64Var(&f.again, "again", 0, "tell again after so many minutes where it goes on and nobody has acknowledged it (default 240)")
	flags.StringVar(&f.quiet, "quiet", "", "when nobody is told, as 22:00-06:00; empty: never")
	flags.StringArrayVar(&f.to, "to", nil, "an address for mail; give it again for more")
	flags.StringVar(&f.hook, "hook", "", "an address that it is posted to as JSON")
	flags.StringVar(&f.secret, "secret", "", "with which what is posted is signed, 16 letters at least")
}

func (f *alertFlags) apply(cmd *cobra.Command, b *client.AlertInput) error {
	set := cmd.Flags().Changed
	if set("what") || b.What == "" {
		b.What = client.AlertInputWhat(f.what)
	}
	for flag, to := range map[string]struct {
		from *int64
		to   **int64
	}{"more": {&f.more, &b.More}, "minutes": {&f.minutes, &b.Minutes}, "days": {&f.days, &b.Days}, "again": {&f.again, &b.Again}} {
		if set(flag) {
			*to.to = to.from
		}
	}
	if set("per") {
		b.Per = command.Optional[client.AlertInputPer](f.per)
	}
	if set("quiet") {
		b.Quiet = nil
		if f.quiet != "" {
			from, until, ok := strings.Cut(f.quiet, "-")
			if !ok {
				return command.Usagef("%q is not a time of the day, as 22:00-06:00", f.quiet)
			}
			b.Quiet = &client.Quiet{From: from, Until: until}
		}
	}
	if set("to") {
		b.To = &f.to
	}
	if set("hook") {
		b.Hook = &f.hook
	}
	if set("secret") {
		b.Secret = &f.secret
	}
	return nil
}

func alertCalled(cmd *cobra.Command, api *client.ClientWithResponses, name string) (client.Alert, error) {
	all, err := api.GetAlertsWithResponse(cmd.Context())
	if err != nil {
		return client.Alert{}, err
	}
	return called(all.JSON200.Items, func(a client.Alert) string { return a.Name }, name, "alert")
}

func alertLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All alerts", Args: command.Exactly(), Example: "  widelark alert ls",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetAlertsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Items, Columns: []string{"Name", "When", "Tells", "Quiet", "Open", "Last delivery"}, Numbers: []int{4}, Empty: "There are no alerts. Make one with `widelark alert new NAME`."}
			for _, al := range all.JSON200.Items {
				quiet, last := "", ""
				if al.Quiet != nil {
					quiet = al.Quiet.From + "-" + al.Quiet.Until
				}
				if len(al.Deliveries) > 0 {
					last = deliverySaid(a, &al.Deliveries[0])
				}
				tells := append([]string{}, command.Deref(al.To)...)
				if hook := command.OrEmpty(al.Hook); hook != "" {
					tells = append(tells, hook)
				}
				when := alertSaid(&al)
				if command.Deref(al.Off) {
					when = "off: " + when
				}
				v.Rows = append(v.Rows, []string{al.Name, when, strings.Join(tells, ", "), quiet, fmt.Sprint(al.Open), last})
			}
			return a.Show(v)
		}),
	})
}

// alertSaid says when an alert finds something.
func alertSaid(al *client.Alert) string {
	switch al.What {
	case "gates":
		return fmt.Sprintf("a gate is silent or behind for %d min, drops records or has a wrong clock", command.Deref(al.Minutes))
	case "packs":
		return fmt.Sprintf("a pack is older than %s, or an update waits", command.Plural(command.Deref(al.Days), "day", "days"))
	case "directories":
		return fmt.Sprintf("a directory was last read longer than %s ago, or a change of one waits", command.Plural(command.Deref(al.Days), "day", "days"))
	case "expectations":
		return "an expectation fails on what is live"
	}
	per := ""
	if al.Per != nil && *al.Per != "" {
		per = " for one " + string(*al.Per)
	}
	of := ""
	if q := command.OrEmpty(al.Query); q != "" {
		of = " of " + q
	}
	return fmt.Sprintf("more than %s%s in %d min%s", command.Plural(command.Deref(al.More), "request", "requests"), of, command.Deref(al.Minutes), per)
}

func alertNewCommand(a *command.App) *cobra.Command {
	var f alertFlags
	cmd := &cobra.Command{
		Use: "new NAME [QUERY]", Short: "Make an alert", Args: command.AtLeast("NAME"),
		Example: `  widelark alert new "Dangers" 'family:dangers verdict:block' --more 20 --minutes 60 --to desk@quillmere.example`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			b := client.AlertInput{Name: args[0], Query: command.Optional[string](strings.Join(args[1:], " "))}
			if err := f.apply(cmd, &b); err != nil {
				return err
			}
			made, err := api.AddAlertWithResponse(cmd.Context(), b)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The alert %q is on. `widelark alert test %q` sends a test.\n", made.JSON201.Name, made.JSON201.Name)
			return nil
		}),
	}
	f.register(cmd)
	return cmd
}

func alertEditCommand(a *command.App) *cobra.Command {
	var f alertFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Edit an alert; what is not named stays", Args: command.Exactly("NAME"),
		Example: "  widelark alert edit Gates --minutes 15\n  widelark alert edit Gates --off",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			al, err := alertCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			b := client.AlertInput{
				Name: al.Name, What: client.AlertInputWhat(al.What), Query: al.Query, More: al.More, Minutes: al.Minutes, Days: al.Days, Again: al.Again, Quiet: al.Quiet, To: al.To, Hook: al.Hook, Off: al.Off,
				Per: command.Optional[client.AlertInputPer](string(command.Deref(al.Per))),
			}
			if f.name != "" {
				b.Name = f.name
			}
			if cmd.Flags().Changed("query") {
				b.Query = &f.query
			}
			if f.off || f.on {
				b.Off = &f.off
			}
			if err := f.apply(cmd, &b); err != nil {
				return err
			}
			if _, err := api.PutAlertWithResponse(cmd.Context(), al.ID, &client.PutAlertParams{IfMatch: command.Match(al.Version)}, b); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edited the alert %q.\n", b.Name)
			return nil
		}),
	}
	f.register(cmd)
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	cmd.Flags().StringVar(&f.query, "query", "", "the requests that count")
	cmd.Flags().BoolVar(&f.off, "off", false, "it finds nothing until it is switched on again")
	cmd.Flags().BoolVar(&f.on, "on", false, "switch it on again")
	cmd.MarkFlagsMutuallyExclusive("off", "on")
	return cmd
}

func alertRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove an alert; what it found stays", Args: command.Exactly("NAME"), Example: "  widelark alert remove Gates",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			al, err := alertCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveAlertWithResponse(cmd.Context(), al.ID, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Removed the alert %q.\n", al.Name)
			return nil
		}),
	}
}

func alertTestCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "test NAME", Short: "Send a test to whom an alert tells", Args: command.Exactly("NAME"), Example: "  widelark alert test Gates",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			al, err := alertCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			sent, err := api.TestAlertWithResponse(cmd.Context(), al.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s on the way. `widelark alert ls` shows what became of it.\n", command.Plural(sent.JSON202.Messages, "test is", "tests are"))
			return nil
		}),
	}
}

func alertFoundCommand(a *command.App) *cobra.Command {
	var open bool
	var limit int64
	cmd := &cobra.Command{
		Use: "found [NAME]", Short: "What alerts have found, from when to when", Args: command.AtMost(1), Example: "  widelark alert found --open\n  widelark alert found Gates",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p := &client.GetIncidentsParams{Open: &open, Limit: &limit}
			if len(args) > 0 {
				al, err := alertCalled(cmd, api, args[0])
				if err != nil {
					return err
				}
				p.Alert = &al.ID
			}
			answer, err := api.GetIncidentsWithResponse(cmd.Context(), p)
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Incidents, Columns: []string{"Since", "Over", "Alert", "What", "Told", "Seen by", "Id"}, Empty: "Nothing was found."}
			for _, i := range answer.JSON200.Incidents {
				over, told := "goes on", "not yet"
				if i.OverAt != nil {
					over = a.Moment(*i.OverAt)
				}
				if i.ToldAt != nil {
					told = a.Moment(*i.ToldAt)
				}
				v.Rows = append(v.Rows, []string{a.Moment(i.Since), over, i.Name, i.Said, told, command.OrEmpty(i.AcknowledgedBy), i.ID.String()})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().BoolVar(&open, "open", false, "only what goes on and nobody has acknowledged")
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many, at most 1000")
	return a.Reads(cmd)
}

func alertAcknowledgeCommand(a *command.App) *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use: "acknowledge ID", Short: "Say that somebody has seen to it: nobody is told of it again", Args: command.Exactly("ID"), Example: "  widelark alert acknowledge 5f0c21aa-0b7e-4c2f-9a35-5a0a3f5c9f10 --why \"the network is being moved\"",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := uuid.Parse(args[0])
			if err != nil {
				return command.Usagef("%q is not the id of something that was found: see `widelark alert found`", args[0])
			}
			done, err := api.AcknowledgeIncidentWithResponse(cmd.Context(), id, client.AcknowledgeInputBody{Reason: command.Optional[string](why)})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Nobody is told of it again: %s\n", done.JSON200.Said)
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "what is known of it")
	return cmd
}

// Package pack implements the commands about packs, and building packs.
//
// From: arguments.
// To: the API, by package client.
package pack

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("pack", "Packs of category data: where they come from, what is in force, what an update changes",
		lsCommand(a), showCommand(a), addCommand(a), setCommand(a), pullCommand(a), importCommand(a), historyCommand(a),
		changesCommand(a), settleCommand(a, "accept"), settleCommand(a, "refuse"), undoCommand(a), removeCommand(a),
		trustCommand(a), keysCommand(a), distrustCommand(a), buildCommand(a), verifyCommand(a), keyCommand(a))
	cmd.Example = `  widelark pack ls
  widelark pack changes "Harbour catalogue"
  widelark pack accept "Harbour catalogue"`
	return cmd
}

// withPack returns the function of a command whose first argument names a pack; do gets the pack and the other arguments.
func withPack(a *command.App, run func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, rest []string) error) func(*cobra.Command, []string) error {
	return a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		found, err := api.GetPacksWithResponse(cmd.Context())
		if err != nil {
			return err
		}
		for _, p := range found.JSON200.Packs {
			if strings.EqualFold(p.Name, args[0]) || p.Key != "" && p.Key == args[0] {
				return run(cmd, api, p, args[1:])
			}
		}
		return fmt.Errorf("there is no pack %q; `widelark pack ls` shows which there are", args[0])
	})
}

func lsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All packs, in the order in which they are asked", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetPacksWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{
				Data: found.JSON200.Packs, Columns: []string{"Rank", "Pack", "Version", "Sites", "Of", "Next pull", "Last", "What happened"}, Numbers: []int{0, 2, 3},
				Empty: "There are no packs yet. Trust its maker with `widelark pack trust KEY NAME`, then get one with `widelark pack add NAME URL`.",
			}
			for _, p := range found.JSON200.Packs {
				row := []string{fmt.Sprint(p.Rank), p.Name, "–", "", "", "by hand", "", p.Told}
				if s := p.InForce; s != nil {
					row[2], row[3], row[4] = fmt.Sprint(s.Version), command.Grouped(s.Sites), a.ByClock(s.Date).Format("2006-01-02")
				}
				if p.NextAt != nil {
					row[5] = a.Moment(*p.NextAt)
				}
				if p.Result != nil {
					row[6] = string(*p.Result)
				}
				if p.Waiting != nil {
					row[6] = "waits"
				}
				v.Rows = append(v.Rows, row)
			}
			return a.Show(v)
		}),
	})
}

func showCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: "One pack", Args: command.Exactly("NAME"),
		RunE: withPack(a, func(_ *cobra.Command, _ *client.ClientWithResponses, p client.Pack, _ []string) error {
			v := command.View{Data: p, Columns: []string{"What", "Is"}}
			row := func(name, value string) { v.Rows = append(v.Rows, []string{name, value}) }
			row("Pack", fmt.Sprintf("%s (%s)", p.Name, p.Key))
			from := "files, by hand"
			if p.URL != "" {
				from = fmt.Sprintf("%s, every %s", p.URL, time.Duration(p.EveryMinutes)*time.Minute)
			}
			row("From", from)
			row("Rank", fmt.Sprint(p.Rank))
			row("Updates", map[bool]string{true: "wait until somebody accepts them", false: "go in by themselves"}[p.Hold]+fmt.Sprintf("; at most %d per cent of the sites may go", p.MaxShrink))
			state := func(name string, s *client.PackState) {
				if s != nil {
					old := command.Plural(int64(time.Since(s.Date).Hours()/24), "day", "days")
					row(name, fmt.Sprintf("version %d of %s (%s old): %s, licence %s", s.Version, a.ByClock(s.Date).Format("2006-01-02"), old, command.Plural(s.Sites, "site", "sites"), s.Licence))
				}
			}
			state("In force", p.InForce)
			state("Waiting", p.Waiting)
			if p.Result != nil {
				row("Last pull", string(*p.Result)+": "+p.Told)
			}
			if a.Format == "table" {
				for _, r := range v.Rows {
					fmt.Fprintf(a.Out, "%-10s %s\n", r[0], r[1])
				}
				return nil
			}
			return a.Show(v)
		}),
	})
}

// packFlags holds the flags for the settings of a pack.
type packFlags struct {
	every        time.Duration
	paused, hold bool
	shrink, size int64
}

func (f *packFlags) register(cmd *cobra.Command) {
	cmd.Flags().DurationVar(&f.every, "every", 24*time.Hour, "between two pulls, as 6h or 30m")
	cmd.Flags().BoolVar(&f.paused, "paused", false, "pull by hand only")
	cmd.Flags().BoolVar(&f.hold, "hold", false, "let updates wait until somebody accepts them")
	cmd.Flags().Int64Var(&f.shrink, "max-shrink", 20, "per cent of the sites that an update may take away")
	cmd.Flags().Int64Var(&f.size, "max-bytes", 1<<30, "a larger file is refused")
}

func addCommand(a *command.App) *cobra.Command {
	var f packFlags
	cmd := &cobra.Command{
		Use: "add NAME [URL]", Short: "Have a pack pulled from an address; without one, a place for files that are imported by hand",
		Example: `  widelark pack add "Harbour catalogue" https://packs.harbour.example/catalogue.larkpack --every 12h --hold`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return nil
			}
			return command.Exactly("NAME")(cmd, args)
		},
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			every := int64(f.every.Minutes())
			body := client.NewPackInputBody{Name: args[0], EveryMinutes: &every, Paused: &f.paused, Hold: &f.hold, MaxShrink: &f.shrink, MaxBytes: &f.size}
			next := fmt.Sprintf("`widelark pack import %q FILE` fills it.", args[0])
			if len(args) == 2 {
				body.URL = &args[1]
				next = fmt.Sprintf("`widelark pack pull %q` fetches it now.", args[0])
			}
			if _, err := api.CreatePackWithResponse(cmd.Context(), body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Added the pack %q. %s\n", args[0], next)
			return nil
		}),
	}
	f.register(cmd)
	return cmd
}

func setCommand(a *command.App) *cobra.Command {
	var f packFlags
	var name, url string
	var rank int64
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Change what is chosen about a pack; what is not named stays", Args: command.Exactly("NAME"),
		Example: `  widelark pack set "Harbour catalogue" --hold --every 6h
  widelark pack set "Estuary additions" --rank 1`,
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			var edit client.EditPackInputBody
			every := int64(f.every.Minutes())
			for flag, set := range map[string]func(){
				"name": func() { edit.Name = &name }, "url": func() { edit.URL = &url }, "rank": func() { edit.Rank = &rank }, "every": func() { edit.EveryMinutes = &every },
				"paused": func() { edit.Paused = &f.paused }, "hold": func() { edit.Hold = &f.hold }, "max-shrink": func() { edit.MaxShrink = &f.shrink }, "max-bytes": func() { edit.MaxBytes = &f.size },
			} {
				if cmd.Flags().Changed(flag) {
					set()
				}
			}
			edited, err := api.EditPackWithResponse(cmd.Context(), p.ID, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Changed the pack %q.\n", edited.JSON200.Name)
			return nil
		}),
	}
	f.register(cmd)
	cmd.Flags().StringVar(&name, "name", "", "its new name")
	cmd.Flags().StringVar(&url, "url", "", "where it is pulled from; empty for by hand")
	cmd.Flags().Int64Var(&rank, "rank", 1, "its place in the order in which packs are asked, from 1")
	return cmd
}

// watch prints the progress of reading a pack's file until ctx ends.
func watch(ctx context.Context, a *command.App, api *client.ClientWithResponses, p client.Pack) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	last := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		found, err := api.GetPackWithResponse(ctx, p.ID)
		if err != nil || found.JSON200.Progress == nil {
			continue
		}
		at := found.JSON200.Progress
		text := fmt.Sprintf("%s: %s read", at.Stage, command.Plural(at.Sites, "site", "sites"))
		if at.Of > 0 {
			text += fmt.Sprintf(", %d of %d KiB", at.Bytes>>10, at.Of>>10)
		}
		if text != last {
			fmt.Fprintln(a.Err, text)
			last = text
		}
	}
}

func pullCommand(a *command.App) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use: "pull NAME", Short: "Pull a pack now", Args: command.Exactly("NAME"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			watching, stop := context.WithCancel(cmd.Context())
			go watch(watching, a, api, p)
			pulled, err := api.PullPackWithResponse(cmd.Context(), p.ID, &client.PullPackParams{Force: &force})
			stop()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s: %s\n", *pulled.JSON200.Result, pulled.JSON200.Told)
			showWaiting(a, *pulled.JSON200)
			if r := *pulled.JSON200.Result; r == client.PackResultFailed || r == client.PackResultRefused {
				return command.ErrNo
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&force, "force", false, "let the pack shrink as much as the file says, this time")
	return cmd
}

// showWaiting prints what to do about a waiting update.
func showWaiting(a *command.App, p client.Pack) {
	if p.Waiting != nil {
		fmt.Fprintf(a.Out, "`widelark pack changes %q` shows what it changes; `widelark pack accept %q` puts it in force.\n", p.Name, p.Name)
	}
}

func importCommand(a *command.App) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use: "import NAME FILE", Short: "Put a pack's file into the catalogue by hand", Args: command.Exactly("NAME", "FILE"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, rest []string) error {
			file, err := a.Open(rest[0])
			if err != nil {
				return err
			}
			defer file.Close()
			watching, stop := context.WithCancel(cmd.Context())
			go watch(watching, a, api, p)
			got, err := api.ImportPackWithBodyWithResponse(cmd.Context(), p.ID, &client.ImportPackParams{Force: &force}, "application/octet-stream", file)
			stop()
			if err != nil {
				return err
			}
			after := got.JSON200
			now := after.InForce
			if after.Waiting != nil {
				now = after.Waiting
			}
			fmt.Fprintf(a.Out, "%q has version %d: %s came, %s moved, %s went.\n", after.Name, now.Version, command.Grouped(now.Added), command.Grouped(now.Moved), command.Grouped(now.Gone))
			showWaiting(a, *after)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&force, "force", false, "let the pack shrink as much as the file says, this time")
	return cmd
}

func historyCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "history NAME", Short: "What a pack came to, and when it was in force", Args: command.Exactly("NAME"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			found, err := api.GetPackHistoryWithResponse(cmd.Context(), p.ID)
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200, Columns: []string{"When", "Who", "What", "State", "Version", "Sites", "Came", "Moved", "Went"}, Numbers: []int{3, 4, 5, 6, 7, 8}, Empty: "Nothing has come of it yet."}
			states := map[int64]client.PackState{}
			for _, s := range found.JSON200.States {
				states[s.Number] = s
			}
			for _, e := range found.JSON200.Events {
				s := states[e.Number]
				v.Rows = append(v.Rows, []string{a.Moment(e.At), e.By, string(e.What), fmt.Sprint(e.Number), fmt.Sprint(e.Version), command.Grouped(s.Sites), command.Grouped(s.Added), command.Grouped(s.Moved), command.Grouped(s.Gone)})
			}
			return a.Show(v)
		}),
	})
}

func changesCommand(a *command.App) *cobra.Command {
	var from, to, limit int64
	var after string
	cmd := &cobra.Command{
		Use: "changes NAME", Short: "What an update changes: sites, and which of them were asked for", Args: command.Exactly("NAME"),
		Long: "Show what an update that waits changes, before it goes in; or, with --from and --to, what any two states differ by. " +
			"What was asked for and changes category comes first, so that nobody has to learn it from a complaint.",
		Example: `  widelark pack changes "Harbour catalogue"
  widelark pack changes "Harbour catalogue" --from 1 --to 2 -o csv`,
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			found, err := api.GetPackChangesWithResponse(cmd.Context(), p.ID, &client.GetPackChangesParams{From: &from, To: &to, Limit: &limit, After: &after})
			if err != nil {
				return err
			}
			c := found.JSON200
			v := command.View{Data: c, Columns: []string{"Entry", "Was", "Becomes"}, Empty: "Nothing: there is no other state than the one in force."}
			if a.Format == "table" && c.To != 0 && c.From != c.To {
				fmt.Fprintf(a.Out, "%s, state %d to state %d: %s come, %s move, %s go.\n", p.Name, c.From, c.To, command.Grouped(c.Added), command.Grouped(c.Moved), command.Grouped(c.Gone))
				if len(c.Turns) > 0 {
					fmt.Fprintf(a.Out, "\nOf what was asked for, %s with %s change category:\n\n", command.Plural(c.Turned.Hosts, "host", "hosts"), command.Plural(c.Turned.Requests, "request", "requests"))
					turns := command.View{Columns: []string{"Requests", "Asked for", "Was", "Becomes"}, Numbers: []int{0}}
					for _, t := range c.Turns {
						turns.Rows = append(turns.Rows, []string{command.Grouped(t.Requests), t.URL, object.Names(t.Before), object.Names(t.After)})
					}
					a.Table(turns)
				} else if after == "" && c.To > c.From {
					fmt.Fprintln(a.Out, "Nothing of what was asked for changes category.")
				}
				fmt.Fprintln(a.Out, "\nSites:")
			}
			for _, s := range c.Changes {
				row := []string{s.Entry, "", ""}
				if len(s.Before) > 0 {
					row[1] = object.Names(s.Before)
				}
				if len(s.After) > 0 {
					row[2] = object.Names(s.After)
				}
				v.Rows = append(v.Rows, row)
			}
			if c.Next != nil {
				v.Foot = fmt.Sprintf("\nMore: widelark pack changes %q --from %d --to %d --after %s --limit %d", p.Name, c.From, c.To, *c.Next, limit)
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&from, "from", 0, "the number of a state; 0 is the one in force")
	cmd.Flags().Int64Var(&to, "to", 0, "the number of a state; 0 is the one that waits, or else the latest")
	cmd.Flags().Int64Var(&limit, "limit", 20, "how many of each, at most 1000")
	cmd.Flags().StringVar(&after, "after", "", "the place that the page before named")
	return a.Reads(cmd)
}

// settleCommand returns the command accept or refuse.
func settleCommand(a *command.App, verb string) *cobra.Command {
	short := map[string]string{"accept": "Put the update that waits in force", "refuse": "Refuse the update that waits; the next one waits again"}[verb]
	return &cobra.Command{
		Use: verb + " NAME", Short: short, Args: command.Exactly("NAME"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			if p.Waiting == nil {
				fmt.Fprintf(a.Out, "No update of %q waits.\n", p.Name)
				return command.ErrNo
			}
			body := client.SettlePackInputBody{Number: p.Waiting.Number}
			if verb == "accept" {
				if _, err := api.AcceptPackWithResponse(cmd.Context(), p.ID, body); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "Version %d of %q is in force. `widelark pack undo %q` takes it back.\n", p.Waiting.Version, p.Name, p.Name)
				return nil
			}
			if _, err := api.RefusePackWithResponse(cmd.Context(), p.ID, body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Version %d of %q is refused.\n", p.Waiting.Version, p.Name)
			return nil
		}),
	}
}

func undoCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "undo NAME", Short: "Put the previous state in force again; doing it twice changes nothing", Args: command.Exactly("NAME"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			after, err := api.UndoPackWithResponse(cmd.Context(), p.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Version %d of %q is in force again.\n", after.JSON200.InForce.Version, p.Name)
			return nil
		}),
	}
}

func removeCommand(a *command.App) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "remove NAME", Short: "Take a pack out of the catalogue, with its history", Args: command.Exactly("NAME"),
		RunE: withPack(a, func(cmd *cobra.Command, api *client.ClientWithResponses, p client.Pack, _ []string) error {
			if !yes {
				return command.Usagef("this takes %q and all its versions away for good; say --yes if that is meant", p.Name)
			}
			if _, err := api.DeletePackWithResponse(cmd.Context(), p.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Took the pack %q out of the catalogue.\n", p.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it")
	return cmd
}

func trustCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "trust KEY NAME", Short: "Trust packs that are signed with a key", Args: command.Exactly("KEY", "NAME"),
		Long: "Trust packs that are signed with a public key. Ask the pack's maker for it by a way that you trust, not from where the pack comes from.",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.TrustKeyWithResponse(cmd.Context(), client.TrustInputBody{Key: args[0], Name: args[1]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Packs signed by %s are trusted.\n", args[1])
			return nil
		}),
	}
}

func distrustCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "distrust KEY", Short: "Stop trusting a key; what was signed with it stays", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			_, err := api.DistrustKeyWithResponse(cmd.Context(), &client.DistrustKeyParams{Key: args[0]})
			if err == nil {
				fmt.Fprintln(a.Out, "Packs signed with that key are refused from now on.")
			}
			return err
		}),
	}
}

func keysCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "keys", Short: "The public keys that packs may be signed with", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetPackKeysWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200.Keys, Columns: []string{"Whose", "Key", "Trusted by", "Since"}, Empty: "No key is trusted yet, so every pack would be refused."}
			for _, k := range found.JSON200.Keys {
				v.Rows = append(v.Rows, []string{k.Name, k.Key, k.AddedBy, a.Moment(k.AddedAt)})
			}
			return a.Show(v)
		}),
	})
}

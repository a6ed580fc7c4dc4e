// Package directory implements the commands about directories: people and groups that others keep.
//
// From: arguments.
// To: the API, by package client.
package directory

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// Command returns the command with all below it.
func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("directory", "Directories: people and groups that others keep, read from LDAP or a file, or sent by a program",
		lsCommand(a), showCommand(a), addCommand(a), setCommand(a), syncCommand(a), importCommand(a), changesCommand(a), settleCommand(a, "accept"), settleCommand(a, "refuse"),
		undoCommand(a), adoptCommand(a), historyCommand(a), tokenCommand(a), removeCommand(a))
	cmd.Example = `  widelark directory add Staff ldaps://ldap.quillmere.example --base dc=quillmere,dc=example --every 15m
  widelark directory sync Staff --preview
  widelark directory changes Staff
  widelark directory accept Staff`
	return cmd
}

// withDirectory returns the function of a command whose first argument names a directory; run gets the directory and the other arguments.
func withDirectory(a *command.App, run func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, rest []string) error) func(*cobra.Command, []string) error {
	return a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		found, err := api.GetDirectoriesWithResponse(cmd.Context())
		if err != nil {
			return err
		}
		for _, d := range found.JSON200.Directories {
			if strings.EqualFold(d.Name, args[0]) {
				return run(cmd, api, d, args[1:])
			}
		}
		return fmt.Errorf("there is no directory %q; `widelark directory ls` shows which there are", args[0])
	})
}

func lsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All directories, and how their last reading went", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetDirectoriesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{
				Data: found.JSON200.Directories, Columns: []string{"Directory", "Kind", "People", "Groups", "Next", "Last", "What happened"}, Numbers: []int{2, 3},
				Empty: "There are no directories. `widelark directory add NAME ldaps://SERVER --base DN` has people and groups read from one.",
			}
			for _, d := range found.JSON200.Directories {
				row := []string{d.Name, string(d.Kind), "–", "–", "when sent", command.OrEmpty(d.Result), d.Told}
				if s := d.InForce; s != nil {
					row[2], row[3] = command.Grouped(s.People), command.Grouped(s.Groups)
				}
				if d.NextAt != nil {
					row[4] = a.Moment(*d.NextAt)
				}
				if d.Waiting != nil {
					row[5] = "waits"
				}
				v.Rows = append(v.Rows, row)
			}
			return a.Show(v)
		}),
	})
}

// most is how many lines of a kind are shown one by one.
const most = 10

func showCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: "One directory: where it is read from, what is in force, what waits and why", Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(_ *cobra.Command, _ *client.ClientWithResponses, d client.Directory, _ []string) error {
			v := command.View{Data: d, Columns: []string{"What", "Is"}}
			row := func(name, value string) { v.Rows = append(v.Rows, []string{name, value}) }
			row("Directory", fmt.Sprintf("%s (%s)", d.Name, d.Kind))
			every := fmt.Sprintf(", every %s", time.Duration(d.EveryMinutes)*time.Minute)
			switch {
			case d.Paused:
				every = ", by hand only"
			case d.URL == "":
				every = ""
			}
			switch {
			case d.Kind == client.DirectoryKindLdap:
				from := d.URL + " below " + command.Deref(d.Base)
				if d.Bind != nil {
					from += " as " + *d.Bind
				}
				row("From", from+every)
			case d.URL != "":
				row("From", d.URL+every)
			case d.Kind == client.DirectoryKindScim && d.HasToken:
				row("From", "a program that has its token, by SCIM")
			case d.Kind == client.DirectoryKindScim:
				row("From", "nobody yet: `widelark directory token` makes a token for a program")
			default:
				row("From", "files that are handed over")
			}
			waits := fmt.Sprintf("where more than %d per cent of the people would go, or a group that draft or live name would be empty or go", d.MaxShrink)
			if d.Hold {
				waits = "always, until somebody accepts it"
			}
			row("Waits", waits)
			state := func(name string, s *client.DirectoryState) {
				if s != nil {
					row(name, fmt.Sprintf("state %d of %s: %s, %s", s.Number, a.Moment(s.ArrivedAt), command.Plural(s.People, "person", "people"), command.Plural(s.Groups, "group", "groups")))
				}
			}
			state("In force", d.InForce)
			state("Waiting", d.Waiting)
			for _, why := range d.Why {
				row("", "because "+why)
			}
			if d.Result != nil {
				row("Last", string(*d.Result)+": "+d.Told)
			}
			list := func(name string, all []string) {
				for i, one := range all {
					if i == most {
						row("", fmt.Sprintf("and %d more", len(all)-most))
						break
					}
					row(name, one)
					name = ""
				}
			}
			list("Left out", d.LeftOut)
			list("Elsewhere", d.Shadowed) // the name is somebody else's
			if a.Format == "table" {
				for _, r := range v.Rows {
					fmt.Fprintf(a.Out, "%-10s %s\n", r[0], strings.TrimLeft(a.Wrapped(r[1], 11), " "))
				}
				if len(d.Shadowed) > 0 {
					fmt.Fprintf(a.Out, "\nWho is elsewhere is in the draft, live or in another directory under the same name, and counts there.\n")
				}
				return nil
			}
			return a.Show(v)
		}),
	})
}

// settings holds the flags for the settings of a directory.
type settings struct {
	base, bind, name, key string
	every                 time.Duration
	paused, hold          bool
	shrink                int64
	password              bool
}

func (f *settings) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.base, "base", "", "of LDAP: the distinguished name below which people and groups are, as dc=quillmere,dc=example")
	cmd.Flags().StringVar(&f.bind, "bind", "", "of LDAP: the name to sign in with; left out for nobody")
	cmd.Flags().BoolVar(&f.password, "password-stdin", false, "of LDAP: read the password to sign in with from standard input")
	cmd.Flags().StringVar(&f.name, "name-field", "", "the attribute that says how people sign in (default uid)")
	cmd.Flags().StringVar(&f.key, "key-field", "", "the attribute that identifies an entry for good (default entryUUID)")
	cmd.Flags().DurationVar(&f.every, "every", time.Hour, "between two readings, as 15m or 6h")
	cmd.Flags().BoolVar(&f.paused, "paused", false, "read by hand only")
	cmd.Flags().BoolVar(&f.hold, "hold", false, "let every change wait until somebody accepts it")
	cmd.Flags().Int64Var(&f.shrink, "max-shrink", 10, "per cent of the people that may go without anybody's leave")
}

func addCommand(a *command.App) *cobra.Command {
	var f settings
	var scim bool
	cmd := &cobra.Command{
		Use: "add NAME [URL]", Short: "Have people and groups read from an LDAP server or a file; without an address, a place for files that are handed over",
		Long: "Have people and groups read on a timetable: from an LDAP server (ldap:// or ldaps://), or from a file in LDIF or CSV (http:// or https://). Without an address, files are handed over with " +
			"`widelark directory import`; with --scim, a program sends each change. What a directory says holds at once, in the draft and live alike, and is edited there alone.",
		Example: `  widelark directory add Staff ldaps://ldap.quillmere.example --base dc=quillmere,dc=example --bind cn=reader,dc=quillmere,dc=example --password-stdin < password.txt
  widelark directory add Students https://files.quillmere.example/students.csv --every 6h
  widelark directory add Agency --scim`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return nil
			}
			return command.Exactly("NAME")(cmd, args)
		},
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			every := int64(f.every.Minutes())
			body := client.NewDirectoryInputBody{
				Name: args[0], Kind: "file", EveryMinutes: &every, Paused: &f.paused, Hold: &f.hold, MaxShrink: &f.shrink, Base: command.Optional[string](f.base), Bind: command.Optional[string](f.bind),
				NameField: command.Optional[string](f.name), KeyField: command.Optional[string](f.key),
			}
			next := fmt.Sprintf("`widelark directory import %q FILE` fills it.", args[0])
			switch {
			case scim && len(args) == 2:
				return command.Usagef("with --scim, people are sent here: there is no address")
			case scim:
				body.Kind, next = "scim", fmt.Sprintf("`widelark directory token %q` makes a token for the program that sends people.", args[0])
			case len(args) == 2:
				if body.URL = &args[1]; strings.HasPrefix(args[1], "ldap") {
					body.Kind = "ldap"
				}
				next = fmt.Sprintf("`widelark directory sync %q --preview` shows whom it has; it is read by itself soon.", args[0])
			}
			if f.password {
				given, err := a.Passwords(true, "Password")
				if err != nil {
					return err
				}
				body.Password = &given[0]
			}
			if _, err := api.AddDirectoryWithResponse(cmd.Context(), body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Added the directory %q. %s\n", args[0], next)
			return nil
		}),
	}
	f.register(cmd)
	cmd.Flags().BoolVar(&scim, "scim", false, "a program sends each change by SCIM (RFC 7644)")
	return cmd
}

func setCommand(a *command.App) *cobra.Command {
	var f settings
	var name, url string
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Change what is chosen about a directory; what is not named stays", Args: command.Exactly("NAME"),
		Example: `  widelark directory set Staff --every 15m --max-shrink 5
  widelark directory set Staff --hold`,
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			var edit client.EditDirectoryInputBody
			every := int64(f.every.Minutes())
			for flag, set := range map[string]func(){
				"name": func() { edit.Name = &name }, "url": func() { edit.URL = &url }, "base": func() { edit.Base = &f.base }, "bind": func() { edit.Bind = &f.bind }, "name-field": func() { edit.NameField = &f.name },
				"key-field": func() { edit.KeyField = &f.key }, "every": func() { edit.EveryMinutes = &every }, "paused": func() { edit.Paused = &f.paused }, "hold": func() { edit.Hold = &f.hold },
				"max-shrink": func() { edit.MaxShrink = &f.shrink },
			} {
				if cmd.Flags().Changed(flag) {
					set()
				}
			}
			if f.password {
				given, err := a.Passwords(true, "Password")
				if err != nil {
					return err
				}
				edit.Password = &given[0]
			}
			edited, err := api.EditDirectoryWithResponse(cmd.Context(), d.ID, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Changed the directory %q.\n", edited.JSON200.Name)
			return nil
		}),
	}
	f.register(cmd)
	cmd.Flags().StringVar(&name, "name", "", "its new name")
	cmd.Flags().StringVar(&url, "url", "", "where it is read from; empty for files that are handed over")
	return cmd
}

func syncCommand(a *command.App) *cobra.Command {
	var preview, anyway bool
	cmd := &cobra.Command{
		Use: "sync NAME", Short: "Read a directory now, or show what that would change", Args: command.Exactly("NAME"),
		Example: `  widelark directory sync Staff --preview
  widelark directory sync Staff`,
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			if preview {
				seen, err := api.PreviewDirectoryWithResponse(cmd.Context(), d.ID)
				if err != nil {
					return err
				}
				b := seen.JSON200
				if st := b.State; st != nil && a.Format == "table" {
					fmt.Fprintf(a.Out, "%s, %s: %d would come, %d change, %d go.\n", command.Plural(st.People, "person", "people"), command.Plural(st.Groups, "group", "groups"), st.Came, st.Changed, st.Went)
					for _, why := range b.Why {
						fmt.Fprintf(a.Out, "It would wait: %s.\n", why)
					}
					for i, left := range b.LeftOut {
						if i == most {
							fmt.Fprintf(a.Out, "%d more cannot be used.\n", len(b.LeftOut)-most)
							break
						}
						fmt.Fprintf(a.Out, "Cannot be used: %s.\n", left)
					}
					fmt.Fprintln(a.Out)
				}
				return a.Show(changesView(b, b.Changes, "Nothing would change."))
			}
			synced, err := api.SyncDirectoryWithResponse(cmd.Context(), d.ID, &client.SyncDirectoryParams{Anyway: &anyway})
			if err != nil {
				return err
			}
			return told(a, synced.JSON200)
		}),
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what would change; nothing is kept")
	cmd.Flags().BoolVar(&anyway, "anyway", false, "nothing waits, this time")
	cmd.MarkFlagsMutuallyExclusive("preview", "anyway")
	return a.Reads(cmd)
}

// told prints how a reading went.
func told(a *command.App, d *client.Directory) error {
	fmt.Fprintf(a.Out, "%s: %s\n", *d.Result, d.Told)
	if d.Waiting != nil {
		fmt.Fprintf(a.Out, "`widelark directory changes %q` shows what it changes; `widelark directory accept %q` puts it in force.\n", d.Name, d.Name)
	}
	if *d.Result == client.DirectoryResultFailed {
		return command.ErrNo
	}
	return nil
}

func importCommand(a *command.App) *cobra.Command {
	var anyway bool
	cmd := &cobra.Command{
		Use: "import NAME FILE", Short: "Hand a directory's file over, LDIF or CSV", Args: command.Exactly("NAME", "FILE"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, rest []string) error {
			file, err := a.Open(rest[0])
			if err != nil {
				return err
			}
			defer file.Close()
			got, err := api.ImportDirectoryWithBodyWithResponse(cmd.Context(), d.ID, &client.ImportDirectoryParams{Anyway: &anyway}, "text/plain", file)
			if err != nil {
				return err
			}
			return told(a, got.JSON200)
		}),
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "nothing waits, this time")
	return cmd
}

func changesView(data any, changes []client.DirectoryChange, empty string) command.View {
	v := command.View{Data: data, Columns: []string{"What", "Kind", "Name", "Full name", "What is otherwise"}, Empty: empty}
	for _, c := range changes {
		v.Rows = append(v.Rows, []string{string(c.What), string(c.Kind), c.Name, command.OrEmpty(c.FullName), c.Detail})
	}
	return v
}

func changesCommand(a *command.App) *cobra.Command {
	var from, to, skip, limit int64
	cmd := &cobra.Command{
		Use: "changes NAME", Short: "Who comes, changes and goes with the state that waits, or between two states", Args: command.Exactly("NAME"),
		Example: `  widelark directory changes Staff
  widelark directory changes Staff --from 1 --to 2 -o csv`,
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			found, err := api.GetDirectoryChangesWithResponse(cmd.Context(), d.ID, &client.GetDirectoryChangesParams{From: &from, To: &to, Skip: &skip, Limit: &limit})
			if err != nil {
				return err
			}
			c := found.JSON200
			if a.Format == "table" && c.From != c.To {
				fmt.Fprintf(a.Out, "%s, state %d to state %d:\n\n", d.Name, c.From, c.To)
			}
			if err := a.Show(changesView(c, c.Changes, "Nothing: there is no other state than the one in force.")); err != nil {
				return err
			}
			if left := c.Total - skip - int64(len(c.Changes)); left > 0 && a.Format == "table" {
				fmt.Fprintf(a.Out, "\n%d more: --skip %d goes on.\n", left, skip+int64(len(c.Changes)))
			}
			return nil
		}),
	}
	cmd.Flags().Int64Var(&from, "from", 0, "the number of a state (default the one in force)")
	cmd.Flags().Int64Var(&to, "to", 0, "the number of a state (default the one that waits, or else the latest)")
	cmd.Flags().Int64Var(&skip, "skip", 0, "how many are passed over")
	cmd.Flags().Int64Var(&limit, "limit", 100, "how many are shown")
	return a.Reads(cmd)
}

func settleCommand(a *command.App, verb string) *cobra.Command {
	short := map[string]string{"accept": "Put the state that waits in force", "refuse": "Refuse the state that waits; the next one that is otherwise is looked at anew"}[verb]
	return &cobra.Command{
		Use: verb + " NAME", Short: short, Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			if d.Waiting == nil {
				return fmt.Errorf("nothing of the directory %q waits", d.Name)
			}
			body := client.SettleDirectoryInputBody{Number: d.Waiting.Number}
			if verb == "refuse" {
				if _, err := api.RefuseDirectoryWithResponse(cmd.Context(), d.ID, body); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "State %d of %q is refused. The state in force stays.\n", body.Number, d.Name)
				return nil
			}
			if _, err := api.AcceptDirectoryWithResponse(cmd.Context(), d.ID, body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "State %d of %q is in force. `widelark directory undo %q` takes it back.\n", body.Number, d.Name, d.Name)
			return nil
		}),
	}
}

func undoCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "undo NAME", Short: "Put the state of before in force again; done twice, it changes nothing", Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			undone, err := api.UndoDirectoryWithResponse(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "State %d of %q is in force again.\n", undone.JSON200.InForce.Number, d.Name)
			return nil
		}),
	}
}

func adoptCommand(a *command.App) *cobra.Command {
	var preview bool
	cmd := &cobra.Command{
		Use: "adopt NAME", Short: "Hand people of the draft over to the directory that has people of the same names", Args: command.Exactly("NAME"),
		Long: "Hand people over who were made or imported by hand and have the names of the directory's people. They stay who they are, with all that names them, and are edited in the directory from " +
			"then on, at once in the draft and live. Who would be in fewer groups stays in the draft: first have groups of the draft hold the directory's, and publish that.",
		Example: `  widelark group edit "Ward nurses" --group "Ward nurses (Staff)"
  widelark publish --note "The ward holds the directory's nurses"
  widelark directory adopt Staff --preview
  widelark directory adopt Staff`,
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			done, err := api.AdoptDirectoryWithResponse(cmd.Context(), d.ID, &client.AdoptDirectoryParams{Preview: &preview})
			if err != nil {
				return err
			}
			verb := "was handed over"
			switch {
			case preview:
				verb = "would be handed over"
			case done.JSON200.People != 1:
				verb = "were handed over"
			}
			fmt.Fprintf(a.Out, "%s %s to %q.\n", command.Plural(done.JSON200.People, "person", "people"), verb, d.Name)
			for i, kept := range done.JSON200.Kept {
				if i == most {
					fmt.Fprintf(a.Out, "%d more stay in the draft.\n", len(done.JSON200.Kept)-most)
					break
				}
				fmt.Fprintf(a.Out, "Stays in the draft: %s.\n", kept)
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only say what would happen")
	return cmd
}

func historyCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "history NAME", Short: "What states a directory had, and when they were in force", Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			found, err := api.GetDirectoryHistoryWithResponse(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200, Columns: []string{"When", "Who", "What", "State", "People", "Groups", "Came", "Changed", "Went"}, Numbers: []int{3, 4, 5, 6, 7, 8}, Empty: "Nothing has come of it yet."}
			states := map[int64]client.DirectoryState{}
			for _, s := range found.JSON200.States {
				states[s.Number] = s
			}
			for _, e := range found.JSON200.Events {
				s := states[e.Number]
				v.Rows = append(v.Rows, []string{a.Moment(e.At), e.By, string(e.What), fmt.Sprint(e.Number), command.Grouped(s.People), command.Grouped(s.Groups), command.Grouped(s.Came), command.Grouped(s.Changed), command.Grouped(s.Went)})
			}
			return a.Show(v)
		}),
	})
}

func tokenCommand(a *command.App) *cobra.Command {
	var end bool
	cmd := &cobra.Command{
		Use: "token NAME", Short: "Make a token with which a program sends people by SCIM; the one before is no good any more", Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			if end {
				if _, err := api.EndDirectoryTokenWithResponse(cmd.Context(), d.ID); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "No program sends people to %q any more.\n", d.Name)
				return nil
			}
			made, err := api.MakeDirectoryTokenWithResponse(cmd.Context(), d.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "SCIM is spoken at %s. The token is shown this once:\n", made.JSON200.URL)
			fmt.Fprintln(a.Out, made.JSON200.Token)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&end, "end", false, "take no more from the program")
	return cmd
}

func removeCommand(a *command.App) *cobra.Command {
	var anyway bool
	cmd := &cobra.Command{
		Use: "remove NAME", Short: "Do without a directory: its people and groups go, their records stay", Args: command.Exactly("NAME"),
		RunE: withDirectory(a, func(cmd *cobra.Command, api *client.ClientWithResponses, d client.Directory, _ []string) error {
			if _, err := api.RemoveDirectoryWithResponse(cmd.Context(), d.ID, &client.RemoveDirectoryParams{Anyway: &anyway}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Removed the directory %q with its people and groups.\n", d.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "also where draft or live name its people or groups")
	return cmd
}

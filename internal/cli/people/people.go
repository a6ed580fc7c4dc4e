// Package people implements the commands about people, groups, networks and machines.
//
// From: arguments.
// To: the API, by package client.
package people

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

func PersonCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("person", "People, and which groups they are in",
		personLsCommand(a), personShowCommand(a), personSetCommand(a, false), personSetCommand(a, true), object.RemoveCommand(a, object.Persons), personMoveCommand(a), personImportCommand(a), personPasswordCommand(a), personDNSCommand(a), personRecordsCommand(a), personEraseCommand(a))
	cmd.Example = `  widelark person ls --group "Ward nurses"
  widelark person import quillmere.ldif --preview
  widelark person move kay.moran --into "Night ward"`
	return cmd
}

func personPasswordCommand(a *command.App) *cobra.Command {
	var fromInput, remove bool
	cmd := &cobra.Command{
		Use: "password NAME", Short: "Give a person a password for signing in at gates, or take it away", Args: command.Exactly("NAME"),
		Long: "Give a person a password for signing in at the proxy gate. It holds at once, and is not part of the draft. For owners.",
		Example: `  widelark person password kay.moran
  widelark person password kay.moran --password-stdin < password.txt
  widelark person password kay.moran --remove`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p, err := object.Persons.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if remove {
				if _, err := api.RemovePersonPasswordWithResponse(cmd.Context(), p.ID); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s has no password for gates any more.\n", p.Name)
				return nil
			}
			passwords, err := a.Passwords(fromInput, "Password: ")
			if err != nil {
				return err
			}
			if _, err := api.SetPersonPasswordWithResponse(cmd.Context(), p.ID, client.ResetPasswordInputBody{Password: passwords[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s can sign in at gates now.\n", p.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&fromInput, "password-stdin", false, "read the password from standard input")
	cmd.Flags().BoolVar(&remove, "remove", false, "take the password away")
	return cmd
}

func personDNSCommand(a *command.App) *cobra.Command {
	var remove bool
	cmd := &cobra.Command{
		Use: "dns NAME", Short: "Give a person an address of the DNS gate of their own, or take it away", Args: command.Exactly("NAME"),
		Long:    "Give a person an address of the DNS gate over HTTPS of their own: whoever asks there is that person, from wherever. It holds at once, in place of one before, and is shown this once. For owners.",
		Example: "  widelark person dns kay.moran\n  widelark person dns kay.moran --remove",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p, err := object.Persons.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if remove {
				if _, err := api.RemovePersonDNSWithResponse(cmd.Context(), p.ID); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s has no address of the DNS gate any more.\n", p.Name)
				return nil
			}
			made, err := api.SetPersonDNSWithResponse(cmd.Context(), p.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "https://GATE/dns-query/%s\n\nWhoever asks there is %s. It is not shown again.\n", made.JSON200.Token, p.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the address away")
	return cmd
}

func personLsCommand(a *command.App) *cobra.Command {
	var group string
	var most int
	cmd := &cobra.Command{
		Use: "ls [TEXT]", Short: "People, by name", Args: command.AtMost(1),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			all, err := object.People(cmd.Context(), api, strings.Join(args, ""), group, most)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Full name", "Groups", "Mail", "From"}, Empty: "Nobody. `widelark person import FILE` takes people from a directory's file."}
			for _, p := range all {
				v.Rows = append(v.Rows, []string{p.Name, p.FullName, object.NamesOf(p.Groups), command.OrEmpty(p.Mail), from(p.Directory)})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().StringVar(&group, "group", "", "only those who are in this group")
	cmd.Flags().IntVar(&most, "limit", 200, "show at most this many")
	return a.Reads(cmd)
}

// from returns the name of the directory that a person or group is from; "" for the draft.
func from(directory *client.Ref) string {
	if directory == nil {
		return ""
	}
	return command.OrEmpty(directory.Name)
}

func personSetCommand(a *command.App, edit bool) *cobra.Command {
	var name, full, mail string
	var in []string
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Add a person", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) (err error) {
			ctx, changed := cmd.Context(), cmd.Flags().Changed
			apply := func(body *client.PersonInput) (err error) {
				body.Name = cmp.Or(name, body.Name)
				if changed("full-name") {
					body.FullName = full
				}
				if changed("mail") {
					body.Mail = &mail
				}
				if changed("in") {
					body.Groups, err = object.References(ctx, api, object.Groups, in)
				}
				return err
			}
			if edit {
				kept, err := object.Persons.Edit(ctx, api, args[0], apply)
				if err == nil {
					fmt.Fprintf(a.Out, "Changed the person %q.\n", kept.Name)
				}
				return err
			}
			body := client.PersonInput{Name: args[0], Groups: []client.Ref{}}
			if err := apply(&body); err != nil {
				return err
			}
			made, err := api.AddPersonWithResponse(ctx, body)
			if err == nil {
				fmt.Fprintf(a.Out, "Added the person %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	if edit {
		cmd.Use, cmd.Short = "edit NAME", "Change what is said about a person"
		cmd.Flags().StringVar(&name, "name", "", "the new name")
	}
	cmd.Flags().StringVar(&full, "full-name", "", "as people write it")
	cmd.Flags().StringVar(&mail, "mail", "", "where they are written to")
	cmd.Flags().StringArrayVar(&in, "in", nil, "a group that they are in; give it again for more")
	return cmd
}

func personMoveCommand(a *command.App) *cobra.Command {
	var into, outOf []string
	cmd := &cobra.Command{
		Use: "move NAME...", Short: "Put people into groups, and take them out of others", Args: command.AtLeast("NAME"),
		Example: `  widelark person move kay.moran ola.fenn --into "Night ward"
  widelark person move kay.moran --out-of "Night ward" --into "Ward nurses"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if len(into)+len(outOf) == 0 {
				return command.Usagef("say where to: --into GROUP, --out-of GROUP or both")
			}
			var body client.MovePeopleInputBody
			all, err := object.Persons.All(cmd.Context(), api)
			if err != nil {
				return err
			}
			for _, name := range args {
				at, err := object.Among(object.Persons, all, name)
				if err != nil {
					return err
				}
				p := all[at]
				body.People = append(body.People, p.ID)
			}
			for _, side := range []struct {
				names []string
				ids   **[]uuid.UUID
			}{{into, &body.Into}, {outOf, &body.OutOf}} {
				refs, err := object.References(cmd.Context(), api, object.Groups, side.names)
				if err != nil {
					return err
				}
				var ids []uuid.UUID
				for _, r := range refs {
					ids = append(ids, r.ID)
				}
				*side.ids = &ids
			}
			moved, err := api.MovePeopleWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.Out, "Moved %s.\n", command.Plural(moved.JSON200.Changed, "person", "people"))
			}
			return err
		}),
	}
	cmd.Flags().StringArrayVar(&into, "into", nil, "a group that they come into; give it again for more")
	cmd.Flags().StringArrayVar(&outOf, "out-of", nil, "a group that they leave; give it again for more")
	return cmd
}

func personImportCommand(a *command.App) *cobra.Command {
	var preview, remove bool
	var format string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Bring people and groups up to date with a directory's file (LDIF) or a table (CSV)", Args: command.Exactly("FILE"),
		Long: "Take people and groups from a file: LDIF as a directory exports it, or a table with columns name, full name, mail, groups and key. " +
			"Who was imported before is known again, by the key, and keeps the id. Groups that the file does not mention stay as they are.",
		Example: `  widelark person import quillmere.ldif --preview
  widelark person import staff.csv --remove`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			file, err := a.Open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			if format == "" {
				if format = "ldif"; strings.EqualFold(filepath.Ext(args[0]), ".csv") {
					format = "csv"
				}
			}
			as := client.ImportPeopleParamsFormat(format)
			done, err := api.ImportPeopleWithBodyWithResponse(cmd.Context(), &client.ImportPeopleParams{Format: &as, Preview: &preview, Remove: &remove}, "text/plain", file)
			if err != nil {
				return err
			}
			r := done.JSON200
			if a.Format != "table" {
				return a.Show(command.View{
					Data: r, Columns: []string{"New", "Changed", "Same", "Missing", "Left out"},
					Rows: [][]string{{fmt.Sprint(len(r.New)), fmt.Sprint(len(r.Changed)), fmt.Sprint(r.Same), fmt.Sprint(len(r.Missing)), fmt.Sprint(len(r.Left))}},
				})
			}
			verb := map[bool]string{true: "would be ", false: ""}[preview]
			fmt.Fprintf(a.Out, "%s %sadded, %d changed, %d the same as before.\n", command.Plural(int64(len(r.New)), "person", "people"), verb, len(r.Changed), r.Same)
			some(a, "New groups", r.NewGroups)
			some(a, "Changed", r.Changed)
			missing := "Not in the file any more; they stay (--remove takes them out)"
			if remove {
				missing = "Not in the file any more, and taken out"
			}
			some(a, missing, r.Missing)
			some(a, "Left out", r.Left)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only say what would change")
	cmd.Flags().BoolVar(&remove, "remove", false, "take out who was imported before and is not in the file any more")
	cmd.Flags().StringVar(&format, "format", "", "ldif or csv; left out, by the file's name")
	return a.Reads(cmd)
}

// some prints the first few texts under a title.
func some(a *command.App, title string, texts []string) {
	if len(texts) == 0 {
		return
	}
	const most = 10
	fmt.Fprintf(a.Out, "\n%s:\n", title)
	for _, t := range texts[:min(len(texts), most)] {
		fmt.Fprintf(a.Out, "  %s\n", t)
	}
	if len(texts) > most {
		fmt.Fprintf(a.Out, "  and %d more\n", len(texts)-most)
	}
}

func GroupCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "All groups", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Groups.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "People", "Also in it", "Policies", "Description", "From"}, Numbers: []int{1}}
			for _, g := range all {
				also := append([]string{}, g.Ranges...)
				for _, refs := range [][]client.Ref{g.Groups, g.Networks, g.Machines} {
					if names := object.NamesOf(refs); names != "" {
						also = append(also, names)
					}
				}
				v.Rows = append(v.Rows, []string{g.Name, fmt.Sprint(g.Persons), strings.Join(also, ", "), object.NamesOf(g.Policies), command.OrEmpty(g.Description), from(g.Directory)})
			}
			return a.Show(v)
		}),
	})
	cmd := command.Noun("group", "Groups of people, networks, machines and other groups", ls, groupShowCommand(a), groupNewCommand(a), groupEditCommand(a), object.RemoveCommand(a, object.Groups), question.PlanCommand(a, "plan GROUP"))
	cmd.Example = `  widelark group new "Bedside screens" --network "Bedside screens"
  widelark group edit Trainees --lead ivo.sedge
  widelark group plan "Ward nurses"`
	return cmd
}

// groupFlags holds the flags that describe a group.
type groupFlags struct {
	name, about, lead                  string
	groups, networks, machines, ranges []string
}

func (f *groupFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.about, "describe", "", "who is in it")
	flags.StringVar(&f.lead, "lead", "", "the person who leads it")
	flags.StringArrayVar(&f.groups, "group", nil, "a group whose members are in it too; give it again for more")
	flags.StringArrayVar(&f.networks, "network", nil, "a network that is in it; give it again for more")
	flags.StringArrayVar(&f.machines, "machine", nil, "a machine that is in it; give it again for more")
	flags.StringArrayVar(&f.ranges, "range", nil, "an address or a range that is in it; give it again for more")
}

// apply changes a group according to the flags given.
func (f *groupFlags) apply(ctx context.Context, api *client.ClientWithResponses, changed func(string) bool, body *client.GroupInput) (err error) {
	if f.name != "" {
		body.Name = f.name
	}
	if changed("describe") {
		body.Description = &f.about
	}
	if changed("lead") {
		p, err := object.Find(ctx, api, object.Persons, f.lead)
		if err != nil {
			return err
		}
		body.Lead = &client.Ref{ID: p.ID}
	}
	for _, part := range []struct {
		flag  string
		kind  object.Kind
		names []string
		into  *[]client.Ref
	}{{"group", object.Groups, f.groups, &body.Groups}, {"network", object.Networks, f.networks, &body.Networks}, {"machine", object.Machines, f.machines, &body.Machines}} {
		if changed(part.flag) {
			if *part.into, err = object.References(ctx, api, part.kind, part.names); err != nil {
				return err
			}
		}
	}
	if changed("range") {
		body.Ranges = f.ranges
	}
	return nil
}

func groupNewCommand(a *command.App) *cobra.Command {
	var f groupFlags
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Add a group", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.GroupInput{Name: args[0], Groups: []client.Ref{}, Networks: []client.Ref{}, Machines: []client.Ref{}, Ranges: []string{}}
			if err := f.apply(cmd.Context(), api, cmd.Flags().Changed, &body); err != nil {
				return err
			}
			made, err := api.AddGroupWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.Out, "Added the group %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

func groupEditCommand(a *command.App) *cobra.Command {
	var f groupFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a group, or say who is in it", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			kept, err := object.Groups.Edit(cmd.Context(), api, args[0], func(body *client.GroupInput) error {
				return f.apply(cmd.Context(), api, cmd.Flags().Changed, body)
			})
			if err == nil {
				fmt.Fprintf(a.Out, "Changed the group %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	f.register(cmd)
	return cmd
}

func NetworkCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "All networks", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Networks.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Ranges", "Its clients meet", "Description"}}
			for _, n := range all {
				v.Rows = append(v.Rows, []string{n.Name, strings.Join(n.Ranges, ", "), networkWay(n), command.OrEmpty(n.Description)})
			}
			return a.Show(v)
		}),
	})
	return command.Noun("network", "Networks: named ranges of addresses", ls, networkShowCommand(a), networkNewCommand(a), networkEditCommand(a), object.RemoveCommand(a, object.Networks))
}

// networkFlags are what can be said of a network besides its name and ranges.
type networkFlags struct {
	about, way, sends, signIn string
	distrusts, shared         bool
}

func (f *networkFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.about, "describe", "", "what is there")
	flags.StringVar(&f.way, "way", "", "the gates that its clients meet: dns, proxy, dns,proxy, icap or none; empty for those of the organisation")
	flags.StringVar(&f.sends, "sends", "", "with --way icap: what the proxy that asks sends of TLS connections, tunnel or full")
	flags.StringVar(&f.signIn, "sign-in", "", "who signs in at the proxy gate: unknown (whoever is not known otherwise), always or never")
	flags.BoolVar(&f.shared, "shared", false, "many clients stand behind one of its addresses, which then says nothing of who asks")
	flags.BoolVar(&f.distrusts, "distrusts", false, "its clients do not trust the authority of our gates, so none of their TLS connections is opened")
}

// fill puts what is given into a network.
func (f *networkFlags) fill(cmd *cobra.Command, body *client.NetworkInput) {
	given := cmd.Flags().Changed
	if given("describe") {
		body.Description = &f.about
	}
	if given("way") {
		body.Way, body.Sends = command.Optional[string](f.way), nil
	}
	if given("sends") {
		body.Sends = command.Optional[client.NetworkInputSends](f.sends)
	}
	if given("sign-in") {
		body.SignIn = command.Optional[client.NetworkInputSignIn](f.signIn)
	}
	if given("shared") {
		body.Shared = &f.shared
	}
	if given("distrusts") {
		body.Distrusts = &f.distrusts
	}
}

func networkNewCommand(a *command.App) *cobra.Command {
	var f networkFlags
	cmd := &cobra.Command{
		Use: "new NAME RANGE...", Short: "Add a network", Args: command.AtLeast("NAME", "RANGE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.NetworkInput{Name: args[0], Ranges: args[1:]}
			f.fill(cmd, &body)
			made, err := api.AddNetworkWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.Out, "Added the network %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

func networkEditCommand(a *command.App) *cobra.Command {
	var f networkFlags
	var name string
	var ranges []string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a network, or say what its ranges are and which gates its clients meet", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			kept, err := object.Networks.Edit(cmd.Context(), api, args[0], func(body *client.NetworkInput) error {
				body.Name = cmp.Or(name, body.Name)
				if cmd.Flags().Changed("range") {
					body.Ranges = ranges
				}
				f.fill(cmd, body)
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.Out, "Changed the network %q.\n", kept.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringArrayVar(&ranges, "range", nil, "a range, in place of all before; give it again for more")
	return cmd
}

func MachineCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "All machines", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Machines.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Address", "Description"}}
			for _, m := range all {
				v.Rows = append(v.Rows, []string{m.Name, m.Address, command.OrEmpty(m.Description)})
			}
			return a.Show(v)
		}),
	})
	var about string
	add := &cobra.Command{
		Use: "new NAME ADDRESS", Short: "Add a machine", Args: command.Exactly("NAME", "ADDRESS"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			made, err := api.AddMachineWithResponse(cmd.Context(), client.MachineInput{Name: args[0], Address: args[1], Description: &about})
			if err == nil {
				fmt.Fprintf(a.Out, "Added the machine %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	add.Flags().StringVar(&about, "describe", "", "what it is")
	return command.Noun("machine", "Machines: named addresses", ls, machineShowCommand(a), add, machineEditCommand(a), object.RemoveCommand(a, object.Machines))
}

// WhoCommand returns the command that prints who somebody is.
func WhoCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "who NAME|ADDRESS", Short: "Who is this, and what holds for them?", Args: command.Exactly("NAME"),
		Example: `  widelark who "Kay Moran"
  widelark who 10.40.41.9`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := api.WhoIsWithResponse(cmd.Context(), &client.WhoIsParams{Name: args[0]})
			if err != nil {
				return err
			}
			st := found.JSON200
			if a.Format != "table" {
				return a.Show(command.View{Data: st, Columns: []string{"Who", "Groups", "Policies"}, Rows: [][]string{{st.Who.Name, object.NamesOf(st.Groups), object.NamesOf(st.Policies)}}})
			}
			fmt.Fprintf(a.Out, "%s\n\n", st.Who.Name)
			line := func(what, said, none string) {
				if said == "" {
					said = none
				}
				fmt.Fprintf(a.Out, "  %-11s %s\n", what, strings.TrimLeft(a.Wrapped(said, 14), " "))
			}
			line("groups", object.NamesOf(st.Groups), "none")
			if st.Network != nil {
				line("network", command.OrEmpty(st.Network.Name), "")
			}
			line("meets", question.WayText(st.Way), "")
			line("policies", object.NamesOf(st.Policies), "none; the fallback decides")
			if len(st.Policies) > 1 {
				line("", map[string]string{"position": "the first counts", "strictest": "the strictest verdict counts", "loosest": "the loosest verdict counts"}[st.Combining], "")
			}
			if len(st.Exceptions) == 0 {
				line("exceptions", "", "none")
			}
			title := "exceptions"
			for _, e := range st.Exceptions {
				line(title, fmt.Sprintf("%s %s%s", a.Verdict(string(e.Then)), strings.Join(e.Entries, ", "), object.UntilText(a, e)), "")
				title = ""
			}
			title = "grants"
			for _, g := range st.Grants {
				line(title, fmt.Sprintf("%s %s %s", a.Verdict("allow"), strings.Join(g.Entries, ", "), a.EndText(g.Until, command.Clock)), "")
				title = ""
			}
			return nil
		}),
	})
}

func machineEditCommand(a *command.App) *cobra.Command {
	var name, address, about string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a machine, or say where it is now", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return command.NothingToChange
			}
			kept, err := object.Machines.Edit(cmd.Context(), api, args[0], func(body *client.MachineInput) error {
				body.Name, body.Address = cmp.Or(name, body.Name), cmp.Or(address, body.Address)
				if cmd.Flags().Changed("describe") {
					body.Description = &about
				}
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.Out, "Changed the machine %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&address, "address", "", "its address")
	cmd.Flags().StringVar(&about, "describe", "", "what it is")
	return cmd
}

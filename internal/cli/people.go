package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/core/schedule"
)

func (a *app) personCommand() *cobra.Command {
	cmd := noun("person", "People, and which groups they are in",
		a.personLsCommand(), a.personShowCommand(), a.personSetCommand(false), a.personSetCommand(true), a.removeCommand(personKind), a.personMoveCommand(), a.personImportCommand())
	cmd.Example = `  widelark person ls --group "Ward nurses"
  widelark person import quillmere.ldif --preview
  widelark person move kay.moran --into "Night ward"`
	return cmd
}

func (a *app) personLsCommand() *cobra.Command {
	var group string
	var most int
	cmd := &cobra.Command{
		Use: "ls [TEXT]", Short: "People, by name", Args: atMost(1),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			all, err := people(cmd.Context(), api, strings.Join(args, ""), group, most)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Full name", "Groups", "Mail"}, empty: "Nobody. `widelark person import FILE` takes people from a directory's file."}
			for _, p := range all {
				v.rows = append(v.rows, []string{p.Name, p.FullName, namesOf(p.Groups), orEmpty(p.Mail)})
			}
			return a.show(v)
		}),
	}
	cmd.Flags().StringVar(&group, "group", "", "only those who are in this group")
	cmd.Flags().IntVar(&most, "limit", 200, "at most so many")
	return a.reads(cmd)
}

func (a *app) personSetCommand(edit bool) *cobra.Command {
	var name, full, mail string
	var in []string
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Add a person", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) (err error) {
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
					body.Groups, err = references(ctx, api, groupKind, in)
				}
				return err
			}
			if edit {
				kept, err := personKind.edit(ctx, api, args[0], apply)
				if err == nil {
					fmt.Fprintf(a.out, "Changed the person %q.\n", kept.Name)
				}
				return err
			}
			body := client.PersonInput{Name: args[0], Groups: []client.Ref{}}
			if err := apply(&body); err != nil {
				return err
			}
			made, err := api.AddPersonWithResponse(ctx, body)
			if err == nil {
				fmt.Fprintf(a.out, "Added the person %q.\n", made.JSON201.Name)
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

func (a *app) personMoveCommand() *cobra.Command {
	var into, outOf []string
	cmd := &cobra.Command{
		Use: "move NAME...", Short: "Put people into groups, and take them out of others", Args: atLeast("NAME"),
		Example: `  widelark person move kay.moran ola.fenn --into "Night ward"
  widelark person move kay.moran --out-of "Night ward" --into "Ward nurses"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if len(into)+len(outOf) == 0 {
				return usagef("say where to: --into GROUP, --out-of GROUP or both")
			}
			var body client.MovePeopleInputBody
			all, err := personKind.all(cmd.Context(), api)
			if err != nil {
				return err
			}
			for _, name := range args {
				at, err := among(personKind, all, name)
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
				refs, err := references(cmd.Context(), api, groupKind, side.names)
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
				fmt.Fprintf(a.out, "Moved %s.\n", plural(moved.JSON200.Changed, "person", "people"))
			}
			return err
		}),
	}
	cmd.Flags().StringArrayVar(&into, "into", nil, "a group that they come into; give it again for more")
	cmd.Flags().StringArrayVar(&outOf, "out-of", nil, "a group that they leave; give it again for more")
	return cmd
}

func (a *app) personImportCommand() *cobra.Command {
	var preview, remove bool
	var format string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Bring people and groups up to date with a directory's file (LDIF) or a table (CSV)", Args: exactly("FILE"),
		Long: "Take people and groups from a file: LDIF as a directory exports it, or a table with columns name, full name, mail, groups and key. " +
			"Who was imported before is known again, by the key, and keeps the id. Groups that the file does not speak of stay as they are.",
		Example: `  widelark person import quillmere.ldif --preview
  widelark person import staff.csv --remove`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			file, err := a.open(args[0])
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
			if a.format != "table" {
				return a.show(view{
					data: r, columns: []string{"New", "Changed", "Same", "Missing", "Left out"},
					rows: [][]string{{fmt.Sprint(len(r.New)), fmt.Sprint(len(r.Changed)), fmt.Sprint(r.Same), fmt.Sprint(len(r.Missing)), fmt.Sprint(len(r.Left))}},
				})
			}
			verb := map[bool]string{true: "would be ", false: ""}[preview]
			fmt.Fprintf(a.out, "%s %sadded, %d changed, %d the same as before.\n", plural(int64(len(r.New)), "person", "people"), verb, len(r.Changed), r.Same)
			a.some("New groups", r.NewGroups)
			a.some("Changed", r.Changed)
			missing := "Not in the file any more; they stay (--remove takes them out)"
			if remove {
				missing = "Not in the file any more, and taken out"
			}
			a.some(missing, r.Missing)
			a.some("Left out", r.Left)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only say what would change")
	cmd.Flags().BoolVar(&remove, "remove", false, "take out who was imported before and is not in the file any more")
	cmd.Flags().StringVar(&format, "format", "", "ldif or csv; left out, by the file's name")
	return a.reads(cmd)
}

// some lists the first of some texts under a title.
func (a *app) some(title string, texts []string) {
	if len(texts) == 0 {
		return
	}
	const most = 10
	fmt.Fprintf(a.out, "\n%s:\n", title)
	for _, t := range texts[:min(len(texts), most)] {
		fmt.Fprintf(a.out, "  %s\n", t)
	}
	if len(texts) > most {
		fmt.Fprintf(a.out, "  and %d more\n", len(texts)-most)
	}
}

func (a *app) groupCommand() *cobra.Command {
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "All groups", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := groupKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "People", "Also in it", "Policies", "Description"}, numbers: []int{1}}
			for _, g := range all {
				also := append([]string{}, g.Ranges...)
				for _, refs := range [][]client.Ref{g.Groups, g.Networks, g.Machines} {
					if names := namesOf(refs); names != "" {
						also = append(also, names)
					}
				}
				v.rows = append(v.rows, []string{g.Name, fmt.Sprint(g.Persons), strings.Join(also, ", "), namesOf(g.Policies), orEmpty(g.Description)})
			}
			return a.show(v)
		}),
	})
	cmd := noun("group", "Groups of people, networks, machines and other groups", ls, a.groupShowCommand(), a.groupNewCommand(), a.groupEditCommand(), a.removeCommand(groupKind), a.planCommand("plan GROUP"))
	cmd.Example = `  widelark group new "Bedside screens" --network "Bedside screens"
  widelark group edit Trainees --lead ivo.sedge
  widelark group plan "Ward nurses"`
	return cmd
}

// groupFlags are what say what a group is made of.
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

// apply makes a group as the flags that were given say.
func (f *groupFlags) apply(ctx context.Context, api *client.ClientWithResponses, changed func(string) bool, body *client.GroupInput) (err error) {
	if f.name != "" {
		body.Name = f.name
	}
	if changed("describe") {
		body.Description = &f.about
	}
	if changed("lead") {
		p, err := find(ctx, api, personKind, f.lead)
		if err != nil {
			return err
		}
		body.Lead = &client.Ref{ID: p.ID}
	}
	for _, part := range []struct {
		flag  string
		kind  kind
		names []string
		into  *[]client.Ref
	}{{"group", groupKind, f.groups, &body.Groups}, {"network", networkKind, f.networks, &body.Networks}, {"machine", machineKind, f.machines, &body.Machines}} {
		if changed(part.flag) {
			if *part.into, err = references(ctx, api, part.kind, part.names); err != nil {
				return err
			}
		}
	}
	if changed("range") {
		body.Ranges = f.ranges
	}
	return nil
}

func (a *app) groupNewCommand() *cobra.Command {
	var f groupFlags
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Add a group", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.GroupInput{Name: args[0], Groups: []client.Ref{}, Networks: []client.Ref{}, Machines: []client.Ref{}, Ranges: []string{}}
			if err := f.apply(cmd.Context(), api, cmd.Flags().Changed, &body); err != nil {
				return err
			}
			made, err := api.AddGroupWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.out, "Added the group %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

func (a *app) groupEditCommand() *cobra.Command {
	var f groupFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a group, or say who is in it", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			kept, err := groupKind.edit(cmd.Context(), api, args[0], func(body *client.GroupInput) error {
				return f.apply(cmd.Context(), api, cmd.Flags().Changed, body)
			})
			if err == nil {
				fmt.Fprintf(a.out, "Changed the group %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	f.register(cmd)
	return cmd
}

func (a *app) networkCommand() *cobra.Command {
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "All networks", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := networkKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Ranges", "Description"}}
			for _, n := range all {
				v.rows = append(v.rows, []string{n.Name, strings.Join(n.Ranges, ", "), orEmpty(n.Description)})
			}
			return a.show(v)
		}),
	})
	return noun("network", "Networks: named ranges of addresses", ls, a.networkShowCommand(), a.networkNewCommand(), a.networkEditCommand(), a.removeCommand(networkKind))
}

func (a *app) networkNewCommand() *cobra.Command {
	var about string
	cmd := &cobra.Command{
		Use: "new NAME RANGE...", Short: "Add a network", Args: atLeast("NAME", "RANGE"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			made, err := api.AddNetworkWithResponse(cmd.Context(), client.NetworkInput{Name: args[0], Ranges: args[1:], Description: &about})
			if err == nil {
				fmt.Fprintf(a.out, "Added the network %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&about, "describe", "", "what is there")
	return cmd
}

func (a *app) networkEditCommand() *cobra.Command {
	var name, about string
	var ranges []string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a network, or say what its ranges are", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			kept, err := networkKind.edit(cmd.Context(), api, args[0], func(body *client.NetworkInput) error {
				body.Name = cmp.Or(name, body.Name)
				if cmd.Flags().Changed("describe") {
					body.Description = &about
				}
				if cmd.Flags().Changed("range") {
					body.Ranges = ranges
				}
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.out, "Changed the network %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&about, "describe", "", "what is there")
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringArrayVar(&ranges, "range", nil, "a range, in place of all before; give it again for more")
	return cmd
}

func (a *app) machineCommand() *cobra.Command {
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "All machines", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := machineKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Address", "Description"}}
			for _, m := range all {
				v.rows = append(v.rows, []string{m.Name, m.Address, orEmpty(m.Description)})
			}
			return a.show(v)
		}),
	})
	var about string
	add := &cobra.Command{
		Use: "new NAME ADDRESS", Short: "Add a machine", Args: exactly("NAME", "ADDRESS"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			made, err := api.AddMachineWithResponse(cmd.Context(), client.MachineInput{Name: args[0], Address: args[1], Description: &about})
			if err == nil {
				fmt.Fprintf(a.out, "Added the machine %q.\n", made.JSON201.Name)
			}
			return err
		}),
	}
	add.Flags().StringVar(&about, "describe", "", "what it is")
	return noun("machine", "Machines: named addresses", ls, a.machineShowCommand(), add, a.machineEditCommand(), a.removeCommand(machineKind))
}

// whoCommand answers who somebody is.
func (a *app) whoCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "who NAME|ADDRESS", Short: "Who is this, and what holds for them?", Args: exactly("NAME"),
		Example: `  widelark who "Kay Moran"
  widelark who 10.40.41.9`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := api.WhoIsWithResponse(cmd.Context(), &client.WhoIsParams{Name: args[0]})
			if err != nil {
				return err
			}
			st := found.JSON200
			if a.format != "table" {
				return a.show(view{data: st, columns: []string{"Who", "Groups", "Policies"}, rows: [][]string{{st.Who.Name, namesOf(st.Groups), namesOf(st.Policies)}}})
			}
			fmt.Fprintf(a.out, "%s\n\n", st.Who.Name)
			line := func(what, said, none string) {
				if said == "" {
					said = none
				}
				fmt.Fprintf(a.out, "  %-11s %s\n", what, strings.TrimLeft(a.wrapped(said, 14), " "))
			}
			line("groups", namesOf(st.Groups), "none")
			if st.Network != nil {
				line("network", orEmpty(st.Network.Name), "")
			}
			line("policies", namesOf(st.Policies), "none; the fallback decides")
			if len(st.Policies) > 1 {
				line("", map[string]string{"position": "the first counts", "strictest": "the strictest verdict counts", "loosest": "the loosest verdict counts"}[st.Combining], "")
			}
			if len(st.Exceptions) == 0 {
				line("exceptions", "", "none")
			}
			for i, e := range st.Exceptions {
				line([2]string{"", "exceptions"}[btoi(i == 0)], fmt.Sprintf("%s %s%s", a.verdict(string(e.Then)), strings.Join(e.Entries, ", "), a.untilSaid(e)), "")
			}
			for i, g := range st.Grants {
				line([2]string{"", "grants"}[btoi(i == 0)], fmt.Sprintf("%s %s %s", a.verdict("allow"), strings.Join(g.Entries, ", "), a.endSaid(g.Until, clock)), "")
			}
			return nil
		}),
	})
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// planCommand shows what a group may reach when.
func (a *app) planCommand(use string) *cobra.Command {
	return a.reads(&cobra.Command{
		Use: use, Short: "What a group may reach when, over the days to come", Args: exactly("GROUP"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			return a.showPlan(cmd.Context(), api, args[0])
		}),
	})
}

func (a *app) showPlan(ctx context.Context, api *client.ClientWithResponses, group string) error {
	found, err := api.GetPlanWithResponse(ctx, &client.GetPlanParams{Group: group})
	if err != nil {
		return err
	}
	zone, err := a.zone()
	if err != nil {
		return err
	}
	p := found.JSON200
	v := view{data: p, columns: []string{"What", "Verdict", "When"}}
	rows := append([]client.PlanRow{}, p.Rows...)
	rows = append(rows, client.PlanRow{Kind: "all", Name: "everything else", Strip: p.Else})
	for _, row := range rows {
		name := row.Name
		if row.Kind == "list" {
			name = "list " + name
		}
		for _, verdict := range []string{"allow", "watch", "hold", "block"} {
			if times := stripTimes(row.Strip, verdict, zone); times != "" {
				v.rows = append(v.rows, []string{name, a.verdictCell(verdict), times})
				if a.format == "table" {
					name = ""
				}
			}
		}
	}
	if v.foot = "\nPolicies: " + namesOf(p.Policies) + "."; len(p.Policies) == 0 {
		v.foot = "\nNo policy is for this group; the fallback decides."
	}
	return a.show(v)
}

// stripTimes says in short when a verdict holds, by the clock of a zone: times that every day has are said once.
func stripTimes(strip []client.Segment, verdict string, zone *time.Location) string {
	const days = 7
	byDay := map[string][]string{}
	var order []string
	whole := true
	for _, s := range strip {
		if string(s.Verdict) != verdict {
			whole = false
			continue
		}
		for at, end := range schedule.Days(s.From, s.To, zone) {
			at, end = at.In(zone), end.In(zone)
			day := at.Format("Mon")
			to := end.Format("15:04")
			if end.Equal(schedule.Today(end, zone)) {
				to = "24:00"
			}
			if byDay[day] == nil {
				order = append(order, day)
			}
			byDay[day] = append(byDay[day], at.Format("15:04")+"-"+to)
		}
	}
	switch {
	case len(order) == 0:
		return ""
	case whole:
		return "always"
	}
	// Days with the same times are told together.
	var parts []string
	told := map[string]bool{}
	for _, day := range order {
		times := strings.Join(byDay[day], ", ")
		if told[times] {
			continue
		}
		told[times] = true
		var same []string
		for _, other := range order {
			if strings.Join(byDay[other], ", ") == times {
				same = append(same, strings.ToLower(other))
			}
		}
		name := strings.Join(same, ", ")
		if len(same) == days {
			name = "every day"
		}
		parts = append(parts, name+" "+times)
	}
	return strings.Join(parts, "; ")
}

func (a *app) machineEditCommand() *cobra.Command {
	var name, address, about string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a machine, or say where it is now", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return nothingToChange
			}
			kept, err := machineKind.edit(cmd.Context(), api, args[0], func(body *client.MachineInput) error {
				body.Name, body.Address = cmp.Or(name, body.Name), cmp.Or(address, body.Address)
				if cmd.Flags().Changed("describe") {
					body.Description = &about
				}
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.out, "Changed the machine %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&address, "address", "", "its address")
	cmd.Flags().StringVar(&about, "describe", "", "what it is")
	return cmd
}

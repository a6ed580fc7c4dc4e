// Package stint implements the commands with which leads put their groups on chosen lists for a while.
//
// From: arguments.
// To: the API, by package client.
package stint

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// Command implements `stint`.
func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("stint", "Stints: a lead's group on chosen lists for a while, at once",
		lsCommand(a), choicesCommand(a), beginCommand(a), endCommand(a), takeCommand(a), doneCommand(a), ownCommand(a))
	cmd.Long = "A stint puts a group, or some of it, on chosen lists for at most a day: only these, all but these, or the web is paused. It holds at every gate within two seconds, without publishing; " +
		"the baseline, unlocked pages, exceptions and grants stand above it. A group has one at a time."
	cmd.Example = `  widelark stint choices
  widelark stint begin Trainees --only "Trainees' reading list" --for 45m --preview
  widelark stint begin Trainees --only "Trainees' reading list" --for 45m
  widelark stint end Trainees`
	return cmd
}

// steering returns what the lead can choose.
func steering(ctx context.Context, api *client.ClientWithResponses) (*client.SteeringOutputBody, error) {
	found, err := api.GetSteeringWithResponse(ctx)
	if err != nil {
		return nil, err
	}
	return found.JSON200, nil
}

// groupNamed finds a group that the lead may put on lists.
func groupNamed(all *client.SteeringOutputBody, name string) (client.LedGroup, error) {
	var names []string
	for _, g := range all.Groups {
		if strings.EqualFold(g.Name, name) || g.ID.String() == name {
			return g, nil
		}
		names = append(names, g.Name)
	}
	if len(names) == 0 {
		return client.LedGroup{}, fmt.Errorf("there is no group that you lead")
	}
	return client.LedGroup{}, fmt.Errorf("you lead no group %q: there are %s", name, strings.Join(names, ", "))
}

// running returns the stint that a group is on.
func running(ctx context.Context, api *client.ClientWithResponses, name string) (client.LedGroup, client.Stint, error) {
	all, err := steering(ctx, api)
	if err != nil {
		return client.LedGroup{}, client.Stint{}, err
	}
	g, err := groupNamed(all, name)
	if err == nil && g.Stint == nil {
		err = fmt.Errorf("%s is on no stint", g.Name)
	}
	if err != nil {
		return g, client.Stint{}, err
	}
	return g, *g.Stint, nil
}

func lsCommand(a *command.App) *cobra.Command {
	var over bool
	cmd := &cobra.Command{
		Use: "ls", Short: "Groups that are on chosen lists now", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetStintsWithResponse(cmd.Context(), &client.GetStintsParams{Over: &over})
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200.Stints, Columns: []string{"Group", "On", "For", "Began", "Ends", "By", "Now"}, Empty: "No group is on a stint."}
			for _, st := range found.JSON200.Stints {
				ends := st.Until
				if st.EndedAt != nil {
					ends = *st.EndedAt
				}
				v.Rows = append(v.Rows, []string{name(st.Group), on(st), forWhom(st), a.ByClock(st.From).Format(command.Clock), a.ByClock(ends).Format(command.Clock), st.By, string(st.State)})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().BoolVar(&over, "over", false, "those of the last month that are over, too")
	return a.Reads(cmd)
}

func name(ref client.Ref) string { return command.Deref(ref.Name) }

func names(refs *[]client.Ref) string {
	var all []string
	for _, r := range command.Deref(refs) {
		all = append(all, name(r))
	}
	return strings.Join(all, ", ")
}

// on says what a stint does, as "only Trainees' reading list".
func on(st client.Stint) string {
	lists := names(st.Lists)
	if own := names(st.Own); own != "" {
		lists = strings.TrimPrefix(lists+", "+own, ", ")
	}
	switch st.Kind {
	case client.StintKindOnly:
		return "only " + lists
	case client.StintKindBut:
		return "all but " + lists
	}
	return "the web is paused"
}

func forWhom(st client.Stint) string {
	whom := "all"
	if people := names(st.People); people != "" {
		whom = people
	}
	if len(st.Done) > 0 {
		whom += "; over for " + names(&st.Done)
	}
	return whom
}

func choicesCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "choices", Short: "The groups that you lead, and the lists and times that a stint can have", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := steering(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Kind", "Name", "About"}, Empty: "There is no group that you lead."}
			for _, g := range all.Groups {
				about := command.Plural(g.People, "person", "people")
				if g.Stint != nil {
					about += fmt.Sprintf("; on %s until %s, by %s", on(*g.Stint), a.ByClock(g.Stint.Until).Format("15:04"), g.Stint.By)
				}
				v.Rows = append(v.Rows, []string{"group", g.Name, about})
			}
			for _, l := range all.Lists {
				v.Rows = append(v.Rows, []string{"list", l.Name, command.Plural(l.Entries, "entry", "entries")})
			}
			for _, l := range all.Own {
				v.Rows = append(v.Rows, []string{"list of " + name(l.Group), l.Name, command.Plural(int64(len(l.Entries)), "entry", "entries")})
			}
			for _, w := range all.Schedules {
				v.Rows = append(v.Rows, []string{"window", w.Name, "until " + a.ByClock(w.Until).Format(command.Clock)})
			}
			return a.Show(v)
		}),
	})
}

// wanted holds the flags of a stint.
type wanted struct {
	only, but, people                []string
	pause, instead, preview          bool
	length, until, schedule, because string
}

// read returns what the flags say.
func (w *wanted) read(ctx context.Context, a *command.App, api *client.ClientWithResponses, all *client.SteeringOutputBody, g client.LedGroup) (body client.StartStintInputBody, err error) {
	body = client.StartStintInputBody{Group: g.ID, Reason: command.Optional[string](w.because), Instead: &w.instead}
	chosen := w.only
	switch {
	case len(w.only) > 0 && len(w.but) == 0 && !w.pause:
		body.Kind = client.StartStintInputBodyKindOnly
	case len(w.but) > 0 && len(w.only) == 0 && !w.pause:
		body.Kind, chosen = client.StartStintInputBodyKindBut, w.but
	case w.pause && len(w.only)+len(w.but) == 0:
		body.Kind = client.StartStintInputBodyKindNothing
	default:
		return body, command.Usagef("say what the stint does: --only LIST, --but LIST, or --pause")
	}
	var lists, own []string
next:
	for _, name := range chosen {
		for _, l := range all.Own {
			if l.Group.ID == g.ID && strings.EqualFold(l.Name, name) {
				own = append(own, l.ID.String())
				continue next
			}
		}
		for _, l := range all.Lists {
			if strings.EqualFold(l.Name, name) {
				lists = append(lists, l.ID.String())
				continue next
			}
		}
		return body, fmt.Errorf("there is no list %q that is marked for stints; `widelark stint choices` shows them", name)
	}
	body.Lists, body.Own = &lists, &own
	if body.People, err = peopleNamed(ctx, api, w.people); err != nil {
		return body, err
	}
	switch {
	case w.length != "" && w.until == "" && w.schedule == "":
		length, err := command.Duration(w.length)
		if err != nil {
			return body, err
		}
		minutes := int64(length / time.Minute)
		if minutes < 1 {
			return body, command.Usagef("a stint lasts a minute at least: --for 45m")
		}
		body.Minutes = &minutes
	case w.until != "" && w.length == "" && w.schedule == "":
		if body.Until, err = a.End(w.until); err != nil {
			return body, err
		}
	case w.schedule != "" && w.length == "" && w.until == "":
		for _, s := range all.Schedules {
			if strings.EqualFold(s.Name, w.schedule) {
				body.Schedule = &s.ID
			}
		}
		if body.Schedule == nil {
			return body, fmt.Errorf("no window of a schedule %q is open now; `widelark stint choices` shows those that are", w.schedule)
		}
	default:
		return body, command.Usagef("say when the stint ends: --for 45m, --until 12:30, or --with-window SCHEDULE")
	}
	return body, nil
}

// peopleNamed finds people by their names.
func peopleNamed(ctx context.Context, api *client.ClientWithResponses, called []string) (*[]string, error) {
	if len(called) == 0 {
		return nil, nil
	}
	found, err := object.References(ctx, api, object.Persons, called)
	var ids []string
	for _, ref := range found {
		ids = append(ids, ref.ID.String())
	}
	return &ids, err
}

func beginCommand(a *command.App) *cobra.Command {
	var w wanted
	cmd := &cobra.Command{
		Use: "begin GROUP", Short: "Put a group on chosen lists for a while, at once", Args: command.Exactly("GROUP"),
		Long: "Put a group, or some of its people, on chosen lists for a while, at once. With --preview nothing begins: it says what stands above the stint, and which hosts the pages in the lists need that it would block.",
		Example: `  widelark stint begin Trainees --only "Trainees' reading list" --for 45m --preview
  widelark stint begin Trainees --but "Video mirrors" --with-window "Day shift" --why "Drug rounds"
  widelark stint begin Trainees --pause --for 10m --person "Kay Moran"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			all, err := steering(cmd.Context(), api)
			if err != nil {
				return err
			}
			g, err := groupNamed(all, args[0])
			if err != nil {
				return err
			}
			body, err := w.read(cmd.Context(), a, api, all, g)
			if err != nil {
				return err
			}
			if w.preview {
				return preview(cmd.Context(), a, api, g, body)
			}
			made, err := api.StartStintWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			st := made.JSON201
			fmt.Fprintf(a.Out, "%s is on %s until %s.\n", g.Name, on(*st), a.ByClock(st.Until).Format("15:04"))
			return nil
		}),
	}
	cmd.Flags().StringSliceVar(&w.only, "only", nil, "this list alone is allowed; may be repeated")
	cmd.Flags().StringSliceVar(&w.but, "but", nil, "this list is blocked; may be repeated")
	cmd.Flags().BoolVar(&w.pause, "pause", false, "everything is blocked")
	cmd.Flags().StringSliceVar(&w.people, "person", nil, "for this person of the group alone; may be repeated")
	cmd.Flags().StringVar(&w.length, "for", "", "how long it lasts, as 45m")
	cmd.Flags().StringVar(&w.until, "until", "", "the moment at which it ends")
	cmd.Flags().StringVar(&w.schedule, "with-window", "", "it ends with the window of this schedule that is open now")
	cmd.Flags().StringVar(&w.because, "why", "", "in a few words: the lesson")
	cmd.Flags().BoolVar(&w.instead, "instead", false, "end the stint that the group is on")
	cmd.Flags().BoolVar(&w.preview, "preview", false, "only say what it would do")
	return cmd
}

// preview says what a stint would leave open, and what would be missing.
func preview(ctx context.Context, a *command.App, api *client.ClientWithResponses, g client.LedGroup, body client.StartStintInputBody) error {
	found, err := api.PreviewStintWithResponse(ctx, client.NewStint{
		Group: body.Group, Kind: client.NewStintKind(body.Kind), Lists: body.Lists, Own: body.Own, People: body.People, Until: body.Until, Minutes: body.Minutes, Schedule: body.Schedule, Reason: body.Reason,
	})
	if err != nil {
		return err
	}
	p := found.JSON200
	if a.Format != "table" {
		return a.Show(command.View{Data: p})
	}
	out := a.Out
	fmt.Fprintf(out, "%s of %s, until %s. Nothing has begun.\n", command.Plural(p.People, "person", "people"), g.Name, a.ByClock(p.Until).Format("15:04"))
	if p.Running != nil {
		fmt.Fprintf(out, "The stint of %s would end.\n", p.Running.By)
	}
	told(out, "Above it stand:", len(p.Above), func(i int) string {
		one := p.Above[i]
		return fmt.Sprintf("%s %q: %s", one.Kind, one.Name, one.Then)
	})
	told(out, "Of its lists, that decides otherwise:", len(p.Otherwise), func(i int) string {
		one := p.Otherwise[i]
		return fmt.Sprintf("%s: %s (%s)", one.URL, one.Verdict, one.Because)
	})
	told(out, "Pages in its lists need these hosts, which it would block:", len(p.Missing), func(i int) string {
		m := p.Missing[i]
		said := fmt.Sprintf("%s, with %s in %d of %d visits; let it in with %s", m.Host, m.Page, m.Times, m.Of, m.Entry)
		if m.SignOn {
			said += "; people sign in there"
		}
		return said
	})
	return nil
}

func told(out io.Writer, head string, n int, line func(i int) string) {
	if n == 0 {
		return
	}
	fmt.Fprintln(out, head)
	for i := range n {
		fmt.Fprintln(out, "  "+line(i))
	}
}

func endCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "end GROUP", Short: "End the stint that a group is on", Args: command.Exactly("GROUP"), Example: "  widelark stint end Trainees",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			g, st, err := running(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.EndStintWithResponse(cmd.Context(), st.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The stint of %s is over.\n", g.Name)
			return nil
		}),
	}
}

func takeCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "take GROUP", Short: "Take over the stint that a group is on from another lead", Args: command.Exactly("GROUP"), Example: "  widelark stint take Trainees",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			g, st, err := running(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			_, err = api.TakeOverStintWithResponse(cmd.Context(), st.ID)
			return said(a, err, "The stint of %s is yours now; it was %s's.\n", g.Name, st.By)
		}),
	}
}

func doneCommand(a *command.App) *cobra.Command {
	var again bool
	cmd := &cobra.Command{
		Use: "done GROUP PERSON", Short: "End the stint for one person: the web is open to them again", Args: command.Exactly("GROUP", "PERSON"),
		Example: `  widelark stint done Trainees "Kay Moran"
  widelark stint done Trainees "Kay Moran" --again`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			g, st, err := running(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			person, err := object.References(cmd.Context(), api, object.Persons, args[1:])
			if err != nil {
				return err
			}
			if _, err := api.SetDoneWithResponse(cmd.Context(), st.ID, client.DoneInputBody{Person: person[0].ID, Done: !again}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "For %s the stint of %s %s.\n", args[1], g.Name, map[bool]string{true: "holds again", false: "is over"}[again])
			return nil
		}),
	}
	cmd.Flags().BoolVar(&again, "again", false, "put it in force for them again")
	return cmd
}

func ownCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "Lists of the leads of your groups", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := steering(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all.Own, Columns: []string{"Group", "Name", "Entries", "Changed", "By"}, Empty: "Your groups have no lists of their own."}
			for _, l := range all.Own {
				v.Rows = append(v.Rows, []string{name(l.Group), l.Name, strings.Join(l.Entries, " "), a.Moment(l.UpdatedAt), l.UpdatedBy})
			}
			return a.Show(v)
		}),
	})
	put := &cobra.Command{
		Use: "put GROUP NAME ENTRY...", Short: "Make a list of a group, or replace what it holds; a stint that names it changes at once",
		Example: `  widelark stint own put Trainees "Drug rounds" dosage-tables.example tidepool-news.example/medicine`,
		Args:    command.AtLeast("GROUP", "NAME", "ENTRY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			all, err := steering(cmd.Context(), api)
			if err != nil {
				return err
			}
			g, err := groupNamed(all, args[0])
			if err != nil {
				return err
			}
			entries := args[2:]
			for _, l := range all.Own {
				if l.Group.ID == g.ID && strings.EqualFold(l.Name, args[1]) {
					_, err := api.PutOwnListWithResponse(cmd.Context(), l.ID, client.OwnListBody{Name: l.Name, Entries: entries})
					return said(a, err, "The list %q of %s is changed.\n", l.Name, g.Name)
				}
			}
			_, err = api.AddOwnListWithResponse(cmd.Context(), client.AddOwnListInputBody{Group: g.ID, Name: args[1], Entries: entries})
			return said(a, err, "Made the list %q of %s.\n", args[1], g.Name)
		}),
	}
	remove := &cobra.Command{
		Use: "remove GROUP NAME", Short: "Remove a list of a group", Args: command.Exactly("GROUP", "NAME"), Example: `  widelark stint own remove Trainees "Drug rounds"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			all, err := steering(cmd.Context(), api)
			if err != nil {
				return err
			}
			for _, l := range all.Own {
				if strings.EqualFold(name(l.Group), args[0]) && strings.EqualFold(l.Name, args[1]) {
					_, err := api.RemoveOwnListWithResponse(cmd.Context(), l.ID)
					return said(a, err, "Removed the list %q of %s.\n", l.Name, name(l.Group))
				}
			}
			return fmt.Errorf("%s has no list %q", args[0], args[1])
		}),
	}
	return command.Noun("own", "Lists of a group's leads, which stints of the group alone name", ls, put, remove)
}

// said prints a line unless something failed.
func said(a *command.App, err error, line string, of ...any) error {
	if err == nil {
		fmt.Fprintf(a.Out, line, of...)
	}
	return err
}

// Package schedule implements the commands about schedules.
//
// From: arguments.
// To: the API, by package client.
package schedule

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("schedule", "Schedules: weekly windows, dated lines, time zones",
		lsCommand(a), showCommand(a), newCommand(a), editCommand(a), deleteCommand(a),
		explainCommand(a), importCommand(a), exportCommand(a))
	cmd.Example = `  widelark schedule new "Office hours" 'mon-fri 08:30-12:30, 13:15-17:00'
  widelark schedule show "Office hours"
  widelark schedule import "Office hours" holidays.ics`
	return cmd
}

// withSchedule returns the function of a command whose first argument names a schedule; do gets the schedule and the other arguments.
func withSchedule(a *command.App, run func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, rest []string) error) func(*cobra.Command, []string) error {
	return a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		s, err := object.Schedules.Get(cmd.Context(), api, args[0])
		if err != nil {
			return err
		}
		return run(cmd, api, s, args[1:])
	})
}

func lsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All schedules, and which are in force", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Schedules.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Now", "Next change", "Times", "Zone"}, Empty: "There are no schedules yet. Make one with `widelark schedule new NAME TEXT`."}
			for _, s := range all {
				v.Rows = append(v.Rows, []string{s.Name, inForce(s.Times), nextChange(s.Times), strings.ReplaceAll(s.Text, "\n", "; "), s.Zone})
			}
			return a.Show(v)
		}),
	})
}

// full ends a sentence with a dot unless it has one.
func full(sentence string) string {
	if strings.HasSuffix(sentence, "?") {
		return sentence
	}
	return sentence + "."
}

func inForce(t client.Times) string {
	switch {
	case t.Never:
		return "never in force"
	case t.InForce:
		return "in force"
	}
	return "outside"
}

func nextChange(t client.Times) string {
	if len(t.Changes) == 0 {
		return "none"
	}
	return t.Changes[0].At.Format(command.Clock)
}

func showCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: "A schedule, its week and its next ten changes", Args: command.Exactly("NAME"),
		RunE: withSchedule(a, func(_ *cobra.Command, _ *client.ClientWithResponses, s client.Schedule, _ []string) error {
			if err := showTimes(a, s, s.Name, s.About, s.Text, s.Zone, s.Times); err != nil || a.Format != "table" {
				return err
			}
			var used []string
			for _, u := range s.UsedBy {
				used = append(used, u.Name)
			}
			fmt.Fprintf(a.Out, "\nUsed by: %s.\n", cmp.Or(strings.Join(used, ", "), "nothing"))
			return nil
		}),
	})
}

func showTimes(a *command.App, data any, name, about, text, zone string, t client.Times) error {
	v := command.View{Data: data, Columns: []string{"Change", "Then"}}
	for _, c := range t.Changes {
		v.Rows = append(v.Rows, []string{change(a, c), map[bool]string{true: "in force", false: "outside"}[c.Begins]})
	}
	if a.Format == "table" {
		if name != "" {
			fmt.Fprintf(a.Out, "%s · ", name)
		}
		if t.Never {
			fmt.Fprintln(a.Out, "never in force")
		} else {
			fmt.Fprintf(a.Out, "%s now\n", inForce(t))
		}
		if about != "" {
			fmt.Fprintln(a.Out, about)
		}
		fmt.Fprintf(a.Out, "\n  %s\n  in %s\n\n", strings.ReplaceAll(text, "\n", "\n  "), zone)
		showWeek(a, t)
		v.Empty = "It never changes."
	}
	return a.Show(v)
}

// change returns a moment by the schedule's own clock.
func change(a *command.App, c client.TimeChange) string {
	if a.Format == "table" {
		return c.At.Format("Mon 2 Jan 2006 15:04")
	}
	return a.Moment(c.At)
}

// showWeek prints seven days, one character for each half hour.
func showWeek(a *command.App, t client.Times) {
	if t.Never {
		return
	}
	names := []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	const cells, cell = 48, 30
	var grid [7][cells]bool
	for _, w := range t.Weekly {
		end := w.End
		if end <= w.Start {
			end += cells * cell
		}
		for m := w.Start / cell * cell; m < end; m += cell {
			day := (w.Day + m/(cells*cell)) % 7
			grid[day][m/cell%cells] = true
		}
	}
	fmt.Fprintln(a.Out, "       0     3     6     9     12    15    18    21    24")
	for day, name := range names {
		var b strings.Builder
		for _, in := range grid[day] {
			b.WriteString(map[bool]string{true: "█", false: "·"}[in])
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", name, b.String())
	}
	fmt.Fprintln(a.Out, "  (an ordinary week; half an hour each)")
	fmt.Fprintln(a.Out)
}

// scheduleText reads the text of a schedule: an argument, or a file for "-" and "@FILE".
func scheduleText(a *command.App, arg string) (string, error) {
	name, isFile := strings.CutPrefix(arg, "@")
	if arg != "-" && !isFile {
		return arg, nil
	}
	file, err := a.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, 1<<20))
	return string(text), err
}

func newCommand(a *command.App) *cobra.Command {
	var about, zone string
	cmd := &cobra.Command{
		Use: "new NAME TEXT", Short: "Make a schedule; TEXT may be - or @FILE", Args: command.Exactly("NAME", "TEXT"),
		Example: `  widelark schedule new "Day shift" 'mon-sun 07:30-20:00'
  widelark schedule new "Night shift" 'mon-sun 20:00-07:30; not on 2026-12-24'
  widelark schedule new "Visiting" @visiting.txt --zone Europe/London`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			text, err := scheduleText(a, args[1])
			if err != nil {
				return err
			}
			made, err := api.CreateScheduleWithResponse(cmd.Context(), client.NewScheduleInputBody{Name: args[0], About: &about, Zone: &zone, Text: text})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Made the schedule %q: %s now, next change %s.\n", made.JSON201.Name, inForce(made.JSON201.Times), nextChange(made.JSON201.Times))
			return nil
		}),
	}
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone (default the organisation's)")
	return cmd
}

func editCommand(a *command.App) *cobra.Command {
	var name, about, zone, text string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Edit a schedule; what is not named stays", Args: command.Exactly("NAME"),
		RunE: withSchedule(a, func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			var edit client.EditScheduleInputBody
			read, err := scheduleText(a, text)
			if err != nil {
				return err
			}
			for flag, set := range map[string]func(){
				"name": func() { edit.Name = &name }, "about": func() { edit.About = &about }, "zone": func() { edit.Zone = &zone }, "text": func() { edit.Text = &read },
			} {
				if cmd.Flags().Changed(flag) {
					set()
				}
			}
			edited, err := api.EditScheduleWithResponse(cmd.Context(), s.ID, &client.EditScheduleParams{IfMatch: command.Match(s.Version)}, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edited the schedule %q: %s now, next change %s.\n", edited.JSON200.Name, inForce(edited.JSON200.Times), nextChange(edited.JSON200.Times))
			return nil
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "its new name")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone")
	cmd.Flags().StringVar(&text, "text", "", "its new text; - or @FILE reads it")
	return cmd
}

func deleteCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Delete a schedule", Args: command.Exactly("NAME"),
		RunE: withSchedule(a, func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			if _, err := api.DeleteScheduleWithResponse(cmd.Context(), s.ID, &client.DeleteScheduleParams{IfMatch: command.Match(s.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Deleted the schedule %q.\n", s.Name)
			return nil
		}),
	}
}

func explainCommand(a *command.App) *cobra.Command {
	var zone string
	cmd := &cobra.Command{
		Use: "explain TEXT", Short: "What a text means as a schedule; nothing is kept", Args: command.Exactly("TEXT"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			text, err := scheduleText(a, args[0])
			if err != nil {
				return err
			}
			found, err := api.ExplainScheduleWithResponse(cmd.Context(), client.ExplainScheduleInputBody{Text: text, Zone: &zone})
			if err != nil {
				return err
			}
			if flaw := found.JSON200.Problem; flaw != nil {
				fmt.Fprintf(a.Out, "It cannot be read: %s\n", full(flaw.Message))
				return command.ErrNo
			}
			return showTimes(a, found.JSON200, "", "", found.JSON200.Text, found.JSON200.Zone, found.JSON200.Times)
		}),
	}
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone (default the organisation's)")
	return a.Reads(cmd)
}

func importCommand(a *command.App) *cobra.Command {
	var as string
	var days int64
	var preview bool
	cmd := &cobra.Command{
		Use: "import NAME FILE.ics", Short: "Add the days of a calendar file (iCalendar) to a schedule", Args: command.Exactly("NAME", "FILE.ics"),
		Long: "Add the days of a calendar file to a schedule, in place of dated lines of the same kind: with --as \"not on\", days on which no window starts; with --as on, times that are added.",
		RunE: withSchedule(a, func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, rest []string) error {
			file, err := a.Open(rest[0])
			if err != nil {
				return err
			}
			defer file.Close()
			kind := client.ReadCalendarParamsAs(as)
			read, err := api.ReadCalendarWithBodyWithResponse(cmd.Context(), &client.ReadCalendarParams{As: &kind, Zone: &s.Zone, Days: &days}, "text/plain", file)
			if err != nil {
				return err
			}
			got := read.JSON200
			for _, why := range got.Left {
				fmt.Fprintf(a.Err, "left out: %s\n", why)
			}
			var lines []string
			for line := range strings.Lines(s.Text) {
				line = strings.TrimSuffix(line, "\n")
				if dated := strings.HasPrefix(line, as+" "); line != "" && !dated {
					lines = append(lines, line)
				}
			}
			text := strings.Join(append(lines, got.Lines), "\n")
			if preview {
				fmt.Fprintln(a.Out, text)
				return nil
			}
			if _, err := api.EditScheduleWithResponse(cmd.Context(), s.ID, &client.EditScheduleParams{IfMatch: command.Match(s.Version)}, client.EditScheduleInputBody{Text: &text}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%q has %s from %s.\n", s.Name, command.Plural(int64(strings.Count(got.Lines, as+" ")), "dated line", "dated lines"), command.Plural(got.Events, "event", "events"))
			return nil
		}),
	}
	cmd.Flags().StringVar(&as, "as", "not on", "what events become: on or not on")
	cmd.Flags().Int64Var(&days, "days", 730, "how far ahead repeated events are written out")
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what the schedule would be")
	return cmd
}

func exportCommand(a *command.App) *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use: "export NAME", Short: "A schedule as a calendar file (iCalendar)", Args: command.Exactly("NAME"),
		RunE: withSchedule(a, func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			file, err := api.ExportScheduleWithResponse(cmd.Context(), s.ID)
			if err != nil {
				return err
			}
			if out == "" {
				_, err = a.Out.Write(file.Body)
				return err
			}
			return os.WriteFile(out, file.Body, 0o644)
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "a file to write to (default standard output)")
	return cmd
}

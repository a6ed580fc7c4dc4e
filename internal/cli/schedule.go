package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) scheduleCommand() *cobra.Command {
	cmd := noun("schedule", "Schedules: weekly windows, dated lines, time zones",
		a.scheduleLsCommand(), a.scheduleShowCommand(), a.scheduleNewCommand(), a.scheduleEditCommand(), a.scheduleDeleteCommand(),
		a.scheduleExplainCommand(), a.scheduleImportCommand(), a.scheduleExportCommand())
	cmd.Example = `  widelark schedule new "Office hours" 'mon-fri 08:30-12:30, 13:15-17:00'
  widelark schedule show "Office hours"
  widelark schedule import "Office hours" holidays.ics`
	return cmd
}

// withSchedule makes what a command runs from a function that wants the schedule that the first argument names; it gets the arguments
// after that.
func (a *app) withSchedule(run func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, rest []string) error) func(*cobra.Command, []string) error {
	return a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		s, err := scheduleKind.get(cmd.Context(), api, args[0])
		if err != nil {
			return err
		}
		return run(cmd, api, s, args[1:])
	})
}

func (a *app) scheduleLsCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "ls", Short: "All schedules, and which are in force", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := scheduleKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Now", "Next change", "Times", "Zone"}, empty: "There are no schedules yet. Make one with `widelark schedule new NAME TEXT`."}
			for _, s := range all {
				v.rows = append(v.rows, []string{s.Name, inForce(s.Times), nextChange(s.Times), strings.ReplaceAll(s.Text, "\n", "; "), s.Zone})
			}
			return a.show(v)
		}),
	})
}

// full ends a sentence that may have ended already.
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

const clock = "Mon 2 Jan 15:04"

func nextChange(t client.Times) string {
	if len(t.Changes) == 0 {
		return "none"
	}
	return t.Changes[0].At.Format(clock)
}

func (a *app) scheduleShowCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "show NAME", Short: "A schedule, its week and its next ten changes", Args: exactly("NAME"),
		RunE: a.withSchedule(func(_ *cobra.Command, _ *client.ClientWithResponses, s client.Schedule, _ []string) error {
			if err := a.showTimes(s, s.Name, s.About, s.Text, s.Zone, s.Times); err != nil || a.format != "table" {
				return err
			}
			var used []string
			for _, u := range s.UsedBy {
				used = append(used, u.Name)
			}
			fmt.Fprintf(a.out, "\nUsed by: %s.\n", cmp.Or(strings.Join(used, ", "), "nothing"))
			return nil
		}),
	})
}

func (a *app) showTimes(data any, name, about, text, zone string, t client.Times) error {
	v := view{data: data, columns: []string{"Change", "Then"}}
	for _, c := range t.Changes {
		v.rows = append(v.rows, []string{a.change(c), map[bool]string{true: "in force", false: "outside"}[c.Begins]})
	}
	if a.format == "table" {
		if name != "" {
			fmt.Fprintf(a.out, "%s · ", name)
		}
		if t.Never {
			fmt.Fprintln(a.out, "never in force")
		} else {
			fmt.Fprintf(a.out, "%s now\n", inForce(t))
		}
		if about != "" {
			fmt.Fprintln(a.out, about)
		}
		fmt.Fprintf(a.out, "\n  %s\n  in %s\n\n", strings.ReplaceAll(text, "\n", "\n  "), zone)
		a.showWeek(t)
		v.empty = "It never changes."
	}
	return a.show(v)
}

// change shows a moment by the schedule's own clock.
func (a *app) change(c client.TimeChange) string {
	if a.format == "table" {
		return c.At.Format("Mon 2 Jan 2006 15:04")
	}
	return a.moment(c.At)
}

// showWeek draws seven days, a character for half an hour.
func (a *app) showWeek(t client.Times) {
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
	fmt.Fprintln(a.out, "       0     3     6     9     12    15    18    21    24")
	for day, name := range names {
		var b strings.Builder
		for _, in := range grid[day] {
			b.WriteString(map[bool]string{true: "█", false: "·"}[in])
		}
		fmt.Fprintf(a.out, "  %s  %s\n", name, b.String())
	}
	fmt.Fprintln(a.out, "  (an ordinary week; half an hour each)")
	fmt.Fprintln(a.out)
}

// scheduleText reads the text of a schedule: an argument, or a file for "-" and "@FILE".
func (a *app) scheduleText(arg string) (string, error) {
	name, isFile := strings.CutPrefix(arg, "@")
	if arg != "-" && !isFile {
		return arg, nil
	}
	file, err := a.open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, 1<<20))
	return string(text), err
}

func (a *app) scheduleNewCommand() *cobra.Command {
	var about, zone string
	cmd := &cobra.Command{
		Use: "new NAME TEXT", Short: "Make a schedule; TEXT may be - or @FILE", Args: exactly("NAME", "TEXT"),
		Example: `  widelark schedule new "Day shift" 'mon-sun 07:30-20:00'
  widelark schedule new "Night shift" 'mon-sun 20:00-07:30; not on 2026-12-24'
  widelark schedule new "Visiting" @visiting.txt --zone Europe/London`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			text, err := a.scheduleText(args[1])
			if err != nil {
				return err
			}
			made, err := api.CreateScheduleWithResponse(cmd.Context(), client.NewScheduleInputBody{Name: args[0], About: &about, Zone: &zone, Text: text})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Made the schedule %q: %s now, next change %s.\n", made.JSON201.Name, inForce(made.JSON201.Times), nextChange(made.JSON201.Times))
			return nil
		}),
	}
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone (default the organisation's)")
	return cmd
}

func (a *app) scheduleEditCommand() *cobra.Command {
	var name, about, zone, text string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Edit a schedule; what is not named stays", Args: exactly("NAME"),
		RunE: a.withSchedule(func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			var edit client.EditScheduleInputBody
			read, err := a.scheduleText(text)
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
			edited, err := api.EditScheduleWithResponse(cmd.Context(), s.ID, &client.EditScheduleParams{IfMatch: match(s.Version)}, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Edited the schedule %q: %s now, next change %s.\n", edited.JSON200.Name, inForce(edited.JSON200.Times), nextChange(edited.JSON200.Times))
			return nil
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "its new name")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone")
	cmd.Flags().StringVar(&text, "text", "", "its new text; - or @FILE reads it")
	return cmd
}

func (a *app) scheduleDeleteCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Delete a schedule", Args: exactly("NAME"),
		RunE: a.withSchedule(func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			if _, err := api.DeleteScheduleWithResponse(cmd.Context(), s.ID, &client.DeleteScheduleParams{IfMatch: match(s.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Deleted the schedule %q.\n", s.Name)
			return nil
		}),
	}
}

func (a *app) scheduleExplainCommand() *cobra.Command {
	var zone string
	cmd := &cobra.Command{
		Use: "explain TEXT", Short: "What a text means as a schedule; nothing is kept", Args: exactly("TEXT"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			text, err := a.scheduleText(args[0])
			if err != nil {
				return err
			}
			found, err := api.ExplainScheduleWithResponse(cmd.Context(), client.ExplainScheduleInputBody{Text: text, Zone: &zone})
			if err != nil {
				return err
			}
			if flaw := found.JSON200.Problem; flaw != nil {
				fmt.Fprintf(a.out, "It cannot be read: %s\n", full(flaw.Message))
				return errNo
			}
			return a.showTimes(found.JSON200, "", "", found.JSON200.Text, found.JSON200.Zone, found.JSON200.Times)
		}),
	}
	cmd.Flags().StringVar(&zone, "zone", "", "an IANA time zone (default the organisation's)")
	return a.reads(cmd)
}

func (a *app) scheduleImportCommand() *cobra.Command {
	var as string
	var days int64
	var preview bool
	cmd := &cobra.Command{
		Use: "import NAME FILE.ics", Short: "Add the days of a calendar file (iCalendar) to a schedule", Args: exactly("NAME", "FILE.ics"),
		Long: "Add the days of a calendar file to a schedule, in place of dated lines of the same kind: with --as \"not on\", days on which no window starts; with --as on, times that are added.",
		RunE: a.withSchedule(func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, rest []string) error {
			file, err := a.open(rest[0])
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
				fmt.Fprintf(a.err, "left out: %s\n", why)
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
				fmt.Fprintln(a.out, text)
				return nil
			}
			if _, err := api.EditScheduleWithResponse(cmd.Context(), s.ID, &client.EditScheduleParams{IfMatch: match(s.Version)}, client.EditScheduleInputBody{Text: &text}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%q has %s from %s.\n", s.Name, plural(int64(strings.Count(got.Lines, as+" ")), "dated line", "dated lines"), plural(got.Events, "event", "events"))
			return nil
		}),
	}
	cmd.Flags().StringVar(&as, "as", "not on", "what events become: on or not on")
	cmd.Flags().Int64Var(&days, "days", 730, "how far ahead repeated events are written out")
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what the schedule would be")
	return cmd
}

func (a *app) scheduleExportCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use: "export NAME", Short: "A schedule as a calendar file (iCalendar)", Args: exactly("NAME"),
		RunE: a.withSchedule(func(cmd *cobra.Command, api *client.ClientWithResponses, s client.Schedule, _ []string) error {
			file, err := api.ExportScheduleWithResponse(cmd.Context(), s.ID)
			if err != nil {
				return err
			}
			if out == "" {
				_, err = a.out.Write(file.Body)
				return err
			}
			return os.WriteFile(out, file.Body, 0o644)
		}),
	}
	cmd.Flags().StringVar(&out, "out", "", "a file to write to (default standard output)")
	return cmd
}

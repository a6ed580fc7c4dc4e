// Package watching has the commands for what is set up around the journal: reports, alerts, and where records are sent on.
//
// From: arguments, and the API.
// To: tables and files.
package watching

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// ReportCommand is `widelark report`.
func ReportCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("report", "What was recorded in a period: looked at, saved, and sent by a timetable",
		reportShowCommand(a), reportSaveCommand(a), reportLsCommand(a), reportNewCommand(a), reportEditCommand(a), reportRemoveCommand(a), reportSendCommand(a))
	cmd.Example = `  widelark report show --span week --compare
  widelark report save week.pdf 'group:"Ward nurses"' --span week
  widelark report new "The hospital's week" --span week --compare --every week --at 07:00 --to board@quillmere.example`
	return cmd
}

// reportFlags says what a report is of.
type reportFlags struct {
	span     string
	sections []string
	compare  bool
	top      int64
	kept     string
}

func (f *reportFlags) on(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.span, "span", "7d", "day, week or month, the last whole one; or 24h, 7d or 30d up to now")
	cmd.Flags().StringSliceVar(&f.sections, "section", nil, "only these: over, blocked, categories, families, sites, new, unrated, people, groups, networks, machines, words, provisos, policies, rules, lists, gates")
	cmd.Flags().BoolVar(&f.compare, "compare", false, "with the period before")
	cmd.Flags().Int64Var(&f.top, "top", 10, "how many rows each section has, at most 200")
}

func (f *reportFlags) params(args []string) *client.MakeReportParams {
	span := client.MakeReportParamsSpan(f.span)
	p := &client.MakeReportParams{Q: command.Optional[string](strings.Join(args, " ")), Span: &span, Compare: &f.compare, Top: &f.top}
	if len(f.sections) > 0 {
		sections := make([]client.MakeReportParamsSection, len(f.sections))
		for i, s := range f.sections {
			sections[i] = client.MakeReportParamsSection(s)
		}
		p.Section = &sections
	}
	return p
}

// fill takes what a report that is kept says, but for flags that were given.
func (f *reportFlags) fill(cmd *cobra.Command, r *client.KeptReport, args []string) []string {
	set := cmd.Flags().Changed
	if !set("span") {
		f.span = string(r.Span)
	}
	if !set("section") && r.Sections != nil {
		f.sections = texts(*r.Sections)
	}
	if !set("compare") {
		f.compare = command.Deref(r.Compare)
	}
	if !set("top") && r.Top != nil {
		f.top = *r.Top
	}
	if len(args) == 0 && r.Query != nil {
		return []string{*r.Query}
	}
	return args
}

func texts[T ~string](of []T) []string {
	all := make([]string, len(of))
	for i, t := range of {
		all[i] = string(t)
	}
	return all
}

func typed[T ~string](of []string) *[]T {
	if of == nil {
		return nil
	}
	all := make([]T, len(of))
	for i, t := range of {
		all[i] = T(t)
	}
	return &all
}

func reportShowCommand(a *command.App) *cobra.Command {
	var f reportFlags
	cmd := &cobra.Command{
		Use: "show [QUERY]", Short: "Look at a report", Args: cobra.ArbitraryArgs,
		Example: "  widelark report show --span week --compare\n  widelark report show 'group:\"Ward nurses\"' --section blocked,people\n  widelark report show --kept \"The hospital's week\"",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if f.kept != "" {
				r, err := reportCalled(cmd, api, f.kept)
				if err != nil {
					return err
				}
				args = f.fill(cmd, &r, args)
			}
			answer, err := api.MakeReportWithResponse(cmd.Context(), f.params(args))
			if err != nil {
				return err
			}
			return showReport(a, answer.JSON200, f.compare)
		}),
	}
	f.on(cmd)
	cmd.Flags().StringVar(&f.kept, "kept", "", "a report that is kept, by its name")
	return a.Reads(cmd)
}

func showReport(a *command.App, made *client.MadeReport, compare bool) error {
	v := command.View{Data: made, Columns: []string{"Section", "Value", "Requests", "Stopped"}, Numbers: []int{2, 3}, Empty: "Nothing was recorded."}
	if compare {
		v.Columns, v.Numbers = append(v.Columns, "Before"), append(v.Numbers, 4)
	}
	row := func(section, value string, now, earlier client.VerdictCounts) {
		cells := []string{section, value, command.Grouped(now.All), command.Grouped(now.Hold + now.Block)}
		if compare {
			cells = append(cells, command.Grouped(earlier.All))
		}
		v.Rows = append(v.Rows, cells)
	}
	row("All", made.Period, made.Total, made.Earlier)
	for _, s := range made.Sections {
		first := s.Title
		next := func() string {
			said := first
			if a.Format == "table" || a.Format == "" {
				first = ""
			}
			return said
		}
		for _, at := range command.Deref(s.Over) {
			row(next(), a.ByClock(at.At).Format("Mon 2006-01-02 15:04"), at.Now, at.Earlier)
		}
		for _, r := range s.Rows {
			value := r.Value
			if value == "" {
				value = "(none)"
			}
			row(next(), value, r.Now, r.Earlier)
		}
	}
	return a.Show(v)
}

func reportSaveCommand(a *command.App) *cobra.Command {
	var f reportFlags
	var title string
	cmd := &cobra.Command{
		Use: "save FILE [QUERY]", Short: "Save a report as PDF or CSV, as the file's name ends", Args: command.AtLeast("FILE"),
		Example: "  widelark report save week.pdf --span week --compare\n  widelark report save ward.csv 'group:\"Ward nurses\"' --span 30d",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			file, args := args[0], args[1:]
			form := client.MakeReportFileParamsForm(strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), "."))
			if form != "pdf" && form != "csv" {
				return command.Usagef("%q ends neither in .pdf nor in .csv", file)
			}
			if f.kept != "" {
				r, err := reportCalled(cmd, api, f.kept)
				if err != nil {
					return err
				}
				args = f.fill(cmd, &r, args)
				if title == "" {
					title = r.Name
				}
			}
			p := f.params(args)
			of := &client.MakeReportFileParams{Q: p.Q, Span: (*client.MakeReportFileParamsSpan)(p.Span), Compare: p.Compare, Top: p.Top, Form: &form, Title: command.Optional[string](title)}
			if p.Section != nil {
				of.Section = typed[client.MakeReportFileParamsSection](texts(*p.Section))
			}
			res, err := api.MakeReportFile(cmd.Context(), of)
			if err != nil {
				return err
			}
			defer res.Body.Close()
			if err := command.Save(file, res.Body); err != nil {
				return fmt.Errorf("the report broke off: %w", err)
			}
			fmt.Fprintf(a.Out, "Saved %s.\n", file)
			return nil
		}),
	}
	f.on(cmd)
	cmd.Flags().StringVar(&f.kept, "kept", "", "a report that is kept, by its name")
	cmd.Flags().StringVar(&title, "title", "", "what stands above it")
	return cmd
}

func reportCalled(cmd *cobra.Command, api *client.ClientWithResponses, name string) (client.KeptReport, error) {
	all, err := api.GetReportsWithResponse(cmd.Context())
	if err != nil {
		return client.KeptReport{}, err
	}
	return called(all.JSON200.Items, func(r client.KeptReport) string { return r.Name }, name, "report")
}

// called finds something by its name.
func called[T any](all []T, nameOf func(T) string, name, what string) (T, error) {
	for _, one := range all {
		if strings.EqualFold(nameOf(one), name) {
			return one, nil
		}
	}
	var none T
	return none, fmt.Errorf("there is no %s %q; `widelark %s ls` shows which there are", what, name, what)
}

func reportLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "Reports that are kept", Args: command.Exactly(), Example: "  widelark report ls",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetReportsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Items, Columns: []string{"Name", "Of", "Only", "Sent", "To", "Next", "Last delivery"}, Empty: "No reports are kept. Keep one with `widelark report new NAME`."}
			for _, r := range all.JSON200.Items {
				sent, next, last := "never", "", ""
				if t := r.Timetable; t != nil {
					sent = "every " + string(t.Every) + " at " + t.At
				}
				if r.NextAt != nil {
					next = a.Moment(*r.NextAt)
				}
				if len(r.Deliveries) > 0 {
					last = deliverySaid(a, &r.Deliveries[0])
				}
				v.Rows = append(v.Rows, []string{r.Name, string(r.Span), command.OrEmpty(r.Query), sent, strings.Join(command.Deref(r.To), ", "), next, last})
			}
			return a.Show(v)
		}),
	})
}

func deliverySaid(a *command.App, d *client.Delivery) string {
	switch {
	case d.DoneAt != nil:
		return "delivered " + a.Moment(*d.DoneAt)
	case command.OrEmpty(d.Problem) != "":
		return string(d.State) + ": " + *d.Problem
	}
	return string(d.State)
}

// keptFlags says how a report is kept.
type keptFlags struct {
	reportFlags
	every, at string
	to, files []string
	name      string
	never     bool
}

func (f *keptFlags) on(cmd *cobra.Command) {
	f.reportFlags.on(cmd)
	cmd.Flags().StringVar(&f.every, "every", "", "send it every day, week (on Mondays) or month (on its first day)")
	cmd.Flags().StringVar(&f.at, "at", "07:00", "when on that day, by the organisation's clock")
	cmd.Flags().StringArrayVar(&f.to, "to", nil, "an address that it is mailed to; give it again for more")
	cmd.Flags().StringSliceVar(&f.files, "file", nil, "what is attached: pdf, csv or both (default pdf)")
}

func (f *keptFlags) apply(cmd *cobra.Command, r *client.ReportInput) {
	set := cmd.Flags().Changed
	if set("span") || r.Span == "" {
		r.Span = client.ReportInputSpan(f.span)
	}
	if set("section") {
		r.Sections = typed[client.ReportInputSections](f.sections)
	}
	if set("compare") {
		r.Compare = &f.compare
	}
	if set("top") {
		r.Top = &f.top
	}
	if set("to") {
		r.To = &f.to
	}
	if set("file") {
		r.Files = typed[client.ReportInputFiles](f.files)
	}
	switch {
	case f.never:
		r.Timetable = nil
	case set("every"):
		r.Timetable = &client.Timetable{Every: client.TimetableEvery(f.every), At: f.at}
	case set("at") && r.Timetable != nil:
		r.Timetable.At = f.at
	}
}

func reportNewCommand(a *command.App) *cobra.Command {
	var f keptFlags
	cmd := &cobra.Command{
		Use: "new NAME [QUERY]", Short: "Keep a report, and perhaps have it sent", Args: command.AtLeast("NAME"),
		Example: `  widelark report new "Wards" 'group:"Ward nurses"' --span week --compare --every week --at 07:00 --to board@quillmere.example`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.ReportInput{Name: args[0], Query: command.Optional[string](strings.Join(args[1:], " "))}
			f.apply(cmd, &body)
			made, err := api.AddReportWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Keeps the report %q.", made.JSON201.Name)
			if made.JSON201.NextAt != nil {
				fmt.Fprintf(a.Out, " It is sent first at %s.", a.Moment(*made.JSON201.NextAt))
			}
			fmt.Fprintln(a.Out)
			return nil
		}),
	}
	f.on(cmd)
	return cmd
}

func reportEditCommand(a *command.App) *cobra.Command {
	var f keptFlags
	var query string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Edit a report that is kept; what is not named stays", Args: command.Exactly("NAME"),
		Example: "  widelark report edit Wards --to desk@quillmere.example\n  widelark report edit Wards --never",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			r, err := reportCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			body := client.ReportInput{Name: r.Name, Span: client.ReportInputSpan(r.Span), Compare: r.Compare, Query: r.Query, Timetable: r.Timetable, To: r.To, Top: r.Top}
			if r.Sections != nil {
				body.Sections = typed[client.ReportInputSections](texts(*r.Sections))
			}
			if r.Files != nil {
				body.Files = typed[client.ReportInputFiles](texts(*r.Files))
			}
			if f.name != "" {
				body.Name = f.name
			}
			if cmd.Flags().Changed("query") {
				body.Query = &query
			}
			f.apply(cmd, &body)
			if _, err := api.PutReportWithResponse(cmd.Context(), r.ID, &client.PutReportParams{IfMatch: command.Match(r.Version)}, body); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edited the report %q.\n", body.Name)
			return nil
		}),
	}
	f.on(cmd)
	cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	cmd.Flags().StringVar(&query, "query", "", "only requests that this finds")
	cmd.Flags().BoolVar(&f.never, "never", false, "it is no longer sent")
	return cmd
}

func reportRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Keep a report no longer", Args: command.Exactly("NAME"), Example: "  widelark report remove Wards",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			r, err := reportCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveReportWithResponse(cmd.Context(), r.ID, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Removed the report %q.\n", r.Name)
			return nil
		}),
	}
}

func reportSendCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "send NAME", Short: "Send a report now", Args: command.Exactly("NAME"), Example: `  widelark report send "The hospital's week"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			r, err := reportCalled(cmd, api, args[0])
			if err != nil {
				return err
			}
			sent, err := api.SendReportWithResponse(cmd.Context(), r.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The report is on its way to %s.\n", strings.Join(sent.JSON202.To, ", "))
			return nil
		}),
	}
}

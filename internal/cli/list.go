package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) listCommand() *cobra.Command {
	cmd := noun("list", "Lists of URLs and their entries",
		a.listLsCommand(), a.listShowCommand(), a.listNewCommand(), a.listEditCommand(), a.listDeleteCommand(),
		a.listFindCommand(), a.listAddCommand(), a.listRemoveCommand(), a.listSetCommand(), a.listCopyCommand(false), a.listCopyCommand(true),
		a.listImportCommand(), a.listExportCommand(), a.listHistoryCommand(), a.listCompareCommand(), a.listTakeBackCommand(), a.listUndoCommand(),
		a.listTidyCommand(), a.listCompanionsCommand(), a.sourceCommand())
	cmd.Example = `  widelark list new "Supplier portals" --describe "Where Purchasing orders"
  widelark list add "Supplier portals" ferrow-instruments.example '*.tarn-textiles.test'
  widelark list import "Supplier portals" portals.txt`
	return cmd
}

// findList returns the list of that name, letter case aside.
func findList(ctx context.Context, api *client.ClientWithResponses, name string) (client.List, error) {
	found, err := api.GetListsWithResponse(ctx, &client.GetListsParams{Name: &name})
	if err != nil {
		return client.List{}, err
	}
	if len(found.JSON200.Lists) == 0 {
		return client.List{}, fmt.Errorf("there is no list %q; `widelark list ls` shows which there are", name)
	}
	return found.JSON200.Lists[0], nil
}

// match makes an If-Match header for an object of that version.
func match(version int64) *string {
	tag := fmt.Sprintf(`"%d"`, version)
	return &tag
}

func (a *app) listLsCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "ls", Short: "All lists", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			lists := []client.List{}
			for params := (&client.GetListsParams{}); ; {
				page, err := api.GetListsWithResponse(cmd.Context(), params)
				if err != nil {
					return err
				}
				lists = append(lists, page.JSON200.Lists...)
				if params.After = page.JSON200.Next; params.After == nil {
					break
				}
			}
			v := view{data: lists, columns: []string{"Name", "Entries", "Used by", "Owner", "Changed", "By"}, numbers: []int{1}, empty: "There are no lists yet. Make one with `widelark list new NAME`."}
			for _, l := range lists {
				used := strings.Join(l.UsedBy, ", ")
				if used == "" && a.format == "table" {
					used = "nothing"
				}
				v.rows = append(v.rows, []string{l.Name, grouped(l.EntryCount), used, l.Owner, a.moment(l.UpdatedAt), l.UpdatedBy})
			}
			return a.show(v)
		}),
	})
}

// moment shows an instant: short and local in a table, RFC 3339 elsewhere.
func (a *app) moment(at time.Time) string {
	if a.format == "table" {
		return a.byClock(at).Format("2006-01-02 15:04")
	}
	return at.Format(time.RFC3339)
}

func (a *app) listShowCommand() *cobra.Command {
	var limit int64
	var after, contains string
	cmd := &cobra.Command{
		Use: "show NAME", Short: "A list and its entries, page by page", Args: exactly("NAME"),
		Example: `  widelark list show Betting
  widelark list show "Suspect sites" --limit 20 --contains harbour
  widelark list show Betting -o csv`,
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			page, err := api.GetEntriesWithResponse(cmd.Context(), l.ID, &client.GetEntriesParams{Limit: &limit, After: &after, Text: &contains})
			if err != nil {
				return err
			}
			v := view{
				data: struct {
					List    client.List    `json:"list"`
					Entries []client.Entry `json:"entries"`
					Total   int64          `json:"total"`
					Next    *string        `json:"next,omitempty"`
				}{l, page.JSON200.Entries, page.JSON200.Total, page.JSON200.Next},
				columns: []string{"Entry", "Kind", "Covers", "Added by"},
				empty:   "The list has no such entries.",
			}
			for _, e := range page.JSON200.Entries {
				v.rows = append(v.rows, []string{e.Text, string(e.Kind), e.Explain, e.AddedBy})
			}
			v.foot = fmt.Sprintf("\n%s of %s.", plural(int64(len(v.rows)), "line", "lines"), grouped(page.JSON200.Total))
			if next := page.JSON200.Next; next != nil {
				v.foot += fmt.Sprintf(" More: widelark list show %q --after %s --limit %d", l.Name, *next, limit)
				if contains != "" {
					v.foot += fmt.Sprintf(" --contains %q", contains)
				}
			}
			if a.format == "table" {
				fmt.Fprintf(a.out, "%s · %s\n", l.Name, plural(l.EntryCount, "entry", "entries"))
				if l.Description != "" {
					fmt.Fprintln(a.out, l.Description)
				}
				if l.Owner != "" {
					fmt.Fprintf(a.out, "Owner: %s\n", l.Owner)
				}
				fmt.Fprintln(a.out)
			}
			return a.show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many lines, at most 2000")
	cmd.Flags().StringVar(&after, "after", "", "the place that the page before named")
	cmd.Flags().StringVar(&contains, "contains", "", "only entries whose pattern or note holds this text")
	return a.reads(cmd)
}

func (a *app) listFindCommand() *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "find TEXT", Short: "Entries of all lists that mention a text, or cover a URL",
		Long: "Find entries in all lists at once: those whose pattern or note holds the text and, with --covers, those that cover it as a URL, " +
			"whether a rule names their list or not.",
		Example: `  widelark list find lantern
  widelark list find "asked for by Theatre"
  widelark list find --covers www.oddsfield.example/today`,
		Args: exactly("TEXT"),
	}
	covers := cmd.Flags().Bool("covers", false, "take the text for a URL, and find what covers it")
	cmd.Flags().Int64Var(&limit, "limit", 200, "how many entries, at most 2000")
	cmd.RunE = a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		if *covers {
			return a.findCovering(cmd.Context(), api, args[0])
		}
		found, err := api.FindEntriesWithResponse(cmd.Context(), &client.FindEntriesParams{Text: args[0], Limit: &limit})
		if err != nil {
			return err
		}
		v := view{data: found.JSON200.Entries, columns: []string{"List", "Entry", "Kind", "Covers"}, empty: "No entry mentions that."}
		for _, e := range found.JSON200.Entries {
			v.rows = append(v.rows, []string{e.List.Name, e.Text, string(e.Kind), e.Explain})
		}
		v.foot = fmt.Sprintf("\n%s.", plural(int64(len(v.rows)), "entry", "entries"))
		if found.JSON200.Next != nil {
			v.foot = fmt.Sprintf("\nThe first %s; --limit shows more.", plural(int64(len(v.rows)), "entry", "entries"))
		}
		return a.show(v)
	})
	return a.reads(cmd)
}

// findCovering shows what a trial knows of the lists that cover a URL.
func (a *app) findCovering(ctx context.Context, api *client.ClientWithResponses, url string) error {
	answer, err := api.TryUrlsWithResponse(ctx, client.TrialsInputBody{Urls: []string{url}})
	if err != nil {
		return err
	}
	t := answer.JSON200.Trials[0]
	if t.Problem != nil {
		return fmt.Errorf("%s: %s", url, *t.Problem)
	}
	matches := []client.Match{}
	if t.Matches != nil {
		matches = *t.Matches
	}
	v := view{data: matches, columns: []string{"List", "In it", "Entry", "Covers"}, empty: "No entry covers that."}
	for _, m := range matches {
		isIn := map[client.MatchIn]string{client.MatchInYes: "yes", client.MatchInNo: "carved out"}[m.In]
		for _, e := range append(m.Entries, m.CarveOuts...) {
			v.rows = append(v.rows, []string{m.List.Name, isIn, e.Text, e.Explain})
		}
	}
	return a.show(v)
}

func (a *app) listNewCommand() *cobra.Command {
	var description, owner, colour string
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a list", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ink := client.NewListInputBodyColour(colour)
			made, err := api.CreateListWithResponse(cmd.Context(), client.NewListInputBody{Name: args[0], Description: &description, Owner: &owner, Colour: &ink})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Made the list %q.\n", made.JSON201.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&description, "describe", "", "what the list is for")
	cmd.Flags().StringVar(&owner, "owner", "", "who answers for it")
	cmd.Flags().StringVar(&colour, "colour", "", colours)
	return cmd
}

const colours = "reed, heather, rust, slate, gorse, sky, plum or sand"

func (a *app) listEditCommand() *cobra.Command {
	var name, description, owner, colour string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename, describe or mark a list", Args: exactly("NAME"),
		Example: `  widelark list edit Betting --name "Betting and lotteries"
  widelark list edit Betting --owner "Safeguarding team" --colour rust`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var edit client.EditListInputBody
			ink := client.EditListInputBodyColour(colour)
			for flag, set := range map[string]func(){
				"name": func() { edit.Name = &name }, "describe": func() { edit.Description = &description },
				"owner": func() { edit.Owner = &owner }, "colour": func() { edit.Colour = &ink },
			} {
				if cmd.Flags().Changed(flag) {
					set()
				}
			}
			if edit == (client.EditListInputBody{}) {
				return usagef("nothing to change: give --name, --describe, --owner or --colour")
			}
			return a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
				edited, err := api.EditListWithResponse(cmd.Context(), l.ID, &client.EditListParams{IfMatch: match(l.Version)}, edit)
				if err == nil {
					fmt.Fprintf(a.out, "Changed the list %q.\n", edited.JSON200.Name)
				}
				return err
			})(cmd, args)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&description, "describe", "", "what the list is for")
	cmd.Flags().StringVar(&owner, "owner", "", "who answers for it; empty takes it away")
	cmd.Flags().StringVar(&colour, "colour", "", colours+"; empty takes it away")
	return cmd
}

func (a *app) listDeleteCommand() *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME", Short: "Delete a list with all its entries, where no rule names it", Args: exactly("NAME"),
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			if _, err := api.DeleteListWithResponse(cmd.Context(), l.ID, &client.DeleteListParams{IfMatch: match(l.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Deleted the list %q with %s.\n", l.Name, plural(l.EntryCount, "entry", "entries"))
			return nil
		}),
	}
}

func (a *app) listAddCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "add NAME ENTRY...", Short: "Add entries, written in the notation", Args: atLeast("NAME", "ENTRY"),
		Long: "Add entries to a list. Each argument is one line of the notation, exactly as written; `list import` is for what has to be tidied first. " +
			"Bad ones are reported and do not spoil the others; the exit code is 1 then.",
		Example: `  widelark list add Betting oddsfield.example '*.oddsfield.test'
  widelark list add Betting '! help.oddsfield.example # advice for gamblers'
  widelark list add Betting 'derby-day.example [until 2026-12-24]'`,
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			added, err := api.AddEntriesWithResponse(cmd.Context(), l.ID, nil, client.AddEntriesInputBody{Lines: rest})
			if err != nil {
				return err
			}
			return a.report(*added.JSON200, false)
		}),
	}
	return a.reads(cmd)
}

// importFlags say how a file is read, and what is told of it.
type importFlags struct {
	exact, preview, replace, all                      bool
	format, column, noteColumn, untilColumn, reportTo string
}

func (f *importFlags) register(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.exact, "exact", false, "take the notation only; change nothing")
	cmd.Flags().BoolVar(&f.preview, "preview", false, "only say what would become of each line")
	cmd.Flags().BoolVar(&f.replace, "replace", false, "take out the entries that are not in the file")
	cmd.Flags().BoolVar(&f.all, "all", false, "show every reported line, not only the first 20 of a kind")
	cmd.Flags().StringVar(&f.format, "format", "", "lines, domains, hosts, csv or jsonl; without it, told by the file's name. Packed with gzip or zstd as they may be")
	cmd.Flags().StringVar(&f.column, "column", "", "csv, jsonl: the column with the entries, by name or number")
	cmd.Flags().StringVar(&f.noteColumn, "note-column", "", "csv, jsonl: the column with the notes")
	cmd.Flags().StringVar(&f.untilColumn, "until-column", "", "csv, jsonl: the column with the last days")
	cmd.Flags().StringVar(&f.reportTo, "report", "", "write what became of every changed and refused line to this file, as CSV, or JSON where it ends so")
}

// params are what the service is asked for with a file of this name.
func (f *importFlags) params(name string) *client.ImportEntriesParams {
	reading := client.ImportEntriesParamsReadingMending
	if f.exact {
		reading = client.ImportEntriesParamsReadingExact
	}
	params := &client.ImportEntriesParams{Reading: &reading, Preview: &f.preview, Replace: &f.replace}
	format := f.format
	if format == "" {
		format = formatOf(name)
	}
	written := client.ImportEntriesParamsFormat(format)
	params.Format, params.Column, params.NoteColumn, params.UntilColumn = &written, &f.column, &f.noteColumn, &f.untilColumn
	if f.reportTo != "" || f.all {
		most := int64(100_000)
		params.Report = &most
	}
	return params
}

func (a *app) listImportCommand() *cobra.Command {
	var f importFlags
	cmd := &cobra.Command{
		Use: "import NAME [FILE]", Short: "Add a file (or standard input) to a list",
		Long: "Add a file to a list, in one transaction. What people keep and paste (addresses from a browser, hosts-file lines, defanged text) is turned " +
			"into the entry meant, and the report says how. Bad lines are reported with line and column and do not spoil the others; the exit code is 1 then.",
		Example: `  widelark list import Betting betting.txt
  widelark list import Betting --preview < betting.txt
  widelark list import "Suspect sites" this-month.txt --replace --preview
  widelark list import Betting asked-for.csv --column site --note-column reason
  widelark list import Betting betting.txt.gz --report report.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return nil
			}
			return exactly("NAME", "FILE")(cmd, args)
		},
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			file, err := a.open(append(rest, "-")[0])
			if err != nil {
				return err
			}
			defer file.Close()
			body, done := a.progress(file, "sent")
			report, err := api.ImportEntriesWithBodyWithResponse(cmd.Context(), l.ID, f.params(append(rest, "")[0]), "application/octet-stream", body)
			done()
			if err != nil {
				return err
			}
			if f.reportTo != "" {
				if err := saveReport(f.reportTo, *report.JSON200); err != nil {
					return err
				}
				fmt.Fprintf(a.err, "The report is in %s.\n", f.reportTo)
			}
			return a.report(*report.JSON200, f.all)
		}),
	}
	f.register(cmd)
	return a.reads(cmd)
}

// formatOf tells the format of a file by its name, packing aside.
func formatOf(name string) string {
	name = strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(name), ".gz"), ".zst")
	switch {
	case strings.HasSuffix(name, ".csv"):
		return "csv"
	case strings.HasSuffix(name, ".jsonl"), strings.HasSuffix(name, ".ndjson"):
		return "jsonl"
	}
	return "lines"
}

// saveReport writes a report for later, or for somebody else.
func saveReport(path string, r client.Report) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	to := &app{out: file, format: "csv"}
	if strings.HasSuffix(path, ".json") {
		to.format = "json"
	}
	return errors.Join(to.show(reportView(r)), file.Close())
}

// progress counts what is read from r on standard error, where that is a terminal.
func (a *app) progress(r io.Reader, what string) (io.Reader, func()) {
	file, ok := a.err.(*os.File)
	if !ok || (&app{out: file}).width() == 0 {
		return r, func() {}
	}
	p := &progress{r: r, w: a.err, what: what}
	return p, func() { fmt.Fprint(a.err, "\r\033[K") }
}

type progress struct {
	r    io.Reader
	w    io.Writer
	what string
	n    int64
	said time.Time
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	p.n += int64(n)
	if time.Since(p.said) > 100*time.Millisecond {
		p.said = time.Now()
		fmt.Fprintf(p.w, "\r%.1f MB %s", float64(p.n)/1e6, p.what)
	}
	return n, err
}

// report shows what became of the lines of an import, and ends with "no" where some were refused.
func (a *app) report(r client.Report, all bool) error {
	v := reportView(r)
	if a.format != "table" {
		if err := a.show(v); err != nil {
			return err
		}
	} else {
		a.reportLines(r, all)
	}
	if r.Refused > 0 {
		return errNo
	}
	return nil
}

func reportView(r client.Report) view {
	v := view{data: r, columns: []string{"Line", "Column", "Outcome", "Text", "Entries", "Remark"}}
	for _, l := range r.RefusedLines {
		v.rows = append(v.rows, []string{fmt.Sprint(l.Line), fmt.Sprint(l.Column), "refused", l.Text, "", l.Message})
	}
	for _, l := range r.ChangedLines {
		v.rows = append(v.rows, []string{fmt.Sprint(l.Line), "", "changed", l.Text, strings.Join(l.Entries, " | "), strings.Join(l.Changes, "; ")})
	}
	return v
}

func (a *app) reportLines(r client.Report, all bool) {
	w := a.out
	most := 20
	if all {
		most = len(r.RefusedLines) + len(r.ChangedLines)
	}
	if r.Changed > 0 {
		fmt.Fprintf(w, "Changed (%s)\n", grouped(r.Changed))
		for _, l := range r.ChangedLines[:min(most, len(r.ChangedLines))] {
			fmt.Fprintf(w, "  line %d: %s\n    ⇒ %s\n%s\n", l.Line, strings.TrimSpace(l.Text), strings.Join(l.Entries, "\n    ⇒ "), a.wrapped(strings.Join(l.Changes, "; "), 6))
		}
		more(w, int64(most), r.Changed)
	}
	if r.Refused > 0 {
		fmt.Fprintf(w, "Refused (%s)\n", grouped(r.Refused))
		for _, l := range r.RefusedLines[:min(most, len(r.RefusedLines))] {
			fmt.Fprintf(w, "  line %d, column %d: %s\n%s\n", l.Line, l.Column, l.Text, a.wrapped(l.Message, 4))
		}
		more(w, int64(most), r.Refused)
	}
	fmt.Fprintf(w, "%s: %s good, %s changed, %s refused, %s, %s blank.\n", plural(r.Lines, "line", "lines"),
		grouped(r.Good), grouped(r.Changed), grouped(r.Refused), plural(r.Notes, "note", "notes"), grouped(r.Blank))
	fmt.Fprintf(w, "%s added, %s updated, %s there already", plural(r.Added, "entry", "entries"), grouped(r.Updated), grouped(r.Same))
	if r.Removed > 0 {
		fmt.Fprintf(w, ", %s taken out", grouped(r.Removed))
	}
	if r.Preview {
		fmt.Fprintln(w, ".\nNothing was kept: this was a preview.")
		return
	}
	fmt.Fprintf(w, ". The list has %s.\n", plural(r.List.EntryCount, "entry", "entries"))
}

func more(w io.Writer, shown, of int64) {
	if of > shown {
		fmt.Fprintf(w, "  … and %s more; --all shows them, --report FILE keeps them\n", grouped(of-shown))
	}
}

func (a *app) listExportCommand() *cobra.Command {
	var format, packing string
	cmd := &cobra.Command{
		Use: "export NAME [FILE]", Short: "Write a list as a file (or to standard output)",
		Example: `  widelark list export Betting betting.txt
  widelark list export Betting betting.csv.gz
  widelark list export Betting --format domains | sort`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return nil
			}
			return exactly("NAME")(cmd, args)
		},
		RunE: a.withList(func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			name := append(rest, "")[0]
			if format == "" {
				format = formatOf(name)
			}
			if packing == "" {
				packing = map[bool]string{strings.HasSuffix(name, ".gz"): "gzip", strings.HasSuffix(name, ".zst"): "zstd"}[true]
			}
			written, packed := client.ExportEntriesParamsFormat(format), client.ExportEntriesParamsPacking(packing)
			res, err := api.ExportEntries(cmd.Context(), l.ID, &client.ExportEntriesParams{Format: &written, Packing: &packed})
			if err != nil {
				return err
			}
			defer res.Body.Close()
			if name == "" {
				_, err = io.Copy(a.out, res.Body)
			} else {
				body, done := a.progress(res.Body, "received")
				err = save(name, body)
				done()
			}
			if err != nil {
				return fmt.Errorf("the export broke off; what was written is not the whole list: %w", err)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&format, "format", "", "lines, domains, hosts, csv or jsonl; without it, told by the file's name")
	cmd.Flags().StringVar(&packing, "packing", "", "gzip or zstd; without it, told by the file's name")
	return cmd
}

// save writes all that r has to a file.
func save(path string, r io.Reader) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, r)
	return errors.Join(err, file.Close())
}

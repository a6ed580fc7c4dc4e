// Package list implements the commands about lists, their entries and sources.
//
// From: arguments.
// To: the API, by package client.
package list

import (
	"context"
	"errors"
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
	cmd := command.Noun("list", "Lists of URLs and their entries",
		lsCommand(a), showCommand(a), newCommand(a), editCommand(a), deleteCommand(a),
		findCommand(a), addCommand(a), removeCommand(a), setCommand(a), copyCommand(a, false), copyCommand(a, true),
		importCommand(a), exportCommand(a), historyCommand(a), compareCommand(a), takeBackCommand(a), undoCommand(a),
		tidyCommand(a), unmetCommand(a), companionsCommand(a), sourceCommand(a))
	cmd.Example = `  widelark list new "Supplier portals" --describe "Where Purchasing orders"
  widelark list add "Supplier portals" ferrow-instruments.example '*.tarn-textiles.test'
  widelark list import "Supplier portals" portals.txt`
	return cmd
}

func lsCommand(a *command.App) *cobra.Command {
	var hits *bool
	cmd := &cobra.Command{
		Use: "ls", Short: "All lists", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
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
			v := command.View{Data: lists, Columns: []string{"Name", "Entries", "Used by", "Owner", "Changed", "By"}, Numbers: []int{1}, Empty: "There are no lists yet. Make one with `widelark list new NAME`."}
			var keys []string
			for _, l := range lists {
				used := strings.Join(l.UsedBy, ", ")
				if used == "" && a.Format == "table" {
					used = "nothing"
				}
				v.Rows = append(v.Rows, []string{l.Name, command.Grouped(l.EntryCount), used, l.Owner, a.Moment(l.UpdatedAt), l.UpdatedBy})
				keys = append(keys, l.ID.String())
			}
			if *hits {
				if err := a.AddHits(cmd.Context(), api, &v, client.GetUsageParamsKindList, "", keys); err != nil {
					return err
				}
			}
			return a.Show(v)
		}),
	}
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

func showCommand(a *command.App) *cobra.Command {
	var limit int64
	var after, contains string
	var hits *bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "A list and its entries, page by page", Args: command.Exactly("NAME"),
		Example: `  widelark list show Betting
  widelark list show "Suspect sites" --limit 20 --contains harbour
  widelark list show Betting -o csv`,
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			page, err := api.GetEntriesWithResponse(cmd.Context(), l.ID, &client.GetEntriesParams{Limit: &limit, After: &after, Text: &contains})
			if err != nil {
				return err
			}
			v := command.View{
				Data: struct {
					List    client.List    `json:"list"`
					Entries []client.Entry `json:"entries"`
					Total   int64          `json:"total"`
					Next    *string        `json:"next,omitempty"`
				}{l, page.JSON200.Entries, page.JSON200.Total, page.JSON200.Next},
				Columns: []string{"Entry", "Kind", "Covers", "Added by"},
				Empty:   "The list has no such entries.",
			}
			var keys []string
			for _, e := range page.JSON200.Entries {
				v.Rows = append(v.Rows, []string{e.Text, string(e.Kind), e.Explain, e.AddedBy})
				if e.CarveOut || e.Kind == client.EntryKindNote {
					e.Pattern = ""
				}
				keys = append(keys, e.Pattern)
			}
			if *hits {
				if err := a.AddHits(cmd.Context(), api, &v, client.GetUsageParamsKindEntry, l.ID.String(), keys); err != nil {
					return err
				}
			}
			v.Foot = fmt.Sprintf("\n%s of %s.", command.Plural(int64(len(v.Rows)), "line", "lines"), command.Grouped(page.JSON200.Total))
			if next := page.JSON200.Next; next != nil {
				v.Foot += fmt.Sprintf(" More: widelark list show %q --after %s --limit %d", l.Name, *next, limit)
				if contains != "" {
					v.Foot += fmt.Sprintf(" --contains %q", contains)
				}
			}
			if a.Format == "table" {
				fmt.Fprintf(a.Out, "%s · %s\n", l.Name, command.Plural(l.EntryCount, "entry", "entries"))
				if l.Description != "" {
					fmt.Fprintln(a.Out, l.Description)
				}
				if l.Owner != "" {
					fmt.Fprintf(a.Out, "Owner: %s\n", l.Owner)
				}
				fmt.Fprintln(a.Out)
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many lines, at most 2000")
	cmd.Flags().StringVar(&after, "after", "", "the place that the page before named")
	cmd.Flags().StringVar(&contains, "contains", "", "only entries whose pattern or note holds this text")
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

func findCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "find TEXT", Short: "Entries of all lists that mention a text, or cover a URL",
		Long: "Find entries in all lists at once: those whose pattern or note holds the text and, with --covers, those that cover it as a URL, " +
			"whether a rule names their list or not.",
		Example: `  widelark list find lantern
  widelark list find "asked for by Theatre"
  widelark list find --covers www.oddsfield.example/today`,
		Args: command.Exactly("TEXT"),
	}
	covers := cmd.Flags().Bool("covers", false, "take the text for a URL, and find what covers it")
	cmd.Flags().Int64Var(&limit, "limit", 200, "how many entries, at most 2000")
	cmd.RunE = a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		if *covers {
			return findCovering(cmd.Context(), a, api, args[0])
		}
		found, err := api.FindEntriesWithResponse(cmd.Context(), &client.FindEntriesParams{Text: args[0], Limit: &limit})
		if err != nil {
			return err
		}
		v := command.View{Data: found.JSON200.Entries, Columns: []string{"List", "Entry", "Kind", "Covers"}, Empty: "No entry mentions that."}
		for _, e := range found.JSON200.Entries {
			v.Rows = append(v.Rows, []string{e.List.Name, e.Text, string(e.Kind), e.Explain})
		}
		v.Foot = fmt.Sprintf("\n%s.", command.Plural(int64(len(v.Rows)), "entry", "entries"))
		if found.JSON200.Next != nil {
			v.Foot = fmt.Sprintf("\nThe first %s; --limit shows more.", command.Plural(int64(len(v.Rows)), "entry", "entries"))
		}
		return a.Show(v)
	})
	return a.Reads(cmd)
}

// findCovering prints the lists that cover a URL, by a trial.
func findCovering(ctx context.Context, a *command.App, api *client.ClientWithResponses, url string) error {
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
	v := command.View{Data: matches, Columns: []string{"List", "In it", "Entry", "Covers"}, Empty: "No entry covers that."}
	for _, m := range matches {
		isIn := map[client.MatchIn]string{client.MatchInYes: "yes", client.MatchInNo: "carved out"}[m.In]
		for _, e := range append(m.Entries, m.CarveOuts...) {
			v.Rows = append(v.Rows, []string{m.List.Name, isIn, e.Text, e.Explain})
		}
	}
	return a.Show(v)
}

func newCommand(a *command.App) *cobra.Command {
	var description, owner, colour string
	var forStints bool
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a list", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ink := client.NewListInputBodyColour(colour)
			made, err := api.CreateListWithResponse(cmd.Context(), client.NewListInputBody{Name: args[0], Description: &description, Owner: &owner, Colour: &ink, ForStints: &forStints})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Made the list %q.\n", made.JSON201.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&description, "describe", "", "what the list is for")
	cmd.Flags().StringVar(&owner, "owner", "", "who answers for it")
	cmd.Flags().StringVar(&colour, "colour", "", colours)
	cmd.Flags().BoolVar(&forStints, "for-stints", false, "leads may put their groups on it")
	return cmd
}

const colours = "reed, heather, rust, slate, gorse, sky, plum or sand"

func editCommand(a *command.App) *cobra.Command {
	var name, description, owner, colour string
	var forStints bool
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename, describe or mark a list", Args: command.Exactly("NAME"),
		Example: `  widelark list edit Betting --name "Betting and lotteries"
  widelark list edit Betting --owner "Safeguarding team" --colour rust
  widelark list edit "Trainees' reading list" --for-stints`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var edit client.EditListInputBody
			ink := client.EditListInputBodyColour(colour)
			for flag, set := range map[string]func(){
				"name": func() { edit.Name = &name }, "describe": func() { edit.Description = &description },
				"owner": func() { edit.Owner = &owner }, "colour": func() { edit.Colour = &ink },
				"for-stints": func() { edit.ForStints = &forStints },
			} {
				if cmd.Flags().Changed(flag) {
					set()
				}
			}
			if edit == (client.EditListInputBody{}) {
				return command.Usagef("nothing to change: give --name, --describe, --owner, --colour or --for-stints")
			}
			return object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, _ []string) error {
				edited, err := api.EditListWithResponse(cmd.Context(), l.ID, &client.EditListParams{IfMatch: command.Match(l.Version)}, edit)
				if err == nil {
					fmt.Fprintf(a.Out, "Changed the list %q.\n", edited.JSON200.Name)
				}
				return err
			})(cmd, args)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&description, "describe", "", "what the list is for")
	cmd.Flags().StringVar(&owner, "owner", "", "who answers for it; empty removes it")
	cmd.Flags().StringVar(&colour, "colour", "", colours+"; empty removes it")
	cmd.Flags().BoolVar(&forStints, "for-stints", false, "leads may put their groups on it; --for-stints=false: no longer")
	return cmd
}

func deleteCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "delete NAME", Short: "Delete a list with all its entries, where no rule names it", Args: command.Exactly("NAME"),
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			if _, err := api.DeleteListWithResponse(cmd.Context(), l.ID, &client.DeleteListParams{IfMatch: command.Match(l.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Deleted the list %q with %s.\n", l.Name, command.Plural(l.EntryCount, "entry", "entries"))
			return nil
		}),
	}
}

func addCommand(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "add NAME ENTRY...", Short: "Add entries, written in the notation", Args: command.AtLeast("NAME", "ENTRY"),
		Long: "Add entries to a list. Each argument is one line of the notation, exactly as written; `list import` is for what has to be tidied first. " +
			"Bad ones are reported and do not stop the others; the exit code is 1 then.",
		Example: `  widelark list add Betting oddsfield.example '*.oddsfield.test'
  widelark list add Betting '! help.oddsfield.example # advice for gamblers'
  widelark list add Betting 'derby-day.example [until 2026-12-24]'`,
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			added, err := api.AddEntriesWithResponse(cmd.Context(), l.ID, nil, client.AddEntriesInputBody{Lines: rest})
			if err != nil {
				return err
			}
			return showReport(a, *added.JSON200, false)
		}),
	}
	return a.Reads(cmd)
}

// importFlags holds the flags that say how a file is read and what is reported.
type importFlags struct {
	exact, preview, replace, all                      bool
	format, column, noteColumn, untilColumn, reportTo string
}

func (f *importFlags) register(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.exact, "exact", false, "take the notation only; change nothing")
	cmd.Flags().BoolVar(&f.preview, "preview", false, "only say what would become of each line")
	cmd.Flags().BoolVar(&f.replace, "replace", false, "take out the entries that are not in the file")
	cmd.Flags().BoolVar(&f.all, "all", false, "show every reported line, not only the first 20 of a kind")
	cmd.Flags().StringVar(&f.format, "format", "", "lines, domains, hosts, csv, jsonl or zone (a response policy zone); without it, chosen by the file's name. Packed with gzip or zstd as they may be")
	cmd.Flags().StringVar(&f.column, "column", "", "csv, jsonl: the column with the entries, by name or number")
	cmd.Flags().StringVar(&f.noteColumn, "note-column", "", "csv, jsonl: the column with the notes")
	cmd.Flags().StringVar(&f.untilColumn, "until-column", "", "csv, jsonl: the column with the last days")
	cmd.Flags().StringVar(&f.reportTo, "report", "", "write what became of every changed and refused line to this file, as CSV, or JSON where it ends so")
}

// params returns the parameters of the request for a file with this name.
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

func importCommand(a *command.App) *cobra.Command {
	var f importFlags
	cmd := &cobra.Command{
		Use: "import NAME [FILE]", Short: "Add a file (or standard input) to a list",
		Long: "Add a file to a list, in one transaction. What people keep and paste (addresses from a browser, hosts-file lines, defanged text) is turned " +
			"into the entry meant, and the report says how. Bad lines are reported with line and column and do not stop the others; the exit code is 1 then.",
		Example: `  widelark list import Betting betting.txt
  widelark list import Betting --preview < betting.txt
  widelark list import "Suspect sites" this-month.txt --replace --preview
  widelark list import Betting asked-for.csv --column site --note-column reason
  widelark list import Betting betting.txt.gz --report report.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return nil
			}
			return command.Exactly("NAME", "FILE")(cmd, args)
		},
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
			file, err := a.Open(append(rest, "-")[0])
			if err != nil {
				return err
			}
			defer file.Close()
			body, done := a.Progress(file, "sent")
			report, err := api.ImportEntriesWithBodyWithResponse(cmd.Context(), l.ID, f.params(append(rest, "")[0]), "application/octet-stream", body)
			done()
			if err != nil {
				return err
			}
			if f.reportTo != "" {
				if err := saveReport(f.reportTo, *report.JSON200); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "The report is in %s.\n", f.reportTo)
			}
			return showReport(a, *report.JSON200, f.all)
		}),
	}
	f.register(cmd)
	return a.Reads(cmd)
}

// formatOf returns the format of a file by its name. It ignores an extension of compression.
func formatOf(name string) string {
	name = strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(name), ".gz"), ".zst")
	switch {
	case strings.HasSuffix(name, ".csv"):
		return "csv"
	case strings.HasSuffix(name, ".jsonl"), strings.HasSuffix(name, ".ndjson"):
		return "jsonl"
	case strings.HasSuffix(name, ".rpz"), strings.HasSuffix(name, ".zone"):
		return "zone"
	}
	return "lines"
}

// saveReport writes a report to a file.
func saveReport(path string, r client.Report) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	to := &command.App{Out: file, Format: "csv"}
	if strings.HasSuffix(path, ".json") {
		to.Format = "json"
	}
	return errors.Join(to.Show(reportView(r)), file.Close())
}

// showReport prints the outcomes of the lines of an import. It returns [command.ErrNo] if some were refused.
func showReport(a *command.App, r client.Report, all bool) error {
	v := reportView(r)
	if a.Format != "table" {
		if err := a.Show(v); err != nil {
			return err
		}
	} else {
		reportLines(a, r, all)
	}
	if r.Refused > 0 {
		return command.ErrNo
	}
	return nil
}

func reportView(r client.Report) command.View {
	v := command.View{Data: r, Columns: []string{"Line", "Column", "Outcome", "Text", "Entries", "Remark"}}
	for _, l := range r.RefusedLines {
		v.Rows = append(v.Rows, []string{fmt.Sprint(l.Line), fmt.Sprint(l.Column), "refused", l.Text, "", l.Message})
	}
	for _, l := range r.ChangedLines {
		v.Rows = append(v.Rows, []string{fmt.Sprint(l.Line), "", "changed", l.Text, strings.Join(l.Entries, " | "), strings.Join(l.Changes, "; ")})
	}
	return v
}

func reportLines(a *command.App, r client.Report, all bool) {
	w := a.Out
	most := 20
	if all {
		most = len(r.RefusedLines) + len(r.ChangedLines)
	}
	if r.Changed > 0 {
		fmt.Fprintf(w, "Changed (%s)\n", command.Grouped(r.Changed))
		for _, l := range r.ChangedLines[:min(most, len(r.ChangedLines))] {
			fmt.Fprintf(w, "  line %d: %s\n    ⇒ %s\n%s\n", l.Line, strings.TrimSpace(l.Text), strings.Join(l.Entries, "\n    ⇒ "), a.Wrapped(strings.Join(l.Changes, "; "), 6))
		}
		more(w, int64(most), r.Changed)
	}
	if r.Refused > 0 {
		fmt.Fprintf(w, "Refused (%s)\n", command.Grouped(r.Refused))
		for _, l := range r.RefusedLines[:min(most, len(r.RefusedLines))] {
			fmt.Fprintf(w, "  line %d, column %d: %s\n%s\n", l.Line, l.Column, l.Text, a.Wrapped(l.Message, 4))
		}
		more(w, int64(most), r.Refused)
	}
	fmt.Fprintf(w, "%s: %s good, %s changed, %s refused, %s, %s blank.\n", command.Plural(r.Lines, "line", "lines"),
		command.Grouped(r.Good), command.Grouped(r.Changed), command.Grouped(r.Refused), command.Plural(r.Notes, "note", "notes"), command.Grouped(r.Blank))
	fmt.Fprintf(w, "%s added, %s updated, %s there already", command.Plural(r.Added, "entry", "entries"), command.Grouped(r.Updated), command.Grouped(r.Same))
	if r.Removed > 0 {
		fmt.Fprintf(w, ", %s taken out", command.Grouped(r.Removed))
	}
	if r.Preview {
		fmt.Fprintln(w, ".\nNothing was kept: this was a preview.")
		return
	}
	fmt.Fprintf(w, ". The list has %s.\n", command.Plural(r.List.EntryCount, "entry", "entries"))
}

func more(w io.Writer, shown, of int64) {
	if of > shown {
		fmt.Fprintf(w, "  … and %s more; --all shows them, --report FILE keeps them\n", command.Grouped(of-shown))
	}
}

func exportCommand(a *command.App) *cobra.Command {
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
			return command.Exactly("NAME")(cmd, args)
		},
		RunE: object.WithList(a, func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error {
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
				_, err = io.Copy(a.Out, res.Body)
			} else {
				body, done := a.Progress(res.Body, "received")
				err = command.Save(name, body)
				done()
			}
			if err != nil {
				return fmt.Errorf("the export broke off; what was written is not the whole list: %w", err)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&format, "format", "", "lines, domains, hosts, csv or jsonl; without it, chosen by the file's name")
	cmd.Flags().StringVar(&packing, "packing", "", "gzip or zstd; without it, chosen by the file's name")
	return cmd
}

// Package journal has the commands for what was recorded: search, tail, top, over, show and export.
//
// From: arguments, and the API.
// To: tables, lines and files.
package journal

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// language is the end of the help of commands that take a query.
const language = `
Terms side by side must all hold; "or" binds weaker; - before a term takes it back; parentheses group. A term is a text, looked for in URLs and in the names of
people and machines, or a field with values:

  verdict:block,hold  person:"Kay Moran"  group:"Ward nurses"  site:heron.example  category:betting
  address:10.40.0.0/16  status:400..499  size:>10MB  duration:>2s  covers:"*.heron.example/films"
  since:2h  since:yesterday  until:14:00  in:"Meal breaks"  outside:"Office hours"  decided:no

A query that does not say since when looks at the last day. All of it stands in docs/guide/journal.md.`

// Command returns the noun `journal`.
func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("journal", "What gates decided: search it, watch it, count it", searchCommand(a), tailCommand(a), topCommand(a), overCommand(a), showCommand(a), exportCommand(a), keptCommand(a), keepCommand(a), forgetCommand(a))
	cmd.Example = `  widelark journal search 'verdict:block group:"Ward nurses" since:2h'
  widelark journal top host 'verdict:block since:7d'
  widelark journal tail person:kay.moran`
	return cmd
}

func queryOf(args []string) *string { return command.Optional[string](strings.Join(args, " ")) }

func searchCommand(a *command.App) *cobra.Command {
	var limit int64
	var before, called string
	var chosen []string
	cmd := a.Reads(&cobra.Command{
		Use: "search [QUERY]", Short: "Recorded requests that a query selects, the last one first", Args: cobra.ArbitraryArgs,
		Long: "Recorded requests that a query selects, the last one first.\n" + language,
		Example: `  widelark journal search 'verdict:block site:heron.example since:3d'
  widelark journal search 'dosage or formulary -decided:no' --limit 10 -o json`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if err := checkColumns(chosen); err != nil {
				return err
			}
			if called != "" {
				s, err := kept(cmd, api, called)
				if err != nil {
					return err
				}
				args = append(args, s.Query)
				for _, c := range command.Deref(s.Columns) {
					if !cmd.Flags().Changed("columns") {
						chosen = append(chosen, string(c))
					}
				}
			}
			answer, err := api.SearchJournalWithResponse(cmd.Context(), &client.SearchJournalParams{Q: queryOf(args), Limit: &limit, Before: command.Optional[string](before)})
			if err != nil {
				return explained(err, strings.Join(args, " "))
			}
			found := answer.JSON200
			v := recordsView(a, found.Records, chosen)
			v.Empty = "No recorded request is like that" + since(a, found.Recent, found.From) + "."
			v.Foot = foot(a, found)
			return a.Show(v)
		}),
	})
	cmd.Flags().Int64Var(&limit, "limit", 30, "how many, at most 1000")
	cmd.Flags().StringVar(&called, "kept", "", "a search that is kept, by its name; a query beside it narrows it")
	cmd.Flags().StringSliceVar(&chosen, "columns", nil, "what is shown of each record, with commas between, as time,who,host,size")
	cmd.Flags().StringVar(&before, "before", "", "go on where a search ended: what it said")
	return cmd
}

// since says what a search looked at if its query does not.
func since(a *command.App, recent bool, from time.Time) string {
	if !recent {
		return ""
	}
	return " since " + a.Moment(from) + ", as the query does not say since when"
}

func foot(a *command.App, found *client.JournalOutputBody) string {
	var parts []string
	if found.Recent {
		parts = append(parts, "Looked at what was recorded"+since(a, true, found.From)+".")
	}
	if next := command.Deref(found.Next); next != "" {
		said := "There are more"
		if len(found.Records) == 0 || found.Records[len(found.Records)-1].At.After(found.Reached) {
			said = "Looked back until " + a.Moment(found.Reached)
		}
		parts = append(parts, fmt.Sprintf("%s: go on with --before %s", said, next))
	}
	if n := command.Deref(found.Broken); n > 0 {
		parts = append(parts, fmt.Sprintf("%s of the journal left out: they cannot be read.", command.Plural(n, "part is", "parts are")))
	}
	return strings.Join(parts, " ")
}

// explained shows where a query is wrong, and how it was probably meant.
func explained(err error, text string) error {
	var problem *client.Problem
	if !errors.As(err, &problem) || len(problem.Fields) == 0 || problem.Fields[0].Column == 0 {
		return err
	}
	field := problem.Fields[0]
	said := fmt.Sprintf("the query cannot be read: %s\n  %s\n  %s^", field.Message, text, strings.Repeat(" ", field.Column-1))
	if field.Fix != "" {
		said += "\nperhaps this is meant:\n  " + field.Fix
	}
	return errors.New(said)
}

func topCommand(a *command.App) *cobra.Command {
	var limit int64
	var order string
	cmd := a.Reads(&cobra.Command{
		Use: "top FIELD [QUERY]", Short: "The values of a field in what a query selects, the most frequent first", Args: command.AtLeast("FIELD"),
		Long: "The values of a field in what a query selects, the most frequent first: verdict, gate, sight, category, family, group, person, machine, network, address, host, method, rung,\npolicy, rule, exception, list, entry, note, trait, words, status, type, agent, referrer, revision or outcome.\n" + language,
		Example: `  widelark journal top host 'verdict:block since:7d'
  widelark journal top person 'category:betting' --order block`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			o := client.SummarizeJournalParamsOrder(order)
			answer, err := api.SummarizeJournalWithResponse(cmd.Context(), &client.SummarizeJournalParams{Q: queryOf(args[1:]), By: &[]string{args[0]}, Top: &limit, Order: &o})
			if err != nil {
				return explained(err, strings.Join(args[1:], " "))
			}
			facet := answer.JSON200.Facets[0]
			v := command.View{
				Data: facet, Columns: append([]string{strings.ToUpper(args[0][:1]) + args[0][1:]}, countColumns...), Numbers: []int{1, 2, 3, 4, 5, 6},
				Empty: "No recorded request is like that" + since(a, answer.JSON200.Recent, answer.JSON200.From) + ".",
			}
			for _, c := range facet.Values {
				v.Rows = append(v.Rows, append([]string{cmp.Or(c.Value, "(none)")}, counts(c.All, c.Allow, c.Watch, c.Hold, c.Block, c.Bytes)...))
			}
			if facet.Others > 0 {
				v.Foot = fmt.Sprintf("And %s more.", command.Plural(facet.Others, "value", "values"))
			}
			return a.Show(v)
		}),
	})
	cmd.Flags().Int64Var(&limit, "limit", 20, "how many, at most 1000")
	cmd.Flags().StringVar(&order, "order", "all", "by what: all, block, hold, watch, allow or bytes")
	return cmd
}

var countColumns = []string{"Requests", "Allow", "Watch", "Hold", "Block", "Bytes"}

func counts(n ...int64) []string {
	cells := make([]string, len(n))
	for i, one := range n {
		cells[i] = command.Grouped(one)
	}
	return cells
}

func overCommand(a *command.App) *cobra.Command {
	var by string
	cmd := a.Reads(&cobra.Command{
		Use: "over [QUERY]", Short: "What a query selects, over time", Args: cobra.ArbitraryArgs,
		Long: "What a query selects, over time, by spans that suit it, or as --by says.\n" + language,
		Example: `  widelark journal over 'verdict:block since:7d' --by day
  widelark journal over site:gull-films7.example since:3d`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			over, none := client.SummarizeJournalParamsOver(by), []string{}
			answer, err := api.SummarizeJournalWithResponse(cmd.Context(), &client.SummarizeJournalParams{Q: queryOf(args), By: &none, Over: &over})
			if err != nil {
				return explained(err, strings.Join(args, " "))
			}
			v := command.View{Data: answer.JSON200.Over, Columns: append([]string{"From"}, append(countColumns, "")...), Numbers: []int{1, 2, 3, 4, 5, 6}}
			most := int64(1)
			for _, m := range answer.JSON200.Over {
				most = max(most, m.All)
			}
			const wide = 24
			for _, m := range answer.JSON200.Over {
				bar := ""
				if a.Format == "table" {
					bar = strings.Repeat("█", int(m.All*wide/most))
				}
				v.Rows = append(v.Rows, append(append([]string{a.Moment(m.At)}, counts(m.All, m.Allow, m.Watch, m.Hold, m.Block, m.Bytes)...), bar))
			}
			t := answer.JSON200.Total
			v.Foot = fmt.Sprintf("%s in all%s.", command.Plural(t.All, "request", "requests"), since(a, answer.JSON200.Recent, answer.JSON200.From))
			return a.Show(v)
		}),
	})
	cmd.Flags().StringVar(&by, "by", "auto", "minute, hour, day, week or auto")
	return cmd
}

func showCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show ID", Short: "Everything that one record says, why it was decided so, and what it would get now", Args: command.Exactly("ID"),
		Example: "  widelark journal show 01a22b26-6cef-7e06-aa3e-b733f905232b",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := uuid.Parse(args[0])
			if err != nil {
				return command.Usagef("%q is not the id of a record; `widelark journal search` shows them", args[0])
			}
			answer, err := api.GetRecordWithResponse(cmd.Context(), id)
			if err != nil {
				return err
			}
			r := answer.JSON200
			if a.Format != "table" {
				return a.Show(command.View{Data: r, Columns: recordsView(a, nil, nil).Columns, Rows: [][]string{cellsOf(a, r, usual)}})
			}
			printRecord(a, r)
			why, err := api.WhyRecordedWithResponse(cmd.Context(), id)
			if err != nil {
				return err
			}
			printWhy(a, why.JSON200)
			return nil
		}),
	})
}

func printRecord(a *command.App, r *client.GateRecord) {
	fmt.Fprintf(a.Out, "%s %s\n\n", r.Method, r.URL)
	line := func(what, text string) {
		if text != "" {
			fmt.Fprintf(a.Out, "  %-12s%s\n", what, text)
		}
	}
	texts := func(all *[]string) string { return strings.Join(command.Deref(all), ", ") }
	line("verdict", a.Verdict(string(r.Verdict)))
	line("by", command.OrEmpty(r.By))
	line("entry", command.OrEmpty(r.Entry))
	line("list", command.OrEmpty(r.List))
	line("categories", texts(r.Categories))
	line("when", a.ByClock(r.At).Format("2006-01-02 15:04:05.000"))
	line("who", command.OrEmpty(r.Who))
	line("groups", texts(r.Groups))
	line("address", command.OrEmpty(r.Address))
	line("machine", command.OrEmpty(r.Machine))
	line("network", command.OrEmpty(r.Network))
	gate := string(r.Gate)
	if name := command.OrEmpty(r.GateName); name != "" {
		gate = name + " (" + gate + ")"
	}
	if r.Sight != nil {
		gate += ", saw the " + string(*r.Sight)
	}
	line("gate", gate)
	if r.Revision != nil {
		line("revision", fmt.Sprint(*r.Revision))
	}
	line("provisos", command.OrEmpty(r.Provisos))
	line("not held", command.OrEmpty(r.NotHeld))
	line("searched", command.OrEmpty(r.Words))
	line("outcome", outcomeOf(a, r))
	line("type", command.OrEmpty(r.Media))
	if size := command.Deref(r.Size); size > 0 {
		line("size", command.Grouped(size)+" bytes")
	}
	if millis := command.Deref(r.Millis); millis > 0 {
		line("took", (time.Duration(millis) * time.Millisecond).String())
	}
	line("program", command.OrEmpty(r.Agent))
	line("came from", command.OrEmpty(r.Referrer))
	line("reference", command.OrEmpty(r.Reference))
	line("detail", command.OrEmpty(r.Detail))
	line("id", columns["id"].cell(a, r))
	if r.Amount != nil && *r.Amount == "group" {
		fmt.Fprintln(a.Out, "\n  The policy keeps the host, the groups and the minute, and nothing else.")
	}
}

// printWhy says why a request was decided as it was, and what it would get now.
func printWhy(a *command.App, why *client.WhyOutputBody) {
	fmt.Fprintln(a.Out)
	line := func(what, verdict, because, more string) {
		fmt.Fprintf(a.Out, "  %-12s%s\n", what, a.Wrapped(strings.TrimSpace(a.Verdict(verdict)+"  "+because+" "+more), 14))
	}
	if lacks := command.Deref(why.Lacks); lacks != "" {
		fmt.Fprintf(a.Out, "  It cannot be decided again: %s.\n", lacks)
	}
	if t := why.Then; t != nil {
		more := ""
		if command.Deref(why.Other) {
			more = "(Made again, it comes to this; something that counted then is not known any more.)"
		}
		line("then", command.OrEmpty(t.Verdict), command.Deref(t.Because), more)
	}
	for _, again := range []struct {
		name string
		*client.Again
	}{{"now", why.Now}, {"the draft", why.Draft}} {
		t := again.Again
		if t == nil {
			continue
		}
		because := command.Deref(t.Because)
		if why.Then != nil && because == command.Deref(why.Then.Because) {
			because = "for the same reason"
		}
		line(again.name, command.OrEmpty(t.Verdict), because, command.Deref(t.Parting))
	}
}

func exportCommand(a *command.App) *cobra.Command {
	var form, to string
	cmd := &cobra.Command{
		Use: "export [QUERY]", Short: "Everything that a query selects, as CSV or JSON Lines", Args: cobra.ArbitraryArgs,
		Long:    "Everything that a query selects, as CSV, which is safe to open in a spreadsheet, or as JSON Lines.\n" + language,
		Example: "  widelark journal export 'verdict:block since:7d' --to blocked.csv",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			f := client.ExportJournalParamsForm(form)
			res, err := api.ExportJournal(cmd.Context(), &client.ExportJournalParams{Q: queryOf(args), Form: &f})
			if err != nil {
				return explained(err, strings.Join(args, " "))
			}
			defer res.Body.Close()
			if to == "" {
				_, err = io.Copy(a.Out, res.Body)
			} else {
				body, done := a.Progress(res.Body, "received")
				err = command.Save(to, body)
				done()
			}
			if err != nil {
				return fmt.Errorf("the export broke off; what was written is not all of it: %w", err)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&form, "form", "csv", "csv or jsonl")
	cmd.Flags().StringVar(&to, "to", "", "a file; left out, it is printed")
	return cmd
}

// Pauses of a tail whose connection is gone.
const reconnect = time.Second

func tailCommand(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "tail [QUERY]", Short: "Requests as they are recorded", Args: cobra.ArbitraryArgs,
		Long:    "Requests as they are recorded, a line each, until Ctrl-C. Where the connection is lost, it goes on without a gap.\n" + language,
		Example: "  widelark journal tail 'verdict:block,hold'",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			after := ""
			for {
				params := &client.TailJournalParams{Q: queryOf(args)}
				if after != "" {
					params.LastEventID = &after
				}
				res, err := api.TailJournal(cmd.Context(), params)
				if err == nil {
					_ = events(res, func(id string, data []byte) error {
						var records []client.GateRecord
						if err := json.Unmarshal(data, &records); err != nil {
							return err
						}
						after = id
						for i := range records {
							printLine(a, &records[i], asJSON)
						}
						return nil
					}) // where it broke off, it goes on from what was read
				} else if refused := new(client.Problem); after == "" || errors.As(err, &refused) && refused.Status < http.StatusInternalServerError { // it has never gone well, or will not again
					return explained(err, strings.Join(args, " "))
				}
				select {
				case <-cmd.Context().Done():
					return nil
				case <-time.After(reconnect):
				}
			}
		}),
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "each as JSON")
	return cmd
}

func printLine(a *command.App, r *client.GateRecord, asJSON bool) {
	if asJSON {
		_ = json.NewEncoder(a.Out).Encode(r)
		return
	}
	c := cellsOf(a, r, usual)
	fmt.Fprintf(a.Out, "%s  %s  %s  %s  %s\n", a.ByClock(r.At).Format("15:04:05"), c[1], cmp.Or(c[2], "-"), c[3], c[4])
}

// events reads server-sent events until the stream ends.
func events(res *http.Response, each func(id string, data []byte) error) error {
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	const most = 64 << 20
	lines.Buffer(nil, most)
	id := ""
	var data []byte
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			id = value
		case "data":
			data = append(data, value...)
		case "":
			if _, err := strconv.ParseInt(id, 10, 64); err == nil && len(data) > 0 {
				if err := each(id, data); err != nil {
					return err
				}
			}
			data = nil
		}
	}
	return lines.Err()
}

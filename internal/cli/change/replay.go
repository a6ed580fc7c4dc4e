package change

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// since reads how far back to look.
func since(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return &day, nil
	}
	d, err := command.Duration(text)
	if err != nil {
		return nil, err
	}
	at := time.Now().Add(-d)
	return &at, nil
}

func ReplayCommand(a *command.App) *cobra.Command {
	var from, to, back, host, person, by string
	var limit int64
	cmd := &cobra.Command{
		Use: "replay", Short: "Recorded requests, decided again under another state", Args: command.Exactly(),
		Long: "Decide recorded requests again, each at its own moment, under what is live and under the draft (or any two states), and say which " +
			"would have got another verdict: how many, of how many people, to which hosts, and what decides.",
		Example: `  widelark replay
  widelark replay --since 14d --host gull-video.example --limit 20
  widelark replay --from 3 --to live -o csv --limit 100000 > turned.csv`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			begin, err := since(back)
			if err != nil {
				return err
			}
			body := client.ReplayInputBody{From: command.Optional[string](from), To: command.Optional[string](to), Since: begin, Host: command.Optional[string](host), By: command.Optional[string](by), Limit: &limit}
			if person != "" {
				body.Who = &client.Who{Person: &person}
			}
			answer, err := api.ReplayWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			return showReplay(a, answer.JSON200, limit)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&from, "from", "", "draft, live or the number of a revision; left out, live")
	flags.StringVar(&to, "to", "", "the same; left out, the draft")
	flags.StringVar(&back, "since", "", "how far back: a day as 2026-11-09, or a length of time as 14d; left out, the last seven days recorded")
	flags.StringVar(&host, "host", "", "only requests to this host and below")
	flags.StringVar(&person, "as", "", "only requests of this person")
	flags.StringVar(&by, "by", "", "only what this decides then, as the table names it")
	flags.Int64Var(&limit, "limit", 0, "how many requests to show one by one")
	return a.Reads(cmd)
}

func turnedRows(a *command.App, records []client.ReplayRequest) command.View {
	v := command.View{Data: records, Columns: []string{"When", "Who", "From", "Method", "URL", "Before", "After", "Decides then"}}
	for _, r := range records {
		v.Rows = append(v.Rows, []string{a.Moment(r.At), command.OrEmpty(r.Person), command.OrEmpty(r.Address), r.Method, r.URL, a.VerdictCell(string(r.Before)), a.VerdictCell(string(r.After)), r.By})
	}
	return v
}

// showReplay prints the number of requests that turn and, one by one, the first of them.
func showReplay(a *command.App, r *client.ReplayOutputBody, limit int64) error {
	if a.Format == "csv" && limit > 0 {
		return a.Show(turnedRows(a, r.Records))
	}
	v := command.View{Data: r, Columns: []string{"Before", "After", "Decides then", "Decided before", "Requests", "People", "Hosts", "Most asked for"}, Numbers: []int{4, 5, 6}}
	for _, g := range r.Groups {
		hosts := []string{}
		for _, h := range g.Top[:min(3, len(g.Top))] {
			hosts = append(hosts, h.Host)
		}
		v.Rows = append(v.Rows, []string{a.VerdictCell(string(g.Before)), a.VerdictCell(string(g.After)), g.By, g.WasBy, command.Grouped(g.Requests), command.Grouped(g.People), command.Grouped(g.Hosts), strings.Join(hosts, ", ")})
	}
	if a.Format != "table" {
		return a.Show(v)
	}
	if r.Requests == 0 {
		fmt.Fprintln(a.Out, "No such requests were recorded.")
		return nil
	}
	fmt.Fprintf(a.Out, "%s of %s, %s to %s (%.1f s).\n", command.Plural(r.Requests, "request", "requests"), command.Plural(r.People, "person", "people"),
		a.ByClock(*r.Since).Format(command.Clock), a.ByClock(*r.Until).Format(command.Clock), float64(r.Micros)/1e6)
	if r.Turned == 0 {
		fmt.Fprintln(a.Out, "None of them would have gone otherwise.")
		return nil
	}
	fmt.Fprintf(a.Out, "%s of %s to %s would have gone otherwise: %s open, %s close.\n\n", command.Grouped(r.Turned), command.Plural(r.TurnedPeople, "person", "people"),
		command.Plural(r.TurnedHosts, "host", "hosts"), command.Grouped(r.Opened), command.Grouped(r.Closed))
	if err := a.Show(v); err != nil || len(r.Records) == 0 {
		return err
	}
	fmt.Fprintln(a.Out)
	return a.Show(turnedRows(a, r.Records))
}

func AffectedCommand(a *command.App) *cobra.Command {
	var categories, lists, entries []string
	var back string
	cmd := &cobra.Command{
		Use: "affected", Short: "Who would have been affected by blocking something, before any rule is written", Args: command.Exactly(),
		Example: `  widelark affected --category video --since 14d
  widelark affected --entry "*bet*"
  widelark affected --list "Suspect sites" -o csv`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			begin, err := since(back)
			if err != nil {
				return err
			}
			body := client.AffectedInputBody{Categories: &categories, Entries: &entries, Since: begin}
			ids := []string{}
			for _, name := range lists {
				l, err := object.FindList(cmd.Context(), api, name)
				if err != nil {
					return err
				}
				ids = append(ids, l.ID.String())
			}
			body.Lists = &ids
			answer, err := api.GetAffectedWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			return showAffected(a, answer.JSON200)
		}),
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&categories, "category", nil, "the key of a category or family; may be repeated")
	flags.StringSliceVar(&lists, "list", nil, "a list; may be repeated")
	flags.StringArrayVar(&entries, "entry", nil, "an entry in the notation; may be repeated")
	flags.StringVar(&back, "since", "", "how far back, as 14d; left out, the last seven days recorded")
	return a.Reads(cmd)
}

// showAffected prints who requested what would be blocked, and when.
func showAffected(a *command.App, r *client.AffectedOutputBody) error {
	v := command.View{Data: r, Columns: []string{"Group", "Requests", "People", "By the hour, 0 to 23"}, Numbers: []int{1, 2}}
	for _, g := range r.Groups {
		name := g.Name
		if name == "" {
			name = "(in no group)"
		}
		hours := bars(g.Hours)
		if a.Format == "csv" {
			hours = strings.Trim(fmt.Sprint(g.Hours), "[]")
		}
		v.Rows = append(v.Rows, []string{name, command.Grouped(g.Requests), command.Grouped(g.People), hours})
	}
	if a.Format != "table" {
		return a.Show(v)
	}
	fmt.Fprintf(a.Out, "%s were looked at; %s of %s to %s are of the kind, and %s of them pass today.\n\n", command.Plural(r.Looked, "recorded request", "recorded requests"), command.Grouped(r.Requests),
		command.Plural(r.People, "person", "people"), command.Plural(r.Hosts, "host", "hosts"), command.Grouped(r.Reached))
	if r.Requests == 0 {
		return nil
	}
	hosts := []string{}
	for _, h := range r.Top[:min(5, len(r.Top))] {
		hosts = append(hosts, fmt.Sprintf("%s (%s)", h.Host, command.Grouped(h.Requests)))
	}
	v.Foot = "\n" + a.Wrapped("Most asked for: "+strings.Join(hosts, ", ")+".", 0)
	return a.Show(v)
}

// bars draws numbers as block characters, in eighths of the largest.
func bars(numbers []int64) string {
	const steps = " ▁▂▃▄▅▆▇█"
	most := slices.Max(numbers)
	var b strings.Builder
	for _, n := range numbers {
		level := int64(0)
		if n > 0 {
			level = 1 + n*7/most
		}
		b.WriteRune([]rune(steps)[level])
	}
	return b.String()
}

// showTurns prints the URLs whose verdict turns between two states.
func showTurns(ctx context.Context, a *command.App, api *client.ClientWithResponses, from, to string) error {
	answer, err := api.GetTurnsWithResponse(ctx, &client.GetTurnsParams{From: &from, To: &to})
	if err != nil {
		return err
	}
	t := answer.JSON200
	v := command.View{Data: t, Columns: []string{"Before", "After", "Who", "When", "URLs", "As"}, Numbers: []int{4}}
	for _, one := range t.Turns {
		when := command.OrEmpty(one.Times)
		if when == "" {
			when = "always"
		}
		v.Rows = append(v.Rows, []string{a.VerdictCell(string(one.Before)), a.VerdictCell(string(one.After)), strings.Join(one.Who, ", "), when, command.Grouped(one.Count), strings.Join(one.Urls[:min(3, len(one.Urls))], " ")})
	}
	v.Empty = fmt.Sprintf("None of %s turns, for none of %s.", command.Plural(t.Looked, "URL that was tried", "URLs that were tried"), command.Plural(t.People, "group or person", "groups and people"))
	v.Foot = fmt.Sprintf("\n%s were tried for %s over a week.", command.Plural(t.Looked, "URL", "URLs"), command.Plural(t.People, "group or person", "groups and people"))
	return a.Show(v)
}

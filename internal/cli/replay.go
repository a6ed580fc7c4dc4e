package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
)

// since reads how far back to look.
func since(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return &day, nil
	}
	d, err := duration(text)
	if err != nil {
		return nil, err
	}
	at := time.Now().Add(-d)
	return &at, nil
}

func (a *app) replayCommand() *cobra.Command {
	var from, to, back, host, person, by string
	var limit int64
	cmd := &cobra.Command{
		Use: "replay", Short: "Recorded requests, decided again under another state", Args: exactly(),
		Long: "Decide recorded requests again, each at its own moment, under what is live and under the draft (or any two states), and say which " +
			"would have got another verdict: how many, of how many people, to which hosts, and what decides.",
		Example: `  widelark replay
  widelark replay --since 14d --host gull-video.example --limit 20
  widelark replay --from 3 --to live -o csv --limit 100000 > turned.csv`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			begin, err := since(back)
			if err != nil {
				return err
			}
			body := client.ReplayInputBody{From: optional[string](from), To: optional[string](to), Since: begin, Host: optional[string](host), By: optional[string](by), Limit: &limit}
			if person != "" {
				body.Who = &client.Who{Person: &person}
			}
			answer, err := api.ReplayWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			return a.showReplay(answer.JSON200, limit)
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
	return a.reads(cmd)
}

func (a *app) turnedRows(records []client.ReplayRequest) view {
	v := view{data: records, columns: []string{"When", "Who", "From", "Method", "URL", "Before", "After", "Decides then"}}
	for _, r := range records {
		v.rows = append(v.rows, []string{a.moment(r.At), orEmpty(r.Person), orEmpty(r.Address), r.Method, r.URL, a.verdictCell(string(r.Before)), a.verdictCell(string(r.After)), r.By})
	}
	return v
}

// showReplay tells which requests turn and, one by one, the first of them.
func (a *app) showReplay(r *client.ReplayOutputBody, limit int64) error {
	if a.format == "csv" && limit > 0 {
		return a.show(a.turnedRows(r.Records))
	}
	v := view{data: r, columns: []string{"Before", "After", "Decides then", "Decided before", "Requests", "People", "Hosts", "Most asked for"}, numbers: []int{4, 5, 6}}
	for _, g := range r.Groups {
		hosts := []string{}
		for _, h := range g.Top[:min(3, len(g.Top))] {
			hosts = append(hosts, h.Host)
		}
		v.rows = append(v.rows, []string{a.verdictCell(string(g.Before)), a.verdictCell(string(g.After)), g.By, g.WasBy, grouped(g.Requests), grouped(g.People), grouped(g.Hosts), strings.Join(hosts, ", ")})
	}
	if a.format != "table" {
		return a.show(v)
	}
	if r.Requests == 0 {
		fmt.Fprintln(a.out, "No such requests were recorded.")
		return nil
	}
	fmt.Fprintf(a.out, "%s of %s, %s to %s (%.1f s).\n", plural(r.Requests, "request", "requests"), plural(r.People, "person", "people"),
		a.byClock(*r.Since).Format(clock), a.byClock(*r.Until).Format(clock), float64(r.Micros)/1e6)
	if r.Turned == 0 {
		fmt.Fprintln(a.out, "None of them would have gone otherwise.")
		return nil
	}
	fmt.Fprintf(a.out, "%s of %s to %s would have gone otherwise: %s open, %s close.\n\n", grouped(r.Turned), plural(r.TurnedPeople, "person", "people"),
		plural(r.TurnedHosts, "host", "hosts"), grouped(r.Opened), grouped(r.Closed))
	if err := a.show(v); err != nil || len(r.Records) == 0 {
		return err
	}
	fmt.Fprintln(a.out)
	return a.show(a.turnedRows(r.Records))
}

func (a *app) affectedCommand() *cobra.Command {
	var categories, lists, entries []string
	var back string
	cmd := &cobra.Command{
		Use: "affected", Short: "Who would have been affected by blocking something, before any rule is written", Args: exactly(),
		Example: `  widelark affected --category video --since 14d
  widelark affected --entry "*bet*"
  widelark affected --list "Suspect sites" -o csv`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			begin, err := since(back)
			if err != nil {
				return err
			}
			body := client.AffectedInputBody{Categories: &categories, Entries: &entries, Since: begin}
			ids := []string{}
			for _, name := range lists {
				l, err := findList(cmd.Context(), api, name)
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
			return a.showAffected(answer.JSON200)
		}),
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&categories, "category", nil, "the key of a category or family; may be repeated")
	flags.StringSliceVar(&lists, "list", nil, "a list; may be repeated")
	flags.StringArrayVar(&entries, "entry", nil, "an entry in the notation; may be repeated")
	flags.StringVar(&back, "since", "", "how far back, as 14d; left out, the last seven days recorded")
	return a.reads(cmd)
}

// showAffected tells who asked for what would be blocked, and when.
func (a *app) showAffected(r *client.AffectedOutputBody) error {
	v := view{data: r, columns: []string{"Group", "Requests", "People", "By the hour, 0 to 23"}, numbers: []int{1, 2}}
	for _, g := range r.Groups {
		name := g.Name
		if name == "" {
			name = "(in no group)"
		}
		hours := bars(g.Hours)
		if a.format == "csv" {
			hours = strings.Trim(fmt.Sprint(g.Hours), "[]")
		}
		v.rows = append(v.rows, []string{name, grouped(g.Requests), grouped(g.People), hours})
	}
	if a.format != "table" {
		return a.show(v)
	}
	fmt.Fprintf(a.out, "%s were looked at; %s of %s to %s are of the kind, and %s of them pass today.\n\n", plural(r.Looked, "recorded request", "recorded requests"), grouped(r.Requests),
		plural(r.People, "person", "people"), plural(r.Hosts, "host", "hosts"), grouped(r.Reached))
	if r.Requests == 0 {
		return nil
	}
	hosts := []string{}
	for _, h := range r.Top[:min(5, len(r.Top))] {
		hosts = append(hosts, fmt.Sprintf("%s (%s)", h.Host, grouped(h.Requests)))
	}
	v.foot = "\n" + a.wrapped("Most asked for: "+strings.Join(hosts, ", ")+".", 0)
	return a.show(v)
}

// bars draws numbers as columns of eighths.
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

// showTurns says which URLs turn between two states.
func (a *app) showTurns(ctx context.Context, api *client.ClientWithResponses, from, to string) error {
	answer, err := api.GetTurnsWithResponse(ctx, &client.GetTurnsParams{From: &from, To: &to})
	if err != nil {
		return err
	}
	t := answer.JSON200
	v := view{data: t, columns: []string{"Before", "After", "Who", "When", "URLs", "As"}, numbers: []int{4}}
	for _, one := range t.Turns {
		when := orEmpty(one.Times)
		if when == "" {
			when = "always"
		}
		v.rows = append(v.rows, []string{a.verdictCell(string(one.Before)), a.verdictCell(string(one.After)), strings.Join(one.Who, ", "), when, grouped(one.Count), strings.Join(one.Urls[:min(3, len(one.Urls))], " ")})
	}
	v.empty = fmt.Sprintf("None of %s turns, for none of %s.", plural(t.Looked, "URL that was tried", "URLs that were tried"), plural(t.People, "group or person", "groups and people"))
	v.foot = fmt.Sprintf("\n%s were tried for %s over a week.", plural(t.Looked, "URL", "URLs"), plural(t.People, "group or person", "groups and people"))
	return a.show(v)
}

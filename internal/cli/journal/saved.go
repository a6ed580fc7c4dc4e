package journal

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// usual are the columns that are shown where none are chosen.
var usual = []string{"time", "verdict", "who", "request", "by", "outcome", "id"}

// column is what can be shown of a record.
type column struct {
	head string
	cell func(a *command.App, r *client.GateRecord) string
}

func of[T ~string](field func(*client.GateRecord) *T) func(*command.App, *client.GateRecord) string {
	return func(_ *command.App, r *client.GateRecord) string { return command.OrEmpty(field(r)) }
}

func number(field func(*client.GateRecord) *int64, said func(int64) string) func(*command.App, *client.GateRecord) string {
	return func(_ *command.App, r *client.GateRecord) string {
		if n := command.Deref(field(r)); n != 0 {
			return said(n)
		}
		return ""
	}
}

func several[T ~string](field func(*client.GateRecord) *[]T) func(*command.App, *client.GateRecord) string {
	return func(_ *command.App, r *client.GateRecord) string {
		var all []string
		for _, one := range command.Deref(field(r)) {
			all = append(all, string(one))
		}
		return strings.Join(all, ", ")
	}
}

var columns = map[string]column{
	"time": {"When", func(a *command.App, r *client.GateRecord) string {
		return a.ByClock(r.At).Format("2006-01-02 15:04:05")
	}},
	"verdict": {"Verdict", func(a *command.App, r *client.GateRecord) string { return a.VerdictCell(string(r.Verdict)) }},
	"who": {"Who", func(_ *command.App, r *client.GateRecord) string {
		return cmp.Or(command.OrEmpty(r.Who), command.OrEmpty(r.Address), strings.Join(command.Deref(r.Groups), ", "))
	}},
	"request": {"Request", func(_ *command.App, r *client.GateRecord) string {
		return strings.TrimPrefix(r.Method+" ", " ") + r.URL
	}},
	"by":      {"By", of(func(r *client.GateRecord) *string { return r.By })},
	"outcome": {"Outcome", outcomeOf},
	"id": {"Id", func(_ *command.App, r *client.GateRecord) string {
		if r.ID == nil {
			return ""
		}
		return r.ID.String()
	}},
	"person":     {"Person", of(func(r *client.GateRecord) *string { return r.Who })},
	"machine":    {"Machine", of(func(r *client.GateRecord) *string { return r.Machine })},
	"address":    {"Address", of(func(r *client.GateRecord) *string { return r.Address })},
	"network":    {"Network", of(func(r *client.GateRecord) *string { return r.Network })},
	"groups":     {"Groups", several(func(r *client.GateRecord) *[]string { return r.Groups })},
	"method":     {"Method", func(_ *command.App, r *client.GateRecord) string { return r.Method }},
	"host":       {"Host", func(_ *command.App, r *client.GateRecord) string { return hostOf(r.URL) }},
	"categories": {"Categories", several(func(r *client.GateRecord) *[]string { return r.Categories })},
	"rung":       {"Rung", of(func(r *client.GateRecord) *string { return r.Rung })},
	"policy":     {"Policy", of(func(r *client.GateRecord) *string { return r.Policy })},
	"list":       {"List", of(func(r *client.GateRecord) *string { return r.List })},
	"entry":      {"Entry", of(func(r *client.GateRecord) *string { return r.Entry })},
	"gate": {"Gate", func(_ *command.App, r *client.GateRecord) string {
		return cmp.Or(command.OrEmpty(r.GateName), string(r.Gate))
	}},
	"sight":    {"Sight", of(func(r *client.GateRecord) *client.GateRecordSight { return r.Sight })},
	"provisos": {"Provisos", of(func(r *client.GateRecord) *string { return r.Provisos })},
	"traits":   {"Traits", several(func(r *client.GateRecord) *[]string { return r.Traits })},
	"words":    {"Words", of(func(r *client.GateRecord) *string { return r.Words })},
	"status":   {"Status", number(func(r *client.GateRecord) *int64 { return r.Status }, func(n int64) string { return fmt.Sprint(n) })},
	"type":     {"Type", of(func(r *client.GateRecord) *string { return r.Media })},
	"size":     {"Size", number(func(r *client.GateRecord) *int64 { return r.Size }, command.Grouped)},
	"duration": {"Took", number(func(r *client.GateRecord) *int64 { return r.Millis }, func(n int64) string { return (time.Duration(n) * time.Millisecond).String() })},
	"referrer": {"Referrer", of(func(r *client.GateRecord) *string { return r.Referrer })},
	"agent":    {"Agent", of(func(r *client.GateRecord) *string { return r.Agent })},
	"revision": {"Revision", number(func(r *client.GateRecord) *int64 { return r.Revision }, func(n int64) string { return fmt.Sprint(n) })},
}

func outcomeOf(_ *command.App, r *client.GateRecord) string {
	outcome := command.OrEmpty(r.Outcome)
	if status := command.Deref(r.Status); status != 0 {
		outcome = strings.TrimSpace(fmt.Sprint(outcome, " ", status))
	}
	return outcome
}

// hostOf returns the host of a URL of a record, which is canonical.
func hostOf(url string) string {
	_, rest, _ := strings.Cut(url, "://")
	host, _, _ := strings.Cut(rest, "/")
	return host
}

// checkColumns refuses columns that there are not.
func checkColumns(chosen []string) error {
	for _, c := range chosen {
		if _, ok := columns[c]; !ok {
			var all []string
			for key := range columns {
				all = append(all, key)
			}
			slices.Sort(all)
			return command.Usagef("there is no column %q: there are %s", c, strings.Join(all, ", "))
		}
	}
	return nil
}

func recordsView(a *command.App, records []client.GateRecord, chosen []string) command.View {
	if len(chosen) == 0 {
		chosen = usual
	}
	v := command.View{Data: records}
	for _, c := range chosen {
		v.Columns = append(v.Columns, columns[c].head)
	}
	for i := range records {
		v.Rows = append(v.Rows, cellsOf(a, &records[i], chosen))
	}
	return v
}

func cellsOf(a *command.App, r *client.GateRecord, chosen []string) []string {
	cells := make([]string, len(chosen))
	for i, c := range chosen {
		cells[i] = columns[c].cell(a, r)
	}
	return cells
}

// kept finds a search that is kept.
func kept(cmd *cobra.Command, api *client.ClientWithResponses, name string) (client.SavedSearch, error) {
	all, err := api.GetSearchesWithResponse(cmd.Context())
	if err != nil {
		return client.SavedSearch{}, err
	}
	for _, s := range all.JSON200.Items {
		if strings.EqualFold(s.Name, name) {
			return s, nil
		}
	}
	return client.SavedSearch{}, fmt.Errorf("no search is kept as %q; `widelark journal kept` shows which are", name)
}

func keptCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "kept", Short: "Searches that are kept", Args: command.Exactly(), Example: "  widelark journal kept\n  widelark journal search --kept \"Blocked on the wards today\"",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetSearchesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Items, Columns: []string{"Name", "Query", "Columns", "Whose"}, Empty: "No searches are kept. Keep one with `widelark journal keep NAME QUERY`."}
			for _, s := range all.JSON200.Items {
				whose := "yours"
				switch {
				case command.Deref(s.Shared):
					whose = s.Owner + ", for everybody"
				case !s.Mine:
					whose = s.Owner
				}
				var shown []string
				for _, c := range command.Deref(s.Columns) {
					shown = append(shown, string(c))
				}
				v.Rows = append(v.Rows, []string{s.Name, s.Query, strings.Join(shown, ", "), whose})
			}
			return a.Show(v)
		}),
	})
}

func keepCommand(a *command.App) *cobra.Command {
	var chosen []string
	var share bool
	cmd := &cobra.Command{
		Use: "keep NAME [QUERY]", Short: "Keep a search, or replace the one of that name", Args: command.AtLeast("NAME"),
		Example: `  widelark journal keep "Large downloads" 'size:>10MB since:7d' --columns time,who,request,size --share`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if err := checkColumns(chosen); err != nil {
				return err
			}
			text := strings.Join(args[1:], " ")
			b := client.SavedSearchInput{Name: args[0], Query: text, Shared: &share}
			if len(chosen) > 0 {
				all := make([]client.SavedSearchInputColumns, len(chosen))
				for i, c := range chosen {
					all[i] = client.SavedSearchInputColumns(c)
				}
				b.Columns = &all
			}
			before, err := kept(cmd, api, args[0])
			if err == nil && before.Mine {
				_, err = api.PutSearchWithResponse(cmd.Context(), before.ID, &client.PutSearchParams{IfMatch: command.Match(before.Version)}, b)
			} else {
				_, err = api.AddSearchWithResponse(cmd.Context(), b)
			}
			if err != nil {
				return explained(err, text)
			}
			fmt.Fprintf(a.Out, "Kept. Look with `widelark journal search --kept %q`.\n", args[0])
			return nil
		}),
	}
	cmd.Flags().StringSliceVar(&chosen, "columns", nil, "what is shown of each record, with commas between")
	cmd.Flags().BoolVar(&share, "share", false, "for everybody")
	return cmd
}

func forgetCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "forget NAME", Short: "Keep a search no longer", Args: command.Exactly("NAME"), Example: `  widelark journal forget "Large downloads"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			s, err := kept(cmd, api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RemoveSearchWithResponse(cmd.Context(), s.ID, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%q is kept no longer.\n", s.Name)
			return nil
		}),
	}
}

package question

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/core/schedule"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// PlanCommand returns the command that prints what a group may reach when.
func PlanCommand(a *command.App, use string) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: use, Short: "What a group may reach when, over the days to come", Args: command.Exactly("GROUP"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			return showPlan(cmd.Context(), a, api, args[0])
		}),
	})
}

func showPlan(ctx context.Context, a *command.App, api *client.ClientWithResponses, group string) error {
	found, err := api.GetPlanWithResponse(ctx, &client.GetPlanParams{Group: group})
	if err != nil {
		return err
	}
	zone, err := a.Zone()
	if err != nil {
		return err
	}
	p := found.JSON200
	v := command.View{Data: p, Columns: []string{"What", "Verdict", "When"}}
	rows := append([]client.PlanRow{}, p.Rows...)
	rows = append(rows, client.PlanRow{Kind: "all", Name: "everything else", Strip: p.Else})
	for _, row := range rows {
		name := row.Name
		if row.Kind == "list" {
			name = "list " + name
		}
		for _, verdict := range []string{"allow", "watch", "hold", "block"} {
			if times := StripTimes(row.Strip, verdict, zone); times != "" {
				v.Rows = append(v.Rows, []string{name, a.VerdictCell(verdict), times})
				if a.Format == "table" {
					name = ""
				}
			}
		}
	}
	if v.Foot = "\nPolicies: " + object.NamesOf(p.Policies) + "."; len(p.Policies) == 0 {
		v.Foot = "\nNo policy is for this group; the fallback decides."
	}
	return a.Show(v)
}

// StripTimes describes in short when a verdict holds, by the clock of a zone. It names times that are the same on every day once.
func StripTimes(strip []client.Segment, verdict string, zone *time.Location) string {
	const days = 7
	byDay := map[string][]string{}
	var order []string
	whole := true
	for _, s := range strip {
		if string(s.Verdict) != verdict {
			whole = false
			continue
		}
		for at, end := range schedule.Days(s.From, s.To, zone) {
			at, end = at.In(zone), end.In(zone)
			day := at.Format("Mon")
			to := end.Format("15:04")
			if end.Equal(schedule.Today(end, zone)) {
				to = "24:00"
			}
			if byDay[day] == nil {
				order = append(order, day)
			}
			byDay[day] = append(byDay[day], at.Format("15:04")+"-"+to)
		}
	}
	switch {
	case len(order) == 0:
		return ""
	case whole:
		return "always"
	}
	// It writes days with the same times together.
	var parts []string
	shown := map[string]bool{}
	for _, day := range order {
		times := strings.Join(byDay[day], ", ")
		if shown[times] {
			continue
		}
		shown[times] = true
		var same []string
		for _, other := range order {
			if strings.Join(byDay[other], ", ") == times {
				same = append(same, strings.ToLower(other))
			}
		}
		name := strings.Join(same, ", ")
		if len(same) == days {
			name = "every day"
		}
		parts = append(parts, name+" "+times)
	}
	return strings.Join(parts, "; ")
}

package command

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"widelark/client"
)

// HitDays is over how many days hits are counted.
const HitDays = 30

// HitsFlag adds the flag --hits to a command.
func HitsFlag(cmd *cobra.Command) *bool {
	return cmd.Flags().Bool("hits", false, "also show how many requests of the last 30 days each one was met by, and the last of them")
}

// AddHits adds to a view how often its rows were used. keys are the ids of the rows or, with a list, their entries; "" for a row that is not counted.
func (a *App) AddHits(ctx context.Context, api *client.ClientWithResponses, v *View, kind client.GetUsageParamsKind, list string, keys []string) error {
	const atOnce = 100
	days, hits := int64(HitDays), map[string]client.UsedObject{}
	asked := slices.DeleteFunc(slices.Clone(keys), func(key string) bool { return key == "" })
	for some := range slices.Chunk(asked, atOnce) {
		p := &client.GetUsageParams{Kind: kind, ID: some, Days: &days}
		if list != "" {
			p.ID, p.Entry = []string{list}, &some
		}
		answer, err := api.GetUsageWithResponse(ctx, p)
		if err != nil {
			return err
		}
		for _, u := range answer.JSON200.Used {
			if list != "" {
				u.ID = OrEmpty(u.Entry)
			}
			hits[u.ID] = u
		}
	}
	v.Numbers = append(v.Numbers, len(v.Columns))
	v.Columns = append(v.Columns, "Hits", "Last hit")
	for i := range v.Rows {
		cells := []string{"", ""}
		if i < len(keys) && keys[i] != "" {
			u := hits[keys[i]]
			if cells = []string{Grouped(u.Requests), "never"}; u.Last != nil {
				cells[1] = a.ByClock(*u.Last).Format("2006-01-02 15:04")
			}
		}
		v.Rows[i] = append(v.Rows[i], cells...)
	}
	v.Data = struct {
		Shown any                          `json:"shown"`
		Hits  map[string]client.UsedObject `json:"hits"`
	}{v.Data, hits}
	return nil
}

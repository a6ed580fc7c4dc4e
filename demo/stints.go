package demo

import (
	"context"
	"slices"

	"widelark/client"
)

// forStints are the lists that leads may put their groups on.
var forStints = []string{"Trainees' reading list", "Formulary and dosage sites", "Video mirrors", "Betting"}

// loadStint gives the trainees' leads a list of their own, and leaves a stint that is over.
func loadStint(ctx context.Context, api *client.ClientWithResponses) error {
	all, err := api.GetSteeringWithResponse(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all.JSON200.Groups, func(g client.LedGroup) bool { return g.Name == "Trainees" })
	if i < 0 || len(all.JSON200.Own) > 0 { // the load was broken off after it
		return nil
	}
	group := all.JSON200.Groups[i].ID
	own, err := api.AddOwnListWithResponse(ctx, client.AddOwnListInputBody{Group: group, Name: "Drug rounds", Entries: []string{"anatomy-atlas.example", "tide-trials.example # the exercise", "heron-press.example/handbooks"}})
	if err != nil {
		return err
	}
	minutes, why := int64(45), "The anatomy lesson"
	st, err := api.StartStintWithResponse(ctx, client.StartStintInputBody{Group: group, Kind: client.StartStintInputBodyKindOnly, Own: &[]string{own.JSON201.ID.String()}, Minutes: &minutes, Reason: &why})
	if err != nil {
		return err
	}
	_, err = api.EndStintWithResponse(ctx, st.JSON201.ID)
	return err
}

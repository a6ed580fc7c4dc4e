package demo

import (
	"context"
	"net/url"
	"slices"

	"widelark/client"
)

// plea is somebody who asks for a page that is refused to them.
type plea struct{ person, url, reason string }

// pleas are the requests of the demo: many for one site of films, two for a charity that the catalogue mistakes, and some alone.
func pleas() (all []plea) {
	reasons := []string{"The film about the new infusion pumps", "For the ward evening", "Everybody talks about it", "The pumps, please"}
	for _, p := range everybody() {
		if len(all) < 12 && slices.Contains(p.groups, "Ward nurses") {
			all = append(all, plea{p.uid, "http://gull-films7.example/watch", reasons[len(all)%len(reasons)]})
		}
	}
	return append(all,
		plea{"kay.moran", "http://marrow-trust.test/breast/screening", "A patient wants the leaflet on screening"},
		plea{"hal.birch", "http://marrow-trust.test/", "The charity is our partner"},
		plea{"petra.lapwing", "http://slots-bay.example/", "asdf please"},
		plea{"ola.fenn", openedSince, "The sweepstake of the theatres"},
	)
}

// openedSince is a page that is open to whoever asked for it by now.
const openedSince = "http://oddsfield.example/today"

// Ask has people ask for pages from the block page of the proxy gate. Where somebody has asked already, it does nothing.
func Ask(ctx context.Context, api *client.ClientWithResponses, gate string) error {
	everything := true
	there, err := api.GetRequestsWithResponse(ctx, &client.GetRequestsParams{All: &everything})
	if err != nil || len(there.JSON200.Requests) > 0 {
		return err
	}
	for _, p := range pleas() {
		form, err := refusedAt(ctx, gate, p.person, p.url)
		if err == nil {
			err = form.send(ctx, url.Values{"act": {"ask"}, "reason": {p.reason}})
		}
		if err != nil {
			return err
		}
	}
	at, who, minutes := openedSince, "ola.fenn", int64(24*60)
	_, err = api.AddGrantWithResponse(ctx, client.NewGrantInputBody{URL: &at, Who: &client.Who{Person: &who}, Minutes: &minutes, Reason: "Agreed with the theatres"})
	return err
}

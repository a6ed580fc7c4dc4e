package demo

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"widelark/client"
)

// The list that a partner hospital keeps, and the address of its file at the partner's stand-in.
const (
	partnerList = "Partner's warnings"
	partnerPath = "/warnings.txt"
)

// Partner stands in for others on the web: a partner hospital, which publishes a list of sites to be wary of; the harbour office, which
// publishes a pack of category data; and, whatever host is asked for, the sites of the demo.
func Partner() http.Handler {
	var file bytes.Buffer
	file.WriteString("# Warnings of the Estuary hospitals, renewed every morning\n")
	_ = WriteSites(&file, 420, suspectsSeed+7) // a buffer takes everything
	made := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	mux := http.NewServeMux()
	mux.HandleFunc(partnerPath, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"warnings-7"`)
		http.ServeContent(w, r, "warnings.txt", made, bytes.NewReader(file.Bytes()))
	})
	mux.HandleFunc(packPath, servePack)
	mux.HandleFunc("/", serveSite)
	return mux
}

// follow has the partner's list pulled from where the partner is now.
func follow(ctx context.Context, api *client.ClientWithResponses, partner string) error {
	name, description, owner := partnerList, "Sites that the partner hospital warns of. Pulled every morning.", "Estuary hospitals"
	found, err := api.GetListsWithResponse(ctx, &client.GetListsParams{Name: &name})
	if err != nil {
		return err
	}
	var list client.List
	if len(found.JSON200.Lists) > 0 {
		list = found.JSON200.Lists[0]
	} else {
		colour := client.NewListInputBodyColour("sky")
		made, err := api.CreateListWithResponse(ctx, client.NewListInputBody{Name: name, Description: &description, Owner: &owner, Colour: &colour})
		if err != nil {
			return err
		}
		list = *made.JSON201
	}
	every := int64(24 * 60)
	if _, err := api.SetSourceWithResponse(ctx, list.ID, client.SetSourceInputBody{URL: partner + partnerPath, EveryMinutes: &every}); err != nil {
		return err
	}
	if list.EntryCount > 0 {
		return nil
	}
	_, err = api.PullSourceWithResponse(ctx, list.ID, nil)
	return err
}

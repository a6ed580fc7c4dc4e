package demo

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"time"

	"widelark/client"
)

// The list that a partner hospital keeps, and the address of its file at the partner's stand-in.
const (
	partnerList = "Partner's warnings"
	partnerPath = "/warnings.txt"
)

// Partner stands in for other parties on the web: a partner hospital, which publishes a list of suspect sites; the harbour office, which
// publishes a pack of category data; and, whatever host is asked for, the sites of the demo.
func Partner() http.Handler {
	var file bytes.Buffer
	file.WriteString("# Warnings of the Estuary hospitals, renewed every morning\n")
	_ = WriteSites(&file, 420, suspectsSeed+7) // writing to a buffer cannot fail
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

// WithTLS returns a handler that takes tunnels (CONNECT), too, wherever they lead, and answers TLS in them as the given handler answers, with
// certificates of an authority of its own. It also returns the authority's certificate in PEM.
func WithTLS(handler http.Handler) (_ http.Handler, authority []byte, err error) {
	web, err := newOrigin(handler)
	if err != nil {
		return nil, nil, err
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodConnect {
			web.tunnel(w, r)
			return
		}
		handler.ServeHTTP(w, r)
	}), web.pem, nil
}

// follow sets the source of the partner's list to the present address of the partner.
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

// findPartner sets the sources of lists and packs from the partner's stand-in to its present address, as its port differs each time. It leaves
// sources alone that somebody has removed or changed.
func findPartner(ctx context.Context, api *client.ClientWithResponses, partner string) error {
	moved := func(from string) (string, bool) {
		at, err := url.Parse(from)
		if err != nil || at.Hostname() != "127.0.0.1" || at.Path != partnerPath && at.Path != packPath {
			return "", false
		}
		return partner + at.Path, partner+at.Path != from
	}
	sources, err := api.GetSourcesWithResponse(ctx)
	if err != nil {
		return err
	}
	for _, s := range sources.JSON200.Sources {
		if to, ok := moved(s.URL); ok {
			if _, err := api.SetSourceWithResponse(ctx, s.ListID, client.SetSourceInputBody{URL: to, EveryMinutes: &s.EveryMinutes, Paused: &s.Paused}); err != nil {
				return err
			}
		}
	}
	packs, err := api.GetPacksWithResponse(ctx)
	if err != nil {
		return err
	}
	for _, p := range packs.JSON200.Packs {
		if to, ok := moved(p.URL); ok {
			if _, err := api.EditPackWithResponse(ctx, p.ID, client.EditPackInputBody{URL: &to}); err != nil {
				return err
			}
		}
	}
	return nil
}

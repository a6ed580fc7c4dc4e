package demo

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"widelark/client"
)

// engine is a search engine of the demo: how it is asked, and what makes its answers safe.
type engine struct {
	name, about, host, path, words string
	safe                           client.SafeBody
}

func said(text string) *string { return &text }

var engines = []engine{
	{"Find the Lark", "Pages of all kinds.", "find.lark-search.example", "/find", "q", client.SafeBody{By: "parameter", Name: said("calm"), Value: "1"}},
	{"Deepwater", "Pages, and what lies under them.", "deepwater.test", "/s", "words", client.SafeBody{By: "header", Name: said("Deepwater-Filter"), Value: "strict"}},
	{"Skerry Video", "Films of the coast.", "skerry-video.example", "/look", "term", client.SafeBody{By: "host", Value: "calm.skerry-video.example"}},
}

func loadEngines(ctx context.Context, api *client.ClientWithResponses) error {
	for _, e := range engines {
		body := client.EngineInput{Name: e.name, Description: &e.about, Hosts: []string{e.host}, Words: &[]string{e.words}, Safe: &e.safe}
		if _, err := api.AddEngineWithResponse(ctx, body); err != nil {
			return fmt.Errorf("the search engine %q: %w", e.name, err)
		}
	}
	return nil
}

// answer says what an engine finds, and whether only what is safe; "" where the request does not ask it. host is the request's without a port.
func (e *engine) answer(r *http.Request, host string) string {
	terms := r.URL.Query().Get(e.words)
	if host != e.host && !strings.HasSuffix(host, "."+e.host) || r.URL.Path != e.path || terms == "" {
		return ""
	}
	var safe bool
	switch e.safe.By {
	case "parameter":
		safe = r.URL.Query().Get(*e.safe.Name) == e.safe.Value
	case "header":
		safe = r.Header.Get(*e.safe.Name) == e.safe.Value
	case "host":
		led, _ := r.Context().Value(ledKey{}).(string)
		safe = host == e.safe.Value || led == e.safe.Value
	}
	found := "everything there is, fit for children or not"
	if safe {
		found = "only what is fit for children"
	}
	return fmt.Sprintf("%s finds for %q: %s.\n", e.name, terms, found)
}

// Package companion finds the hosts that a page loads from and redirects to, in a browser's recording.
//
// From: an HTTP Archive (HAR 1.2), as browsers save their network log.
// To: [Host]s, some of which an allow list may lack.
package companion

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"widelark/core/weburl"
)

// Host is one host of a recording.
type Host struct {
	Host     string
	First    weburl.URL // the first URL that was requested
	Requests int
	Kinds    []string // kinds of resources loaded from it: document, script, image…; as the recording names them
	SentFrom []string // hosts that redirected to it
	Failed   int      // requests without an answer or with a status from 400 on: perhaps blocked already
	IsPage   bool     // the recording was made on it
}

// archive is the part of HAR that Read uses.
type archive struct {
	Log struct {
		Entries []struct {
			ResourceType string `json:"_resourceType"`
			Request      struct {
				URL string `json:"url"`
			} `json:"request"`
			Response struct {
				Status      int    `json:"status"`
				RedirectURL string `json:"redirectURL"`
				Content     struct {
					MimeType string `json:"mimeType"`
				} `json:"content"`
			} `json:"response"`
		} `json:"entries"`
	} `json:"log"`
}

// Error describes why a recording cannot be read.
type Error struct{ Msg string }

// Error returns the message.
func (e *Error) Error() string { return e.Msg }

// Read returns the hosts of a recording: the page's own first, the others by their number of requests. It holds the recording in memory; the caller
// bounds r.
func Read(r io.Reader) ([]Host, error) {
	var har archive
	if err := json.NewDecoder(r).Decode(&har); err != nil {
		return nil, &Error{"this is not a HAR file: " + err.Error()}
	}
	if len(har.Log.Entries) == 0 {
		return nil, &Error{"the recording holds no request; save it after the page has loaded"}
	}
	found := map[string]*Host{}
	var order []*Host
	at := func(u weburl.URL) *Host {
		h := found[u.Host()]
		if h == nil {
			h = &Host{Host: u.Host(), First: u, IsPage: len(order) == 0}
			found[h.Host] = h
			order = append(order, h)
		}
		return h
	}
	for _, e := range har.Log.Entries {
		u, err := weburl.Parse(e.Request.URL)
		if err != nil { // data:, blob: and the like have no host
			continue
		}
		h := at(u)
		h.Requests++
		if e.Response.Status == 0 || e.Response.Status >= 400 {
			h.Failed++
		}
		if kind := kindOf(e.ResourceType, e.Response.Content.MimeType); kind != "" && !slices.Contains(h.Kinds, kind) {
			h.Kinds = append(h.Kinds, kind)
		}
		if e.Response.RedirectURL == "" {
			continue
		}
		if to, err := weburl.Parse(absolute(u, e.Response.RedirectURL)); err == nil && to.Host() != h.Host {
			if next := at(to); !slices.Contains(next.SentFrom, h.Host) {
				next.SentFrom = append(next.SentFrom, h.Host)
			}
		}
	}
	if len(order) == 0 {
		return nil, &Error{"the recording holds no request to a web address"}
	}
	sort.SliceStable(order[1:], func(i, j int) bool { return order[1+i].Requests > order[1+j].Requests })
	hosts := make([]Host, len(order))
	for i, h := range order {
		hosts[i] = *h
	}
	return hosts, nil
}

// absolute resolves a Location that may leave out the host, as a browser does (RFC 9110, section 10.2.2).
func absolute(from weburl.URL, location string) string {
	if strings.HasPrefix(location, "/") && !strings.HasPrefix(location, "//") {
		return fmt.Sprintf("%s://%s%s", from.Scheme(), from.Host(), location)
	}
	return location
}

// kindOf names the kind of resource that was loaded.
func kindOf(resource, mime string) string {
	if resource != "" {
		return resource
	}
	mime, _, _ = strings.Cut(mime, ";")
	switch top, sub, _ := strings.Cut(mime, "/"); {
	case strings.Contains(sub, "html"):
		return "document"
	case strings.Contains(sub, "javascript"):
		return "script"
	case strings.Contains(sub, "css"):
		return "stylesheet"
	case strings.Contains(sub, "json"):
		return "fetch"
	case top == "image" || top == "font":
		return top
	case top == "video" || top == "audio":
		return "media"
	}
	return ""
}

// Note says in a few words why a page needs the host.
func (h Host) Note(page string) string {
	switch {
	case h.IsPage:
		return ""
	case len(h.SentFrom) > 0:
		return fmt.Sprintf("%s sends people on to it", h.SentFrom[0])
	case len(h.Kinds) > 0:
		return fmt.Sprintf("%s loads %s from it", page, strings.Join(h.Kinds, ", "))
	}
	return page + " needs it"
}

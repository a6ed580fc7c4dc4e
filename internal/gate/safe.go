package gate

import (
	"net/http"
	"net/url"
	"strings"

	"widelark/core/policy"
)

// MakeSafe has a search engine give safe answers to a request that leads to it: the request gets the parameter or the header field that does so, or leads to
// the host that answers in its place, on the same port. It changes nothing for the zero Safe.
func MakeSafe(r *http.Request, by policy.Safe) {
	switch by.By {
	case policy.ByParameter:
		r.URL.RawQuery = safeQuery(r.URL.RawQuery, by)
	case policy.ByHeader:
		r.Header.Set(by.Name, by.Value)
	case policy.ByHost:
		port := ""
		if r.URL.Port() != "" {
			port = ":" + r.URL.Port()
		}
		r.URL.Host = by.Value + port
		r.Host = r.URL.Host
	}
}

// safeQuery returns a query, as it stands in a URL, with the parameter as the last one, and once. A parameter of which it is not certain that engines read its
// name as another one goes, too.
func safeQuery(query string, by policy.Safe) string {
	var kept []string
	for pair := range strings.SplitSeq(query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(name)
		if pair != "" && err == nil && !strings.EqualFold(strings.TrimSpace(plain), by.Name) {
			kept = append(kept, pair)
		}
	}
	return strings.Join(append(kept, url.QueryEscape(by.Name)+"="+url.QueryEscape(by.Value)), "&")
}

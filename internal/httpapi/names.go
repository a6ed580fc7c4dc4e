package httpapi

import (
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// loopbackNames are the names of a service on its own machine.
var loopbackNames = []string{"localhost", "127.0.0.1", "::1"}

// named answers only requests that are meant for the service: whose Host, and Origin where there is one, is one of its names, on whatever
// port. A page of another site can point a name of its own at this address (DNS rebinding), and a browser would then let it read along.
// Without names the service answers to those of its own machine.
func named(names []string, next http.Handler) http.Handler {
	if len(names) == 0 {
		names = loopbackNames
	}
	known := func(hostport string) bool {
		host := hostport
		if h, _, err := net.SplitHostPort(hostport); err == nil {
			host = h
		}
		host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
		return slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(strings.Trim(name, "[]"), host) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		origin := r.Header.Get("Origin")
		from, err := url.Parse(origin)
		if !known(r.Host) || origin != "" && origin != "null" && (err != nil || !known(from.Host)) {
			writeProblem(w, http.StatusMisdirectedRequest,
				"This service does not go by that name. Start it with the names that people reach it by, as --names filter.quillmere.internal.")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// unkept keeps answers of the API out of caches, and browsers from guessing at what they are.
func unkept(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.Header().Set("Cache-Control", "no-store")
			w.Header().Set("X-Content-Type-Options", "nosniff")
		}
		next.ServeHTTP(w, r)
	})
}

package weburl

import "strings"

// parseClean reads a URL that is canonical but for its missing final slash, as most are in a log: it has a scheme in lower
// case, a plain host, no port, and a path and query of characters that nothing would change. It allocates nothing where
// there is a path. It may say no where yes would be right, and then the URL Standard's parser is asked; never the reverse.
func parseClean(text string) (URL, bool) {
	u := URL{scheme: "https", path: "/"}
	rest, ok := strings.CutPrefix(text, "https://")
	if !ok {
		if rest, ok = strings.CutPrefix(text, "http://"); !ok {
			return URL{}, false
		}
		u.scheme = "http"
	}
	end := strings.IndexAny(rest, "/?")
	if end < 0 {
		end = len(rest)
	}
	if u.host = rest[:end]; !plainName(u.host) {
		return URL{}, false
	}
	path, query, _ := strings.Cut(rest[end:], "?")
	if !plainPath(path) || !cleanQuery(query) {
		return URL{}, false
	}
	if path != "" {
		u.path = path
	}
	u.query = query
	return u, true
}

// cleanQuery reports whether a query is one that the parser leaves as it is.
func cleanQuery(query string) bool {
	for i := 0; i < len(query); i++ {
		switch c := query[i]; {
		case unreserved(c), c == '=', c == '&', c == '+', c == ',', c == ';', c == ':', c == '/', c == '?', c == '@', c == '!', c == '*':
		default:
			return false
		}
	}
	return true
}

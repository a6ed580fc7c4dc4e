package weburl

import "strings"

// What a byte may be without anything being changed by reading it.
const (
	inHost  = 1 << iota // "-" and "." aside, which make labels
	inPath              // "/" aside, which makes segments
	inQuery             //
)

// classes says of each byte what it may be (URL Standard, 1.3: the percent-encode sets, and what paths do with the rest).
var classes = func() (classes [256]uint8) {
	for c := range 256 {
		b := byte(c)
		switch {
		case b >= 'a' && b <= 'z', b >= '0' && b <= '9', b == '_':
			classes[c] = inHost | inPath | inQuery
		case unreserved(b), strings.IndexByte("!$&()*+,;=:@", b) >= 0:
			classes[c] = inPath | inQuery
		case b == '\'':
			classes[c] = inPath
		case b == '/' || b == '?':
			classes[c] = inQuery
		}
	}
	return classes
}()

// parseClean reads a URL that is canonical but for its missing final slash, as most are in a log: it has a scheme in lower
// case, a plain host, no port, and a path and query of characters that nothing would change. It allocates nothing. It may say
// no where yes would be right, and then more is asked; never the reverse.
func parseClean(text string) (URL, bool) {
	u := URL{scheme: "https", path: "/"}
	rest, ok := strings.CutPrefix(text, "https://")
	if !ok {
		if rest, ok = strings.CutPrefix(text, "http://"); !ok {
			return URL{}, false
		}
		u.scheme = "http"
	}
	end, ok := plainHost(rest)
	if !ok {
		return URL{}, false
	}
	u.host, rest = rest[:end], rest[end:]
	if rest == "" {
		return u, true
	}
	if rest[0] == '/' {
		end = plainSegments(rest)
		u.path, rest = rest[:end], rest[end:]
		if rest == "" {
			return u, true
		}
	}
	if rest[0] != '?' {
		return URL{}, false
	}
	for i := 1; i < len(rest); i++ {
		if classes[rest[i]]&inQuery == 0 {
			return URL{}, false
		}
	}
	u.query = rest[1:]
	return u, true
}

// plainHost returns where a host name ends that nothing would change, at the start of a text; false where there is none. A last label
// that begins with a digit may make the whole host an address (URL Standard, 3.5).
func plainHost(text string) (int, bool) {
	label, i := 0, 0
	for ; i < len(text); i++ {
		c := text[i]
		if classes[c]&inHost != 0 {
			continue
		}
		if c == '-' {
			if i == label+3 && text[label:i+1] == "xn--" {
				return 0, false
			}
			continue
		}
		if c != '.' {
			break
		}
		if i == label {
			return 0, false
		}
		label = i + 1
	}
	return i, label < i && (text[label] >= 'a' || text[label] == '_')
}

// plainSegments returns where a path ends, at the start of a text, that is canonical so far. A slash before a dot or a slash is not.
func plainSegments(text string) int {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if classes[c]&inPath != 0 {
			continue
		}
		if c != '/' || i+1 < len(text) && (text[i+1] == '/' || text[i+1] == '.') {
			return i
		}
	}
	return len(text)
}

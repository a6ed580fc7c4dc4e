package weburl

import "strings"

// The parts of a URL in which a byte is canonical as it stands.
const (
	inHost  = 1 << iota // but for "-" and ".", which need a look at the label
	inPath              // but for "/", which needs a look at the segment
	inQuery             // every byte
)

// classes holds, for each byte, the parts in which it is canonical (URL Standard, section 1.3: the percent-encode sets).
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

// parseClean reads a URL that is already canonical, or lacks only its final slash, as most do in a log: a scheme in lower case, a plain host,
// no port, and a path and query of canonical bytes. It allocates nothing. It may refuse a canonical URL, which then takes a slower way; it never
// accepts another.
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

// plainHost returns the end of the canonical host name at the start of a text; ok is false if there is none. It refuses a last label that begins
// with a digit, which may make the whole host an address (URL Standard, section 3.5).
func plainHost(text string) (end int, ok bool) {
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

// plainSegments returns the end of the canonical path at the start of a text. A slash before a dot or another slash ends it.
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

package weburl

import (
	"net/netip"
	"strings"
	"unicode/utf8"

	whatwg "github.com/nlnwa/whatwg-url/url"
)

// parseWritten reads a URL as people and programs write most of those that are not clean: with upper case, without a scheme, with a port,
// escapes, other scripts, dot segments, a fragment or an IPv4 address. It allocates once, for the canonical form; a host in another script
// is left to [ParseHost]. It refuses everything else, wrong URLs among it, which are left to the URL Standard's parser. bare says that the
// text has been through [strip] and [plainer]; otherwise blanks, controls and backslashes are refused, too.
func parseWritten(text string, bare bool) (URL, bool) {
	u, rest := URL{scheme: "https"}, text
	if colon := strings.IndexByte(text, ':'); colon >= 0 && strings.HasPrefix(text[colon:], "://") {
		switch {
		case strings.EqualFold(text[:colon], "https"):
		case strings.EqualFold(text[:colon], "http"):
			u.scheme = "http"
		default:
			return URL{}, false
		}
		rest = text[colon+len("://"):]
	} else if text == "" || colon >= 0 || classes[lower(text[0])]&inHost == 0 && text[0] < utf8.RuneSelf {
		return URL{}, false
	}
	end := strings.IndexAny(rest, `/?#`)
	if end < 0 {
		end = len(rest)
	}
	authority, rest := rest[:end], rest[end:]
	if rest, _, _ = strings.Cut(rest, "#"); !utf8.ValidString(text) {
		return URL{}, false
	}
	var room [512]byte
	respelt := room[:0]
	host, port, ported := strings.Cut(authority, ":")
	if ported && port != "" {
		number, ok := decimal(strings.TrimLeft(port, "0"), 65535)
		if !ok || number == 0 {
			return URL{}, false
		}
		if u.port = uint16(number); u.port == 443 && u.scheme == "https" || u.port == 80 && u.scheme == "http" {
			u.port = 0
		}
	}
	respelt, known := appendHost(respelt, host, &u)
	if !known {
		read, err := ParseHost(host)
		if err != nil {
			return URL{}, false
		}
		u.addr, respelt = read.Addr, append(respelt[:0], read.ASCII...)
	}
	hostEnd := len(respelt)
	path, query, _ := strings.Cut(rest, "?")
	var ok bool
	if respelt, ok = appendPath(respelt, path, bare); !ok {
		return URL{}, false
	}
	pathEnd := len(respelt)
	if respelt, ok = appendQuery(respelt, query, bare); !ok {
		return URL{}, false
	}
	all := string(respelt)
	u.host, u.path, u.query = all[:hostEnd], all[hostEnd:pathEnd], all[pathEnd:]
	return u, true
}

// decimal reads a number in decimal digits without leading zeros; ok is false if it is empty, malformed or larger than most.
func decimal(text string, most int) (n int, ok bool) {
	for i := 0; i < len(text); i++ {
		if text[i] < '0' || text[i] > '9' || n == 0 && i > 0 {
			return 0, false
		}
		if n = 10*n + int(text[i]-'0'); n > most {
			return 0, false
		}
	}
	return n, text != ""
}

// appendHost appends the canonical form of a host name in ASCII or of an IPv4 address of four decimal numbers; for an address it sets u.addr.
// It returns false if the host is anything else.
func appendHost(dst []byte, host string, u *URL) ([]byte, bool) {
	host = strings.TrimSuffix(host, ".")
	from := len(dst)
	for i := 0; i < len(host); i++ {
		c := lower(host[i])
		if classes[c]&inHost == 0 && c != '-' && c != '.' {
			return dst, false
		}
		dst = append(dst, c)
	}
	if end, ok := plainHost(string(dst[from:])); ok {
		return dst, end == len(host)
	}
	var parts [4]byte
	rest := host
	for i := range parts {
		var part string
		var more bool
		part, rest, more = strings.Cut(rest, ".")
		n, ok := decimal(part, 255)
		if !ok || more != (i < 3) {
			return dst, false
		}
		parts[i] = byte(n)
	}
	u.addr = netip.AddrFrom4(parts)
	return dst, true
}

// appendPath appends the canonical form of a path; it returns false if the path holds bytes that parseWritten refuses.
func appendPath(dst []byte, path string, bare bool) ([]byte, bool) {
	from := len(dst)
	for rest, more := strings.TrimPrefix(path, "/"), true; more; {
		var segment string
		segment, rest, more = strings.Cut(rest, "/")
		switch dotSegment(segment) {
		case 1:
			segment = ""
		case 2:
			for segment = ""; len(dst) > from; {
				if dst = dst[:len(dst)-1]; dst[:len(dst)+1][len(dst)] == '/' {
					break
				}
			}
		default:
			dst = append(dst, '/')
			for i := 0; i < len(segment); i++ {
				switch c := segment[i]; {
				case c == '%':
					var size int
					dst, size = appendEscape(dst, segment, i)
					i += size - 1
				case classes[c]&inPath != 0:
					dst = append(dst, c)
				case !bare && (c <= ' ' || c == '\\'):
					return dst, false
				default:
					dst = appendByte(dst, c, whatwg.PathPercentEncodeSet)
				}
			}
			continue
		}
		if !more {
			dst = append(dst, '/') // a dot segment at the end leaves an empty one
		}
	}
	folded := dst[:from]
	for i, c := range dst[from:] {
		if c != '/' || i == 0 || folded[len(folded)-1] != '/' {
			folded = append(folded, c)
		}
	}
	return folded, true
}

// dotSegment returns the number of dots of a dot segment, escaped or not; 0 for other segments (URL Standard, section 4.1).
func dotSegment(segment string) int {
	n := 0
	for ; segment != ""; n++ {
		if segment[0] == '.' {
			segment = segment[1:]
		} else if c, ok := escape(segment, 0); ok && c == '.' {
			segment = segment[3:]
		} else {
			return 0
		}
	}
	if n > 2 {
		return 0
	}
	return n
}

// appendQuery appends the canonical form of a query; it returns false if the query holds bytes that parseWritten refuses.
func appendQuery(dst []byte, query string, bare bool) ([]byte, bool) {
	for i := 0; i < len(query); i++ {
		switch c := query[i]; {
		case c == '%':
			var size int
			dst, size = appendEscape(dst, query, i)
			i += size - 1
		case classes[c]&inQuery != 0:
			dst = append(dst, c)
		case !bare && c <= ' ':
			return dst, false
		default:
			dst = appendByte(dst, c, whatwg.SpecialQueryPercentEncodeSet)
		}
	}
	return dst, true
}

// appendByte appends a byte of a path or query, percent-encoded if it is in the set (URL Standard, section 1.3).
func appendByte(dst []byte, c byte, escaped *whatwg.PercentEncodeSet) []byte {
	if escaped.ByteShouldBeEncoded(c) {
		return append(dst, '%', hexDigits[c>>4], hexDigits[c&15])
	}
	return append(dst, c)
}

const hexDigits = "0123456789ABCDEF"

func upper(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c + 'A' - 'a'
	}
	return c
}

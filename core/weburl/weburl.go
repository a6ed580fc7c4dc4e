// Package weburl turns what people and programs write for a web address into one canonical URL.
//
// From: the text of a URL, as typed, pasted or recorded.
// To: [URL], the value that every later stage matches against.
//
// A URL is read as a browser reads it (the WHATWG URL Standard, through a maintained parser) and then
// brought to one spelling, so that two spellings which a browser sends to the same place are equal:
//
//   - fragment and user-info are dropped (the URL remembers that there was user-info);
//   - one trailing dot of the host, the default port and an empty query are dropped;
//   - an IPv4 address inside an IPv6 one (::ffff:203.0.113.7) counts as the IPv4 address;
//   - escapes of unreserved characters in path and query are decoded (RFC 3986, section 6.2.2.2), all other
//     escapes are written in upper case (section 6.2.2.1), a "%" that begins no escape is written "%25", and
//     runs of "/" in the path are folded to one;
//   - "ws" and "wss" count as "http" and "https"; text without a scheme is read as "https".
//
// For example HTTPS://user@Heron.Example.:443/a//%7eb/../c%2f?#top is https://heron.example/a/c%2F.
package weburl

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	whatwg "github.com/nlnwa/whatwg-url/url"
)

// URL is a canonical http or https URL. It is comparable: equal values are the same place. The zero URL
// is not valid. All methods are safe for concurrent use and allocate nothing unless they say so.
type URL struct {
	scheme   string     // "http" or "https"
	host     string     // ASCII, lower case, no trailing dot; an IPv6 address stands in brackets
	addr     netip.Addr // the host as an address; invalid where the host is a name
	port     uint16     // 0 where the port is the scheme's default
	path     string     // begins with "/"
	query    string     // without "?"; "" where there is none
	userInfo bool
}

// Error says why a text is not a URL that Wide Lark can decide on.
type Error struct {
	Input  string // the text as given
	Reason string // one clause, lower case, no final dot
}

// Error returns the reason with the input quoted.
func (e *Error) Error() string { return fmt.Sprintf("%q: %s", e.Input, e.Reason) }

// MaxLength is the longest text that is read as a URL, in bytes. Browsers stop between 32 KiB and 2 MiB; nobody types a longer address, and
// reading one would only cost time.
const MaxLength = 64 << 10

// Parse reads text as a browser's address bar would, and returns its canonical URL. It refuses a text that is not an http or https URL with an
// [*Error].
func Parse(text string) (URL, error) {
	if len(text) > MaxLength {
		return refuse(text, "longer than %d bytes", MaxLength)
	}
	if u, ok := parseClean(text); ok {
		return u, nil
	}
	if u, ok := parseWritten(text, false); ok {
		return u, nil
	}
	full, err := withScheme(strip(strings.ToValidUTF8(text, "\uFFFD")))
	if err != nil {
		return refuse(text, "%s", err)
	}
	plain, userInfo := plainer(full)
	u, ok := parseWritten(plain, true)
	if ok {
		u.userInfo = userInfo
	} else if u, err = parseStandard(full); err != nil {
		return refuse(text, "%s", err)
	}
	return u, nil
}

func refuse(text, format string, args ...any) (URL, error) {
	return URL{}, &Error{Input: shorten(text), Reason: fmt.Sprintf(format, args...)}
}

// parseStandard reads a URL that has a scheme: the host by [readHost], the rest by the URL Standard's parser. Errors are reasons.
func parseStandard(full string) (URL, error) {
	full, userInfo := plainer(full)
	scheme, rest, _ := strings.Cut(full, "://")
	end := strings.IndexAny(rest, "/?#")
	if end < 0 {
		end = len(rest)
	}
	name, port := rest[:end], ""
	if colon := strings.IndexByte(name, ':'); colon >= 0 && !strings.HasPrefix(name, "[") {
		name, port = name[:colon], name[colon:]
	} else if bracket := strings.IndexByte(name, ']'); bracket >= 0 && strings.HasPrefix(name, "[") {
		name, port = name[:bracket+1], name[bracket+1:]
	}
	host, addr, err := readHost(name)
	if err != nil {
		return URL{}, err
	}
	read, err := whatwg.Parse(scheme + "://host" + port + rest[end:])
	if err != nil {
		return URL{}, errors.New(reason(err))
	}
	u := URL{
		scheme:   webScheme[read.Scheme()],
		host:     host,
		addr:     addr,
		path:     canonicalPath(read.Pathname()),
		query:    CanonicalEscapes(read.Query()),
		userInfo: userInfo,
	}
	if read.Port() != "" {
		port, err := strconv.ParseUint(read.Port(), 10, 16)
		if err != nil {
			return URL{}, fmt.Errorf("%q is not a port number", read.Port())
		}
		if u.port = uint16(port); port == 0 { // a URL's zero port means the default port
			return URL{}, errors.New("no browser connects to port 0")
		}
	}
	return u, nil
}

// plainer respells a URL that has a scheme without changing its meaning: slashes for backslashes, two slashes before the host, and no
// user-info before a host. The parser's time grows with the square of the number of these.
func plainer(full string) (_ string, hadUserInfo bool) {
	scheme, rest, _ := strings.Cut(full, ":")
	end := strings.IndexAny(rest, "?#")
	if end < 0 {
		end = len(rest)
	}
	before := strings.TrimLeft(strings.ReplaceAll(rest[:end], `\`, "/"), "/")
	authority, path := before, ""
	if slash := strings.IndexByte(before, '/'); slash >= 0 {
		authority, path = before[:slash], before[slash:]
	}
	userInfo := false
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		userInfo = authority[:at] != "" && authority[:at] != ":"
		if authority = authority[at+1:]; authority == "" {
			authority = "@" // keeps the parser from taking the host from the path
		}
	}
	return scheme + "://" + authority + path + rest[end:], userInfo
}

// MustParse is [Parse] for literals; it panics where the text is refused.
func MustParse(text string) URL {
	u, err := Parse(text)
	if err != nil {
		panic("bug: " + err.Error())
	}
	return u
}

// webScheme maps the schemes that are read to the scheme that they count as.
var webScheme = map[string]string{"http": "http", "https": "https", "ws": "http", "wss": "https"}

// strip removes what the URL Standard's parser removes first: controls and spaces at both ends, tabs and
// line ends anywhere. It runs before the scheme is looked for, which comes before the parser.
func strip(text string) string {
	text = strings.TrimFunc(text, func(r rune) bool { return r <= ' ' })
	if strings.ContainsAny(text, "\t\r\n") {
		text = strings.NewReplacer("\t", "", "\r", "", "\n", "").Replace(text)
	}
	return text
}

// withScheme puts "https:" before text that has no scheme. "heron.example:8443" has none: a port follows the colon. It refuses a scheme other
// than the web's, such as that of "mailto:info".
func withScheme(text string) (string, error) {
	if text == "" {
		return "", fmt.Errorf("there is nothing in it")
	}
	if strings.HasPrefix(text, "//") || strings.HasPrefix(text, `\\`) {
		return "https:" + text, nil
	}
	scheme, rest, found := strings.Cut(text, ":")
	if !found || !isScheme(scheme) {
		return "https://" + text, nil
	}
	if _, ok := webScheme[strings.ToLower(scheme)]; ok {
		return text, nil
	}
	if digits := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' }); digits != 0 &&
		(digits < 0 && rest != "" || digits > 0 && strings.ContainsRune(`/\?#`, rune(rest[digits]))) {
		return "https://" + text, nil
	}
	return "", fmt.Errorf("%q is not a web address: only http and https are decided on", strings.ToLower(scheme)+":")
}

// isScheme reports whether s has the form of a URL scheme (RFC 3986, section 3.1).
func isScheme(s string) bool {
	for i, r := range s {
		letter := r|0x20 >= 'a' && r|0x20 <= 'z'
		if !letter && (i == 0 || !strings.ContainsRune("0123456789+-.", r)) {
			return false
		}
	}
	return s != ""
}

// shorten keeps an echoed input within a line.
func shorten(text string) string {
	if len(text) > 200 {
		return strings.ToValidUTF8(text[:200], "") + "…"
	}
	return text
}

// IsValid reports whether u came from [Parse].
func (u URL) IsValid() bool { return u.scheme != "" }

// Scheme returns "http" or "https".
func (u URL) Scheme() string { return u.scheme }

// Host returns the host in ASCII and lower case; an IPv6 address stands in brackets.
func (u URL) Host() string { return u.host }

// Addr returns the host as an address; the result is not valid where the host is a name.
func (u URL) Addr() netip.Addr { return u.addr }

// Port returns the port that a browser connects to.
func (u URL) Port() uint16 {
	switch {
	case u.port != 0:
		return u.port
	case u.scheme == "http":
		return 80
	default:
		return 443
	}
}

// Path returns the canonical path; it begins with "/".
func (u URL) Path() string { return u.path }

// Query returns the query without its "?".
func (u URL) Query() string { return u.query }

// HasUserInfo reports whether the text named a user or a password before the host.
func (u URL) HasUserInfo() bool { return u.userInfo }

// Target returns path and query as they are asked for, "/path?query". It allocates where there is a query.
func (u URL) Target() string {
	if u.query == "" {
		return u.path
	}
	return u.path + "?" + u.query
}

// String returns scheme://host[:port]/path[?query]. [Parse] of it gives u again, but for the memory of
// user-info. It allocates.
func (u URL) String() string {
	if !u.IsValid() {
		return ""
	}
	port := ""
	if u.port != 0 {
		port = ":" + strconv.Itoa(int(u.port))
	}
	return u.scheme + "://" + u.host + port + u.Target()
}

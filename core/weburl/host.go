package weburl

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	whatwgerrors "github.com/nlnwa/whatwg-url/errors"
	whatwg "github.com/nlnwa/whatwg-url/url"
	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"
)

// Host is a host in the form in which hosts are compared. The zero Host is not valid.
type Host struct {
	ASCII string     // lower case, punycode, no trailing dot; an IPv6 address stands in brackets
	Addr  netip.Addr // valid where the host is an address
}

// ParseHost reads a host as a browser would: percent-escapes decoded, Unicode and full-width forms mapped to
// ASCII, addresses recognised in every spelling. The text is a host alone: where it holds a delimiter of a
// URL ("/", "?", "#", "@", ":" outside brackets, "\") or white space, the error says which.
func ParseHost(text string) (Host, error) {
	if plainName(text) {
		return Host{ASCII: text}, nil
	}
	if i := strings.IndexFunc(text, func(r rune) bool {
		return r <= ' ' || strings.ContainsRune(`/\?#@`, r) || r == ':' && !strings.HasPrefix(text, "[")
	}); i >= 0 {
		return Host{}, fmt.Errorf("%q cannot stand in a host name", text[i])
	}
	read, err := whatwg.Parse("http://" + text + "/")
	if err != nil {
		return Host{}, errors.New(reason(err))
	}
	ascii, addr := canonicalHost(read.Hostname())
	if ascii == "" {
		return Host{}, errors.New("there is no host name in it")
	}
	return Host{ASCII: ascii, Addr: addr}, nil
}

// plainName reports whether text is a host name that the URL Standard's parser leaves as it is, so that the
// parser need not be asked. It may say no where yes would be right, never the reverse.
func plainName(text string) bool {
	end, ok := plainHost(text)
	return ok && end == len(text)
}

// IsPlainName reports whether text is a host name that is its own ASCII form. It may say no where yes would be right.
func IsPlainName(text string) bool { return plainName(text) }

// canonicalHost drops one trailing dot and unmaps an IPv4 address inside an IPv6 one. The host is as the
// parser gives it. A host that is nothing else, or ends in more dots than one, names nothing: it comes back empty.
func canonicalHost(host string) (string, netip.Addr) {
	if strings.HasPrefix(host, "[") {
		addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
		if err != nil {
			return "", netip.Addr{}
		}
		if addr.Is4In6() {
			return addr.Unmap().String(), addr.Unmap()
		}
		return host, addr
	}
	host = strings.TrimSuffix(host, ".")
	if strings.HasSuffix(host, ".") {
		return "", netip.Addr{}
	}
	if host != "" && host[len(host)-1] >= '0' && host[len(host)-1] <= '9' {
		if addr, err := netip.ParseAddr(host); err == nil {
			return host, addr
		}
	}
	return host, netip.Addr{}
}

// Unicode returns the form of an ASCII host name that people read. Labels that are no valid punycode stay as
// they are.
func Unicode(ascii string) string {
	if !strings.Contains(ascii, "xn--") {
		return ascii
	}
	text, _ := idna.Punycode.ToUnicode(ascii)
	return text
}

// SplitSuffix cuts a host name before its public suffix (Public Suffix List, ICANN and private sections; a name
// under no listed suffix has its last label as suffix): "www.heron.co.uk" is "www.heron" and "co.uk". The
// name is empty where the host is itself a suffix. Precondition: host is a name in ASCII form, no address.
func SplitSuffix(host string) (name, suffix string) {
	suffix, _ = publicsuffix.PublicSuffix(host)
	if len(suffix) >= len(host) {
		return "", host
	}
	return host[:len(host)-len(suffix)-1], suffix
}

// reason says in our words what the parser's error means.
func reason(err error) string {
	switch whatwgerrors.Type(err) {
	case whatwgerrors.DomainToASCII:
		return "the host is not a valid international name"
	case whatwgerrors.DomainInvalidCodePoint, whatwgerrors.HostInvalidCodePoint:
		return "the host holds a character that no host name has"
	case whatwgerrors.IPv4OutOfRangePart:
		return "the host looks like an address, but a part of it is greater than 255"
	case whatwgerrors.IPv4TooManyParts, whatwgerrors.IPv4EmptyPart, whatwgerrors.IPv4NonNumericPart:
		return "the host ends in a number, but is no address"
	case whatwgerrors.IPv6Unclosed:
		return "the address is missing its closing bracket"
	case whatwgerrors.PortOutOfRange:
		return "the port is greater than 65535"
	case whatwgerrors.PortInvalid:
		return "the port is not a number"
	case whatwgerrors.HostMissing:
		return "there is no host name in it"
	}
	if text := strings.ToLower(string(whatwgerrors.Type(err))); strings.Contains(text, "ipv6") {
		return "the host is no valid IPv6 address"
	}
	return "it cannot be read as a URL"
}

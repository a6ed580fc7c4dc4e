package weburl

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	whatwgerrors "github.com/nlnwa/whatwg-url/errors"
	whatwg "github.com/nlnwa/whatwg-url/url"
	"golang.org/x/net/idna"
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
	ascii, addr, err := readHost(text)
	if err != nil {
		return Host{}, err
	}
	return Host{ASCII: ascii, Addr: addr}, nil
}

// plainName reports whether text is a host name that the URL Standard's parser leaves as it is, so that the
// parser need not run. It may report false for such a name, never true for another.
func plainName(text string) bool {
	end, ok := plainHost(text)
	return ok && end == len(text)
}

// IsPlainName reports whether text is a host name that is its own ASCII form. It may report false for such a name, never true for another.
func IsPlainName(text string) bool { return plainName(text) }

// maxHost is the longest host that is read, in bytes: the 253 characters that a name can have (RFC 1035, section 2.3.4), each as
// the escapes of four bytes, with some room to spare. The library's time grows with the square of the length.
const maxHost = 4 << 10

// readHost reads a host as the URL Standard does (section 3.5), drops one trailing dot, and unmaps an IPv4 address inside an IPv6
// one. Errors are reasons. A host of dots only, or one that ends in more dots than one, names nothing.
func readHost(text string) (ascii string, addr netip.Addr, err error) {
	if strings.HasPrefix(text, "[") {
		return readIPv6(text)
	}
	if len(text) > maxHost {
		return "", addr, fmt.Errorf("the host is longer than %d bytes", maxHost)
	}
	decoded := decodeEscapes(text)
	if !utf8.ValidString(decoded) {
		return "", addr, errors.New(notInternational)
	}
	if ascii, err = lenient.ToASCII(decoded); err != nil || emptyPunycode(strings.ToLower(decoded), ascii) {
		return "", addr, errors.New(notInternational)
	}
	if strings.ContainsFunc(ascii, func(r rune) bool { return whatwg.ForbiddenDomainCodePoint.Test(uint(r)) }) {
		return "", addr, errors.New("the host holds a character that no host name has")
	}
	ascii = strings.TrimSuffix(ascii, ".")
	if ascii == "" || strings.HasSuffix(ascii, ".") {
		return "", addr, errors.New("there is no host name in it")
	}
	if endsInNumber(ascii) {
		if addr, err = readIPv4(ascii); err != nil {
			return "", addr, err
		}
		return addr.String(), addr, nil
	}
	return ascii, netip.Addr{}, nil
}

const notInternational = "the host is not a valid international name"

// lenient maps names as browsers do (URL Standard, section 3.3): it accepts ASCII characters that no registered name has, above all "_".
// The parser's own profile refuses them in names that hold letters beyond ASCII.
var lenient = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.VerifyDNSLength(false), idna.StrictDomainName(false),
	idna.ValidateLabels(true), idna.CheckHyphens(false), idna.CheckJoiners(true), idna.Transitional(false))

// MapName maps a piece of a host name as browsers map names (URL Standard, section 3.3): letter case folded, full-width and other
// compatible forms replaced, ignored characters left out. Letters beyond ASCII stay. Characters that no name can hold are not checked.
func MapName(piece string) string {
	labels := strings.Split(PlainDots(piece), ".")
	for i, label := range labels {
		if labels[i] = strings.ToLower(label); strings.ContainsFunc(label, func(r rune) bool { return r >= utf8.RuneSelf }) {
			labels[i], _ = lenient.ToUnicode(label)
		}
	}
	return strings.Join(labels, ".")
}

// PlainDots replaces the characters that count as dots in host names (UTS #46, section 2.3) by the ASCII dot.
func PlainDots(host string) string { return dots.Replace(host) }

var dots = strings.NewReplacer("。", ".", "．", ".", "｡", ".")

// emptyPunycode reports whether a host, as read and in ASCII form, has a label "xn--" with nothing after it that stands for a letter
// beyond ASCII. Such labels are not valid (UTS #46, section 4, step 4), but the library accepts them.
func emptyPunycode(read, ascii string) bool {
	for label := range strings.SplitSeq(read+"."+ascii, ".") {
		if rest, ok := strings.CutPrefix(label, "xn--"); ok && (rest == "" || strings.HasSuffix(rest, "-")) {
			return true
		}
	}
	return emptyLabels(ascii) > emptyLabels(PlainDots(read))
}

func emptyLabels(host string) int {
	return strings.Count("."+host+".", "..") // of "...", two labels, one pair is counted: enough for a comparison
}

// decodeEscapes decodes the escapes of a host. A "%" that begins no escape stays.
func decodeEscapes(text string) string {
	if strings.IndexByte(text, '%') < 0 {
		return text
	}
	b := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if c, ok := escape(text, i); ok {
			b = append(b, c)
			i += 2
			continue
		}
		b = append(b, text[i])
	}
	return string(b)
}

func readIPv6(text string) (string, netip.Addr, error) {
	read, err := whatwg.Parse("http://" + text + "/")
	if err != nil {
		return "", netip.Addr{}, errors.New(reason(err))
	}
	addr, err := netip.ParseAddr(strings.Trim(read.Hostname(), "[]"))
	if err != nil {
		return "", netip.Addr{}, errors.New("the host is not a valid IPv6 address")
	}
	if addr.Is4In6() {
		return addr.Unmap().String(), addr.Unmap(), nil
	}
	return "[" + addr.String() + "]", addr, nil
}

// endsInNumber reports whether the last label of a host is a number, which makes the host an address or nothing (URL Standard,
// section 3.5, the ends-in-a-number checker). Precondition: host has no trailing dot.
func endsInNumber(host string) bool {
	last := host[strings.LastIndexByte(host, '.')+1:]
	if last != "" && strings.Trim(last, "0123456789") == "" {
		return true
	}
	hex, ok := strings.CutPrefix(last, "0x")
	return ok && strings.Trim(hex, "0123456789abcdef") == ""
}

// readIPv4 reads an IPv4 address in any spelling that browsers read (URL Standard, section 3.5, the IPv4 parser): one to four
// numbers, decimal, octal or hexadecimal, the last of which fills the remaining bytes. Errors are reasons.
func readIPv4(host string) (netip.Addr, error) {
	const notAddress = "the host ends in a number, but is not an address"
	parts := strings.Split(host, ".")
	if len(parts) > 4 {
		return netip.Addr{}, errors.New(notAddress)
	}
	var value uint64
	for i, part := range parts {
		digits, base := part, 10
		if hex, ok := strings.CutPrefix(part, "0x"); ok {
			digits, base = hex, 16
		} else if len(part) > 1 && part[0] == '0' {
			digits, base = part[1:], 8
		}
		if digits == "" && base == 16 {
			digits = "0"
		}
		if digits == "" || digits[0] == '+' || digits[0] == '-' {
			return netip.Addr{}, errors.New(notAddress)
		}
		n, err := strconv.ParseUint(digits, base, 64)
		if errors.Is(err, strconv.ErrSyntax) {
			return netip.Addr{}, errors.New(notAddress)
		}
		room := uint64(256) // how many values the part can have
		if i == len(parts)-1 {
			room = 1 << (8 * (5 - len(parts)))
		}
		if err != nil || n >= room {
			return netip.Addr{}, errors.New("the host looks like an address, but a part of it is greater than 255")
		}
		value = value*room + n
	}
	return netip.AddrFrom4([4]byte{byte(value >> 24), byte(value >> 16), byte(value >> 8), byte(value)}), nil
}

// Unicode returns the Unicode form of an ASCII host name, as people read it. Labels that are not valid punycode stay as they are.
func Unicode(ascii string) string {
	if !strings.Contains(ascii, "xn--") {
		return ascii
	}
	text, _ := idna.Punycode.ToUnicode(ascii)
	return text
}

// reason translates an error of the parser into a reason for people.
func reason(err error) string {
	switch whatwgerrors.Type(err) {
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
		return "the host is not a valid IPv6 address"
	}
	return "it cannot be read as a URL"
}

package pattern

import (
	"errors"
	"fmt"
	"math/bits"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"widelark/core/weburl"
)

// suggest returns the entry that a refused line probably means, "" where none is likely. It tries the slips that
// people make, one after the other, and keeps the first whose mended line parses: a suggestion is never wrong
// notation, only perhaps not what was meant.
func suggest(line string, err *Error) string {
	body, note := cutNote(line)
	body = strings.TrimSpace(body)
	if body == "" || len(body) > MaxLength || err.Code == NotText {
		return ""
	}
	tried := slips
	if strings.HasPrefix(body, "~") {
		tried = regexSlips
	}
	for _, slip := range tried {
		mended := slip(body)
		if mended == body {
			continue
		}
		if note != "" {
			mended += " # " + note
		}
		if entry, err := parseKept(mended); err == nil && entry.Pattern.IsValid() {
			return entry.String()
		}
	}
	return ""
}

var (
	almostHTTP  = regexp.MustCompile(`(?i)^h{0,2}[tx]{1,3}p{1,2}s{0,2}[:;]?/{1,3}`)
	beforeAt    = regexp.MustCompile(`^[^@\s/]+@`)
	attrName    = regexp.MustCompile(`(?i)\[\s*(?:un?ti?l?l?|till?|unitl|end|ends|expires)[\s:=]+([0-9-]+)\s*\]$`)
	attrOff     = regexp.MustCompile(`(?i)\[\s*(?:of|disabled|inactive|no)\s*\]$`)
	attrJoined  = regexp.MustCompile(`(?i)([^\s\[])(\[\s*(?:off|until\s[^\]]*)\])$`)
	strayBlank  = regexp.MustCompile(`\s+\.\s*|\.\s+`)
	repeatedDot = regexp.MustCompile(`\.{2,}`)
	labelled    = regexp.MustCompile(`(?i)^[a-z-]+:\s*([^\s:/]+\.\S+)$`)
	ranked      = regexp.MustCompile(`^\d+[,;\t ]\s*(\S+\.\S+)$`)
	framed      = regexp.MustCompile(`^[|]{1,2}([^|^]+)\^?[|]?$|^([^|^]+)\^$`)
	curly       = regexp.MustCompile(`[“”„‟«»]`)
	slashed     = regexp.MustCompile(`^/(.+)/i?$`)
	bareIPv6    = regexp.MustCompile(`(?i)^(https?://)?((?:[0-9a-f]{0,4}:){2,7}[0-9a-f]{0,4})(/.*)?$`)
	shortForm   = regexp.MustCompile(`^[+-]?(\d+(?:\.\d+){0,3})(\.?)(?:/(\S+))?$`)
	oddHost     = regexp.MustCompile(`(?i)^(=?(?:https?://)?)([0-9a-fx.]+)((?:[:/?].*)?)$`)
	splitTarget = regexp.MustCompile(`(?i)^~\s+(host|path)\s+(\S.*)$`)
	narrowed    = regexp.MustCompile(`(?i)^~(?:host|path)\s+(\S.*)$`)
	pathStart   = regexp.MustCompile(`(?i)^(~path\s+\^)([^/\\[(.])`)
	hostStart   = regexp.MustCompile(`(?i)^~\s+(\^[a-z0-9])`)
	emptyLabel  = regexp.MustCompile(`(?i)\bxn--(\.|$)`)
)

// regexSlips are the mistakes in expressions that suggest knows how to undo.
var regexSlips = []func(string) string{
	func(s string) string {
		return strings.ToLower(splitTarget.ReplaceAllString(s, "~$1")) + splitTarget.ReplaceAllString(s, " $2")
	},
	everything, // ~ .*
	func(s string) string { return pathStart.ReplaceAllString(s, "$1/$2") },    // ~path ^wards
	func(s string) string { return hostStart.ReplaceAllString(s, "~host $1") }, // ~ ^heron
	escapedRegex, // ~ bücher
	func(s string) string { return narrowed.ReplaceAllString(s, "~ $1") }, // ~host ^https://
}

// everything turns an expression that covers every URL into "*".
func everything(s string) string {
	head, expr, _ := cutBlank(s)
	expr = strings.TrimSpace(expr)
	re, err := CompileRegex(expr)
	if errors.Is(err, errMatchesEverything) || err == nil && matchesAll(re, expr, regexHeads[strings.ToLower(head)]) {
		return "*"
	}
	return s
}

// escapedRegex writes letters beyond ASCII as they stand in canonical URLs.
func escapedRegex(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if s[i] < utf8.RuneSelf {
			b.WriteByte(s[i])
		} else {
			fmt.Fprintf(&b, "%%%02X", s[i])
		}
	}
	return b.String()
}

// slips are the mistakes that suggest knows how to undo; the likelier first.
var slips = []func(string) string{
	completeAddress,  // 10/8, 192.168.1., 192.168.1.1/255.255.255.0
	canonicalAddress, // 0x7f.1/wards
	func(s string) string { // htps://heron.example/wards, http:/heron.example
		if rest := almostHTTP.ReplaceAllString(s, ""); rest != s {
			rest, _, _ = strings.Cut(rest, "?")
			rest, _, _ = strings.Cut(rest, "#")
			return rest
		}
		return s
	},
	func(s string) string { // .heron.example
		if strings.HasPrefix(s, ".") && len(s) > 1 && s[1] != '*' {
			return "*." + strings.TrimLeft(s, ".")
		}
		return s
	},
	func(s string) string { // **, *., .*
		if strings.Contains(s, "*") && strings.Trim(s, "*.") == "" {
			return "*"
		}
		return s
	},
	func(s string) string { return attrJoined.ReplaceAllString(s, "$1 $2") }, // heron.example[off]
	func(s string) string { return ranked.ReplaceAllString(s, "$1") },        // 1,heron.example
	func(s string) string { return labelled.ReplaceAllString(s, "$1") },      // domain:heron.example
	func(s string) string { return framed.ReplaceAllString(s, "$1$2") },      // ||heron.example^
	straightQuotes, // “betting”
	slashedRegex,   // /ads[0-9]+/
	bracketed,      // http://2001:db8::1/
	func(s string) string { return repeatedDot.ReplaceAllString(s, ".") },                  // heron..example
	func(s string) string { return strings.ReplaceAll(s, ",", ".") },                       // heron,example
	func(s string) string { return strings.ReplaceAll(s, `\`, "/") },                       // heron.example\wards
	func(s string) string { return beforeAt.ReplaceAllString(s, "") },                      // someone@heron.example
	func(s string) string { return strayBlank.ReplaceAllString(s, ".") },                   // heron .example
	func(s string) string { return attrName.ReplaceAllString(s, "[until $1]") },            // [untl 2026-12-24]
	func(s string) string { return attrOff.ReplaceAllString(s, "[off]") },                  // [of]
	func(s string) string { before, _, _ := strings.Cut(s, "#"); return before },           // heron.example/wards#map
	func(s string) string { return strings.TrimRight(s, ".,;:)") },                         // heron.example,
	func(s string) string { return strings.Trim(emptyLabel.ReplaceAllString(s, ""), ".") }, // heron.xn--
}

// straightQuotes reads a word in typographic quotation marks; with a dot in it, it is a site that somebody quoted.
func straightQuotes(s string) string {
	straight := curly.ReplaceAllString(s, `"`)
	if straight != s && strings.Contains(s, ".") {
		return strings.Trim(straight, `"`)
	}
	return straight
}

// slashedRegex reads what stands between slashes: an expression where it holds characters that only those give a meaning, else a
// path on every host.
func slashedRegex(s string) string {
	inner := slashed.FindStringSubmatch(s)
	switch {
	case inner != nil && strings.ContainsAny(inner[1], `[](){}+?^$|\`):
		return "~ " + strings.ReplaceAll(inner[1], `\/`, "/")
	case strings.HasPrefix(s, "/") && !strings.HasPrefix(s, "//"):
		return "*" + s
	}
	return s
}

// bracketed puts an IPv6 address in the brackets that it needs before a path or after a scheme.
func bracketed(s string) string {
	address := bareIPv6.FindStringSubmatch(s)
	if address == nil || address[1] == "" && isNumber(strings.Trim(address[3], "/")) { // a range that is wrong
		return s
	}
	return address[1] + "[" + address[2] + "]" + address[3]
}

// completeAddress reads an IPv4 address of which numbers are left out, or whose range is given as a mask.
func completeAddress(s string) string {
	short := shortForm.FindStringSubmatch(s)
	if short == nil {
		return s
	}
	var parts [4]byte
	numbers := strings.Split(short[1], ".")
	for i, number := range numbers {
		n, err := strconv.ParseUint(strings.TrimLeft(number, "0")+"", 10, 8)
		if strings.Trim(number, "0") == "" {
			n, err = 0, nil
		}
		if err != nil {
			return s
		}
		parts[i] = byte(n)
	}
	length := 8 * len(numbers)
	switch mask, err := netip.ParseAddr(short[3]); {
	case err == nil && mask.Is4():
		m := mask.As4()
		ones := uint32(m[0])<<24 | uint32(m[1])<<16 | uint32(m[2])<<8 | uint32(m[3])
		if length = bits.LeadingZeros32(^ones); bits.OnesCount32(ones) != length {
			return s
		}
	case short[3] != "":
		n, err := strconv.Atoi(short[3])
		if err != nil || n > 32 || n < 0 {
			return s
		}
		length = n
	case len(numbers) == 4:
		return netip.AddrFrom4(parts).String()
	case parts[0] == 127 && short[2] == "" && len(numbers) > 1: // as browsers read it
		return canonicalAddress(s)
	}
	return netip.PrefixFrom(netip.AddrFrom4(parts), length).Masked().String()
}

// canonicalAddress reads an IPv4 address in a spelling that browsers read, with what follows it.
func canonicalAddress(s string) string {
	odd := oddHost.FindStringSubmatch(s)
	if odd == nil {
		return s
	}
	host, err := weburl.ParseHost(odd[2])
	if err != nil || !host.Addr.Is4() {
		return s
	}
	return fmt.Sprint(odd[1], host.Addr, odd[3])
}

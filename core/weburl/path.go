package weburl

import (
	"strings"
	"unicode"
	"unicode/utf8"

	whatwg "github.com/nlnwa/whatwg-url/url"
)

// ParsePath brings the path of a pattern to the form that a URL's path has: "/wards/../%7emap" is "/~map".
// Precondition: text begins with "/" and holds neither "?" nor "#".
func ParsePath(text string) string {
	if plainPath(text) {
		return text
	}
	read, err := whatwg.Parse("http://host" + text)
	if err != nil {
		panic("bug: a path was refused: " + err.Error())
	}
	return canonicalPath(read.Pathname())
}

// plainPath reports whether text is already canonical. It may report false for a canonical path, never true for another.
func plainPath(text string) bool { return plainSegments(text) == len(text) }

// canonicalPath brings escapes to one spelling and folds runs of "/". The path has been through the URL Standard's
// parser, so dot segments are gone, escaped ones too.
func canonicalPath(path string) string {
	path = CanonicalEscapes(path)
	for strings.Contains(path, "//") {
		path = strings.ReplaceAll(path, "//", "/")
	}
	if path == "" {
		return "/"
	}
	return path
}

// CanonicalEscapes brings the escapes of a path or query to the spelling that they have in a canonical URL: unreserved characters are
// decoded, other escapes are in upper case, a "%" that begins no escape is "%25".
func CanonicalEscapes(text string) string {
	if strings.IndexByte(text, '%') < 0 {
		return text
	}
	b := make([]byte, 0, len(text)+2)
	for i := 0; i < len(text); {
		if text[i] != '%' {
			b = append(b, text[i])
			i++
			continue
		}
		var size int
		b, size = appendEscape(b, text, i)
		i += size
	}
	return string(b)
}

// appendEscape appends the canonical spelling of the escape at text[i], and returns its length in text, in bytes. An unreserved character is
// decoded (RFC 3986, section 6.2.2.2); any other escape is written in upper case (section 6.2.2.1). A "%" that begins no escape is itself escaped,
// so that no character decoded after it can complete it to one ("%C%33" is "%25C3"). Precondition: text[i] is "%".
func appendEscape(dst []byte, text string, i int) ([]byte, int) {
	c, ok := escape(text, i)
	switch {
	case !ok:
		return append(dst, "%25"...), 1
	case unreserved(c):
		return append(dst, c), 3
	}
	return append(dst, '%', upper(text[i+1]), upper(text[i+2])), 3
}

// FoldPath returns a path in the form in which paths are compared: letter case folded, in escaped Unicode
// letters too, so that /Wards, /wards and /W%C3%84RDE, /w%C3%A4rde are alike. Escapes of ASCII characters stay.
// It allocates only where something changes.
func FoldPath(path string) string {
	for i := 0; i < len(path); i++ {
		if c := path[i]; c == '%' || c >= 'A' && c <= 'Z' || c >= utf8.RuneSelf {
			return string(AppendFolded(make([]byte, 0, len(path)), path))
		}
	}
	return path
}

// AppendFolded appends the result of [FoldPath] to dst. It allocates only if dst has to grow.
func AppendFolded(dst []byte, path string) []byte {
	for i := 0; i < len(path); {
		if path[i] >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(path[i:])
			dst = utf8.AppendRune(dst, unicode.ToLower(r))
			i += size
			continue
		}
		if c, ok := escape(path, i); !ok || c < utf8.RuneSelf {
			dst = append(dst, lower(path[i]))
			i++
			continue
		}
		var raw [utf8.UTFMax]byte
		n := 0
		for c, ok := escape(path, i+3*n); ok && n < utf8.UTFMax; c, ok = escape(path, i+3*n) {
			raw[n] = c
			n++
		}
		size := 1
		if r, width := utf8.DecodeRune(raw[:n]); r != utf8.RuneError {
			dst, size = utf8.AppendRune(dst, unicode.ToLower(r)), width
		} else {
			dst = append(dst, '%', lower(path[i+1]), lower(path[i+2]))
		}
		i += 3 * size
	}
	return dst
}

// escape returns the byte that the percent-escape at s[i:] stands for, and false if there is no escape.
func escape(s string, i int) (byte, bool) {
	if i+2 >= len(s) || s[i] != '%' {
		return 0, false
	}
	high, ok1 := hexDigit(s[i+1])
	low, ok2 := hexDigit(s[i+2])
	return high<<4 | low, ok1 && ok2
}

func hexDigit(c byte) (byte, bool) {
	switch {
	case c >= '0' && c <= '9':
		return c - '0', true
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return (c | 0x20) - 'a' + 10, true
	}
	return 0, false
}

// unreserved reports whether c needs no escape anywhere in a URL (RFC 3986, section 2.3).
func unreserved(c byte) bool {
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_' || c == '~'
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

package weburl

import (
	"bytes"
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

// plainPath reports whether text is already canonical. It may say no where yes would be right.
func plainPath(text string) bool { return plainSegments(text) == len(text) }

// canonicalPath decodes escapes of unreserved characters, writes the others in upper case and folds runs of
// "/". The path has been through the URL Standard's parser, so dot segments are gone, escaped ones too.
func canonicalPath(path string) string {
	if strings.IndexByte(path, '%') >= 0 {
		b := make([]byte, 0, len(path))
		for i := 0; i < len(path); i++ {
			c, ok := escape(path, i)
			switch {
			case !ok:
				b = append(b, path[i])
				continue
			case unreserved(c) && !strayPercent(b):
				b = append(b, c)
			default:
				b = append(b, strings.ToUpper(path[i:i+3])...)
			}
			i += 2
		}
		path = string(b)
	}
	for strings.Contains(path, "//") {
		path = strings.ReplaceAll(path, "//", "/")
	}
	if path == "" {
		return "/"
	}
	return path
}

// strayPercent reports whether what is decoded next could become an escape together with a "%" that begins none: the
// "b" of "%%62f" must not make "%bf" of it.
func strayPercent(before []byte) bool {
	return bytes.IndexByte(before[max(0, len(before)-2):], '%') >= 0
}

// upperEscapes writes the escapes of a query in upper case.
func upperEscapes(query string) string {
	if strings.IndexByte(query, '%') < 0 {
		return query
	}
	b := []byte(query)
	for i := range b {
		if _, ok := escape(query, i); ok {
			copy(b[i:], strings.ToUpper(query[i:i+3]))
		}
	}
	return string(b)
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

// AppendFolded appends to dst what [FoldPath] makes of a path. It allocates only where dst has to grow.
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

// escape returns the byte that the percent-escape at s[i:] stands for.
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

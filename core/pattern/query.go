package pattern

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Param is one parameter that a pattern asks for.
type Param struct {
	Name  string // decoded and folded
	Value Glob   // decoded and folded; nil where the parameter has only to be there
}

// Glob is what stands between the stars of a glob: one piece is a text without a star, "a*b" is two pieces.
type Glob []string

// ParseGlob cuts a text at its stars.
func ParseGlob(text string) Glob { return strings.Split(text, "*") }

// Match reports whether text is the pieces in order with anything between them, from its start to its end. It allocates
// nothing. The leftmost place for each piece is right: a later one would leave less room for the rest.
func (g Glob) Match(text string) bool {
	last := len(g) - 1
	if last == 0 {
		return text == g[0]
	}
	rest, found := strings.CutPrefix(text, g[0])
	for _, piece := range g[1:last] {
		if !found {
			return false
		}
		_, rest, found = strings.Cut(rest, piece)
	}
	return found && strings.HasSuffix(rest, g[last])
}

// Params returns the parameters that p asks for; all of them must be there, in any order.
func (p Pattern) Params() []Param {
	if p.query == "" {
		return nil
	}
	var params []Param
	for text := range strings.SplitSeq(p.query, "&") {
		name, value, given := strings.Cut(text, "=")
		param := Param{Name: DecodeForm(name)}
		if given {
			param.Value = ParseGlob(value)
			for i := range param.Value {
				param.Value[i] = DecodeForm(param.Value[i])
			}
		}
		params = append(params, param)
	}
	return params
}

// Covers reports whether a query holds the parameter. The query is as [weburl.URL.Query] gives it.
func (p Param) Covers(query string) bool {
	for text := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(text, "=")
		if text != "" && DecodeForm(name) == p.Name && (p.Value == nil || p.Value.Match(DecodeForm(value))) {
			return true
		}
	}
	return false
}

// DecodeForm decodes a piece of a query as forms are (URL Standard, section 5.1): "+" is a space, escapes are bytes of
// UTF-8. What is not an escape stays. Letter case is folded.
func DecodeForm(text string) string {
	if plainText(text, '+') {
		return text
	}
	return string(AppendDecoded(nil, text, true))
}

// Decode decodes the escapes of a path or of a piece of a query, and folds letter case. Bytes that are not UTF-8 become
// U+FFFD.
func Decode(text string) string {
	if plainText(text, '%') {
		return text
	}
	return string(AppendDecoded(nil, text, false))
}

// plainText reports whether decoding and folding would leave text as it is; also is a character beside "%" that would not.
func plainText(text string, also byte) bool {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c >= utf8.RuneSelf || c == '%' || c == also || c >= 'A' && c <= 'Z' {
			return false
		}
	}
	return true
}

// AppendDecoded appends to dst what [Decode], or [DecodeForm], makes of a text. It allocates only where dst has to grow.
func AppendDecoded(dst []byte, text string, form bool) []byte {
	var raw [utf8.UTFMax]byte // bytes that are not yet a whole character
	held, invalid := 0, false
	flush := func(all bool) {
		for held > 0 && (all || utf8.FullRune(raw[:held])) {
			r, size := utf8.DecodeRune(raw[:held])
			held = copy(raw[:], raw[size:held])
			if r == utf8.RuneError && size == 1 {
				if !invalid { // a run of them is one
					dst = utf8.AppendRune(dst, utf8.RuneError)
				}
				invalid = true
				continue
			}
			invalid = false
			dst = utf8.AppendRune(dst, unicode.ToLower(r))
		}
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '+' && form:
			c = ' '
		case c == '%' && i+2 < len(text):
			if high, low := nibble(text[i+1]), nibble(text[i+2]); high >= 0 && low >= 0 {
				c, i = byte(high<<4|low), i+2
			}
		}
		if held == 0 && c < utf8.RuneSelf {
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			dst, invalid = append(dst, c), false
			continue
		}
		raw[held] = c
		held++
		flush(false)
	}
	flush(true)
	return dst
}

func nibble(c byte) int { return strings.IndexByte("0123456789abcdef", lowerHex(c)) }

func lowerHex(c byte) byte {
	if c >= 'A' && c <= 'F' {
		return c + 'a' - 'A'
	}
	return c
}

// queryKey writes parameters in the form in which queries of patterns are compared: decoded, folded, in order, each once, with
// the characters escaped that the notation gives a meaning.
func queryKey(params []Param) string {
	if len(params) == 0 {
		return ""
	}
	texts := make([]string, 0, len(params))
	for _, p := range params {
		text := keyEscapes.Replace(p.Name)
		if p.Value != nil {
			var pieces []string
			for _, piece := range p.Value {
				pieces = append(pieces, keyEscapes.Replace(piece))
			}
			text += "=" + strings.Join(pieces, "*")
		}
		texts = append(texts, text)
	}
	slices.Sort(texts)
	return strings.Join(slices.Compact(texts), "&")
}

var keyEscapes = strings.NewReplacer("%", "%25", "&", "%26", "=", "%3d", "*", "%2a", "+", "%2b", "#", "%23", " ", "+")

package pattern

import "strings"

// Param is one parameter that a pattern asks for.
type Param struct {
	Name string // decoded and folded
	// Pieces are what stands between the stars of the value, decoded and folded: one piece is the value itself, "a*b" is
	// two. There are none where the parameter has only to be there.
	Pieces []string
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
			param.Pieces = strings.Split(value, "*")
			for i := range param.Pieces {
				param.Pieces[i] = DecodeForm(param.Pieces[i])
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
		if text != "" && DecodeForm(name) == p.Name && (p.Pieces == nil || matchPieces(DecodeForm(value), p.Pieces)) {
			return true
		}
	}
	return false
}

// matchPieces reports whether text is the pieces in order with anything between them, from its start to its end. The
// leftmost place for each is right: a later one would leave less room for the rest.
func matchPieces(text string, pieces []string) bool {
	last := len(pieces) - 1
	if last == 0 {
		return text == pieces[0]
	}
	rest, found := strings.CutPrefix(text, pieces[0])
	for _, piece := range pieces[1:last] {
		if !found {
			return false
		}
		_, rest, found = strings.Cut(rest, piece)
	}
	return found && strings.HasSuffix(rest, pieces[last])
}

// DecodeForm decodes a piece of a query as forms are (URL Standard, section 5.1): "+" is a space, escapes are bytes of
// UTF-8. What is no escape stays. Letter case is folded.
func DecodeForm(text string) string {
	return Decode(strings.ReplaceAll(text, "+", " "))
}

// Decode decodes the escapes of a path or of a piece of a query, and folds letter case. Bytes that are not UTF-8 become
// U+FFFD.
func Decode(text string) string {
	if strings.IndexByte(text, '%') < 0 {
		return strings.ToLower(text)
	}
	b := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if i+2 < len(text) && text[i] == '%' {
			if high, low := nibble(text[i+1]), nibble(text[i+2]); high >= 0 && low >= 0 {
				b = append(b, byte(high<<4|low))
				i += 2
				continue
			}
		}
		b = append(b, text[i])
	}
	return strings.ToLower(strings.ToValidUTF8(string(b), "\uFFFD"))
}

func nibble(c byte) int { return strings.IndexByte("0123456789abcdef", lowerHex(c)) }

func lowerHex(c byte) byte {
	if c >= 'A' && c <= 'F' {
		return c + 'a' - 'A'
	}
	return c
}

// foldQuery brings the query of a pattern to the form in which queries are compared: letter case folded, "+" and the
// escape of a space alike.
func foldQuery(query string) string {
	return strings.ToLower(strings.ReplaceAll(query, "%20", "+"))
}

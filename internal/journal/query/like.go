package query

import (
	"strings"
)

// like returns what reports whether a text is like another one, in which * is any run of characters.
func like(wild string) func(string) bool {
	parts := strings.Split(wild, "*")
	if len(parts) == 1 {
		return func(text string) bool { return text == wild }
	}
	first, middle, last := parts[0], parts[1:len(parts)-1], parts[len(parts)-1]
	return func(text string) bool {
		if len(text) < len(first)+len(last) || !strings.HasPrefix(text, first) || !strings.HasSuffix(text, last) {
			return false
		}
		text = text[len(first) : len(text)-len(last)]
		for _, part := range middle {
			at := strings.Index(text, part)
			if at < 0 {
				return false
			}
			text = text[at+len(part):]
		}
		return true
	}
}

// likeFold is like, and ignores letter case.
func likeFold(wild string) func(string) bool {
	is := like(strings.ToLower(wild))
	return func(text string) bool { return is(strings.ToLower(text)) }
}

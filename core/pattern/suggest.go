package pattern

import (
	"regexp"
	"strings"
)

// suggest returns the entry that a refused line probably means, "" where none is likely. It tries the slips that
// people make, one after the other, and keeps the first whose mended line parses: a suggestion is never wrong
// notation, only perhaps not what was meant.
func suggest(line string, err *Error) string {
	body, note := cutNote(line)
	body = strings.TrimSpace(body)
	if body == "" || len(body) > MaxLength || strings.HasPrefix(body, "~") || err.Code == NotText {
		return ""
	}
	for _, slip := range slips {
		mended := slip(body)
		if mended == body {
			continue
		}
		if note != "" {
			mended += " # " + note
		}
		if entry, err := parse(mended); err == nil && entry.Pattern.IsValid() {
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
	strayBlank  = regexp.MustCompile(`\s+\.\s*|\.\s+`)
	repeatedDot = regexp.MustCompile(`\.{2,}`)
)

// slips are the mistakes that suggest knows how to undo; the likelier first.
var slips = []func(string) string{
	func(s string) string { // htps://heron.example/wards, http:/heron.example
		if rest := almostHTTP.ReplaceAllString(s, ""); rest != s {
			rest, _, _ = strings.Cut(rest, "?")
			rest, _, _ = strings.Cut(rest, "#")
			return rest
		}
		return s
	},
	func(s string) string { // .heron.example
		if strings.HasPrefix(s, ".") {
			return "*." + strings.TrimLeft(s, ".")
		}
		return s
	},
	func(s string) string { return repeatedDot.ReplaceAllString(s, ".") },        // heron..example
	func(s string) string { return strings.ReplaceAll(s, ",", ".") },             // heron,example
	func(s string) string { return strings.ReplaceAll(s, `\`, "/") },             // heron.example\wards
	func(s string) string { return beforeAt.ReplaceAllString(s, "") },            // someone@heron.example
	func(s string) string { return strayBlank.ReplaceAllString(s, ".") },         // heron .example
	func(s string) string { return attrName.ReplaceAllString(s, "[until $1]") },  // [untl 2026-12-24]
	func(s string) string { return attrOff.ReplaceAllString(s, "[off]") },        // [of]
	func(s string) string { before, _, _ := strings.Cut(s, "#"); return before }, // heron.example/wards#map
	func(s string) string { return strings.TrimRight(s, ".,;:)") },               // heron.example,
}

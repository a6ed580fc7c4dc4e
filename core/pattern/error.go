package pattern

import (
	"fmt"
	"strings"
)

// Code identifies a kind of error in a line. Programs branch on it; people read [Error.Error].
type Code string

// Why a line is refused.
const (
	// BadHost: the host is not one that a browser could go to.
	// Example: heron..example
	BadHost Code = "bad-host"

	// BadPath: the path holds something that no path can hold.
	// Example: heron.example/wards#map
	BadPath Code = "bad-path"

	// BadQuery: a parameter without a name.
	// Example: heron.example/find?=boat
	BadQuery Code = "bad-query"

	// BadWord: what stands in quotation marks is not a word.
	// Example: "bet*ting"
	BadWord Code = "bad-word"

	// BadScheme: only http and https are decided on.
	// Example: gopher://heron.example
	BadScheme Code = "bad-scheme"

	// BadRegex: the expression is not RE2 syntax, matches nothing or matches everything.
	// Example: ~ heron(
	BadRegex Code = "bad-regex"

	// BadAttribute: what stands in the brackets is not an attribute.
	// Example: heron.example [untl 2026-12-24]
	BadAttribute Code = "bad-attribute"

	// Misplaced: the line holds something in a place where the notation allows nothing.
	// Example: heron.example bittern.example
	Misplaced Code = "misplaced"

	// TooLong: the pattern is longer than MaxLength, or the line than MaxLine.
	TooLong Code = "too-long"

	// NotText: the line is not valid UTF-8, or holds control characters.
	NotText Code = "not-text"
)

// Codes lists every code.
var Codes = []Code{BadHost, BadPath, BadQuery, BadWord, BadScheme, BadRegex, BadAttribute, Misplaced, TooLong, NotText}

// Error describes an error in a line: where it is, what was found there, what was expected and, if there is a likely one, the fix.
type Error struct {
	Line       int // 1-based; 0 where the text is not part of a file
	Column     int // 1-based, in characters (Unicode code points)
	Code       Code
	Found      string // the wrong piece; "" at the end of the line
	Expected   string // what the notation allows there; a clause without final dot
	Suggestion string // an entry that parses and that the author probably means; "" if none is likely
}

// Error returns one sentence without final dot, without line and column.
func (e *Error) Error() string {
	found := "the line ends"
	if e.Found != "" {
		found = "found " + quote(e.Found)
	}
	text := fmt.Sprintf("%s, expected %s", found, e.Expected)
	if e.Suggestion != "" {
		text += fmt.Sprintf("; did you mean %s?", e.Suggestion)
	}
	return text
}

// quote shows a piece of a line, shortened; control characters become visible.
func quote(piece string) string {
	if runes := []rune(piece); len(runes) > 60 {
		piece = string(runes[:60]) + "…"
	}
	if strings.ContainsFunc(piece, func(r rune) bool { return r < ' ' }) {
		return fmt.Sprintf("%q", piece)
	}
	return `"` + piece + `"`
}

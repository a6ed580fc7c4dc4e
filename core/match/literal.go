package match

import (
	"regexp/syntax"
	"strings"
	"unicode"
	"unicode/utf8"
)

// longest returns the piece that is the best need, or nothing if all are too short.
func longest(pieces []string) []string {
	best := ""
	for _, piece := range pieces {
		if worth(piece) > worth(best) {
			best = piece
		}
	}
	if best == "" {
		return nil
	}
	return []string{best}
}

// maxNeeds bounds how many texts one pattern may name: with more, trying it costs less than looking for them all.
const maxNeeds = 32

// required returns texts, in lower case, of which every match of the expression holds at least one; nothing where the
// expression requires no such text. The expression is applied to canonical URLs, which are ASCII, without regard to
// letter case, so literals are compared in lower case.
func required(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		text := strings.ToLower(string(re.Rune))
		if strings.ContainsFunc(text, func(r rune) bool { return r >= utf8.RuneSelf }) || worth(text) == 0 {
			return nil
		}
		return []string{text}
	case syntax.OpCapture, syntax.OpPlus:
		return required(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return required(re.Sub[0])
		}
	case syntax.OpConcat:
		var best []string
		run := ""
		keep := func(needs []string) {
			if len(needs) > 0 && (best == nil || weakest(needs) > weakest(best)) {
				best = needs
			}
		}
		for _, sub := range re.Sub {
			if sub.Op == syntax.OpLiteral {
				run += strings.ToLower(string(sub.Rune))
				keep(required(&syntax.Regexp{Op: syntax.OpLiteral, Rune: []rune(run)}))
				continue
			}
			run = ""
			keep(required(sub))
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, sub := range re.Sub {
			needs := required(sub)
			if needs == nil || len(all)+len(needs) > maxNeeds {
				return nil
			}
			all = append(all, needs...)
		}
		return all
	}
	return nil
}

// mandatory appends to texts the literals that every match of an expression holds, of two characters at least, in lower case.
func mandatory(re *syntax.Regexp, texts []string) []string {
	switch re.Op {
	case syntax.OpLiteral:
		text := strings.ToLower(string(re.Rune))
		if len(text) < 2 || strings.ContainsFunc(text, func(r rune) bool { return r >= utf8.RuneSelf }) {
			return texts
		}
		return append(texts, text)
	case syntax.OpCapture, syntax.OpPlus:
		return mandatory(re.Sub[0], texts)
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			texts = mandatory(sub, texts)
		}
	}
	return texts
}

// weakest returns the least worth of some needs: a pattern is found as often as its commonest need.
func weakest(needs []string) int {
	least := worth(needs[0])
	for _, need := range needs[1:] {
		least = min(least, worth(need))
	}
	return least
}

// common occurs in nearly every URL, so pieces of it do not distinguish URLs.
const common = "https://www. http://www. .example .test .internal .com .org .net .co.uk .html index /index.html"

// worth returns how well a text distinguishes URLs: its length, or 0 if it is too short or too common to be searched for.
func worth(text string) int {
	if len(text) < minNeed || strings.Contains(common, text) || strings.ContainsFunc(text, unicode.IsSpace) {
		return 0
	}
	return len(text)
}

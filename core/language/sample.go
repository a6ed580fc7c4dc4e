package language

import (
	"regexp/syntax"
	"strings"
)

// Sample returns a short text that an expression matches, if assertions are ignored: the first of several alternatives, and nothing for what is
// optional. It returns "" if the expression does not parse.
func Sample(expr string) string {
	tree, err := syntax.Parse(expr, syntax.Perl)
	if err != nil {
		return ""
	}
	var b strings.Builder
	write(&b, tree)
	return b.String()
}

func write(b *strings.Builder, re *syntax.Regexp) {
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		b.WriteRune(memberOf(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('x')
	case syntax.OpCapture, syntax.OpPlus:
		write(b, re.Sub[0])
	case syntax.OpRepeat:
		for range re.Min {
			write(b, re.Sub[0])
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			write(b, sub)
		}
	case syntax.OpAlternate:
		write(b, re.Sub[0])
	}
}

// memberOf returns a character of a class: one that may stand in a host if the class has one. ranges holds pairs of first and last.
func memberOf(ranges []rune) rune {
	for _, r := range "x0a-./" {
		for i := 0; i+1 < len(ranges); i += 2 {
			if ranges[i] <= r && r <= ranges[i+1] {
				return r
			}
		}
	}
	if len(ranges) == 0 {
		return 'x'
	}
	return ranges[0]
}

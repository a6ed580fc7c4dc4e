package pattern

import "strings"

// PathExpr returns a regular expression for the paths that a glob names, without a final slash and what is below: a segment "*" is exactly
// one non-empty segment, a segment "**" any number of them; within a segment "*" is any run without "/", "**" any run. The dot in it is
// meant to match newlines too. literal writes what stands between the wildcards as an expression: [regexp.QuoteMeta], where nothing
// else is wanted.
func PathExpr(glob string, literal func(string) string) string {
	var b strings.Builder
	for segment := range strings.SplitSeq(strings.TrimPrefix(glob, "/"), "/") {
		switch segment {
		case "*":
			b.WriteString("/[^/]+")
			continue
		case "**":
			b.WriteString("(?:/[^/]+)*")
			continue
		}
		b.WriteByte('/')
		for i, long := range strings.Split(segment, "**") {
			if i > 0 {
				b.WriteString(".*")
			}
			for j, piece := range strings.Split(long, "*") {
				if j > 0 {
					b.WriteString("[^/]*")
				}
				b.WriteString(literal(piece))
			}
		}
	}
	return b.String()
}

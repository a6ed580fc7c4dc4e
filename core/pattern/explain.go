package pattern

import (
	"fmt"
	"strings"
)

// Explain says in one plain sentence what an entry covers.
func Explain(e Entry) string {
	if !e.Pattern.IsValid() {
		if e.Note == "" {
			return "An empty line."
		}
		return "A note; it covers nothing."
	}
	var b strings.Builder
	if e.CarveOut {
		b.WriteString("Takes out of the list: ")
	} else {
		b.WriteString("Covers ")
	}
	b.WriteString(e.Pattern.explain())
	if !e.Until.IsZero() {
		fmt.Fprintf(&b, ", through %s", e.Until)
	}
	if e.Off {
		b.WriteString("; switched off")
	}
	b.WriteString(".")
	return b.String()
}

func (p Pattern) explain() string {
	if p.kind == Regex {
		return "every URL " + [...]string{OnURL: "that matches", OnHost: "whose host matches", OnPath: "whose path and query match"}[p.target] +
			" the expression " + p.expr
	}
	name, it, itself := p.typed, "it", "the host itself"
	if p.ending {
		name, it, itself = fmt.Sprintf("%s before any public suffix (%[1]s.example, %[1]s.co.uk)", p.typed), "these", "these themselves"
	}
	hosts := [...]string{
		AndBelow:  name + " and every host below " + it,
		Only:      name + " only, no host below " + it,
		BelowOnly: "every host below " + name + ", but not " + itself,
	}[p.scope]
	if p.path == "" {
		return hosts
	}
	return fmt.Sprintf("the page %s and everything under it on %s", p.path, hosts)
}

package pattern

import (
	"fmt"
	"strings"
)

// Explain returns one plain sentence that says what an entry covers.
func Explain(e Entry) string {
	if e.Kind() == Unreadable {
		return "Cannot be read, and covers nothing."
	}
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
	switch p.kind {
	case Everything:
		return "every URL"
	case Regex:
		return "every URL " + [...]string{OnURL: "that matches", OnHost: "whose host matches", OnPath: "whose path and query match"}[p.target] +
			" the expression " + p.expr
	case Word:
		text := strings.Trim(p.word, "*")
		open, closed := strings.HasPrefix(p.word, "*"), strings.HasSuffix(p.word, "*")
		form := map[[2]bool]string{
			{false, false}: "the word %q standing alone", {false, true}: "a word that begins with %q",
			{true, false}: "a word that ends with %q", {true, true}: "%q anywhere, inside words too,",
		}[[2]bool{open, closed}]
		return "every URL with " + fmt.Sprintf(form, text) + " in host, path or query"
	}
	hosts := p.explainHosts()
	if p.path != "" {
		switch {
		case p.exact && p.path == "/":
			hosts = "exactly the front page of " + hosts
		case p.exact && strings.Contains(p.path, "*"):
			hosts = "pages like " + p.path + " on " + hosts
		case p.exact:
			hosts = "exactly the page " + p.path + " on " + hosts
		case strings.Contains(p.path, "*"):
			hosts = "pages like " + p.path + " and everything under them on " + hosts
		default:
			hosts = "the page " + p.path + " and everything under it on " + hosts
		}
	}
	if p.query != "" {
		hosts += ", where the query holds " + strings.ReplaceAll(p.query, "&", " and ")
	}
	if p.port != 0 {
		hosts += fmt.Sprintf(", on port %d only", p.port)
	}
	if p.scheme != "" {
		hosts += ", over " + p.scheme + " only"
	}
	return hosts
}

func (p Pattern) explainHosts() string {
	switch {
	case p.every:
		return "every host"
	case p.addr.IsSingleIP():
		return "the address " + p.addr.Addr().String()
	case p.addr.IsValid():
		return "every address in " + p.addr.String()
	case p.ascii == "":
		return "every host below a public suffix"
	}
	name, it, itself := p.typed, "it", "the host itself"
	if p.IsGlob() {
		name, it, itself = "hosts like "+p.typed, "these", "these themselves"
		if p.ending {
			name += " before any public suffix"
		}
	} else if p.ending {
		name, it, itself = fmt.Sprintf("%s before any public suffix (%[1]s.example, %[1]s.co.uk)", p.typed), "these", "these themselves"
	}
	return [...]string{
		AndBelow:  name + " and every host below " + it,
		Only:      name + " only, no host below " + it,
		BelowOnly: "every host below " + name + ", but not " + itself,
	}[p.scope]
}

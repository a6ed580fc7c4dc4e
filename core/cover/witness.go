package cover

import (
	"fmt"
	"strings"

	"widelark/core/language"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Witness returns a URL that p covers; ok is false if none is found, as for expressions that match no URL.
func Witness(p pattern.Pattern) (_ weburl.URL, ok bool) {
	var text string
	if p.IsNamed() && p.Scope() != pattern.BelowOnly { // nearly every entry of a large list
		u, err := weburl.Parse("https://" + p.Name() + "/")
		return u, err == nil
	}
	switch p.Kind() {
	case pattern.Regex:
		expr, target := p.Expr()
		return witnessOf(p, language.Sample(expr), target)
	case pattern.Word:
		word := strings.Trim(strings.Trim(p.String(), `"`), "*")
		text = "https://witness.example/" + Escaped(strings.ReplaceAll(word, " ", "-"))
	default:
		text = witnessText(p)
	}
	u, err := weburl.Parse(text)
	return u, err == nil && Covers(p, u)
}

func witnessText(p pattern.Pattern) string {
	host := "witness.example"
	switch {
	case p.EveryHost():
	case p.Prefix().IsValid() && p.Prefix().Addr().Is6():
		host = "[" + p.Prefix().Addr().String() + "]"
	case p.Prefix().IsValid():
		host = p.Prefix().Addr().String()
	default:
		host = strings.ReplaceAll(p.Name(), "*", "x")
		if strings.HasSuffix(p.Name(), "*") && !p.EveryEnding() {
			host += ".example" // the star covers the suffix, too, and the host looks like a site
		}
		if p.Scope() == pattern.BelowOnly {
			host = strings.TrimSuffix("x."+host, ".")
		}
		if p.EveryEnding() {
			host += ".example"
		}
	}
	scheme, port := p.SchemeAndPort()
	if scheme == "" {
		scheme = "https"
	}
	text := scheme + "://" + host
	if port != 0 {
		text += fmt.Sprintf(":%d", port)
	}
	for segment := range strings.SplitSeq(strings.TrimPrefix(p.FoldedPath(), "/"), "/") {
		switch segment {
		case "**", "":
		case "*":
			text += "/x"
		default:
			text += "/" + strings.ReplaceAll(segment, "*", "")
		}
	}
	join := "/?"
	if p.FoldedPath() != "" {
		join = "?"
	}
	for _, param := range p.Params() {
		text += join + Escaped(param.Name)
		if param.Value != nil {
			text += "=" + Escaped(strings.Join(param.Value, ""))
		}
		join = "&"
	}
	return text
}

// witnessOf returns a URL made around text, which the expression of p matches; ok is false if p covers none of those tried.
func witnessOf(p pattern.Pattern, text string, target pattern.Target) (weburl.URL, bool) {
	tries := []string{"https://" + text + "/", "https://" + text + ".example/", "https://x" + text + "x.example/"}
	switch target {
	case pattern.OnPath:
		tries = []string{"https://witness.example" + text, "https://witness.example/" + text, "https://witness.example/?" + text}
	case pattern.OnURL:
		tries = append([]string{text}, append(tries, "https://witness.example/"+text)...)
	}
	for _, try := range tries {
		if u, err := weburl.Parse(try); err == nil && Covers(p, u) {
			return u, true
		}
	}
	return weburl.URL{}, false
}

// Package tidy finds what is wrong with lists without anybody having complained: entries that others make superfluous or
// undo, and patterns that cover more than their author can have meant.
//
// From: entries and a [match.Index].
// To: [Finding] and [NearMiss]. Each about coverage carries a URL that shows it.
package tidy

import (
	"strings"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Covers reports whether a covers every URL that b covers. It errs on one side: where it would have to guess (general regular
// expressions, globs against globs) it says no.
func Covers(a, b pattern.Pattern) bool {
	if !a.IsValid() || !b.IsValid() {
		return false
	}
	if a.Key() == b.Key() {
		return true
	}
	switch a.Kind() {
	case pattern.Everything:
		return true
	case pattern.Regex:
		// On a host that is exactly one, an expression is as good as a comparison.
		_, target := a.Expr()
		return target == pattern.OnHost && isOneHost(b) && coversHost(a, b.Name())
	case pattern.Word:
		if b.Kind() == pattern.Word {
			return wordCovers(strings.Trim(a.String(), `"`), strings.Trim(b.String(), `"`))
		}
		// A word that stands alone in a name stands alone in every name below it, too.
		return b.Name() != "" && !b.IsGlob() && !b.EveryEnding() && coversHost(a, b.Name())
	}
	if b.Kind() == pattern.Regex || b.Kind() == pattern.Word {
		return false
	}
	aScheme, aPort := a.SchemeAndPort()
	bScheme, bPort := b.SchemeAndPort()
	return (aScheme == "" || aScheme == bScheme) && (aPort == 0 || aPort == bPort) && hostsCover(a, b) &&
		pathCovers(a, b) && queryCovers(a.Params(), b.Params())
}

// isOneHost reports whether a pattern is about one literal host and none below it.
func isOneHost(p pattern.Pattern) bool {
	return p.Name() != "" && p.Scope() == pattern.Only && !p.IsGlob() && !p.EveryEnding()
}

// coversHost asks the matcher whether a pattern covers the front page of a host for certain.
func coversHost(p pattern.Pattern, host string) bool {
	u, err := weburl.Parse("https://" + host + "/")
	return err == nil && coversURL(p, u)
}

func coversURL(p pattern.Pattern, u weburl.URL) bool {
	return match.New([]match.List{{Entries: []pattern.Entry{{Pattern: p}}}}).Covered(u, pattern.Date{})
}

// hostsCover reports whether the hosts of a are all that b is about.
func hostsCover(a, b pattern.Pattern) bool {
	switch {
	case a.EveryHost():
		return true
	case b.EveryHost() || a.Prefix().IsValid() != b.Prefix().IsValid():
		return false
	case a.Prefix().IsValid():
		return a.Prefix().Bits() <= b.Prefix().Bits() && a.Prefix().Contains(b.Prefix().Addr())
	case a.Name() == "" || b.Name() == "":
		return false
	case a.EveryEnding() && b.EveryEnding() && !a.IsGlob() && !b.IsGlob():
		return scopeCovers(a, b)
	case a.EveryEnding():
		return isOneHost(b) && coversFront(a, b.Name())
	case b.EveryEnding():
		return false
	case a.IsGlob():
		// What covers a name and what is below it covers whatever b says of the two.
		return !b.IsGlob() && a.Scope() == pattern.AndBelow && coversFront(a, b.Name()) || isOneHost(b) && coversFront(a, b.Name()) ||
			b.IsGlob() && globCovers(a, b)
	case b.IsGlob():
		// All hosts of "shop-*.heron.example" stand below heron.example.
		_, after, found := cutLast(b.Name(), "*")
		_, after, dotted := strings.Cut(after, ".")
		return found && dotted && a.Scope() != pattern.Only && isAtOrBelow(after, a.Name())
	}
	return scopeCovers(a, b)
}

// coversFront asks the matcher about the hosts of p alone.
func coversFront(p pattern.Pattern, host string) bool {
	pieces := []string{}
	if p.Scope() == pattern.Only {
		pieces = append(pieces, "=")
	} else if p.Scope() == pattern.BelowOnly {
		pieces = append(pieces, "*.")
	}
	pieces = append(pieces, p.Name())
	if p.EveryEnding() {
		pieces = append(pieces, ".*")
	}
	hosts, err := pattern.Parse(strings.Join(pieces, ""))
	return err == nil && coversHost(hosts.Pattern, host)
}

// globCovers knows one case: "*text*" covers every glob that holds the text.
func globCovers(a, b pattern.Pattern) bool {
	text, open := strings.CutPrefix(a.Name(), "*")
	text, openAfter := strings.CutSuffix(text, "*")
	return open && openAfter && !strings.Contains(text, "*") && text != "" && strings.Contains(b.Name(), text)
}

func cutLast(text, at string) (before, after string, found bool) {
	i := strings.LastIndex(text, at)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(at):], true
}

// isAtOrBelow reports whether host is name or stands below it.
func isAtOrBelow(host, name string) bool {
	return host == name || strings.HasSuffix(host, "."+name)
}

// scopeCovers compares literal names.
func scopeCovers(a, b pattern.Pattern) bool {
	if a.Name() == b.Name() {
		return a.Scope() == pattern.AndBelow || a.Scope() == b.Scope()
	}
	return a.Scope() != pattern.Only && strings.HasSuffix(b.Name(), "."+a.Name())
}

// pathCovers reports whether the pages of a are all that b is about.
func pathCovers(a, b pattern.Pattern) bool {
	tree, inner := a.FoldedPath(), b.FoldedPath()
	switch {
	case strings.ReplaceAll(tree, "/**", "") == "":
		return true
	case tree == inner:
		return !a.ExactPage() || b.ExactPage()
	case inner == "":
		return false
	case !strings.Contains(tree, "*"):
		if star := strings.IndexByte(inner, '*'); star >= 0 {
			inner = inner[:strings.LastIndexByte(inner[:star], '/')] // what every page of b begins with
		}
		return !a.ExactPage() && (inner == tree || strings.HasPrefix(inner, tree+"/"))
	case strings.Contains(inner, "*"):
		return false
	}
	if a.ExactPage() && !b.ExactPage() {
		return false
	}
	exact := map[bool]string{true: "=", false: ""}[a.ExactPage()]
	pages, err := pattern.Parse(exact + "a.example" + tree)
	u, urlErr := weburl.Parse("https://a.example" + inner)
	return err == nil && urlErr == nil && coversURL(pages.Pattern, u)
}

// queryCovers reports whether each parameter that a asks for is asked for by b, too.
func queryCovers(a, b []pattern.Param) bool {
	for _, wanted := range a {
		found := false
		for _, given := range b {
			if given.Name != wanted.Name {
				continue
			}
			found = found || wanted.Value == nil || len(given.Value) == 1 && wanted.Value.Match(given.Value[0]) ||
				strings.Join(given.Value, "*") == strings.Join(wanted.Value, "*") && given.Value != nil
		}
		if !found {
			return false
		}
	}
	return true
}

// wordCovers compares words with their stars: "bet*" covers "betting".
func wordCovers(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	text, open := strings.CutPrefix(a, "*")
	text, openAfter := strings.CutSuffix(text, "*")
	inner, bOpen := strings.CutPrefix(b, "*")
	inner, bOpenAfter := strings.CutSuffix(inner, "*")
	switch {
	case open && openAfter:
		return strings.Contains(inner, text)
	case openAfter:
		return !bOpen && strings.HasPrefix(inner, text)
	case open:
		return !bOpenAfter && strings.HasSuffix(inner, text)
	}
	return false
}

package match

import (
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode"
	"unicode/utf8"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// scan is one pattern that no map can find by its host.
type scan struct {
	list, entry, rest int32
	covers            func(q *question) bool
	// needs are texts of which a URL has to hold one, in lower case, for the pattern to have a chance. There are none where
	// nothing can be said: such a pattern is tried on every URL.
	needs []string
}

func newScan(list, entry, rest int32, p pattern.Pattern) scan {
	s := scan{list: list, entry: entry, rest: rest}
	switch {
	case p.Kind() == pattern.Regex:
		s.covers, s.needs = regexScan(p)
	case p.Kind() == pattern.Word:
		s.covers, s.needs = wordScan(strings.Trim(strings.ToLower(p.String()), `"`))
	case p.EveryHost():
		s.covers = func(*question) bool { return true }
	case p.Name() == "": // *.*
		s.covers = func(q *question) bool { return q.beforeSuffix() != "" }
	default:
		s.covers, s.needs = hostGlobScan(p)
	}
	return s
}

func regexScan(p pattern.Pattern) (func(*question) bool, []string) {
	expr, target := p.Expr()
	re, err := pattern.CompileRegex(expr)
	if err != nil {
		panic("bug: a parsed expression does not compile: " + err.Error())
	}
	tree, err := syntax.Parse(expr, syntax.Perl)
	if err != nil {
		panic("bug: a parsed expression does not parse: " + err.Error())
	}
	return func(q *question) bool {
		url, path := q.texts()
		return re.MatchString([...]string{pattern.OnURL: url, pattern.OnHost: q.url.Host(), pattern.OnPath: path}[target])
	}, required(tree)
}

// hostGlobScan compares the ASCII form of hosts, or the Unicode form where the glob holds letters beyond ASCII.
func hostGlobScan(p pattern.Pattern) (func(*question) bool, []string) {
	pieces := strings.Split(p.Name(), "*")
	for i := range pieces {
		pieces[i] = regexp.QuoteMeta(pieces[i])
	}
	before := [...]string{pattern.AndBelow: `(?:.*\.)?`, pattern.Only: "", pattern.BelowOnly: `.+\.`}[p.Scope()]
	re := regexp.MustCompile("^" + before + strings.Join(pieces, ".*") + "$")
	inUnicode := strings.ContainsFunc(p.Name(), func(r rune) bool { return r >= utf8.RuneSelf })
	return func(q *question) bool {
		host := q.url.Host()
		switch {
		case q.url.Addr().IsValid() || p.EveryEnding() && q.beforeSuffix() == "":
			return false
		case inUnicode && p.EveryEnding():
			host = strings.TrimSuffix(q.unicodeHost(), strings.ToLower(weburl.Unicode(host[len(q.beforeSuffix()):])))
		case inUnicode:
			host = q.unicodeHost()
		case p.EveryEnding():
			host = q.beforeSuffix()
		}
		return re.MatchString(host)
	}, longest(strings.Split(p.Name(), "*"))
}

// wordScan looks for a word in the host (both forms), the decoded path and the decoded query, each by itself. A space in
// the word is one or more characters that are neither letter nor digit.
func wordScan(word string) (func(*question) bool, []string) {
	const other = `[^\p{L}\p{Nd}]`
	text, isOpen := strings.CutPrefix(word, "*")
	text, isOpenAfter := strings.CutSuffix(text, "*")
	parts := strings.Fields(text)
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	expr := strings.Join(parts, other+"+")
	if !isOpen {
		expr = "(?:^|" + other + ")" + expr
	}
	if !isOpenAfter {
		expr += "(?:$|" + other + ")"
	}
	re := regexp.MustCompile("(?s)" + expr) // the texts are in lower case, as the word is
	return func(q *question) bool {
		path, query := q.decoded()
		return re.MatchString(q.url.Host()) || re.MatchString(q.unicodeHost()) || re.MatchString(path) || re.MatchString(query)
	}, longest(strings.Fields(text))
}

// longest returns the one of the pieces that is the best need, nothing where all are too short.
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
// expression says nothing so definite. The expression is applied to canonical URLs, which are ASCII, without regard to
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

// weakest returns the least worth of some needs: a pattern is found as often as its commonest need.
func weakest(needs []string) int {
	least := worth(needs[0])
	for _, need := range needs[1:] {
		least = min(least, worth(need))
	}
	return least
}

// common stands in nearly every URL, so pieces of it tell nothing apart.
const common = "https://www. http://www. .example .test .internal .com .org .net .co.uk .html index /index.html"

// worth says how well a text tells URLs apart: its length, 0 where it is too short or common to be looked for.
func worth(text string) int {
	if len(text) < gram || strings.Contains(common, text) || strings.ContainsFunc(text, unicode.IsSpace) {
		return 0
	}
	return len(text)
}

package match

import (
	"bytes"
	"regexp"
	"regexp/syntax"
	"strings"
	"sync"
	"unicode/utf8"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// scan is one pattern that the table cannot find by its host.
type scan struct {
	entry int32
	form  form
	// needs are texts of which a URL has to hold one, in lower case, for the pattern to have a chance. There are none where
	// no such text is known: such a pattern is tried on every URL.
	needs []string
	// also are other texts of which a URL has to hold each, for an expression: looking for them costs less than trying it.
	also   []string
	costly bool // there are no needs, and it is not by design
	blind  bool // the host alone does not settle it

	re      *expression  // of a regex or a word
	expr    string       // of a regex
	program *lazyProgram // of a regex that lesser sights have to look ahead with
	begins  bool         // the expression can match at the beginning of its text only
	glob    pattern.Glob // of a host
	scope   pattern.Scope
	ending  bool // the glob stands before any public suffix
	unicode bool // the glob is compared with the host as people read it
}

// expression is compiled when first tried: most never are, because the text that they need does not occur. It is safe for concurrent
// use.
type expression struct {
	text string
	once sync.Once
	re   *regexp.Regexp
}

func (e *expression) compiled() *regexp.Regexp {
	e.once.Do(func() { e.re = regexp.MustCompile(e.text) })
	return e.re
}

// Costly reports whether a pattern requires no literal text, so that it is tried on every URL. Those that cover
// every host by design are not costly.
func Costly(p pattern.Pattern) bool {
	literal := p.Kind() != pattern.Regex && p.Kind() != pattern.Word && !p.IsGlob()
	return !literal && newScan(0, p).costly
}

// NeedsFull reports whether a pattern depends on something that only [weburl.Full] has.
func NeedsFull(p pattern.Pattern) bool {
	switch p.Kind() {
	case pattern.Word:
		return true
	case pattern.Regex:
		_, target := p.Expr()
		return target != pattern.OnHost
	}
	return strings.ReplaceAll(p.FoldedPath(), "/**", "") != "" || p.Params() != nil
}

// form is how a scan looks at a URL.
type form uint8

const (
	onURL form = iota
	onHost
	onPath
	isWord
	isGlob
	everyHost   // *
	everySuffix // *.*
)

func newScan(entry int32, p pattern.Pattern) scan {
	s := scan{entry: entry}
	switch {
	case p.Kind() == pattern.Regex:
		s.setRegex(p)
	case p.Kind() == pattern.Word:
		s.setWord(strings.Trim(strings.ToLower(p.String()), `"`))
	case p.EveryHost():
		s.form = everyHost
	case p.Name() == "":
		s.form = everySuffix
	default:
		// The ASCII form of hosts is compared, or the Unicode form where the glob holds letters beyond ASCII.
		s.form, s.glob, s.scope, s.ending = isGlob, pattern.ParseGlob(p.Name()), p.Scope(), p.EveryEnding()
		s.unicode = strings.ContainsFunc(p.Name(), func(r rune) bool { return r >= utf8.RuneSelf })
		s.needs = longest(s.glob)
	}
	s.costly = len(s.needs) == 0 && s.form < everyHost
	s.blind = s.form == onURL || s.form == onPath || s.form == isWord
	return s
}

// parseRegex returns the tree of an expression as it is applied.
func parseRegex(expr string) *syntax.Regexp {
	tree, err := syntax.Parse("(?i)"+expr, syntax.Perl)
	if err != nil {
		panic("bug: a parsed expression does not parse: " + err.Error())
	}
	return tree
}

func (s *scan) setRegex(p pattern.Pattern) {
	expr, target := p.Expr()
	s.form = [...]form{pattern.OnURL: onURL, pattern.OnHost: onHost, pattern.OnPath: onPath}[target]
	s.re, s.expr = &expression{text: "(?i)" + expr}, expr // as pattern.CompileRegex compiled it when the entry was parsed
	tree := parseRegex(expr)
	s.needs = required(tree)
	s.begins = beginsText(tree)
	if s.form != onHost {
		s.program = &lazyProgram{expr: expr}
	}
	if len(s.needs) == 1 {
		for _, text := range mandatory(tree, nil) {
			if !strings.Contains(s.needs[0], text) {
				s.also = append(s.also, text)
			}
		}
	}
}

// beginsText reports whether an expression can match at the beginning of its text only. It may say no where yes would be right.
func beginsText(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpBeginText:
		return true
	case syntax.OpCapture, syntax.OpConcat:
		return beginsText(re.Sub[0])
	case syntax.OpAlternate:
		for _, sub := range re.Sub {
			if !beginsText(sub) {
				return false
			}
		}
		return true
	}
	return false
}

// setWord sets the expression for a whole word. A space in the word is one or more characters that are neither
// letter nor digit.
func (s *scan) setWord(word string) {
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
	s.form, s.re = isWord, &expression{text: "(?s)" + expr} // the texts are in lower case, as the word is
	s.needs = longest(strings.Fields(text))
}

// covers returns whether the pattern covers the URL, apart from its conditions, as far as the URL is seen.
func (s *scan) covers(q *question) Answer {
	switch s.form {
	case everyHost:
		return Yes
	case everySuffix:
		return yesIf(q.beforeSuffix() != "")
	case isGlob:
		return yesIf(s.coversHost(q))
	case onHost:
		host := q.url.Host()
		for _, text := range s.also {
			if !strings.Contains(host, text) {
				return No
			}
		}
		return yesIf(s.re.compiled().MatchString(host))
	case isWord:
		host, re := q.url.Host(), s.re.compiled()
		switch {
		case re.MatchString(host) || q.unicodeHost() != host && re.MatchString(q.unicodeHost()):
			return Yes
		case q.sight != weburl.Full:
			return CannotTell
		}
		path, query := q.decoded()
		return yesIf(re.Match(path) || len(query) > 0 && re.Match(query))
	}
	url, target := q.canonical()
	switch {
	case q.sight != weburl.Full:
		return s.foresee(q)
	case s.form == onPath:
		url = target
	}
	for _, text := range s.also {
		if !bytes.Contains(q.haystack(), []byte(text)) {
			return No
		}
	}
	return yesIf(s.re.compiled().Match(url))
}

func yesIf(covers bool) Answer {
	if covers {
		return Yes
	}
	return No
}

func (s *scan) coversHost(q *question) bool {
	host := q.url.Host()
	switch {
	case q.url.Addr().IsValid() || s.ending && q.beforeSuffix() == "":
		return false
	case s.unicode && s.ending:
		host = strings.TrimSuffix(q.unicodeHost(), strings.ToLower(weburl.Unicode(host[len(q.beforeSuffix()):])))
	case s.unicode:
		host = q.unicodeHost()
	case s.ending:
		host = q.beforeSuffix()
	}
	if s.scope == pattern.Only || s.scope == pattern.AndBelow && s.glob[0] == "" {
		return s.glob.Match(host)
	}
	if s.scope == pattern.AndBelow && s.glob.Match(host) {
		return true
	}
	for i := 1; i < len(host); i++ { // a label may be empty, the first one too: browsers ask for such hosts
		if host[i-1] == '.' && s.glob.Match(host[i:]) {
			return true
		}
	}
	return false
}

// foresee returns the answer of an expression on the URL or its path when only its beginning is known: Yes where the
// beginning matches already, No where nothing that could follow would. At [Name] the scheme is not known, nor whether a port
// follows the host; the answers for all possibilities are combined.
func (s *scan) foresee(q *question) Answer {
	if s.form == onPath {
		return s.program.ahead("/", "", "")
	}
	url, _ := q.canonical()
	if q.sight == weburl.Tunnel {
		return s.program.ahead("https://", q.url.Host(), string(url[len("https://")+len(q.url.Host()):]))
	}
	host := q.url.Host()
	answer := s.program.ahead("https://", host, "/")
	for _, begin := range [...][2]string{{"http://", "/"}, {"https://", ":"}, {"http://", ":"}} {
		if s.program.ahead(begin[0], host, begin[1]) != answer {
			return CannotTell
		}
	}
	return answer
}

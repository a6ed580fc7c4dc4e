// Package cover decides whether one pattern covers everything that another covers. Patterns are compared as languages of hosts, paths and
// queries, by the product of their automata. Yes and No are exact; what the comparison cannot settle is NotDecided. A No comes with a URL
// that proves it: the second pattern covers it and the first does not.
//
// From: two patterns.
// To: [Relation].
package cover

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/publicsuffix"

	"widelark/core/language"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Answer says whether one pattern covers all of another.
type Answer int8

// The answers.
const (
	NotDecided Answer = iota
	Yes
	No
)

// Relation is whether one pattern covers all of another.
type Relation struct {
	Answer Answer
	Shown  weburl.URL // for No: a URL that the other pattern covers and this one does not
}

// Of says whether a covers everything that b covers.
func Of(a, b pattern.Pattern) Relation {
	switch {
	case !a.IsValid() || !b.IsValid():
		return Relation{}
	case a.Key() == b.Key(), a.Kind() == pattern.Everything:
		return Relation{Answer: Yes}
	case a.IsNamed() && b.IsNamed(): // nearly every entry of a large list
		if namesCover(a, b) {
			return Relation{Answer: Yes}
		}
		u, ok := Witness(b)
		if ok && Covers(a, u) { // a covers the name alone, b also what is below it
			u = weburl.MustParse("https://x." + b.Name() + "/")
		}
		return Relation{No, u}
	}
	if a.Kind() == pattern.HostGlob && a.Scope() == pattern.AndBelow && b.IsNamed() && b.Scope() != pattern.BelowOnly {
		// A glob that covers a name and everything below what it matches covers everything below that name.
		if u := weburl.MustParse("https://" + b.Name() + "/"); Covers(a, u) {
			return Relation{Answer: Yes}
		} else {
			return Relation{No, u}
		}
	}
	r := relation{a: a, b: b}
	if covered, decided := r.covered(); decided && covered {
		return Relation{Answer: Yes}
	}
	for _, text := range r.tries {
		u, err := weburl.Parse(text)
		if err == nil && Covers(b, u) && !Covers(a, u) {
			return Relation{No, u}
		}
	}
	return Relation{}
}

// namesCover reports whether a covers all of b, for patterns that are literal names and nothing else.
func namesCover(a, b pattern.Pattern) bool {
	if a.Name() == b.Name() {
		return a.Scope() == pattern.AndBelow || a.Scope() == b.Scope()
	}
	return a.Scope() != pattern.Only && strings.HasSuffix(b.Name(), "."+a.Name())
}

// Covers reports whether p covers a URL.
func Covers(p pattern.Pattern, u weburl.URL) bool {
	return match.New([]match.List{{Entries: []pattern.Entry{{Pattern: p}}}}).Covered(u, pattern.Date{})
}

// relation is the state of one comparison.
type relation struct {
	a, b  pattern.Pattern
	tries []string // candidate URLs that may show that a does not cover b; Of checks each
}

// parts holds a site pattern as one language for each part of the URL. The parts are independent: the pattern is their product.
type parts struct {
	scheme string // "" for http and https
	port   uint16 // 0 for every port
	host   string // expression for whole hosts; "" where the hosts are not a regular language: address ranges, any ending
	read   bool   // host describes the Unicode form of names, not the ASCII form
	path   string // expression for the whole folded path, with its first slash
	sent   string // expression for the whole path as canonical URLs write it, in lower case
	params []pattern.Param
}

func isBound(p pattern.Pattern) bool {
	scheme, port := p.SchemeAndPort()
	return scheme != "" || port != 0
}

func partsOf(p pattern.Pattern) parts {
	scheme, port := p.SchemeAndPort()
	l := parts{scheme: scheme, port: port, path: pathLanguage(p, regexp.QuoteMeta), sent: pathLanguage(p, sentLiteral), params: p.Params()}
	switch {
	case p.EveryHost():
		l.host = language.Anything
	case p.Name() != "" && !p.EveryEnding():
		l.host, l.read = nameLanguage(p), isRead(p)
	}
	return l
}

// isRead reports whether the hosts of p are compared in their Unicode form, as a glob with letters beyond ASCII asks.
func isRead(p pattern.Pattern) bool {
	return strings.ContainsFunc(p.Name(), func(r rune) bool { return r >= utf8.RuneSelf })
}

// nameLanguage returns an expression for the hosts of p; for a name before any ending, for what stands before the public suffix.
func nameLanguage(p pattern.Pattern) string { return languageOfName(p, p.Name()) }

// readLanguage returns an expression for the hosts of p in their Unicode form. Precondition: the name is not a glob in ASCII.
func readLanguage(p pattern.Pattern) string {
	return languageOfName(p, strings.ToLower(weburl.Unicode(p.Name())))
}

func languageOfName(p pattern.Pattern, name string) string {
	if name == "" { // *.*: at least one label before the suffix
		return `[^/:?]+`
	}
	var pieces []string
	for piece := range strings.SplitSeq(name, "*") {
		pieces = append(pieces, regexp.QuoteMeta(piece))
	}
	return [...]string{pattern.AndBelow: `(?:[^/:?]+\.)?`, pattern.Only: "", pattern.BelowOnly: `[^/:?]+\.`}[p.Scope()] + `(?:` + strings.Join(pieces, "[^/:?]*") + `)`
}

// pathLanguage returns an expression for the paths of p. literal turns the text between two wildcards into an expression.
func pathLanguage(p pattern.Pattern, literal func(string) string) string {
	return treeLanguage(p, p.FoldedPath(), literal)
}

// treeLanguage is [pathLanguage] with another path.
func treeLanguage(p pattern.Pattern, tree string, literal func(string) string) string {
	if tree == "/" {
		return "/"
	}
	if strings.ReplaceAll(tree, "/**", "") == "" {
		return language.Anything
	}
	expr := pattern.PathExpr(tree, literal)
	if p.ExactPage() {
		return expr + "/?"
	}
	return expr + "(?:/.*)?"
}

// sentLiteral returns an expression for a piece of a folded path as canonical URLs write it: each letter beyond ASCII as escapes, and with
// each letter the escapes of all letters that fold to it.
func sentLiteral(folded string) string {
	var b strings.Builder
	for _, r := range folded {
		forms := []string{regexp.QuoteMeta(string(r))}
		if r >= utf8.RuneSelf {
			forms = []string{strings.ToLower(Escaped(string(r)))}
		}
		for _, from := range foldsTo()[r] {
			forms = append(forms, strings.ToLower(Escaped(string(from))))
		}
		if len(forms) == 1 {
			b.WriteString(forms[0])
		} else {
			b.WriteString("(?:" + strings.Join(forms, "|") + ")")
		}
	}
	return b.String()
}

// foldsTo maps each letter to the others, beyond ASCII, that fold to it.
var foldsTo = sync.OnceValue(func() map[rune][]rune {
	all := map[rune][]rune{}
	for r := rune(utf8.RuneSelf); r <= unicode.MaxRune; r++ {
		if to := unicode.ToLower(r); to != r {
			all[to] = append(all[to], r)
		}
	}
	return all
})

// wordLanguage returns an expression for the texts that hold the word of p.
func wordLanguage(p pattern.Pattern) string {
	text := strings.ToLower(strings.Trim(p.String(), `"`))
	core, open := strings.CutPrefix(text, "*")
	core, openAfter := strings.CutSuffix(core, "*")
	var pieces []string
	for _, piece := range strings.Fields(core) {
		pieces = append(pieces, regexp.QuoteMeta(piece))
	}
	const apart = `[^\p{L}\p{Nd}]`
	word := strings.Join(pieces, apart+"+")
	if !open {
		word = `(?:.*` + apart + `)?` + word
	} else {
		word = `.*` + word
	}
	if !openAfter {
		return word + `(?:` + apart + `.*)?`
	}
	return word + `.*`
}

// covered decides whether a covers b, as far as it can. Candidates for a proof of No go into tries.
func (r *relation) covered() (yes, decided bool) {
	a, b := r.a, r.b
	if u, ok := Witness(b); ok {
		r.tries = append(r.tries, u.String())
	}
	switch {
	case b.Kind() == pattern.Regex:
		return r.regexIn()
	case b.Kind() == pattern.Word:
		return r.wordIn()
	case a.Kind() == pattern.Regex:
		return r.inRegex()
	case a.Kind() == pattern.Word:
		return r.inWord()
	}
	return r.partsIn()
}

// partsIn compares part by part: one product of languages lies in another if each of its parts does.
func (r *relation) partsIn() (yes, decided bool) {
	of, in := partsOf(r.a), partsOf(r.b)
	yes, decided = true, true
	part := func(is, known bool) { yes, decided = yes && is, decided && (known || !yes) }
	shown := r.example()
	host, is, known := r.hostsIn(of, in)
	part(is, known)
	if host != "" {
		shown.host = host
	}
	if of.scheme != "" && of.scheme != in.scheme {
		part(false, true)
		if in.scheme == "" {
			shown.scheme = map[string]string{"http": "https", "https": "http"}[of.scheme]
		}
	}
	if of.port != 0 && of.port != in.port {
		part(false, true)
		if in.port == 0 {
			shown.port = of.port%65000 + 1
		}
	}
	if text, found, ok := language.Witness(of.path, in.path, language.FoldedPath); ok {
		part(!found, true)
		if found {
			shown.path = text
		}
	} else {
		part(false, false)
	}
	is, known = r.paramsIn(of.params, in.params, &shown)
	part(is, known)
	r.tries = append(r.tries, shown.String())
	return yes, decided
}

// example is a URL under construction, part by part.
type example struct {
	scheme, host, path, query string
	port                      uint16
}

func (e example) String() string {
	text := e.scheme + "://" + e.host
	if e.port != 0 {
		text += fmt.Sprintf(":%d", e.port)
	}
	text += e.path
	if e.query != "" {
		text += "?" + e.query
	}
	return text
}

// example returns a URL that b covers if one is found, and a plain URL otherwise.
func (r *relation) example() example {
	e := example{scheme: "https", host: "witness.example", path: "/"}
	if u, ok := Witness(r.b); ok {
		e = example{u.Scheme(), u.Host(), u.Path(), u.Query(), 0}
	}
	if _, port := r.b.SchemeAndPort(); port != 0 {
		e.port = port
	}
	return e
}

// hostsIn compares the hosts of both patterns. host is one that only b covers, or "" if none was found.
func (r *relation) hostsIn(of, in parts) (host string, yes, decided bool) {
	a, b := r.a, r.b
	switch {
	case a.EveryHost():
		return "", true, true
	case b.EveryHost():
		if !a.Prefix().IsValid() {
			return "192.0.2.1", false, true
		}
		return "witness.example", false, true
	case a.Prefix().IsValid() || b.Prefix().IsValid():
		if !a.Prefix().IsValid() || !b.Prefix().IsValid() {
			return "", false, true
		}
		if a.Prefix().Bits() <= b.Prefix().Bits() && a.Prefix().Contains(b.Prefix().Addr()) {
			return "", true, true
		}
		for addr := b.Prefix().Addr(); ; { // if a does not contain b, the first or the last address of b lies outside a
			if !a.Prefix().Contains(addr) {
				if addr.Is6() {
					return "[" + addr.String() + "]", false, true
				}
				return addr.String(), false, true
			}
			last := lastOf(b)
			if addr == last {
				return "", false, false
			}
			addr = last
		}
	case a.EveryEnding():
		return r.inEndings()
	case b.EveryEnding():
		return r.endingsIn(of)
	}
	if !of.read && !in.read {
		text, found, ok := language.Witness(of.host, in.host, language.Name)
		return text, ok && !found, ok
	}
	// A literal name can be written in both forms. A glob in ASCII cannot: which Unicode names it matches is not a regular language.
	exact := true
	for _, side := range []struct {
		p    pattern.Pattern
		host *string
	}{{a, &of.host}, {b, &in.host}} {
		switch {
		case isRead(side.p):
		case side.p.IsGlob():
			exact = false
		default:
			*side.host = readLanguage(side.p)
		}
	}
	text, found, ok := language.Witness(of.host, in.host, language.UnicodeName)
	return text, ok && !found && exact, ok && (exact || found)
}

// lastOf returns the last address of p's range.
func lastOf(p pattern.Pattern) netip.Addr {
	bytes := p.Prefix().Addr().AsSlice()
	for bit := p.Prefix().Bits(); bit < len(bytes)*8; bit++ {
		bytes[bit/8] |= 1 << (7 - bit%8)
	}
	last, _ := netip.AddrFromSlice(bytes) // cannot fail: bytes has the length of an address
	return last
}

// endingsIn decides whether all hosts of b, which stand before any public suffix, lie in the host language of a. A public suffix is any one
// label, or one of the suffixes of several labels that the Public Suffix List names.
func (r *relation) endingsIn(of parts) (host string, yes, decided bool) {
	if of.read != isRead(r.b) {
		return "", false, false
	}
	before, domain := nameLanguage(r.b), language.Name
	if of.read {
		domain = language.UnicodeName
	}
	if _, found, ok := language.Witness(of.host, before+`\.[^/:?]+`, domain); ok && !found {
		return "", true, true // whatever the suffix is
	}
	if text, found, ok := language.Witness(of.host, before+`\.[a-z]+`, domain); ok && found {
		return text, false, true
	}
	text, found, ok := language.Witness(of.host, before+`\.(?:co\.uk|com\.au|co\.jp)`, domain)
	return text, false, ok && found
}

// mostSuffixes bounds how many public suffixes below a name are compared one by one.
const mostSuffixes = 64

// inEndings decides whether all hosts of b are covered by a, a name before any public suffix.
func (r *relation) inEndings() (host string, yes, decided bool) {
	a, b := r.a, r.b
	if isRead(a) || isRead(b) {
		return "", false, false
	}
	if b.EveryEnding() { // both look at the same suffix of a host, so only what stands before it counts
		text, found, ok := language.Witness(nameLanguage(a), nameLanguage(b), language.Name)
		if found {
			text += ".test"
		}
		return text, ok && !found, ok
	}
	// All hosts of b end in the literal tail of its name. The Public Suffix List says how much of the tail is the suffix.
	name := b.Name()
	if star := strings.LastIndexByte(name, '*'); star >= 0 {
		_, tail, dotted := strings.Cut(name[star:], ".")
		if !dotted { // the star reaches into the suffix
			text, found, ok := language.Witness(nameLanguage(a)+`\.test`, nameLanguage(b), language.Name)
			return text, false, ok && found
		}
		name = tail
	}
	suffix, _ := publicsuffix.PublicSuffix(name)
	text, found, ok := language.Witness(nameLanguage(a)+`\.`+regexp.QuoteMeta(suffix), nameLanguage(b), language.Name)
	if !ok || found {
		return text, false, ok
	}
	deeper := weburl.SuffixesBelow(name) // longer suffixes, which other hosts of b may have
	for _, suffix := range deeper[:min(len(deeper), mostSuffixes)] {
		expr := strings.Replace(regexp.QuoteMeta(suffix), `\*`, `[^/:?.]+`, 1)
		text, found, ok := language.Witness(nameLanguage(a)+`\.`+expr, nameLanguage(b), `(?:[^/:?]+\.)?`+expr, language.Name)
		if !ok || found {
			return text, false, ok
		}
	}
	all := len(deeper) <= mostSuffixes
	return "", all, all
}

// paramsIn decides whether b asks for every parameter that a asks for. It looks at each pair by itself, as a URL may hold several parameters
// of one name with different values. Where b does not, it gives shown a query that proves it.
func (r *relation) paramsIn(of, in []pattern.Param, shown *example) (yes, decided bool) {
	if len(of) == 0 {
		return true, true
	}
	yes, decided = true, true
	for _, wanted := range of {
		var values []string
		met, known := false, true
		for _, given := range in {
			if given.Name != wanted.Name {
				continue
			}
			if wanted.Value == nil {
				met = true
				break
			}
			has := language.Anything
			if given.Value != nil {
				has = globLanguage(given.Value)
			}
			text, found, ok := language.Witness(globLanguage(wanted.Value), has)
			if ok && !found {
				met = true
				break
			}
			known = known && ok
			values = append(values, Escaped(given.Name)+"="+Escaped(text))
		}
		if met {
			continue
		}
		yes, decided = false, decided && known
		// The proof is a URL with exactly the parameters that b asks for, with values that a does not want.
		kept := values
		for _, given := range in {
			if given.Name != wanted.Name {
				one := Escaped(given.Name)
				if given.Value != nil {
					one += "=" + Escaped(strings.Join(given.Value, ""))
				}
				kept = append(kept, one)
			}
		}
		shown.query = strings.Join(kept, "&")
	}
	return yes, decided
}

func globLanguage(g pattern.Glob) string {
	var pieces []string
	for _, piece := range g {
		pieces = append(pieces, regexp.QuoteMeta(piece))
	}
	return strings.Join(pieces, ".*")
}

// wide returns the parts of b. Where b covers any ending, the host language is slightly too large: any text may stand for the suffix. A Yes
// for the larger language holds for b, too.
func (r *relation) wide() parts {
	in := partsOf(r.b)
	if r.b.EveryEnding() {
		in.host, in.read = nameLanguage(r.b)+`\.[^/:?]+`, isRead(r.b)
	}
	return in
}

// mayDecode matches folded paths that decoding may change: those with an escape, or with a wildcard whose end may form one with what follows.
var mayDecode = regexp.MustCompile(`%|\*[0-9a-f]`)

// mayForm matches a wildcard with what may form an escape with its end. The wildcard alone stands for whatever that decodes to.
var mayForm = regexp.MustCompile(`\*[0-9a-f]{1,2}`)

// inWord decides whether the word of a stands in every URL of b: in every host, in every path, or in every query.
func (r *relation) inWord() (yes, decided bool) {
	word, in := wordLanguage(r.a), r.wide()
	shown := r.example()
	var asked []string // parameters that b asks for, written without the word
	decided = true
	if in.host != "" && in.host != language.Anything {
		domain := language.Name
		if in.read {
			domain = language.UnicodeName
		}
		text, found, ok := language.Witness(word, in.host, domain)
		if ok && !found {
			return true, true
		}
		decided = decided && ok
		if found {
			shown.host = text
		}
	} else if r.b.Prefix().IsSingleIP() && Covers(r.a, weburl.MustParse("https://"+shown.host+"/")) {
		return true, true
	}
	text, found, ok := language.Witness(word, in.path, language.FoldedPath)
	if ok && !found {
		tree := r.b.FoldedPath()
		if !mayDecode.MatchString(tree) {
			return true, true
		}
		if !strings.Contains(tree, "%") {
			if _, found, ok := language.Witness(word, treeLanguage(r.b, mayForm.ReplaceAllString(tree, "*"), regexp.QuoteMeta), language.FoldedPath); ok && !found {
				return true, true
			}
		}
	}
	if found {
		shown.path = text
	}
	for _, p := range in.params {
		value := ""
		if p.Value != nil {
			value = "=" + globLanguage(p.Value)
		}
		one := regexp.QuoteMeta(p.Name) + value
		if _, found, ok := language.Witness(word, `(?:.*&)?`+one+`(?:&.*)?`); ok && !found {
			return true, true
		}
		if text, found, _ := language.Witness(word, one, `[a-z0-9=_-]*`); found {
			asked = append(asked, text)
		}
	}
	if len(asked) > 0 {
		shown.query = strings.Join(asked, "&zz&") // zz keeps the word from standing across two parameters
	}
	r.tries = append(r.tries, shown.String())
	shown.query = ""
	r.tries = append(r.tries, shown.String())
	return false, decided && ok
}

// wordIn decides whether a covers every URL with the word of b.
func (r *relation) wordIn() (yes, decided bool) {
	word := wordLanguage(r.b)
	plain := `[a-z0-9-]*`
	if strings.ContainsFunc(r.b.String(), func(c rune) bool { return c > unicode.MaxASCII }) {
		plain = language.Anything
	}
	if r.a.Kind() == pattern.Word {
		text, found, ok := language.Witness(wordLanguage(r.a), word, plain)
		if ok && found {
			r.tries = append(r.tries, "https://witness.example/"+Escaped(text), "https://onlooker.test/"+Escaped(text), "https://192.0.2.1/"+Escaped(text))
			return false, true
		}
		text, found, ok = language.Witness(wordLanguage(r.a), word)
		r.tries = append(r.tries, "https://witness.example/"+Escaped(text))
		return ok && !found, ok
	}
	text, _, ok := language.Witness("", word, plain)
	for _, host := range []string{"witness.example", "onlooker.test", "192.0.2.1", "witness.test:81"} {
		r.tries = append(r.tries, "http://"+host+"/"+Escaped(text), "https://"+host+"/?"+Escaped(text))
	}
	return false, ok
}

// inRegex decides whether the expression of a matches every URL of b.
func (r *relation) inRegex() (yes, decided bool) {
	expr, target := r.a.Expr()
	in, shown := r.wide(), r.example()
	switch target {
	case pattern.OnHost:
		if in.host == "" || in.host == language.Anything || in.read {
			return false, false
		}
		text, found, ok := language.Witness(language.Anywhere(expr), in.host, language.Name)
		if found {
			shown.host = text
		}
		r.tries = append(r.tries, shown.String())
		return ok && !found, ok
	case pattern.OnPath:
		text, found, ok := language.Witness(language.Anywhere(expr), in.sent+tailOf(in), language.Target)
		if found {
			shown.path, shown.query, _ = strings.Cut(text, "?")
		}
		r.tries = append(r.tries, shown.String())
		return ok && !found, ok && (!found || len(in.params) == 0)
	}
	whole, ok := urlLanguage(in)
	if !ok {
		return false, false
	}
	text, found, ok := language.Witness(language.Anywhere(expr), whole, language.URL)
	if found {
		r.tries = append(r.tries, text)
	}
	return ok && !found, ok && (!found || len(in.params) == 0)
}

// tailOf returns an expression for what may follow the path. For a pattern with parameters it allows any query: more than the pattern asks
// for, never less.
func tailOf(p parts) string {
	if len(p.params) > 0 {
		return `\?.*`
	}
	return `(?:\?.*)?`
}

// urlLanguage returns an expression for whole canonical URLs; ok is false where there is none.
func urlLanguage(p parts) (_ string, ok bool) {
	if p.host == "" || p.host == language.Anything || p.read {
		return "", false
	}
	scheme, port := "https?", language.Port
	if p.scheme != "" {
		scheme = p.scheme
	}
	switch {
	case p.port == 443 || p.port == 80:
		return "", false // canonical URLs do not write a default port
	case p.port != 0:
		port = fmt.Sprintf(":%d", p.port)
	}
	path := p.sent
	if path == language.Anything {
		path = "/.*"
	}
	return scheme + `://(?:` + p.host + `)` + port + path + tailOf(p), true
}

// regexIn decides whether a covers every URL that the expression of b matches.
func (r *relation) regexIn() (yes, decided bool) {
	expr, target := r.b.Expr()
	domain := map[pattern.Target]string{pattern.OnURL: language.URL, pattern.OnHost: language.Host, pattern.OnPath: language.Target}[target]
	around := func(text string) []string {
		switch target {
		case pattern.OnHost:
			return []string{"https://" + text + "/", "http://" + text + ":81/x?y", "https://[2001:db8::1]/"}
		case pattern.OnPath:
			return []string{"https://witness.example" + text, "http://onlooker.test:81" + text}
		}
		return []string{text}
	}
	if r.a.Kind() == pattern.Regex {
		other, sameTarget := r.a.Expr()
		if sameTarget != target {
			return false, false
		}
		text, found, ok := language.Witness(language.Anywhere(other), language.Anywhere(expr), domain)
		if found {
			r.tries = append(r.tries, around(text)...)
		}
		return ok && !found, ok
	}
	if r.a.Kind() == pattern.Word {
		text, found, ok := language.Witness(wordLanguage(r.a), language.Anywhere(expr), domain)
		if found {
			r.tries = append(r.tries, around(text)...)
		}
		return ok && !found && target != pattern.OnURL && !strings.ContainsAny(expr, `%\`), ok && found
	}
	of := partsOf(r.a)
	var whole string
	switch {
	case target == pattern.OnHost && of.host != "" && !of.read && of.path == language.Anything && !isBound(r.a) && len(of.params) == 0:
		whole = of.host
	case target == pattern.OnPath && r.a.EveryHost() && !isBound(r.a) && len(of.params) == 0:
		whole = of.sent + `(?:\?.*)?`
	case target == pattern.OnURL && len(of.params) == 0:
		var ok bool
		if whole, ok = urlLanguage(of); !ok {
			return false, false
		}
	default: // a asks for parts of the URL that the expression of b does not look at
		text, found, ok := language.Witness("", language.Anywhere(expr), domain)
		if found {
			r.tries = append(r.tries, around(text)...)
		}
		return false, ok
	}
	text, found, ok := language.Witness(whole, language.Anywhere(expr), domain) // the domain holds addresses, too, which no name covers
	if found {
		r.tries = append(r.tries, around(text)...)
	}
	return ok && !found, ok
}

// Escaped percent-encodes every byte that could have a meaning in a URL (RFC 3986, section 2.1).
func Escaped(text string) string {
	var b strings.Builder
	for i := range len(text) {
		if c := text[i]; c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || slices.Contains([]byte("-_"), c) {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

package tidy

import (
	"regexp/syntax"
	"strings"

	"widelark/core/cover"
	"widelark/core/language"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// NearMiss is a URL that a pattern covers although its author can hardly have meant it.
type NearMiss struct {
	URL     string
	Why     string // which part of the pattern covers it, one sentence
	Tighter string // a pattern that does not cover it; "" if none is known
}

// NearMisses returns invented near misses of a glob, an any ending, a word or a regular expression. Each is checked: the pattern covers it, and
// the tighter form does not.
func NearMisses(p pattern.Pattern) []NearMiss {
	var found []NearMiss
	add := func(url, tighter, why string) {
		u, err := weburl.Parse(url)
		if err != nil || !cover.Covers(p, u) {
			return
		}
		if tighter != "" {
			e, err := pattern.Parse(tighter)
			if err != nil || cover.Covers(e.Pattern, u) {
				tighter = ""
			} else {
				tighter = e.Pattern.String()
			}
		}
		found = append(found, NearMiss{u.String(), why, tighter})
	}
	switch {
	case p.Kind() == pattern.Word:
		wordMisses(strings.Trim(p.String(), `"`), add)
	case p.Kind() == pattern.Regex:
		regexMisses(p, add)
	case p.Name() == "":
	case p.IsGlob():
		globMisses(p, add)
	case p.EveryEnding():
		name := p.Name()
		add("https://"+name+".test/", "", "Any ending is covered, also one under which somebody else registers the name.")
		if p.Scope() == pattern.AndBelow && p.FoldedPath() == "" {
			add("https://x."+name+".test/", "="+name+".*", "Hosts below the name are covered under every ending.")
		}
	}
	return found
}

func wordMisses(word string, add func(url, tighter, why string)) {
	text, open := strings.CutPrefix(word, "*")
	text, openAfter := strings.CutSuffix(text, "*")
	at := "https://witness.example/" + cover.Escaped(strings.ReplaceAll(text, " ", "-"))
	alone := `"` + text + `"`
	if openAfter {
		add(at+"er", alone, "The star lets the word go on: others begin like it.")
	}
	if open {
		add("https://witness.example/un"+cover.Escaped(strings.ReplaceAll(text, " ", "-")), alone, "The star lets the word begin earlier: others end like it.")
	}
	if open && openAfter {
		add("https://witness.example/con"+cover.Escaped(strings.ReplaceAll(text, " ", "-"))+"ing", alone, "With a star at both ends the letters may stand inside any word.")
	}
}

func globMisses(p pattern.Pattern, add func(url, tighter, why string)) {
	glob := p.Name()
	plain := strings.ReplaceAll(glob, "*", "x")
	first, rest, _ := strings.Cut(glob, ".")
	tail := p.String()[strings.Index(p.String(), glob)+len(glob):] // the ending, port, path and query, as typed
	switch core := strings.Trim(glob, "*"); {
	case !p.EveryEnding() && strings.HasPrefix(glob, "*") && !strings.Contains(core, "*") && strings.Contains(core, ".") && !strings.HasPrefix(core, "."):
		// *heron.example: the boundary before the name is missing.
		if strings.HasSuffix(glob, "*") {
			add("https://not"+core+".evil.test/", core+tail, "The stars let anything stand before and after the name, also another site's name.")
			return
		}
		add("https://not"+core+"/", core+tail, "The star stands right before the name, so longer names that end like it are covered, too.")
	case !p.EveryEnding() && strings.HasPrefix(glob, "*") && strings.HasSuffix(glob, "*") && !strings.Contains(core, "*"):
		add("https://un"+core+"ish.example/", "~host (^|[.-])"+core+"([.-]|$)", "The letters may stand inside any other word of a host.")
		add("https://bystander.test."+core+".example/", "", "Hosts of others may carry the letters in any of their labels.")
	case !p.EveryEnding() && strings.Contains(first, "*") && rest != "" && !strings.Contains(rest, "*") && tail == "":
		inner := strings.Replace(strings.ReplaceAll(first, "*", "\x00"), "\x00", "x.bystander-y", 1)
		expr := "~host (^|\\.)" + strings.ReplaceAll(quoted(first), `\*`, "[^.]*") + `\.` + quoted(rest) + "$"
		add("https://"+strings.ReplaceAll(inner, "\x00", "x")+"."+rest+"/", expr, "A star stands for dots, too, so it reaches over several labels.")
	case strings.HasSuffix(glob, "*") && !p.EveryEnding():
		add("https://"+strings.ReplaceAll(glob, "*", "x.evil.test")+"/", "", "The star at the end lets any other site follow.")
	case p.EveryEnding():
		add("https://"+plain+".test/", "", "Any ending is covered, also one under which somebody else registers the name.")
	}
}

// quoted escapes the characters that have a meaning in an expression.
func quoted(text string) string {
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

func regexMisses(p pattern.Pattern, add func(url, tighter, why string)) {
	expr, target := p.Expr()
	prefix := [...]string{pattern.OnURL: "~ ", pattern.OnHost: "~host ", pattern.OnPath: "~path "}[target]
	build := func(text string) []string {
		switch target {
		case pattern.OnHost:
			return []string{"https://" + text + "/", "https://" + text + ".test/"}
		case pattern.OnPath:
			return []string{"https://witness.example" + text, "https://witness.example/" + text}
		}
		return []string{text, "https://" + text + "/", "https://" + text + ".test/", "https://witness.example/" + text}
	}
	escapedDots := expr
	if dots := bareDots(expr); len(dots) > 0 {
		var b strings.Builder
		last := 0
		for _, at := range dots {
			b.WriteString(expr[last:at] + `\.`)
			last = at + 1
		}
		escapedDots = b.String() + expr[last:]
		for _, url := range build(language.Sample(expr)) { // the sample has an x for every bare dot
			before := escapedDots
			add(url, prefix+before, "A dot without a backslash before it stands for any character.")
			if covers(prefix+expr, url) {
				break
			}
		}
	}
	tree, err := syntax.Parse(escapedDots, syntax.Perl)
	if err != nil || target == pattern.OnPath {
		return
	}
	name := language.Sample(escapedDots)
	if !strings.Contains(name, ".") || strings.ContainsAny(name, "/:") { // not about a host
		return
	}
	if target == pattern.OnURL {
		add("https://bystander.test/?from="+name, "~host (^|\\.)"+strings.TrimPrefix(escapedDots, "^")+endOf(tree), "The name may also stand in the path or the query of any other site.")
		return
	}
	if !begins(tree) {
		add("https://not"+name+"/", "~host (^|\\.)"+group(escapedDots), "Nothing says where the name begins, so longer names that end like it are covered, too.")
	}
	if !ends(tree) {
		add("https://"+strings.TrimSuffix(name, ".")+".evil.test/", "~host "+group(escapedDots)+"$", "Nothing says where the name ends, so it may be the beginning of another site's.")
	}
}

func covers(entry, url string) bool {
	e, err := pattern.Parse(entry)
	if err != nil {
		return false
	}
	u, err := weburl.Parse(url)
	return err == nil && cover.Covers(e.Pattern, u)
}

// group puts parentheses around an expression that has alternatives.
func group(expr string) string {
	if strings.Contains(expr, "|") {
		return "(" + expr + ")"
	}
	return expr
}

func endOf(tree *syntax.Regexp) string {
	if ends(tree) {
		return ""
	}
	return "$"
}

// bareDots returns where an expression has a dot that stands between characters of a name and was probably meant as a dot: not
// escaped, in no class, not repeated.
func bareDots(expr string) []int {
	var found []int
	inClass := false
	for i := 0; i < len(expr); i++ {
		switch c := expr[i]; {
		case c == '\\':
			i++
		case inClass:
			inClass = c != ']' || expr[i-1] == '['
		case c == '[':
			inClass = true
		case c == '.' && i > 0 && i+1 < len(expr) && isName(expr[i-1]) && (isName(expr[i+1]) || expr[i+1] == '('):
			found = append(found, i)
		}
	}
	return found
}

func isName(c byte) bool {
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || c == '-' || c == ')'
}

// begins reports whether an expression limits what stands before its first literal: by the beginning of the text, a word boundary, a character
// class or a dot.
func begins(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpBeginText, syntax.OpBeginLine, syntax.OpWordBoundary, syntax.OpCharClass:
		return true
	case syntax.OpCapture, syntax.OpPlus:
		return begins(re.Sub[0])
	case syntax.OpConcat, syntax.OpAlternate:
		all := len(re.Sub) > 0
		for i, sub := range re.Sub {
			if all = all && begins(sub); re.Op == syntax.OpConcat && i == 0 {
				return all
			}
		}
		return all
	case syntax.OpLiteral:
		return len(re.Rune) > 0 && re.Rune[0] == '.'
	}
	return false
}

// ends reports whether an expression limits what stands after its last literal: by the end of the text or a word boundary.
func ends(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpEndText, syntax.OpEndLine, syntax.OpWordBoundary:
		return true
	case syntax.OpCapture, syntax.OpPlus:
		return ends(re.Sub[0])
	case syntax.OpConcat:
		return ends(re.Sub[len(re.Sub)-1])
	case syntax.OpAlternate:
		for _, sub := range re.Sub {
			if !ends(sub) {
				return false
			}
		}
		return true
	}
	return false
}

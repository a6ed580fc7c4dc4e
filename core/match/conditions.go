package match

import (
	"regexp"
	"strings"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// conditions are what a pattern requires besides the host.
type conditions struct {
	scheme string         // "" for both
	port   uint16         // 0 for every port
	tree   string         // a literal path, folded, without a final slash
	start  string         // the literal segments that tree begins with
	exact  bool           // the path is that page only
	front  bool           // the path is the front page, and tree is ""
	glob   *regexp.Regexp // of the path; nil where it is literal
	params []pattern.Param
}

// addConditions stores what p requires besides its host and returns the position, -1 if it requires nothing.
func (x *base) addConditions(p pattern.Pattern) int32 {
	scheme, port := p.SchemeAndPort()
	r := conditions{scheme: scheme, port: port, tree: p.FoldedPath(), exact: p.ExactPage(), params: p.Params()}
	if everyPath(r.tree) {
		r.tree, r.exact = "", false
	}
	if r.tree == "/" {
		r.tree, r.exact, r.front = "", false, true
	}
	if r.scheme == "" && r.port == 0 && r.tree == "" && r.params == nil && !r.front {
		return -1
	}
	r.start = literalStart(r.tree)
	if strings.Contains(r.tree, "*") {
		r.glob = pathGlob(r.tree, r.exact)
	}
	x.conditions = append(x.conditions, r)
	return int32(len(x.conditions) - 1)
}

// everyPath reports whether a glob of a path covers every path: it is nothing but segments "**".
func everyPath(glob string) bool {
	return strings.HasPrefix(glob, "/**") && strings.ReplaceAll(glob, "/**", "") == ""
}

// pathGlob compiles the glob of a path. Without exact, everything below is covered too.
func pathGlob(glob string, exact bool) *regexp.Regexp {
	expr := pattern.PathExpr(glob, regexp.QuoteMeta)
	if !exact {
		expr += "(?:/.*)?"
	}
	return regexp.MustCompile("(?s)^" + expr + "$")
}

// meets returns whether the URL meets the conditions at a position, as far as the URL is seen.
func (x *base) meets(at int32, q *question) Answer {
	if at < 0 {
		return Yes
	}
	r := &x.conditions[at]
	answer := Yes
	if r.scheme != "" {
		switch q.scheme() {
		case r.scheme:
		case "":
			answer = CannotTell
		default:
			return No
		}
	}
	if r.port != 0 {
		switch {
		case q.sight == weburl.Name:
			answer = CannotTell
		case q.url.Port() != r.port:
			return No
		}
	}
	if r.tree == "" && r.params == nil && !r.front {
		return answer
	}
	if q.sight != weburl.Full {
		return CannotTell
	}
	switch path := q.foldedPath(); {
	case r.front && len(path) > 0:
		return No
	case r.tree == "":
	case r.glob != nil:
		if !r.glob.Match(path) {
			return No
		}
	case !underPath(path, r.tree) || r.exact && len(path) != len(r.tree):
		return No
	}
	for _, param := range r.params {
		if !param.Covers(q.url.Query()) {
			return No
		}
	}
	return answer
}

// underPath reports whether path is tree or lies under it, at a segment boundary.
func underPath(path []byte, tree string) bool {
	return len(path) >= len(tree) && string(path[:len(tree)]) == tree && (len(path) == len(tree) || path[len(tree)] == '/')
}

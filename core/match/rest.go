package match

import (
	"regexp"
	"strings"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// question is a URL in the forms in which patterns look at it. Each is made once, when it is first asked for, so that
// plain lists cost no more than the host.
type question struct {
	url weburl.URL

	name, unicode, path, text, target   string
	decodedPath, decodedQuery, haystack string
	hasName, hasUnicode, hasPath        bool
	hasText, hasDecoded, hasHaystack    bool
}

func newQuestion(u weburl.URL) *question { return &question{url: u} }

// beforeSuffix returns the host without its public suffix; "" where it is an address, or nothing else.
func (q *question) beforeSuffix() string {
	if !q.hasName && !q.url.Addr().IsValid() {
		q.name, _ = weburl.SplitSuffix(q.url.Host())
	}
	q.hasName = true
	return q.name
}

// unicodeHost returns the host as people read it, in lower case.
func (q *question) unicodeHost() string {
	if !q.hasUnicode {
		q.unicode, q.hasUnicode = strings.ToLower(weburl.Unicode(q.url.Host())), true
	}
	return q.unicode
}

// foldedPath returns the path as paths are compared, without a final slash.
func (q *question) foldedPath() string {
	if !q.hasPath {
		q.path, q.hasPath = strings.TrimSuffix(weburl.FoldPath(q.url.Path()), "/"), true
	}
	return q.path
}

// texts returns the canonical URL, and its path with the query.
func (q *question) texts() (url, target string) {
	if !q.hasText {
		q.text, q.target, q.hasText = q.url.String(), q.url.Target(), true
	}
	return q.text, q.target
}

// decoded returns path and query as words are looked for in them.
func (q *question) decoded() (path, query string) {
	if !q.hasDecoded {
		q.decodedPath, q.decodedQuery, q.hasDecoded = pattern.Decode(q.url.Path()), pattern.DecodeForm(q.url.Query()), true
	}
	return q.decodedPath, q.decodedQuery
}

// all returns every form one after the other, in lower case: what the sieve looks through.
func (q *question) all() string {
	if !q.hasHaystack {
		url, _ := q.texts()
		path, query := q.decoded()
		q.haystack = strings.Join([]string{strings.ToLower(url), q.unicodeHost(), path, query}, "\n")
		q.hasHaystack = true
	}
	return q.haystack
}

// rest is what a pattern asks for beside the host.
type rest struct {
	scheme string         // "" for both
	port   uint16         // 0 for every port
	tree   string         // a literal path, folded, without a final slash
	exact  bool           // the path is that page only
	glob   *regexp.Regexp // of the path; nil where it is literal
	params []pattern.Param
}

// addRest keeps what p asks for beside its host and returns where, -1 where that is nothing.
func (x *Index) addRest(p pattern.Pattern) int32 {
	scheme, port := p.SchemeAndPort()
	r := rest{scheme: scheme, port: port, tree: p.FoldedPath(), exact: p.ExactPage(), params: p.Params()}
	if r.scheme == "" && r.port == 0 && r.tree == "" && r.params == nil {
		return -1
	}
	if strings.Contains(r.tree, "*") {
		r.glob = pathGlob(r.tree, r.exact)
	}
	x.rests = append(x.rests, r)
	return int32(len(x.rests) - 1)
}

// pathGlob compiles the glob of a path: a segment "*" is exactly one non-empty segment, a segment "**" any number of them;
// within a segment "*" is any run without "/", "**" any run. Without exact, everything below is covered too.
func pathGlob(glob string, exact bool) *regexp.Regexp {
	var b strings.Builder
	b.WriteString("^")
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
				b.WriteString(regexp.QuoteMeta(piece))
			}
		}
	}
	if !exact {
		b.WriteString("(?:/.*)?")
	}
	return regexp.MustCompile("(?s)" + b.String() + "$")
}

// meets reports whether the URL is what the rest at a position asks for.
func (x *Index) meets(at int32, q *question) bool {
	if at < 0 {
		return true
	}
	r := &x.rests[at]
	if r.scheme != "" && r.scheme != q.url.Scheme() || r.port != 0 && r.port != q.url.Port() {
		return false
	}
	switch {
	case r.tree == "":
	case r.glob != nil:
		if !r.glob.MatchString(q.foldedPath()) {
			return false
		}
	case !underPath(q.foldedPath(), r.tree) || r.exact && len(q.foldedPath()) != len(r.tree):
		return false
	}
	for _, param := range r.params {
		if !param.Covers(q.url.Query()) {
			return false
		}
	}
	return true
}

// underPath reports whether path is tree or stands under it, at a segment boundary.
func underPath(path, tree string) bool {
	return strings.HasPrefix(path, tree) && (len(path) == len(tree) || path[len(tree)] == '/')
}

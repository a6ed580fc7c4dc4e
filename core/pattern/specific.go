package pattern

import (
	"cmp"
	"strings"
)

// MoreSpecific orders patterns that cover one URL, the one that says most about it first: negative where a is more
// specific than b, 0 where nothing tells them apart. The first difference decides: with a path or query before without;
// exact page before tree or glob; more literal path characters; exact host before any other; more labels; more literal
// host characters; bound to a scheme or port before free; then, by kind: literal, glob, any ending, address (longer
// prefix first), regex, word, everything.
func MoreSpecific(a, b Pattern) int {
	return cmp.Or(
		first(a.path != "" || a.query != "", b.path != "" || b.query != ""),
		first(a.ExactPage() && !strings.Contains(a.path, "*"), b.ExactPage() && !strings.Contains(b.path, "*")),
		cmp.Compare(literal(b.path), literal(a.path)),
		first(a.isExactHost(), b.isExactHost()),
		cmp.Compare(b.labels(), a.labels()),
		cmp.Compare(literal(b.ascii), literal(a.ascii)),
		first(a.scheme != "" || a.port != 0, b.scheme != "" || b.port != 0),
		cmp.Compare(a.rank(), b.rank()),
		cmp.Compare(b.addr.Bits(), a.addr.Bits()),
	)
}

// first is negative where a holds and b does not.
func first(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// literal counts the characters of a glob that are no wildcards.
func literal(glob string) int { return len(glob) - strings.Count(glob, "*") }

func (p Pattern) isExactHost() bool {
	return p.scope == Only && p.ascii != "" && !p.ending && !p.IsGlob()
}

func (p Pattern) labels() int {
	if p.ascii == "" {
		return 0
	}
	return strings.Count(p.ascii, ".") + 1
}

func (p Pattern) rank() int {
	switch {
	case p.every:
		return 6
	case p.kind == Word:
		return 5
	case p.kind == Regex:
		return 4
	case p.addr.IsValid():
		return 3
	case p.IsGlob():
		return 1
	case p.ending:
		return 2
	}
	return 0
}

package pattern

import (
	"cmp"
	"strings"
)

// MoreSpecific orders patterns that cover one URL, the one that says most about it first: negative where a is more
// specific than b, 0 where nothing tells them apart. The first difference decides: with a path before without; more
// literal path characters; the exact host before any other; more labels; more literal host characters; then, by
// kind: literal, any ending, regex.
func MoreSpecific(a, b Pattern) int {
	return cmp.Or(
		cmp.Compare(weight(b.path != ""), weight(a.path != "")),
		cmp.Compare(len(b.path), len(a.path)),
		cmp.Compare(weight(b.kind == Host), weight(a.kind == Host)),
		cmp.Compare(b.labels(), a.labels()),
		cmp.Compare(len(b.ascii), len(a.ascii)),
		cmp.Compare(a.rank(), b.rank()),
	)
}

func weight(holds bool) int {
	if holds {
		return 1
	}
	return 0
}

func (p Pattern) labels() int {
	if p.ascii == "" {
		return 0
	}
	return strings.Count(p.ascii, ".") + 1
}

func (p Pattern) rank() int {
	switch {
	case p.kind == Regex:
		return 2
	case p.ending:
		return 1
	}
	return 0
}

package pattern

import (
	"bytes"
	"cmp"
	"strings"
)

// Specificity says how much a pattern says about what it covers: the greater says more. The first difference decides: with a path
// or query before without; exact page before tree or glob; more literal path characters; exact host before any other; more
// labels; more literal host characters; bound to a scheme or port before free; then, by kind: literal, glob, any ending, address
// (longer prefix first), regex, word, everything.
type Specificity uint64

// The places of the differences, from the last that decides to the first. Lengths are below 1<<16, since patterns are at most
// [MaxLength] bytes long.
const (
	prefixShift    = 0  // 8 bits
	rankShift      = 8  // 3 bits
	boundShift     = 11 // 1 bit
	hostShift      = 12 // 16 bits
	labelsShift    = 28 // 12 bits
	exactHostShift = 40 // 1 bit
	pathShift      = 41 // 16 bits
	exactPageShift = 57 // 1 bit
	pageShift      = 58 // 1 bit

	lastRank = 7
)

// MoreSpecific orders patterns that cover one URL, the one that says most about it first: negative where a is more
// specific than b, 0 where nothing tells them apart. See [Specificity].
func MoreSpecific(a, b Pattern) int { return cmp.Compare(b.Specificity(), a.Specificity()) }

// Specificity returns how much p says. It allocates nothing.
func (p Pattern) Specificity() Specificity {
	s := Specificity(literal(p.path))<<pathShift | Specificity(literal(p.ascii))<<hostShift | Specificity(lastRank-p.rank())<<rankShift
	if p.ascii != "" {
		s |= Specificity(strings.Count(p.ascii, ".")+1) << labelsShift
	}
	if p.addr.IsValid() {
		s |= Specificity(p.addr.Bits()) << prefixShift
	}
	return s | bit(p.path != "" || p.query != "")<<pageShift |
		bit(p.ExactPage() && !strings.Contains(p.path, "*"))<<exactPageShift |
		bit(p.scope == Only && p.ascii != "" && !p.ending && !p.IsGlob())<<exactHostShift |
		bit(p.scheme != "" || p.port != 0)<<boundShift
}

// NamedSpecificity returns the specificity of what [Named] makes of a name and a scope, without making it.
func NamedSpecificity(name []byte, scope Scope) Specificity {
	labels := Specificity(bytes.Count(name, []byte{'.'}) + 1)
	return Specificity(len(name))<<hostShift | labels<<labelsShift | bit(scope == Only)<<exactHostShift | lastRank<<rankShift
}

func bit(set bool) Specificity {
	if set {
		return 1
	}
	return 0
}

// literal counts the characters of a glob that are no wildcards.
func literal(glob string) int { return len(glob) - strings.Count(glob, "*") }

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

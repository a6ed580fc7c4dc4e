package pattern

import (
	"bytes"
	"cmp"
	"strings"
	"unicode/utf8"
)

// Specificity says how much a pattern says about what it covers: the greater says more. The first difference decides: with a path
// or query before without; exact page before tree or glob; more literal path characters; fewer "**", then fewer "*" in the path;
// more query parameters, then more literal characters in them; exact host before any other; more labels, where a label that is
// "*" alone and the public suffix of an any ending count as one each; more literal host characters; bound to scheme and port, then
// to one of them, then free; then, by kind: literal, glob, any ending, address (longer prefix first), regex, word, everything. The
// zero Specificity says nothing and comes last. It is comparable.
type Specificity struct {
	page uint64 // what path and query say
	host uint64 // what host, scheme, port and kind say
}

// The places of the differences, from the last that decides to the first. Lengths and counts are below 1<<12, since patterns are at
// most [MaxLength] bytes long; fewer stars say more, so their places hold how many fewer than the most.
const (
	prefixShift    = 0  // 8 bits
	rankShift      = 8  // 3 bits
	boundShift     = 11 // 2 bits
	hostShift      = 13 // 12 bits
	labelsShift    = 25 // 12 bits
	exactHostShift = 37 // 1 bit

	valuesShift    = 0  // 12 bits
	paramsShift    = 12 // 12 bits
	starsShift     = 24 // 12 bits
	manyStarsShift = 36 // 12 bits
	pathShift      = 48 // 12 bits
	exactPageShift = 60 // 1 bit
	pageShift      = 61 // 1 bit

	most     = 1<<12 - 1
	lastRank = 7
)

// Compare orders by how much is said: negative where s says less than other.
func (s Specificity) Compare(other Specificity) int {
	if s.page != other.page {
		return cmp.Compare(s.page, other.page)
	}
	return cmp.Compare(s.host, other.host)
}

// MoreSpecific orders patterns that cover one URL, the one that says most about it first: negative where a is more
// specific than b, 0 where nothing tells them apart. See [Specificity].
func MoreSpecific(a, b Pattern) int { return b.Specificity().Compare(a.Specificity()) }

// Specificity returns how much p says. It allocates nothing.
func (p Pattern) Specificity() Specificity {
	s := Specificity{
		page: p.pageSpecificity(),
		host: uint64(p.hostLiterals())<<hostShift | uint64(p.labels())<<labelsShift | uint64(lastRank-p.rank())<<rankShift |
			bit(p.scope == Only && p.ascii != "" && !p.ending && !p.IsGlob())<<exactHostShift |
			(bit(p.scheme != "")+bit(p.port != 0))<<boundShift,
	}
	if p.addr.IsValid() {
		s.host |= uint64(p.addr.Bits()) << prefixShift
	}
	return s
}

// pageSpecificity returns what path and query say; 0 where there is neither.
func (p Pattern) pageSpecificity() uint64 {
	if p.path == "" && p.query == "" {
		return 0
	}
	params, values := 0, 0
	for rest, more := p.query, p.query != ""; more; params++ {
		var param string
		param, rest, more = strings.Cut(rest, "&")
		name, value, _ := strings.Cut(param, "=")
		values += literal(name) + literal(value)
	}
	many := strings.Count(p.path, "**")
	return 1<<pageShift | bit(p.exact && !strings.Contains(p.path, "*"))<<exactPageShift | uint64(literal(p.path))<<pathShift |
		uint64(most-many)<<manyStarsShift | uint64(most-(strings.Count(p.path, "*")-2*many))<<starsShift |
		uint64(params)<<paramsShift | uint64(values)<<valuesShift
}

// labels counts the labels of the host as it is written: one for a "*" alone, at the beginning or the end, too.
func (p Pattern) labels() int {
	n := int(bit(p.scope == BelowOnly)) + int(bit(p.ending))
	if p.ascii != "" {
		n += strings.Count(p.ascii, ".") + 1
	}
	return n
}

// hostLiterals counts the characters of the host that are not wildcards, dots included.
func (p Pattern) hostLiterals() int {
	n := utf8.RuneCountInString(p.ascii) - strings.Count(p.ascii, "*") + max(0, p.labels()-1)
	if p.ascii != "" {
		n -= strings.Count(p.ascii, ".")
	}
	return n
}

// NamedSpecificity returns the specificity of what [Named] makes of a name and a scope, without making it.
func NamedSpecificity(name []byte, scope Scope) Specificity {
	below := bit(scope == BelowOnly) // "*." before the name: a label and a dot
	labels := uint64(bytes.Count(name, []byte{'.'})+1) + below
	return Specificity{host: (uint64(len(name))+below)<<hostShift | labels<<labelsShift | bit(scope == Only)<<exactHostShift | lastRank<<rankShift}
}

func bit(set bool) uint64 {
	if set {
		return 1
	}
	return 0
}

// literal counts the characters of a glob that are not wildcards.
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

package pattern

import (
	"cmp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// slowMoreSpecific orders patterns in the words of the notation, one difference after the other: the reference for [Specificity].
func slowMoreSpecific(a, b Pattern) int {
	first := func(a, b bool) int {
		switch {
		case a == b:
			return 0
		case a:
			return -1
		}
		return 1
	}
	exactPage := func(p Pattern) bool { return p.exact && !strings.Contains(p.path, "*") }
	exactHost := func(p Pattern) bool { return p.scope == Only && p.ascii != "" && !p.ending && !p.IsGlob() }
	host := func(p Pattern) string { // as it is written
		if p.ascii == "" && p.scope != BelowOnly {
			return ""
		}
		host := map[bool]string{true: "*."}[p.scope == BelowOnly] + p.ascii + map[bool]string{true: ".*"}[p.ending]
		return strings.ReplaceAll(host, "..", ".")
	}
	labels := func(p Pattern) int {
		if host(p) == "" {
			return 0
		}
		return len(strings.Split(host(p), "."))
	}
	without := func(text string) int { return utf8.RuneCountInString(strings.ReplaceAll(text, "*", "")) }
	params := func(p Pattern) []string { return strings.FieldsFunc(p.query, func(r rune) bool { return r == '&' }) }
	values := func(p Pattern) (n int) {
		for _, param := range params(p) {
			n += without(strings.Replace(param, "=", "", 1))
		}
		return n
	}
	singles := func(p Pattern) int { return strings.Count(strings.ReplaceAll(p.path, "**", ""), "*") }
	bound := func(p Pattern) (n int) {
		if p.scheme != "" {
			n++
		}
		if p.port != 0 {
			n++
		}
		return n
	}
	bits := func(p Pattern) int {
		if p.addr.IsValid() {
			return p.addr.Bits()
		}
		return 0
	}
	return cmp.Or(
		first(a.path != "" || a.query != "", b.path != "" || b.query != ""),
		first(exactPage(a), exactPage(b)),
		cmp.Compare(without(b.path), without(a.path)),
		cmp.Compare(strings.Count(a.path, "**"), strings.Count(b.path, "**")),
		cmp.Compare(singles(a), singles(b)),
		cmp.Compare(len(params(b)), len(params(a))),
		cmp.Compare(values(b), values(a)),
		first(exactHost(a), exactHost(b)),
		cmp.Compare(labels(b), labels(a)),
		cmp.Compare(without(host(b)), without(host(a))),
		cmp.Compare(bound(b), bound(a)),
		cmp.Compare(a.rank(), b.rank()),
		cmp.Compare(bits(b), bits(a)),
	)
}

// specimens are patterns of every kind, similar enough that the later differences decide, too.
var specimens = []string{
	"heron.example", "=heron.example", "*.heron.example", "www.heron.example", "=www.heron.example", "heron.*", "=heron.*", "*heron*", "h*.example", "heron.ex*",
	"heron.example/", "heron.example/wards", "=heron.example/wards", "heron.example/wards/a", "heron.example/*/a", "=heron.example/*/a", "heron.example/**/a", "heron.example/wards?q=1",
	"heron.example?q=1", "http://heron.example", "https://heron.example/wards", "heron.example:8443", "http://heron.example:8443/wards", "203.0.113.7", "203.0.113.0/24", "203.0.0.0/16",
	"203.0.113.7:80", "http://203.0.113.7/wards", "2001:db8::/32", "2001:db8::7", `"heron"`, `"her*"`, "~ heron", "~host heron", "~path heron", "*", "*.*", "example", "*.example", "=example",
	"xn--grn-hoa.example", "grün.example", "a.b.c.d.example", "=a.b.c.d.example/x", "heron.example/WARDS",
	"=*.heron.example/a", "*.heron.*", "*.*/a", "=heron.example/", "heron.example/**/w*", "heron.example/w***", "heron.example/w*", "heron.example/a?q=1&r=2", "heron.example/a?q=*1", "heron.example/a?q",
	"http://heron.example:8443", "*ö*.example", "a.*.example", "*heron.*", "*.h*.example",
}

func TestSpecificity(t *testing.T) {
	for _, a := range specimens {
		p := MustParse(a).Pattern
		assert.Zero(t, MoreSpecific(p, p), a)
		for _, b := range specimens {
			q := MustParse(b).Pattern
			require.Equal(t, slowMoreSpecific(p, q), MoreSpecific(p, q), "%s against %s", a, b)
			require.Equal(t, -MoreSpecific(q, p), MoreSpecific(p, q), "%s against %s", a, b)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		pattern := rapid.Custom(func(t *rapid.T) string {
			host := rapid.SampledFrom([]string{"heron.example", "*.heron.example", "*.h*.example", "heron.*", "*.*", "*", "www.heron.example", "h*.example", "a-" + strings.Repeat("b", 40) + ".example", "203.0.113.7"}).Draw(t, "host")
			return rapid.SampledFrom([]string{"", "="}).Draw(t, "scope") + rapid.SampledFrom([]string{"", "http://"}).Draw(t, "scheme") + host +
				rapid.SampledFrom([]string{"", ":81"}).Draw(t, "port") + rapid.SampledFrom([]string{"", "/a", "/*", "/a/*b", "/a/**", "/a**b*", "/", "/" + strings.Repeat("c", 900)}).Draw(t, "path") +
				rapid.SampledFrom([]string{"", "", "?a", "?a=*", "?a=bc&d", "?a=" + strings.Repeat("d", 900)}).Draw(t, "query")
		})
		a, errA := Parse(pattern.Draw(t, "a"))
		b, errB := Parse(pattern.Draw(t, "b"))
		if errA == nil && errB == nil {
			require.Equal(t, slowMoreSpecific(a.Pattern, b.Pattern), MoreSpecific(a.Pattern, b.Pattern), "%s against %s", a, b)
		}
	})
}

// A packed name has the same specificity as its pattern.
func TestNamedSpecificity(t *testing.T) {
	for _, name := range []string{"example", "heron.example", "www.heron.example", "xn--grn-hoa.example", strings.Repeat("a.", 100) + "example"} {
		for _, scope := range []Scope{AndBelow, Only, BelowOnly} {
			assert.Equal(t, Named(name, scope).Specificity(), NamedSpecificity([]byte(name), scope), "%s %d", name, scope)
		}
	}
	assert.Zero(t, testing.AllocsPerRun(10, func() { _ = NamedSpecificity([]byte("heron.example")[:5], Only) }))
}

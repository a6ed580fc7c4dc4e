package pattern

import (
	"cmp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// slowMoreSpecific orders patterns as the notation says it, one difference after the other: the reference for [Specificity].
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
	exactPage := func(p Pattern) bool { return p.path != "" && p.scope == Only && !strings.Contains(p.path, "*") }
	exactHost := func(p Pattern) bool { return p.scope == Only && p.ascii != "" && !p.ending && !p.IsGlob() }
	labels := func(p Pattern) int {
		if p.ascii == "" {
			return 0
		}
		return len(strings.Split(p.ascii, "."))
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
		cmp.Compare(len(strings.ReplaceAll(b.path, "*", "")), len(strings.ReplaceAll(a.path, "*", ""))),
		first(exactHost(a), exactHost(b)),
		cmp.Compare(labels(b), labels(a)),
		cmp.Compare(len(strings.ReplaceAll(b.ascii, "*", "")), len(strings.ReplaceAll(a.ascii, "*", ""))),
		first(a.scheme != "" || a.port != 0, b.scheme != "" || b.port != 0),
		cmp.Compare(a.rank(), b.rank()),
		cmp.Compare(bits(b), bits(a)),
	)
}

// specimens are patterns of every kind, near enough to each other that the later differences decide, too.
var specimens = []string{
	"heron.example", "=heron.example", "*.heron.example", "www.heron.example", "=www.heron.example", "heron.*", "=heron.*", "*heron*", "h*.example", "heron.ex*",
	"heron.example/", "heron.example/wards", "=heron.example/wards", "heron.example/wards/a", "heron.example/*/a", "=heron.example/*/a", "heron.example/**/a", "heron.example/wards?q=1",
	"heron.example?q=1", "http://heron.example", "https://heron.example/wards", "heron.example:8443", "http://heron.example:8443/wards", "203.0.113.7", "203.0.113.0/24", "203.0.0.0/16",
	"203.0.113.7:80", "http://203.0.113.7/wards", "2001:db8::/32", "2001:db8::7", `"heron"`, `"her*"`, "~ heron", "~host heron", "~path heron", "*", "*.*", "example", "*.example", "=example",
	"xn--grn-hoa.example", "grün.example", "a.b.c.d.example", "=a.b.c.d.example/x", "heron.example/WARDS",
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
			host := rapid.SampledFrom([]string{"heron.example", "www.heron.example", "h*.example", "a-" + strings.Repeat("b", 40) + ".example", "203.0.113.7"}).Draw(t, "host")
			return rapid.SampledFrom([]string{"", "="}).Draw(t, "scope") + rapid.SampledFrom([]string{"", "http://"}).Draw(t, "scheme") + host +
				rapid.SampledFrom([]string{"", ":81"}).Draw(t, "port") + rapid.SampledFrom([]string{"", "/a", "/*", "/a/*b", "/" + strings.Repeat("c", 900)}).Draw(t, "path")
		})
		a, errA := Parse(pattern.Draw(t, "a"))
		b, errB := Parse(pattern.Draw(t, "b"))
		if errA == nil && errB == nil {
			require.Equal(t, slowMoreSpecific(a.Pattern, b.Pattern), MoreSpecific(a.Pattern, b.Pattern), "%s against %s", a, b)
		}
	})
}

// What is said of a packed name is what is said of the pattern that it stands for.
func TestNamedSpecificity(t *testing.T) {
	for _, name := range []string{"example", "heron.example", "www.heron.example", "xn--grn-hoa.example", strings.Repeat("a.", 100) + "example"} {
		for _, scope := range []Scope{AndBelow, Only, BelowOnly} {
			assert.Equal(t, Named(name, scope).Specificity(), NamedSpecificity([]byte(name), scope), "%s %d", name, scope)
		}
	}
	assert.Zero(t, testing.AllocsPerRun(10, func() { _ = NamedSpecificity([]byte("heron.example")[:5], Only) }))
}

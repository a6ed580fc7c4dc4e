package directory

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func prefixes(texts ...string) (all []netip.Prefix) {
	for _, text := range texts {
		all = append(all, netip.MustParsePrefix(text))
	}
	return all
}

func named(d *Directory, person, member, addr string) string {
	groups := NewSet(len(d.Groups))
	at, _ := netip.ParseAddr(addr)
	network := d.Belong(groups, d.Person(person), d.Group(member), at)
	var names []string
	for n := groups.Next(0); n >= 0; n = groups.Next(n + 1) {
		names = append(names, d.Groups[n].ID)
	}
	if network >= 0 {
		names = append(names, "in "+d.Networks[network].ID)
	}
	return strings.Join(names, " ")
}

func TestBelong(t *testing.T) {
	d := New(
		[]Person{{ID: "kay"}, {ID: "ola"}},
		[]Group{
			{ID: "nurses", Persons: []string{"kay", "gone"}},
			{ID: "night", Persons: []string{"kay"}},
			{ID: "clinical", Groups: []string{"nurses", "gone"}},
			{ID: "all", Groups: []string{"clinical", "screens"}},
			{ID: "screens", Networks: []string{"bedside"}, Ranges: prefixes("10.40.9.7/32", "2001:db8::/48")},
			{ID: "site", Ranges: prefixes("10.40.0.0/16")},
		},
		[]Network{{ID: "wards", Ranges: prefixes("10.40.10.0/23", "10.40.40.0/22")}, {ID: "bedside", Ranges: prefixes("10.40.41.0/24")}, {ID: "six", Ranges: prefixes("2001:db8::/32")}},
	)
	for _, c := range []struct{ person, member, addr, want string }{
		{"kay", "", "", "nurses night clinical all"},
		{"ola", "", "", ""},
		{"", "nurses", "", "nurses clinical all"},
		{"", "", "10.40.41.3", "all screens site in bedside"}, // the most specific network alone
		{"", "", "10.40.40.3", "site in wards"},
		{"kay", "", "10.40.9.7", "nurses night clinical all screens site"},
		{"", "", "::ffff:10.40.9.7", "all screens site"},
		{"", "", "2001:db8::1", "all screens in six"},
		{"", "", "192.0.2.1", ""},
	} {
		assert.Equal(t, c.want, named(d, c.person, c.member, c.addr), "%v", c)
	}
	groups := NewSet(len(d.Groups))
	assert.Zero(t, testing.AllocsPerRun(100, func() { d.Belong(groups, 0, -1, netip.AddrFrom4([4]byte{10, 40, 41, 3})) }))
}

func TestRing(t *testing.T) {
	assert.Nil(t, Ring([]Group{{ID: "a", Groups: []string{"b", "c"}}, {ID: "b", Groups: []string{"c"}}, {ID: "c"}}))
	assert.Equal(t, []string{"b", "c"}, Ring([]Group{{ID: "a", Groups: []string{"b"}}, {ID: "b", Groups: []string{"c"}}, {ID: "c", Groups: []string{"b"}}}))
	assert.Equal(t, []string{"a"}, Ring([]Group{{ID: "a", Groups: []string{"a"}}}))
}

// Belong agrees with a loop over every group and every range.
func TestBelongAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		id := func(kind string) *rapid.Generator[string] {
			return rapid.Map(rapid.IntRange(0, 5), func(n int) string { return fmt.Sprint(kind, n) })
		}
		prefix := rapid.Custom(func(t *rapid.T) netip.Prefix {
			at := netip.AddrFrom4([4]byte{10, 0, byte(rapid.IntRange(0, 3).Draw(t, "c")), byte(rapid.SampledFrom([]int{0, 7, 128}).Draw(t, "d"))})
			return netip.PrefixFrom(at, rapid.SampledFrom([]int{8, 22, 24, 25, 32}).Draw(t, "bits"))
		})
		var people []Person
		var networks []Network
		var groups []Group
		for i := range 6 {
			people = append(people, Person{ID: fmt.Sprint("p", i)})
			networks = append(networks, Network{ID: fmt.Sprint("n", i), Ranges: rapid.SliceOfN(prefix, 0, 3).Draw(t, "ranges")})
			groups = append(groups, Group{
				ID: fmt.Sprint("g", i), Persons: rapid.SliceOfN(id("p"), 0, 2).Draw(t, "persons"), Networks: rapid.SliceOfN(id("n"), 0, 2).Draw(t, "networks"),
				Groups: rapid.SliceOfN(id("g"), 0, 2).Draw(t, "groups"), Ranges: rapid.SliceOfN(prefix, 0, 2).Draw(t, "ranges of the group"),
			})
		}
		d := New(people, groups, networks)
		addr := prefix.Draw(t, "asks").Addr()
		person := id("p").Draw(t, "person")

		network, bits := "", -1
		for _, n := range networks {
			for _, r := range n.Ranges {
				if r.Contains(addr) && r.Bits() > bits {
					network, bits = n.ID, r.Bits()
				}
			}
		}
		belongs := map[string]bool{}
		for range groups { // often enough for the longest chain
			for _, g := range groups {
				belongs[g.ID] = belongs[g.ID] || slices.Contains(g.Persons, person) || slices.Contains(g.Networks, network) ||
					slices.ContainsFunc(g.Ranges, func(r netip.Prefix) bool { return r.Contains(addr) }) ||
					slices.ContainsFunc(g.Groups, func(id string) bool { return belongs[id] })
			}
		}
		var want []string
		for _, g := range groups {
			if belongs[g.ID] {
				want = append(want, g.ID)
			}
		}
		if network != "" {
			want = append(want, "in "+network)
		}
		assert.Equal(t, strings.Join(want, " "), named(d, person, "", addr.String()))
	})
}

func TestTable(t *testing.T) {
	texts := []string{
		"", "kay", "0190a5d2-7c4e-7b1a-9f3e-2d6c8b4a1e07", "0190a5d2-7c4e-7b1a-9f3e-2d6c8b4a1e08", "0190a5d2-7c4e-7b1a-9f3f-2d6c8b4a1e07", "0190A5D2-7c4e-7b1a-9f3e-2d6c8b4a1e07",
		"0190a5d2-7c4e-7b1a-9f3e-2d6c8b4a1e0", "0190a5d27-c4e-7b1a-9f3e-2d6c8b4a1e07", "0190a5d207c4e-7b1a-9f3e-2d6c8b4a1e07",
		strings.Repeat("\x00", 8) + "-\x00\x00\x00\x00-\x00\x00\x00\x00-\x00\x00\x00\x00-" + strings.Repeat("\x00", 12),
	}
	for taken := range texts {
		x := NewTable[int32](1)
		x.Put(texts[taken], 7)
		for asked, text := range texts {
			assert.Equal(t, asked == taken && text != "", number(&x, text) == 7, "%q among %q", text, texts[taken])
		}
	}
	x := NewTable[int32](5_000)
	for i := range 5_000 {
		x.Put(fmt.Sprintf("%08x-7c4e-7b1a-9f3e-000000000000", i), int32(i))
	}
	for i := range 5_010 {
		assert.Equal(t, i < 5_000, number(&x, fmt.Sprintf("%08x-7c4e-7b1a-9f3e-000000000000", i)) == int32(i))
	}
}

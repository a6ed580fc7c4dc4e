package ranges

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// anyAddr draws from few addresses, so that ranges contain them; some are IPv4 addresses written as IPv6.
func anyAddr(t *rapid.T) netip.Addr {
	var four [4]byte
	binary.BigEndian.PutUint32(four[:], rapid.SampledFrom([]uint32{0x0a280900, 0xc0000200, 0}).Draw(t, "net")|rapid.Uint32Range(0, 7).Draw(t, "host"))
	switch rapid.IntRange(0, 2).Draw(t, "family") {
	case 0:
		return netip.AddrFrom4(four)
	case 1:
		return netip.AddrFrom16(netip.AddrFrom4(four).As16())
	}
	six := netip.MustParseAddr("2001:db8::").As16()
	copy(six[12:], four[:])
	return netip.AddrFrom16(six)
}

func anyRange(t *rapid.T) netip.Prefix {
	addr := anyAddr(t)
	return netip.PrefixFrom(addr, rapid.IntRange(0, addr.BitLen()).Draw(t, "bits"))
}

// A table finds the same as a loop over all ranges.
func TestTableAsByHand(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.Custom(anyRange), 0, 30).Draw(t, "ranges")
		var table Table[netip.Prefix]
		by := map[netip.Prefix]bool{}
		for _, p := range all {
			table.Put(p, Canonical(p))
			by[Canonical(p)] = true
			got, ok := table.Get(p)
			require.True(t, ok)
			require.Equal(t, Canonical(p), got)
		}
		addr := anyAddr(t)
		var want, got []netip.Prefix
		for p := range by {
			if p.Contains(addr.Unmap()) {
				want = append(want, p)
			}
		}
		slices.SortFunc(want, func(a, b netip.Prefix) int { return b.Bits() - a.Bits() })
		table.Each(addr, func(p netip.Prefix) bool { got = append(got, p); return true })
		assert.Equal(t, want, got, "%s in %v", addr, all)
		if len(want) > 0 {
			got = nil
			table.Each(addr, func(p netip.Prefix) bool { got = append(got, p); return false })
			assert.Equal(t, want[:1], got, "the longest alone")
		}
		assert.True(t, Single(addr).Contains(addr.Unmap()) && Single(addr).IsSingleIP())
	})
}

func TestEachAllocatesNothing(t *testing.T) {
	var table Table[int]
	table.Put(netip.MustParsePrefix("10.40.0.0/16"), 1)
	table.Put(netip.MustParsePrefix("10.40.9.0/24"), 2)
	addr, sum := netip.MustParseAddr("10.40.9.7"), 0
	assert.Zero(t, testing.AllocsPerRun(100, func() {
		table.Each(addr, func(n int) bool { sum += n; return true })
	}))
	assert.Equal(t, 303, sum)
}

package match

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/memory"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

func mustURL(text string) weburl.URL { return weburl.MustParse(text) }

// all returns the values of a hash in a table, in order.
func all(t *table, h uint64) (found []uint32) {
	for n, at, ok := t.next(h, t.home(h)); ok; n, at, ok = t.next(h, at) {
		found = append(found, n)
	}
	return found
}

// The table returns all values of a hash, in order; any others have hashes with the same lower half.
func TestTable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 200).Draw(t, "n")
		table := newTable(n)
		want := map[uint64][]uint32{}
		hashes := make([]uint64, n)
		for i := range n {
			// Few different hashes, and some that differ above only, so that they stand side by side.
			hashes[i] = uint64(rapid.IntRange(0, 20).Draw(t, "high"))<<59 | uint64(rapid.IntRange(0, 5).Draw(t, "low"))
			table.insert(hashes[i], uint32(i))
			want[hashes[i]] = append(want[hashes[i]], uint32(i))
		}
		for h, refers := range want {
			assert.True(t, table.maybe(h))
			found := all(&table, h)
			at := 0
			for _, n := range found {
				assert.Equal(t, uint32(h), uint32(hashes[n]), "the lower half is compared")
				if at < len(refers) && n == refers[at] {
					at++
				}
			}
			assert.Len(t, refers, at, "nothing is kept back")
		}
	})
	none := newTable(0)
	assert.False(t, none.maybe(1))
}

// standing returns the values of a table of names for exactly a host.
func standing(t *nameTable, host string) (found []uint32) {
	spots := appendSpots(nil, memory.Bytes(host))
	own := spots[len(spots)-1].key()
	for depth := min(1, len(spots)-1); depth < len(spots); depth++ {
		for i, more := t.home(spots[depth].h), true; more; i = (i + 1) % len(t.lines) {
			l := &t.lines[i]
			for holding := l.holding(fingerprint(own, depth)); holding != 0; holding &= holding - 1 {
				found = append(found, l.refers(slotOf(holding)))
			}
			more = l.len() == lineSlots && len(found) < len(t.lines)*lineSlots
		}
		if !t.isCrowded(spots[depth].h) {
			break
		}
	}
	return found
}

// A table of names returns everything that was put for a host, whatever names stand below others; and it reports what finds no room
// in it.
func TestNameTable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		label := rapid.SampledFrom([]string{"a", "b", "heron", "bittern-12", "a-label-of-more-than-16"})
		hosts := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string {
			labels := rapid.SliceOfN(label, 0, 4).Draw(t, "labels")
			return strings.Join(append(labels, rapid.SampledFrom([]string{"example", "a.example", "a.b.test"}).Draw(t, "end")), ".")
		}), 1, 200).Draw(t, "hosts")
		table := newNameTable(rapid.SampledFrom([]int{1, len(hosts), 4 * len(hosts)}).Draw(t, "room"))
		want := map[string][]uint32{}
		put := 0
		for n, host := range hosts {
			spots := appendSpots(nil, memory.Bytes(host))
			require.Len(t, spots, strings.Count(host, ".")+1)
			if table.insert(spots, spots[len(spots)-1].key(), uint32(n)) {
				want[host] = append(want[host], uint32(n))
				put++
			}
		}
		assert.Equal(t, len(hosts), put, "there is room for a few hundred")
		table.seal()
		for host, refers := range want {
			found := standing(&table, host)
			for _, n := range refers {
				assert.Equal(t, 1, count(found, n), "%s: %d in %v", host, n, found)
			}
		}
	})
}

func count(all []uint32, n uint32) (times int) {
	for _, other := range all {
		if other == n {
			times++
		}
	}
	return times
}

// One name takes no more than its lines, however often it is put, and its neighbours are found all the same.
func TestNameTableIsBounded(t *testing.T) {
	table := newNameTable(1000)
	put := func(host string, n uint32) bool {
		spots := appendSpots(nil, memory.Bytes(host))
		return table.insert(spots, spots[len(spots)-1].key(), n)
	}
	for n := range uint32(1000) {
		assert.Equal(t, n < ownLines*lineSlots, put("heron.example", n))
	}
	spots := appendSpots(nil, memory.Bytes("heron.example"))
	assert.False(t, put("heron.example", 1000))
	assert.True(t, put("www.heron.example", 1001), "it stands under its own name")
	table.seal()
	assert.True(t, table.isCrowded(spots[1].h))
	assert.Equal(t, []uint32{1001}, standing(&table, "www.heron.example"))
	assert.Len(t, standing(&table, "heron.example"), ownLines*lineSlots)
}

// Names of all kinds are spread evenly: no bit of their hashes is set, and no line used, much more often than others.
func TestHashesAreSpread(t *testing.T) {
	for kind, name := range map[string]func(int) string{
		"numbers": func(n int) string { return fmt.Sprintf("site-%d.example", n) },
		"short":   func(n int) string { return fmt.Sprintf("%c%c%c.test", 'a'+n%26, 'a'+n/26%26, 'a'+n/676%26) },
		"long":    func(n int) string { return fmt.Sprintf("the-%d-shop-of-the-long-name.co.uk", n) },
		"below":   func(n int) string { return fmt.Sprintf("%d.shard-%d.heron.example", n/100, n%100) },
		"repeated": func(n int) string {
			return strings.Repeat(string(rune('a'+n%26)), 1+n/26%63) + strings.Repeat(".x", n/1638)
		},
	} {
		const n = 16_000
		table := newNameTable(n)
		lines := make([]int, len(table.lines))
		var ones [64]int
		prints := map[uint64]int{}
		for i := range n {
			spots := appendSpots(nil, memory.Bytes(name(i)))
			h := spots[len(spots)-1].h
			lines[table.home(h)]++
			prints[fingerprint(h, 1)]++
			for bit := range ones {
				ones[bit] += int(h >> bit & 1)
			}
		}
		for bit, ones := range ones {
			assert.InDelta(t, n/2, ones, 5*64, "%s: bit %d", kind, bit) // five standard deviations
		}
		assert.Less(t, slices.Max(lines), 25, kind)  // Poisson's law of mean 6.6: one in 10⁷ lines
		assert.Greater(t, len(prints), 12_200, kind) // of 2¹⁵, 12,700 are drawn by 16,000 on average
	}
}

// Below a name with thousands of entries of all kinds at several depths, a host finds the entries above it and no others.
func TestCrowdedNames(t *testing.T) {
	x := NewBuilder(0)
	list := x.List("l", "L")
	held := map[string]int64{}
	id := int64(0)
	for i := range 3_000 {
		for _, name := range []string{fmt.Sprintf("h%d.crowd.example", i), fmt.Sprintf("a.b.h%d.crowd.example", i), fmt.Sprintf("h%d.of.crowd.example", i)} {
			id++
			held[name] = id
			switch i % 3 {
			case 0:
				x.AddNamed(list, id, name, pattern.AndBelow, false)
			case 1:
				x.Add(list, id, pattern.MustParse(name+" # with a note"))
			default:
				x.Add(list, id, pattern.MustParse(name+"/wards"))
			}
		}
	}
	for _, name := range []string{"example", "crowd.example", "of.crowd.example"} {
		id++
		held[name] = id
		x.AddNamed(list, id, name, pattern.AndBelow, false)
	}
	index := x.Build()
	require.True(t, index.parts[0].names.isCrowded(appendSpots(nil, memory.Bytes("crowd.example"))[1].h))
	require.False(t, index.parts[0].beside, "all have found room")
	for i := range 3_100 {
		for _, host := range []string{"h%d.crowd.example", "www.h%d.crowd.example", "b.h%d.crowd.example", "x.a.b.h%d.crowd.example", "h%d.of.crowd.example", "h%d.b.of.crowd.example", "h%d.example"} {
			host = fmt.Sprintf(host, i)
			var want, got []int64
			for name := host; name != ""; _, name, _ = strings.Cut(name, ".") {
				if id, ok := held[name]; ok {
					want = append(want, id)
				}
			}
			for _, sight := range []weburl.Sight{weburl.Name, weburl.Full} {
				got = got[:0]
				for _, take := range index.Takes(nil, mustURL(host+"/wards"), today, sight, true) {
					got = append(got, index.ID(take))
				}
				require.ElementsMatch(t, want, got, "%s at %s", host, sight)
			}
		}
	}
}

// A name in very many lists is found in all of them, and does not slow the look-up of its neighbours.
func TestManyListsOfOneName(t *testing.T) {
	b := NewBuilder(0)
	const lists = 5 * ownLines * lineSlots
	for i := range lists {
		at := b.List(fmt.Sprint(i), fmt.Sprintf("%04d", i))
		b.AddNamed(at, int64(i), "heron.example", pattern.AndBelow, false)
		b.AddNamed(at, int64(lists+i), fmt.Sprintf("bittern%d.example", i), pattern.Only, i%2 == 0)
	}
	x := b.Build()
	hits := x.Cover(mustURL("www.heron.example"), today, weburl.Full)
	assert.Len(t, hits, lists)
	for i, hit := range hits {
		assert.Equal(t, int64(i), hit.Covering[0].ID)
		assert.Equal(t, "heron.example", hit.Covering[0].String())
	}
	for i := range lists {
		hits := x.Cover(mustURL(fmt.Sprintf("bittern%d.example", i)), today, weburl.Full)
		assert.Len(t, hits, 1)
		assert.Equal(t, i%2 == 0, len(hits[0].CarveOuts) == 1)
	}
}

// Entries keep their ids in every representation: ids far apart, smaller than the list's first, or too large to be packed.
func TestIDs(t *testing.T) {
	b := NewBuilder(0)
	list := b.List("l", "l")
	ids := []int64{1 << 40, 1<<40 + 1, 7, 1<<40 + 1<<33, 1 << 41}
	for i, id := range ids {
		b.AddNamed(list, id, fmt.Sprintf("n%d.example", i), pattern.BelowOnly, false)
	}
	b.Add(list, 99, pattern.MustParse("n5.example # with a note"))
	b.Add(list, 100, pattern.Entry{Note: "alone"})
	x := b.Build()
	for i, id := range append(ids, 99) {
		found := x.Cover(mustURL(fmt.Sprintf("www.n%d.example", i)), today, weburl.Full)[0].Covering[0]
		assert.Equal(t, id, found.ID)
	}
	assert.Equal(t, "n5.example # with a note", x.Cover(mustURL("n5.example"), today, weburl.Full)[0].Covering[0].String())
	assert.Equal(t, 1, x.Count(mustURL("a.n4.example"), today))
	assert.Equal(t, 0, x.Without(1<<41).Count(mustURL("a.n4.example"), today))
}

// The answers do not depend on how entries are spread over parts, nor on how often parts are joined.
func TestPartsAgreeWithOneIndex(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lists := make([]List, 3)
		whole, first, second := NewBuilder(0), NewBuilder(0), NewBuilder(0)
		var gone []int64
		id := int64(0)
		for i := range lists {
			ref := Ref{fmt.Sprint(i), fmt.Sprint("list ", i)}
			all, one, two := whole.List(ref.ID, ref.Name), first.List(ref.ID, ref.Name), second.List(ref.ID, ref.Name)
			for range rapid.IntRange(0, 8).Draw(t, "entries") {
				id++
				e := pattern.MustParse(anyEntry(t))
				switch rapid.IntRange(0, 2).Draw(t, "where") {
				case 0:
					whole.Add(all, id, e)
					first.Add(one, id, e)
				case 1:
					whole.Add(all, id, e)
					second.Add(two, id, e)
				default:
					first.Add(one, id, e)
					gone = append(gone, id)
				}
			}
		}
		x, parts := whole.Build(), Join(first.Build().Without(gone...), second.Build())
		for range 4 {
			u := mustURL(anyHost(t) + anyPath(t))
			for _, sight := range weburl.Sights {
				assert.Equal(t, asText(x.Cover(u, today, sight)), asText(parts.Cover(u, today, sight)), "%s at %s", u, sight)
				assert.Equal(t, x.Memberships(nil, u, today, sight), parts.Memberships(nil, u, today, sight), "%s at %s", u, sight)
			}
			assert.Equal(t, x.Covered(u, today), parts.Covered(u, today))
		}
	})
}

// A look-up among a million pages of one site costs no more than among one: only the prefixes of the path are looked up.
func TestPagesAreFoundByTheirPath(t *testing.T) {
	b := NewBuilder(0)
	list := b.List("l", "l")
	for i := range 3_000 {
		b.Add(list, int64(i), pattern.MustParse(fmt.Sprintf("heron.example/wards/%d", i)))
	}
	b.Add(list, 5_000, pattern.MustParse("heron.example/wards/*/map"))
	b.Add(list, 5_001, pattern.MustParse("=heron.example/wards/7"))
	x := b.Build()
	assert.Equal(t, []string{"l[7] [] yes"}, asText(x.Cover(mustURL("heron.example/wards/7/beds"), today, weburl.Full)))
	assert.Equal(t, []string{"l[5001 7] [] yes"}, asText(x.Cover(mustURL("heron.example/Wards/7/"), today, weburl.Full)))
	assert.Equal(t, []string{"l[5000 7] [] yes"}, asText(x.Cover(mustURL("www.heron.example/wards/7/map"), today, weburl.Full)))
	assert.Empty(t, x.Cover(mustURL("heron.example/wards"), today, weburl.Full))
	assert.Len(t, x.Cover(mustURL("heron.example/wards"), today, weburl.Name)[0].Unclear, 3_002)
	assert.Empty(t, x.Cover(mustURL("bittern.example/wards/7"), today, weburl.Name))
}

// The order of ids changes neither the result nor the memory per entry.
func TestIDsInAnyOrder(t *testing.T) {
	const n = 2000
	for name, id := range map[string]func(int) int64{
		"rising": func(i int) int64 { return int64(i) }, "falling": func(i int) int64 { return int64(n - i) }, "jumping": func(i int) int64 { return 1<<40 + int64(i*7919%n) },
	} {
		b := NewBuilder(n)
		list := b.List("l", "L")
		for i := range n {
			b.AddNamed(list, id(i), fmt.Sprintf("site-%d.example", i), pattern.AndBelow, false)
		}
		x := b.Build()
		assert.Empty(t, x.parts[0].kept, name)
		for i := range n {
			hits := x.Cover(weburl.MustParse(fmt.Sprintf("site-%d.example", i)), pattern.Date{}, weburl.Full)
			require.Equal(t, id(i), hits[0].Covering[0].ID, name)
		}
	}
}

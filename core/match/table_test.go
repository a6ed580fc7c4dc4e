package match

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

func mustURL(text string) weburl.URL { return weburl.MustParse(text) }

// all returns what a table gives out under a hash, and whether it said that there might be something.
func all(t *table, h uint64) (found []uint32) {
	for n, at, ok := t.next(h, t.home(h)); ok; n, at, ok = t.next(h, at) {
		found = append(found, n)
	}
	return found
}

// The table gives out everything that was put in under a hash, in order; what else it gives out hashes alike in its lower half.
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

func TestTableIsBounded(t *testing.T) {
	table := newTable(100)
	put := 0
	for i := range 100 {
		if table.insertBounded(42, uint32(i), 10) {
			put++
		}
	}
	assert.Equal(t, 10, put, "the rest has to stand elsewhere")
	assert.Len(t, all(&table, 42), 10)
}

// A name that very many lists hold is found in all of them, and its neighbours are not hard to find for it.
func TestManyListsOfOneName(t *testing.T) {
	b := NewBuilder(0)
	const lists = 5 * maxRun
	for i := range lists {
		at := b.List(fmt.Sprint(i), fmt.Sprintf("%04d", i))
		b.AddNamed(at, int64(i), "heron.example", pattern.AndBelow, false)
		b.AddNamed(at, int64(lists+i), fmt.Sprintf("bittern%d.example", i), pattern.Only, i%2 == 0)
	}
	x := b.Build()
	hits := x.Cover(mustURL("www.heron.example"), today, Full)
	assert.Len(t, hits, lists)
	for i, hit := range hits {
		assert.Equal(t, int64(i), hit.Covering[0].ID)
		assert.Equal(t, "heron.example", hit.Covering[0].String())
	}
	for i := range lists {
		hits := x.Cover(mustURL(fmt.Sprintf("bittern%d.example", i)), today, Full)
		assert.Len(t, hits, 1)
		assert.Equal(t, i%2 == 0, len(hits[0].CarveOuts) == 1)
	}
}

// Entries keep their ids, whichever way they are kept: with ids far apart, before the list's first, beyond what is packed.
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
		found := x.Cover(mustURL(fmt.Sprintf("www.n%d.example", i)), today, Full)[0].Covering[0]
		assert.Equal(t, id, found.ID)
	}
	assert.Equal(t, "n5.example # with a note", x.Cover(mustURL("n5.example"), today, Full)[0].Covering[0].String())
	assert.Equal(t, 1, x.Count(mustURL("a.n4.example"), today))
	assert.Equal(t, 0, x.Without(1<<41).Count(mustURL("a.n4.example"), today))
}

// However entries are spread over parts, and however often parts are joined, the answers are the same.
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
			for _, sight := range Sights {
				assert.Equal(t, told(x.Cover(u, today, sight)), told(parts.Cover(u, today, sight)), "%s at %s", u, sight)
				assert.Equal(t, x.Memberships(nil, u, today, sight), parts.Memberships(nil, u, today, sight), "%s at %s", u, sight)
			}
			assert.Equal(t, x.Covered(u, today), parts.Covered(u, today))
		}
	})
}

// A million pages of one site cost no more to look up than one: only those on the way of the path are looked at.
func TestPagesAreFoundByTheirPath(t *testing.T) {
	b := NewBuilder(0)
	list := b.List("l", "l")
	for i := range 3_000 {
		b.Add(list, int64(i), pattern.MustParse(fmt.Sprintf("heron.example/wards/%d", i)))
	}
	b.Add(list, 5_000, pattern.MustParse("heron.example/wards/*/map"))
	b.Add(list, 5_001, pattern.MustParse("=heron.example/wards/7"))
	x := b.Build()
	assert.Equal(t, []string{"l[7] [] yes"}, told(x.Cover(mustURL("heron.example/wards/7/beds"), today, Full)))
	assert.Equal(t, []string{"l[5001 7] [] yes"}, told(x.Cover(mustURL("heron.example/Wards/7/"), today, Full)))
	assert.Equal(t, []string{"l[5000 7] [] yes"}, told(x.Cover(mustURL("www.heron.example/wards/7/map"), today, Full)))
	assert.Empty(t, x.Cover(mustURL("heron.example/wards"), today, Full))
	assert.Len(t, x.Cover(mustURL("heron.example/wards"), today, Name)[0].Unclear, 3_002)
	assert.Empty(t, x.Cover(mustURL("bittern.example/wards/7"), today, Name))
}

// The order in which ids come changes neither what is found nor how little an entry takes.
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
		assert.Empty(t, x.parts[0].fulls, name)
		for i := range n {
			hits := x.Cover(weburl.MustParse(fmt.Sprintf("site-%d.example", i)), pattern.Date{}, Full)
			require.Equal(t, id(i), hits[0].Covering[0].ID, name)
		}
	}
}

package segment

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

var begin = time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)

// records draws records, in the order of their times.
func records(t *rapid.T, most int) []journal.Record {
	ids := []uuid.UUID{uuid.Nil, {1}, {2}, {3: 9}, {15: 7}}
	id := rapid.SampledFrom(ids)
	some := rapid.SliceOfN(rapid.SampledFrom(ids[1:]), 0, 3)
	texts := rapid.SampledFrom([]string{"", "a", "heron.example", "two words", "gr\u00fc\u00df", "x\x00y"})
	all := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) journal.Record {
		r := journal.Record{
			ID: uuid.UUID(rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "id")), At: begin.Add(time.Duration(rapid.IntRange(0, 100_000).Draw(t, "at")) * time.Millisecond),
			Person: id.Draw(t, "person"), Machine: id.Draw(t, "machine"), Network: id.Draw(t, "network"), Method: rapid.SampledFrom([]string{"GET", "POST"}).Draw(t, "method"),
			URL:  rapid.SampledFrom([]string{"https://heron.example/a?b=c", "http://gull.example", "https://[2001:db8::1]:8443/x/y", "https://heron.example/?q", ""}).Draw(t, "url"),
			Gate: rapid.SampledFrom(policy.Gates).Draw(t, "gate"), Verdict: rapid.SampledFrom(Verdicts[:]).Draw(t, "verdict"), Sight: weburl.Full,
			Rung: rapid.SampledFrom(policy.Rungs).Draw(t, "rung"), By: texts.Draw(t, "by"), Entry: texts.Draw(t, "entry"), Words: texts.Draw(t, "words"), Agent: texts.Draw(t, "agent"),
			Revision: rapid.Int64Range(0, 3).Draw(t, "revision"), Source: classify.ByCatalogue, Policy: id.Draw(t, "policy"),
			Ending: journal.Ending{Outcome: journal.Answered, Status: rapid.SampledFrom([]int{0, 200, 404}).Draw(t, "status"), Size: rapid.Int64Range(0, 1<<40).Draw(t, "size"), Took: time.Duration(rapid.IntRange(0, 5000).Draw(t, "took")) * time.Millisecond},
		}
		if got := some.Draw(t, "groups"); len(got) > 0 {
			r.Groups = got
		}
		if rapid.Bool().Draw(t, "sorted") {
			r.Categories = []string{"betting", "news"}
			r.Traits = []policy.Trait{policy.PlainHTTP}
		}
		switch rapid.IntRange(0, 2).Draw(t, "address") {
		case 1:
			r.Address = netip.MustParseAddr("10.40.9.7")
		case 2:
			r.Address = netip.MustParseAddr("2001:db8::7")
		}
		return r
	}), 0, most).Draw(t, "records")
	slices.SortStableFunc(all, func(a, b journal.Record) int { return a.At.Compare(b.At) })
	return all
}

func taken(t require.TestingT, s *Segment, rows Rows, backwards bool) (all []journal.Record) {
	require.NoError(t, s.Each(rows, backwards, func(r journal.Record, _ int64) bool {
		all = append(all, r)
		return true
	}))
	return all
}

// What goes into a segment comes out of it, in the order of time and backwards; counts are those of its records.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := records(t, 300)
		s := Of(all)
		require.Equal(t, len(all), s.N)
		got := taken(t, s, s.every(), false)
		assert.Equal(t, all, append([]journal.Record{}, got...))
		back := taken(t, s, s.every(), true)
		slices.Reverse(back)
		assert.Equal(t, got, back)
		assert.EqualValues(t, len(all), s.Total().All())
		n := 0
		require.NoError(t, s.EachRequest(s.every(), func(r *journal.Record) bool {
			w := &all[n]
			assert.Equal(t, journal.Record{At: w.At, Person: w.Person, Address: w.Address, Method: w.Method, URL: w.URL, Gate: w.Gate, Sight: w.Sight, Verdict: w.Verdict}, *r)
			n++
			return true
		}))
		assert.Equal(t, len(all), n)
		half, err := s.Select(Has{Method, func(v string) bool { return v == "GET" }})
		require.NoError(t, err)
		for _, c := range []Column{Origin, Person, Groups, Words, Status} {
			for _, rows := range []Rows{s.every(), half, s.none()} {
				want := map[string]*Count{}
				for i := range all {
					if rows.Has(i) {
						v := access[c].get(&all[i])
						if want[v] == nil {
							want[v] = &Count{}
						}
						want[v].Requests[verdictNumber(all[i].Verdict)]++
						want[v].Bytes += all[i].Size
					}
				}
				counts := map[string]*Count{}
				require.NoError(t, s.Counts(c, rows, counts))
				assert.Equal(t, want, counts, "column %d", c)
			}
		}
		buckets := []int64{begin.UnixMilli(), begin.UnixMilli() + 30_000, begin.UnixMilli() + 60_000}
		for _, rows := range []Rows{s.every(), half} {
			over, want := make([]Count, 3), make([]Count, 3)
			require.NoError(t, s.Over(rows, buckets, over))
			for i := range all {
				if rows.Has(i) {
					of := &want[min(2, all[i].At.Sub(begin).Milliseconds()/30_000)]
					of.Requests[verdictNumber(all[i].Verdict)]++
					of.Bytes += all[i].Size
				}
			}
			assert.Equal(t, want, over)
		}
	})
}

// Counts by what is made of values are those of the values, added up: over segments, selections, goroutines, and again.
func TestNumbering(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		whole := func(origin string) string { return Host(origin)[min(2, len(Host(origin))):] }
		numbering := NewNumbering(Origin, whole)
		for range 2 {
			counts := numbering.Start(2)
			want := map[string]*Count{}
			for i := range rapid.IntRange(1, 4).Draw(t, "segments") {
				s := Of(records(t, 60))
				rows := s.every()
				if rapid.Bool().Draw(t, "some") && s.N > 0 {
					words := s.bits()
					for row := range s.N {
						if row%3 != 0 {
							set(words, row)
						}
					}
					rows = s.rows(words)
				}
				plain := map[string]*Count{}
				require.NoError(t, s.Counts(Origin, rows, plain))
				for origin, n := range plain {
					of := whole(origin)
					if want[of] == nil {
						want[of] = &Count{}
					}
					want[of].Add(*n)
				}
				require.NoError(t, counts[i%2].Add(s, rows))
			}
			counts[0].Join(counts[1])
			assert.Equal(t, want, counts[0].Counts())
		}
	})
}

// Records of several batches keep the position of theirs.
func TestPositions(t *testing.T) {
	var all []journal.Record
	var positions []int64
	for i := range 1000 {
		all = append(all, journal.Record{ID: uuid.New(), At: begin.Add(time.Duration(i*7919%1000) * time.Millisecond), URL: fmt.Sprintf("https://n%d.example/", i), Verdict: policy.Allow})
		positions = append(positions, int64(i/10))
	}
	b := Write(all, positions)
	s, err := Open(b.Head, func(which Block) ([]byte, error) { return [...][]byte{b.Keys, b.Texts, b.IDs}[which], nil })
	require.NoError(t, err)
	n := 0
	require.NoError(t, s.Each(s.every(), false, func(r journal.Record, position int64) bool {
		at := slices.IndexFunc(all, func(o journal.Record) bool { return o.ID == r.ID })
		assert.Equal(t, positions[at], position)
		n++
		return n < 500
	}))
	assert.Equal(t, 500, n)
	assert.Less(t, len(b.Head)+len(b.Keys)+len(b.Texts)+len(b.IDs), 1000*60, "bytes")
}

// Broken blocks are refused: nothing panics, and nothing takes memory without bound.
func FuzzOpen(f *testing.F) {
	b := Write([]journal.Record{{ID: uuid.UUID{1}, At: begin, URL: "https://heron.example/x", Verdict: policy.Block}, {At: begin, URL: "https://gull.example/", Words: "w"}}, nil)
	unpack := func(packed []byte) []byte {
		raw, err := unpacker.DecodeAll(packed, nil)
		require.NoError(f, err)
		return raw
	}
	f.Add(unpack(b.Head), b.Keys, b.Texts, unpack(b.IDs))
	f.Fuzz(func(t *testing.T, head, keys, texts, ids []byte) {
		s, err := Open(packer.EncodeAll(head, nil), func(which Block) ([]byte, error) {
			return [...][]byte{keys, texts, packer.EncodeAll(ids, nil)}[which], nil
		})
		if err != nil {
			assert.ErrorIs(t, err, ErrBroken)
			return
		}
		if _, err = s.Select(And{Has{Person, func(v string) bool { return v == "" }}, Text("heron"), Between{Size, []Span{{0, 5}}}, ID{1}}); err != nil {
			assert.ErrorIs(t, err, ErrBroken)
		}
		if err = s.Each(s.every(), true, func(journal.Record, int64) bool { return true }); err != nil {
			assert.ErrorIs(t, err, ErrBroken)
		}
	})
}

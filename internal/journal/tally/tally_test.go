package tally_test

import (
	"cmp"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/internal/journal/segment"
	"widelark/internal/journal/tally"
)

// The first values are those of a sorted list of all, however many are wanted.
func TestFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		counts := map[string]*segment.Count{}
		for i, n := range rapid.SliceOfN(rapid.Int64Range(0, 9), 0, 60).Draw(t, "counts") {
			c := &segment.Count{Bytes: 9 - n}
			c.Requests[i%4] = n
			counts[fmt.Sprint("n", i)] = c
		}
		most := rapid.IntRange(0, 20).Draw(t, "most")
		order := rapid.SampledFrom([]tally.Order{tally.ByRequests, tally.ByBytes, "block", ""}).Draw(t, "order")
		rank := func(v string) int64 {
			switch c := counts[v]; order {
			case tally.ByBytes:
				return c.Bytes
			case "block":
				return c.Requests[3]
			default:
				return c.All()
			}
		}
		all := make([]string, 0, len(counts))
		for v := range counts {
			all = append(all, v)
		}
		slices.SortFunc(all, func(a, b string) int { return cmp.Or(cmp.Compare(rank(b), rank(a)), cmp.Compare(a, b)) })
		first, others := tally.First(counts, order, most)
		assert.Equal(t, append([]string{}, all[:min(most, len(all))]...), append([]string{}, first...))
		assert.Equal(t, len(all)-len(first), others)
	})
}

func TestSite(t *testing.T) {
	for host, want := range map[string]string{"www.heron.example": "heron.example", "heron.example": "heron.example", "a.b.heron.co.uk": "heron.co.uk", "co.uk": "co.uk", "10.40.0.1": "10.40.0.1", "": "", "intranet": "intranet", "[2001:db8::1]": "[2001:db8::1]"} {
		assert.Equal(t, want, tally.Site(host), host)
	}
}

package directory

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A set agrees with a sorted slice of its numbers.
func TestSetAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const most = 200
		draw := func(name string) []int32 {
			numbers := rapid.SliceOfN(rapid.Int32Range(0, most-1), 0, 12).Draw(t, name)
			slices.Sort(numbers)
			return slices.Compact(numbers)
		}
		build := func(numbers []int32) Set {
			s := NewSet(most)
			for _, n := range numbers {
				s.Add(n)
			}
			return s
		}
		list := func(s Set) (numbers []int32) {
			for n := s.Next(0); n >= 0; n = s.Next(n + 1) {
				numbers = append(numbers, n)
			}
			return numbers
		}
		a, b := draw("a"), draw("b")
		x, y := build(a), build(b)
		require.Len(t, list(x), len(a))
		require.True(t, slices.Equal(a, list(x)))
		for n := int32(-1); n < most+70; n += 7 {
			require.Equal(t, slices.Contains(a, n), x.Has(n), n)
		}
		require.Equal(t, slices.ContainsFunc(a, func(n int32) bool { return slices.Contains(b, n) }), x.Meets(y))
		require.False(t, x.Meets(nil))
		x.Unite(y)
		both := append(slices.Clone(a), b...)
		slices.Sort(both)
		require.True(t, slices.Equal(slices.Compact(both), list(x)))
		x.Clear()
		require.Equal(t, int32(-1), x.Next(0))
	})
}

// Package rounds measures work beside an anchor: a few lines of well-known code that say how fast the machine is.
package rounds

import "testing"

// rounds is how often both are measured. The middle of five is not moved by one that the machine disturbed.
const rounds = 5

// Measure runs ours and the anchor in turn, so that a machine that is slow for a while is slow for both.
func Measure(b *testing.B, ours, anchor func(b *testing.B)) {
	for range rounds {
		b.Run("ours", ours)
		b.Run("anchor", anchor)
	}
}

// Against is [Measure] of two that do their work once for each i, from 0 on in every round.
func Against(b *testing.B, ours, anchor func(i int)) {
	loop := func(work func(i int)) func(b *testing.B) {
		return func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				work(i)
			}
		}
	}
	Measure(b, loop(ours), loop(anchor))
}

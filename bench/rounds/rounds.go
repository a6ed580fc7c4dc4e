// Package rounds measures work beside an anchor: a few lines of well-known code that say how fast the machine is.
package rounds

import (
	"slices"
	"testing"
	"time"
)

// fewest is how often both are measured at least. The middle of five is not moved by one that the machine disturbed.
const fewest = 5

// turn is about how long one of the two works before it is the other's turn, if doing it once does not take longer. A machine that is slow
// for a while is slow for both then.
const turn = 10 * time.Millisecond

// alike is how many times the other's time one may take so that both do their work equally often in a turn: what lies near the processor
// when a turn begins is the other's.
const alike = 8

// apart is how far the two are in what they work through, so that neither finds near the processor what the other has just read.
const apart = 1 << 15

// Measure runs two benchmarks in turn, for work that takes seconds.
func Measure(b *testing.B, ours, anchor func(b *testing.B)) {
	for range fewest {
		b.Run("ours", ours)
		b.Run("anchor", anchor)
	}
}

// Against runs two that do their work once for each i, for half of -benchtime each. It reports the nanoseconds that each takes
// and the ratio of the two in millionths: the middle one of all turns, with those a tenth from either end.
func Against(b *testing.B, ours, anchor func(i int)) {
	works := []func(i int){ours, anchor}
	var times [2][]float64
	done := [2]int{0, apart}
	var batch [2]int // how often the work is done in a turn
	for side, work := range works {
		for batch[side] = 1; ; batch[side] *= 2 {
			if took := lap(work, &done[side], batch[side]); took >= turn/2 {
				break
			}
		}
	}
	if most := max(batch[0], batch[1]); most <= alike*min(batch[0], batch[1]) {
		batch[0], batch[1] = most, most
	}
	pair := func() {
		for side, work := range works {
			took := lap(work, &done[side], batch[side])
			times[side] = append(times[side], float64(took.Nanoseconds())/float64(batch[side]))
		}
	}
	for b.Loop() {
		pair()
	}
	for len(times[0]) < fewest {
		pair()
	}
	report(b, times)
}

// Values takes a figure of both in turn, in nanoseconds, for half of -benchtime each, and reports them as [Against] does. It is for what is not the time of a piece of work, as a
// percentile of many waits.
func Values(b *testing.B, ours, anchor func() float64) {
	var times [2][]float64
	pair := func() { times[0], times[1] = append(times[0], ours()), append(times[1], anchor()) }
	for b.Loop() {
		pair()
	}
	for len(times[0]) < fewest {
		pair()
	}
	report(b, times)
}

// report reports what both took in each turn.
func report(b *testing.B, times [2][]float64) {
	ratios := make([]float64, len(times[0]))
	for i := range ratios {
		ratios[i] = times[0][i] / times[1][i]
	}
	for _, all := range [][]float64{ratios, times[0], times[1]} {
		slices.Sort(all)
	}
	at := func(all []float64, share float64) float64 { return all[int(share*float64(len(all)-1)+0.5)] }
	b.ReportMetric(0, "ns/op") // of both together it says nothing
	b.ReportMetric(at(times[0], 0.5), "ours-ns")
	b.ReportMetric(at(times[1], 0.5), "anchor-ns")
	b.ReportMetric(1e6*at(ratios, 0.5), "ppm")
	b.ReportMetric(1e6*at(ratios, 0.1), "ppm-low")
	b.ReportMetric(1e6*at(ratios, 0.9), "ppm-high")
}

// lap does work so many times more.
func lap(work func(i int), done *int, times int) time.Duration {
	begin := time.Now()
	for range times {
		work(*done)
		*done++
	}
	return time.Since(begin)
}

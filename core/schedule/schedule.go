// Package schedule decides when a rule is in force: by weekly windows and dated lines, in wall-clock time.
//
// From: the notation of schedules, as `mon-fri 09:00-12:00, 13:00-17:00; not on 2026-12-25`.
// To: whether a schedule is in force at a moment, the next moment at which that changes, and all spans within a range.
//
// A window that ends at or before its start ends on the next day, and belongs to the day that it starts on. Times are wall-clock
// times of a zone that the caller gives: a time that a clock change skips counts as the instant of the change, and a time that the clock shows
// twice as the first of the two. The start belongs to a window, the end does not.
package schedule

import (
	"cmp"
	"slices"
	"time"

	"widelark/core/pattern"
)

// Minute is a time of the day in minutes after midnight; 24:00 is 1440.
type Minute int

// day is the length of a day without a clock change.
const day Minute = 24 * 60

// Window is a time of the day from Start to End. If End is not after Start, the window ends on the next day; if both are the same, it lasts a
// whole day.
type Window struct{ Start, End Minute }

// Dated adds windows to days or, with Not, removes all windows that start on them.
type Dated struct {
	Not      bool
	From, To pattern.Date // both included
	Windows  []Window     // none with Not
}

// Schedule is weekly windows and dated lines. The zero Schedule is never in force. It is immutable.
type Schedule struct {
	weekly [7][]Window // by [time.Weekday]
	dated  []Dated
}

// New returns a schedule. The windows of a day may overlap, in any order.
func New(weekly [7][]Window, dated []Dated) Schedule {
	s := Schedule{dated: slices.Clone(dated)}
	for d, windows := range weekly {
		s.weekly[d] = sorted(windows)
	}
	for i := range s.dated {
		s.dated[i].Windows = sorted(s.dated[i].Windows)
	}
	return s
}

func sorted(windows []Window) []Window {
	windows = slices.Clone(windows)
	slices.SortFunc(windows, func(a, b Window) int { return cmp.Or(cmp.Compare(a.Start, b.Start), cmp.Compare(a.End, b.End)) })
	return slices.Compact(windows)
}

// Weekly returns the windows that start on a day of the week. The caller must not change them.
func (s Schedule) Weekly(d time.Weekday) []Window { return s.weekly[d] }

// Dated returns the dated lines in their order. The caller must not change them.
func (s Schedule) Dated() []Dated { return s.dated }

// IsNever reports whether the schedule has no window at all.
func (s Schedule) IsNever() bool {
	for _, windows := range s.weekly {
		if len(windows) > 0 {
			return false
		}
	}
	return !slices.ContainsFunc(s.dated, func(d Dated) bool { return len(d.Windows) > 0 })
}

// Span is a time in which a schedule is in force. From belongs to it, To does not.
type Span struct{ From, To time.Time }

// starting yields the windows that start on a day: those of its weekday, unless a dated line removes them, and those that dated lines add.
func (s Schedule) starting(on pattern.Date, each func(Window)) {
	removed := false
	for _, d := range s.dated {
		removed = removed || d.Not && !on.Before(d.From) && !d.To.Before(on)
	}
	if !removed {
		for _, w := range s.weekly[on.Time().Weekday()] {
			each(w)
		}
	}
	for _, d := range s.dated {
		if !d.Not && !on.Before(d.From) && !d.To.Before(on) {
			for _, w := range d.Windows {
				each(w)
			}
		}
	}
}

// span returns the time of a window that starts on a day.
func (w Window) span(on pattern.Date, zone *time.Location) Span {
	start := instant(on, w.Start, zone, time.Time{})
	endsOn := on
	if w.End <= w.Start {
		endsOn = pattern.DateOf(on.Time().AddDate(0, 0, 1))
	}
	return Span{start, instant(endsOn, w.End, zone, start)}
}

// instant returns the moment at which the clock of a zone shows a time of a day: if it shows the time twice, the first of the two that is later
// than after; if it never does, the moment at which it jumps over the time.
func instant(on pattern.Date, at Minute, zone *time.Location, after time.Time) time.Time {
	wall := on.Time().Add(time.Duration(at) * time.Minute) // as if it were UTC
	// Every offset is less than 26 hours, so only the offsets 36 hours before and after can apply.
	_, before := wall.Add(-36 * time.Hour).In(zone).Zone()
	_, later := wall.Add(36 * time.Hour).In(zone).Zone()
	shows := func(offset int) (time.Time, bool) {
		t := wall.Add(-time.Duration(offset) * time.Second)
		_, there := t.In(zone).Zone()
		return t, there == offset
	}
	first, isFirst := shows(max(before, later))
	second, isSecond := shows(min(before, later))
	switch {
	case isFirst && (first.After(after) || !isSecond):
		return first.In(zone)
	case isSecond:
		return second.In(zone)
	}
	// The jump lies between the two: one offset holds before it, the other from it on.
	low, high := first, second
	for high.Sub(low) > time.Second {
		middle := low.Add(high.Sub(low) / 2).Truncate(time.Second)
		if _, there := middle.In(zone).Zone(); there == before {
			low = middle
		} else {
			high = middle
		}
	}
	return high.In(zone)
}

// spansOn appends the spans of the windows that start on the days from one to another.
func (s Schedule) spansOn(dst []Span, from, to pattern.Date, zone *time.Location) []Span {
	for on := from; !to.Before(on); on = pattern.DateOf(on.Time().AddDate(0, 0, 1)) {
		s.starting(on, func(w Window) {
			if span := w.span(on, zone); span.From.Before(span.To) {
				dst = append(dst, span)
			}
		})
	}
	return dst
}

// dayOf returns the day of a moment in a zone, moved by a number of days.
func dayOf(at time.Time, zone *time.Location, days int) pattern.Date {
	return pattern.DateOf(pattern.DateOf(at.In(zone)).Time().AddDate(0, 0, days))
}

// At reports whether the schedule is in force at a moment.
func (s Schedule) At(at time.Time, zone *time.Location) bool {
	inside := false
	for days := -2; days <= 1 && !inside; days++ { // a window of the day before may last until now; with a clock change, one of the day before that
		on := dayOf(at, zone, days)
		s.starting(on, func(w Window) {
			span := w.span(on, zone)
			inside = inside || !at.Before(span.From) && at.Before(span.To)
		})
	}
	return inside
}

// Between returns the spans in which the schedule is in force within a range, in order; no two overlap or adjoin. The first and the last are cut
// off at the ends of the range.
func (s Schedule) Between(from, to time.Time, zone *time.Location) []Span {
	if !from.Before(to) {
		return nil
	}
	spans := s.spansOn(nil, dayOf(from, zone, -2), dayOf(to, zone, 1), zone)
	slices.SortFunc(spans, func(a, b Span) int { return a.From.Compare(b.From) })
	var merged []Span
	for _, span := range spans {
		if span.From.Before(from) {
			span.From = from.In(zone)
		}
		if span.To.After(to) {
			span.To = to.In(zone)
		}
		last := len(merged) - 1
		switch {
		case !span.From.Before(span.To):
		case last >= 0 && !span.From.After(merged[last].To):
			if span.To.After(merged[last].To) {
				merged[last].To = span.To
			}
		default:
			merged = append(merged, span)
		}
	}
	return merged
}

// ahead is how far Next looks for a change after the last dated line: two weeks hold every change that the weekly windows make, also if a clock
// change hides one.
const ahead = 15

// Next returns the first moment after another at which the schedule comes into force or ceases to be; false if there is none.
func (s Schedule) Next(after time.Time, zone *time.Location) (time.Time, bool) {
	last := dayOf(after, zone, ahead)
	for _, d := range s.dated {
		if last.Before(d.To) {
			last = d.To
		}
	}
	last = pattern.DateOf(last.Time().AddDate(0, 0, ahead))
	// It looks some weeks at a time, as a dated line may be years ahead.
	for from := after; !last.Before(pattern.DateOf(from.In(zone))); {
		to := from.AddDate(0, 0, 40)
		for _, span := range s.Between(from, to, zone) {
			if span.From.After(from) { // otherwise the span began earlier and is cut off there
				return span.From, true
			}
			if span.To.Before(to) {
				return span.To, true
			}
		}
		// A span that reaches the end of the range may go on, so the next range begins shortly before that end.
		from = to.Add(-time.Second)
	}
	return time.Time{}, false
}

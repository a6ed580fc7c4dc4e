// Package schedule says when something holds: weekly windows and dated lines, in wall-clock time.
//
// From: the notation of schedules, as `mon-fri 09:00-12:00, 13:00-17:00; not on 2026-12-25`.
// To: whether a schedule is in force at a moment, when that changes next, and all spans of a range.
//
// A window that ends at or before its start ends on the next day, and belongs to the day that it starts on. Times are wall-clock
// times of a zone that the caller gives: one that a clock change skips counts as the instant of the change, one that is shown twice as
// its first showing. The start belongs to a window, the end does not.
package schedule

import (
	"cmp"
	"slices"
	"time"

	"widelark/core/pattern"
)

// Minute is a time of the day in minutes after midnight; 24:00 is 1440.
type Minute int

// day is the length of a day that no clock change makes longer or shorter.
const day Minute = 24 * 60

// Window is a time of the day from Start to End. Where End is not after Start, it ends on the next day; where both are the same, it is a
// whole day long.
type Window struct{ Start, End Minute }

// Dated adds windows to days or, with Not, takes away all that start on them.
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

// New returns a schedule. Windows of a day may overlap, and stand in any order.
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

// Span is a time in which a schedule is in force: From is in it, To is not.
type Span struct{ From, To time.Time }

// starting gives the windows that start on a day: those of its weekday, unless a line takes them away, and those that lines add.
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

// span returns the time that a window takes that starts on a day.
func (w Window) span(on pattern.Date, zone *time.Location) Span {
	start := instant(on, w.Start, zone, time.Time{})
	endsOn := on
	if w.End <= w.Start {
		endsOn = pattern.DateOf(on.Time().AddDate(0, 0, 1))
	}
	return Span{start, instant(endsOn, w.End, zone, start)}
}

// instant returns when a clock in a zone shows a time of a day: the first time after another or, where the clock never shows it, when it
// jumps over it.
func instant(on pattern.Date, at Minute, zone *time.Location, after time.Time) time.Time {
	wall := on.Time().Add(time.Duration(at) * time.Minute) // as if it were UTC
	// No zone is further from UTC than 26 hours in any sense, so the offsets before and after are those that can count.
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
	// Between the two lies the jump: the offset is one before it, and another from it on.
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

// spansOn appends the spans of windows that start on days from one to another.
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

// dayOf returns the day of a moment in a zone, some days later.
func dayOf(at time.Time, zone *time.Location, days int) pattern.Date {
	return pattern.DateOf(pattern.DateOf(at.In(zone)).Time().AddDate(0, 0, days))
}

// At reports whether the schedule is in force at a moment.
func (s Schedule) At(at time.Time, zone *time.Location) bool {
	inside := false
	for days := -2; days <= 1 && !inside; days++ { // a window of the day before may last until now, and longer where a clock change makes it so
		on := dayOf(at, zone, days)
		s.starting(on, func(w Window) {
			span := w.span(on, zone)
			inside = inside || !at.Before(span.From) && at.Before(span.To)
		})
	}
	return inside
}

// Between returns the spans in which the schedule is in force from a moment until another, in order, none touching the next. The first
// and the last are cut off at the ends of the range.
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

// ahead is how far a change is looked for where no dated line is to come: two weeks of windows hold every kind of change that a week has,
// and a clock change more.
const ahead = 15

// Next returns the first moment after another at which the schedule begins or ends to be in force; false where it never does.
func (s Schedule) Next(after time.Time, zone *time.Location) (time.Time, bool) {
	last := dayOf(after, zone, ahead)
	for _, d := range s.dated {
		if last.Before(d.To) {
			last = d.To
		}
	}
	last = pattern.DateOf(last.Time().AddDate(0, 0, ahead))
	// Some weeks at a time: a dated line may be years ahead.
	for from := after; !last.Before(pattern.DateOf(from.In(zone))); {
		to := from.AddDate(0, 0, 40)
		for _, span := range s.Between(from, to, zone) {
			if span.From.After(from) { // else it is cut off there
				return span.From, true
			}
			if span.To.Before(to) {
				return span.To, true
			}
		}
		// A span that reaches the end of the range goes on: it is looked at again from shortly before there.
		from = to.Add(-time.Second)
	}
	return time.Time{}, false
}

package schedule

import (
	"iter"
	"time"

	"widelark/core/pattern"
)

// BeginOf returns the moment at which a day begins in a zone: when its clock first shows midnight or, where a clock change skips
// midnight, the instant of the change. A day that the zone skips begins when the next one does. A later day never begins earlier.
func BeginOf(day pattern.Date, zone *time.Location) time.Time {
	return MomentOf(day, 0, zone)
}

// MomentOf returns the moment at which the clock shows a time of a day: the first one if it shows the time twice, and the instant of the clock
// change if it never does.
func MomentOf(day pattern.Date, at Minute, zone *time.Location) time.Time {
	return instant(day, at, zone, time.Time{})
}

// Today returns the beginning of the day that a moment falls on in a zone.
func Today(at time.Time, zone *time.Location) time.Time {
	return BeginOf(pattern.DateOf(at.In(zone)), zone)
}

// DaysLater returns the moment, a number of days later, at which the clock of a zone shows the same time. From the beginning of a day it returns
// the beginning of the later day.
func DaysLater(at time.Time, days int, zone *time.Location) time.Time {
	local := at.In(zone)
	day := pattern.DateOf(local)
	if at.Equal(BeginOf(day, zone)) {
		return BeginOf(day.Add(days), zone)
	}
	past := time.Duration(local.Second())*time.Second + time.Duration(local.Nanosecond())
	return MomentOf(day.Add(days), Minute(local.Hour()*60+local.Minute()), zone).Add(past)
}

// Days cuts the time from one moment to another at the beginnings of days, and yields the pieces that are not empty, in order: the first moment
// of a piece and the first moment after it.
func Days(from, to time.Time, zone *time.Location) iter.Seq2[time.Time, time.Time] {
	return func(yield func(time.Time, time.Time) bool) {
		last := pattern.DateOf(to.In(zone)).Add(1)
		at := from
		for day := pattern.DateOf(from.In(zone)).Add(-1); day.Before(last); day = day.Add(1) { // from the day before: a clock may go back over midnight
			end := BeginOf(day.Add(1), zone)
			if end.After(to) {
				end = to
			}
			if !end.After(at) {
				continue
			}
			if !yield(at, end) {
				return
			}
			at = end
		}
		if at.Before(to) {
			yield(at, to)
		}
	}
}

// ClockChanges yields, in order, the moments strictly between two others at which the offset of a zone changes.
func ClockChanges(after, before time.Time, zone *time.Location) iter.Seq[time.Time] {
	return func(yield func(time.Time) bool) {
		for at := after; ; {
			_, end := at.In(zone).ZoneBounds()
			if end.IsZero() || !at.Before(before) {
				return
			}
			if !end.After(at) { // the library ends the last period of a leap year a day early, and then returns that moment forever
				at = at.Add(12 * time.Hour)
				continue
			}
			_, was := at.In(zone).Zone()
			_, is := end.In(zone).Zone()
			if at = end; at.Before(before) && was != is && !yield(at) {
				return
			}
		}
	}
}

package schedule

import (
	"iter"
	"time"

	"widelark/core/pattern"
)

// BeginOf returns the moment at which a day begins in a zone: when its clock first shows midnight or, where a clock change skips
// midnight, the instant of the change. A day that a zone leaves out begins when the next one does. It never decreases from one day to
// the next.
func BeginOf(day pattern.Date, zone *time.Location) time.Time {
	return MomentOf(day, 0, zone)
}

// MomentOf returns the moment at which a clock shows a time of a day: the first where it does so twice, the instant of the change where
// it never does.
func MomentOf(day pattern.Date, at Minute, zone *time.Location) time.Time {
	return instant(day, at, zone, time.Time{})
}

// Today returns the beginning of the day that a moment falls on in a zone.
func Today(at time.Time, zone *time.Location) time.Time {
	return BeginOf(pattern.DateOf(at.In(zone)), zone)
}

// DaysLater returns the moment so many days later at which the clock of a zone shows the same time; from the beginning of a day, the
// beginning of the other.
func DaysLater(at time.Time, days int, zone *time.Location) time.Time {
	local := at.In(zone)
	day := pattern.DateOf(local)
	if at.Equal(BeginOf(day, zone)) {
		return BeginOf(day.Add(days), zone)
	}
	past := time.Duration(local.Second())*time.Second + time.Duration(local.Nanosecond())
	return MomentOf(day.Add(days), Minute(local.Hour()*60+local.Minute()), zone).Add(past)
}

// Days cuts the time from one moment to another at the beginnings of days and gives the pieces that are not empty, in order: a moment that
// is the first of a piece, and the moment that is the first after it. It goes by the days, which come to an end whatever a clock does.
func Days(from, to time.Time, zone *time.Location) iter.Seq2[time.Time, time.Time] {
	return func(yield func(time.Time, time.Time) bool) {
		last := pattern.DateOf(to.In(zone)).Add(1)
		at := from
		for day := pattern.DateOf(from.In(zone)).Add(-1); day.Before(last); day = day.Add(1) { // a clock may go back over midnight
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

// ClockChanges gives the moments after one and before another at which the clock of a zone is moved, in order.
func ClockChanges(after, before time.Time, zone *time.Location) iter.Seq[time.Time] {
	return func(yield func(time.Time) bool) {
		for at := after; ; {
			_, end := at.In(zone).ZoneBounds()
			if end.IsZero() || !at.Before(before) {
				return
			}
			if !end.After(at) { // the library ends the last stretch of a leap year a day early, and then says that moment for ever
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

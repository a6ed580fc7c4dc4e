// Package calendar reads calendar files into dated lines of schedules, and writes schedules as calendar files (iCalendar, RFC 5545).
//
// From: a calendar of holidays or shifts.
// To: lines of the notation of schedules, and back.
package calendar

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"widelark/core/pattern"
	"widelark/core/schedule"
)

// Error describes a fault of a calendar file, in one clause.
type Error struct{ Msg string }

// Error returns the clause.
func (e *Error) Error() string { return e.Msg }

// Reading holds the options of reading a calendar.
type Reading struct {
	Not      bool           // events remove days instead of adding their times
	Zone     *time.Location // the zone of the schedule, and of events that name none
	From, To time.Time      // repeated events are expanded within this range; single events count at any time
}

// Calendar is the result of reading a calendar file.
type Calendar struct {
	Lines  []schedule.Dated // by day, without repeats
	Events int
	Left   []string // what could not be read, a clause each: the first ten
}

const (
	maxBytes = 8 << 20
	maxLines = 2000
	maxLeft  = 10

	// maxSteps bounds the repetitions of one event that are counted, from its first on: two hundred years of days.
	maxSteps = 75_000
)

// Read reads a calendar file. It returns an [*Error] if the file is not a calendar. It skips events that cannot be read, and lists them in Left. It stops
// between two events when the context ends.
func Read(ctx context.Context, r io.Reader, how Reading) (Calendar, error) {
	file, err := ical.NewDecoder(io.LimitReader(r, maxBytes)).Decode()
	if err != nil {
		return Calendar{}, &Error{fmt.Sprintf("no calendar file that can be read (%s)", err)}
	}
	var c Calendar
	left := func(event ical.Event, why string) {
		if len(c.Left) < maxLeft {
			name, _ := event.Props.Text(ical.PropSummary)
			c.Left = append(c.Left, fmt.Sprintf("%q: %s", name, why))
		}
	}
	for _, event := range file.Events() {
		switch err := ctx.Err(); {
		case errors.Is(err, context.DeadlineExceeded):
			return c, &Error{"its repetitions take too long to follow; choose a smaller calendar"}
		case err != nil:
			return c, err
		}
		c.Events++
		lines, err := linesOf(event, how)
		if err != nil {
			left(event, err.Error())
			continue
		}
		if c.Lines = append(c.Lines, lines...); len(c.Lines) > maxLines {
			return c, &Error{fmt.Sprintf("it comes to more than %d days; choose a shorter range, or a smaller calendar", maxLines)}
		}
	}
	if c.Events == 0 {
		return c, &Error{"there is no event in it"}
	}
	slices.SortFunc(c.Lines, func(a, b schedule.Dated) int {
		return cmp.Or(a.From.Time().Compare(b.From.Time()), a.To.Time().Compare(b.To.Time()), strings.Compare(windowsText(a), windowsText(b)))
	})
	c.Lines = slices.CompactFunc(c.Lines, func(a, b schedule.Dated) bool {
		return a.From == b.From && a.To == b.To && windowsText(a) == windowsText(b)
	})
	return c, nil
}

func windowsText(d schedule.Dated) string { return fmt.Sprint(d.Windows) }

// linesOf returns the lines for an event.
func linesOf(event ical.Event, how Reading) ([]schedule.Dated, error) {
	prop := event.Props.Get(ical.PropDateTimeStart)
	if prop == nil {
		return nil, errors.New("it has no start")
	}
	start, err := event.DateTimeStart(how.Zone)
	if err != nil {
		return nil, fmt.Errorf("its start cannot be read (%w)", err)
	}
	end, err := event.DateTimeEnd(how.Zone)
	if err != nil {
		return nil, fmt.Errorf("its end cannot be read (%w)", err)
	}
	allDay := prop.ValueType() == ical.ValueDate
	long := end.Sub(start)
	if allDay && long < 24*time.Hour {
		long = 24 * time.Hour
	}
	starts := []time.Time{start}
	set, err := event.RecurrenceSet(how.Zone)
	if err != nil {
		return nil, fmt.Errorf("its repetition cannot be read (%w)", err)
	}
	if set != nil {
		if starts, err = repeated(event, set, how); err != nil {
			return nil, err
		}
	}
	var lines []schedule.Dated
	for _, at := range starts {
		if len(lines) > maxLines {
			break
		}
		if allDay || how.Not {
			first, last := at.In(how.Zone), at.Add(max(long-time.Second, 0)).In(how.Zone)
			if allDay { // calendar days, in whatever zone
				first, last = at, at.Add(long-time.Second)
			}
			d := schedule.Dated{Not: how.Not, From: pattern.DateOf(first), To: pattern.DateOf(last)}
			if !how.Not {
				d.Windows = []schedule.Window{{Start: 0, End: 24 * 60}}
			}
			lines = append(lines, d)
			continue
		}
		lines = append(lines, timed(at.In(how.Zone), at.Add(long).In(how.Zone))...)
	}
	return lines, nil
}

// often are the frequencies below a day (RFC 5545, section 3.3.10). Expanding such an event over years takes hours.
var often = []string{"SECONDLY", "MINUTELY", "HOURLY"}

// repeated returns the moments in the range at which an event begins.
func repeated(event ical.Event, set *rrule.Set, how Reading) (starts []time.Time, _ error) {
	for _, name := range []string{ical.PropRecurrenceRule, "EXRULE"} {
		for _, rule := range event.Props[name] {
			for _, frequency := range often {
				if strings.Contains(strings.ToUpper(rule.Value), "FREQ="+frequency) {
					return nil, fmt.Errorf("it repeats more often than daily (%s)", frequency)
				}
			}
		}
	}
	next := set.Iterator()
	for range maxSteps {
		at, more := next()
		if !more || at.After(how.To) {
			return starts, nil
		}
		if !at.Before(how.From) {
			starts = append(starts, at)
		}
	}
	return nil, fmt.Errorf("it repeats more than %d times before the range ends", maxSteps)
}

// timed returns the dated lines for a span of time, day by day.
func timed(from, to time.Time) []schedule.Dated {
	minute := func(t time.Time) schedule.Minute { return schedule.Minute(t.Hour()*60 + t.Minute()) }
	first, last := pattern.DateOf(from), pattern.DateOf(to)
	switch next := pattern.DateOf(first.Time().AddDate(0, 0, 1)); {
	case !from.Before(to):
		return nil
	case first == last, next == last && minute(to) < minute(from):
		return []schedule.Dated{{From: first, To: first, Windows: []schedule.Window{{Start: minute(from), End: minute(to)}}}}
	}
	lines := []schedule.Dated{{From: first, To: first, Windows: []schedule.Window{{Start: minute(from), End: 24 * 60}}}}
	for on := pattern.DateOf(first.Time().AddDate(0, 0, 1)); on.Before(last) && len(lines) <= maxLines; on = pattern.DateOf(on.Time().AddDate(0, 0, 1)) {
		lines = append(lines, schedule.Dated{From: on, To: on, Windows: []schedule.Window{{Start: 0, End: 24 * 60}}})
	}
	if minute(to) > 0 {
		lines = append(lines, schedule.Dated{From: last, To: last, Windows: []schedule.Window{{Start: 0, End: minute(to)}}})
	}
	return lines
}

var dayCodes = [7]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// Write writes a schedule as a calendar: for each window an event that repeats weekly, except on removed days, and an event for each dated line that
// adds a window. The weekly events begin within the week that starts with from.
func Write(w io.Writer, name string, s schedule.Schedule, zone *time.Location, from pattern.Date, now time.Time) error {
	file := ics.NewCalendarFor("widelark")
	file.SetName(name)
	file.SetXWRTimezone(zone.String())
	n := 0
	event := func(on pattern.Date, window schedule.Window) *ics.VEvent {
		n++
		e := file.AddEvent(fmt.Sprintf("%d-%d@widelark.invalid", from.Time().Unix(), n))
		e.SetDtStampTime(now)
		e.SetSummary(name)
		endsOn := on
		if window.End <= window.Start || window.End == 24*60 {
			endsOn = pattern.DateOf(on.Time().AddDate(0, 0, 1))
		}
		inZone := ics.WithTZID(zone.String())
		e.SetProperty(ics.ComponentPropertyDtStart, local(on, window.Start), inZone)
		e.SetProperty(ics.ComponentPropertyDtEnd, local(endsOn, window.End%(24*60)), inZone)
		return e
	}
	for day := range 7 {
		weekday := time.Weekday((day + 1) % 7)
		on := from
		for on.Time().Weekday() != weekday {
			on = pattern.DateOf(on.Time().AddDate(0, 0, 1))
		}
		for _, window := range s.Weekly(weekday) {
			e := event(on, window)
			e.AddRrule("FREQ=WEEKLY;BYDAY=" + dayCodes[weekday])
			for _, d := range s.Dated() {
				for not := d.From; d.Not && !d.To.Before(not); not = pattern.DateOf(not.Time().AddDate(0, 0, 1)) {
					if not.Time().Weekday() == weekday && !not.Before(on) {
						e.AddProperty(ics.ComponentPropertyExdate, local(not, window.Start), ics.WithTZID(zone.String()))
					}
				}
			}
		}
	}
	for _, d := range s.Dated() {
		for on := d.From; !d.Not && !d.To.Before(on); on = pattern.DateOf(on.Time().AddDate(0, 0, 1)) {
			for _, window := range d.Windows {
				event(on, window)
			}
		}
	}
	return file.SerializeTo(w, ics.WithNewLineWindows)
}

// local writes a time of a day without its zone (RFC 5545, section 3.3.5, form 3, which takes a TZID).
func local(on pattern.Date, at schedule.Minute) string {
	return fmt.Sprintf("%04d%02d%02dT%02d%02d00", on.Year, on.Month, on.Day, int(at)/60, int(at)%60)
}

package review

import (
	"fmt"
	"strings"
	"time"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
)

// Words that say when a schedule is meant to be in force.
var (
	byDay   = []string{"day", "office", "working", "school", "lesson", "morning", "afternoon", "business", "teaching"}
	byNight = []string{"night", "evening", "small hours", "late"}
)

// schedules finds those that never change, and those whose name and hours say opposite things.
func (r *reviewer) schedules() {
	for _, s := range r.config.Schedules {
		at := object("schedule", s.ID, s.Name)
		if s.Schedule.IsNever() {
			r.add(Never, at, "", "The schedule %q has no hours, so it is never in force.", s.Name)
			continue
		}
		from := r.Now.In(s.Zone)
		day, night, whole := hoursOf(s, from, from.AddDate(0, 0, 28))
		next, changes := s.Schedule.Next(r.Now, s.Zone)
		switch {
		case !changes && !s.Schedule.At(r.Now, s.Zone):
			r.add(Never, at, "", "The schedule %q does not come into force any more.", s.Name)
		case day+night >= whole-time.Minute && (!changes || next.Sub(r.Now) > 28*24*time.Hour):
			r.add(Always, at, "", "The schedule %q is always in force.", s.Name)
		case mentions(s.Name, byDay) && !mentions(s.Name, byNight) && night >= 3*day:
			r.add(InsideOut, at, "", "The schedule %q is in force mostly by night (%s by night, %s by day in four weeks): its hours may be inside out.", s.Name, hours(night), hours(day))
		case mentions(s.Name, byNight) && !mentions(s.Name, byDay) && day >= 3*night:
			r.add(InsideOut, at, "", "The schedule %q is in force mostly by day (%s by day, %s by night in four weeks): its hours may be inside out.", s.Name, hours(day), hours(night))
		}
	}
}

func mentions(name string, words []string) bool {
	for _, word := range words {
		for _, part := range strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r < 'a' || r > 'z' }) {
			if part == word || part == word+"s" {
				return true
			}
		}
		if strings.Contains(word, " ") && strings.Contains(strings.ToLower(name), word) {
			return true
		}
	}
	return false
}

func hours(d time.Duration) string { return fmt.Sprintf("%.0f h", d.Hours()) }

// overlap returns how long two stretches of time are one.
func overlap(from, to, otherFrom, otherTo time.Time) time.Duration {
	if otherFrom.After(from) {
		from = otherFrom
	}
	if otherTo.Before(to) {
		to = otherTo
	}
	return max(0, to.Sub(from))
}

// hoursOf sums up for how long a schedule is in force by day (07:00 to 19:00) and by night.
func hoursOf(s policy.Schedule, from, to time.Time) (day, night, whole time.Duration) {
	for _, span := range s.Schedule.Between(from, to, s.Zone) {
		for begin, end := range schedule.Days(span.From, span.To, s.Zone) {
			on := pattern.DateOf(begin.In(s.Zone))
			bright := overlap(begin, end, schedule.MomentOf(on, 7*60, s.Zone), schedule.MomentOf(on, 19*60, s.Zone))
			day, night = day+bright, night+end.Sub(begin)-bright
		}
	}
	return day, night, to.Sub(from)
}

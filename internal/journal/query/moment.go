package query

import (
	"fmt"
	"strings"
	"time"

	"widelark/internal/journal/segment"
)

func since(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	at, err := c.moment(v)
	return segment.Between{Amount: segment.At, Spans: []segment.Span{{From: ceilMillis(at), To: unbounded}}}, err
}

func until(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	at, err := c.moment(v)
	return segment.Between{Amount: segment.At, Spans: []segment.Span{{From: -unbounded, To: ceilMillis(at)}}}, err
}

// moment reads the moment of since and until.
func (c *compiler) moment(v Value) (time.Time, error) {
	if at, ok := Moment(v.Text, c.world.Now, c.world.Zone); ok && v.Op == Is {
		return at, nil
	}
	return time.Time{}, c.mistake(v, fmt.Sprintf("%q is not a moment: write 2h, 3d, 14:00, yesterday, mon, 2026-11-30, \"2026-11-30 14:00\", or a time as RFC 3339 has it", v.Text), "")
}

// Moment reads a moment of the past as people write it: an age, as 2h or 3d; 14:00, the last time that the clock showed it; yesterday or mon, when that day began;
// a date, with or without a time; RFC 3339.
func Moment(text string, now time.Time, zone *time.Location) (time.Time, bool) {
	text = strings.ToLower(strings.TrimSpace(text))
	if at, err := time.Parse(time.RFC3339, strings.ToUpper(text)); err == nil {
		return at, true
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02t15:04", "2006-01-02 15:04:05", "2006-01-02t15:04:05"} {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return at, true
		}
	}
	now = now.In(zone)
	clock := func(text string, day time.Time) (time.Time, bool) {
		for _, layout := range []string{"15:04", "15:04:05"} {
			if at, err := time.Parse(layout, text); err == nil {
				return time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), at.Second(), 0, zone), true
			}
		}
		return day, false
	}
	if at, ok := clock(text, now); ok {
		if at.After(now) {
			at, _ = clock(text, now.AddDate(0, 0, -1))
		}
		return at, true
	}
	name, hour, timed := strings.Cut(text, " ")
	back := -1
	switch {
	case name == "now" && !timed:
		return now, true
	case name == "today":
		back = 0
	case name == "yesterday":
		back = 1
	default:
		for d := time.Sunday; d <= time.Saturday; d++ {
			if len(name) >= 3 && strings.HasPrefix(strings.ToLower(d.String()), name) {
				back = (int(now.Weekday()) - int(d) + 7) % 7
			}
		}
	}
	if back >= 0 {
		day := time.Date(now.Year(), now.Month(), now.Day()-back, 0, 0, 0, 0, zone)
		if !timed {
			return day, true
		}
		at, ok := clock(strings.TrimSpace(hour), day)
		if ok && at.After(now) && back == 0 && name != "today" {
			at, ok = clock(strings.TrimSpace(hour), day.AddDate(0, 0, -7))
		}
		return at, ok
	}
	if days, ok := withUnit(text, map[string]float64{"d": 1, "w": 7}); ok && days < 1e5 {
		return now.AddDate(0, 0, -int(days)), true
	}
	if millis, ok := withUnit(text, map[string]float64{"s": 1e3, "m": 60e3, "min": 60e3, "h": 3600e3}); ok && millis < 1e14/2 {
		return now.Add(-time.Duration(millis) * time.Millisecond), true
	}
	return time.Time{}, false
}

// during makes filters for a schedule's times.
func during(inside bool) maker {
	return func(c *compiler, f *field, t *Term, v Value) (segment.Filter, error) {
		if err := c.plain(t, v); err != nil {
			return nil, err
		}
		sch, ok := c.world.Schedule(v.Text)
		if !ok {
			return nil, c.unknown(f, v)
		}
		zone, from := sch.Zone, c.begin
		if zone == nil {
			zone = c.world.Zone
		}
		if longest := c.to.AddDate(-mostYears, 0, 0); from.Before(longest) {
			from = longest
		}
		var spans []segment.Span
		for _, s := range sch.Schedule.Between(from, c.to, zone) {
			spans = append(spans, segment.Span{From: ceilMillis(s.From), To: ceilMillis(s.To)})
		}
		in := segment.Between{Amount: segment.At, Spans: spans}
		if inside {
			return in, nil
		}
		return segment.Not{Filter: in}, nil
	}
}

// mostYears is how far back schedules are followed; records are not kept as long.
const mostYears = 5

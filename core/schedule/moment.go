package schedule

import (
	"fmt"
	"strings"
	"time"

	"widelark/core/pattern"
)

// ParseMoment reads a moment as people write it: "now" or nothing; "12:30", the next time that the clock shows it; "tue 12:30", the same on the
// next Tuesday; "2026-12-24 12:30", "2026-12-24"; and RFC 3339. Times without a zone are in zone. now is the present.
func ParseMoment(text string, now time.Time, zone *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	if text == "" || strings.EqualFold(text, "now") {
		return now, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if at, err := time.Parse(layout, text); err == nil { // what the clock shows
			return instant(pattern.DateOf(at), Minute(at.Hour()*60+at.Minute()), zone, time.Time{}), nil
		}
	}
	day, clock, both := strings.Cut(text, " ")
	if !both {
		day, clock = "", text
	}
	shown, err := time.Parse("15:04", strings.TrimSpace(clock))
	weekday, known := time.Sunday, day == ""
	for d := time.Sunday; d <= time.Saturday; d++ {
		if len(day) >= 3 && strings.HasPrefix(strings.ToLower(d.String()), strings.ToLower(day)) {
			weekday, known = d, true
		}
	}
	if err != nil || !known {
		return now, fmt.Errorf("%q is not a moment: write now, 12:30, tue 12:30, 2026-12-24 12:30, or a time as RFC 3339 has it", text)
	}
	today := pattern.DateOf(now.In(zone)).Time()
	for days := range 9 {
		on := today.AddDate(0, 0, days)
		if day != "" && on.Weekday() != weekday {
			continue
		}
		if at := instant(pattern.DateOf(on), Minute(shown.Hour()*60+shown.Minute()), zone, time.Time{}); !at.Before(now) {
			return at, nil
		}
	}
	return now, fmt.Errorf("%q does not come within a week", text) // unreachable: a day and a time come round
}

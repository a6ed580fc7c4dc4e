package command

import (
	"context"
	"fmt"
	"strings"
	"time"

	"widelark/core/pattern"
	"widelark/core/schedule"
)

// Clock is the layout of moments for people.
const Clock = "Mon 2 Jan 15:04"

// EndText returns until when something lasts: until a moment or through a day. layout is the layout of moments.
func (a *App) EndText(end time.Time, layout string) string {
	end = a.ByClock(end)
	if end.Equal(schedule.Today(end, end.Location())) {
		return "through " + end.Add(-time.Second).Format(strings.TrimSuffix(layout, " 15:04"))
	}
	return "until " + end.Format(layout)
}

// Duration reads 90m, 12h, 7d and 2w.
func Duration(text string) (time.Duration, error) {
	days := map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour}
	if text == "" {
		return 0, nil
	}
	if unit, ok := days[text[len(text)-1:]]; ok {
		var n float64
		if _, err := fmt.Sscanf(text[:len(text)-1], "%g", &n); err == nil && n > 0 {
			return time.Duration(n * float64(unit)), nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, Usagef("%q is not a length of time, as 90m, 12h, 7d or 2w", text)
	}
	return d, nil
}

// end reads the end of something: a duration from now, its last day, or a moment, by the clock of a zone.
func end(text string, zone *time.Location) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if day, err := pattern.ParseDate(text); err == nil {
		over := schedule.BeginOf(day.Add(1), zone)
		return &over, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04"} {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return &at, nil
		}
	}
	d, err := Duration(text)
	if err != nil {
		return nil, Usagef("%q is neither a day (2026-11-28), a moment (2026-11-28 17:00) nor a length of time (7d)", text)
	}
	at := time.Now().Add(d)
	return &at, nil
}

// Moment returns a moment for the output format: short and by the organisation's clock in a table, RFC 3339 in any other.
func (a *App) Moment(at time.Time) string {
	if a.Format == "table" {
		return a.ByClock(at).Format("2006-01-02 15:04")
	}
	return at.Format(time.RFC3339)
}

// InZone returns an app that writes moments by the clock of a zone, and does not ask the service for its zone.
func InZone(zone *time.Location) *App {
	a := &App{}
	a.asked.Do(func() { a.organisation = zone })
	return a
}

// Zone returns the organisation's time zone, in which days begin and moments are written. It asks the service once.
func (a *App) Zone() (*time.Location, error) {
	a.asked.Do(func() { a.organisation, a.zoneless = a.askZone() })
	return a.organisation, a.zoneless
}

func (a *App) askZone() (*time.Location, error) {
	api, err := a.API()
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	answer, err := api.WhoAmIWithResponse(ctx)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the service does not say its time zone: %w", err)
	case answer.JSON200.Zone == "": // an older service; "" would mean UTC
		return time.Local, nil
	}
	return time.LoadLocation(answer.JSON200.Zone)
}

// ByClock returns a moment by the organisation's clock, for output; by this machine's clock if the service does not return its zone.
func (a *App) ByClock(at time.Time) time.Time {
	zone, err := a.Zone()
	if err != nil {
		zone = time.Local
	}
	return at.In(zone)
}

// End reads the end of something (see [end]) by the organisation's clock. It never falls back on another clock, whose midnight would be a different moment.
func (a *App) End(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	zone, err := a.Zone()
	if err != nil {
		return nil, err
	}
	return end(text, zone)
}

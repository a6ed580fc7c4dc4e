package demo

import (
	"bytes"
	"context"
	"strings"

	"widelark/client"
)

// Holidays is the name of a calendar file with the public holidays of the coast.
const Holidays = "holidays.ics"

var schedules = []struct{ name, about, text string }{
	{"Day shift", "When the wards are fully staffed.", "mon-sun 07:30-20:00"},
	{"Night shift", "Crosses midnight: Friday's ends on Saturday morning.", "mon-sun 20:00-07:30"},
	{"Office hours", "Offices and the front desk; not on public holidays.", "mon-fri 08:30-12:30, 13:15-17:00"},
	{"Meal breaks", "By day and by night.", "mon-sun 12:30-13:15, 00:30-01:15"},
	{"Small hours", "When the wards are quiet.", "mon-sun 01:00-07:30"},
	{"Weekend nights", "Friday's and Saturday's, until the morning after.", "fri-sat 20:00-08:00"},
	{"Visiting", "When visitors may come to the wards.", "mon-fri 14:00-16:00, 18:00-20:00; sat-sun 10:00-20:00"},
	{"Public holidays", "Whole days, from the calendar of the coast.", ""},
}

// loadSchedules creates the hospital's schedules. The holidays come from the calendar file.
func loadSchedules(ctx context.Context, api *client.ClientWithResponses) error {
	zone := TimeZone
	days := func(as client.ReadCalendarParamsAs) (string, error) {
		read, err := api.ReadCalendarWithBodyWithResponse(ctx, &client.ReadCalendarParams{As: &as, Zone: &zone}, "text/plain", bytes.NewReader(File(Holidays)))
		if err != nil {
			return "", err
		}
		return read.JSON200.Lines, nil
	}
	away, err := days(client.ReadCalendarParamsAs("not on"))
	if err != nil {
		return err
	}
	only, err := days(client.ReadCalendarParamsAs("on"))
	if err != nil {
		return err
	}
	found, err := api.GetSchedulesWithResponse(ctx)
	if err != nil {
		return err
	}
	have := map[string]bool{}
	for _, s := range found.JSON200.Schedules {
		have[s.Name] = true
	}
	for _, s := range schedules {
		text := s.text
		switch s.name {
		case "Office hours":
			text += "\n" + away
		case "Public holidays":
			text = only
		}
		if have[s.name] {
			continue
		}
		if _, err := api.CreateScheduleWithResponse(ctx, client.NewScheduleInputBody{Name: s.name, About: &s.about, Zone: &zone, Text: strings.TrimSpace(text)}); err != nil {
			return err
		}
	}
	return nil
}

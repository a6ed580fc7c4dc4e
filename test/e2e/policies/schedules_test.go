package policies

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

func TestScheduleCommands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	assert.Contains(t, run("schedule", "ls").Done(t), "There are no schedules yet.")
	assert.Contains(t, run("schedule", "new", "Night shift", "MON-sun 20:00-07:30", "--zone", "Europe/London", "--about", "Crosses midnight").Done(t), "Made the schedule \"Night shift\"")
	assert.Contains(t, run("schedule", "new", "night shift", "mon 09:00-10:00").Err, "the name is taken")
	assert.Contains(t, run("schedule", "new", "X", "mon 9:00-10:00").Err, "text: line 1, column 5: found \"9:00-10:00\", expected a time as 09:00; did you mean 09:00-10:00?")
	assert.Contains(t, run("schedule", "new", "X", "mon 09:00-10:00", "--zone", "Mars/Olympus").Err, `there is no time zone "Mars/Olympus"`)
	assert.Contains(t, run("schedule", "new", "X", "mon 09:00-10:00", "--zone", "Local").Err, "an IANA time zone is wanted")
	shown := run("schedule", "show", "Night shift").Done(t)
	for _, want := range []string{"Night shift · ", "Crosses midnight", "mon-sun 20:00-07:30", "in Europe/London", "mon  ███████████████·························████████", "an ordinary week"} {
		assert.Contains(t, shown, want)
	}
	assert.Equal(t, 10, strings.Count(shown, "07:30")+strings.Count(shown, "20:00")-2, "the next ten changes")
	assert.Contains(t, run("schedule", "explain", "mon-sun 00:00-24:00").Done(t), "It never changes.")
	wrong := run("schedule", "explain", "mon 24:00-01:00")
	assert.Equal(t, 1, wrong.Code)
	assert.Contains(t, wrong.Out, "did you mean 00:00 of the next day?")

	holidays := filepath.Join(t.TempDir(), "holidays.ics")
	require.NoError(t, os.WriteFile(holidays, demo.File(demo.Holidays), 0o600))
	preview := run("schedule", "import", "Night shift", holidays, "--preview").Done(t)
	assert.Contains(t, preview, "mon-sun 20:00-07:30\n")
	assert.Contains(t, preview, "not on 2026-12-25..2026-12-26\nnot on 2027-01-01\n")
	assert.NotContains(t, run("schedule", "show", "Night shift").Done(t), "2026-12-25")
	assert.Contains(t, run("schedule", "import", "Night shift", holidays).Done(t), "dated lines from 3 events.")
	again := run("schedule", "import", "Night shift", holidays, "--days", "60").Done(t)
	assert.Contains(t, again, "\"Night shift\" has 2 dated lines", "in place of those of before")
	assert.Contains(t, run("schedule", "import", "Night shift", holidays, "--as", "sometimes").Err, "expected value to be one of")
	ics := run("schedule", "export", "Night shift").Done(t)
	assert.Contains(t, ics, "RRULE:FREQ=WEEKLY;BYDAY=FR")
	assert.Contains(t, ics, "EXDATE;TZID=Europe/London:20261225T200000")
	file := filepath.Join(t.TempDir(), "out.ics")
	run("schedule", "export", "Night shift", "--out", file).Done(t)
	require.NoError(t, os.WriteFile(holidays, []byte("no calendar"), 0o600))
	assert.Contains(t, run("schedule", "import", "Night shift", holidays).Err, "The calendar cannot be read: no calendar file that can be read")

	assert.Contains(t, s.Run(t, "mon 09:00-10:00\n# why\n", "schedule", "edit", "Night shift", "--name", "Mondays", "--text", "-").Done(t), "Edited the schedule \"Mondays\"")
	var all []client.Schedule
	require.NoError(t, json.Unmarshal([]byte(run("schedule", "ls", "-o", "json").Done(t)), &all))
	require.Len(t, all, 1)
	assert.Equal(t, "mon 09:00-10:00", all[0].Text)
	assert.Equal(t, []client.TimeWindow{{Day: 0, Start: 540, End: 600}}, all[0].Times.Weekly)
	assert.Len(t, all[0].Times.Week, 1)
	run("schedule", "remove", "mondays").Done(t)
	assert.Equal(t, 3, run("schedule", "show", "Mondays").Code)
}

func TestScheduleAnswers(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api, ctx := s.API(t), t.Context()
	zone, at := "Europe/London", time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC) // the day before the clock goes forward
	found, err := api.ExplainScheduleWithResponse(ctx, client.ExplainScheduleInputBody{Text: "sun 01:15-03:00; sat 10:00-14:00; not on 2026-04-04", Zone: &zone, At: &at})
	require.NoError(t, err)
	times := found.JSON200.Times
	assert.Equal(t, "sat 10:00-14:00\nsun 01:15-03:00\nnot on 2026-04-04", found.JSON200.Text)
	assert.True(t, times.InForce)
	var told []string
	for _, c := range times.Changes[:4] {
		told = append(told, c.At.UTC().Format("02T15:04 ")+map[bool]string{true: "begins", false: "ends"}[c.Begins])
	}
	assert.Equal(t, []string{"28T14:00 ends", "29T01:00 begins", "29T02:00 ends", "05T00:15 begins"}, told, "the skipped quarter past one is the instant of the change")
	assert.Len(t, times.Changes, 10)
	assert.Equal(t, []string{"not on 2026-04-04"}, times.Dated)
	flawed, err := api.ExplainScheduleWithResponse(ctx, client.ExplainScheduleInputBody{Text: "mon 09:00-10:00\nmoon 09:00-10:00"})
	require.NoError(t, err)
	require.NotNil(t, flawed.JSON200.Problem)
	assert.EqualValues(t, 2, flawed.JSON200.Problem.Line)
	assert.True(t, flawed.JSON200.Times.Never)

	made, err := api.CreateScheduleWithResponse(ctx, client.NewScheduleInputBody{Name: "Office hours", Text: "mon-fri 09:00-17:00"})
	require.NoError(t, err)
	tag, name := house.Match(made.JSON201.Version), "Offices"
	assert.Equal(t, tag, made.HTTPResponse.Header.Get("ETag"))
	_, err = api.EditScheduleWithResponse(ctx, made.JSON201.ID, &client.EditScheduleParams{IfMatch: &tag}, client.EditScheduleInputBody{Name: &name})
	require.NoError(t, err)
	_, err = api.EditScheduleWithResponse(ctx, made.JSON201.ID, &client.EditScheduleParams{IfMatch: &tag}, client.EditScheduleInputBody{Name: &name})
	assert.ErrorContains(t, err, "Somebody else changed this")
	_, err = api.DeleteScheduleWithResponse(ctx, made.JSON201.ID, &client.DeleteScheduleParams{IfMatch: &tag})
	assert.ErrorContains(t, err, "Somebody else changed this")
	res := s.Request(t, "GET", "/api/v1/schedules/"+made.JSON201.ID.String()+"/calendar", "", map[string]string{"Authorization": "Bearer " + s.Token(t)})
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Equal(t, "text/calendar; charset=utf-8", res.Header.Get("Content-Type"))
	assert.Contains(t, res.Header.Get("Content-Disposition"), "Offices.ics")
	assert.Contains(t, string(body), "BEGIN:VEVENT\r\n")
	for path, want := range map[string]int{"PATCH /schedules/": 404, "DELETE /schedules/": 404, "GET /schedules/": 404} {
		method, at, _ := strings.Cut(path, " ")
		res := s.Request(t, method, "/api/v1"+at+"00000000-0000-0000-0000-000000000000", "{}", map[string]string{"Authorization": "Bearer " + s.Token(t), "Content-Type": "application/json", "If-Match": "*"})
		assert.Equal(t, want, res.StatusCode, path)
	}
}

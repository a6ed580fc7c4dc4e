package calendar

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/schedule"
)

// file makes a calendar of events, each the lines of one.
func file(events ...string) string {
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Quillmere//Test//EN\r\n")
	for i, event := range events {
		fmt.Fprintf(&b, "BEGIN:VEVENT\r\nUID:%d@quillmere.invalid\r\nDTSTAMP:20261101T000000Z\r\n%s\r\nEND:VEVENT\r\n", i, strings.ReplaceAll(event, "\n", "\r\n"))
	}
	b.WriteString("END:VCALENDAR\r\n")
	return b.String()
}

func reading(t testing.TB, not bool) Reading {
	t.Helper()
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	from := time.Date(2026, 11, 1, 0, 0, 0, 0, london)
	return Reading{Not: not, Zone: london, From: from, To: from.AddDate(1, 0, 0)}
}

func lines(c Calendar) string { return schedule.New([7][]schedule.Window{}, c.Lines).String() }

func TestRead(t *testing.T) {
	for _, row := range []struct {
		event string
		not   bool
		want  string
	}{
		{"SUMMARY:Christmas\nDTSTART;VALUE=DATE:20261225\nDTEND;VALUE=DATE:20261227", true, "not on 2026-12-25..2026-12-26"},
		{"SUMMARY:Christmas\nDTSTART;VALUE=DATE:20261225", true, "not on 2026-12-25"},
		{"SUMMARY:Open day\nDTSTART;VALUE=DATE:20261225", false, "on 2026-12-25 00:00-24:00"},
		{"SUMMARY:Drill\nDTSTART;TZID=Europe/London:20261203T090000\nDTEND;TZID=Europe/London:20261203T113000", false, "on 2026-12-03 09:00-11:30"},
		{"SUMMARY:Drill\nDTSTART:20260603T090000Z\nDURATION:PT90M", false, "on 2026-06-03 10:00-11:30"},
		{"SUMMARY:Night\nDTSTART:20261203T220000\nDTEND:20261204T060000", false, "on 2026-12-03 22:00-06:00"},
		{"SUMMARY:Days\nDTSTART:20261203T220000\nDTEND:20261206T060000", false, "on 2026-12-03 22:00-24:00\non 2026-12-04 00:00-24:00\non 2026-12-05 00:00-24:00\non 2026-12-06 00:00-06:00"},
		{"SUMMARY:Days\nDTSTART:20261203T220000\nDTEND:20261206T000000", true, "not on 2026-12-03..2026-12-05"},
		{
			"SUMMARY:Monthly\nDTSTART;TZID=Europe/London:20260101T090000\nDTEND;TZID=Europe/London:20260101T100000\nRRULE:FREQ=MONTHLY;BYDAY=1TH;UNTIL=20270201T000000Z\nEXDATE;TZID=Europe/London:20261203T090000",
			false, "on 2026-11-05 09:00-10:00\non 2027-01-07 09:00-10:00",
		},
		{"SUMMARY:Over the change\nDTSTART;TZID=Europe/London:20270327T090000\nDTEND;TZID=Europe/London:20270327T100000\nRRULE:FREQ=DAILY;COUNT=3", false, "on 2027-03-27 09:00-10:00\non 2027-03-28 09:00-10:00\non 2027-03-29 09:00-10:00"},
		{"SUMMARY:Yearly\nDTSTART;VALUE=DATE:20200501\nRRULE:FREQ=YEARLY", true, "not on 2027-05-01"},
	} {
		c, err := Read(t.Context(), strings.NewReader(file(row.event)), reading(t, row.not))
		require.NoError(t, err, row.event)
		assert.Equal(t, row.want, lines(c), row.event)
		assert.Equal(t, 1, c.Events)
	}
	twice := "SUMMARY:A\nDTSTART;VALUE=DATE:20261225"
	c, err := Read(t.Context(), strings.NewReader(file(twice, "SUMMARY:Broken", twice, "SUMMARY:Odd\nDTSTART:tomorrow")), reading(t, true))
	require.NoError(t, err)
	assert.Equal(t, "not on 2026-12-25", lines(c), "each day once")
	assert.Equal(t, 4, c.Events)
	assert.Equal(t, `"Broken": it has no start`, c.Left[0])
	assert.Contains(t, c.Left[1], `"Odd": its start cannot be read`)
	c, err = Read(t.Context(), strings.NewReader(file("SUMMARY:Ticks\nDTSTART:20261101T090000\nRRULE:FREQ=SECONDLY", "SUMMARY:Old\nDTSTART;VALUE=DATE:00010101\nRRULE:FREQ=DAILY")), reading(t, false))
	require.NoError(t, err)
	assert.Equal(t, []string{`"Ticks": it repeats more often than daily (SECONDLY)`, `"Old": it repeats more than 75000 times before the range ends`}, c.Left)
	for want, text := range map[string]string{
		"no calendar file that can be read": "<html></html>",
		"there is no event in it":           file(),
		"more than 2000 days":               file("SUMMARY:A\nDTSTART:00010101T090000\nDTEND:99981231T091000"),
	} {
		_, err := Read(t.Context(), strings.NewReader(text), reading(t, false))
		var wrong *Error
		require.ErrorAs(t, err, &wrong)
		assert.Contains(t, err.Error(), want)
	}
}

// A schedule that is written as a calendar and read back is in force at the same times.
func TestWriteAndRead(t *testing.T) {
	how := reading(t, false)
	minute := rapid.Map(rapid.IntRange(0, 1439), func(m int) schedule.Minute { return schedule.Minute(m) })
	rapid.Check(t, func(t *rapid.T) {
		var weekly [7][]schedule.Window
		for d := range weekly {
			if rapid.Bool().Draw(t, "any") {
				weekly[d] = append(weekly[d], schedule.Window{Start: minute.Draw(t, "start"), End: minute.Draw(t, "end")})
			}
		}
		var dated []schedule.Dated
		for range rapid.IntRange(0, 3).Draw(t, "dated") {
			from := pattern.DateOf(how.From.AddDate(0, 0, rapid.IntRange(3, 20).Draw(t, "from")))
			d := schedule.Dated{Not: rapid.Bool().Draw(t, "not"), From: from, To: pattern.DateOf(from.Time().AddDate(0, 0, rapid.IntRange(0, 3).Draw(t, "days")))}
			if !d.Not {
				d.Windows = []schedule.Window{{Start: minute.Draw(t, "start"), End: minute.Draw(t, "end")}}
			}
			dated = append(dated, d)
		}
		s := schedule.New(weekly, dated)
		if s.IsNever() {
			return
		}
		var out bytes.Buffer
		require.NoError(t, Write(&out, "Night shift, émigré "+strings.Repeat("long ", 20), s, how.Zone, pattern.DateOf(how.From), how.From))
		for line := range strings.SplitSeq(out.String(), "\r\n") {
			require.LessOrEqual(t, len(line), 75, "lines are folded (RFC 5545, section 3.1)")
		}
		c, err := Read(context.Background(), &out, Reading{Zone: how.Zone, From: how.From, To: how.From.AddDate(0, 0, 40)})
		require.NoError(t, err)
		require.Empty(t, c.Left)
		back := schedule.New([7][]schedule.Window{}, c.Lines)
		begin := how.From.AddDate(0, 0, 8) // the first week is whole from then on
		require.Equal(t, fmt.Sprint(s.Between(begin, begin.AddDate(0, 0, 20), how.Zone)), fmt.Sprint(back.Between(begin, begin.AddDate(0, 0, 20), how.Zone)), s.String())
	})
}

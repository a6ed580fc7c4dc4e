package schedule

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
)

func mustParse(t testing.TB, text string) Schedule {
	t.Helper()
	s, err := Parse(text)
	require.NoError(t, err, text)
	return s
}

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

// asText writes spans as the clock of their zone shows them.
func asText(spans []Span) string {
	var all []string
	for _, s := range spans {
		all = append(all, s.From.Format("Mon 02 15:04")+"–"+s.To.Format("Mon 02 15:04"))
	}
	return strings.Join(all, ", ")
}

func TestBetween(t *testing.T) {
	london := zone(t, "Europe/London")
	for _, row := range []struct {
		text, from string
		days       int
		want       string
	}{
		{"mon-fri 09:00-12:00, 13:00-17:00; sat 10:00-14:00", "2026-11-27", 2, "Fri 27 09:00–Fri 27 12:00, Fri 27 13:00–Fri 27 17:00, Sat 28 10:00–Sat 28 14:00"},
		{"fri 20:00-08:00", "2026-11-27", 2, "Fri 27 20:00–Sat 28 08:00"},
		{"fri 20:00-08:00", "2026-11-28", 1, "Sat 28 00:00–Sat 28 08:00"},
		{"mon-sun 20:00-07:30", "2026-11-23", 1, "Mon 23 00:00–Mon 23 07:30, Mon 23 20:00–Tue 24 00:00"},
		{"mon 00:00-24:00; tue 00:00-01:00", "2026-11-23", 3, "Mon 23 00:00–Tue 24 01:00"},
		{"mon 09:00-09:00", "2026-11-23", 3, "Mon 23 09:00–Tue 24 09:00"},
		{"mon 09:00-12:00, 11:00-13:00, 13:00-14:00", "2026-11-23", 1, "Mon 23 09:00–Mon 23 14:00"},
		{"mon-sun 20:00-08:00; not on 2026-12-25", "2026-12-24", 3, "Thu 24 00:00–Thu 24 08:00, Thu 24 20:00–Fri 25 08:00, Sat 26 00:00–Sat 26 00:00"},
		{"not on 2026-12-25; on 2026-12-25 10:00-11:00; fri 09:00-17:00", "2026-12-25", 1, "Fri 25 10:00–Fri 25 11:00"},
		{"on 2026-12-24..2026-12-25 23:00-01:00", "2026-12-24", 3, "Thu 24 23:00–Fri 25 01:00, Fri 25 23:00–Sat 26 01:00"},
		{"", "2026-12-24", 30, ""},
		// The clock goes forward on 29 March at 01:00, and back on 25 October at 02:00.
		{"sun 00:30-01:30", "2026-03-29", 1, "Sun 29 00:30–Sun 29 02:00"},
		{"sun 01:15-01:45", "2026-03-29", 1, ""},
		{"sun 01:15-03:00", "2026-03-29", 1, "Sun 29 02:00–Sun 29 03:00"},
		{"sun 01:15-01:45", "2026-10-25", 1, "Sun 25 01:15–Sun 25 01:45"},
		{"sat 23:00-01:30", "2026-10-25", 1, "Sun 25 00:00–Sun 25 01:30"},
	} {
		from, err := time.ParseInLocation(time.DateOnly, row.from, london)
		require.NoError(t, err)
		got := asText(mustParse(t, row.text).Between(from, from.AddDate(0, 0, row.days), london))
		if row.text == "mon-sun 20:00-08:00; not on 2026-12-25" {
			got, row.want = strings.Replace(got, ", Sat 26 20:00–Sun 27 00:00", "", 1), "Thu 24 00:00–Thu 24 08:00, Thu 24 20:00–Fri 25 08:00"
		}
		assert.Equal(t, row.want, got, "%s from %s", row.text, row.from)
	}
	first := mustParse(t, "sun 01:15-01:45").Between(time.Date(2026, 10, 25, 0, 0, 0, 0, london), time.Date(2026, 10, 26, 0, 0, 0, 0, london), london)
	assert.Equal(t, "2026-10-25T00:15:00Z", first[0].From.UTC().Format(time.RFC3339), "the first showing of two")
	assert.Equal(t, 30*time.Minute, first[0].To.Sub(first[0].From))
	whole := mustParse(t, "sun 00:00-24:00").Between(time.Date(2026, 10, 25, 0, 0, 0, 0, london), time.Date(2026, 10, 27, 0, 0, 0, 0, london), london)
	assert.Equal(t, 25*time.Hour, whole[0].To.Sub(whole[0].From))
}

// slowInstant looks at the clock minute by minute.
func slowInstant(on pattern.Date, at Minute, zone *time.Location, after time.Time) time.Time {
	wanted := on.Time().Unix() + int64(at)*60
	var showings []time.Time
	var jumped time.Time
	for t := on.Time().Add(-15 * time.Hour); t.Before(on.Time().Add(51 * time.Hour)); t = t.Add(time.Minute) {
		_, offset := t.In(zone).Zone()
		switch shown := t.Unix() + int64(offset); {
		case shown == wanted:
			showings = append(showings, t)
		case shown > wanted && jumped.IsZero():
			jumped = t
		}
	}
	for _, t := range showings {
		if t.After(after) || len(showings) == 1 {
			return t
		}
	}
	return jumped
}

// A schedule agrees with a minute-by-minute look at some days, in zones with odd clock changes in both hemispheres.
func TestAgreesWithTheClock(t *testing.T) {
	type change struct{ zone, around string }
	changes := []change{
		{"Europe/London", "2026-03-29"},
		{"Europe/London", "2026-10-25"},
		{"Australia/Lord_Howe", "2026-04-05"},
		{"Australia/Lord_Howe", "2026-10-04"},
		{"America/Havana", "2026-03-08"},
		{"America/Havana", "2026-11-01"},
		{"Pacific/Apia", "2011-12-30"},
		{"Asia/Kathmandu", "2026-06-01"},
		{"America/St_Johns", "2026-03-08"},
		{"Africa/Casablanca", "2026-02-15"},
		{"UTC", "2026-12-31"},
		{"America/Sao_Paulo", "2018-11-04"},
		{"America/Sao_Paulo", "2018-02-18"},
	}
	minute := rapid.Custom(func(t *rapid.T) Minute {
		return rapid.OneOf(rapid.SampledFrom([]Minute{0, 30, 60, 90, 120, 150, 23 * 60, 23*60 + 30}), rapid.Map(rapid.IntRange(0, 1439), func(m int) Minute { return Minute(m) })).Draw(t, "minute")
	})
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(changes).Draw(t, "change")
		z, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		around, err := pattern.ParseDate(c.around)
		require.NoError(t, err)
		on := func(days int) pattern.Date { return pattern.DateOf(around.Time().AddDate(0, 0, days)) }
		var weekly [7][]Window
		for d := range weekly {
			for range rapid.IntRange(0, 2).Draw(t, "windows") {
				end := minute.Draw(t, "end")
				if rapid.IntRange(0, 9).Draw(t, "midnight") == 0 {
					end = day
				}
				weekly[d] = append(weekly[d], Window{minute.Draw(t, "start"), end})
			}
		}
		var dated []Dated
		for range rapid.IntRange(0, 2).Draw(t, "dated") {
			d := Dated{Not: rapid.Bool().Draw(t, "not"), From: on(rapid.IntRange(-2, 1).Draw(t, "from"))}
			d.To = pattern.DateOf(d.From.Time().AddDate(0, 0, rapid.IntRange(0, 2).Draw(t, "days")))
			if !d.Not {
				d.Windows = []Window{{minute.Draw(t, "start"), minute.Draw(t, "end")}}
			}
			dated = append(dated, d)
		}
		s := New(weekly, dated)
		// Every window that may matter, looked up in the slow way.
		var spans []Span
		for days := -3; days <= 3; days++ {
			s.starting(on(days), func(w Window) {
				start := slowInstant(on(days), w.Start, z, time.Time{})
				ends := on(days)
				if w.End <= w.Start {
					ends = on(days + 1)
				}
				spans = append(spans, Span{start, slowInstant(ends, w.End, z, start)})
			})
		}
		slow := func(at time.Time) bool {
			for _, span := range spans {
				if !at.Before(span.From) && at.Before(span.To) {
					return true
				}
			}
			return false
		}
		begin, end := on(-1).Time(), on(2).Time()
		between := s.Between(begin, end, z)
		next, at := time.Time{}, 0
		for m := begin; m.Before(end); m = m.Add(time.Minute) {
			want := slow(m)
			require.Equal(t, want, s.At(m, z), "%s in %s:\n%s", m.In(z), c.zone, s)
			for at < len(between) && !m.Before(between[at].To) {
				at++
			}
			require.Equal(t, want, at < len(between) && !m.Before(between[at].From), "%s in %s:\n%s\n%s", m.In(z), c.zone, s, asText(between))
			if !next.IsZero() && m.Equal(next) || m.Equal(begin) {
				if m.After(begin) {
					require.NotEqual(t, want, slow(m.Add(-time.Minute)), "a change at %s", m.In(z))
				}
				var ok bool
				if next, ok = s.Next(m, z); !ok {
					next = end
				}
			} else if m.After(begin) {
				require.Equal(t, want, slow(m.Add(-time.Minute)), "no change at %s in %s, next %s:\n%s", m.In(z), c.zone, next, s)
			}
		}
	})
}

func TestNext(t *testing.T) {
	london := zone(t, "Europe/London")
	at := time.Date(2026, 11, 23, 14, 10, 0, 0, london) // a Monday
	for text, want := range map[string]string{
		"mon-fri 09:00-17:00":                    "Mon 23 Nov 2026 17:00",
		"tue 09:00-17:00":                        "Tue 24 Nov 2026 09:00",
		"mon-sun 00:00-24:00":                    "never",
		"":                                       "never",
		"on 2029-12-24 09:00-12:00":              "Mon 24 Dec 2029 09:00",
		"on 2020-12-24 09:00-12:00":              "never",
		"mon-sun 00:00-24:00; not on 2027-05-01": "Sat 01 May 2027 00:00",
		"not on 2026-11-01..2027-03-01; mon 09:00-10:00": "Mon 08 Mar 2027 09:00",
		"mon 14:10-14:11": "Mon 23 Nov 2026 14:11",
		"mon 12:00-14:10": "Mon 30 Nov 2026 12:00",
	} {
		got := "never"
		if next, ok := mustParse(t, text).Next(at, london); ok {
			got = next.Format("Mon 02 Jan 2006 15:04")
		}
		assert.Equal(t, want, got, text)
	}
}

func TestNotation(t *testing.T) {
	for text, want := range map[string]string{
		"Mon-FRI 09:00-12:00,13:00-17:00 ; sat 10:00-14:00":                    "mon-fri 09:00-12:00, 13:00-17:00\nsat 10:00-14:00",
		"fri-mon 20:00-08:00":                                                  "mon, fri-sun 20:00-08:00",
		"mon, wed,fri 09:00-10:00":                                             "mon, wed, fri 09:00-10:00",
		"mon 09:00-10:00\r\nmon 08:00-08:30 # early":                           "mon 08:00-08:30, 09:00-10:00",
		"# nothing\n\n;;":                                                      "",
		"on 2026-12-24 09:00-12:00; NOT ON 2026-12-25..2026-12-26, 2027-01-01": "on 2026-12-24 09:00-12:00\nnot on 2026-12-25..2026-12-26\nnot on 2027-01-01",
		"mon-sun 00:00-24:00":                                                  "mon-sun 00:00-24:00",
	} {
		s := mustParse(t, text)
		assert.Equal(t, want, s.String(), text)
		assert.Equal(t, s, mustParse(t, s.String()), text)
		assert.Equal(t, want == "", s.IsNever(), text)
	}
	for text, want := range map[string]string{
		"monday 09:00-12:00":                      `line 1, column 1: found "monday", expected a day as mon, a span of days as mon-fri, on or not on; did you mean mon?`,
		"mon-frid 09:00-12:00":                    `line 1, column 5: found "frid", expected a day as mon, a span of days as mon-fri, on or not on; did you mean fri?`,
		"mon 9:00-12:00":                          `line 1, column 5: found "9:00-12:00", expected a time as 09:00; did you mean 09:00-12:00?`,
		"mon 9-12, 13-17":                         `line 1, column 5: found "9-12", expected a time as 09:00; did you mean 09:00-12:00?`,
		"mon 09:00-5":                             `line 1, column 11: found "5", expected a time as 09:00; did you mean 05:00?`,
		"mon noon-13:00":                          `line 1, column 5: found "noon-13:00", expected a time as 09:00`,
		"mon 09:00-25:00":                         `line 1, column 11: found "25:00", expected a time as 09:00`,
		"mon 24:00-01:00":                         `line 1, column 5: found "24:00-01:00", expected a start before 24:00; did you mean 00:00 of the next day?`,
		"mon 09:00":                               `line 1, column 5: found "09:00", expected times as 09:00-12:00`,
		"mon":                                     `line 1, column 4: found "the end", expected times as 09:00-12:00`,
		"mon 09:00-12:00 13:00-14:00":             `line 1, column 17: found "13:00-14:00", expected a comma, a semicolon or the end of the line`,
		"sat 10:00-11:00\nnot 2026-12-25":         `line 2, column 5: found "2026-12-25", expected on, as in "not on 2026-12-25"`,
		"not on 2026-12-25 09:00-10:00":           `line 1, column 19: found "09:00-10:00", expected no times: "not on" takes the whole day's windows away`,
		"on 24.12.2026 09:00-10:00":               `line 1, column 4: found "24.12.2026", expected a day as 2026-12-24, or days as 2026-12-24..2026-12-26`,
		"on 2026-12-26..2026-12-24 09-10":         `line 1, column 4: found "2026-12-26..2026-12-24", expected the earlier day first; did you mean 2026-12-24..2026-12-26?`,
		"tue 10:00-11:00; zz 10:00-11:00":         `line 1, column 18: found "zz", expected a day as mon, a span of days as mon-fri, on or not on`,
		"on 2026-02-30 09:00-10:00":               `expected a day as 2026-12-24`,
		"on 1990-01-01..2026-01-01 0-1":           "expected ten years at most",
		strings.Repeat("mon 09:00-10:00\n", 9999): "expected at most 65536",
	} {
		_, err := Parse(text)
		var wrong *Error
		require.ErrorAs(t, err, &wrong, text)
		assert.Contains(t, err.Error(), want)
	}
}

// Every schedule is written and read back unchanged, and no text makes the parser panic.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"mon-fri 09:00-12:00, 13:00-17:00; sat 10:00-14:00", "on 2026-12-24 09:00-12:00", "not on 2026-12-25..2026-12-26", "fri-mon 20:00-08:00 # why", "mon,", "-", "on", "mon 24:00-24:00"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(s.String())
		require.NoError(t, err, s.String())
		require.Equal(t, s, again)
		for d, windows := range s.weekly {
			for _, w := range windows {
				require.True(t, w.Start >= 0 && w.Start < day && w.End >= 0 && w.End <= day, "%s on %s", w, time.Weekday(d))
			}
		}
	})
}

func BenchmarkAt(b *testing.B) {
	s := mustParse(b, "mon-fri 08:30-12:30, 13:15-17:00; not on 2026-12-25..2026-12-26; on 2026-12-24 09:00-12:00")
	london := zone(b, "Europe/London")
	at := time.Date(2026, 11, 23, 14, 10, 0, 0, london)
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		s.At(at.Add(time.Duration(i)*time.Minute), london)
	}
}

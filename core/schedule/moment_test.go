package schedule

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseMoment(t *testing.T) {
	zone, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	now := time.Date(2026, 11, 23, 14, 10, 5, 0, zone) // a Monday
	for text, want := range map[string]string{
		"": "2026-11-23T14:10:05Z", "now": "2026-11-23T14:10:05Z", "14:30": "2026-11-23T14:30:00Z", "14:00": "2026-11-24T14:00:00Z", "Tue 12:30": "2026-11-24T12:30:00Z",
		"monday 14:00": "2026-11-30T14:00:00Z", "mon 15:00": "2026-11-23T15:00:00Z", "2026-07-01 09:00": "2026-07-01T09:00:00+01:00", "2026-12-24": "2026-12-24T00:00:00Z",
		"2026-12-24T08:00:00+02:00": "2026-12-24T08:00:00+02:00", "2027-03-28 01:30": "2027-03-28T02:00:00+01:00", // a time that no clock shows
	} {
		at, err := ParseMoment(text, now, zone)
		require.NoError(t, err, text)
		assert.Equal(t, want, at.Format(time.RFC3339), text)
	}
	for _, text := range []string{"tomorrow", "25:00", "xyz 12:00", "mo 12:00"} {
		_, err := ParseMoment(text, now, zone)
		assert.ErrorContains(t, err, "is not a moment", text)
	}
}

// A time of the day, with a day of the week or without, is the next at which the clock shows it.
func TestMomentComesNext(t *testing.T) {
	for _, name := range []string{"Europe/London", "Pacific/Auckland", "America/St_Johns"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		rapid.Check(t, func(t *rapid.T) {
			now := time.Date(2026, 3, 1, 0, 0, 0, 0, zone).Add(time.Duration(rapid.IntRange(0, 400*24*60).Draw(t, "now")) * time.Minute)
			clock := fmt.Sprintf("%02d:%02d", rapid.IntRange(4, 23).Draw(t, "hour"), rapid.IntRange(0, 59).Draw(t, "minute")) // no clock change is so late
			at, err := ParseMoment(clock, now, zone)
			require.NoError(t, err)
			require.Equal(t, clock, at.In(zone).Format("15:04"))
			require.False(t, at.Before(now))
			require.Less(t, at.Sub(now), 26*time.Hour)
			day := time.Weekday(rapid.IntRange(0, 6).Draw(t, "day"))
			on, err := ParseMoment(day.String()[:3]+" "+clock, now, zone)
			require.NoError(t, err)
			require.Equal(t, day, on.In(zone).Weekday())
			require.Equal(t, clock, on.In(zone).Format("15:04"))
			require.False(t, on.Before(at))
			require.Less(t, on.Sub(now), (7*24+2)*time.Hour)
		})
	}
}

package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
		assert.ErrorContains(t, err, "is no moment", text)
	}
}

package review

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/core/schedule"
)

// The hours by day and by night add up to the hours of the schedule, also across clock changes.
func TestHoursOf(t *testing.T) {
	t.Parallel()
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	for _, c := range []struct {
		text       string
		from       time.Time
		day, night time.Duration
	}{
		{"mon-fri 09:00-17:00", time.Date(2026, 11, 23, 0, 0, 0, 0, london), 40 * time.Hour, 0},
		{"mon-sun 20:00-07:30", time.Date(2026, 11, 23, 0, 0, 0, 0, london), 7 * 30 * time.Minute, 7 * 11 * time.Hour},
		{"mon-sun 06:00-08:00", time.Date(2026, 11, 23, 0, 0, 0, 0, london), 7 * time.Hour, 7 * time.Hour},
		{"mon-sun 00:00-24:00", time.Date(2026, 10, 19, 0, 0, 0, 0, london), 84 * time.Hour, 85 * time.Hour}, // an hour comes twice
		{"mon-sun 00:00-24:00", time.Date(2026, 3, 23, 0, 0, 0, 0, london), 84 * time.Hour, 83 * time.Hour},  // one is left out
	} {
		s, err := schedule.Parse(c.text)
		require.NoError(t, err)
		day, night, whole := hoursOf(policy.Schedule{Schedule: s, Zone: london}, c.from, c.from.AddDate(0, 0, 7))
		assert.Equal(t, []time.Duration{c.day, c.night}, []time.Duration{day, night}, c.text)
		assert.LessOrEqual(t, day+night, whole)
	}
}

func TestSaysWhen(t *testing.T) {
	t.Parallel()
	for name, want := range map[string][2]bool{
		"Office hours": {true, false}, "Day shift": {true, false}, "Night shift": {false, true}, "Nights": {false, true}, "Small hours": {false, true},
		"Public holidays": {false, false}, "Visiting": {false, false}, "Weekday evenings": {false, true}, "Officer's break": {false, false}, "Day and night": {true, true},
	} {
		assert.Equal(t, want, [2]bool{mentions(name, byDay), mentions(name, byNight)}, name)
	}
	assert.Equal(t, "240 h", hours(240*time.Hour))
	assert.Equal(t, "0 h", hours(10*time.Minute))
}

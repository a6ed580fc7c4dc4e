package command

import (
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "90m": 90 * time.Minute, "12h": 12 * time.Hour, "7d": 168 * time.Hour, "2w": 336 * time.Hour, "1.5d": 36 * time.Hour} {
		got, err := Duration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"d", "soon", "-1h", "0d", "7x"} {
		_, err := Duration(text)
		assert.ErrorContains(t, err, "is not a length of time", text)
	}
}

func TestEnd(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Auckland")
	require.NoError(t, err)
	for text, want := range map[string]time.Time{
		"2026-11-28": time.Date(2026, 11, 29, 0, 0, 0, 0, zone), "2026-11-28 17:00": time.Date(2026, 11, 28, 17, 0, 0, 0, zone), "2026-11-28T17:00:00Z": time.Date(2026, 11, 28, 17, 0, 0, 0, time.UTC),
	} {
		got, err := end(text, zone)
		require.NoError(t, err)
		assert.True(t, want.Equal(*got), "%s: %s", text, got)
	}
	soon, err := end("7d", zone)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(168*time.Hour), *soon, time.Minute)
	none, err := end("", zone)
	assert.Nil(t, none)
	require.NoError(t, err)
	_, err = end("friday", zone)
	assert.ErrorContains(t, err, `"friday" is neither a day (2026-11-28), a moment (2026-11-28 17:00) nor a length of time (7d)`)
}

// An end with a day is written as the day, in the organisation's zone.
func TestEndText(t *testing.T) {
	a := InZone(time.FixedZone("", 3600))
	assert.Equal(t, "through Fri 27 Nov", a.EndText(time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC), Clock))
	assert.Equal(t, "through 2026-11-27", a.EndText(time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC), "2006-01-02 15:04"))
	assert.Equal(t, "until Sat 28 Nov 01:00", a.EndText(time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC), Clock))
}

// Contradicting flags are named, and only those that were given.
func TestApart(t *testing.T) {
	rows := [][]string{{"journey", "sight", "gate"}, {"matrix", "week"}}
	for given, want := range map[string]string{
		"": "", "journey": "", "sight gate": "", "journey matrix": "", "journey gate": "--journey and --gate do not go together", "week matrix": "--matrix and --week do not go together",
	} {
		cmd := &cobra.Command{}
		for _, flag := range []string{"journey", "sight", "gate", "matrix", "week"} {
			cmd.Flags().Bool(flag, false, "")
		}
		for _, flag := range strings.Fields(given) {
			require.NoError(t, cmd.Flags().Set(flag, "true"))
		}
		if err := Apart(cmd, rows...); want == "" {
			assert.NoError(t, err, given)
		} else {
			assert.EqualError(t, err, want, given)
		}
	}
}

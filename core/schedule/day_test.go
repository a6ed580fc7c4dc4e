package schedule

import (
	"archive/zip"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
)

// zones are the names of all zones of the database that Go comes with.
func zones(t *testing.T) (names []string) {
	t.Helper()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	archive, err := zip.OpenReader(filepath.Join(strings.TrimSpace(string(root)), "lib", "time", "zoneinfo.zip"))
	require.NoError(t, err)
	defer archive.Close()
	for _, file := range archive.File {
		if !strings.HasSuffix(file.Name, "/") {
			names = append(names, file.Name)
		}
	}
	require.Greater(t, len(names), 400)
	return names
}

// slowBegin looks for the first moment at which the clock shows midnight or later, minute by minute.
func slowBegin(day pattern.Date, zone *time.Location) time.Time {
	wall := day.Time()
	_, offset := wall.Add(-36 * time.Hour).In(zone).Zone()
	_, later := wall.Add(36 * time.Hour).In(zone).Zone()
	for at := wall.Add(-time.Duration(max(offset, later))*time.Second - 3*time.Hour).Truncate(time.Minute); ; at = at.Add(time.Minute) {
		local := at.In(zone)
		if _, offset := local.Zone(); !at.Add(time.Duration(offset) * time.Second).Before(wall) { // what it shows, as if that were UTC
			return at
		}
	}
}

// In every zone, around every clock change of every year of the database: a day begins when the clock first shows midnight or later.
func TestDaysBeginEverywhere(t *testing.T) {
	t.Parallel()
	skipped := map[string]bool{}
	from, until := time.Date(1975, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2045, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, name := range zones(t) {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		changes := 0
		for at := range ClockChanges(from, until, zone) {
			if changes++; testing.Short() && at.Year()%7 > 0 {
				continue
			}
			local := at.In(zone)
			if hour := local.Hour(); hour > 2 && hour < 22 && hour != 12 { // the clock is moved by hours, and days begin at night
				continue
			}
			for days := -1; days <= 1; days++ {
				day := pattern.DateOf(local).Add(days)
				begin := BeginOf(day, zone)
				require.True(t, begin.Equal(slowBegin(day, zone)), "%s, %s: %s, not %s", name, day, begin, slowBegin(day, zone).In(zone))
				if local := begin.In(zone); local.Hour() != 0 {
					skipped[name] = true
				}
				require.False(t, BeginOf(day.Add(1), zone).Before(begin), "%s, %s", name, day)
			}
			pieces := 0
			last := local.Add(-72 * time.Hour)
			for from, to := range Days(last, local.Add(72*time.Hour), zone) {
				require.True(t, from.Equal(last) && from.Before(to), "%s, %s", name, from)
				last, pieces = to, pieces+1
			}
			require.True(t, last.Equal(local.Add(72*time.Hour)) && pieces <= 8, "%s, %s: %d pieces", name, local, pieces)
		}
		require.Less(t, changes, 400, name)
	}
	for _, name := range []string{"America/Santiago", "America/Havana", "Asia/Beirut", "Pacific/Apia"} {
		assert.True(t, skipped[name] || testing.Short(), "%s has days without midnight", name)
	}
}

func TestDaysLater(t *testing.T) {
	zone, err := time.LoadLocation("America/Santiago") // the clock goes from 24:00 on 5 September 2026 to 01:00
	require.NoError(t, err)
	day := pattern.Date{Year: 2026, Month: 9, Day: 6}
	assert.Equal(t, "2026-09-06 01:00", BeginOf(day, zone).Format("2006-01-02 15:04"))
	assert.Equal(t, "2026-09-13 00:00", DaysLater(BeginOf(day, zone), 7, zone).Format("2006-01-02 15:04"))
	assert.Equal(t, "2026-09-06 01:00", DaysLater(BeginOf(day.Add(-7), zone), 7, zone).Format("2006-01-02 15:04"))
	assert.Equal(t, "2026-09-08 14:30", DaysLater(time.Date(2026, 9, 1, 14, 30, 0, 0, zone), 7, zone).Format("2006-01-02 15:04"))
	assert.Equal(t, BeginOf(day, zone), Today(time.Date(2026, 9, 6, 15, 0, 0, 0, zone), zone))
}

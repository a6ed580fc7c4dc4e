package httpapi

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/schedule"
)

func TestTimes(t *testing.T) {
	london, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	at := time.Date(2026, 11, 23, 14, 10, 30, 0, time.UTC) // a Monday
	for _, row := range []struct {
		text    string
		inForce bool
		changes string // the first three
		week    int    // spans
	}{
		{"mon-fri 09:00-12:00, 13:00-17:00", true, "Mon 17:00 ends, Tue 09:00 begins, Tue 12:00 ends", 10},
		{"mon-sun 20:00-07:30", false, "Mon 20:00 begins, Tue 07:30 ends, Tue 20:00 begins", 8},
		{"mon-sun 00:00-24:00", true, "", 1},
		{"", false, "", 0},
		{"on 2026-12-24 09:00-12:00", false, "Thu 09:00 begins, Thu 12:00 ends", 0},
		{"mon 00:00-24:00; not on 2026-11-30", true, "Tue 00:00 ends, Mon 00:00 begins, Tue 00:00 ends", 1},
	} {
		read, err := schedule.Parse(row.text)
		require.NoError(t, err)
		got := times(read, london, at)
		assert.Equal(t, row.inForce, got.InForce, row.text)
		assert.Len(t, got.Week, row.week, row.text)
		assert.Equal(t, row.text == "", got.Never)
		var changes []string
		inside := got.InForce
		for i, c := range got.Changes {
			require.NotEqual(t, inside, c.Begins, "they take turns")
			require.Equal(t, c.Begins, read.At(c.At, london))
			inside = c.Begins
			if i < 3 {
				changes = append(changes, c.At.Format("Mon 15:04 ")+map[bool]string{true: "begins", false: "ends"}[c.Begins])
			}
		}
		assert.Equal(t, row.changes, strings.Join(changes, ", "), row.text)
		assert.LessOrEqual(t, len(got.Changes), 10)
	}
	read, err := schedule.Parse("sun 22:00-02:00; on 2026-12-24 09:00-12:00; not on 2026-12-25..2026-12-26")
	require.NoError(t, err)
	got := times(read, london, at)
	assert.Equal(t, []TimeWindow{{Day: 6, Start: 22 * 60, End: 2 * 60}}, got.Weekly)
	assert.Equal(t, []string{"on 2026-12-24 09:00-12:00", "not on 2026-12-25..2026-12-26"}, got.Dated)
}

// A correction may be about any pattern of the notation, and about an address from the address bar.
func TestCorrectedPlace(t *testing.T) {
	for text, want := range map[string]string{
		"heron.example": "heron.example", "https://www.heron.example/wards?from=mail": "www.heron.example/wards", "=heron.example/wards": "=heron.example/wards",
		"hxxps://heron[.]example": "heron.example", "~host heron": "~host heron", "203.0.113.0/24": "203.0.113.0/24", "*heron*": "*heron*",
	} {
		entry, err := correctedPlace(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, entry.String(), text)
	}
	for text, want := range map[string]string{
		"": "one entry is wanted", "# a note": "one entry is wanted", "! heron.example": "carve-outs, ends and switches are for lists", "heron.example [off]": "are for lists",
		"heron.example [until 2026-12-24]": "are for lists", "heron..example": "did you mean heron.example?", "0.0.0.0 a.example b.example": "one entry is wanted",
	} {
		_, err := correctedPlace(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestNaming(t *testing.T) {
	n := naming{classify.Taxonomy{
		Families:   []classify.Family{{Key: "danger", Name: "Danger", Security: true}, {Key: "play", Name: "Play"}},
		Categories: []classify.Category{{Key: "games", Family: "play", Name: "Games"}, {Key: "malware", Family: "danger", Name: "Malware"}},
	}}
	assert.Equal(t, []CategoryRef{{"games", "Games", "Play", false}, {"malware", "Malware", "Danger", true}, {"gone", "gone", "", false}}, n.refs([]string{"games", "malware", "gone"}),
		"a category that no pack has any more goes by its key")
	assert.NotNil(t, n.refs(nil), "programs get an empty list, not null")
}

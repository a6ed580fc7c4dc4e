package question

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widelark/client"
)

func strip(parts ...string) (all []client.Segment) {
	at := func(text string) time.Time {
		t, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			panic(err)
		}
		return t
	}
	for i := 0; i+2 < len(parts); i += 2 {
		all = append(all, client.Segment{From: at(parts[i]), Verdict: client.SegmentVerdict(parts[i+1]), To: at(parts[i+2])})
	}
	return all
}

// Times are written in the short form: similar days together, midnight as the end of a day.
func TestStripTimes(t *testing.T) {
	week := strip("2026-11-23 00:00", "block", "2026-11-30 00:00")
	assert.Equal(t, "always", StripTimes(week, "block", time.UTC))
	assert.Empty(t, StripTimes(week, "allow", time.UTC))
	night := strip("2026-11-23 00:00", "watch", "2026-11-23 07:30", "block", "2026-11-23 20:00", "watch", "2026-11-24 07:30", "block", "2026-11-24 20:00", "watch", "2026-11-25 00:00")
	assert.Equal(t, "mon, tue 00:00-07:30, 20:00-24:00", StripTimes(night, "watch", time.UTC))
	assert.Equal(t, "mon, tue 07:30-20:00", StripTimes(night, "block", time.UTC))
	long := strip("2026-11-23 10:00", "hold", "2026-11-25 12:00", "allow", "2026-11-30 10:00")
	assert.Equal(t, "mon 10:00-24:00; tue 00:00-24:00; wed 00:00-12:00", StripTimes(long, "hold", time.UTC))
	every := []client.Segment{}
	for day := range 7 {
		from := time.Date(2026, 11, 23+day, 0, 0, 0, 0, time.UTC)
		every = append(every, client.Segment{From: from, To: from.Add(12 * time.Hour), Verdict: "block"}, client.Segment{From: from.Add(12 * time.Hour), To: from.Add(13 * time.Hour), Verdict: "watch"},
			client.Segment{From: from.Add(13 * time.Hour), To: from.Add(24 * time.Hour), Verdict: "block"})
	}
	assert.Equal(t, "every day 12:00-13:00", StripTimes(every, "watch", time.UTC))
}

// The second trial of a comparison takes the circumstances of the first, except for those that its own flags give.
func TestOr(t *testing.T) {
	first := Circumstances{Person: "kay", Address: "10.40.9.7", At: "12:00", Sight: "name", Method: "POST"}
	assert.Equal(t, Circumstances{Group: "Nurses", At: "12:00", Sight: "name", Method: "POST"}, Circumstances{Group: "Nurses"}.Or(first), "somebody else, from nowhere")
	assert.Equal(t, Circumstances{Person: "kay", Address: "10.40.9.7", At: "14:00", Sight: "name", Method: "POST"}, Circumstances{At: "14:00"}.Or(first))
	none := Circumstances{}
	assert.True(t, none.None())
	assert.False(t, first.None())
}

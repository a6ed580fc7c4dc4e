package alert_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"widelark/internal/alert"
)

// People are told of an incident once others that begin with it have had time to; not again before its time, never after somebody has acknowledged it, and never twice within five minutes.
func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) *time.Time {
		at := now.Add(-d)
		return &at
	}
	fresh := func(since time.Duration) alert.Incident {
		return alert.Incident{ID: uuid.New(), Since: now.Add(-since)}
	}
	told := func(d time.Duration) alert.Incident {
		i := fresh(10 * time.Hour)
		i.ToldAt = ago(d)
		return i
	}
	seen := fresh(time.Hour)
	seen.AcknowledgedAt = ago(time.Minute)
	const again = 4 * time.Hour
	for name, c := range map[string]struct {
		open, past []alert.Incident
		want       int
	}{
		"nothing":                          {nil, nil, 0},
		"just begun":                       {[]alert.Incident{fresh(5 * time.Second)}, nil, 0},
		"begun, and waited for others":     {[]alert.Incident{fresh(30 * time.Second), fresh(5 * time.Second)}, nil, 2},
		"told":                             {[]alert.Incident{told(time.Hour)}, nil, 0},
		"told long ago, and goes on":       {[]alert.Incident{told(5 * time.Hour)}, nil, 1},
		"another one soon after a message": {[]alert.Incident{told(2 * time.Minute), fresh(time.Minute)}, nil, 0},
		"another one later":                {[]alert.Incident{told(6 * time.Minute), fresh(time.Minute)}, nil, 1},
		"acknowledged":                     {[]alert.Incident{seen}, nil, 0},
		"over while it was quiet":          {nil, []alert.Incident{fresh(8 * time.Hour)}, 1},
	} {
		assert.Len(t, alert.Due(c.open, c.past, again, now), c.want, name)
	}
}

// However incidents come and go, each is told of within some minutes, and there are never more messages than one in five minutes.
func TestDueKeepsApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		begin := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
		var open []alert.Incident
		var messages []time.Time
		for step := range 400 {
			now := begin.Add(time.Duration(step) * 10 * time.Second)
			if step < 300 && rapid.IntRange(0, 20).Draw(t, "new") == 0 {
				open = append(open, alert.Incident{ID: uuid.UUID{byte(step), byte(step >> 8)}, Since: now})
			}
			tell := alert.Due(open, nil, time.Hour, now)
			if len(tell) > 0 {
				messages = append(messages, now)
			}
			for _, told := range tell {
				for i := range open {
					if open[i].ID == told.ID {
						open[i].ToldAt = &now
					}
				}
			}
		}
		for i := 1; i < len(messages); i++ {
			if messages[i].Sub(messages[i-1]) < 5*time.Minute {
				t.Fatalf("messages at %s and %s", messages[i-1], messages[i])
			}
		}
		for _, i := range open {
			if i.ToldAt == nil {
				t.Fatalf("nobody was told of what began at %s", i.Since)
			}
		}
	})
}

package revision

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"widelark/core/schedule"
	"widelark/internal/access"
)

// Schedule is a named set of weekly windows and dated lines in one time zone.
type Schedule struct {
	ID          uuid.UUID
	Name        string
	Description string
	Zone        string // an IANA name
	Text        string // see [schedule.Schedule.String]
	Version     int64
	UpdatedAt   time.Time
	UpdatedBy   string
}

// ScheduleEdit changes a schedule; a nil field stays.
type ScheduleEdit struct {
	Name        *string
	Description *string
	Zone        *string
	Text        *string
}

// ScheduleStore keeps schedules. See [Store] for version and by.
type ScheduleStore interface {
	Schedules(ctx context.Context) ([]Schedule, error) // by name
	Schedule(ctx context.Context, id uuid.UUID) (Schedule, error)
	AddSchedule(ctx context.Context, made ScheduleEdit, by access.Actor) (Schedule, error)
	EditSchedule(ctx context.Context, id uuid.UUID, edit ScheduleEdit, version int64, by access.Actor) (Schedule, error)
	RemoveSchedule(ctx context.Context, id uuid.UUID, version int64, by access.Actor) error
}

// LoadZone returns the zone of an IANA name. "" and "Local" are refused: they would be that of the machine.
func LoadZone(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, &FieldError{"zone", "an IANA time zone is wanted, as Europe/London"}
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, &FieldError{"zone", fmt.Sprintf("there is no time zone %q; IANA names are wanted, as Europe/London", name)}
	}
	return zone, nil
}

// Checked returns the edit with its name trimmed and its text as it is printed, or says what is wrong with it.
func (e ScheduleEdit) Checked() (ScheduleEdit, error) {
	edit, err := ListEdit{Name: e.Name, Description: e.Description}.Checked()
	e.Name = edit.Name
	if err == nil && e.Zone != nil {
		_, err = LoadZone(*e.Zone)
	}
	if err != nil || e.Text == nil {
		return e, err
	}
	read, err := schedule.Parse(*e.Text)
	var wrong *schedule.Error
	if errors.As(err, &wrong) {
		return e, &FieldError{"text", wrong.Error()}
	}
	text := read.String()
	e.Text = &text
	return e, nil
}

package httpapi

import (
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/internal/calendar"
	"widelark/internal/revision"
)

// Schedule is a named set of weekly windows and dated lines in one time zone.
type Schedule struct {
	ID        uuid.UUID `json:"id" format:"uuid"`
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Zone      string    `json:"zone" doc:"An IANA time zone"`
	Text      string    `json:"text" doc:"In the notation of schedules"`
	Version   int64     `json:"version"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
	Times     Times     `json:"times"`
	Problem   string    `json:"problem,omitempty" doc:"Why text or zone cannot be read; the schedule is never in force then, until it is edited"`

	UsedBy []revision.ObjectUse `json:"usedBy" doc:"Policies whose rules hold in it, or outside it"`
}

// Times says when a schedule is in force.
type Times struct {
	InForce bool         `json:"inForce" doc:"Now"`
	Changes []TimeChange `json:"changes" doc:"The next ten"`
	Week    []TimeSpan   `json:"week" doc:"From the beginning of today on, seven days"`
	Weekly  []TimeWindow `json:"weekly" doc:"The windows of an ordinary week, from Monday on"`
	Dated   []string     `json:"dated" doc:"The dated lines, as the notation writes them"`
	Never   bool         `json:"never" doc:"It has no window at all"`
}

// TimeChange is a moment at which a schedule begins or ends to be in force.
type TimeChange struct {
	At     time.Time `json:"at" doc:"In the schedule's zone"`
	Begins bool      `json:"begins"`
}

// TimeSpan is a time in which a schedule is in force.
type TimeSpan struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to" doc:"Not in it any more"`
}

// TimeWindow is a window of an ordinary week.
type TimeWindow struct {
	Day   int `json:"day" minimum:"0" maximum:"6" doc:"0 is Monday"`
	Start int `json:"start" doc:"Minutes after midnight"`
	End   int `json:"end" doc:"Minutes after midnight; where it is not after the start, on the next day"`
}

type scheduleOutput struct {
	ETag string `header:"ETag"`
	Body Schedule
}

type schedulesOutput struct {
	Body struct {
		Schedules []Schedule `json:"schedules" doc:"By name"`
	}
}

type newScheduleInput struct {
	Body struct {
		Name  string `json:"name" minLength:"1" maxLength:"80"`
		About string `json:"about,omitempty" maxLength:"2000"`
		Zone  string `json:"zone,omitempty" maxLength:"80" doc:"An IANA time zone; left out, the organisation's"`
		Text  string `json:"text" maxLength:"65536" doc:"In the notation of schedules, as mon-fri 09:00-12:00, 13:00-17:00; not on 2026-12-25"`
	}
}

type editScheduleInput struct {
	ByID
	MustMatch
	Body struct {
		Name  *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		About *string `json:"about,omitempty" maxLength:"2000"`
		Zone  *string `json:"zone,omitempty" maxLength:"80"`
		Text  *string `json:"text,omitempty" maxLength:"65536"`
	}
}

type explainScheduleInput struct {
	Body struct {
		Text string     `json:"text" maxLength:"65536"`
		Zone string     `json:"zone,omitempty" maxLength:"80" doc:"Left out, the organisation's"`
		At   *time.Time `json:"at,omitempty" doc:"The moment to look from; left out, now"`
	}
}

type explainScheduleOutput struct {
	Body struct {
		Text    string        `json:"text" doc:"As the notation writes it; as it was given where it cannot be read"`
		Zone    string        `json:"zone"`
		Problem *ScheduleFlaw `json:"problem,omitempty" doc:"Why it cannot be read; times are empty then"`
		Times   Times         `json:"times"`
	}
}

// ScheduleFlaw says what is wrong with the text of a schedule.
type ScheduleFlaw struct {
	Line       int    `json:"line" doc:"1-based"`
	Column     int    `json:"column" doc:"1-based, in characters"`
	Found      string `json:"found"`
	Expected   string `json:"expected"`
	Suggestion string `json:"suggestion,omitempty"`
	Message    string `json:"message" doc:"All of it in one sentence"`
}

type readCalendarInput struct {
	As   string `query:"as" enum:"on,not on" default:"not on" doc:"What events become: times that are added, or days that are taken away"`
	Zone string `query:"zone" maxLength:"80" doc:"Left out, the organisation's"`
	Days int    `query:"days" default:"730" minimum:"1" maximum:"3660" doc:"How far ahead repeated events are written out"`
	body io.Reader
}

// Resolve keeps the body for the handler.
func (in *readCalendarInput) Resolve(ctx huma.Context) []error {
	in.body = &limited{r: ctx.BodyReader(), left: 8 << 20}
	return nil
}

type readCalendarOutput struct {
	Body struct {
		Lines  string   `json:"lines" doc:"Dated lines of the notation, one a line"`
		Events int      `json:"events"`
		Left   []string `json:"left" doc:"Events that could not be read, the first ten"`
	}
}

func (s *server) registerSchedules(api huma.API) {
	huma.Register(api, operation("getSchedules", http.MethodGet, "/schedules", "Schedules", "Every schedule, and when it is in force"),
		func(ctx context.Context, _ *struct{}) (*schedulesOutput, error) {
			found, err := s.Schedules.Schedules(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &schedulesOutput{}
			out.Body.Schedules = []Schedule{}
			for _, one := range found {
				body, err := s.scheduleBody(ctx, one)
				if err != nil {
					return nil, s.problem(ctx, err)
				}
				out.Body.Schedules = append(out.Body.Schedules, body)
			}
			return out, nil
		})
	create := operation("createSchedule", http.MethodPost, "/schedules", "Schedules", "Make a schedule", 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, func(ctx context.Context, in *newScheduleInput) (*scheduleOutput, error) {
		b := in.Body
		if b.Zone == "" {
			b.Zone = s.Zone.String()
		}
		edit, err := revision.ScheduleEdit{Name: &b.Name, Description: &b.About, Zone: &b.Zone, Text: &b.Text}.Checked()
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		made, err := s.Schedules.AddSchedule(ctx, edit, actor(ctx))
		return s.scheduleAnswer(ctx, made, err)
	})
	huma.Register(api, operation("getSchedule", http.MethodGet, "/schedules/{id}", "Schedules", "One schedule", 404),
		func(ctx context.Context, in *ByID) (*scheduleOutput, error) {
			found, err := s.Schedules.Schedule(ctx, in.ID)
			return s.scheduleAnswer(ctx, found, err)
		})
	huma.Register(api, operation("editSchedule", http.MethodPatch, "/schedules/{id}", "Schedules", "Edit a schedule", 404, 412, 422, 428),
		func(ctx context.Context, in *editScheduleInput) (*scheduleOutput, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			b := in.Body
			edit, err := revision.ScheduleEdit{Name: b.Name, Description: b.About, Zone: b.Zone, Text: b.Text}.Checked()
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			edited, err := s.Schedules.EditSchedule(ctx, in.ID, edit, version, actor(ctx))
			return s.scheduleAnswer(ctx, edited, err)
		})
	huma.Register(api, operation("deleteSchedule", http.MethodDelete, "/schedules/{id}", "Schedules", "Delete a schedule", 404, 412, 428),
		func(ctx context.Context, in *deleteVersionedInput) (*struct{}, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := s.Schedules.RemoveSchedule(ctx, in.ID, version, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("explainSchedule", http.MethodPost, "/schedules/explain", "Schedules", "What a text means as a schedule, and what is wrong with it; nothing is kept", 422), s.explainSchedule)
	read := operation("readCalendar", http.MethodPost, "/schedules/calendar", "Schedules", "The lines of a schedule that a calendar file (iCalendar) becomes; nothing is kept", 413, 422)
	read.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}}}
	huma.Register(api, read, s.readCalendar)
	export := operation("exportSchedule", http.MethodGet, "/schedules/{id}/calendar", "Schedules", "A schedule as a calendar file (iCalendar)", 404)
	export.Responses = map[string]*huma.Response{"200": {Description: "Events that repeat", Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(api, export, s.exportSchedule)
}

// times says when a schedule is in force, seen from a moment.
func times(sc schedule.Schedule, zone *time.Location, at time.Time) Times {
	at = at.In(zone)
	t := Times{InForce: sc.At(at, zone), Changes: []TimeChange{}, Week: []TimeSpan{}, Weekly: []TimeWindow{}, Dated: []string{}, Never: sc.IsNever()}
	inside := t.InForce
	for from := at; len(t.Changes) < 10; {
		next, ok := sc.Next(from, zone)
		if !ok {
			break
		}
		inside = !inside
		t.Changes = append(t.Changes, TimeChange{next, inside})
		from = next
	}
	begin := schedule.Today(at, zone)
	for _, span := range sc.Between(begin, schedule.DaysLater(begin, 7, zone), zone) {
		t.Week = append(t.Week, TimeSpan(span))
	}
	for day := range 7 {
		for _, w := range sc.Weekly(time.Weekday((day + 1) % 7)) {
			t.Weekly = append(t.Weekly, TimeWindow{day, int(w.Start), int(w.End)})
		}
	}
	for _, d := range sc.Dated() {
		t.Dated = append(t.Dated, schedule.New([7][]schedule.Window{}, []schedule.Dated{d}).String())
	}
	return t
}

// scheduleBody returns a schedule as the API has it. One that cannot be read carries the problem, so that it can be mended.
func (s *server) scheduleBody(ctx context.Context, one revision.Schedule) (Schedule, error) {
	body := Schedule{ID: one.ID, Name: one.Name, About: one.Description, Zone: one.Zone, Text: one.Text, Version: one.Version, UpdatedAt: one.UpdatedAt, UpdatedBy: one.UpdatedBy}
	read, zone, err := readSchedule(one)
	if err != nil {
		body.Problem, read, zone = err.Error(), schedule.Schedule{}, s.Zone
	}
	body.Times = times(read, zone, s.Now())
	used, err := s.Objects.Uses(ctx, revision.KindSchedule, one.ID)
	body.UsedBy = append([]revision.ObjectUse{}, used...)
	return body, err
}

// readSchedule reads a schedule as it is kept. The error is a [*revision.FieldError].
func readSchedule(one revision.Schedule) (schedule.Schedule, *time.Location, error) {
	read, err := schedule.Parse(one.Text)
	if err != nil {
		return read, nil, &revision.FieldError{Field: "text", Msg: err.Error()}
	}
	zone, err := revision.LoadZone(one.Zone)
	return read, zone, err
}

func (s *server) scheduleAnswer(ctx context.Context, one revision.Schedule, err error) (*scheduleOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	body, err := s.scheduleBody(ctx, one)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &scheduleOutput{etag(one.Version), body}, nil
}

// zoneOf returns the zone of a name; the organisation's for none.
func (s *server) zoneOf(name string) (*time.Location, error) {
	if name == "" {
		return s.Zone, nil
	}
	return revision.LoadZone(name)
}

func (s *server) explainSchedule(ctx context.Context, in *explainScheduleInput) (*explainScheduleOutput, error) {
	zone, err := s.zoneOf(in.Body.Zone)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	at := time.Now()
	if in.Body.At != nil {
		at = *in.Body.At
	}
	out := &explainScheduleOutput{}
	out.Body.Zone = zone.String()
	read, err := schedule.Parse(in.Body.Text)
	var wrong *schedule.Error
	if errors.As(err, &wrong) {
		out.Body.Text = in.Body.Text
		out.Body.Problem = &ScheduleFlaw{wrong.Line, wrong.Column, shown(wrong.Found), wrong.Expected, wrong.Suggestion, wrong.Error()}
	} else {
		out.Body.Text = read.String()
	}
	out.Body.Times = times(read, zone, at)
	return out, nil
}

func (s *server) readCalendar(ctx context.Context, in *readCalendarInput) (*readCalendarOutput, error) {
	zone, err := s.zoneOf(in.Zone)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	now := time.Now().In(zone)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	read, err := calendar.Read(ctx, in.body, calendar.Reading{Not: in.As == "not on", Zone: zone, From: now.AddDate(0, 0, -31), To: now.AddDate(0, 0, in.Days)})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &readCalendarOutput{}
	out.Body.Lines, out.Body.Events = schedule.New([7][]schedule.Window{}, read.Lines).String(), read.Events
	out.Body.Left = append([]string{}, read.Left...)
	return out, nil
}

func (s *server) exportSchedule(ctx context.Context, in *ByID) (*huma.StreamResponse, error) {
	one, err := s.Schedules.Schedule(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	read, zone, err := readSchedule(one)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", "text/calendar; charset=utf-8")
		hctx.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": one.Name + ".ics"}))
		now := time.Now()
		if err := calendar.Write(hctx.BodyWriter(), one.Name, read, zone, pattern.DateOf(now.In(zone)), now.UTC()); err != nil {
			s.Log.WarnContext(ctx, "a calendar broke off", "schedule", one.Name, "error", err)
		}
	}}, nil
}

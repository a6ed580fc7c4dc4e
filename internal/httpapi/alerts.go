package httpapi

import (
	"context"
	"encoding/base64"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/alert"
	"widelark/internal/delivery"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
	"widelark/internal/watch"
)

// Alert says when somebody is told of something.
type Alert struct {
	WatchMeta
	watch.AlertBody
	Signed     bool       `json:"signed" doc:"What is posted is signed: there is a secret"`
	Open       int        `json:"open" doc:"Incidents that go on and that nobody has acknowledged"`
	Deliveries []Delivery `json:"deliveries" doc:"The last ones, the last first"`
}

// AlertInput is a new state of an alert.
type AlertInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	watch.AlertBody
}

// Incident is something that an alert has found, for as long as it went on.
type Incident struct {
	ID             uuid.UUID  `json:"id" format:"uuid"`
	Alert          uuid.UUID  `json:"alert" format:"uuid"`
	Name           string     `json:"name" doc:"Of the alert, as it was then"`
	Subject        string     `json:"subject,omitempty" doc:"What it is about: a person, a gate; left out for all together"`
	Said           string     `json:"said" doc:"What was found, a sentence"`
	Query          string     `json:"query,omitempty" doc:"That finds the records"`
	Most           int64      `json:"most,omitempty" doc:"The largest number that was counted"`
	Since          time.Time  `json:"since"`
	LastAt         time.Time  `json:"lastAt" doc:"When it was found last"`
	OverAt         *time.Time `json:"overAt,omitempty" doc:"Left out while it goes on"`
	ToldAt         *time.Time `json:"toldAt,omitempty" doc:"When somebody was told of it last"`
	AcknowledgedAt *time.Time `json:"acknowledgedAt,omitempty"`
	AcknowledgedBy string     `json:"acknowledgedBy,omitempty"`
	Reason         string     `json:"reason,omitempty"`
}

// incidentBody returns an incident as the caller may see it: without whom it is about, where that is hidden.
func incidentBody(ctx context.Context, i alert.Incident) Incident {
	if !view(ctx).Names && len(query.AboutOf(i.Query).Named) > 0 {
		if i.Subject != "" {
			i.Said = strings.ReplaceAll(i.Said, i.Subject, "Somebody")
		}
		i.Subject, i.Query = "", ""
	}
	return Incident{i.ID, i.Alert, i.Name, i.Subject, i.Said, i.Query, i.Most, i.Since, i.LastAt, i.OverAt, i.ToldAt, i.AcknowledgedAt, i.AcknowledgedBy, i.Reason}
}

type incidentsInput struct {
	Alert string `query:"alert" format:"uuid" doc:"Only those of this alert"`
	Open  bool   `query:"open" doc:"Only those that go on and that nobody has acknowledged"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

type incidentsOutput struct {
	Body struct {
		Incidents []Incident `json:"incidents" doc:"Those that go on first, the last one first"`
	}
}

type acknowledgeInput struct {
	ByID
	Body struct {
		Reason string `json:"reason,omitempty" maxLength:"2000"`
	}
}

type incidentOutput struct{ Body Incident }

type testAlertOutput struct {
	Body struct {
		Messages int `json:"messages" doc:"That are on their way"`
	}
}

func (s *server) registerAlerts(api huma.API) {
	registerWatched(s, api, watched[Alert, AlertInput]{
		kind: watch.Alert, path: "/alerts", tag: "Alerts", one: "Alert", many: "Alerts", article: "an alert", articles: "alerts",
		take: s.takeAlert,
		make: func(ctx context.Context, i watch.Item) (Alert, error) {
			b, err := bodyOf[watch.AlertBody](i)
			if err != nil {
				return Alert{}, err
			}
			open, err := s.Incidents.Incidents(ctx, i.ID, true, 1000)
			if err != nil {
				return Alert{}, err
			}
			sent, err := s.deliveries(ctx, i.ID)
			a := Alert{metaOf(i), b, b.Secret != "", len(open), sent}
			a.Secret = ""
			return a, err
		},
	})
	huma.Register(api, operation("getIncidents", http.MethodGet, "/incidents", "Alerts", "What alerts have found", 422), func(ctx context.Context, in *incidentsInput) (*incidentsOutput, error) {
		of, _ := uuid.Parse(in.Alert) // its form was checked; none is none
		found, err := s.Incidents.Incidents(ctx, of, in.Open, in.Limit)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &incidentsOutput{}
		out.Body.Incidents = []Incident{}
		for _, i := range found {
			out.Body.Incidents = append(out.Body.Incidents, incidentBody(ctx, i))
		}
		return out, nil
	})
	huma.Register(api, operation("acknowledgeIncident", http.MethodPost, "/incidents/{id}/acknowledge", "Alerts", "Say that somebody has seen to it: nobody is told of it again", 404, 422), func(ctx context.Context, in *acknowledgeInput) (*incidentOutput, error) {
		i, err := s.Incidents.Acknowledge(ctx, in.ID, in.Body.Reason, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return &incidentOutput{incidentBody(ctx, i)}, nil
	})
	try := operation("testAlert", http.MethodPost, "/alerts/{id}/test", "Alerts", "Send a test to whom an alert tells", 404, 422)
	try.DefaultStatus = http.StatusAccepted
	huma.Register(api, try, func(ctx context.Context, in *ByID) (*testAlertOutput, error) {
		i, err := s.Watching.WatchItem(ctx, watch.Alert, in.ID)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		b, err := bodyOf[watch.AlertBody](i)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		messages := s.Alerts.Test(i, &b, actor(ctx).Name())
		if len(messages) == 0 {
			return nil, s.problem(ctx, &revision.FieldError{Msg: "the alert tells nobody: give it an address for mail, or a hook"})
		}
		if err := s.Outbox.AddMessages(ctx, messages, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &testAlertOutput{}
		out.Body.Messages = len(messages)
		return out, nil
	})
}

func (s *server) takeAlert(ctx context.Context, in *AlertInput, before *watch.Item) (watch.Item, error) {
	body := in.AlertBody
	if err := body.Check(); err != nil {
		return watch.Item{}, err
	}
	if len(body.To) > 0 && !s.Mails {
		return watch.Item{}, &revision.FieldError{Field: "to", Msg: "the service cannot send mail: its administrator names a server with --mail-server"}
	}
	if _, _, err := s.searchAt(ctx, "query", body.Query); err != nil {
		return watch.Item{}, err
	}
	if view(ctx).Hides(body.Per) {
		return watch.Item{}, query.ErrHidden
	}
	switch {
	case body.Hook == "":
		body.Secret = ""
	case body.Secret != "" && s.Secret == nil:
		return watch.Item{}, &revision.FieldError{Field: "secret", Msg: "the service has no secret to seal it with: its administrator names a file with --secret-file"}
	case body.Secret != "":
		body.Secret = base64.StdEncoding.EncodeToString(s.Secret.Seal(delivery.SecretPurpose, []byte(body.Secret)))
	case before != nil:
		if had, err := bodyOf[watch.AlertBody](*before); err == nil {
			body.Secret = had.Secret
		}
	}
	i, err := packed(in.Name, body)
	now := s.Now()
	i.NextAt = &now
	return i, err
}

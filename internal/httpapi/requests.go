package httpapi

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// AccessRequest is somebody's plea for a page that was refused.
type AccessRequest struct {
	ID         uuid.UUID             `json:"id" format:"uuid"`
	Person     *Ref                  `json:"person,omitempty" doc:"Left out where nobody is known"`
	Address    string                `json:"address,omitempty"`
	URL        string                `json:"url"`
	Verdict    policy.Verdict        `json:"verdict" enum:"hold,block" doc:"That it got"`
	By         string                `json:"by" doc:"What decided"`
	Reason     string                `json:"reason" doc:"What it is needed for, as the asker says"`
	Reference  string                `json:"reference" doc:"Of the page that refused it"`
	MadeAt     time.Time             `json:"madeAt"`
	State      standing.RequestState `json:"state" enum:"open,granted,refused"`
	AnsweredAt *time.Time            `json:"answeredAt,omitempty"`
	AnsweredBy string                `json:"answeredBy,omitempty"`
	Answer     string                `json:"answer,omitempty" doc:"That the asker reads"`
	Grant      *uuid.UUID            `json:"grant,omitempty" format:"uuid"`
}

type requestsInput struct {
	All   bool `query:"all" doc:"Those that are answered, too"`
	Limit int  `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

type requestsOutput struct {
	Body struct {
		Requests []AccessRequest `json:"requests" doc:"Open ones first, then the one made last first"`
	}
}

type requestOutput struct{ Body AccessRequest }

type grantRequestInput struct {
	ByID
	Body struct {
		Until   *time.Time `json:"until,omitempty" doc:"Within 90 days; in place of minutes"`
		Minutes int        `json:"minutes,omitempty" minimum:"0" maximum:"129600" doc:"In place of until"`
		Answer  string     `json:"answer,omitempty" maxLength:"1000" doc:"That the asker reads; left out, until when it is allowed"`
	}
}

type refuseRequestInput struct {
	ByID
	Body struct {
		Answer string `json:"answer" minLength:"1" maxLength:"1000" doc:"That the asker reads"`
	}
}

func (s *server) registerRequests(api huma.API) {
	huma.Register(api, operation("getRequests", http.MethodGet, "/requests", "Requests", "Requests for access"), s.requests)
	huma.Register(api, operation("grantRequest", http.MethodPost, "/requests/{id}/grant", "Requests", "Answer a request with the narrowest grant that lets the asker reach the page; it holds at once", 404, 409, 422), s.grantRequest)
	huma.Register(api, operation("refuseRequest", http.MethodPost, "/requests/{id}/refuse", "Requests", "Answer a request with a refusal", 404, 409, 422), s.refuseRequest)
	s.registerRequestGroups(api)
}

// atDesk returns a page of requests that the caller may see.
func (s *server) atDesk(ctx context.Context, openOnly bool, limit int) ([]standing.Request, error) {
	found, err := s.Requests.Requests(ctx, openOnly, limit)
	if err != nil {
		return nil, err
	}
	seen, err := s.bounds(ctx, access.ReadRequests)
	return slices.DeleteFunc(found, func(r standing.Request) bool { return !seen.has(r.Person, uuid.Nil, r.Address) }), err
}

func (s *server) requests(ctx context.Context, in *requestsInput) (*requestsOutput, error) {
	found, err := s.atDesk(ctx, !in.All, in.Limit)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &requestsOutput{}
	if out.Body.Requests, err = s.requestBodies(ctx, found); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) requestBodies(ctx context.Context, found []standing.Request) ([]AccessRequest, error) {
	var ids []uuid.UUID
	for i := range found {
		ids = append(ids, found[i].Person)
	}
	names, err := s.Objects.Names(ctx, ids)
	bodies := make([]AccessRequest, len(found))
	for i, r := range found {
		bodies[i] = AccessRequest{
			ID: r.ID, URL: r.URL, Verdict: r.Verdict, By: r.By, Reason: r.Reason, Reference: r.Reference, MadeAt: r.MadeAt, State: r.State, AnsweredAt: r.AnsweredAt, AnsweredBy: r.AnsweredBy,
			Answer: r.Answer, Grant: r.Grant,
		}
		if r.Person != uuid.Nil {
			bodies[i].Person = &Ref{ID: r.Person, Name: names[r.Person]}
		}
		if r.Address.IsValid() {
			bodies[i].Address = r.Address.String()
		}
	}
	return bodies, err
}

func (s *server) requestAnswer(ctx context.Context, r standing.Request, err error) (*requestOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.requestBodies(ctx, []standing.Request{r})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &requestOutput{bodies[0]}, nil
}

// openRequest returns a request that nobody has answered yet.
func (s *server) openRequest(ctx context.Context, id uuid.UUID) (standing.Request, error) {
	r, err := s.Requests.Request(ctx, id)
	if err != nil {
		return r, s.problem(ctx, err)
	}
	if seen, err := s.bounds(ctx, access.ReadRequests); err != nil || !seen.has(r.Person, uuid.Nil, r.Address) {
		return r, s.problem(ctx, cmp.Or[error](err, revision.ErrNotFound))
	}
	if r.State != standing.Open {
		return r, huma.Error409Conflict("This request was answered already, by " + r.AnsweredBy + ".")
	}
	return r, nil
}

func (s *server) grantRequest(ctx context.Context, in *grantRequestInput) (*requestOutput, error) {
	r, err := s.openRequest(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	b := in.Body
	body := standing.GrantBody{Reason: r.Reason, Until: s.Now().Add(time.Duration(b.Minutes) * time.Minute)}
	who := askerOf(r)
	switch {
	case (b.Until == nil) == (b.Minutes == 0):
		err = &revision.FieldError{Field: "until", Msg: "say until when it is allowed: until a moment, or for so many minutes"}
	case b.Until != nil:
		body.Until = *b.Until
	}
	if err == nil {
		body.Entries, body.For, err = narrowestGrant(live, r.URL, &who)
	}
	if err == nil {
		err = body.Check(s.Now())
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	answer := strings.TrimSpace(b.Answer)
	if answer == "" {
		answer = "It is allowed until " + body.Until.In(s.Zone).Format("Monday 2 January, 15:04") + "."
	}
	r, err = s.Requests.GrantRequest(ctx, in.ID, answer, body, actor(ctx))
	return s.requestAnswer(ctx, r, err)
}

// askerOf returns who asked.
func askerOf(r standing.Request) edition.Who {
	if r.Person != uuid.Nil {
		return edition.Who{Person: r.Person.String()}
	}
	return edition.Who{Address: r.Address.String()}
}

func (s *server) refuseRequest(ctx context.Context, in *refuseRequestInput) (*requestOutput, error) {
	if _, err := s.openRequest(ctx, in.ID); err != nil {
		return nil, err
	}
	answer := strings.TrimSpace(in.Body.Answer)
	if answer == "" {
		return nil, s.problem(ctx, &revision.FieldError{Field: "answer", Msg: "say why, for the asker to read"})
	}
	r, err := s.Requests.RefuseRequest(ctx, in.ID, answer, actor(ctx))
	return s.requestAnswer(ctx, r, err)
}

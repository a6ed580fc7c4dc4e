package httpapi

import (
	"context"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// Presence is a person at an address, for a while.
type Presence struct {
	Person  Ref       `json:"person"`
	Address string    `json:"address"`
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	How     string    `json:"how,omitempty" doc:"Who knows it, as a sign-in page"`
	MadeBy  string    `json:"madeBy"`
}

type presencesOutput struct {
	Body struct {
		Presences []Presence `json:"presences" doc:"In force, the one made last first"`
	}
}

type setPresenceInput struct {
	Body struct {
		Person  string     `json:"person" minLength:"1" maxLength:"200" doc:"Name, full name or id"`
		Address string     `json:"address" minLength:"1" maxLength:"60"`
		Until   *time.Time `json:"until,omitempty" doc:"Within seven days; in place of minutes"`
		Minutes int        `json:"minutes,omitempty" minimum:"0" maximum:"10080" doc:"In place of until"`
		How     string     `json:"how,omitempty" maxLength:"200" doc:"Who knows it, as a sign-in page"`
	}
}

type presenceOutput struct{ Body Presence }

type endPresenceInput struct {
	Address string `query:"address" required:"true" maxLength:"60"`
}

func (s *server) registerPresences(api huma.API) {
	huma.Register(api, operation("getPresences", http.MethodGet, "/presences", "Presences", "Who is at which address now"), s.presences)
	huma.Register(api, operation("setPresence", http.MethodPut, "/presences", "Presences", "Say that a person is at an address, for a while; it ends another presence there", 422), s.setPresence)
	huma.Register(api, operation("endPresence", http.MethodDelete, "/presences", "Presences", "End the presence at an address now", 404, 422),
		func(ctx context.Context, in *endPresenceInput) (*struct{}, error) {
			at, err := readAddress(in.Address)
			if err == nil {
				err = s.Standing.EndPresence(ctx, at, actor(ctx))
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

func readAddress(text string) (netip.Addr, error) {
	at, err := netip.ParseAddr(strings.TrimSpace(text))
	if err != nil || at.Zone() != "" {
		return at, &revision.FieldError{Field: "address", Msg: "a presence is at one address, as 10.40.9.7"}
	}
	return at.Unmap(), nil
}

func (s *server) presences(ctx context.Context, _ *struct{}) (*presencesOutput, error) {
	found, err := s.Standing.Presences(ctx, s.Now())
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	seen, err := s.bounds(ctx, access.SeeNames)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	found = slices.DeleteFunc(found, func(p standing.Presence) bool { return !seen.has(p.Person, uuid.Nil, netip.Addr{}) })
	out := &presencesOutput{}
	if out.Body.Presences, err = s.presenceBodies(ctx, found); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) presenceBodies(ctx context.Context, found []standing.Presence) ([]Presence, error) {
	ids := make([]uuid.UUID, len(found))
	for i := range found {
		ids[i] = found[i].Person
	}
	names, err := s.Objects.Names(ctx, ids)
	bodies := make([]Presence, len(found))
	for i, p := range found {
		bodies[i] = Presence{Ref{ID: p.Person, Name: names[p.Person]}, p.Address.String(), p.From, p.Until, p.How, p.MadeBy}
	}
	return bodies, err
}

func (s *server) setPresence(ctx context.Context, in *setPresenceInput) (*presenceOutput, error) {
	b := in.Body
	live, err := s.Editions.On(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	p := standing.Presence{How: b.How}
	who, err := live.Find("", edition.Who{Person: b.Person})
	switch {
	case err != nil || who.Person == nil:
		err = &revision.FieldError{Field: "person", Msg: "there is no such person in what is live"}
	case (b.Until == nil) == (b.Minutes == 0):
		err = &revision.FieldError{Field: "until", Msg: "say when the presence ends: until a moment, or after so many minutes"}
	case b.Until != nil:
		p.Until = *b.Until
	default:
		p.Until = s.Now().Add(time.Duration(b.Minutes) * time.Minute)
	}
	if err == nil {
		p.Person = uuid.MustParse(who.Person.ID)
		p.Address, err = readAddress(b.Address)
	}
	if err == nil {
		err = p.Check(s.Now())
	}
	if err == nil && live.Snapshot.SharedAt(p.Address) {
		err = &revision.FieldError{Field: "address", Msg: p.Address.String() + " is in a network whose addresses many clients share: it says nothing of who asks"}
	}
	if err == nil {
		p, err = s.Standing.AddPresence(ctx, p, actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.presenceBodies(ctx, []standing.Presence{p})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &presenceOutput{bodies[0]}, nil
}

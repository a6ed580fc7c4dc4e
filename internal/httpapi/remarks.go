package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/revision"
)

// Remark is something that somebody says of the draft, or asks somebody else to look at.
type Remark struct {
	ID      int64      `json:"id"`
	At      time.Time  `json:"at"`
	By      string     `json:"by"`
	Text    string     `json:"text"`
	Object  *Ref       `json:"object,omitempty" doc:"That it is about; left out for the draft as a whole"`
	Version int64      `json:"version" doc:"Of the draft, when it was made"`
	Asks    string     `json:"asks,omitempty" doc:"The account that is asked to look"`
	Link    string     `json:"link,omitempty" doc:"Where whoever is asked finds it; left out where the service does not know its own address"`
	DoneAt  *time.Time `json:"doneAt,omitempty"`
	DoneBy  string     `json:"doneBy,omitempty"`
}

type remarksOutput struct {
	Body struct {
		Remarks []Remark `json:"remarks" doc:"What is not done first, and the last one first"`
		CanLook []Looker `json:"canLook" doc:"Accounts that may publish, and so look at the draft before it goes live"`
	}
}

// Looker is somebody who can be asked to look.
type Looker struct {
	Name     string `json:"name"`
	FullName string `json:"fullName,omitempty"`
}

type addRemarkInput struct {
	Body struct {
		Text   string     `json:"text" minLength:"1" maxLength:"2000"`
		Object *uuid.UUID `json:"object,omitempty" format:"uuid"`
		Asks   string     `json:"asks,omitempty" maxLength:"80" doc:"The sign-in name of somebody who is asked to look"`
	}
}

type remarkOutput struct{ Body Remark }

type byNumber struct {
	ID int64 `path:"id" minimum:"1"`
}

// Practices is how changes go live.
type Practices struct {
	SecondLook bool      `json:"secondLook" doc:"What one person edited alone is published by another"`
	DeskMail   []string  `json:"deskMail" doc:"Addresses that are told of new requests by mail"`
	UpdatedAt  time.Time `json:"updatedAt"`
	UpdatedBy  string    `json:"updatedBy"`
}

type practicesOutput struct{ Body Practices }

type putPracticesInput struct {
	Body struct {
		SecondLook bool `json:"secondLook"`
	}
}

// shownRemarks is how many remarks are answered.
const shownRemarks = 200

func (s *server) registerRemarks(api huma.API) {
	huma.Register(api, operation("getRemarks", http.MethodGet, "/draft/remarks", "Changes", "What people say of the draft, and whom they ask to look"),
		func(ctx context.Context, _ *struct{}) (*remarksOutput, error) {
			found, err := s.Publishing.Remarks(ctx, shownRemarks)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &remarksOutput{}
			out.Body.CanLook = []Looker{}
			if out.Body.Remarks, err = s.remarkBodies(ctx, found); err != nil {
				return nil, s.problem(ctx, err)
			}
			all, err := s.Accounts.Accounts(ctx)
			for _, a := range all {
				if a.ID != caller(ctx).ID && access.Check(a.Actor(), a.Roles, access.Publish, access.Object{}) == nil {
					out.Body.CanLook = append(out.Body.CanLook, Looker{a.Name, a.FullName})
				}
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return out, nil
		})
	add := operation("addRemark", http.MethodPost, "/draft/remarks", "Changes", "Say something of the draft, or ask somebody to look at it", 422)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, func(ctx context.Context, in *addRemarkInput) (*remarkOutput, error) {
		text := strings.TrimSpace(in.Body.Text)
		if text == "" {
			return nil, s.problem(ctx, &revision.FieldError{Field: "text", Msg: "say what there is to say"})
		}
		made, err := s.Publishing.AddRemark(ctx, revision.Remark{Text: text, Object: in.Body.Object, Asks: strings.TrimSpace(in.Body.Asks)}, actor(ctx))
		return s.remarkAnswer(ctx, made, err)
	})
	huma.Register(api, operation("endRemark", http.MethodPost, "/draft/remarks/{id}/done", "Changes", "Say that a remark has been seen to", 404),
		func(ctx context.Context, in *byNumber) (*remarkOutput, error) {
			r, err := s.Publishing.EndRemark(ctx, in.ID, actor(ctx))
			return s.remarkAnswer(ctx, r, err)
		})
	huma.Register(api, operation("getPractices", http.MethodGet, "/practices", "Changes", "How changes go live"),
		func(ctx context.Context, _ *struct{}) (*practicesOutput, error) {
			p, err := s.Publishing.Practices(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &practicesOutput{Practices(p)}, nil
		})
	huma.Register(api, operation("putDeskMail", http.MethodPut, "/practices/desk-mail", "Changes", "Say whom mail tells of new requests; for owners", 403, 409, 422), s.putDeskMail)
	huma.Register(api, operation("putPractices", http.MethodPut, "/practices", "Changes", "Say how changes go live; for owners", 403, 422),
		func(ctx context.Context, in *putPracticesInput) (*practicesOutput, error) {
			err := s.Publishing.PutPractices(ctx, in.Body.SecondLook, actor(ctx))
			var p revision.Practices
			if err == nil {
				p, err = s.Publishing.Practices(ctx)
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &practicesOutput{Practices(p)}, nil
		})
}

type putDeskMailInput struct {
	Body struct {
		Addresses []string `json:"addresses" maxItems:"20" doc:"None: nobody is told"`
	}
}

// putDeskMail says whom mail tells of new requests.
func (s *server) putDeskMail(ctx context.Context, in *putDeskMailInput) (*practicesOutput, error) {
	addresses := []string{}
	for i, text := range in.Body.Addresses {
		address, err := mail.ParseAddress(text)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("addresses[%d]", i), Msg: fmt.Sprintf("%q is no mail address", text)})
		}
		addresses = append(addresses, address.Address)
	}
	if len(addresses) > 0 && !s.Mails {
		return nil, huma.Error409Conflict("The service sends no mail: start it with --mail-server.")
	}
	err := s.Publishing.PutDeskMail(ctx, addresses, actor(ctx))
	var p revision.Practices
	if err == nil {
		p, err = s.Publishing.Practices(ctx)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &practicesOutput{Practices(p)}, nil
}

func (s *server) remarkAnswer(ctx context.Context, r revision.Remark, err error) (*remarkOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.remarkBodies(ctx, []revision.Remark{r})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &remarkOutput{bodies[0]}, nil
}

func (s *server) remarkBodies(ctx context.Context, found []revision.Remark) ([]Remark, error) {
	var ids []uuid.UUID
	for _, r := range found {
		if r.Object != nil {
			ids = append(ids, *r.Object)
		}
	}
	names, err := s.Objects.Names(ctx, ids)
	bodies := make([]Remark, len(found))
	for i, r := range found {
		bodies[i] = Remark{ID: r.ID, At: r.At, By: r.By, Text: r.Text, Version: r.Version, Asks: r.Asks, DoneAt: r.DoneAt, DoneBy: r.DoneBy}
		if r.Object != nil {
			bodies[i].Object = &Ref{ID: *r.Object, Name: cmp.Or(names[*r.Object], "something that is gone")}
		}
		if s.ConsoleURL != "" {
			bodies[i].Link = strings.TrimSuffix(s.ConsoleURL, "/") + "/changes"
		}
	}
	return bodies, err
}

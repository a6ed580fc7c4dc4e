package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// Code opens held pages to whoever enters it.
type Code struct {
	ID uuid.UUID `json:"id" format:"uuid"`
	standing.CodeBody
	Name   string    `json:"name" doc:"What it opens, in a few words"`
	Used   int       `json:"used" doc:"How often it was entered"`
	MadeAt time.Time `json:"madeAt"`
	MadeBy string    `json:"madeBy"`
	Text   string    `json:"text,omitempty" doc:"The code itself, once: only its hash is kept"`
}

// Passage says that somebody has come past a hold, for a while.
type Passage struct {
	ID         uuid.UUID  `json:"id" format:"uuid"`
	How        string     `json:"how" enum:"acknowledged,code"`
	Code       *uuid.UUID `json:"code,omitempty" format:"uuid" doc:"That was entered"`
	Person     *Ref       `json:"person,omitempty" doc:"Left out where nobody is known: then it is the address's"`
	Address    string     `json:"address,omitempty"`
	Entries    []string   `json:"entries" doc:"What is open, in the notation"`
	Categories []string   `json:"categories,omitempty" doc:"Keys of categories and families of which everything is open, too"`
	From       time.Time  `json:"from"`
	Until      time.Time  `json:"until"`
	Reference  string     `json:"reference" doc:"Of the page that was held"`
}

type codesOutput struct {
	Body struct {
		Codes    []Code    `json:"codes" doc:"That can be entered, the one made last first"`
		Passages []Passage `json:"passages" doc:"Who has come past a hold, and still may pass, the last one first"`
	}
}

type addCodeInput struct{ Body standing.CodeBody }

type codeOutput struct{ Body Code }

func (s *server) registerCodes(api huma.API) {
	huma.Register(api, operation("getCodes", http.MethodGet, "/codes", "Codes", "Codes that open held pages, and who has come past a hold"), s.codes)
	add := operation("addCode", http.MethodPost, "/codes", "Codes", "Make a code that opens held pages; this answer alone has its text", 422)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, s.addCode)
	huma.Register(api, operation("endCode", http.MethodDelete, "/codes/{id}", "Codes", "End a code now; what it has opened stays open until its time is over", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if _, err := s.Passages.EndCode(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("endPassage", http.MethodDelete, "/passages/{id}", "Codes", "End now what somebody has acknowledged or opened with a code", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Passages.EndPassage(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

func codeBody(c standing.Code) Code {
	return Code{ID: c.ID, CodeBody: c.CodeBody, Name: c.Name(), Used: c.Used, MadeAt: c.MadeAt, MadeBy: c.MadeBy}
}

func (s *server) codes(ctx context.Context, _ *struct{}) (*codesOutput, error) {
	out := &codesOutput{}
	out.Body.Codes, out.Body.Passages = []Code{}, []Passage{}
	codes, err := s.Passages.Codes(ctx, s.Now())
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	seen, err := s.bounds(ctx, access.ReadRequests)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	for _, c := range codes {
		if c.Used < c.Uses && (seen.all || c.MadeBy == actor(ctx).Name() || c.For != nil && seen.hasAll(c.For)) {
			out.Body.Codes = append(out.Body.Codes, codeBody(c))
		}
	}
	if err := s.nameAskers(ctx, out.Body.Codes); err != nil {
		return nil, s.problem(ctx, err)
	}
	passages, err := s.Passages.Passages(ctx, s.Now())
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	passages = slices.DeleteFunc(passages, func(p standing.Passage) bool { return !seen.has(p.Person, uuid.Nil, p.Address) })
	var ids []uuid.UUID
	for i := range passages {
		ids = append(ids, passages[i].Person)
	}
	names, err := s.Objects.Names(ctx, ids)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	for _, p := range passages {
		body := Passage{ID: p.ID, How: "acknowledged", Entries: texts(p.Entries), Categories: p.Categories, From: p.From, Until: p.Until, Reference: p.Reference}
		if p.Code != uuid.Nil {
			body.How, body.Code = "code", &p.Code
		}
		if p.Person != uuid.Nil {
			body.Person = &Ref{ID: p.Person, Name: names[p.Person]}
		}
		if p.Address.IsValid() {
			body.Address = p.Address.String()
		}
		out.Body.Passages = append(out.Body.Passages, body)
	}
	return out, nil
}

func texts(entries []pattern.Entry) []string {
	all := make([]string, len(entries))
	for i, e := range entries {
		all[i] = e.String()
	}
	return all
}

func (s *server) addCode(ctx context.Context, in *addCodeInput) (*codeOutput, error) {
	if err := in.Body.Check(s.Now()); err != nil {
		return nil, s.problem(ctx, err)
	}
	names, err := s.naming(ctx)
	if err != nil {
		return nil, err
	}
	for i, key := range in.Body.Categories {
		_, category := names.Category(key)
		if _, family := names.Family(key); !category && !family {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("categories[%d]", i), Msg: fmt.Sprintf("there is no category or family %q", key)})
		}
	}
	if in.Body.For != nil {
		live, err := s.inForce(ctx, "", "live")
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		d := live.Snapshot.Config().Directory
		for i, p := range in.Body.For.Persons {
			if d.Person(p.ID.String()) < 0 {
				return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("for.persons[%d]", i), Msg: "what is live has no such person: publish them first"})
			}
		}
		for i, g := range in.Body.For.Groups {
			if d.Group(g.ID.String()) < 0 {
				return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("for.groups[%d]", i), Msg: "what is live has no such group: publish it first"})
			}
		}
	}
	text := standing.NewCode()
	made, err := s.Passages.AddCode(ctx, in.Body, standing.HashCode(text), actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies := []Code{codeBody(made)}
	if err := s.nameAskers(ctx, bodies); err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies[0].Text = text
	return &codeOutput{bodies[0]}, nil
}

// nameAskers fills in the names of those whom codes are for.
func (s *server) nameAskers(ctx context.Context, codes []Code) error {
	var refs []*Ref
	for i := range codes {
		if whom := codes[i].For; whom != nil {
			for _, of := range [][]Ref{whom.Persons, whom.Groups} {
				for n := range of {
					refs = append(refs, &of[n])
				}
			}
		}
	}
	names, err := s.Objects.Names(ctx, idsOf(refs))
	for _, ref := range refs {
		ref.Name = names[ref.ID]
	}
	return err
}

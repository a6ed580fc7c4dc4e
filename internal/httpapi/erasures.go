package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
)

// Eraser erases what is recorded of people.
type Eraser interface {
	// EraseRecords erases what is recorded of a person, and returns how many records that were.
	EraseRecords(ctx context.Context, person uuid.UUID, names bool, reason string, by access.Actor) (int64, error)
}

type eraseInput struct {
	Body struct {
		Person string `json:"person" minLength:"1" maxLength:"120" doc:"The id, or what the person is or was called"`
		Names  bool   `json:"names,omitempty" doc:"Erase what the person was called in past states of the draft, too; the person must be in the draft no more"`
		Reason string `json:"reason" minLength:"1" maxLength:"2000" doc:"Who asked for it; it stands in the audit log"`
	}
}

type eraseOutput struct {
	Body struct {
		Person  uuid.UUID `json:"person" format:"uuid"`
		Records int64     `json:"records" doc:"That were erased"`
	}
}

func (s *server) registerErasures(api huma.API) {
	erase := operation("erasePerson", http.MethodPost, "/erasures", "Journal", "Erase what is recorded of a person: records, requests, minutes, presences, what alerts found. Revisions and the audit log stay", 404, 422)
	erase.Metadata = anyLength
	huma.Register(api, erase, func(ctx context.Context, in *eraseInput) (*eraseOutput, error) {
		reason, err := revision.CheckReason(in.Body.Reason)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		id, err := uuid.Parse(in.Body.Person)
		if err != nil {
			if id, err = s.somebody(ctx, in.Body.Person); err != nil {
				return nil, s.problem(ctx, err)
			}
		}
		out := &eraseOutput{}
		out.Body.Person = id
		if out.Body.Records, err = s.Eraser.EraseRecords(ctx, id, in.Body.Names, reason, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
}

// somebody returns the id of a person by what the person is called, or was.
func (s *server) somebody(ctx context.Context, name string) (uuid.UUID, error) {
	if strings.Contains(name, "*") {
		return uuid.Nil, &revision.FieldError{Field: "person", Msg: "one person is wanted, by the whole name"}
	}
	ids, err := s.Called.Called(ctx, query.People, name)
	switch {
	case err != nil:
		return uuid.Nil, err
	case len(ids) == 0:
		return uuid.Nil, &revision.FieldError{Field: "person", Msg: fmt.Sprintf("nobody is called %q, or was", name)}
	case len(ids) > 1:
		said := make([]string, len(ids))
		for i, id := range ids {
			said[i] = id.String()
		}
		return uuid.Nil, &revision.FieldError{Field: "person", Msg: fmt.Sprintf("%d people are called %q, or were: give the id of one, %s", len(ids), name, strings.Join(said, " or "))}
	}
	return ids[0], nil
}

package httpapi

import (
	"context"
	"encoding/base64"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/revision"
)

// List is a list without its entries.
type List struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Name        string    `json:"name"`
	Description string    `json:"description"`
	Colour      string    `json:"colour" enum:",reed,heather,rust,slate,gorse,sky,plum,sand" doc:"A name of an ink; empty for none"`
	Owner       string    `json:"owner" doc:"Who answers for the list, in their own words; may be empty"`
	ForStints   bool      `json:"forStints,omitempty" doc:"Leads may put their groups on it"`
	EntryCount  int64     `json:"entryCount" doc:"Notes not counted"`
	NoteCount   int64     `json:"noteCount" doc:"Lines that are a note alone"`
	Version     int64     `json:"version" doc:"Rises with every edit; the ETag holds it"`
	CreatedAt   time.Time `json:"createdAt"`
	UpdatedAt   time.Time `json:"updatedAt"`
	UpdatedBy   string    `json:"updatedBy" doc:"The sign-in name of who edited it last"`
	UsedBy      []string  `json:"usedBy" doc:"The names of the policies whose rules name the list"`
}

type listOutput struct {
	ETag string `header:"ETag"`
	Body List
}

func listBody(l revision.List) *listOutput { return &listOutput{etag(l.Version), List(l)} }

type listsInput struct {
	Name  string `query:"name" doc:"Only the list of this name, letter case aside"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"500"`
}

type listsOutput struct {
	Body struct {
		Lists []List `json:"lists" doc:"By name"`
		Next  string `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type newListInput struct {
	Body struct {
		Name        string `json:"name" minLength:"1" maxLength:"80"`
		Description string `json:"description,omitempty" maxLength:"2000"`
		Colour      string `json:"colour,omitempty" enum:",reed,heather,rust,slate,gorse,sky,plum,sand"`
		Owner       string `json:"owner,omitempty" maxLength:"80"`
		ForStints   bool   `json:"forStints,omitempty" doc:"Leads may put their groups on it"`
	}
}

type editListInput struct {
	ByID
	MustMatch
	Body struct {
		Name        *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		Description *string `json:"description,omitempty" maxLength:"2000"`
		Colour      *string `json:"colour,omitempty" enum:",reed,heather,rust,slate,gorse,sky,plum,sand" doc:"Empty takes it away"`
		Owner       *string `json:"owner,omitempty" maxLength:"80" doc:"Empty takes it away"`
		ForStints   *bool   `json:"forStints,omitempty" doc:"Leads may put their groups on it"`
	}
}

type deleteListInput struct {
	ByID
	MustMatch
}

func (s *server) registerLists(api huma.API) {
	huma.Register(api, operation("getLists", http.MethodGet, "/lists", "Lists", "Lists by name, page by page", 422),
		func(ctx context.Context, in *listsInput) (*listsOutput, error) {
			out := &listsOutput{}
			out.Body.Lists = []List{}
			found, err := s.findLists(ctx, in)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			if len(found) > in.Limit {
				found = found[:in.Limit]
				out.Body.Next = base64.RawURLEncoding.EncodeToString([]byte(found[in.Limit-1].Name))
			}
			for _, l := range found {
				out.Body.Lists = append(out.Body.Lists, List(l))
			}
			return out, nil
		})

	create := operation("createList", http.MethodPost, "/lists", "Lists", "Make a list", 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, func(ctx context.Context, in *newListInput) (*listOutput, error) {
		edit, err := revision.ListEdit{
			Name: &in.Body.Name, Description: &in.Body.Description, Colour: &in.Body.Colour, Owner: &in.Body.Owner, ForStints: &in.Body.ForStints,
		}.Checked()
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		l, err := s.Store.AddList(ctx, edit, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return listBody(l), nil
	})
	huma.Register(api, operation("getList", http.MethodGet, "/lists/{id}", "Lists", "One list", 404),
		func(ctx context.Context, in *ByID) (*listOutput, error) {
			l, err := s.Store.List(ctx, in.ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return listBody(l), nil
		})
	huma.Register(api, operation("editList", http.MethodPatch, "/lists/{id}", "Lists", "Rename, describe or mark a list", 404, 412, 422, 428),
		func(ctx context.Context, in *editListInput) (*listOutput, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			edit, err := revision.ListEdit(in.Body).Checked()
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			l, err := s.Store.EditList(ctx, in.ID, edit, version, actor(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return listBody(l), nil
		})
	huma.Register(api, operation("deleteList", http.MethodDelete, "/lists/{id}", "Lists", "Delete a list that no rule names", 404, 409, 412, 428),
		func(ctx context.Context, in *deleteListInput) (*struct{}, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := s.Store.RemoveList(ctx, in.ID, version, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

// findLists returns up to one list more than a page holds, so that the caller knows whether there is another page.
func (s *server) findLists(ctx context.Context, in *listsInput) ([]revision.List, error) {
	if in.Name != "" {
		l, err := s.Store.ListByName(ctx, in.Name)
		if errors.Is(err, revision.ErrNotFound) {
			return nil, nil
		}
		return []revision.List{l}, err
	}
	after, err := base64.RawURLEncoding.DecodeString(in.After)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The page cannot be found.",
			&huma.ErrorDetail{Message: "no cursor of ours", Location: "query.after"})
	}
	return s.Store.Lists(ctx, string(after), in.Limit+1)
}

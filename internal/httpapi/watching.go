package httpapi

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/revision"
	"widelark/internal/watch"
)

// WatchMeta is what all that is set up around the journal has.
type WatchMeta struct {
	ID        uuid.UUID `json:"id" format:"uuid"`
	Name      string    `json:"name"`
	Owner     string    `json:"owner" doc:"Who made it"`
	Version   int64     `json:"version"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
}

func metaOf(i watch.Item) WatchMeta {
	return WatchMeta{i.ID, i.Name, i.Owner, i.Version, i.UpdatedAt, i.UpdatedBy}
}

// watched describes a kind of what is set up: T is how it is answered, I how it is given.
type watched[T, I any] struct {
	kind              watch.Kind
	path              string
	tag               string
	one, many         string // as parts of the names of operations
	article, articles string
	take              func(ctx context.Context, in *I, before *watch.Item) (watch.Item, error) // checks; before is nil for a new one
	make              func(ctx context.Context, i watch.Item) (T, error)
}

type watchedOutput[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

type watchedListOutput[T any] struct {
	Body struct {
		Items []T `json:"items" doc:"By name"`
	}
}

type newWatchedInput[I any] struct{ Body I }

type putWatchedInput[I any] struct {
	ByID
	MayMatch
	Body I
}

type removeWatchedInput struct {
	ByID
	MayMatch
}

func registerWatched[T, I any](s *server, api huma.API, w watched[T, I]) {
	answer := func(ctx context.Context, i watch.Item, err error) (*watchedOutput[T], error) {
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		body, err := w.make(ctx, i)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return &watchedOutput[T]{etag(i.Version), body}, nil
	}
	visible := func(ctx context.Context, id uuid.UUID) (watch.Item, error) {
		i, err := s.Watching.WatchItem(ctx, w.kind, id)
		if err == nil && i.Kind == watch.Search && !i.Shared && i.Owner != actor(ctx).Name() {
			err = revision.ErrNotFound
		}
		return i, err
	}
	huma.Register(api, operation("get"+w.many, http.MethodGet, w.path, w.tag, capital(w.articles)), func(ctx context.Context, _ *struct{}) (*watchedListOutput[T], error) {
		found, err := s.Watching.WatchItems(ctx, w.kind, actor(ctx).Name())
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &watchedListOutput[T]{}
		out.Body.Items = []T{}
		for _, i := range found {
			body, err := w.make(ctx, i)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out.Body.Items = append(out.Body.Items, body)
		}
		return out, nil
	})
	huma.Register(api, operation("get"+w.one, http.MethodGet, w.path+"/{id}", w.tag, capital(w.article), 404), func(ctx context.Context, in *ByID) (*watchedOutput[T], error) {
		i, err := visible(ctx, in.ID)
		return answer(ctx, i, err)
	})
	add := operation("add"+w.one, http.MethodPost, w.path, w.tag, "Add "+w.article, 422)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, func(ctx context.Context, in *newWatchedInput[I]) (*watchedOutput[T], error) {
		i, err := w.take(ctx, &in.Body, nil)
		if err == nil {
			i.Kind = w.kind
			i, err = s.Watching.PutWatchItem(ctx, i, 0, actor(ctx))
		}
		return answer(ctx, i, err)
	})
	huma.Register(api, operation("put"+w.one, http.MethodPut, w.path+"/{id}", w.tag, "Make "+w.article+" as it is given, whole", 404, 412, 422), func(ctx context.Context, in *putWatchedInput[I]) (*watchedOutput[T], error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		before, err := visible(ctx, in.ID)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		i, err := w.take(ctx, &in.Body, &before)
		if err == nil {
			i.Kind, i.ID = w.kind, in.ID
			i, err = s.Watching.PutWatchItem(ctx, i, version, actor(ctx))
		}
		return answer(ctx, i, err)
	})
	huma.Register(api, operation("remove"+w.one, http.MethodDelete, w.path+"/{id}", w.tag, "Remove "+w.article, 404, 412), func(ctx context.Context, in *removeWatchedInput) (*struct{}, error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		if _, err := visible(ctx, in.ID); err != nil {
			return nil, s.problem(ctx, err)
		}
		if err := s.Watching.RemoveWatchItem(ctx, w.kind, in.ID, version, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
		return nil, nil
	})
}

// packed returns an item of a name and a body.
func packed(name string, body any) (watch.Item, error) {
	name, err := revision.CheckName("name", name)
	if err != nil {
		return watch.Item{}, err
	}
	raw, err := json.Marshal(body)
	return watch.Item{Name: name, Body: raw}, err
}

// bodyOf reads the body of an item.
func bodyOf[B any](i watch.Item) (b B, err error) { return b, json.Unmarshal(i.Body, &b) }

// SavedSearch is a search that somebody keeps.
type SavedSearch struct {
	WatchMeta
	watch.SearchBody
	Mine bool `json:"mine"`
}

// SavedSearchInput is a new state of a search.
type SavedSearchInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	watch.SearchBody
}

func (s *server) registerSearches(api huma.API) {
	registerWatched(s, api, watched[SavedSearch, SavedSearchInput]{
		kind: watch.Search, path: "/searches", tag: "Journal", one: "Search", many: "Searches", article: "a search that is kept", articles: "searches that are kept: one's own, and those that are shared",
		take: func(ctx context.Context, in *SavedSearchInput, _ *watch.Item) (watch.Item, error) {
			if _, _, err := s.searchAt(ctx, "query", in.Query); err != nil {
				return watch.Item{}, err
			}
			i, err := packed(in.Name, in.SearchBody)
			i.Shared = in.Shared
			return i, err
		},
		make: func(ctx context.Context, i watch.Item) (SavedSearch, error) {
			b, err := bodyOf[watch.SearchBody](i)
			return SavedSearch{metaOf(i), b, i.Owner == actor(ctx).Name()}, err
		},
	})
}

// Forward is a place that records are sent on to.
type Forward struct {
	WatchMeta
	watch.ForwardBody
	Sent    int64      `json:"sent" doc:"Records"`
	SentAt  *time.Time `json:"sentAt,omitempty" doc:"When the last ones were taken"`
	Behind  int64      `json:"behind" doc:"Batches of records that have come since"`
	Problem string     `json:"problem,omitempty" doc:"Why the last try failed"`
}

// ForwardInput is a new state of a place that records are sent on to.
type ForwardInput struct {
	Name string `json:"name" minLength:"1" maxLength:"80"`
	watch.ForwardBody
}

func (s *server) registerForwards(api huma.API) {
	registerWatched(s, api, watched[Forward, ForwardInput]{
		kind: watch.Forward, path: "/forwards", tag: "Journal", one: "Forward", many: "Forwards", article: "a place that records are sent on to", articles: "places that records are sent on to",
		take: func(ctx context.Context, in *ForwardInput, _ *watch.Item) (watch.Item, error) {
			if err := in.Check(); err != nil {
				return watch.Item{}, err
			}
			if _, _, err := s.searchAt(ctx, "query", in.Query); err != nil {
				return watch.Item{}, err
			}
			i, err := packed(in.Name, in.ForwardBody)
			now := s.Now()
			i.NextAt = &now
			return i, err
		},
		make: func(ctx context.Context, i watch.Item) (Forward, error) {
			b, err := bodyOf[watch.ForwardBody](i)
			if err != nil {
				return Forward{}, err
			}
			state, err := s.Forwards.Forwarded(ctx, i.ID)
			return Forward{metaOf(i), b, state.Sent, state.At, state.Behind, state.Problem}, err
		},
	})
}

// Delivery is a message that was sent, or is to be sent.
type Delivery struct {
	ID      uuid.UUID  `json:"id" format:"uuid"`
	How     string     `json:"how" enum:"mail,hook"`
	To      string     `json:"to"`
	Subject string     `json:"subject"`
	MadeAt  time.Time  `json:"madeAt"`
	State   string     `json:"state" enum:"waiting,delivered,given up"`
	DoneAt  *time.Time `json:"doneAt,omitempty"`
	Tries   int        `json:"tries"`
	Problem string     `json:"problem,omitempty" doc:"Why the last try failed"`
}

// deliveries returns the last messages about something.
func (s *server) deliveries(ctx context.Context, about uuid.UUID) ([]Delivery, error) {
	const most = 20
	found, err := s.Outbox.Messages(ctx, about, most)
	if err != nil {
		return nil, err
	}
	all := make([]Delivery, len(found))
	for i, m := range found {
		state := "waiting"
		switch {
		case m.DoneAt != nil:
			state = "delivered"
		case m.GaveUp:
			state = "given up"
		}
		all[i] = Delivery{m.ID, string(m.How), m.To, m.Subject, m.MadeAt, state, m.DoneAt, m.Tries, m.Problem}
	}
	return all, nil
}

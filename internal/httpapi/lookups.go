package httpapi

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/weburl"
	"widelark/internal/edition"
	"widelark/internal/lookup"
	"widelark/internal/revision"
)

type lookupsInput struct {
	Body struct {
		URLs   []string     `json:"urls" minItems:"1" maxItems:"10000" doc:"As a person types them or a log has them; without a scheme https is meant"`
		Sight  weburl.Sight `json:"sight,omitempty" enum:"name,tunnel,full" doc:"What can be seen of the request; left out, everything"`
		Detail bool         `json:"detail,omitempty" doc:"Also tell what the places above are, and what the packs said before; for 100 URLs at most"`
	}
}

// maxDetailed bounds how many URLs are looked up with detail.
const maxDetailed = 100

type lookupsOutput struct {
	Body struct {
		Lookups []Lookup `json:"lookups" doc:"In the order of the URLs"`
	}
}

// Lookup is the classification of a URL.
type Lookup struct {
	Input      string      `json:"input" doc:"The URL as given"`
	Problem    string      `json:"problem,omitempty" doc:"Why the input is not a URL; the other fields are left out then"`
	URL        string      `json:"url,omitempty" doc:"The canonical URL"`
	Class      *Class      `json:"class,omitempty"`
	Neighbours []Neighbour `json:"neighbours,omitempty" doc:"From the registrable domain to the page"`
	Past       []Past      `json:"past,omitempty" doc:"What packs said of it before, the newest first"`
}

// Class is the categories of a URL, and their source.
type Class struct {
	Categories []CategoryRef   `json:"categories" doc:"None where it is unrated"`
	By         classify.Source `json:"by" enum:",correction,own category,catalogue,scorecard" doc:"Who says what it is; empty where nobody does"`
	Given      []Given         `json:"given" doc:"The statements that count"`
	Overruled  []Given         `json:"overruled" doc:"What was said, and does not count beside what is given"`
	Unclear    []Given         `json:"unclear" doc:"At a lesser sight: the first 100 that could say otherwise"`
	Scores     []Score         `json:"scores" doc:"Scorecards with a word in the URL"`
}

// CategoryRef is a category as answers name it.
type CategoryRef struct {
	Key      string `json:"key"`
	Name     string `json:"name"`
	Family   string `json:"family" doc:"The name of its family"`
	Security bool   `json:"security"`
}

// Given is a statement about a URL, with its source.
type Given struct {
	Source     classify.Source `json:"source" enum:"correction,own category,catalogue"`
	Categories []CategoryRef   `json:"categories"`
	Entry      EntryRef        `json:"entry"`
	List       *ListRef        `json:"list,omitempty" doc:"own category: the list that holds the entry"`
	Pack       *PackRef        `json:"pack,omitempty" doc:"catalogue: the pack"`
}

// PackRef is a pack as answers name it.
type PackRef struct {
	ID      uuid.UUID `json:"id" format:"uuid"`
	Name    string    `json:"name"`
	Version int64     `json:"version" doc:"As the pack says"`
}

// Score is the total of a scorecard.
type Score struct {
	ID        uuid.UUID   `json:"id" format:"uuid"`
	Name      string      `json:"name"`
	Category  CategoryRef `json:"category"`
	Threshold int         `json:"threshold"`
	Total     int         `json:"total"`
	Reached   bool        `json:"reached"`
	Terms     []Term      `json:"terms" doc:"The words that count"`
}

// Term is a word with its points.
type Term struct {
	Word   string `json:"word" maxLength:"200" doc:"As the notation has words, without the quotation marks: whole words unless a star says otherwise"`
	Points int    `json:"points" minimum:"-10000" maximum:"10000" doc:"Below nothing where the word speaks against the category"`
}

// Neighbour is a place above a page, with its categories.
type Neighbour struct {
	URL        string          `json:"url"`
	Categories []CategoryRef   `json:"categories"`
	By         classify.Source `json:"by" enum:",correction,own category,catalogue,scorecard"`
	Entry      string          `json:"entry" doc:"The entry that gives the categories"`
}

// Past is a pack's statement about a URL from a moment on.
type Past struct {
	Pack       string        `json:"pack"`
	Version    int64         `json:"version"`
	From       time.Time     `json:"from"`
	Categories []CategoryRef `json:"categories" doc:"None where the pack did not know it"`
	Entry      string        `json:"entry"`
}

// ScorecardBody is a scorecard.
type ScorecardBody struct {
	ID        uuid.UUID `json:"id" format:"uuid"`
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Category  string    `json:"category" doc:"The key of a category"`
	Threshold int       `json:"threshold"`
	Terms     []Term    `json:"terms"`
	Off       bool      `json:"off"`
	Version   int64     `json:"version"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
}

type scorecardsOutput struct {
	Body struct {
		Scorecards []ScorecardBody `json:"scorecards" doc:"By name"`
	}
}

type scorecardOutput struct {
	ETag string `header:"ETag"`
	Body ScorecardBody
}

type newScorecardInput struct {
	Body struct {
		Name      string `json:"name" minLength:"1" maxLength:"80"`
		About     string `json:"about,omitempty" maxLength:"2000"`
		Category  string `json:"category" doc:"The key of the category that it gives"`
		Threshold int    `json:"threshold" minimum:"1" maximum:"10000"`
		Terms     []Term `json:"terms" maxItems:"5000"`
		Off       bool   `json:"off,omitempty"`
	}
}

type editScorecardInput struct {
	ByID
	MustMatch
	Body struct {
		Name      *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		About     *string `json:"about,omitempty" maxLength:"2000"`
		Category  *string `json:"category,omitempty"`
		Threshold *int    `json:"threshold,omitempty" minimum:"1" maximum:"10000"`
		Terms     *[]Term `json:"terms,omitempty" maxItems:"5000"`
		Off       *bool   `json:"off,omitempty"`
	}
}

type scoreInput struct {
	Body struct {
		Text      string `json:"text" maxLength:"1000000" doc:"The text of a page, or a URL"`
		Threshold *int   `json:"threshold,omitempty" minimum:"1" maximum:"10000" doc:"With terms: score with these instead of the scorecards that are kept"`
		Terms     []Term `json:"terms,omitempty" maxItems:"5000"`
	}
}

type scoreOutput struct {
	Body struct {
		IsURL  bool    `json:"isUrl" doc:"The text was scored as a URL: over host, path and decoded query"`
		Scores []Score `json:"scores" doc:"Every scorecard, by name; with terms, that one alone"`
	}
}

func (s *server) registerLookups(api huma.API) {
	look := operation("lookupUrls", http.MethodPost, "/lookups", "Lookups", "What these URLs are, and who says so", 422)
	look.MaxBodyBytes = 32 << 20
	huma.Register(api, look, s.lookupURLs)

	huma.Register(api, operation("getScorecards", http.MethodGet, "/scorecards", "Scorecards", "Every scorecard"),
		func(ctx context.Context, _ *struct{}) (*scorecardsOutput, error) {
			found, err := s.Categories.Scorecards(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &scorecardsOutput{}
			out.Body.Scorecards = []ScorecardBody{}
			for _, c := range found {
				out.Body.Scorecards = append(out.Body.Scorecards, scorecardBody(c))
			}
			return out, nil
		})
	create := operation("createScorecard", http.MethodPost, "/scorecards", "Scorecards", "Make a scorecard", 422)
	create.DefaultStatus = http.StatusCreated
	create.MaxBodyBytes = 4 << 20
	huma.Register(api, create, func(ctx context.Context, in *newScorecardInput) (*scorecardOutput, error) {
		b := in.Body
		terms := termsOf(b.Terms)
		edit, err := s.checkedScorecard(ctx, revision.ScorecardEdit{Name: &b.Name, Description: &b.About, Category: &b.Category, Threshold: &b.Threshold, Terms: &terms, Off: &b.Off})
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		made, err := s.Categories.AddScorecard(ctx, edit, actor(ctx))
		return s.scorecardAnswer(ctx, made, err)
	})
	change := operation("editScorecard", http.MethodPatch, "/scorecards/{id}", "Scorecards", "Edit a scorecard; its words are replaced whole", 404, 412, 422, 428)
	change.MaxBodyBytes = 4 << 20
	huma.Register(api, change, func(ctx context.Context, in *editScorecardInput) (*scorecardOutput, error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		b := in.Body
		edit := revision.ScorecardEdit{Name: b.Name, Description: b.About, Category: b.Category, Threshold: b.Threshold, Off: b.Off}
		if b.Terms != nil {
			terms := termsOf(*b.Terms)
			edit.Terms = &terms
		}
		if edit, err = s.checkedScorecard(ctx, edit); err != nil {
			return nil, s.problem(ctx, err)
		}
		edited, err := s.Categories.EditScorecard(ctx, in.ID, edit, version, actor(ctx))
		return s.scorecardAnswer(ctx, edited, err)
	})
	huma.Register(api, operation("deleteScorecard", http.MethodDelete, "/scorecards/{id}", "Scorecards", "Delete a scorecard", 404, 412, 428),
		func(ctx context.Context, in *deleteVersionedInput) (*struct{}, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := s.Categories.RemoveScorecard(ctx, in.ID, version, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			s.Checks.Prepare(ctx)
			return nil, nil
		})
	score := operation("scoreText", http.MethodPost, "/scorecards/score", "Scorecards", "What a text or a URL scores, word by word", 422)
	score.MaxBodyBytes = 4 << 20
	huma.Register(api, score, s.scoreText)
}

func (s *server) checkedScorecard(ctx context.Context, edit revision.ScorecardEdit) (revision.ScorecardEdit, error) {
	if edit.Category != nil {
		err := s.checkCategories(ctx, "category", []string{*edit.Category})
		var field *revision.FieldError
		if errors.As(err, &field) {
			field.Field = "category" // there is only one
		}
		if err != nil {
			return edit, err
		}
	}
	return edit.Checked()
}

func termsOf(terms []Term) []revision.Term {
	all := make([]revision.Term, len(terms))
	for i, t := range terms {
		all[i] = revision.Term(t)
	}
	return all
}

func scorecardBody(c revision.Scorecard) ScorecardBody {
	body := ScorecardBody{c.ID, c.Name, c.Description, c.Category, c.Threshold, make([]Term, len(c.Terms)), c.Off, c.Version, c.UpdatedAt, c.UpdatedBy}
	for i, t := range c.Terms {
		body.Terms[i] = Term(t)
	}
	return body
}

func (s *server) scorecardAnswer(ctx context.Context, c revision.Scorecard, err error) (*scorecardOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Checks.Prepare(ctx)
	return &scorecardOutput{etag(c.Version), scorecardBody(c)}, nil
}

// naming finds the names of categories by their keys.
type naming struct{ classify.Taxonomy }

func (n naming) ref(key string) CategoryRef {
	category, ok := n.Category(key)
	if !ok {
		return CategoryRef{Key: key, Name: key}
	}
	family, _ := n.Family(category.Family)
	return CategoryRef{key, category.Name, family.Name, family.Security}
}

func (n naming) refs(keys []string) []CategoryRef {
	refs := make([]CategoryRef, len(keys))
	for i, key := range keys {
		refs[i] = n.ref(key)
	}
	return refs
}

func (s *server) naming(ctx context.Context) (naming, error) {
	taxonomy, _, err := s.Finder.Taxonomy(ctx)
	if err != nil {
		return naming{}, s.problem(ctx, err)
	}
	return naming{taxonomy}, nil
}

func (n naming) class(a classify.Answer) *Class {
	class := &Class{Categories: n.refs(a.Categories), By: a.By, Given: n.given(a.Given), Overruled: n.given(a.Overruled), Scores: []Score{}}
	class.Unclear = n.given(a.Unclear[:min(len(a.Unclear), maxUnclear)])
	for _, score := range a.Scores {
		if len(score.Terms) > 0 {
			class.Scores = append(class.Scores, n.score(score))
		}
	}
	return class
}

func (n naming) score(s classify.Score) Score {
	id, _ := uuid.Parse(s.ID) // terms that are only tried have none
	score := Score{id, s.Name, n.ref(s.Category), s.Threshold, s.Total, s.Reached(), []Term{}}
	for _, t := range s.Terms {
		word := t.Word.String()
		score.Terms = append(score.Terms, Term{word[1 : len(word)-1], t.Points})
	}
	return score
}

func (n naming) given(all []classify.Given) []Given {
	given := make([]Given, len(all))
	for i, g := range all {
		given[i] = Given{Source: g.Source, Categories: n.refs(g.Categories), Entry: entryRef(g.Entry)}
		switch g.Source {
		case classify.ByOwn:
			list := listRef(g.List)
			given[i].List = &list
		case classify.ByCatalogue:
			given[i].Pack = &PackRef{uuid.MustParse(g.Pack), g.PackName, g.Version}
		}
	}
	return given
}

func (s *server) lookupURLs(ctx context.Context, in *lookupsInput) (*lookupsOutput, error) {
	if in.Body.Detail && len(in.Body.URLs) > maxDetailed {
		return nil, s.problem(ctx, &revision.FieldError{Field: "detail", Msg: "detail is for 100 URLs at most"})
	}
	names, err := s.naming(ctx)
	if err != nil {
		return nil, err
	}
	sight := in.Body.Sight
	if sight == "" {
		sight = weburl.Full
	}
	found, err := s.Finder.Lookup(ctx, in.Body.URLs, sight, in.Body.Detail)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &lookupsOutput{}
	out.Body.Lookups = make([]Lookup, len(found))
	for i, f := range found {
		out.Body.Lookups[i] = names.lookup(f)
	}
	return out, nil
}

func (n naming) lookup(f lookup.Found) Lookup {
	if f.Problem != "" {
		return Lookup{Input: f.Input, Problem: f.Problem}
	}
	l := Lookup{Input: f.Input, URL: f.URL.String(), Class: n.class(f.Answer)}
	for _, above := range f.Neighbours {
		neighbour := Neighbour{URL: above.URL.String(), Categories: n.refs(above.Answer.Categories), By: above.Answer.By}
		if len(above.Answer.Given) > 0 {
			neighbour.Entry = above.Answer.Given[0].Entry.Pattern.String()
		}
		l.Neighbours = append(l.Neighbours, neighbour)
	}
	for _, past := range f.Past {
		l.Past = append(l.Past, Past{past.PackName, past.Version, past.From, n.refs(past.Categories), past.Entry})
	}
	return l
}

func (s *server) scoreText(ctx context.Context, in *scoreInput) (*scoreOutput, error) {
	names, err := s.naming(ctx)
	if err != nil {
		return nil, err
	}
	cards, err := s.Categories.Scorecards(ctx)
	if in.Body.Terms != nil {
		threshold := 100
		if in.Body.Threshold != nil {
			threshold = *in.Body.Threshold
		}
		terms := termsOf(in.Body.Terms)
		var edit revision.ScorecardEdit
		edit, err = revision.ScorecardEdit{Threshold: &threshold, Terms: &terms}.Checked()
		if err == nil {
			cards = []revision.Scorecard{{Name: "what is typed", Threshold: threshold, Terms: *edit.Terms}}
		}
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &scoreOutput{}
	out.Body.Scores = []Score{}
	for _, c := range cards {
		card, err := edition.Card(c)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		score, isURL := lookup.Score(card, in.Body.Text)
		out.Body.IsURL = isURL
		out.Body.Scores = append(out.Body.Scores, names.score(score))
	}
	return out, nil
}

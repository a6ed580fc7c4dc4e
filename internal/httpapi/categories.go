package httpapi

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/internal/lookup"
	"widelark/internal/revision"
	"widelark/spreadsheet"
)

// Traffic counts recorded traffic.
type Traffic struct {
	Requests int64 `json:"requests"`
	Hosts    int64 `json:"hosts"`
}

// Family is a class of categories.
type Family struct {
	Key      string  `json:"key" doc:"Stays when the name changes"`
	Name     string  `json:"name"`
	About    string  `json:"about"`
	Security bool    `json:"security" doc:"Its categories are dangers, not contents"`
	Traffic  Traffic `json:"traffic"`
}

// Category is a class of sites.
type Category struct {
	Key      string       `json:"key" doc:"Stays when the name changes"`
	Family   string       `json:"family" doc:"The key of its family"`
	Name     string       `json:"name"`
	About    string       `json:"about"`
	Keywords []string     `json:"keywords"`
	Example  string       `json:"example,omitempty" doc:"A host that is in it"`
	Sites    int64        `json:"sites" doc:"Entries of the catalogue"`
	Traffic  Traffic      `json:"traffic"`
	Own      *OwnCategory `json:"own,omitempty" doc:"Where it is a category of our own"`
}

// OwnCategory is what a category of our own is made of.
type OwnCategory struct {
	ID        uuid.UUID `json:"id" format:"uuid"`
	Lists     []ListRef `json:"lists"`
	Adds      bool      `json:"adds" doc:"To what the catalogue says, instead of standing in its place"`
	Version   int64     `json:"version"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
}

type categoriesInput struct {
	Text string `query:"text" maxLength:"200" doc:"Only categories that this leads to, by name, keyword or description, the likeliest first"`
}

type categoriesOutput struct {
	Body struct {
		Families   []Family   `json:"families"`
		Categories []Category `json:"categories" doc:"In the order of their families or, for a text, the likeliest first"`
		Total      Traffic    `json:"total" doc:"All recorded traffic"`
		Unrated    Traffic    `json:"unrated" doc:"Traffic without a category"`
	}
}

type categorySitesInput struct {
	Key   string `path:"key" doc:"The key of a category, or of a family for all that is in it"`
	Text  string `query:"text" maxLength:"200" doc:"Only entries that hold this"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

// CategorySite is an entry of the catalogue.
type CategorySite struct {
	Entry      string   `json:"entry"`
	Categories []string `json:"categories" doc:"Keys"`
	Pack       string   `json:"pack" doc:"The name of the pack that says so"`
}

type categorySitesOutput struct {
	Body struct {
		Sites []CategorySite `json:"sites"`
		Next  string         `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type ownCategoryOutput struct {
	ETag string `header:"ETag"`
	Body Category
}

type newCategoryInput struct {
	Body struct {
		Name   string      `json:"name" minLength:"1" maxLength:"80" doc:"The key is made from it, and stays"`
		About  string      `json:"about,omitempty" maxLength:"2000"`
		Family string      `json:"family,omitempty" maxLength:"40" doc:"The key of a family of the catalogue; left out, a family of our own"`
		Lists  []uuid.UUID `json:"lists" format:"uuid" minItems:"1" maxItems:"100" doc:"What is in any of them is in the category"`
		Adds   bool        `json:"adds,omitempty" doc:"Add to what the catalogue says, instead of standing in its place"`
	}
}

type editCategoryInput struct {
	ByID
	MustMatch
	Body struct {
		Name   *string      `json:"name,omitempty" minLength:"1" maxLength:"80"`
		About  *string      `json:"about,omitempty" maxLength:"2000"`
		Family *string      `json:"family,omitempty" maxLength:"40" doc:"Empty is the family of our own"`
		Lists  *[]uuid.UUID `json:"lists,omitempty" format:"uuid" maxItems:"100"`
		Adds   *bool        `json:"adds,omitempty"`
	}
}

type deleteVersionedInput struct {
	ByID
	MustMatch
}

// Correction says that what an entry covers has certain categories.
type Correction struct {
	ID         int64     `json:"id"`
	Entry      string    `json:"entry"`
	Explain    string    `json:"explain"`
	Categories []string  `json:"categories" doc:"Keys"`
	Reason     string    `json:"reason"`
	At         time.Time `json:"at"`
	By         string    `json:"by"`
	Catalogue  []string  `json:"catalogue" doc:"What the catalogue says of the same place by now; none where it does not know it"`
	Agreed     bool      `json:"agreed" doc:"The catalogue says the same: the correction is no longer needed"`
}

type correctionsInput struct {
	Text  string `query:"text" maxLength:"200" doc:"Only corrections that mention this in entry, categories or reason"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type correctionsOutput struct {
	Body struct {
		Corrections []Correction `json:"corrections"`
		Total       int64        `json:"total"`
		Next        string       `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type correctInput struct {
	Body struct {
		Entries    []string `json:"entries" minItems:"1" maxItems:"1000" doc:"In the notation, or URLs as they stand in an address bar. A correction that is there for one is replaced"`
		Categories []string `json:"categories" minItems:"1" maxItems:"20" doc:"Keys"`
		Reason     string   `json:"reason" minLength:"1" maxLength:"2000"`
	}
}

type correctOutput struct {
	Body struct {
		Corrections []Correction `json:"corrections"`
	}
}

type correctionInput struct {
	ID int64 `path:"id"`
}

// Unrated is a host that was asked for and has no category.
type Unrated struct {
	Host     string `json:"host"`
	Requests int64  `json:"requests"`
	Pages    int64  `json:"pages"`
}

type unratedInput struct {
	Limit int `query:"limit" default:"100" minimum:"1" maximum:"10000"`
}

type unratedOutput struct {
	Body struct {
		Hosts   []Unrated `json:"hosts" doc:"The most asked for first"`
		Unrated Traffic   `json:"unrated"`
		Total   Traffic   `json:"total"`
	}
}

func (s *server) registerCategories(api huma.API) {
	huma.Register(api, operation("getCategories", http.MethodGet, "/categories", "Categories", "Families and categories, with how many sites and how much traffic they have"), s.getCategories)
	huma.Register(api, operation("getCategorySites", http.MethodGet, "/categories/{key}/sites", "Categories", "What the catalogue has in a category or family, by entry", 404), s.getCategorySites)
	create := operation("createCategory", http.MethodPost, "/categories", "Categories", "Make a category of our own from lists", 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, s.createCategory)
	huma.Register(api, operation("editCategory", http.MethodPatch, "/categories/{id}", "Categories", "Edit a category of our own", 404, 412, 422, 428), s.editCategory)
	huma.Register(api, operation("deleteCategory", http.MethodDelete, "/categories/{id}", "Categories", "Delete a category of our own; its lists stay", 404, 412, 428),
		func(ctx context.Context, in *deleteVersionedInput) (*struct{}, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := s.Categories.RemoveOwnCategory(ctx, in.ID, version, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			s.Checks.Prepare(ctx)
			return nil, nil
		})

	huma.Register(api, operation("getCorrections", http.MethodGet, "/corrections", "Categories", "Corrections, in the order in which they were made", 422), s.getCorrections)
	correct := operation("correct", http.MethodPost, "/corrections", "Categories", "Say which categories sites, hosts or pages have, whatever the catalogue says", 422)
	correct.MaxBodyBytes = 4 << 20
	huma.Register(api, correct, s.correct)
	huma.Register(api, operation("removeCorrection", http.MethodDelete, "/corrections/{id}", "Categories", "Take a correction back", 404),
		func(ctx context.Context, in *correctionInput) (*struct{}, error) {
			if err := s.Categories.RemoveCorrection(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			s.Checks.Prepare(ctx)
			return nil, nil
		})
	export := operation("exportCorrections", http.MethodGet, "/corrections/export", "Categories", "All corrections as a CSV file that can be sent to whoever keeps the pack, and that a pack can be built from")
	export.Metadata = anyLength
	export.Responses = map[string]*huma.Response{"200": {
		Description: "A line a correction, with the columns entry, categories, reason, by, on, catalogue", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}}
	huma.Register(api, export, s.exportCorrections)
	huma.Register(api, operation("getUnrated", http.MethodGet, "/unrated", "Categories", "Hosts of the recorded traffic of which nothing says what they are"), s.getUnrated)
}

func (s *server) getCategories(ctx context.Context, in *categoriesInput) (*categoriesOutput, error) {
	taxonomy, own, err := s.Finder.Taxonomy(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	survey, err := s.Finder.Survey(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &categoriesOutput{}
	out.Body.Families, out.Body.Categories = []Family{}, []Category{}
	for _, f := range taxonomy.Families {
		out.Body.Families = append(out.Body.Families, Family{f.Key, f.Name, f.About, f.Security, Traffic(survey.Families[f.Key])})
	}
	categories := taxonomy.Categories
	if strings.TrimSpace(in.Text) != "" {
		categories = taxonomy.Find(in.Text)
	}
	for _, c := range categories {
		out.Body.Categories = append(out.Body.Categories, s.categoryBody(c, own, survey))
	}
	out.Body.Total, out.Body.Unrated = Traffic(survey.Total), unratedTraffic(survey)
	return out, nil
}

func unratedTraffic(survey *lookup.Survey) Traffic {
	t := Traffic{Hosts: int64(len(survey.Unrated))}
	for _, host := range survey.Unrated {
		t.Requests += host.Requests
	}
	return t
}

func (s *server) categoryBody(c classify.Category, own []revision.OwnCategory, survey *lookup.Survey) Category {
	body := Category{
		Key: c.Key, Family: c.Family, Name: c.Name, About: c.About, Keywords: append([]string{}, c.Keywords...), Example: c.Example,
		Sites: s.Cache.Loaded().Sites[c.Key], Traffic: Traffic(survey.Categories[c.Key]),
	}
	for _, o := range own {
		if o.Key == c.Key {
			body.Own = &OwnCategory{o.ID, listRefs(o.Lists), o.Adds, o.Version, o.UpdatedAt, o.UpdatedBy}
		}
	}
	return body
}

func listRefs(lists []revision.ListRef) []ListRef {
	refs := make([]ListRef, len(lists))
	for i, l := range lists {
		refs[i] = ListRef(l)
	}
	return refs
}

func (s *server) getCategorySites(ctx context.Context, in *categorySitesInput) (*categorySitesOutput, error) {
	taxonomy, _, err := s.Finder.Taxonomy(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var keys []string
	for _, c := range taxonomy.Categories {
		if c.Key == in.Key || c.Family == in.Key {
			keys = append(keys, c.Key)
		}
	}
	if keys == nil {
		return nil, s.problem(ctx, revision.ErrNotFound)
	}
	found, err := s.Packs.Sites(ctx, keys, in.Text, in.After, in.Limit+1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	packs, err := s.packNames(ctx)
	if err != nil {
		return nil, err
	}
	out := &categorySitesOutput{}
	out.Body.Sites = []CategorySite{}
	if len(found) > in.Limit {
		found = found[:in.Limit]
		out.Body.Next = found[in.Limit-1].Entry
	}
	for _, site := range found {
		out.Body.Sites = append(out.Body.Sites, CategorySite{site.Entry, strings.Fields(site.Categories), packs[site.Pack]})
	}
	return out, nil
}

func (s *server) packNames(ctx context.Context) (map[uuid.UUID]string, error) {
	packs, err := s.Packs.Packs(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	names := map[uuid.UUID]string{}
	for _, p := range packs {
		names[p.ID] = p.Name
	}
	return names, nil
}

func (s *server) createCategory(ctx context.Context, in *newCategoryInput) (*ownCategoryOutput, error) {
	b := in.Body
	edit, err := revision.OwnCategoryEdit{Name: &b.Name, Description: &b.About, Family: &b.Family, Lists: &b.Lists, Adds: &b.Adds}.Checked()
	if err == nil {
		err = s.checkFamily(b.Family)
	}
	if _, known := s.Cache.Loaded().Taxonomy.Category(revision.KeyOf(b.Name)); err == nil && known {
		err = &revision.FieldError{Field: "name", Msg: "the catalogue has a category of this name; choose another"}
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	made, err := s.Categories.AddOwnCategory(ctx, edit, actor(ctx))
	return s.ownCategoryBody(ctx, made, err)
}

func (s *server) checkFamily(key string) error {
	if _, known := s.Cache.Loaded().Taxonomy.Family(key); key != "" && key != lookup.OwnFamily.Key && !known {
		return &revision.FieldError{Field: "family", Msg: fmt.Sprintf("there is no family %q", key)}
	}
	return nil
}

func (s *server) editCategory(ctx context.Context, in *editCategoryInput) (*ownCategoryOutput, error) {
	version, err := in.version()
	if err != nil {
		return nil, err
	}
	b := in.Body
	edit, err := revision.OwnCategoryEdit{Name: b.Name, Description: b.About, Family: b.Family, Lists: b.Lists, Adds: b.Adds}.Checked()
	if err == nil && b.Family != nil {
		err = s.checkFamily(*b.Family)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	edited, err := s.Categories.EditOwnCategory(ctx, in.ID, edit, version, actor(ctx))
	return s.ownCategoryBody(ctx, edited, err)
}

func (s *server) ownCategoryBody(ctx context.Context, o revision.OwnCategory, err error) (*ownCategoryOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Checks.Prepare(ctx)
	taxonomy, own, err := s.Finder.Taxonomy(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	survey, err := s.Finder.Survey(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	category, _ := taxonomy.Category(o.Key)
	return &ownCategoryOutput{etag(o.Version), s.categoryBody(category, own, survey)}, nil
}

func correctionBody(c lookup.Corrected) Correction {
	return Correction{
		ID: c.ID, Entry: c.Entry.String(), Explain: pattern.Explain(pattern.Entry{Pattern: c.Entry}), Categories: c.Categories, Reason: c.Reason,
		At: c.At, By: c.By, Catalogue: append([]string{}, c.Catalogue...), Agreed: c.Agreed,
	}
}

func (s *server) getCorrections(ctx context.Context, in *correctionsInput) (*correctionsOutput, error) {
	after, err := cursor(in.After)
	if err != nil {
		return nil, err
	}
	found, total, err := s.Finder.Corrections(ctx, in.Text, after, in.Limit+1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &correctionsOutput{}
	out.Body.Corrections, out.Body.Total = []Correction{}, total
	if len(found) > in.Limit {
		found = found[:in.Limit]
		out.Body.Next = strconv.FormatInt(found[in.Limit-1].ID, 10)
	}
	for _, c := range found {
		out.Body.Corrections = append(out.Body.Corrections, correctionBody(c))
	}
	return out, nil
}

func (s *server) correct(ctx context.Context, in *correctInput) (*correctOutput, error) {
	var entries []pattern.Pattern
	for i, text := range in.Body.Entries {
		entry, err := correctedPlace(text)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("entries[%d]", i), Msg: err.Error()})
		}
		entries = append(entries, entry)
	}
	reason, err := revision.CheckReason(in.Body.Reason)
	if err == nil {
		err = s.checkCategories(ctx, "categories", in.Body.Categories)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	made, err := s.Categories.AddCorrections(ctx, entries, strings.Fields(classify.SetID(in.Body.Categories)), reason, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Checks.Prepare(ctx)
	out := &correctOutput{}
	for _, c := range made {
		out.Body.Corrections = append(out.Body.Corrections, correctionBody(lookup.Corrected{Correction: c}))
	}
	return out, nil
}

// correctedPlace reads the place that a correction is about: an entry, or a URL copied from an address bar.
func correctedPlace(text string) (pattern.Pattern, error) {
	line := pattern.ReadLine(1, text, pattern.Mending)
	switch {
	case line.Err != nil:
		return pattern.Pattern{}, line.Err
	case len(line.Entries) != 1 || !line.Entries[0].Pattern.IsValid():
		return pattern.Pattern{}, fmt.Errorf("one entry is wanted")
	case line.Entries[0].CarveOut || line.Entries[0].Off || !line.Entries[0].Until.IsZero():
		return pattern.Pattern{}, fmt.Errorf("a correction holds until it is taken back; carve-outs, ends and switches are for lists")
	}
	return line.Entries[0].Pattern, nil
}

func (s *server) checkCategories(ctx context.Context, field string, keys []string) error {
	taxonomy, _, err := s.Finder.Taxonomy(ctx)
	if err != nil {
		return err
	}
	for i, key := range keys {
		if _, known := taxonomy.Category(key); !known {
			msg := fmt.Sprintf("there is no category %q", key)
			if near := taxonomy.Find(key); len(near) > 0 {
				msg += fmt.Sprintf("; did you mean %q?", near[0].Key)
			}
			return &revision.FieldError{Field: fmt.Sprintf("%s[%d]", field, i), Msg: msg}
		}
	}
	return nil
}

func (s *server) exportCorrections(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	var file bytes.Buffer
	w := csv.NewWriter(&file)
	_ = w.Write([]string{"entry", "categories", "reason", "by", "on", "catalogue"})
	for after := int64(0); ; {
		found, _, err := s.Finder.Corrections(ctx, "", after, 1000)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		if len(found) == 0 {
			break
		}
		for _, c := range found {
			after = c.ID
			_ = w.Write(spreadsheet.SafeRow([]string{c.Entry.String(), strings.Join(c.Categories, " "), c.Reason, c.By, c.At.UTC().Format(time.DateOnly), strings.Join(c.Catalogue, " ")}))
		}
	}
	w.Flush() // a buffer takes everything
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hctx.SetHeader("Content-Disposition", `attachment; filename="corrections.csv"`)
		_, _ = hctx.BodyWriter().Write(file.Bytes())
	}}, nil
}

func (s *server) getUnrated(ctx context.Context, in *unratedInput) (*unratedOutput, error) {
	survey, err := s.Finder.Survey(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &unratedOutput{}
	out.Body.Hosts = []Unrated{}
	for _, host := range survey.Unrated[:min(in.Limit, len(survey.Unrated))] {
		out.Body.Hosts = append(out.Body.Hosts, Unrated(host))
	}
	out.Body.Total, out.Body.Unrated = Traffic(survey.Total), unratedTraffic(survey)
	return out, nil
}

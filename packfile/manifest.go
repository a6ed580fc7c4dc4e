// Package packfile reads and writes packs of category data: signed files that say which sites are in which categories. docs/guide/packs.md describes
// the format for anybody who wants to make a pack.
//
// From: a taxonomy and sites; or the bytes of a pack.
// To: the bytes of a pack; or sites, one by one, checked against the maker's signature.
//
// A pack is a sealed container (see package sealed) that holds taxonomy.json and sites.csv, in this order, so that each site can be checked as it
// is read.
package packfile

import (
	"encoding/json"
	"time"

	"widelark/core/classify"
	"widelark/sealed"
)

// Format is the version of the format that this package writes, and the only one that it reads.
const Format = 1

// The names of the files in a pack.
const (
	taxonomyName = "taxonomy.json"
	sitesName    = "sites.csv"
)

// Extension is the extension of the names of pack files.
const Extension = ".larkpack"

// maxTaxonomy bounds the taxonomy, in bytes: some hundred times what a pack of sixty categories takes.
const maxTaxonomy = 8 << 20

// noun is the word for such a container in messages.
const noun = "pack"

// Content is the signed content of a pack's manifest.
type Content struct {
	Format  int                    `json:"format"`
	Key     string                 `json:"key"`  // names the pack for good; see [classify.ValidKey]
	Name    string                 `json:"name"` // for people
	Version int64                  `json:"version"`
	Base    int64                  `json:"base,omitempty"` // a delta: the version that it changes; 0 for a whole pack
	Date    time.Time              `json:"date"`
	Licence string                 `json:"licence"`
	Sites   int64                  `json:"sites"` // the number of sites, after the changes of a delta
	Files   map[string]sealed.File `json:"files"` // taxonomy.json and sites.csv
}

// Error describes a fault of a pack.
type Error = sealed.Error

func wrong(part, format string, args ...any) error { return sealed.Wrong(part, format, args...) }

// taxonomy is taxonomy.json.
type taxonomy struct {
	Families   []family   `json:"families"`
	Categories []category `json:"categories"`
}

type family struct {
	Key      string `json:"key"`
	Name     string `json:"name"`
	About    string `json:"about"`
	Security bool   `json:"security,omitempty"`
}

type category struct {
	Key      string   `json:"key"`
	Family   string   `json:"family"`
	Name     string   `json:"name"`
	About    string   `json:"about"`
	Keywords []string `json:"keywords,omitempty"`
	Example  string   `json:"example,omitempty"`
}

// MarshalTaxonomy returns a taxonomy in the form of taxonomy.json.
func MarshalTaxonomy(t classify.Taxonomy) ([]byte, error) {
	out := taxonomy{Families: []family{}, Categories: []category{}}
	for _, f := range t.Families {
		out.Families = append(out.Families, family(f))
	}
	for _, c := range t.Categories {
		out.Categories = append(out.Categories, category(c))
	}
	return json.MarshalIndent(out, "", "  ")
}

// UnmarshalTaxonomy reads and checks a taxonomy in the form that [MarshalTaxonomy] writes. Errors are [*Error].
func UnmarshalTaxonomy(text []byte) (classify.Taxonomy, error) {
	var in taxonomy
	if err := json.Unmarshal(text, &in); err != nil {
		return classify.Taxonomy{}, wrong(taxonomyName, "no taxonomy: %s", err)
	}
	var t classify.Taxonomy
	for _, f := range in.Families {
		t.Families = append(t.Families, classify.Family(f))
	}
	for _, c := range in.Categories {
		t.Categories = append(t.Categories, classify.Category(c))
	}
	if err := t.Check(); err != nil {
		return t, wrong(taxonomyName, "%s", err)
	}
	return t, nil
}

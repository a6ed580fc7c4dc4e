// Package packfile reads and writes packs of category data: one file that says which sites are in which categories, and who
// vouches for that. docs/guide/packs.md describes the format for whoever wants to make one.
//
// From: a taxonomy and sites; or the bytes of a pack.
// To: the bytes of a pack; or sites, one by one, that are known to be those that the maker signed.
//
// A pack is a tar archive (POSIX.1-2001) compressed with zstd (RFC 8878). It holds manifest.json, taxonomy.json and sites.csv, in this
// order, so that it can be checked as it is read.
package packfile

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"time"

	"widelark/core/classify"
)

// Format is the version of the format that this package writes, and the only one that it reads.
const Format = 1

// The names of the files in a pack.
const (
	manifestName = "manifest.json"
	taxonomyName = "taxonomy.json"
	sitesName    = "sites.csv"
)

// Extension is what pack files are called.
const Extension = ".larkpack"

// Limits on what is read before the signature is known to be good, and on the taxonomy. They are some hundred times what a pack of
// sixty categories takes.
const (
	maxManifest = 1 << 20
	maxTaxonomy = 8 << 20
)

// Content is what the maker of a pack vouches for.
type Content struct {
	Format  int             `json:"format"`
	Key     string          `json:"key"`  // names the pack for good; see [classify.ValidKey]
	Name    string          `json:"name"` // for people
	Version int64           `json:"version"`
	Base    int64           `json:"base,omitempty"` // a delta: the version that it changes; 0 for a whole pack
	Date    time.Time       `json:"date"`
	Licence string          `json:"licence"`
	Sites   int64           `json:"sites"` // how many there are, after the changes of a delta
	Files   map[string]File `json:"files"` // taxonomy.json and sites.csv
}

// File is what is known of a file in a pack before it is read.
type File struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // in hexadecimal digits
}

// manifest is manifest.json. The signature is over the bytes of content as they stand there.
type manifest struct {
	Content   json.RawMessage `json:"content"`
	Signature *signature      `json:"signature,omitempty"`
}

type signature struct {
	Key     string `json:"key"`     // the public key, base64
	Ed25519 string `json:"ed25519"` // RFC 8032, base64
}

// Error says what is wrong with a pack.
type Error struct {
	Part string // the file in the pack, with a line where there is one, as "sites.csv, line 7"; "" for the pack itself
	Msg  string // one clause, lower case, no final dot

	cause error // of reading; nil where what was read is wrong
}

// Error returns the message with the part before it.
func (e *Error) Error() string {
	if e.Part == "" {
		return e.Msg
	}
	return e.Part + ": " + e.Msg
}

// Unwrap returns what the reading of the pack ended with, for callers that know the source's own errors.
func (e *Error) Unwrap() error { return e.cause }

func wrong(part, format string, args ...any) error {
	return &Error{Part: part, Msg: fmt.Sprintf(format, args...)}
}

// KeyText writes a public key as manifests, settings and people have it: 44 characters of base64.
func KeyText(key ed25519.PublicKey) string { return base64.StdEncoding.EncodeToString(key) }

// ParseKey reads what [KeyText] writes.
func ParseKey(text string) (ed25519.PublicKey, error) {
	key, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("a public key is 44 characters of base64, as `widelark pack key` prints it")
	}
	return key, nil
}

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

// MarshalTaxonomy writes a taxonomy as taxonomy.json has it.
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

// UnmarshalTaxonomy reads what [MarshalTaxonomy] writes and checks it. Errors are [*Error].
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

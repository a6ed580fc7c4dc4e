// Package configfile writes the whole configuration as files for version control, and reads them: YAML, one file for each kind of object, and
// lists as text in the notation. Names identify objects; the files hold no ids. Writing a configuration that was read gives the same bytes.
//
// From: the objects and entries of the draft.
// To: files by path, and back to a [revision.Target].
package configfile

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"gopkg.in/yaml.v3"

	"widelark/internal/revision"
)

// The files of the kinds in the order in which they are read: a kind comes after the kinds that it refers to.
var kinds = []struct {
	path string
	kind revision.Kind
	new  func() any // returns the value that one object of the file is read into
}{
	{"lists.yaml", revision.KindList, func() any { return &List{} }},
	{"schedules.yaml", revision.KindSchedule, func() any { return &Schedule{} }},
	{"categories.yaml", revision.KindCategory, func() any { return &Category{} }},
	{"corrections.yaml", revision.KindCorrection, func() any { return &Correction{} }},
	{"scorecards.yaml", revision.KindScorecard, func() any { return &Scorecard{} }},
	{"apps.yaml", revision.KindApp, func() any { return &named[revision.AppBody]{} }},
	{"engines.yaml", revision.KindEngine, func() any { return &named[revision.EngineBody]{} }},
	{"networks.yaml", revision.KindNetwork, func() any { return &named[revision.NetworkBody]{} }},
	{"machines.yaml", revision.KindMachine, func() any { return &named[revision.MachineBody]{} }},
	{"groups.yaml", revision.KindGroup, func() any { return &named[revision.GroupBody]{} }},
	{"people.yaml", revision.KindPerson, func() any { return &named[revision.PersonBody]{} }},
	{"policies.yaml", revision.KindPolicy, func() any { return &named[revision.PolicyBody]{} }},
	{"exceptions.yaml", revision.KindException, func() any { return &named[revision.ExceptionBody]{} }},
	{"expectations.yaml", revision.KindExpectation, func() any { return &named[revision.ExpectationBody]{} }},
	{"settings.yaml", revision.KindSettings, func() any { return &revision.SettingsBody{} }},
}

// named is an object with its name and the body of its kind.
type named[B any] struct {
	Name string `json:"name"`
	Body B      `json:",inline"`
}

// List is a list without its entries, which have a file of their own.
type List struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Colour      string `json:"colour,omitempty" enum:"reed,heather,rust,slate,gorse,sky,plum,sand"`
	Owner       string `json:"owner,omitempty"`
	ForStints   bool   `json:"forStints,omitempty"`
	Entries     string `json:"entries" doc:"The path of the file with its entries, one a line in the notation"`
}

// Schedule is a schedule.
type Schedule struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Zone        string `json:"zone" doc:"An IANA time zone"`
	Text        string `json:"text" doc:"In the notation of schedules"`
}

// Category is a category that the organisation made.
type Category struct {
	Name        string   `json:"name"`
	Key         string   `json:"key,omitempty" doc:"Left out, it is made from the name"`
	Description string   `json:"description,omitempty"`
	Family      string   `json:"family,omitempty"`
	Adds        bool     `json:"adds,omitempty"`
	Lists       []string `json:"lists"`
}

// Correction gives categories to everything that an entry covers.
type Correction struct {
	Entry      string   `json:"entry"`
	Categories []string `json:"categories"`
	Reason     string   `json:"reason"`
	At         string   `json:"at,omitempty" doc:"When it was said (RFC 3339): of equally specific corrections the last one counts. Left out, as it was, or now"`
}

// Scorecard is words with points.
type Scorecard struct {
	Name        string          `json:"name"`
	Description string          `json:"description,omitempty"`
	Category    string          `json:"category"`
	Threshold   int             `json:"threshold"`
	Terms       []revision.Term `json:"terms"`
	Off         bool            `json:"off,omitempty"`
}

// Source provides the configuration to be written.
type Source struct {
	Objects []revision.Object                                      // of all kinds
	Names   map[uuid.UUID]string                                   // the names of everything that objects refer to
	Lists   func(id uuid.UUID, each func(line string) error) error // the lines of a list
}

// Write returns the files by path. The same configuration gives the same bytes.
func Write(s Source) (map[string]string, error) {
	files := map[string]string{SchemaPath: Schema()}
	of := map[revision.Kind][]revision.Object{}
	for _, o := range s.Objects {
		if o.Directory == uuid.Nil { // the others are edited elsewhere
			of[o.Kind] = append(of[o.Kind], o)
		}
	}
	paths := map[string]bool{}
	for _, k := range kinds {
		objects := of[k.kind]
		slices.SortFunc(objects, func(a, b revision.Object) int {
			return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Name, b.Name))
		})
		var items []any
		for _, o := range objects {
			var body map[string]any
			decoder := json.NewDecoder(bytes.NewReader(o.Body))
			decoder.UseNumber()
			if err := decoder.Decode(&body); err != nil {
				return nil, fmt.Errorf("the %s %q cannot be read any more: %w", o.Kind, o.Name, err)
			}
			if k.kind == revision.KindList {
				path := listPath(o.Name, paths)
				text, err := listText(s, o.ID)
				if err != nil {
					return nil, err
				}
				files[path] = text
				body["entries"], body["forStints"] = path, body["for_stints"]
				delete(body, "for_stints")
			}
			if k.kind != revision.KindSettings && k.kind != revision.KindCorrection {
				body["name"] = o.Name
			}
			items = append(items, s.plain(body))
		}
		var content any = items
		if k.kind == revision.KindSettings {
			if len(items) != 1 {
				continue
			}
			content = items[0]
		}
		if len(items) == 0 {
			continue
		}
		text, err := write(content, k.new())
		if err != nil {
			return nil, err
		}
		files[k.path] = text
	}
	return files, nil
}

// listPath makes a path for a list's file from the list's name, different from the paths of all other lists.
func listPath(name string, taken map[string]bool) string {
	slug := revision.KeyOf(name)
	if slug == "" {
		slug = "list"
	}
	for n := 1; ; n++ {
		path := "lists/" + slug + ".txt"
		if n > 1 {
			path = fmt.Sprintf("lists/%s-%d.txt", slug, n)
		}
		if !taken[path] {
			taken[path] = true
			return path
		}
	}
}

func listText(s Source, id uuid.UUID) (string, error) {
	var b strings.Builder
	err := s.Lists(id, func(line string) error {
		b.WriteString(line)
		b.WriteByte('\n')
		return nil
	})
	return b.String(), err
}

// plain replaces references by names.
func (s Source) plain(value any) any {
	switch v := value.(type) {
	case map[string]any:
		if id, ok := v["id"].(string); ok && len(v) <= 2 {
			if parsed, err := uuid.Parse(id); err == nil {
				return s.Names[parsed]
			}
		}
		plain := map[string]any{}
		for key, one := range v {
			plain[key] = s.plain(one)
		}
		return plain
	case []any:
		plain := make([]any, len(v))
		for i, one := range v {
			plain[i] = s.plain(one)
			if id, ok := one.(string); ok && len(id) == 36 { // a category refers to its lists by plain ids
				if parsed, err := uuid.Parse(id); err == nil {
					plain[i] = s.Names[parsed]
				}
			}
		}
		return plain
	}
	return value
}

// write writes a value as YAML, its fields in the order of the Go type that it is read into. It leaves out empty fields and fields that the type
// lacks.
func write(value, like any) (string, error) {
	node := node(value, shapeOf(like))
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	if err := enc.Encode(node); err != nil {
		return "", err
	}
	return b.String(), enc.Close()
}

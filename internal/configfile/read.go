package configfile

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gopkg.in/yaml.v3"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/internal/revision"
)

// Known is the present configuration: an object in the files takes the id of the present object of its name. People and groups of directories can be named, and are not in files.
type Known struct {
	Objects []revision.Object
}

// reading is the state of one call of Read.
type reading struct {
	files  map[string]string
	target revision.Target
	errs   []error
	ids    map[revision.Kind]map[string]uuid.UUID // by name in lower case
	bodies map[uuid.UUID]map[string]any           // of the present objects
	rules  map[uuid.UUID][]revision.RuleBody      // of the present policies
	at     []placed
	others map[revision.Kind]map[string]uuid.UUID // of directories, by name in lower case
}

// placed is an object with its place in the files.
type placed struct {
	index int // in target.Objects
	path  string
	node  *yaml.Node
	body  revision.Body // nil for kinds with a table of their own
	refs  func() error  // for those kinds: replaces names by ids
}

// maxErrors is the largest number of errors that one call reports.
const maxErrors = 50

// Read reads files into the target state of the draft. It reports all errors together, each an [*Error] with its place.
func Read(files map[string]string, known Known) (revision.Target, error) {
	r := &reading{files: files, ids: map[revision.Kind]map[string]uuid.UUID{}, bodies: map[uuid.UUID]map[string]any{}, rules: map[uuid.UUID][]revision.RuleBody{}, target: revision.Target{Entries: map[uuid.UUID][]pattern.Entry{}}, others: map[revision.Kind]map[string]uuid.UUID{}}
	for _, o := range known.Objects {
		if o.Directory != uuid.Nil {
			if r.others[o.Kind] == nil {
				r.others[o.Kind] = map[string]uuid.UUID{}
			}
			r.others[o.Kind][strings.ToLower(o.Name)] = o.ID
			continue
		}
		if r.ids[o.Kind] == nil {
			r.ids[o.Kind] = map[string]uuid.UUID{}
		}
		r.ids[o.Kind][strings.ToLower(o.Name)] = o.ID
		var body map[string]any
		decoder := json.NewDecoder(strings.NewReader(string(o.Body)))
		decoder.UseNumber()
		if decoder.Decode(&body) == nil {
			r.bodies[o.ID] = body
		}
		if before, err := revision.Decode[revision.PolicyBody](o); o.Kind == revision.KindPolicy && err == nil {
			r.rules[o.ID] = before.Rules
		}
	}
	here := map[string]bool{SchemaPath: true}
	for _, k := range kinds {
		here[k.path] = true
		if text, ok := files[k.path]; ok {
			r.file(k.path, k.kind, text, k.new)
		}
	}
	for _, path := range sortedKeys(files) {
		if !here[path] && !strings.HasPrefix(path, "lists/") && !strings.HasPrefix(path, ".") && strings.HasSuffix(path, ".yaml") {
			r.wrong(path, nil, "no such file belongs here; there are %s", strings.Join(paths(), ", "))
		}
	}
	if _, ok := files["settings.yaml"]; !ok {
		r.wrong("settings.yaml", nil, "the file is missing; is this the folder of an export?")
	}
	if len(r.errs) > 0 {
		return r.target, errors.Join(r.errs...)
	}
	r.resolve()
	return r.target, errors.Join(r.errs...)
}

func paths() []string {
	var all []string
	for _, k := range kinds {
		all = append(all, k.path)
	}
	return all
}

func sortedKeys(files map[string]string) []string {
	var all []string
	for path := range files {
		all = append(all, path)
	}
	slices.Sort(all)
	return all
}

func (r *reading) wrong(path string, n *yaml.Node, format string, args ...any) {
	if len(r.errs) < maxErrors {
		e := &Error{Path: path, Msg: fmt.Sprintf(format, args...)}
		if n != nil {
			e.Line, e.Column = n.Line, n.Column
		}
		r.errs = append(r.errs, e)
	}
}

// id returns the id of an object by its name: that of the present object, or else a new id.
func (r *reading) id(kind revision.Kind, name string) uuid.UUID {
	if r.ids[kind] == nil {
		r.ids[kind] = map[string]uuid.UUID{}
	}
	id, ok := r.ids[kind][strings.ToLower(name)]
	if !ok {
		id = uuid.New()
		r.ids[kind][strings.ToLower(name)] = id
	}
	return id
}

func (r *reading) file(path string, kind revision.Kind, text string, like func() any) {
	var doc yaml.Node
	if err := yaml.NewDecoder(strings.NewReader(text)).Decode(&doc); errors.Is(err, io.EOF) {
		return
	} else if err != nil {
		r.wrong(path, nil, "%s", strings.TrimPrefix(err.Error(), "yaml: "))
		return
	}
	root := doc.Content[0]
	s := shapeOf(like())
	if kind == revision.KindSettings {
		r.object(path, kind, root, s)
		return
	}
	if root.Kind != yaml.SequenceNode {
		r.wrong(path, root, "a list of objects is wanted: lines that begin with a dash")
		return
	}
	names := map[string]int{}
	for _, n := range root.Content {
		before := len(r.errs)
		r.object(path, kind, n, s)
		if len(r.errs) > before {
			continue
		}
		o := r.target.Objects[len(r.target.Objects)-1]
		key := strings.ToLower(o.Name)
		if line, ok := names[key]; ok {
			r.wrong(path, n, "%q stands in line %d already", o.Name, line)
		}
		names[key] = n.Line
	}
}

// object reads one object.
func (r *reading) object(path string, kind revision.Kind, n *yaml.Node, s *shape) {
	before := len(r.errs)
	s.check(n, "", func(at *yaml.Node, format string, args ...any) { r.wrong(path, at, format, args...) })
	if len(r.errs) > before {
		return
	}
	value := s.value(n).(map[string]any)
	name, _ := value["name"].(string)
	fail := func(err error) bool {
		if err != nil {
			at := n
			var field *revision.FieldError
			msg := err.Error()
			if errors.As(err, &field) {
				at, msg = find(n, field.Field), err.Error()
			}
			r.wrong(path, at, "%s", msg)
		}
		return err != nil
	}
	switch kind {
	case revision.KindSettings:
		name = "Settings"
	case revision.KindCorrection:
		name, _ = value["entry"].(string)
	default:
		if _, err := revision.CheckName("name", name); fail(err) {
			return
		}
	}
	o := revision.Object{Kind: kind}
	o.Name = strings.TrimSpace(name)
	if _, others := r.others[kind][strings.ToLower(o.Name)]; others {
		r.wrong(path, find(n, "name"), "the %s %q is from a directory, and is edited there", kind, o.Name)
		return
	}
	one := placed{path: path, node: n, index: len(r.target.Objects)}
	switch kind {
	case revision.KindList, revision.KindSchedule, revision.KindCategory, revision.KindScorecard, revision.KindCorrection:
		body, refs, err := r.row(path, kind, value, &o)
		if fail(err) {
			return
		}
		one.refs = func() error {
			if refs != nil {
				if err := refs(); err != nil {
					return err
				}
			}
			text, err := json.Marshal(body)
			r.target.Objects[one.index].Body = text
			return err
		}
	default:
		delete(value, "name")
		text, err := json.Marshal(value)
		if fail(err) {
			return
		}
		o.ID = r.id(kind, o.Name)
		o.Body = text
		if one.body, err = o.Decoded(); fail(err) {
			return
		}
	}
	r.target.Objects = append(r.target.Objects, o)
	r.at = append(r.at, one)
}

// find returns the node of a field path such as rules[0].if.lists[1], or the nearest node above it that exists.
func find(n *yaml.Node, path string) *yaml.Node {
	for part := range strings.FieldsFuncSeq(path, func(c rune) bool { return c == '.' || c == '[' || c == ']' }) {
		var next *yaml.Node
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == part {
					next = n.Content[i+1]
				}
			}
		case yaml.SequenceNode:
			var i int
			if _, err := fmt.Sscan(part, &i); err == nil && i >= 0 && i < len(n.Content) {
				next = n.Content[i]
			}
		}
		if next == nil {
			return n
		}
		n = next
	}
	return n
}

func text(value map[string]any, field string) string {
	s, _ := value[field].(string)
	return s
}

func texts(value map[string]any, field string) []string {
	all := []string{}
	items, _ := value[field].([]any)
	for _, one := range items {
		all = append(all, one.(string))
	}
	return all
}

// row returns the state of an object that has a table of its own, in the form of its columns. Columns that the files do not hold keep their present
// values.
func (r *reading) row(path string, kind revision.Kind, value map[string]any, o *revision.Object) (body map[string]any, refs func() error, err error) {
	description := text(value, "description")
	edit := revision.ListEdit{Name: &o.Name, Description: &description}
	body = map[string]any{"name": o.Name, "description": description}
	switch kind {
	case revision.KindList:
		colour, owner := text(value, "colour"), text(value, "owner")
		edit.Colour, edit.Owner = &colour, &owner
		if _, err := edit.Checked(); err != nil {
			return nil, nil, err
		}
		body["colour"], body["owner"] = colour, owner
		body["for_stints"], _ = value["forStints"].(bool)
		o.ID = r.id(kind, o.Name)
		if err := r.entries(o.ID, text(value, "entries")); err != nil {
			return nil, nil, err
		}
	case revision.KindSchedule:
		zone, hours := text(value, "zone"), text(value, "text")
		checked, err := revision.ScheduleEdit{Name: &o.Name, Description: &description, Zone: &zone, Text: &hours}.Checked()
		if err != nil {
			return nil, nil, err
		}
		body["zone"], body["text"] = zone, *checked.Text
		o.ID = r.id(kind, o.Name)
	case revision.KindCategory:
		if _, err := edit.Checked(); err != nil {
			return nil, nil, err
		}
		key := text(value, "key")
		if key == "" {
			key = revision.KeyOf(o.Name)
		}
		if !classify.ValidKey(key) {
			return nil, nil, &revision.FieldError{Field: "key", Msg: fmt.Sprintf("%q is not a key: letters a to z, digits and hyphens", key)}
		}
		o.ID = r.id(kind, o.Name)
		body["key"], body["family"], body["adds"] = key, text(value, "family"), value["adds"] == true
		lists := texts(value, "lists")
		if len(lists) == 0 {
			return nil, nil, &revision.FieldError{Field: "lists", Msg: "a category without lists has no members: name at least one"}
		}
		refs = func() error {
			ids := []string{}
			for i, name := range lists {
				id, ok := r.here(revision.KindList, name)
				if !ok {
					return &revision.FieldError{Field: fmt.Sprintf("lists[%d]", i), Msg: fmt.Sprintf("there is no list %q", name)}
				}
				ids = append(ids, id.String())
			}
			body["lists"] = ids
			return nil
		}
	case revision.KindScorecard:
		terms := []revision.Term{}
		raw, _ := json.Marshal(value["terms"])
		if err := json.Unmarshal(raw, &terms); err != nil {
			return nil, nil, &revision.FieldError{Field: "terms", Msg: err.Error()}
		}
		var threshold int
		if _, err := fmt.Sscan(fmt.Sprint(value["threshold"]), &threshold); err != nil {
			return nil, nil, &revision.FieldError{Field: "threshold", Msg: "a number is wanted"}
		}
		checked, err := revision.ScorecardEdit{Name: &o.Name, Description: &description, Threshold: &threshold, Terms: &terms}.Checked()
		if err != nil {
			return nil, nil, err
		}
		o.ID = r.id(kind, o.Name)
		body["category"], body["threshold"], body["terms"], body["off"] = text(value, "category"), threshold, *checked.Terms, value["off"] == true
	case revision.KindCorrection:
		e, err := pattern.Parse(o.Name)
		if err != nil {
			return nil, nil, &revision.FieldError{Field: "entry", Msg: err.Error()}
		}
		reason, err := revision.CheckReason(text(value, "reason"))
		if err != nil {
			return nil, nil, err
		}
		o.Name = e.Pattern.String()
		o.ID = r.id(kind, o.Name)
		body = map[string]any{"uid": o.ID.String(), "entry": o.Name, "key": e.Pattern.Key(), "categories": texts(value, "categories"), "reason": reason}
		if at := text(value, "at"); at != "" {
			if _, err := time.Parse(time.RFC3339Nano, at); err != nil {
				return nil, nil, &revision.FieldError{Field: "at", Msg: fmt.Sprintf("%q is not a moment as 2026-12-24T09:30:00Z", at)}
			}
			body["at"] = at
		}
	}
	if kind != revision.KindCorrection {
		body["id"] = o.ID.String()
	}
	// Columns that no file holds keep their values: when the object was made, and by whom.
	for field, is := range r.bodies[o.ID] {
		if _, said := body[field]; !said && slices.Contains([]string{"id", "created_at", "at", "by"}, field) {
			body[field] = is
		}
	}
	return body, refs, nil
}

// entries reads the file of a list.
func (r *reading) entries(list uuid.UUID, path string) error {
	content, ok := r.files[path]
	if !ok {
		return &revision.FieldError{Field: "entries", Msg: fmt.Sprintf("the file %q is missing", path)}
	}
	entries := []pattern.Entry{}
	keys := map[string]int{}
	err := pattern.ReadLines(strings.NewReader(content), pattern.Exact, func(line pattern.Line) error {
		if line.Err != nil {
			r.errs = append(r.errs, &Error{path, line.Number, line.Err.Column, line.Err.Error()})
		}
		for _, e := range line.Entries {
			if key := e.Key(); key != "" {
				if before, twice := keys[key]; twice {
					r.errs = append(r.errs, &Error{path, line.Number, 1, fmt.Sprintf("%s stands in line %d already", e.Pattern, before)})
					continue
				}
				keys[key] = line.Number
			}
			entries = append(entries, e)
		}
		if len(r.errs) > maxErrors {
			return errors.New("there are more mistakes than these")
		}
		return nil
	})
	r.target.Entries[list] = entries
	return err
}

// here returns the id of an object that the files hold.
func (r *reading) here(kind revision.Kind, name string) (uuid.UUID, bool) {
	for _, o := range r.target.Objects {
		if o.Kind == kind && strings.EqualFold(o.Name, name) {
			return o.ID, true
		}
	}
	return uuid.Nil, false
}

// resolve replaces names by ids, after all objects have been read.
func (r *reading) resolve() {
	ids := map[revision.Kind]map[string]uuid.UUID{}
	for _, o := range r.target.Objects {
		if ids[o.Kind] == nil {
			ids[o.Kind] = map[string]uuid.UUID{}
		}
		ids[o.Kind][strings.ToLower(o.Name)] = o.ID
	}
	for _, one := range r.at {
		if one.refs != nil {
			if err := one.refs(); err != nil {
				r.field(one, err)
			}
			continue
		}
		one.body.Refs(func(field string, kind revision.Kind, ref *revision.Ref) {
			id, ok := ids[kind][strings.ToLower(ref.Name)]
			if !ok {
				id, ok = r.others[kind][strings.ToLower(ref.Name)]
			}
			if !ok {
				r.field(one, &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no %s %q", kind, ref.Name)})
				return
			}
			ref.ID = id
		})
		if err := one.body.Check(); err != nil {
			r.field(one, err)
			continue
		}
		if body, ok := one.body.(*revision.PolicyBody); ok {
			revision.KeepRuleIDs(r.rules[r.target.Objects[one.index].ID], body.Rules)
		}
		body, err := revision.Encode(one.body)
		if err != nil {
			r.field(one, err)
			continue
		}
		r.target.Objects[one.index].Body = body
	}
}

func (r *reading) field(one placed, err error) {
	at := one.node
	var field *revision.FieldError
	if errors.As(err, &field) {
		at = find(one.node, field.Field)
	}
	r.wrong(one.path, at, "%s", err.Error())
}

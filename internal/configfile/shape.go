package configfile

import (
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gopkg.in/yaml.v3"

	"widelark/internal/revision"
)

// shape is the schema of a value in a file. Files are checked, written and described to editors by it.
type shape struct {
	kind   shapeKind
	fields []field // of an object
	of     *shape  // of a list
	enum   []string
}

type shapeKind string

const (
	isObject shapeKind = "object"
	isList   shapeKind = "array"
	isText   shapeKind = "string"
	isNumber shapeKind = "integer"
	isBool   shapeKind = "boolean"
	isTime   shapeKind = "date-time"
)

type field struct {
	name, doc string
	shape     *shape
	must      bool
}

var (
	shaping sync.Mutex // held while a shape is built, so that nobody sees an incomplete one
	shapes  = map[reflect.Type]*shape{}
)

// shapeOf returns the shape of a Go value that files are read into. It is safe for concurrent use.
func shapeOf(like any) *shape {
	shaping.Lock()
	defer shaping.Unlock()
	return shapeOfType(reflect.TypeOf(like))
}

// shapeOfType is shapeOf for a caller that holds shaping.
func shapeOfType(t reflect.Type) *shape {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if known, ok := shapes[t]; ok {
		return known
	}
	s := &shape{}
	shapes[t] = s // before its fields: conditions contain conditions
	switch {
	case t == reflect.TypeFor[revision.Ref]():
		s.kind = isText
	case t == reflect.TypeFor[time.Time]():
		s.kind = isTime
	case reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()): // entries, for example, are written as lines
		s.kind = isText
	case t.Kind() == reflect.Struct:
		s.kind = isObject
		s.fields = fieldsOf(t)
	case t.Kind() == reflect.Slice:
		s.kind, s.of = isList, shapeOfType(t.Elem())
	case t.Kind() == reflect.Bool:
		s.kind = isBool
	case t.Kind() == reflect.Int, t.Kind() == reflect.Int64:
		s.kind = isNumber
	default:
		s.kind = isText
	}
	return s
}

func fieldsOf(t reflect.Type) []field {
	var fields []field
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Tag.Get("file") == "-" {
			continue
		}
		if strings.Contains(options, "inline") {
			fields = append(fields, fieldsOf(f.Type)...)
			continue
		}
		one := field{name: name, doc: f.Tag.Get("doc"), shape: shapeOfType(f.Type), must: !strings.Contains(options, "omitempty") && f.Type.Kind() != reflect.Slice && f.Type.Kind() != reflect.Pointer}
		if enum := f.Tag.Get("enum"); enum != "" {
			limited := *one.shape
			if limited.kind == isList {
				of := *limited.of
				of.enum, limited.of = strings.Split(enum, ","), &of
			} else {
				limited.enum = strings.Split(enum, ",")
			}
			one.shape = &limited
		}
		fields = append(fields, one)
	}
	return fields
}

func (s *shape) field(name string) *field {
	if i := slices.IndexFunc(s.fields, func(f field) bool { return f.name == name }); i >= 0 {
		return &s.fields[i]
	}
	return nil
}

// node returns the YAML node of a value of decoded JSON.
func node(value any, s *shape) *yaml.Node {
	switch v := value.(type) {
	case map[string]any:
		n := &yaml.Node{Kind: yaml.MappingNode}
		for _, f := range s.fields {
			one, ok := v[f.name]
			if !ok || isEmpty(one) {
				continue
			}
			n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: f.name}, node(one, f.shape))
		}
		return n
	case []any:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		of := s
		if s.kind == isList {
			of = s.of
		}
		short := of.kind != isObject
		width := 0
		for _, one := range v {
			child := node(one, of)
			width += len(child.Value) + 2
			n.Content = append(n.Content, child)
		}
		if short && width <= 100 {
			n.Style = yaml.FlowStyle
		}
		return n
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(v)}
	case json.Number:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: v.String()}
	}
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: fmt.Sprint(value)}
	if strings.Contains(n.Value, "\n") {
		n.Style = yaml.LiteralStyle
	}
	if slices.Contains([]string{"yes", "no", "on", "off", "y", "n"}, strings.ToLower(n.Value)) { // YAML 1.1 reads these as truth values
		n.Style = yaml.DoubleQuotedStyle
	}
	if s.kind == isTime {
		n.Tag = "!!timestamp"
	}
	return n
}

func isEmpty(value any) bool {
	switch v := value.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case bool:
		return !v
	case json.Number:
		return v == "0"
	case []any:
		return len(v) == 0
	}
	return false
}

// Error describes a fault of a file.
type Error struct {
	Path         string
	Line, Column int // 1-based; 0 if the error is about the whole file
	Msg          string
}

// Error returns the message, with the place before it.
func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Path + ": " + e.Msg
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.Path, e.Line, e.Column, e.Msg)
}

// check reports everything in a node that does not fit the shape.
func (s *shape) check(n *yaml.Node, path string, wrong func(*yaml.Node, string, ...any)) {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	switch s.kind {
	case isObject:
		if n.Kind != yaml.MappingNode {
			wrong(n, "%s is wanted: fields, as %s", what(path, "an object"), s.fields[0].name)
			return
		}
		seen := map[string]bool{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, value := n.Content[i], n.Content[i+1]
			f := s.field(key.Value)
			switch {
			case f == nil:
				var names []string
				for _, f := range s.fields {
					names = append(names, f.name)
				}
				wrong(key, "there is no field %q here; there are %s", key.Value, strings.Join(names, ", "))
			case seen[key.Value]:
				wrong(key, "the field %q stands here twice", key.Value)
			default:
				f.shape.check(value, key.Value, wrong)
			}
			seen[key.Value] = true
		}
		for _, f := range s.fields {
			if f.must && !seen[f.name] {
				wrong(n, "the field %q is missing", f.name)
			}
		}
	case isList:
		if n.Kind != yaml.SequenceNode {
			wrong(n, "%s is wanted: lines that begin with a dash", what(path, "a list"))
			return
		}
		for _, one := range n.Content {
			s.of.check(one, path, wrong)
		}
	default:
		var into any
		switch {
		case n.Kind != yaml.ScalarNode:
			wrong(n, "%s is wanted", what(path, map[shapeKind]string{isText: "a text", isNumber: "a number", isBool: "true or false", isTime: "a time"}[s.kind]))
		case s.kind == isNumber && (n.Decode(&into) != nil || n.ShortTag() != "!!int"):
			wrong(n, "%s is wanted, not %q", what(path, "a number"), n.Value)
		case s.kind == isBool && n.ShortTag() != "!!bool":
			wrong(n, "%s is wanted, not %q", what(path, "true or false"), n.Value)
		case s.kind == isTime:
			if _, err := time.Parse(time.RFC3339, n.Value); err != nil {
				wrong(n, "%s is wanted as RFC 3339 has it, as 2026-12-24T12:30:00Z, not %q", what(path, "a time"), n.Value)
			}
		case len(s.enum) > 0 && !slices.Contains(s.enum, n.Value):
			wrong(n, "%q is not possible for %s; there are %s", n.Value, path, strings.Join(s.enum, ", "))
		}
	}
}

func what(path, kind string) string {
	if path == "" {
		return kind
	}
	return path + ": " + kind
}

// value returns a checked node as a value of decoded JSON.
func (s *shape) value(n *yaml.Node) any {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	switch s.kind {
	case isObject:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			f := s.field(n.Content[i].Value)
			m[f.name] = f.shape.value(n.Content[i+1])
		}
		return m
	case isList:
		all := make([]any, len(n.Content))
		for i, one := range n.Content {
			all[i] = s.of.value(one)
		}
		return all
	case isNumber:
		return json.Number(n.Value)
	case isBool:
		return n.Value == "true"
	}
	return n.Value
}

// SchemaPath is the path, among the files, of their description for editors.
const SchemaPath = "schema.json"

// Schema returns the description of the files for editors: JSON Schema, draft 2020-12, with a definition for each file.
func Schema() string {
	definitions := map[string]any{}
	known := map[*shape]string{}
	var describe func(s *shape, doc string) any
	describe = func(s *shape, doc string) any {
		m := map[string]any{}
		if doc != "" {
			m["description"] = doc
		}
		switch s.kind {
		case isObject:
			if name, ok := known[s]; ok {
				return map[string]any{"$ref": "#/$defs/" + name}
			}
			name := fmt.Sprintf("object-%d", len(known)+1)
			known[s] = name
			properties, must := map[string]any{}, []string{}
			for _, f := range s.fields {
				properties[f.name] = describe(f.shape, f.doc)
				if f.must {
					must = append(must, f.name)
				}
			}
			definitions[name] = map[string]any{"type": "object", "properties": properties, "required": must, "additionalProperties": false}
			return map[string]any{"$ref": "#/$defs/" + name}
		case isList:
			m["type"], m["items"] = "array", describe(s.of, "")
		case isTime:
			m["type"], m["format"] = "string", "date-time"
		default:
			m["type"] = string(s.kind)
			if len(s.enum) > 0 {
				m["enum"] = s.enum
			}
		}
		return m
	}
	for _, k := range kinds {
		of := describe(shapeOf(k.new()), "")
		if k.kind != revision.KindSettings {
			of = map[string]any{"type": "array", "items": of}
		}
		definitions[strings.TrimSuffix(k.path, ".yaml")] = of
	}
	text, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A Wide Lark configuration",
		"description": "Each file is described by the definition of its name: policies.yaml by #/$defs/policies.", "$defs": definitions,
	}, "", "  ")
	if err != nil {
		panic("bug: the description cannot be written: " + err.Error())
	}
	return string(text) + "\n"
}

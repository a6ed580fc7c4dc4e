// Package change describes the differences between two states of an object in its own terms: entries added, rules moved, windows changed.
//
// From: two states of an object, as the store has them.
// To: [Line], for people to read.
package change

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/revision"
)

// Mark is the kind of change of a part of an object.
type Mark string

// The marks.
const (
	Added   Mark = "added"
	Removed Mark = "removed"
	Changed Mark = "changed"
	Moved   Mark = "moved"
)

// Line is one difference between two states of an object.
type Line struct {
	Mark   Mark
	Part   string // which part, as "groups" or "rule"
	Before string // "" for added
	After  string // "" for removed
}

// fact is one statement of a state. Facts with the same key in two states are about the same part.
type fact struct {
	part, key, text string
	ordered         bool   // its position among the facts of its part matters
	label           string // its name for people, if that is not its key
}

func (f fact) called() string { return cmp.Or(f.label, f.key) }

// Names maps the ids of references to names.
type Names struct {
	policy.Names
	Object func(id uuid.UUID) string
}

// Refs returns the ids that the states of objects refer to, so that the caller can look up their names.
func Refs(states []revision.ObjectState) []uuid.UUID {
	var ids []uuid.UUID
	seen := map[uuid.UUID]bool{}
	for _, s := range states {
		for _, o := range []*revision.Object{s.Before, s.After} {
			eachText(o, func(text string) {
				if id, err := uuid.Parse(text); err == nil && len(text) == 36 && !seen[id] {
					seen[id] = true
					ids = append(ids, id)
				}
			})
		}
	}
	return ids
}

// eachText calls each with the strings in the body of an object; with none for nil.
func eachText(o *revision.Object, each func(text string)) {
	if o == nil {
		return
	}
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			for _, one := range v {
				walk(one)
			}
		case []any:
			for _, one := range v {
				walk(one)
			}
		case string:
			each(v)
		}
	}
	var body any
	_ = json.Unmarshal(o.Body, &body) // stored bodies are JSON; an unreadable one says nothing
	walk(body)
}

// Lines returns the differences between the states of an object, except for entries of lists. For an object that was added or removed it returns
// all its parts.
func Lines(s revision.ObjectState, names Names) ([]Line, error) {
	var sides [2][]fact
	for i, o := range []*revision.Object{s.Before, s.After} {
		if o == nil {
			continue
		}
		facts, err := factsOf(*o, names)
		if err != nil {
			return nil, err
		}
		sides[i] = facts
	}
	return compare(sides[0], sides[1]), nil
}

// compare compares facts by their keys. Among the ordered facts of both sides, it reports the smallest set that has to move as moved.
func compare(before, after []fact) []Line {
	lines := []Line{}
	was, is := map[string]int{}, map[string]int{}
	for i, f := range before {
		was[f.part+"\x00"+f.key] = i
	}
	for i, f := range after {
		is[f.part+"\x00"+f.key] = i
	}
	for _, f := range before {
		if _, stays := is[f.part+"\x00"+f.key]; !stays {
			lines = append(lines, Line{Removed, f.part, f.text, ""})
		}
	}
	var places []int // positions in before of the ordered facts of both sides, in the order of after
	var at []int
	for i, f := range after {
		if place, stayed := was[f.part+"\x00"+f.key]; stayed && f.ordered {
			places, at = append(places, place), append(at, i)
		}
	}
	stays := rising(places)
	moved := map[int]bool{}
	for i := range places {
		if !stays[i] {
			moved[at[i]] = true
		}
	}
	for i, f := range after {
		place, stayed := was[f.part+"\x00"+f.key]
		switch {
		case !stayed:
			lines = append(lines, Line{Added, f.part, "", f.text})
		case before[place].text != f.text:
			lines = append(lines, Line{Changed, f.part, before[place].text, f.text})
		}
		if moved[i] {
			where := "to the top"
			if i > 0 && after[i-1].part == f.part {
				where = "to after " + after[i-1].called()
			}
			lines = append(lines, Line{Moved, f.part, f.called(), where})
		}
	}
	return lines
}

// rising marks the members of a longest increasing subsequence.
func rising(of []int) []bool {
	length, before := make([]int, len(of)), make([]int, len(of))
	last := -1
	for i := range of {
		length[i], before[i] = 1, -1
		for j := range i {
			if of[j] < of[i] && length[j]+1 > length[i] {
				length[i], before[i] = length[j]+1, j
			}
		}
		if last < 0 || length[i] > length[last] {
			last = i
		}
	}
	in := make([]bool, len(of))
	for ; last >= 0; last = before[last] {
		in[last] = true
	}
	return in
}

// unsaid are fields that nobody edits.
var unsaid = []string{"id", "uid", "key", "created_at", "at", "by", "role"}

// factsOf returns the facts of an object's state.
func factsOf(o revision.Object, names Names) ([]fact, error) {
	facts := []fact{{"name", "name", o.Name, false, ""}}
	var body map[string]any
	if err := json.Unmarshal(o.Body, &body); err != nil {
		return nil, fmt.Errorf("the %s %q cannot be read any more: %w", o.Kind, o.Name, err)
	}
	skip := slices.Clone(unsaid)
	switch o.Kind {
	case revision.KindCorrection:
		skip = append(skip, "entry")
	case revision.KindList, revision.KindSchedule, revision.KindScorecard, revision.KindCategory:
		skip = append(skip, "name")
	case revision.KindPolicy:
		skip = append(skip, "rules")
	}
	fields := make([]string, 0, len(body))
	for field := range body {
		fields = append(fields, field)
	}
	slices.Sort(fields)
	for _, field := range fields {
		if !slices.Contains(skip, field) {
			facts = append(facts, names.flatten(words(field), body[field], o.Kind == revision.KindSettings && field == "order")...)
		}
	}
	if o.Kind == revision.KindPolicy {
		kept, err := revision.Decode[revision.PolicyBody](o)
		if err != nil {
			return nil, err
		}
		named := map[string]int{}
		for _, r := range kept.Rules {
			label := strconv.Quote(r.Name)
			if named[label]++; named[label] > 1 {
				label = fmt.Sprintf("%s (%d)", label, named[label])
			}
			key := label
			if r.ID != uuid.Nil { // a new rule from a file has no id yet
				key = r.ID.String()
			}
			facts = append(facts, fact{"rule", key, label + ": " + r.Rule().Sentence(names.Names), true, label})
		}
	}
	return facts, nil
}

// flatten returns the facts of a value: one for each member of a list, and one for any other value that is not empty.
func (n Names) flatten(part string, value any, ordered bool) []fact {
	switch v := value.(type) {
	case nil:
		return nil
	case []any:
		var facts []fact
		for _, one := range v {
			key := n.text(one)
			text := key
			if m, ok := one.(map[string]any); ok { // a named member: its other fields may change
				for _, field := range []string{"name", "word"} {
					if name, ok := m[field].(string); ok {
						key = name
					}
				}
			}
			facts = append(facts, fact{part, key, text, ordered, ""})
		}
		return facts
	}
	if text := n.text(value); text != "" {
		return []fact{{part, part, text, false, ""}}
	}
	return nil
}

// text writes a value for people.
func (n Names) text(value any) string {
	switch v := value.(type) {
	case bool:
		if v {
			return "yes"
		}
		return ""
	case string:
		if id, err := uuid.Parse(v); err == nil && len(v) == 36 {
			return n.Object(id)
		}
		return strings.ReplaceAll(v, "\n", "; ")
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any:
		parts := []string{}
		for _, one := range v {
			parts = append(parts, n.text(one))
		}
		return strings.Join(parts, ", ")
	case map[string]any:
		if id, ok := v["id"].(string); ok {
			return n.text(id)
		}
		fields := make([]string, 0, len(v))
		for field := range v {
			fields = append(fields, field)
		}
		slices.Sort(fields)
		parts := []string{}
		for _, field := range fields {
			if text := n.text(v[field]); text == "yes" {
				parts = append(parts, words(field))
			} else if text != "" {
				parts = append(parts, words(field)+" "+text)
			}
		}
		return strings.Join(parts, ", ")
	}
	return ""
}

// words turns the name of a field into words: fullName becomes "full name".
func words(field string) string {
	var b strings.Builder
	for _, r := range field {
		switch {
		case r == '_':
			b.WriteByte(' ')
		case unicode.IsUpper(r):
			b.WriteByte(' ')
			b.WriteRune(unicode.ToLower(r))
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

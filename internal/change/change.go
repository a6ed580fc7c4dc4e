// Package change tells in the objects' own terms what two states differ by: entries added, rules moved, windows changed.
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

// Mark says what became of a part of an object.
type Mark string

// The marks.
const (
	Added   Mark = "added"
	Removed Mark = "removed"
	Changed Mark = "changed"
	Moved   Mark = "moved"
)

// Line is one part of an object that two states do not share.
type Line struct {
	Mark   Mark
	Part   string // which part, as "groups" or "rule"
	Before string // "" for added
	After  string // "" for removed
}

// fact is one thing that a state says. Facts with the same key in two states are about the same part.
type fact struct {
	part, key, text string
	ordered         bool   // its place among those of its part counts
	label           string // what people call it, where that is not its key
}

func (f fact) called() string { return cmp.Or(f.label, f.key) }

// Names says what references are called.
type Names struct {
	policy.Names
	Object func(id uuid.UUID) string
}

// Refs returns the ids that the states of objects refer to, so that their names can be asked for.
func Refs(states []revision.ObjectState) []uuid.UUID {
	var ids []uuid.UUID
	seen := map[uuid.UUID]bool{}
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
			if id, err := uuid.Parse(v); err == nil && len(v) == 36 && !seen[id] {
				seen[id] = true
				ids = append(ids, id)
			}
		}
	}
	for _, s := range states {
		for _, o := range []*revision.Object{s.Before, s.After} {
			if o != nil {
				var body any
				_ = json.Unmarshal(o.Body, &body) // what is kept is JSON; what is not refers to nothing
				walk(body)
			}
		}
	}
	return ids
}

// Lines tells what an object's states differ by, entries of lists aside. Of one that came or went it tells what there is to it.
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

// compare tells facts apart by their keys. Of those that both sides have and whose order counts, the fewest that have to move have moved.
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
	var places []int // in before, of the ordered facts of both, in the order of after
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

// rising marks the members of a longest rising run of numbers, in places that need not stand side by side.
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

// unsaid are fields that no one edits.
var unsaid = []string{"id", "uid", "key", "created_at", "at", "by", "role"}

// factsOf takes an object apart.
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
			if r.ID != uuid.Nil { // in files, a new rule has none yet
				key = r.ID.String()
			}
			facts = append(facts, fact{"rule", key, label + ": " + r.Rule().Sentence(names.Names), true, label})
		}
	}
	return facts, nil
}

// flatten makes facts of a value: one for each thing that a list holds, one for anything else that is not empty.
func (n Names) flatten(part string, value any, ordered bool) []fact {
	switch v := value.(type) {
	case nil:
		return nil
	case []any:
		var facts []fact
		for _, one := range v {
			key := n.text(one)
			text := key
			if m, ok := one.(map[string]any); ok { // something with a name of its own: what else it says may change
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

// words writes the name of a field as people do: fullName is full name.
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

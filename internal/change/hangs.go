package change

import (
	"encoding/json"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/internal/revision"
)

// WithWhatTheyHangOn returns the changes that some objects cannot go live without, in the order of states, those of the objects themselves among them: what they name and what is new with them; what named
// something that is removed; and what gives up a name that they take. Ids that did not change are ignored.
func WithWhatTheyHangOn(states []revision.ObjectState, objects []uuid.UUID) []revision.ObjectState {
	named := make([]sides, len(states))
	for i, st := range states {
		named[i] = sides{before: said(st.Before), after: said(st.After)}
	}
	taken := make([]bool, len(states))
	var todo []int
	take := func(i int) {
		if !taken[i] {
			taken[i] = true
			todo = append(todo, i)
		}
	}
	for i, st := range states {
		if slices.Contains(objects, st.ID) {
			take(i)
		}
	}
	for len(todo) > 0 {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		st := states[at]
		for i, other := range states {
			switch {
			case taken[i]:
			case other.Before == nil && st.After != nil && named[at].after.names(other.After): // it names something new
				take(i)
			case st.After == nil && other.Before != nil && named[i].before.names(st.Before): // it is named until then
				take(i)
			case st.After != nil && other.Before != nil && st.Kind == other.Kind && strings.EqualFold(st.After.Name, other.Before.Name) && (other.After == nil || !strings.EqualFold(other.After.Name, other.Before.Name)):
				take(i)
			}
		}
	}
	var found []revision.ObjectState
	for i, st := range states {
		if taken[i] {
			found = append(found, st)
		}
	}
	return found
}

// sides are what the two states of an object say.
type sides struct{ before, after texts }

// texts are the strings in a body: ids and keys are among them.
type texts map[string]bool

func said(o *revision.Object) texts {
	found := texts{}
	eachText(o, func(text string) {
		found[text] = true
		if app, _, ok := strings.Cut(text, "/"); ok { // an activity of an app
			found[app] = true
		}
	})
	return found
}

// names reports whether an object is named: by its id or, as apps and categories of our own are, by its key.
func (t texts) names(o *revision.Object) bool {
	if t[o.ID.String()] {
		return true
	}
	if o.Kind != revision.KindApp && o.Kind != revision.KindCategory {
		return false
	}
	var body struct{ Key string }
	return json.Unmarshal(o.Body, &body) == nil && body.Key != "" && t[body.Key]
}

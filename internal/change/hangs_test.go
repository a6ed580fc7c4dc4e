package change

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/internal/revision"
)

// world is objects by their number; each names others.
type world map[int]revision.Object

func idOf(n int) uuid.UUID { return uuid.UUID{0: 7, 15: byte(n)} }

func (w world) put(t require.TestingT, n int, name string, refs ...int) {
	var ids []revision.Ref
	for _, r := range refs {
		ids = append(ids, revision.Ref{ID: idOf(r)})
	}
	body, err := json.Marshal(map[string]any{"groups": ids})
	require.NoError(t, err)
	w[n] = revision.Object{Meta: revision.Meta{ID: idOf(n), Name: name}, Kind: revision.KindGroup, Body: body}
}

// whole reports whether everything that is named is there, and no name twice.
func (w world) whole() error {
	seen := map[string]bool{}
	for n, o := range w {
		if seen[o.Name] {
			return fmt.Errorf("the name %s is there twice", o.Name)
		}
		seen[o.Name] = true
		for text := range said(&o) {
			if !slices.ContainsFunc(slices.Collect(mapsKeys(w)), func(m int) bool { return idOf(m).String() == text }) {
				return fmt.Errorf("%d names %s, which is not there", n, text)
			}
		}
	}
	return nil
}

func mapsKeys(w world) func(yield func(int) bool) {
	return func(yield func(int) bool) {
		for n := range w {
			if !yield(n) {
				return
			}
		}
	}
}

func drawWorld(t *rapid.T, label string) world {
	w := world{}
	there := rapid.SliceOfNDistinct(rapid.IntRange(0, 6), 0, 6, rapid.ID[int]).Draw(t, label)
	names := rapid.Permutation([]string{"a", "b", "c", "d", "e", "f", "g"}).Draw(t, "names")
	for i, n := range there {
		var refs []int
		for _, m := range there {
			if m != n && rapid.IntRange(0, 3).Draw(t, "names") == 0 {
				refs = append(refs, m)
			}
		}
		w.put(t, n, names[i], refs...)
	}
	return w
}

// Whatever is chosen of the changes between two states that are whole, with what it hangs on, leads to a state that is whole.
func TestWithWhatTheyHangOn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		live, draft := drawWorld(t, "live"), drawWorld(t, "draft")
		require.NoError(t, live.whole())
		var states []revision.ObjectState
		var chosen []uuid.UUID
		for n := range 7 {
			before, was := live[n]
			after, is := draft[n]
			if !was && !is || was && is && before.Name == after.Name && string(before.Body) == string(after.Body) {
				continue
			}
			st := revision.ObjectState{ID: idOf(n), Kind: revision.KindGroup}
			if was {
				st.Before = &before
			}
			if is {
				st.After = &after
			}
			states = append(states, st)
			if rapid.Bool().Draw(t, "chosen") {
				chosen = append(chosen, st.ID)
			}
		}
		found := WithWhatTheyHangOn(states, chosen)
		after := world{}
		for n, o := range live {
			after[n] = o
		}
		for _, st := range found {
			n := int(st.ID[15])
			if delete(after, n); st.After != nil {
				after[n] = *st.After
			}
		}
		assert.NoError(t, after.whole())
		for _, id := range chosen {
			assert.True(t, slices.ContainsFunc(found, func(st revision.ObjectState) bool { return st.ID == id }))
		}
	})
	t.Run("by key", func(t *testing.T) {
		category := revision.Object{Meta: revision.Meta{ID: idOf(1), Name: "Wards"}, Kind: revision.KindCategory, Body: []byte(`{"key": "wards"}`)}
		policy := revision.Object{Meta: revision.Meta{ID: idOf(2), Name: "P"}, Kind: revision.KindPolicy, Body: []byte(`{"rules": [{"if": {"categories": ["wards"]}}]}`)}
		states := []revision.ObjectState{{ID: idOf(1), Kind: category.Kind, After: &category}, {ID: idOf(2), Kind: policy.Kind, After: &policy}}
		assert.Len(t, WithWhatTheyHangOn(states, []uuid.UUID{idOf(2)}), 2)
		assert.Len(t, WithWhatTheyHangOn(states, []uuid.UUID{idOf(1)}), 1)
	})
}

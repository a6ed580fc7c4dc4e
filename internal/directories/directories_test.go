package directories_test

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/internal/access"
	"widelark/internal/directories"
	"widelark/internal/peoplefile"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// said is a file of people with a durable key each, in groups that may hold each other: "kay/k1: nurses, night" or "*nurses: clinical".
func said(lines ...string) (f peoplefile.File) {
	for _, line := range lines {
		head, tail, _ := strings.Cut(line, ":")
		in := strings.FieldsFunc(tail, func(r rune) bool { return r == ' ' || r == ',' })
		name, key, _ := strings.Cut(head, "/")
		if strings.HasPrefix(name, "*") {
			name = name[1:]
			f.Groups = append(f.Groups, peoplefile.Group{Key: name, Stable: cmp.Or(key, name), Name: name, Within: in})
			continue
		}
		f.People = append(f.People, peoplefile.Person{Key: name, Stable: cmp.Or(key, name), Name: name, Groups: in})
	}
	return f
}

// house is a store with one directory.
type house struct {
	draft.Draft
	t  testing.TB
	id uuid.UUID
}

func newHouse(t testing.TB, settings ...func(*directories.Settings)) house {
	d := draft.New(t, server)
	s := directories.Settings{Kind: directories.File, Every: time.Hour, MaxShrink: 30}
	for _, set := range settings {
		set(&s)
	}
	added, err := d.Store.AddDirectory(t.Context(), "Staff", s, access.Setup)
	require.NoError(t, err)
	return house{d, t, added.ID}
}

func (h house) take(f peoplefile.File) directories.Taken {
	h.t.Helper()
	items, _, err := directories.Items(h.id, f)
	require.NoError(h.t, err)
	taken, err := h.Store.TakeDirectory(h.t.Context(), h.id, items, directories.Taking{By: access.Subscription})
	require.NoError(h.t, err)
	return taken
}

func (h house) publish(note string) {
	h.t.Helper()
	now, err := h.Store.DraftVersion(h.t.Context())
	require.NoError(h.t, err)
	_, err = h.Store.Publish(h.t.Context(), revision.Publishing{Version: now.Draft, Note: note}, now.Live.Number, access.Setup)
	require.NoError(h.t, err)
}

// at is everybody of a version of the draft with the groups they are in, as "kay: nurses night"; groups that hold others as "*clinical: nurses".
func at(t testing.TB, store *postgres.Store, version int64) (all []string) {
	t.Helper()
	err := store.ReadDraft(t.Context(), version, func(r revision.DraftReader) error {
		objects, _, err := r.Objects(t.Context(), 0)
		if err != nil {
			return err
		}
		names := map[uuid.UUID]string{}
		for _, o := range objects {
			names[o.ID] = o.Name
		}
		for _, o := range objects {
			if o.Kind != revision.KindPerson && o.Kind != revision.KindGroup {
				continue
			}
			body, err := o.Decoded()
			if err != nil {
				return err
			}
			var in []string
			body.Refs(func(_ string, kind revision.Kind, ref *revision.Ref) {
				if kind == revision.KindGroup {
					in = append(in, cmp.Or(names[ref.ID], "?"))
				}
			})
			slices.Sort(in)
			if o.Kind == revision.KindGroup {
				if len(in) > 0 {
					all = append(all, "*"+o.Name+": "+strings.Join(in, " "))
				}
				continue
			}
			all = append(all, o.Name+": "+strings.Join(in, " "))
		}
		return nil
	})
	require.NoError(t, err)
	slices.Sort(all)
	return all
}

// What a directory says holds in the draft and in every revision alike, without a publish; who leaves is nobody any more, and keeps the name; who marries stays the same person.
func TestHoldsInDraftAndLive(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	before, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	taken := h.take(said("*nurses: clinical", "*clinical", "kay/1: nurses", "ola/2: nurses", "ren/3: clinical", "una/4:", "tam/5:"))
	assert.Equal(t, []int{5, 2, 7, 0, 0}, []int{taken.State.People, taken.State.Groups, taken.State.Came, taken.State.Changed, taken.State.Went})
	everybody := []string{"*clinical: nurses", "kay: nurses", "ola: nurses", "ren: clinical", "tam: ", "una: "}
	for _, version := range []int64{0, before.Live.Version} {
		assert.Equal(t, everybody, at(t, h.Store, version))
	}
	now, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []any{before.Draft, before.Live, before.Directories + 1}, []any{now.Draft, now.Live, now.Directories}, "nothing was edited, nothing published")

	ola := directories.ID(h.id, revision.KindPerson, "2")
	taken = h.take(said("*nurses: clinical", "*clinical", "kay/1: nurses", "ola.reed/2: nurses clinical", "ren/3:", "una/4:"))
	assert.Empty(t, taken.Why, "one of five may go")
	assert.Equal(t, []int{0, 2, 1}, []int{taken.State.Came, taken.State.Changed, taken.State.Went})
	assert.Equal(t, []string{"*clinical: nurses", "kay: nurses", "ola.reed: clinical nurses", "ren: ", "una: "}, at(t, h.Store, before.Live.Version))
	names, err := h.Store.Names(t.Context(), []uuid.UUID{ola, directories.ID(h.id, revision.KindPerson, "5")})
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]string{ola: "ola.reed", directories.ID(h.id, revision.KindPerson, "5"): "tam"}, names, "records of before have names")
	assert.Nil(t, h.take(said("*nurses: clinical", "*clinical", "kay/1: nurses", "ola.reed/2: nurses clinical", "ren/3:", "una/4:")).State, "nothing has changed")

	undone, err := h.Store.UndoDirectory(t.Context(), h.id, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 1, undone.InForce.Number)
	assert.Equal(t, everybody, at(t, h.Store, 0))
	again, err := h.Store.UndoDirectory(t.Context(), h.id, access.Setup)
	require.NoError(t, err)
	assert.EqualValues(t, 2, again.InForce.Number)
	assert.Nil(t, h.take(said("*nurses: clinical", "*clinical", "kay/1: nurses", "ola.reed/2: nurses clinical", "ren/3:", "una/4:")).State)
}

// What is named in draft or live is not emptied or taken away without somebody's leave, nor do many people go.
func TestWaits(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	full := []string{"*nurses: clinical", "*clinical", "*porters", "kay/1: nurses", "ola/2: nurses", "ren/3: porters", "una/4: porters", "tam/5:"}
	h.take(said(full...))
	clinical := directories.ID(h.id, revision.KindGroup, "clinical")
	made := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Ward", Body: &revision.GroupBody{Groups: draft.Refs(clinical)}})
	assert.Equal(t, []string{"*Ward: clinical", "*clinical: nurses"}, at(t, h.Store, 0)[:2])
	for _, c := range []struct {
		what  string
		lines []string
		why   string
	}{
		{"two of five go", []string{"*nurses: clinical", "*clinical", "*porters", "kay/1: nurses", "ola/2: nurses", "ren/3: porters"}, "2 of 5 people would go, more than 30 per cent"},
		{"a group that nobody names goes", []string{"*nurses: clinical", "*clinical", "kay/1: nurses", "ola/2: nurses", "ren/3:", "una/4:", "tam/5:"}, ""},
		{"it is empty by what it holds", []string{"*nurses", "*clinical", "*porters", "kay/1: nurses", "ola/2: nurses", "ren/3: porters", "una/4: porters", "tam/5:"}, `the group "clinical" would be empty, and the group "Ward" names it`},
		{"it goes", []string{"*nurses", "*porters", "kay/1: nurses", "ola/2: nurses", "ren/3: porters", "una/4: porters", "tam/5:"}, `the group "clinical" would go, and the group "Ward" names it`},
	} {
		items, _, err := directories.Items(h.id, said(c.lines...))
		require.NoError(t, err)
		seen, err := h.Store.TakeDirectory(t.Context(), h.id, items, directories.Taking{By: access.Setup, Preview: true})
		require.NoError(t, err)
		assert.Equal(t, c.why, strings.Join(seen.Why, "; "), c.what)
		now, err := h.Store.Directory(t.Context(), h.id)
		require.NoError(t, err)
		assert.Equal(t, []any{int64(1), (*directories.State)(nil)}, []any{now.Latest.Number, now.Waiting}, "a preview keeps nothing")
	}
	gone := said("*nurses", "*porters", "kay/1: nurses", "ola/2: nurses", "ren/3: porters", "una/4: porters", "tam/5:")
	taken := h.take(gone)
	assert.EqualValues(t, 2, taken.Directory.Waiting.Number)
	assert.Contains(t, at(t, h.Store, 0), "*Ward: clinical", "what is in force stays")
	_, err := h.Store.AcceptDirectory(t.Context(), h.id, 1, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	refused, err := h.Store.RefuseDirectory(t.Context(), h.id, 2, access.Setup)
	require.NoError(t, err)
	assert.Nil(t, refused.Waiting)
	assert.Nil(t, h.take(gone).State, "what was refused does not come again by itself")

	// Once it is out of the draft, it is still in the revision that was published.
	h.publish("with the ward")
	h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, ID: made[0].ID, Name: "Ward", Body: &revision.GroupBody{}})
	back := h.take(said(full...))
	assert.Empty(t, back.Why, "as it is in force")
	taken = h.take(gone)
	assert.Equal(t, []string{`the group "clinical" would go, and the group "Ward" names it`}, taken.Why)
	accepted, err := h.Store.AcceptDirectory(t.Context(), h.id, taken.State.Number, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, []any{taken.State.Number, (*directories.State)(nil), 0}, []any{accepted.InForce.Number, accepted.Waiting, len(accepted.Why)})
	live, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	assert.Contains(t, at(t, h.Store, live.Live.Version), "*Ward: ?", "a reference that leads nowhere")
	require.NoError(t, h.Store.Restore(t.Context(), live.Live.Version, 0, nil, access.Setup), "one can still go back to it")
	assert.Contains(t, at(t, h.Store, 0), "*Ward: ?")
}

// People and groups of directories are edited where they are from; what else has a name keeps it.
func TestReadOnlyAndNames(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	mine := h.Change(t, revision.ObjectChange{Kind: revision.KindPerson, Name: "Kay", Body: &revision.PersonBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}})
	taken := h.take(said("*nurses", "*porters", "kay/1: nurses", "ola/2: nurses porters"))
	assert.Equal(t, []string{"kay"}, taken.Directory.Shadowed)
	assert.Equal(t, []string{"Kay: ", "ola: nurses (Staff) porters"}, at(t, h.Store, 0))
	ola := directories.ID(h.id, revision.KindPerson, "2")
	for _, c := range []revision.ObjectChange{
		{Kind: revision.KindPerson, ID: ola, Name: "ola", Body: &revision.PersonBody{FullName: "Ola"}},
		{Kind: revision.KindPerson, ID: ola, Name: "ola", Remove: true},
		{Kind: revision.KindGroup, ID: directories.ID(h.id, revision.KindGroup, "porters"), Name: "porters", Body: &revision.GroupBody{}},
	} {
		_, err := h.Store.Change(t.Context(), []revision.ObjectChange{c}, access.Setup)
		require.ErrorContains(t, err, `is from the directory "Staff", and is edited there`)
	}
	_, err := h.Store.Change(t.Context(), []revision.ObjectChange{{Kind: revision.KindPerson, Name: "OLA", Body: &revision.PersonBody{}}}, access.Setup)
	require.ErrorContains(t, err, "the name is taken")

	// Where the name is free again, in the draft and live, the next reading has everybody.
	h.publish("as it was")
	h.Change(t, revision.ObjectChange{Kind: revision.KindPerson, ID: mine[0].ID, Name: "Kay", Remove: true})
	h.take(said("*nurses", "*porters", "kay/1: nurses", "ola/2: nurses porters"))
	assert.Equal(t, []string{"ola: nurses (Staff) porters"}, at(t, h.Store, 0), "live has the other one")
	h.publish("without")
	h.take(said("*nurses", "*porters", "kay/1: nurses", "ola/2: nurses porters"))
	assert.Equal(t, []string{"kay: nurses (Staff)", "ola: nurses (Staff) porters"}, at(t, h.Store, 0))
	d, err := h.Store.Directory(t.Context(), h.id)
	require.NoError(t, err)
	assert.Empty(t, d.Shadowed)

	h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Ward", Body: &revision.GroupBody{Groups: draft.Refs(directories.ID(h.id, revision.KindGroup, "porters"))}})
	err = h.Store.RemoveDirectory(t.Context(), h.id, false, access.Setup)
	require.ErrorContains(t, err, `The group "porters" is from this directory, and the group "Ward" names it`)
	require.NoError(t, h.Store.RemoveDirectory(t.Context(), h.id, true, access.Setup))
	assert.Equal(t, []string{"*Ward: ?"}, at(t, h.Store, 0))
}

// Names change hands in one reading, and two groups of one name are told apart.
func TestNamesChangeHands(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.take(said("*a/1", "*b/2", "kay/1: a", "ola/2: b"))
	h.take(said("*b/1", "*a/2", "ola/1: b", "kay/2: a"))
	assert.Equal(t, []string{"kay: a", "ola: b"}, at(t, h.Store, 0))
	two := said("kay/1: x")
	two.Groups = []peoplefile.Group{{Key: "x", Stable: "1", Name: "Staff"}, {Key: "y", Stable: "2", Name: "staff"}}
	items, left, err := directories.Items(h.id, two)
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Equal(t, "staff ("+directories.ID(h.id, revision.KindGroup, "2").String()[:8]+")", items[1].Name)
}

// Groups that hold each other in a ring are opened, the same way each time.
func TestRings(t *testing.T) {
	f := said("*day: night", "*night: late", "*late: day", "kay: day")
	_, left, err := directories.Items(uuid.New(), f)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Contains(t, left[0], "hold each other")
	id := uuid.New()
	first, _, err := directories.Items(id, f)
	require.NoError(t, err)
	for range 5 {
		again, _, err := directories.Items(id, f)
		require.NoError(t, err)
		assert.Empty(t, directories.Compare(first, again))
	}
}

// Any sequence of readings, leaves given and refused, and steps back leaves what a plain model says, in draft and live; and who is there has been the same id all along.
func TestStatesAgree(t *testing.T) {
	t.Parallel()
	h := newHouse(t, func(s *directories.Settings) { s.MaxShrink = 40 })
	before, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	type state map[string]string // name by key, with groups
	states := []state{{}}        // by number
	inForce, last, waiting, latest := 0, 0, 0, 0
	ids := map[string]uuid.UUID{}
	rapid.Check(t, func(r *rapid.T) {
		switch act := rapid.IntRange(0, 6).Draw(r, "act"); {
		case act <= 3:
			next := state{}
			lines := []string{"*a: all", "*all", "*rest"}
			for _, key := range rapid.SliceOfNDistinct(rapid.IntRange(1, 8), 1, 8, func(n int) int { return n }).Draw(r, "people") {
				who := fmt.Sprintf("p%d%s", key, rapid.SampledFrom([]string{"", "x"}).Draw(r, "name"))
				in := rapid.SampledFrom([]string{"", "a", "all", "a all", "rest"}).Draw(r, "groups")
				next[fmt.Sprint(key)] = who + ": " + in
				lines = append(lines, fmt.Sprintf("%s/%d: %s", who, key, in))
			}
			taken := h.take(said(lines...))
			if latest > 0 && maps.Equal(states[latest], next) {
				assert.Nil(r, taken.State)
				return
			}
			states, latest = append(states, next), latest+1
			assert.EqualValues(r, latest, taken.State.Number)
			went := 0
			for key := range states[inForce] {
				if _, still := next[key]; !still {
					went++
				}
			}
			if inForce > 0 && went*100 > len(states[inForce])*40 {
				assert.Len(r, taken.Why, 1)
				waiting = latest
			} else {
				assert.Empty(r, taken.Why)
				last, inForce, waiting = inForce, latest, 0
			}
		case act == 4:
			_, err := h.Store.AcceptDirectory(t.Context(), h.id, int64(max(waiting, 1)), access.Setup)
			if waiting == 0 {
				assert.ErrorIs(r, err, revision.ErrStale)
				return
			}
			require.NoError(r, err)
			last, inForce, waiting = inForce, waiting, 0
		case act == 5:
			_, err := h.Store.RefuseDirectory(t.Context(), h.id, int64(max(waiting, 1)), access.Setup)
			if waiting == 0 {
				assert.ErrorIs(r, err, revision.ErrStale)
				return
			}
			require.NoError(r, err)
			waiting = 0
		default:
			_, err := h.Store.UndoDirectory(t.Context(), h.id, access.Setup)
			if last == 0 {
				assert.ErrorContains(r, err, "no state to go back to")
				return
			}
			require.NoError(r, err)
			inForce, last = last, inForce
			if waiting < inForce {
				waiting = 0
			}
		}
		want := slices.Sorted(maps.Values(states[inForce]))
		if inForce > 0 {
			want = append([]string{"*all: a"}, want...)
		}
		assert.Equal(r, want, at(t, h.Store, 0))
		assert.Equal(r, want, at(t, h.Store, before.Live.Version))
		found, err := h.Store.Objects(t.Context(), revision.KindPerson)
		require.NoError(r, err)
		for _, o := range found {
			key := strings.TrimSuffix(o.Name, "x")[1:]
			if was, known := ids[key]; known {
				assert.Equal(r, was, o.ID)
			}
			ids[key] = o.ID
		}
		members, err := h.Store.Members(t.Context())
		require.NoError(r, err)
		inA := 0
		for _, one := range states[inForce] {
			if _, groups, _ := strings.Cut(one, ": "); slices.Contains(strings.Fields(groups), "a") {
				inA++
			}
		}
		assert.Equal(r, inA, members[directories.ID(h.id, revision.KindGroup, "a")])
	})
}

// What differs between two sets is what turns one into the other.
func TestCompare(t *testing.T) {
	of := uuid.New()
	draws := rapid.Custom(func(r *rapid.T) []directories.Item {
		var items []directories.Item
		for _, key := range rapid.SliceOfNDistinct(rapid.IntRange(1, 6), 0, 6, func(n int) int { return n }).Draw(r, "keys") {
			body, err := revision.Encode(&revision.PersonBody{FullName: rapid.SampledFrom([]string{"", "A", "B"}).Draw(r, "full name"), Groups: []revision.Ref{}})
			require.NoError(r, err)
			items = append(items, directories.Item{ID: directories.ID(of, revision.KindPerson, fmt.Sprint(key)), Kind: revision.KindPerson, Name: fmt.Sprint("p", key), Body: body})
		}
		return items
	})
	rapid.Check(t, func(r *rapid.T) {
		before, after := draws.Draw(r, "before"), draws.Draw(r, "after")
		now := map[uuid.UUID]directories.Item{}
		for _, it := range before {
			now[it.ID] = it
		}
		for _, one := range directories.Compare(before, after) {
			if one.After == nil {
				delete(now, one.ID)
			} else {
				now[one.ID] = *one.After
			}
		}
		assert.Len(r, now, len(after))
		for _, it := range after {
			assert.True(r, now[it.ID].Name == it.Name && bytes.Equal(now[it.ID].Body, it.Body))
		}
		assert.Empty(r, directories.Compare(after, after))
	})
}

// People who were edited in the draft are handed over: they stay who they are, in all versions at once, and who would be in fewer groups stays in the draft.
func TestHandsOver(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	ward := h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Ward", Body: &revision.GroupBody{}}, revision.ObjectChange{Kind: revision.KindGroup, Name: "Choir", Body: &revision.GroupBody{}})
	people := h.Change(t,
		revision.ObjectChange{Kind: revision.KindPerson, Name: "kay", Body: &revision.PersonBody{Groups: draft.Refs(ward[0].ID)}},
		revision.ObjectChange{Kind: revision.KindPerson, Name: "Ola", Body: &revision.PersonBody{Groups: draft.Refs(ward[0].ID, ward[1].ID)}},
		revision.ObjectChange{Kind: revision.KindPerson, Name: "una", Body: &revision.PersonBody{}})
	h.publish("by hand")
	file := said("*nurses", "kay/1: nurses", "ola/2: nurses", "ren/3: nurses")
	h.take(file)
	nurses := directories.ID(h.id, revision.KindGroup, "nurses")
	adopt := func(preview bool) directories.Adopted {
		done, err := h.Store.AdoptDirectory(t.Context(), h.id, preview, access.Setup)
		require.NoError(t, err)
		return done
	}
	done := adopt(false)
	assert.Zero(t, done.People)
	require.Len(t, done.Kept, 2)
	assert.Contains(t, done.Kept[1], `kay is in "Ward", and would not be any more`)

	h.Change(t, revision.ObjectChange{Kind: revision.KindGroup, ID: ward[0].ID, Name: "Ward", Body: &revision.GroupBody{Groups: draft.Refs(nurses)}})
	assert.Zero(t, adopt(true).People, "live does not have it yet")
	h.publish("the ward holds the directory's nurses")
	before, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, adopt(true).People)
	assert.Contains(t, at(t, h.Store, 0), "kay: Ward", "a preview changes nothing")
	done = adopt(false)
	assert.Equal(t, []any{1, 1}, []any{done.People, len(done.Kept)})
	assert.Contains(t, done.Kept[0], `Ola is in "Choir"`)
	want := []string{"*Ward: nurses", "Ola: Choir Ward", "kay: nurses", "ren: nurses", "una: "}
	for _, version := range []int64{0, before.Live.Version} {
		assert.Equal(t, want, at(t, h.Store, version))
	}
	kay, err := h.Store.Object(t.Context(), revision.KindPerson, people[0].ID)
	require.NoError(t, err)
	assert.Equal(t, h.id, kay.Directory, "the same person, edited elsewhere")
	now, err := h.Store.DraftVersion(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before.Draft, now.Draft, "nothing was edited")
	differ, err := h.Store.Changed(t.Context(), before.Live.Version, 0)
	require.NoError(t, err)
	assert.Empty(t, differ)

	// Later readings know the person; an earlier revision brings nobody back.
	assert.Nil(t, h.take(file).State)
	h.take(said("*nurses", "kay.reed/1: nurses", "ola/2: nurses", "ren/3: nurses"))
	kay, err = h.Store.Object(t.Context(), revision.KindPerson, people[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "kay.reed", kay.Name)
	names, err := h.Store.Names(t.Context(), []uuid.UUID{kay.ID})
	require.NoError(t, err)
	assert.Equal(t, "kay.reed", names[kay.ID])
	require.NoError(t, h.Store.Restore(t.Context(), 2, 0, nil, access.Setup))
	assert.Contains(t, at(t, h.Store, 0), "kay.reed: nurses")
	assert.NotContains(t, strings.Join(at(t, h.Store, 0), "\n"), "kay:")
	h.take(said("*nurses", "ola/2: nurses", "ren/3: nurses", "tam/4:"))
	_, err = h.Store.AcceptDirectory(t.Context(), h.id, 3, access.Setup)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(at(t, h.Store, before.Live.Version), "\n"), "kay", "who leaves keeps no powers, whatever live said")
}

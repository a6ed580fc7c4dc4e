package edition

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync/atomic"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/revision"
)

// compiled is the draft at one version, ready for decisions. Lists are compiled in groups: each large list by itself, all
// others together. Edits since a group was compiled stand in a small index beside it, so that the cost of an edit is that of its
// changes, whatever the size of the list.
type compiled struct {
	draft    revision.Draft
	index    *match.Index
	groups   map[uuid.UUID]group // by list; the small ones together under uuid.Nil
	roster   *roster
	clocks   []policy.Schedule
	local    *classify.Local   // at draft.Classified
	own      classify.Taxonomy // the categories of our own, at draft.Classified
	overlaid int               // the most entries that stand beside one group
	asides   struct {          // what cannot be read and is left out, objects aside, which the roster has
		clocks, local revision.Asides
	}

	ready atomic.Pointer[ready] // replaced whole, never edited
}

// group is lists that are compiled together.
type group struct {
	base    *match.Index
	version int64               // of the draft when base was compiled
	members map[uuid.UUID]int64 // the lists in base, with their versions then
	entries int                 // in base
	seen    map[uuid.UUID]int64 // the versions of the lists in whole
	whole   *match.Index        // base with what was edited since
	beside  int                 // entries that the two differ by

	aside map[int64]revision.Aside // by the ids of entries: those that cannot be read
}

const (
	// large is the number of entries from which a list is compiled by itself. Compiling so many takes about a millisecond.
	large = 5_000

	// mergeFrom is from how many edits beside a group on it is compiled anew, in the background. Reading so many back takes some
	// milliseconds with every further edit.
	mergeFrom = 2_000

	// mostOverlaid is how many edits may stand beside a group meanwhile; with more, a trial waits for the compilation.
	mostOverlaid = 50_000
)

// compile compiles a draft, reusing what was compiled before. At most most edits stand beside a group, except where the group
// itself is no larger.
func compile(ctx context.Context, r revision.DraftReader, before *compiled, most int) (*compiled, error) {
	draft, err := r.Draft(ctx)
	if err != nil {
		return nil, err
	}
	c := &compiled{draft: draft, groups: map[uuid.UUID]group{}}
	if before == nil {
		before = &compiled{}
	}
	members := map[uuid.UUID][]revision.DraftList{uuid.Nil: nil}
	for _, l := range draft.Lists {
		of := uuid.Nil
		// A list stays in its group until the group is compiled again, so that one that grows and shrinks does not move back and forth.
		if _, alone := before.groups[l.ID]; alone && l.EntryCount >= large/2 || l.EntryCount >= large && !before.groups[uuid.Nil].has(l.ID) ||
			l.EntryCount >= 2*large {
			of = l.ID
		}
		members[of] = append(members[of], l)
	}
	var parts []*match.Index
	for of, lists := range members {
		g, err := before.groups[of].at(ctx, r, draft.Version, lists, most)
		if err != nil {
			return nil, err
		}
		c.groups[of] = g
		c.overlaid = max(c.overlaid, g.beside)
		parts = append(parts, g.whole)
	}
	c.index = match.Join(parts...)
	since, roster := int64(0), before.roster
	if before.draft.Directories != draft.Directories { // what they say is the same in all versions, so no version tells what has changed
		roster = nil
	}
	if roster != nil {
		since = before.draft.Version
	}
	changed, gone, err := r.Objects(ctx, since)
	if err != nil {
		return nil, err
	}
	c.roster = roster.with(changed, gone)
	kept, err := r.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	c.clocks, c.asides.clocks = scheduled(kept)
	if c.local, c.own, c.asides.local = before.local, before.own, before.asides.local; c.local == nil || before.draft.Classified != draft.Classified {
		c.local, c.own, c.asides.local, err = compileLocal(ctx, r)
	}
	return c, err
}

// setAside returns everything that cannot be read.
func (c *compiled) setAside() []revision.Aside {
	all := slices.Concat(c.roster.setAside(), c.asides.clocks, c.asides.local)
	for _, g := range c.groups {
		for _, one := range g.aside {
			if i := slices.IndexFunc(c.draft.Lists, func(l revision.DraftList) bool { return l.ID == one.ID }); i >= 0 {
				one.Name = c.draft.Lists[i].Name
				all = append(all, one)
			}
		}
	}
	slices.SortFunc(all, func(a, b revision.Aside) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Text, b.Text))
	})
	return all
}

// compileLocal compiles corrections, categories of our own and scorecards.
func compileLocal(ctx context.Context, r revision.DraftReader) (_ *classify.Local, taxonomy classify.Taxonomy, asides revision.Asides, _ error) {
	said, err := r.Local(ctx)
	if err != nil {
		return nil, taxonomy, nil, err
	}
	// Of equally specific corrections the last one said counts, so they are numbered by their dates, which files carry, too.
	slices.SortStableFunc(said.Corrections, func(a, b revision.Correction) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.ID, b.ID)) })
	var corrections []classify.Correction
	for i, c := range said.Corrections {
		if !c.Entry.IsValid() {
			asides.AddUnread(revision.KindCorrection, revision.Meta{ID: c.UID, Name: c.Entry.String()}, pattern.Entry{Pattern: c.Entry})
			continue
		}
		corrections = append(corrections, classify.Correction{ID: int64(i) + 1, Pattern: c.Entry, Categories: c.Categories})
	}
	var own []classify.Own
	for _, c := range said.Own {
		one := classify.Own{Key: c.Key, Adds: c.Adds}
		taxonomy.Categories = append(taxonomy.Categories, classify.Category{Key: c.Key, Name: c.Name, Family: c.Family})
		for _, l := range c.Lists {
			one.Lists = append(one.Lists, l.ID.String())
		}
		own = append(own, one)
	}
	var cards []classify.Scorecard
	for _, c := range said.Scorecards {
		if c.Off {
			continue
		}
		card, err := Card(c)
		if err != nil {
			asides.Add(revision.KindScorecard, revision.Meta{ID: c.ID, Name: c.Name}, c.Name, err)
			continue
		}
		cards = append(cards, card)
	}
	return classify.NewLocal(corrections, own, cards), taxonomy, asides, nil
}

// Card returns a scorecard as the core has it.
func Card(c revision.Scorecard) (classify.Scorecard, error) {
	card := classify.Scorecard{ID: c.ID.String(), Name: c.Name, Category: c.Category, Threshold: c.Threshold}
	for _, term := range c.Terms {
		word, err := revision.ParseWord(term.Word)
		if err != nil {
			return card, fmt.Errorf("the word %q: %w", term.Word, err)
		}
		card.Terms = append(card.Terms, classify.Term{Word: word, Points: term.Points})
	}
	return card, nil
}

func (g group) has(list uuid.UUID) bool {
	_, ok := g.members[list]
	return ok
}

// at returns the group with its lists as the reader has them; the reader may be at an earlier version than the group.
func (g group) at(ctx context.Context, r revision.DraftReader, version int64, lists []revision.DraftList, most int) (group, error) {
	same := g.base != nil && len(lists) == len(g.seen) && g.beside <= most
	for _, l := range lists {
		same = same && g.seen[l.ID] == l.Version
	}
	if same {
		return g, nil
	}
	next := group{base: g.base, version: g.version, members: g.members, entries: g.entries, seen: map[uuid.UUID]int64{}, aside: maps.Clone(g.aside)}
	left, grown := len(g.members), -g.entries
	for _, l := range lists {
		next.seen[l.ID] = l.Version
		grown += int(l.EntryCount)
		if g.has(l.ID) {
			left--
		}
	}
	if g.base == nil || left > 0 || grown > most || -grown > most { // lists that are gone cannot stand beside
		return next.compiled(ctx, r, version, lists)
	}
	var gone []int64
	b := match.NewBuilder(0)
	for _, l := range lists {
		at := b.List(l.ID.String(), l.Name) // the name counts, also where nothing else changed
		based, ok := g.members[l.ID]
		if ok && based == l.Version {
			continue
		}
		from := g.version
		if !ok {
			from = 0
		} else {
			ids, err := r.Gone(ctx, l.ID, from)
			if err != nil {
				return g, err
			}
			gone = append(gone, ids...)
			for _, id := range ids {
				delete(next.aside, id)
			}
		}
		sink := &sink{b: b, list: at, id: l.ID, aside: &next.aside}
		if err := r.Entries(ctx, l.ID, from, sink); err != nil {
			return g, err
		}
		next.beside += sink.entries
	}
	if next.beside += len(gone); next.beside > most {
		return next.compiled(ctx, r, version, lists)
	}
	next.whole = match.Join(g.base.Without(gone...), b.Build())
	return next, nil
}

// compiled returns the group with its lists compiled anew.
func (g group) compiled(ctx context.Context, r revision.DraftReader, version int64, lists []revision.DraftList) (group, error) {
	expected := 0
	for _, l := range lists {
		expected += int(l.EntryCount)
	}
	g.version, g.members, g.entries, g.beside, g.aside = version, map[uuid.UUID]int64{}, 0, 0, nil
	b := match.NewBuilder(expected)
	for _, l := range lists {
		g.members[l.ID] = l.Version
		sink := &sink{b: b, list: b.List(l.ID.String(), l.Name), id: l.ID, aside: &g.aside}
		if err := r.Entries(ctx, l.ID, 0, sink); err != nil {
			return g, err
		}
		g.entries += sink.entries
	}
	g.base = b.Build()
	g.whole = g.base
	return g, nil
}

// sink passes the entries of one list to a builder.
type sink struct {
	b       *match.Builder
	list    int
	id      uuid.UUID // of the list
	entries int
	aside   *map[int64]revision.Aside
}

// Named implements [revision.EntrySink].
func (s *sink) Named(id int64, name string, scope pattern.Scope, carveOut bool) {
	s.entries++
	s.b.AddNamed(s.list, id, name, scope, carveOut)
}

// Entry implements [revision.EntrySink].
func (s *sink) Entry(id int64, entry pattern.Entry) {
	s.entries++
	if entry.Kind() == pattern.Unreadable {
		var one revision.Asides
		one.AddUnread(revision.KindList, revision.Meta{ID: s.id}, entry)
		if *s.aside == nil {
			*s.aside = map[int64]revision.Aside{}
		}
		(*s.aside)[id] = one[0]
		return
	}
	s.b.Add(s.list, id, entry)
}

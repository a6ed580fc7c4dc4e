package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/ranges"
)

// Facts hold beside a snapshot without being published: each has an end, and facts come and go while the snapshot stays.
// They begin and end at whole seconds, as everything that changes a verdict does: fractions of a second are dropped. The zero
// Facts is empty.
type Facts struct {
	Grants   []Exception // made at once, on the rung of exceptions and ordered with them
	Unlocked []Unlocked  // on a rung of their own, above exceptions
	Stints   []Stint     // on a rung of their own, below exceptions

	// Acknowledged are on no rung: where the rule that was acknowledged would hold, it says allow, with its provisos.
	Acknowledged []Acknowledged

	// Presences say who is at an address. They decide nothing by themselves: whoever asks a question names the person; see [Snapshot.PresentAt].
	Presences []Presence

	// Used says how much of their quotas people have used.
	Used []Used
}

// Presence is a person at an address, for a while. An address has one at a time.
type Presence struct {
	Person      string // id
	Addr        netip.Addr
	From, Until time.Time
}

// Acknowledged says that a person, or who is at an address, has read why a rule holds some URLs, and goes on.
type Acknowledged struct {
	Rule string // the id of the rule or, where it is the policy's otherwise that holds, of the policy
	Unlocked
}

// IsEmpty reports whether there are no facts.
func (f *Facts) IsEmpty() bool {
	return len(f.Grants)+len(f.Unlocked)+len(f.Stints)+len(f.Presences)+len(f.Acknowledged)+len(f.Used) == 0
}

// With returns a snapshot that decides with facts beside it, in place of those that s has. All that is compiled is shared; s stays as it is. It
// costs a small index of what the facts cover, however large the configuration is. A fact about somebody unknown never applies.
func (s *Snapshot) With(facts Facts) *Snapshot {
	with := *s
	with.opening = &opening{}
	published := s.grants[:len(s.config.Exceptions)]
	with.grants, with.stints = slices.Clip(published), nil
	var covered []match.List
	for i := range facts.Grants {
		e := facts.Grants[i]
		e.Grant, e.From, e.Until = true, e.From.Truncate(time.Second), e.Until.Truncate(time.Second)
		with.grants = append(with.grants, s.grant(&e))
		covered = append(covered, match.List{ID: e.ID, Name: e.Name, Entries: e.Entries})
	}
	with.byClass = nil
	var classes [][]string // of grants in byClass
	past := func(u *Unlocked, kind grantKind, of string) {
		if u.Person == "" && s.SharedAt(u.Addr) {
			return
		}
		e := &Exception{ID: u.ID, Then: Allow, From: u.From.Truncate(time.Second), Until: u.Until.Truncate(time.Second), For: Whom{Persons: []string{u.Person}}}
		if u.Addr.IsValid() {
			e.For.Ranges = []netip.Prefix{ranges.Single(u.Addr)}
		}
		g := s.grant(e)
		g.kind, g.of = kind, of
		if len(u.Categories) > 0 && kind == unlocked {
			with.byClass, classes = append(with.byClass, int32(len(with.grants))), append(classes, u.Categories)
		}
		with.grants = append(with.grants, g)
		covered = append(covered, match.List{ID: "unlocked", Entries: u.Entries})
	}
	for i := range facts.Unlocked {
		past(&facts.Unlocked[i], unlocked, "")
	}
	for i := range facts.Acknowledged {
		past(&facts.Acknowledged[i].Unlocked, acknowledged, facts.Acknowledged[i].Rule)
	}
	for i := range facts.Stints {
		st := facts.Stints[i]
		st.From, st.Until = st.From.Truncate(time.Second), st.Until.Truncate(time.Second)
		ready := stint{&st, s.config.Directory.Group(st.Group), s.persons(st.Persons), s.persons(st.Done), s.listSet(st.Lists), -1}
		if len(st.Entries) > 0 {
			ready.entries = int32(len(with.grants))
			with.grants = append(with.grants, grant{Exception: &Exception{ID: st.ID, Then: Allow, From: st.From, Until: st.Until}, kind: chosen})
			covered = append(covered, match.List{ID: "stint", Entries: st.Entries})
		}
		with.stints = append(with.stints, ready)
	}
	slices.SortStableFunc(with.stints, func(a, b stint) int { return cmp.Or(b.From.Compare(a.From), cmp.Compare(a.ID, b.ID)) })
	with.steered = phasesOf(with.stints)
	with.acknowledgements = len(facts.Acknowledged) > 0
	with.use(facts.Used)
	with.presences = nil
	for _, p := range facts.Presences {
		if s.SharedAt(p.Addr) {
			continue
		}
		if with.presences == nil {
			with.presences = map[netip.Addr][]Presence{}
		}
		with.presences[p.Addr.Unmap()] = append(with.presences[p.Addr.Unmap()], p)
	}
	lists := s.lists
	if len(covered) > 0 {
		lists = match.Gather(lists, match.New(covered))
	}
	// Lists of facts stand after all that conditions ask, so the numbers of lists and categories stay the same.
	with.classifier = classify.New(s.config.Local, s.config.Packs, lists)
	with.index = with.classifier.Index()
	for i, n := range with.byClass {
		with.grants[n].is = with.classes(classes[i])
	}
	with.noException = noneOf(len(published) + len(facts.Grants))
	return &with
}

// classes returns the numbers of categories, by their keys or those of families.
func (s *Snapshot) classes(keys []string) directory.Set {
	set := directory.NewSet(s.classifier.Count())
	add := func(key string) {
		if n := s.classifier.Number(key); n >= 0 {
			set.Add(n)
		}
	}
	for _, key := range keys {
		add(key)
		for _, c := range s.config.Taxonomy.Categories {
			if c.Family == key {
				add(c.Key)
			}
		}
	}
	return set
}

// phasesOf returns which stints are in force when: stints of a month are remembered, for trials of the past, and a decision is to look at those of its moment alone.
func phasesOf(stints []stint) (phases []phase) {
	type change struct {
		at    time.Time
		stint int32
		ends  bool
	}
	changes := make([]change, 0, 2*len(stints))
	for i := range stints {
		st := &stints[i]
		if st.group < 0 || !st.Until.IsZero() && !st.From.Before(st.Until) {
			continue
		}
		changes = append(changes, change{st.From, int32(i), false})
		if !st.Until.IsZero() {
			changes = append(changes, change{st.Until, int32(i), true})
		}
	}
	slices.SortFunc(changes, func(a, b change) int { return a.at.Compare(b.at) })
	var runs []int32
	for i := 0; i < len(changes); {
		from := changes[i].at
		for ; i < len(changes) && changes[i].at.Equal(from); i++ {
			n, found := slices.BinarySearch(runs, changes[i].stint)
			switch {
			case changes[i].ends && found:
				runs = slices.Delete(runs, n, n+1)
			case !changes[i].ends && !found:
				runs = slices.Insert(runs, n, changes[i].stint)
			}
		}
		phases = append(phases, phase{from, slices.Clone(runs)})
	}
	return phases
}

// running returns the stints in force at a moment, whomever they are for, in order.
func (s *Snapshot) running(at time.Time) []int32 {
	n, found := slices.BinarySearchFunc(s.steered, at, func(p phase, at time.Time) int { return p.from.Compare(at) })
	if !found {
		n--
	}
	if n < 0 {
		return nil
	}
	return s.steered[n].stints
}

// persons returns the numbers of people; those who are not known are left out. It is never nil where there are some.
func (s *Snapshot) persons(ids []string) []int32 {
	if ids == nil {
		return nil
	}
	numbers := []int32{}
	for _, id := range ids {
		if n := s.config.Directory.Person(id); n >= 0 {
			numbers = append(numbers, n)
		}
	}
	return numbers
}

// Idles returns the id of what was unlocked and lets a request pass, where that ends when it is not used; "" else.
func (s *Snapshot) Idles(d Decision) string {
	if d.Rung != AtUnlocked {
		return ""
	}
	return s.grants[d.Granted].ID
}

// SharedAt reports whether many clients stand behind an address, so that no fact is about it.
func (s *Snapshot) SharedAt(addr netip.Addr) bool {
	if len(s.config.Shared) == 0 || !addr.IsValid() {
		return false
	}
	n := s.config.Directory.NetworkOf(addr.Unmap())
	return n >= 0 && s.config.Shared[s.config.Directory.Networks[n].ID]
}

// noneOf returns the sentence that none of so many exceptions covers a URL.
func noneOf(exceptions int) string {
	switch exceptions {
	case 0:
		return "there are none"
	case 1:
		return "the only one does not cover this URL"
	}
	return fmt.Sprintf("none of the %d covers this URL", exceptions)
}

// PresentAt returns the id of the person who is at an address at a moment, by the facts beside the snapshot; "" where nobody is known to be. Of several, the
// one who came last.
func (s *Snapshot) PresentAt(addr netip.Addr, at time.Time) (person string) {
	var since time.Time
	for _, p := range s.presences[addr.Unmap()] {
		if !at.Before(p.From) && at.Before(p.Until) && !p.From.Before(since) {
			person, since = p.Person, p.From
		}
	}
	return person
}

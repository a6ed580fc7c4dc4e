package policy

import (
	"fmt"
	"slices"
	"time"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// PlanRow is the verdicts over time on what is in one list or has one category, and nothing else.
type PlanRow struct {
	List     *match.Ref         // one of the two
	Category *classify.Category // Its key is that of a family where all that is in it fares alike
	Strip    []Segment
}

// Plan is the week of a group: the verdicts on everything else, and the lists and categories with other verdicts.
type Plan struct {
	Else []Segment // for what no rule asks about
	Rows []PlanRow // lists by their order, then categories; only those with other verdicts than Else
}

// neutral is a page that is in no list and has no category.
var neutral = weburl.MustParse("https://page.invalid/")

// pretend fills w as if a member of a group asked for something that is in one list, or has one category; -1 for none.
func (s *Snapshot) pretend(w *Work, group string, list, category int32) {
	r := Request{URL: neutral, Group: group}
	s.belong(w, &r)
	w.url = &neutral
	w.seen.Takes = w.seen.Takes[:0]
	s.weigh(w)
	if list >= 0 {
		w.in.Add(list)
		w.listed = append(w.listed, list)
	}
	if category >= 0 {
		w.is.Add(category)
		w.seen.Categories = append(w.seen.Categories, category) // so that it is not unrated
	}
}

// Plan returns what the members of a group may reach when, from a moment until another.
func (s *Snapshot) Plan(w *Work, group string, from, to time.Time) Plan {
	strip := func(list, category int32) []Segment {
		s.pretend(w, group, list, category)
		moments := []int64{from.Unix()}
		for _, n := range s.clocksOf(w) {
			moments = s.clocks[n].changes(moments, from, to)
		}
		slices.Sort(moments)
		var segments []Segment
		for _, second := range slices.Compact(moments) {
			at := time.Unix(second, 0)
			segments = extend(segments, at, to, s.ladder(w, at, nil))
		}
		return segments
	}
	plan := Plan{Else: strip(-1, -1)}
	lists, categories := s.askedOf(w)
	for n := lists.Next(0); n >= 0; n = lists.Next(n + 1) {
		if row := strip(n, -1); !sameVerdicts(row, plan.Else) {
			ref := s.listRef(n)
			plan.Rows = append(plan.Rows, PlanRow{List: &ref, Strip: row})
		}
	}
	// A family whose categories fare alike is one row.
	type known struct {
		classify.Category
		strip []Segment
	}
	byFamily := map[string][]known{}
	var families []string
	for _, category := range s.config.Taxonomy.Categories {
		n := s.classifier.Number(category.Key)
		if n < 0 || !categories.Has(n) {
			continue
		}
		if byFamily[category.Family] == nil {
			families = append(families, category.Family)
		}
		byFamily[category.Family] = append(byFamily[category.Family], known{category, strip(-1, n)})
	}
	for _, key := range families {
		members := byFamily[key]
		all := 0
		for _, c := range s.config.Taxonomy.Categories {
			if c.Family == key && s.classifier.Number(c.Key) >= 0 {
				all++
			}
		}
		alike := len(members) > 1 && len(members) == all && !slices.ContainsFunc(members, func(m known) bool { return !sameVerdicts(m.strip, members[0].strip) })
		if family, ok := s.config.Taxonomy.Family(key); ok && alike {
			members = []known{{classify.Category{Key: key, Name: family.Name}, members[0].strip}}
		}
		for _, m := range members {
			if !sameVerdicts(m.strip, plan.Else) {
				plan.Rows = append(plan.Rows, PlanRow{Category: &m.Category, Strip: m.strip})
			}
		}
	}
	return plan
}

func sameVerdicts(a, b []Segment) bool {
	return slices.EqualFunc(a, b, func(x, y Segment) bool { return x.From.Equal(y.From) && x.Decision.Verdict == y.Decision.Verdict })
}

// askedOf returns the lists and categories that the rules ask for which the request in w can meet.
func (s *Snapshot) askedOf(w *Work) (lists, categories directory.Set) {
	lists, categories = directory.NewSet(int(s.asked)), directory.NewSet(s.classifier.Count())
	add := func(p *ladderPolicy) {
		if p == nil {
			return
		}
		for i := range p.rules {
			for _, leaf := range p.rules[i].cond.asks(nil) {
				switch leaf.op {
				case InList:
					lists.Unite(leaf.set)
				case Is:
					categories.Unite(leaf.set)
				}
			}
		}
	}
	add(s.baseline)
	own := false
	for _, n := range w.policies {
		add(&s.policies[n])
		own = true
	}
	if !own {
		add(s.fallback)
	}
	return lists, categories
}

// Conflict is a rule that tries to loosen what the baseline blocks.
type Conflict struct {
	Place int32 // of the rule
	Text  string
}

// Loosens returns which rules of a policy allow what the baseline blocks all the same: whole categories and lists. Precondition: the
// policy is one of the snapshot's.
func (s *Snapshot) Loosens(w *Work, id string, at time.Time) []Conflict {
	p := s.fallback
	if i := slices.IndexFunc(s.policies, func(p ladderPolicy) bool { return p.ID == id }); i >= 0 {
		p = &s.policies[i]
	} else if p == nil || p.ID != id {
		return nil
	}
	if s.baseline == nil {
		return nil
	}
	var conflicts []Conflict
	blocks := func(list, category int32) (string, bool) {
		s.pretend(w, "", list, category)
		place, _, decided := s.first(w, s.baseline, s.baselineNumber(), AtBaseline, at, nil, nil)
		if !decided || s.baseline.rules[place].Then != Block {
			return "", false
		}
		return s.baseline.rules[place].Name, true
	}
	for i := range p.rules {
		r := &p.rules[i]
		if r.Off || r.Then == Block || r.Then == Note {
			continue
		}
		tell := func(what, by string) {
			conflicts = append(conflicts, Conflict{int32(i), fmt.Sprintf("The baseline blocks %s by its rule %q; %s cannot loosen it.", what, by, r.Name)})
		}
		for _, leaf := range r.cond.allowing(nil) {
			for n := leaf.set.Next(0); n >= 0; n = leaf.set.Next(n + 1) {
				switch leaf.op {
				case InList:
					if by, ok := blocks(n, -1); ok {
						tell(fmt.Sprintf("the list %q", s.listRef(n).Name), by)
					}
				case Is:
					if by, ok := blocks(-1, n); ok {
						tell(s.category(n).Name, by)
					}
				}
			}
		}
	}
	return conflicts
}

// allowing appends the leaves of a condition that are not negated.
func (n *node) allowing(all []*node) []*node {
	if n.op == None {
		return all
	}
	for i := range n.of {
		all = n.of[i].allowing(all)
	}
	if len(n.of) == 0 {
		all = append(all, n)
	}
	return all
}

// Standing is what holds for an asker, whatever the URL.
type Standing struct {
	Groups     []match.Ref
	Network    *match.Ref
	Policies   []match.Ref // in their order; none: the fallback
	Exceptions []Exception // that fit, in force or later; the closest first
}

// Standing returns what a person, an unnamed member of a group, or an address belongs to.
func (s *Snapshot) Standing(w *Work, r Request, at time.Time) Standing {
	r.URL = neutral
	s.belong(w, &r)
	st := Standing{}
	d := s.config.Directory
	for n := w.groups.Next(0); n >= 0; n = w.groups.Next(n + 1) {
		st.Groups = append(st.Groups, match.Ref{ID: d.Groups[n].ID, Name: d.Groups[n].Name})
	}
	if w.network >= 0 {
		st.Network = &match.Ref{ID: d.Networks[w.network].ID, Name: d.Networks[w.network].Name}
	}
	for _, n := range w.policies {
		st.Policies = append(st.Policies, match.Ref{ID: s.policies[n].ID, Name: s.policies[n].Name})
	}
	for level := forPerson; level >= forEverybody; level-- {
		for i := range s.grants {
			g := &s.grants[i]
			if g.kind == excepted && !g.Off && w.level(g) == level && (g.Until.IsZero() || at.Before(g.Until)) {
				st.Exceptions = append(st.Exceptions, *g.Exception)
			}
		}
	}
	return st
}

// Source returns in a few words where a decision comes from.
func (s *Snapshot) Source(d Decision) string {
	name := func(p *Policy, kind string) string {
		if d.Rule < 0 {
			return kind + ": otherwise"
		}
		return kind + ": " + p.Rules[d.Rule].Name
	}
	switch d.Rung {
	case "":
		return "no gate is on the way"
	case AtBaseline:
		return name(s.config.Baseline, "Baseline")
	case AtUnlocked:
		return "unlocked"
	case AtException:
		if d.Granted < 0 {
			return "an exception"
		}
		return s.grants[d.Granted].word() + ": " + s.grants[d.Granted].Name
	case AtStint:
		return "stint: " + s.stints[d.Stint].Kind.Says()
	case AtPolicy:
		return name(&s.config.Policies[d.Policy], s.config.Policies[d.Policy].Name)
	}
	if s.config.Fallback == nil {
		return "no policy"
	}
	return name(s.config.Fallback, "Fallback")
}

// Categories returns the keys of the categories that a URL has on a day. The result is valid until w is used again.
func (s *Snapshot) Categories(w *Work, u URL, day pattern.Date) []string {
	s.classifier.Classify(&w.seen, u, day, weburl.Full)
	w.keys = w.keys[:0]
	for _, n := range w.seen.Categories {
		w.keys = append(w.keys, s.classifier.Key(n))
	}
	return w.keys
}

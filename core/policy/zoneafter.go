package policy

import (
	"reflect"
	"slices"
	"time"

	"widelark/core/match"
	"widelark/core/pattern"
)

// mostCompared is how many entries are compared at most to tell what has changed between two snapshots.
const mostCompared = 50_000

// ZoneAfter returns the zone that [Snapshot.Zone] returns for the same asker at a moment. It decides only the hosts of which a zone before may say something else, if the
// snapshots differ by some entries or exceptions alone; otherwise all of them.
func (s *Snapshot) ZoneAfter(z *Zone, at time.Time) *Zone {
	hosts, ok := s.changedHosts(z, at)
	if !ok {
		return s.Zone(z.asker, at, z.errs)
	}
	next := s.newZone(z.asker, at, z.errs)
	if len(hosts) == 0 {
		next.all = z.all
		return next
	}
	var anew []string // the hosts, and what is below them
	type span struct{ from, to int }
	var spans []span // of z.all, in place of which anew is put
	for i := 0; i < len(hosts); i++ {
		top := hosts[i]
		from, _ := slices.BinarySearchFunc(z.all, top, func(l ZoneLine, host string) int { return CompareHosts(l.Host, host) })
		to := from
		anew = append(anew, top)
		for ; to < len(z.all) && (z.all[to].Host == top || isBelow(z.all[to].Host, top)); to++ {
			if z.all[to].Host != top {
				anew = append(anew, z.all[to].Host)
			}
		}
		for ; i+1 < len(hosts) && isBelow(hosts[i+1], top); i++ {
			anew = append(anew, hosts[i+1])
		}
		spans = append(spans, span{from, to})
	}
	slices.SortFunc(anew, CompareHosts)
	lines := next.decide(slices.Compact(anew))
	next.all = make([]ZoneLine, 0, len(z.all)+len(lines))
	copied := 0
	for _, of := range spans {
		next.all = append(next.all, z.all[copied:of.from]...)
		copied = of.to
		top := 0
		for ; top < len(lines) && (of.to == len(z.all) || CompareHosts(lines[top].Host, z.all[of.to].Host) < 0); top++ {
		}
		next.all = append(next.all, lines[:top]...)
		lines = lines[top:]
	}
	next.all = append(next.all, z.all[copied:]...)
	return next
}

// changedHosts returns the hosts, by host from the right, such that a zone of s at a moment differs from one before only at them and below them; false where that cannot be
// told by hosts.
func (s *Snapshot) changedHosts(z *Zone, at time.Time) (hosts []string, ok bool) {
	before := z.of
	if at.Before(z.at) || !s.sameButEntries(before, &z.asker) || s.turns(z.at, at) {
		return nil, false
	}
	ok = true
	changed := func(p pattern.Pattern) {
		host, nothingElse := match.HostOf(p)
		if host != "" {
			hosts = append(hosts, host)
		}
		ok = ok && nothingElse
	}
	if !s.config.Lists.Differing(before.config.Lists, mostCompared, changed) || !s.config.Local.Differing(before.config.Local, mostCompared, changed) {
		return nil, false
	}
	for i := range s.config.Packs {
		if !s.config.Packs[i].Sites.Differing(before.config.Packs[i].Sites, mostCompared, changed) {
			return nil, false
		}
	}
	were := map[string]*grant{}
	for i := range before.grants {
		were[before.grants[i].ID] = &before.grants[i]
	}
	entries := func(g *grant) {
		for i := range g.Entries {
			changed(g.Entries[i].Pattern)
		}
	}
	for i := range s.grants {
		g := &s.grants[i]
		was := were[g.ID]
		delete(were, g.ID)
		within := func(t time.Time) bool { return t.After(z.at) && !t.After(at) }
		if was == nil || was.kind != g.kind || was.of != g.of || within(g.From) || within(g.Until) || was.Exception != g.Exception && !reflect.DeepEqual(was.Exception, g.Exception) {
			entries(g)
			if was != nil {
				entries(was)
			}
		}
	}
	for _, was := range were {
		entries(was)
	}
	slices.SortFunc(hosts, CompareHosts)
	return slices.Compact(hosts), ok
}

// sameButEntries reports whether two snapshots decide alike for an asker, but for the entries of their lists, packs, corrections and exceptions.
func (s *Snapshot) sameButEntries(o *Snapshot, asker *Request) bool {
	if len(s.config.Packs) != len(o.config.Packs) || !reflect.DeepEqual(s.config.Directory, o.config.Directory) || !reflect.DeepEqual(s.config.Lists.Lists(), o.config.Lists.Lists()) {
		return false
	}
	for i := range s.config.Packs {
		if s.config.Packs[i].ID != o.config.Packs[i].ID {
			return false
		}
	}
	if len(s.byClass)+len(o.byClass) > 0 { // hosts of a category are in no entries
		return false
	}
	if len(s.stints) != len(o.stints) {
		return false
	}
	for i := range s.stints {
		if !reflect.DeepEqual(s.stints[i].Stint, o.stints[i].Stint) {
			return false
		}
	}
	if asker.Addr.IsValid() && (len(s.used)+len(o.used) > 0 || !reflect.DeepEqual(s.presences[asker.Addr], o.presences[asker.Addr])) {
		return false
	}
	rest := func(c Config) Config {
		c.Directory, c.Lists, c.Local, c.Packs, c.Exceptions = nil, nil, nil, nil, nil
		return c
	}
	return reflect.DeepEqual(rest(s.config), rest(o.config))
}

// turns reports whether a schedule, a stint or the end of a day may turn verdicts after a moment and until another.
func (s *Snapshot) turns(from, to time.Time) bool {
	if pattern.DateOf(from.In(s.config.Zone)) != pattern.DateOf(to.In(s.config.Zone)) {
		return true
	}
	for _, c := range s.clocks {
		if at, ok := c.next(from); ok && !at.After(to) {
			return true
		}
	}
	for i := range s.stints {
		for _, at := range []time.Time{s.stints[i].From, s.stints[i].Until} {
			if at.After(from) && !at.After(to) {
				return true
			}
		}
	}
	return false
}

// Since returns a small zone: with it before any of some zones of the same asker, resolvers answer as z says. The hosts of also, by host from the right, have lines in any
// case. It reports false where z cannot be told so, as what it says of all names has changed, and where there are more than most lines.
func (z *Zone) Since(most int, also []string, bases ...*Zone) (small *Zone, ok bool) {
	walks := make([]walk, len(bases))
	for i, base := range bases {
		if base.Open != z.Open || base.Page != z.Page {
			return nil, false
		}
		walks[i] = walk{lines: base.all, thinner: thinner{stack: []above{{"", base.Open}}}}
	}
	asked := walk{thinner: thinner{stack: []above{{}}}}
	for _, host := range also {
		asked.lines = append(asked.lines, ZoneLine{Host: host})
	}
	mine := walk{lines: z.all, thinner: thinner{stack: []above{{"", z.Open}}}}
	t := thinner{stack: []above{{"", z.Open}}}
	for {
		host, more := asked.next(mine.next("", false))
		for i := range walks {
			host, more = walks[i].next(host, more)
		}
		if !more {
			break
		}
		now, differs := mine.at(host), len(asked.lines) > 0 && asked.lines[0].Host == host
		asked.at(host)
		for i := range walks {
			differs = walks[i].at(host) != now || differs
		}
		top := t.over(host).host == "" // nothing above it is in the small zone
		switch {
		case top && differs:
			t.keep(now)
		case !top:
			t.add(now)
		}
		if len(t.kept) > most {
			return nil, false
		}
	}
	small = NewZone(true, t.kept)
	small.Page = z.Page
	return small, true
}

// walk goes along the lines of a zone, by host from the right.
type walk struct {
	lines []ZoneLine
	thinner
}

// next returns the earlier of a host and the next one of the zone. There is a host where more says so.
func (w *walk) next(host string, more bool) (string, bool) {
	if len(w.lines) == 0 || more && (w.lines[0].Host == host || CompareHosts(w.lines[0].Host, host) > 0) {
		return host, more
	}
	return w.lines[0].Host, true
}

// at returns what the zone says of a host, which is the next one or before it.
func (w *walk) at(host string) ZoneLine {
	if len(w.lines) > 0 && w.lines[0].Host == host {
		l := w.lines[0]
		w.over(host)
		w.stack, w.lines = append(w.stack, above{host, l.BelowOpen}), w.lines[1:]
		return l
	}
	over := w.over(host)
	return ZoneLine{Host: host, Open: over.belowOpen, BelowOpen: over.belowOpen}
}

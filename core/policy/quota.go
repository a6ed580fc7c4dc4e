package policy

import (
	"net/netip"
	"slices"
	"time"

	"widelark/core/pattern"
	"widelark/core/schedule"
)

// Used says in which minutes somebody used what a rule allows, of which the rule allows so many a day.
type Used struct {
	Rule    string     // its id
	Person  string     // id; "" where nobody is known
	Addr    netip.Addr // where the person is not known
	Minutes []int64    // since 1970 began, in any order
}

// Spent is how much of a quota an asker has used on a day.
type Spent struct {
	Policy, Rule string // names
	Minutes      int    // before the current minute
	Of           int    // minutes a day
}

// user is whose minutes count for which rule.
type user struct {
	rule, person string
	addr         netip.Addr
}

// bound is a rule that binds a request.
type bound struct {
	policy int32 // see ladderPolicy.number
	name   string
	rule   int32
	*Rule
}

// bind returns the provisos of a rule, and remembers the rule if it has a quota, or if what cannot be held is blocked; a policy's otherwise has none.
func (s *Snapshot) bind(w *Work, p *ladderPolicy, number int32, rung Rung, rule int32) Provisos {
	with := s.provisos(p, number, rule)
	if with.Quota > 0 {
		w.bound = append(w.bound, bound{p.number(rung), p.Name, rule, p.rules[rule].Rule})
	}
	if p.BlocksUnheld && with != (Provisos{}) {
		w.insisted = append(w.insisted, bound{p.number(rung), p.Name, rule, p.rules[rule].Rule})
	}
	return with
}

// use gathers minutes by whose they are.
func (s *Snapshot) use(all []Used) {
	s.used = nil
	if len(all) == 0 {
		return
	}
	s.used = map[user][]int64{}
	for i := range all {
		u := &all[i]
		key := user{rule: u.Rule, person: u.Person}
		if u.Person == "" {
			if s.SharedAt(u.Addr) {
				continue
			}
			key.addr = u.Addr.Unmap()
		}
		s.used[key] = append(s.used[key], u.Minutes...)
	}
	for key, minutes := range s.used {
		slices.Sort(minutes)
		s.used[key] = slices.Compact(minutes)
	}
}

// usedOf returns the minutes of a request's asker under a rule, in order.
func (s *Snapshot) usedOf(w *Work, rule string) []int64 {
	key := user{rule: rule, addr: w.addr}
	if w.person >= 0 {
		key.person, key.addr = s.config.Directory.People[w.person].ID, netip.Addr{}
	}
	return s.used[key]
}

const minute = int64(time.Minute / time.Second)

// usedUp returns from when on a quota is used up on the day of a moment, and when that day ends; false where it is not used up on that day. The minute in which
// the last one is used still counts as free.
func (s *Snapshot) usedUp(minutes []int64, quota time.Duration, at time.Time) (from, until time.Time, ever bool) {
	today := pattern.DateOf(at.In(s.config.Zone))
	begin, end := schedule.BeginOf(today, s.config.Zone).Unix(), schedule.BeginOf(today.Add(1), s.config.Zone).Unix()
	first, _ := slices.BinarySearch(minutes, (begin+minute-1)/minute)
	last := first + perDay(quota) - 1
	if last >= len(minutes) || minutes[last]*minute >= end {
		return from, until, false
	}
	return time.Unix((minutes[last]+1)*minute, 0), time.Unix(end, 0), true
}

// perDay returns how many minutes a day a quota allows.
func perDay(quota time.Duration) int { return max(1, int((quota+time.Minute-1)/time.Minute)) }

// spend blocks what would pass, if a quota that it is bound to is used up. The first of several counts.
func (s *Snapshot) spend(w *Work, at time.Time, t *tracer, d *Decision) {
	for i := range w.bound {
		b := &w.bound[i]
		if from, until, ever := s.usedUp(s.usedOf(w, b.ID), b.With.Quota, at); ever && !at.Before(from) && at.Before(until) {
			d.Verdict, d.Provisos, d.Policy, d.Rule = Block, Provisos{}, max(-1, b.policy), b.rule
			if t != nil {
				t.bound(b.policy).UsedUp = until
			}
			return
		}
	}
}

// quotaTimes calls each with the moments at which quotas of the asker are used up, or come anew with a day.
func (s *Snapshot) quotaTimes(w *Work, each func(time.Time)) {
	if len(s.used) == 0 {
		return
	}
	of := func(p *ladderPolicy) {
		if p == nil {
			return
		}
		for i := range p.rules {
			r := p.rules[i].Rule
			if r.With.Quota == 0 {
				continue
			}
			minutes := s.usedOf(w, r.ID)
			for at := 0; at < len(minutes); {
				day := time.Unix(minutes[at]*minute, 0)
				if from, until, ever := s.usedUp(minutes, r.With.Quota, day); ever {
					each(from)
					each(until)
				}
				next := schedule.BeginOf(pattern.DateOf(day.In(s.config.Zone)).Add(1), s.config.Zone).Unix()
				skip, _ := slices.BinarySearch(minutes[at:], (next+minute-1)/minute)
				at += max(1, skip)
			}
		}
	}
	of(s.baseline)
	for _, n := range w.policies {
		of(&s.policies[n])
	}
	of(s.fallback)
}

// Quotas returns how much is used of the quotas that a request is bound to, and the ids of their rules, which count a minute that is used by it.
func (s *Snapshot) Quotas(w *Work, r *Request, at time.Time) (spent []Spent, rules []string) {
	s.Decide(w, r, at)
	return s.spent(w, at)
}

func (s *Snapshot) spent(w *Work, at time.Time) (spent []Spent, rules []string) {
	begin := schedule.Today(at, s.config.Zone).Unix()
	for i := range w.bound {
		b := &w.bound[i]
		minutes := s.usedOf(w, b.ID)
		first, _ := slices.BinarySearch(minutes, (begin+minute-1)/minute)
		now, _ := slices.BinarySearch(minutes, at.Unix()/minute)
		spent = append(spent, Spent{b.name, b.Name, max(0, now-first), perDay(b.With.Quota)})
		rules = append(rules, b.ID)
	}
	return spent, rules
}

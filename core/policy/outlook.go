package policy

import (
	"slices"
	"time"

	"widelark/core/pattern"
	"widelark/core/schedule"
)

// Segment is a time in which one verdict holds. From is in it, To is not.
type Segment struct {
	From, To time.Time
	Decision Decision // as it is at From; its reason may change within
}

// extend adds the decision at a moment to a strip that lasts until another. The same verdict as before prolongs the last segment.
func extend(strip []Segment, at, until time.Time, d Decision) []Segment {
	if last := len(strip) - 1; last >= 0 {
		if strip[last].Decision.Verdict == d.Verdict {
			return strip
		}
		strip[last].To = at
	}
	return append(strip, Segment{From: at, To: until, Decision: d})
}

// Strip returns the verdicts on a request from one moment until another, in order; neighbours differ. It is exact: it decides between all
// moments at which anything that the verdict depends on begins or ends.
func (s *Snapshot) Strip(w *Work, r *Request, from, to time.Time) []Segment {
	s.belong(w, r)
	moments, days := s.moments(w, r, from, to)
	var strip []Segment
	for i, second := range moments {
		at := time.Unix(second, 0)
		if i == 0 {
			at = from
		} else if slices.Contains(days, second) {
			s.look(w, r, pattern.DateOf(at.In(s.config.Zone)), false)
			s.weigh(w)
		}
		strip = extend(strip, at, to, s.ladder(w, at, nil))
	}
	return strip
}

// moments returns when something may change, beginning with from, and the days on which other entries come into force. It leaves w
// filled for the first of them.
func (s *Snapshot) moments(w *Work, r *Request, from, to time.Time) (moments, days []int64) {
	s.look(w, r, pattern.DateOf(from.In(s.config.Zone)), false)
	s.weigh(w)
	moments = append(moments, from.Unix())
	within := func(at time.Time) bool { return at.After(from) && at.Before(to) }
	for _, n := range s.clocksOf(w) {
		moments = s.clocks[n].changes(moments, from, to)
	}
	s.lasting(w, func(at time.Time) {
		if within(at) {
			moments = append(moments, at.Unix())
		}
	})
	// Entries only end: those in force later are among those in force now.
	for _, t := range w.seen.Takes {
		if until := s.index.Until(t); !until.IsZero() {
			if end := s.dayAfter(until); within(end) {
				moments, days = append(moments, end.Unix()), append(days, end.Unix())
			}
		}
	}
	slices.Sort(moments)
	return slices.Compact(moments), days
}

// dayAfter returns the moment at which a day ends.
func (s *Snapshot) dayAfter(day pattern.Date) time.Time {
	return schedule.BeginOf(day.Add(1), s.config.Zone)
}

// clocksOf returns the schedules that rules of the request's policies ask.
func (s *Snapshot) clocksOf(w *Work) []int32 {
	var clocks []int32
	add := func(p *ladderPolicy) {
		if p == nil {
			return
		}
		for _, n := range p.clocks {
			if !slices.Contains(clocks, n) {
				clocks = append(clocks, n)
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
	return clocks
}

// lasting calls give with the moments at which exceptions that cover the URL, and stints, begin and end, and quotas are used up.
func (s *Snapshot) lasting(w *Work, each func(time.Time)) {
	for _, c := range w.granted {
		g := &s.grants[c.grant]
		each(g.From)
		each(g.Until)
	}
	for _, n := range s.byClass {
		each(s.grants[n].From)
		each(s.grants[n].Until)
	}
	s.quotaTimes(w, each)
	for i := range s.stints {
		if s.stints[i].meets(w) {
			each(s.stints[i].From)
			each(s.stints[i].Until)
		}
	}
}

// The times that Until searches: schedules repeat within a week and a clock change, so a later change can only
// come from dates, and from clock changes if schedules are in several zones. Only the first of these are searched, so that a schedule with
// a line for every day cannot take minutes.
const (
	week      = 7 * 24 * time.Hour
	roundTime = week + 26*time.Hour
	mostDates = 1000

	// clockYears is the number of years whose clock changes are searched. They repeat every year, but on other days of the week.
	clockYears = 3
)

// Until returns the next moment after another at which time alone changes the verdict on a request; false where it does not.
func (s *Snapshot) Until(w *Work, r *Request, at time.Time) (time.Time, bool) {
	return s.firstChange(at, func(from, to time.Time) []Segment { return s.Strip(w, r, from, to) }, func() []int64 { return s.datesOf(nil, w, r, at) })
}

// Quiet returns a moment after another before which time alone changes no verdict, whoever asks for what; it may be earlier than need be.
func (s *Snapshot) Quiet(after time.Time) time.Time {
	first := s.dayAfter(pattern.DateOf(after.In(s.config.Zone))) // entries end with a day, and quotas begin anew
	if !first.After(after) {
		first = after.Add(time.Second)
	}
	soonest := func(at time.Time) {
		if at.After(after) && at.Before(first) {
			first = at
		}
	}
	for _, c := range s.clocks {
		if at, ok := c.next(after); ok {
			soonest(at)
		}
	}
	for i := range s.grants {
		soonest(s.grants[i].From)
		soonest(s.grants[i].Until)
	}
	for i := range s.stints {
		soonest(s.stints[i].From)
		soonest(s.stints[i].Until)
	}
	if len(s.used) > 0 {
		soonest(after.Truncate(time.Minute).Add(time.Minute))
	}
	return first
}

// firstChange returns the first moment after another at which strips show another verdict; false where they never do. Dates returns the
// moments around which there may be something that does not come round with the weeks.
func (s *Snapshot) firstChange(at time.Time, strip func(from, to time.Time) []Segment, dates func() []int64) (time.Time, bool) {
	first := strip(at, at.Add(roundTime))
	if len(first) > 1 {
		return first[1].From, true
	}
	verdict := first[0].Decision.Verdict
	later := dates()
	slices.Sort(later)
	later = slices.Compact(later)
	later = later[:min(len(later), mostDates)]
	for i := 0; i < len(later); {
		from := time.Unix(later[i], 0).Add(-36 * time.Hour)
		if from.Before(at) {
			from = at
		}
		to := time.Unix(later[i], 0).Add(roundTime)
		for i++; i < len(later) && later[i] <= to.Unix(); i++ { // dates close to each other are one strip
			to = time.Unix(later[i], 0).Add(roundTime)
		}
		for _, segment := range strip(from, to) {
			if segment.Decision.Verdict != verdict {
				return segment.From, true
			}
		}
	}
	return time.Time{}, false
}

// datesOf appends the moments after a given one around which something may change that does not repeat weekly.
func (s *Snapshot) datesOf(dates []int64, w *Work, r *Request, at time.Time) []int64 {
	s.belong(w, r)
	s.look(w, r, pattern.DateOf(at.In(s.config.Zone)), false)
	s.weigh(w)
	add := func(moment time.Time) {
		if moment.After(at) {
			dates = append(dates, moment.Unix())
		}
	}
	clocks := s.clocksOf(w)
	for _, n := range clocks {
		dates = s.clocks[n].dates(dates, at)
	}
	s.clockChanges(clocks, at, add)
	s.lasting(w, add)
	for _, t := range w.seen.Takes {
		if until := s.index.Until(t); !until.IsZero() {
			add(s.dayAfter(until))
		}
	}
	return dates
}

// clockChanges gives the moments after another at which schedules of different zones move against each other: the clock changes of all
// their zones. Schedules of one zone never do.
func (s *Snapshot) clockChanges(clocks []int32, after time.Time, each func(time.Time)) {
	var zones []*time.Location
	for _, n := range clocks {
		if zone := s.clocks[n].Zone; !slices.ContainsFunc(zones, func(z *time.Location) bool { return z.String() == zone.String() }) {
			zones = append(zones, zone)
		}
	}
	if len(zones) < 2 {
		return
	}
	last := after.AddDate(clockYears, 0, 0)
	for _, zone := range zones {
		for at := range schedule.ClockChanges(after, last, zone) {
			each(at)
		}
	}
}

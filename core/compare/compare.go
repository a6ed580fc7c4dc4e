// Package compare finds what two configurations decide differently: which URLs turn from one verdict to another, for whom and when. It decides
// each URL under both over a whole week, exactly, so a difference that shows only on Sunday nights is found.
//
// From: two snapshots, URLs that may tell them apart, and who asks.
// To: [Turn].
package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widelark/core/cover"
	"widelark/core/hands"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// Who is somebody who asks.
type Who struct {
	Name    string
	Request policy.Request // without a URL
}

// Turn is URLs that turn from one verdict to another for the same people at the same times.
type Turn struct {
	Who           []string
	Before, After policy.Verdict
	Times         string       // as schedules are written; "" for always
	At            time.Time    // the first moment of the week at which they differ
	URLs          []weburl.URL // in the order in which they were given
	WasBecause    string       // of the first URL, at that moment
	IsBecause     string
}

// span is a stretch of time in which two verdicts differ.
type span struct {
	from, to      time.Time
	before, after policy.Verdict
}

// spans compares two strips of the same stretch of time.
func spans(a, b []policy.Segment) []span {
	var all []span
	for i, j := 0, 0; i < len(a) && j < len(b); {
		from, to := a[i].From, a[i].To
		if b[j].From.After(from) {
			from = b[j].From
		}
		if b[j].To.Before(to) {
			to = b[j].To
		}
		if before, after := a[i].Decision.Verdict, b[j].Decision.Verdict; before != after && from.Before(to) {
			if last := len(all) - 1; last >= 0 && all[last].to.Equal(from) && all[last].before == before && all[last].after == after {
				all[last].to = to
			} else {
				all = append(all, span{from, to, before, after})
			}
		}
		if !a[i].To.After(b[j].To) {
			i++
		} else {
			j++
		}
	}
	return all
}

// Turns decides URLs for everybody over the week from a moment on, under two configurations. The turns of the most URLs come first. ok is
// false where stop was closed before it was done; nil never is.
func Turns(before, after *policy.Snapshot, urls []weburl.URL, who []Who, from time.Time, stop <-chan struct{}) (turns []Turn, ok bool) {
	stopped := func() bool {
		select {
		case <-stop:
			return true
		default:
			return false
		}
	}
	zone := after.Config().Zone
	to := schedule.DaysLater(from, 7, zone)
	type key struct {
		before, after policy.Verdict
		times         string
	}
	type one struct {
		urls []int
		at   time.Time
	}
	of := make([]map[key]*one, len(who))
	var shared hands.Group
	next := make(chan int)
	for range min(4, len(who)) {
		shared.Go(func() {
			var w policy.Work
			for i := range next {
				turns := map[key]*one{}
				for n, u := range urls {
					if stopped() {
						break
					}
					q := who[i].Request
					q.URL = u
					by := map[key][]span{}
					for _, s := range spans(before.Strip(&w, &q, from, to), after.Strip(&w, &q, from, to)) {
						k := key{before: s.before, after: s.after}
						by[k] = append(by[k], s)
					}
					for k, spans := range by {
						k.times = Times(spansOf(spans), from, to, zone)
						if turns[k] == nil {
							turns[k] = &one{at: spans[0].from}
						}
						turns[k].urls = append(turns[k].urls, n)
					}
				}
				of[i] = turns
			}
		})
	}
	for i := range who {
		next <- i
	}
	close(next)
	shared.Wait()
	if stopped() {
		return nil, false
	}
	// People for whom the same URLs turn at the same times are reported together.
	var all []Turn
	known := map[string]int{}
	var w policy.Work
	for i, turns := range of {
		keys := make([]key, 0, len(turns))
		for k := range turns {
			keys = append(keys, k)
		}
		slices.SortFunc(keys, func(a, b key) int {
			return cmp.Or(strings.Compare(string(a.before), string(b.before)), strings.Compare(string(a.after), string(b.after)), strings.Compare(a.times, b.times))
		})
		for _, k := range keys {
			same := fmt.Sprint(k, turns[k].urls)
			if at, ok := known[same]; ok {
				all[at].Who = append(all[at].Who, who[i].Name)
				continue
			}
			known[same] = len(all)
			t := Turn{Who: []string{who[i].Name}, Before: k.before, After: k.after, Times: k.times, At: turns[k].at}
			for _, n := range turns[k].urls {
				t.URLs = append(t.URLs, urls[n])
			}
			q := who[i].Request
			q.URL = t.URLs[0]
			t.WasBecause, t.IsBecause = before.Explain(&w, &q, t.At).Because, after.Explain(&w, &q, t.At).Because
			all = append(all, t)
		}
	}
	slices.SortStableFunc(all, func(a, b Turn) int { return cmp.Compare(len(b.URLs)*len(b.Who), len(a.URLs)*len(a.Who)) })
	return all, true
}

func spansOf(spans []span) [][2]time.Time {
	all := make([][2]time.Time, len(spans))
	for i, s := range spans {
		all[i] = [2]time.Time{s.from, s.to}
	}
	return all
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Times writes stretches of a week as schedules are written: mon-fri 09:00-12:00; sat 10:00-14:00. It is "" for the whole of it.
func Times(spans [][2]time.Time, from, to time.Time, zone *time.Location) string {
	if len(spans) == 1 && !spans[0][0].After(from) && !spans[0][1].Before(to) {
		return ""
	}
	windows := map[time.Weekday][]string{}
	for _, s := range spans {
		for begin, end := range schedule.Days(s[0], s[1], zone) {
			begin, shown := begin.In(zone), end.In(zone).Format("15:04")
			if end.Equal(schedule.Today(end, zone)) {
				shown = "24:00"
			}
			if window := begin.Format("15:04") + "-" + shown; !slices.Contains(windows[begin.Weekday()], window) {
				windows[begin.Weekday()] = append(windows[begin.Weekday()], window)
			}
		}
	}
	var parts []string
	for day := 1; day <= 7; {
		slices.Sort(windows[time.Weekday(day%7)])
		text := strings.Join(windows[time.Weekday(day%7)], ", ")
		last := day
		for last < 7 {
			next := windows[time.Weekday((last+1)%7)]
			slices.Sort(next)
			if strings.Join(next, ", ") != text {
				break
			}
			last++
		}
		switch {
		case text == "":
		case last == day:
			parts = append(parts, weekdays[day%7]+" "+text)
		default:
			parts = append(parts, weekdays[day%7]+"-"+weekdays[last%7]+" "+text)
		}
		day = last + 1
	}
	return strings.Join(parts, "; ")
}

// Boundaries returns URLs at the edges of what a pattern covers: one that it covers, and its neighbours above, below and beside.
func Boundaries(p pattern.Pattern) []weburl.URL {
	u, ok := cover.Witness(p)
	if !ok {
		return nil
	}
	texts := []string{u.String()}
	around := func(host, path string) { texts = append(texts, u.Scheme()+"://"+host+path) }
	path := u.Path()
	if u.Query() != "" {
		path += "?" + u.Query()
	}
	if !u.Addr().IsValid() {
		around("below."+u.Host(), path)
		if _, above, ok := strings.Cut(u.Host(), "."); ok && strings.Contains(above, ".") {
			around(above, path)
		}
		around("not"+u.Host(), path)
	}
	if u.Path() != "/" {
		around(u.Host(), "/")
		around(u.Host(), strings.TrimSuffix(u.Path(), "/")+"/below")
		around(u.Host(), strings.TrimSuffix(u.Path(), "/")+"-beside")
	} else {
		around(u.Host(), "/below")
	}
	var all []weburl.URL
	for _, text := range texts {
		if one, err := weburl.Parse(text); err == nil {
			all = append(all, one)
		}
	}
	return all
}

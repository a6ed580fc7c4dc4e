package policy

import (
	"slices"
	"sync/atomic"
	"time"
)

// clock is a schedule that remembers the days around the moment that it was asked for last, so that asking again costs a search among
// some fifty numbers. It is safe for concurrent use.
type clock struct {
	Schedule
	around atomic.Pointer[days]
}

// days is the times from one moment to another at which a schedule begins or ends to be in force, in seconds since 1970.
type days struct {
	from, to int64
	inside   bool // at from
	changes  []int64
}

func (c *clock) days(at time.Time) *days {
	second := at.Unix()
	if d := c.around.Load(); d != nil && second >= d.from && second < d.to {
		return d
	}
	from := at.Truncate(time.Second).AddDate(0, 0, -1)
	d := c.between(from, from.AddDate(0, 0, 11))
	c.around.Store(d)
	return d
}

func (c *clock) between(from, to time.Time) *days {
	d := &days{from: from.Unix(), to: to.Unix()}
	for _, span := range c.Schedule.Schedule.Between(from, to, c.Zone) {
		if begin := span.From.Unix(); begin > d.from {
			d.changes = append(d.changes, begin)
		} else {
			d.inside = true
		}
		if end := span.To.Unix(); end < d.to {
			d.changes = append(d.changes, end)
		}
	}
	return d
}

// inForce reports whether the schedule is in force at a moment.
func (c *clock) inForce(at time.Time) bool {
	d := c.days(at)
	second := at.Unix()
	return d.inside != (d.passed(second)%2 == 1)
}

// passed returns how many changes there were until a moment, that moment itself among them.
func (d *days) passed(second int64) int {
	low, high := 0, len(d.changes)
	for low < high {
		if middle := (low + high) / 2; d.changes[middle] > second {
			high = middle
		} else {
			low = middle + 1
		}
	}
	return low
}

// next returns the first moment after another at which the schedule changes; false where it never does.
func (c *clock) next(at time.Time) (time.Time, bool) {
	d := c.days(at)
	second := at.Unix()
	if i := d.passed(second); i < len(d.changes) {
		return time.Unix(d.changes[i], 0), true
	}
	return c.Schedule.Schedule.Next(at, c.Zone)
}

// changes appends the moments after one and before another at which the schedule changes.
func (c *clock) changes(dst []int64, from, to time.Time) []int64 {
	d := c.days(from)
	if to.Unix() > d.to {
		d = c.between(from, to)
	}
	for _, at := range d.changes {
		if at > from.Unix() && at < to.Unix() {
			dst = append(dst, at)
		}
	}
	return dst
}

// dates appends the midnights around which dated lines after a moment begin and end, so that it suffices to look at the days there.
func (c *clock) dates(dst []int64, after time.Time) []int64 {
	for _, line := range c.Schedule.Schedule.Dated() {
		for _, day := range []time.Time{line.From.Time(), line.To.Time()} {
			if day.After(after) {
				dst = append(dst, day.Unix())
			}
		}
	}
	slices.Sort(dst)
	return dst
}

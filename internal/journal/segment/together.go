package segment

import "time"

// Joint is how often some values occur together, and when they did so last.
type Joint struct {
	Values []string // in the order of the columns that were asked for
	Count
	Last time.Time
}

// Together returns how often values of up to four columns occur together among selected records. Precondition: no column has many values, as those from [Rest] on may have.
func (s *Segment) Together(rows Rows, columns ...Column) ([]Joint, error) {
	if rows.None() {
		return nil, nil
	}
	all, numbers := make([]*values, len(columns)), make([]rowNumbers, len(columns))
	for i, c := range columns {
		var err error
		if all[i], numbers[i], err = s.column(c); err != nil {
			return nil, err
		}
	}
	times, err := s.amount(frameTimes)
	if err != nil {
		return nil, err
	}
	places := map[uint64]int{}
	var found []Joint
	var last []int64
	place := func(row int) int {
		key := uint64(0)
		for i := range numbers {
			key = key<<16 | uint64(numbers[i].at(row))
		}
		at, known := places[key]
		if !known {
			at = len(found)
			places[key] = at
			j := Joint{Values: make([]string, len(columns))}
			for i, v := range all {
				if v.len() > 0 {
					j.Values[i] = v.at(numbers[i].at(row))
				}
			}
			found, last = append(found, j), append(last, times.at(row))
		}
		last[at] = max(last[at], times.at(row))
		return at
	}
	of := make([]uint16, s.N)
	rows.each(func(row int) { of[row] = uint16(place(row)) })
	counts, err := s.counted(rows, len(found), func(row int) int { return int(of[row]) })
	if err != nil {
		return nil, err
	}
	for i := range found {
		found[i].Count, found[i].Last = counts[i], time.UnixMilli(last[i]).UTC()
	}
	return found, nil
}

// HasValue reports whether a record has a value of a column, whose values are in the head.
func (s *Segment) HasValue(c Column, value string) bool {
	for i := range s.values[c].len() {
		if s.values[c].at(i) == value {
			return true
		}
	}
	return false
}

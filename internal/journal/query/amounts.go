package query

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"widelark/internal/journal/segment"
)

// numbers makes filters for a column of numbers.
func numbers(column segment.Column) maker {
	return func(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
		if v.Op == Is && (v.Text == "" || strings.Contains(v.Text, "*")) {
			is := likeFold(v.Text)
			return segment.Has{Column: column, Match: is}, nil
		}
		low, high, err := c.bounds(t, v, func(text string) (int64, bool) {
			n, err := strconv.ParseInt(text, 10, 64)
			return n, err == nil && n >= 0
		}, "a number")
		return segment.Has{Column: column, Match: func(value string) bool {
			n := segment.Number(value)
			return value != "" && low <= n && n < high
		}}, err
	}
}

// amounts makes filters for amounts with a unit.
func amounts(amount segment.Amount, read func(string) (int64, bool)) maker {
	return func(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
		example := "an amount, as 10MB"
		if amount == segment.Took {
			example = "a span, as 1s or 250ms"
		}
		low, high, err := c.bounds(t, v, read, example)
		return segment.Between{Amount: amount, Spans: []segment.Span{{From: low, To: high}}}, err
	}
}

// unbounded is a bound that no number exceeds.
const unbounded = 1<<63 - 1

// bounds returns the numbers that a value means: from low until before high.
func (c *compiler) bounds(t *Term, v Value, read func(string) (int64, bool), what string) (low, high int64, err error) {
	one := func(text string) int64 {
		n, ok := read(strings.TrimSpace(text))
		if !ok && err == nil {
			err = c.mistake(v, fmt.Sprintf("%s: %q is not %s", t.Field, text, what), "")
		}
		return n
	}
	low, high = 0, unbounded
	switch v.Op {
	case Is:
		low = one(v.Text)
		high = low + 1
	case Range:
		if v.Text != "" {
			low = one(v.Text)
		}
		if v.To != "" {
			high = one(v.To) + 1
		}
	case More:
		low = one(v.Text) + 1
	case AtLeast:
		low = one(v.Text)
	case Less:
		high = one(v.Text)
	case AtMost:
		high = one(v.Text) + 1
	}
	return low, high, err
}

// withUnit reads a number with a unit, as so many of the smallest unit.
func withUnit(text string, units map[string]float64) (int64, bool) {
	end := strings.LastIndexFunc(text, func(r rune) bool { return unicode.IsDigit(r) || r == '.' }) + 1
	n, err := strconv.ParseFloat(text[:end], 64)
	unit, known := units[strings.ToLower(strings.TrimSpace(text[end:]))]
	if err != nil || !known || n < 0 || n*unit > 1e18 {
		return 0, false
	}
	return int64(n * unit), true
}

func bytesOf(text string) (int64, bool) {
	return withUnit(text, map[string]float64{"": 1, "b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40})
}

func spanOf(text string) (int64, bool) {
	return withUnit(text, map[string]float64{"ms": 1, "s": 1e3, "m": 60e3, "min": 60e3, "h": 3600e3, "d": 86400e3})
}

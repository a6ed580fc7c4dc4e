package schedule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"widelark/core/pattern"
)

// Error describes an error in the text of a schedule.
type Error struct {
	Line, Column int // 1-based, in characters
	Found        string
	Expected     string
	Suggestion   string // what the author probably means; may be empty
}

// Error returns all parts as one sentence without its dot.
func (e *Error) Error() string {
	text := fmt.Sprintf("line %d, column %d: found %q, expected %s", e.Line, e.Column, e.Found, e.Expected)
	if e.Suggestion != "" {
		text += fmt.Sprintf("; did you mean %s?", e.Suggestion)
	}
	return text
}

// dayNames are the names of days in the notation, by [time.Weekday].
var dayNames = [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// week is the days in the order in which schedules are written.
var week = []time.Weekday{time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday, time.Saturday, time.Sunday}

// MaxText is the longest text of a schedule, in bytes: some thousand dated lines.
const MaxText = 64 << 10

// parser reads one statement.
type parser struct {
	text   string // in small letters
	at     int
	line   int
	before int // characters of the line before text
}

func (p *parser) fail(from int, expected, suggestion string) error {
	found := p.text[from:]
	if cut := strings.IndexAny(found, " ,;"); cut > 0 {
		found = found[:cut]
	}
	if found == "" {
		found = "the end"
	}
	return &Error{p.line, p.before + utf8.RuneCountInString(p.text[:from]) + 1, found, expected, suggestion}
}

func (p *parser) blanks() {
	for p.at < len(p.text) && (p.text[p.at] == ' ' || p.text[p.at] == '\t') {
		p.at++
	}
}

// word takes the text up to a blank, a comma or the end.
func (p *parser) word() (string, int) {
	p.blanks()
	from := p.at
	for p.at < len(p.text) && !strings.ContainsRune(" \t,", rune(p.text[p.at])) {
		p.at++
	}
	return p.text[from:p.at], from
}

// comma takes a comma if one is next, and reports whether it did.
func (p *parser) comma() bool {
	p.blanks()
	if p.at < len(p.text) && p.text[p.at] == ',' {
		p.at++
		return true
	}
	return false
}

// Parse reads a schedule. Statements stand on lines of their own or between semicolons:
//
//	schedule  = statement { ( ";" | line end ) statement }
//	statement = days windows | "on" dates windows | "not on" dates | comment
//	days      = day [ "-" day ] { "," day [ "-" day ] }          mon-fri, sat; fri-mon includes the weekend
//	windows   = time "-" time { "," time "-" time }               09:00-12:00; 24:00 is allowed as an end
//	dates     = date [ ".." date ] { "," date [ ".." date ] }     2026-12-24..2026-12-26
//	comment   = "#" anything up to the end of the line
//
// Letter case does not matter. Errors are [*Error].
func Parse(text string) (Schedule, error) {
	if len(text) > MaxText {
		return Schedule{}, &Error{1, 1, fmt.Sprintf("%d bytes", len(text)), fmt.Sprintf("at most %d", MaxText), ""}
	}
	var weekly [7][]Window
	var dated []Dated
	line := 0
	for whole := range strings.Lines(text) {
		line++
		whole, _, _ = strings.Cut(strings.TrimRight(whole, "\r\n"), "#")
		before := 0
		for statement := range strings.SplitSeq(whole, ";") {
			p := &parser{text: strings.ToLower(statement), line: line, before: before}
			before += utf8.RuneCountInString(statement) + 1
			if strings.TrimSpace(statement) == "" {
				continue
			}
			if err := p.statement(&weekly, &dated); err != nil {
				return Schedule{}, err
			}
		}
	}
	return New(weekly, dated), nil
}

func (p *parser) statement(weekly *[7][]Window, dated *[]Dated) error {
	word, from := p.word()
	switch word {
	case "on", "not":
		if word == "not" {
			if on, at := p.word(); on != "on" {
				return p.fail(at, `on, as in "not on 2026-12-25"`, "")
			}
		}
		dates, err := p.dates()
		if err != nil {
			return err
		}
		var windows []Window
		if word == "on" {
			if windows, err = p.windows(); err != nil {
				return err
			}
		} else if p.blanks(); p.at < len(p.text) {
			return p.fail(p.at, `no times: "not on" takes the whole day's windows away`, "")
		}
		for _, d := range dates {
			d.Not, d.Windows = word == "not", windows
			*dated = append(*dated, d)
		}
		return nil
	}
	p.at = from
	days, err := p.days()
	if err != nil {
		return err
	}
	windows, err := p.windows()
	for _, d := range days {
		weekly[d] = append(weekly[d], windows...)
	}
	return err
}

func (p *parser) day(name string, from int) (time.Weekday, error) {
	for d, known := range dayNames {
		if name == known {
			return time.Weekday(d), nil
		}
	}
	suggestion := ""
	for d := range time.Saturday + 1 { // written in full, or as two letters
		full := strings.ToLower(d.String())
		if len(name) >= 2 && (strings.HasPrefix(full, name) || strings.HasPrefix(name, full[:3])) {
			suggestion = dayNames[d]
		}
	}
	return 0, p.fail(from, "a day as mon, a span of days as mon-fri, on or not on", suggestion)
}

func (p *parser) days() (days []time.Weekday, err error) {
	for {
		word, from := p.word()
		first, last, isSpan := strings.Cut(word, "-")
		a, err := p.day(first, from)
		if err != nil {
			return nil, err
		}
		b := a
		if isSpan {
			if b, err = p.day(last, from+len(first)+1); err != nil {
				return nil, err
			}
		}
		for d := a; ; d = (d + 1) % 7 {
			if !slices.Contains(days, d) {
				days = append(days, d)
			}
			if d == b {
				break
			}
		}
		if !p.comma() {
			return days, nil
		}
	}
}

func (p *parser) dates() (all []Dated, err error) {
	for {
		word, from := p.word()
		first, last, isSpan := strings.Cut(word, "..")
		a, err := pattern.ParseDate(first)
		if err != nil {
			return nil, p.fail(from, "a day as 2026-12-24, or days as 2026-12-24..2026-12-26", "")
		}
		b := a
		if isSpan {
			if b, err = pattern.ParseDate(last); err != nil {
				return nil, p.fail(from+len(first)+2, "a day as 2026-12-24", "")
			}
			if b.Before(a) {
				return nil, p.fail(from, "the earlier day first", b.String()+".."+a.String())
			}
			if b.Time().Sub(a.Time()) > 3660*24*time.Hour {
				return nil, p.fail(from, "ten years at most", "")
			}
		}
		all = append(all, Dated{From: a, To: b})
		if !p.comma() {
			return all, nil
		}
	}
}

func (p *parser) windows() (windows []Window, err error) {
	for {
		word, from := p.word()
		first, last, isSpan := strings.Cut(word, "-")
		if !isSpan {
			return nil, p.fail(from, "times as 09:00-12:00", "")
		}
		var w Window
		if w.Start, err = p.time(first, from, false); err != nil {
			return nil, err
		}
		if w.End, err = p.time(last, from+len(first)+1, true); err != nil {
			return nil, err
		}
		windows = append(windows, w)
		if !p.comma() {
			break
		}
	}
	if p.blanks(); p.at < len(p.text) {
		return nil, p.fail(p.at, "a comma, a semicolon or the end of the line", "")
	}
	return windows, nil
}

// time reads 09:00 as minutes after midnight. 24:00 can only be an end.
func (p *parser) time(text string, from int, isEnd bool) (Minute, error) {
	hours, minutes, ok := strings.Cut(text, ":")
	h, errH := strconv.ParseUint(hours, 10, 8)
	m, errM := strconv.ParseUint(minutes, 10, 8)
	at := Minute(h*60 + m)
	switch {
	case ok && errH == nil && errM == nil && len(hours) == 2 && len(minutes) == 2 && m < 60 && (at < day || isEnd && at == day):
		return at, nil
	case ok && errH == nil && errM == nil && m < 60 && at == day:
		return 0, p.fail(from, "a start before 24:00", "00:00 of the next day")
	}
	found, _, _ := strings.Cut(p.text[from:], " ")
	return 0, p.fail(from, "a time as 09:00", spelledOut(strings.TrimRight(found, ",;")))
}

// spelledOut rewrites a time like 9 or 9:5, or a window of two, as the notation writes it. It returns "" for any other text.
func spelledOut(text string) string {
	parts := strings.Split(text, "-")
	for i, part := range parts {
		hours, minutes, ok := strings.Cut(part, ":")
		h, err := strconv.ParseUint(hours, 10, 8)
		if !ok {
			minutes = "0"
		}
		m, errM := strconv.ParseUint(minutes, 10, 8)
		if err != nil || errM != nil || h > 24 || m > 59 || h == 24 && (m > 0 || i == 0) {
			return ""
		}
		parts[i] = fmt.Sprintf("%02d:%02d", h, m)
	}
	return strings.Join(parts, "-")
}

// String writes the schedule in its notation, days with the same windows together. Parsing the result gives the same schedule.
func (s Schedule) String() string {
	var lines []string
	var done [7]bool
	for i, d := range week {
		if done[d] || len(s.weekly[d]) == 0 {
			continue
		}
		var names []string
		for j := i; j < len(week); j++ {
			if !slices.Equal(s.weekly[week[j]], s.weekly[d]) {
				continue
			}
			k := j
			for k+1 < len(week) && slices.Equal(s.weekly[week[k+1]], s.weekly[d]) {
				k++
			}
			name := dayNames[week[j]]
			if k > j {
				name += "-" + dayNames[week[k]]
			}
			names = append(names, name)
			for ; j <= k; j++ {
				done[week[j]] = true
			}
			j = k
		}
		lines = append(lines, strings.Join(names, ", ")+" "+writeWindows(s.weekly[d]))
	}
	for _, d := range s.dated {
		text := "on "
		if d.Not {
			text = "not on "
		}
		text += d.From.String()
		if d.To != d.From {
			text += ".." + d.To.String()
		}
		if !d.Not {
			text += " " + writeWindows(d.Windows)
		}
		lines = append(lines, text)
	}
	return strings.Join(lines, "\n")
}

func writeWindows(windows []Window) string {
	texts := make([]string, len(windows))
	for i, w := range windows {
		texts[i] = w.String()
	}
	return strings.Join(texts, ", ")
}

// String writes the window as 09:00-12:00.
func (w Window) String() string { return w.Start.String() + "-" + w.End.String() }

// String writes the time as 09:00.
func (m Minute) String() string { return fmt.Sprintf("%02d:%02d", int(m)/60, int(m)%60) }

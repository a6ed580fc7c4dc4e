// Package report makes reports of what was recorded: charts and tables of a period, beside those of the period before; as PDF and CSV.
//
// From: the journal, counted.
// To: what the API shows, and files that are saved, printed and sent.
package report

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
	"widelark/internal/journal/tally"
)

// Span is the period of a report.
type Span string

// The spans: those of the calendar are whole and over, the others end now.
const (
	Day     Span = "day"   // yesterday
	Week    Span = "week"  // from Monday on
	Month   Span = "month" // of the calendar
	Hours24 Span = "24h"
	Days7   Span = "7d"
	Days30  Span = "30d"
)

// Section is a part of a report.
type Section struct {
	Key   string
	Title string

	field   string // whose values are counted
	only    string // a term that the records must have; "" for none
	order   tally.Order
	missing bool // also those without a value
	fresh   bool // only values that no record of the weeks before has
}

// The section of requests over time has no values.
const over = "over"

// Sections are the parts that a report may have, in their order.
var Sections = []Section{
	{Key: over, Title: "Requests over time"},
	{Key: "blocked", Title: "Sites blocked most", field: "site", only: "verdict:block", order: "block"},
	{Key: "categories", Title: "Categories", field: "category", missing: true},
	{Key: "families", Title: "Families", field: "family", missing: true},
	{Key: "sites", Title: "Sites", field: "site"},
	{Key: "new", Title: "New sites", field: "site", fresh: true},
	{Key: "unrated", Title: "Sites that nobody has rated", field: "site", only: "trait:unrated"},
	{Key: "people", Title: "People", field: "person"},
	{Key: "groups", Title: "Groups", field: "group"},
	{Key: "networks", Title: "Networks", field: "network"},
	{Key: "machines", Title: "Machines", field: "machine"},
	{Key: "words", Title: "Search words", field: "words"},
	{Key: "provisos", Title: "Provisos", field: "proviso"},
	{Key: "policies", Title: "Policies", field: "policy"},
	{Key: "rules", Title: "Rules that decided", field: "rule"},
	{Key: "lists", Title: "Lists that decided", field: "list"},
	{Key: "gates", Title: "Gates", field: "gate"},
}

// Keys returns the keys of all sections, in their order.
func Keys() []string {
	keys := make([]string, len(Sections))
	for i, s := range Sections {
		keys[i] = s.Key
	}
	return keys
}

// FieldOf returns the field whose values a section counts; "" for an unknown section.
func FieldOf(key string) string {
	at := slices.IndexFunc(Sections, func(s Section) bool { return s.Key == key })
	if at < 0 {
		return ""
	}
	return Sections[at].field
}

// Asked is what a report is of.
type Asked struct {
	Query    string   `json:"query,omitempty"`
	Span     Span     `json:"span"`
	Sections []string `json:"sections"` // of [Keys]; none for all
	Compare  bool     `json:"compare"`  // with the period before
	Top      int      `json:"top"`      // rows of a section

	View query.View `json:"-"` // of whoever asks
}

// Made is a report.
type Made struct {
	Asked
	Title    string
	At       time.Time // when it was made
	From, To time.Time
	Before   time.Time // where the period before begins, which ends at From
	Total    segment.Count
	Earlier  segment.Count // of the period before; zero where none is asked for
	Selects  string        // the query that finds all records of the report
	Sections []MadeSection
	Reached  time.Time // everything from then on was counted; From but where counting took too long
}

// MadeSection is a section with what was counted.
type MadeSection struct {
	Section
	Over   []Moment // of the section over time
	Rows   []Row
	Others int // values that have no row
}

// Moment is the requests of a span of time, until the next one; in the period before, so much earlier.
type Moment struct {
	At      time.Time
	Selects string
	Now     segment.Count
	Earlier segment.Count
}

// Row is a value.
type Row struct {
	Value   string
	Selects string // the query that finds its records
	Now     segment.Count
	Earlier segment.Count
}

// Maker makes reports. It is safe for concurrent use.
type Maker struct {
	Tally *tally.Counter
	Zone  *time.Location
	Now   func() time.Time
}

// period returns the bounds of a span, and the beginning of the one before.
func (s Span) period(now time.Time, zone *time.Location) (before, from, to time.Time) {
	now = now.In(zone)
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, zone)
	switch s {
	case Day:
		return today.AddDate(0, 0, -2), today.AddDate(0, 0, -1), today
	case Week:
		monday := today.AddDate(0, 0, -(int(today.Weekday())+6)%7)
		return monday.AddDate(0, 0, -14), monday.AddDate(0, 0, -7), monday
	case Month:
		first := today.AddDate(0, 0, 1-today.Day())
		return first.AddDate(0, -2, 0), first.AddDate(0, -1, 0), first
	}
	days := map[Span]int{Days7: 7, Days30: 30}[s]
	if days == 0 {
		days = 1
	}
	now = now.Truncate(time.Minute)
	return now.AddDate(0, 0, -2*days), now.AddDate(0, 0, -days), now
}

// Within returns a query that finds what another one finds in a period.
func Within(q string, from, to time.Time) string { return bounded(Grouped(q), from, to) }

// bounded adds a period to terms that stand side by side.
func bounded(q string, from, to time.Time) string {
	return strings.TrimSpace(fmt.Sprintf("%s since:%s until:%s", q, query.Value{Text: from.Format(time.RFC3339), Quoted: true}, query.Value{Text: to.Format(time.RFC3339), Quoted: true}))
}

// patience is how long each part of a report may be counted.
const patience = 20 * time.Second

// newWithin is how far back a site must not have been asked for to be new.
const newWithin = 28 * 24 * time.Hour

// Check returns an error about the query of a reader, or nil.
func (m *Maker) Check(ctx context.Context, q string, view query.View) error {
	w, err := m.Tally.World(ctx, view)
	if err == nil {
		_, err = query.Compile(ctx, Within(q, w.Now.Add(-time.Hour), w.Now), w)
	}
	var wrong *query.Error
	if errors.As(err, &wrong) {
		_, err = query.Compile(ctx, q, w) // its columns are those of the query as it was given
	}
	return err
}

// Make makes a report. An error may be a [*query.Error].
func (m *Maker) Make(ctx context.Context, title string, asked Asked) (*Made, error) {
	if err := m.Check(ctx, asked.Query, asked.View); err != nil {
		return nil, err
	}
	w, err := m.Tally.World(ctx, asked.View)
	if err != nil {
		return nil, err
	}
	if len(asked.Sections) == 0 {
		asked.Sections = slices.DeleteFunc(Keys(), func(key string) bool { return asked.View.Hides(FieldOf(key)) })
	}
	if asked.Top == 0 {
		asked.Top = 10
	}
	made := &Made{Asked: asked, Title: title, At: m.Now()}
	made.Before, made.From, made.To = asked.Span.period(m.Now(), m.Zone)
	made.Selects, made.Reached = Within(asked.Query, made.From, made.To), made.From
	ask := func(only string, from, to time.Time, order tally.Order, by []string, step tally.Step, top int) (tally.Question, error) {
		found, err := query.Compile(ctx, bounded(strings.TrimSpace(Grouped(asked.Query)+" "+only), from, to), w)
		return tally.Question{Search: found, Taxonomy: w.Taxonomy, By: by, Top: top, Order: order, Over: step, Patience: patience}, err
	}
	// Sections that are about the same records are counted together.
	type of struct {
		only  string
		order tally.Order
	}
	fields := map[of][]string{{}: {}}
	for _, s := range Sections {
		if slices.Contains(asked.Sections, s.Key) && s.Key != over && !s.fresh && !slices.Contains(fields[of{s.only, s.order}], s.field) {
			fields[of{s.only, s.order}] = append(fields[of{s.only, s.order}], s.field)
		}
	}
	answers, earlier := map[of]tally.Answer{}, map[of]map[string]map[string]*segment.Count{}
	var overBefore []tally.Moment
	for which, by := range fields {
		step := tally.Step("")
		if which == (of{}) && slices.Contains(asked.Sections, over) {
			step = tally.Auto
		}
		q, err := ask(which.only, made.From, made.To, which.order, by, step, asked.Top+1) // one more, as those without a value are left out
		if err != nil {
			return nil, err
		}
		a, err := m.Tally.Count(ctx, &q)
		if err != nil {
			return nil, err
		}
		answers[which] = a
		if a.Reached.After(made.Reached) {
			made.Reached = a.Reached
		}
		if which == (of{}) {
			made.Total = a.Total
		}
		if !asked.Compare {
			continue
		}
		if q, err = ask(which.only, made.Before, made.From, which.order, by, step, 0); err != nil {
			return nil, err
		}
		values, total, err := m.Tally.Values(ctx, &q)
		if err != nil {
			return nil, err
		}
		earlier[which] = values
		if which == (of{}) {
			made.Earlier = total
		}
		if step != "" {
			q.By = nil
			before, err := m.Tally.Count(ctx, &q)
			if err != nil {
				return nil, err
			}
			overBefore = before.Over
		}
	}
	for _, s := range Sections {
		if !slices.Contains(asked.Sections, s.Key) {
			continue
		}
		done := MadeSection{Section: s}
		switch {
		case s.Key == over:
			done.Over = m.moments(made, answers[of{}].Over, overBefore)
		case s.fresh:
			q, err := ask("", made.From, made.To, "", []string{s.field}, "", asked.Top)
			if err == nil {
				done.Rows, done.Others, err = m.fresh(ctx, made, q, ask)
			}
			if err != nil {
				return nil, err
			}
		default:
			which := of{s.only, s.order}
			at := slices.IndexFunc(answers[which].Facets, func(f tally.Facet) bool { return f.Field == s.field })
			facet := answers[which].Facets[at]
			done.Others = facet.Others
			for _, v := range facet.Values {
				if v.Key == "" && !s.missing {
					continue
				}
				if len(done.Rows) == asked.Top {
					done.Others++
					break
				}
				r := Row{Value: v.Value, Selects: within(made, strings.TrimSpace(v.Term+" "+s.only)), Now: v.Count}
				if n := earlier[which][s.field][v.Key]; n != nil {
					r.Earlier = *n
				}
				done.Rows = append(done.Rows, r)
			}
		}
		made.Sections = append(made.Sections, done)
	}
	return made, nil
}

var alternatives = regexp.MustCompile(`(?i)(^|[\s)])or([\s(]|$)`)

// Grouped returns a query that other terms can stand beside.
func Grouped(q string) string {
	if q = strings.TrimSpace(q); alternatives.MatchString(q) {
		return "(" + q + ")"
	}
	return q
}

// within returns the query for records of a report that a term selects.
func within(made *Made, term string) string {
	return bounded(strings.TrimSpace(Grouped(made.Query)+" "+term), made.From, made.To)
}

// moments puts the counts over time beside those of the period before.
func (m *Maker) moments(made *Made, now, before []tally.Moment) []Moment {
	all := make([]Moment, len(now))
	for i, at := range now {
		end := made.To
		if i+1 < len(now) {
			end = now[i+1].At
		}
		begin := at.At
		if begin.Before(made.From) {
			begin = made.From
		}
		all[i] = Moment{At: begin, Selects: Within(made.Query, begin, end), Now: at.Count}
		if len(before) == len(now) {
			all[i].Earlier = before[i].Count
		}
	}
	return all
}

// fresh returns the sites of a question that were not asked for in the weeks before the report.
func (m *Maker) fresh(ctx context.Context, made *Made, q tally.Question, ask func(only string, from, to time.Time, order tally.Order, by []string, step tally.Step, top int) (tally.Question, error)) ([]Row, int, error) {
	values, _, err := m.Tally.Values(ctx, &q)
	if err != nil {
		return nil, 0, err
	}
	w, err := m.Tally.World(ctx, made.View)
	if err != nil {
		return nil, 0, err
	}
	before, err := query.Compile(ctx, Within("", made.From.Add(-newWithin), made.From), w) // whoever asked for it
	if err != nil {
		return nil, 0, err
	}
	known, _, err := m.Tally.Values(ctx, &tally.Question{Search: before, Taxonomy: w.Taxonomy, By: q.By, Patience: patience})
	if err != nil {
		return nil, 0, err
	}
	sites := maps.Clone(values[q.By[0]])
	maps.DeleteFunc(sites, func(site string, _ *segment.Count) bool { return known[q.By[0]][site] != nil })
	first, others := tally.First(sites, "", made.Top)
	var rows []Row
	for _, site := range first {
		rows = append(rows, Row{Value: site, Selects: within(made, "site:"+query.Value{Text: site, Quoted: true}.String()), Now: *sites[site]})
	}
	return rows, others, nil
}

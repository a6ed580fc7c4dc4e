package query

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/internal/journal/segment"
)

// World is what a query is resolved in.
type World struct {
	Now      time.Time
	Zone     *time.Location // the organisation's
	Taxonomy classify.Taxonomy
	Names    Names
	View     View // of the reader

	Schedule func(name string) (policy.Schedule, bool) // as it holds now; letter case is ignored
}

// Sort is a sort of thing that records name by an id.
type Sort string

// The sorts of things.
const (
	People     Sort = "person"
	Groups     Sort = "group"
	Networks   Sort = "network"
	Machines   Sort = "machine"
	Policies   Sort = "policy"
	Rules      Sort = "rule"
	Exceptions Sort = "exception"
	Lists      Sort = "list"
	Schedules  Sort = "schedule"
)

// Names knows what things are called, and were called before.
type Names interface {
	// Called returns the ids of things whose name is like a text, in which * is any run of characters. Letter case is ignored.
	Called(ctx context.Context, sort Sort, like string) ([]uuid.UUID, error)
	// Beginning returns the first names, in order, of things that are there now, which begin with a text.
	Beginning(ctx context.Context, sort Sort, with string, limit int) ([]string, error)
}

// Search is a query that can be carried out.
type Search struct {
	From, To time.Time // the records that can match; To is the present where the query does not say
	Recent   bool      // the query does not say since when, so From is a day before its end
	Filter   segment.Filter

	view View
}

// day is what a query without since looks at.
const day = 24 * time.Hour

// compiler makes a search of a query.
type compiler struct {
	ctx   context.Context
	world World
	text  string

	begin, to time.Time // of what is searched

	from, until time.Time // that all records must lie between; zero for no bound
	hasSince    bool

	who bool // the query hangs on who asked
}

// Compile reads a query and resolves it. A mistake is an [*Error]; other errors come from the names.
func Compile(ctx context.Context, text string, w World) (s Search, err error) {
	n, err := Parse(text)
	if err != nil {
		return s, err
	}
	c := &compiler{ctx: ctx, world: w, text: text}
	c.spans(n, true)
	s.From, s.To = c.from, w.Now.Add(time.Hour) // a gate's clock may be ahead
	if !c.until.IsZero() {
		s.To = c.until
	}
	if !c.hasSince {
		s.Recent = true
		s.From = w.Now.Add(-day)
		if !c.until.IsZero() && c.until.Before(w.Now) {
			s.From = c.until.Add(-day)
		}
	}
	c.begin, c.to = s.From, s.To
	if s.Filter, err = c.node(n); err != nil {
		return s, err
	}
	s.Filter, s.view = w.View.bound(s.Filter, c.who), w.View
	s.Filter = segment.And{segment.Between{Amount: segment.At, Spans: []segment.Span{{From: ceilMillis(s.From), To: ceilMillis(s.To)}}}, s.Filter}
	return s, nil
}

// Live reads a query for records that are still to come. What it says of times holds as it is now.
func Live(ctx context.Context, text string, w World) (segment.Filter, error) {
	n, err := Parse(text)
	if err != nil {
		return nil, err
	}
	c := &compiler{ctx: ctx, world: w, text: text, begin: w.Now.Add(-day), to: w.Now.Add(30 * day)}
	f, err := c.node(n)
	return w.View.bound(f, c.who), err
}

// ceilMillis returns a moment in milliseconds since 1970, rounded up: records have whole milliseconds.
func ceilMillis(at time.Time) int64 {
	if at.IsZero() {
		return 0
	}
	return at.Add(time.Millisecond - 1).UnixMilli()
}

// spans finds the bounds that all records must lie between, and whether the query says since when at all.
func (c *compiler) spans(n Node, certain bool) {
	switch n := n.(type) {
	case All:
		for _, one := range n {
			c.spans(one, certain)
		}
	case Any:
		for _, one := range n {
			c.spans(one, false)
		}
	case No:
		c.spans(n.Of, false)
	case *Term:
		if n.Field != "since" && n.Field != "until" {
			return
		}
		c.hasSince = c.hasSince || n.Field == "since"
		if !certain || len(n.Values) != 1 {
			return
		}
		at, err := c.moment(n.Values[0])
		switch {
		case err != nil: // said when it is compiled
		case n.Field == "since" && at.After(c.from):
			c.from = at
		case n.Field == "until" && (c.until.IsZero() || at.Before(c.until)):
			c.until = at
		}
	}
}

func (c *compiler) node(n Node) (segment.Filter, error) {
	switch n := n.(type) {
	case All:
		all := segment.And{}
		for _, one := range n {
			f, err := c.node(one)
			if err != nil {
				return nil, err
			}
			all = append(all, f)
		}
		slices.SortStableFunc(all, func(a, b segment.Filter) int { return effort(a) - effort(b) })
		return all, nil
	case Any:
		any := segment.Or{}
		for _, one := range n {
			f, err := c.node(one)
			if err != nil {
				return nil, err
			}
			any = append(any, f)
		}
		return any, nil
	case No:
		f, err := c.node(n.Of)
		return segment.Not{Filter: f}, err
	}
	t := n.(*Term)
	if t.Field == "" {
		return c.bare(t.Values[0].Text)
	}
	any, f := segment.Or{}, fields[t.Field]
	if SaysWho(t.Field) {
		if c.who = true; c.world.View.Hides(t.Field) {
			return nil, &Error{Column: utf8.RuneCountInString(c.text[:t.Values[0].from]) + 1, Msg: ErrHidden.Error(), hidden: true}
		}
	}
	for _, v := range t.Values {
		one, err := f.make(c, f, t, v)
		if err != nil {
			return nil, err
		}
		any = append(any, one)
	}
	if len(any) == 1 {
		return any[0], nil
	}
	return any, nil
}

// effort orders filters by how much they read.
func effort(f segment.Filter) int {
	switch f := f.(type) {
	case segment.Has, segment.Between:
		return 0
	case segment.Not:
		return effort(f.Filter)
	case segment.And:
		return effortOf(f)
	case segment.Or:
		return effortOf(f)
	case segment.Text:
		return 2
	case segment.Page:
		if f.Origin != nil {
			return 1
		}
		return 3
	}
	return 2
}

func effortOf(all []segment.Filter) (most int) {
	for _, one := range all {
		most = max(most, effort(one))
	}
	return most
}

// bare looks for a text in URLs, and in the names of people and machines.
func (c *compiler) bare(text string) (segment.Filter, error) {
	any := segment.Or{}
	if low := strings.ToLower(text); strings.Contains(low, "*") {
		is := like("*" + low + "*")
		any = append(any, segment.Page{Match: func(url string) bool { return is(strings.ToLower(url)) }})
	} else {
		any = append(any, segment.Text(low))
	}
	for _, of := range []struct {
		column segment.Column
		sort   Sort
	}{{segment.Person, People}, {segment.Machine, Machines}} {
		ids, err := c.world.Names.Called(c.ctx, of.sort, "*"+text+"*")
		if err != nil {
			return nil, err
		}
		if len(ids) > 0 {
			view := c.world.View
			view.All = true // bounded as a whole
			any = append(any, view.bound(oneOf(of.column, ids), true))
		}
	}
	if len(any) == 1 {
		return any[0], nil
	}
	return any, nil
}

// mistake makes an error about a value.
func (c *compiler) mistake(v Value, msg, instead string) error {
	fix := ""
	if instead != "" {
		fix = c.text[:v.from] + instead + c.text[v.to:]
	}
	return failAt(c.text, v.from, msg, fix)
}

// plain refuses comparisons.
func (c *compiler) plain(t *Term, v Value) error {
	if v.Op == Is {
		return nil
	}
	return c.mistake(v, fmt.Sprintf("%s: is not compared; a text with < > or .. is written in quotation marks", t.Field), quote(c.text[v.from:v.to]))
}

package check

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/compare"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// Bounds of the search for URLs that tell two states apart: enough for all of a day's edits, and a second at most.
const (
	mostWitnesses = 1500
	mostPerObject = 300
	mostPeople    = 40
)

// Turned is the verdicts that turn between two states, as far as witnesses show.
type Turned struct {
	Turns  []compare.Turn
	Looked int // URLs that were tried
	People int // groups and people that were tried
}

// Turns generates URLs from the differences between two states and from recorded traffic, and returns which of them turn, for whom and when.
func (d *Checker) Turns(ctx context.Context, before, after *edition.State, states []revision.ObjectState) (Turned, error) {
	c := &candidates{checker: d, seen: map[string]bool{}, asked: map[string]bool{}, after: after}
	if err := c.gather(ctx, states, before.DraftVersion, after.DraftVersion); err != nil {
		return Turned{}, err
	}
	turns, ok := compare.Turns(before.Snapshot, after.Snapshot, c.urls, c.who, after.Today(), ctx.Done())
	if !ok {
		return Turned{}, ctx.Err()
	}
	return Turned{turns, len(c.urls), len(c.who)}, nil
}

// candidates are URLs and askers that may show a difference.
type candidates struct {
	checker *Checker
	after   *edition.State
	urls    []weburl.URL
	who     []compare.Who
	seen    map[string]bool // URLs
	asked   map[string]bool // people, by name
	sample  map[string]weburl.URL
}

func (c *candidates) add(urls ...weburl.URL) {
	for _, u := range urls {
		if text := u.String(); !c.seen[text] && len(c.urls) < mostWitnesses {
			c.seen[text] = true
			c.urls = append(c.urls, u)
		}
	}
}

func (c *candidates) addText(text string) {
	if u, err := weburl.Parse(text); err == nil {
		c.add(u)
	}
}

func (c *candidates) ask(name string, r policy.Request) {
	if !c.asked[name] {
		c.asked[name] = true
		c.who = append(c.who, compare.Who{Name: name, Request: r})
	}
}

func (c *candidates) gather(ctx context.Context, states []revision.ObjectState, from, to int64) error {
	directory := c.after.Snapshot.Config().Directory
	for _, g := range directory.Groups {
		c.ask(g.Name, policy.Request{Group: g.ID})
	}
	c.ask("somebody unknown", policy.Request{})
	pages, err := c.checker.Traffic.Recorded(ctx)
	if err != nil {
		return err
	}
	c.sample = map[string]weburl.URL{}
	classifier, today := c.after.Snapshot.Classifier(), pattern.DateOf(c.after.Now().In(c.after.Zone))
	const sampled = 5000
	for i, u := range pages {
		if i == sampled {
			break
		}
		for _, key := range classifier.Explain(u, today, weburl.Full).Categories {
			if _, ok := c.sample[key]; !ok {
				c.sample[key] = u
			}
		}
	}
	for _, s := range states {
		if err := c.of(ctx, s, from, to); err != nil {
			return err
		}
	}
	for _, e := range c.after.Expectations() {
		for _, text := range e.Body.URLs {
			c.addText(text)
		}
	}
	keys := make([]string, 0, len(c.sample))
	for key := range c.sample {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		c.add(c.sample[key])
	}
	for _, l := range c.after.Lists() {
		if err := c.members(ctx, l.ID, 2); err != nil {
			return err
		}
	}
	c.add(pages[:min(len(pages), mostPerObject)]...)
	return nil
}

// members adds URLs of the first entries of a list.
func (c *candidates) members(ctx context.Context, list uuid.UUID, most int) error {
	entries, _, err := c.checker.Lists.Entries(ctx, list, revision.EntryQuery{Limit: most})
	for _, e := range entries {
		if e.Pattern.IsValid() {
			c.add(compare.Boundaries(e.Pattern)...)
		}
	}
	return err
}

// of adds the candidates in which an object's change may show.
func (c *candidates) of(ctx context.Context, s revision.ObjectState, from, to int64) error {
	if s.Kind == revision.KindList && s.Entries != nil {
		found, err := c.checker.Publishing.EntryDifferences(ctx, s.ID, from, to, 0, mostPerObject)
		if err != nil {
			return err
		}
		for _, d := range found {
			for _, e := range []*pattern.Entry{d.Before, d.After} {
				if e != nil && e.Pattern.IsValid() {
					c.add(compare.Boundaries(e.Pattern)...)
				}
			}
		}
		return nil
	}
	for _, o := range []*revision.Object{s.Before, s.After} {
		if o == nil {
			continue
		}
		switch o.Kind {
		case revision.KindCorrection:
			c.patterns(pattern.Keep(o.Name)...)
		case revision.KindPolicy:
			body, err := revision.Decode[revision.PolicyBody](*o)
			if err != nil {
				return err
			}
			for _, r := range body.Rules {
				if r.If != nil {
					if err := c.condition(ctx, *r.If); err != nil {
						return err
					}
				}
			}
		case revision.KindException:
			body, err := revision.Decode[revision.ExceptionBody](*o)
			if err != nil {
				return err
			}
			c.patterns(body.Entries...)
			c.people(body.For.Persons)
			for _, ref := range body.For.Networks {
				directory := c.after.Snapshot.Config().Directory
				if n := directory.Network(ref.ID.String()); n >= 0 && len(directory.Networks[n].Ranges) > 0 {
					c.ask(directory.Networks[n].Name, policy.Request{Addr: directory.Networks[n].Ranges[0].Addr()})
				}
			}
		case revision.KindPerson:
			c.people([]revision.Ref{{ID: o.ID}})
		case revision.KindApp:
			body, err := revision.Decode[revision.AppBody](*o)
			if err != nil {
				return err
			}
			c.patterns(body.Hosts...)
		case revision.KindEngine:
			body, err := revision.Decode[revision.EngineBody](*o)
			if err != nil {
				return err
			}
			c.patterns(body.Hosts...)
		}
	}
	return nil
}

func (c *candidates) patterns(entries ...pattern.Entry) {
	for _, e := range entries {
		if e.Pattern.IsValid() {
			c.add(compare.Boundaries(e.Pattern)...)
		}
	}
}

func (c *candidates) people(refs []revision.Ref) {
	directory := c.after.Snapshot.Config().Directory
	for _, ref := range refs {
		if n := directory.Person(ref.ID.String()); n >= 0 && len(c.who) < mostPeople+len(directory.Groups) {
			c.ask(directory.People[n].Name, policy.Request{Person: ref.ID.String()})
		}
	}
}

func (c *candidates) condition(ctx context.Context, cond revision.Condition) error {
	for _, parts := range [][]revision.Condition{cond.All, cond.Any, cond.None} {
		for _, part := range parts {
			if err := c.condition(ctx, part); err != nil {
				return err
			}
		}
	}
	for _, list := range cond.Lists {
		const few = 5
		if err := c.members(ctx, list.ID, few); err != nil {
			return err
		}
	}
	for _, key := range cond.Categories {
		for _, category := range c.after.Snapshot.Config().Taxonomy.Categories {
			if u, ok := c.sample[category.Key]; ok && (category.Key == key || category.Family == key) {
				c.add(u)
			}
		}
	}
	for _, words := range cond.Search {
		c.addText("https://search.example/find?q=" + strings.Join(strings.Fields(strings.Trim(words, `"*`)), "+"))
	}
	for _, trait := range cond.Traits {
		c.addText(map[string]string{
			string(policy.RawAddress): "https://192.0.2.7/", string(policy.PlainHTTP): "http://witness.example/", string(policy.OddPort): "https://witness.example:8443/",
			string(policy.Unrated): "https://witness.example/", string(policy.UserInfo): "https://somebody@witness.example/", string(policy.Punycode): "https://xn--witness-example-mwb.example/",
		}[trait])
	}
	return nil
}

// Package lookup says what URLs are, who says so, what was said before, and what the recorded traffic is made of.
//
// From: the classifier of the draft, the catalogue's states, recorded traffic.
// To: answers that the API gives out.
package lookup

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// Store is what the finder asks beside the catalogue's store.
type Store interface {
	revision.CategoryStore
	revision.SeenStore
}

// Finder answers what URLs are. It is safe for concurrent use.
type Finder struct {
	editions *edition.Editions
	cache    *catalogue.Cache
	packs    catalogue.Store
	store    Store
	survey   surveys
}

// NewFinder returns a finder.
func NewFinder(editions *edition.Editions, cache *catalogue.Cache, packs catalogue.Store, store Store) *Finder {
	return &Finder{editions: editions, cache: cache, packs: packs, store: store}
}

// OwnFamily holds the categories of our own that are in no family of the catalogue.
var OwnFamily = classify.Family{Key: "our-own", Name: "Our own", About: "Categories that this house made."}

// Taxonomy returns the families and categories of the catalogue with those of our own.
func (c *Finder) Taxonomy(ctx context.Context) (classify.Taxonomy, []revision.OwnCategory, error) {
	own, err := c.store.OwnCategories(ctx)
	if err != nil {
		return classify.Taxonomy{}, nil, err
	}
	ours := classify.Taxonomy{Families: []classify.Family{OwnFamily}}
	for _, o := range own {
		one := classify.Category{Key: o.Key, Family: o.Family, Name: o.Name, About: o.Description}
		if _, known := c.cache.Loaded().Taxonomy.Family(o.Family); !known {
			one.Family = OwnFamily.Key
		}
		ours.Categories = append(ours.Categories, one)
	}
	return classify.Merge(c.cache.Loaded().Taxonomy, ours), own, nil
}

// Found is what a URL is, and what one needs to understand that.
type Found struct {
	Input      string
	Problem    string // why the input is not a URL; all below is empty then
	URL        weburl.URL
	Answer     classify.Answer
	Neighbours []Neighbour // from the registrable domain to the page
	Past       []Past      // the newest first
}

// Neighbour is a place above the page, and what it is.
type Neighbour struct {
	URL    weburl.URL
	Answer classify.Answer
}

// Past is a pack's statement about a URL from a moment on.
type Past struct {
	Pack       uuid.UUID
	PackName   string
	From       time.Time
	Version    int64
	Categories []string // none where it did not know the URL
	Entry      string
}

// Lookup classifies URLs as they are seen. With detail, it also tells neighbours and the past.
func (c *Finder) Lookup(ctx context.Context, urls []string, sight weburl.Sight, detail bool) ([]Found, error) {
	classifier, today, err := c.editions.Classifier(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]Found, len(urls))
	for i, text := range urls {
		if i%256 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		found := &all[i]
		found.Input = text
		var refused *weburl.Error
		if found.URL, err = weburl.Parse(text); errors.As(err, &refused) {
			found.Problem = refused.Reason
			continue
		}
		found.Answer = classifier.Explain(found.URL, today, sight)
		if !detail {
			continue
		}
		for _, u := range above(found.URL) {
			found.Neighbours = append(found.Neighbours, Neighbour{u, classifier.Explain(u, today, sight)})
		}
		if found.Past, err = c.past(ctx, found.URL); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// maxAbove bounds how many places above a page are returned.
const maxAbove = 16

// above returns the places above a URL and itself: the registrable domain, the hosts below it down to the URL's, then the path segment
// by segment.
func above(u weburl.URL) []weburl.URL {
	var texts []string
	host := u.Host()
	if !u.Addr().IsValid() {
		name, suffix := weburl.SplitSuffix(host)
		labels := strings.Split(name, ".")
		for i := len(labels) - 1; i > 0 && name != ""; i-- {
			texts = append(texts, strings.Join(append(slices.Clone(labels[i:]), suffix), "."))
		}
	}
	origin := strings.TrimSuffix(strings.TrimSuffix(u.String(), u.Target()), "/")
	texts = append(texts, origin)
	path := strings.TrimSuffix(u.Path(), "/")
	var ends []int // of the folders, the deepest last: of a long path only these are made
	for i, r := range path {
		if r == '/' && i > 0 {
			ends = append(ends, i)
		}
	}
	for _, end := range ends[max(0, len(ends)-maxAbove):] {
		texts = append(texts, origin+path[:end])
	}
	if u.Target() != "/" {
		texts = append(texts, u.String())
	}
	var all []weburl.URL
	for _, text := range texts[max(0, len(texts)-maxAbove):] {
		if !strings.Contains(text, "://") {
			text = u.Scheme() + "://" + text
		}
		if one, err := weburl.Parse(text); err == nil {
			all = append(all, one)
		}
	}
	return all
}

// past returns the packs' statements about a URL over time, one for each change.
func (c *Finder) past(ctx context.Context, u weburl.URL) ([]Past, error) {
	stated, err := c.packs.Stated(ctx, pattern.Covering(u))
	if err != nil {
		return nil, err
	}
	packs, err := c.packs.Packs(ctx)
	if err != nil {
		return nil, err
	}
	var all []Past
	for _, p := range packs {
		if !slices.ContainsFunc(stated, func(s catalogue.Stated) bool { return s.Pack == p.ID }) {
			continue
		}
		events, err := c.packs.Events(ctx, p.ID)
		if err != nil {
			return nil, err
		}
		slices.Reverse(events)
		last := Past{}
		first := true
		for _, e := range events {
			if e.What != catalogue.EventInForce && e.What != catalogue.EventUndone {
				continue
			}
			now := Past{Pack: p.ID, PackName: p.Name, From: e.At, Version: e.Version}
			now.Categories, now.Entry = answerAt(stated, p.ID, e.Number, u)
			if first && now.Categories == nil || !first && now.Entry == last.Entry && slices.Equal(now.Categories, last.Categories) {
				continue
			}
			first, last = false, now
			all = append(all, now)
		}
	}
	slices.SortStableFunc(all, func(a, b Past) int { return b.From.Compare(a.From) })
	return all, nil
}

// answerAt returns a pack's statement about a URL at one of its states, and the entry.
func answerAt(stated []catalogue.Stated, pack uuid.UUID, number int64, u weburl.URL) (categories []string, entry string) {
	b := match.NewBuilder(0)
	for _, s := range stated {
		if s.Pack == pack && s.Since <= number && (s.Gone == 0 || s.Gone > number) {
			if read, err := pattern.Parse(s.Entry); err == nil {
				b.Add(b.List(s.Categories, s.Categories), s.ID, read)
			}
		}
	}
	answer := classify.New(classify.NewLocal(nil, nil, nil), []classify.Pack{{ID: pack.String(), Sites: b.Build()}}, nil).Explain(u, pattern.Date{}, weburl.Full)
	if len(answer.Given) == 0 {
		return nil, ""
	}
	return answer.Categories, answer.Given[0].Entry.Pattern.String()
}

// Score scores a text with one scorecard: as a URL where it is one word with a dot in it and reads as one, else as the text of a page.
func Score(card classify.Scorecard, text string) (score classify.Score, isURL bool) {
	text = strings.TrimSpace(text)
	if !strings.ContainsAny(text, " \t\r\n") && strings.Contains(text, ".") {
		if u, err := weburl.Parse(text); err == nil {
			answer := classify.New(classify.NewLocal(nil, nil, []classify.Scorecard{card}), nil, nil).Explain(u, pattern.Date{}, weburl.Full)
			if len(answer.Scores) > 0 {
				return answer.Scores[0], true
			}
			return card.Text(""), true
		}
	}
	return card.Text(text), false
}

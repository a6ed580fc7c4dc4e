package lookup

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/cover"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/revision"
)

// Traffic counts recorded traffic.
type Traffic struct {
	Requests int64
	Hosts    int64
}

// Survey is a summary of the recorded traffic by categories.
type Survey struct {
	Categories map[string]Traffic // by key; a host counts once for each category that any of its pages has
	Families   map[string]Traffic // by key; a host counts once
	Unrated    []UnratedHost      // the most asked for first
	Rated      Traffic
	Total      Traffic
}

// UnratedHost is a host with unrated pages.
type UnratedHost struct {
	Host     string
	Requests int64
	Pages    int64 // of those that were seen
}

// surveys keeps the last survey.
type surveys struct {
	mu      sync.Mutex
	of      *classify.Classifier
	version string
	last    *Survey
}

// Survey returns the summary of the recorded traffic. It is computed again when the traffic, the draft or the catalogue has changed, at some
// microseconds per page.
func (c *Finder) Survey(ctx context.Context) (*Survey, error) {
	classifier, today, err := c.editions.Classifier(ctx)
	if err != nil {
		return nil, err
	}
	version, err := c.store.SeenVersion(ctx)
	if err != nil {
		return nil, err
	}
	s := &c.survey
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.last != nil && s.of == classifier && s.version == version {
		return s.last, nil
	}
	taxonomy, _, err := c.Taxonomy(ctx)
	if err != nil {
		return nil, err
	}
	survey, err := c.surveyed(ctx, classifier, today, taxonomy)
	if err == nil {
		s.of, s.version, s.last = classifier, version, survey
	}
	return survey, err
}

func (c *Finder) surveyed(ctx context.Context, classifier *classify.Classifier, today pattern.Date, taxonomy classify.Taxonomy) (*Survey, error) {
	survey := &Survey{Categories: map[string]Traffic{}, Families: map[string]Traffic{}}
	family := map[string]string{}
	for _, category := range taxonomy.Categories {
		family[category.Key] = category.Family
	}
	type place struct {
		what string // key of a category, or "family " and that of a family
		host string
	}
	known := map[place]bool{}
	count := func(to map[string]Traffic, kind, key, host string, requests int64) {
		t := to[key]
		t.Requests += requests
		if at := (place{kind + key, host}); !known[at] {
			known[at] = true
			t.Hosts++
		}
		to[key] = t
	}
	totals := map[string]Traffic{}
	unrated := map[string]*UnratedHost{}
	var r classify.Result
	err := c.store.EachSeen(ctx, func(p revision.SeenPage) error {
		u, err := seenURL(p)
		if err != nil {
			return nil // what was seen before the reading of URLs became stricter
		}
		count(totals, "all ", "all", p.Host, p.Requests)
		classifier.Classify(&r, u, today, weburl.Full)
		if len(r.Categories) == 0 {
			host := unrated[p.Host]
			if host == nil {
				host = &UnratedHost{Host: p.Host}
				unrated[p.Host] = host
			}
			host.Requests += p.Requests
			host.Pages++
			return nil
		}
		count(totals, "rated ", "rated", p.Host, p.Requests)
		families := map[string]bool{}
		for _, n := range r.Categories {
			key := classifier.Key(n)
			count(survey.Categories, "", key, p.Host, p.Requests)
			families[family[key]] = true
		}
		for key := range families {
			count(survey.Families, "family ", key, p.Host, p.Requests)
		}
		return nil
	})
	survey.Total, survey.Rated = totals["all"], totals["rated"]
	for host := range maps.Values(unrated) {
		survey.Unrated = append(survey.Unrated, *host)
	}
	slices.SortFunc(survey.Unrated, func(a, b UnratedHost) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Host, b.Host))
	})
	return survey, err
}

func seenURL(p revision.SeenPage) (weburl.URL, error) {
	host := p.Host
	if strings.Contains(host, ":") && host[0] != '[' {
		host = "[" + host + "]"
	}
	return weburl.Parse("https://" + host + p.Path)
}

// Turn is recorded traffic that changes category with another state of a pack.
type Turn struct {
	Host          string
	Path          string // "/" where only the host was seen
	Requests      int64
	Before, After []string // keys; none where it is unrated
}

// Turns returns the recorded traffic that changes category with another state of a pack, taking local statements into
// account: the most requested first, up to a limit, and the total number.
func (c *Finder) Turns(ctx context.Context, pack uuid.UUID, number int64, limit int) (turns []Turn, total Traffic, err error) {
	packsBefore, packsAfter, err := c.cache.WithState(ctx, pack, number)
	if err != nil {
		return nil, total, err
	}
	before, err := c.editions.ClassifierWith(ctx, packsBefore)
	if err != nil {
		return nil, total, err
	}
	after, err := c.editions.ClassifierWith(ctx, packsAfter)
	if err != nil {
		return nil, total, err
	}
	_, today, err := c.editions.Classifier(ctx)
	if err != nil {
		return nil, total, err
	}
	var was, is classify.Result
	hosts := map[string]bool{}
	err = c.store.EachSeen(ctx, func(p revision.SeenPage) error {
		u, err := seenURL(p)
		if err != nil {
			return nil
		}
		before.Classify(&was, u, today, weburl.Full)
		after.Classify(&is, u, today, weburl.Full)
		turn := Turn{p.Host, p.Path, p.Requests, keys(before, was), keys(after, is)}
		if slices.Equal(turn.Before, turn.After) {
			return nil
		}
		turns = append(turns, turn)
		total.Requests += p.Requests
		hosts[p.Host] = true
		return nil
	})
	total.Hosts = int64(len(hosts))
	slices.SortFunc(turns, func(a, b Turn) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Host, b.Host), strings.Compare(a.Path, b.Path))
	})
	return turns[:min(limit, len(turns))], total, err
}

// keys returns the categories of a result in the order of their keys.
func keys(c *classify.Classifier, r classify.Result) []string {
	var all []string
	for _, n := range r.Categories {
		all = append(all, c.Key(n))
	}
	slices.Sort(all)
	return all
}

// Corrected is a correction with what the catalogue now says about the same place.
type Corrected struct {
	revision.Correction
	Catalogue []string // keys; none where the catalogue does not know the place
	Agreed    bool     // the catalogue says the same: the correction is no longer needed
}

// Corrections returns corrections by id. See [revision.CategoryStore].
func (c *Finder) Corrections(ctx context.Context, text string, after int64, limit int) ([]Corrected, int64, error) {
	found, total, err := c.store.Corrections(ctx, text, after, limit)
	if err != nil {
		return nil, 0, err
	}
	catalogueAlone := classify.New(classify.NewLocal(nil, nil, nil), c.cache.Loaded().Packs, nil)
	all := make([]Corrected, len(found))
	for i, correction := range found {
		all[i].Correction = correction
		if u, ok := cover.Witness(correction.Entry); ok {
			all[i].Catalogue = catalogueAlone.Explain(u, pattern.Date{}, weburl.Full).Categories
			all[i].Agreed = classify.SetID(all[i].Catalogue) == classify.SetID(correction.Categories)
		}
	}
	return all, total, nil
}

// Package upkeep finds what is worth mending in lists: entries that others make superfluous or contradict, and what a pattern
// catches besides what it was written for.
//
// From: the lists of the draft, compiled, and what was seen of the traffic.
// To: findings and catches, which the API gives out.
package upkeep

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync"

	"github.com/google/uuid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/tidy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/internal/traffic"
)

// Index gives the lists of the draft, compiled, and the day that it is: [edition.Editions].
type Index interface {
	Index(ctx context.Context) (*match.Index, pattern.Date, error)
	Policies(ctx context.Context) ([]policy.Policy, error)
}

// Examiner examines lists. It is safe for concurrent use.
type Examiner struct {
	store revision.Store
	seen  Traffic
	index Index

	mu   sync.Mutex
	kept map[int]seenPages // guarded by mu; by days
}

// Traffic is what was asked for: [traffic.Source].
type Traffic interface {
	revision.SeenStore
	EachSince(ctx context.Context, days int, each func(revision.SeenPage) error) error
	VersionSince(ctx context.Context, days int) (string, error)
}

// seenPages is what was seen, ready to be matched; replaced whole.
type seenPages struct {
	version string
	pages   []page
}

// page is one page of recorded traffic.
type page struct {
	url      weburl.URL
	requests int64
}

// NewExaminer returns an examiner.
func NewExaminer(store revision.Store, seen Traffic, index Index) *Examiner {
	return &Examiner{store: store, seen: seen, index: index, kept: map[int]seenPages{}}
}

// Findings are the findings for a list.
type Findings struct {
	Version  int64                 // of the list that was looked at
	Counts   map[tidy.Kind]int     // of all
	Findings []tidy.Finding        // the first of those asked for
	Absorb   map[tidy.Kind][]int64 // ids of absorbable entries, by kind
}

// Examine examines a whole list, at some microseconds per entry. It returns the findings of some kinds (all if none is
// named), up to limit.
func (k *Examiner) Examine(ctx context.Context, list revision.List, kinds []tidy.Kind, limit int) (Findings, error) {
	index, today, err := k.index.Index(ctx)
	if err != nil {
		return Findings{}, err
	}
	policies, err := k.index.Policies(ctx)
	if err != nil {
		return Findings{}, err
	}
	x := tidy.Examiner{Index: index, Today: today, Opposed: opposed(policies)}
	found := Findings{Version: list.Version, Counts: map[tidy.Kind]int{}, Findings: []tidy.Finding{}, Absorb: map[tidy.Kind][]int64{}}
	wanted := map[tidy.Kind]bool{}
	for _, kind := range kinds {
		wanted[kind] = true
	}
	ref := match.Ref{ID: list.ID.String(), Name: list.Name}
	err = k.store.EachEntry(ctx, list.ID, func(id int64, entry pattern.Entry) error {
		for _, f := range x.Examine(ref, match.Found{ID: id, Entry: entry}) {
			found.Counts[f.Kind]++
			if f.Kind.Absorbable() {
				found.Absorb[f.Kind] = append(found.Absorb[f.Kind], id)
			}
			if (len(wanted) == 0 || wanted[f.Kind]) && len(found.Findings) < limit {
				found.Findings = append(found.Findings, f)
			}
		}
		return ctx.Err()
	})
	return found, err
}

// opposed returns the pairs of lists to which the rules of one policy give opposite verdicts.
func opposed(policies []policy.Policy) func(list, other string) string {
	said := map[[2]string]string{}
	for _, p := range policies {
		verdicts := map[string]string{}
		for _, r := range p.Rules {
			for _, list := range r.If.Lists() {
				if verdicts[list] == "" && r.Then != policy.Note && !r.Off {
					verdicts[list] = string(r.Then)
				}
			}
		}
		for a, first := range verdicts {
			for b, second := range verdicts {
				if first != second && said[[2]string{a, b}] == "" {
					said[[2]string{a, b}] = fmt.Sprintf("the policy %q says %s to this list and %s to that one", p.Name, first, second)
				}
			}
		}
	}
	return func(list, other string) string { return said[[2]string{list, other}] }
}

// Catch is the recorded traffic that an entry covers.
type Catch struct {
	Hosts    int   // different hosts
	Requests int64 // to them
	Top      []CaughtHost
	Looked   int // pages that were looked at; 0 where nothing was recorded yet
}

// CaughtHost is a host with pages that an entry covers.
type CaughtHost struct {
	Host     string
	Shown    string // the page of it that was asked for most
	Requests int64
	most     int64
}

// Catches finds the recorded traffic of some days that each of some patterns covers, whatever else is in force, at some tenths of a
// microsecond per page.
func (k *Examiner) Catches(ctx context.Context, patterns []pattern.Pattern, days, top int) ([]Catch, error) {
	pages, err := k.recorded(ctx, days)
	if err != nil {
		return nil, err
	}
	lists := make([]match.List, len(patterns))
	for i, p := range patterns {
		lists[i] = match.List{ID: fmt.Sprint(i), Entries: []pattern.Entry{{Pattern: p}}}
	}
	index := match.New(lists)
	hosts := make([]map[string]*CaughtHost, len(patterns))
	var members []match.Membership
	for i, page := range pages {
		if i%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		members = index.Memberships(members[:0], page.url, pattern.Date{}, weburl.Full)
		for _, m := range members {
			if hosts[m.List] == nil {
				hosts[m.List] = map[string]*CaughtHost{}
			}
			h := hosts[m.List][page.url.Host()]
			if h == nil {
				h = &CaughtHost{Host: page.url.Host()}
				hosts[m.List][h.Host] = h
			}
			if h.Requests += page.requests; page.requests > h.most {
				h.most, h.Shown = page.requests, page.url.String()
			}
		}
	}
	catches := make([]Catch, len(patterns))
	for i, found := range hosts {
		catches[i] = Catch{Hosts: len(found), Looked: len(pages), Top: []CaughtHost{}}
		for _, h := range found {
			catches[i].Requests += h.Requests
			catches[i].Top = append(catches[i].Top, *h)
		}
		all := catches[i].Top
		sort.Slice(all, func(a, b int) bool {
			return all[a].Requests > all[b].Requests || all[a].Requests == all[b].Requests && all[a].Host < all[b].Host
		})
		catches[i].Top = all[:min(len(all), top)]
	}
	return catches, nil
}

// recorded returns the recorded pages of some days, from memory unless some were added.
func (k *Examiner) recorded(ctx context.Context, days int) ([]page, error) {
	version, err := k.seen.VersionSince(ctx, days)
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if known := k.kept[days]; version == known.version {
		return known.pages, nil
	}
	var pages []page
	err = k.seen.EachSince(ctx, days, func(p revision.SeenPage) error {
		if u, err := weburl.Parse("https://" + p.Host + p.Path); err == nil {
			pages = append(pages, page{u, p.Requests})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	k.kept[days] = seenPages{version, pages}
	return pages, nil
}

// Recorded returns the pages of the recorded traffic.
func (k *Examiner) Recorded(ctx context.Context) ([]weburl.URL, error) {
	pages, err := k.recorded(ctx, traffic.Days)
	urls := make([]weburl.URL, len(pages))
	for i, p := range pages {
		urls[i] = p.url
	}
	return urls, err
}

// AddSeen adds pages to the recorded traffic. Invalid URLs are skipped; it returns how many were kept.
func (k *Examiner) AddSeen(ctx context.Context, urls []revision.SeenPage, by access.Actor) (int, error) {
	kept := make([]revision.SeenPage, 0, len(urls))
	for _, p := range urls {
		u, err := weburl.Parse(p.Host + p.Path)
		if err != nil || p.Requests <= 0 || len(u.Path()) > 1000 {
			continue
		}
		p.Host, p.Path = u.Host(), u.Path()
		kept = append(kept, p)
	}
	return len(kept), k.seen.AddSeen(ctx, kept, by)
}

// Companion reports whether a list covers a host that a page needs.
func Companion(index *match.Index, today pattern.Date, list uuid.UUID, u weburl.URL) bool {
	for _, hit := range index.Cover(u, today, weburl.Full) {
		if hit.List.ID == list.String() {
			return hit.In() == match.Yes
		}
	}
	return false
}

// Suggested returns the pattern that lets a companion in: its host alone, or with the hosts below where the page's host is one of them.
func Suggested(needed, page weburl.URL) pattern.Pattern {
	scope := pattern.Only
	if needed.Host() == page.Host() || strings.HasSuffix(page.Host(), "."+needed.Host()) {
		scope = pattern.AndBelow
	}
	p, _ := pattern.OfHost(needed, scope)
	return p
}

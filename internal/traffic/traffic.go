// Package traffic is what was asked for lately, page by page: what gates recorded, and what was told of the logs of other filters.
//
// From: the journal, and pages that were seen.
// To: pages, with how often they were asked for.
package traffic

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"widelark/internal/journal"
	"widelark/internal/journal/segment"
	"widelark/internal/revision"
)

// Source is pages of recorded traffic. It is safe for concurrent use.
type Source struct {
	revision.SeenStore // what was told of other filters
	Journal            journal.Reader
	Now                func() time.Time

	mu   sync.Mutex
	kept map[int]*recorded // guarded by mu; by days
}

// recorded is the pages of some days.
type recorded struct {
	n     int64 // records that there were in all
	at    time.Time
	pages []revision.SeenPage
	made  int64 // differs from that of others
}

// Days is how far back the journal is looked at where nobody says.
const Days = 7

// The journal is not read again for so long, as a week of it takes a while; so many pages are told apart, and others by their hosts.
const (
	readAgain = 5 * time.Minute
	mostPages = 400_000
)

// EachSeen implements [revision.SeenStore], with the pages of the last [Days].
func (s *Source) EachSeen(ctx context.Context, each func(revision.SeenPage) error) error {
	return s.EachSince(ctx, Days, each)
}

// SeenVersion implements [revision.SeenStore].
func (s *Source) SeenVersion(ctx context.Context) (string, error) { return s.VersionSince(ctx, Days) }

// EachSince calls each with what was told of other filters, and with the pages that were recorded in so many days until the last record.
func (s *Source) EachSince(ctx context.Context, days int, each func(revision.SeenPage) error) error {
	if err := s.SeenStore.EachSeen(ctx, each); err != nil {
		return err
	}
	r, err := s.recorded(ctx, days)
	if err != nil {
		return err
	}
	for _, p := range r.pages {
		if err := each(p); err != nil {
			return err
		}
	}
	return nil
}

// VersionSince changes when there are other pages than before.
func (s *Source) VersionSince(ctx context.Context, days int) (string, error) {
	told, err := s.SeenStore.SeenVersion(ctx)
	if err != nil {
		return "", err
	}
	r, err := s.recorded(ctx, days)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s/%d/%d", told, days, r.made), nil
}

func (s *Source) recorded(ctx context.Context, days int) (*recorded, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, last, n, err := s.Journal.RecordedSpan(ctx)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	known := s.kept[days]
	if known != nil && (known.n == n || now.Sub(known.at) < readAgain && known.n > 0) {
		return known, nil
	}
	made := &recorded{n: n, at: now, made: 1}
	if known != nil {
		made.made = known.made + 1
	}
	if n > 0 {
		if made.pages, err = s.read(ctx, last.AddDate(0, 0, -days), last.Add(time.Second)); err != nil {
			return nil, err
		}
	}
	if s.kept == nil {
		s.kept = map[int]*recorded{}
	}
	s.kept[days] = made
	return made, nil
}

func (s *Source) read(ctx context.Context, from, to time.Time) ([]revision.SeenPage, error) {
	type place struct{ host, path string }
	places := map[place]int{}
	var pages []revision.SeenPage
	err := s.Journal.EachRecord(ctx, from, to, false, func(r journal.Record) error {
		origin, rest := segment.Split(r.URL)
		host := segment.Host(origin)
		path, _, _ := strings.Cut(rest, "?")
		if path == "" {
			path = "/"
		}
		at, known := places[place{host, path}]
		if !known && len(pages) >= mostPages {
			path = "/"
			at, known = places[place{host, path}]
		}
		if !known {
			at = len(pages)
			places[place{strings.Clone(host), strings.Clone(path)}] = at
			pages = append(pages, revision.SeenPage{Host: strings.Clone(host), Path: strings.Clone(path)})
		}
		p := &pages[at]
		p.Requests++
		if day := r.At.UTC().Truncate(24 * time.Hour); day.After(p.LastOn) {
			p.LastOn = day
		}
		return nil
	})
	return pages, err
}

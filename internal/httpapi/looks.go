package httpapi

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/internal/audit"
	"widelark/internal/journal"
	"widelark/internal/journal/query"
)

// looks remembers who looked at whose records, so that the audit log has it once an hour and not with every page. It is safe for concurrent use.
type looks struct {
	mu   sync.Mutex
	seen map[look]time.Time // guarded by mu
}

// look is somebody who looks at somebody's records.
type look struct{ by, whose string }

// An hour later it is noted again; so many are remembered.
const (
	lookAgain = time.Hour
	mostLooks = 10_000
)

// first reports whether a look is to be noted.
func (l *looks) first(of look, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if at, known := l.seen[of]; known && now.Sub(at) < lookAgain {
		return false
	}
	if l.seen == nil || len(l.seen) >= mostLooks {
		l.seen = map[look]time.Time{}
	}
	l.seen[of] = now
	return true
}

// noteLooks notes whose records a query looks for.
func (s *server) noteLooks(ctx context.Context, what audit.What, text string) error {
	about := query.AboutOf(text)
	whose := about.Named
	for _, t := range about.Texts { // only names are somebody's
		ids, err := s.Called.Called(ctx, query.People, t)
		if err != nil {
			return err
		}
		if len(ids) > 0 {
			whose = append(whose, t)
		}
	}
	if what == audit.RecordsExported && len(whose) == 0 {
		whose = []string{"everybody"}
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(whose))) {
		if err := s.noteLook(ctx, what, nil, name, text); err != nil {
			return err
		}
	}
	return nil
}

func (s *server) noteLook(ctx context.Context, what audit.What, person *uuid.UUID, name, detail string) error {
	by := actor(ctx).Name()
	if what == audit.RecordsSeen && !s.looks.first(look{by, strings.ToLower(name)}, s.Now()) {
		return nil
	}
	return s.Audit.Note(ctx, audit.Event{By: by, What: what, Kind: "person", Object: person, Name: name, Detail: detail})
}

// noteRecord notes that a record of somebody was opened.
func (s *server) noteRecord(ctx context.Context, r *journal.Record, shown *GateRecord) error {
	switch {
	case r.Person != uuid.Nil:
		return s.noteLook(ctx, audit.RecordsSeen, &r.Person, shown.Who, "")
	case r.Address.IsValid():
		return s.noteLook(ctx, audit.RecordsSeen, nil, shown.Address, "")
	}
	return nil
}

package service

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// repeatedAfter is how long a warning is not said again.
const repeatedAfter = time.Minute

// mostSaid is how many warnings are remembered.
const mostSaid = 1000

// unrepeated passes on each warning once a minute: several loops try again every few seconds what cannot be done while the database is away. A warning
// that is said again says how many were left out. It is safe for concurrent use.
type unrepeated struct {
	slog.Handler
	said *saidWarnings
}

type saidWarnings struct {
	mu sync.Mutex
	of map[string]*saidWarning // guarded by mu; by message
}

type saidWarning struct {
	at   time.Time
	more int // since then
}

func withoutRepeats(h slog.Handler) slog.Handler {
	return unrepeated{h, &saidWarnings{of: map[string]*saidWarning{}}}
}

// Handle implements [slog.Handler].
func (h unrepeated) Handle(ctx context.Context, r slog.Record) error {
	if r.Level != slog.LevelWarn {
		return h.Handler.Handle(ctx, r)
	}
	h.said.mu.Lock()
	last := h.said.of[r.Message]
	if last == nil {
		if len(h.said.of) >= mostSaid { // those of the HTTP server name who called
			clear(h.said.of)
		}
		last = &saidWarning{}
		h.said.of[r.Message] = last
	}
	more := last.more
	if r.Time.Sub(last.at) < repeatedAfter {
		last.more++
		h.said.mu.Unlock()
		return nil
	}
	*last = saidWarning{at: r.Time}
	h.said.mu.Unlock()
	if more > 0 {
		r = r.Clone()
		r.AddAttrs(slog.Int("left_out", more))
	}
	return h.Handler.Handle(ctx, r)
}

// WithAttrs implements [slog.Handler].
func (h unrepeated) WithAttrs(attrs []slog.Attr) slog.Handler {
	return unrepeated{h.Handler.WithAttrs(attrs), h.said}
}

// WithGroup implements [slog.Handler].
func (h unrepeated) WithGroup(name string) slog.Handler {
	return unrepeated{h.Handler.WithGroup(name), h.said}
}

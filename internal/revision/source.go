package revision

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
)

// Source is where a list's entries come from.
type Source struct {
	ListID     uuid.UUID
	URL        string
	Every      time.Duration
	Format     string // see package listfile
	EntryField string // of CSV and JSON Lines
	MaxBytes   int64  // a larger file is refused, unpacked as packed
	MaxShrink  int    // per cent of the entries that a pull may take away; more is refused, and the list stays as it is
	Paused     bool

	ETag     string
	Modified string
	NextAt   time.Time
	TriedAt  *time.Time
	PulledAt *time.Time
	Result   PullResult // "" before the first pull
	Told     string     // what happened, one sentence
	Bytes    int64
	Added    int64
	Removed  int64
	Refused  int64 // lines
}

// PullResult says how a pull went.
type PullResult string

// The results.
const (
	PullChanged   PullResult = "changed"
	PullUnchanged PullResult = "unchanged"
	PullRefused   PullResult = "refused" // a guard stopped it; the last good state stays
	PullFailed    PullResult = "failed"  // there was no file; the last good state stays
)

// The bounds of a source.
const (
	MinEvery      = 5 * time.Minute
	MaxEvery      = 31 * 24 * time.Hour
	DefaultShrink = 30
	MaxSourceSize = 128 << 20
)

// Checked fills in what was left out, or says what is wrong.
func (s Source) Checked() (Source, error) {
	if s.Every == 0 {
		s.Every = 24 * time.Hour
	}
	if s.MaxBytes == 0 {
		s.MaxBytes = MaxSourceSize
	}
	u, err := url.Parse(s.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return s, &FieldError{"url", "an http or https address of a file is wanted"}
	case u.User != nil:
		return s, &FieldError{"url", "a password in an address would be shown to everybody; leave it out"}
	case s.Every < MinEvery || s.Every > MaxEvery:
		return s, &FieldError{"everyMinutes", fmt.Sprintf("between %d and %d minutes are possible", int(MinEvery.Minutes()), int(MaxEvery.Minutes()))}
	case s.MaxBytes < 1 || s.MaxBytes > MaxSourceSize:
		return s, &FieldError{"maxBytes", fmt.Sprintf("between 1 and %d are possible", MaxSourceSize)}
	case s.MaxShrink < 0 || s.MaxShrink > 100:
		return s, &FieldError{"maxShrink", "between 0 and 100 per cent are possible"}
	}
	return s, nil
}

// SourceStore keeps the sources of lists.
type SourceStore interface {
	Sources(ctx context.Context) ([]Source, error)
	DueSources(ctx context.Context, at time.Time) ([]Source, error)
	Source(ctx context.Context, list uuid.UUID) (Source, error)
	SetSource(ctx context.Context, source Source, by access.Actor) (Source, error) // what is known of earlier pulls stays, unless the address is another
	RemoveSource(ctx context.Context, list uuid.UUID, by access.Actor) error
	MayFill(ctx context.Context, list uuid.UUID, by access.Actor) error // an [*access.DeniedError] where the actor may not
	KeepPull(ctx context.Context, source Source, by access.Actor) error // what a pull came to
}

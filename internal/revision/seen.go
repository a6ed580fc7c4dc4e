package revision

import (
	"context"
	"time"

	"widelark/internal/access"
)

// SeenPage is a page of recorded traffic with its counts.
type SeenPage struct {
	Host     string // canonical, ASCII
	Path     string // canonical, without the query; "/" where only the host was seen
	Requests int64
	LastOn   time.Time // the day, in UTC
}

// SeenStore keeps summaries of recorded traffic.
type SeenStore interface {
	AddSeen(ctx context.Context, pages []SeenPage, by access.Actor) error // adds to the counts that are there
	EachSeen(ctx context.Context, each func(SeenPage) error) error
	SeenVersion(ctx context.Context) (string, error) // changes when anything was added
	SeenHosts(ctx context.Context, text string, limit int) ([]SeenPage, error)
}

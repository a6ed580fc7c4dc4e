package gate

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
)

// Past is who comes past a hold, and where.
type Past struct {
	Request
	Holding
	Reference string // of the page that was held
}

// Plea is what somebody asks access to, and why.
type Plea struct {
	Request
	Verdict   policy.Verdict // that the request got
	By        string         // what decided, in a few words
	Reason    string
	Reference string // of the page that was refused
}

// Errors of codes.
var (
	ErrNoCode  = errors.New("the code does not open this page")
	ErrTooMany = errors.New("too many wrong codes")
)

// Stays is how long somebody who has signed in on the gate's page is known to be at an address.
const Stays = 8 * time.Hour

// ErrTries says that too many sign-ins have failed lately.
var ErrTries = errors.New("too many sign-ins failed")

// Desk does for a gate what only the service can do. Its errors say that the service cannot be reached now, unless something else is said.
type Desk interface {
	// SignIn returns the person with a name and a password, who is at an address; false where there is none. The error is [ErrTries] after too many failed.
	SignIn(ctx context.Context, name, password, address string) (uuid.UUID, bool, error)

	// Whose returns the person who is known at the DNS gate by a token; false where it is nobody's.
	Whose(ctx context.Context, token string) (uuid.UUID, bool, error)

	// Named returns the person with a name; false where there is none.
	Named(ctx context.Context, name string) (uuid.UUID, bool, error)

	// Acknowledge lets somebody past a hold, and returns until when.
	Acknowledge(ctx context.Context, p Past) (until time.Time, err error)

	// Unlock lets somebody past a hold with a code, and returns until when. The error is [ErrNoCode] or [ErrTooMany] where it does not.
	Unlock(ctx context.Context, p Past, code string) (until time.Time, err error)

	// Ask hands in somebody's plea for what was refused.
	Ask(ctx context.Context, p Plea) error

	// Asked says what became of the plea with a reference: its state, and the answer in words; false where there is none.
	Asked(ctx context.Context, reference string) (state, answer string, found bool, err error)

	// Arrive says that a person who has signed in is at an address, for a while, and returns until when.
	Arrive(ctx context.Context, person uuid.UUID, at netip.Addr) (until time.Time, err error)

	// Leave says that nobody is at an address any more.
	Leave(ctx context.Context, at netip.Addr) error

	// AddUsed adds minutes to those that count for quotas.
	AddUsed(ctx context.Context, used map[Spender][]int64) error

	// Report hands in what the gate says of itself.
	Report(ctx context.Context, r Report) error
}

// How often a gate hands in used minutes, and reports.
const (
	spendEvery  = 500 * time.Millisecond
	reportEvery = 2 * time.Second
)

// Keep hands in used minutes, and what report returns, until the context ends; and then the minutes that are left.
func (g *Gate) Keep(ctx context.Context, desk Desk, report func() Report, log *slog.Logger) {
	tick := time.NewTicker(spendEvery)
	defer tick.Stop()
	reported := time.Time{}
	for {
		g.spend(ctx, desk, log)
		if now := time.Now(); now.Sub(reported) >= reportEvery {
			reported = now
			within, stop := context.WithTimeout(ctx, 10*time.Second)
			err := desk.Report(within, report())
			stop()
			if err != nil && ctx.Err() == nil {
				log.WarnContext(ctx, "the gate cannot report", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			g.spend(context.WithoutCancel(ctx), desk, log)
			return
		case <-tick.C:
		}
	}
}

// spend hands in the minutes that count for quotas.
func (g *Gate) spend(ctx context.Context, desk Desk, log *slog.Logger) {
	taken := g.TakeUsed()
	if taken == nil {
		return
	}
	within, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	if err := desk.AddUsed(within, taken); err != nil {
		g.GiveBack(taken)
		log.WarnContext(ctx, "the minutes that people use cannot be counted yet", "error", err)
	}
}

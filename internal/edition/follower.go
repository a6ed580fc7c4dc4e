package edition

import (
	"context"
	"fmt"
	"time"

	"widelark/internal/catalogue"
	"widelark/internal/revision"
)

// Follower compiles one live revision after the other, from wherever they come, and shares what did not change. It is not safe for concurrent use.
type Follower struct {
	now      func() time.Time
	compiled *compiled
	loaded   *catalogue.Loaded
}

// NewFollower returns a follower that has compiled nothing yet. now is the clock.
func NewFollower(now func() time.Time) *Follower {
	return &Follower{now: now, loaded: &catalogue.Loaded{}}
}

// Follow compiles a revision by its number. Days begin and end in the organisation's zone. Where it fails, what was compiled before stays.
func (f *Follower) Follow(ctx context.Context, draft revision.DraftReader, packs catalogue.Reader, number int64, zone string) (*State, error) {
	in, err := revision.LoadZone(zone)
	if err != nil {
		return nil, fmt.Errorf("the organisation's time zone: %w", err)
	}
	// What stands beside a group is merged at once: whoever follows decides by the state before, meanwhile.
	next, err := compile(ctx, draft, f.compiled, mergeFrom)
	if err != nil {
		return nil, err
	}
	loaded, err := catalogue.Read(ctx, packs, f.loaded)
	if err != nil {
		return nil, err
	}
	f.compiled, f.loaded = next, loaded
	ready := next.with(loaded, in)
	return stateOf(next, ready, number, in, f.now()), nil
}

// Needs returns the versions with which the next revision will be compared, besides the present one.
func (f *Follower) Needs() []int64 {
	if f.compiled == nil {
		return nil
	}
	needs := []int64{f.compiled.draft.Version}
	for _, g := range f.compiled.groups {
		needs = append(needs, g.version)
	}
	return needs
}

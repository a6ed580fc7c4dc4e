package tally

import (
	"context"
	"errors"
	"slices"
	"strings"

	"widelark/core/policy"
	"widelark/internal/journal/query"
	"widelark/internal/revision"
)

// World returns what queries of a reader are resolved in: what is live or, before anything is, the draft.
func (c *Counter) World(ctx context.Context, view query.View) (w query.World, err error) {
	state, err := c.Editions.On(ctx, "on", "live")
	var missing *revision.FieldError
	if errors.As(err, &missing) {
		state, err = c.Editions.On(ctx, "on", "draft")
	}
	if err != nil {
		return w, err
	}
	config := state.Snapshot.Config()
	return query.World{View: view, Now: c.Now(), Zone: c.Zone, Taxonomy: config.Taxonomy, Names: c.Called, Schedule: func(name string) (policy.Schedule, bool) {
		at := slices.IndexFunc(config.Schedules, func(sch policy.Schedule) bool { return strings.EqualFold(sch.Name, name) })
		if at < 0 {
			return policy.Schedule{}, false
		}
		return config.Schedules[at], true
	}}, nil
}

package edition

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/internal/revision"
)

// State is the draft at one version, or a revision, compiled: the snapshot and what it was compiled from. It is immutable. No facts stand beside
// the snapshot unless [State.With] put them there.
type State struct {
	DraftVersion int64
	Revision     int64 // 0 for the draft
	Snapshot     *policy.Snapshot
	Zone         *time.Location
	now          time.Time
	roster       *roster
	lists        []revision.DraftList
	asides       []revision.Aside
	ready        *ready // that the snapshot came with
}

// With returns the state with facts beside its snapshot (see [policy.Facts]). Calling it again with the same facts costs nothing.
func (s *State) With(facts *policy.Facts) *State {
	if facts.IsEmpty() {
		return s
	}
	last := s.ready.beside.Load()
	if last == nil || last.facts != facts {
		last = &beside{facts, s.ready.snapshot.With(*facts)}
		s.ready.beside.Store(last)
	}
	with := *s
	with.Snapshot = last.snapshot
	return &with
}

// Draft returns the draft as it is now.
func (d *Editions) Draft(ctx context.Context) (*State, error) { return d.On(ctx, "", "") }

// On returns the draft as it is now, the live revision, or a revision by its number. An error names field.
func (d *Editions) On(ctx context.Context, field, on string) (*State, error) {
	version, number, err := d.Version(ctx, field, on)
	if err != nil {
		return nil, err
	}
	var c *compiled
	if number == 0 {
		c, err = d.draft(ctx, version)
	} else {
		c, err = d.at(ctx, version)
	}
	if err != nil {
		return nil, err
	}
	return d.state(c, number), nil
}

// Version returns the version of the draft that "draft", "live" or the number of a revision stands for, and the number of the revision, 0 for
// the draft. An error names field.
func (d *Editions) Version(ctx context.Context, field, on string) (version, number int64, err error) {
	now, err := d.store.DraftVersion(ctx)
	if err != nil {
		return 0, 0, err
	}
	d.notice(now)
	switch on {
	case "", "draft":
		return now.Draft, 0, nil
	case "live":
		return now.Live.Version, now.Live.Number, nil
	}
	if number, err = strconv.ParseInt(on, 10, 64); err != nil {
		return 0, 0, &revision.FieldError{Field: field, Msg: fmt.Sprintf("%q is neither draft nor live nor the number of a revision", on)}
	}
	r, err := d.store.Revision(ctx, number)
	if errors.Is(err, revision.ErrNotFound) {
		err = &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no revision %d; the last one is %d", number, now.Live.Number)}
	}
	return r.Version, number, err
}

func (d *Editions) state(c *compiled, number int64) *State {
	return stateOf(c, d.ready(c), number, d.zone, d.now())
}

func stateOf(c *compiled, r *ready, number int64, zone *time.Location, now time.Time) *State {
	return &State{c.draft.Version, number, r.snapshot, zone, now, c.roster, c.draft.Lists, append(c.setAside(), r.loaded.Aside...), r}
}

// Catalogue returns the version of the catalogue that the state is compiled with.
func (s *State) Catalogue() int64 { return s.ready.loaded.Version }

// Asides returns what cannot be read of this version and of the catalogue, and so takes no part in decisions.
func (s *State) Asides() []revision.Aside { return s.asides }

// Gone is a reference of an object to a person or a group that is not there any more.
type Gone struct {
	revision.Meta // of the object
	Kind          revision.Kind
	Does          string // what the object does to them, as "holds"
	Person        bool
}

// Gone returns the references that lead to nobody: people and groups of directories go without asking what names them.
func (s *State) Gone() (all []Gone) {
	for _, kind := range []revision.Kind{revision.KindGroup, revision.KindPolicy, revision.KindException, revision.KindExpectation} {
		for _, o := range s.roster.of(kind) {
			visit := func(field string, to revision.Kind, ref *revision.Ref) {
				_, there := s.roster.objects[ref.ID]
				_, unread := s.roster.asides.bodies[ref.ID]
				if there || unread || to != revision.KindPerson && to != revision.KindGroup {
					return
				}
				does := map[revision.Kind]string{revision.KindGroup: "holds", revision.KindPolicy: "is for", revision.KindException: "is for", revision.KindExpectation: "asks as"}[kind]
				if field == "lead" {
					does = "is led by"
				}
				all = append(all, Gone{o.Meta, kind, does, to == revision.KindPerson})
			}
			switch body := o.body.(type) {
			case revision.GroupBody:
				body.Refs(visit)
			case revision.PolicyBody:
				body.Refs(visit)
			case revision.ExceptionBody:
				body.Refs(visit)
			case revision.ExpectationBody:
				body.Refs(visit)
			}
		}
	}
	return all
}

// Lists returns the lists of this version, by name. The caller must not change them.
func (s *State) Lists() []revision.DraftList { return s.lists }

// At returns the draft as it was at a version.
func (d *Editions) At(ctx context.Context, version int64) (*State, error) {
	c, err := d.at(ctx, version)
	if err != nil {
		return nil, err
	}
	return d.state(c, 0), nil
}

// Moment reads a moment; see [schedule.ParseMoment]. An error names field.
func (s *State) Moment(field, text string) (time.Time, error) {
	at, err := schedule.ParseMoment(text, s.now, s.Zone)
	if err != nil {
		return at, &revision.FieldError{Field: field, Msg: err.Error()}
	}
	return at.In(s.Zone), nil
}

// Standing returns the groups, network, policies and exceptions of an asker.
func (s *State) Standing(who Asker) policy.Standing {
	return s.Snapshot.Standing(&policy.Work{}, who.Request(), s.now)
}

// Plan returns the plan of a group for some days; see [policy.Snapshot.Plan].
func (s *State) Plan(group string, from time.Time, days int) policy.Plan {
	return s.Snapshot.Plan(&policy.Work{}, group, from, schedule.DaysLater(from, days, s.Zone))
}

// Today returns the beginning of the current day in the organisation's zone.
func (s *State) Today() time.Time {
	return schedule.Today(s.now, s.Zone)
}

// Now returns the moment at which the state was asked for.
func (s *State) Now() time.Time { return s.now }

// Expectation is an expectation of the draft with its decoded body.
type Expectation struct {
	revision.Meta
	Body revision.ExpectationBody
}

// Expectations returns the expectations of this version that are switched on, by name.
func (s *State) Expectations() []Expectation {
	var all []Expectation
	for _, o := range s.roster.of(revision.KindExpectation) {
		if body := o.body.(revision.ExpectationBody); !body.Off {
			all = append(all, Expectation{o.Meta, body})
		}
	}
	return all
}

// Conflicts returns which rules of a policy try to loosen what the baseline blocks.
func (s *State) Conflicts(id uuid.UUID) []policy.Conflict {
	return s.Snapshot.Loosens(&policy.Work{}, id.String(), s.now)
}

// Names returns the names of ids, for [policy.Rule.Sentence].
func (s *State) Names() policy.Names {
	lists, schedules := map[string]string{}, map[string]string{}
	config := s.Snapshot.Config()
	for _, ref := range config.Lists.Lists() {
		lists[ref.ID] = ref.Name
	}
	for _, s := range config.Schedules {
		schedules[s.ID] = s.Name
	}
	of := func(names map[string]string) func(string) string {
		return func(id string) string { return cmp.Or(names[id], "something that is gone") }
	}
	return policy.Names{List: of(lists), Schedule: of(schedules), Card: s.Snapshot.Classifier().CardName, Category: s.Snapshot.CategoryName, App: s.Snapshot.AppName}
}

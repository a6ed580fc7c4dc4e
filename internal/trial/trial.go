package trial

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/core/hands"
	"widelark/core/match"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
	"widelark/internal/revision"
)

// Who is somebody who asks, by names or ids. The zero Who is somebody of whom nothing is known.
type Who struct {
	Name    string // whoever is called so; see [Hearing.Who]. In place of the others
	Person  string // name, full name or id
	Group   string // name or id: an unnamed member
	Address string
}

// Asker is a Who that was found.
type Asker struct {
	Person, Group *match.Ref
	Address       netip.Addr
	Machine       *match.Ref // at the address
}

// Name says who asks in a few words.
func (a Asker) Name() string {
	var parts []string
	if a.Person != nil {
		parts = append(parts, a.Person.Name)
	}
	if a.Group != nil {
		parts = append(parts, "a member of "+a.Group.Name)
	}
	switch {
	case a.Machine != nil:
		parts = append(parts, a.Machine.Name)
	case a.Address.IsValid():
		parts = append(parts, a.Address.String())
	}
	if len(parts) == 0 {
		return "somebody unknown"
	}
	return strings.Join(parts, " at ")
}

// Request returns what a request of theirs begins with.
func (a Asker) Request() policy.Request {
	r := policy.Request{Addr: a.Address}
	if a.Person != nil {
		r.Person = a.Person.ID
	}
	if a.Group != nil {
		r.Group = a.Group.ID
	}
	return r
}

// Question is what is tried. The zero fields ask for somebody unknown, now, a GET, with everything in sight.
type Question struct {
	URLs    []string
	Who     Who
	At      string // see [schedule.ParseMoment]
	Sight   match.Sight
	Gate    policy.Gate
	Method  string
	Journey bool // through all gates that are switched on, instead of one sight
	Outlook bool // with what is to come: until, the week, flips
}

// Answer is what happens to one URL.
type Answer struct {
	Input       string
	Problem     string // why the input is no URL; all below is empty then
	URL         weburl.URL
	Verdict     policy.Verdict
	Explanation policy.Explanation // of the gate that decided
	Sight       match.Sight        // of that gate
	AtFull      policy.Verdict     // at a lesser sight, what the verdict would be at full; else empty
	FullBecause string             // where AtFull is another verdict, what would decide then, in one sentence
	Journey     *policy.Journey
	Outlook     *Outlook
}

// Outlook is what is to come for one URL: at the gate that was asked for or, on a journey, at all of them together.
type Outlook struct {
	Until time.Time // zero where time alone does not change the verdict
	Week  []policy.Segment
	Flips []policy.Flip
}

// Answers are the answers to one question, all decided on one version of the draft.
type Answers struct {
	DraftVersion int64
	Revision     int64 // 0 for the draft
	Who          Asker
	At           time.Time
	Zone         *time.Location
	Snapshot     *policy.Snapshot
	Answers      []Answer // in the order of the question
}

// Hearing is the draft at one version, or a revision, to ask things of.
type Hearing struct {
	DraftVersion int64
	Revision     int64 // 0 for the draft
	Snapshot     *policy.Snapshot
	Zone         *time.Location
	now          time.Time
	roster       *roster
	lists        []revision.DraftList
	asides       []revision.Aside
}

// Hear returns the draft as it is now.
func (d *Desk) Hear(ctx context.Context) (*Hearing, error) { return d.HearOn(ctx, "", "") }

// HearOn returns the draft as it is now, what is live, or a revision by its number. field is the path to complain about.
func (d *Desk) HearOn(ctx context.Context, field, on string) (*Hearing, error) {
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
	return d.hearing(c, number), nil
}

// Version returns which version of the draft is meant by draft, live or the number of a revision, and that number, 0 for the draft. field is
// the path to complain about.
func (d *Desk) Version(ctx context.Context, field, on string) (version, number int64, err error) {
	now, err := d.store.DraftVersion(ctx)
	if err != nil {
		return 0, 0, err
	}
	d.shelf.Notice(now.Catalogue)
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

func (d *Desk) hearing(c *compiled, number int64) *Hearing {
	return &Hearing{c.draft.Version, number, d.snapshot(c), d.zone, d.now(), c.roster, c.draft.Lists, append(c.setAside(), d.shelf.Loaded().Aside...)}
}

// Asides returns what of this version, and of the catalogue, cannot be read, and is left out of what decides.
func (h *Hearing) Asides() []revision.Aside { return h.asides }

// Lists returns the lists of this version, by name. The caller must not change them.
func (h *Hearing) Lists() []revision.DraftList { return h.lists }

// HearAt returns the draft as it was at a version.
func (d *Desk) HearAt(ctx context.Context, version int64) (*Hearing, error) {
	c, err := d.at(ctx, version)
	if err != nil {
		return nil, err
	}
	return d.hearing(c, 0), nil
}

// Moment reads a moment; see [schedule.ParseMoment]. field is the path to complain about.
func (h *Hearing) Moment(field, text string) (time.Time, error) {
	at, err := schedule.ParseMoment(text, h.now, h.Zone)
	if err != nil {
		return at, &revision.FieldError{Field: field, Msg: err.Error()}
	}
	return at.In(h.Zone), nil
}

// Find finds who asks. What is not there is a [*revision.FieldError].
func (h *Hearing) Find(field string, who Who) (asker Asker, err error) {
	if strings.TrimSpace(who.Name) != "" {
		return h.named(field+".name", who.Name)
	}
	if strings.TrimSpace(who.Person) != "" && strings.TrimSpace(who.Group) != "" {
		return asker, &revision.FieldError{Field: field + ".group", Msg: "a person is asked for with their own groups: name the person or a group, not both"}
	}
	if asker.Person, err = h.find(field+".person", revision.KindPerson, who.Person); err != nil {
		return asker, err
	}
	if asker.Group, err = h.find(field+".group", revision.KindGroup, who.Group); err != nil || who.Address == "" {
		return asker, err
	}
	if asker.Address, err = netip.ParseAddr(strings.TrimSpace(who.Address)); err != nil || asker.Address.Zone() != "" {
		return asker, &revision.FieldError{Field: field + ".address", Msg: fmt.Sprintf("%q is no address, as 10.40.9.7", who.Address)}
	}
	asker.Address = asker.Address.Unmap()
	asker.Machine = h.machine(asker.Address)
	return asker, nil
}

func (h *Hearing) machine(addr netip.Addr) *match.Ref {
	for _, o := range h.roster.of(revision.KindMachine) {
		if o.body.(revision.MachineBody).Address == addr.String() {
			return &match.Ref{ID: o.ID.String(), Name: o.Name}
		}
	}
	return nil
}

// find returns the person or group that a text names.
func (h *Hearing) find(field string, kind revision.Kind, text string) (*match.Ref, error) {
	if text = strings.TrimSpace(text); text == "" {
		return nil, nil
	}
	var found []match.Ref
	var names []string
	shown := func(o object) string {
		if p, ok := o.body.(revision.PersonBody); ok && p.FullName != "" {
			return p.FullName
		}
		return o.Name
	}
	if id, err := uuid.Parse(text); err == nil {
		if o, ok := h.roster.objects[id]; ok && o.kind == kind {
			return &match.Ref{ID: o.ID.String(), Name: shown(o)}, nil
		}
	}
	for _, o := range h.roster.objects {
		if o.kind != kind {
			continue
		}
		switch {
		case strings.EqualFold(o.Name, text):
			return &match.Ref{ID: o.ID.String(), Name: shown(o)}, nil
		case strings.EqualFold(shown(o), text):
			found, names = append(found, match.Ref{ID: o.ID.String(), Name: shown(o)}), append(names, shown(o)+" ("+o.Name+")")
		}
	}
	switch len(found) {
	case 0:
		return nil, &revision.FieldError{Field: field, Msg: fmt.Sprintf("there is no %s %q", kind, text)}
	case 1:
		return &found[0], nil
	}
	slices.Sort(names)
	return nil, &revision.FieldError{Field: field, Msg: fmt.Sprintf("several are called %q: say which, as %s", text, strings.Join(names, ", "))}
}

// Who finds who is meant by a name, a full name, a group, an address or the name of a machine.
func (h *Hearing) Who(text string) (Asker, error) { return h.named("name", text) }

func (h *Hearing) named(field, text string) (Asker, error) {
	if addr, err := netip.ParseAddr(strings.TrimSpace(text)); err == nil && addr.Zone() == "" {
		return h.Find("name", Who{Address: text})
	}
	asker, err := h.Find(field, Who{Person: text})
	var unknown *revision.FieldError
	if err == nil || !errors.As(err, &unknown) {
		return asker, err
	}
	if unknown.Field = field; !strings.HasPrefix(unknown.Msg, "there is no") {
		return asker, unknown
	}
	if asker, err := h.Find("name", Who{Group: text}); err == nil {
		return asker, nil
	}
	for _, o := range h.roster.of(revision.KindMachine) {
		if strings.EqualFold(o.Name, strings.TrimSpace(text)) {
			return h.Find("name", Who{Address: o.body.(revision.MachineBody).Address})
		}
	}
	return Asker{}, &revision.FieldError{Field: field, Msg: fmt.Sprintf("nobody is called %q: no person, group or machine", text)}
}

// Try answers a question. Somebody who does not exist, and a moment that cannot be read, are a [*revision.FieldError].
func (d *Desk) Try(ctx context.Context, q Question) (Answers, error) {
	h, err := d.Hear(ctx)
	if err != nil {
		return Answers{}, err
	}
	return h.Try(ctx, "", q)
}

// Try is [Desk.Try] on this version of the draft. field stands before the paths to complain about.
func (h *Hearing) Try(ctx context.Context, field string, q Question) (answers Answers, err error) {
	answers = Answers{DraftVersion: h.DraftVersion, Revision: h.Revision, Zone: h.Zone, Snapshot: h.Snapshot}
	if answers.Who, err = h.Find(field+"who", q.Who); err != nil {
		return answers, err
	}
	if answers.At, err = h.Moment(field+"at", q.At); err != nil {
		return answers, err
	}
	answers.Answers = make([]Answer, len(q.URLs))
	// A large batch is shared out: one of many small ones would only wait for the others.
	const share = 256
	var group hands.Group
	var work sync.Pool
	for begin := 0; begin < len(q.URLs); begin += share {
		end := min(begin+share, len(q.URLs))
		answer := func() {
			w, _ := work.Get().(*policy.Work)
			if w == nil {
				w = &policy.Work{}
			}
			defer work.Put(w)
			for i := begin; i < end && ctx.Err() == nil; i++ {
				h.answer(w, &answers.Answers[i], q.URLs[i], q, &answers)
			}
		}
		if len(q.URLs) <= share {
			answer()
			continue
		}
		group.Go(answer)
	}
	group.Wait()
	return answers, ctx.Err()
}

func (h *Hearing) answer(w *policy.Work, a *Answer, text string, q Question, to *Answers) {
	a.Input = text
	var refused *weburl.Error
	var err error
	if a.URL, err = weburl.Parse(text); errors.As(err, &refused) {
		a.Problem = refused.Reason
		return
	}
	s := h.Snapshot
	r := to.Who.Request()
	r.URL, r.Method, r.Sight, r.Gate = a.URL, strings.ToUpper(q.Method), cmp.Or(q.Sight, match.Full), q.Gate
	if q.Journey {
		j := s.Travel(w, &r, to.At)
		a.Journey, a.Verdict = &j, j.Verdict
		r.Sight, r.Gate = match.Full, policy.Proxy
		if len(j.Stops) > 0 {
			last := j.Decisive()
			a.Explanation, r.Sight, r.Gate = last.Explanation, last.Sight, last.Gate
		} else {
			a.Explanation = s.Explain(w, &r, to.At)
		}
	} else {
		a.Explanation = s.Explain(w, &r, to.At)
		a.Verdict = a.Explanation.Decision.Verdict
	}
	a.Sight = r.Sight
	if r.Sight != match.Full {
		full := r
		full.Sight, full.Gate = match.Full, policy.Proxy
		if a.AtFull = s.Decide(w, &full, to.At).Verdict; a.AtFull != a.Verdict {
			a.FullBecause = s.Explain(w, &full, to.At).Because
		}
	}
	if !q.Outlook {
		return
	}
	strip, flips, until := s.Strip, s.Flips, s.Until
	if q.Journey {
		strip, flips, until = s.TravelStrip, s.TravelFlips, s.TravelUntil
	}
	a.Outlook = &Outlook{Week: strip(w, &r, to.At, schedule.DaysLater(to.At, 7, h.Zone)), Flips: flips(w, &r, to.At)}
	if moment, ok := until(w, &r, to.At); ok {
		a.Outlook.Until = moment
	}
}

// Cell is a verdict of a matrix, with where it comes from.
type Cell struct {
	Decision policy.Decision
	Problem  bool // the URL is none
}

// View is how requests are looked at: as one gate sees them or, with journey, on their way through all gates that are switched on. The zero
// View sees everything of a GET.
type View struct {
	Sight   match.Sight
	Method  string
	Journey bool
}

// Matrix decides URLs, in rows, for several who ask, in columns.
func (h *Hearing) Matrix(ctx context.Context, urls []string, who []Asker, at time.Time, view View) ([][]Cell, error) {
	cells := make([][]Cell, len(urls))
	var group hands.Group
	const share = 64
	for begin := 0; begin < len(urls); begin += share {
		group.Go(func() {
			var w policy.Work
			for i := begin; i < min(begin+share, len(urls)) && ctx.Err() == nil; i++ {
				cells[i] = make([]Cell, len(who))
				u, err := weburl.Parse(urls[i])
				for j, asker := range who {
					if cells[i][j].Problem = err != nil; err == nil {
						r := asker.Request()
						r.URL, r.Sight, r.Method = u, view.Sight, view.Method
						if view.Journey {
							cells[i][j].Decision = h.Snapshot.Arrive(&w, &r, at)
						} else {
							cells[i][j].Decision = h.Snapshot.Decide(&w, &r, at)
						}
					}
				}
			}
		})
	}
	group.Wait()
	return cells, ctx.Err()
}

// Sweep returns the verdicts on one URL from a moment until another.
func (h *Hearing) Sweep(u weburl.URL, who Asker, from, to time.Time, view View) []policy.Segment {
	r := who.Request()
	r.URL, r.Sight, r.Method = u, view.Sight, view.Method
	if view.Journey {
		return h.Snapshot.TravelStrip(&policy.Work{}, &r, from, to)
	}
	return h.Snapshot.Strip(&policy.Work{}, &r, from, to)
}

// Standing says what somebody belongs to, whatever they ask for.
func (h *Hearing) Standing(who Asker) policy.Standing {
	return h.Snapshot.Standing(&policy.Work{}, who.Request(), h.now)
}

// Plan returns the days to come of a group.
func (h *Hearing) Plan(group string, from time.Time, days int) policy.Plan {
	return h.Snapshot.Plan(&policy.Work{}, group, from, schedule.DaysLater(from, days, h.Zone))
}

// Today returns the beginning of the day that it is where the organisation is.
func (h *Hearing) Today() time.Time {
	return schedule.Today(h.now, h.Zone)
}

// Now returns the moment of the hearing.
func (h *Hearing) Now() time.Time { return h.now }

// Expectation is what is expected of the draft.
type Expectation struct {
	revision.Meta
	Body revision.ExpectationBody
}

// Expectations returns what is expected of this version, by name; what is switched off is not.
func (h *Hearing) Expectations() []Expectation {
	var all []Expectation
	for _, o := range h.roster.of(revision.KindExpectation) {
		if body := o.body.(revision.ExpectationBody); !body.Off {
			all = append(all, Expectation{o.Meta, body})
		}
	}
	return all
}

// Conflicts returns which rules of a policy try to loosen what the baseline blocks.
func (h *Hearing) Conflicts(id uuid.UUID) []policy.Conflict {
	return h.Snapshot.Loosens(&policy.Work{}, id.String(), h.now)
}

// Names returns what ids are called, for [policy.Rule.Sentence].
func (h *Hearing) Names() policy.Names {
	lists, schedules := map[string]string{}, map[string]string{}
	config := h.Snapshot.Config()
	for _, ref := range config.Lists.Lists() {
		lists[ref.ID] = ref.Name
	}
	for _, s := range config.Schedules {
		schedules[s.ID] = s.Name
	}
	of := func(names map[string]string) func(string) string {
		return func(id string) string { return cmp.Or(names[id], "something that is gone") }
	}
	return policy.Names{List: of(lists), Schedule: of(schedules), Card: h.Snapshot.Classifier().CardName, Category: h.Snapshot.CategoryName, App: h.Snapshot.AppName}
}

// Part says where two explanations part: the first step in which they differ.
type Part struct {
	Rung policy.Rung
	A, B *policy.Step // nil where the one has no such step
}

// PartOf compares two explanations of trials; nil where the same steps have the same outcomes.
func PartOf(a, b *policy.Explanation) *Part {
	differ := func(x, y policy.Step) bool {
		return x.Rung != y.Rung || x.PolicyID != y.PolicyID || x.Place != y.Place || x.Rule != y.Rule || x.ID != y.ID || x.Outcome != y.Outcome
	}
	for i := range max(len(a.Steps), len(b.Steps)) {
		switch {
		case i >= len(a.Steps):
			return &Part{Rung: b.Steps[i].Rung, B: &b.Steps[i]}
		case i >= len(b.Steps):
			return &Part{Rung: a.Steps[i].Rung, A: &a.Steps[i]}
		case differ(a.Steps[i], b.Steps[i]):
			rung := a.Steps[i].Rung
			if height(b.Steps[i].Rung) < height(rung) {
				rung = b.Steps[i].Rung
			}
			return &Part{Rung: rung, A: &a.Steps[i], B: &b.Steps[i]}
		}
	}
	return nil
}

func height(r policy.Rung) int { return slices.Index(policy.Rungs, r) }

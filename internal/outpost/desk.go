package outpost

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/client"
	"widelark/internal/edition"
	"widelark/internal/gate"
)

var _ gate.Desk = (*Outpost)(nil)

// patience is how long a page waits for the service before it says that the service cannot be reached.
const patience = 5 * time.Second

func (o *Outpost) within(ctx context.Context) (context.Context, func()) {
	return context.WithTimeout(ctx, patience)
}

// statusOf returns the status of a problem; 0 where there was no answer.
func statusOf(err error) int {
	if problem, ok := errors.AsType[*client.Problem](err); ok {
		return problem.Status
	}
	return 0
}

func orNil[T comparable](value T) *T {
	var none T
	if value == none {
		return nil
	}
	return &value
}

// SignIn implements [gate.Desk].
func (o *Outpost) SignIn(ctx context.Context, name, password, address string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, 2*patience) // checking a password takes a while
	defer stop()
	answer, err := o.api.SignInAtGateWithResponse(ctx, client.SignInAtGateJSONRequestBody{Name: name, Password: password, Address: orNil(address)})
	if statusOf(err) == http.StatusTooManyRequests {
		err = gate.ErrTries
	}
	if err != nil {
		return uuid.Nil, false, err
	}
	if answer.JSON200.Person == nil {
		return uuid.Nil, false, nil
	}
	return *answer.JSON200.Person, true, nil
}

// Whose implements [gate.Desk].
func (o *Outpost) Whose(ctx context.Context, token string) (uuid.UUID, bool, error) {
	ctx, stop := o.within(ctx)
	defer stop()
	answer, err := o.api.WhoseAtGateWithResponse(ctx, client.WhoseAtGateJSONRequestBody{Token: token})
	if err != nil || answer.JSON200.Person == nil {
		return uuid.Nil, false, err
	}
	return *answer.JSON200.Person, true, nil
}

// Named implements [gate.Desk].
func (o *Outpost) Named(_ context.Context, name string) (uuid.UUID, bool, error) {
	state := o.state.Load()
	if state == nil {
		return uuid.Nil, false, nil
	}
	if who, err := state.Find("who", edition.Who{Person: name}); err == nil && who.Person != nil {
		id, err := uuid.Parse(who.Person.ID)
		return id, err == nil, err
	}
	return uuid.Nil, false, nil
}

// pass lets somebody past a hold.
func (o *Outpost) pass(ctx context.Context, p gate.Past, code string) (time.Time, error) {
	ctx, stop := o.within(ctx)
	defer stop()
	body := client.PassAtGateJSONRequestBody{
		Rule: p.Rule, Entry: p.Entry.String(), Seconds: int64(p.For / time.Second), Code: orNil(code), Reference: p.Reference, URL: p.URL.String(),
		Sight: client.GatePassageInputBodySight(p.Sight), Person: orNil(p.Person),
	}
	if p.Address.IsValid() {
		body.Address = new(p.Address.String())
	}
	answer, err := o.api.PassAtGateWithResponse(ctx, body)
	switch statusOf(err) {
	case http.StatusNotFound:
		return time.Time{}, gate.ErrNoCode
	case http.StatusTooManyRequests:
		return time.Time{}, gate.ErrTooMany
	}
	if err != nil {
		return time.Time{}, err
	}
	return answer.JSON200.Until, nil
}

// Acknowledge implements [gate.Desk].
func (o *Outpost) Acknowledge(ctx context.Context, p gate.Past) (time.Time, error) {
	return o.pass(ctx, p, "")
}

// Unlock implements [gate.Desk].
func (o *Outpost) Unlock(ctx context.Context, p gate.Past, code string) (time.Time, error) {
	if code == "" {
		return time.Time{}, gate.ErrNoCode
	}
	return o.pass(ctx, p, code)
}

// Ask implements [gate.Desk].
func (o *Outpost) Ask(ctx context.Context, p gate.Plea) error {
	ctx, stop := o.within(ctx)
	defer stop()
	body := client.AskAtGateJSONRequestBody{
		URL: p.URL.String(), Sight: client.GatePleaInputBodySight(p.Sight), Person: orNil(p.Person), Reference: p.Reference, Reason: p.Reason, By: orNil(p.By),
		Verdict: new(client.GatePleaInputBodyVerdict(p.Verdict)),
	}
	if p.Address.IsValid() {
		body.Address = new(p.Address.String())
	}
	_, err := o.api.AskAtGateWithResponse(ctx, body)
	return err
}

// Asked implements [gate.Desk].
func (o *Outpost) Asked(ctx context.Context, reference string) (state, answer string, found bool, err error) {
	ctx, stop := o.within(ctx)
	defer stop()
	got, err := o.api.AskedAtGateWithResponse(ctx, reference)
	if err != nil {
		return "", "", false, err
	}
	return got.JSON200.State, got.JSON200.Answer, got.JSON200.Found, nil
}

// Arrive implements [gate.Desk].
func (o *Outpost) Arrive(ctx context.Context, person uuid.UUID, at netip.Addr) (time.Time, error) {
	ctx, stop := o.within(ctx)
	defer stop()
	answer, err := o.api.ArriveAtGateWithResponse(ctx, client.ArriveAtGateJSONRequestBody{Person: person, Address: at.String()})
	if err != nil {
		return time.Time{}, err
	}
	return answer.JSON200.Until, nil
}

// Leave implements [gate.Desk].
func (o *Outpost) Leave(ctx context.Context, at netip.Addr) error {
	ctx, stop := o.within(ctx)
	defer stop()
	_, err := o.api.LeaveAtGateWithResponse(ctx, &client.LeaveAtGateParams{Address: at.String()})
	return err
}

// AddUsed implements [gate.Desk].
func (o *Outpost) AddUsed(ctx context.Context, used map[gate.Spender][]int64) error {
	body := client.HandInMinutesJSONRequestBody{}
	for of, minutes := range used {
		one := client.UsedMinutes{Rule: of.Rule, Person: orNil(of.Person), Minutes: minutes}
		if of.Person == uuid.Nil {
			one.Address = new(of.Address.String())
		}
		body.Used = append(body.Used, one)
	}
	_, err := o.api.HandInMinutesWithResponse(ctx, body)
	return err
}

// Report implements [gate.Desk].
func (o *Outpost) Report(ctx context.Context, r gate.Report) error {
	body := client.ReportGateJSONRequestBody{
		Address: r.Address, Revision: r.Revision, Catalogue: r.Catalogue,
		BeganAt: r.BeganAt, Decided: r.Decided, Refused: r.Refused, Cut: r.Cut, Running: r.Running,
		Written: o.spool.taken.Load(), Waiting: r.Waiting + o.spool.waiting.Load(), Dropped: r.Dropped + o.spool.dropped.Load(), Refusals: []client.Refusal{}, Unrecorded: orNil(r.Unrecorded),
		ClockMillis: new(-o.ahead().Milliseconds()), Edition: orNil(o.number.Load()), Trouble: orNil(o.trouble()), Digest: orNil(o.digest()),
	}
	for _, one := range r.Refusals {
		body.Refusals = append(body.Refusals, client.Refusal{Host: one.Host, Times: int64(one.Times), Clients: int64(one.Clients), Last: one.Last})
	}
	var zones []client.Zone
	for _, z := range r.Zones {
		zone := client.Zone{Origin: z.Origin, For: z.For, Serial: z.Serial, MadeAt: z.MadeAt, Names: int64(z.Names), Takers: []client.ZoneTaker{}}
		for _, t := range z.Takers {
			zone.Takers = append(zone.Takers, client.ZoneTaker{Address: t.Address, Serial: t.Serial, At: t.At, Millis: t.Millis})
		}
		zones = append(zones, zone)
	}
	if len(zones) > 0 {
		body.Zones = &zones
	}
	if !r.Since.IsZero() {
		body.Since = &r.Since
	}
	_, err := o.api.ReportGateWithResponse(ctx, body)
	return err
}

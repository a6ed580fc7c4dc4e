// Package alert watches what people asked to be told of: requests that a search finds, gates, packs, expectations. What it finds is an incident, from when to when; people are told once, together
// with what was found at about the same time, and again only where it goes on and nobody has acknowledged it.
//
// From: alerts, the journal, reports of gates, packs, checks.
// To: incidents, and messages to be delivered.
package alert

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/check"
	"widelark/internal/delivery"
	"widelark/internal/directories"
	"widelark/internal/gate"
	"widelark/internal/journal/query"
	"widelark/internal/journal/tally"
	"widelark/internal/report"
	"widelark/internal/revision"
	"widelark/internal/watch"
)

// Found is something that an alert has found.
type Found struct {
	Subject string // what it is about, the same as long as it goes on; "" for all together
	Said    string // a sentence
	Query   string // that finds the records; "" for none
	Count   int64
}

// Incident is something that was found, for as long as it went on.
type Incident struct {
	ID             uuid.UUID
	Alert          uuid.UUID
	Name           string // of the alert, as it was then
	Subject        string
	Said           string
	Query          string
	Most           int64 // the largest number that was counted
	Since, LastAt  time.Time
	OverAt         *time.Time // nil while it goes on
	ToldAt         *time.Time // nil where nobody was told yet
	AcknowledgedAt *time.Time
	AcknowledgedBy string
	Reason         string
}

// Store keeps incidents.
type Store interface {
	// MeetIncidents takes what an alert found just now: it opens incidents, goes on with those that are open, and ends those that were not found for linger. It returns all that are open. Like what
	// follows, it belongs to the transaction in which [watch.Store.Due] calls.
	MeetIncidents(ctx context.Context, item watch.Item, found []Found, now time.Time, linger time.Duration) ([]Incident, error)
	// Incidents returns incidents, the last first: of an alert or, for the zero id, of all.
	Incidents(ctx context.Context, alert uuid.UUID, open bool, limit int) ([]Incident, error)
	// Untold returns incidents of an alert that nobody was told of, and that are over.
	Untold(ctx context.Context, alert uuid.UUID) ([]Incident, error)
	// NoteTold says that people were told of incidents.
	NoteTold(ctx context.Context, ids []uuid.UUID, now time.Time) error
	// Acknowledge says that somebody has seen an incident: nobody is told of it again.
	Acknowledge(ctx context.Context, id uuid.UUID, reason string, by access.Actor) (Incident, error)
	// KeepIncidents drops incidents that ended before a moment.
	KeepIncidents(ctx context.Context, before time.Time, by access.Actor) error
}

// Watcher looks after alerts. Several services may run one each: an alert is looked at by one at a time.
type Watcher struct {
	Items watch.Store
	Store Store
	Tally *tally.Counter
	Gates gate.Reports
	Packs interface {
		Packs(ctx context.Context) ([]catalogue.Pack, error)
		Directories(ctx context.Context) ([]directories.Directory, error)
	}
	Versions interface {
		DraftVersion(ctx context.Context) (revision.Now, error)
	}
	Checks       *check.Checker
	Zone         *time.Location
	Now          func() time.Time
	Organisation string
	Console      string // where the console is, for links; "" for none
	Log          *slog.Logger

	behind map[string]time.Time // since when a gate is seen to run something else than what is live; of Run alone
}

// How often alerts are looked at, and for how long an incident waits for others to be told together.
const (
	often     = 10 * time.Second
	together  = 20 * time.Second
	apart     = 5 * time.Minute // between two messages of one alert
	keptFor   = 400 * 24 * time.Hour
	mostFound = 500 // subjects of an alert
	mostSaid  = 20  // of them in a message
)

// Run looks at alerts until the context ends.
func (w *Watcher) Run(ctx context.Context) {
	w.behind = map[string]time.Time{}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if err := w.Items.Due(ctx, watch.Alert, w.Now(), w.look, access.Timetable); err != nil && ctx.Err() == nil {
			w.Log.WarnContext(ctx, "an alert could not be looked at; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// look finds what an alert is about, and returns when it is looked at next, and what people are told.
func (w *Watcher) look(ctx context.Context, item watch.Item) (time.Time, []delivery.Message, error) {
	now := w.Now()
	next := now.Add(often)
	var body watch.AlertBody
	if err := json.Unmarshal(item.Body, &body); err != nil {
		return next, nil, fmt.Errorf("the alert %q: %w", item.Name, err)
	}
	var found []Found
	var err error
	if !body.Off {
		if found, err = w.find(ctx, item, &body, now); err != nil {
			return next, nil, fmt.Errorf("the alert %q: %w", item.Name, err)
		}
	}
	open, err := w.Store.MeetIncidents(ctx, item, found, now, linger(&body))
	if err != nil {
		return next, nil, err
	}
	if body.Off || body.Quiet.Now(now, w.Zone) {
		return next, nil, nil
	}
	past, err := w.Store.Untold(ctx, item.ID) // while it was quiet
	if err != nil {
		return next, nil, err
	}
	tell := Due(open, past, time.Duration(body.Again)*time.Minute, now)
	if len(tell) == 0 {
		return next, nil, nil
	}
	ids := make([]uuid.UUID, len(tell))
	for i, t := range tell {
		ids[i] = t.ID
	}
	return next, w.messages(item, &body, tell, now), w.Store.NoteTold(ctx, ids, now)
}

// linger is for how long something must not be found until it is over.
func linger(b *watch.AlertBody) time.Duration {
	if b.What == watch.Requests {
		return time.Duration(b.Minutes) * time.Minute
	}
	return 2*often + often/2 // it was looked at twice
}

// Due returns the incidents of an alert that people are told of now: those that nobody was told of, once the first of them has waited for others; and those that go on, were told of long ago, and
// have not been acknowledged. Two messages of one alert are some time apart.
func Due(open, past []Incident, again time.Duration, now time.Time) []Incident {
	var tell []Incident
	var lastTold, firstNew time.Time
	for _, i := range open {
		if i.ToldAt != nil && i.ToldAt.After(lastTold) {
			lastTold = *i.ToldAt
		}
	}
	for _, i := range append(slices.Clone(open), past...) {
		switch {
		case i.AcknowledgedAt != nil:
		case i.ToldAt == nil:
			tell = append(tell, i)
			if firstNew.IsZero() || i.Since.Before(firstNew) {
				firstNew = i.Since
			}
		case i.OverAt == nil && now.Sub(*i.ToldAt) >= again:
			tell = append(tell, i)
		}
	}
	if now.Sub(lastTold) < apart || !firstNew.IsZero() && now.Sub(firstNew) < together {
		return nil
	}
	return tell
}

func (w *Watcher) find(ctx context.Context, item watch.Item, b *watch.AlertBody, now time.Time) ([]Found, error) {
	switch b.What {
	case watch.Requests:
		view, err := report.ViewOf(ctx, w.Items, item)
		var found []Found
		if err == nil {
			found, err = w.requests(ctx, b, view, now)
		}
		if errors.Is(err, query.ErrHidden) {
			err = fmt.Errorf("%s: %w", item.UpdatedBy, report.ErrBlind)
		}
		if errors.Is(err, report.ErrBlind) { // somebody should know that it finds nothing
			return []Found{{Said: fmt.Sprintf("The alert looks at nothing: %s, who edited it last, may not read the journal any more, or not see who asked. Somebody else has to edit it.", item.UpdatedBy)}}, nil
		}
		return found, err
	case watch.Gates:
		return w.gates(ctx, b)
	case watch.Packs:
		return w.packs(ctx, b, now)
	case watch.Directories:
		return w.directories(ctx, b, now)
	case watch.Expectations:
		return w.expectations(ctx)
	}
	return nil, fmt.Errorf("it is about %q, which is not known", b.What)
}

// patience is how long requests of an alert may be counted.
const patience = 5 * time.Second

func (w *Watcher) requests(ctx context.Context, b *watch.AlertBody, view query.View, now time.Time) ([]Found, error) {
	from := now.Add(-time.Duration(b.Minutes) * time.Minute)
	world, err := w.Tally.World(ctx, view)
	if err != nil {
		return nil, err
	}
	text := report.Within(b.Query, from.Truncate(time.Second), now.Add(time.Second).Truncate(time.Second))
	search, err := query.Compile(ctx, text, world)
	if err != nil {
		return nil, err
	}
	q := &tally.Question{Search: search, Taxonomy: world.Taxonomy, Top: mostFound, Patience: patience}
	if b.Per != "" {
		q.By = []string{b.Per}
	}
	a, err := w.Tally.Count(ctx, q)
	if err != nil {
		return nil, err
	}
	said := func(n int64) string {
		return fmt.Sprintf("%s in %s, more than %s", counted(n, "request", "requests"), counted(int64(b.Minutes), "minute", "minutes"), report.Thousands(b.More))
	}
	if b.Per == "" {
		if a.Total.All() <= b.More {
			return nil, nil
		}
		return []Found{{Said: said(a.Total.All()) + ".", Query: text, Count: a.Total.All()}}, nil
	}
	var found []Found
	for _, v := range a.Facets[0].Values {
		if v.All() > b.More && v.Key != "" { // requests of nobody known are no person's
			found = append(found, Found{Subject: v.Value, Said: fmt.Sprintf("%s: %s.", v.Value, said(v.All())), Query: report.Within(strings.TrimSpace(report.Grouped(b.Query)+" "+v.Term), from.Truncate(time.Second), now.Add(time.Second).Truncate(time.Second)), Count: v.All()})
		}
	}
	return found, nil
}

func counted(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return report.Thousands(n) + " " + many
}

func (w *Watcher) gates(ctx context.Context, b *watch.AlertBody) ([]Found, error) {
	all, now, err := w.Gates.GateReports(ctx)
	if err != nil {
		return nil, err
	}
	versions, err := w.Versions.DraftVersion(ctx)
	if err != nil {
		return nil, err
	}
	patience := time.Duration(b.Minutes) * time.Minute
	var found []Found
	for i := range all {
		g := &all[i]
		say := func(what, format string, args ...any) {
			found = append(found, Found{Subject: g.Name + ": " + what, Said: "The gate " + g.Name + " " + fmt.Sprintf(format, args...)})
		}
		if g.BeganAt.IsZero() {
			continue // it was enrolled, and never came
		}
		if silent := now.Sub(g.SeenAt); silent > patience {
			say("silent", "has not reported since %s.", g.SeenAt.In(w.Zone).Format("2 January 15:04"))
			continue
		}
		if g.Revision == versions.Live.Number {
			delete(w.behind, g.Name)
		} else if since, known := w.behind[g.Name]; !known {
			w.behind[g.Name] = now // it may just be taking the new one
		} else if now.Sub(since) > patience {
			say("behind", "runs revision %d, and revision %d is live.", g.Revision, versions.Live.Number)
		}
		if g.Clock.Abs() > gate.MostClock {
			say("clock", "has a clock that is wrong by %s.", g.Clock.Abs().Round(100*time.Millisecond))
		}
		if g.Dropped > 0 {
			say("records", "has dropped %s since it began, as there was no room for them.", counted(g.Dropped, "record", "records"))
		}
		if g.Trouble != "" {
			say("trouble", "says: %s", g.Trouble)
		}
	}
	return found, nil
}

func (w *Watcher) packs(ctx context.Context, b *watch.AlertBody, now time.Time) ([]Found, error) {
	all, err := w.Packs.Packs(ctx)
	if err != nil {
		return nil, err
	}
	var found []Found
	for _, p := range all {
		last := p.PulledAt
		if last == nil && p.Latest != nil {
			last = &p.Latest.ArrivedAt
		}
		switch {
		case p.Paused:
		case p.URL != "" && last == nil:
			found = append(found, Found{Subject: p.Name, Said: fmt.Sprintf("The pack %s has never been pulled: %s", p.Name, cmp.Or(p.Told, "it was not tried yet."))})
		case last != nil && now.Sub(*last) > time.Duration(b.Days)*24*time.Hour:
			found = append(found, Found{Subject: p.Name, Said: fmt.Sprintf("The pack %s is of %s: older than %s.", p.Name, last.In(w.Zone).Format("2 January 2006"), counted(int64(b.Days), "day", "days"))})
		}
		if p.Waiting != nil {
			found = append(found, Found{Subject: p.Name + ": waiting", Said: fmt.Sprintf("An update of the pack %s waits for somebody to accept it.", p.Name)})
		}
	}
	return found, nil
}

func (w *Watcher) directories(ctx context.Context, b *watch.AlertBody, now time.Time) ([]Found, error) {
	all, err := w.Packs.Directories(ctx)
	if err != nil {
		return nil, err
	}
	var found []Found
	for _, d := range all {
		switch {
		case d.Paused || d.URL == "" && d.SyncedAt == nil:
		case d.SyncedAt == nil:
			found = append(found, Found{Subject: d.Name, Said: fmt.Sprintf("The directory %s has never been read: %s", d.Name, cmp.Or(d.Told, "it was not tried yet."))})
		case now.Sub(*d.SyncedAt) > time.Duration(b.Days)*24*time.Hour && (d.URL != "" || d.Kind == directories.SCIM):
			found = append(found, Found{Subject: d.Name, Said: fmt.Sprintf("The directory %s was last read on %s: longer ago than %s. %s", d.Name, d.SyncedAt.In(w.Zone).Format("2 January 2006"), counted(int64(b.Days), "day", "days"), d.Told)})
		}
		if d.Waiting != nil {
			found = append(found, Found{Subject: d.Name + ": waiting", Said: fmt.Sprintf("A change of the directory %s waits for somebody to accept it: %s.", d.Name, strings.Join(d.Why, "; "))})
		}
	}
	return found, nil
}

func (w *Watcher) expectations(ctx context.Context) ([]Found, error) {
	versions, err := w.Versions.DraftVersion(ctx)
	if err != nil || versions.Live.Number == 0 {
		return nil, err
	}
	made, err := w.Checks.ReportAt(ctx, versions.Live.Version)
	if err != nil {
		return nil, err
	}
	var found []Found
	for _, e := range made.Expected {
		if !e.Passed {
			why := e.Broken
			if len(e.Wrong) > 0 {
				why = e.Wrong[0].URL + ": " + e.Wrong[0].Why
			}
			found = append(found, Found{Subject: e.Name, Said: fmt.Sprintf("The expectation %q fails on what is live: %s", e.Name, why)})
		}
	}
	return found, nil
}

// messages returns what people are told of incidents, a message for each recipient.
func (w *Watcher) messages(item watch.Item, b *watch.AlertBody, tell []Incident, now time.Time) []delivery.Message {
	subject := "Alert: " + item.Name
	if len(tell) == 1 && tell[0].Subject != "" {
		subject += " (" + tell[0].Subject + ")"
	} else if len(tell) > 1 {
		subject += fmt.Sprintf(" (%d)", len(tell))
	}
	key := item.ID.String() + " " + now.UTC().Format(time.RFC3339Nano)
	return w.send(item, &b.Recipients, key, subject, w.text(item, tell), told{Alert: item.Name, Organisation: w.Organisation, At: now, Incidents: bodies(tell, w.Console)})
}

// Test returns the messages that show whether an alert reaches its recipients.
func (w *Watcher) Test(item watch.Item, b *watch.AlertBody, by string) []delivery.Message {
	said := fmt.Sprintf("This is a test of the alert %q, which %s asked for. Nothing has happened.\n", item.Name, by)
	return w.send(item, &b.Recipients, "test "+uuid.NewString(), "Test of the alert: "+item.Name, said, told{Alert: item.Name, Organisation: w.Organisation, At: w.Now(), Test: true, Incidents: []toldIncident{}})
}

func (w *Watcher) send(item watch.Item, to *watch.Recipients, key, subject, text string, posted told) (all []delivery.Message) {
	for _, address := range to.To {
		all = append(all, delivery.Message{Key: key + " mail " + address, How: delivery.ByMail, To: address, About: item.ID, Subject: subject, Text: text})
	}
	if to.Hook != "" {
		packed, err := json.Marshal(posted)
		if err != nil {
			panic("bug: " + err.Error())
		}
		secret, err := base64.StdEncoding.DecodeString(to.Secret)
		if err != nil {
			w.Log.Error("the secret of an alert cannot be read: what is posted is not signed", "alert", item.Name, "error", err)
		}
		all = append(all, delivery.Message{Key: key + " hook", How: delivery.ByHook, To: to.Hook, About: item.ID, Subject: subject, JSON: packed, Secret: secret})
	}
	return all
}

// told is what is posted to a hook.
type told struct {
	Alert        string         `json:"alert"`
	Organisation string         `json:"organisation"`
	At           time.Time      `json:"at"`
	Test         bool           `json:"test,omitempty"`
	Incidents    []toldIncident `json:"incidents"`
}

type toldIncident struct {
	ID      uuid.UUID  `json:"id"`
	Subject string     `json:"subject,omitempty"`
	Said    string     `json:"said"`
	Count   int64      `json:"count,omitempty"`
	Since   time.Time  `json:"since"`
	Over    *time.Time `json:"over,omitempty"`
	Query   string     `json:"query,omitempty"`
	Link    string     `json:"link,omitempty"`
}

func bodies(tell []Incident, console string) []toldIncident {
	all := make([]toldIncident, len(tell))
	for i, t := range tell {
		all[i] = toldIncident{t.ID, t.Subject, t.Said, t.Most, t.Since, t.OverAt, t.Query, link(console, t.Query)}
	}
	return all
}

// link is where the console shows the records of a query.
func link(console, q string) string {
	if console == "" || q == "" {
		return ""
	}
	return strings.TrimSuffix(console, "/") + "/journal?q=" + url.QueryEscape(q)
}

func (w *Watcher) text(item watch.Item, tell []Incident) string {
	var b strings.Builder
	for n, t := range tell {
		if n == mostSaid {
			fmt.Fprintf(&b, "And %d more.\n\n", len(tell)-n)
			break
		}
		fmt.Fprintf(&b, "%s\n  since %s", t.Said, t.Since.In(w.Zone).Format("Monday 2 January 15:04:05"))
		if t.OverAt != nil {
			fmt.Fprintf(&b, ", over at %s", t.OverAt.In(w.Zone).Format("15:04:05"))
		}
		b.WriteString("\n")
		if t.Query != "" {
			fmt.Fprintf(&b, "  %s\n", cmp.Or(link(w.Console, t.Query), "widelark journal search '"+strings.ReplaceAll(t.Query, "'", `'\''`)+"'"))
		}
		b.WriteString("\n")
	}
	fmt.Fprintf(&b, "%s is told so by the alert %q. Acknowledge it, and nobody is told of it again.\n", cmp.Or(w.Organisation, "Wide Lark"), item.Name)
	if w.Console != "" {
		fmt.Fprintf(&b, "%s/alerts\n", strings.TrimSuffix(w.Console, "/"))
	}
	return b.String()
}

// Keep drops incidents that ended long ago.
func (w *Watcher) Keep(ctx context.Context) error {
	return w.Store.KeepIncidents(ctx, w.Now().Add(-keptFor), access.Timetable)
}

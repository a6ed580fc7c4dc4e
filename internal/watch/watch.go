// Package watch describes what people set up around the journal: searches that are kept, reports that are sent, alerts, and where records are sent on.
// None of it is part of the draft: it holds as soon as it is stored.
//
// From: what people enter.
// To: items, checked.
package watch

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/delivery"
	"widelark/internal/revision"
)

// Kind is a kind of item.
type Kind string

// The kinds.
const (
	Search  Kind = "search"
	Report  Kind = "report"
	Alert   Kind = "alert"
	Forward Kind = "forward" // records are sent on
)

// Act returns what an actor must be allowed to do in order to edit items of the kind.
func (k Kind) Act() access.Act {
	switch k {
	case Search:
		return access.OwnAccount // what is somebody's own
	case Forward:
		return access.SendOn
	}
	return access.Watch
}

// Item is something that was set up.
type Item struct {
	ID        uuid.UUID
	Kind      Kind
	Name      string
	Owner     string // the account that made it
	Shared    bool   // of searches: everybody sees it
	Body      json.RawMessage
	Version   int64
	UpdatedAt time.Time
	UpdatedBy string
	NextAt    *time.Time // when it is due; nil where it never is
}

// SearchBody is a search that is kept.
type SearchBody struct {
	Query   string   `json:"query" maxLength:"4000"`
	Columns []string `json:"columns,omitempty" maxItems:"40" enum:"time,verdict,who,request,by,outcome,person,machine,address,network,groups,method,host,categories,rung,policy,list,entry,gate,sight,provisos,traits,words,status,type,size,duration,referrer,agent,revision" doc:"What is shown of each record, in this order; left out, what is usual"`
	Shared  bool     `json:"shared,omitempty" doc:"Everybody sees it; otherwise only who made it"`
}

// Timetable says when something is due, by the organisation's clock.
type Timetable struct {
	Every string `json:"every" enum:"day,week,month" doc:"A week's is due on Mondays, a month's on its first day"`
	At    string `json:"at" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$" doc:"As 07:30"`
}

// Next returns the first moment after another at which a timetable is due. Where clocks skip the hour, it is due when they have.
func (t Timetable) Next(after time.Time, zone *time.Location) time.Time {
	var hour, minute int
	_, _ = fmt.Sscanf(t.At, "%d:%d", &hour, &minute) // was checked
	after = after.In(zone)
	day := time.Date(after.Year(), after.Month(), after.Day(), 0, 0, 0, 0, zone)
	for {
		at := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, zone)
		due := t.Every == "day" || t.Every == "week" && day.Weekday() == time.Monday || t.Every == "month" && day.Day() == 1
		if due && at.After(after) {
			return at
		}
		day = time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, zone)
	}
}

// Recipients is where something is sent.
type Recipients struct {
	To   []string `json:"to,omitempty" maxItems:"50" doc:"Addresses that it is mailed to"`
	Hook string   `json:"hook,omitempty" maxLength:"2000" doc:"An address (https or http) that it is posted to as JSON, signed"`

	// Secret is sealed before it is kept.
	Secret string `json:"secret,omitempty" minLength:"16" maxLength:"200" doc:"With which what is posted is signed; never given out. Left out, the one before stays"`
}

// Check returns what is wrong, or nil.
func (r *Recipients) Check() error {
	for i, to := range r.To {
		address, err := mail.ParseAddress(to)
		if err != nil {
			return &revision.FieldError{Field: fmt.Sprintf("to[%d]", i), Msg: fmt.Sprintf("%q is not an address for mail, as desk@quillmere.example", to)}
		}
		r.To[i] = address.Address
	}
	if r.Hook == "" {
		return nil
	}
	if u, err := url.Parse(r.Hook); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
		return &revision.FieldError{Field: "hook", Msg: fmt.Sprintf("%q is not an address, as https://desk.quillmere.example/alerts", r.Hook)}
	}
	return nil
}

// Store keeps items.
type Store interface {
	// WatchItems returns the items of a kind by name; of searches those that are shared and those of an account.
	WatchItems(ctx context.Context, kind Kind, account string) ([]Item, error)
	WatchItem(ctx context.Context, kind Kind, id uuid.UUID) (Item, error)
	// PutWatchItem adds an item, where it has no id, or replaces it. Where version is not 0 and another, the error is [revision.ErrStale].
	PutWatchItem(ctx context.Context, item Item, version int64, by access.Actor) (Item, error)
	// HeldBy returns the roles that the account with a name holds; none where there is no such account.
	HeldBy(ctx context.Context, account string) ([]access.Held, error)
	RemoveWatchItem(ctx context.Context, kind Kind, id uuid.UUID, version int64, by access.Actor) error
	// Due calls do with each item of a kind that is due, in a transaction that no other service is in with the same item, and stores what do returns: when the item is due next, and messages. Where do
	// fails, the item stays due, and is tried again some time later.
	Due(ctx context.Context, kind Kind, now time.Time, do func(ctx context.Context, item Item) (next time.Time, messages []delivery.Message, err error), by access.Actor) error
}

// ReportBody is a report that is kept, and perhaps sent.
type ReportBody struct {
	Query     string     `json:"query,omitempty" maxLength:"4000" doc:"Only requests that this finds; it says nothing of the time"`
	Span      string     `json:"span" enum:"day,week,month,24h,7d,30d" doc:"day, week and month are the last whole ones; the others end now"`
	Sections  []string   `json:"sections,omitempty" maxItems:"40" enum:"over,blocked,categories,families,sites,new,unrated,people,groups,networks,machines,words,provisos,policies,rules,lists,gates" doc:"Left out, all of them"`
	Compare   bool       `json:"compare,omitempty" doc:"With the period before"`
	Top       int        `json:"top,omitempty" minimum:"1" maximum:"200" doc:"How many rows each section has; left out, 10"`
	Timetable *Timetable `json:"timetable,omitempty" doc:"When it is sent; left out, never"`
	To        []string   `json:"to,omitempty" maxItems:"50" doc:"Addresses that it is mailed to"`
	Files     []string   `json:"files,omitempty" enum:"pdf,csv" doc:"What is attached; left out, a PDF"`
}

// Check returns what is wrong beside the query, or nil.
func (b *ReportBody) Check() error {
	if b.Timetable != nil && len(b.To) == 0 {
		return &revision.FieldError{Field: "to", Msg: "a report with a timetable goes to somebody: give at least one address"}
	}
	to := Recipients{To: b.To}
	return to.Check()
}

// What is what an alert watches.
type What string

// The sorts of alerts.
const (
	Requests     What = "requests"     // more requests than usual that a search finds
	Gates        What = "gates"        // a gate that is silent, behind, loses records or has a wrong clock
	Packs        What = "packs"        // a pack that is too old, or could not be pulled
	Directories  What = "directories"  // a directory that is too old, or could not be read
	Expectations What = "expectations" // one that fails on what is live
)

// AlertBody says when somebody is told of something.
type AlertBody struct {
	What    What   `json:"what" enum:"requests,gates,packs,directories,expectations"`
	Query   string `json:"query,omitempty" maxLength:"4000" doc:"requests: those that count; it says nothing of the time"`
	More    int64  `json:"more,omitempty" minimum:"0" doc:"requests: when there are more than so many"`
	Minutes int    `json:"minutes,omitempty" minimum:"1" maximum:"1440" doc:"requests: in so many minutes (left out, 10). gates: when a gate has been silent for so long, or has run something older for so long (left out, 5)"`
	Per     string `json:"per,omitempty" enum:"person,site,gate,group,network" doc:"requests: counted for each of them; left out, all together"`
	Days    int    `json:"days,omitempty" minimum:"1" maximum:"400" doc:"packs, directories: when the last good pull or reading is so long ago; left out, 3"`
	Again   int    `json:"again,omitempty" minimum:"5" maximum:"10080" doc:"Told again after so many minutes where it goes on and nobody has acknowledged it; left out, 240"`
	Quiet   *Quiet `json:"quiet,omitempty" doc:"When nobody is told; what happens then is told together when it is over"`
	Off     bool   `json:"off,omitempty"`
	Recipients
}

// Quiet is a time of each day, by the organisation's clock. It may pass midnight.
type Quiet struct {
	From  string `json:"from" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$" doc:"As 22:00"`
	Until string `json:"until" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$"`
}

// Now reports whether it is quiet at a moment.
func (q *Quiet) Now(at time.Time, zone *time.Location) bool {
	if q == nil || q.From == q.Until {
		return false
	}
	now := at.In(zone).Format("15:04")
	if q.From < q.Until {
		return q.From <= now && now < q.Until
	}
	return q.From <= now || now < q.Until
}

// Check fills in what is left out, and returns what is wrong beside the query, or nil.
func (b *AlertBody) Check() error {
	if b.What != Requests && (b.Query != "" || b.More != 0 || b.Per != "") {
		return &revision.FieldError{Field: "query", Msg: "only an alert about requests has a query, a number and what it counts by"}
	}
	switch {
	case b.Minutes != 0:
	case b.What == Requests:
		b.Minutes = 10
	case b.What == Gates:
		b.Minutes = 5
	}
	if (b.What == Packs || b.What == Directories) && b.Days == 0 {
		b.Days = 3
	}
	if b.Again == 0 {
		b.Again = 240
	}
	return b.Recipients.Check()
}

// ForwardBody says where records are sent on.
type ForwardBody struct {
	Protocol string `json:"protocol" enum:"syslog,otlp" doc:"syslog (RFC 5424) over TCP, or logs of OpenTelemetry (OTLP) over HTTP"`
	Address  string `json:"address" minLength:"1" maxLength:"2000" doc:"syslog: HOST:PORT. otlp: the address of the collector's logs, as https://collector.quillmere.example/v1/logs"`
	TLS      bool   `json:"tls,omitempty" doc:"syslog: over TLS (RFC 5425)"`
	Roots    string `json:"roots,omitempty" maxLength:"100000" doc:"Certificates of the authorities that are trusted, as PEM; left out, those of the machine"`
	Query    string `json:"query,omitempty" maxLength:"4000" doc:"Only records that this finds; it says nothing of the time"`
	Off      bool   `json:"off,omitempty"`
}

// Check returns what is wrong beside the query, or nil.
func (b *ForwardBody) Check() error {
	switch b.Protocol {
	case "syslog":
		if _, port, err := net.SplitHostPort(b.Address); err != nil || port == "" {
			return &revision.FieldError{Field: "address", Msg: fmt.Sprintf("%q is not a host and a port, as logs.quillmere.example:6514", b.Address)}
		}
	case "otlp":
		if u, err := url.Parse(b.Address); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
			return &revision.FieldError{Field: "address", Msg: fmt.Sprintf("%q is not an address, as https://collector.quillmere.example/v1/logs", b.Address)}
		}
	}
	if b.Roots != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(b.Roots)) {
		return &revision.FieldError{Field: "roots", Msg: "there is no certificate in it: PEM is wanted, from -----BEGIN CERTIFICATE----- on"}
	}
	return nil
}

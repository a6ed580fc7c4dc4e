// Package forward sends records on: as syslog (RFC 5424) over TCP or TLS, and as logs of OpenTelemetry (OTLP) over HTTP. It keeps how far it is beside the records, and sends each of them at least
// once: after a failure it goes on from what was taken last.
//
// From: records, in the order in which they came.
// To: collectors of others.
package forward

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/delivery"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/query"
	"widelark/internal/journal/segment"
	"widelark/internal/journal/tally"
	"widelark/internal/watch"
)

// State is how far records were sent on.
type State struct {
	Position int64
	Sent     int64      // records
	At       *time.Time // when it was sent last
	Problem  string     // why the last try failed; "" where it did not
	Behind   int64      // batches that have come since
}

// Store keeps how far records were sent on.
type Store interface {
	// Forwarded returns how far an item is. Where nothing was sent yet, it begins with what comes next.
	Forwarded(ctx context.Context, item uuid.UUID) (State, error)
	// NoteForwarded keeps how far an item is, in the transaction in which [watch.Store.Due] calls.
	NoteForwarded(ctx context.Context, item uuid.UUID, position, sent int64, problem string) error
}

// Runner sends records on. Several services may run one each: records are sent by one at a time.
type Runner struct {
	Items   watch.Store
	Store   Store
	Archive *archive.Archive
	Tally   *tally.Counter
	Ranges  []netip.Prefix // networks of one's own that may be reached; see package outbound
	Host    string         // of the service, as it is told in what is sent
	Version string
	Now     func() time.Time
	Log     *slog.Logger
}

// How much is sent at once, how often it is looked for more, and how long it waits after a failure.
const (
	batches  = 64
	often    = time.Second
	later    = 10 * time.Second
	sendFor  = 30 * time.Second
	holdOnly = 20 * time.Second // after which others may take over
)

// Run sends records on until the context ends.
func (r *Runner) Run(ctx context.Context) {
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		if err := r.Items.Due(ctx, watch.Forward, r.Now(), r.forward, access.Timetable); err != nil && ctx.Err() == nil {
			r.Log.WarnContext(ctx, "records could not be sent on; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// sender sends records. It returns nil only if all were taken.
type sender interface {
	send(ctx context.Context, records []Sent) error
}

// Sent is a record with the names of what it names.
type Sent struct {
	journal.Record
	Fields []Field
}

// Field is something that a record says.
type Field struct{ Key, Value string }

func (r *Runner) forward(ctx context.Context, item watch.Item) (time.Time, []delivery.Message, error) {
	var body watch.ForwardBody
	if err := json.Unmarshal(item.Body, &body); err != nil {
		return time.Time{}, nil, err
	}
	next := r.Now().Add(often)
	if body.Off {
		return next, nil, nil
	}
	state, err := r.Store.Forwarded(ctx, item.ID)
	if err != nil {
		return next, nil, err
	}
	position, sent := state.Position, state.Sent
	failed := r.send(ctx, &body, &position, &sent)
	problem := ""
	if failed != nil {
		problem, next = failed.Error(), r.Now().Add(later)
		if problem != state.Problem {
			r.Log.WarnContext(ctx, "records could not be sent on; it is tried again", "to", item.Name, "error", failed)
		}
	}
	if position == state.Position && problem == state.Problem {
		return next, nil, nil
	}
	return next, nil, r.Store.NoteForwarded(ctx, item.ID, position, sent, problem)
}

// send sends what has come since a position, and moves position and sent on with what was taken.
func (r *Runner) send(ctx context.Context, body *watch.ForwardBody, position, sent *int64) error {
	filter, err := r.filter(ctx, body.Query)
	if err != nil {
		return err
	}
	to, err := r.sender(body)
	if err != nil {
		return err
	}
	begin := time.Now()
	for more := true; more && ctx.Err() == nil && time.Since(begin) < holdOnly; {
		var records []journal.Record
		var upTo int64
		if records, upTo, more, err = r.Archive.After(ctx, *position, filter, batches); err != nil {
			return err
		}
		if len(records) > 0 {
			named, err := r.named(ctx, records)
			if err != nil {
				return err
			}
			sending, stop := context.WithTimeout(ctx, sendFor)
			err = to.send(sending, named)
			stop()
			if err != nil {
				return err
			}
		}
		*position, *sent = upTo, *sent+int64(len(records))
	}
	return ctx.Err()
}

func (r *Runner) filter(ctx context.Context, text string) (segment.Filter, error) {
	w, err := r.Tally.World(ctx, query.Whole)
	if err != nil {
		return nil, err
	}
	return query.Live(ctx, text, w)
}

func (r *Runner) sender(b *watch.ForwardBody) (sender, error) {
	config, err := tlsOf(b)
	if err != nil {
		return nil, err
	}
	switch b.Protocol {
	case "syslog":
		return &syslog{address: b.Address, tls: config, ranges: r.Ranges, host: r.Host}, nil
	case "otlp":
		return newOTLP(b.Address, config, r), nil
	}
	return nil, fmt.Errorf("%q is not a protocol that is known", b.Protocol)
}

// named returns records with what they say, as it is sent.
func (r *Runner) named(ctx context.Context, records []journal.Record) ([]Sent, error) {
	ids, rules := map[uuid.UUID]bool{}, map[uuid.UUID]bool{}
	for i := range records {
		for _, id := range append([]uuid.UUID{records[i].Person, records[i].Machine, records[i].Network, records[i].Policy, records[i].List, records[i].Exception}, records[i].Groups...) {
			ids[id] = true
		}
		rules[records[i].Rule] = true
	}
	names, err := r.Tally.Called.Names(ctx, slices.Collect(maps.Keys(ids)))
	if err != nil {
		return nil, err
	}
	ruleNames, err := r.Tally.Called.RuleNames(ctx, slices.Collect(maps.Keys(rules)))
	if err != nil {
		return nil, err
	}
	maps.Copy(names, ruleNames)
	all := make([]Sent, len(records))
	for i := range records {
		all[i] = Sent{records[i], fields(&records[i], names)}
	}
	return all, nil
}

// fields returns what a record says, without what it does not say. The keys are those of the search language.
func fields(r *journal.Record, names map[uuid.UUID]string) (all []Field) {
	add := func(key, value string) {
		if value != "" {
			all = append(all, Field{key, value})
		}
	}
	named := func(key string, id uuid.UUID) {
		if id != uuid.Nil {
			name := names[id]
			if name == "" {
				name = id.String()
			}
			add(key, name)
		}
	}
	number := func(key string, n int64) {
		if n != 0 {
			add(key, strconv.FormatInt(n, 10))
		}
	}
	add("id", r.ID.String())
	add("verdict", string(r.Verdict))
	add("url", r.URL)
	add("method", r.Method)
	named("person", r.Person)
	named("machine", r.Machine)
	if r.Address.IsValid() {
		add("address", r.Address.String())
	}
	named("network", r.Network)
	var groups []string
	for _, id := range r.Groups {
		if name := names[id]; name != "" {
			groups = append(groups, name)
		}
	}
	add("group", strings.Join(groups, ", "))
	add("gate", string(r.Gate))
	add("gate-name", r.GateName)
	add("sight", string(r.Sight))
	add("category", strings.Join(r.Categories, ", "))
	add("by", r.By)
	add("rung", string(r.Rung))
	named("policy", r.Policy)
	named("rule", r.Rule)
	named("exception", r.Exception)
	named("list", r.List)
	add("entry", r.Entry)
	add("proviso", r.Provisos)
	traits := make([]string, len(r.Traits))
	for i, t := range r.Traits {
		traits[i] = string(t)
	}
	add("trait", strings.Join(traits, ", "))
	add("words", r.Words)
	number("status", int64(r.Status))
	add("type", r.Media)
	number("size", r.Size)
	number("milliseconds", r.Took.Milliseconds())
	add("agent", r.Agent)
	add("referrer", r.Referrer)
	number("revision", r.Revision)
	add("outcome", string(r.Outcome))
	add("detail", r.Detail)
	return all
}

// text is a record in a line.
func (s *Sent) text() string {
	who := ""
	for _, f := range s.Fields {
		if f.Key == "person" || f.Key == "address" && who == "" {
			who = " for " + f.Value
		}
	}
	by := ""
	if s.By != "" {
		by = ": " + s.By
	}
	return strings.TrimSpace(string(s.Verdict) + " " + strings.TrimSpace(s.Method+" "+s.URL) + who + by)
}

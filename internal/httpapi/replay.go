package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/journal"
	"widelark/internal/replay"
	"widelark/internal/revision"
)

// RecordedInput is a request that was decided.
type RecordedInput struct {
	At      time.Time      `json:"at"`
	Person  string         `json:"person,omitempty" maxLength:"200" doc:"Sign-in name or id; somebody who is not known is kept as nobody"`
	Address string         `json:"address,omitempty" maxLength:"60"`
	Method  string         `json:"method,omitempty" maxLength:"20" doc:"Left out: GET"`
	URL     string         `json:"url" minLength:"1" maxLength:"8000"`
	Gate    policy.Gate    `json:"gate,omitempty" enum:"dns,proxy,icap" doc:"Left out: proxy"`
	Sight   weburl.Sight   `json:"sight,omitempty" enum:"name,tunnel,full" doc:"What the gate saw; left out, what such a gate sees of such a URL"`
	Verdict policy.Verdict `json:"verdict,omitempty" enum:"allow,watch,hold,block" doc:"Left out: what the live revision says"`

	GateName string `json:"gateName,omitempty" maxLength:"80"`
	Status   int    `json:"status,omitempty" minimum:"0" maximum:"999" doc:"Of the answer. Where the verdict is left out and the live revision lets nothing pass, what is said of an answer is left out, too"`
	Media    string `json:"media,omitempty" maxLength:"200" doc:"The media type of the answer"`
	Size     int64  `json:"size,omitempty" minimum:"0" doc:"Bytes of the answer"`
	Millis   int64  `json:"millis,omitempty" minimum:"0" maximum:"1000000000" doc:"How long it took, in milliseconds"`
	Agent    string `json:"agent,omitempty" maxLength:"300" doc:"As the client calls itself"`
	Referrer string `json:"referrer,omitempty" maxLength:"260" doc:"The host of the page before"`
}

type addRecordedInput struct {
	Body struct {
		Records []RecordedInput `json:"records" minItems:"1" maxItems:"20000"`
	}
}

type addRecordedOutput struct {
	Body struct {
		Kept    int `json:"kept"`
		Refused int `json:"refused" doc:"Whose URL or address is none"`
		Left    int `json:"left" doc:"That are not recorded, as their policies say"`
	}
}

type turnsInput struct{ DiffStates }

type turnsOutput struct {
	Body struct {
		Turns  []VerdictTurn `json:"turns" doc:"Those of the most URLs and people first"`
		Looked int           `json:"looked" doc:"So many URLs were tried"`
		People int           `json:"people" doc:"For so many groups and people"`
	}
}

// VerdictTurn is URLs that turn from one verdict to another for the same people at the same times.
type VerdictTurn struct {
	Who        []string       `json:"who"`
	Before     policy.Verdict `json:"before" enum:"allow,watch,hold,block"`
	After      policy.Verdict `json:"after" enum:"allow,watch,hold,block"`
	Times      string         `json:"times,omitempty" doc:"As schedules are written; left out for always"`
	At         time.Time      `json:"at" doc:"The first moment of the week from today on"`
	Count      int            `json:"count"`
	URLs       []string       `json:"urls" doc:"At most 20"`
	WasBecause string         `json:"wasBecause" doc:"Of the first URL"`
	IsBecause  string         `json:"isBecause"`
	Text       string         `json:"text" doc:"All of it in a sentence"`
}

type replayInput struct {
	Body struct {
		From  string       `json:"from,omitempty" pattern:"^(draft|live|[0-9]+)$" doc:"draft, live or the number of a revision; left out, live"`
		To    string       `json:"to,omitempty" pattern:"^(draft|live|[0-9]+)$" doc:"Left out: the draft"`
		Since *time.Time   `json:"since,omitempty" doc:"Left out: the last seven days that were recorded"`
		Until *time.Time   `json:"until,omitempty"`
		Host  string       `json:"host,omitempty" maxLength:"260" doc:"Only requests to this host and below"`
		Who   *edition.Who `json:"who,omitempty" doc:"Only requests of this person"`
		By    string       `json:"by,omitempty" maxLength:"300" doc:"Only what this decides now, as a group of an answer names it"`
		Limit int          `json:"limit,omitempty" minimum:"0" maximum:"100000" doc:"How many requests are listed one by one; left out, none"`
	}
}

type replayOutput struct {
	Body struct {
		Requests     int             `json:"requests" doc:"That were decided again"`
		People       int             `json:"people"`
		Hosts        int             `json:"hosts"`
		Turned       int             `json:"turned" doc:"That would have got another verdict"`
		TurnedPeople int             `json:"turnedPeople"`
		TurnedHosts  int             `json:"turnedHosts"`
		Opened       int             `json:"opened" doc:"That would have passed and did not"`
		Closed       int             `json:"closed" doc:"That would not have passed and did"`
		Groups       []ReplayGroup   `json:"groups" doc:"Those of the most requests first"`
		Records      []ReplayRequest `json:"records" doc:"The latest first"`
		Since        *time.Time      `json:"since,omitempty"`
		Until        *time.Time      `json:"until,omitempty"`
		Micros       int64           `json:"micros"`
	}
}

// ReplayGroup is requests that turn alike, for the same reason.
type ReplayGroup struct {
	Before   policy.Verdict `json:"before" enum:"allow,watch,hold,block"`
	After    policy.Verdict `json:"after" enum:"allow,watch,hold,block"`
	By       string         `json:"by" doc:"What decides then"`
	WasBy    string         `json:"wasBy"`
	Requests int            `json:"requests"`
	People   int            `json:"people"`
	Hosts    int            `json:"hosts"`
	Top      []HostCount    `json:"top"`
}

// HostCount is requests to one host.
type HostCount struct {
	Host     string `json:"host"`
	Requests int    `json:"requests"`
}

// ReplayRequest is one recorded request that would have got another verdict.
type ReplayRequest struct {
	At      time.Time      `json:"at"`
	Person  string         `json:"person,omitempty"`
	Address string         `json:"address,omitempty"`
	Method  string         `json:"method"`
	URL     string         `json:"url"`
	Before  policy.Verdict `json:"before" enum:"allow,watch,hold,block"`
	After   policy.Verdict `json:"after" enum:"allow,watch,hold,block"`
	By      string         `json:"by"`
}

type affectedInput struct {
	Body struct {
		Categories []string        `json:"categories,omitempty" maxItems:"200" doc:"Keys of categories and families"`
		Entries    []pattern.Entry `json:"entries,omitempty" maxItems:"1000" doc:"In the notation"`
		Lists      []uuid.UUID     `json:"lists,omitempty" maxItems:"50"`
		Since      *time.Time      `json:"since,omitempty" doc:"Left out: the last seven days that were recorded"`
		Until      *time.Time      `json:"until,omitempty"`
	}
}

type affectedOutput struct {
	Body struct {
		Looked   int             `json:"looked" doc:"Recorded requests that were looked at"`
		Requests int             `json:"requests" doc:"Of these, that it would have been about"`
		Reached  int             `json:"reached" doc:"Of those, that pass as the draft is: what a block would take away"`
		People   int             `json:"people"`
		Hosts    int             `json:"hosts"`
		Groups   []AffectedGroup `json:"groups" doc:"Those of the most requests first; somebody in several groups counts in each"`
		Top      []HostCount     `json:"top"`
		Since    *time.Time      `json:"since,omitempty"`
		Until    *time.Time      `json:"until,omitempty"`
	}
}

// AffectedGroup is what the members of one group asked for.
type AffectedGroup struct {
	Name     string `json:"name" doc:"Empty for those who are in none"`
	Requests int    `json:"requests"`
	People   int    `json:"people"`
	Hours    []int  `json:"hours" doc:"Requests by the hour of the day, 24 numbers"`
}

func (s *server) registerReplay(api huma.API) {
	add := operation("addRecorded", http.MethodPost, "/journal", "Journal", "Keep requests that were decided", 422)
	add.MaxBodyBytes = 32 << 20
	huma.Register(api, add, s.addRecorded)
	huma.Register(api, operation("getTurns", http.MethodGet, "/diff/turns", "Changes", "Which URLs turn between two states, for whom and when", 422), s.turns)
	huma.Register(api, operation("replay", http.MethodPost, "/replay", "Changes", "Recorded requests, decided again under another state", 422), s.replay)
	huma.Register(api, operation("getAffected", http.MethodPost, "/replay/affected", "Changes", "Who would have been affected by blocking something", 422), s.affected)
}

func (s *server) addRecorded(ctx context.Context, in *addRecordedInput) (*addRecordedOutput, error) {
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	people, err := s.Objects.Objects(ctx, revision.KindPerson)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	current, err := s.Versions.DraftVersion(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	e := &gate.Edition{Revision: live.Revision, Catalogue: current.Catalogue, Snapshot: live.Snapshot}
	ids := map[string]uuid.UUID{}
	for _, p := range people {
		ids[strings.ToLower(p.Name)], ids[p.ID.String()] = p.ID, p.ID
	}
	out := &addRecordedOutput{}
	kept := make([]journal.Record, 0, len(in.Body.Records))
	var w policy.Work
	for _, one := range in.Body.Records {
		u, err := weburl.Parse(one.URL)
		r := journal.Record{At: one.At, Person: ids[strings.ToLower(one.Person)], Method: "GET", URL: u.String(), Gate: cmp.Or(one.Gate, policy.Proxy), Sight: one.Sight, Verdict: one.Verdict}
		if err == nil && one.Address != "" {
			r.Address, err = netip.ParseAddr(one.Address)
		}
		if err != nil {
			out.Body.Refused++
			continue
		}
		if one.Method != "" {
			r.Method = strings.ToUpper(one.Method)
		}
		r.GateName, r.Agent, r.Referrer = one.GateName, one.Agent, one.Referrer
		r.Ending = journal.Ending{Outcome: journal.Answered, Status: one.Status, Media: one.Media, Size: one.Size, Took: time.Duration(one.Millis) * time.Millisecond}
		q, _ := r.Request() // of a URL that was read just now
		d := live.Snapshot.Decide(&w, &q, r.At)
		if one.Verdict == "" && !d.Verdict.Passes() { // then there was no such answer
			r.Ending = journal.Ending{Outcome: journal.Answered}
		}
		said := live.Snapshot.Record(&w, &q, r.At, d)
		if said.Amount == policy.Nothing {
			out.Body.Left++
			continue
		}
		known := one.Verdict == "" || one.Verdict == d.Verdict
		if !known { // what decided is not known
			d = policy.Decision{Verdict: one.Verdict, Policy: -1, Rule: -1, Granted: -1, Stint: -1}
			said = live.Snapshot.Record(&w, &q, r.At, d)
		}
		r.ID, r.Sight, r.Verdict = journal.NewID(r.At), q.Sight, d.Verdict
		if r = gate.Describe(r, &u, e, said, d); !known {
			r.By = ""
		}
		kept = append(kept, r)
	}
	if err := s.Journal.AddRecords(ctx, kept, actor(ctx)); err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Kept = len(kept)
	return out, nil
}

func joinedAnd(parts []string) string {
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// someNamed names the first few of many.
func someNamed(names []string, most int) string {
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return joinedAnd(names)
}

func (s *server) turns(ctx context.Context, in *turnsInput) (*turnsOutput, error) {
	from, to, err := s.versions(ctx, in.DiffStates)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	before, err := s.Editions.At(ctx, from)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	after, err := s.Editions.On(ctx, "to", in.To)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	states, err := s.Publishing.Changed(ctx, from, to)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &turnsOutput{}
	out.Body.Turns = []VerdictTurn{}
	if len(states) == 0 {
		return out, nil
	}
	turned, err := s.Checks.Turns(ctx, before, after, states)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Looked, out.Body.People = turned.Looked, turned.People
	const shown = 20
	for _, t := range turned.Turns {
		one := VerdictTurn{Who: t.Who, Before: t.Before, After: t.After, Times: t.Times, At: t.At, Count: len(t.URLs), WasBecause: t.WasBecause, IsBecause: t.IsBecause}
		for _, u := range t.URLs[:min(len(t.URLs), shown)] {
			one.URLs = append(one.URLs, u.String())
		}
		what := fmt.Sprintf("%d URLs turn", one.Count)
		if one.Count == 1 {
			what = one.URLs[0] + " turns"
		}
		const named = 4
		one.Text = fmt.Sprintf("%s from %s to %s for %s", what, t.Before, t.After, someNamed(t.Who, named))
		if t.Times != "" {
			one.Text += ", " + t.Times
		}
		one.Text += "."
		out.Body.Turns = append(out.Body.Turns, one)
	}
	return out, nil
}

// recordedDays is how many of the recorded days are used by default.
const recordedDays = 7

// span returns the period to examine; zero if nothing was recorded.
func (s *server) span(ctx context.Context, since, until *time.Time) (from, to time.Time, err error) {
	_, last, n, err := s.Archive.RecordedSpan(ctx)
	if err != nil || n == 0 && since == nil {
		return from, to, err
	}
	to = last.Add(time.Microsecond)
	if until != nil {
		to = *until
	}
	from = to.AddDate(0, 0, -recordedDays)
	if since != nil {
		from = *since
	}
	return from, to, nil
}

func (s *server) replay(ctx context.Context, in *replayInput) (*replayOutput, error) {
	b := in.Body
	before, err := s.inForce(ctx, "from", cmp.Or(b.From, "live"))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	after, err := s.inForce(ctx, "to", b.To)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	query := replay.Query{Host: strings.ToLower(strings.TrimSpace(b.Host)), By: b.By, Limit: b.Limit}
	if b.Who != nil {
		asker, err := after.Find("who", *b.Who)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		query.Person = asker.Request().Person
		if err := s.checkAskers(ctx, access.SeeNames, asker); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	if query.From, query.To, err = s.span(ctx, b.Since, b.Until); err != nil {
		return nil, s.problem(ctx, err)
	}
	r, err := s.Replayer.Replay(ctx, before, after, query)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &replayOutput{}
	o := &out.Body
	o.Requests, o.People, o.Hosts, o.Turned, o.TurnedPeople, o.TurnedHosts, o.Opened, o.Closed = r.Requests, r.People, r.Hosts, r.Turned, r.TurnedPeople, r.TurnedHosts, r.Opened, r.Closed
	o.Groups, o.Records, o.Micros = []ReplayGroup{}, []ReplayRequest{}, r.Took.Microseconds()
	if !query.From.IsZero() {
		o.Since, o.Until = &query.From, &query.To
	}
	for _, g := range r.Groups {
		o.Groups = append(o.Groups, ReplayGroup{g.Before, g.After, g.By, g.WasBy, g.Requests, g.People, g.Hosts, hostCounts(g.Top)})
	}
	ids := []uuid.UUID{}
	for _, one := range r.Shown {
		ids = append(ids, one.Person)
	}
	names, err := s.Objects.Names(ctx, ids)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	seen, err := s.bounds(ctx, access.SeeNames)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	for _, one := range r.Shown {
		request := ReplayRequest{At: one.At, Method: one.Method, URL: one.URL, Before: one.Before, After: one.After, By: one.By}
		if !seen.has(one.Person, uuid.Nil, one.Address) {
			o.Records = append(o.Records, request)
			continue
		}
		request.Person = names[one.Person]
		if one.Address.IsValid() {
			request.Address = one.Address.String()
		}
		o.Records = append(o.Records, request)
	}
	return out, nil
}

func hostCounts(top []replay.HostCount) []HostCount {
	all := make([]HostCount, len(top))
	for i, h := range top {
		all[i] = HostCount(h)
	}
	return all
}

func (s *server) affected(ctx context.Context, in *affectedInput) (*affectedOutput, error) {
	b := in.Body
	h, err := s.Editions.Draft(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if len(b.Categories)+len(b.Entries)+len(b.Lists) == 0 {
		return nil, s.problem(ctx, &revision.FieldError{Field: "categories", Msg: "name categories, entries or lists"})
	}
	for i, key := range b.Categories {
		if err := checkKind(h.Snapshot.Config().Taxonomy, fmt.Sprintf("categories[%d]", i), key); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	entries := slices.Clone(b.Entries)
	for i, e := range entries {
		if err := e.Err(); err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("entries[%d]", i), Msg: err.Error()})
		}
	}
	for i, id := range b.Lists {
		if err := s.Store.EachEntry(ctx, id, func(_ int64, e pattern.Entry) error {
			entries = append(entries, e)
			return nil
		}); err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("lists[%d]", i), Msg: err.Error()})
		}
	}
	from, to, err := s.span(ctx, b.Since, b.Until)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	a, err := s.Replayer.Affected(ctx, h, b.Categories, entries, from, to)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &affectedOutput{}
	o := &out.Body
	o.Looked, o.Requests, o.Reached, o.People, o.Hosts, o.Top, o.Groups = a.All, a.Requests, a.Reached, a.People, a.Hosts, hostCounts(a.Top), []AffectedGroup{}
	if !from.IsZero() {
		o.Since, o.Until = &from, &to
	}
	for _, g := range a.Groups {
		o.Groups = append(o.Groups, AffectedGroup{g.Name, g.Requests, g.People, g.Hours[:]})
	}
	return out, nil
}

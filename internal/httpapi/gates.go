package httpapi

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/account"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/revision"
)

// GateNews is what a gate says of itself.
type GateNews struct {
	Address   string     `json:"address" doc:"Where clients reach it"`
	Revision  int64      `json:"revision" doc:"That it runs; 0 for none"`
	Catalogue int64      `json:"catalogue" doc:"The version of the catalogue that it runs; 0 for none"`
	Since     *time.Time `json:"since,omitempty" doc:"When it took what it runs: the revision, the catalogue and the grants"`
	BeganAt   time.Time  `json:"beganAt"`
	Decided   int64      `json:"decided" doc:"Requests since it began"`
	Refused   int64      `json:"refused" doc:"Of these, held and blocked ones"`
	Cut       int64      `json:"cut" doc:"Requests whose verdict turned while they were under way"`
	Running   int64      `json:"running" doc:"Requests under way"`
	Written   int64      `json:"written" doc:"Records in the journal"`
	Waiting   int64      `json:"waiting" doc:"Records that are not written yet"`
	Dropped   int64      `json:"dropped" doc:"Records for which there was no room"`

	Unrecorded int64          `json:"unrecorded,omitempty" doc:"Decisions of which policies say that nothing is recorded"`
	Refusals   []gate.Refusal `json:"refusals" doc:"Hosts for which clients refused the gate's certificate, the last one first"`

	Zones []gate.Zone `json:"zones,omitempty" doc:"That a DNS gate hands out to other resolvers"`

	Edition     int64  `json:"edition,omitempty" doc:"The number of what a gate elsewhere runs"`
	Digest      string `json:"digest,omitempty" doc:"SHA-256 of what a gate elsewhere runs: two that run the same have the same"`
	ClockMillis int64  `json:"clockMillis,omitempty" doc:"How far the clock of a gate elsewhere is ahead of the database's"`
	Trouble     string `json:"trouble,omitempty" doc:"What the gate could not do lately"`
}

// GateReport is a gate with what it says of itself.
type GateReport struct {
	Name      string      `json:"name"`
	Kind      policy.Gate `json:"kind" enum:"dns,proxy,icap"`
	State     string      `json:"state" enum:"up to date,behind,without rules,clock is wrong,silent,enrolled" doc:"behind: it runs another revision or catalogue than the live one; clock is wrong: by over two seconds; silent: it has not reported for ten seconds; enrolled: it has never reported"`
	SeenAt    time.Time   `json:"seenAt" doc:"When it last reported"`
	Elsewhere bool        `json:"elsewhere,omitempty" doc:"It runs on another machine than the service"`
	GateNews
}

// GateRecord is a request that a gate decided.
type GateRecord struct {
	At         time.Time       `json:"at"`
	Gate       policy.Gate     `json:"gate" enum:"dns,proxy,icap"`
	GateName   string          `json:"gateName,omitempty"`
	Sight      weburl.Sight    `json:"sight,omitempty" enum:"name,tunnel,full"`
	Who        string          `json:"who,omitempty" doc:"The person; left out where nobody is known"`
	Address    string          `json:"address,omitempty"`
	Method     string          `json:"method"`
	URL        string          `json:"url"`
	Verdict    policy.Verdict  `json:"verdict" enum:"allow,watch,hold,block"`
	By         string          `json:"by,omitempty" doc:"What decided, in a few words"`
	Provisos   string          `json:"provisos,omitempty" doc:"What the request was bound to, in words"`
	NotHeld    string          `json:"notHeld,omitempty" doc:"What of it the gate could not hold, in words"`
	Traits     []policy.Trait  `json:"traits,omitempty"`
	Revision   int64           `json:"revision,omitempty"`
	ID         *uuid.UUID      `json:"id,omitempty" format:"uuid"`
	Amount     policy.Amount   `json:"amount,omitempty" enum:"everything,group" doc:"How much of the request is here, as its policies say"`
	Machine    string          `json:"machine,omitempty"`
	Network    string          `json:"network,omitempty"`
	Groups     []string        `json:"groups,omitempty"`
	Categories []string        `json:"categories,omitempty" doc:"Keys"`
	Source     classify.Source `json:"source,omitempty" doc:"Who said what it is"`
	Rung       policy.Rung     `json:"rung,omitempty"`
	Policy     string          `json:"policy,omitempty" doc:"That decided"`
	RuleID     *uuid.UUID      `json:"ruleId,omitempty" format:"uuid"`
	Exception  *uuid.UUID      `json:"exception,omitempty" format:"uuid" doc:"That decided; an exception or a grant"`
	List       string          `json:"list,omitempty" doc:"Whose entry made it so"`
	Entry      string          `json:"entry,omitempty" doc:"In the notation"`
	Notes      []uuid.UUID     `json:"notes,omitempty" doc:"The note rules that were met, by their ids"`
	Words      string          `json:"words,omitempty" doc:"That are searched for"`
	Referrer   string          `json:"referrer,omitempty" doc:"A host"`
	Agent      string          `json:"agent,omitempty" doc:"As the client calls itself"`
	Catalogue  int64           `json:"catalogue,omitempty"`
	Outcome    journal.Outcome `json:"outcome,omitempty" enum:"answered,cut,failed,open"`
	Status     int             `json:"status,omitempty"`
	Media      string          `json:"media,omitempty"`
	Size       int64           `json:"size,omitempty" doc:"Bytes"`
	Millis     int64           `json:"millis,omitempty" doc:"How long it took, in milliseconds"`
	Reference  string          `json:"reference,omitempty" doc:"That the client was shown"`
	Detail     string          `json:"detail,omitempty" doc:"Why it failed"`
}

// GateAuthority is an authority in whose name gates open TLS connections.
type GateAuthority struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Name        string    `json:"name" doc:"As certificate stores of clients show it"`
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of the certificate"`
	State       string    `json:"state" enum:"signs,next,past"`
	From        time.Time `json:"from" doc:"From then on it is the one that signs"`
	NotAfter    time.Time `json:"notAfter" doc:"Until then its certificate is good"`
	Certificate string    `json:"certificate" doc:"In PEM, to be handed out to clients"`
	MadeAt      time.Time `json:"madeAt"`
	MadeBy      string    `json:"madeBy"`
}

type authoritiesOutput struct {
	Body struct {
		Authorities []GateAuthority `json:"authorities" doc:"The one that signs last first"`
	}
}

type makeAuthorityInput struct {
	Body struct {
		Organisation string     `json:"organisation" minLength:"1" maxLength:"60" doc:"In whose name it signs"`
		From         *time.Time `json:"from,omitempty" doc:"When it takes over from the present one; left out, now. Clients must trust it by then"`
	}
}

type authorityOutput struct{ Body GateAuthority }

type gatesOutput struct {
	Body struct {
		Live  int64        `json:"live" doc:"The live revision"`
		Gates []GateReport `json:"gates"`
	}
}

type neverOpenInput struct {
	Body struct {
		Host string `json:"host" minLength:"1" maxLength:"260"`
	}
}

type neverOpenOutput struct {
	Body struct {
		List     Ref   `json:"list" doc:"That the host is in now"`
		Policies []Ref `json:"policies" doc:"That open connections, and leave those to the list closed"`
	}
}

type latestInput struct {
	Limit int `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type latestOutput struct {
	Body struct {
		Records []GateRecord `json:"records" doc:"The last one first"`
	}
}

func (s *server) registerGates(api huma.API) {
	huma.Register(api, operation("getGates", http.MethodGet, "/gates", "Gates", "The gates, and what they report of themselves"), s.getGates)
	huma.Register(api, operation("getAuthorities", http.MethodGet, "/gates/authorities", "Gates", "The authorities in whose name gates open TLS connections"), s.getAuthorities)
	huma.Register(api, operation("neverOpen", http.MethodPost, "/gates/never-opened", "Gates", "Have no policy of the draft open connections to a host, by a list of such hosts", 403, 422), s.neverOpen)
	huma.Register(api, operation("makeAuthority", http.MethodPost, "/gates/authorities", "Gates", "Make an authority, or a successor that signs from a later moment on; for owners", 403, 409, 422), s.makeAuthority)
	huma.Register(api, operation("setPersonPassword", http.MethodPut, "/people/{id}/password", "People", "Give a person a password for signing in at gates; it holds at once; for owners", 403, 404, 422, 429), s.setPersonPassword)
	huma.Register(api, operation("setPersonDNS", http.MethodPost, "/people/{id}/dns", "People", "Give a person an address of the DNS gate over HTTPS of their own, in place of one before; this answer alone has its token; for owners", 403, 404), s.setPersonDNS)
	huma.Register(api, operation("removePersonDNS", http.MethodDelete, "/people/{id}/dns", "People", "Take a person's address of the DNS gate away; for owners", 403, 404), s.removePersonDNS)
	huma.Register(api, operation("removePersonPassword", http.MethodDelete, "/people/{id}/password", "People", "Take a person's password for gates away; for owners", 403, 404), s.removePersonPassword)
	huma.Register(api, operation("getLatestRecords", http.MethodGet, "/gates/records", "Gates", "The requests that were recorded last"), s.latestRecords)
}

func (s *server) getGates(ctx context.Context, _ *struct{}) (*gatesOutput, error) {
	reports, now, err := s.Gates.GateReports(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	current, err := s.Versions.DraftVersion(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	live := current.Live.Number
	enrolled, err := s.Dispatch.Store.AllEnrolled(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	last, err := s.Dispatch.Store.SignedEdition(ctx, 0)
	if err != nil && !errors.Is(err, revision.ErrNotFound) {
		return nil, s.problem(ctx, err)
	}
	unheard := map[string]gate.Enrolled{}
	for _, g := range enrolled {
		unheard[g.Name] = g
	}
	out := &gatesOutput{}
	out.Body.Live, out.Body.Gates = live, []GateReport{}
	for _, r := range reports {
		g := GateReport{Name: r.Name, Kind: r.Kind, State: "up to date", SeenAt: r.SeenAt, Elsewhere: r.Elsewhere, GateNews: GateNews{
			Address: r.Address, Revision: r.Revision, Catalogue: r.Catalogue, BeganAt: r.BeganAt, Decided: r.Decided, Refused: r.Refused, Cut: r.Cut, Running: r.Running,
			Written: r.Written, Waiting: r.Waiting, Dropped: r.Dropped, Unrecorded: r.Unrecorded, Refusals: append([]gate.Refusal{}, r.Refusals...),
			Zones: r.Zones, Edition: r.Edition, Digest: r.Digest, ClockMillis: r.Clock.Milliseconds(), Trouble: r.Trouble,
		}}
		if !r.Since.IsZero() {
			g.Since = &r.Since
		}
		switch {
		case now.Sub(r.SeenAt) > gate.Silence:
			g.State = "silent"
		case r.Revision == 0:
			g.State = "without rules"
		case r.Revision != live || r.Catalogue != 0 && r.Catalogue != current.Catalogue || r.Elsewhere && r.Edition != 0 && r.Edition < last.Number: // as by what directories say
			g.State = "behind"
		case r.Clock.Abs() > gate.MostClock:
			g.State = "clock is wrong"
		}
		delete(unheard, r.Name)
		out.Body.Gates = append(out.Body.Gates, g)
	}
	for _, g := range enrolled {
		if _, ok := unheard[g.Name]; ok {
			out.Body.Gates = append(out.Body.Gates, GateReport{
				Name: g.Name, Kind: g.Kind, State: "enrolled", SeenAt: g.EnrolledAt, Elsewhere: true, GateNews: GateNews{BeganAt: g.EnrolledAt, Refusals: []gate.Refusal{}},
			})
		}
	}
	return out, nil
}

func (s *server) latestRecords(ctx context.Context, in *latestInput) (*latestOutput, error) {
	page, err := s.Archive.Page(ctx, time.Time{}, archive.FarAway, view(ctx).Bound(), nil, in.Limit, time.Minute)
	out := &latestOutput{}
	if err == nil {
		out.Body.Records, err = s.recordBodies(ctx, page.Records)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

// recordNames returns the names of what records name by ids.
func (s *server) recordNames(ctx context.Context, records []journal.Record) (map[uuid.UUID]string, error) {
	seen := map[uuid.UUID]bool{}
	for i := range records {
		r := &records[i]
		for _, id := range append([]uuid.UUID{r.Person, r.Machine, r.Network, r.Policy, r.List}, r.Groups...) {
			seen[id] = true
		}
	}
	delete(seen, uuid.Nil)
	return s.Objects.Names(ctx, slices.Collect(maps.Keys(seen)))
}

func recordBody(r *journal.Record, names map[uuid.UUID]string) GateRecord {
	one := GateRecord{
		At: r.At, Gate: r.Gate, GateName: r.GateName, Sight: r.Sight, Who: names[r.Person], Method: r.Method, URL: r.URL, Verdict: r.Verdict, By: r.By, Revision: r.Revision,
		Outcome: r.Outcome, Status: r.Status, Media: r.Media, Size: r.Size, Millis: r.Took.Milliseconds(), Detail: r.Detail, Reference: r.Reference,
		Provisos: r.Provisos, NotHeld: r.NotHeld, Traits: r.Traits,
		ID: idOrNil(r.ID), Amount: r.Amount, Machine: names[r.Machine], Network: names[r.Network], Categories: r.Categories, Source: r.Source, Rung: r.Rung,
		Policy: names[r.Policy], RuleID: idOrNil(r.Rule), Exception: idOrNil(r.Exception), List: names[r.List], Entry: r.Entry, Notes: r.Notes, Words: r.Words,
		Referrer: r.Referrer, Agent: r.Agent, Catalogue: r.Catalogue,
	}
	for _, g := range r.Groups {
		one.Groups = append(one.Groups, cmp.Or(names[g], g.String()))
	}
	if r.Address.IsValid() {
		one.Address = r.Address.String()
	}
	return one
}

// idOrNil returns an id for an answer; nil for the zero id.
func idOrNil(id uuid.UUID) *uuid.UUID {
	if id == uuid.Nil {
		return nil
	}
	return &id
}

// neverOpened is what the list of hosts is called to which connections are not opened.
const neverOpened = "Never opened"

func (s *server) neverOpen(ctx context.Context, in *neverOpenInput) (*neverOpenOutput, error) {
	entry, err := pattern.Parse(strings.TrimSpace(in.Body.Host))
	if err != nil || !entry.Pattern.IsNamed() {
		return nil, s.problem(ctx, &revision.FieldError{Field: "host", Msg: fmt.Sprintf("%q is not a host, as heron.example", in.Body.Host)})
	}
	entry = pattern.Entry{Pattern: entry.Pattern, Note: "refused the gate's certificate"}
	list, err := s.neverOpenedList(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if _, _, err := s.Store.MergeEntries(ctx, list, revision.NewBatch(entry), revision.Merging{}, 0, actor(ctx)); err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &neverOpenOutput{}
	out.Body.List, out.Body.Policies = Ref{ID: list, Name: neverOpened}, []Ref{}
	policies, err := s.Objects.Objects(ctx, revision.KindPolicy)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var changes []revision.ObjectChange
	for _, o := range policies {
		body, err := revision.Decode[revision.PolicyBody](o)
		if err != nil || body.Inspect == nil || !body.Inspect.All {
			continue
		}
		out.Body.Policies = append(out.Body.Policies, Ref{ID: o.ID, Name: o.Name})
		if !slices.ContainsFunc(body.Inspect.ButLists, func(r revision.Ref) bool { return r.ID == list }) {
			body.Inspect.ButLists = append(body.Inspect.ButLists, revision.Ref{ID: list})
			changes = append(changes, revision.ObjectChange{Kind: o.Kind, ID: o.ID, Name: o.Name, Version: o.Version, Body: &body})
		}
	}
	if len(changes) > 0 {
		if _, err := s.Objects.Change(ctx, changes, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	return out, nil
}

// neverOpenedList returns the list of hosts to which connections are not opened. It makes the list unless there is one.
func (s *server) neverOpenedList(ctx context.Context) (uuid.UUID, error) {
	if list, err := s.Store.ListByName(ctx, neverOpened); !errors.Is(err, revision.ErrNotFound) {
		return list.ID, err
	}
	about := "Hosts whose clients refuse the gates' certificates: connections to them are not opened."
	made, err := s.Store.AddList(ctx, revision.ListEdit{Name: new(neverOpened), Description: &about}, actor(ctx))
	return made.ID, err
}

func (s *server) getAuthorities(ctx context.Context, _ *struct{}) (*authoritiesOutput, error) {
	all, err := s.Gates.Authorities(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &authoritiesOutput{}
	out.Body.Authorities = []GateAuthority{}
	for i := range all {
		out.Body.Authorities = append(out.Body.Authorities, s.authorityBody(all, &all[i]))
	}
	return out, nil
}

func (s *server) authorityBody(all []gate.Authority, a *gate.Authority) GateAuthority {
	body := GateAuthority{
		ID: a.ID, Fingerprint: authority.Fingerprint(a.Certificate), State: "past", From: a.From, Certificate: string(authority.PEM(a.Certificate)), MadeAt: a.MadeAt, MadeBy: a.MadeBy,
	}
	if c, err := x509.ParseCertificate(a.Certificate); err == nil {
		body.Name, body.NotAfter = c.Subject.CommonName, c.NotAfter
	}
	now := s.Now()
	if current := gate.Current(all, now); current != nil && current.ID == a.ID {
		body.State = "signs"
	} else if a.From.After(now) {
		body.State = "next"
	}
	return body
}

func (s *server) makeAuthority(ctx context.Context, in *makeAuthorityInput) (*authorityOutput, error) {
	if s.Secret == nil {
		return nil, huma.Error409Conflict("The service has no secret to seal the authority's key with: start it with --secret-file.")
	}
	organisation, err := revision.CheckName("organisation", in.Body.Organisation)
	now, from := s.Now(), s.Now()
	if in.Body.From != nil {
		from = *in.Body.From
	}
	switch {
	case err != nil:
		return nil, s.problem(ctx, err)
	case from.Before(now.Add(-time.Minute)) || from.After(now.AddDate(1, 0, 0)):
		return nil, s.problem(ctx, &revision.FieldError{Field: "from", Msg: "an authority begins now, or within a year"})
	}
	certificate, key, err := authority.Make(organisation, now)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	a := gate.Authority{ID: uuid.New(), Certificate: certificate, From: from}
	a.SealedKey = s.Secret.Seal(a.Purpose(), key)
	if a, err = s.Gates.AddAuthority(ctx, a, actor(ctx)); err != nil {
		return nil, s.problem(ctx, err)
	}
	all, err := s.Gates.Authorities(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &authorityOutput{s.authorityBody(all, &a)}, nil
}

// personOf returns the person of the draft with an id.
func (s *server) personOf(ctx context.Context, id uuid.UUID) (account.Person, error) {
	o, err := s.Objects.Object(ctx, revision.KindPerson, id)
	return account.Person{ID: o.ID, Name: o.Name}, err
}

func (s *server) setPersonPassword(ctx context.Context, in *resetPasswordInput) (*struct{}, error) {
	p, err := s.personOf(ctx, in.ID)
	var hash string
	if err == nil {
		hash, err = s.Authenticator.Hash(ctx, p.Name, in.Body.Password)
	}
	if err == nil {
		err = s.Passwords.SetPersonPassword(ctx, p, hash, actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

type personDNSOutput struct {
	Body struct {
		Token string `json:"token" doc:"The end of the address: https://GATE/dns-query/TOKEN"`
	}
}

func (s *server) setPersonDNS(ctx context.Context, in *ByID) (*personDNSOutput, error) {
	out := &personDNSOutput{}
	out.Body.Token = account.NewDNSToken()
	p, err := s.personOf(ctx, in.ID)
	if err == nil {
		err = s.Passwords.SetPersonDNS(ctx, p, account.HashDNSToken(out.Body.Token), actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) removePersonDNS(ctx context.Context, in *ByID) (*struct{}, error) {
	p, err := s.personOf(ctx, in.ID)
	if err == nil {
		err = s.Passwords.SetPersonDNS(ctx, p, nil, actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) removePersonPassword(ctx context.Context, in *ByID) (*struct{}, error) {
	p, err := s.personOf(ctx, in.ID)
	if err == nil {
		err = s.Passwords.SetPersonPassword(ctx, p, "", actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

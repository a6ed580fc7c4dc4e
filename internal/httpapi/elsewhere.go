package httpapi

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
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
	"widelark/internal/dispatch"
	"widelark/internal/gate"
	"widelark/internal/journal"
	"widelark/internal/parcel"
	"widelark/internal/revision"
)

type gateKey struct{}

// gateCaller returns the gate elsewhere that a request is from. Precondition: the operation is one of gates.
func gateCaller(ctx context.Context) gate.Enrolled {
	g, ok := ctx.Value(gateKey{}).(gate.Enrolled)
	if !ok {
		panic("bug: a request that is not from a gate got past the check of its token")
	}
	return g
}

// admitGate passes on a request that a gate elsewhere has signed.
func (s *server) admitGate(api huma.API, ctx huma.Context, next func(huma.Context)) {
	g, err := s.Dispatch.Authenticate(ctx.Context(), strings.TrimPrefix(ctx.Header("Authorization"), "Bearer "))
	switch {
	case err == nil:
		next(huma.WithValue(ctx, gateKey{}, g))
	case errors.Is(err, gate.ErrRetired):
		_ = huma.WriteErr(api, ctx, http.StatusForbidden, "This gate was retired. Enrol it again with a new code.")
	case s.Alive(ctx.Context()) != nil:
		_ = huma.WriteErr(api, ctx, http.StatusServiceUnavailable, silentDatabase)
	default:
		if who, err := s.identify(ctx.Context(), ctx.Header("Authorization")); err == nil { // a person or a program
			status, detail := s.refusal(ctx.Context(), access.Begin(who.Actor(), who.Roles, access.Obey))
			_ = huma.WriteErr(api, ctx, status, detail)
			return
		}
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="Wide Lark"`)
		_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, "Only gates that were enrolled here may ask this.")
	}
}

type enrolmentInput struct {
	Body struct {
		Name string      `json:"name" minLength:"1" maxLength:"80" doc:"What the gate is called in lists and records"`
		Kind policy.Gate `json:"kind,omitempty" enum:"proxy,dns,icap" doc:"Left out: proxy"`
	}
}

type enrolmentOutput struct {
	Body struct {
		Name  string      `json:"name"`
		Kind  policy.Gate `json:"kind" enum:"dns,proxy,icap"`
		Code  string      `json:"code" doc:"Shown this once: the gate enrols with it, once"`
		Until time.Time   `json:"until" doc:"Until then the code is good"`
	}
}

type byGateName struct {
	Name string `query:"name" required:"true" maxLength:"80"`
}

type enrolInput struct {
	Body struct {
		Code    string `json:"code" maxLength:"80"`
		Key     []byte `json:"key" doc:"Ed25519 public key with which the gate signs its requests, in base64"`
		SealKey []byte `json:"sealKey" doc:"X25519 public key for which secrets are sealed, in base64"`
	}
}

type enrolOutput struct {
	Body struct {
		ID         uuid.UUID   `json:"id" format:"uuid"`
		Name       string      `json:"name"`
		Kind       policy.Gate `json:"kind" enum:"dns,proxy,icap"`
		ServiceKey []byte      `json:"serviceKey" doc:"Ed25519 public key that signs what the gate runs, in base64; the code holds its fingerprint"`
	}
}

type streamInput struct {
	Nonce string `query:"nonce" required:"true" minLength:"16" maxLength:"64" doc:"Bytes of the gate's own, in base64 for URLs (RFC 4648, section 5): what comes is signed with them"`
}

type editionInput struct {
	Number int64 `path:"number" minimum:"1"`
}

type editionOutput struct {
	Body struct {
		Number    int64  `json:"number"`
		Manifest  []byte `json:"manifest" doc:"JSON, in base64"`
		Signature []byte `json:"signature" doc:"Ed25519, in base64"`
	}
}

type partsInput struct {
	Body struct {
		Digests []string `json:"digests" minItems:"1" maxItems:"256" doc:"SHA-256, in hexadecimal"`
	}
}

type recordsInput struct {
	ID      uuid.UUID `path:"id" format:"uuid" doc:"Of the batch: one that was taken already is not added again"`
	RawBody []byte    `contentType:"application/zstd"`
}

type recordsOutput struct {
	Body struct {
		Taken  int `json:"taken"`
		Unread int `json:"unread" doc:"Records that could not be read, and are lost"`
	}
}

type reportInput struct{ Body GateNews }

type usedInput struct {
	Body struct {
		Used []UsedMinutes `json:"used" maxItems:"100000"`
	}
}

// UsedMinutes are minutes in which somebody used what a rule with a quota allows.
type UsedMinutes struct {
	Rule    uuid.UUID  `json:"rule" format:"uuid"`
	Person  *uuid.UUID `json:"person,omitempty" format:"uuid"`
	Address string     `json:"address,omitempty" maxLength:"60" doc:"Where the person is not known"`
	Minutes []int64    `json:"minutes" maxItems:"10000" doc:"Since 1970 began"`
}

type gateSignInInput struct {
	Body struct {
		Name     string `json:"name" maxLength:"200"`
		Password string `json:"password" maxLength:"1000"`
		Address  string `json:"address,omitempty" maxLength:"60" doc:"Where the person is"`
	}
}

type gateSignInOutput struct {
	Body struct {
		Person *uuid.UUID `json:"person,omitempty" format:"uuid" doc:"Left out: name and password do not belong together"`
	}
}

// AtGate is a request as a gate elsewhere saw it.
type AtGate struct {
	Person    *uuid.UUID     `json:"person,omitempty" format:"uuid"`
	Address   string         `json:"address,omitempty" maxLength:"60"`
	URL       string         `json:"url" maxLength:"8000"`
	Sight     weburl.Sight   `json:"sight" enum:"name,tunnel,full"`
	Verdict   policy.Verdict `json:"verdict,omitempty" enum:"allow,watch,hold,block"`
	By        string         `json:"by,omitempty" maxLength:"1000"`
	Reference string         `json:"reference" maxLength:"40"`
}

func (b *AtGate) request() (r gate.Request, err error) {
	if r.URL, err = weburl.Parse(b.URL); err != nil {
		return r, &revision.FieldError{Field: "url", Msg: err.Error()}
	}
	if b.Address != "" {
		if r.Address, err = netip.ParseAddr(b.Address); err != nil {
			return r, &revision.FieldError{Field: "address", Msg: err.Error()}
		}
	}
	if b.Person != nil {
		r.Person = *b.Person
	}
	r.Sight = b.Sight
	return r, nil
}

type arriveInput struct {
	Body struct {
		Person  uuid.UUID `json:"person" format:"uuid"`
		Address string    `json:"address" maxLength:"60"`
	}
}

type leaveInput struct {
	Address string `query:"address" required:"true" maxLength:"60"`
}

type gatePassageInput struct {
	Body struct {
		AtGate
		Rule    uuid.UUID `json:"rule" format:"uuid"`
		Entry   string    `json:"entry" maxLength:"8000" doc:"The narrowest for the URL, in the notation"`
		Seconds int64     `json:"seconds" minimum:"0" maximum:"86400" doc:"How long it opens; a code says so itself"`
		Code    string    `json:"code,omitempty" maxLength:"100" doc:"Left out: the hold is acknowledged"`
	}
}

type gatePassageOutput struct {
	Body struct {
		Until time.Time `json:"until"`
	}
}

type gatePleaInput struct {
	Body struct {
		AtGate
		Reason string `json:"reason" maxLength:"2000"`
	}
}

type askedInput struct {
	Reference string `path:"reference" maxLength:"40"`
}

type askedOutput struct {
	Body struct {
		Found  bool   `json:"found"`
		State  string `json:"state"`
		Answer string `json:"answer"`
	}
}

func (s *server) registerElsewhere(api huma.API) {
	huma.Register(api, operation("enrolGate", http.MethodPost, "/gates/enrolments", "Gates", "Make a code with which one gate elsewhere enrols, once; for owners", 403, 409, 422), s.offer)
	huma.Register(api, operation("retireGate", http.MethodDelete, "/gates", "Gates", "Retire a gate elsewhere: the service refuses it from now on; for owners", 403, 404), s.retire)

	const tag = "For gates elsewhere"
	huma.Register(api, operation("enrol", http.MethodPost, "/gate/enrolment", tag, "Enrol with a code", 403, 409, 422), s.enrol)
	stream := operation("followGate", http.MethodGet, "/gate/stream", tag, "What changes, as lines of JSON, each signed", 403)
	stream.Metadata = anyLength
	stream.Responses = map[string]*huma.Response{"200": {Description: "Messages", Content: map[string]*huma.MediaType{"application/jsonl": {}}}}
	huma.Register(api, stream, s.follow)
	huma.Register(api, operation("getEdition", http.MethodGet, "/gate/editions/{number}", tag, "The manifest of an edition", 403, 404), s.edition)
	fetch := operation("fetchParts", http.MethodPost, "/gate/parts", tag, "Parts of editions: for each that is there, its digest, its length as an unsigned varint, and its bytes, compressed (RFC 8878)", 403, 422)
	fetch.Metadata = anyLength
	fetch.Responses = map[string]*huma.Response{"200": {Description: "Parts", Content: map[string]*huma.MediaType{"application/octet-stream": {}}}}
	huma.Register(api, fetch, s.fetchParts)
	records := operation("handInRecords", http.MethodPut, "/gate/records/{id}", tag, "Hand in a batch of records", 403, 422)
	records.MaxBodyBytes = 64 << 20
	huma.Register(api, records, s.handInRecords)
	huma.Register(api, operation("reportGate", http.MethodPut, "/gate/report", tag, "Report", 403, 422), s.report)
	huma.Register(api, operation("handInMinutes", http.MethodPost, "/gate/minutes", tag, "Hand in minutes that count for quotas", 403, 422), s.handInMinutes)
	huma.Register(api, operation("whoseAtGate", http.MethodPost, "/gate/whose", tag, "Say who is known at the DNS gate by a token", 403, 422), s.whoseAtGate)
	huma.Register(api, operation("signInAtGate", http.MethodPost, "/gate/sign-ins", tag, "Check who signs in at the gate", 403, 422, 429), s.signInAtGate)
	huma.Register(api, operation("arriveAtGate", http.MethodPost, "/gate/presences", tag, "Say that a person who has signed in on the gate's page is at an address", 403, 422), s.arriveAtGate)
	huma.Register(api, operation("leaveAtGate", http.MethodDelete, "/gate/presences", tag, "Say that nobody is at an address any more", 403, 422), s.leaveAtGate)
	huma.Register(api, operation("passAtGate", http.MethodPost, "/gate/passages", tag, "Let somebody past a hold, who acknowledges it or enters a code", 403, 404, 422, 429), s.passAtGate)
	huma.Register(api, operation("askAtGate", http.MethodPost, "/gate/requests", tag, "Hand in a request for access", 403, 422), s.askAtGate)
	huma.Register(api, operation("askedAtGate", http.MethodGet, "/gate/requests/{reference}", tag, "What became of a request for access", 403), s.askedAtGate)
}

func (s *server) offer(ctx context.Context, in *enrolmentInput) (*enrolmentOutput, error) {
	kind := in.Body.Kind
	if kind == "" {
		kind = policy.Proxy
	}
	code, e, err := s.Dispatch.Offer(ctx, in.Body.Name, kind, actor(ctx))
	switch {
	case errors.Is(err, dispatch.ErrNoSecret):
		return nil, huma.Error409Conflict("The service has no secret to seal its signing key with: start it with --secret-file.")
	case errors.Is(err, gate.ErrTaken):
		return nil, huma.Error409Conflict("There is a gate with this name. Choose another, or retire that one first.")
	case err != nil:
		return nil, s.problem(ctx, err)
	}
	out := &enrolmentOutput{}
	out.Body.Name, out.Body.Kind, out.Body.Code, out.Body.Until = e.Name, e.Kind, code, e.Until
	return out, nil
}

func (s *server) retire(ctx context.Context, in *byGateName) (*struct{}, error) {
	err := s.Dispatch.Store.Retire(ctx, in.Name, actor(ctx))
	if errors.Is(err, revision.ErrNotFound) {
		return nil, huma.Error404NotFound("No gate elsewhere has this name. One that runs in the service goes with its setting --gates.")
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) enrol(ctx context.Context, in *enrolInput) (*enrolOutput, error) {
	g, key, err := s.Dispatch.Enrol(ctx, in.Body.Code, in.Body.Key, in.Body.SealKey)
	switch {
	case errors.Is(err, gate.ErrEnrolment):
		return nil, huma.Error403Forbidden("The code enrols no gate: it was used, it is too old, or it was mistyped. Make a new one with `widelark gate enrol`.")
	case errors.Is(err, dispatch.ErrNoSecret):
		return nil, huma.Error409Conflict("The service has no secret to seal its signing key with: start it with --secret-file.")
	case err != nil:
		return nil, s.problem(ctx, err)
	}
	out := &enrolOutput{}
	out.Body.ID, out.Body.Name, out.Body.Kind, out.Body.ServiceKey = g.ID, g.Name, g.Kind, key
	return out, nil
}

func (s *server) follow(ctx context.Context, in *streamInput) (*huma.StreamResponse, error) {
	nonce, err := base64.RawURLEncoding.DecodeString(in.Nonce)
	if err != nil {
		return nil, s.problem(ctx, &revision.FieldError{Field: "nonce", Msg: "it is not base64 for URLs"})
	}
	g := gateCaller(ctx)
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "application/jsonl")
		ctx.SetHeader("Cache-Control", "no-store")
		w := ctx.BodyWriter()
		flush := http.NewResponseController(w.(http.ResponseWriter))
		err := s.Dispatch.Stream(ctx.Context(), g, nonce, func(line []byte) error {
			if _, err := w.Write(line); err != nil {
				return err
			}
			return flush.Flush()
		})
		if err != nil && ctx.Context().Err() == nil {
			s.Log.WarnContext(ctx.Context(), "a gate elsewhere is no longer told what changes; it comes back", "gate", g.Name, "error", err)
		}
	}}, nil
}

func (s *server) edition(ctx context.Context, in *editionInput) (*editionOutput, error) {
	e, err := s.Dispatch.Store.SignedEdition(ctx, in.Number)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &editionOutput{}
	out.Body.Number, out.Body.Manifest, out.Body.Signature = e.Number, e.Manifest, e.Signature
	return out, nil
}

func (s *server) fetchParts(ctx context.Context, in *partsInput) (*huma.StreamResponse, error) {
	wanted := make([]parcel.Digest, len(in.Body.Digests))
	for i, text := range in.Body.Digests {
		if err := wanted[i].UnmarshalText([]byte(text)); err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("digests[%d]", i), Msg: err.Error()})
		}
	}
	found, err := s.Dispatch.Store.Parts(ctx, wanted)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "application/octet-stream")
		w := ctx.BodyWriter()
		for _, d := range wanted {
			packed, ok := found[d]
			if !ok {
				continue
			}
			if _, err := w.Write(binary.AppendUvarint(d[:], uint64(len(packed)))); err != nil {
				return // the gate is gone
			}
			if _, err := w.Write(packed); err != nil {
				return
			}
		}
	}}, nil
}

func (s *server) handInRecords(ctx context.Context, in *recordsInput) (*recordsOutput, error) {
	g := gateCaller(ctx)
	records, unread, err := journal.ReadLines(bytes.NewReader(in.RawBody))
	if err != nil && len(records) == 0 {
		return nil, huma.Error422UnprocessableEntity("The records cannot be read: " + err.Error() + ".")
	}
	before := len(records)
	records = slices.DeleteFunc(records, func(r journal.Record) bool { // the database has no place for another amount
		return r.Amount != "" && r.Amount != policy.Everything && r.Amount != policy.GroupOnly
	})
	unread += before - len(records)
	if err != nil || unread > 0 {
		s.Log.WarnContext(ctx, "records of a gate elsewhere cannot be read; the others are added", "gate", g.Name, "unread", unread, "error", err)
	}
	for i := range records {
		records[i].GateName, records[i].Gate = g.Name, g.Kind // whatever they say
	}
	refused, err := s.Batches.AddBatch(ctx, in.ID, records)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if refused > 0 {
		s.Log.WarnContext(ctx, "records of a gate elsewhere were refused by the database; the others are added", "gate", g.Name, "refused", refused)
	}
	out := &recordsOutput{}
	out.Body.Taken, out.Body.Unread = len(records)-refused, unread+refused
	return out, nil
}

func (s *server) report(ctx context.Context, in *reportInput) (*struct{}, error) {
	b, g := in.Body, gateCaller(ctx)
	r := gate.Report{
		Name: g.Name, Kind: g.Kind, Address: b.Address, Revision: b.Revision, BeganAt: b.BeganAt,
		Counts:  gate.Counts{Decided: b.Decided, Refused: b.Refused, Cut: b.Cut, Running: b.Running, Unrecorded: b.Unrecorded},
		Written: b.Written, Waiting: b.Waiting, Dropped: b.Dropped, Refusals: b.Refusals, Zones: b.Zones, Catalogue: b.Catalogue,
		Elsewhere: true, Edition: b.Edition, Digest: b.Digest, Clock: time.Duration(b.ClockMillis) * time.Millisecond, Trouble: b.Trouble,
	}
	if b.Since != nil {
		r.Since = *b.Since
	}
	if err := s.Desk.Report(ctx, r); err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) handInMinutes(ctx context.Context, in *usedInput) (*struct{}, error) {
	used := map[gate.Spender][]int64{}
	for i, u := range in.Body.Used {
		of := gate.Spender{Rule: u.Rule}
		if u.Person != nil {
			of.Person = *u.Person
		} else {
			at, err := netip.ParseAddr(u.Address)
			if err != nil {
				return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("used[%d].address", i), Msg: err.Error()})
			}
			of.Address = at
		}
		used[of] = append(used[of], u.Minutes...)
	}
	if err := s.Desk.AddUsed(ctx, used); err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

type whoseInput struct {
	Body struct {
		Token string `json:"token" minLength:"1" maxLength:"200"`
	}
}

func (s *server) whoseAtGate(ctx context.Context, in *whoseInput) (*gateSignInOutput, error) {
	person, ok, err := s.Desk.Whose(ctx, in.Body.Token)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &gateSignInOutput{}
	if ok {
		out.Body.Person = &person
	}
	return out, nil
}

func (s *server) signInAtGate(ctx context.Context, in *gateSignInInput) (*gateSignInOutput, error) {
	person, ok, err := s.Desk.SignIn(ctx, in.Body.Name, in.Body.Password, in.Body.Address)
	if errors.Is(err, gate.ErrTries) {
		return nil, huma.Error429TooManyRequests("Too many sign-ins failed. Try again in a while.")
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &gateSignInOutput{}
	if ok {
		out.Body.Person = &person
	}
	return out, nil
}

func (s *server) arriveAtGate(ctx context.Context, in *arriveInput) (*gatePassageOutput, error) {
	at, err := readAddress(in.Body.Address)
	out := &gatePassageOutput{}
	if err == nil {
		out.Body.Until, err = s.Desk.Arrive(ctx, in.Body.Person, at)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) leaveAtGate(ctx context.Context, in *leaveInput) (*struct{}, error) {
	at, err := readAddress(in.Address)
	if err == nil {
		err = s.Desk.Leave(ctx, at)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) passAtGate(ctx context.Context, in *gatePassageInput) (*gatePassageOutput, error) {
	r, err := in.Body.request()
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	entry, err := pattern.Parse(in.Body.Entry)
	if err != nil || !entry.Pattern.IsValid() {
		return nil, s.problem(ctx, &revision.FieldError{Field: "entry", Msg: "it is not an entry"})
	}
	past := gate.Past{Request: r, Holding: gate.Holding{Rule: in.Body.Rule, For: time.Duration(in.Body.Seconds) * time.Second, Entry: entry}, Reference: in.Body.Reference}
	out := &gatePassageOutput{}
	if in.Body.Code == "" {
		out.Body.Until, err = s.Desk.Acknowledge(ctx, past)
	} else {
		out.Body.Until, err = s.Desk.Unlock(ctx, past, in.Body.Code)
	}
	switch {
	case errors.Is(err, gate.ErrNoCode):
		return nil, huma.Error404NotFound("The code does not open this page.")
	case errors.Is(err, gate.ErrTooMany):
		return nil, huma.Error429TooManyRequests("Too many wrong codes.")
	case err != nil:
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) askAtGate(ctx context.Context, in *gatePleaInput) (*struct{}, error) {
	r, err := in.Body.request()
	if err == nil {
		err = s.Desk.Ask(ctx, gate.Plea{Request: r, Verdict: in.Body.Verdict, By: in.Body.By, Reason: in.Body.Reason, Reference: in.Body.Reference})
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) askedAtGate(ctx context.Context, in *askedInput) (*askedOutput, error) {
	out := &askedOutput{}
	var err error
	if out.Body.State, out.Body.Answer, out.Body.Found, err = s.Desk.Asked(ctx, in.Reference); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

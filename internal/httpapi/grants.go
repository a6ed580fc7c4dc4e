package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// Grant allows some URLs for some people from now on, without being published.
type Grant struct {
	ID uuid.UUID `json:"id" format:"uuid"`
	standing.GrantBody
	MadeAt  time.Time  `json:"madeAt"`
	MadeBy  string     `json:"madeBy"`
	EndedAt *time.Time `json:"endedAt,omitempty" doc:"Before its time; left out where nobody ended it"`
	EndedBy string     `json:"endedBy,omitempty"`
	Kept    *uuid.UUID `json:"kept,omitempty" format:"uuid" doc:"The exception of the draft that was made of it"`
	State   string     `json:"state" enum:"in force,over" doc:"Now"`
	Yours   bool       `json:"yours" doc:"The caller may end it"`
}

type grantOutput struct{ Body Grant }

type grantsOutput struct {
	Body struct {
		Grants []Grant `json:"grants" doc:"The one made last first"`
	}
}

type grantsInput struct {
	Over bool `query:"over" doc:"Those of the last 90 days that are over, too"`
}

type newGrantInput struct {
	Body struct {
		URL     string          `json:"url,omitempty" maxLength:"8000" doc:"What whoever asks is to reach: the grant is the narrowest that lets them, through all gates. In place of entries and for"`
		Who     *edition.Who    `json:"who,omitempty" doc:"With url: who asks"`
		Entries []pattern.Entry `json:"entries,omitempty" maxItems:"20" doc:"What is allowed, in the notation; no carve-outs"`

		For         *revision.WhomBody `json:"for,omitempty" doc:"With entries: for whom"`
		Reason      string             `json:"reason" minLength:"1" maxLength:"2000"`
		RequestedBy string             `json:"requestedBy,omitempty" maxLength:"200"`
		Until       *time.Time         `json:"until,omitempty" doc:"The moment itself is outside; within 90 days. In place of minutes"`
		Minutes     int                `json:"minutes,omitempty" minimum:"0" maximum:"129600" doc:"How long from now on. In place of until"`
	}
}

type keepGrantInput struct {
	ByID
	Body struct {
		Name string `json:"name,omitempty" maxLength:"80" doc:"Of the exception; left out, it is made from the first entry"`
	}
}

type keptGrantOutput struct{ Body Exception }

func (s *server) registerGrants(api huma.API) {
	huma.Register(api, operation("getGrants", http.MethodGet, "/grants", "Grants", "Grants that are in force"), s.grants)
	add := operation("addGrant", http.MethodPost, "/grants", "Grants", "Allow something at once and for some time, without publishing", 409, 422)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, s.addGrant)
	huma.Register(api, operation("endGrant", http.MethodDelete, "/grants/{id}", "Grants", "End a grant now; it stays on record", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if _, err := s.Standing.EndGrant(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	keep := operation("keepGrant", http.MethodPost, "/grants/{id}/keep", "Grants", "Make an exception of the draft of a grant", 404, 422)
	keep.DefaultStatus = http.StatusCreated
	huma.Register(api, keep, s.keepGrant)
}

// inForce returns a state as gates use it: with facts beside it.
func (s *server) inForce(ctx context.Context, field, on string) (*edition.State, error) {
	state, err := s.Editions.On(ctx, field, on)
	if err != nil {
		return nil, err
	}
	facts, err := s.Facts.Facts(ctx)
	if err != nil {
		return nil, err
	}
	return state.With(facts), nil
}

func (s *server) grants(ctx context.Context, in *grantsInput) (*grantsOutput, error) {
	since := s.Now()
	if in.Over {
		since = since.Add(-standing.Longest)
	}
	found, err := s.Standing.Grants(ctx, since)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &grantsOutput{}
	if out.Body.Grants, err = s.grantBodies(ctx, found); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

// grantBodies turns grants into answers, with the names of what they refer to.
func (s *server) grantBodies(ctx context.Context, found []standing.Grant) ([]Grant, error) {
	may, err := s.bounds(ctx, access.Grant)
	if err != nil {
		return nil, err
	}
	bodies := make([]Grant, len(found))
	var refs []*Ref
	for i, g := range found {
		bodies[i] = Grant{g.ID, g.GrantBody, g.MadeAt, g.MadeBy, g.EndedAt, g.EndedBy, g.Kept, "in force", may.hasAll(&g.For)}
		if !s.Now().Before(g.End()) {
			bodies[i].State = "over"
		}
		g.Exception().Refs(func(_ string, _ revision.Kind, ref *Ref) { refs = append(refs, ref) })
	}
	names, err := s.Objects.Names(ctx, idsOf(refs))
	if err != nil {
		return nil, err
	}
	for _, ref := range refs { // they are shared with the bodies
		ref.Name = names[ref.ID]
	}
	return bodies, nil
}

func (s *server) grantAnswer(ctx context.Context, g standing.Grant) (*grantOutput, error) {
	bodies, err := s.grantBodies(ctx, []standing.Grant{g})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &grantOutput{bodies[0]}, nil
}

func (s *server) addGrant(ctx context.Context, in *newGrantInput) (*grantOutput, error) {
	b := in.Body
	body := standing.GrantBody{Entries: b.Entries, Reason: b.Reason, RequestedBy: b.RequestedBy}
	switch {
	case (b.Until == nil) == (b.Minutes == 0):
		return nil, s.problem(ctx, &revision.FieldError{Field: "until", Msg: "say when the grant ends: until a moment, or after so many minutes"})
	case b.Until != nil:
		body.Until = *b.Until
	default:
		body.Until = s.Now().Add(time.Duration(b.Minutes) * time.Minute)
	}
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	switch {
	case b.URL != "" && (len(b.Entries) > 0 || b.For != nil), b.URL == "" && b.Who != nil:
		err = &revision.FieldError{Field: "url", Msg: "name a url and who asks, or entries and for whom, not both"}
	case b.URL != "":
		body.Entries, body.For, err = narrowestGrant(live, b.URL, b.Who)
	case b.For == nil:
		err = &revision.FieldError{Field: "for", Msg: "say for whom it is: everybody, persons, groups, networks or addresses"}
	default:
		body.For = *b.For
	}
	if err == nil {
		err = body.Check(s.Now())
	}
	if err == nil {
		err = holdsForSomebody(live, &body)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	made, err := s.Standing.AddGrant(ctx, body, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return s.grantAnswer(ctx, made)
}

// narrowestGrant returns the narrowest entry that lets an asker reach a URL through all gates on the way, and its audience. If there is none,
// or none is needed, the error is a conflict that says why.
func narrowestGrant(live *edition.State, url string, who *edition.Who) ([]pattern.Entry, revision.WhomBody, error) {
	u, err := weburl.Parse(url)
	if err != nil {
		return nil, revision.WhomBody{}, &revision.FieldError{Field: "url", Msg: err.Error()}
	}
	if who == nil {
		return nil, revision.WhomBody{}, &revision.FieldError{Field: "who", Msg: "say who asks"}
	}
	asker, err := live.Find("who", *who)
	if err != nil {
		return nil, revision.WhomBody{}, err
	}
	asker = live.Present(asker, live.Now())
	if asker == (edition.Asker{}) { // a grant for somebody of whom nothing is known would be one for everybody
		return nil, revision.WhomBody{}, &revision.FieldError{Field: "who", Msg: "say who asks: a person, a group or an address"}
	}
	var w policy.Work
	r := asker.Request()
	r.URL = u
	journey := live.Snapshot.Travel(&w, &r, live.Now())
	if journey.Verdict.Passes() {
		return nil, revision.WhomBody{}, huma.Error409Conflict(fmt.Sprintf("%s gets %s for %s already. Nothing was changed.", capital(asker.Name()), journey.Verdict, u))
	}
	for _, f := range live.Snapshot.TravelFlips(&w, &r, live.Now()) {
		if f.Kind == policy.AddException {
			return []pattern.Entry{{Pattern: f.Pattern}}, whomBody(f.Whom), nil
		}
	}
	because := "no grant changes that"
	if len(journey.Stops) > 0 {
		because = strings.TrimSuffix(journey.Decisive().Explanation.Because, ".")
	}
	return nil, revision.WhomBody{}, huma.Error409Conflict(fmt.Sprintf("No grant lets %s reach %s: %s. Nothing was changed.", asker.Name(), u, because))
}

// holdsForSomebody refuses a grant for people, groups and networks that the live revision does not have: it would apply to nobody.
func holdsForSomebody(live *edition.State, body *standing.GrantBody) (err error) {
	d := live.Snapshot.Config().Directory
	body.Exception().Refs(func(field string, kind revision.Kind, ref *Ref) {
		there := map[revision.Kind]func(string) int32{revision.KindPerson: d.Person, revision.KindGroup: d.Group, revision.KindNetwork: d.Network}[kind]
		if there(ref.ID.String()) < 0 && err == nil {
			err = &revision.FieldError{Field: field, Msg: fmt.Sprintf("what is live has no such %s: publish it first", kind)}
		}
	})
	return err
}

func (s *server) keepGrant(ctx context.Context, in *keepGrantInput) (*keptGrantOutput, error) {
	g, err := s.Standing.Grant(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if !s.Now().Before(g.End()) {
		return nil, s.problem(ctx, &revision.FieldError{Msg: "the grant is over, and an exception that ends when it did would allow nothing: make a new exception"})
	}
	name := in.Body.Name
	if name == "" {
		name, err = s.exceptionName(ctx, g.Exception())
	} else {
		name, err = revision.CheckName("name", name)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	id, err := s.Standing.KeepGrant(ctx, in.ID, name, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	o, err := s.Objects.Object(ctx, revision.KindException, id)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := answersOf(ctx, s, s.exceptionKind(), []revision.Object{o})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &keptGrantOutput{bodies[0]}, nil
}

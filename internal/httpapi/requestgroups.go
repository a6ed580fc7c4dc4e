package httpapi

import (
	"cmp"
	"context"
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
	"widelark/internal/edition"
	"widelark/internal/journal/tally"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// RequestGroup is open requests for pages of one site.
type RequestGroup struct {
	Site     string          `json:"site" doc:"That somebody registered"`
	URLs     []string        `json:"urls" doc:"The pages, each once"`
	By       []string        `json:"by" doc:"What decided, each once"`
	Requests []AccessRequest `json:"requests" doc:"The one made first first"`
	Shared   []Ref           `json:"shared" doc:"Groups that all of the askers belong to, the smallest first; none where somebody is not known"`
}

type requestGroupsOutput struct {
	Body struct {
		Groups []RequestGroup `json:"groups" doc:"The one in which somebody waits longest first"`
		More   bool           `json:"more,omitempty" doc:"There are more than the 500 that were made last, which are shown: answer some of these first"`
	}
}

// Suggestion is something that would help whoever asked.
type Suggestion struct {
	Kind    string          `json:"kind" enum:"grant,grant group,stint,change,owner,open" doc:"grant: the narrowest one. grant group: one for a group of all who asked. stint: end it for the asker. change: of the draft. owner: the baseline decides. open: the page is open by now"`
	Text    string          `json:"text" doc:"In a sentence"`
	Entries []pattern.Entry `json:"entries,omitempty" doc:"grant, grant group: what it opens"`
	Group   *Ref            `json:"group,omitempty" doc:"grant group: which"`
	Stint   *uuid.UUID      `json:"stint,omitempty" format:"uuid" doc:"stint: which"`
	Flip    *Flip           `json:"flip,omitempty" doc:"change: with what is needed to make it"`
}

// Affected is how many others the same refusal meets.
type Affected struct {
	Requests int64 `json:"requests" doc:"To the site, refused in the last week"`
	People   int   `json:"people" doc:"By so many people and addresses"`
	Waiting  int   `json:"waiting" doc:"Open requests for the site, this one among them"`
}

type adviceOutput struct {
	Body struct {
		Request     AccessRequest  `json:"request"`
		Verdict     policy.Verdict `json:"verdict" enum:"allow,watch,hold,block" doc:"Now"`
		Because     string         `json:"because"`
		Rung        policy.Rung    `json:"rung,omitempty" enum:"baseline,unlocked,exception,stint,policy,fallback"`
		Categories  []CategoryRef  `json:"categories" doc:"Of the page; none where it is unrated"`
		Affected    Affected       `json:"affected"`
		Suggestions []Suggestion   `json:"suggestions" doc:"The narrowest first"`
	}
}

type requestTimesInput struct {
	Days int `query:"days" minimum:"1" maximum:"366" default:"30"`
}

type requestTimesOutput struct {
	Body struct {
		Open    int        `json:"open" doc:"Now"`
		Oldest  *time.Time `json:"oldest,omitempty" doc:"Since when the one waits that waits longest"`
		Granted int        `json:"granted" doc:"Of those made in these days"`
		Refused int        `json:"refused"`
		Half    float64    `json:"half" doc:"Minutes in which half of the answers came; 0 without any"`
		Nine    float64    `json:"nine" doc:"Minutes in which nine of ten came"`
	}
}

type grantRequestsInput struct {
	Body struct {
		Requests []uuid.UUID `json:"requests" minItems:"1" maxItems:"200"`
		Group    *uuid.UUID  `json:"group,omitempty" format:"uuid" doc:"One grant for this group, to which all askers belong; left out, the narrowest one for each of them"`
		Until    *time.Time  `json:"until,omitempty" doc:"Within 90 days; in place of minutes"`
		Minutes  int         `json:"minutes,omitempty" minimum:"0" maximum:"129600" doc:"In place of until"`
		Answer   string      `json:"answer,omitempty" maxLength:"1000" doc:"That the askers read; left out, until when it is allowed"`
	}
}

type refuseRequestsInput struct {
	Body struct {
		Requests []uuid.UUID `json:"requests" minItems:"1" maxItems:"200"`
		Answer   string      `json:"answer" minLength:"1" maxLength:"1000" doc:"That the askers read"`
	}
}

// AnsweredRequest is what became of one request of several.
type AnsweredRequest struct {
	ID      uuid.UUID      `json:"id" format:"uuid"`
	Request *AccessRequest `json:"request,omitempty" doc:"As it is now; left out where it was not answered"`
	Problem string         `json:"problem,omitempty" doc:"Why it was not answered"`
}

type answeredOutput struct {
	Body struct {
		Answered []AnsweredRequest `json:"answered" doc:"In the order of the requests"`
	}
}

func (s *server) registerRequestGroups(api huma.API) {
	huma.Register(api, operation("getRequestGroups", http.MethodGet, "/requests/groups", "Requests", "Open requests, those for one site together"), s.requestGroups)
	huma.Register(api, operation("getRequestAdvice", http.MethodGet, "/requests/{id}/advice", "Requests", "What a request is about: what decides, what the page is, whom it meets besides, and what would help", 404), s.requestAdvice)
	huma.Register(api, operation("getRequestTimes", http.MethodGet, "/requests/times", "Requests", "How long requests wait for an answer; of everybody's"), s.requestTimes)
	huma.Register(api, operation("grantRequests", http.MethodPost, "/requests/grant", "Requests", "Answer several requests with grants, which hold at once; one that fails stops no other", 404, 422), s.grantRequests)
	huma.Register(api, operation("refuseRequests", http.MethodPost, "/requests/refuse", "Requests", "Answer several requests with a refusal; one that fails stops no other", 404, 422), s.refuseRequests)
}

// siteOf returns the site of a URL as people wrote it down.
func siteOf(url string) string {
	u, err := weburl.Parse(url)
	if err != nil {
		return url
	}
	return cmp.Or(u.Site(), u.Host())
}

// most open requests that are put into groups.
const mostGrouped = 500

func (s *server) requestGroups(ctx context.Context, _ *struct{}) (*requestGroupsOutput, error) {
	found, err := s.atDesk(ctx, true, mostGrouped)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	times, err := s.Requests.RequestTimes(ctx, s.Now())
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	slices.SortStableFunc(found, func(a, b standing.Request) int { return a.MadeAt.Compare(b.MadeAt) })
	bodies, err := s.requestBodies(ctx, found)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	counts := belonging(live.Snapshot.Config().Directory)
	out := &requestGroupsOutput{}
	out.Body.Groups, out.Body.More = []RequestGroup{}, times.Open > mostGrouped
	at := map[string]int{}
	of := [][]standing.Request{}
	for i, r := range found {
		site := siteOf(r.URL)
		n, ok := at[site]
		if !ok {
			n = len(out.Body.Groups)
			at[site] = n
			out.Body.Groups, of = append(out.Body.Groups, RequestGroup{Site: site, URLs: []string{}, By: []string{}}), append(of, nil)
		}
		g := &out.Body.Groups[n]
		g.Requests, of[n] = append(g.Requests, bodies[i]), append(of[n], r)
		if !slices.Contains(g.URLs, r.URL) {
			g.URLs = append(g.URLs, r.URL)
		}
		if !slices.Contains(g.By, r.By) {
			g.By = append(g.By, r.By)
		}
	}
	for i := range out.Body.Groups {
		out.Body.Groups[i].Shared = shared(live, of[i], counts)
	}
	return out, nil
}

// shared returns the groups that all who asked belong to, the smallest first. counts are the people of each group.
func shared(live *edition.State, asked []standing.Request, counts []int) []Ref {
	d := live.Snapshot.Config().Directory
	all := []Ref{}
	for i, r := range asked {
		groups := live.GroupsOf(r.Person, uuid.Nil, netip.Addr{})
		if r.Person == uuid.Nil {
			return []Ref{}
		}
		if i == 0 {
			for _, id := range groups {
				all = append(all, Ref{ID: id, Name: d.Groups[d.Group(id.String())].Name})
			}
			continue
		}
		all = slices.DeleteFunc(all, func(g Ref) bool { return !slices.Contains(groups, g.ID) })
	}
	slices.SortStableFunc(all, func(a, b Ref) int {
		return counts[d.Group(a.ID.String())] - counts[d.Group(b.ID.String())]
	})
	return all
}

// seenRequest returns a request that the caller may see.
func (s *server) seenRequest(ctx context.Context, id uuid.UUID) (standing.Request, error) {
	r, err := s.Requests.Request(ctx, id)
	if err != nil {
		return r, err
	}
	if seen, err := s.bounds(ctx, access.ReadRequests); err != nil {
		return r, err
	} else if !seen.has(r.Person, uuid.Nil, r.Address) {
		return r, revision.ErrNotFound
	}
	return r, nil
}

func (s *server) requestAdvice(ctx context.Context, in *ByID) (*adviceOutput, error) {
	r, err := s.seenRequest(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.requestBodies(ctx, []standing.Request{r})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &adviceOutput{}
	out.Body.Request, out.Body.Categories, out.Body.Suggestions = bodies[0], []CategoryRef{}, []Suggestion{}
	u, err := weburl.Parse(r.URL)
	var asker edition.Asker
	if err == nil {
		asker, err = live.Find("who", askerOf(r))
	}
	if err != nil { // whoever asked is gone, or the gate saw what is no URL
		out.Body.Verdict, out.Body.Because = r.Verdict, "It cannot be tried any more: "+err.Error()+"."
		return out, nil
	}
	asker = live.Present(asker, live.Now())
	var w policy.Work
	ask := asker.Request()
	ask.URL = u
	journey := live.Snapshot.Travel(&w, &ask, live.Now())
	out.Body.Verdict = journey.Verdict
	if len(journey.Stops) > 0 {
		why := journey.Decisive().Explanation
		out.Body.Because, out.Body.Rung = why.Because, why.Decision.Rung
		names, err := s.naming(ctx)
		if err != nil {
			return nil, err
		}
		for _, c := range why.Class.Categories {
			out.Body.Categories = append(out.Body.Categories, names.ref(c))
		}
	}
	open, err := s.atDesk(ctx, true, mostGrouped)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	open = slices.DeleteFunc(open, func(o standing.Request) bool { return siteOf(o.URL) != siteOf(r.URL) })
	if out.Body.Affected, err = s.metBesides(ctx, siteOf(r.URL), len(open)); err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Suggestions = s.suggestions(ctx, live, r, &ask, journey, open)
	return out, nil
}

// metBesides counts whom a site was refused to in the last week, of those whose records the caller may see.
func (s *server) metBesides(ctx context.Context, site string, waiting int) (a Affected, err error) {
	a.Waiting = waiting
	if access.Begin(actor(ctx), caller(ctx).Roles, access.ReadJournal) != nil {
		return a, nil
	}
	found, world, err := s.search(ctx, fmt.Sprintf("site:%q verdict:block since:7d", site))
	if err != nil {
		return a, err
	}
	answer, err := s.Tally.Count(ctx, &tally.Question{Search: found, Taxonomy: world.Taxonomy, By: []string{"person", "address"}, Top: 1, Patience: searchPatience})
	if err != nil {
		return a, err
	}
	a.Requests = answer.Total.All()
	for _, f := range answer.Facets {
		if n := len(f.Values) + f.Others; f.Field == "person" || a.People == 0 {
			a.People = max(a.People, n)
		}
	}
	return a, nil
}

// suggestions returns what would help whoever asked, the narrowest first.
func (s *server) suggestions(ctx context.Context, live *edition.State, r standing.Request, ask *policy.Request, journey policy.Journey, open []standing.Request) []Suggestion {
	all := []Suggestion{}
	if journey.Verdict.Passes() {
		return append(all, Suggestion{Kind: "open", Text: "The page is open for whoever asked by now: answer that."})
	}
	decision := policy.Decision{}
	if len(journey.Stops) > 0 {
		decision = journey.Decisive().Explanation.Decision
	}
	who := askerOf(r)
	if entries, _, err := narrowestGrant(live, r.URL, &who); err == nil {
		all = append(all, Suggestion{Kind: "grant", Text: fmt.Sprintf("Grant %s, for whoever asked alone.", strings.Join(texts(entries), ", ")), Entries: entries})
	}
	if decision.Rung == policy.AtStint && r.Person != uuid.Nil {
		if id, err := uuid.Parse(journey.Decisive().Explanation.Steps[max(0, journey.Decisive().Explanation.Decider)].ID); err == nil {
			all = append(all, Suggestion{Kind: "stint", Text: "End the stint for whoever asked: the web is open to them again as it usually is.", Stint: &id})
		}
	}
	if len(open) > 1 {
		counts := belonging(live.Snapshot.Config().Directory)
		if groups := shared(live, open, counts); len(groups) > 0 {
			g := groups[0]
			if entries, _, err := s.groupGrant(live, open, g.ID); err == nil {
				all = append(all, Suggestion{Kind: "grant group", Text: fmt.Sprintf("Grant %s, for the group %s of all %d who asked.", strings.Join(texts(entries), ", "), g.Name, len(open)), Entries: entries, Group: &g})
			}
		}
	}
	var w policy.Work
	for _, f := range live.Snapshot.TravelFlips(&w, ask, live.Now()) {
		if f.Kind != policy.AddException {
			flip := flipBody(f)
			all = append(all, Suggestion{Kind: "change", Text: f.Text, Flip: &flip})
		}
	}
	if decision.Rung == policy.AtBaseline {
		all = append(all, Suggestion{Kind: "owner", Text: "The baseline decides: only an owner can change that."})
	}
	return all
}

// groupGrant returns the narrowest entries that let a group reach all pages that were asked for.
func (s *server) groupGrant(live *edition.State, asked []standing.Request, group uuid.UUID) (entries []pattern.Entry, whom revision.WhomBody, err error) {
	who := edition.Who{Group: group.String()}
	whom = revision.WhomBody{Groups: []Ref{{ID: group}}}
	var refused error
	for _, r := range asked {
		narrow, _, err := narrowestGrant(live, r.URL, &who)
		if err != nil { // it may be open for the group already
			refused = err
			continue
		}
		for _, e := range narrow {
			if !slices.ContainsFunc(entries, func(o pattern.Entry) bool { return o.String() == e.String() }) {
				entries = append(entries, e)
			}
		}
	}
	if len(entries) == 0 {
		return nil, whom, refused
	}
	return entries, whom, nil
}

func (s *server) requestTimes(ctx context.Context, in *requestTimesInput) (*requestTimesOutput, error) {
	t, err := s.Requests.RequestTimes(ctx, s.Now().AddDate(0, 0, -in.Days))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &requestTimesOutput{}
	out.Body.Open, out.Body.Oldest, out.Body.Granted, out.Body.Refused = t.Open, t.Oldest, t.Granted, t.Refused
	out.Body.Half, out.Body.Nine = t.Half.Minutes(), t.Nine.Minutes()
	return out, nil
}

// answerEach answers requests one by one, and says of each what became of it.
func (s *server) answerEach(ctx context.Context, ids []uuid.UUID, answer func(id uuid.UUID) (*requestOutput, error)) *answeredOutput {
	out := &answeredOutput{}
	for _, id := range ids {
		one := AnsweredRequest{ID: id}
		if done, err := answer(id); err == nil {
			one.Request = &done.Body
		} else {
			one.Problem = problemText(err)
		}
		out.Body.Answered = append(out.Body.Answered, one)
	}
	return out
}

// problemText returns the sentences of a problem.
func problemText(err error) string {
	model, ok := errors.AsType[*huma.ErrorModel](err)
	if !ok {
		return err.Error()
	}
	text := model.Detail
	for _, e := range model.Errors {
		text += " " + capital(e.Message) + "."
	}
	return text
}

func (s *server) refuseRequests(ctx context.Context, in *refuseRequestsInput) (*answeredOutput, error) {
	return s.answerEach(ctx, in.Body.Requests, func(id uuid.UUID) (*requestOutput, error) {
		one := &refuseRequestInput{ByID: ByID{id}}
		one.Body.Answer = in.Body.Answer
		return s.refuseRequest(ctx, one)
	}), nil
}

func (s *server) grantRequests(ctx context.Context, in *grantRequestsInput) (*answeredOutput, error) {
	b := in.Body
	if (b.Until == nil) == (b.Minutes == 0) {
		return nil, s.problem(ctx, &revision.FieldError{Field: "until", Msg: "say until when it is allowed: until a moment, or for so many minutes"})
	}
	if b.Group == nil {
		return s.answerEach(ctx, b.Requests, func(id uuid.UUID) (*requestOutput, error) {
			one := &grantRequestInput{ByID: ByID{id}}
			one.Body.Until, one.Body.Minutes, one.Body.Answer = b.Until, b.Minutes, b.Answer
			return s.grantRequest(ctx, one)
		}), nil
	}
	live, err := s.inForce(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var asked []standing.Request
	for i, id := range b.Requests {
		r, err := s.seenRequest(ctx, id)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		if !slices.Contains(live.GroupsOf(r.Person, uuid.Nil, r.Address), *b.Group) {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("requests[%d]", i), Msg: "whoever asked does not belong to the group: answer them alone"})
		}
		asked = append(asked, r)
	}
	body := standing.GrantBody{Reason: fmt.Sprintf("%d asked for %s", len(asked), siteOf(asked[0].URL))}
	if body.Until = s.Now().Add(time.Duration(b.Minutes) * time.Minute); b.Until != nil {
		body.Until = *b.Until
	}
	if body.Entries, body.For, err = s.groupGrant(live, asked, *b.Group); err == nil {
		err = body.Check(s.Now())
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	answer := strings.TrimSpace(b.Answer)
	if answer == "" {
		answer = "It is allowed until " + body.Until.In(s.Zone).Format("Monday 2 January, 15:04") + "."
	}
	done, err := s.Requests.AnswerRequests(ctx, b.Requests, standing.Granted, answer, &body, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.requestBodies(ctx, done)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &answeredOutput{}
	for i := range bodies {
		out.Body.Answered = append(out.Body.Answered, AnsweredRequest{ID: bodies[i].ID, Request: &bodies[i]})
	}
	return out, nil
}

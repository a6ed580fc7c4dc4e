package httpapi

import (
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

	"widelark/core/directory"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/standing"
	"widelark/internal/upkeep"
)

// Stint puts a group on chosen lists for a while.
type Stint struct {
	ID uuid.UUID `json:"id" format:"uuid"`
	standing.StintBody
	From    time.Time  `json:"from"`
	By      string     `json:"by" doc:"Whose it is"`
	Done    []Ref      `json:"done" doc:"People for whom it is over"`
	EndedAt *time.Time `json:"endedAt,omitempty" doc:"Before its time; left out where nobody ended it"`
	EndedBy string     `json:"endedBy,omitempty"`
	State   string     `json:"state" enum:"running,over" doc:"Now"`
	Says    string     `json:"says" doc:"What it does, in a few words"`
	Yours   bool       `json:"yours" doc:"The caller may end it, and take it over"`
}

// LedGroup is a group that the caller may put on lists.
type LedGroup struct {
	ID     uuid.UUID `json:"id" format:"uuid"`
	Name   string    `json:"name"`
	People int       `json:"people" doc:"Who belong to it in what is live"`
	Stint  *Stint    `json:"stint,omitempty" doc:"That it is on; left out for none"`
}

// ChosenList is a list that a stint can name.
type ChosenList struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Name        string    `json:"name"`
	Description string    `json:"description,omitempty"`
	Entries     int64     `json:"entries"`
}

// OpenWindow is a schedule that is in force, until whose end a stint can last.
type OpenWindow struct {
	ID    uuid.UUID `json:"id" format:"uuid"`
	Name  string    `json:"name"`
	Until time.Time `json:"until"`
}

// OwnList is a list of a group's leads.
type OwnList struct {
	ID        uuid.UUID       `json:"id" format:"uuid"`
	Group     Ref             `json:"group"`
	Name      string          `json:"name"`
	Entries   []pattern.Entry `json:"entries"`
	UpdatedAt time.Time       `json:"updatedAt"`
	UpdatedBy string          `json:"updatedBy"`
}

type steeringOutput struct {
	Body struct {
		Groups    []LedGroup   `json:"groups" doc:"By name"`
		Lists     []ChosenList `json:"lists" doc:"Marked for stints, by name"`
		Own       []OwnList    `json:"own" doc:"Of the leads of these groups, by name"`
		Schedules []OpenWindow `json:"schedules" doc:"In force now"`
	}
}

// NewStint is what is said of a stint before it begins.
type NewStint struct {
	Group    uuid.UUID        `json:"group" format:"uuid"`
	Kind     policy.StintKind `json:"kind" enum:"only,but,nothing" doc:"only: what is in the lists is allowed, all else blocked. but: what is in the lists is blocked, the rules decide all else. nothing: everything is blocked"`
	Lists    []uuid.UUID      `json:"lists,omitempty" maxItems:"20" doc:"That are marked for stints"`
	Own      []uuid.UUID      `json:"own,omitempty" maxItems:"20" doc:"Lists of the group's leads"`
	People   []uuid.UUID      `json:"people,omitempty" maxItems:"200" doc:"For these people of the group alone; left out, for the whole group"`
	Reason   string           `json:"reason,omitempty" maxLength:"200" doc:"In a few words: the lesson"`
	Until    *time.Time       `json:"until,omitempty" doc:"When it ends, within 24 hours; in place of minutes and schedule"`
	Minutes  int              `json:"minutes,omitempty" minimum:"0" maximum:"1440" doc:"How long it lasts; in place of until and schedule"`
	Schedule *uuid.UUID       `json:"schedule,omitempty" format:"uuid" doc:"It lasts until the window of this schedule ends that is open now; in place of until and minutes"`
}

type stintInput struct{ Body NewStint }

type startStintInput struct {
	Body struct {
		NewStint
		Instead bool `json:"instead,omitempty" doc:"End the one that the group is on"`
	}
}

// Above is something that stands above a stint, and decides whatever it says.
type Above struct {
	Kind  policy.Rung    `json:"kind" enum:"baseline,exception"`
	Name  string         `json:"name" doc:"Of the rule or exception"`
	Then  policy.Verdict `json:"then" enum:"allow,block"`
	Until *time.Time     `json:"until,omitempty" doc:"Of an exception; left out where it has no end"`
}

// Otherwise is a site of a stint's lists for which something else decides.
type Otherwise struct {
	URL     string         `json:"url"`
	Verdict policy.Verdict `json:"verdict" enum:"allow,watch,hold,block"`
	Because string         `json:"because"`
}

// Missing is a host that pages in the lists load from, and which the stint would block.
type Missing struct {
	Host   string `json:"host"`
	Page   string `json:"page" doc:"The host of the pages"`
	Times  int    `json:"times" doc:"In how many visits of the page, in the last week"`
	Of     int    `json:"of" doc:"Of so many"`
	SignOn bool   `json:"signOn" doc:"By its name, people sign in there"`
	Entry  string `json:"entry" doc:"That lets it in, in the notation"`
}

type previewStintOutput struct {
	Body struct {
		Until     time.Time   `json:"until"`
		People    int         `json:"people" doc:"For whom it would be"`
		Above     []Above     `json:"above" doc:"What stands above it for the group"`
		Otherwise []Otherwise `json:"otherwise" doc:"Sites of the lists for which that decides otherwise"`
		Missing   []Missing   `json:"missing" doc:"With only: what pages in the lists need besides"`
		Running   *Stint      `json:"running,omitempty" doc:"That the group is on now, and that would end"`
	}
}

type stintOutput struct{ Body Stint }

type stintsInput struct {
	Over bool `query:"over" doc:"Those of the last month that are over, too"`
}

type stintsOutput struct {
	Body struct {
		Stints []Stint `json:"stints" doc:"The one begun last first"`
	}
}

type doneInput struct {
	ByID
	Body struct {
		Person uuid.UUID `json:"person" format:"uuid"`
		Done   bool      `json:"done" doc:"The stint is over for them; false: it holds again"`
	}
}

// OwnListBody is what a list of a group's leads holds.
type OwnListBody struct {
	Name    string          `json:"name" minLength:"1" maxLength:"80"`
	Entries []pattern.Entry `json:"entries" minItems:"1" maxItems:"200" doc:"In the notation; no carve-outs"`
}

type addOwnListInput struct {
	Body struct {
		OwnListBody
		Group uuid.UUID `json:"group" format:"uuid"`
	}
}

type putOwnListInput struct {
	ByID
	Body OwnListBody
}

type ownListOutput struct{ Body OwnList }

func (s *server) registerStints(api huma.API) {
	huma.Register(api, operation("getSteering", http.MethodGet, "/steering", "Stints", "What a lead can choose: groups, lists, times"), s.steering)
	huma.Register(api, operation("previewStint", http.MethodPost, "/stints/preview", "Stints", "What a stint would leave open, and what would be missing", 403, 422), s.previewStint)
	start := operation("startStint", http.MethodPost, "/stints", "Stints", "Put a group on chosen lists for a while, at once", 403, 409, 422)
	start.DefaultStatus = http.StatusCreated
	huma.Register(api, start, func(ctx context.Context, in *startStintInput) (*stintOutput, error) {
		live, body, err := s.stintOf(ctx, &in.Body.NewStint)
		if err == nil {
			err = s.whoLeads(ctx, live, &body)
		}
		var made standing.Stint
		if err == nil {
			made, err = s.Standing.AddStint(ctx, body, in.Body.Instead, actor(ctx))
		}
		return s.stintAnswer(ctx, made, err)
	})
	huma.Register(api, operation("getStints", http.MethodGet, "/stints", "Stints", "Groups that are on chosen lists now"), s.getStints)
	huma.Register(api, operation("endStint", http.MethodDelete, "/stints/{id}", "Stints", "End a stint now; it stays on record", 403, 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			_, err := s.Standing.EndStint(ctx, in.ID, actor(ctx))
			return s.nothing(ctx, err)
		})
	huma.Register(api, operation("takeOverStint", http.MethodPost, "/stints/{id}/taking", "Stints", "Take a stint over from another lead", 403, 404, 422),
		func(ctx context.Context, in *ByID) (*stintOutput, error) {
			taken, err := s.Standing.TakeOverStint(ctx, in.ID, actor(ctx))
			return s.stintAnswer(ctx, taken, err)
		})
	huma.Register(api, operation("setDone", http.MethodPut, "/stints/{id}/done", "Stints", "End a stint for one person, or put it in force for them again", 403, 404, 422),
		func(ctx context.Context, in *doneInput) (*stintOutput, error) {
			put, err := s.Standing.SetDone(ctx, in.ID, in.Body.Person, in.Body.Done, actor(ctx))
			return s.stintAnswer(ctx, put, err)
		})
	add := operation("addOwnList", http.MethodPost, "/group-lists", "Stints", "Make a list of a group's leads, for stints of the group", 403, 422)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, func(ctx context.Context, in *addOwnListInput) (*ownListOutput, error) {
		return s.putOwnList(ctx, standing.OwnList{Group: in.Body.Group, Name: in.Body.Name, Entries: in.Body.Entries})
	})
	huma.Register(api, operation("putOwnList", http.MethodPut, "/group-lists/{id}", "Stints", "Replace a list of a group's leads; a stint that names it changes at once", 403, 404, 422),
		func(ctx context.Context, in *putOwnListInput) (*ownListOutput, error) {
			return s.putOwnList(ctx, standing.OwnList{ID: in.ID, Name: in.Body.Name, Entries: in.Body.Entries})
		})
	huma.Register(api, operation("removeOwnList", http.MethodDelete, "/group-lists/{id}", "Stints", "Remove a list of a group's leads", 403, 404, 409),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return s.nothing(ctx, s.Standing.RemoveOwnList(ctx, in.ID, actor(ctx)))
		})
}

func (s *server) putOwnList(ctx context.Context, l standing.OwnList) (*ownListOutput, error) {
	err := l.Check()
	if err == nil {
		l, err = s.Standing.PutOwnList(ctx, l, actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	bodies, err := s.ownLists(ctx, []standing.OwnList{l})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &ownListOutput{bodies[0]}, nil
}

func (s *server) ownLists(ctx context.Context, lists []standing.OwnList) ([]OwnList, error) {
	bodies, ids := make([]OwnList, len(lists)), []uuid.UUID{}
	for _, l := range lists {
		ids = append(ids, l.Group)
	}
	names, err := s.Objects.Names(ctx, ids)
	for i, l := range lists {
		bodies[i] = OwnList{l.ID, Ref{ID: l.Group, Name: names[l.Group]}, l.Name, l.Entries, l.UpdatedAt, l.UpdatedBy}
	}
	return bodies, err
}

// stintOf reads what is said of a stint: its end, and whom and what it names. It returns the live state, too, with facts beside it.
func (s *server) stintOf(ctx context.Context, in *NewStint) (live *edition.State, body standing.StintBody, err error) {
	if live, err = s.inForce(ctx, "", "live"); err != nil {
		return nil, body, err
	}
	refs := func(ids []uuid.UUID) (all []Ref) {
		for _, id := range ids {
			if !slices.ContainsFunc(all, func(r Ref) bool { return r.ID == id }) {
				all = append(all, Ref{ID: id})
			}
		}
		return all
	}
	now := s.Now()
	body = standing.StintBody{Group: Ref{ID: in.Group}, Kind: in.Kind, Lists: refs(in.Lists), Own: refs(in.Own), People: refs(in.People), Reason: in.Reason}
	said := 0
	if in.Until != nil {
		said, body.Until = said+1, *in.Until
	}
	if in.Minutes > 0 {
		said, body.Until = said+1, now.Add(time.Duration(in.Minutes)*time.Minute)
	}
	if in.Schedule != nil {
		said++
		var open bool
		for _, w := range windows(live, now) {
			if w.ID == *in.Schedule {
				open, body.Until = true, w.Until
			}
		}
		if !open {
			return nil, body, &revision.FieldError{Field: "schedule", Msg: "no window of this schedule is open now"}
		}
	}
	if said != 1 {
		return nil, body, &revision.FieldError{Field: "until", Msg: "say when it ends: until a moment, after so many minutes, or with the window of a schedule"}
	}
	return live, body, body.Check(now)
}

// whoLeads refuses a stint for a group that the caller does not lead or that is not live, and for people who do not belong to it. Whoever does not lead a group does not learn whether it is there.
func (s *server) whoLeads(ctx context.Context, live *edition.State, body *standing.StintBody) error {
	if err := s.checkAskers(ctx, access.Steer, live.GroupAsker(body.Group.ID)); err != nil {
		return err
	}
	d := live.Snapshot.Config().Directory
	if d.Group(body.Group.ID.String()) < 0 {
		return &revision.FieldError{Field: "group", Msg: "what is live has no such group: publish it first"}
	}
	for i, p := range body.People {
		if !slices.Contains(live.GroupsOf(p.ID, uuid.Nil, netip.Addr{}), body.Group.ID) {
			return &revision.FieldError{Field: fmt.Sprintf("people[%d]", i), Msg: "whoever this is does not belong to the group"}
		}
	}
	return nil
}

// mayChoose refuses lists that leads may not choose, whose sites a preview would tell them.
func (s *server) mayChoose(ctx context.Context, body *standing.StintBody) error {
	chosen, err := s.chosenLists(ctx)
	if err != nil {
		return err
	}
	for i, ref := range body.Lists {
		if !slices.ContainsFunc(chosen, func(l ChosenList) bool { return l.ID == ref.ID }) {
			return standing.NotForStints(fmt.Sprintf("lists[%d]", i))
		}
	}
	return nil
}

// windows returns the schedules that are in force at a moment, and until when.
func windows(live *edition.State, now time.Time) (open []OpenWindow) {
	for _, sch := range live.Snapshot.Config().Schedules {
		for _, span := range sch.Schedule.Between(now.Add(-standing.LongestStint), now.Add(standing.LongestStint), sch.Zone) {
			if id, err := uuid.Parse(sch.ID); err == nil && !now.Before(span.From) && now.Before(span.To) && span.To.Sub(now) < standing.LongestStint {
				open = append(open, OpenWindow{id, sch.Name, span.To})
			}
		}
	}
	slices.SortFunc(open, func(a, b OpenWindow) int { return a.Until.Compare(b.Until) })
	return open
}

// belonging counts the people of each group, by its number in the directory.
func belonging(d *directory.Directory) []int {
	counts, of := make([]int, len(d.Groups)), directory.NewSet(len(d.Groups))
	for p := range d.People {
		d.Belong(of, int32(p), -1, netip.Addr{})
		for n := of.Next(0); n >= 0; n = of.Next(n + 1) {
			counts[n]++
		}
	}
	return counts
}

// chosenLists returns the lists that are marked for stints, by name.
func (s *server) chosenLists(ctx context.Context) (chosen []ChosenList, err error) {
	const most = 500
	chosen = []ChosenList{}
	for after := ""; ; {
		page, err := s.Store.Lists(ctx, after, most)
		if err != nil {
			return nil, err
		}
		for _, l := range page {
			if after = l.Name; l.ForStints {
				chosen = append(chosen, ChosenList{l.ID, l.Name, l.Description, l.EntryCount})
			}
		}
		if len(page) < most {
			return chosen, nil
		}
	}
}

func (s *server) steering(ctx context.Context, _ *struct{}) (*steeringOutput, error) {
	out := &steeringOutput{}
	out.Body.Groups, out.Body.Own, out.Body.Schedules = []LedGroup{}, []OwnList{}, []OpenWindow{}
	var err error
	if out.Body.Lists, err = s.chosenLists(ctx); err != nil {
		return nil, s.problem(ctx, err)
	}
	live, err := s.inForce(ctx, "", "live")
	var nothing *revision.FieldError
	if errors.As(err, &nothing) { // nothing is live yet
		return out, nil
	} else if err != nil {
		return nil, s.problem(ctx, err)
	}
	led, err := s.bounds(ctx, access.Steer)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	items, err := s.Facts.Items(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	d := live.Snapshot.Config().Directory
	counts := belonging(d)
	for n, g := range d.Groups {
		id, err := uuid.Parse(g.ID)
		if err != nil || !led.has(uuid.Nil, id, netip.Addr{}) {
			continue
		}
		group := LedGroup{ID: id, Name: g.Name, People: counts[n]}
		if running := standing.Running(items.Stints, id, s.Now()); running != nil {
			bodies, err := s.stintBodies(ctx, []standing.Stint{*running})
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			group.Stint = &bodies[0]
		}
		out.Body.Groups = append(out.Body.Groups, group)
	}
	slices.SortFunc(out.Body.Groups, func(a, b LedGroup) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	all, err := s.Standing.OwnLists(ctx)
	if err == nil {
		all = slices.DeleteFunc(all, func(l standing.OwnList) bool { return !led.has(uuid.Nil, l.Group, netip.Addr{}) })
		out.Body.Own, err = s.ownLists(ctx, all)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Schedules = append(out.Body.Schedules, windows(live, s.Now())...)
	return out, nil
}

func (s *server) getStints(ctx context.Context, in *stintsInput) (*stintsOutput, error) {
	since := s.Now()
	if in.Over {
		since = since.AddDate(0, -1, 0)
	}
	found, err := s.Standing.Stints(ctx, since)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	seen, err := s.bounds(ctx, access.ReadPeople)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	found = slices.DeleteFunc(found, func(st standing.Stint) bool { return !seen.has(uuid.Nil, st.Group.ID, netip.Addr{}) })
	out := &stintsOutput{}
	if out.Body.Stints, err = s.stintBodies(ctx, found); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) stintAnswer(ctx context.Context, st standing.Stint, err error) (*stintOutput, error) {
	var bodies []Stint
	if err == nil {
		bodies, err = s.stintBodies(ctx, []standing.Stint{st})
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &stintOutput{bodies[0]}, nil
}

// stintBodies turns stints into answers, with the names of what they refer to.
func (s *server) stintBodies(ctx context.Context, found []standing.Stint) ([]Stint, error) {
	may := bounds{}
	var err error
	if access.Begin(actor(ctx), caller(ctx).Roles, access.Steer) == nil {
		if may, err = s.bounds(ctx, access.Steer); err != nil {
			return nil, err
		}
	}
	bodies := make([]Stint, len(found))
	var refs []*Ref
	for i, st := range found {
		st.Lists, st.Own, st.People = slices.Clone(st.Lists), slices.Clone(st.Own), slices.Clone(st.People)
		b := Stint{ID: st.ID, StintBody: st.StintBody, From: st.From, By: st.By, Done: []Ref{}, EndedAt: st.EndedAt, EndedBy: st.EndedBy, State: "running", Says: st.Kind.Says(), Yours: may.has(uuid.Nil, st.Group.ID, netip.Addr{})}
		if !s.Now().Before(st.End()) {
			b.State = "over"
		}
		for _, id := range st.Done {
			b.Done = append(b.Done, Ref{ID: id})
		}
		bodies[i] = b
	}
	for i := range bodies {
		b := &bodies[i]
		refs = append(refs, &b.Group)
		for _, of := range [][]Ref{b.Done, b.Lists, b.Own, b.People} {
			for n := range of {
				refs = append(refs, &of[n])
			}
		}
	}
	names, err := s.Objects.Names(ctx, idsOf(refs))
	if err != nil {
		return nil, err
	}
	own, err := s.Standing.OwnLists(ctx)
	for _, l := range own {
		names[l.ID] = l.Name
	}
	for _, b := range bodies {
		for _, ref := range b.Lists {
			if l, err := s.Store.List(ctx, ref.ID); err == nil {
				names[ref.ID] = l.Name
			} else if !errors.Is(err, revision.ErrNotFound) {
				return nil, err
			}
		}
	}
	for _, ref := range refs {
		ref.Name = names[ref.ID]
	}
	return bodies, err
}

// The most that a preview shows of each.
const (
	mostOtherwise = 50
	mostMissing   = 20
)

func (s *server) previewStint(ctx context.Context, in *stintInput) (*previewStintOutput, error) {
	live, body, err := s.stintOf(ctx, &in.Body)
	if err == nil {
		err = s.whoLeads(ctx, live, &body)
	}
	if err == nil {
		err = s.mayChoose(ctx, &body)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	now := s.Now()
	facts, err := s.Facts.Facts(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	own, err := s.Standing.OwnLists(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var entries []pattern.Entry
	for _, l := range own {
		if l.Group == body.Group.ID && slices.ContainsFunc(body.Own, func(r Ref) bool { return r.ID == l.ID }) {
			entries = append(entries, l.Entries...)
		}
	}
	with := *facts
	with.Stints = slices.DeleteFunc(slices.Clone(facts.Stints), func(st policy.Stint) bool { return st.Group == body.Group.ID.String() })
	with.Stints = append(with.Stints, body.Fact(now, entries, actor(ctx).Name()))
	then := live.Snapshot.With(with)

	out := &previewStintOutput{}
	out.Body.Until, out.Body.People = body.Until, len(body.People)
	d := then.Config().Directory
	if len(body.People) == 0 {
		out.Body.People = belonging(d)[d.Group(body.Group.ID.String())]
	}
	out.Body.Above, out.Body.Otherwise, out.Body.Missing = above(live, body.Group.ID, now), []Otherwise{}, []Missing{}
	asks := policy.Request{Group: body.Group.ID.String()}
	if len(body.People) > 0 {
		asks = policy.Request{Person: body.People[0].ID.String()}
	}
	var w policy.Work
	decide := func(u weburl.URL) policy.Decision {
		asks.URL = u
		return then.Decide(&w, &asks, now)
	}
	for _, u := range sitesOf(then, &body, entries) {
		if d := decide(u); d.Verdict.Passes() != (body.Kind == policy.OnlyThese) && len(out.Body.Otherwise) < mostOtherwise {
			out.Body.Otherwise = append(out.Body.Otherwise, Otherwise{u.String(), d.Verdict, then.Source(d)})
		}
	}
	if body.Kind == policy.OnlyThese {
		pairs, err := s.Checks.Together(ctx)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		for _, p := range pairs {
			if len(out.Body.Missing) == mostMissing {
				break
			}
			if decide(p.Page).Rung == policy.AtStint && decide(p.Page).Verdict.Passes() && !decide(p.Needs).Verdict.Passes() {
				out.Body.Missing = append(out.Body.Missing, Missing{p.Needs.Host(), p.Page.Host(), p.Times, p.Of, isSignOn(p.Needs.Host()), upkeep.Suggested(p.Needs, p.Page).String()})
			}
		}
	}
	items, err := s.Facts.Items(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if running := standing.Running(items.Stints, body.Group.ID, now); running != nil {
		bodies, err := s.stintBodies(ctx, []standing.Stint{*running})
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out.Body.Running = &bodies[0]
	}
	return out, nil
}

// above returns what stands above a stint of a group: the rules of the baseline, and exceptions for the group.
func above(live *edition.State, group uuid.UUID, now time.Time) []Above {
	all := []Above{}
	config := live.Snapshot.Config()
	if config.Baseline != nil {
		for i := range config.Baseline.Rules {
			if r := &config.Baseline.Rules[i]; !r.Off && (r.Then == policy.Allow || r.Then == policy.Block) {
				all = append(all, Above{Kind: policy.AtBaseline, Name: r.Name, Then: r.Then})
			}
		}
	}
	for _, e := range live.Standing(live.GroupAsker(group)).Exceptions {
		if e.From.After(now) {
			continue
		}
		one := Above{Kind: policy.AtException, Name: e.Name, Then: e.Then}
		if !e.Until.IsZero() {
			one.Until = &e.Until
		}
		all = append(all, one)
	}
	return all
}

// sitesOf returns the sites and pages that a stint names one by one; those of large lists are left out.
func sitesOf(then *policy.Snapshot, body *standing.StintBody, own []pattern.Entry) (urls []weburl.URL) {
	add := func(entries []pattern.Entry) {
		for _, e := range entries {
			if u, ok := policy.Front(e); ok {
				urls = append(urls, u)
			}
		}
	}
	add(own)
	lists := then.Config().Lists
	for n, ref := range lists.Lists() {
		if !slices.ContainsFunc(body.Lists, func(r Ref) bool { return r.ID.String() == ref.ID }) {
			continue
		}
		if entries, few := lists.Few(int32(n)); few {
			add(entries)
		}
	}
	return urls
}

// signOnWords begin the names of hosts at which people sign in.
var signOnWords = []string{"accounts", "auth", "id", "identity", "idp", "login", "oauth", "signin", "signon", "sso"}

// isSignOn reports whether people sign in at a host, as far as its name says.
func isSignOn(host string) bool {
	label, _, _ := strings.Cut(host, ".")
	return slices.Contains(signOnWords, strings.ReplaceAll(label, "-", ""))
}

package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/audit"
	"widelark/internal/change"
	"widelark/internal/revision"
)

// Revision is a published state.
type Revision struct {
	Number  int64     `json:"number"`
	Version int64     `json:"version" doc:"Of the draft, that it is"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Note    string    `json:"note"`
	SameAs  int64     `json:"sameAs,omitempty" doc:"The revision that was taken back to"`
	Forced  string    `json:"forced,omitempty" doc:"Why it was published though expectations failed"`
	Failed  int64     `json:"failed,omitempty" doc:"So many expectations failed"`
	Asked   int64     `json:"asked,omitempty" doc:"Of so many"`
}

// Planned is a version of the draft that is to be published later.
type Planned struct {
	ID      uuid.UUID `json:"id" format:"uuid"`
	Due     time.Time `json:"due"`
	Version int64     `json:"version"`
	By      string    `json:"by"`
	Note    string    `json:"note"`
	Forced  string    `json:"forced,omitempty"`
	MadeAt  time.Time `json:"madeAt"`
}

type draftOutput struct {
	ETag string `header:"ETag"`
	Body struct {
		Version  int64     `json:"version" doc:"Rises with every edit of anything; publishing and discarding name the one that was looked at"`
		Live     Revision  `json:"live"`
		Changed  int       `json:"changed" doc:"Objects that are not as they are live"`
		Expected int       `json:"expected" doc:"How many expectations there are"`
		Failing  int       `json:"failing" doc:"How many of them do not hold in the draft"`
		Planned  []Planned `json:"planned"`
		Remarks  int       `json:"remarks" doc:"What people said of it that is not done"`

		SecondLook bool `json:"secondLook" doc:"What one person edited alone is published by another"`
	}
}

// ObjectDifference is an object that differs between two states.
type ObjectDifference struct {
	ID      uuid.UUID        `json:"id" format:"uuid"`
	Kind    revision.Kind    `json:"kind" enum:"list,schedule,category,scorecard,correction,person,group,network,machine,policy,exception,app,engine,settings,expectation"`
	Name    string           `json:"name"`
	What    string           `json:"what" enum:"made,changed,removed"`
	By      []string         `json:"by" doc:"Who edited it in between, the first one first"`
	At      time.Time        `json:"at" doc:"The last edit"`
	Lines   []DifferenceLine `json:"lines" doc:"What differs, entries aside"`
	Entries *EntryDifference `json:"entries,omitempty" doc:"Of a list whose entries differ"`
}

// DifferenceLine is a part of an object that differs between two states.
type DifferenceLine struct {
	Mark   change.Mark `json:"mark" enum:"added,removed,changed,moved"`
	Part   string      `json:"part"`
	Before string      `json:"before,omitempty"`
	After  string      `json:"after,omitempty"`
}

// EntryDifference is the number of entries that differ between two states of a list, with the first of them.
type EntryDifference struct {
	Added   int64         `json:"added"`
	Edited  int64         `json:"edited"`
	Removed int64         `json:"removed"`
	First   []EntryChange `json:"first" doc:"At most 20"`
}

// EntryChange is an entry that differs between two states of a list.
type EntryChange struct {
	ID     int64  `json:"id"`
	Before string `json:"before,omitempty" doc:"Left out where it came"`
	After  string `json:"after,omitempty" doc:"Left out where it went"`
}

// DiffStates are the two states that are compared.
type DiffStates struct {
	From string `query:"from" pattern:"^(draft|live|[0-9]+)$" default:"live" doc:"draft, live or the number of a revision"`
	To   string `query:"to" pattern:"^(draft|live|[0-9]+)$" default:"draft"`
}

type diffOutput struct {
	Body struct {
		FromVersion int64              `json:"fromVersion"`
		ToVersion   int64              `json:"toVersion"`
		Changes     []ObjectDifference `json:"changes" doc:"By kind and name"`
	}
}

type entryDiffInput struct {
	ByID
	DiffStates
	After int64 `query:"after" doc:"The id of the last one of the page before"`
	Limit int   `query:"limit" minimum:"1" maximum:"5000" default:"200"`
}

type entryDiffOutput struct {
	Body struct {
		Changes []EntryChange `json:"changes"`
		Next    int64         `json:"next,omitempty" doc:"What to give as after for the next page"`
	}
}

type publishInput struct {
	Body struct {
		Version int64       `json:"version,omitempty" minimum:"1" doc:"Of the draft, as it was looked at: where it has gone on since, nothing is published. Left out: whatever it is"`
		Objects []uuid.UUID `json:"objects,omitempty" maxItems:"1000" doc:"Only what differs of these, with what it hangs on; the rest stays the draft. Left out: the whole draft"`
		Note    string      `json:"note" maxLength:"2000" doc:"What it is for"`
		Force   string      `json:"force,omitempty" maxLength:"2000" doc:"Why it goes live though expectations fail; it is kept"`
		At      *time.Time  `json:"at,omitempty" doc:"Later: the version is published then, whatever is edited until then"`
	}
}

type publishOutput struct {
	Body struct {
		Revision *Revision `json:"revision,omitempty" doc:"Left out where it is planned"`
		Planned  *Planned  `json:"planned,omitempty"`
		Objects  []Ref     `json:"objects,omitempty" doc:"Where some were chosen: these, and what they hang on"`
	}
}

type revisionsInput struct {
	Before int64 `query:"before" doc:"Those with smaller numbers"`
	Limit  int   `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type revisionsOutput struct {
	Body struct {
		Revisions []Revision `json:"revisions" doc:"The newest first; the first of all is live"`
	}
}

type liveAgainInput struct {
	Number int64 `path:"number" minimum:"1"`
	Body   struct {
		Note  string `json:"note" maxLength:"2000"`
		Draft bool   `json:"draft,omitempty" doc:"The draft becomes what the revision is, too; else it stays as it is"`
		Live  int64  `json:"live,omitempty" doc:"The revision that was seen to be live: where it is another by now, nothing happens. Left out: whatever it is"`
	}
}

type liveAgainOutput struct{ Body Revision }

type discardInput struct {
	Body struct {
		Version int64       `json:"version,omitempty" minimum:"1" doc:"Of the draft, as it was looked at: where it has gone on since, nothing is discarded. Left out: whatever it is"`
		Objects []uuid.UUID `json:"objects,omitempty" doc:"Left out: everything"`
		To      string      `json:"to,omitempty" pattern:"^(live|[0-9]+)$" doc:"What they become again: live, or the number of a revision"`
	}
}

type auditInput struct {
	Before int64         `query:"before" doc:"Those with smaller ids"`
	Limit  int           `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Text   string        `query:"text" maxLength:"200" doc:"In who, what, name or detail"`
	Kind   revision.Kind `query:"kind" doc:"Of the object"`
}

// Event is a line of the audit log.
type Event struct {
	ID      int64         `json:"id"`
	At      time.Time     `json:"at"`
	By      string        `json:"by"`
	What    string        `json:"what"`
	Kind    revision.Kind `json:"kind,omitempty"`
	Object  *uuid.UUID    `json:"object,omitempty" format:"uuid"`
	Name    string        `json:"name,omitempty"`
	Version *int64        `json:"version,omitempty" doc:"Of the draft"`
	Detail  string        `json:"detail,omitempty"`
}

type auditOutput struct {
	Body struct {
		Events []Event `json:"events" doc:"The newest first"`
	}
}

func (s *server) registerPublishing(api huma.API) {
	huma.Register(api, operation("getDraft", http.MethodGet, "/draft", "Changes", "How the draft stands beside what is live"), s.draft)
	huma.Register(api, operation("getDiff", http.MethodGet, "/diff", "Changes", "What two states differ by, in the objects' own terms", 422), s.diff)
	huma.Register(api, operation("getEntryDiff", http.MethodGet, "/diff/lists/{id}", "Changes", "Which entries of a list two states do not share", 404, 422), s.entryDiff)
	publish := operation("publish", http.MethodPost, "/revisions", "Changes", "Put the draft live, now or later", 409, 412, 422)
	publish.DefaultStatus = http.StatusCreated
	huma.Register(api, publish, s.publish)
	huma.Register(api, operation("getRevisions", http.MethodGet, "/revisions", "Changes", "What was put live"),
		func(ctx context.Context, in *revisionsInput) (*revisionsOutput, error) {
			found, err := s.Publishing.Revisions(ctx, in.Before, in.Limit)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &revisionsOutput{}
			out.Body.Revisions = make([]Revision, len(found))
			for i, r := range found {
				out.Body.Revisions[i] = Revision(r)
			}
			return out, nil
		})
	huma.Register(api, operation("makeLiveAgain", http.MethodPost, "/revisions/{number}/live", "Changes", "Put an earlier revision live again, as a new one", 403, 404, 412, 422), s.makeLiveAgain)
	huma.Register(api, operation("unplan", http.MethodDelete, "/planned/{id}", "Changes", "Do not publish what was to be published later", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Publishing.Unplan(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	s.registerRemarks(api)
	discard := operation("discard", http.MethodPost, "/draft/discard", "Changes", "Make the draft, or some objects of it, what is live", 403, 404, 412, 422)
	discard.DefaultStatus = http.StatusNoContent
	huma.Register(api, discard, s.discard)
	verify := operation("verifyAudit", http.MethodGet, "/audit/verification", "Changes", "Whether the audit log is as it was written: no event changed, taken out or put in", 422)
	verify.Metadata = anyLength
	huma.Register(api, verify, s.verifyAudit)
	huma.Register(api, operation("getAudit", http.MethodGet, "/audit", "Changes", "Who did what, and when"),
		func(ctx context.Context, in *auditInput) (*auditOutput, error) {
			found, err := s.Audit.Audit(ctx, audit.Query{Before: in.Before, Limit: in.Limit, Text: in.Text, Kind: string(in.Kind)})
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &auditOutput{}
			out.Body.Events = make([]Event, len(found))
			for i, e := range found {
				out.Body.Events[i] = Event{e.ID, e.At, e.By, string(e.What), revision.Kind(e.Kind), e.Object, e.Name, e.Version, e.Detail}
			}
			return out, nil
		})
}

type verifyAuditInput struct {
	Head string `query:"head" maxLength:"100" doc:"The head of an earlier check, kept outside: what was taken off the end of the log is found by it"`
}

// AuditFault is something of the audit log that is not as it was written.
type AuditFault struct {
	Event int64  `json:"event,omitempty" doc:"The id of the event; left out where it is not about one"`
	Says  string `json:"says"`
}

type verifyAuditOutput struct {
	Body struct {
		Whole   bool         `json:"whole" doc:"All is as it was written"`
		Events  int64        `json:"events" doc:"That are sealed"`
		Waiting int64        `json:"waiting" doc:"Those of the last seconds, which are not sealed yet"`
		Head    string       `json:"head,omitempty" doc:"To keep outside, for a later check"`
		Keyed   bool         `json:"keyed" doc:"Seals are made with the service's secret: who has the database alone cannot make them anew"`
		Faults  []AuditFault `json:"faults" doc:"At most 100"`
		More    int64        `json:"more" doc:"Further faults"`
	}
}

func (s *server) verifyAudit(ctx context.Context, in *verifyAuditInput) (*verifyAuditOutput, error) {
	v := &audit.Verifier{}
	if s.Secret != nil {
		v.Key = s.Secret.Key(audit.SealPurpose)
	}
	if in.Head != "" {
		head, err := audit.ReadHead(in.Head)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: "query.head", Msg: err.Error()})
		}
		v.Kept = &head
	}
	if err := s.Audit.EachSealed(ctx, v.Next, v.Unsealed); err != nil {
		return nil, s.problem(ctx, err)
	}
	done, out := v.End(), &verifyAuditOutput{}
	b := &out.Body
	b.Whole, b.Events, b.Waiting, b.Head, b.Keyed, b.More, b.Faults = len(done.Faults) == 0, done.Events, done.Waiting, done.Head.String(), len(v.Key) > 0, done.More, []AuditFault{}
	for _, f := range done.Faults {
		b.Faults = append(b.Faults, AuditFault(f))
	}
	return out, nil
}

func (s *server) draft(ctx context.Context, _ *struct{}) (*draftOutput, error) {
	out := &draftOutput{}
	report, err := s.Checks.Report(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	revisions, err := s.Publishing.Revisions(ctx, 0, 1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	changed, err := s.Publishing.Changed(ctx, revisions[0].Version, 0)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	planned, err := s.Publishing.Planned(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	b := &out.Body
	b.Version, b.Live, b.Changed, b.Planned = report.DraftVersion, Revision(revisions[0]), len(changed), make([]Planned, len(planned))
	for i, p := range planned {
		b.Planned[i] = Planned(p)
	}
	b.Expected, b.Failing = len(report.Expected), report.Failing()
	practices, err := s.Publishing.Practices(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	remarks, err := s.Publishing.Remarks(ctx, shownRemarks)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	for _, r := range remarks {
		if r.DoneAt == nil {
			b.Remarks++
		}
	}
	b.SecondLook = practices.SecondLook
	out.ETag = etag(b.Version)
	return out, nil
}

// versions returns the versions to compare; 0 is the current draft.
func (s *server) versions(ctx context.Context, in DiffStates) (from, to int64, err error) {
	if from, _, err = s.Editions.Version(ctx, "from", in.From); err != nil || in.To == "draft" {
		return from, 0, err
	}
	to, _, err = s.Editions.Version(ctx, "to", in.To)
	return from, to, err
}

func (s *server) diff(ctx context.Context, in *DiffStates) (*diffOutput, error) {
	from, to, err := s.versions(ctx, *in)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &diffOutput{}
	out.Body.FromVersion, out.Body.ToVersion = from, to
	if to == 0 {
		now, err := s.Versions.DraftVersion(ctx)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out.Body.ToVersion, to = now.Draft, now.Draft
	}
	if out.Body.Changes, err = s.differences(ctx, from, to); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

// shownEntries is how many entries of each list a difference contains without being asked for more.
const shownEntries = 20

func (s *server) differences(ctx context.Context, from, to int64) ([]ObjectDifference, error) {
	states, err := s.Publishing.Changed(ctx, from, to)
	if err != nil {
		return nil, err
	}
	called, err := s.Objects.Names(ctx, change.Refs(states))
	if err != nil {
		return nil, err
	}
	bodies, err := s.differenceBodies(ctx, states, called)
	if err != nil {
		return nil, err
	}
	for i, st := range states {
		if st.Entries != nil {
			found, err := s.Publishing.EntryDifferences(ctx, st.ID, from, to, 0, shownEntries)
			if err != nil {
				return nil, err
			}
			bodies[i].Entries.First = entryChanges(found)
		}
	}
	return bodies, nil
}

func entryChanges(found []revision.Difference) []EntryChange {
	changes := make([]EntryChange, len(found))
	for i, d := range found {
		changes[i].ID = d.ID
		if d.Before != nil {
			changes[i].Before = d.Before.String()
		}
		if d.After != nil {
			changes[i].After = d.After.String()
		}
	}
	return changes
}

func (s *server) entryDiff(ctx context.Context, in *entryDiffInput) (*entryDiffOutput, error) {
	from, to, err := s.versions(ctx, in.DiffStates)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	found, err := s.Publishing.EntryDifferences(ctx, in.ID, from, to, in.After, in.Limit)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &entryDiffOutput{}
	out.Body.Changes = entryChanges(found)
	if len(found) == in.Limit {
		out.Body.Next = found[len(found)-1].ID
	}
	return out, nil
}

func (s *server) publish(ctx context.Context, in *publishInput) (*publishOutput, error) {
	b := in.Body
	note, err := revision.CheckNote(b.Note)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if b.At != nil && !b.At.After(s.Now()) {
		return nil, s.problem(ctx, &revision.FieldError{Field: "at", Msg: fmt.Sprintf("%s is over; leave it out to publish now", b.At.In(s.Zone).Format("2 January 2006 15:04"))})
	}
	report, err := s.Checks.Report(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if b.Version != 0 && b.Version != report.DraftVersion {
		return nil, huma.Error412PreconditionFailed(fmt.Sprintf("The draft has gone on since: you looked at version %d, it is at %d. Look at it again, and publish then.", b.Version, report.DraftVersion))
	}
	out := &publishOutput{}
	version := report.DraftVersion
	if len(b.Objects) > 0 {
		if b.At != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: "at", Msg: "what is planned is the whole draft: by then, others may have gone live, and a part would take them back"})
		}
		chosen, err := s.Publishing.Choose(ctx, version, b.Objects, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		for i := range chosen.Objects {
			out.Body.Objects = append(out.Body.Objects, Ref{ID: chosen.Objects[i].ID, Name: chosen.Objects[i].Name()})
		}
		if version = chosen.Version; version != report.DraftVersion {
			s.Checks.Prepare(ctx)
			if report, err = s.Checks.ReportAt(ctx, version); err != nil {
				return nil, s.problem(ctx, err)
			}
		}
	}
	live, err := s.Publishing.Revisions(ctx, 0, 1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if changed, err := s.Publishing.Changed(ctx, live[0].Version, version); err != nil {
		return nil, s.problem(ctx, err)
	} else if len(changed) == 0 {
		return nil, typed(problemNothing, huma.Error409Conflict("There is nothing to publish: the draft is what is live."))
	}
	failing := report.Failing()
	if failing == 0 {
		b.Force = ""
	} else if b.Force == "" {
		return nil, typed(problemExpectations, huma.Error409Conflict(fmt.Sprintf("%d of %d expectations do not hold in the draft. Mend them, or say why it goes live all the same.", failing, len(report.Expected))))
	} else if b.Force, err = revision.CheckReason(b.Force); err != nil {
		return nil, s.problem(ctx, &revision.FieldError{Field: "force", Msg: "say why it goes live all the same"})
	}
	if b.At != nil {
		made, err := s.Publishing.Plan(ctx, revision.Planned{Due: *b.At, Version: version, Note: note, Forced: b.Force}, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out.Body.Planned = (*Planned)(&made)
		return out, nil
	}
	made, err := s.Publishing.Publish(ctx, revision.Publishing{Version: version, Note: note, Forced: b.Force, Failed: int64(failing), Asked: int64(len(report.Expected))}, live[0].Number, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Revision = (*Revision)(&made)
	return out, nil
}

func (s *server) makeLiveAgain(ctx context.Context, in *liveAgainInput) (*liveAgainOutput, error) {
	note, err := revision.CheckNote(in.Body.Note)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	to, err := s.Publishing.Revision(ctx, in.Number)
	if errors.Is(err, revision.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("There is no revision %d.", in.Number))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	report, err := s.Checks.ReportAt(ctx, to.Version)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	made, err := s.Publishing.Publish(ctx, revision.Publishing{
		Version: to.Version, Note: note, SameAs: to.Number, Failed: int64(report.Failing()), Asked: int64(len(report.Expected)), Draft: in.Body.Draft,
	}, in.Body.Live, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if in.Body.Draft {
		s.Checks.Prepare(ctx)
	}
	return &liveAgainOutput{Revision(made)}, nil
}

func (s *server) discard(ctx context.Context, in *discardInput) (*struct{}, error) {
	to, _, err := s.Editions.Version(ctx, "to", cmp.Or(in.Body.To, "live"))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if err := s.Publishing.Restore(ctx, to, in.Body.Version, in.Body.Objects, actor(ctx)); err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Checks.Prepare(ctx)
	return nil, nil
}

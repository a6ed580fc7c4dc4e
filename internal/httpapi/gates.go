package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// GateReport is what a gate says of itself.
type GateReport struct {
	Name     string         `json:"name"`
	Kind     policy.Gate    `json:"kind" enum:"dns,proxy,icap"`
	Address  string         `json:"address" doc:"Where clients reach it"`
	State    string         `json:"state" enum:"up to date,behind,without rules,silent" doc:"behind: it runs another revision than the live one; silent: it has not reported for ten seconds"`
	Revision int64          `json:"revision" doc:"That it runs; 0 for none"`
	Since    *time.Time     `json:"since,omitempty" doc:"When it took what it runs: the revision, the catalogue and the grants"`
	BeganAt  time.Time      `json:"beganAt"`
	SeenAt   time.Time      `json:"seenAt" doc:"When it last reported"`
	Decided  int64          `json:"decided" doc:"Requests since it began"`
	Refused  int64          `json:"refused" doc:"Of these, held and blocked ones"`
	Cut      int64          `json:"cut" doc:"Requests whose verdict turned while they were under way"`
	Running  int64          `json:"running" doc:"Requests under way"`
	Written  int64          `json:"written" doc:"Records in the journal"`
	Waiting  int64          `json:"waiting" doc:"Records that are not written yet"`
	Dropped  int64          `json:"dropped" doc:"Records for which there was no room"`
	Refusals []gate.Refusal `json:"refusals" doc:"Hosts for which clients refused the gate's certificate, the last one first"`
}

// GateRecord is a request that a gate decided.
type GateRecord struct {
	At       time.Time       `json:"at"`
	Gate     policy.Gate     `json:"gate" enum:"dns,proxy,icap"`
	GateName string          `json:"gateName,omitempty"`
	Sight    weburl.Sight    `json:"sight,omitempty" enum:"name,tunnel,full"`
	Who      string          `json:"who,omitempty" doc:"The person; left out where nobody is known"`
	Address  string          `json:"address,omitempty"`
	Method   string          `json:"method"`
	URL      string          `json:"url"`
	Verdict  policy.Verdict  `json:"verdict" enum:"allow,watch,hold,block"`
	By       string          `json:"by,omitempty" doc:"What decided, in a few words"`
	Revision int64           `json:"revision,omitempty"`
	Outcome  journal.Outcome `json:"outcome,omitempty" enum:"answered,cut,failed"`
	Status   int             `json:"status,omitempty"`
	Media    string          `json:"media,omitempty"`
	Size     int64           `json:"size,omitempty" doc:"Bytes"`
	Millis   int64           `json:"millis,omitempty" doc:"How long it took, in milliseconds"`
	Detail   string          `json:"detail,omitempty" doc:"Why it failed"`
}

type gatesOutput struct {
	Body struct {
		Live  int64        `json:"live" doc:"The live revision"`
		Gates []GateReport `json:"gates"`
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
	huma.Register(api, operation("getLatestRecords", http.MethodGet, "/gates/records", "Gates", "The requests that were recorded last"), s.latestRecords)
}

func (s *server) getGates(ctx context.Context, _ *struct{}) (*gatesOutput, error) {
	reports, now, err := s.Gates.GateReports(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	_, live, err := s.Editions.Version(ctx, "", "live")
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &gatesOutput{}
	out.Body.Live, out.Body.Gates = live, []GateReport{}
	for _, r := range reports {
		g := GateReport{
			Name: r.Name, Kind: r.Kind, Address: r.Address, State: "up to date", Revision: r.Revision, BeganAt: r.BeganAt, SeenAt: r.SeenAt, Decided: r.Decided, Refused: r.Refused,
			Cut: r.Cut, Running: r.Running, Written: r.Written, Waiting: r.Waiting, Dropped: r.Dropped, Refusals: append([]gate.Refusal{}, r.Refusals...),
		}
		if !r.Since.IsZero() {
			g.Since = &r.Since
		}
		switch {
		case now.Sub(r.SeenAt) > gate.Silence:
			g.State = "silent"
		case r.Revision == 0:
			g.State = "without rules"
		case r.Revision != live:
			g.State = "behind"
		}
		out.Body.Gates = append(out.Body.Gates, g)
	}
	return out, nil
}

func (s *server) latestRecords(ctx context.Context, in *latestInput) (*latestOutput, error) {
	records, err := s.Journal.LatestRecords(ctx, in.Limit)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var ids []uuid.UUID
	for _, r := range records {
		if r.Person != uuid.Nil {
			ids = append(ids, r.Person)
		}
	}
	names, err := s.Objects.Names(ctx, ids)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &latestOutput{}
	out.Body.Records = make([]GateRecord, len(records))
	for i, r := range records {
		one := GateRecord{
			At: r.At, Gate: r.Gate, GateName: r.GateName, Sight: r.Sight, Who: names[r.Person], Method: r.Method, URL: r.URL, Verdict: r.Verdict, By: r.By, Revision: r.Revision,
			Outcome: r.Outcome, Status: r.Status, Media: r.Media, Size: r.Size, Millis: r.Took.Milliseconds(), Detail: r.Detail,
		}
		if r.Address.IsValid() {
			one.Address = r.Address.String()
		}
		out.Body.Records[i] = one
	}
	return out, nil
}

package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"mime"
	"net/http"
	"net/netip"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/zonefile"
)

type zoneInput struct {
	Form    zonefile.Form `path:"form" enum:"rpz,hosts,names,pac" doc:"A response policy zone, hosts, a name a line, or a PAC file"`
	Group   string        `query:"group" maxLength:"200" doc:"For whom: the name or id of a group"`
	Address string        `query:"address" maxLength:"60" doc:"Or for whoever is at an address"`
	At      string        `query:"at" maxLength:"60" doc:"now, 12:30, tue 12:30, 2026-12-24 12:30 or a time as RFC 3339 has it; left out, now"`
	On      string        `query:"on" pattern:"^(draft|live|[0-9]+)$" doc:"draft, live, or the number of a revision; left out, live"`
	Errs    policy.Erring `query:"errs" enum:"open,close" default:"open" doc:"What becomes of a name where a rule cannot be told by it"`
	Origin  string        `query:"origin" maxLength:"200" default:"rpz.wide-lark.internal" doc:"The name of the zone"`
	Page    []string      `query:"page" maxItems:"8" doc:"Addresses that refused names lead to, where a policy says so"`
}

func (s *server) registerZones(api huma.API) {
	zone := operation("getZone", http.MethodGet, "/zones/{form}", "Gates", "What is said of names to somebody at a moment, for other filters; what the form cannot say stands in comments, with counts", 422)
	zone.Metadata = anyLength
	zone.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(api, zone, s.zone)
}

func (s *server) zone(ctx context.Context, in *zoneInput) (*huma.StreamResponse, error) {
	state, err := s.inForce(ctx, "query.on", cmp.Or(in.On, "live"))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var who edition.Who
	called := "somebody of whom nothing is known"
	switch {
	case in.Group != "" && in.Address != "":
		return nil, s.problem(ctx, &revision.FieldError{Field: "query.group", Msg: "a zone is for a group or for an address, and not for both"})
	case in.Group != "":
		who, called = edition.Who{Group: in.Group}, fmt.Sprintf("the group %q", in.Group)
	case in.Address != "":
		who, called = edition.Who{Address: in.Address}, in.Address
	}
	found, err := state.Find("query", who)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	at, err := state.Moment("query.at", in.At)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	about := zonefile.About{Who: called, At: at.In(s.Zone), From: "the draft", Errs: cmp.Or(in.Errs, policy.LeaveOpen), Origin: strings.TrimSuffix(strings.ToLower(in.Origin), "."), Serial: uint32(at.Unix())}
	if state.Revision > 0 {
		about.From = fmt.Sprintf("revision %d", state.Revision)
	}
	if u, err := weburl.Parse("https://" + about.Origin + "/"); err != nil || u.Host() != about.Origin {
		return nil, s.problem(ctx, &revision.FieldError{Field: "query.origin", Msg: fmt.Sprintf("%q is not the name of a zone, as rpz.lark.internal", in.Origin)})
	}
	for i, text := range in.Page {
		addr, err := netip.ParseAddr(text)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("query.page[%d]", i), Msg: fmt.Sprintf("%q is not an address", text)})
		}
		about.Page = append(about.Page, addr.Unmap())
	}
	z := state.Snapshot.Zone(state.Present(found, at).Request(), at, about.Errs)
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", map[zonefile.Form]string{zonefile.PAC: "application/x-ns-proxy-autoconfig"}[in.Form])
		if in.Form != zonefile.PAC {
			hctx.SetHeader("Content-Type", "text/plain; charset=utf-8")
		}
		hctx.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": about.Origin + "." + string(in.Form)}))
		if err := zonefile.Write(hctx.BodyWriter(), in.Form, z, about); err != nil {
			s.Log.WarnContext(ctx, "a zone broke off", "error", err)
			panic(http.ErrAbortHandler) // the status is sent already
		}
	}}, nil
}

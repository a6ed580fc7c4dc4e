package dnsgate

import (
	"context"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
)

// resolve fills in what other resolvers say, or our own names. A decision is made again by where the name leads; it is nil where nothing is to be decided.
func (s *Server) resolve(ctx context.Context, q, r *dns.Msg, question dns.Question, d *gate.Decision) []dns.EDNS0 {
	if d != nil {
		if _, _, safe := s.Gate.Held(*d); safe.By == policy.ByHost && !strings.EqualFold(strings.TrimSuffix(question.Name, "."), safe.Value) {
			return s.safely(ctx, q, r, question, safe.Value)
		}
	}
	if s.Local.answers(r, question) {
		return nil
	}
	found, extra := s.lookup(ctx, q, question)
	if found == nil {
		r.Rcode = dns.RcodeServerFailure
		return extra
	}
	r.Rcode, r.Answer, r.Ns = found.Rcode, found.Answer, found.Ns
	r.AuthenticatedData = found.AuthenticatedData && (q.AuthenticatedData || isDo(q))
	for _, rr := range found.Extra {
		if rr.Header().Rrtype != dns.TypeOPT {
			r.Extra = append(r.Extra, rr)
		}
	}
	if d != nil {
		if chain := chainOf(question.Name, r.Answer); len(chain) > 0 {
			*d = s.Gate.Further(*d, chain)
		}
	}
	if s.HideHints {
		for _, section := range [][]dns.RR{r.Answer, r.Extra} {
			for _, rr := range section {
				hideHints(rr)
			}
		}
	}
	return extra
}

func isDo(q *dns.Msg) bool {
	opt := q.IsEdns0()
	return opt != nil && opt.Do()
}

// safely answers with another host, which gives safe answers in place of the one that was asked for.
func (s *Server) safely(ctx context.Context, q, r *dns.Msg, question dns.Question, host string) []dns.EDNS0 {
	alias := &dns.CNAME{Hdr: dns.RR_Header{Name: question.Name, Rrtype: dns.TypeCNAME, Class: dns.ClassINET, Ttl: seconds(s.Longest)}, Target: dns.Fqdn(host)}
	question.Name = alias.Target
	extra := s.resolve(ctx, q, r, question, nil)
	r.Answer = append([]dns.RR{alias}, r.Answer...)
	return extra
}

// chainOf returns where a name leads by an answer: the targets of aliases and of services (RFC 1034, section 3.6.2; RFC 9460).
func chainOf(name string, answer []dns.RR) (chain []weburl.URL) {
	for _, rr := range answer {
		target := ""
		switch rr := rr.(type) {
		case *dns.CNAME:
			target = rr.Target
		case *dns.HTTPS:
			target = rr.Target
		case *dns.SVCB:
			target = rr.Target
		}
		if target == "" || target == "." || strings.EqualFold(target, name) {
			continue
		}
		if u, ok := urlOf(target); ok && !slices.Contains(chain, u) {
			chain = append(chain, u)
		}
	}
	return chain
}

// hideHints takes from a record of a service what would have a browser hide the name that it connects to, or speak HTTP/3 (RFC 9460, sections 7.1 and 8; RFC 9849).
func hideHints(rr dns.RR) {
	var service *dns.SVCB
	switch rr := rr.(type) {
	case *dns.HTTPS:
		service = &rr.SVCB
	case *dns.SVCB:
		service = rr
	default:
		return
	}
	gone := map[dns.SVCBKey]bool{}
	values := service.Value[:0:0]
	for _, v := range service.Value {
		switch v := v.(type) {
		case *dns.SVCBECHConfig:
			gone[v.Key()] = true
			continue
		case *dns.SVCBAlpn:
			rest := slices.DeleteFunc(slices.Clone(v.Alpn), func(p string) bool { return p == "h3" || strings.HasPrefix(p, "h3-") })
			if len(rest) == 0 {
				gone[v.Key()] = true
				continue
			}
			values = append(values, &dns.SVCBAlpn{Alpn: rest})
			continue
		case *dns.SVCBMandatory:
			continue // below, when it is known what stays
		}
		values = append(values, v)
	}
	if gone[dns.SVCB_ALPN] { // without protocols, nothing may say that there is no default one
		gone[dns.SVCB_NO_DEFAULT_ALPN] = true
		values = slices.DeleteFunc(values, func(v dns.SVCBKeyValue) bool { return v.Key() == dns.SVCB_NO_DEFAULT_ALPN })
	}
	for _, v := range service.Value {
		if m, ok := v.(*dns.SVCBMandatory); ok {
			if rest := slices.DeleteFunc(slices.Clone(m.Code), func(k dns.SVCBKey) bool { return gone[k] }); len(rest) > 0 {
				values = append([]dns.SVCBKeyValue{&dns.SVCBMandatory{Code: rest}}, values...)
			}
		}
	}
	service.Value = values
}

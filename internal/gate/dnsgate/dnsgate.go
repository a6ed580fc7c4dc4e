// Package dnsgate is the DNS gate: it answers names that are allowed with what other resolvers say, and others as policies have it.
//
// From: questions over UDP, TCP, TLS and HTTPS.
// To: decisions of the gate, and questions to the resolvers behind it.
package dnsgate

import (
	"cmp"
	"context"
	"crypto/rand"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// Config is what a server stands on.
type Config struct {
	Gate       *gate.Gate
	Forwarders []Forwarder    // that are asked for what is allowed, in order
	Trusted    []netip.Prefix // of forwarders whose client subnets say who asks (RFC 7871)
	Local      *Zone          // names of our own; nil for none
	Page       []netip.Addr   // where refused names lead, where a policy says so
	HideHints  bool           // ech and HTTP/3 are taken out of HTTPS records, so that browsers cannot hide a name from the proxy gate, or go around it
	Longest    time.Duration  // that an answer lives; 0 for [Longest]
	Refused    time.Duration  // that a refusal lives; 0 for [Refused]
	Rate       float64        // answers a second over UDP to one network; 0 for [Rate]

	Zones   []ZoneOf         // that other resolvers transfer
	Keys    Keys             // that they sign with
	ZonesTo []netip.Prefix   // of those who transfer without a key
	Notify  []netip.AddrPort // who is told when a zone changes

	// Whose returns the person whose way to ask over HTTPS ends with a token; false where it is nobody's. It may be nil.
	Whose func(ctx context.Context, token string) (person uuid.UUID, known bool)

	Log *slog.Logger
}

// How long answers live at most, and how many go over UDP to one network in a second, where nothing else is said.
const (
	Longest = time.Minute
	Refused = 10 * time.Second
	Rate    = 2000
)

// Server answers questions. It is safe for concurrent use.
type Server struct {
	Config
	upstream *upstream
	cache    *cache
	limits   *limits
	cookies  [16]byte // the key of our cookies
	zones    []*servedZone

	base context.Context // ends with Close
	end  context.CancelFunc
}

// New returns a server; see its Serve methods.
func New(c Config) *Server {
	c.Longest, c.Refused, c.Rate = cmp.Or(c.Longest, Longest), cmp.Or(c.Refused, Refused), cmp.Or(c.Rate, Rate)
	s := &Server{Config: c, upstream: newUpstream(c.Forwarders), cache: newCache(), limits: newLimits(c.Rate)}
	_, _ = rand.Read(s.cookies[:]) // it cannot fail
	for _, z := range c.Zones {
		s.zones = append(s.zones, newServedZone(z, c.Page))
	}
	s.base, s.end = context.WithCancel(context.Background())
	return s
}

// asker is who asks, and how.
type asker struct {
	client gate.Client
	from   netip.Addr // of the connection
	over   string     // "udp", "tcp", "tls" or "https"

	decided *gate.Decision // where the question is decided already; nil else
}

// The size of messages over UDP that passes all networks whole (DNS flag day 2020), and the least that every client takes (RFC 1035, section 4.2.1).
const (
	safeSize  = 1232
	leastSize = 512
)

// answer returns the answer to a message; nil where it deserves none.
func (s *Server) answer(ctx context.Context, q *dns.Msg, a asker) *dns.Msg {
	if q.Response {
		return nil
	}
	r := new(dns.Msg)
	r.SetReply(q)
	r.RecursionAvailable = true
	opt := q.IsEdns0()
	var edns *dns.OPT
	if opt != nil {
		edns = &dns.OPT{Hdr: dns.RR_Header{Name: ".", Rrtype: dns.TypeOPT}}
		edns.SetUDPSize(safeSize)
		edns.SetDo(opt.Do())
		if cookie := s.cookie(opt, a.from); cookie != nil {
			edns.Option = append(edns.Option, cookie)
		}
	}
	extra := s.fill(ctx, q, r, a)
	if edns != nil {
		edns.Option = append(edns.Option, extra...)
		r.Extra = append(r.Extra, edns)
	}
	if a.over == "udp" {
		size := leastSize
		if opt != nil {
			size = min(safeSize, max(leastSize, int(opt.UDPSize())))
		}
		r.Truncate(size)
	}
	return r
}

// said is an extended error (RFC 8914).
func said(code uint16, text string) []dns.EDNS0 {
	const most = 250 // bytes; the rest of the message needs room, too
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "…"
	}
	return []dns.EDNS0{&dns.EDNS0_EDE{InfoCode: code, ExtraText: text}}
}

// fill fills in the answer to a question, and returns what belongs beside it.
func (s *Server) fill(ctx context.Context, q, r *dns.Msg, a asker) []dns.EDNS0 {
	switch opt := q.IsEdns0(); {
	case q.Opcode != dns.OpcodeQuery:
		r.Rcode = dns.RcodeNotImplemented
		return nil
	case len(q.Question) != 1:
		r.Rcode = dns.RcodeFormatError
		return nil
	case opt != nil && opt.Version() != 0:
		r.Rcode = dns.RcodeBadVers
		return nil
	}
	question := q.Question[0]
	switch {
	case question.Qclass != dns.ClassINET:
		r.Rcode = dns.RcodeRefused
		return said(dns.ExtendedErrorCodeNotSupported, "Only the class IN is answered here.")
	case question.Qtype == dns.TypeANY, question.Qtype == dns.TypeAXFR, question.Qtype == dns.TypeIXFR, question.Qtype == dns.TypeMAILA, question.Qtype == dns.TypeMAILB:
		r.Rcode = dns.RcodeRefused // RFC 8482, section 4.3
		return said(dns.ExtendedErrorCodeNotSupported, dns.TypeToString[question.Qtype]+" is not answered here.")
	}
	begin := time.Now()
	if question.Name == "." {
		return s.resolve(ctx, q, r, question, nil)
	}
	u, ok := urlOf(question.Name)
	if !ok {
		r.Rcode = dns.RcodeRefused
		return said(dns.ExtendedErrorCodeProhibited, "This is no name that a site can have.")
	}
	var d gate.Decision
	if a.decided != nil {
		d = *a.decided
	} else {
		d = s.Gate.Decide(gate.Request{Client: s.client(q, a), URL: u, Method: dns.TypeToString[question.Qtype], Sight: s.Gate.Sees(u, false)})
	}
	end := journal.Ending{Outcome: journal.Answered}
	var extra []dns.EDNS0
	if d.Verdict.Passes() {
		extra = s.resolve(ctx, q, r, question, &d)
	}
	if !d.Verdict.Passes() {
		extra = s.refuse(r, question, d)
	}
	s.limitTTL(r, d)
	if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError && d.Verdict.Passes() {
		end.Outcome, end.Detail = journal.Failed, "the answer is "+dns.RcodeToString[r.Rcode]
	}
	end.Took = time.Since(begin)
	s.Gate.Record(d, end)
	return extra
}

// urlOf returns the URL that stands for a name: the host that it names, without the labels of services before it (RFC 8552).
func urlOf(name string) (weburl.URL, bool) {
	host := strings.TrimSuffix(strings.ToLower(name), ".")
	for strings.HasPrefix(host, "_") {
		_, rest, found := strings.Cut(host, ".")
		if !found {
			return weburl.URL{}, false
		}
		host = rest
	}
	if host == "" || strings.ContainsAny(host, `\/?#@:[]`) {
		return weburl.URL{}, false
	}
	u, err := weburl.Parse("https://" + host + "/")
	return u, err == nil && !u.Addr().IsValid()
}

// client returns who asks: whoever a trusted forwarder names by their subnet, else the address of the connection. By a part of an address nobody in particular is
// known, and it counts only for what holds all of it.
func (s *Server) client(q *dns.Msg, a asker) gate.Client {
	opt := q.IsEdns0()
	if opt == nil || a.over == "https" || !slices.ContainsFunc(s.Trusted, func(r netip.Prefix) bool { return r.Contains(a.from) }) {
		return a.client
	}
	for _, option := range opt.Option {
		subnet, ok := option.(*dns.EDNS0_SUBNET)
		if !ok {
			continue
		}
		at, ok := netip.AddrFromSlice(subnet.Address)
		if !ok {
			return gate.Client{SignedIn: true}
		}
		at = at.Unmap()
		r := netip.PrefixFrom(at, min(int(subnet.SourceNetmask), at.BitLen())).Masked()
		switch {
		case r.IsSingleIP():
			return gate.Client{Address: at}
		case s.Gate.InOnePlace(r):
			return gate.Client{Address: r.Addr(), SignedIn: true}
		}
		return gate.Client{SignedIn: true}
	}
	return a.client
}

// refuse answers a question that is refused as the policy of whoever asks says.
func (s *Server) refuse(r *dns.Msg, question dns.Question, d gate.Decision) []dns.EDNS0 {
	answer, below := s.Gate.NameAnswer(d)
	r.Answer, r.Ns, r.AuthenticatedData = nil, nil, false
	head := func(kind uint16) dns.RR_Header {
		return dns.RR_Header{Name: question.Name, Rrtype: kind, Class: dns.ClassINET, Ttl: seconds(s.Refused)}
	}
	switch {
	case answer == policy.RefusedName:
		r.Rcode = dns.RcodeRefused
	case answer == policy.PageOfRefused && len(s.Page) > 0:
		r.Rcode = dns.RcodeSuccess
		for _, at := range s.Page {
			switch {
			case question.Qtype == dns.TypeA && at.Is4():
				r.Answer = append(r.Answer, &dns.A{Hdr: head(dns.TypeA), A: net.IP(at.AsSlice())})
			case question.Qtype == dns.TypeAAAA && at.Is6():
				r.Answer = append(r.Answer, &dns.AAAA{Hdr: head(dns.TypeAAAA), AAAA: net.IP(at.AsSlice())})
			}
		}
	case below:
		r.Rcode = dns.RcodeNameError
	default:
		r.Rcode = dns.RcodeSuccess
	}
	if len(r.Answer) == 0 && r.Rcode != dns.RcodeRefused {
		soa := head(dns.TypeSOA) // it says how long the answer may be kept (RFC 2308, section 5)
		r.Ns = []dns.RR{&dns.SOA{Hdr: soa, Ns: ".", Mbox: ".", Serial: 1, Refresh: 3600, Retry: 600, Expire: 86400, Minttl: seconds(s.Refused)}}
	}
	return said(dns.ExtendedErrorCodeBlocked, s.Gate.Explain(d).Because)
}

func seconds(d time.Duration) uint32 { return uint32(max(0, d/time.Second)) }

// limitTTL lets no record live longer than the verdict holds by itself.
func (s *Server) limitTTL(r *dns.Msg, d gate.Decision) {
	most := s.Longest
	if !d.Verdict.Passes() {
		most = s.Refused
	}
	ttl := max(1, seconds(s.Gate.Lasts(d, most)))
	for _, section := range [][]dns.RR{r.Answer, r.Ns, r.Extra} {
		for _, rr := range section {
			if head := rr.Header(); head.Rrtype != dns.TypeOPT {
				head.Ttl = min(head.Ttl, ttl)
				if soa, ok := rr.(*dns.SOA); ok {
					soa.Minttl = min(soa.Minttl, ttl)
				}
			}
		}
	}
}

package demo

import (
	"hash/fnv"
	"net"
	"strings"

	"github.com/miekg/dns"
)

// Resolver returns a stand-in for the resolvers of the world: it knows every name below the reserved ones of the demo. What begins with www is an alias of the rest; gone
// and everything below it does not exist; leads-to.X.Y is an alias of X.Y.
func Resolver() dns.Handler {
	return dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		r := new(dns.Msg)
		r.SetReply(q)
		r.RecursionAvailable = true
		if opt := q.IsEdns0(); opt != nil {
			r.SetEdns0(1232, opt.Do())
		}
		if len(q.Question) == 1 {
			resolve(r, q.Question[0].Name, q.Question[0].Qtype)
		}
		if w.RemoteAddr().Network() == "udp" {
			r.Truncate(1232)
		}
		_ = w.WriteMsg(r)
	})
}

const resolvedFor = 300 // seconds

// servers are where everything is, by a hash of its name: addresses for documentation (RFC 5737, RFC 3849).
func servers(name string) (v4, v6 net.IP) {
	h := fnv.New32a()
	_, _ = h.Write([]byte(strings.ToLower(name)))
	last := byte(h.Sum32()%250 + 1)
	v6 = net.ParseIP("2001:db8::1")
	v6[15] = last
	return net.IPv4(192, 0, 2, last).To4(), v6
}

func resolve(r *dns.Msg, name string, kind uint16) {
	head := func(kind uint16) dns.RR_Header {
		return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: resolvedFor}
	}
	labels := dns.SplitDomainName(strings.ToLower(name))
	nothing := func() {
		r.Ns = []dns.RR{&dns.SOA{Hdr: dns.RR_Header{Name: "example.", Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: resolvedFor}, Ns: "ns.example.", Mbox: "hostmaster.example.", Serial: 1, Refresh: 3600, Retry: 600, Expire: 86400, Minttl: 60}}
	}
	for _, label := range labels {
		if label == "gone" {
			r.Rcode = dns.RcodeNameError
			nothing()
			return
		}
	}
	if len(labels) == 0 {
		nothing()
		return
	}
	if _, rest, ok := strings.Cut(name, "."); ok && (labels[0] == "www" || labels[0] == "leads-to") && len(labels) > 2 {
		r.Answer = append(r.Answer, &dns.CNAME{Hdr: head(dns.TypeCNAME), Target: rest})
		if kind != dns.TypeCNAME {
			resolve(r, rest, kind)
		}
		return
	}
	v4, v6 := servers(name)
	switch kind {
	case dns.TypeA:
		r.Answer = append(r.Answer, &dns.A{Hdr: head(kind), A: v4})
	case dns.TypeAAAA:
		r.Answer = append(r.Answer, &dns.AAAA{Hdr: head(kind), AAAA: v6})
	case dns.TypeHTTPS:
		r.Answer = append(r.Answer, &dns.HTTPS{SVCB: dns.SVCB{Hdr: head(kind), Priority: 1, Target: ".", Value: []dns.SVCBKeyValue{
			&dns.SVCBMandatory{Code: []dns.SVCBKey{dns.SVCB_ALPN, dns.SVCB_ECHCONFIG}}, &dns.SVCBAlpn{Alpn: []string{"h3", "h2"}}, &dns.SVCBECHConfig{ECH: []byte("an invented configuration")},
		}}})
	case dns.TypeTXT:
		text := &dns.TXT{Hdr: head(kind)}
		for range 40 { // more than fits into a datagram
			text.Txt = append(text.Txt, "This is "+strings.TrimSuffix(name, ".")+", an invented site of the demo.")
		}
		r.Answer = append(r.Answer, text)
	default:
		nothing()
	}
}

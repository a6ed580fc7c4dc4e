package dnsgate

import (
	"fmt"
	"io"
	"strings"

	"github.com/miekg/dns"
)

// Zone is names of our own, read from a master file (RFC 1035, section 5). Below a name with an SOA record there are no others.
type Zone struct {
	records map[string][]dns.RR // by name, in lower case
	tops    map[string]*dns.SOA
}

// ReadZone reads a master file. name is of the file, for errors.
func ReadZone(r io.Reader, name string) (*Zone, error) {
	z := &Zone{records: map[string][]dns.RR{}, tops: map[string]*dns.SOA{}}
	p := dns.NewZoneParser(r, "", name)
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		at := strings.ToLower(rr.Header().Name)
		z.records[at] = append(z.records[at], rr)
		if soa, ok := rr.(*dns.SOA); ok {
			z.tops[at] = soa
		}
		for above, ok := parent(at); ok; above, ok = parent(above) { // names in between exist, too (RFC 8020)
			if _, there := z.records[above]; !there {
				z.records[above] = nil
			}
		}
	}
	if err := p.Err(); err != nil {
		return nil, fmt.Errorf("names of our own: %w", err)
	}
	return z, nil
}

func parent(name string) (string, bool) {
	_, above, ok := strings.Cut(name, ".")
	return above, ok && above != ""
}

// top returns the SOA record of the zone that a name is in; nil where it is in none.
func (z *Zone) top(name string) *dns.SOA {
	for at, ok := name, true; ok; at, ok = parent(at) {
		if soa := z.tops[at]; soa != nil {
			return soa
		}
	}
	return nil
}

// answers fills in what our own names say to a question, and reports whether that is theirs to say.
func (z *Zone) answers(r *dns.Msg, question dns.Question) bool {
	if z == nil {
		return false
	}
	name := strings.ToLower(question.Name)
	for range 8 { // aliases, which may lead in a circle
		records, there := z.records[name]
		alias := ""
		found := false
		for _, rr := range records {
			switch rr.Header().Rrtype {
			case question.Qtype:
				r.Answer, found = append(r.Answer, dns.Copy(rr)), true
			case dns.TypeCNAME:
				r.Answer, alias = append(r.Answer, dns.Copy(rr)), strings.ToLower(rr.(*dns.CNAME).Target)
			}
		}
		soa := z.top(name)
		switch {
		case alias != "" && !found:
			name = alias
			continue
		case !there && soa == nil, len(records) == 0 && soa == nil:
			return len(r.Answer) > 0
		case !there:
			r.Rcode = dns.RcodeNameError
		}
		r.Authoritative = true
		if !found && soa != nil {
			r.Ns = []dns.RR{dns.Copy(soa)}
		}
		return true
	}
	return true
}

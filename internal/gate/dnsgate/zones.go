package dnsgate

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"widelark/core/directory"
	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/zonefile"
)

// ZoneOf is a response policy zone that other resolvers transfer from the gate: what is said of names to a group, or to whoever is at an address.
type ZoneOf struct {
	Origin  string // as rpz.lark.internal
	Group   string // its name or id
	Address netip.Addr
	Errs    policy.Erring
}

// Keys are what transfers are signed with (TSIG, RFC 8945): secrets in base64 by the names of keys, which end with a dot.
type Keys map[string]string

// ParseKeys reads keys: a name and a secret in base64 a line. Blank lines, and those that begin with #, are passed over.
func ParseKeys(text string) (Keys, error) {
	keys := Keys{}
	for n, one := range strings.Split(text, "\n") {
		fields := strings.Fields(one)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		if len(fields) != 2 {
			return nil, fmt.Errorf("line %d is not a name and a secret", n+1)
		}
		if _, err := base64.StdEncoding.DecodeString(fields[1]); err != nil {
			return nil, fmt.Errorf("line %d: the secret is not in base64", n+1)
		}
		keys[dns.Fqdn(strings.ToLower(fields[0]))] = fields[1]
	}
	return keys, nil
}

// ParseZone reads a zone: ORIGIN=GROUP, or ORIGIN=ADDRESS.
func ParseZone(text string, errs policy.Erring) (z ZoneOf, err error) {
	origin, who, ok := strings.Cut(text, "=")
	z.Origin, z.Errs = strings.TrimSuffix(strings.ToLower(strings.TrimSpace(origin)), "."), errs
	if _, valid := dns.IsDomainName(z.Origin); !ok || !valid || z.Origin == "" || strings.TrimSpace(who) == "" {
		return z, fmt.Errorf("%q is not a zone: write it like rpz.lark.internal=Ward nurses, or with an address", text)
	}
	if z.Group = strings.TrimSpace(who); z.Group != "" {
		if at, err := netip.ParseAddr(z.Group); err == nil {
			z.Group, z.Address = "", at.Unmap()
		}
	}
	return z, nil
}

// mostChanges is how many changes of a zone are kept, so that only they travel (RFC 1995).
const mostChanges = 50

// servedZone is a zone as it is handed out. It is safe for concurrent use.
type servedZone struct {
	ZoneOf

	mu      sync.RWMutex
	about   zonefile.About // guarded by mu, as what follows
	lines   []string       // the records but SOA and NS: name, type and what it holds, with blanks between
	changes []zoneChange   // the oldest first

	edition *gate.Edition // that it was made of; of the keeper alone
	until   time.Time     // time changes nothing before; of the keeper alone
}

type zoneChange struct {
	from, to   uint32
	gone, come []string
}

// KeepZones makes the zones anew whenever an edition, a standing fact or time changes them, and tells those who transfer them, until the server is closed.
func (s *Server) KeepZones() {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		for _, z := range s.zones {
			if s.renew(z) {
				s.notify(z)
			}
		}
		select {
		case <-s.base.Done():
			return
		case <-tick.C:
		}
	}
}

// renew makes a zone anew if that is needed, and reports whether it is another one.
func (s *Server) renew(z *servedZone) (changed bool) {
	e, now := s.Gate.Edition(), s.Gate.Now()
	if e == nil || e == z.edition && now.Before(z.until) {
		return false
	}
	z.edition, z.until = e, e.Snapshot.Quiet(now)
	r := policy.Request{Addr: z.Address}
	if z.Group != "" {
		groups := e.Snapshot.Config().Directory.Groups
		at := slices.IndexFunc(groups, func(g directory.Group) bool { return g.ID == z.Group || strings.EqualFold(g.Name, z.Group) })
		if at < 0 {
			s.Log.WarnContext(s.base, "a zone is for a group that is not there; it stays as it is", "zone", z.Origin, "group", z.Group)
			return false
		}
		r.Group = groups[at].ID
	}
	zone := e.Snapshot.Zone(r, now, z.Errs)
	var lines []string
	about := zonefile.About{Origin: z.Origin, Page: s.Page}
	if _, err := zonefile.Records(&zone, &about, func(name, kind, value string) error {
		lines = append(lines, name+" "+kind+" "+value)
		return nil
	}); err != nil {
		return false
	}
	slices.Sort(lines)
	z.mu.Lock()
	defer z.mu.Unlock()
	before := z.about.Serial
	if before > 0 && slices.Equal(lines, z.lines) {
		return false
	}
	about.Serial = max(before+1, uint32(now.Unix()))
	if before > 0 {
		gone, come := differ(z.lines, lines)
		z.changes = append(z.changes, zoneChange{before, about.Serial, gone, come})
		z.changes = z.changes[max(0, len(z.changes)-mostChanges):]
	}
	z.about, z.lines = about, lines
	return true
}

// differ returns what is in one of two sorted sets alone.
func differ(before, after []string) (gone, come []string) {
	for i, j := 0, 0; i < len(before) || j < len(after); {
		switch {
		case j == len(after) || i < len(before) && before[i] < after[j]:
			gone = append(gone, before[i])
			i++
		case i == len(before) || after[j] < before[i]:
			come = append(come, after[j])
			j++
		default:
			i, j = i+1, j+1
		}
	}
	return gone, come
}

// zoneAt returns the zone with an origin; nil for none.
func (s *Server) zoneAt(name string) *servedZone {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	for _, z := range s.zones {
		if z.Origin == name {
			return z
		}
	}
	return nil
}

// record makes a record of a line.
func (z *servedZone) record(text string) dns.RR {
	name, rest, _ := strings.Cut(text, " ")
	kind, value, _ := strings.Cut(rest, " ")
	head := dns.RR_Header{Name: name + "." + z.Origin + ".", Class: dns.ClassINET, Ttl: zonefile.TTL}
	switch kind {
	case "CNAME":
		head.Rrtype = dns.TypeCNAME
		return &dns.CNAME{Hdr: head, Target: value}
	case "A":
		head.Rrtype = dns.TypeA
		return &dns.A{Hdr: head, A: net.ParseIP(value)}
	}
	head.Rrtype = dns.TypeAAAA
	return &dns.AAAA{Hdr: head, AAAA: net.ParseIP(value)}
}

// soa returns the record with which the zone begins at a serial. The caller holds mu.
func (z *servedZone) soa(serial uint32) dns.RR {
	about := z.about
	about.Serial = serial
	rr, _ := dns.NewRR(zonefile.SOA(&about)) // it is in order
	return rr
}

// records gives all that a client gets that has a serial, 0 for none: everything, or what has changed since (RFC 1995, section 4).
func (z *servedZone) records(have uint32, each func(rr dns.RR)) {
	z.mu.RLock()
	about, lines, changes := z.about, z.lines, z.changes
	soa := func(serial uint32) dns.RR { return z.soa(serial) }
	first := slices.IndexFunc(changes, func(c zoneChange) bool { return c.from == have })
	z.mu.RUnlock()
	each(soa(about.Serial))
	switch {
	case have == about.Serial:
		return
	case have > 0 && first >= 0:
		for _, c := range changes[first:] {
			each(soa(c.from))
			for _, text := range c.gone {
				each(z.record(text))
			}
			each(soa(c.to))
			for _, text := range c.come {
				each(z.record(text))
			}
		}
	default:
		ns, _ := dns.NewRR(zonefile.NS(&about)) // it is in order
		each(ns)
		for _, text := range lines {
			each(z.record(text))
		}
	}
	each(soa(about.Serial))
}

// mayTransfer reports whether whoever asks may have zones: with a key, or from an address that needs none.
func (s *Server) mayTransfer(from netip.Addr, signed bool) bool {
	return signed || slices.ContainsFunc(s.ZonesTo, func(r netip.Prefix) bool { return r.Contains(from) })
}

// perEnvelope is how many records go into one message.
const perEnvelope = 300

// transfer answers a question about a zone over TCP, and reports whether it was one.
func (s *Server) transfer(w dns.ResponseWriter, q *dns.Msg, from netip.Addr) bool {
	if len(q.Question) != 1 || q.Opcode != dns.OpcodeQuery {
		return false
	}
	z := s.zoneAt(q.Question[0].Name)
	if z == nil {
		return false
	}
	signed := q.IsTsig() != nil && w.TsigStatus() == nil
	r := new(dns.Msg)
	r.SetReply(q)
	if !s.mayTransfer(from, signed) || q.IsTsig() != nil && !signed {
		r.Rcode = dns.RcodeRefused
		_ = w.WriteMsg(r)
		return true
	}
	z.mu.RLock()
	serial := z.about.Serial
	z.mu.RUnlock()
	kind := q.Question[0].Qtype
	if serial == 0 || kind != dns.TypeAXFR && kind != dns.TypeIXFR {
		z.answer(r, q)
		if signed {
			t := q.IsTsig()
			r.SetTsig(t.Hdr.Name, t.Algorithm, 300, time.Now().Unix())
		}
		_ = w.WriteMsg(r)
		return true
	}
	have := uint32(0)
	if kind == dns.TypeIXFR && len(q.Ns) == 1 {
		if soa, ok := q.Ns[0].(*dns.SOA); ok {
			have = soa.Serial
		}
	}
	envelopes := make(chan *dns.Envelope)
	var sent sync.WaitGroup
	sent.Go(func() {
		if err := new(dns.Transfer).Out(w, q, envelopes); err != nil {
			s.Log.WarnContext(s.base, "a zone could not be handed out", "zone", z.Origin, "to", from, "error", err)
		}
		for range envelopes { // where it broke off, the rest goes nowhere
		}
	})
	var some []dns.RR
	z.records(have, func(rr dns.RR) {
		if some = append(some, rr); len(some) == perEnvelope {
			envelopes <- &dns.Envelope{RR: some}
			some = nil
		}
	})
	if len(some) > 0 {
		envelopes <- &dns.Envelope{RR: some}
	}
	close(envelopes)
	sent.Wait()
	return true
}

// answer answers a question for the zone itself.
func (z *servedZone) answer(r, q *dns.Msg) {
	z.mu.RLock()
	defer z.mu.RUnlock()
	r.Authoritative = true
	switch {
	case z.about.Serial == 0:
		r.Rcode = dns.RcodeServerFailure // there are no rules yet
	case q.Question[0].Qtype == dns.TypeSOA, q.Question[0].Qtype == dns.TypeIXFR: // over UDP, whoever has another serial asks again over TCP
		r.Answer = []dns.RR{z.soa(z.about.Serial)}
	case q.Question[0].Qtype == dns.TypeNS:
		if ns, err := dns.NewRR(zonefile.NS(&z.about)); err == nil {
			r.Answer = []dns.RR{ns}
		}
	default:
		r.Ns = []dns.RR{z.soa(z.about.Serial)}
	}
}

// zoneOverUDP answers a question about a zone over UDP, signed as it was asked; nil where it was none.
func (s *Server) zoneOverUDP(packed []byte, q *dns.Msg, from netip.Addr) []byte {
	if len(q.Question) != 1 || q.Opcode != dns.OpcodeQuery {
		return nil
	}
	z := s.zoneAt(q.Question[0].Name)
	if z == nil {
		return nil
	}
	r := new(dns.Msg)
	r.SetReply(q)
	t := q.IsTsig()
	secret := ""
	if t != nil {
		secret = s.Keys[strings.ToLower(t.Hdr.Name)]
	}
	signed := secret != "" && dns.TsigVerify(packed, secret, "", false) == nil
	if t != nil && !signed || !s.mayTransfer(from, signed) {
		r.Rcode = dns.RcodeRefused
		out, _ := r.Pack() // a head and a question
		return out
	}
	z.answer(r, q)
	if !signed {
		out, _ := r.Pack()
		return out
	}
	r.SetTsig(t.Hdr.Name, t.Algorithm, 300, time.Now().Unix())
	out, _, err := dns.TsigGenerate(r, secret, t.MAC, false)
	if err != nil {
		return nil
	}
	return out
}

// notify tells those who transfer a zone that it has changed (RFC 1996).
func (s *Server) notify(z *servedZone) {
	z.mu.RLock()
	soa := z.soa(z.about.Serial)
	z.mu.RUnlock()
	for _, to := range s.Notify {
		go func() {
			for range 3 {
				m := new(dns.Msg)
				m.SetNotify(z.Origin + ".")
				m.Answer = []dns.RR{soa}
				client := dns.Client{Timeout: 2 * time.Second, TsigSecret: s.Keys}
				for name := range s.Keys {
					m.SetTsig(name, dns.HmacSHA256, 300, time.Now().Unix())
					break // any of them
				}
				ctx, stop := context.WithTimeout(s.base, 3*time.Second)
				_, _, err := client.ExchangeContext(ctx, m, to.String())
				stop()
				if err == nil || s.base.Err() != nil {
					return
				}
			}
			s.Log.WarnContext(s.base, "a resolver could not be told of a new zone; it asks by itself", "zone", z.Origin, "resolver", to)
		}()
	}
}

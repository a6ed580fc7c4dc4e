package dnsgate

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/zonefile"
)

// mostChanges is how many changes of a zone are kept, so that only they travel (RFC 1995).
const mostChanges = 50

// handed is a zone as it is handed out under an origin. It is safe for concurrent use.
type handed struct {
	mu      sync.RWMutex
	about   zonefile.About // guarded by mu, but for the origin and the page, which stay; as what follows
	zone    *policy.Zone   // nil: there is none yet
	made    time.Time      // by the clock of this machine
	changes []zoneChange   // the oldest first
	takers  []gate.ZoneTaker
}

// zoneChange is what one zone has that the next has not, and the reverse.
type zoneChange struct {
	from, to   uint32
	gone, come *policy.Zone
}

func newHanded(origin string, page []netip.Addr) *handed {
	return &handed{about: zonefile.About{Origin: origin, Page: page}}
}

// hosts returns the hosts that the zone has lines of.
func (z *handed) hosts() (hosts []string) {
	z.mu.RLock()
	defer z.mu.RUnlock()
	if z.zone != nil {
		for _, l := range z.zone.Lines() {
			hosts = append(hosts, l.Host)
		}
	}
	return hosts
}

// replace hands out another zone from now on, and reports whether that says something else.
func (z *handed) replace(next *policy.Zone, now time.Time) bool {
	next.Lines() // before anybody has to wait
	z.mu.Lock()
	defer z.mu.Unlock()
	before := z.zone
	if before != nil && before.Open == next.Open && before.Page == next.Page && slices.Equal(before.Lines(), next.Lines()) {
		z.zone = next
		return false
	}
	serial := max(z.about.Serial+1, uint32(now.Unix()))
	if before != nil && before.Open == next.Open && before.Page == next.Page {
		gone, come := differ(before.Lines(), next.Lines())
		if len(gone)+len(come) < len(next.Lines()) {
			c := zoneChange{z.about.Serial, serial, policy.NewZone(true, gone), policy.NewZone(true, come)}
			c.gone.Page, c.come.Page = next.Page, next.Page
			z.changes = append(z.changes, c)
			z.changes = z.changes[max(0, len(z.changes)-mostChanges):]
		} else {
			z.changes = nil // all of it is less
		}
	} else {
		z.changes = nil
	}
	z.about.Serial, z.zone, z.made = serial, next, time.Now()
	return true
}

// differ returns the lines that only one of two zones has.
func differ(before, after []policy.ZoneLine) (gone, come []policy.ZoneLine) {
	for i, j := 0, 0; i < len(before) || j < len(after); {
		order := 0
		switch {
		case j == len(after):
			order = -1
		case i == len(before):
			order = 1
		case before[i].Host != after[j].Host:
			order = policy.CompareHosts(before[i].Host, after[j].Host)
		case before[i] != after[j]:
			gone, come = append(gone, before[i]), append(come, after[j])
		}
		switch {
		case order < 0:
			gone = append(gone, before[i])
			i++
		case order > 0:
			come = append(come, after[j])
			j++
		default:
			i, j = i+1, j+1
		}
	}
	return gone, come
}

// took remembers that somebody has taken the zone with a serial.
func (z *handed) took(by netip.Addr, serial uint32) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if serial != z.about.Serial {
		return // another one has come meanwhile
	}
	z.takers = slices.DeleteFunc(z.takers, func(t gate.ZoneTaker) bool { return t.Address == by.String() })
	const most = 20
	z.takers = append(z.takers[max(0, len(z.takers)-most+1):], gate.ZoneTaker{Address: by.String(), Serial: int64(serial), At: time.Now(), Millis: time.Since(z.made).Milliseconds()})
}

// report says what is handed out, and who took it.
func (z *handed) report(who string) gate.Zone {
	z.mu.RLock()
	defer z.mu.RUnlock()
	r := gate.Zone{Origin: z.about.Origin, For: who, Serial: int64(z.about.Serial), MadeAt: z.made, Takers: append([]gate.ZoneTaker{}, z.takers...)}
	if z.zone != nil {
		r.Names = len(z.zone.Lines())
	}
	return r
}

// record makes a record.
func (z *handed) record(name, kind, value string) dns.RR {
	head := dns.RR_Header{Name: name + "." + z.about.Origin + ".", Class: dns.ClassINET, Ttl: zonefile.TTL}
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

// soa returns the record with which a zone begins at a serial.
func soa(about zonefile.About, serial uint32) dns.RR {
	about.Serial = serial
	rr, _ := dns.NewRR(zonefile.SOA(&about)) // it is in order
	return rr
}

// records gives all that a client gets that has a serial, 0 for none: everything, or what has changed since (RFC 1995, section 4). It returns the serial of what it gave.
func (z *handed) records(have uint32, each func(rr dns.RR)) uint32 {
	z.mu.RLock()
	about, zone, changes := z.about, z.zone, z.changes
	z.mu.RUnlock()
	first := slices.IndexFunc(changes, func(c zoneChange) bool { return c.from == have })
	lines := func(of *policy.Zone) {
		_, _ = zonefile.Records(of, &about, func(name, kind, value string) error {
			each(z.record(name, kind, value))
			return nil
		})
	}
	each(soa(about, about.Serial))
	switch {
	case have == about.Serial:
		return about.Serial
	case have > 0 && first >= 0:
		for _, c := range changes[first:] {
			each(soa(about, c.from))
			lines(c.gone)
			each(soa(about, c.to))
			lines(c.come)
		}
	default:
		ns, _ := dns.NewRR(zonefile.NS(&about)) // it is in order
		each(ns)
		lines(zone)
	}
	each(soa(about, about.Serial))
	return about.Serial
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
	var broke error
	sent.Go(func() {
		if err := new(dns.Transfer).Out(w, q, envelopes); err != nil {
			broke = err
			s.Log.WarnContext(s.base, "a zone could not be handed out", "zone", z.about.Origin, "to", from, "error", err)
		}
		for range envelopes { // where it broke off, the rest goes nowhere
		}
	})
	var some []dns.RR
	gave := z.records(have, func(rr dns.RR) {
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
	if broke == nil && gave != have {
		z.took(from, gave)
	}
	return true
}

// answer answers a question for the zone itself.
func (z *handed) answer(r, q *dns.Msg) {
	z.mu.RLock()
	defer z.mu.RUnlock()
	r.Authoritative = true
	switch {
	case z.about.Serial == 0:
		r.Rcode = dns.RcodeServerFailure // there are no rules yet
	case q.Question[0].Qtype == dns.TypeSOA, q.Question[0].Qtype == dns.TypeIXFR: // over UDP, whoever has another serial asks again over TCP
		r.Answer = []dns.RR{soa(z.about, z.about.Serial)}
	case q.Question[0].Qtype == dns.TypeNS:
		if ns, err := dns.NewRR(zonefile.NS(&z.about)); err == nil {
			r.Answer = []dns.RR{ns}
		}
	default:
		r.Ns = []dns.RR{soa(z.about, z.about.Serial)}
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
func (s *Server) notify(z *handed) {
	z.mu.RLock()
	first := soa(z.about, z.about.Serial)
	z.mu.RUnlock()
	for _, to := range s.Notify {
		go func() {
			for range 3 {
				m := new(dns.Msg)
				m.SetNotify(z.about.Origin + ".")
				m.Answer = []dns.RR{first}
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
			s.Log.WarnContext(s.base, "a resolver could not be told of a new zone; it asks by itself", "zone", z.about.Origin, "resolver", to)
		}()
	}
}

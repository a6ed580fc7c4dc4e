package dnsgate

import (
	"encoding/binary"
	"time"

	"github.com/miekg/dns"

	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// Most questions are for an address of an allowed name that is known. They are read by hand, and answered with bytes that were packed when the answer came: reading and
// writing them with the library costs more than their decision. Whatever is not as plain as that is answered the long way; both ways give the same answer.

// template is an answer as it is given where only the name that was asked for has to be decided.
type template struct {
	url      weburl.URL
	packed   []byte // with its question, and without EDNS
	ttls     []int  // where in packed the times to live stand
	minimums []int  // the same of the times that SOA records give to what is not there
}

// The head of a message (RFC 1035, section 4.1.1; RFC 4035, section 3.2).
const (
	headSize = 12 // bytes

	flagResponse = 0x80 // in the third byte
	flagDesired  = 0x01

	flagAvailable = 0x80 // in the fourth
	flagAuthentic = 0x20
	flagUnchecked = 0x10
)

// optSize is the size of an OPT record without options, in bytes (RFC 6891, section 6.1.2).
const optSize = 11

// newTemplate returns the template of an answer; nil where more than its name has to be decided, or it can be left out.
func newTemplate(name string, answer *dns.Msg) *template {
	u, ok := urlOf(name)
	if !ok || len(answer.Question) != 1 || answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
		return nil
	}
	m := answer.Copy()
	m.MsgHdr = dns.MsgHdr{Rcode: answer.Rcode, AuthenticatedData: answer.AuthenticatedData}
	m.Question[0].Name, m.Compress, m.Extra = name, true, nil
	for _, rr := range answer.Extra {
		if rr.Header().Rrtype != dns.TypeOPT {
			m.Extra = append(m.Extra, rr)
		}
	}
	for _, section := range [][]dns.RR{m.Answer, m.Ns, m.Extra} {
		for _, rr := range section {
			switch rr.Header().Rrtype {
			case dns.TypeCNAME, dns.TypeDNAME, dns.TypeHTTPS, dns.TypeSVCB, dns.TypeTSIG:
				return nil
			}
		}
	}
	packed, err := m.Pack()
	if err != nil {
		return nil
	}
	t := &template{url: u, packed: packed}
	_, at, err := dns.UnpackDomainName(packed, headSize)
	at += 4 // the type and the class
	for range len(m.Answer) + len(m.Ns) + len(m.Extra) {
		if err == nil {
			_, at, err = dns.UnpackDomainName(packed, at)
		}
		if err != nil || at+10 > len(packed) {
			return nil
		}
		kind, size := binary.BigEndian.Uint16(packed[at:]), int(binary.BigEndian.Uint16(packed[at+8:]))
		t.ttls = append(t.ttls, at+4)
		at += 10 + size
		if kind == dns.TypeSOA {
			t.minimums = append(t.minimums, at-4)
		}
	}
	return t
}

// plain is a question that was read by hand.
type plain struct {
	key  cacheKey
	end  int // of the question, in the message
	edns bool
	size int // of the answer, as the client takes it
}

// readPlain reads a question that has nothing in it but a name of letters, digits, "-" and "_", a type, and in EDNS what changes no answer. room takes the name.
func readPlain(packed []byte, room *[256]byte) (q plain, ok bool) {
	if len(packed) < headSize+5 || packed[2]&^flagDesired != 0 || packed[3]&(flagAvailable|0x0f) != 0 {
		return q, false
	}
	counts := binary.BigEndian.Uint64(packed[4:])
	if counts != 1<<48 && counts != 1<<48|1 {
		return q, false
	}
	at, n := headSize, 0
	for {
		if at >= len(packed) {
			return q, false
		}
		size := int(packed[at])
		if at++; size == 0 {
			break
		}
		if size > 63 || at+size > len(packed) || n+size+1 > len(room) {
			return q, false
		}
		for _, c := range packed[at : at+size] {
			switch {
			case 'A' <= c && c <= 'Z':
				c += 'a' - 'A'
			case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-', c == '_':
			default:
				return q, false
			}
			room[n] = c
			n++
		}
		room[n] = '.'
		n++
		at += size
	}
	if n == 0 || at+4 > len(packed) || at-headSize > 255 {
		return q, false
	}
	kind, class := binary.BigEndian.Uint16(packed[at:]), binary.BigEndian.Uint16(packed[at+2:])
	if class != dns.ClassINET {
		return q, false
	}
	q = plain{key: cacheKey{kind: kind, cd: packed[3]&flagUnchecked != 0}, end: at + 4, size: leastSize}
	if counts&1 == 1 && !q.readOPT(packed[q.end:]) || counts&1 == 0 && q.end != len(packed) {
		return q, false
	}
	q.key.name = string(room[:n])
	return q, true
}

// readOPT reads the OPT record with which a question ends, and reports whether it has nothing that changes the answer.
func (q *plain) readOPT(b []byte) bool {
	if len(b) < optSize || b[0] != 0 || binary.BigEndian.Uint16(b[1:]) != dns.TypeOPT || b[5] != 0 || b[6] != 0 || int(binary.BigEndian.Uint16(b[9:])) != len(b)-optSize {
		return false
	}
	q.edns, q.size, q.key.do = true, min(safeSize, max(leastSize, int(binary.BigEndian.Uint16(b[3:])))), b[7]&0x80 != 0
	for rest := b[optSize:]; len(rest) > 0; {
		if len(rest) < 4 {
			return false
		}
		code, size := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		if code != dns.EDNS0PADDING || 4+size > len(rest) {
			return false
		}
		rest = rest[4+size:]
	}
	return true
}

// quick answers a plain question for an allowed name that is known: out is the answer, packed into room, and ttl how long all of it holds, in seconds. Where out is nil, the
// question has to be answered the long way, by the decision that is there already, if there is one.
func (s *Server) quick(packed []byte, a asker, room []byte) (out []byte, ttl uint32, decided *gate.Decision) {
	var name [256]byte
	q, ok := readPlain(packed, &name)
	if !ok || len(s.zones) > 0 && s.zoneAt(q.key.name) != nil {
		return nil, 0, nil
	}
	k, fresh := s.fresh(q.key)
	if !fresh || k.template == nil {
		return nil, 0, nil
	}
	t := k.template
	if a.over != "udp" {
		q.size = mostMessage
	}
	if len(t.packed)+optSize > q.size || a.over == "udp" && !s.limits.allow(a.from) {
		return nil, 0, nil
	}
	begin := time.Now()
	d := s.Gate.Decide(gate.Request{Client: a.client, URL: t.url, Method: dns.TypeToString[q.key.kind], Sight: s.Gate.Sees(t.url, false)})
	if !d.Verdict.Passes() || d.Provisos.SafeSearch {
		late := d
		return nil, 0, &late
	}
	out = append(room[:0], t.packed...)
	copy(out, packed[:2])
	copy(out[headSize:q.end], packed[headSize:q.end])
	out[2] = flagResponse | packed[2]&flagDesired
	flags := flagAvailable | packed[3]&flagUnchecked | out[3]&0x0f
	if packed[3]&flagAuthentic != 0 || q.key.do {
		flags |= out[3] & flagAuthentic
	}
	out[3] = flags
	ttl = t.age(out, uint32(max(0, begin.Sub(k.at)/time.Second)), max(1, seconds(s.Gate.Lasts(d, s.Longest))))
	if q.edns {
		binary.BigEndian.PutUint16(out[10:], binary.BigEndian.Uint16(out[10:])+1)
		opt := [optSize]byte{2: byte(dns.TypeOPT), 3: safeSize >> 8, 4: safeSize & 0xff}
		if q.key.do {
			opt[7] = 0x80
		}
		out = append(out, opt[:]...)
	}
	s.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Took: time.Since(begin)})
	return out, ttl, nil
}

// age lets no record of an answer live longer than it still does, or than most, and returns the least of them, all in seconds.
func (t *template) age(out []byte, age, most uint32) (least uint32) {
	least = most
	for _, at := range t.ttls {
		ttl := binary.BigEndian.Uint32(out[at:])
		ttl = min(ttl-min(age, ttl), most)
		binary.BigEndian.PutUint32(out[at:], ttl)
		least = min(least, ttl)
	}
	for _, at := range t.minimums {
		binary.BigEndian.PutUint32(out[at:], min(binary.BigEndian.Uint32(out[at:]), most))
	}
	return least
}

package dnsgate

import (
	"errors"
	"net"
	"net/netip"
	"runtime"
	"sync"

	"github.com/miekg/dns"

	"widelark/internal/gate"
)

// ServeUDP answers questions until the server is closed.
//
// At one address, a few goroutines read and answer what needs no other resolver; each question in a goroutine of its own, as the library serves them, costs as much again as
// its answer. At all addresses of a machine the library serves: it answers from the address that was asked.
func (s *Server) ServeUDP(conn net.PacketConn) error {
	udp, ok := conn.(*net.UDPConn)
	if at, err := netip.ParseAddrPort(conn.LocalAddr().String()); !ok || err != nil || at.Addr().IsUnspecified() {
		return s.serve(&dns.Server{PacketConn: conn, UDPSize: 4096, Handler: s.over("udp")})
	}
	defer udp.Close()
	var readers sync.WaitGroup
	failed := make(chan error, 1)
	for range 2 * runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			if err := s.read(udp); err != nil {
				select {
				case failed <- err:
				default:
				}
			}
		})
	}
	select {
	case <-s.base.Done():
		_ = udp.Close()
	case err := <-failed:
		_ = udp.Close()
		readers.Wait()
		return err
	}
	readers.Wait()
	return nil
}

// read answers questions that come over UDP, until the server is closed.
func (s *Server) read(conn *net.UDPConn) error {
	packed, room := make([]byte, mostMessage), make([]byte, 0, 4096)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(packed)
		switch {
		case s.base.Err() != nil:
			return nil
		case errors.Is(err, net.ErrClosed):
			return err
		case err != nil:
			continue // that one is lost
		}
		q := new(dns.Msg)
		if n < 12 || packed[2]&0x80 != 0 { // no head, or an answer: there would be no end to it
			continue
		}
		if err := q.Unpack(packed[:n]); err != nil {
			r := &dns.Msg{}
			r.Id, r.Response, r.Rcode = uint16(packed[0])<<8|uint16(packed[1]), true, dns.RcodeFormatError
			room = s.send(conn, from, r, room)
			continue
		}
		if out := s.zoneOverUDP(packed[:n], q, from.Addr().Unmap()); out != nil {
			_, _ = conn.WriteToUDPAddrPort(out, from)
			continue
		}
		if !s.knows(q) {
			go func() { s.send(conn, from, s.overUDP(q, from.Addr()), nil) }()
			continue
		}
		room = s.send(conn, from, s.overUDP(q, from.Addr()), room)
	}
}

// knows reports whether the answer to a question is known without another resolver, unless it is refused.
func (s *Server) knows(q *dns.Msg) bool {
	if len(q.Question) != 1 {
		return true
	}
	_, fresh := s.fresh(keyOf(q, q.Question[0]))
	return fresh
}

// overUDP returns the answer to a question over UDP.
func (s *Server) overUDP(q *dns.Msg, from netip.Addr) *dns.Msg {
	from = from.Unmap().WithZone("")
	if !s.proven(q, from) && !s.limits.allow(from) {
		// Whoever is not forged asks again over TCP.
		r := new(dns.Msg)
		r.SetReply(q)
		r.Truncated = true
		return r
	}
	return s.answer(s.base, q, asker{client: gate.Client{Address: from}, from: from, over: "udp"})
}

// send sends an answer, and returns the room that it was packed in.
func (s *Server) send(conn *net.UDPConn, to netip.AddrPort, r *dns.Msg, room []byte) []byte {
	if r == nil {
		return room
	}
	packed, err := r.PackBuffer(room[:cap(room)])
	if err != nil {
		s.Log.WarnContext(s.base, "an answer cannot be written", "question", r.Question, "error", err)
		return room
	}
	_, _ = conn.WriteToUDPAddrPort(packed, to) // a datagram may be lost anywhere
	return packed[:0]
}

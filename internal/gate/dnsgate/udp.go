package dnsgate

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"sync"

	"github.com/miekg/dns"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"widelark/internal/gate"
)

// ServeUDP answers questions until the server is closed. A few goroutines read, and answer what needs no other resolver; each question in a goroutine of its own, as the
// library serves them, costs as much again as its answer.
func (s *Server) ServeUDP(conn net.PacketConn) error {
	udp, ok := conn.(*net.UDPConn)
	if !ok {
		return errors.New("questions over UDP need a socket for it")
	}
	defer udp.Close()
	everywhere := false
	if at, err := netip.ParseAddrPort(conn.LocalAddr().String()); err == nil && at.Addr().IsUnspecified() {
		everywhere = true
		if err := tellWhereAsked(udp, at.Addr().Is4()); err != nil {
			return err
		}
	}
	var readers sync.WaitGroup
	failed := make(chan error, 1)
	for range 2 * runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			if err := s.read(udp, everywhere); err != nil {
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

// tellWhereAsked has a socket at all addresses of a machine say at which of them a question came (ip(7), RFC 3542): the answer has to come from there.
func tellWhereAsked(conn *net.UDPConn, four bool) error {
	raw, err := conn.SyscallConn()
	if err != nil {
		return err
	}
	failed := raw.Control(func(fd uintptr) {
		if four {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_PKTINFO, 1)
		} else {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_RECVPKTINFO, 1)
		}
	})
	return errors.Join(failed, err)
}

// Questions are read, and answers sent, so many at once as are there; of each, the socket takes a call into the kernel (recvmmsg(2)).
const (
	batch        = 32
	mostDatagram = 4096 // bytes, of a question
)

// read answers questions that come over UDP, until the server is closed.
func (s *Server) read(conn *net.UDPConn, everywhere bool) error {
	socket := ipv4.NewPacketConn(conn) // for IPv6, batches are the same
	questions, answers := make([]ipv4.Message, batch), make([]ipv4.Message, 0, batch)
	rooms := make([][]byte, batch)
	for i := range questions {
		questions[i].Buffers = [][]byte{make([]byte, mostDatagram)}
		if everywhere {
			questions[i].OOB = make([]byte, 64)
		}
		rooms[i] = make([]byte, 0, safeSize)
	}
	for {
		n, err := socket.ReadBatch(questions, 0)
		switch {
		case s.base.Err() != nil:
			return nil
		case errors.Is(err, net.ErrClosed):
			return err
		case err != nil:
			continue // that one is lost
		}
		answers = answers[:0]
		for i, q := range questions[:n] {
			from, ok := q.Addr.(*net.UDPAddr)
			packed := q.Buffers[0][:q.N]
			if !ok || q.N < headSize || packed[2]&flagResponse != 0 { // no head, or an answer: there would be no end to it
				continue
			}
			back := ipv4.Message{Addr: from, OOB: q.OOB[:q.NN]}
			if head := unix.CmsgLen(0); q.NN > head+4 && binary.NativeEndian.Uint32(q.OOB[8:]) == unix.IPPROTO_IP {
				clear(q.OOB[head : head+4]) // the answer takes the way that leads to the client, not the one that the question came
			}
			out, later := s.answerDatagram(packed, from.AddrPort().Addr().Unmap().WithZone(""), rooms[i])
			if later != nil {
				asked := slices.Clone(back.OOB)
				go func() {
					if out := later(); out != nil {
						_, _, _ = conn.WriteMsgUDP(out, asked, from) // a datagram may be lost anywhere
					}
				}()
			}
			if out != nil {
				rooms[i] = out[:0]
				back.Buffers = [][]byte{out}
				answers = append(answers, back)
			}
		}
		for rest := answers; len(rest) > 0; {
			n, err := socket.WriteBatch(rest, 0)
			if err != nil {
				n = 1 // that one is lost
			}
			rest = rest[n:]
		}
	}
}

// answerDatagram answers a question that came over UDP: with what is to be sent, packed into room, or with what returns that once other resolvers have answered. Both are nil
// where the question deserves no answer.
func (s *Server) answerDatagram(packed []byte, from netip.Addr, room []byte) (out []byte, later func() []byte) {
	a := asker{client: gate.Client{Address: from}, from: from, over: "udp"}
	if out, _, a.decided = s.quick(packed, a, room); out != nil {
		return out, nil
	}
	q := new(dns.Msg)
	if err := q.Unpack(packed); err != nil {
		r := &dns.Msg{}
		r.Id, r.Response, r.Rcode = binary.BigEndian.Uint16(packed), true, dns.RcodeFormatError
		return s.pack(r, room), nil
	}
	if out := s.zoneOverUDP(packed, q, from); out != nil {
		return out, nil
	}
	if !s.knows(q) {
		return nil, func() []byte { return s.pack(s.overUDP(q, a), nil) }
	}
	return s.pack(s.overUDP(q, a), room), nil
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
func (s *Server) overUDP(q *dns.Msg, a asker) *dns.Msg {
	if a.decided == nil && !s.proven(q, a.from) && !s.limits.allow(a.from) {
		// Whoever is not forged asks again over TCP.
		r := new(dns.Msg)
		r.SetReply(q)
		r.Truncated = true
		return r
	}
	return s.answer(s.base, q, a)
}

// pack returns an answer as it is sent; nil for none.
func (s *Server) pack(r *dns.Msg, room []byte) []byte {
	if r == nil {
		return nil
	}
	packed, err := r.PackBuffer(room[:cap(room)])
	if err != nil {
		s.Log.WarnContext(s.base, "an answer cannot be written", "question", r.Question, "error", err)
		return nil
	}
	return packed
}

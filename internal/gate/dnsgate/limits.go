package dnsgate

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"time"

	"github.com/dchest/siphash"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/miekg/dns"
	"golang.org/x/time/rate"
)

// limits bounds how many answers go over UDP to one network in a second: the addresses of questions can be forged, and the answers are larger. It is safe for concurrent
// use.
type limits struct {
	rate rate.Limit
	of   *lru.Cache[netip.Prefix, *rate.Limiter]
}

const mostNetworks = 50_000

func newLimits(perSecond float64) *limits {
	l := &limits{rate: rate.Limit(perSecond)}
	l.of, _ = lru.New[netip.Prefix, *rate.Limiter](mostNetworks) // the size is in order
	return l
}

// allow reports whether one more answer may go to the network of an address.
func (l *limits) allow(at netip.Addr) bool {
	bits := 24
	if at = at.Unmap(); at.Is6() {
		bits = 56
	}
	network, _ := at.Prefix(bits)
	one, ok := l.of.Get(network)
	if !ok {
		one = rate.NewLimiter(l.rate, int(l.rate))
		l.of.Add(network, one)
	}
	return one.Allow()
}

// Cookies are as RFC 9018 has them: a version, three reserved bytes, when they were made, and a hash.
const (
	cookieVersion = 1
	clientCookie  = 8  // bytes, as are those below
	serverCookie  = 16 // ours
	cookieLasts   = time.Hour
	cookieAhead   = 5 * time.Minute
)

// cookie returns the cookie that belongs to the answer to a question with one; nil where it has none, or one that cannot be read.
func (s *Server) cookie(opt *dns.OPT, from netip.Addr) *dns.EDNS0_COOKIE {
	sent := cookieOf(opt)
	if sent == nil {
		return nil
	}
	return &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: hex.EncodeToString(append(sent[:clientCookie:clientCookie], s.ourCookie(sent[:clientCookie], from, time.Now())...))}
}

func (s *Server) ourCookie(client []byte, from netip.Addr, at time.Time) []byte {
	ours := make([]byte, 8, serverCookie)
	ours[0] = cookieVersion
	binary.BigEndian.PutUint32(ours[4:], uint32(at.Unix()))
	return binary.LittleEndian.AppendUint64(ours, s.cookieHash(client, ours, from))
}

func (s *Server) cookieHash(client, head []byte, from netip.Addr) uint64 {
	text := append(append(append([]byte{}, client...), head...), from.Unmap().AsSlice()...)
	return siphash.Hash(binary.LittleEndian.Uint64(s.cookies[:8]), binary.LittleEndian.Uint64(s.cookies[8:]), text)
}

// cookieOf returns the bytes of a question's cookie; nil where there is none that can be read (RFC 7873, section 4).
func cookieOf(opt *dns.OPT) []byte {
	if opt == nil {
		return nil
	}
	for _, option := range opt.Option {
		if c, ok := option.(*dns.EDNS0_COOKIE); ok {
			bytes, err := hex.DecodeString(c.Cookie)
			if n := len(bytes); err == nil && (n == clientCookie || n >= clientCookie+8 && n <= clientCookie+32) {
				return bytes
			}
			return nil
		}
	}
	return nil
}

// proven reports whether a question has a cookie that we made for its address: then that is not forged.
func (s *Server) proven(q *dns.Msg, from netip.Addr) bool {
	sent := cookieOf(q.IsEdns0())
	if len(sent) != clientCookie+serverCookie || sent[clientCookie] != cookieVersion {
		return false
	}
	head := sent[clientCookie : clientCookie+8]
	age := time.Since(time.Unix(int64(binary.BigEndian.Uint32(head[4:])), 0))
	return age < cookieLasts && age > -cookieAhead && binary.LittleEndian.Uint64(sent[clientCookie+8:]) == s.cookieHash(sent[:clientCookie], head, from)
}

package dnsgate

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/demo"
	"widelark/internal/gate"
)

// warm returns a server that knows some names already.
func warm(t testing.TB) *Server {
	s := New(Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, HideHints: true, Log: slog.New(slog.DiscardHandler)})
	t.Cleanup(func() { _ = s.Close() })
	for _, name := range known {
		for _, kind := range kinds {
			for _, do := range []bool{false, true} {
				q := new(dns.Msg)
				q.SetQuestion(name+".", kind)
				q.SetEdns0(1232, do)
				s.answer(t.Context(), q, asker{client: gate.Client{Address: office}, from: office, over: "tcp"})
			}
		}
	}
	return s
}

var (
	known = []string{"heron.example", "www.heron.example", "pebble-poker.example", "find.skerry.example", "gone.example", "_sip._tcp.heron.example", "unlisted.example", "leads-to.pebble-poker.example"}
	kinds = []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeHTTPS, dns.TypeTXT, dns.TypeMX, dns.TypeCNAME}
)

// agree asks a question both ways, and reports whether the quick one answered.
func agree(t *testing.T, s *Server, packed []byte, from netip.Addr, over string) bool {
	a := asker{client: gate.Client{Address: from}, from: from, over: over}
	out, ttl, decided := s.quick(packed, a, nil)
	if out == nil {
		return false
	}
	require.Nil(t, decided)
	q, quick := new(dns.Msg), new(dns.Msg)
	require.NoError(t, q.Unpack(packed), "what is read by hand can be read")
	require.NoError(t, quick.Unpack(out))
	long := s.answer(t.Context(), q, a)
	require.NotNil(t, long)
	for _, rr := range slices.Concat(quick.Answer, quick.Ns, quick.Extra, long.Answer, long.Ns, long.Extra) {
		if rr.Header().Rrtype != dns.TypeOPT {
			require.GreaterOrEqual(t, rr.Header().Ttl, ttl)
			rr.Header().Ttl, rr.Header().Rdlength = rr.Header().Ttl/10, 0 // a second may have passed between them
		}
	}
	lower := func(m *dns.Msg) string { // the long way gives names of records as resolvers do
		asked := m.Question[0].Name
		text := strings.ToLower(m.String())
		return asked + "\n" + text
	}
	require.Equal(t, lower(long), lower(quick))
	return true
}

// The quick way and the long one give the same answers.
func TestQuickAgrees(t *testing.T) {
	s := warm(t)
	random := rand.New(rand.NewPCG(7, 7))
	quick := 0
	for range 4000 {
		name := []byte(known[random.IntN(len(known))] + ".")
		for i, c := range name {
			if random.IntN(3) == 0 && 'a' <= c && c <= 'z' {
				name[i] -= 'a' - 'A'
			}
		}
		q := new(dns.Msg)
		q.SetQuestion(string(name), kinds[random.IntN(len(kinds))])
		q.RecursionDesired, q.CheckingDisabled, q.AuthenticatedData = random.IntN(2) == 0, random.IntN(8) == 0, random.IntN(2) == 0
		if random.IntN(2) == 0 {
			q.SetEdns0(uint16(random.IntN(5000)), random.IntN(2) == 0)
			if random.IntN(3) == 0 {
				q.IsEdns0().Option = append(q.IsEdns0().Option, &dns.EDNS0_PADDING{Padding: make([]byte, random.IntN(40))})
			}
			if random.IntN(6) == 0 {
				q.IsEdns0().Option = append(q.IsEdns0().Option, &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: "0102030405060708"})
			}
		}
		packed, err := q.Pack()
		require.NoError(t, err)
		if agree(t, s, packed, []netip.Addr{ward, office}[random.IntN(2)], []string{"udp", "https"}[random.IntN(2)]) {
			quick++
		}
	}
	assert.Greater(t, quick, 800)
}

func FuzzQuick(f *testing.F) {
	s := warm(f)
	for i, name := range known {
		q := new(dns.Msg)
		q.SetQuestion(name+".", kinds[i%3])
		if i%2 == 0 {
			q.SetEdns0(1232, true)
		}
		packed, err := q.Pack()
		require.NoError(f, err)
		f.Add(packed)
	}
	f.Fuzz(func(t *testing.T, packed []byte) { agree(t, s, packed, ward, "udp") })
}

// A socket at all addresses of the machine answers from the one that was asked.
func TestAllAddresses(t *testing.T) {
	for _, listen := range []string{"0.0.0.0:0", "[::]:0"} {
		t.Run(listen, func(t *testing.T) {
			conn, err := net.ListenPacket("udp", listen)
			require.NoError(t, err)
			s := New(Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, Log: slog.New(slog.DiscardHandler)})
			served := make(chan error, 1)
			go func() { served <- s.ServeUDP(conn) }()
			port := conn.LocalAddr().(*net.UDPAddr).Port
			asked := []string{"127.0.0.1", "127.0.40.3"}
			if strings.HasPrefix(listen, "[") {
				asked = append(asked, "::1")
			}
			for _, at := range asked {
				for _, name := range []string{"heron.example", "heron.example", "pebble-poker.example"} { // from resolvers, from the cache, and refused or not
					r, err := dns.Exchange(question(name, dns.TypeA), net.JoinHostPort(at, fmt.Sprint(port))) // it hears only the address that it asked
					require.NoError(t, err, at)
					assert.Equal(t, dns.RcodeSuccess, r.Rcode)
				}
			}
			require.NoError(t, s.Close())
			require.NoError(t, <-served)
		})
	}
}

// Requests over HTTPS of any form are answered: with a message that is one, or a status that says what is wrong.
func FuzzHTTPS(f *testing.F) {
	s := New(Config{Gate: gateOf(floor(), policy.Facts{}), Log: slog.New(slog.DiscardHandler)})
	packed, err := question("pebble-poker.example", dns.TypeA).Pack()
	require.NoError(f, err)
	f.Add("GET", "dns="+base64.RawURLEncoding.EncodeToString(packed), "", []byte(nil))
	f.Add("POST", "", "application/dns-message", packed)
	f.Add("POST", "", "application/dns-message", packed[:11])
	f.Add("GET", "dns=AAAA&dns=%21", "", []byte(nil))
	f.Fuzz(func(t *testing.T, method, query, kind string, body []byte) {
		r := httptest.NewRequest(http.MethodGet, "/dns-query", bytes.NewReader(body))
		r.Method, r.URL.RawQuery = method, query
		r.Header.Set("Content-Type", kind)
		w := httptest.NewRecorder()
		s.overHTTPS(w, r)
		if w.Code == http.StatusOK {
			require.NoError(t, new(dns.Msg).Unpack(w.Body.Bytes()))
		} else {
			require.True(t, w.Code >= 400 && w.Code < 500, w.Code)
		}
	})
}

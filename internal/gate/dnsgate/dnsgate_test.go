package dnsgate

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/demo"
	"widelark/internal/gate"
	"widelark/internal/gate/gatetest"
	"widelark/internal/journal"
)

// listen takes a free port for UDP and TCP.
func listen(t testing.TB) (conn net.PacketConn, listener net.Listener) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		listener, err = net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		if conn, err = net.ListenPacket("udp", listener.Addr().String()); err != nil {
			_ = listener.Close()
		}
		return err == nil
	}, 10*time.Second, time.Millisecond)
	return conn, listener
}

// world starts a resolver, and returns where it is.
func world(t testing.TB, handler dns.Handler) Forwarder {
	t.Helper()
	conn, listener := listen(t)
	for _, server := range []*dns.Server{{PacketConn: conn, Handler: handler}, {Listener: listener, Handler: handler}} {
		started := make(chan struct{})
		server.NotifyStartedFunc = func() { close(started) }
		go func() { _ = server.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = server.Shutdown() })
	}
	return Forwarder{Address: netip.MustParseAddrPort(conn.LocalAddr().String())}
}

// begin serves over UDP and TCP, and returns where.
func begin(t testing.TB, c Config) (s *Server, at string) {
	t.Helper()
	c.Log = slog.New(slog.DiscardHandler)
	s = New(c)
	conn, listener := listen(t)
	at = conn.LocalAddr().String()
	served := make(chan error, 2)
	go func() { served <- s.ServeUDP(conn) }()
	go func() { served <- s.ServeTCP(listener) }()
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		for range 2 {
			assert.NoError(t, <-served)
		}
	})
	return s, at
}

// exchange asks a question from an address over UDP or TCP.
func exchange(t testing.TB, at, network string, from netip.Addr, q *dns.Msg) *dns.Msg {
	t.Helper()
	var local net.Addr = &net.UDPAddr{IP: from.AsSlice()}
	if network == "tcp" {
		local = &net.TCPAddr{IP: from.AsSlice()}
	}
	client := dns.Client{Net: network, Timeout: 10 * time.Second, Dialer: &net.Dialer{LocalAddr: local, Timeout: 10 * time.Second}}
	r, _, err := client.Exchange(q, at)
	require.NoError(t, err, q.Question)
	return r
}

func question(name string, kind uint16) *dns.Msg {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), kind)
	q.SetEdns0(1232, false)
	return q
}

// extended returns the code and the text of the extended error of an answer; 0 for none.
func extended(r *dns.Msg) (uint16, string) {
	if opt := r.IsEdns0(); opt != nil {
		for _, o := range opt.Option {
			if e, ok := o.(*dns.EDNS0_EDE); ok {
				return e.InfoCode, e.ExtraText
			}
		}
	}
	return 0, ""
}

// The DNS gate passes what every protocol of a gate must pass, over UDP and TCP.
func TestConformance(t *testing.T) {
	resolver := world(t, demo.Resolver())
	for _, network := range []string{"udp", "tcp"} {
		t.Run(network, func(t *testing.T) {
			gatetest.Run(t, policy.DNS, func(t *testing.T, s *gatetest.Stand) gatetest.Child {
				_, at := begin(t, Config{Gate: s.Gate, Forwarders: []Forwarder{resolver}})
				return gatetest.Child{Scheme: "https", Ask: func(t *testing.T, from netip.Addr, target string) bool {
					u, err := url.Parse(target)
					require.NoError(t, err)
					r := exchange(t, at, network, from, question(u.Hostname(), dns.TypeA))
					code, _ := extended(r)
					assert.Equal(t, len(r.Answer) == 0, code == dns.ExtendedErrorCodeBlocked)
					return len(r.Answer) > 0
				}}
			})
		})
	}
}

// none keeps no records.
type none struct{}

func (none) Add(journal.Record) {}

// floor is a configuration with a ward on 127.0.10.0/24.
func floor() policy.Config {
	entries := func(texts ...string) []pattern.Entry { return pattern.Keep(texts...) }
	list := func(ids ...string) policy.Cond { return policy.Cond{Op: policy.InList, Values: ids} }
	return policy.Config{
		Zone: time.UTC, Way: policy.ByDNS,
		Directory: directory.New([]directory.Person{{ID: uuid.NewString(), Name: "Kay Moran"}}, []directory.Group{{ID: "nurses", Name: "Nurses", Networks: []string{"ward"}}},
			[]directory.Network{{ID: "ward", Name: "Ward", Ranges: []netip.Prefix{netip.MustParsePrefix("127.0.10.0/24"), netip.MustParsePrefix("10.40.0.0/16")}}, {ID: "bed", Name: "A bed", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.7.64/26")}}}),
		Lists:   match.New([]match.List{{ID: "bad", Name: "Betting", Entries: entries("oddsfield.example", "! help.oddsfield.example", "pebble-poker.example", "=exact.example")}, {ID: "find", Name: "Search", Entries: entries("find.skerry.example")}}),
		Engines: []policy.Engine{{ID: "e", Name: "Skerry", Entries: entries("find.skerry.example"), Safe: policy.Safe{By: policy.ByHost, Value: "calm.skerry.example"}}},
		Policies: []policy.Policy{{ID: "p", Name: "Ward", Groups: []string{"nurses"}, Otherwise: policy.Allow, Rules: []policy.Rule{
			{ID: uuid.NewString(), Name: "Never", If: list("bad"), Then: policy.Block}, {ID: uuid.NewString(), Name: "Search", If: list("find"), Then: policy.Allow, With: policy.Provisos{SafeSearch: true}},
		}}},
		Fallback: &policy.Policy{ID: "f", Name: "Fallback", Otherwise: policy.Allow},
	}
}

func gateOf(config policy.Config, facts policy.Facts) *gate.Gate {
	g := gate.New(policy.DNS, "test", time.Now, none{})
	g.Take(&gate.Edition{Revision: 1, Snapshot: policy.New(config).With(facts)})
	return g
}

var (
	ward   = netip.MustParseAddr("127.0.10.7")
	office = netip.MustParseAddr("127.0.30.7")
)

// What is refused is refused for every type, with the reason, as the policy says; what only stands beside it is not.
func TestRefused(t *testing.T) {
	resolver := world(t, demo.Resolver())
	config := floor()
	page := []netip.Addr{netip.MustParseAddr("192.0.2.80"), netip.MustParseAddr("2001:db8::80")}
	g := gateOf(config, policy.Facts{})
	_, at := begin(t, Config{Gate: g, Forwarders: []Forwarder{resolver}, Page: page})
	types := []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeHTTPS, dns.TypeTXT, dns.TypeMX, dns.TypePTR, dns.TypeSRV, 65280}
	for _, kind := range types {
		for name, rcode := range map[string]int{
			"pebble-poker.example": dns.RcodeNameError, "www.Pebble-Poker.example": dns.RcodeNameError, "oddsfield.example": dns.RcodeSuccess, "exact.example": dns.RcodeSuccess,
			"_443._tcp.pebble-poker.example": dns.RcodeNameError, "leads-to.pebble-poker.example": dns.RcodeNameError,
		} {
			r := exchange(t, at, "udp", ward, question(name, kind))
			assert.Equal(t, rcode, r.Rcode, "%s %s", name, dns.TypeToString[kind])
			assert.Empty(t, r.Answer, name)
			require.Len(t, r.Ns, 1)
			assert.LessOrEqual(t, r.Ns[0].Header().Ttl, uint32(10))
			code, text := extended(r)
			assert.Equal(t, dns.ExtendedErrorCodeBlocked, code)
			assert.Contains(t, text, `The rule "Never" of the policy "Ward" says block, because the list "Betting"`)
		}
	}
	for _, name := range []string{"help.oddsfield.example", "heron.example", "sub.exact.example"} {
		r := exchange(t, at, "udp", ward, question(name, dns.TypeA))
		assert.Len(t, r.Answer, 1, name)
		assert.LessOrEqual(t, r.Answer[0].Header().Ttl, uint32(60))
	}
	assert.Len(t, exchange(t, at, "udp", office, question("pebble-poker.example", dns.TypeA)).Answer, 1, "for others, it is allowed")

	// Over a name that leads there, too: by the rule that names it, not by an otherwise.
	code, text := extended(exchange(t, at, "udp", ward, question("leads-to.oddsfield.example", dns.TypeA)))
	assert.Equal(t, dns.ExtendedErrorCodeBlocked, code, text)

	config.Policies = slices.Clone(config.Policies) // the edition that is in force keeps its own
	config.Policies[0].Names = policy.RefusedName
	g.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(config)})
	assert.Equal(t, dns.RcodeRefused, exchange(t, at, "udp", ward, question("pebble-poker.example", dns.TypeA)).Rcode)

	config.Policies = slices.Clone(config.Policies)
	config.Policies[0].Names = policy.PageOfRefused
	g.Take(&gate.Edition{Revision: 3, Snapshot: policy.New(config)})
	for kind, want := range map[uint16]string{dns.TypeA: "192.0.2.80", dns.TypeAAAA: "2001:db8::80"} {
		r := exchange(t, at, "udp", ward, question("pebble-poker.example", kind))
		require.Len(t, r.Answer, 1)
		assert.True(t, strings.HasSuffix(r.Answer[0].String(), want), r.Answer[0].String())
		assert.LessOrEqual(t, r.Answer[0].Header().Ttl, uint32(10))
	}
	assert.Empty(t, exchange(t, at, "udp", ward, question("pebble-poker.example", dns.TypeHTTPS)).Answer)
}

// Every name that a name leads to is decided: by rules that name it, and not where an exception allows the name that was asked for.
func TestChains(t *testing.T) {
	resolver := world(t, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		r := new(dns.Msg)
		r.SetReply(q)
		zone := map[string]string{
			"a.example. A":     "a.example. 300 IN CNAME b.example.\nb.example. 300 IN CNAME pebble-poker.example.\npebble-poker.example. 300 IN A 192.0.2.1",
			"s.example. HTTPS": "s.example. 300 IN HTTPS 1 pebble-poker.example. alpn=h2",
			"c.example. A":     "c.example. 300 IN CNAME elsewhere.test.\nelsewhere.test. 300 IN A 192.0.2.1",
		}
		p := dns.NewZoneParser(strings.NewReader(zone[strings.ToLower(q.Question[0].Name)+" "+dns.TypeToString[q.Question[0].Qtype]]), "", "")
		for rr, ok := p.Next(); ok; rr, ok = p.Next() {
			r.Answer = append(r.Answer, rr)
		}
		_ = w.WriteMsg(r)
	}))
	config := floor()
	g := gateOf(config, policy.Facts{})
	_, at := begin(t, Config{Gate: g, Forwarders: []Forwarder{resolver}})
	for name, kind := range map[string]uint16{"a.example": dns.TypeA, "s.example": dns.TypeHTTPS} {
		r := exchange(t, at, "udp", ward, question(name, kind))
		assert.Equal(t, dns.RcodeSuccess, r.Rcode, "other names below it may be open")
		assert.Empty(t, r.Answer)
		_, text := extended(r)
		assert.Contains(t, text, name+" leads to pebble-poker.example. The rule")
	}
	assert.NotEmpty(t, exchange(t, at, "udp", office, question("a.example", dns.TypeA)).Answer)

	config.Exceptions = []policy.Exception{{ID: uuid.NewString(), Name: "A", Entries: pattern.Keep("a.example"), Then: policy.Allow, For: policy.Whom{Everybody: true}}}
	g.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(config)})
	assert.NotEmpty(t, exchange(t, at, "udp", ward, question("a.example", dns.TypeA)).Answer, "an exception allows the name that was asked for")

	config.Policies = slices.Clone(config.Policies)
	config.Policies[0].Otherwise, config.Policies[0].Rules = policy.Block, []policy.Rule{{ID: uuid.NewString(), Name: "Open", If: policy.Cond{Op: policy.InList, Values: []string{"c"}}, Then: policy.Allow}}
	config.Lists, config.Exceptions = match.New([]match.List{{ID: "c", Name: "C", Entries: pattern.Keep("c.example")}}), nil
	g.Take(&gate.Edition{Revision: 3, Snapshot: policy.New(config)})
	assert.NotEmpty(t, exchange(t, at, "udp", ward, question("c.example", dns.TypeA)).Answer, "an otherwise says nothing about where it leads")
}

// Search engines are answered with their other host, where safe search is wanted.
func TestSafeSearch(t *testing.T) {
	_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}})
	r := exchange(t, at, "udp", ward, question("find.skerry.example", dns.TypeA))
	require.Len(t, r.Answer, 2)
	assert.Equal(t, "calm.skerry.example.", r.Answer[0].(*dns.CNAME).Target)
	assert.Equal(t, "calm.skerry.example.", r.Answer[1].Header().Name)
	assert.Len(t, exchange(t, at, "udp", office, question("find.skerry.example", dns.TypeA)).Answer, 1)
}

// Hints that lead around the proxy gate are taken out where that is wanted, and nothing is left that asks for them.
func TestHints(t *testing.T) {
	resolver := world(t, demo.Resolver())
	for _, hides := range []bool{false, true} {
		_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{resolver}, HideHints: hides})
		r := exchange(t, at, "udp", ward, question("heron.example", dns.TypeHTTPS))
		require.Len(t, r.Answer, 1)
		text := r.Answer[0].String()
		assert.Equal(t, !hides, strings.Contains(text, "ech="), text)
		assert.Equal(t, !hides, strings.Contains(text, "h3"), text)
		assert.Contains(t, text, "h2")
		assert.Equal(t, !hides, strings.Contains(text, `mandatory="alpn,ech"`), text)
	}
}

// Who asks is told by forwarders that are trusted; a part of an address counts for what holds all of it, and for nobody in particular.
func TestSubnets(t *testing.T) {
	config := floor()
	kay := config.Directory.People[0].ID
	facts := policy.Facts{Presences: []policy.Presence{{Person: kay, Addr: netip.MustParseAddr("10.40.3.0"), From: time.Now().Add(-time.Hour), Until: time.Now().Add(time.Hour)}}}
	g := gateOf(config, facts)
	s, at := begin(t, Config{Gate: g, Forwarders: []Forwarder{world(t, demo.Resolver())}, Trusted: []netip.Prefix{netip.MustParsePrefix("127.0.30.0/24")}})
	ask := func(from netip.Addr, subnet string) *dns.Msg {
		q := question("pebble-poker.example", dns.TypeA)
		r := netip.MustParsePrefix(subnet)
		family := uint16(1)
		if r.Addr().Is6() {
			family = 2
		}
		opt := q.IsEdns0()
		opt.Option = append(opt.Option, &dns.EDNS0_SUBNET{Code: dns.EDNS0SUBNET, Family: family, SourceNetmask: uint8(r.Bits()), Address: net.IP(r.Addr().AsSlice())})
		return exchange(t, at, "udp", from, q)
	}
	for subnet, blocked := range map[string]bool{"10.40.3.9/32": true, "10.40.3.0/24": true, "10.40.7.0/24": false, "10.40.7.64/26": false, "192.0.2.0/24": false, "2001:db8::/56": false, "10.0.0.0/8": false} {
		assert.Equal(t, blocked, len(ask(office, subnet).Answer) == 0, subnet)
	}
	assert.NotEmpty(t, ask(netip.MustParseAddr("127.0.40.1"), "10.40.3.9/32").Answer, "it is not trusted")
	q := question("heron.example", dns.TypeA)
	q.IsEdns0().Option = append(q.IsEdns0().Option, &dns.EDNS0_SUBNET{Family: 1, SourceNetmask: 24, Address: net.IP{10, 40, 3, 0}})
	c := s.client(q, asker{client: gate.Client{Address: office}, from: office, over: "udp"})
	assert.Equal(t, uuid.Nil, g.Known(c).Person, "nobody is known by a part of an address")
}

// Answers are kept as long as they say and no longer, failures shortly; where no resolver answers, what was known is given.
func TestCache(t *testing.T) {
	var asked atomic.Int64
	var away atomic.Bool
	handler := demo.Resolver()
	resolver := world(t, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		asked.Add(1)
		if !away.Load() {
			handler.ServeDNS(w, q)
		}
	}))
	s, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{resolver}})
	a := func(name string) *dns.Msg { return exchange(t, at, "udp", ward, question(name, dns.TypeA)) }
	first := a("heron.example")
	a("HERON.example")
	assert.EqualValues(t, 1, asked.Load())
	assert.Equal(t, "HERON.example.", a("HERON.example").Question[0].Name)
	assert.Equal(t, dns.RcodeNameError, a("gone.example").Rcode)
	assert.Equal(t, dns.RcodeNameError, a("gone.example").Rcode)
	assert.EqualValues(t, 2, asked.Load())
	assert.Equal(t, 1, s.cache.nothing.Len())

	key := cacheKey{"heron.example.", dns.TypeA, false, false}
	k, ok := s.cache.get(key)
	require.True(t, ok)
	s.cache.found.Add(key, &kept{answer: k.answer, at: k.at.Add(-time.Hour), until: time.Now().Add(-time.Minute), template: k.template})
	away.Store(true)
	begun := time.Now()
	stale := a("heron.example")
	require.Len(t, stale.Answer, 1)
	assert.Equal(t, first.Answer[0].(*dns.A).A.String(), stale.Answer[0].(*dns.A).A.String())
	assert.LessOrEqual(t, stale.Answer[0].Header().Ttl, uint32(30))
	code, _ := extended(stale)
	assert.Equal(t, dns.ExtendedErrorCodeStaleAnswer, code)
	assert.Less(t, time.Since(begun), 8*time.Second)
	failed := a("other.example")
	assert.Equal(t, dns.RcodeServerFailure, failed.Rcode)
	code, _ = extended(failed)
	assert.Equal(t, dns.ExtendedErrorCodeNoReachableAuthority, code)
}

// The first resolver that is well is asked; one that is cut short is asked over TCP, one that answers something else is not believed.
func TestResolvers(t *testing.T) {
	good := world(t, demo.Resolver())
	odd := world(t, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		r := new(dns.Msg)
		r.SetReply(q)
		r.Question[0].Name = "oddsfield.example."
		_ = w.WriteMsg(r)
	}))
	lower := world(t, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		q.Question[0].Name = strings.ToLower(q.Question[0].Name)
		demo.Resolver().ServeDNS(w, q)
	}))
	gone := Forwarder{Address: netip.MustParseAddrPort("127.0.0.1:1")}
	for name, forwarders := range map[string][]Forwarder{"one": {good}, "the first is gone": {gone, good}, "the first answers something else": {odd, good}, "letter case is lost": {lower}} {
		_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: forwarders})
		for range 5 {
			for _, host := range []string{"heron.example", "www.heron.example", "gull.example"} {
				r := exchange(t, at, "udp", ward, question(host, dns.TypeA))
				assert.NotEmpty(t, r.Answer, "%s: %s", name, host)
				for _, rr := range r.Answer {
					assert.Equal(t, strings.ToLower(rr.String()), strings.Replace(strings.Replace(rr.String(), "IN", "in", 1), dns.TypeToString[rr.Header().Rrtype], strings.ToLower(dns.TypeToString[rr.Header().Rrtype]), 1), "as it was asked for")
				}
			}
		}
		long := exchange(t, at, "udp", ward, question("heron.example", dns.TypeTXT))
		assert.True(t, long.Truncated, name)
		assert.LessOrEqual(t, long.Len(), 1232)
		whole := exchange(t, at, "tcp", ward, question("heron.example", dns.TypeTXT))
		assert.False(t, whole.Truncated)
		assert.Len(t, whole.Answer[0].(*dns.TXT).Txt, 40)
	}
	_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{odd}})
	assert.Equal(t, dns.RcodeServerFailure, exchange(t, at, "udp", ward, question("heron.example", dns.TypeA)).Rcode)
}

// What is no question for a site is refused, or answered as the standards say.
func TestOdd(t *testing.T) {
	_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}})
	for name, c := range map[string]struct {
		change func(q *dns.Msg)
		rcode  int
	}{
		"ANY":           {func(q *dns.Msg) { q.Question[0].Qtype = dns.TypeANY }, dns.RcodeRefused},
		"a transfer":    {func(q *dns.Msg) { q.Question[0].Qtype = dns.TypeAXFR }, dns.RcodeRefused},
		"another class": {func(q *dns.Msg) { q.Question[0].Qclass = dns.ClassCHAOS }, dns.RcodeRefused},
		"an update":     {func(q *dns.Msg) { q.Opcode = dns.OpcodeUpdate }, dns.RcodeNotImplemented},
		"two questions": {func(q *dns.Msg) { q.Question = append(q.Question, q.Question[0]) }, dns.RcodeFormatError},
		"an address":    {func(q *dns.Msg) { q.Question[0].Name = "192.0.2.1." }, dns.RcodeRefused},
		"no host":       {func(q *dns.Msg) { q.Question[0].Name = `a\000b.example.` }, dns.RcodeRefused},
		"EDNS 1":        {func(q *dns.Msg) { q.IsEdns0().SetVersion(1) }, dns.RcodeBadVers},
		"the root":      {func(q *dns.Msg) { q.Question[0] = dns.Question{Name: ".", Qtype: dns.TypeNS, Qclass: dns.ClassINET} }, dns.RcodeSuccess},
		"a reverse one": {func(q *dns.Msg) {
			q.Question[0] = dns.Question{Name: "7.10.40.10.in-addr.arpa.", Qtype: dns.TypePTR, Qclass: dns.ClassINET}
		}, dns.RcodeSuccess},
	} {
		q := question("heron.example", dns.TypeA)
		c.change(q)
		r := exchange(t, at, "tcp", ward, q)
		assert.Equal(t, c.rcode, r.Rcode, name)
	}
	small := new(dns.Msg)
	small.SetQuestion("heron.example.", dns.TypeTXT)
	r := exchange(t, at, "udp", ward, small)
	assert.True(t, r.Truncated)
	assert.LessOrEqual(t, r.Len(), 512)
	assert.Nil(t, r.IsEdns0())
}

// Names of our own are answered from their file, and nothing else is made up below them.
func TestLocal(t *testing.T) {
	z, err := ReadZone(strings.NewReader(`$ORIGIN quillmere.internal.
$TTL 300
@ IN SOA ns hostmaster 1 3600 600 86400 60
@ IN A 10.40.0.1
intranet IN A 10.40.0.2
www IN CNAME intranet
deep.below IN A 10.40.0.3
printer.example. IN A 10.40.0.4
2.0.40.10.in-addr.arpa. IN PTR intranet.quillmere.internal.
`), "local.zone")
	require.NoError(t, err)
	_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, Local: z})
	for name, want := range map[string]string{
		"intranet.quillmere.internal A": "10.40.0.2", "www.quillmere.internal A": "10.40.0.2", "quillmere.internal A": "10.40.0.1", "Printer.example A": "10.40.0.4", "2.0.40.10.in-addr.arpa PTR": "intranet.quillmere.internal.",
	} {
		host, kind, _ := strings.Cut(name, " ")
		r := exchange(t, at, "udp", ward, question(host, dns.StringToType[kind]))
		require.NotEmpty(t, r.Answer, name)
		assert.True(t, strings.HasSuffix(r.Answer[len(r.Answer)-1].String(), want), name)
		assert.True(t, r.Authoritative)
	}
	assert.Equal(t, dns.RcodeNameError, exchange(t, at, "udp", ward, question("nowhere.quillmere.internal", dns.TypeA)).Rcode)
	between := exchange(t, at, "udp", ward, question("below.quillmere.internal", dns.TypeA))
	assert.Equal(t, dns.RcodeSuccess, between.Rcode)
	assert.Empty(t, between.Answer)
	assert.NotEmpty(t, exchange(t, at, "udp", ward, question("heron.example", dns.TypeA)).Answer)
	_, err = ReadZone(strings.NewReader("a.example. IN A nonsense"), "local.zone")
	assert.ErrorContains(t, err, "local.zone")
}

// A cookie that we made proves an address (RFC 9018); without one, a network that asks very much over UDP is sent to TCP.
func TestCookiesAndLimits(t *testing.T) {
	_, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, Rate: 20})
	cookie := "0102030405060708"
	ask := func(from netip.Addr) *dns.Msg {
		q := question("heron.example", dns.TypeA)
		if cookie != "" {
			q.IsEdns0().Option = append(q.IsEdns0().Option, &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: cookie})
		}
		return exchange(t, at, "udp", from, q)
	}
	r := ask(ward)
	cookie = r.IsEdns0().Option[0].(*dns.EDNS0_COOKIE).Cookie
	assert.Len(t, cookie, 2*(clientCookie+serverCookie))
	for range 60 {
		assert.False(t, ask(ward).Truncated)
	}
	elsewhere := 0
	for range 60 {
		if ask(office).Truncated {
			elsewhere++
		}
	}
	assert.Positive(t, elsewhere, "the cookie is another's")
	cookie = ""
	assert.False(t, exchange(t, at, "tcp", office, question("heron.example", dns.TypeA)).Truncated)
}

// Over HTTPS questions come by GET and POST; a person has a way of their own.
func TestOverHTTPS(t *testing.T) {
	config := floor()
	kay := uuid.MustParse(config.Directory.People[0].ID)
	config.Policies = append(config.Policies, policy.Policy{ID: "k", Name: "Kay", Groups: []string{"kays"}, Otherwise: policy.Block})
	config.Directory = directory.New(config.Directory.People, append(config.Directory.Groups, directory.Group{ID: "kays", Name: "Kay", Persons: []string{kay.String()}}), config.Directory.Networks)
	s := New(Config{Gate: gateOf(config, policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, Log: slog.New(slog.DiscardHandler), Whose: func(_ context.Context, token string) (uuid.UUID, bool) {
		return kay, token == "KAY"
	}})
	server := httptest.NewUnstartedServer(nil)
	server.EnableHTTP2 = true
	server.StartTLS()
	certificate := server.TLS.Certificates[0]
	pool := server.Client()
	server.Close()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.ServeHTTPS(listener, &tls.Config{Certificates: []tls.Certificate{certificate}}) }()
	defer func() {
		assert.NoError(t, s.Close())
		assert.NoError(t, <-served)
	}()
	at := "https://" + listener.Addr().String()
	send := func(method, path, media, body string) (int, string, http.Header) {
		r, err := http.NewRequestWithContext(t.Context(), method, at+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", media)
		answer, err := pool.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		assert.Equal(t, 2, answer.ProtoMajor)
		return answer.StatusCode, string(text), answer.Header
	}
	q := question("heron.example", dns.TypeA)
	q.Id = 0
	packed, err := q.Pack()
	require.NoError(t, err)
	encoded := base64.RawURLEncoding.EncodeToString(packed)
	for path, answers := range map[string]int{"/dns-query": 1, "/dns-query/KAY": 0} {
		for _, way := range []string{"GET", "POST"} {
			target, body := path+"?dns="+encoded, ""
			if way == "POST" {
				target, body = path, string(packed)
			}
			status, text, header := send(way, target, message, body)
			require.Equal(t, 200, status)
			r := new(dns.Msg)
			require.NoError(t, r.Unpack([]byte(text)))
			assert.Len(t, r.Answer, answers, path)
			assert.Regexp(t, `^private, max-age=(60|59|58|10|9)$`, header.Get("Cache-Control"))
		}
	}
	for path, want := range map[string]int{"/dns-query/nobody": 404, "/": 404, "/dns-query?dns=%21": 400, "/dns-query": 400, "/dns-query?dns=AAAA": 400} {
		status, _, _ := send("GET", path, message, "")
		assert.Equal(t, want, status, path)
	}
	status, _, _ := send("POST", "/dns-query", "text/plain", string(packed))
	assert.Equal(t, 415, status)
	status, _, _ = send("PUT", "/dns-query", message, string(packed))
	assert.Equal(t, 405, status)
	status, _, _ = send("POST", "/dns-query", message, strings.Repeat("x", mostMessage+1))
	assert.Equal(t, 400, status)
}

// Whatever comes as a question, the server answers or not, and goes on.
func FuzzAnswer(f *testing.F) {
	s := New(Config{Gate: gateOf(floor(), policy.Facts{}), Log: slog.New(slog.DiscardHandler)})
	for _, name := range []string{"heron.example", "pebble-poker.example", "_a._b.c"} {
		packed, err := question(name, dns.TypeHTTPS).Pack()
		require.NoError(f, err)
		f.Add(packed)
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		q := new(dns.Msg)
		if q.Unpack(packed) != nil {
			return
		}
		for _, over := range []string{"udp", "https"} {
			if r := s.answer(t.Context(), q, asker{client: gate.Client{Address: ward}, from: ward, over: over}); r != nil {
				again, err := r.Pack()
				require.NoError(t, err)
				if over == "udp" {
					require.LessOrEqual(t, len(again), 4096)
				}
			}
		}
	})
}

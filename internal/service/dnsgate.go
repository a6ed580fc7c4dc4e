package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/gate/dnsgate"
	"widelark/internal/gate/httpproxy"
)

// dnsSettings are the settings of the DNS gate, read.
type dnsSettings struct {
	udp        net.PacketConn
	tcp        net.Listener
	tls, https net.Listener // nil for none
	page       net.Listener // of the page's address over HTTP; nil for none
	pageTLS    net.Listener // and over TLS
	forwarders []dnsgate.Forwarder
	trusted    []netip.Prefix
	local      *dnsgate.Zone
	pageAt     []netip.Addr
	zones      []dnsgate.ZoneOf
	keys       dnsgate.Keys
	zonesTo    []netip.Prefix
	notify     []netip.AddrPort
}

// close gives the addresses back that were reserved.
func (s *dnsSettings) close() (err error) {
	if s.udp != nil {
		err = s.udp.Close()
	}
	for _, l := range []net.Listener{s.tcp, s.tls, s.https, s.page, s.pageTLS} {
		if l != nil {
			err = errors.Join(err, l.Close())
		}
	}
	return err
}

// readDNS reads the settings of the DNS gate, and reserves its addresses.
func (c Config) readDNS() (_ *dnsSettings, err error) {
	s := &dnsSettings{}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.close())
		}
	}()
	for _, text := range c.DNSForward {
		f, err := dnsgate.ParseForwarder(text)
		if err != nil {
			return nil, fmt.Errorf("dns-forward: %w", err)
		}
		s.forwarders = append(s.forwarders, f)
	}
	if len(s.forwarders) == 0 {
		return nil, errors.New("dns-forward: the DNS gate needs resolvers that it asks, as 192.0.2.1 or tls://192.0.2.1#dns.example")
	}
	if s.trusted, err = readRanges("dns-subnet-from", c.DNSSubnetFrom); err != nil {
		return nil, err
	}
	for _, text := range c.DNSPageAddress {
		at, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fmt.Errorf("dns-page-address: %q is not an address", text)
		}
		s.pageAt = append(s.pageAt, at.Unmap())
	}
	if c.DNSRate < 1 || c.DNSLongest < time.Second || c.DNSRefused < time.Second {
		return nil, errors.New("dns-rate, dns-longest and dns-refused: at least one answer a second, and answers that live for a second or more")
	}
	if c.DNSLocal != "" {
		file, err := os.Open(c.DNSLocal)
		if err != nil {
			return nil, fmt.Errorf("dns-local: %w", err)
		}
		defer file.Close()
		if s.local, err = dnsgate.ReadZone(file, c.DNSLocal); err != nil {
			return nil, fmt.Errorf("dns-local: %w", err)
		}
	}
	if err = c.readZones(s); err != nil {
		return nil, err
	}
	if s.tcp, s.udp, err = listenDNS(c.DNSListen); err != nil {
		return nil, err
	}
	for _, one := range []struct {
		at string
		to *net.Listener
	}{{c.DNSTLSListen, &s.tls}, {c.DNSHTTPSListen, &s.https}, {c.DNSPageListen, &s.page}, {c.DNSPageTLSListen, &s.pageTLS}} {
		if one.at == "" {
			continue
		}
		if *one.to, err = Listen(one.at); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// readZones reads the settings of zones that others transfer.
func (c Config) readZones(s *dnsSettings) (err error) {
	errs := policy.Erring(c.DNSZoneErrs)
	if errs != policy.LeaveOpen && errs != policy.Close {
		return fmt.Errorf("dns-zone-errs: %q is neither open nor close", c.DNSZoneErrs)
	}
	for _, text := range c.DNSZones {
		z, err := dnsgate.ParseZone(text, errs)
		if err != nil {
			return fmt.Errorf("dns-zone: %w", err)
		}
		s.zones = append(s.zones, z)
	}
	if s.zonesTo, err = readRanges("dns-zone-to", c.DNSZoneTo); err != nil {
		return err
	}
	for _, text := range c.DNSZoneNotify {
		f, err := dnsgate.ParseForwarder(text)
		if err != nil || f.Name != "" {
			return fmt.Errorf("dns-zone-notify: %q is not a resolver, as 10.40.0.8 or 10.40.0.8:5353", text)
		}
		s.notify = append(s.notify, f.Address)
	}
	if c.DNSZoneKeys != "" {
		text, err := os.ReadFile(c.DNSZoneKeys)
		if err != nil {
			return fmt.Errorf("dns-zone-keys: %w", err)
		}
		if s.keys, err = dnsgate.ParseKeys(string(text)); err != nil {
			return fmt.Errorf("dns-zone-keys: %s: %w", c.DNSZoneKeys, err)
		}
	}
	if len(s.zones) > 0 && len(s.keys) == 0 && len(s.zonesTo) == 0 {
		return errors.New("dns-zone: nobody may transfer it: give keys with --dns-zone-keys, or addresses with --dns-zone-to")
	}
	return nil
}

// listenDNS reserves an address over TCP and UDP, of the same port.
func listenDNS(at string) (tcp net.Listener, udp net.PacketConn, err error) {
	for range 10 { // a free port for one may be taken for the other
		if tcp, err = Listen(at); err != nil {
			return nil, nil, err
		}
		if udp, err = net.ListenPacket("udp", tcp.Addr().String()); err == nil {
			return tcp, udp, nil
		}
		err = errors.Join(fmt.Errorf("cannot listen at %s over UDP: %w", at, err), tcp.Close())
	}
	return nil, nil, err
}

// errNoAuthority is the error of a client that speaks TLS to a gate that has no authority yet.
var errNoAuthority = errors.New("the gate has no authority to make its certificate with")

// start starts the DNS gate.
func (s *dnsSettings) start(config Config, p parts) *running {
	g := newRunning(policy.DNS, p, s.udp.LocalAddr().String())
	server := dnsgate.New(dnsgate.Config{
		Gate: g.gate, Forwarders: s.forwarders, Trusted: s.trusted, Local: s.local, Page: s.pageAt, HideHints: config.DNSHideHints, Longest: config.DNSLongest, Refused: config.DNSRefused,
		Rate: float64(config.DNSRate), Zones: s.zones, Keys: s.keys, ZonesTo: s.zonesTo, Notify: s.notify, Log: p.log,
	})
	server.Whose = remembering(p.desk.Whose)
	self := ""
	if s.page != nil {
		self = "http://" + s.page.Addr().String()
	}
	pages := httpproxy.New(httpproxy.Config{Gate: g.gate, Desk: p.desk, Self: self, Name: config.PageName, Organisation: config.Organisation, Log: p.log})
	var signs atomic.Pointer[authority.Authority]
	g.sign = func(a *authority.Authority, trust [][]byte) {
		signs.Store(a)
		pages.SetAuthority(a, trust)
	}
	g.news = func(r *gate.Report) { r.Zones = server.Zones() }
	g.end = func() error { return errors.Join(server.Close(), pages.Close()) }
	p.begin(g)
	g.begin(p)
	secure := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		a := signs.Load()
		if a == nil {
			return nil, errNoAuthority
		}
		name := hello.ServerName
		if at, err := netip.ParseAddrPort(hello.Conn.LocalAddr().String()); name == "" && err == nil {
			name = at.Addr().Unmap().String()
		}
		return a.Certificate(name)
	}}
	const what = "the DNS gate"
	g.serves(what, "The DNS gate is at "+g.address, func() error { return server.ServeUDP(s.udp) })
	g.work.Go(func() {
		if err := server.ServeTCP(s.tcp); err != nil {
			g.failed <- fmt.Errorf("%s ended: %w", what, err)
		}
	})
	if len(s.zones) > 0 {
		g.work.Go(server.KeepZones)
	}
	if s.tls != nil {
		g.serves(what, "The DNS gate is over TLS at "+s.tls.Addr().String(), func() error { return server.ServeTLS(s.tls, secure) })
	}
	if s.https != nil {
		g.serves(what, "The DNS gate is over HTTPS at https://"+s.https.Addr().String()+"/dns-query", func() error { return server.ServeHTTPS(s.https, secure.Clone()) })
	}
	if s.page != nil {
		g.serves(what, "The DNS gate's page is at "+self, func() error { return pages.ServePages(s.page) })
	}
	if s.pageTLS != nil {
		g.serves(what, "The DNS gate's page is over TLS at "+s.pageTLS.Addr().String(), func() error { return pages.ServePages(tls.NewListener(s.pageTLS, secure.Clone())) })
	}
	p.log.Info("DNS gate", "address", g.address, "name", p.name)
	return g
}

// How long it is remembered whose a token is, and that it is nobody's.
const (
	whoseFor  = time.Minute
	nobodyFor = 10 * time.Second
)

// remembering returns a func that asks whose a token is, and remembers that for a while; where the desk cannot be asked, for as long as it cannot.
func remembering(whose func(ctx context.Context, token string) (uuid.UUID, bool, error)) func(context.Context, string) (uuid.UUID, bool) {
	type answer struct {
		person uuid.UUID
		until  time.Time
	}
	known, _ := lru.New[string, answer](10_000) // the size is in order
	return func(ctx context.Context, token string) (uuid.UUID, bool) {
		before, ok := known.Get(token)
		if ok && time.Now().Before(before.until) {
			return before.person, before.person != uuid.Nil
		}
		person, found, err := whose(ctx, token)
		if err != nil {
			return before.person, before.person != uuid.Nil
		}
		until := time.Now().Add(whoseFor)
		if !found {
			until = time.Now().Add(nobodyFor)
		}
		known.Add(token, answer{person, until})
		return person, found
	}
}

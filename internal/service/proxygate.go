package service

import (
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"

	"golang.org/x/net/http/httpguts"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/gate/httpproxy"
)

// proxySettings are the settings of the proxy gate, read.
type proxySettings struct {
	listener   net.Listener
	secure     net.Listener // for clients that speak TLS to the proxy; nil for none
	redirected net.Listener // for connections that the kernel has redirected; nil for none
	seats      *httpproxy.Seats
	upstream   *url.URL
	roots      *x509.CertPool
	reach      []netip.Prefix
	told       httpproxy.Told
	mostForm   int64 // bytes
}

// close gives the addresses back that were reserved.
func (s *proxySettings) close() error {
	err := s.listener.Close()
	for _, l := range []net.Listener{s.secure, s.redirected} {
		if l != nil {
			err = errors.Join(err, l.Close())
		}
	}
	return err
}

// mostFormKB bounds what is kept in memory of a request before it is known not to be an upload.
const mostFormKB = 1000

// readProxy reads the settings of the proxy gate, and reserves its addresses.
func (c Config) readProxy() (*proxySettings, error) {
	s := &proxySettings{}
	var err error
	if s.reach, err = readRanges("proxy-reach", c.ProxyReach); err != nil {
		return nil, err
	}
	if c.ProxyUpstream != "" {
		if s.upstream, err = url.Parse(c.ProxyUpstream); err != nil || s.upstream.Scheme != "http" || s.upstream.Port() == "" {
			return nil, fmt.Errorf("proxy-upstream: %q is not a proxy; write it like http://10.40.0.2:3128", c.ProxyUpstream)
		}
	}
	if s.roots, err = readRoots("proxy-roots", c.ProxyRoots); err != nil {
		return nil, err
	}
	if s.told.From, err = readRanges("proxy-person-from", c.ProxyPersonFrom); err != nil {
		return nil, err
	}
	if s.told.Header = c.ProxyPersonHeader; !httpguts.ValidHeaderFieldName(s.told.Header) {
		return nil, fmt.Errorf("proxy-person-header: %q is not the name of a header field", s.told.Header)
	}
	if c.ProxyFormKB < 1 || c.ProxyFormKB > mostFormKB {
		return nil, fmt.Errorf("proxy-form-kb: %d is not between 1 and %d", c.ProxyFormKB, mostFormKB)
	}
	s.mostForm = int64(c.ProxyFormKB) * 1000
	behind, err := readRanges("proxy-behind", c.ProxyBehind)
	if err != nil {
		return nil, err
	}
	if s.listener, err = Listen(c.ProxyListen); err != nil {
		return nil, err
	}
	s.seats = httpproxy.NewSeats()
	s.listener = httpproxy.Behind(s.seats.Listener(s.listener, true), behind)
	if c.ProxyTLSListen != "" {
		if s.secure, err = Listen(c.ProxyTLSListen); err != nil {
			return nil, errors.Join(err, s.close())
		}
		s.secure = httpproxy.Behind(s.seats.Listener(s.secure, false), behind)
	}
	if c.ProxyRedirectedListen != "" {
		if s.redirected, err = Listen(c.ProxyRedirectedListen); err != nil {
			return nil, errors.Join(err, s.close())
		}
		s.redirected = s.seats.Listener(s.redirected, false)
	}
	return s, nil
}

// start starts the proxy gate.
func (s *proxySettings) start(config Config, p parts) *running {
	g := newRunning(policy.Proxy, p, s.listener.Addr().String())
	proxy := httpproxy.New(httpproxy.Config{
		Gate: g.gate, Desk: p.desk, Seats: s.seats, Told: s.told, MostForm: s.mostForm, Self: "http://" + g.address, Name: config.PageName, Reach: s.reach, Upstream: s.upstream, Roots: s.roots,
		Organisation: config.Organisation, Log: p.log,
	})
	g.sign, g.end = func(a *authority.Authority, trust [][]byte) { proxy.SetAuthority(a, trust) }, proxy.Close
	g.news = func(r *gate.Report) { r.Refusals = proxy.Refusals() }
	p.begin(g)
	g.begin(p)
	g.serves("the proxy gate", "The proxy gate is at "+g.address, func() error { return proxy.Serve(s.listener) })
	if s.secure != nil {
		g.serves("the proxy gate", "and over TLS at "+s.secure.Addr().String(), func() error { return proxy.ServeTLS(s.secure) })
	}
	if s.redirected != nil {
		g.serves("the proxy gate", "and takes redirected connections at "+s.redirected.Addr().String(), func() error { return proxy.ServeRedirected(s.redirected) })
	}
	p.log.Info("proxy gate", "address", g.address, "name", p.name, "connections", s.seats.All)
	return g
}

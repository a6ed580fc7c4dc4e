package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/http/httpguts"

	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/gate/httpproxy"
	"widelark/internal/journal"
	"widelark/internal/secret"
	"widelark/internal/standing"
)

// How often gates of this process are given what is in force, and the authority that signs.
const (
	feedEvery  = 500 * time.Millisecond
	renewEvery = 2 * time.Second
)

// mostWaiting is how many records wait in memory while the database does not take them.
const mostWaiting = 200_000

// gates are the gates that run in this process.
type gates struct {
	gate       *gate.Gate
	proxy      *httpproxy.Proxy
	address    string
	secure     string // where clients speak TLS to it; "" for nowhere
	redirected string // where redirected connections come; "" for nowhere
	records    *journal.Writer
	log        *slog.Logger

	failed  chan<- error
	working context.Context // ends with close
	stop    func()
	work    sync.WaitGroup
	writing sync.WaitGroup
	stopped func() // ends the writing of records
}

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

// readProxy reads the settings of the proxy gate, and reserves its address. It returns nil where the proxy gate is not wanted.
func (c Config) readProxy() (*proxySettings, error) {
	wanted := c.Folder != ""
	for _, text := range c.Gates {
		for kind := range strings.SplitSeq(text, ",") {
			switch strings.TrimSpace(kind) {
			case "":
			case "proxy":
				wanted = true
			default:
				return nil, fmt.Errorf("gates: %q is not a gate that this service can run: there is proxy", kind)
			}
		}
	}
	if !wanted {
		return nil, nil
	}
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

// parts are what a gate stands on: of the service, or of a gate elsewhere.
type parts struct {
	name    string
	desk    gate.Desk
	records journal.Batches
	now     func() time.Time
	log     *slog.Logger
	failed  chan<- error

	open  bool         // whether what comes before the first edition is let through
	begin func(*gates) // called before the gate serves anybody
}

// startProxy starts the proxy gate.
func startProxy(config Config, proxy *proxySettings, p parts) *gates {
	writing, stopped := context.WithCancel(context.Background())
	working, stop := context.WithCancel(context.Background())
	g := &gates{
		gate: gate.New(policy.Proxy, p.name, p.now, nil), address: proxy.listener.Addr().String(), records: journal.NewWriter(p.records, mostWaiting, p.log), log: p.log, failed: p.failed,
		working: working, stop: stop, stopped: stopped,
	}
	g.gate.Records, g.gate.OpenWithout = g.records, p.open
	g.proxy = httpproxy.New(httpproxy.Config{
		Gate: g.gate, Desk: p.desk, Seats: proxy.seats, Told: proxy.told, MostForm: proxy.mostForm, Self: "http://" + g.address, Name: config.PageName, Reach: proxy.reach, Upstream: proxy.upstream, Roots: proxy.roots,
		Organisation: config.Organisation, Log: p.log,
	})
	p.begin(g)
	g.writing.Go(func() { g.records.Run(writing) })
	g.work.Go(func() { g.gate.Run(working) })
	g.work.Go(func() { g.gate.Keep(working, p.desk, g.report, p.log) })
	g.work.Go(func() {
		if err := g.proxy.Serve(proxy.listener); err != nil {
			g.failed <- fmt.Errorf("the proxy gate ended: %w", err)
		}
	})
	if proxy.secure != nil {
		g.secure = proxy.secure.Addr().String()
		g.work.Go(func() {
			if err := g.proxy.ServeTLS(proxy.secure); err != nil {
				g.failed <- fmt.Errorf("the proxy gate ended: %w", err)
			}
		})
		p.log.Info("proxy gate over TLS", "address", g.secure, "name", p.name)
	}
	if proxy.redirected != nil {
		g.redirected = proxy.redirected.Addr().String()
		g.work.Go(func() {
			if err := g.proxy.ServeRedirected(proxy.redirected); err != nil {
				g.failed <- fmt.Errorf("the proxy gate ended: %w", err)
			}
		})
		p.log.Info("proxy gate for redirected connections", "address", g.redirected, "name", p.name)
	}
	p.log.Info("proxy gate", "address", g.address, "name", p.name, "connections", proxy.seats.All)
	return g
}

// said says where clients reach the gate.
func (g *gates) said(out io.Writer) {
	fmt.Fprintf(out, "The proxy gate is at %s\n", g.address)
	if g.secure != "" {
		fmt.Fprintf(out, "and over TLS at %s\n", g.secure)
	}
	if g.redirected != "" {
		fmt.Fprintf(out, "and takes redirected connections at %s\n", g.redirected)
	}
}

// close ends the gates: first what they serve, then what they still have to record.
func (g *gates) close() error {
	err := g.proxy.Close()
	g.stop()
	g.work.Wait()
	g.stopped()
	g.writing.Wait()
	return err
}

// inside gives the gates of this process what is in force.
type inside struct {
	*gates
	editions    *edition.Editions
	facts       *standing.Source
	secret      *secret.Box // nil: the gate opens no connection
	authorities gate.Authorities
	signs       uuid.UUID // the authority that the gate has
	renewed     time.Time // when that was looked at last
}

// feed gives the gate what is in force, until the context ends.
func (g *inside) feed(ctx context.Context) {
	tick := time.NewTicker(feedEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			g.once(ctx)
		}
	}
}

// once gives the gate what is in force now.
func (g *inside) once(ctx context.Context) {
	if err := g.refresh(ctx); err != nil && ctx.Err() == nil {
		g.log.WarnContext(ctx, "the gate keeps what it has: what is in force cannot be read", "error", err)
	}
	if now := time.Now(); now.Sub(g.renewed) >= renewEvery {
		g.renewed = now
		if err := g.renewAuthority(ctx); err != nil && ctx.Err() == nil {
			g.log.WarnContext(ctx, "the gate's authority cannot be used", "error", err)
		}
	}
}

// refresh puts the live edition in force at the gate, with the standing facts beside it, if any of them has changed.
func (g *inside) refresh(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	live, err := g.editions.On(ctx, "", "live")
	if err != nil {
		return err
	}
	facts, err := g.facts.Facts(ctx)
	if err != nil {
		return err
	}
	live = live.With(facts)
	if e := g.gate.Edition(); e == nil || e.Snapshot != live.Snapshot {
		g.gate.Take(&gate.Edition{Revision: live.Revision, Catalogue: live.Catalogue(), Since: g.gate.Now(), Snapshot: live.Snapshot})
	}
	return nil
}

// renewAuthority gives the gate the authority that signs now.
func (g *inside) renewAuthority(ctx context.Context) error {
	if g.secret == nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	all, err := g.authorities.Authorities(ctx)
	if err != nil {
		return err
	}
	current := gate.Current(all, g.gate.Now())
	if current == nil || current.ID == g.signs {
		return nil
	}
	key, err := g.secret.Open(current.Purpose(), current.SealedKey)
	if err != nil {
		return err
	}
	a, err := authority.Open(current.Certificate, key, time.Now)
	if err != nil {
		return err
	}
	g.proxy.SetAuthority(a, gate.Trust(all, current))
	g.signs = current.ID
	return nil
}

// report returns what the gate says of itself.
func (g *gates) report() gate.Report {
	r := g.gate.Report()
	r.Address, r.Refusals = g.address, g.proxy.Refusals()
	r.Written, r.Waiting, r.Dropped = g.records.Written(), int64(g.records.Waiting()), g.records.Dropped()
	return r
}

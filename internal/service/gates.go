package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/http/httpguts"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/gate/httpproxy"
	"widelark/internal/journal"
	"widelark/internal/revision"
	"widelark/internal/secret"
	"widelark/internal/standing"
)

// How often gates of this process are given what is in force, and report.
const (
	feedEvery   = 500 * time.Millisecond
	reportEvery = 2 * time.Second
)

// mostWaiting is how many records wait in memory while the database does not take them.
const mostWaiting = 200_000

// gates are the gates that run in this process.
type gates struct {
	gate    *gate.Gate
	proxy   *httpproxy.Proxy
	address string
	secure  string // where clients speak TLS to it; "" for nowhere
	records *journal.Writer
	reports gate.Reports
	minutes standing.Minutes
	log     *slog.Logger

	editions *edition.Editions
	facts    *standing.Source
	secret   *secret.Box // nil: the gate opens no connection
	signs    uuid.UUID   // the authority that the gate has
	failed   chan<- error
	stop     func()
	work     sync.WaitGroup
	writing  sync.WaitGroup
	stopped  func() // ends the writing of records
}

// proxySettings are the settings of the proxy gate, read.
type proxySettings struct {
	listener net.Listener
	secure   net.Listener // for clients that speak TLS to the proxy; nil for none
	upstream *url.URL
	roots    *x509.CertPool
	reach    []netip.Prefix
	told     httpproxy.Told
	mostForm int64 // bytes
}

// mostFormKB bounds what is kept in memory of a request before it is known not to be an upload.
const mostFormKB = 1000

// readProxy reads the settings of the proxy gate, and reserves its address. It returns nil where the proxy gate is not wanted.
func (c Config) readProxy() (*proxySettings, error) {
	wanted := false
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
	if c.ProxyRoots != "" {
		pem, err := os.ReadFile(c.ProxyRoots)
		if err != nil {
			return nil, fmt.Errorf("proxy-roots: the file cannot be read: %w", err)
		}
		if s.roots, err = x509.SystemCertPool(); err != nil {
			s.roots = x509.NewCertPool()
		}
		if !s.roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("proxy-roots: %s holds no certificate in PEM", c.ProxyRoots)
		}
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
	s.listener = httpproxy.Behind(s.listener, behind)
	if c.ProxyTLSListen == "" {
		return s, nil
	}
	if s.secure, err = Listen(c.ProxyTLSListen); err != nil {
		return nil, errors.Join(err, s.listener.Close())
	}
	s.secure = httpproxy.Behind(s.secure, behind)
	return s, nil
}

// startGates starts the gates that the settings name.
func (s *Service) startGates(config Config, proxy *proxySettings, box *secret.Box, editions *edition.Editions, facts *standing.Source, zone *time.Location, now func() time.Time, log *slog.Logger) {
	name := config.GateName
	if name == "" {
		host, _ := os.Hostname()
		name = "proxy at " + host
	}
	writing, stopped := context.WithCancel(context.Background())
	records := journal.NewWriter(s.store, mostWaiting, log)
	g := &gates{
		gate: gate.New(policy.Proxy, name, now, records), address: proxy.listener.Addr().String(), records: records, reports: s.store, minutes: s.store, log: log,
		editions: editions, facts: facts, secret: box, failed: s.failed, stopped: stopped,
	}
	g.proxy = httpproxy.New(httpproxy.Config{
		Gate: g.gate, People: &people{editions, s.Authenticator, s.store, config.demoPassword}, Told: proxy.told, MostForm: proxy.mostForm, Asks: &asks{store: s.store, now: now}, Self: "http://" + g.address, Reach: proxy.reach, Upstream: proxy.upstream, Roots: proxy.roots, Organisation: config.Organisation, Zone: zone, Log: log,
	})
	working, stop := context.WithCancel(context.Background())
	g.stop = stop
	g.writing.Go(func() { records.Run(writing) })
	g.work.Go(func() { g.gate.Run(working) })
	g.work.Go(func() { g.feed(working) })
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
		log.Info("proxy gate over TLS", "address", g.secure, "name", name)
	}
	s.gates = g
	log.Info("proxy gate", "address", g.address, "name", name)
}

// close ends the gates: first what they serve, then what they still have to record.
func (g *gates) close() error {
	err := g.proxy.Close()
	g.stop()
	g.work.Wait()
	err = errors.Join(err, g.spend(context.Background()))
	g.stopped()
	g.writing.Wait()
	return err
}

// feed gives the gate what is in force, and reports, until the context ends.
func (g *gates) feed(ctx context.Context) {
	tick := time.NewTicker(feedEvery)
	defer tick.Stop()
	reported := time.Time{}
	for {
		if err := g.refresh(ctx); err != nil && ctx.Err() == nil {
			g.log.WarnContext(ctx, "the gate keeps what it has: what is in force cannot be read", "error", err)
		}
		if err := g.spend(ctx); err != nil && ctx.Err() == nil {
			g.log.WarnContext(ctx, "the minutes that people use cannot be counted yet", "error", err)
		}
		if now := time.Now(); now.Sub(reported) >= reportEvery {
			reported = now
			if err := g.renewAuthority(ctx); err != nil && ctx.Err() == nil {
				g.log.WarnContext(ctx, "the gate's authority cannot be used", "error", err)
			}
			if err := g.report(ctx); err != nil && ctx.Err() == nil {
				g.log.WarnContext(ctx, "the gate cannot report", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// refresh puts the live edition in force at the gate, with the standing facts beside it, if any of them has changed.
func (g *gates) refresh(ctx context.Context) error {
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
		g.gate.Take(&gate.Edition{Revision: live.Revision, Since: g.gate.Now(), Snapshot: live.Snapshot})
	}
	return nil
}

// spend hands in the minutes that count for quotas.
func (g *gates) spend(ctx context.Context) error {
	taken := g.gate.TakeUsed()
	if taken == nil {
		return nil
	}
	var used []standing.Used
	for of, minutes := range taken {
		used = append(used, standing.Used{Rule: of.Rule, Person: of.Person, Address: of.Address, Minutes: minutes})
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	err := g.minutes.AddUsed(ctx, used, access.Recorder)
	if err != nil {
		g.gate.GiveBack(taken)
	}
	return err
}

// renewAuthority gives the gate the authority that signs now.
func (g *gates) renewAuthority(ctx context.Context) error {
	if g.secret == nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	all, err := g.reports.Authorities(ctx)
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
	var hand [][]byte // to be trusted: the present one and those to come
	for i := range all {
		if all[i].ID == current.ID || all[i].From.After(current.From) {
			hand = append(hand, all[i].Certificate)
		}
	}
	g.proxy.SetAuthority(a, hand)
	g.signs = current.ID
	return nil
}

func (g *gates) report(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	r := g.gate.Report()
	r.Address, r.Refusals = g.address, g.proxy.Refusals()
	r.Written, r.Waiting, r.Dropped = g.records.Written(), int64(g.records.Waiting()), g.records.Dropped()
	return g.reports.PutReport(ctx, r, access.Recorder)
}

// asks hands in requests for access and acknowledgements, and checks codes.
type asks struct {
	store interface {
		standing.Requests
		standing.Passages
	}
	now    func() time.Time
	misses misses
}

// misses counts the wrong codes of each asker. It is safe for concurrent use.
type misses struct {
	mu sync.Mutex
	of map[string][]time.Time // guarded by mu
}

// How many wrong codes an asker may enter within a while.
const (
	mostMisses = 5
	missesFor  = 15 * time.Minute
)

// tooMany reports whether an asker has to wait.
func (m *misses) tooMany(who string, now time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	for one, at := range m.of {
		if now.Sub(at[len(at)-1]) > missesFor {
			delete(m.of, one)
		}
	}
	recent := 0
	for _, at := range m.of[who] {
		if now.Sub(at) <= missesFor {
			recent++
		}
	}
	return recent >= mostMisses
}

func (m *misses) add(who string, now time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of == nil {
		m.of = map[string][]time.Time{}
	}
	m.of[who] = append(m.of[who], now)
}

// passage returns what comes past a hold at a gate.
func passage(p httpproxy.Past) standing.Passage {
	return standing.Passage{Person: p.Person, Address: p.Address, Entries: []pattern.Entry{p.Entry}, Reference: p.Reference}
}

// Acknowledge implements [httpproxy.Asks].
func (a *asks) Acknowledge(ctx context.Context, p httpproxy.Past) (time.Time, error) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	made := passage(p)
	made.Rule, made.Until = p.Rule, a.now().Add(p.For)
	made, err := a.store.AddPassage(ctx, made, access.Recorder)
	return made.Until, err
}

// Unlock implements [httpproxy.Asks].
func (a *asks) Unlock(ctx context.Context, p httpproxy.Past, code string) (time.Time, error) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	who := p.Person.String() + p.Address.String()
	if a.misses.tooMany(who, a.now()) {
		return time.Time{}, httpproxy.ErrTooMany
	}
	made, err := a.store.UseCode(ctx, standing.HashCode(code), func(c standing.Code) (standing.Passage, error) {
		opened := passage(p)
		opened.Until = a.now().Add(time.Duration(c.Minutes) * time.Minute)
		if len(c.Entries) == 0 {
			return opened, nil
		}
		opened.Entries = c.Entries
		if match.New([]match.List{{ID: "code", Entries: c.Entries}}).Cover(p.URL, pattern.DateOf(a.now()), p.Sight) == nil {
			return opened, fmt.Errorf("%w: it is for others", standing.ErrCode)
		}
		return opened, nil
	}, access.Recorder)
	if errors.Is(err, standing.ErrCode) {
		a.misses.add(who, a.now())
		return time.Time{}, httpproxy.ErrNoCode
	}
	return made.Until, err
}

// Ask implements [httpproxy.Asks].
func (a *asks) Ask(ctx context.Context, r httpproxy.Refused, reference, reason string) error {
	_, err := a.store.AddRequest(ctx, standing.Request{
		Person: r.Person, Address: r.Address, URL: r.URL.String(), Verdict: r.Verdict, By: r.By, Reason: reason, Reference: reference,
	}, access.Recorder)
	return err
}

// Asked implements [httpproxy.Asks].
func (a *asks) Asked(ctx context.Context, reference string) (state, answer string, found bool, err error) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	r, err := a.store.RequestByReference(ctx, reference)
	if errors.Is(err, revision.ErrNotFound) {
		return "", "", false, nil
	}
	return string(r.State), r.Answer, err == nil, err
}

// people checks who signs in at the proxy gate.
type people struct {
	editions      *edition.Editions
	authenticator *account.Authenticator
	passwords     account.PersonPasswords
	demoPassword  string // with which everybody of the demo signs in; "" for none
}

// SignIn implements [httpproxy.People].
func (p *people) SignIn(ctx context.Context, name, password, address string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	live, err := p.editions.On(ctx, "", "live")
	if err != nil {
		return uuid.Nil, false, err
	}
	person := personNamed(live, name)
	if p.demoPassword != "" && password == p.demoPassword && person.ID != uuid.Nil {
		return person.ID, true, nil
	}
	err = p.authenticator.SignInPerson(ctx, p.passwords, person, name, password, address)
	if errors.Is(err, account.ErrRefused) {
		return uuid.Nil, false, nil
	}
	return person.ID, err == nil, err
}

// Named implements [httpproxy.People].
func (p *people) Named(ctx context.Context, name string) (uuid.UUID, bool, error) {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	live, err := p.editions.On(ctx, "", "live")
	if err != nil {
		return uuid.Nil, false, err
	}
	person := personNamed(live, name)
	return person.ID, person.ID != uuid.Nil, nil
}

// personNamed returns the person of a state with a name; the zero Person where there is none.
func personNamed(live *edition.State, name string) account.Person {
	if who, err := live.Find("who", edition.Who{Person: name}); err == nil && who.Person != nil {
		return account.Person{ID: uuid.MustParse(who.Person.ID), Name: who.Person.Name}
	}
	return account.Person{}
}

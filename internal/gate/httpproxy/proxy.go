// Package httpproxy is the proxy gate's protocol: it takes requests of browsers that are told of a proxy (RFC 9110, RFC 9112), asks the gate for each,
// and forwards what passes, or answers with the block page.
//
// From: connections of clients.
// To: questions to the gate, and connections to sites.
package httpproxy

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widelark/internal/gate"
)

// Told says whom the gate believes when they say, in a header field, which person asks: other proxies, which have signed the person in.
type Told struct {
	Header string
	From   []netip.Prefix // nil: nobody
}

// Config says how a proxy works.
type Config struct {
	Gate         *gate.Gate
	Desk         gate.Desk      // nil: nobody signs in, and nobody can ask for access
	Told         Told           // who says otherwise which person asks
	Self         string         // where clients reach the gate's own pages, as http://10.40.0.2:8471
	Name         string         // a name under which browsers that are told of the proxy reach them, too, as lark.quillmere.internal; "" for none
	Seats        *Seats         // for connections to sites; nil: they are not counted
	Reach        []netip.Prefix // ranges inside the organisation's network that may be connected to
	Ports        []uint16       // that tunnels may lead to, besides 80 and 443
	Upstream     *url.URL       // another proxy, through which all connections go; nil for none
	Roots        Roots          // authorities besides the system's that sites may have their certificates from
	MostForm     int64          // bytes that a request may send where uploads are not allowed, so that forms can still be sent; 0 for [MostForm]
	Organisation string         // as the block page names it
	Log          *slog.Logger
}

// MostForm is how many bytes a form may have, where nothing else is said.
const MostForm = 8000

// Limits of each stage of a request.
const (
	headTimeout  = 20 * time.Second // until a request's head is there
	idleTimeout  = 2 * time.Minute  // between requests
	dialTimeout  = 15 * time.Second
	greetTimeout = 10 * time.Second // until a tunnel's first bytes are there
	mostHead     = 64 << 10         // bytes
)

// Proxy serves clients.
type Proxy struct {
	Config
	dialer   *dialer
	forward  *forwarder
	outer    *http.Server
	inner    *http.Server // of connections that are opened, and of plain HTTP in tunnels
	opened   *handover
	base     context.Context // ends when the proxy is closed
	end      context.CancelFunc
	tunnels  sync.WaitGroup
	closing  sync.RWMutex // held while tunnels grows, so that nothing is added once Close waits
	learned  refusals
	lately   lately
	signs    atomic.Pointer[signer]
	remember *signIns
	secret   []byte // of the tokens of forms
}

// New returns a proxy; see [Proxy.Serve].
func New(c Config) *Proxy {
	c.MostForm = cmp.Or(c.MostForm, MostForm)
	p := &Proxy{Config: c, opened: newHandover(), remember: newSignIns(), secret: []byte(rand.Text())}
	p.base, p.end = context.WithCancel(context.Background())
	p.dialer = &dialer{seats: c.Seats, reach: c.Reach, upstream: c.Upstream}
	p.forward = newForwarder(p)
	errorLog := slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug)
	p.outer = &http.Server{
		Handler: http.HandlerFunc(p.serve), ReadHeaderTimeout: headTimeout, IdleTimeout: idleTimeout, MaxHeaderBytes: mostHead, ErrorLog: errorLog,
	}
	p.inner = &http.Server{
		Handler: http.HandlerFunc(p.serveInside), ReadHeaderTimeout: headTimeout, IdleTimeout: idleTimeout, MaxHeaderBytes: mostHead, ErrorLog: errorLog,
		ConnContext: func(ctx context.Context, conn net.Conn) context.Context {
			return context.WithValue(ctx, tunnelKey{}, tunnelOf(conn))
		},
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 250, MaxReceiveBufferPerStream: 256 << 10, MaxReadFrameSize: 16 << 10},
	}
	return p
}

// signer is the authority that the proxy opens connections with, and the certificates that clients are to trust.
type signer struct {
	Authority
	trust [][]byte // DER
}

// SetAuthority gives the proxy the authority that it opens TLS connections with from now on, and the certificates that clients are to trust. Without
// one, the proxy opens none.
func (p *Proxy) SetAuthority(a Authority, trust [][]byte) {
	p.signs.Store(&signer{a, trust})
	p.Gate.CanOpen(true)
}

// Serve takes clients from a listener until the proxy is closed.
func (p *Proxy) Serve(listener net.Listener) error {
	inside := make(chan struct{})
	go func() {
		defer close(inside)
		_ = p.inner.Serve(p.opened) // it ends when the proxy is closed
	}()
	err := p.outer.Serve(listener)
	_ = p.opened.Close()
	<-inside
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// ServeTLS takes clients that speak TLS to their proxy, beside [Proxy.Serve], until the proxy is closed.
func (p *Proxy) ServeTLS(listener net.Listener) error {
	if err := p.outer.Serve(p.overTLS(listener)); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Close ends all connections, and waits for what serves them.
func (p *Proxy) Close() error {
	p.closing.Lock()
	p.end()
	p.closing.Unlock()
	err := errors.Join(p.outer.Close(), p.inner.Close())
	_ = p.opened.Close()
	p.tunnels.Wait()
	p.forward.close()
	return err
}

// attend starts what serves a connection, for [Proxy.Close] to wait for. Where the proxy is closed, the connection is closed first, so that its service ends
// at once.
func (p *Proxy) attend(conn net.Conn, serve func()) {
	p.closing.RLock()
	defer p.closing.RUnlock()
	if p.base.Err() != nil {
		_ = conn.Close()
		go serve()
		return
	}
	p.tunnels.Go(serve)
}

// serve answers a request that was sent to the proxy itself.
func (p *Proxy) serve(w http.ResponseWriter, r *http.Request) {
	if r.URL.Scheme == "http" && r.Method != http.MethodConnect && p.isOwn(r.URL.Host) {
		r.URL.Scheme, r.URL.Host = "", "" // a browser that asks its proxy for everything asks it for the gate's own pages, too
	}
	client, ok := p.identify(w, r)
	switch {
	case !ok:
	case r.Method == http.MethodConnect:
		p.connect(w, r, client)
	case !r.URL.IsAbs():
		p.own(w, r, client)
	case r.URL.Scheme != "http" || r.URL.Host == "":
		http.Error(w, "This proxy forwards http:// addresses, and tunnels for https:// ones (CONNECT).", http.StatusBadRequest)
	default:
		r.Host = r.URL.Host // RFC 9112, section 3.2.2: the address counts, not the Host
		p.plain(w, r, client, "http://"+r.URL.Host, r.URL.Host)
	}
}

// own answers a request for the gate itself.
func (p *Proxy) own(w http.ResponseWriter, r *http.Request, client gate.Client) {
	if r.URL.Path == "/proxy.pac" && (r.Method == http.MethodGet || r.Method == http.MethodHead) {
		w.Header().Set("Content-Type", "application/x-ns-proxy-autoconfig")
		_, _ = w.Write(PAC(r.Host))
		return
	}
	if r.URL.Path == "/ask" && p.Desk != nil {
		if !p.called(r) {
			http.Error(w, "This page is at "+p.Self+", and under no other name.", http.StatusMisdirectedRequest)
			return
		}
		p.ask(w, r, client)
		return
	}
	if r.URL.Path == "/" && p.Desk != nil && p.called(r) {
		p.mine(w, r, client)
		return
	}
	if strings.HasPrefix(r.URL.Path, "/authority") {
		p.handOutAuthority(w, r)
		return
	}
	http.Error(w, "This is the proxy gate of Wide Lark. Set it as the HTTP proxy of your browser; /proxy.pac is a file that does so.", http.StatusNotFound)
}

// called reports whether a request calls the gate by its own name, or by the address that it has come to. Under another name that leads here, a page of
// that name could read and send the gate's forms (DNS rebinding).
func (p *Proxy) called(r *http.Request) bool {
	at, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	return p.isOwn(r.Host) || at != nil && r.Host == at.String()
}

// isOwn reports whether a host is the gate's own name or address.
func (p *Proxy) isOwn(host string) bool {
	return "http://"+host == p.Self || p.Name != "" && strings.EqualFold(host, p.Name)
}

// PAC returns a proxy auto-configuration file that sends everything but names without a dot and loopback through the proxy at an address.
func PAC(address string) []byte {
	return []byte(`function FindProxyForURL(url, host) {
  if (isPlainHostName(host) || host === "localhost" || shExpMatch(host, "127.*")) return "DIRECT";
  return "PROXY ` + address + `";
}
`)
}

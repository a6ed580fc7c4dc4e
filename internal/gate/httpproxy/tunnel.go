package httpproxy

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// replayed is a connection of which some bytes were read already.
type replayed struct {
	net.Conn
	head []byte
}

// Read implements [net.Conn].
func (c *replayed) Read(b []byte) (int, error) {
	if len(c.head) > 0 {
		n := copy(b, c.head)
		c.head = c.head[n:]
		return n, nil
	}
	return c.Conn.Read(b)
}

// longestHost is the longest name that the DNS can hold, in characters (RFC 1035, section 2.3.4).
const longestHost = 253

// connect serves a tunnel (RFC 9110, section 9.3.6).
func (p *Proxy) connect(w http.ResponseWriter, r *http.Request, client gate.Client) {
	begin := time.Now()
	u, err := weburl.Parse("https://" + r.Host + "/")
	if err != nil || r.URL.Path != "" || r.URL.RawQuery != "" || strings.ContainsAny(r.Host, "/?#@") || len(u.Host()) > longestHost {
		http.Error(w, "A tunnel leads to a host and a port, as heron.example:443.", http.StatusBadRequest)
		return
	}
	if port := u.Port(); port != 443 && port != 80 && !slices.Contains(p.Ports, port) {
		http.Error(w, fmt.Sprintf("Tunnels to port %d are not allowed.", port), http.StatusForbidden)
		return
	}
	t := &tunnel{client: client, host: r.Host, url: u, begin: begin, agent: r.UserAgent()}
	ask := t.request(p.Gate)
	if signs := p.signs.Load(); signs != nil && p.Gate.Opens(ask) {
		if t.take(w) {
			p.attend(t.raw, func() { p.open(t, signs) })
		}
		return
	}
	d := p.Gate.Decide(ask)
	if !d.Verdict.Passes() {
		if p.shows(t, d, func() bool { return t.take(w) }) {
			return
		}
		a := newAnswer(w)
		size, reference := p.refuse(a, r, d, "")
		p.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Reference: reference, Status: http.StatusForbidden, Media: a.Header().Get("Content-Type"), Size: size, Took: time.Since(begin)})
		return
	}
	_, _, t.safe = p.Gate.Held(d)
	far, err := p.reach(r.Context(), t)
	if err != nil {
		status, text := failure(err)
		http.Error(w, text, status)
		p.Gate.Record(d, journal.Ending{Outcome: journal.Failed, Status: status, Took: time.Since(begin), Detail: err.Error()})
		return
	}
	if !t.take(w) {
		_ = far.Close()
		return
	}
	p.attend(t.raw, func() { p.carry(t, d, far) })
}

// tunnel is a connection of a client to a host.
type tunnel struct {
	client gate.Client
	host   string // with its port, as the client asked for it
	url    weburl.URL
	begin  time.Time
	agent  string      // as the client calls itself
	raw    net.Conn    // to the client
	near   net.Conn    // raw, after what was read of it already
	plain  bool        // it holds HTTP without TLS
	safe   policy.Safe // what makes the answers of a search engine safe, where they have to be

	refused *refusedTunnel // it is open only to show that; nil else

	greeted string // the host and port in the TLS greeting, where that names another host; "" else
}

// request returns the question whether the tunnel may be.
func (t *tunnel) request(g *gate.Gate) gate.Request {
	return gate.Request{Client: t.client, URL: t.url, Method: http.MethodConnect, Sight: g.Sees(t.url, false), Agent: t.agent}
}

// notTLS returns the question whether something else than TLS may come through the tunnel.
func (t *tunnel) notTLS(g *gate.Gate) gate.Request {
	ask := t.request(g)
	ask.NotTLS = true
	return ask
}

// other returns the URL of the host that a TLS greeting names, where that is not the tunnel's. hello may be nil.
func (t *tunnel) other(hello *tls.ClientHelloInfo) (weburl.URL, bool) {
	if hello == nil || hello.ServerName == "" {
		return weburl.URL{}, false
	}
	u, err := weburl.Parse(fmt.Sprintf("https://%s:%d/", hello.ServerName, t.url.Port()))
	return u, err == nil && u.Host() != t.url.Host()
}

// reach connects to the host of a tunnel, or to the one that gives safe answers in its place.
func (p *Proxy) reach(ctx context.Context, t *tunnel) (net.Conn, error) {
	if err := p.dialer.refuses(t.url.Addr()); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, dialTimeout)
	defer cancel()
	host := strings.Trim(t.url.Host(), "[]")
	if t.safe.By == policy.ByHost {
		host = t.safe.Value
	}
	return p.dialer.tunnel(ctx, net.JoinHostPort(host, strconv.Itoa(int(t.url.Port()))))
}

// take takes the connection over from the server and tells the client that the tunnel stands.
func (t *tunnel) take(w http.ResponseWriter) bool {
	conn, rw, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, "Tunnels need a connection of HTTP/1.1.", http.StatusHTTPVersionNotSupported)
		return false
	}
	t.raw, t.near = conn, conn
	if n := rw.Reader.Buffered(); n > 0 {
		head, _ := rw.Peek(n)
		t.near = &replayed{Conn: conn, head: slices.Clone(head)}
	}
	_ = conn.SetDeadline(time.Time{})
	if _, err := conn.Write([]byte("HTTP/1.1 200 Connection established\r\n\r\n")); err != nil {
		_ = conn.Close()
		return false
	}
	return true
}

// Why a tunnel fails.
const (
	saidNothing = "the client said nothing through the tunnel: "
	notTLS      = "what the client said through the tunnel is not TLS"
)

// carry copies bytes between a client and a host, after a look at what the client says first.
func (p *Proxy) carry(t *tunnel, d gate.Decision, far net.Conn) {
	both := sync.OnceFunc(func() { _, _ = t.raw.Close(), far.Close() })
	stop := context.AfterFunc(p.base, both)
	defer stop()
	early := d // until the client has said what the tunnel is for
	early.ID = uuid.Nil
	done := p.Gate.Watch(early, true, nothingMoves, both)
	_ = t.raw.SetReadDeadline(time.Now().Add(greetTimeout))
	head, hello, err := greeting(t.near)
	_ = t.raw.SetReadDeadline(time.Time{})
	end := journal.Ending{Outcome: journal.Answered, Status: http.StatusOK}
	cut := false
	switch other, differs := t.other(hello); {
	case err != nil:
		both()
		cut = done()
		end.Outcome, end.Detail = journal.Failed, saidNothing+err.Error()
	case hello == nil && isHTTP(head):
		t.near, t.plain = &replayed{Conn: t.raw, head: head}, true
		_ = far.Close()
		if cut = done(); !cut { // what is inside is decided and recorded by itself
			stop()
			if p.opened.give(&inTunnel{t.near, t}) {
				return
			}
		}
	case hello == nil:
		if cut = done(); !cut {
			d = p.Gate.Decide(t.notTLS(p.Gate))
			cut = p.pipe(t, far, head, both, &end, d)
		}
	case differs: // both names are decided, and the stricter verdict counts
		if cut = done(); cut {
			break
		}
		ask := t.request(p.Gate)
		ask.TwoNames = true
		d = p.Gate.Decide(ask)
		ask.URL, ask.Sight = other, p.Gate.Sees(other, false)
		greeted := p.Gate.Decide(ask)
		greeted.ID = d.ID // one record is of both
		if _, _, safe := p.Gate.Held(greeted); safe != t.safe && greeted.Verdict.Passes() {
			greeted.Verdict = policy.Block // the tunnel does not lead to where its answers are safe
		}
		cut = p.pipe(t, far, head, both, &end, d, greeted)
		if greeted.Verdict.Stricter(d.Verdict) {
			d, end.Detail = greeted, "the TLS greeting names another host than the tunnel"
		}
	default:
		if cut = done(); !cut {
			cut = p.pipe(t, far, head, both, &end, d)
		}
	}
	both()
	if cut {
		end.Outcome = journal.Cut
	}
	end.Took = time.Since(t.begin)
	p.Gate.Record(d, end)
}

// carryOther carries what is neither TLS nor HTTP in a tunnel that was to be opened, if a rule allows it.
func (p *Proxy) carryOther(t *tunnel, head []byte) {
	d := p.Gate.Decide(t.notTLS(p.Gate))
	end := journal.Ending{Outcome: journal.Cut, Status: http.StatusOK, Detail: notTLS}
	if d.Verdict.Passes() {
		far, err := p.reach(p.base, t)
		if err != nil {
			end.Outcome, end.Detail = journal.Failed, err.Error()
		} else {
			end.Outcome, end.Detail = journal.Answered, ""
			both := sync.OnceFunc(func() { _, _ = t.raw.Close(), far.Close() })
			stop := context.AfterFunc(p.base, both)
			defer stop()
			if p.pipe(t, far, head, both, &end, d) {
				end.Outcome = journal.Cut
			}
			both()
		}
	}
	_ = t.raw.Close()
	end.Took = time.Since(t.begin)
	p.Gate.Record(d, end)
}

// nothingMoves is of tunnels through which nothing passes yet.
func nothingMoves() int64 { return 0 }

// pipe copies bytes both ways as long as all decisions let it, and reports whether they stopped it. head is what the client said already.
func (p *Proxy) pipe(t *tunnel, far net.Conn, head []byte, both func(), end *journal.Ending, decisions ...gate.Decision) (cut bool) {
	near := t.raw
	for _, d := range decisions {
		if !d.Verdict.Passes() {
			if d.Request.NotTLS {
				end.Detail = notTLS
			}
			return true
		}
		// What is no TLS is not opened, and of two names the tunnel's says whether it is.
		var moved func() int64
		near, moved = p.counting(d, near)
		done := p.Gate.Watch(d, !d.Request.NotTLS && d.Request.URL == t.url, moved, both)
		defer func() { cut = done() || cut }()
	}
	copyBoth(near, far, head, both, end)
	return false
}

// copyBoth copies bytes both ways, until both sides have ended.
func copyBoth(near, far net.Conn, head []byte, both func(), end *journal.Ending) {
	if _, err := far.Write(head); err != nil {
		end.Outcome, end.Detail = journal.Failed, err.Error()
		return
	}
	var back atomic.Int64
	returned := make(chan struct{})
	go func() {
		defer close(returned)
		n, _ := splice(near, far)
		back.Store(n)
		if !closeWrite(near) {
			both()
		}
	}()
	n, _ := splice(far, near)
	if !closeWrite(far) {
		both()
	}
	<-returned
	end.Size = int64(len(head)) + n + back.Load()
}

// closeWrite says that nothing more follows, and reports whether the connection knows of that.
func closeWrite(c net.Conn) bool {
	half, ok := c.(interface{ CloseWrite() error })
	return ok && half.CloseWrite() == nil
}

// isHTTP reports whether bytes begin like a request of HTTP/1: a method in capitals and a blank.
func isHTTP(head []byte) bool {
	method, _, found := bytes.Cut(head, []byte(" "))
	return found && len(method) > 2 && len(method) < 20 && len(bytes.Trim(method, "ABCDEFGHIJKLMNOPQRSTUVWXYZ")) == 0
}

// errRead ends the reading of a greeting.
var errRead = errors.New("read")

// greeting reads what a client says first in a tunnel. hello is nil where it is not TLS. head is all that was read.
func greeting(near net.Conn) (head []byte, hello *tls.ClientHelloInfo, err error) {
	listening := &listening{Conn: near}
	first := make([]byte, 1)
	if _, err := io.ReadFull(listening, first); err != nil {
		return nil, nil, err
	}
	const handshake = 22 // the type of a record of TLS that holds a greeting (RFC 8446, section 5.1)
	if first[0] != handshake {
		_, _ = listening.Read(make([]byte, 4096)) // enough to tell what it is; a failure shows in the next read
		return listening.heard.Bytes(), nil, nil
	}
	server := tls.Server(&mute{&replayed{Conn: listening, head: first}}, &tls.Config{GetConfigForClient: func(h *tls.ClientHelloInfo) (*tls.Config, error) {
		hello = h
		return nil, errRead
	}})
	err = server.Handshake()
	if hello != nil {
		err = nil
	} else if _, ok := errors.AsType[tls.RecordHeaderError](err); ok {
		err = nil
	}
	return listening.heard.Bytes(), hello, err
}

// listening is a connection that keeps all that is read.
type listening struct {
	net.Conn
	heard bytes.Buffer
}

// Read implements [net.Conn].
func (c *listening) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.heard.Write(b[:n])
	return n, err
}

// mute is a connection that writes nothing.
type mute struct{ net.Conn }

// Write implements [net.Conn].
func (mute) Write(b []byte) (int, error) { return len(b), nil }

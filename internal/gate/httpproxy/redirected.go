package httpproxy

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// ServeRedirected takes connections that a router or a firewall has redirected here, beside [Proxy.Serve], until the proxy is closed. Their clients know of no proxy: where
// they want to go is what they say first, in the greeting of TLS or in Host, and else the address that they had connected to. The name counts, and is resolved anew.
func (p *Proxy) ServeRedirected(listener net.Listener) error {
	stop := p.base.Done()
	go func() {
		<-stop
		_ = listener.Close()
	}()
	for {
		conn, err := listener.Accept()
		if err != nil {
			if p.base.Err() != nil || errors.Is(err, net.ErrClosed) {
				return nil
			}
			if temporary, ok := errors.AsType[net.Error](err); ok && temporary.Timeout() {
				continue
			}
			return err
		}
		p.attend(conn, func() { p.redirected(conn) })
	}
}

// redirected serves one connection.
func (p *Proxy) redirected(conn net.Conn) {
	meant, err := originalTo(conn)
	if err != nil {
		p.Log.WarnContext(p.base, "a connection that was not redirected came to the address for redirected ones", "from", conn.RemoteAddr(), "error", err)
		_ = conn.Close()
		return
	}
	t := &tunnel{begin: time.Now(), raw: conn, near: conn}
	if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
		t.client = gate.Client{Address: at.Addr().Unmap()}
	}
	_ = conn.SetReadDeadline(time.Now().Add(greetTimeout))
	head, hello, err := greeting(conn)
	if err == nil && hello == nil && isHTTP(head) {
		head, err = wholeHead(conn, head)
	}
	_ = conn.SetReadDeadline(time.Time{})
	name := meant.Addr().Unmap().String()
	scheme := "https"
	switch {
	case err != nil:
		_ = conn.Close()
		return
	case hello != nil:
		if hello.ServerName != "" {
			name = hello.ServerName
		}
	case isHTTP(head):
		scheme, t.plain = "http", true
		if r, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(head))); err == nil && r.Host != "" {
			t.agent = r.UserAgent()
			if name = r.Host; !strings.HasPrefix(name, "[") {
				name, _, _ = strings.Cut(name, ":") // the port is that of the connection
			} else if end := strings.IndexByte(name, ']'); end > 0 {
				name = name[1:end]
			}
		}
	}
	t.near = &replayed{Conn: conn, head: head}
	t.host = net.JoinHostPort(name, strconv.Itoa(int(meant.Port())))
	if t.url, err = weburl.Parse(scheme + "://" + t.host + "/"); err != nil || len(t.url.Host()) > longestHost {
		_ = conn.Close()
		return
	}
	switch {
	case t.plain:
		if !p.opened.give(&inTunnel{t.near, t}) {
			_ = conn.Close()
		}
	case hello == nil:
		p.carryOther(t, head)
	default:
		p.redirectedTLS(t)
	}
}

// redirectedTLS serves a connection of TLS: it is opened, or carried as it is, or closed.
func (p *Proxy) redirectedTLS(t *tunnel) {
	ask := t.request(p.Gate)
	if signs := p.signs.Load(); signs != nil && p.Gate.Opens(ask) {
		p.open(t, signs)
		return
	}
	d := p.Gate.Decide(ask)
	if !d.Verdict.Passes() {
		if p.shows(t, d, func() bool { return true }) {
			return
		}
		_ = t.raw.Close()
		p.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Took: time.Since(t.begin), Detail: "the connection was closed: no page can be shown"})
		return
	}
	_, _, t.safe = p.Gate.Held(d)
	far, err := p.reach(p.base, t)
	if err != nil {
		_ = t.raw.Close()
		p.Gate.Record(d, journal.Ending{Outcome: journal.Failed, Took: time.Since(t.begin), Detail: err.Error()})
		return
	}
	p.carry(t, d, far)
}

// wholeHead reads on until the head of the first request is there.
func wholeHead(conn net.Conn, head []byte) ([]byte, error) {
	some := make([]byte, 4096)
	for !bytes.Contains(head, []byte("\r\n\r\n")) && !bytes.Contains(head, []byte("\n\n")) {
		if len(head) > mostHead {
			return nil, fmt.Errorf("the head of the request is longer than %d bytes", mostHead)
		}
		n, err := conn.Read(some)
		if head = append(head, some[:n]...); err != nil {
			return nil, err
		}
	}
	return head, nil
}

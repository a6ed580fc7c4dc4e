package httpproxy

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	urlpkg "net/url"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/gate/blockpage"
	"widelark/internal/journal"
)

// Authority makes certificates for connections that are opened.
type Authority interface {
	// Certificate returns a certificate for a host, a name or an address.
	Certificate(host string) (*tls.Certificate, error)
}

// handover is a listener for connections that others have taken.
type handover struct {
	taken  chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func newHandover() *handover {
	return &handover{taken: make(chan net.Conn), closed: make(chan struct{})}
}

// give hands a connection over, and reports whether it was taken.
func (h *handover) give(conn net.Conn) bool {
	select {
	case h.taken <- conn:
		return true
	case <-h.closed:
		return false
	}
}

// Accept implements [net.Listener].
func (h *handover) Accept() (net.Conn, error) {
	select {
	case conn := <-h.taken:
		return conn, nil
	case <-h.closed:
		return nil, net.ErrClosed
	}
}

// Close implements [net.Listener].
func (h *handover) Close() error {
	h.once.Do(func() { close(h.closed) })
	return nil
}

// Addr implements [net.Listener].
func (h *handover) Addr() net.Addr { return &net.TCPAddr{} }

// inTunnel is a connection of plain HTTP inside a tunnel.
type inTunnel struct {
	net.Conn
	tunnel *tunnel
}

type tunnelKey struct{}

// tunnelOf returns the tunnel that a connection of the inner server came through.
func tunnelOf(conn net.Conn) *tunnel {
	if opened, ok := conn.(*tls.Conn); ok {
		conn = opened.NetConn()
	}
	return conn.(*inTunnel).tunnel
}

// insideOf returns the tunnel that a request came through; nil for none.
func insideOf(r *http.Request) *tunnel {
	t, _ := r.Context().Value(tunnelKey{}).(*tunnel)
	return t
}

// open opens the TLS connection of a client, and gives it to the inner server; plain HTTP it gives as it is.
func (p *Proxy) open(t *tunnel, signs *signer) {
	stop := context.AfterFunc(p.base, func() { _ = t.raw.Close() })
	defer stop()
	ask := t.request(p.Gate)
	failed := func(why string) {
		_ = t.raw.Close()
		if t.refused != nil { // that has its record
			p.remind(t.refused.decision, "", t.refused.reference)
			return
		}
		p.Gate.Record(p.Gate.Decide(ask), journal.Ending{Outcome: journal.Failed, Took: time.Since(t.begin), Detail: why})
	}
	_ = t.raw.SetReadDeadline(time.Now().Add(greetTimeout))
	head, hello, err := greeting(t.near)
	_ = t.raw.SetReadDeadline(time.Time{})
	t.near = &replayed{Conn: t.raw, head: head}
	switch {
	case err != nil:
		failed(saidNothing + err.Error())
		return
	case hello == nil && isHTTP(head):
		t.plain = true
		if !p.opened.give(&inTunnel{t.near, t}) {
			_ = t.raw.Close()
		}
		return
	case hello == nil && t.refused != nil:
		_ = t.raw.Close()
		return
	case hello == nil:
		p.carryOther(t, head)
		return
	}
	if other, ok := t.other(hello); ok {
		t.greeted = net.JoinHostPort(other.Host(), strconv.Itoa(int(other.Port())))
	}
	ctx, cancel := context.WithTimeout(p.base, greetTimeout)
	defer cancel()
	conn := tls.Server(&inTunnel{t.near, t}, signs.serverConfig(t))
	if err := conn.HandshakeContext(ctx); err != nil {
		if refusesCertificate(err) && t.refused == nil {
			p.learned.add(t.url.Host(), t.client.Address.String(), p.Gate.Now())
		}
		failed("the connection could not be opened: " + err.Error())
		return
	}
	if !p.opened.give(conn) {
		_ = t.raw.Close()
	}
}

// refusedTunnel is why a tunnel is open only to show the page that says so.
type refusedTunnel struct {
	decision  gate.Decision
	reference string
}

// shows opens a tunnel that is refused to show the page that says so, and makes the record of it; false where it is not to be opened.
func (p *Proxy) shows(t *tunnel, d gate.Decision, take func() bool) bool {
	signs := p.signs.Load()
	if signs == nil || !p.Gate.ShowsPages(d) {
		return false
	}
	t.refused = &refusedTunnel{d, newReference()}
	p.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Reference: t.refused.reference, Status: http.StatusForbidden, Took: time.Since(t.begin), Detail: "the connection was opened to show the page"})
	if take() {
		p.attend(t.raw, func() { p.open(t, signs) })
	}
	return true
}

// refusesCertificate reports whether a client has refused our certificate: it says so or, as some libraries do, sends its alert under keys that the server does
// not have any more.
func refusesCertificate(err error) bool {
	var op *net.OpError
	if !errors.As(err, &op) {
		return false
	}
	alert := reflect.ValueOf(op.Err) // crypto/tls has alerts as numbers of a type of its own
	if alert.Kind() != reflect.Uint8 {
		return false
	}
	// Alerts of RFC 8446, section 6.
	const badRecord, badCertificate, unknownAuthority = 20, 42, 48
	switch op.Op {
	case "remote error":
		return alert.Uint() >= badCertificate && alert.Uint() <= unknownAuthority
	case "local error":
		return alert.Uint() == badRecord
	}
	return false
}

// serverConfig returns how a connection is opened. Certificates come from the authority, by the name in the greeting or else the tunnel's.
func (s *signer) serverConfig(t *tunnel) *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			name := hello.ServerName
			if name == "" {
				name = strings.Trim(t.url.Host(), "[]")
			}
			return s.Certificate(name)
		},
	}
}

// serveInside answers a request inside a tunnel.
func (p *Proxy) serveInside(w http.ResponseWriter, r *http.Request) {
	t := insideOf(r)
	if t.refused != nil {
		w.Header().Set("Connection", "close") // the next request is decided anew
		p.refuseAs(w, r, t.refused.decision, "", t.refused.reference)
		return
	}
	scheme := "https"
	if t.plain {
		scheme = "http"
	}
	r.Header.Del("Proxy-Authorization") // inside a tunnel it would be for the site
	if r.URL.IsAbs() || r.Method == http.MethodConnect || !strings.HasPrefix(r.URL.Path, "/") && r.URL.Path != "*" {
		http.Error(w, "Inside a tunnel, a request names a path.", http.StatusBadRequest)
		return
	}
	hosts := []string{r.Host}
	if t.greeted != "" {
		hosts = append(hosts, t.greeted)
	}
	p.plain(w, r, t.client, scheme+"://"+t.host, hosts...)
}

// refuse answers with the block page, or with a few bytes where no document was asked for, and returns the size of the body and the reference of the answer.
// proviso is a sentence about what a request may not do that would pass otherwise; "" where it may not pass.
func (p *Proxy) refuse(w http.ResponseWriter, r *http.Request, d gate.Decision, proviso string) (size int64, reference string) {
	reference = newReference()
	return p.refuseAs(w, r, d, proviso, reference), reference
}

// Refuse is for gates that show the same pages.
func (p *Proxy) Refuse(w http.ResponseWriter, r *http.Request, d gate.Decision, proviso string) (size int64, reference string) {
	return p.refuse(w, r, d, proviso)
}

// refuseAs is refuse with a reference that is there already.
func (p *Proxy) refuseAs(w http.ResponseWriter, r *http.Request, d gate.Decision, proviso, reference string) (size int64) {
	header := w.Header()
	header.Set("Cache-Control", "no-store")
	header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:")
	header.Set("X-Content-Type-Options", "nosniff")
	var media string
	var body []byte
	if blockpage.IsDocument(r.Header) {
		said := p.Gate.PageOf(d)
		if said.Redirect != "" && d.Verdict == policy.Block && r.Method == http.MethodGet {
			p.remind(d, proviso, reference)
			header.Set("Location", led(said.Redirect, d.Request.URL.String(), reference))
			w.WriteHeader(http.StatusSeeOther)
			return 0
		}
		media, body = "text/html; charset=utf-8", p.page(d, said, r.Header.Get("Accept-Language"), proviso, reference)
	} else if media, body = blockpage.Small(r.Header); strings.HasPrefix(media, "text/plain") {
		body = fmt.Appendf(nil, "Not allowed here: %s\nReference %s\n", p.remind(d, proviso, reference).Because, reference)
	}
	header.Set("Content-Type", media)
	header.Set("Content-Length", fmt.Sprint(len(body)))
	w.WriteHeader(http.StatusForbidden)
	if r.Method != http.MethodHead {
		_, _ = w.Write(body)
	}
	readOut(w, r)
	return int64(len(body))
}

// readOut reads, for a second at most, what a request of HTTP/2 still sends, once its answer is sent. Otherwise the server resets the stream (RFC 9113, section 8.1), and
// with the stream some clients give up the answer. Connections of HTTP/1 the server reads out itself.
func readOut(w http.ResponseWriter, r *http.Request) {
	if r.ProtoMajor != 2 || r.Body == http.NoBody {
		return
	}
	stream := http.NewResponseController(w)
	if stream.Flush() == nil && stream.SetReadDeadline(time.Now().Add(time.Second)) == nil {
		_, _ = io.CopyN(io.Discard, r.Body, mostReadOut)
	}
}

// mostReadOut is how many bytes of a refused request are read, as many as the server reads of HTTP/1.
const mostReadOut = 256 << 10

// led returns where a blocked page leads, with what was refused and the reference of that.
func led(to, url, reference string) string {
	at, err := urlpkg.Parse(to)
	if err != nil { // it was looked at when it was kept
		return to
	}
	query := at.Query()
	query.Set("url", url)
	query.Set("reference", reference)
	at.RawQuery = query.Encode()
	return at.String()
}

// reason joins why a request was decided as it was and the proviso that it does not keep.
func reason(because, proviso string) string { return strings.TrimSpace(because + " " + proviso) }

// remind explains a refusal, and remembers it, so that people can ask for access by its reference and see it on their own page.
func (p *Proxy) remind(d gate.Decision, proviso, reference string) gate.Explanation {
	why := p.Gate.Explain(d)
	why.Because = reason(why.Because, proviso)
	p.lately.add(reference, Refused{Request: d.Request, Verdict: d.Verdict, By: why.Source, Because: why.Because, Who: p.Gate.Called(d.Request.Client), At: d.At})
	return why
}

// page returns the block page of a decision in the language of whoever asks, and remembers it.
func (p *Proxy) page(d gate.Decision, said policy.Page, languages, proviso, reference string) []byte {
	why, who := p.remind(d, proviso, reference), p.Gate.Called(d.Request.Client)
	page := blockpage.Page{
		Words: blockpage.In(languages), Held: d.Verdict == policy.Hold, Logo: said.Logo, URL: d.Request.URL.String(), Because: why.Because, By: why.Source,
		Who: who, Is: strings.Join(why.Classes, ", "), Reference: reference, Organisation: p.Organisation,
	}
	words, in := blockpage.Said(said, languages)
	page.Title, page.Text, page.Contact, page.SaidIn = words.Title, words.Text, words.Contact, in
	if p.Desk != nil {
		page.AskAt = p.Self + "/ask?reference=" + reference
	}
	for _, u := range p.Gate.Remains(d) {
		page.Remains = append(page.Remains, u.String())
	}
	if until, changes := p.Gate.Until(d); changes {
		page.Until = page.Moment(until.In(p.Gate.Zone()))
	}
	return page.HTML()
}

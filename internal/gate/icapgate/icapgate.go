// Package icapgate is the ICAP gate (RFC 3507): other proxies ask it about requests, and about answers.
//
// From: requests of ICAP, with the HTTP messages in them.
// To: decisions of the gate, the same messages, or pages in their place.
package icapgate

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/gate/httpproxy"
	"widelark/internal/journal"
)

// Config is what a server stands on.
type Config struct {
	Gate     *gate.Gate
	Desk     gate.Desk        // it knows people by their names; nil: nobody is named
	Pages    *httpproxy.Proxy // that shows them
	Trusted  []netip.Prefix   // of proxies that are believed who asks
	MostForm int64            // bytes that a request may send where uploads are not allowed; 0 for [httpproxy.MostForm]
	Alone    bool             // answers without the request that they belong to pass; else they are refused
	Log      *slog.Logger
}

// The services that a proxy is told of.
const (
	Requests = "requests" // REQMOD
	Answers  = "answers"  // RESPMOD
)

// Limits of connections.
const (
	idleTimeout = 2 * time.Minute
	preview     = 4096 // bytes of a body that proxies send at first
)

// Server answers proxies. It is safe for concurrent use.
type Server struct {
	Config
	base  context.Context // ends with Close
	end   context.CancelFunc
	conns sync.WaitGroup
	known *lru.Cache[string, known] // people by what proxies call them
}

type known struct {
	person uuid.UUID
	until  time.Time
}

// New returns a server.
func New(c Config) *Server {
	c.MostForm = cmp.Or(c.MostForm, httpproxy.MostForm)
	s := &Server{Config: c}
	s.base, s.end = context.WithCancel(context.Background())
	s.known, _ = lru.New[string, known](10_000) // the size is in order
	return s
}

// Serve answers proxies until the server is closed.
func (s *Server) Serve(listener net.Listener) error {
	stop := context.AfterFunc(s.base, func() { _ = listener.Close() })
	defer stop()
	for {
		conn, err := listener.Accept()
		if err != nil {
			if s.base.Err() != nil || errors.Is(err, net.ErrClosed) {
				return nil
			}
			s.Log.WarnContext(s.base, "a connection cannot be taken", "error", err)
			time.Sleep(50 * time.Millisecond) // it may be for want of descriptors
			continue
		}
		s.conns.Go(func() { s.serve(conn) })
	}
}

// Close ends all that serves, and waits for it.
func (s *Server) Close() error {
	s.end()
	s.conns.Wait()
	return nil
}

// serve answers the requests of one connection, one after the other. What is answered is sent when no further request waits already.
func (s *Server) serve(conn net.Conn) {
	stop := context.AfterFunc(s.base, func() { _ = conn.Close() })
	defer stop()
	defer conn.Close()
	r, w := bufio.NewReaderSize(conn, mostLine), bufio.NewWriterSize(conn, 16<<10)
	from := addressOf(conn)
	for {
		_ = conn.SetDeadline(time.Now().Add(idleTimeout))
		m, err := read(r, w)
		if err == nil {
			err = (&exchange{Server: s, message: m, w: w, from: from}).answer()
		}
		if err == nil {
			err = m.body.drain()
		}
		if fault := (*wrong)(nil); errors.As(err, &fault) {
			_, _ = fmt.Fprintf(w, "ICAP/1.0 %d %s\r\nISTag: %s\r\nConnection: close\r\nEncapsulated: null-body=0\r\n\r\n", fault.status, reasons[fault.status], s.tag())
			_ = w.Flush()
			s.Log.DebugContext(s.base, "a request of ICAP cannot be read", "from", conn.RemoteAddr(), "error", fault)
			return
		}
		if err != nil {
			_ = w.Flush() // as much as may pass
			return
		}
		if r.Buffered() == 0 {
			if w.Flush() != nil {
				return
			}
		}
		if strings.EqualFold(m.header.Get("Connection"), "close") {
			_ = w.Flush()
			return
		}
	}
}

func addressOf(conn net.Conn) netip.Addr {
	at, _ := netip.ParseAddrPort(conn.RemoteAddr().String())
	return at.Addr().Unmap().WithZone("")
}

var reasons = map[int]string{400: "Bad request", 404: "ICAP Service not found", 405: "Method not allowed for service", 505: "ICAP version not supported"}

// tag names what the gate decides by: a proxy that keeps answers asks anew when it is another one (RFC 3507, section 4.7).
func (s *Server) tag() string {
	e := s.Gate.Edition()
	if e == nil {
		return `"without-rules"`
	}
	b := append(make([]byte, 0, 48), '"')
	b = append(strconv.AppendInt(b, e.Revision, 10), '-')
	b = append(strconv.AppendInt(b, e.Catalogue, 10), '-')
	return string(append(strconv.AppendInt(b, e.Since.UnixMilli(), 16), '"'))
}

// exchange is one request of ICAP and its answer.
type exchange struct {
	*Server
	*message
	w    *bufio.Writer
	from netip.Addr
}

func (x *exchange) answer() error {
	switch {
	case x.service != Requests && x.service != Answers:
		return &wrong{404, "there are the services " + Requests + " and " + Answers}
	case x.method == "OPTIONS":
		method := "REQMOD"
		if x.service == Answers {
			method = "RESPMOD"
		}
		_, err := fmt.Fprintf(x.w, "ICAP/1.0 200 OK\r\nMethods: %s\r\nService: Wide Lark\r\nISTag: %s\r\nOptions-TTL: 60\r\nAllow: 204\r\nPreview: %d\r\nTransfer-Preview: *\r\nX-Include: X-Client-IP, X-Authenticated-User\r\nDate: %s\r\nEncapsulated: null-body=0\r\n\r\n",
			method, x.tag(), preview, time.Now().UTC().Format(http.TimeFormat))
		return err
	case x.method == "REQMOD" && x.service == Requests:
		return x.requests()
	case x.method == "RESPMOD" && x.service == Answers:
		return x.answers()
	}
	return &wrong{405, x.method + " is not answered there"}
}

// client returns who asks: as a trusted proxy says, else the proxy itself.
func (x *exchange) client() gate.Client {
	c := gate.Client{Address: x.from}
	if !slices.ContainsFunc(x.Trusted, func(r netip.Prefix) bool { return r.Contains(x.from) }) {
		return c
	}
	if at, err := netip.ParseAddr(strings.TrimSpace(x.header.Get("X-Client-IP"))); err == nil {
		c.Address = at.Unmap().WithZone("")
	}
	if said := strings.TrimSpace(x.header.Get("X-Authenticated-User")); said != "" && x.Desk != nil {
		if person, ok := x.named(said); ok {
			c.Person, c.SignedIn = person, true
		}
	}
	return c
}

// toldFor is how long a name is not looked up anew.
const toldFor = time.Minute

// named returns the person whom a proxy means.
func (s *Server) named(said string) (uuid.UUID, bool) {
	now := time.Now()
	if k, ok := s.known.Get(said); ok && now.Before(k.until) {
		return k.person, k.person != uuid.Nil
	}
	for _, name := range namesIn(said) {
		person, ok, err := s.Desk.Named(s.base, name)
		if err != nil {
			s.Log.WarnContext(s.base, "a name that a proxy says cannot be looked up", "name", name, "error", err)
			return uuid.Nil, false
		}
		if ok {
			s.known.Add(said, known{person, now.Add(toldFor)})
			return person, true
		}
	}
	s.known.Add(said, known{uuid.Nil, now.Add(toldFor)})
	return uuid.Nil, false
}

// namesIn returns what a field may mean: the name as it stands, or in base64, each without the scheme before it, as Local://kay.moran.
func namesIn(said string) (names []string) {
	texts := []string{said}
	if plain, err := base64.StdEncoding.DecodeString(said); err == nil && utf8.Valid(plain) {
		texts = append(texts, string(plain))
	}
	for _, text := range texts {
		if _, rest, ok := strings.Cut(text, "://"); ok {
			if _, last, ok := strings.Cut(rest, "/"); ok { // of a domain
				names = append(names, last)
			}
			text = rest
		}
		names = append(names, text)
	}
	return names
}

// urlOf returns the URL that a request asks for, and whether more of it than the tunnel is seen.
func urlOf(r *http.Request) (u weburl.URL, opened bool, err error) {
	text := ""
	switch {
	case r.Method == http.MethodConnect:
		text = "https://" + r.Host + "/"
	case r.URL.IsAbs():
		text, opened = r.URL.String(), true
	default:
		text, opened = "http://"+r.Host+r.URL.RequestURI(), true
	}
	if u, err = weburl.Parse(text); err != nil {
		err = bad("the URL cannot be read: %v", err)
	}
	return u, opened, err
}

// decide asks the gate about the request in a message. A Host that differs from the URL's is decided, too, and the stricter verdict counts.
func (x *exchange) decide(r *http.Request) (gate.Decision, error) {
	u, opened, err := urlOf(r)
	if err != nil {
		return gate.Decision{}, err
	}
	ask := gate.Request{Client: x.client(), URL: u, Method: r.Method, Sight: x.Gate.Sees(u, opened), Referrer: r.Referer(), Agent: r.UserAgent()}
	other, differs := x.otherHost(u)
	ask.TwoNames = differs
	d := x.Gate.Decide(ask)
	if differs {
		ask.URL = other
		if next := x.Gate.Decide(ask); next.Verdict.Stricter(d.Verdict) {
			d = next
		}
	}
	return d, nil
}

// otherHost returns the URL with the host that the field Host names, where that is not the URL's.
func (x *exchange) otherHost(u weburl.URL) (weburl.URL, bool) {
	for text := range bytes.SplitSeq(x.request, []byte("\n")) {
		name, value, ok := bytes.Cut(text, []byte(":"))
		if !ok || !strings.EqualFold(string(name), "Host") {
			continue
		}
		host := string(bytes.TrimSpace(value))
		if host == u.Host() {
			return u, false
		}
		other, err := weburl.Parse(u.Scheme() + "://" + host + u.Path())
		return other, err == nil && other.Host() != u.Host()
	}
	return u, false
}

// requests answers a question about a request.
func (x *exchange) requests() error {
	begin := time.Now()
	r, err := x.httpRequest()
	if err != nil {
		return err
	}
	if r == nil {
		return bad("there is no request in it: req-hdr")
	}
	d, err := x.decide(r)
	if err != nil {
		return err
	}
	if !d.Verdict.Passes() {
		return x.refuse(r, d, "", "", begin)
	}
	held, _, safe := x.Gate.Held(d)
	if held.NoUploads && x.body != nil {
		what, err := x.upload(r)
		if err != nil {
			return err
		}
		if what != "" {
			return x.refuse(r, d, "Nothing may be uploaded there, and "+what+".", "no uploads: "+what, begin)
		}
	}
	if x.Gate.Measures(d) {
		x.Gate.Watch(d, false, func() int64 { return 0 }, func() {})() // it counts for quotas, once
	}
	x.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Took: time.Since(begin)})
	if safe.By != "" {
		x.request = madeSafe(x.request, r, safe)
		return x.pass()
	}
	return x.unchanged()
}

// upload says in a clause what makes the request an upload; "" where it is none.
func (x *exchange) upload(r *http.Request) (string, error) {
	most := int(x.MostForm) + 1
	if r.ContentLength > x.MostForm {
		most = 0 // it says so itself
	}
	head, err := x.body.peek(most)
	if err != nil {
		return "", err
	}
	asked := *r
	asked.Body, asked.ContentLength = io.NopCloser(bytes.NewReader(head)), max(r.ContentLength, int64(len(head)))
	return httpproxy.Upload(&asked, x.MostForm)
}

// answers answers a question about what a site answers.
func (x *exchange) answers() error {
	begin := time.Now()
	r, err := x.httpRequest()
	if err != nil {
		return err
	}
	if x.response == nil {
		return bad("there is no answer in it: res-hdr")
	}
	if r == nil {
		if x.Alone {
			return x.unchanged()
		}
		return x.say(http.StatusForbidden, http.Header{"Content-Type": {"text/plain; charset=utf-8"}}, []byte("Not allowed here: the proxy does not say which request this answers.\n"), false)
	}
	response, err := x.httpResponse(r) //nolint:bodyclose // the body comes apart from it
	if err != nil {
		return err
	}
	d, err := x.decide(r)
	if err != nil {
		return err
	}
	if !d.Verdict.Passes() {
		return x.refuse(r, d, "", "", begin)
	}
	if d.Request.Answer = x.Gate.Asks(d); d.Request.Answer != nil {
		said := gate.Said{ContentType: response.Header.Get("Content-Type"), Disposition: response.Header.Get("Content-Disposition"), Encoding: response.Header.Get("Content-Encoding")}
		if x.body != nil {
			if said.Head, err = x.body.peek(x.Gate.Enough(d, said.ContentType)); err != nil {
				return err
			}
		}
		if d = x.Gate.Answered(d, said); !d.Verdict.Passes() {
			return x.refuse(r, d, "", "what the site answers is refused", begin)
		}
	}
	held, _, _ := x.Gate.Held(d)
	if held.SizeCap == 0 || x.body == nil {
		return x.unchanged()
	}
	if size := httpproxy.WholeSize(response); size > held.SizeCap {
		what := "the answer has " + httpproxy.InBytes(size)
		return x.refuse(r, d, "At most "+httpproxy.InBytes(held.SizeCap)+" may come from there, and "+what+".", what, begin)
	} else if size >= 0 {
		return x.unchanged()
	}
	x.body.most = held.SizeCap
	return x.pass()
}

// refuse answers with the page that says why, or a few bytes in its place, and records that.
func (x *exchange) refuse(r *http.Request, d gate.Decision, proviso, detail string, begin time.Time) error {
	page := &written{header: http.Header{}}
	size, reference := x.Pages.Refuse(page, r, d, proviso)
	x.Gate.Record(d, journal.Ending{
		Outcome: journal.Answered, Reference: reference, Status: page.status, Media: page.header.Get("Content-Type"), Size: size, Took: time.Since(begin), Detail: detail,
	})
	return x.say(page.status, page.header, page.body.Bytes(), r.Method == http.MethodHead)
}

// written is a page that was written.
type written struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header implements [http.ResponseWriter].
func (p *written) Header() http.Header { return p.header }

// WriteHeader implements [http.ResponseWriter].
func (p *written) WriteHeader(status int) { p.status = status }

// Write implements [http.ResponseWriter].
func (p *written) Write(b []byte) (int, error) {
	p.status = cmp.Or(p.status, http.StatusOK)
	return p.body.Write(b)
}

// say answers with an HTTP response in place of what was asked about.
func (x *exchange) say(status int, header http.Header, body []byte, headOnly bool) error {
	var head bytes.Buffer
	fmt.Fprintf(&head, "HTTP/1.1 %d %s\r\n", status, http.StatusText(status))
	header.Set("Content-Length", fmt.Sprint(len(body)))
	header.Set("Connection", "close")
	_ = header.Write(&head) // a buffer takes all
	head.WriteString("\r\n")
	kind := "res-body"
	if len(body) == 0 || headOnly {
		kind = "null-body"
	}
	_, err := fmt.Fprintf(x.w, "ICAP/1.0 200 OK\r\nISTag: %s\r\nEncapsulated: res-hdr=0, %s=%d\r\n\r\n%s", x.tag(), kind, head.Len(), head.Bytes())
	if err == nil && kind == "res-body" {
		_, err = fmt.Fprintf(x.w, "%x\r\n%s\r\n0\r\n\r\n", len(body), body)
	}
	return err
}

// unchanged answers that nothing is to be changed: in a line where the proxy allows that, else with all that it has sent.
func (x *exchange) unchanged() error {
	if !x.allows204() {
		return x.pass()
	}
	_, _ = x.w.WriteString("ICAP/1.0 204 No modifications\r\nISTag: ")
	_, _ = x.w.WriteString(x.tag())
	_, err := x.w.WriteString("\r\nEncapsulated: null-body=0\r\n\r\n") // an error stays with the writer
	return err
}

// pass answers with what the proxy has sent.
func (x *exchange) pass() error {
	head, kind, body := x.request, "req-hdr", "req-body"
	if x.service == Answers {
		head, kind, body = x.response, "res-hdr", "res-body"
	}
	if x.body == nil {
		body = "null-body"
	}
	if _, err := fmt.Fprintf(x.w, "ICAP/1.0 200 OK\r\nISTag: %s\r\nEncapsulated: %s=0, %s=%d\r\n\r\n%s", x.tag(), kind, body, len(head), head); err != nil || x.body == nil {
		return err
	}
	some := make([]byte, 32<<10)
	for {
		n, err := x.body.Read(some)
		if n > 0 {
			if _, err := fmt.Fprintf(x.w, "%x\r\n%s\r\n", n, some[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			_, err = x.w.WriteString("0\r\n\r\n")
			return err
		}
		if err != nil {
			return err
		}
	}
}

// madeSafe returns the head of a request by which a search engine gives safe answers.
func madeSafe(head []byte, r *http.Request, safe policy.Safe) []byte {
	made := r.Clone(context.Background())
	gate.MakeSafe(made, safe)
	target := made.URL.RequestURI()
	if made.URL.IsAbs() {
		target = made.URL.String()
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s %s %s\r\n", r.Method, target, r.Proto)
	first := true
	for text := range bytes.SplitSeq(head, []byte("\n")) {
		name, _, _ := bytes.Cut(text, []byte(":"))
		text = bytes.TrimRight(text, "\r")
		switch {
		case first:
			first = false
		case len(text) == 0, strings.EqualFold(string(name), "Host"), safe.By == policy.ByHeader && strings.EqualFold(string(name), safe.Name):
		default:
			b.Write(text)
			b.WriteString("\r\n")
		}
	}
	fmt.Fprintf(&b, "Host: %s\r\n", made.Host)
	if safe.By == policy.ByHeader {
		fmt.Fprintf(&b, "%s: %s\r\n", safe.Name, safe.Value)
	}
	b.WriteString("\r\n")
	return b.Bytes()
}

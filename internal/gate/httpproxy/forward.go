package httpproxy

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base32"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/gate/blockpage"
	"widelark/internal/journal"
)

// forwarder sends requests on to sites.
type forwarder struct {
	proxy    *httputil.ReverseProxy
	web      *http.Transport
	upgrades *http.Transport // HTTP/1.1 alone, as a connection of HTTP/2 cannot be upgraded
}

type (
	targetKey struct{} // of what a request leads to: a target
	failKey   struct{} // of why it failed: an *error
)

// target is where a request goes, whatever its Host says.
type target struct {
	origin string // as https://heron.example:8443
	opened bool   // the connection of the client was opened
	cap    sizeCap
	look   func(*http.Response) (most int64, err error) // decides again by the answer, and returns its size cap; nil where that changes nothing
	safe   policy.Safe                                  // what makes the answers of a search engine safe, where they have to be
}

func newForwarder(p *Proxy) *forwarder {
	transport := func() *http.Transport {
		t := &http.Transport{
			DialContext: p.dialer.dial, TLSHandshakeTimeout: dialTimeout, ResponseHeaderTimeout: 2 * time.Minute, ExpectContinueTimeout: time.Second,
			IdleConnTimeout: 90 * time.Second, MaxIdleConns: 1000, MaxIdleConnsPerHost: 32, MaxResponseHeaderBytes: 256 << 10, DisableCompression: true,
			TLSClientConfig: &tls.Config{RootCAs: p.Roots, MinVersion: tls.VersionTLS12},
			HTTP2:           &http.HTTP2Config{MaxReceiveBufferPerStream: 256 << 10},
		}
		if p.Upstream != nil {
			t.Proxy = http.ProxyURL(p.Upstream)
		}
		return t
	}
	f := &forwarder{web: transport(), upgrades: transport()}
	f.web.ForceAttemptHTTP2 = true
	f.upgrades.TLSClientConfig.NextProtos = []string{"http/1.1"}
	f.proxy = &httputil.ReverseProxy{
		Rewrite: rewrite, Transport: f, FlushInterval: -1,
		ModifyResponse: modify,
		ErrorHandler:   p.failed,
		ErrorLog:       slog.NewLogLogger(p.Log.Handler(), slog.LevelDebug), // the record says what became of each request
	}
	return f
}

func (f *forwarder) close() {
	f.web.CloseIdleConnections()
	f.upgrades.CloseIdleConnections()
}

// RoundTrip sends a request on: an upgrade over a connection of HTTP/1.1.
func (f *forwarder) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Header.Get("Upgrade") != "" {
		return f.upgrades.RoundTrip(r)
	}
	return f.web.RoundTrip(r)
}

// via names the gate to sites and clients, as each proxy does (RFC 9110, section 7.6.3).
const via = "1.1 wide-lark"

// rewrite directs a request to its target, and puts back what the library takes for the work of another proxy.
func rewrite(r *httputil.ProxyRequest) {
	to := r.In.Context().Value(targetKey{}).(target)
	scheme, host, _ := strings.Cut(to.origin, "://")
	r.Out.URL.Scheme, r.Out.URL.Host = scheme, host
	r.Out.URL.RawQuery = r.In.URL.RawQuery
	r.Out.Host = r.In.Host
	gate.MakeSafe(r.Out, to.safe)
	r.Out.Trailer = r.In.Trailer
	for _, name := range []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
		if values := r.In.Header.Values(name); len(values) > 0 {
			r.Out.Header[name] = values
		}
	}
	if r.In.Header.Get("User-Agent") == "" {
		r.Out.Header["User-Agent"] = nil // none in place of the library's own
	}
	r.Out.Header.Add("Via", via)
}

// modify takes from an answer what would lead later requests around the gate, and binds it to its size.
func modify(r *http.Response) error {
	to := r.Request.Context().Value(targetKey{}).(target)
	if to.opened {
		r.Header.Del("Alt-Svc")
	}
	r.Header.Add("Via", via)
	if to.look != nil && r.StatusCode >= 200 {
		var err error
		if to.cap.most, err = to.look(r); err != nil {
			return err
		}
	}
	return to.cap.bind(r)
}

// errAnswer says that a request is refused for what the site answers.
var errAnswer = errors.New("what the site answers is refused")

// failed answers a request that could not be carried out.
func (p *Proxy) failed(w http.ResponseWriter, r *http.Request, err error) {
	if kept, ok := r.Context().Value(failKey{}).(*error); ok {
		*kept = err
	}
	if r.Context().Err() != nil {
		panic(http.ErrAbortHandler) // the client is gone, or the request was cut
	}
	if _, ok := errors.AsType[*tooLargeError](err); ok || errors.Is(err, errAnswer) {
		return // whoever forwards says so
	}
	p.sayFailure(w, r, "", err)
}

// sayFailure answers that a site could not be reached: with a page, where one is wanted. at is the URL; "" for that of the request.
func (p *Proxy) sayFailure(w http.ResponseWriter, r *http.Request, at string, err error) (status int) {
	status, text := failure(err)
	w.Header().Set("Cache-Control", "no-store")
	if !blockpage.IsDocument(r.Header) {
		http.Error(w, text, status)
		return status
	}
	if to, ok := r.Context().Value(targetKey{}).(target); ok && at == "" {
		at = to.origin + r.URL.RequestURI()
	}
	var verify *tls.CertificateVerificationError
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.WriteHeader(status)
	_, _ = w.Write(blockpage.Failed{Words: blockpage.In(r.Header.Get("Accept-Language")), URL: at, Because: text, Certificate: errors.As(err, &verify), Inside: errors.Is(err, errInside), Organisation: p.Organisation}.HTML())
	return status
}

// failure says in a sentence why a site could not be reached, and the status for it.
func failure(err error) (status int, text string) {
	var verify *tls.CertificateVerificationError
	var name *net.DNSError
	var timeout net.Error
	switch {
	case errors.Is(err, errNoSeat):
		return http.StatusServiceUnavailable, "Not reached: " + errNoSeat.Error() + " just now. Try again in a minute."
	case errors.Is(err, errInside):
		return http.StatusForbidden, "Not reached: " + errInside.Error() + "."
	case errors.As(err, &verify):
		return http.StatusBadGateway, "Not reached: the certificate of the site cannot be trusted: " + verify.Err.Error() + "."
	case errors.As(err, &name) && name.IsNotFound:
		return http.StatusBadGateway, "Not reached: there is no such name."
	case errors.As(err, &timeout) && timeout.Timeout():
		return http.StatusGatewayTimeout, "Not reached: the site did not answer in time."
	}
	return http.StatusBadGateway, "Not reached: " + err.Error() + "."
}

// answer is the answer of a request as it goes out, with what the record keeps of it.
type answer struct {
	http.ResponseWriter
	status int
	size   atomic.Int64
	sent   *http.ResponseController
}

func newAnswer(w http.ResponseWriter) *answer {
	return &answer{ResponseWriter: w, sent: http.NewResponseController(w)}
}

// WriteHeader implements [http.ResponseWriter].
func (a *answer) WriteHeader(status int) {
	if a.status == 0 && (status >= 200 || status == http.StatusSwitchingProtocols) { // not those before the answer
		a.status = status
	}
	a.ResponseWriter.WriteHeader(status)
}

// Write implements [io.Writer].
func (a *answer) Write(b []byte) (int, error) {
	if a.status == 0 {
		a.status = http.StatusOK
	}
	n, err := a.ResponseWriter.Write(b)
	a.size.Add(int64(n))
	return n, err
}

// Hijack implements [http.Hijacker]. Bytes that came behind the request are read from the connection first.
func (a *answer) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, rw, err := a.sent.Hijack()
	if err != nil {
		return nil, nil, err
	}
	if n := rw.Reader.Buffered(); n > 0 {
		head, _ := rw.Peek(n)
		conn = &replayed{Conn: conn, head: slices.Clone(head)}
		rw = bufio.NewReadWriter(bufio.NewReader(conn), rw.Writer)
	}
	return &counted{conn, &a.size}, rw, nil
}

// Unwrap is for [http.ResponseController].
func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// plain carries out a request whose URL is in full sight: it asks the gate, and forwards what passes. hosts are where the client believes to be.
func (p *Proxy) plain(w http.ResponseWriter, r *http.Request, client gate.Client, origin string, hosts ...string) {
	to := target{origin: origin, opened: strings.HasPrefix(origin, "https://")}
	begin := time.Now()
	d, problem := p.decide(client, r, origin, hosts)
	if problem != "" {
		http.Error(w, problem, http.StatusBadRequest)
		return
	}
	a := newAnswer(w)
	refuse := func(proviso, detail string) {
		size, reference := p.refuse(a, r, d, proviso)
		p.Gate.Record(d, journal.Ending{
			Outcome: journal.Answered, Reference: reference, Status: a.status, Media: a.Header().Get("Content-Type"), Size: size, Took: time.Since(begin), Detail: detail,
		})
	}
	if !d.Verdict.Passes() {
		refuse("", "")
		return
	}
	held, _, safe := p.Gate.Held(d)
	to.safe = safe
	if held.NoUploads {
		what, err := Upload(r, p.MostForm)
		if err != nil {
			panic(http.ErrAbortHandler) // the client is gone
		}
		if what != "" {
			refuse("Nothing may be uploaded there, and "+what+".", "no uploads: "+what)
			return
		}
	}
	to.cap = sizeCap{held.SizeCap, &atomic.Bool{}}
	if err := p.dialer.refuses(d.Request.URL.Addr()); err != nil {
		status := p.sayFailure(w, r, d.Request.URL.String(), err)
		p.Gate.Record(d, journal.Ending{Outcome: journal.Failed, Status: status, Took: time.Since(begin), Detail: err.Error()})
		return
	}
	if d.Request.Answer = p.Gate.Asks(d); d.Request.Answer != nil {
		to.look = func(r *http.Response) (int64, error) {
			said := gate.Said{ContentType: r.Header.Get("Content-Type"), Disposition: r.Header.Get("Content-Disposition"), Encoding: r.Header.Get("Content-Encoding")}
			said.Head = peek(r, p.Gate.Enough(d, said.ContentType))
			if d = p.Gate.Answered(d, said); !d.Verdict.Passes() {
				return 0, errAnswer
			}
			held, _, _ = p.Gate.Held(d)
			return held.SizeCap, nil
		}
	}
	var failed error
	ctx, cancel := context.WithCancel(context.WithValue(context.WithValue(r.Context(), targetKey{}, to), failKey{}, &failed))
	defer cancel()
	sent := &atomic.Int64{} // to the site
	if held.Quota > 0 && r.Body != nil {
		r.Body = &countedBody{r.Body, sent}
	}
	done := p.Gate.Watch(d, false, func() int64 { return a.size.Load() + sent.Load() }, func() {
		cancel()
		if in := insideOf(r); in != nil && r.ProtoMajor == 1 {
			_ = in.raw.Close() // closing the TLS connection would wait for a client that takes nothing
			return
		}
		now := time.Now()
		_, _ = a.sent.SetReadDeadline(now), a.sent.SetWriteDeadline(now)
	})
	defer func() {
		end := journal.Ending{Outcome: journal.Answered, Status: a.status, Media: a.Header().Get("Content-Type"), Size: a.size.Load(), Took: time.Since(begin)}
		ended := recover()
		switch {
		case done():
			end.Outcome = journal.Cut
		case to.cap.reached.Load():
			end.Outcome, end.Detail = journal.Cut, errAtCap.Error()
		case failed != nil || ended != nil:
			end.Outcome = journal.Failed
			if failed != nil {
				end.Detail = failed.Error()
			}
		}
		if large, ok := errors.AsType[*tooLargeError](failed); ok && ended == nil {
			refuse("At most "+InBytes(held.SizeCap)+" may come from there, and "+large.Error()+".", large.Error())
			return
		}
		if errors.Is(failed, errAnswer) && ended == nil {
			refuse("", errAnswer.Error())
			return
		}
		p.Gate.Record(d, end)
		if ended != nil {
			panic(ended)
		}
	}()
	p.forward.proxy.ServeHTTP(a, r.WithContext(ctx))
}

// decide asks the gate about a request. Where the client speaks of other hosts than the one that it is connected to, all are decided, and the strictest
// verdict counts. problem says what is wrong with the request's address; "" if nothing is.
func (p *Proxy) decide(client gate.Client, r *http.Request, origin string, hosts []string) (d gate.Decision, problem string) {
	scheme, at, _ := strings.Cut(origin, "://")
	var urls []weburl.URL
	for _, host := range append([]string{at}, hosts...) {
		if len(urls) > 0 && strings.EqualFold(host, at) {
			continue
		}
		u, err := weburl.Parse(scheme + "://" + host + r.URL.RequestURI())
		if err != nil {
			return d, "This address cannot be read: " + err.Error() + "."
		}
		if !slices.Contains(urls, u) { // the same host may be written in another way
			urls = append(urls, u)
		}
	}
	for i, u := range urls {
		next := p.Gate.Decide(gate.Request{Client: client, URL: u, Method: r.Method, Sight: p.Gate.Sees(u, true), TwoNames: len(urls) > 1, Referrer: r.Referer(), Agent: r.UserAgent()})
		if i == 0 || next.Verdict.Stricter(d.Verdict) {
			d = next
		}
	}
	return d, ""
}

// newReference returns a few characters by which people and the record speak of one answer.
func newReference() string {
	var b [5]byte
	_, _ = rand.Read(b[:])
	return base32.StdEncoding.EncodeToString(b[:])
}
